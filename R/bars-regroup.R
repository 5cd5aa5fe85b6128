#' Regroup bars to a longer interval
#'
#' @param bars A table of bars, see [bars_frame()]; rows in any order.
#' @param interval The longer interval, see [time_interval()]; or `"session"` for one bar a session of the calendar.
#' @param calendar A calendar. `NULL` counts every day of `zone`, midnight to midnight.
#' @param session Names of the sessions whose bars count; `NULL` for all. The default leaves early and late trading out.
#' @param base The interval of `bars`; by default the smallest step between two of them.
#' @param zone The IANA zone of the days, where there is no calendar.
#' @param anchor From where intervals within the day are counted: the session's `"opening"`, or local midnight by the `"clock"`, so that
#'   hours begin at full hours; a bucket on the clock takes from all sessions that it lies in.
#' @param day_start The hour of the local clock at which days begin, such as `"17:00"`, where there is no calendar.
#' @param week_start The weekday with which weeks begin.
#' @param label Whether `time` is the bucket's `"start"` or its `"end"`.
#' @param need The share of its expected bars that a bucket must have not to be provisional; `0` looks only whether it has ended.
#' @return A table of bars with, after its own columns, `average` (the mean price weighted by volume: of the closes, or of the bars' own
#'   `average` where they have one), `bars` (how many bars went in) and `expected` (how many the calendar expects). `open` is the first, `high`
#'   the largest, `low` the smallest, `close` the last, `volume` the sum. `time` is the bucket's start; a day, week, month or year bears
#'   the opening of its first session. `status` is `provisional` where a bar in it is, where fewer than `need` of its expected
#'   bars are there, or where its end lies after the end of all data. The attribute `outside` says how many rows lay outside the
#'   sessions. The result is the same however the input was ordered or split; rows that stood out of order are sorted, and a message of the class
#'   `vetusta_note` says how many. No rows give no rows; infinite prices are carried as they are.
#' @section Errors: `vetusta_error_want` when `interval` is not longer than the bars' own or does not divide by it, or for an argument that
#'   is none of its words; `vetusta_error_calendar` for bars outside the years that the calendar covers.
#' @export
#' @examples
#' minutes <- bars_frame(data.frame(
#'   symbol = "KELD", time = as.POSIXct("2026-03-12 07:30", tz = "UTC") + 60 * (0:389),
#'   open = 41, high = 42, low = 40, close = 41, volume = 100
#' ))
#' bars_regroup(minutes, "1 day", source_calendar("quay"))
bars_regroup <- function(bars, interval, calendar = NULL, session = "regular", base = NULL, zone = "UTC", anchor = "opening", day_start = NULL,
                         week_start = "monday", label = "start", need = 1) {
  check_calendar(calendar)
  by_session <- identical(interval, "session")
  interval <- time_interval(if (by_session) "1 day" else interval)
  check_choice(anchor, "anchor", c("opening", "clock"))
  check_choice(label, "label", c("start", "end"))
  check_sessions(session)
  week_start <- match(check_choice(week_start, "week_start", weekday_names), weekday_names)
  if (!is.numeric(need) || length(need) != 1 || is.na(need) || need < 0 || need > 1) vetusta_stop("want", "`need` is a share of the expected bars.", todo = "give a number from 0 to 1")
  if (by_session && is.null(calendar)) vetusta_stop("want", "Bars are regrouped by session with a calendar only.", todo = "give `calendar`")
  bars <- ordered_bars(bars)
  if (is.null(calendar)) {
    calendar <- day_calendar(zone, day_start)
    session <- NULL
  } else if (!is.null(day_start)) {
    vetusta_stop("want", "A calendar's sessions say where its days begin.", todo = "leave out `day_start` or `calendar`")
  }
  base_seconds <- if (is.null(base)) smallest_step(bars) else time_interval(base, "base")$seconds
  check_divides(interval, base_seconds)
  if (!nrow(bars)) {
    return(regrouped_frame(bars, integer(), list(group = integer(), time = numeric(), open = numeric(), high = numeric(), low = numeric(),
      close = numeric(), volume = numeric(), average = numeric(), bars = integer(), frame = integer(), provisional = logical(), outside = 0), numeric(), character(), logical()))
  }
  check_covers(calendar, min(bars$time), utc(as.numeric(max(bars$time)) + 1))
  frames <- calendar_frames(calendar, interval, min(bars$time), max(bars$time), session, week_start)
  if (by_session) frames$bucket <- seq_len(nrow(frames))
  step <- if (is_intraday(interval)) interval$seconds else 0
  frames$anchor <- as.numeric(frames$open)
  frames$offset <- rep(0, nrow(frames))
  on_clock <- anchor == "clock" && step > 0
  if (on_clock) frames <- clock_frames(frames, calendar$zone, step)
  first_of_bucket <- match(frames$bucket, frames$bucket)
  groups <- bar_groups(bars)
  rows <- regroup_cpp(
    groups$id, bars$time, bars$open, bars$high, bars$low, bars$close, bars$volume, if (is.numeric(bars[["average"]])) bars[["average"]] else numeric(),
    bars$status, as.numeric(frames$open), as.numeric(frames$close), frames$anchor, frames$offset, as.numeric(frames$open)[first_of_bucket], step
  )
  ends <- bucket_ends(rows, frames, step, on_clock, calendar$zone)
  if (on_clock) rows$time <- clock_instants(rows$time, frames$offset[rows$frame], calendar$zone)
  expected <- expected_bars(rows, ends, frames, step, base_seconds)
  open <- rows$provisional | (!is.na(base_seconds) & ends > as.numeric(max(bars$time)) + base_seconds) | (!is.na(expected) & rows$bars < need * expected)
  if (label == "end") rows$time <- ends
  regrouped_frame(bars, groups$first, rows, expected, bucket_sessions(frames, step)[rows$frame], open)
}

