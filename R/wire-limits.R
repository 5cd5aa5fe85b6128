# Limits as windows: `n per w` holds when no stretch of length w has more than n calls. Each call takes a token, and the
# token comes back one window after it was taken: a bucket that never lets a window overrun, unlike one that refills evenly.
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
  after <- if (limit$quota == "month") shift_day(as.Date(format(day, "%Y-%m-01")), interval_of(1, "month")) else day + 1
  as.numeric(time_local(after, 0, limit$zone))
}

# Seconds until a call may be sent, given the times of the calls before it.
limit_wait <- function(times, limits, now) {
  waits <- vapply(limits, function(limit) {
    window <- limit$seconds + window_margin(limit$seconds)
    inside <- if (is.null(limit$quota)) times[times > now - window] else times[times >= quota_start(limit, now)]
    if (length(inside) < limit$count) {
      return(0)
    }
    if (is.null(limit$quota)) sort(inside, decreasing = TRUE)[limit$count] + window - now else quota_end(limit, now) - now + 0.5
  }, 0)
  max(0, waits)
}

# The instant after which calls count, for each limit.
limit_windows <- function(limits, now) {
  since <- vapply(limits, function(limit) {
    if (is.null(limit$quota)) now - limit$seconds - window_margin(limit$seconds) else quota_start(limit, now) - 1e-6
  }, 0)
  list(since = since, count = vapply(limits, `[[`, 0, "count"))
}

longest_window <- function(limits) max(0, vapply(limits, function(limit) limit$seconds + window_margin(limit$seconds), 0))

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
    ends <- shift_day(if (limit$quota == "month" && later > 0) as.Date(format(today, "%Y-%m-01")) else today, interval_of(1, limit$quota), later)
    data.frame(quota = limit$words, used = used, left = left, share = min(calls, left) / limit$count, ends = ends)
  })
  do.call(rbind, rows)
}

# A gate without an archive: the tokens are kept in memory, for as long as the gate is.
limits_gate <- function(limits) {
  times <- numeric()
  function(now = as.numeric(Sys.time())) {
    wait <- limit_wait(times, limits, now)
    if (wait == 0) times <<- c(times[times > now - longest_window(limits)], now)
    wait
  }
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

# Seconds to wait by the RateLimit headers in their forms: RateLimit-Remaining with RateLimit-Reset, and
# `RateLimit: remaining=0, reset=30` or `"x";r=0;t=30`. Nothing while calls remain.
rate_limit_wait <- function(headers) {
  number <- function(text, pattern) {
    found <- regmatches(text, regexec(pattern, text))[[1]]
    if (length(found)) as.numeric(found[2]) else NA_real_
  }
  either <- function(name) suppressWarnings(as.numeric(headers[[name]] %||% headers[[paste0("x-", name)]] %||% NA))
  remaining <- either("ratelimit-remaining")
  reset <- either("ratelimit-reset")
  # some write the moment and not the seconds until then
  if (isTRUE(reset > 1e9)) reset <- max(0, reset - as.numeric(Sys.time()))
  joined <- headers[["ratelimit"]]
  if (!is.null(joined)) {
    remaining <- number(joined, "(?:remaining|[; ]r) *= *([0-9]+)") %|na|% number(joined, "r=([0-9]+)")
    reset <- number(joined, "reset *= *([0-9]+)") %|na|% number(joined, "t=([0-9]+)")
  }
  if (isTRUE(remaining == 0) && isTRUE(reset > 0)) reset else NA_real_
}

`%|na|%` <- function(x, y) if (is.na(x)) y else x
