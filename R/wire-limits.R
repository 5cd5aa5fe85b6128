# Limits as sliding windows: `n per w` holds when no interval of length w has
# more than n requests. Each request takes a token, which returns one window
# later; unlike an evenly refilled bucket this never exceeds a window. Each
# window is slightly extended, because requests travel unevenly: half of the
# shortest answer time is subtracted again (see limit_counter()), which bounds
# the error. Where requests count from when they are sent (`sent`), only the
# margin bounds it.

window_margin <- function(seconds, fastest = Inf, sent = FALSE) {
  if (sent) {
    return(min(0.03 * seconds, 0.25))
  }
  min(seconds * 0.005, 0.25, max(seconds * 0.001, 0.5 * fastest))
}

# A day's or month's quota counts from local midnight in the quota's zone.
quota_start <- function(limit, now) {
  day <- local_day(utc(now), limit$zone)
  if (limit$quota == "month") day <- as.Date(format(day, "%Y-%m-01"))
  as.numeric(time_local(day, 0, limit$zone))
}

quota_end <- function(limit, now) {
  day <- local_day(utc(now), limit$zone)
  after <- if (limit$quota == "month") {
    shift_day(as.Date(format(day, "%Y-%m-01")), interval_of(1, "month"))
  } else {
    day + 1
  }
  as.numeric(time_local(after, 0, limit$zone))
}

# What a request counts for: one, or its weight.
limit_cost <- function(limit, weight) if (isTRUE(limit$weighs)) weight else 1

# Seconds until a request may be sent, given the earlier ones: their `time` and
# `weight`. `sent` is whether these are the times at which they were sent.
limit_wait <- function(requests, limits, now, weight = 1, fastest = Inf,
                       sent = FALSE) {
  waits <- vapply(
    limits,
    function(limit) {
      window <- limit$seconds + window_margin(limit$seconds, fastest, sent)
      since <- if (is.null(limit$quota)) {
        now - window
      } else {
        quota_start(limit, now) - 1e-6
      }
      inside <- requests$time > since
      time <- requests$time[inside]
      weighs <- isTRUE(limit$weighs)
      cost <- if (weighs) requests$weight[inside] else rep(1, length(time))
      # this much must leave the window first
      over <- sum(cost) + (if (weighs) weight else 1) - limit$count
      if (over <= 0) {
        return(0)
      }
      if (!is.null(limit$quota)) {
        return(quota_end(limit, now) - now + 0.5)
      }
      oldest <- order(time)
      leaves <- which(cumsum(cost[oldest]) >= over)
      if (length(leaves)) time[oldest][leaves[1]] + window - now else window
    },
    0
  )
  max(0, waits)
}

# What each limit counts: requests of some seconds, or since an instant. With
# `early`, what it counts of now so many seconds later.
limit_windows <- function(limits, now, fastest = Inf, sent = FALSE, early = 0) {
  lapply(limits, function(limit) {
    window <- if (is.null(limit$quota)) {
      margin <- window_margin(limit$seconds, fastest, sent)
      list(seconds = limit$seconds + margin - early)
    } else {
      list(since = quota_start(limit, now) - 1e-6)
    }
    c(list(count = limit$count, weighs = isTRUE(limit$weighs)), window)
  })
}

longest_window <- function(limits) {
  max(0, vapply(limits, function(limit) limit$seconds + 0.25, 0))
}

# The least time in which `requests` requests can be sent, without quotas.
limit_least_seconds <- function(requests, limits, weight = 1) {
  windows <- Filter(function(limit) is.null(limit$quota), limits)
  max(
    0,
    vapply(
      windows,
      function(limit) {
        a_window <- max(1, floor(limit$count / limit_cost(limit, weight)))
        floor(max(0, requests - 1) / a_window) * limit$seconds
      },
      0
    )
  )
}

# The share of each quota that a number of requests takes, and the day on which
# it ends. `made` are earlier requests: a data frame of `time` and `weight`.
limit_quotas <- function(requests, limits, made, now, weight = 1) {
  rows <- lapply(
    Filter(function(limit) !is.null(limit$quota), limits),
    function(limit) {
      today <- made$time >= quota_start(limit, now)
      used <- if (isTRUE(limit$weighs)) sum(made$weight[today]) else sum(today)
      left <- max(0, limit$count - used)
      requests <- requests * limit_cost(limit, weight)
      later <- max(0, ceiling((requests - left) / limit$count))
      today <- local_day(utc(now), limit$zone)
      ends <- shift_day(
        if (limit$quota == "month" && later > 0) {
          as.Date(format(today, "%Y-%m-01"))
        } else {
          today
        },
        interval_of(1, limit$quota), later
      )
      data.frame(
        quota = limit$words,
        used = used,
        left = left,
        part = min(requests, left) / limit$count,
        ends = ends
      )
    }
  )
  do.call(rbind, rows)
}

# The wait that an answer asks for (RFC 9110, Retry-After), in seconds: a number
# or an HTTP date.
retry_after <- function(headers, now = as.numeric(Sys.time())) {
  value <- headers[["retry-after"]]
  if (is.null(value)) {
    return(NA_real_)
  }
  if (grepl("^[0-9]+$", value)) {
    return(as.numeric(value))
  }
  at <- tryCatch(
    as.numeric(curl::parse_date(value)),
    error = function(e) NA_real_
  )
  if (is.na(at)) NA_real_ else max(0, at - now)
}

# The wait by RateLimit headers in all forms: RateLimit-Remaining with
# RateLimit-Reset, and `RateLimit: remaining=0, reset=30` or `"x";r=0;t=30`.
# Zero while requests remain.
rate_limit_wait <- function(headers, now = as.numeric(Sys.time())) {
  if (!any(grepl("ratelimit", names(headers), fixed = TRUE))) {
    return(NA_real_)
  }
  number <- function(text, pattern) {
    parts <- regmatches(text, regexec(pattern, text))[[1]]
    if (length(parts)) as.numeric(parts[2]) else NA_real_
  }
  either <- function(name) {
    headers[[name]] %||% headers[[paste0("x-", name)]] %||% NA
  }
  remaining <- suppressWarnings(as.numeric(either("ratelimit-remaining")))
  reset <- reset_seconds(either("ratelimit-reset"), now)
  joined <- headers[["ratelimit"]]
  if (!is.null(joined)) {
    remaining <- number(joined, "(?:remaining|[; ]r) *= *([0-9]+)") %|na|%
      number(joined, "r=([0-9]+)")
    reset <- number(joined, "reset *= *([0-9]+)") %|na|%
      number(joined, "t=([0-9]+)")
  }
  if (isTRUE(remaining == 0) && isTRUE(reset > 0) && is.finite(reset)) {
    reset
  } else {
    NA_real_
  }
}

# When requests are allowed again: after some seconds; or at an instant, in
# seconds, milliseconds or finer since 1970, as ISO 8601 or an HTTP date.
reset_seconds <- function(text, now) {
  value <- suppressWarnings(as.numeric(text))
  if (!is.finite(value)) {
    at <- as.numeric(read_rfc3339(as.character(text)))
    if (is.na(at) && !is.na(text)) {
      at <- tryCatch(
        as.numeric(curl::parse_date(text)),
        error = function(e) NA_real_
      )
    }
    return(if (is.na(at)) NA_real_ else max(0, at - now))
  }
  while (value > 1e11) value <- value / 1000
  if (value > 1e9) max(0, value - now) else value
}

`%|na|%` <- function(x, y) if (is.na(x)) y else x
