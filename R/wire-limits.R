# Limits as windows: `n per w` holds when no stretch of length w has more than n calls. Each call
# takes a token, and the
# token comes back one window after it was taken: a bucket that never lets a window overrun, unlike
# one that refills evenly.
# A little is added to each window, because calls do not all travel equally fast.

window_margin <- function(seconds) min(seconds * 0.005, 0.25)

# A day's or a month's quota is counted from the quota's own local midnight.
quota_start <- function(limit, now) {
  day <- local_day(utc(now), limit$zone)
  if (limit$quota == "month") day <- as.Date(format(day, "%Y-%m-01"))
  as.numeric(time_local(day, 0, limit$zone))
}

quota_end <- function(limit, now) {
  day <- local_day(utc(now), limit$zone)
  after <- if (limit$quota == "month") shift_day(as.Date(format(day, "%Y-%m-01")),
    interval_of(1, "month")) else day + 1
  as.numeric(time_local(after, 0, limit$zone))
}

# Seconds until a call may be sent, given the times of the calls before it.
limit_wait <- function(times, limits, now) {
  waits <- vapply(limits, function(limit) {
    window <- limit$seconds + window_margin(limit$seconds)
    inside <- if (is.null(limit$quota)) times[times > now - window]
    else times[times >= quota_start(limit, now)]
    if (length(inside) < limit$count) {
      return(0)
    }
    if (is.null(limit$quota)) sort(inside, decreasing = TRUE)[limit$count] + window - now
    else quota_end(limit, now) - now + 0.5
  }, 0)
  max(0, waits)
}

# What counts, for each limit: calls for so many seconds, or since an instant.
limit_windows <- function(limits, now) {
  lapply(limits, function(limit) {
    if (is.null(limit$quota)) list(count = limit$count,
      seconds = limit$seconds + window_margin(limit$seconds))
      else list(count = limit$count, since = quota_start(limit, now) - 1e-6)
  })
}

longest_window <- function(limits) {
  max(0,
  vapply(limits, function(limit) limit$seconds + window_margin(limit$seconds), 0))
}

# The shortest time in which `calls` calls can be sent, quotas aside.
limit_least_seconds <- function(calls, limits) {
  windows <- Filter(function(limit) is.null(limit$quota), limits)
  max(0, vapply(windows, function(limit) floor(max(0, calls - 1) / limit$count) * limit$seconds, 0))
}

# How much of each quota a number of calls takes, and the day on which it would end.
limit_quotas <- function(calls, limits, times, now) {
  rows <- lapply(Filter(function(limit) !is.null(limit$quota), limits), function(limit) {
    used <- sum(times >= quota_start(limit, now))
    left <- max(0, limit$count - used)
    later <- max(0, ceiling((calls - left) / limit$count))
    today <- local_day(utc(now), limit$zone)
    ends <- shift_day(if (limit$quota == "month" && later > 0) as.Date(format(today, "%Y-%m-01"))
    else today, interval_of(1, limit$quota), later)
    data.frame(quota = limit$words, used = used, left = left, part = min(calls, left) / limit$count,
      ends = ends)
  })
  do.call(rbind, rows)
}

