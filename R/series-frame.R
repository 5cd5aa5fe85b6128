# Single values in time. The shape `observations` keeps them by period; bars and tables with
# instants are read as such values too.

observation_columns <- c("series", "period", "frequency", "value", "unit", "status", "released")

#' Make a table of observations
#'
#' @param rows A data frame with `series`, `period` and `value`. `period` is a `Date` (the
#'   period's first day) or text as
#'   [time_periods()] reads it. `frequency`, `unit`, `status` and `released` may be missing.
#' @return A tibble with the columns `series` (text), `period` (`Date`, the period's first day),
#'   `frequency` (`A`, `S`, `T`, `Q`, `M`,
#'   `W`, `D`; where it is not given, what the smallest step of the series tells), `value`
#'   (number), `unit`, `status` (`observed`,
#'   `provisional`, `filled`, or `missing` where there is a row and no value), `released`
#'   (`POSIXct`, UTC, when it was published; `NA`
#'   where nobody says), and after them every further column; in order of series, period and
#'   release. Rows that stood out of order are sorted, and a message of the
#'   class `vetusta_note` says how many.
#' @section Errors: `vetusta_error_shape` for a missing column or a wrong type.
#' @export
#' @examples
#' series_frame(data.frame(series = "salt", period = c("2026-Q1", "2026-Q2"), value = c(4.2, 4.4)))
series_frame <- function(rows) {
  if (missing(rows) || !is.data.frame(rows)) {
    vetusta_stop("shape", "Observations are a data frame.",
      todo = "give a data frame with series, period and value")
  }
  missing <- setdiff(c("series", "period", "value"), names(rows))
  if (length(missing)) {
    vetusta_stop("shape", paste0("Observations need the column `", missing[1], "`."),
      todo = paste("add or rename a column to", missing[1]))
  }
  n <- nrow(rows)
  series <- as.character(rows$series)
  read <- read_periods(rows$period, n)
  frequency <- as.character(rows[["frequency"]] %||% read$frequency)
  unknown <- setdiff(frequency[!is.na(frequency)], c(names(frequency_words)))
  if (length(unknown)) vetusta_stop("shape", paste0("There is no frequency \"", unknown[1], "\"."),
    where = "column frequency", todo = paste0("use one of: ",
    paste(names(frequency_words), collapse = ", ")))
  if (anyNA(frequency)) frequency <- guessed_frequencies(series, read$first, frequency)
  value <- check_numbers(rows$value, "value")
  status <- as.character(rows[["status"]] %||% ifelse(is.na(value), "missing", "observed"))
  columns <- list(series = series, period = read$first, frequency = frequency, value = value,
    unit = as.character(rows[["unit"]] %||% rep(NA, n)),
    status = status, released = read_released(rows[["released"]], n))
  others <- setdiff(names(rows), observation_columns)
  columns[others] <- unclass(rows)[others]
  order <- order(columns$series, columns$period, columns$released, method = "radix",
    na.last = FALSE)
  if (is.unsorted(order)) {
    say_sorted_rows(columns$series, columns$period)
    columns <- lapply(columns, `[`, order)
  }
  with_shape(as_rows(columns), "vetusta_observations")
}

read_periods <- function(period, n) {
  if (is.factor(period)) period <- as.character(period)
  if (inherits(period, "Date")) {
    if (anyNA(period)) stop_no_period(NA, which(is.na(period))[1])
    return(list(first = period, frequency = rep(NA_character_, n)))
  }
  if (inherits(period, "POSIXct")) {
    if (anyNA(period)) stop_no_period(NA, which(is.na(period))[1])
    return(list(first = as.Date(period, tz = "UTC"), frequency = rep(NA_character_, n)))
  }
  # years may be whole numbers; any other number says nothing of what it counts
  years <- is.numeric(period) && !is.object(period) && all(period %in% 1000:2999)
  if (!is.character(period) && !years && !(is.logical(period) && all(is.na(period)))) {
    vetusta_stop("shape",
      paste0("The column `period` must be days or periods, and is ", class(period)[1], "."),
      where = "column period",
      todo = "convert it to Date, or write it as 2026, 2026-Q1, 2026-03, 2026-W05 or 2026-03-12")
  }
  read <- time_periods(as.character(period))
  bad <- which(is.na(read$first))
  if (length(bad)) stop_no_period(read$text[bad[1]], bad[1])
  list(first = read$first, frequency = read$frequency)
}

