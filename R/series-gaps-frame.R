# The expected times of a series.

# The expected times, the times of values among them (`time`), and the end and
# the day of each. Values of days and longer belong to trading days, whatever
# instant they have. `shift` is the offset of each series' times from the
# expected ones. `facts` come from frame_facts().
gaps_frame <- function(x, plain, facts, from, to, session) {
  UseMethod("gaps_frame")
}

#' @export
gaps_frame.vetusta_observations <- function(x, plain, facts, from, to,
                                            session) {
  gaps_periods(plain, facts$calendar, facts$zone, from, to)
}

#' @export
gaps_frame.default <- function(x, plain, facts, from, to, session) {
  calendar <- facts$calendar
  no_calendar <- is.null(calendar)
  if (no_calendar) session <- NULL
  name <- if (no_calendar) "every day" else calendar$name
  calendar <- calendar %||%
    calendar_make(list(calendar = "every day", zone = facts$zone))
  interval <- gaps_interval(plain, facts$interval)
  lattice <- if (no_calendar) {
    observed_lattice(
      plain, interval, gaps_window(plain, from, to, calendar), facts$zone
    )
  }
  place <- if (!is.null(lattice)) {
    lattice$place
  } else if (is_intraday(interval)) {
    function(time, series) time
  } else {
    function(time, series) {
      as.numeric(trading_times(utc(time), interval, calendar))
    }
  }
  placed <- place(plain$time, plain$series)
  window <- if (is.null(lattice)) {
    gaps_window(list(time = placed), from, to, calendar)
  }
  expected <- lattice$expected %||%
    as.numeric(
      calendar_times(calendar, interval, window$from, window$to, session)
    )
  open <- if (no_calendar) seen_weekdays(placed, interval, facts$zone)
  if (!is.null(open)) {
    expected <- expected[
      weekday_of(as.numeric(local_day(utc(expected), facts$zone))) %in% open
    ]
    name <- "weekdays"
  }
  list(
    expected = expected, time = placed, place = place, shift = lattice$shift,
    interval = interval, intraday = is_intraday(interval), iso = interval$iso,
    calendar = name, zone = facts$zone
  )
}

# The weekdays of daily values, where three weeks or more have none on weekends,
# because the source is closed then. NULL where all days count.
seen_weekdays <- function(time, interval, zone) {
  if (interval$iso != "P1D" ||
    length(time) < 11 ||
    diff(range(time)) < 21 * 86400) {
    return(NULL)
  }
  day <- weekday_of(as.numeric(local_day(utc(time), zone)))
  if (!any(day > 5)) 1:5
}

gaps_periods <- function(plain, calendar, zone, from, to) {
  if (length(plain$frequency) != 1) {
    vetusta_stop(
      "argument",
      "All series must have the same frequency.",
      todo = paste0("choose one of: ", paste(plain$frequency, collapse = ", "))
    )
  }
  window <- gaps_window(plain, from, to, list(zone = "UTC"))
  first <- as.Date(window$from, tz = "UTC")
  last <- as.Date(window$to - 1, tz = "UTC")
  if (!is.null(calendar)) check_covers(calendar, window$from, window$to)
  name <- calendar$name %||% "every day"
  days <- epoch_days(plain$time / 86400)
  daily <- plain$frequency == "D"
  day <- if (daily && !is.null(calendar)) {
    calendar_days(calendar, first, last)
  } else if (length(days) &&
    any(off_calendar(days, rep(plain$frequency, length(days))))) {
    period_steps(first, last, plain$frequency, days)
  }
  if (is.null(day)) {
    day <- if (startsWith(plain$frequency, "P")) {
      step_days(first, time_interval(plain$frequency), 0)
    } else {
      period_sequence(first, last, plain$frequency)
    }
  }
  open <- if (daily && is.null(calendar)) {
    seen_weekdays(plain$time, time_interval("1 day"), "UTC")
  }
  if (!is.null(open)) {
    day <- day[weekday_of(as.numeric(day)) %in% open]
    name <- "weekdays"
  }
  list(
    expected = as.numeric(day) * 86400,
    time = plain$time,
    place = function(time, series) time,
    frequency = plain$frequency,
    intraday = FALSE,
    iso = plain$frequency,
    calendar = name,
    zone = zone
  )
}

