# Times of local files: days and periods as people write them, epochs, and a day
# and a clock time in two columns. They become the texts that the archive reads.

# Texts that are times in another form, in the archive's form; others unchanged.
# A column has one form, so all of its texts decide.
import_times <- function(text) {
  if (!is.character(text)) {
    return(text)
  }
  there <- which(!is.na(text))
  some <- text[there]
  if (!length(some) || all(!is.na(time_periods(some)$first))) {
    return(text)
  }
  made <- import_compact_days(some) %||% import_epochs(some) %||%
    import_spelled(some)
  if (!is.null(made)) text[there] <- made
  text
}

# 20260312 is 2026-03-12.
import_compact_days <- function(text) {
  if (!all(grepl("^(19|20)[0-9]{6}$", text))) {
    return(NULL)
  }
  day <- as.Date(text, "%Y%m%d")
  if (!anyNA(day)) format(day)
}

# Seconds to nanoseconds since 1970, of the years from 1990 on.
import_epochs <- function(text) {
  digits <- "^([0-9]{9,10}|[0-9]{12,13}|[0-9]{15,16}|[0-9]{19})$"
  if (!all(grepl(digits, text))) {
    return(NULL)
  }
  type <- plain_type(draft_type(text, "time"))
  if (type %in% instant_types[1:4]) {
    format_instant(read_column(text, type, "UTC")$value)
  }
}

# Names of months, and quarters with a blank.
import_spelled <- function(text) {
  type <- draft_month_names(text)
  if (is.null(type)) {
    return(NULL)
  }
  written <- sub(".*written: \"(.*)\"$", "\\1", type)
  if (plain_type(type) == "day") {
    format(read_written(text, "day", "UTC", written))
  } else {
    read_written(text, "text", "UTC", written)
  }
}

clock_like <- "^[0-9]{1,2}:[0-9]{2}(:[0-9]{2}([.][0-9]+)?)?$"

# Columns that are named as "Date+Time" are joined with a blank, under the first
# name; a clock time of digits alone gets its colons.
import_joined_columns <- function(rows, columns) {
  columns <- if (is.list(columns)) unlist(columns) else columns
  if (!is.character(columns)) {
    return(rows)
  }
  for (joined in setdiff(columns, names(rows))) {
    parts <- strsplit(joined, "+", fixed = TRUE)[[1]]
    if (length(parts) < 2 || !all(parts %in% names(rows))) next
    texts <- lapply(parts, function(part) as.character(rows[[part]]))
    texts[-1] <- lapply(texts[-1], import_clock)
    absent <- Reduce(`|`, lapply(texts, is.na))
    texts[[1]] <- import_times(texts[[1]])
    value <- import_year_part(texts) %||% do.call(paste, texts)
    value[absent] <- NA
    rows[[parts[1]]] <- value
    names(rows)[match(parts[1], names(rows))] <- joined
    rows <- rows[!names(rows) %in% parts[-1]]
  }
  rows
}

# A year, and the number of a month: 2026-03. NULL for other texts.
import_year_part <- function(texts) {
  fits <- function(i, pattern) {
    all(grepl(pattern, texts[[i]][!is.na(texts[[i]])]))
  }
  if (length(texts) == 2 && fits(1, "^(19|20)[0-9]{2}$") &&
    fits(2, "^(0?[1-9]|1[0-2])$")) {
    sprintf("%s-%02d", texts[[1]], as.integer(texts[[2]]))
  }
}

# The columns of a year and a month, as "Year+Month"; NULL if there are none.
import_year_column <- function(rows) {
  said <- plain_names(names(rows))
  parts <- names(rows)[match(c("year", "month"), said)]
  if (anyNA(parts)) {
    return(NULL)
  }
  joined <- paste(parts, collapse = "+")
  rows <- import_joined_columns(rows, joined)
  if (all(!is.na(time_periods(as.character(rows[[joined]]))$first))) joined
}

# Names in small letters, without brackets, units and accents.
import_said <- function(names) {
  draft_said(paste0("/", gsub("/", " ", plain_names(names))))
}

# 930 is 09:30, and 93015 is 09:30:15.
import_clock <- function(text) {
  digits <- grepl("^[0-9]{3,6}$", text)
  if (!any(digits) || any(!digits & !is.na(text))) {
    return(text)
  }
  long <- max(nchar(text[digits])) > 4
  text[digits] <- gsub(
    " ", "0", formatC(text[digits], width = if (long) 6 else 4)
  )
  sub(
    "([0-9]{2})([0-9]{2})([0-9]{2})?$",
    if (long) "\\1:\\2:\\3" else "\\1:\\2", text
  )
}

# The column of clock times beside a column of days; NULL if there is none.
import_clock_column <- function(rows, day) {
  named <- grepl(
    "^(time|hour|clock|uhrzeit|zeit|heure|hora|ora)s?$",
    plain_names(names(rows))
  )
  for (name in setdiff(names(rows)[named], day)) {
    text <- import_clock(as.character(rows[[name]]))
    text <- text[!is.na(text)]
    if (length(text) && all(grepl(clock_like, text))) {
      return(name)
    }
  }
}

# Names of columns for comparison: small letters, without angle brackets.
plain_names <- function(names) {
  tolower(gsub("^[<\\[ ]+|[>\\] ]+$", "", names, perl = TRUE))
}

# Which names are periods, for a table with a column per period.
period_columns <- function(names) {
  read <- vapply(names, import_times, "", USE.NAMES = FALSE)
  !is.na(time_periods(read)$first)
}
