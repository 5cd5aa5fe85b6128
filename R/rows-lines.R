# Text tables of unknown form: separator, header line, marks of numbers, order
# of dates.

table_separators <- c(",", ";", "|", "\t")

# The separator that occurs equally often in most lines.
lines_separator <- function(lines) {
  lines <- utils::head(lines[nzchar(trimws(lines))], 200)
  score <- vapply(
    table_separators,
    function(mark) {
      count <- lengths(regmatches(
        lines, gregexpr(mark, lines, fixed = TRUE, useBytes = TRUE)
      ))
      usual <- as.integer(names(which.max(table(count[count > 0]))))
      if (length(usual)) mean(count == usual) * min(usual, 3) else 0
    },
    0
  )
  # a comma may be a decimal mark, so another separator wins a tie
  score[","] <- score[","] * 0.9
  names(which.max(score))
}

# The separator of a table by its header line, which has no decimal marks:
# blanks after commas do not count. Without a separator the table reader looks
# for blanks, unless the header is a single word.
header_separator <- function(text) {
  first <- regmatches(
    text, regexpr("[^\\s][^\r\n]*", text, perl = TRUE, useBytes = TRUE)
  )
  first <- gsub("\"[^\"]*\"", "", first, useBytes = TRUE)
  if (!length(first)) {
    return("auto")
  }
  present <- vapply(
    table_separators, grepl, TRUE, first, fixed = TRUE, useBytes = TRUE
  )
  if (any(present)) {
    lines_separator(first)
  } else if (grepl("\\S\\s+\\S", first, useBytes = TRUE)) {
    "auto"
  } else {
    ","
  }
}

# Lines as a matrix of cells, a row a line.
lines_cells <- function(lines, separator) {
  there <- which(nzchar(trimws(lines)))
  out <- matrix("", length(lines), 1)
  if (!length(there)) {
    return(out)
  }
  read <- function(text) {
    suppressWarnings(
      data.table::fread(
        text = c(text, ""), sep = separator, header = FALSE,
        colClasses = "character", quote = "\"", fill = TRUE,
        strip.white = TRUE, na.strings = NULL
      )
    )
  }
  whole <- tryCatch(
    read(c(paste(rep("x", 200), collapse = separator), lines[there])),
    error = function(e) NULL
  )
  # an unclosed quotation mark joins lines; then each line is read alone
  if (NROW(whole) == length(there) + 1) {
    whole <- as.matrix(whole)[-1, , drop = FALSE]
  } else {
    parts <- lapply(
      lines[there], function(line) unlist(read(line), use.names = FALSE)
    )
    width <- max(lengths(parts))
    whole <- do.call(
      rbind,
      lapply(parts, function(part) c(part, rep("", width))[seq_len(width)])
    )
  }
  whole[is.na(whole)] <- ""
  used <- max(c(1, which(apply(whole != "", 2, any))))
  out <- matrix("", length(lines), used)
  out[there, ] <- whole[, seq_len(used)]
  unname(out)
}

date_like <- "^[0-9]{1,4}[./-][0-9]{1,2}[./-][0-9]{2,4}$"

number_like <-
  paste0(
    "^([A-Z]{3} ?)?[-+(]?[^0-9A-Za-z(]{0,3} ?[0-9][0-9.,' \u00a0\u202f]*",
    "[)%-]?( ",
    "?[^0-9 ]{1,3})?$"
  )

# The header line: the first line that is as wide as most lines, has only text,
# and is followed by a line of the same width.
cells_skip <- function(cells) {
  cells <- cells[seq_len(min(nrow(cells), 200)), , drop = FALSE]
  width <- rowSums(cells != "")
  usual <- width[width > 1]
  if (!length(usual)) {
    return(0)
  }
  usual <- as.integer(names(which.max(table(usual))))
  valued <- matrix(
    grepl(date_like, cells) | grepl(number_like, cells), nrow(cells)
  )
  named <- width >= min(2, usual) & !apply(valued, 1, any)
  at <- which(named & width >= usual)
  if (length(at)) at[1] - 1 else 0
}

# The decimal and thousands marks that the numbers have. A mark before three
# digits is a decimal mark for certain if the file also has whole numbers of
# four digits without a mark, or if it is a point and commas separate columns.
numbers_marks <- function(cells, separator = ";") {
  cells <- cells[grepl(number_like, cells) & !grepl(date_like, cells)]
  blanks <- gsub("[\u00a0\u202f]", " ", cells)
  digits <- trimws(gsub("[^0-9.,' ]", "", blanks))
  comma <- grepl("^[0-9]{1,3}([.' ][0-9]{3})*,[0-9]+$|^[0-9]+,[0-9]+$", digits)
  point <- grepl(
    "^[0-9]{1,3}([,' ][0-9]{3})*[.][0-9]+$|^[0-9]+[.][0-9]+$", digits
  )
  # three digits after a single mark may be thousands
  three <- grepl("^[1-9][0-9]{0,2}[.,][0-9]{3}$", digits)
  if (any(grepl("^[0-9]{4,}$", digits))) three[] <- FALSE
  if (separator == ",") three <- three & !grepl(".", digits, fixed = TRUE)
  sure <- c("," = sum(comma & !three), "." = sum(point & !three))
  decimal <- if (sure[[","]] > sure[["."]]) "," else "."
  groups <- c("." = ",", "," = ".")[[decimal]]
  grouped <- grepl(paste0("[0-9]\\", groups, "[0-9]{3}"), digits)
  thousands <- if (any(grouped)) {
    groups
  } else if (any(grepl("[0-9]'[0-9]{3}", digits))) {
    "'"
  } else if (any(grepl("[0-9] [0-9]{3}", digits))) {
    " "
  } else {
    ""
  }
  unsure <- !any(sure > 0) && any(three)
  doubt <- if (unsure) {
    c(
      decimal = paste0(
        "is the mark in ", digits[three][1],
        " a decimal mark or one of thousands? (decimal: . or ,)"
      )
    )
  } else if (all(sure > 0)) {
    c(
      decimal = paste0(
        "some numbers have a decimal comma (", cells[comma & !three][1],
        "), some a decimal point (", cells[point & !three][1], ")"
      )
    )
  }
  list(decimal = decimal, thousands = thousands, doubt = doubt)
}

dates_order <- function(cells) {
  days <- cells[grepl(date_like, cells)]
  parts <- lapply(strsplit(days, "[./-]"), as.numeric)
  first <- vapply(parts, `[`, 0, 1)
  second <- vapply(parts, `[`, 0, 2)
  year <- nchar(sub("[./-].*", "", days)) == 4
  dated <- !year
  if (!any(dated)) {
    return(list(order = "ymd"))
  }
  late <- c(dmy = any(first[dated] > 12), mdy = any(second[dated] > 12))
  if (late[["dmy"]] != late[["mdy"]]) {
    return(list(order = names(late)[late]))
  }
  # dates with points are written day first
  if (!any(late) && all(grepl(".", days[dated], fixed = TRUE))) {
    return(list(order = "dmy"))
  }
  list(
    order = "dmy",
    doubt = c(
      dates = paste0(
        "is ", days[dated][1],
        " written day first or month first? (dates: dmy or mdy)"
      )
    )
  )
}
