# Single values in time. The shape `observations` has them by period; bars and
# tables with instants are read as such values too.

observation_columns <- c(
  "series", "period", "frequency", "value", "unit", "status", "known"
)

#' Make a table of observations
#'
#' @param rows A data frame with `series`, `period` and `value`. `period` is a
#'   `Date` (the first day of the period) or text for [time_periods()].
#'   `frequency`, `unit`, `status`, `known` and `through` are optional.
#' @return A tibble with the columns `series` (text), `period` (`Date`, the
#'   first day of the period), `frequency` (`A`, `S`, `T`, `Q`, `M`, `W`, `D`,
#'   or an ISO 8601 duration such as `P10D`; by default from the smallest step
#'   of the series), `value` (number), `unit`, `status` (`observed`,
#'   `provisional`, `filled`, `deleted`, or `missing` for a row without a
#'   value), `known` (`POSIXct`, UTC: the release, from which the value counts;
#'   `NA` without a stated release: the value then counts from the end of its
#'   period), and then all further columns; ordered by series, period and
#'   `known`. `through` (`POSIXct`, UTC), if present, is the end of the latest
#'   input of a derived value. Unordered rows are sorted, with a message of the
#'   class `vetusta_note`.
#' @section Errors: `vetusta_error_shape` for a missing column or a wrong type.
#' @export
#' @examples
#' series_frame(
#'   data.frame(
#'     series = "salt",
#'     period = c("2026-Q1", "2026-Q2"),
#'     value = c(4.2, 4.4)
#'   )
#' )
series_frame <- function(rows) {
  if (missing(rows) || !is.data.frame(rows)) {
    vetusta_stop(
      "shape", "Observations must be a data frame.",
      todo = "give a data frame with series, period and value"
    )
  }
  missing <- setdiff(c("series", "period", "value"), names(rows))
  if (length(missing)) {
    vetusta_stop(
      "shape",
      paste0("Observations need the column `", missing[1], "`."),
      todo = paste("add or rename a column to", missing[1])
    )
  }
  n <- nrow(rows)
  series <- as.character(rows$series)
  read <- read_periods(rows$period, n)
  frequency <- as.character(rows[["frequency"]] %||% read$frequency)
  unknown <- unknown_frequency(frequency)
  if (length(unknown)) {
    vetusta_stop(
      "shape",
      paste0("There is no frequency \"", unknown[1], "\"."),
      where = "column frequency",
      todo = paste0(
        "use one of: ",
        paste(setdiff(names(frequency_words), "I"), collapse = ", ")
      )
    )
  }
  # instants that are days have the length of their steps
  frequency[frequency %in% "I"] <- NA
  short <- which(startsWith(frequency, "PT"))
  if (length(short)) {
    vetusta_stop(
      "shape",
      paste0(
        "Periods of ", format(time_interval(frequency[short[1]])),
        " need a time of the day."
      ),
      where = paste0("column frequency, row ", short[1]),
      todo = "use columns series, time and value, without series_frame()"
    )
  }
  if (anyNA(frequency)) {
    frequency <- guessed_frequencies(series, read$first, frequency)
  }
  value <- check_numbers(rows$value, "value")
  status <- as.character(
    rows[["status"]] %||% ifelse(is.na(value), "missing", "observed")
  )
  columns <- list(
    series = series,
    period = read$first,
    frequency = frequency,
    value = value,
    unit = as.character(rows[["unit"]] %||% rep(NA, n)),
    status = status,
    known = read_known(rows[["known"]], n)
  )
  others <- setdiff(names(rows), observation_columns)
  columns[others] <- unclass(rows)[others]
  if (!is.null(columns[["through"]])) {
    columns$through <- read_instants(columns$through, "through", na = TRUE)
  }
  order <- order(
    columns$series, columns$period, columns$known,
    method = "radix",
    na.last = FALSE
  )
  if (is.unsorted(order)) {
    say_sorted_rows(columns$series, columns$period)
    columns <- lapply(columns, `[`, order)
  }
  with_facts(
    with_shape(as_rows(columns), "vetusta_observations"), facts_of(rows)
  )
}

# The frequencies that are neither codes nor durations.
unknown_frequency <- function(frequency) {
  others <- setdiff(frequency[!is.na(frequency)], names(frequency_words))
  others[
    vapply(others, function(text) is.null(interval_from_iso(text)), TRUE)
  ]
}

