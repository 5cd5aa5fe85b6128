#' Regroup bars to a longer interval
#'
#' @param bars A table of bars, see [bars_frame()]; rows in any order.
#' @param interval The longer interval, see [time_interval()]; or `"session"` for one bar a
#'   session of the calendar.
#' @param calendar A calendar. `NULL` counts every day of `zone`, midnight to midnight.
#' @param session Names of the sessions whose bars count; `NULL` for all. The default leaves
#'   early and late trading out.
#' @param base The interval of `bars`; by default the smallest step between two of them.
#' @param zone The IANA zone of the days, where there is no calendar.
#' @param anchor From where intervals within the day are counted: the session's `"opening"`, or
#'   local midnight by the `"clock"`, so that
#'   hours begin at full hours; a bucket on the clock takes from all sessions that it lies in.
#' @param day_start The hour of the local clock at which days begin, such as `"17:00"`, where
#'   there is no calendar.
#' @param week_start The weekday with which weeks begin.
#' @param label Whether `time` is the bucket's `"start"` or its `"end"`.
#' @param need The share of its expected bars that a bucket must have not to be provisional; `0`
#'   looks only whether it has ended.
#' @return A table of bars with, after its own columns, `vwap` (the mean price weighted by
#'   volume: of the closes, or of the bars' own
#'   `vwap` where they have one), `count` (how many bars went in) and `expected` (how many the
#'   calendar expects). `open` is the first, `high`
#'   the largest, `low` the smallest, `close` the last, `volume` the sum. `time` is the bucket's
#'   start; a day, week, month or year bears
#'   the opening of its first session. `status` is `provisional` where a bar in it is, where fewer
#'   than `need` of its expected
#'   bars are there, or where its end lies after the end of all data. Bars with a column `released`
#'   give one with it: the latest of the bars in it,
#'   the end of a bar where it says none. Bars of days and longer belong to their trading days,
#'   wherever in the day their source stamps them. The attribute `outside` says how many rows lay
#'   outside the
#'   wanted sessions; a message of the class `vetusta_note` says how many lay outside all of them.
#'   The result is the same however the input was ordered or
#'   split; rows that stood out of order are sorted, and a message of the class
#'   `vetusta_note` says how many. No rows give no rows; infinite prices are carried as they are.
#' @section Errors: `vetusta_error_want` when `interval` is not longer than the bars' own or does
#'   not divide by it, or for an argument that
#'   is none of its words; `vetusta_error_calendar` for bars outside the years that the calendar
#'   covers.
#' @export
#' @examples
#' minutes <- bars_frame(data.frame(
#'   symbol = "KELD", time = as.POSIXct("2026-03-12 07:30", tz = "UTC") + 60 * (0:389),
#'   open = 41, high = 42, low = 40, close = 41, volume = 100
#' ))
#' bars_regroup(minutes, "1 day", source_calendar("quay"))
bars_regroup <- function(bars, interval, calendar = NULL, session = "regular", base = NULL,
  zone = "UTC", anchor = "opening", day_start = NULL,
                         week_start = "monday", label = "start", need = 1) {
  check_calendar(calendar)
  interval <- given(interval, "interval")
  by_session <- identical(interval, "session")
  interval <- time_interval(if (by_session) "1 day" else interval)
  check_choice(anchor, "anchor", c("opening", "clock"))
  check_choice(label, "label", c("start", "end"))
  check_sessions(session)
  week_start <- match(check_choice(week_start, "week_start", weekday_names), weekday_names)
  if (!is.numeric(need) || length(need) != 1 || is.na(need) || need < 0 || need > 1) {
    vetusta_stop("want", "`need` is a share of the expected bars.",
      todo = "give a number from 0 to 1")
  }
  if (by_session && is.null(calendar)) {
    vetusta_stop("want", "Bars are regrouped by session with a calendar only.",
      todo = "give `calendar`")
  }
  bars <- ordered_bars(bars)
  if (is.null(calendar)) {
    calendar <- day_calendar(zone, day_start)
    session <- NULL
  } else if (!is.null(day_start)) {
    vetusta_stop("want", "A calendar's sessions say where its days begin.",
      todo = "leave out `day_start` or `calendar`")
  }
  base <- if (is.null(base)) guess_interval(bars$time, bar_groups(bars)$id)
  else time_interval(base, "base")
  check_divides(interval, base)
  if (!nrow(bars)) {
    return(regrouped_frame(bars, integer(),
      list(group = integer(), time = numeric(), open = numeric(), high = numeric(), low = numeric(),
      close = numeric(), volume = numeric(), vwap = numeric(), count = integer(), frame = integer(),
      provisional = logical(), outside = 0), numeric(), character(), logical()))
  }
  check_covers(calendar, min(bars$time), utc(as.numeric(max(bars$time)) + 1))
  known <- if (is.null(bars[["released"]])) numeric()
  else points_of_bars(bars, "close", base, NULL, calendar$zone, calendar)$known
  # a bar of a day is of its trading day, wherever its source stamps it
  time <- if (is.null(base) || is_intraday(base)) bars$time
  else trading_times(bars$time, base, calendar)
  frames <- calendar_frames(calendar, interval, min(time), max(time), session, week_start)
  if (by_session) frames$bucket <- seq_len(nrow(frames))
  step <- if (is_intraday(interval)) interval$seconds else 0
  on_clock <- anchor == "clock" && step > 0
  if (on_clock) {
    frames <- clock_frames(frames, calendar$zone, step)
    step <- 0
  } else {
    frames$start <- frames$open
  }
  first_of_bucket <- match(frames$bucket, frames$bucket)
  groups <- bar_groups(bars)
  rows <- regroup_cpp(
    groups$id, time, bars$open, bars$high, bars$low, bars$close, bars$volume,
    if (is.numeric(bars[["vwap"]])) bars[["vwap"]] else numeric(),
    bars$status, known, as.numeric(frames$open), as.numeric(frames$close), as.numeric(frames$open),
    (if (on_clock) frames$time else as.numeric(frames$open))[first_of_bucket], step
  )
  if (rows$outside > 0) say_outside(sum(is.na(session_of(time, calendar))), nrow(bars))
  ends <- bucket_ends(rows, frames, step, on_clock)
  expected <- expected_bars(rows, ends, frames, step, base)
  newest <- if (is.null(base)) NA
  else max(as.numeric(if (is_intraday(base)) shift_instant(max(time), base)
  else trading_ends(max(time), base, calendar)))
  open <- rows$provisional | (!is.na(newest) & ends > newest) |
    (!is.na(expected) & rows$count < need * expected)
  if (label == "end") rows$time <- ends
  regrouped_frame(bars, groups$first, rows, expected, bucket_sessions(frames, step)[rows$frame],
    open)
}

