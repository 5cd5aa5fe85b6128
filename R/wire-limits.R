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

window_seconds <- function(limit, fastest, sent) {
  limit$seconds + window_margin(limit$seconds, fastest, sent)
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
      window <- window_seconds(limit, fastest, sent)
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

# What each limit counts: requests of some seconds, or since an instant.
limit_windows <- function(limits, now, fastest = Inf, sent = FALSE) {
  lapply(limits, function(limit) {
    window <- if (is.null(limit$quota)) {
      list(seconds = window_seconds(limit, fastest, sent))
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
# waiting for each answer would waste much of the limit. Then all requests count
# as made when they are sent, since all take about the same time from there to
# where they are counted: until it is known that a request has left, which takes
# a moment on a new connection, a moment from now; then from when it left. One
# that takes half as long again as the shortest is late, and counts as made now
# until it is answered.
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
  # whether requests counted from when they were sent at the last look; those
  # answered before, with the latest time at which they can have been sent
  by_sent <- FALSE
  first <- list(id = numeric(), made = numeric())
  paced <- Filter(function(limit) is.null(limit$quota), limits)
  # no token exists between these instants
  none_from <- none_until <- -Inf
  none_for <- function(wait, here) {
    none_from <<- here
    none_until <<- here + wait
    wait
  }
  least_wait <- function(by, now) {
    time <- if (by_sent) known$time else pmin(known$time, now)
    limit_wait(
      list(time = time, weight = known$weight), by, now, weight,
      travel$fastest(), by_sent
    )
  }
  # after the first requests others may tell that the source is slow
  soon <- function(wait, now) {
    if (travel$is_open() && any(known$time > now - 1)) min(wait, 0.05) else wait
  }
  read_known <- function(by, now) {
    requests <- book$requests(now - longest_window(by))
    known <<- list(
      id = requests$id,
      time = if (by_sent) requests$time else pmin(requests$time, now),
      weight = requests$weight
    )
  }
  mark <- function(id, made) {
    book$made(id, made)
    known$time[known$id == id] <<- made
  }
  # what a request counts as changes where its source is found to be slow, or
  # no longer
  look <- function(here) {
    if (travel$is_long() == by_sent) {
      return(invisible())
    }
    by_sent <<- !by_sent
    # those in flight may still wait for a connection, or be counted now
    made <- book$now() + limit_under_way
    for (id in flying$id) mark(id, made)
    flying$sent[] <<- here
    if (by_sent) {
      for (i in seq_along(first$id)) mark(first$id[i], first$made[i])
      # others with earlier requests under way are given time to do the same
      now <- book$now()
      others <- book$requests(now)
      others <- others$id[others$time < now + limit_under_way - 0.1]
      none_for(if (length(setdiff(others, flying$id))) 0.2 else 0, here)
    }
    first <<- list(id = numeric(), made = numeric())
  }
  late <- function(here) {
    if (!by_sent) {
      return(invisible())
    }
    for (id in flying$id[flying$sent + 1.5 * travel$fastest() + 0.1 < here]) {
      mark(id, book$now() + 1)
      # looked at again before that
      flying$sent[flying$id == id] <<- here - 1.5 * travel$fastest() + 0.8
    }
  }
  list(
    take = function() {
      if (!length(limits)) {
        return(0)
      }
      here <- as.numeric(Sys.time())
      if (travel$is_open()) travel$read(here)
      look(here)
      late(here)
      if (here >= none_from && here < none_until) {
        return(soon(none_until - here, book$now()))
      }
      travel$read(here)
      look(here)
      granted <- book$take(
        limit_windows(limits, book$now(), travel$fastest(), by_sent),
        limit_under_way, weight
      )
      now <- book$now()
      # a token that took long, because a disk or a process stood still, may no
      # longer count when its request is sent
      spent <- as.numeric(Sys.time()) - here
      if (!is.null(granted$id) && spent > 0.5 * limit_under_way) {
        return(none_for(0.001, here))
      }
      if (!is.null(granted$id)) {
        taken <<- taken + 1
        known <<- list(
          id = c(known$id, granted$id),
          time = c(known$time, now),
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
      # a quota's requests, which may be many, are read where nothing else
      # explains the refusal
      read_known(paced, now)
      wait <- least_wait(paced, now)
      if (wait <= 0 && length(paced) < length(limits)) {
        read_known(limits, now)
        wait <- least_wait(limits, now)
      }
      wait <- soon(max(0.001, wait), now)
      # a request of others may be known to have left at any moment
      if (by_sent && any(known$time > now)) wait <- min(wait, 0.05)
      none_for(wait, here)
    },
    counts_sent = function() by_sent,
    # a request has left, or (`gone`) not yet, because a connection is opened
    sent = function(token, gone = TRUE) {
      # this may wait until it has left
      force(gone)
      here <- as.numeric(Sys.time())
      mark(token, book$now() + if (gone) 0 else limit_under_way)
      flying$sent[flying$id == token] <<- here
      none_for(least_wait(paced, book$now()), here)
    },
    answered = function(token, seconds = NULL) {
      if (is.null(token)) {
        return(invisible())
      }
      now <- book$now()
      flying <<- lapply(flying, `[`, flying$id != token)
      # others may be told of the time, and then read this
      told <- !by_sent && travel$is_open()
      if (told) mark(token, now)
      if (!is.null(seconds)) travel$add(seconds)
      if (by_sent) {
        # as if it had left so long before its answer as the fastest one
        mark(token, now - if (is.null(seconds)) 0 else travel$fastest())
      } else {
        back <- travel$back()
        if (!told || back > 0) mark(token, now - back)
        if (travel$is_open() || travel$is_long()) {
          first <<- list(
            id = c(first$id, token),
            made = c(first$made, now - (seconds %||% 0))
          )
        }
      }
      here <- as.numeric(Sys.time())
      look(here)
      if (here < none_until) none_for(least_wait(limits, now), here)
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
  list(
    fastest = fastest,
    # whether requests count from when they are sent
    is_long = function() {
      is.finite(fastest()) && fastest() > max(0.25 * seconds, limit_slow)
    },
    # how long before its answer a request counts as made
    back = function() {
      gains <- all$answers >= limit_answers && all$fastest > 0.12 * seconds
      if (gains) 0.5 * all$fastest else 0
    },
    # whether the first answers may show that requests count so; none takes so
    # long that it would matter to a longer window
    is_open = function() all$answers < least && seconds <= 60,
    # what others know, at most once a second
    read = function(here) {
      if (here > read + (if (all$answers < least) 0.05 else 1)) {
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
