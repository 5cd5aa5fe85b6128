# Turns a file in a local form into a plain CSV: names in the first line,
# decimal points, dates as 2026-03-12.

# list(path, lines): the plain file, and for each of its rows the line of the
# original. Without a form the file is used as it is.
import_cleaned <- function(file, form) {
  if (is.null(form)) {
    return(list(path = file, lines = NULL))
  }
  if (!inherits(form, "vetusta_import_form")) {
    vetusta_stop(
      "import", "`form` must be the form of a file.",
      todo = "make it with archive_import_form()"
    )
  }
  cells <- if (is_workbook(file)) {
    sheet_cells(file, form$sheet)
  } else {
    lines_cells(form_lines(file, form$encoding), form$separator)
  }
  if (nrow(cells) <= form$skip + 1) {
    vetusta_stop(
      "import", "The file has no rows below its names.",
      where = file,
      todo = "correct `skip`"
    )
  }
  head <- cells[form$skip + 1, ]
  line <- seq_len(nrow(cells))
  blank <- rowSums(cells != "") == 0
  again <- apply(cells, 1, identical, head)
  kept <- which(line > form$skip + 1 & !blank & !again)
  table <- lapply(
    seq_along(head), function(i) clean_column(cells[kept, i], form)
  )
  named <- nzchar(head)
  names(
    table
  ) <- make.unique(ifelse(named, head, paste0("column", seq_along(head))))
  # drop columns without a name and without values
  table <- table[
    named | vapply(table, function(column) any(nzchar(column)), TRUE)
  ]
  path <- tempfile(fileext = ".csv")
  write_plain(path, table)
  list(path = path, lines = line[kept])
}

# Writes numbers and dates without quotation marks, because quoted values are
# read as text.
write_plain <- function(path, table) {
  numbers <- vapply(
    table,
    function(column) {
      mean(
        is.na(plain_number(column)) & is.na(read_day(column)) & nzchar(column)
      ) <
        0.4
    },
    TRUE
  )
  quoted <- lapply(
    table, function(column) paste0("\"", gsub("\"", "\"\"", column), "\"")
  )
  cells <- Map(
    function(column, text, number) {
      if (number) column else ifelse(nzchar(column), text, "")
    },
    table, quoted, numbers
  )
  head <- paste0("\"", gsub("\"", "\"\"", names(table)), "\"")
  writeLines(
    c(paste(head, collapse = ","), do.call(paste, c(unname(cells), sep = ","))),
    path,
    useBytes = TRUE
  )
}

# Converts a column of which most cells are numbers or dates; other cells stay
# as they are.
clean_column <- function(column, form) {
  column[column %in% form$missing] <- ""
  there <- nzchar(column) & !grepl(missing_mark, column, ignore.case = TRUE)
  if (!any(there)) {
    return(column)
  }
  days <- grepl(date_like, column)
  if (mean(days[there]) >= 0.6) {
    column[days] <- clean_days(column[days], form$dates)
    return(column)
  }
  numbers <- clean_numbers(column, form$decimal, form$thousands)
  good <- !is.na(plain_number(numbers))
  # a leading zero marks a code
  coded <- grepl("^0[0-9]", column)
  if (mean(good[there]) >= 0.6 && !any(coded & good)) {
    column[good] <- numbers[good]
    # marks of missing values among numbers
    column[!there] <- ""
  }
  column
}

clean_days <- function(days, order) {
  parts <- strsplit(days, "[./-]")
  part <- function(i) vapply(parts, `[`, "", i)
  first <- nchar(part(1)) == 4
  at <- switch(order,
    dmy = c(3, 2, 1),
    mdy = c(3, 1, 2),
    ymd = c(1, 2, 3)
  )
  year <- ifelse(first, part(1), part(at[1]))
  # two-digit years up to 69 belong to this century
  year <- ifelse(
    nchar(year) == 2,
    ifelse(as.numeric(year) < 70, paste0("20", year), paste0("19", year)), year
  )
  month <- ifelse(first, part(2), part(at[2]))
  day <- ifelse(first, part(3), part(at[3]))
  text <- sprintf("%s-%02d-%02d", year, as.integer(month), as.integer(day))
  # an invalid date stays as it was written
  ifelse(is.na(read_day(text)), days, text)
}

# Reads "(1,234.50)", "1.234,50-", "12 EUR" as numbers: negative in parentheses
# or with a trailing sign, units removed.
clean_numbers <- function(text, decimal, thousands) {
  negative <- grepl("^\\(.*\\)$", text) | grepl("[0-9]-$", text)
  plain <- gsub("[\u00a0\u202f]", " ", sub("-$", "", gsub("[()]", "", text)))
  plain <- sub(
    "^([-+]?) *[^-+0-9.,]{0,3} *([-+]?[0-9.,' ]+?) *[^0-9.,' ]{0,3}$",
    "\\1\\2", plain,
    perl = TRUE
  )
  if (nzchar(thousands)) plain <- gsub(thousands, "", plain, fixed = TRUE)
  if (decimal == ",") plain <- gsub(",", ".", plain, fixed = TRUE)
  plain <- trimws(plain)
  ifelse(negative & nzchar(plain), paste0("-", plain), plain)
}

# Line numbers of the original file for lines of the plain file.
cleaned_lines <- function(cleaned, line) {
  if (is.null(cleaned$lines)) line else cleaned$lines[line - 1]
}
