# The newest value of each series, ordered, and the order a length of time ago.

#' Newest values in order
#'
#' The newest value of each series, from the largest to the smallest, with the
#' value of each a length of time earlier and the order then.
#'
#' @param x Bars, observations, or a table with `series`, `time` and `value`.
#' @param over The length of time to the earlier value, as `"1 year"`. The
#'   latest value up to then counts, if it is at most `or_before` older.
#' @param or_before The greatest additional age of the earlier value.
#' @param value,zone As in [series_change()].
#' @return A tibble with a row per series: `rank` (1 is the largest value of its
#'   unit),
#'   `series`, `time` (`POSIXct`, UTC), `value`, `unit`, `before` (the earlier
#'   value), `change` (a fraction; 0.01 is one per cent), and `rank_before` (the
#'   rank among the series that have an earlier value). Equal values have the
#'   same rank.
#' @section Errors: `vetusta_error_argument` if there is no value, or an
#'   invalid length.
#' @export
#' @examples
#' traffic <- data.frame(
#'   series = rep(c("lock", "weir"), each = 400),
#'   time = as.POSIXct("2025-01-01", tz = "UTC") + 86400 * rep(0:399, 2),
#'   value = c(1:400, 400:1)
#' )
#' series_newest(traffic)
series_newest <- function(x, over = "1 year", or_before = "7 days",
                          value = NULL, zone = NULL) {
  if (!is.null(zone)) check_zone(zone)
  over <- time_interval(over, "over")
  or_before <- time_interval(or_before, "or_before")
  x <- as_series(given(x, "x"))
  facts <- frame_facts(x, NULL, zone, NULL)
  x <- series_latest_rows(x)
  column <- value_asked(x, value) %||% value_column(x)
  rows <- list_frame(list(
    series = series_of_rows(x), time = start_times(x),
    value = as.double(x[[column]]), unit = units_of(x, column)
  ))
  rows <- rows[!is.na(rows$value), , drop = FALSE]
  if (!nrow(rows)) {
    vetusta_stop(
      "argument", "There are no values to order.",
      todo = "check the window and the series"
    )
  }
  rows <- rows[order(rows$series, rows$time), , drop = FALSE]
  last <- rows[!duplicated(rows$series, fromLast = TRUE), , drop = FALSE]
  back <- function(instants, length) {
    as.numeric(shift_instant(utc(instants), length, -1, facts$zone))
  }
  earliest <- back(back(last$time, over), or_before)
  last$before <- vapply(seq_len(nrow(last)), function(i) {
    own <- rows[rows$series == last$series[i], , drop = FALSE]
    at <- findInterval(back(last$time[i], over), own$time)
    if (at > 0 && own$time[at] >= earliest[i]) own$value[at] else NA_real_
  }, 0)
  last$rank <- ranks_of_unit(last$value, last$unit)
  last$rank_before <- ranks_of_unit(last$before, last$unit)
  last$change <- ifelse(
    last$before != 0, last$value / last$before - 1, NA_real_
  )
  last$time <- utc(last$time)
  last <- last[order(last$unit, last$rank, last$series), , drop = FALSE]
  as_rows(as.list(last)[c(
    "rank", "series", "time", "value", "unit", "before", "change", "rank_before"
  )])
}

# Ranks from the largest value of each unit; 1 is the largest.
ranks_of_unit <- function(value, unit) {
  unit <- ifelse(is.na(unit), "", unit)
  rank <- function(x) base::rank(-x, na.last = "keep", ties.method = "min")
  as.integer(stats::ave(value, unit, FUN = rank))
}

# The newest release of each time.
series_latest_rows <- function(x) {
  if (!has_releases(x)) {
    return(x)
  }
  key <- paste(series_of_rows(x), format_exact(start_times(x)))
  x[!duplicated(key, fromLast = TRUE), , drop = FALSE]
}
