# Limits as windows: `n per w` holds when no stretch of length w has more than n calls. Each call takes a token, and the
# token comes back one window after it was taken: a bucket that never lets a window overrun, unlike one that refills evenly.
# A little is added to each window, because calls do not all travel equally fast.

window_margin <- function(seconds) min(seconds * 0.01, 0.25)

# Seconds until a call may be sent, given the times of the calls before it.
limit_wait <- function(times, limits, now) {
  waits <- vapply(limits, function(limit) {
    window <- limit$seconds + window_margin(limit$seconds)
    inside <- times[times > now - window]
    if (length(inside) < limit$count) {
      return(0)
    }
    sort(inside, decreasing = TRUE)[limit$count] + window - now
  }, 0)
  max(0, waits)
}

longest_window <- function(limits) max(0, vapply(limits, function(limit) limit$seconds + window_margin(limit$seconds), 0))

# The shortest time in which `calls` calls can be sent.
limit_least_seconds <- function(calls, limits) {
  max(0, vapply(limits, function(limit) floor(max(0, calls - 1) / limit$count) * limit$seconds, 0))
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
