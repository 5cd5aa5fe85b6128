# Dates, instants and periods that are written in a pattern.

# Dates and local instants in a pattern of strptime(), as in "%d/%m/%Y". The
# whole text must match, because a rest such as PM or an offset would mean
# another time; adjacent digits must be complete, because 130 may be 01:30 or
# 13:00. Names of months are read in English or in the language that the card
# gives, whatever the language of the machine.
read_written <- function(value, type, zone, written, months = NULL) {
  text <- if (is.numeric(value)) plain_numbers(value) else as.character(value)
  if (grepl("%[bBh]", written)) {
    text <- with_month_numbers(text, months)
    written <- gsub("%[bBh]", "%m", written)
  }
  if (type == "text") {
    return(read_period(text, written))
  }
  if (!grepl("%[djUWVuwFD]", written)) {
    text <- paste0(text, " 01")
    written <- paste0(written, " %d")
  }
  at <- strptime(paste0(text, "\u0001"), paste0(written, "\u0001"), tz = "UTC")
  wrong <- !is.na(text) & !grepl(written_pattern(written), text, perl = TRUE)
  if (any(wrong)) at[wrong] <- as.POSIXlt(NA)
  if (type == "day") {
    as.Date(at)
  } else {
    time_local(
      as.Date(at), at$hour * 3600 + at$min * 60 + at$sec,
      if (type == "rfc3339") "UTC" else zone
    )
  }
}

# The number in place of the first name of a month in each text. A name may be
# cut to three letters or more, with or without a full stop.
with_month_numbers <- function(text, months = NULL) {
  months <- tolower(months %||% month.name)
  pattern <- "[\\p{L}\\p{M}]{3,}[.]?"
  for (i in which(!is.na(text))) {
    for (word in regmatches(
      text[i], gregexpr(pattern, text[i], perl = TRUE)
    )[[1]]) {
      name <- sub("[.]$", "", tolower(word))
      hit <- which(months == name)
      if (!length(hit)) hit <- which(startsWith(months, name))
      if (length(hit) == 1) {
        text[i] <- sub(word, sprintf("%02d", hit), text[i], fixed = TRUE)
        break
      }
    }
  }
  text
}

# Periods in a pattern, as the standard writes them: "Jan 2024" with "%b %Y" is
# 2024-01, "Q3 2024" with "Q%q %Y" is 2024-Q3.
read_period <- function(text, written) {
  codes <- regmatches(written, gregexpr("%[A-Za-z]", written))[[1]]
  form <- if ("%d" %in% codes) {
    "%s-%s-%s"
  } else if ("%m" %in% codes) {
    "%s-%s"
  } else if ("%q" %in% codes) {
    "%s-Q%s"
  } else {
    "%s"
  }
  order <- intersect(c("%Y", "%y", "%m", "%q", "%d"), codes)
  digits <- c(
    "%Y" = "([0-9]{4})", "%y" = "([0-9]{2})", "%m" = "([0-9]{1,2})",
    "%q" = "([1-4])", "%d" = "([0-9]{1,2})"
  )
  pattern <- paste0("\\Q", written, "\\E")
  for (code in codes) {
    pattern <- sub(
      code, paste0("\\E", digits[[code]] %||% ".*?", "\\Q"), pattern,
      fixed = TRUE
    )
  }
  parts <- regmatches(
    text, regexec(paste0("^\\s*", pattern, "\\s*$"), text, perl = TRUE)
  )
  known <- codes[codes %in% names(digits)]
  vapply(
    parts,
    function(part) {
      if (length(part) < length(order) + 1) {
        return(NA_character_)
      }
      value <- stats::setNames(part[-1], known)[order]
      if (order[1] == "%y") value[[1]] <- century_year(value[[1]])
      wide <- names(value) %in% c("%m", "%d")
      value[wide] <- sprintf("%02d", as.integer(value[wide]))
      read <- do.call(sprintf, c(list(form), as.list(unname(value))))
      if (is.na(time_periods(read)$first)) NA_character_ else read
    },
    ""
  )
}

# Years of two digits as strptime() reads them: 69 to 99 are of the last
# century.
century_year <- function(year) {
  paste0(if (as.integer(year) >= 69) "19" else "20", year)
}

# The regular expression of a pattern, with fixed digits for adjacent fields.
written_pattern <- function(written) {
  digits <- c(Y = 4, m = 2, d = 2, H = 2, I = 2, M = 2, S = 2, y = 2, j = 3)
  parts <- regmatches(written, gregexpr("%O?[A-Za-z]|[^%]", written))[[1]]
  code <- ifelse(
    startsWith(parts, "%") & nchar(parts) == 2, substring(parts, 2), ""
  )
  number <- code %in% names(digits)
  n <- length(parts)
  touches <- number & (c(FALSE, number[-n]) | c(number[-1], FALSE))
  shown <- ifelse(
    touches, paste0("[0-9]{", digits[code], "}"),
    ifelse(
      number, "[ 0-9]?[0-9]+",
      ifelse(startsWith(parts, "%"), ".+?", paste0("\\Q", parts, "\\E"))
    )
  )
  paste0("^\\s*", paste(shown, collapse = ""), "\\s*$")
}