read_periods <- function(period, n) {
  if (is.factor(period)) period <- as.character(period)
  if (inherits(period, "Date")) {
    if (anyNA(period)) stop_no_period(NA, which(is.na(period))[1])
    return(list(first = period, frequency = rep(NA_character_, n)))
  }
  if (inherits(period, "POSIXct")) {
    if (anyNA(period)) stop_no_period(NA, which(is.na(period))[1])
    return(
      list(first = days_of_midnights(period), frequency = rep(NA_character_, n))
    )
  }
  # years may be whole numbers; other numbers are ambiguous
  years <- is.numeric(period) &&
    !is.object(period) &&
    all(period %in% 1000:2999)
  if (!is.character(period) &&
    !years &&
    !(is.logical(period) && all(is.na(period)))) {
    vetusta_stop(
      "shape",
      paste0(
        "The column `period` must be days or periods, and is ",
        class(period)[1], "."
      ),
      where = "column period",
      todo = paste0(
        "convert it to Date, or write it as 2026, 2026-Q1, 2026-03, ",
        "2026-W05 or 2026-03-12"
      )
    )
  }
  read <- time_periods(as.character(period))
  bad <- which(is.na(read$first))
  if (length(bad)) stop_no_period(read$text[bad[1]], bad[1])
  timed <- which(
    within_day(read$frequency) &
      !grepl("^[0-9-]{10}[T ]00:00(:00([.]0+)?)?($|Z|[+-])", read$text)
  )
  if (length(timed)) stop_timed_period(read$text[timed[1]], timed[1])
  list(first = read$first, frequency = read$frequency)
}

# The days of instants that are midnights of their own zone or of UTC.
days_of_midnights <- function(period) {
  for (zone in unique(c(attr(period, "tzone")[1] %||% "", "UTC"))) {
    local <- as.POSIXlt(period, tz = zone)
    timed <- which(local$hour != 0 | local$min != 0 | local$sec != 0)
    if (!length(timed)) {
      return(as.Date(local))
    }
  }
  stop_timed_period(format_instant(period[timed[1]]), timed[1])
}

stop_timed_period <- function(text, row) {
  vetusta_stop(
    "shape",
    paste0("The column `period` has a time of the day: \"", text, "\"."),
    where = paste0("column period, row ", row),
    todo = paste(
      "rename the column to time: series, time and value need no",
      "series_frame()"
    )
  )
}

stop_no_period <- function(text, row) {
  vetusta_stop(
    "shape",
    if (is.na(text)) {
      paste0("The column `period` is missing in row ", row, ".")
    } else {
      paste0("\"", text, "\" is no period.")
    },
    where = paste0("column period, row ", row),
    todo = "write it as 2026, 2026-Q1, 2026-03, 2026-W05 or 2026-03-12"
  )
}

guessed_frequencies <- function(series, first, frequency) {
  groups <- text_groups(series)
  unknown <- is.na(frequency)
  guess <- vapply(split(first, groups$id), guess_frequency, "")
  frequency[unknown] <- unname(guess[as.character(groups$id[unknown])])
  frequency
}

read_known <- function(known, n) {
  # an empty column has no type
  if (is.null(known) || all(is.na(known))) {
    utc(rep(NA_real_, n))
  } else {
    read_instants(known, "known", na = TRUE)
  }
}

# Any of the three shapes as plain columns, in order of series and time:
# `series`, `time`, `through` and `known` (seconds), `value`, `status`. With
# `times_only`, `through` and `known` are not computed.
series_points <- function(x, value = NULL, interval = NULL, lag = NULL,
                          zone = NULL, calendar = NULL, times_only = FALSE) {
  x <- as_series(x)
  check_calendar(calendar)
  facts <- frame_facts(x, interval, zone, calendar)
  facts$lag <- if (!is.null(lag)) time_interval(lag, "lag")
  list_frame(points_of(x, value, facts, times_only))
}

points_of_observations <- function(x, value, facts, times_only) {
  x <- series_frame(x)
  time <- start_times(x)
  times <- if (times_only) {
    list(through = time, known = time)
  } else {
    row_times(x, end_times(x, facts), facts)
  }
  list(
    series = x$series,
    time = time,
    through = times$through,
    known = times$known,
    value = number_named(x, value %||% "value"),
    status = x$status
  )
}