stop_no_period <- function(text, row) {
  vetusta_stop("shape",
    if (is.na(text)) paste0("The column `period` has nothing in row ", row, ".")
    else paste0("\"", text, "\" is no period."),
    where = paste0("column period, row ", row),
    todo = "write it as 2026, 2026-Q1, 2026-03, 2026-W05 or 2026-03-12")
}

guessed_frequencies <- function(series, first, frequency) {
  groups <- text_groups(series)
  unknown <- is.na(frequency)
  guess <- vapply(split(first, groups$id), guess_frequency, "")
  frequency[unknown] <- unname(guess[as.character(groups$id[unknown])])
  frequency
}

read_released <- function(released, n) {
  if (is.null(released)) utc(rep(NA_real_, n)) else read_instants(released, "released", na = TRUE)
}

# Any of the three as plain columns, in order of series and own time: `series`, `time` (seconds,
# where the value's time begins), `known` (from
# when it counts: its release, else the end of the time that it speaks of), `value`, `status`.
# `lag` is a length of time after the end. What was
# drawn from other values counts when these did: `drawn_from` is the end of the time that the
# latest of them speaks of. With `own`, only own times are asked for.
series_points <- function(x, value = NULL, interval = NULL, lag = NULL, zone = "UTC",
  calendar = NULL, own = FALSE) {
  lag <- if (!is.null(lag)) time_interval(lag, "lag")
  list_frame(points_of(as_series(x), value, interval, lag, zone, calendar, own))
}

points_of_observations <- function(x, value, lag, zone) {
  x <- series_frame(x)
  end <- (as.numeric(period_last(x$period, x$frequency)) + 1) * 86400
  list(series = x$series, time = as.numeric(x$period) * 86400,
    known = known_from(x, end, lag, zone), value = number_named(x, value %||% "value"),
    status = x$status)
}

number_named <- function(x, column) {
  if (is.numeric(x[[column]]) || (column %in% c("value", "close") && !is.null(x[[column]]))) {
    return(check_numbers(x[[column]], column))
  }
  vetusta_stop("want", paste0("The table has no number called \"", column, "\"."),
    todo = suggest_word(column, names(x)[vapply(x, is.numeric, TRUE)]))
}

points_of_bars <- function(x, value, interval, lag, zone, calendar = NULL, own = FALSE) {
  x <- ordered_bars(x)
  column <- value %||% "close"
  if (!is.numeric(x[[column]])) {
    vetusta_stop("want", paste0("The bars have no number called \"", column, "\"."),
      todo = suggest_word(column, names(x)[vapply(x, is.numeric, TRUE)]))
  }
  length <- if (is.null(interval)) guess_interval(x$time, bar_groups(x)$id)
  else time_interval(interval)
  time <- seconds_of(x$time)
  told <- !is.null(x[["released"]]) && !anyNA(x$released)
  if (is.null(length) && nrow(x) && !own && !told) {
    vetusta_stop("want",
      "How long a single bar is, and so when it was known, cannot be told from itself.",
      todo = "give `interval`, such as \"1 day\"")
  }
  # a bar of a day or longer is known from the end of its session, where a calendar tells it
  end <- if (is.null(length)) time
  else if (is_intraday(length)) time + length$seconds
  else if (!is.null(calendar) && length(time)) trading_ends(x$time, length, calendar)
  else as.numeric(shift_instant(x$time, length, 1, zone))
  list(series = series_of_rows(with_shape(x, "vetusta_bars")), time = time,
    known = known_from(x, end, lag, zone), value = number_named(x, column), status = x$status)
}

# From when rows count: their release, else the end of their time and the lag; not before what they
# were drawn from.
known_from <- function(x, end, lag, zone) {
  released <- x[["released"]]
  drawn <- x[["drawn_from"]]
  if (!is.null(drawn)) {
    drawn <- as.numeric(read_instants(drawn, "drawn_from", na = TRUE))
    late <- which(drawn > end)
    end[late] <- drawn[late]
  }
  known <- lagged(end, lag, zone)
  if (is.null(released)) {
    return(known)
  }
  released <- as.numeric(if (inherits(released, "POSIXct")) released
  else read_instants(released, "released", na = TRUE))
  told <- which(!is.na(released))
  if (!is.null(drawn)) {
    both <- told[!is.na(drawn[told])]
    released[both] <- pmax(released[both], lagged(drawn[both], lag, zone))
  }
  known[told] <- released[told]
  known
}

