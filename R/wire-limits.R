# Limits as sliding windows: `n per w` holds when no interval of length w has
# more than n requests. Each request takes a token, which returns one window
# later; unlike an evenly refilled bucket this never exceeds a window. Each
# window is slightly extended, because requests travel unevenly: half of the
# shortest answer time is subtracted again (see limit_counter()), which bounds
# the error. Where requests count from when they are sent (`sent`), only the
# margin bounds it.

window_margin <- function(seconds, fastest = Inf, sent = FALSE) {
  if (sent) {
    return(min(max(0.05 * seconds, 0.03), 0.25))
  }
  min(seconds * 0.005, 0.25, max(seconds * 0.001, 0.5 * fastest))
}

# The length of a limit's window from the sending of a request, which counts as
# made `shift` after it.
window_seconds <- function(limit, fastest, shift) {
  shift <- shift(limit$seconds)
  limit$seconds + window_margin(limit$seconds, fastest, shift > 0) - shift
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
# `weight`. `shift` is how long after it is sent it counts as made.
limit_wait <- function(requests, limits, now, weight = 1, fastest = Inf,
                       shift = no_shift) {
  waits <- vapply(
    limits,
    function(limit) {
      window <- window_seconds(limit, fastest, shift)
      since <- if (is.null(limit$quota)) {
        now - window
      } else {
        quota_start(limit, now) - 1e-6
      }
      inside <- requests$time > since
      time <- requests$time[inside]
      cost <- if (isTRUE(limit$weighs)) {
        requests$weight[inside]
      } else {
        rep(1, length(time))
      }
      # this much must leave the window first
      over <- sum(cost) + limit_cost(limit, weight) - limit$count
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

no_shift <- function(window) 0

# What each limit counts: requests of some seconds, or since an instant.
limit_windows <- function(limits, now, fastest = Inf, shift = no_shift) {
  lapply(limits, function(limit) {
    window <- if (is.null(limit$quota)) {
      list(seconds = window_seconds(limit, fastest, shift))
    } else {
      list(since = quota_start(limit, now) - 1e-6)
    }
    c(list(count = limit$count, weighs = isTRUE(limit$weighs)), window)
  })
}

longest_window <- function(limits) {
  max(
    0,
    vapply(
      limits, function(limit) limit$seconds + window_margin(limit$seconds), 0
    )
  )
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

# Counts requests of a source: in memory, or by `book` in an archive, for all
# its processes and by its clock. `take()` returns the seconds to wait, or 0
# with the request's token in the attribute `token`; `answered()` records that a
# request has ended, and the time from the request to the first byte of its
# answer.
#
# The service counts a request at some moment between sending and answer. A
# request in flight counts as made a moment from now, and an answered one as
# made when the answer came, so that no window is exceeded however unevenly
# requests travel. This wastes, of each window, the least travel time before
# counting of the next request and after counting of this one. Where that is
# more than an eighth of a window, half the shortest answer time is subtracted
# again once there are enough answers: the first ones are slow, because
# connections are opened.
#
# Where even the shortest answer takes half a second and a quarter of a window,
# waiting for each answer would waste much of the limit. Then every request,
# also the next one, counts as made half of that time after it was sent; one
# that takes half as long again is late, and counts as made now until it is
# answered.
#
# The book is asked only when a token is possible. Its requests are known to
# have been made at an instant or later, since one in flight may be answered
# now, and others may have come. So no token exists before the wait that these
# requests cause, which is computed here.
limit_counter <- function(limits, book = limit_memory(), weight = 1) {
  travel <- travel_times(book$travel, limits)
  taken <- 0
  known <- no_requests_known
  # own requests in flight, and when each was sent
  flying <- list(id = numeric(), sent = numeric())
  paced <- Filter(function(limit) is.null(limit$quota), limits)
  # no token exists between these instants
  none_from <- none_until <- -Inf
  none_for <- function(wait, here) {
    none_from <<- here
    none_until <<- here + wait
    wait
  }
  least_wait <- function(by, now) {
    time <- if (travel$is_long()) known$time else pmin(known$time, now)
    limit_wait(
      list(time = time, weight = known$weight), by, now, weight,
      travel$fastest(), travel$shift
    )
  }
  late <- function(here) {
    if (!travel$is_long()) {
      return(invisible())
    }
    for (id in flying$id[flying$sent + 1.5 * travel$fastest() + 0.1 < here]) {
      now <- book$now()
      book$made(id, now + limit_under_way)
      known$time[known$id == id] <<- now + limit_under_way
      # looked at again before it could leave a window
      flying$sent[flying$id == id] <<- here - 1.5 * travel$fastest() + 0.9
    }
  }
  list(
    take = function() {
      if (!length(limits)) {
        return(0)
      }
      here <- as.numeric(Sys.time())
      late(here)
      if (here >= none_from && here < none_until) {
        return(none_until - here)
      }
      travel$read(here)
      granted <- book$take(
        limit_windows(limits, book$now(), travel$fastest(), travel$shift),
        if (travel$is_long()) 0.5 * travel$fastest() else limit_under_way,
        weight
      )
      now <- book$now()
      if (!is.null(granted$id)) {
        taken <<- taken + 1
        known <<- list(
          id = c(known$id, granted$id),
          time = c(
            known$time,
            now + if (travel$is_long()) 0.5 * travel$fastest() else 0
          ),
          weight = c(known$weight, weight)
        )
        flying <<- list(
          id = c(flying$id, granted$id), sent = c(flying$sent, here)
        )
        # removes requests that no window counts, now and then
        if (taken %% 100 == 0) {
          before <- now - longest_window(limits) - 60
          book$forget(before)
          known <<- lapply(known, `[`, known$time > before)
        }
        none_for(least_wait(paced, now), here)
        return(structure(0, token = granted$id))
      }
      requests <- book$requests(now - longest_window(limits))
      known <<- list(
        id = requests$id,
        time = if (travel$is_long()) {
          requests$time
        } else {
          pmin(requests$time, now)
        },
        weight = requests$weight
      )
      wait <- max(0.001, least_wait(limits, now))
      # answers of others may tell soon that requests count when they are sent
      if (travel$is_open() && any(requests$time > now)) wait <- min(wait, 0.2)
      none_for(wait, here)
    },
    counts_sent = function() travel$is_long(),
    # a busy process sends a request some time after it took its token
    sent = function(token) {
      here <- as.numeric(Sys.time())
      if (any(flying$sent[flying$id == token] < here - 0.005)) {
        made <- book$now() + 0.5 * travel$fastest()
        book$made(token, made)
        known$time[known$id == token] <<- made
        flying$sent[flying$id == token] <<- here
        none_for(least_wait(paced, book$now()), here)
      }
    },
    answered = function(token, seconds = NULL) {
      if (is.null(token)) {
        return(invisible())
      }
      if (!is.null(seconds)) travel$add(seconds)
      flying <<- lapply(flying, `[`, flying$id != token)
      made <- book$now() - travel$back()
      book$made(token, made)
      known$time[known$id == token] <<- made
      here <- as.numeric(Sys.time())
      if (here < none_until) none_for(least_wait(limits, book$now()), here)
    }
  )
}

# The shortest answer time of a source, of all collectors that share its limits
# (`shared` reads and writes what they know), once there are enough answers.
travel_times <- function(shared, limits) {
  shared <- shared %||% function(...) NULL
  own <- all <- list(fastest = Inf, answers = 0)
  read <- -Inf
  seconds <- min(Inf, unlist(lapply(limits, `[[`, "seconds")))
  # a window full of answers, or ten
  least <- min(
    limit_answers, max(4, min(Inf, unlist(lapply(limits, `[[`, "count"))))
  )
  merged <- function(others) {
    list(
      fastest = min(own$fastest, others$fastest),
      answers = max(own$answers, others$answers)
    )
  }
  fastest <- function() if (all$answers < least) Inf else all$fastest
  is_short <- function(window) {
    is.finite(fastest()) && fastest() > max(0.25 * window, limit_slow)
  }
  list(
    fastest = fastest,
    is_long = function() is_short(seconds),
    # how long before its answer a request counts as made
    back = function() {
      known <- all$answers >= limit_answers || is_short(seconds)
      gains <- known && all$fastest > 0.12 * seconds
      if (gains) 0.5 * all$fastest else 0
    },
    # how long after it is sent a request counts as made, for a window
    shift = function(window) if (is_short(window)) 0.5 * fastest() else 0,
    # whether there are not enough answers yet
    is_open = function() all$answers < least,
    # what others know, at most once a second
    read = function(here) {
      if (here > read + (if (all$answers < least) 0.1 else 1)) {
        read <<- here
        all <<- merged(shared())
      }
    },
    add = function(waited) {
      faster <- waited < 0.95 * all$fastest
      own <<- list(
        fastest = min(own$fastest, waited), answers = own$answers + 1
      )
      # of fast answers nobody needs to know
      told <- all$answers < least || faster
      slow <- own$fastest > max(0.25 * seconds, limit_slow)
      all <<- merged(if (told && slow) shared(unlist(own)) else all)
    }
  )
}

no_requests_known <- list(id = numeric(), time = numeric(), weight = numeric())

no_requests_made <- data.frame(time = numeric(), weight = numeric())

limit_under_way <- 2
limit_answers <- 10
limit_slow <- 0.5

# The book of one process. Requests that no window counts are removed, so that
# it stays as small as the windows.
limit_memory <- function() {
  times <- numeric()
  weights <- numeric()
  ids <- numeric()
  last <- 0
  list(
    now = function() as.numeric(Sys.time()),
    take = function(windows, under_way, weight = 1) {
      now <- as.numeric(Sys.time())
      room <- vapply(
        windows,
        function(window) {
          inside <- times > (window$since %||% (now - window$seconds))
          taken <- if (window$weighs) {
            sum(weights[inside]) + weight
          } else {
            sum(inside) + 1
          }
          taken <= window$count
        },
        TRUE
      )
      if (!all(room)) {
        return(list())
      }
      last <<- last + 1
      times <<- c(times, now + under_way)
      weights <<- c(weights, weight)
      ids <<- c(ids, last)
      list(id = last)
    },
    made = function(id, at) times[ids == id] <<- at,
    requests = function(since) {
      inside <- times > since
      data.frame(
        id = ids[inside], time = times[inside], weight = weights[inside]
      )
    },
    forget = function(before) {
      keep <- times > before
      times <<- times[keep]
      weights <<- weights[keep]
      ids <<- ids[keep]
    }
  )
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