number_named <- function(x, column) {
  if (is.numeric(x[[column]]) ||
    (column %in% c("value", "close") && !is.null(x[[column]]))) {
    return(check_numbers(x[[column]], column))
  }
  vetusta_stop(
    "argument",
    paste0("The table has no number called \"", column, "\"."),
    todo = suggest_word(column, names(x)[vapply(x, is.numeric, TRUE)])
  )
}

points_of_bars <- function(x, value, facts, times_only) {
  x <- ordered_bars(x)
  column <- value %||% "close"
  if (!is.numeric(x[[column]])) {
    vetusta_stop(
      "argument",
      paste0("The bars have no number called \"", column, "\"."),
      todo = suggest_word(column, names(x)[vapply(x, is.numeric, TRUE)])
    )
  }
  time <- seconds_of(x$time)
  times <- if (times_only) {
    list(through = time, known = time)
  } else {
    row_times(x, end_times(x, facts), facts)
  }
  list(
    series = series_of_rows(with_shape(x, "vetusta_bars")),
    time = time,
    through = times$through,
    known = times$known,
    value = number_named(x, column),
    status = x$status
  )
}

points_of_points <- function(x, value, facts, times_only) {
  series <- if (is.character(x$series)) x$series else as.character(x$series)
  # text and days are instants in UTC, as in all tables
  if (!inherits(x$time, "POSIXct") || !is.double(x$time)) {
    x$time <- read_instants(x$time, "time")
  }
  groups <- text_groups(series, x$time, lone = TRUE)
  if (!groups$ordered) {
    if (anyNA(x$time)) read_instants(x$time, "time")
    order <- order_of(series, x$time, groups)
    if (!is.null(order)) {
      say_sorted_rows(series, x$time)
      x <- x[order, ]
      series <- series[order]
      groups <- NULL
    }
  }
  time <- seconds_of(x$time)
  times <- if (times_only) {
    list(through = time, known = time)
  } else {
    row_times(x, time, facts)
  }
  points <- list(
    series = series,
    time = time,
    through = times$through,
    known = times$known,
    value = number_named(x, value %||% "value")
  )
  points$status <- x[["status"]]
  # the numbers of the series are passed on, because computing them is slow
  attr(points, "groups") <- groups
  points
}

# The length of bars, from the smallest step of a series; NULL where each has
# one bar.
guess_interval <- function(time, groups) {
  step <- smallest_step(time, groups)
  if (is.na(step)) {
    NULL
  } else if (step >= 28 * 86400) {
    interval_of(max(1, round(step / 86400 / 30.4)), "month")
  } else if (step >= 6.8 * 86400) {
    interval_of(round(step / 604800), "week")
  } else {
    # values some days apart are daily with gaps
    if (step >= 72000) interval_of(1, "day") else interval_of(step, "second")
  }
}

# Whether a table of points or observations has several releases of one time.
has_vintages <- function(points) {
  # values known at their time have one release
  if (identical(points$known, points$time)) {
    return(FALSE)
  }
  has_vintages_cpp(point_groups(points), points$time, points$known)
}

# Numbers the series of sorted points; none where there is one series.
point_groups <- function(points) {
  groups <- attr(points, "groups")
  if (length(groups$levels) == 1) {
    return(integer())
  }
  if (!is.null(groups$id) && length(groups$id) == nrow(points)) {
    return(groups$id)
  }
  text_groups(points$series, lone = TRUE)$id %||% integer()
}

# A table of points, the result of functions on values alone.
points_rows <- function(series, time, value, ...) {
  with_shape(
    as_rows(list(series = series, time = utc(time), value = value, ...)),
    "vetusta_points"
  )
}

# Values computed from points, with the facts of their table.
derived_points <- function(x, points, value, through, known, ...) {
  rows <- points_rows(
    points$series, points$time, value,
    through = utc(through),
    known = utc(known), ...
  )
  with_facts(
    rows, facts_of(x)[c("zone", "calendar", "title", "source", "licence")]
  )
}

# The rows of each series, in order of first appearance.
series_split <- function(series, groups = NULL) {
  groups <- groups %||% text_groups(series)
  n <- length(groups$levels)
  # series that follow each other are ranges of rows
  in_runs <- n <= 1 || !is.unsorted(groups$id)
  rows <- if (in_runs) {
    lapply(
      seq_len(n),
      function(i) {
        seq(
          groups$first[i],
          if (i < n) groups$first[i + 1] - 1 else length(series)
        )
      }
    )
  } else {
    split(seq_along(series), groups$id)
  }
  stats::setNames(rows, groups$levels)
}
