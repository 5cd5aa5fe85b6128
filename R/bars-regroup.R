#' Regroup bars to a longer interval
#'
#' @param bars A table of bars, see [bars_frame()]; rows in any order.
#' @param interval The longer interval, see [time_interval()].
#' @param calendar A calendar. `NULL` counts every day of `zone`, midnight to midnight.
#' @param session Names of the sessions whose bars count; `NULL` for all. The default leaves early and late trading out.
#' @param base The interval of `bars`; by default the smallest step between two of them.
#' @param zone The IANA zone of the days, where there is no calendar.
#' @return A table of bars with, after its own columns, `average` (the closes' mean weighted by volume), `bars` (how many
#'   bars went in) and `expected` (how many the calendar expects). `open` is the first, `high` the largest, `low` the
#'   smallest, `close` the last, `volume` the sum. `time` is the bucket's start: within the day it is counted from the
#'   session's opening; a day, week, month or year bears the opening of its first session. `status` is `provisional`
#'   where a bar in it is, or where the last bars that the bucket expects lie after the end of all data.
#'   The attribute `outside` says how many rows lay outside the sessions. The result is the same however the input was
#'   ordered or split.
#' @section Errors: `vetusta_error_want` when `interval` is not longer than the bars' own or does not divide by it.
#' @export
#' @examples
#' minutes <- bars_frame(data.frame(
#'   symbol = "KELD", time = as.POSIXct("2026-03-12 07:30", tz = "UTC") + 60 * (0:389),
#'   open = 41, high = 42, low = 40, close = 41, volume = 100
#' ))
#' bars_regroup(minutes, "1 day", source_calendar("quay"))
bars_regroup <- function(bars, interval, calendar = NULL, session = "regular", base = NULL, zone = "UTC") {
  interval <- time_interval(interval)
  bars <- ordered_bars(bars)
  if (is.null(calendar)) {
    calendar <- calendar_make(list(calendar = "every day", zone = zone))
    session <- NULL
  }
  base_seconds <- if (is.null(base)) smallest_step(bars) else time_interval(base, "base")$seconds
  check_divides(interval, base_seconds)
  if (!nrow(bars)) {
    return(regrouped_frame(bars, list(group = integer(), time = numeric(), open = numeric(), high = numeric(), low = numeric(),
      close = numeric(), volume = numeric(), average = numeric(), bars = integer(), frame = integer(), provisional = logical(), outside = 0), numeric(), character()))
  }
  frames <- calendar_frames(calendar, interval, min(bars$time), max(bars$time), session)
  first_of_bucket <- match(frames$bucket, frames$bucket)
  step <- if (is_intraday(interval)) interval$seconds else 0
  rows <- regroup_cpp(
    bar_groups(bars), as.numeric(bars$time), bars$open, bars$high, bars$low, bars$close, bars$volume,
    bars$status == "provisional", as.numeric(frames$open), as.numeric(frames$close), as.numeric(frames$open)[first_of_bucket], step
  )
  regrouped_frame(bars, rows, expected_bars(rows, frames, step, base_seconds), bucket_sessions(frames, step)[rows$frame],
    still_open(rows, frames, step, base_seconds, max(bars$time)))
}

ordered_bars <- function(bars) {
  if (!is.data.frame(bars) || !all(bars_columns %in% names(bars))) bars <- bars_frame(bars)
  order <- order_of(bars$symbol, bars$time)
  bars <- if (is.null(order)) bars else bars[order, ]
  sides <- unique(bars$side)
  if (length(sides) > 1) bars <- bars[order(bars$symbol, bars$side, bars$time, method = "radix"), ]
  bars
}

# One number a series: symbol and side.
bar_groups <- function(bars) {
  key <- if (all(is.na(bars$side))) bars$symbol else paste(bars$symbol, bars$side, sep = "\r")
  match(key, unique(key))
}

smallest_step <- function(bars) {
  steps <- diff(as.numeric(bars$time))
  steps <- steps[is.finite(steps) & steps > 0]
  if (length(steps)) min(steps) else NA_real_
}

check_divides <- function(interval, base_seconds) {
  if (is.na(interval$seconds) || is.na(base_seconds)) {
    return(invisible())
  }
  if (interval$seconds < base_seconds || (is_intraday(interval) && interval$seconds %% base_seconds != 0)) {
    base <- format(interval_of(base_seconds, "second"))
    vetusta_stop("want", paste0("Bars of ", base, " cannot be regrouped to ", format(interval), "."),
      todo = paste0("choose an interval that is a whole number of times ", base))
  }
}

expected_bars <- function(rows, frames, step, base_seconds) {
  if (is.na(base_seconds)) {
    return(rep(NA_integer_, length(rows$time)))
  }
  length_of_frame <- as.numeric(frames$close) - as.numeric(frames$open)
  if (step > 0) {
    left <- as.numeric(frames$close)[rows$frame] - rows$time
    return(as.integer(ceiling(pmin(step, left) / base_seconds)))
  }
  by_bucket <- rowsum(ceiling(length_of_frame / base_seconds), frames$bucket)
  as.integer(by_bucket[as.character(frames$bucket[rows$frame]), 1])
}

# A bucket whose last expected bars lie after the end of all data has not ended as far as anybody knows.
still_open <- function(rows, frames, step, base_seconds, last) {
  closes <- as.numeric(frames$close)
  end <- if (step > 0) pmin(rows$time + step, closes[rows$frame]) else closes[length(closes) + 1 - match(frames$bucket, rev(frames$bucket))][rows$frame]
  rows$provisional | (!is.na(base_seconds) & end > as.numeric(last) + base_seconds)
}

bucket_sessions <- function(frames, step) {
  if (step > 0) {
    return(frames$session)
  }
  names <- vapply(split(frames$session, frames$bucket), function(x) paste(unique(x), collapse = "+"), "")
  unname(names[as.character(frames$bucket)])
}

regrouped_frame <- function(bars, rows, expected, session, provisional = logical()) {
  first <- match(seq_len(max(0L, rows$group)), bar_groups(bars))
  result <- as_rows(list(
    symbol = bars$symbol[first][rows$group], time = utc(rows$time), open = rows$open, high = rows$high, low = rows$low,
    close = rows$close, volume = rows$volume, session = as.character(session), side = bars$side[first][rows$group],
    status = ifelse(provisional, "provisional", "observed"), average = rows$average, bars = rows$bars,
    expected = as.integer(expected)
  ))
  attr(result, "outside") <- rows$outside
  result
}
