# Lengths of time: ISO 8601 durations in files, plain words from people.

interval_units <- c(
  s = "second", sec = "second", second = "second", min = "minute",
  minute = "minute", h = "hour", hour = "hour", d = "day", day = "day",
  week = "week", w = "week", month = "month", quarter = "quarter",
  year = "year", y = "year"
)
interval_adverbs <- c(
  hourly = "1 hour", daily = "1 day", weekly = "1 week", monthly = "1 month",
  quarterly = "3 months", "half-yearly" = "6 months", yearly = "1 year",
  annual = "1 year", annually = "1 year"
)
unit_seconds <- c(
  second = 1, minute = 60, hour = 3600, day = 86400, week = 604800, month = NA,
  quarter = NA, year = NA
)

#' Read a length of time
#'
#' @param x An ISO 8601 duration of one unit (`"PT1M"`, `"P1D"`, `"P6M"`) or
#'   plain words (`"1 minute"`, `"5 min"`, `"6 months"`).
#' @param name The name of the argument in an error.
#' @return A list of class `vetusta_interval`: `count`, `unit` (`second` to
#'   `year`), `iso` (the ISO 8601 spelling) and `seconds` (`NA` for months,
#'   quarters and years, whose length varies; a day counts 86,400 s). Two
#'   spellings of one length give the same object: `"60 minutes"` is `PT1H`, `"7
#'   days"` is `P1W`.
#' @section Errors: `vetusta_error_argument` if `x` is not a length of time.
#' @export
#' @examples
#' time_interval("5 min")
#' time_interval("PT1H")$seconds
time_interval <- function(x, name = "interval") {
  x <- given(x, name)
  if (inherits(x, "vetusta_interval")) {
    return(x)
  }
  check_text(x, name)
  parts <- interval_from_iso(x)
  if (is.null(parts)) {
    parts <- interval_from_words(x)
  }
  if (is.null(parts) || parts$count < 1) {
    vetusta_stop(
      "argument",
      paste0("`", name, "` cannot be \"", x, "\": it is not a length of time."),
      todo = if (grepl("^[0-9]* *m$", trimws(x), ignore.case = TRUE)) {
        "m may be minutes or months: write \"min\" or \"month\""
      } else {
        paste0(
          "write it as \"1 minute\", \"5 min\", \"1 hour\", \"1 day\", ",
          "\"1 week\", \"6 ",
          "months\", or as an ISO 8601 duration such as PT5M or P1D"
        )
      }
    )
  }
  interval_of(parts$count, parts$unit)
}

interval_from_iso <- function(x) {
  x <- toupper(trimws(x))
  matches <- regmatches(x, regexec("^P(T?)([0-9]{1,9})([YMWDHS])$", x))[[1]]
  if (!length(matches)) {
    return(NULL)
  }
  units <- if (nzchar(matches[2])) {
    c(H = "hour", M = "minute", S = "second")
  } else {
    c(Y = "year", M = "month", W = "week", D = "day")
  }
  unit <- units[matches[4]]
  if (is.na(unit)) {
    NULL
  } else {
    list(count = as.numeric(matches[3]), unit = unname(unit))
  }
}

interval_from_words <- function(x) {
  x <- tolower(trimws(x))
  if (x %in% names(interval_adverbs)) x <- interval_adverbs[[x]]
  matches <- regmatches(
    x, regexec("^([0-9]{0,9}) *([a-z]+?)(s?)$", x, perl = TRUE)
  )[[1]]
  if (!length(matches)) {
    return(NULL)
  }
  unit <- interval_units[matches[3]]
  if (is.na(unit)) unit <- interval_units[paste0(matches[3], matches[4])]
  count <- if (nzchar(matches[2])) as.numeric(matches[2]) else 1
  if (is.na(unit)) NULL else list(count = count, unit = unname(unit))
}