# Every day at all hours, from midnight or from another hour of the local clock.
day_calendar <- function(zone, day_start = NULL) {
  if (is.null(day_start)) {
    return(calendar_make(list(calendar = "every day", zone = zone)))
  }
  if (!is.character(day_start) || !grepl("^([01]?[0-9]|2[0-3]):[0-5][0-9]$", day_start)) vetusta_stop("want", "`day_start` is no hour of the clock.", todo = "write it as \"17:00\"")
  calendar_make(list(calendar = "every day", zone = zone, sessions = list(day = paste0(day_start, "-", day_start))))
}

# Frames whose steps are counted from local midnight, on the clock: `offset` is added to an instant before its step is found. A frame in
# which the clock changes is cut there. Where a step is no longer than the change, the hour that comes twice stays two hours: its steps are
# counted in instants, and the offset is 0.
clock_frames <- function(frames, zone, step) {
  open <- as.numeric(frames$open)
  close <- as.numeric(frames$close)
  before <- zone_offset(open, zone)
  after <- zone_offset(close - 1, zone)
  wall <- any(abs(after - before) > 0 & abs(after - before) < step)
  midnight <- function(at, offset) floor((at + offset) / 86400) * 86400 - if (wall) 0 else offset
  frames$anchor <- midnight(open, before)
  frames$offset <- if (wall) before else rep(0, length(open))
  for (i in rev(which(before != after))) {
    change <- change_between(open[i], close[i], zone)
    late <- frames[i, ]
    late$open <- utc(change)
    late$anchor <- if (wall) midnight(open[i], before[i]) else midnight(change, after[i])
    late$offset <- if (wall) after[i] else 0
    frames$close[i] <- utc(change)
    frames <- rbind(frames[seq_len(i), ], late, frames[-seq_len(i), ])
  }
  frames$bucket <- seq_len(nrow(frames))
  frames
}

# Times on the clock, counted as if it were UTC, as instants; those that are instants already stay.
clock_instants <- function(time, offset, zone) {
  wall <- offset != 0
  day <- floor(time[wall] / 86400)
  time[wall] <- as.numeric(time_local(as.Date(day, origin = "1970-01-01"), time[wall] - day * 86400, zone))
  time
}

ordered_bars <- function(bars) {
  if (!is.data.frame(bars) || !all(bars_columns %in% names(bars))) bars <- bars_frame(bars)
  if (!inherits(bars$time, "POSIXct") || !is.character(bars$symbol) || !is.character(bars$status)) bars <- bars_frame(bars)
  sides <- text_groups(bars$side)$levels
  order <- if (length(sides) > 1) order(bars$symbol, bars$side, bars$time, method = "radix") else order_of(bars$symbol, bars$time)
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

expected_bars <- function(rows, ends, frames, step, base_seconds) {
  if (is.na(base_seconds)) {
    return(rep(NA_integer_, length(rows$time)))
  }
  open <- as.numeric(frames$open)
  close <- as.numeric(frames$close)
  if (step > 0) {
    # how many are expected before an instant; a bucket on the clock may lie in two sessions
    before <- cumsum(c(0, ceiling((close - open) / base_seconds)))
    until <- function(x) {
      frame <- findInterval(x, open)
      inside <- ceiling(pmax(0, pmin(x, close[pmax(1, frame)]) - open[pmax(1, frame)]) / base_seconds)
      ifelse(frame == 0, 0, before[pmax(1, frame)] + inside)
    }
    return(as.integer(until(ends) - until(rows$time)))
  }
  by_bucket <- rowsum(ceiling((close - open) / base_seconds), frames$bucket)
  as.integer(by_bucket[as.character(frames$bucket[rows$frame]), 1])
}

# The first instant after each bucket.
bucket_ends <- function(rows, frames, step, on_clock, zone) {
  closes <- as.numeric(frames$close)
  if (on_clock) clock_instants(rows$time + step, frames$offset[rows$frame], zone)
  else if (step > 0) pmin(rows$time + step, closes[rows$frame])
  else closes[length(closes) + 1 - match(frames$bucket, rev(frames$bucket))][rows$frame]
}

bucket_sessions <- function(frames, step) {
  if (step > 0) {
    return(frames$session)
  }
  names <- vapply(split(frames$session, frames$bucket), function(x) paste(unique(x), collapse = "+"), "")
  unname(names[as.character(frames$bucket)])
}

regrouped_frame <- function(bars, firsts, rows, expected, session, provisional) {
  first <- firsts[rows$group]
  result <- as_rows(list(
    symbol = bars$symbol[first], time = utc(rows$time), open = rows$open, high = rows$high, low = rows$low,
    close = rows$close, volume = rows$volume, session = as.character(session), side = bars$side[first],
    status = ifelse(provisional, "provisional", "observed"), average = rows$average, bars = rows$bars,
    expected = as.integer(expected)
  ))
  attr(result, "outside") <- rows$outside
  result
}
