#' Sessions of a calendar
#'
#' @param calendar A calendar from [calendar_make()] or [source_calendar()].
#' @param from,to Local days, `Date` or `"YYYY-MM-DD"`, both included.
#' @param session Names of the sessions to use; `NULL` for all.
#' @return A data frame with a row per session, in time order: `day` (`Date`,
#'   local), `session`, `open` and `close` (`POSIXct`, UTC; `close` is
#'   excluded).
#' @section Errors: `vetusta_error_argument` for an unknown session or an
#'   invalid day; `vetusta_error_calendar` for a window outside the years of the
#'   calendar.
#' @export
#' @examples
#' quay <- source_calendar("quay")
#' calendar_sessions(quay, "2026-03-19", "2026-03-23", session = "regular")
calendar_sessions <- function(calendar, from, to, session = NULL) {
  check_calendar(calendar, needed = TRUE)
  from <- given(from, "from")
  to <- given(to, "to")
  sessions <- sessions_between(calendar, from, to, session)
  if (nrow(sessions)) {
    check_covers(calendar, sessions$open[1], sessions$open[nrow(sessions)])
  }
  sessions
}

# calendar_sessions() without its argument checks, for internal use.
sessions_between <- function(calendar, from, to, session = NULL) {
  check_sessions(session)
  days <- calendar_days(calendar, from, to)
  known <- unique(
    c(
      calendar$sessions$session,
      unlist(lapply(calendar$half_days, function(day) day$sessions$session))
    )
  )
  # "regular", the default, means all sessions of a calendar that has none of
  # that name
  if (identical(session, "regular") && !"regular" %in% known) session <- NULL
  for (name in session) check_choice(name, "session", known)
  half <- lapply(
    moved_days(calendar$half_days, years_of(days), calendar$weekdays),
    function(on) days[days %in% on]
  )
  ordinary <- days[!days %in% unlist(half)]
  parts <- c(
    list(sessions_on(ordinary, calendar$sessions)),
    Map(
      function(on, entry) sessions_on(on, entry$sessions), half,
      calendar$half_days
    )
  )
  all <- do.call(rbind, parts)
  if (!is.null(session)) all <- all[all$session %in% session, ]
  all <- all[order(all$day, all$start), ]
  data.frame(
    day = all$day,
    session = all$session,
    open = time_local(all$day, all$start, calendar$zone),
    close = time_local(all$day, all$end, calendar$zone)
  )
}

sessions_on <- function(days, sessions) {
  data.frame(
    day = rep(epoch_days(days), each = nrow(sessions)),
    session = rep(sessions$session, length(days)),
    start = rep(sessions$start, length(days)),
    end = rep(sessions$end, length(days))
  )
}

# The local days on which the calendar is open.
calendar_days <- function(calendar, from, to) {
  bounds <- Map(check_days, list(from = from, to = to), c("from", "to"))
  if (anyNA(unlist(bounds)) ||
    !all(is.finite(unlist(bounds))) ||
    any(lengths(bounds) != 1)) {
    vetusta_stop(
      "argument", "The day is not a valid date.",
      todo = "write days as 2026-03-12"
    )
  }
  if (bounds$from > bounds$to) {
    return(bounds$from[0])
  }
  days <- seq(bounds$from, bounds$to, by = 1)
  days <- days[weekday_of(days) %in% calendar$weekdays]
  closed <- do.call(
    c,
    c(
      list(as.Date(character())),
      moved_days(calendar$closed, years_of(days), calendar$weekdays)
    )
  )
  days[!days %in% closed]
}

# The years of a range of days and those around them, because a holiday may move
# across the year's end.
years_of <- function(days) {
  if (!length(days)) {
    return(numeric())
  }
  seq(as.POSIXlt(min(days))$year + 1899, as.POSIXlt(max(days))$year + 1901)
}

# The sessions that can contain an instant of a window: a day more on either
# side covers sessions that cross midnight.
sessions_around <- function(calendar, from, to, session = NULL) {
  made <- attr(calendar, "made", exact = TRUE)
  if (!is.null(made) && is.null(session) && from >= made$from && to < made$to) {
    near <- findInterval(as.numeric(c(from, to)) + c(-2, 2) * 86400, made$opens)
    return(made$sessions[(near[1] + 1):max(near), ])
  }
  sessions_between(
    calendar, local_day(from, calendar$zone) - 1,
    local_day(to, calendar$zone) + 1, session
  )
}

