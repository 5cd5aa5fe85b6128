# Tables as plain text, for print() and the command line: aligned columns,
# thousands separators.

# The header states the zone of instants. In a table wider than `width` the
# longest texts are cut; ids and days are never cut: less important columns are
# left out instead.
text_table <- function(frame, width = Inf) {
  repeat {
    lines <- table_lines(frame, width)
    if (!is.finite(width) ||
      !length(lines) ||
      max(nchar(lines, "width")) <= width ||
      length(frame) < 2) {
      return(lines)
    }
    less <- intersect(less_needed, names(frame))
    frame <- frame[names(frame) != c(less, names(frame)[length(frame)])[1]]
  }
}

# Columns that a narrow table leaves out, the least important first.
less_needed <- c(
  "bytes", "through", "known", "tied", "type", "frequency", "dataset_title",
  "session", "status", "side", "first", "first (UTC)", "message", "title",
  "behind", "coverage"
)

table_lines <- function(frame, width) {
  columns <- lapply(frame, text_column)
  right <- vapply(frame, is.numeric, TRUE)
  heads <- ifelse(
    vapply(frame, inherits, TRUE, "POSIXct"), paste(names(frame), "(UTC)"),
    names(frame)
  )
  columns <- narrowed(columns, heads, right, width)
  cells <- Map(
    function(name, column, right) {
      all <- c(name, column)
      width <- max(nchar(all, "width"))
      pad <- strrep(" ", width - nchar(all, "width"))
      if (right) paste0(pad, all) else paste0(all, pad)
    },
    heads, columns, right
  )
  sub(" +$", "", do.call(paste, c(unname(cells), sep = "  ")))
}

# Columns of ids, which are used in further commands.
whole_columns <- c(
  "id", "series", "symbol", "query", "source", "dataset", "key", "place", "item"
)

narrowed <- function(columns, heads, right, width) {
  if (!is.finite(width) || !length(columns)) {
    return(columns)
  }
  wide <- vapply(
    seq_along(columns),
    function(i) max(nchar(c(heads[i], columns[[i]]), "width")), 1
  )
  fixed <- heads %in% whole_columns |
    vapply(
      columns,
      function(text) {
        all(
          !nzchar(text) |
            text == "-" |
            grepl("^[0-9]{4}-[0-9]{2}-[0-9]{2}", text)
        )
      },
      TRUE
    )
  repeat {
    over <- sum(wide) + 2 * (length(wide) - 1) - width
    free <- which(!right & !fixed & wide > pmax(12, nchar(heads, "width")))
    if (over <= 0 || !length(free)) break
    at <- free[which.max(wide[free])]
    most <- max(wide[at] - over, 12, nchar(heads[at], "width"))
    columns[[at]] <- shortened(columns[[at]], most)
    wide[at] <- most
  }
  columns
}

text_column <- function(column) {
  if (inherits(column, "POSIXct")) {
    return(
      ifelse(is.na(column), "", format(column, "%Y-%m-%d %H:%M", tz = "UTC"))
    )
  }
  if (is.numeric(column)) {
    text <- formatC(
      column,
      format = "f", digits = shown_digits(column), big.mark = ",",
      width = 1
    )
    return(ifelse(is.na(column), "", text))
  }
  column <- as.character(column)
  ifelse(is.na(column), "", column)
}

# As many decimals as the numbers have, up to six, and twelve digits in all,
# because further ones are rounding errors. Numbers without an end get four.
shown_digits <- function(x) {
  x <- abs(signif(as.double(x[is.finite(x)]), 12))
  for (digits in 0:6) {
    if (all(abs(x - round(x, digits)) <= 1e-11 * pmax(x, 1e-3))) {
      return(digits)
    }
  }
  4L
}

# Decimal numbers as text; texts that only R reads as numbers, such as 0x1F or
# inf, are not numbers.
plain_number <- function(text) plain_number_cpp(as.character(text))

# Doubled quotation marks within quotes, which the table reader does not undo.
single_quotes <- function(text) {
  if (any(grepl("\"\"", text, fixed = TRUE))) {
    gsub("\"\"", "\"", text, fixed = TRUE)
  } else {
    text
  }
}

# An instant to the minute, for a table whose header states the zone; `missing`
# for NA.
to_minute <- function(time, missing = "-") {
  ifelse(
    is.na(time), missing, substr(sub("T", " ", format_instant(time)), 1, 16)
  )
}

# "1 symbol", "1,200 symbols"
thousands <- function(n) {
  format(n, big.mark = ",", scientific = FALSE, trim = TRUE)
}

# Shortens names for a panel, label or line.
short_names <- function(names, most = 40) shortened(as.character(names), most)

# Text of at most `most` characters; longer text ends with dots that the locale
# can show.
shortened <- function(text, most) {
  dots <- if (isTRUE(l10n_info()[["UTF-8"]])) "\u2026" else "..."
  long <- which(nchar(text, "width") > most)
  text[long] <- paste0(substr(text[long], 1, most - nchar(dots)), dots)
  text
}

counted <- function(n, what, several = paste0(what, "s")) {
  paste0(
    format(n, big.mark = ",", scientific = FALSE), " ",
    if (n == 1) what else several
  )
}

format_seconds <- function(seconds) {
  if (seconds < 120) {
    paste(round(seconds), "s")
  } else if (seconds < 7200) {
    paste(round(seconds / 60), "minutes")
  } else if (seconds < 172800) {
    paste(round(seconds / 3600, 1), "hours")
  } else {
    paste(round(seconds / 86400, 1), "days")
  }
}

# A text in a language, else in a variant of it (en-GB for en), else in English,
# else in any; NA without any.
label_in <- function(texts, language) {
  texts <- texts[!is.na(texts)]
  if (!length(texts)) {
    return(NA_character_)
  }
  texts[[language_place(names(texts), language)]]
}

language_place <- function(known, language) {
  plain <- function(tag) tolower(sub("[-_].*", "", tag))
  at <- c(
    which(tolower(known) == tolower(language)),
    which(plain(known) == plain(language)), which(plain(known) == "en"), 1L
  )
  at[1]
}

# The label of each code, in the requested language or the next best one.
code_labels <- function(list, language) {
  label <- rep(NA_character_, length(list$id))
  left <- list$labels
  while (length(left) && anyNA(label)) {
    at <- language_place(names(left), language)
    label <- ifelse(is.na(label), left[[at]], label)
    left <- left[-at]
  }
  ifelse(is.na(label), list$id, label)
}

# "ORV,TSK" are two codes, and "Grain, milled" may be one label: the longest
# known part is taken.
split_codes <- function(values, known) {
  unlist(lapply(as.character(values), function(value) {
    parts <- strsplit(value, ",", fixed = TRUE)[[1]]
    if (length(parts) < 2 || known(value)) {
      return(value)
    }
    out <- character()
    i <- 1
    while (i <= length(parts)) {
      ends <- Filter(
        function(j) known(trimws(paste(parts[i:j], collapse = ","))),
        rev(seq(i, length(parts)))
      )
      last <- if (length(ends)) ends[1] else i
      out <- c(out, trimws(paste(parts[i:last], collapse = ",")))
      i <- last + 1
    }
    out
  }))
}

# Texts with a small first letter, as within a sentence or at an axis; an
# abbreviation keeps its capitals.
lower_first <- function(text) {
  sub("^([A-Z])(?=[a-z]*( |$|,))", "\\L\\1", text, perl = TRUE)
}