# Every day at all hours, from midnight or from another hour of the local clock.
day_calendar <- function(zone, day_start = NULL) {
  if (is.null(day_start)) {
    return(calendar_make(list(calendar = "every day", zone = zone)))
  }
  if (!is.character(day_start) || !grepl("^([01]?[0-9]|2[0-3]):[0-5][0-9]$", day_start)) {
    vetusta_stop("want", "`day_start` is no hour of the clock.", todo = "write it as \"17:00\"")
  }
  calendar_make(list(calendar = "every day", zone = zone,
    sessions = list(day = paste0(day_start, "-", day_start))))
}

# Frames cut where the local clock shows a whole number of steps since midnight. An edge that the
# clock jumps over falls on the first instant after the
# jump. In an hour that comes twice, steps no longer than the jump have an edge in either pass,
# longer ones in the first.
clock_frames <- function(frames, zone, step) {
  if (!nrow(frames)) {
    return(frames)
  }
  open <- as.numeric(frames$open)
  close <- as.numeric(frames$close)
  edges <- clock_edges(open[1], max(close), zone, step)
  first <- findInterval(open, edges)
  count <- pmax(1, findInterval(close - 1e-6, edges) - first + 1)
  owner <- rep(seq_along(open), count)
  at <- first[owner] + sequence(count) - 1
  cut <- frames[owner, ]
  cut$start <- frames$open[owner]
  cut$open <- utc(pmax(open[owner], edges[at]))
  cut$close <- utc(pmin(close[owner], edges[at + 1]))
  cut$bucket <- at
  cut$time <- edges[at]
  cut$until <- edges[at + 1]
  cut
}

clock_edges <- function(from, to, zone, step) {
  days <- seq(local_day(utc(from), zone) - 1, local_day(utc(to), zone) + 1, by = 1)
  clock <- seq(0, 86400 - 1e-6, by = step)
  day <- rep(days, each = length(clock))
  at <- rep(clock, length(days))
  first <- as.numeric(time_local(day, at, zone, skipped = "next"))
  second <- as.numeric(time_local(day, at, zone, skipped = "next", twice = "second"))
  sort(unique(c(first, second[second > first & step <= second - first])))
}