points_of_points <- function(x, value, lag, zone) {
  series <- if (is.character(x$series)) x$series else as.character(x$series)
  # text and days are instants of UTC, as in all tables
  if (!inherits(x$time, "POSIXct") || !is.double(x$time)) x$time <- read_instants(x$time, "time")
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
  points <- list(series = series, time = time, known = known_from(x, time, lag, zone),
    value = number_named(x, value %||% "value"))
  points$status <- x[["status"]]
  # what names the series by numbers is handed on, since it takes as long as the rest
  attr(points, "groups") <- groups
  points
}

lagged <- function(end, lag, zone) {
  if (is.null(lag)) end else as.numeric(shift_instant(utc(end), lag, 1, zone))
}

# The length of bars, by the smallest step of a series; NULL where there is but one bar of each.
guess_interval <- function(time, groups) {
  step <- smallest_step(time, groups)
  if (is.na(step)) NULL
  else if (step >= 28 * 86400) interval_of(max(1, round(step / 86400 / 30.4)), "month")
  else if (step >= 6.8 * 86400) interval_of(round(step / 604800), "week")
  # values some days apart are those of days, of which some are missing
  else if (step >= 72000) interval_of(1, "day")
  else interval_of(step, "second")
}

# Whether a table of points or observations holds several releases of one time.
has_vintages <- function(points) {
  # what is known at its time has one release
  if (identical(points$known, points$time)) {
    return(FALSE)
  }
  has_vintages_cpp(point_groups(points), points$time, points$known)
}

# The numbers of the series of points that are in order, none where all are of one series.
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

# What is computed from several releases is computed anew for each instant at which one came, from
# the newest ones known by then, and kept where it differs from
# what was computed before: nothing that came later is in it. `points` are of one series, in order
# of time and release; `work` takes the numbers of its rows
# that count at an instant, and gives a list of `time`, `value`, `known` and whatever else, one
# entry a result.
by_release <- function(points, work) {
  order <- order(points$time, points$known, method = "radix")
  time <- points$time[order]
  known <- points$known[order]
  kept <- list()
  last <- NULL
  for (at in sort(unique(known))) {
    seen <- which(known <= at)
    seen <- seen[!duplicated(time[seen], fromLast = TRUE)]
    now <- list_frame(work(order[seen]))
    now$known <- pmax(now$known, at)
    before <- match(now$time, last$time)
    same <- if (is.null(last)) rep(FALSE, nrow(now))
    else !is.na(before) &
      (now$value == last$value[before] | (is.na(now$value) & is.na(last$value[before])))
    if (!is.null(last) && !is.null(now[["status"]])) {
      same <- same & now$status == last$status[before]
    }
    same[is.na(same)] <- FALSE
    now$known[same] <- last$known[before[same]]
    kept[[length(kept) + 1]] <- now[!same, , drop = FALSE]
    last <- now
  }
  all <- as.data.frame(data.table::rbindlist(kept, use.names = TRUE, fill = TRUE))
  # of two results known from one instant on the one that was computed later counts
  all <- all[!duplicated(all[c("time", "known")], fromLast = TRUE), , drop = FALSE]
  all[order(all$time, all$known, method = "radix"), , drop = FALSE]
}

# A table of points: what functions that look at values alone give back.
points_rows <- function(series, time, value, ...) {
  with_shape(as_rows(list(series = series, time = utc(time), value = value, ...)), "vetusta_points")
}

# Each series' rows, in the order in which the series first come.
series_split <- function(series, groups = NULL) {
  groups <- groups %||% text_groups(series)
  n <- length(groups$levels)
  # series that stand one after the other are ranges of rows
  in_runs <- n <= 1 || !is.unsorted(groups$id)
  rows <- if (in_runs) lapply(seq_len(n),
    function(i) seq(groups$first[i], if (i < n) groups$first[i + 1] - 1 else length(series)))
    else split(seq_along(series), groups$id)
  stats::setNames(rows, groups$levels)
}