# A calendar with the sessions of a window precomputed, for repeated use.
calendar_within <- function(calendar, from, to) {
  if (is.null(calendar) || is.null(from) || is.null(to)) {
    return(calendar)
  }
  from <- from - 10 * 86400
  to <- to + 10 * 86400
  sessions <- sessions_between(
    calendar, local_day(from, calendar$zone) - 1,
    local_day(to, calendar$zone) + 1
  )
  attr(
    calendar, "made"
  ) <- list(
    from = from,
    to = to,
    sessions = sessions,
    opens = as.numeric(sessions$open)
  )
  calendar
}

calendar_plain <- function(calendar) {
  attr(calendar, "made") <- NULL
  calendar
}

#' Expected times of a calendar
#'
#' @param calendar A calendar.
#' @param interval A length of time, see [time_interval()]. Intervals within the
#'   day start at each session's opening; the time of a day, week, month or year
#'   is the opening of its first session.
#' @param from,to The window, instants or days, see [time_instant()]; days are
#'   local to the calendar, and a day as `to` is included.
#' @param session Names of the sessions to use; `NULL` for all. `"regular"`
#'   means all sessions if the calendar has none of that name.
#' @return The ascending starts (`POSIXct`, UTC) of all bars that begin in the
#'   window.
#' @section Errors: `vetusta_error_argument` for an invalid window or interval;
#'   `vetusta_error_calendar` for a window outside the years of the calendar.
#' @export
#' @examples
#' calendar_times(source_calendar("quay"), "1 hour", "2026-03-19", "2026-03-20")
calendar_times <- function(calendar, interval, from, to, session = "regular") {
  check_calendar(calendar, needed = TRUE)
  interval <- time_interval(given(interval, "interval"))
  from <- time_instant(given(from, "from"), calendar$zone, name = "from")
  to <- time_instant(given(to, "to"), calendar$zone, end = TRUE, name = "to")
  if (to <= from) {
    return(utc(numeric()))
  }
  check_covers(calendar, from, to)
  frames <- calendar_frames(calendar, interval, from, to, session)
  times <- if (is_intraday(interval)) {
    frames_times_cpp(
      as.numeric(frames$open), as.numeric(frames$close), interval$seconds
    )
  } else {
    as.numeric(frames$open[!duplicated(frames$bucket)])
  }
  utc(times[times >= as.numeric(from) & times < as.numeric(to)])
}

# The sessions of a window with their buckets. Buckets of longer intervals are
# whole, so the window is extended to the start of the first and the end of the
# last.
calendar_frames <- function(calendar, interval, from, to, session,
                            week_start = 1) {
  first <- local_day(from, calendar$zone)
  last <- local_day(to, calendar$zone)
  if (is_intraday(interval)) {
    frames <- sessions_between(calendar, first - 1, last + 1, session)
    frames$bucket <- seq_len(nrow(frames))
    return(frames)
  }
  first_bucket <- bucket_of_day(first - 1, interval, week_start)
  frames <- sessions_between(
    calendar, bucket_start(first_bucket, interval, week_start),
    bucket_start(
      bucket_of_day(last + 1, interval, week_start) + 1, interval, week_start
    ) -
      1,
    session
  )
  frames$bucket <- bucket_of_day(frames$day, interval, week_start)
  frames
}

# Numbered buckets of days, weeks (from Monday or another weekday), months and
# years; buckets of several units count from 1970.
bucket_of_day <- function(day, interval, week_start = 1) {
  day <- as.Date(day)
  count <- interval$count
  at <- as.POSIXlt(day, tz = "UTC")
  units <- switch(interval$unit,
    day = as.numeric(day),
    week = floor((as.numeric(day) + 4 - week_start) / 7),
    month = (at$year - 70) * 12 + at$mon,
    year = at$year - 70
  )
  floor(units / count)
}

bucket_start <- function(bucket, interval, week_start = 1) {
  units <- bucket * interval$count
  day_zero <- as.Date("1970-01-01")
  switch(interval$unit,
    day = day_zero + units,
    week = day_zero + units * 7 - 4 + week_start,
    month = shift_day(day_zero, interval_of(1, "month"), units),
    year = shift_day(day_zero, interval_of(1, "month"), units * 12)
  )
}