gaps_interval <- function(plain, interval) {
  if (!is.null(interval)) {
    return(time_interval(interval))
  }
  guess_interval(plain$time, text_groups(plain$series)$id) %||%
    vetusta_stop(
      "argument", "The interval cannot be read from fewer than two values.",
      todo = "give `interval`, such as \"1 minute\""
    )
}

# Without a calendar the times of the values show where the expected ones lie, a
# Friday or a quarter past the hour, for each series: list(expected, shift,
# place). NULL where the times of a series disagree.
observed_lattice <- function(plain, interval, window, zone) {
  step <- interval$seconds
  if (is.na(step) || !length(plain$time)) {
    return(NULL)
  }
  # days keep their local hour
  within <- is_intraday(interval)
  clock <- function(time) if (within) time else time + zone_offset(time, zone)
  back <- function(time) {
    if (within) {
      return(time)
    }
    as.numeric(
      time_local(
        epoch_days(floor(time / 86400)), time %% 86400, zone,
        skipped = "next"
      )
    )
  }
  time <- clock(plain$time)
  from <- clock(as.numeric(window$from))
  to <- clock(as.numeric(window$to))
  first <- !duplicated(plain$series)
  phase <- stats::setNames(time[first] %% step, plain$series[first])
  off <- time %% step - phase[plain$series]
  if (any(abs(off) > 1e-6)) {
    return(NULL)
  }
  regular <- length(unique(phase)) == 1
  base <- if (regular) phase[[1]] else 0
  start <- ceiling((from - base) / step - 1e-9) * step + base
  if (!regular) start <- floor((from - base) / step) * step + base
  # each of several series has its own times within a step; a step counts if it
  # begins in the window
  expected <- if (start < to) {
    seq(start, to - step * 1e-9, by = step)
  } else {
    numeric()
  }
  if (!regular) {
    expected <- expected[
      expected + max(phase) >= from & expected + min(phase) < to
    ]
  }
  shift <- if (!regular) phase - base
  list(
    expected = back(expected),
    shift = shift,
    place = function(time, series) {
      back(clock(time) - (if (is.null(shift)) 0 else unname(shift[series])))
    }
  )
}

gaps_window <- function(plain, from, to, calendar) {
  if ((is.null(from) || is.null(to)) && !length(plain$time)) {
    vetusta_stop(
      "argument", "There are no values to take the window from.",
      todo = "give `from` and `to`"
    )
  }
  given <- list(from = from, to = to)
  from <- if (is.null(from)) {
    utc(min(plain$time))
  } else {
    time_instant(from, calendar$zone, name = "from")
  }
  to <- if (is.null(to)) {
    utc(max(plain$time) + 1)
  } else {
    time_instant(to, calendar$zone, end = TRUE, name = "to")
  }
  if (to <= from && is.null(given$to)) {
    vetusta_stop(
      "argument",
      paste0(
        "`from` is after the last value, ", format_instant(max(plain$time)), "."
      ),
      todo = "choose an earlier `from`, or give `to` too"
    )
  }
  if (to <= from && is.null(given$from)) {
    vetusta_stop(
      "argument",
      paste0(
        "`to` is before the first value, ", format_instant(min(plain$time)), "."
      ),
      todo = "choose a later `to`, or give `from` too"
    )
  }
  if (to <= from) {
    vetusta_stop(
      "argument",
      "The window ends before it begins.",
      where = paste(format_instant(from), "to", format_instant(to)),
      todo = "swap `from` and `to`"
    )
  }
  list(from = from, to = to)
}