# The largest unit that divides the length, so that each length has one
# spelling.
interval_of <- function(count, unit) {
  if (unit == "quarter") {
    count <- count * 3
    unit <- "month"
  }
  larger <- c(
    second = "minute", minute = "hour", hour = "day", day = "week",
    month = "year"
  )
  parts <- c(second = 60, minute = 60, hour = 24, day = 7, month = 12)
  while (unit %in% names(larger) && count %% parts[[unit]] == 0 && count > 0) {
    count <- count / parts[[unit]]
    unit <- larger[[unit]]
  }
  letters <- c(
    second = "S", minute = "M", hour = "H", day = "D", week = "W", month = "M",
    year = "Y"
  )
  iso <- paste0(
    if (unit %in% c("second", "minute", "hour")) "PT" else "P",
    format(count, scientific = FALSE), letters[[unit]]
  )
  structure(
    list(
      count = count,
      unit = unit,
      iso = iso,
      seconds = count * unit_seconds[[unit]]
    ),
    class = "vetusta_interval"
  )
}

#' @export
format.vetusta_interval <- function(x, ...) {
  paste0(
    format(x$count, big.mark = ",", scientific = FALSE), " ", x$unit,
    if (x$count != 1) "s"
  )
}

#' @export
print.vetusta_interval <- function(x, ...) {
  cat(format(x), " (", x$iso, ")\n", sep = "")
  invisible(x)
}

# The start of a span that ends at an instant: a length before it, or the first
# local midnight of its year, quarter, month or week.
span_start <- function(span, end, zone, name = "span") {
  unit <- span_unit(span)
  if (is.null(unit)) {
    return(shift_instant(end, time_interval(span, name), -1, zone))
  }
  time_local(day_unit_start(local_day(end, zone), unit), 0, zone)
}

# "year to date" and the like: the unit, else NULL.
span_unit <- function(span) {
  matches <- regmatches(
    tolower(span),
    regexec("^(year|quarter|month|week)[ -]to[ -]date$", tolower(span))
  )
  if (length(matches) == 1 && length(matches[[1]]) == 2) matches[[1]][2]
}

day_unit_start <- function(day, unit) {
  at <- as.POSIXlt(day, tz = "UTC")
  month <- (at$year + 1900) * 12 + at$mon
  switch(unit,
    week = day - (at$wday + 6) %% 7,
    epoch_days(
      month_first_day(
        switch(unit,
          year = month - at$mon,
          quarter = month - at$mon %% 3,
          month = month
        )
      )
    )
  )
}

is_intraday <- function(interval) {
  interval$unit %in% c("second", "minute", "hour")
}

# A day moved by a length; the day of the month is limited by the shorter month
# (one month before 31 March is the end of February).
shift_day <- function(day, interval, times = 1) {
  count <- interval$count * times
  if (interval$unit %in% c("day", "week")) {
    return(day + times * interval$seconds / 86400)
  }
  months <- count * c(month = 1, year = 12)[[interval$unit]]
  at <- as.POSIXlt(day, tz = "UTC")
  month <- (at$year + 1900) * 12 + at$mon + months
  first <- month_first_day(month)
  epoch_days(first + pmin(at$mday, month_first_day(month + 1) - first) - 1)
}

# The first day of a month, as days since 1970, where months are counted from
# January of the year 0: the proleptic Gregorian calendar, by years that begin
# in March.
month_first_day <- function(month) {
  march <- month - 2
  year <- march %/% 12
  era <- year %/% 400
  of_era <- year - era * 400
  era * 146097 + of_era * 365 + of_era %/% 4 - of_era %/% 100 +
    (153 * (march %% 12) + 2) %/% 5 - 719468
}

# An instant moved by a length; calendar lengths move the local day and keep the
# local hour.
shift_instant <- function(instant, interval, times = 1, zone = "UTC") {
  if (!is.na(interval$seconds) && is_intraday(interval)) {
    return(instant + interval$seconds * times)
  }
  local <- as.POSIXlt(instant, tz = zone)
  day <- shift_day(as.Date(local), interval, times)
  seconds <- local$hour * 3600 + local$min * 60 + local$sec
  time_local(day, seconds, zone)
}

# The greatest length in seconds: a month has 31 days.
interval_seconds <- function(interval) {
  if (is.na(interval$seconds)) {
    c(month = 31, quarter = 92, year = 366)[[interval$unit]] * 86400 *
      interval$count
  } else {
    interval$seconds
  }
}