# The session that a day without a session means: the regular one, or all where
# a calendar has none of that name.
main_session <- function(calendar) {
  if ("regular" %in% calendar$sessions$session) "regular"
}

# The session of each instant, NA outside all of them.
session_of <- function(time, calendar) {
  place <- find_sessions(time, calendar)
  c(NA_character_, place$session)[place$at + 1L]
}

# The session of each instant as its position in `session`, 0 outside all:
# list(at, session).
find_sessions <- function(time, calendar) {
  seconds <- as.numeric(time)
  if (!length(seconds) || (is.na(seconds[1]) && all(is.na(seconds)))) {
    return(list(at = integer(length(seconds)), session = character()))
  }
  known <- utc(ends_of(seconds))
  frames <- sessions_around(calendar, known[1], known[2])
  list(
    at = frames_find_cpp(
      seconds, as.numeric(frames$open), as.numeric(frames$close)
    ),
    session = frames$session
  )
}

# The instant of a day: its local midnight, or with a calendar the opening of
# its first regular session.
day_times <- function(day, zone, calendar) {
  if (is.null(calendar) || !length(day)) {
    return(local_instant(day, 0, zone))
  }
  sessions <- sessions_between(
    calendar, min(day), max(day), main_session(calendar)
  )
  opening <- sessions$open[match(day, sessions$day)]
  opening[is.na(opening)] <- time_local(
    day[is.na(opening)], calendar$sessions$start[1], calendar$zone
  )
  opening
}

# The trading day of each bar of a day or longer, whatever instant its source
# gives: the day of the session that contains the instant, else the local day.
# Where all instants are midnight UTC, they are dates.
trading_days <- function(time, calendar) {
  day <- rep(as.Date(NA), length(time))
  known <- which(is.finite(as.numeric(time)))
  if (!length(known)) {
    return(day)
  }
  at <- as.numeric(time)[known]
  frames <- sessions_around(calendar, utc(min(at)), utc(max(at)))
  if (all(at %% 86400 == 0) && !all(at %in% as.numeric(frames$open))) {
    day[known] <- as.Date(utc(at), tz = "UTC")
    return(day)
  }
  inside <- frames_find_cpp(
    at, as.numeric(frames$open), as.numeric(frames$close)
  )
  days <- local_day(utc(at), calendar$zone)
  days[inside > 0] <- frames$day[inside]
  day[known] <- days
  day
}

# The sessions of the days, weeks or months of bars, with the bucket of each
# bar; bars on closed days have none.
trading_buckets <- function(time, interval, calendar) {
  day <- trading_days(time, calendar)
  if (all(is.na(day))) {
    return(NULL)
  }
  bounds <- bucket_of_day(range(day, na.rm = TRUE), interval)
  frames <- sessions_between(
    calendar, bucket_start(bounds[1], interval),
    bucket_start(bounds[2] + 1, interval) - 1, main_session(calendar)
  )
  frames$bucket <- bucket_of_day(frames$day, interval)
  list(frames = frames, bucket = bucket_of_day(day, interval))
}

# The times at which the calendar's days, weeks or months of bars begin; bars on
# closed days keep their time.
trading_times <- function(time, interval, calendar) {
  buckets <- trading_buckets(time, interval, calendar)
  if (is.null(buckets)) {
    return(time)
  }
  first <- !duplicated(buckets$frames$bucket)
  opening <- as.numeric(
    buckets$frames$open[first]
  )[match(buckets$bucket, buckets$frames$bucket[first])]
  utc(ifelse(is.na(opening), as.numeric(time), opening))
}

# The instants at which the last sessions of those days, weeks or months end.
trading_ends <- function(time, interval, calendar, zone = calendar$zone) {
  buckets <- trading_buckets(time, interval, calendar)
  otherwise <- as.numeric(shift_instant(time, interval, 1, zone))
  if (is.null(buckets)) {
    return(otherwise)
  }
  last <- !duplicated(buckets$frames$bucket, fromLast = TRUE)
  closing <- as.numeric(
    buckets$frames$close[last]
  )[match(buckets$bucket, buckets$frames$bucket[last])]
  ifelse(is.na(closing), otherwise, closing)
}