ordered_bars <- function(bars) {
  bars <- plain_table(bars)
  good <- is.data.frame(bars) && all(bars_columns %in% names(bars)) &&
    inherits(bars$time, "POSIXct") && is.double(bars$time) && is.character(bars$symbol) &&
    is.character(bars$status) &&
    all(vapply(bars[c("open", "high", "low", "close", "volume")], is.double, TRUE))
  if (!good) bars <- bars_frame(bars)
  if (anyNA(bars$time)) {
    row <- which(is.na(bars$time))[1]
    vetusta_stop("shape", paste0("The column `time` has nothing in row ", row, "."),
      where = paste0("column time, row ", row), todo = "leave the row out, or give its time")
  }
  sides <- text_groups(bars$side)$levels
  order <- if (length(sides) > 1) order(bars$symbol, bars$side, bars$time, method = "radix")
  else order_of(bars$symbol, bars$time)
  if (is.null(order)) {
    return(bars)
  }
  say_sorted_rows(if (length(sides) > 1) paste(bars$symbol, bars$side) else bars$symbol, bars$time)
  bars[order, ]
}

# One number a series, symbol and side, and the row in which it first comes.
bar_groups <- function(bars) {
  symbol <- text_groups(bars$symbol)
  side <- text_groups(bars$side)
  if (length(side$levels) <= 1) {
    return(symbol[c("id", "first")])
  }
  key <- symbol$id * (length(side$levels) + 1) + side$id
  list(id = match(key, unique(key)), first = which(!duplicated(key)))
}

# The smallest step between two times of one series; `groups` has a number a series.
smallest_step <- function(time, groups) {
  n <- length(groups)
  steps <- diff(as.numeric(time))
  steps <- steps[is.finite(steps) & steps > 0 & groups[-1] == groups[-n]]
  if (length(steps)) min(steps) else NA_real_
}

check_divides <- function(interval, base) {
  if (is.null(base) || is.na(interval$seconds) || is.na(base$seconds)) {
    return(invisible())
  }
  if (interval$seconds < base$seconds ||
    (is_intraday(interval) && interval$seconds %% base$seconds != 0)) {
    vetusta_stop("want",
      paste0("Bars of ", format(base), " cannot be regrouped to ", format(interval), "."),
      todo = paste0("choose a length that is a whole number of times ", format(base)))
  }
}

expected_bars <- function(rows, ends, frames, step, base) {
  if (is.null(base)) {
    return(rep(NA_integer_, length(rows$time)))
  }
  bucket <- frames$bucket[rows$frame]
  if (!is_intraday(base)) {
    # so many days, weeks or months as the calendar has in it
    parts <- unique(data.frame(bucket = frames$bucket, part = bucket_of_day(frames$day, base)))
    counts <- table(factor(parts$bucket, unique(parts$bucket)))
    return(as.integer(counts[match(bucket, unique(parts$bucket))]))
  }
  open <- as.numeric(frames$open)
  close <- as.numeric(frames$close)
  if (step > 0) {
    at <- rows$frame
    return(as.integer(ceiling((pmin(ends, close[at]) - open[at]) / base$seconds) -
      ceiling((rows$time - open[at]) / base$seconds)))
  }
  start <- as.numeric(frames$start)
  by_bucket <- rowsum(ceiling((close - start) / base$seconds) -
    ceiling((open - start) / base$seconds), frames$bucket, reorder = FALSE)
  as.integer(by_bucket[match(bucket, unique(frames$bucket)), 1])
}

# The first instant after each bucket.
bucket_ends <- function(rows, frames, step, on_clock) {
  closes <- as.numeric(frames$close)
  if (on_clock) frames$until[rows$frame]
  else if (step > 0) pmin(rows$time + step, closes[rows$frame])
  else closes[length(closes) + 1 - match(frames$bucket, rev(frames$bucket))][rows$frame]
}

bucket_sessions <- function(frames, step) {
  if (step > 0) {
    return(frames$session)
  }
  names <- vapply(split(frames$session, frames$bucket),
    function(x) paste(unique(x), collapse = "+"), "")
  unname(names[as.character(frames$bucket)])
}

regrouped_frame <- function(bars, firsts, rows, expected, session, provisional) {
  first <- firsts[rows$group]
  result <- as_rows(list(
    symbol = bars$symbol[first], time = utc(rows$time), open = rows$open, high = rows$high,
    low = rows$low,
    close = rows$close, volume = rows$volume, session = as.character(session),
    side = bars$side[first],
    status = ifelse(provisional, "provisional", "observed"), vwap = rows$vwap, count = rows$count,
    expected = as.integer(expected)
  ))
  # what came late makes what is made of it late
  if (length(rows$known)) result$released <- utc(rows$known)
  attr(result, "outside") <- rows$outside
  result
}
