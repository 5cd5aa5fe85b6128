# Preparation of resampling: the terms, and the buckets of a range.

resample_terms <- function(interval, calendar = NULL, session = "regular",
                           zone = "UTC", anchor = "opening", day_start = NULL,
                           week_start = "monday", stamp = "start", need = 0) {
  check_calendar(calendar)
  interval <- given(interval, "interval")
  by_session <- identical(interval, "session")
  interval <- time_interval(if (by_session) "1 day" else interval)
  check_choice(anchor, "anchor", c("opening", "clock"))
  check_choice(stamp, "stamp", c("start", "end"))
  check_sessions(session)
  week_start <- match(
    check_choice(week_start, "week_start", weekday_names), weekday_names
  )
  if (!is.numeric(need) ||
    length(need) != 1 ||
    is.na(need) ||
    need < 0 ||
    need > 1) {
    vetusta_stop(
      "argument", "`need` must be a share of the expected bars.",
      todo = "give a number from 0 to 1"
    )
  }
  if (by_session && is.null(calendar)) {
    vetusta_stop(
      "argument", "Bars are resampled by session with a calendar only.",
      todo = "give `calendar`"
    )
  }
  if (!is.null(calendar) && !is.null(day_start)) {
    vetusta_stop(
      "argument", "Days begin with the sessions of the calendar.",
      todo = "leave out `day_start` or `calendar`"
    )
  }
  stated <- !is.null(calendar) || !is.null(day_start)
  if (is.null(calendar)) {
    calendar <- day_calendar(zone, day_start)
    session <- NULL
  }
  list(
    interval = interval,
    by_session = by_session,
    calendar = calendar,
    session = session,
    step = if (is_intraday(interval)) interval$seconds else 0,
    on_clock = anchor == "clock",
    week_start = week_start,
    stamp = stamp,
    need = need,
    stated = stated
  )
}

# The calendar frames of a range with the bucket of each, and the time of each
# bucket. Within the day a bucket is a step of its frame (`step`), counted from
# the frame's opening; for longer intervals the frames with one number are one
# bucket.
resample_grid <- function(terms, first, last) {
  frames <- calendar_frames(
    terms$calendar, terms$interval, first, last, terms$session, terms$week_start
  )
  if (terms$by_session) frames$bucket <- seq_len(nrow(frames))
  on_clock <- terms$on_clock && terms$step > 0
  if (on_clock) {
    frames <- clock_frames(frames, terms$calendar$zone, terms$step)
  } else {
    frames$start <- frames$open
  }
  open <- as.numeric(frames$open)
  list(
    frames = frames,
    open = open,
    close = as.numeric(frames$close),
    time = (if (on_clock) frames$time else open)[
      match(frames$bucket, frames$bucket)
    ],
    step = if (on_clock) 0 else terms$step,
    on_clock = on_clock
  )
}

# A calendar of all hours of every day, from midnight or another local hour.
day_calendar <- function(zone, day_start = NULL) {
  if (is.null(day_start)) {
    return(calendar_make(list(calendar = "every day", zone = zone)))
  }
  if (!is.character(day_start) ||
    !grepl("^([01]?[0-9]|2[0-3]):[0-5][0-9]$", day_start)) {
    vetusta_stop(
      "argument", "`day_start` is not a time of the day.",
      todo = "write it as \"17:00\""
    )
  }
  calendar_make(
    list(
      calendar = "every day",
      zone = zone,
      sessions = list(day = paste0(day_start, "-", day_start))
    )
  )
}

# Frames cut where the local clock shows a whole number of steps since midnight.
# An edge within a skipped hour moves to the first instant after it. In a
# repeated hour, steps no longer than the clock change have an edge in both
# passes, longer steps in the first.
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
  days <- seq(
    local_day(utc(from), zone) - 1, local_day(utc(to), zone) + 1,
    by = 1
  )
  clock <- step * seq(0, ceiling(86400 / step) - 1)
  day <- rep(days, each = length(clock))
  at <- rep(clock, length(days))
  first <- as.numeric(time_local(day, at, zone, skipped = "next"))
  second <- as.numeric(
    time_local(day, at, zone, skipped = "next", twice = "second")
  )
  sort(unique(c(first, second[second > first & step <= second - first])))
}

# The number of bars that the calendar expects in each bucket.
expected_bars <- function(rows, grid, base) {
  if (is.null(base)) {
    return(rep(NA_integer_, length(rows$time)))
  }
  frames <- grid$frames
  bucket <- frames$bucket[rows$frame]
  if (!is_intraday(base)) {
    # the number of days, weeks or months that the calendar has in it
    parts <- unique(
      data.frame(bucket = frames$bucket, part = bucket_of_day(frames$day, base))
    )
    counts <- table(factor(parts$bucket, unique(parts$bucket)))
    return(as.integer(counts[match(bucket, unique(parts$bucket))]))
  }
  open <- grid$open
  close <- grid$close
  if (grid$step > 0) {
    at <- rows$frame
    ends <- pmin(bucket_ends(rows, grid), close[at])
    return(
      as.integer(
        ceiling((ends - open[at]) / base$seconds) -
          ceiling((rows$time - open[at]) / base$seconds)
      )
    )
  }
  start <- as.numeric(frames$start)
  by_bucket <- rowsum(
    ceiling((close - start) / base$seconds) -
      ceiling((open - start) / base$seconds),
    frames$bucket,
    reorder = FALSE
  )
  as.integer(by_bucket[match(bucket, unique(frames$bucket)), 1])
}

# The first instant after each bucket.
bucket_ends <- function(rows, grid) {
  frames <- grid$frames
  if (grid$on_clock) {
    frames$until[rows$frame]
  } else if (grid$step > 0) {
    pmin(rows$time + grid$step, grid$close[rows$frame])
  } else {
    grid$close[
      length(grid$close) + 1 - match(frames$bucket, rev(frames$bucket))
    ][rows$frame]
  }
}

# The sessions of each frame's bucket.
bucket_sessions <- function(grid) {
  frames <- grid$frames
  if (grid$step > 0) {
    return(frames$session)
  }
  names <- vapply(
    split(frames$session, frames$bucket),
    function(x) paste(unique(x), collapse = "+"), ""
  )
  unname(names[as.character(frames$bucket)])
}