# Where calls of a source are counted: in memory, or by `book`, in an archive for all processes on
# it. `take()` gives the seconds to wait, or 0 and the call's token
# in the attribute `token`; `answered()` is told that a call has ended, and how long the service
# took from the request to the first byte of its answer, if one came.
#
# The service counts a call somewhere between its sending and its answer. As long as it is under
# way it counts as made a moment from now, and once it is answered as made when the
# answer came: so that no window overruns, however unevenly calls travel. Of a window, what the
# next call takes at least to be counted and this one took at least after it was is lost
# by that. Half the shortest answer is given back, once there were enough to know it: the first
# ones are slow, with a connection to be made and a service that wakes up.
limit_counter <- function(limits, book = limit_memory()) {
  fastest <- Inf
  answers <- 0
  taken <- 0
  list(
    take = function() {
      if (!length(limits)) {
        return(0)
      }
      found <- book$take(limit_windows(limits, as.numeric(Sys.time())), limit_under_way)
      if (!is.null(found$id)) {
        taken <<- taken + 1
        # what no window counts any more goes now and then
        if (taken %% 100 == 0) book$forget(as.numeric(Sys.time()) - longest_window(limits) - 60)
        return(structure(0, token = found$id))
      }
      now <- as.numeric(Sys.time())
      times <- book$times(now - longest_window(limits))
      wait <- max(0.001, limit_wait(times, limits, now))
      # a call that is under way may be answered at any moment
      if (any(times > now)) min(wait, 0.05) else wait
    },
    answered = function(token, seconds = NULL) {
      if (!is.null(token)) {
        if (!is.null(seconds)) {
          fastest <<- min(fastest, seconds)
          answers <<- answers + 1
        }
        book$made(token, as.numeric(Sys.time()) - if (answers < limit_answers) 0 else 0.5 * fastest)
      }
    }
  )
}

limit_under_way <- 2
limit_answers <- 10

limit_memory <- function() {
  times <- numeric()
  list(
    take = function(windows, under_way) {
      now <- as.numeric(Sys.time())
      room <- vapply(windows,
        function(window) sum(times > (window$since %||% (now - window$seconds))) < window$count,
        TRUE)
      if (!all(room)) {
        return(list())
      }
      times <<- c(times, now + under_way)
      list(id = length(times))
    },
    made = function(id, at) times[id] <<- at,
    times = function(since) times[times > since],
    forget = function(before) NULL
  )
}

# Seconds that an answer asks to wait (RFC 9110, Retry-After): a number of seconds or an HTTP date.
retry_after <- function(headers, now = as.numeric(Sys.time())) {
  value <- headers[["retry-after"]]
  if (is.null(value)) {
    return(NA_real_)
  }
  if (grepl("^[0-9]+$", value)) {
    return(as.numeric(value))
  }
  at <- tryCatch(as.numeric(curl::parse_date(value)), error = function(e) NA_real_)
  if (is.na(at)) NA_real_ else max(0, at - now)
}

# Seconds to wait by the RateLimit headers in their forms: RateLimit-Remaining with
# RateLimit-Reset, and
# `RateLimit: remaining=0, reset=30` or `"x";r=0;t=30`. Nothing while calls remain.
rate_limit_wait <- function(headers, now = as.numeric(Sys.time())) {
  number <- function(text, pattern) {
    found <- regmatches(text, regexec(pattern, text))[[1]]
    if (length(found)) as.numeric(found[2]) else NA_real_
  }
  either <- function(name) headers[[name]] %||% headers[[paste0("x-", name)]] %||% NA
  remaining <- suppressWarnings(as.numeric(either("ratelimit-remaining")))
  reset <- reset_seconds(either("ratelimit-reset"), now)
  joined <- headers[["ratelimit"]]
  if (!is.null(joined)) {
    remaining <- number(joined, "(?:remaining|[; ]r) *= *([0-9]+)") %|na|%
      number(joined, "r=([0-9]+)")
    reset <- number(joined, "reset *= *([0-9]+)") %|na|% number(joined, "t=([0-9]+)")
  }
  if (isTRUE(remaining == 0) && isTRUE(reset > 0)) reset else NA_real_
}

# When calls are allowed again: in so many seconds; or at a moment, in seconds, milliseconds or
# finer since 1970, as an ISO 8601 instant or an HTTP date.
reset_seconds <- function(text, now) {
  value <- suppressWarnings(as.numeric(text))
  if (is.na(value)) {
    at <- as.numeric(read_rfc3339(as.character(text)))
    if (is.na(at) && !is.na(text)) {
      at <- tryCatch(as.numeric(curl::parse_date(text)), error = function(e) NA_real_)
    }
    return(if (is.na(at)) NA_real_ else max(0, at - now))
  }
  while (value > 1e11) value <- value / 1000
  if (value > 1e9) max(0, value - now) else value
}

`%|na|%` <- function(x, y) if (is.na(x)) y else x
