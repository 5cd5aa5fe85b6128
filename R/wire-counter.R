# Counts requests of a source: in memory, or by `book` in an archive, for all
# its processes and by its clock. `take()` returns the seconds to wait, or 0
# with the request's token in the attribute `token`; `answered()` records that a
# request has ended, and the time from the request to the first byte of its
# answer. With `ahead`, a token may be had up to so many seconds early: its
# request is sent after the seconds in the attribute `hold`. So the time that
# the book takes is not lost.
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
# waiting for each answer would waste much of the limit. Then a request counts
# as made when it leaves, because all take about the same time from there to
# where the service counts them. A source is also found to be slow where none of
# the first requests is answered for a window and half a second. Until a request
# has left, which takes a moment on a new connection, it counts as made a moment
# from now. A request that takes half as long again as the shortest is late, and
# counts as made now until its answer.
#
# The book is asked only when a token is possible. Its requests are known to
# have been made at an instant or later, since one in flight may be answered
# now, and others may have come. So no token exists before the wait that these
# requests cause, which is computed here.
limit_counter <- function(limits, book = limit_memory(), weight = 1) {
  travel <- travel_times(book$travel, limits)
  taken <- 0
  known <- no_requests_known
  # own requests in flight, when each was sent, when it has left, if known, and
  # whether the source was found to be slow without its answer
  flying <- list(
    id = numeric(), sent = numeric(), left = numeric(), missed = logical()
  )
  # whether requests counted from when they were sent at the last look; those
  # answered before, with the latest time at which they can have been sent
  by_sent <- FALSE
  first <- list(id = numeric(), made = numeric())
  paced <- Filter(function(limit) is.null(limit$quota), limits)
  # no token exists between these instants; whether one may exist then, or it is
  # only to be looked at again
  none_from <- none_until <- -Inf
  then <- FALSE
  none_for <- function(wait, here, exists = TRUE) {
    none_from <<- here
    none_until <<- here + wait
    then <<- exists
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
    watch <- travel$is_open() && any(known$time > now - 1)
    if (watch) min(wait, limit_look) else wait
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
    made <- rep(book$now() + limit_under_way, length(flying$id))
    if (by_sent) made <- pmin(made, flying$left)
    for (i in seq_along(made)) mark(flying$id[i], made[i])
    flying$sent[!by_sent | is.infinite(flying$left)] <<- here
    if (by_sent) {
      for (i in seq_along(first$id)) mark(first$id[i], first$made[i])
      none_for(0, here)
    }
    first <<- list(id = numeric(), made = numeric())
  }
  # the answer of one that has been away for so long takes at least that time
  missed <- function() {
    if (by_sent || !travel$is_open()) {
      return(invisible())
    }
    away <- book$now() - flying$left
    for (i in which(away > travel$patience & !flying$missed)) {
      flying$missed[i] <<- TRUE
      travel$add(away[i], answered = FALSE)
    }
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
    take = function(ahead = 0) {
      if (!length(limits)) {
        return(structure(0, hold = 0))
      }
      here <- as.numeric(Sys.time())
      if (travel$is_open()) travel$read(here)
      missed()
      look(here)
      late(here)
      # where requests count from when they are sent
      early <- if (by_sent && then) ahead else 0
      if (here >= none_from && here < none_until - early) {
        return(soon(none_until - here - early, book$now()))
      }
      travel$read(here)
      look(here)
      # no token exists before `none_until`: this one is of that instant
      early <- if (by_sent) max(0, min(early, none_until - here)) else 0
      windows <- limit_windows(
        limits, book$now(), travel$fastest(), by_sent, early
      )
      granted <- book$take(windows, limit_under_way, weight)
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
          id = c(flying$id, granted$id), sent = c(flying$sent, here),
          left = c(flying$left, Inf), missed = c(flying$missed, FALSE)
        )
        # removes requests that no window counts, now and then
        if (taken %% 100 == 0) {
          before <- now - longest_window(limits) - 60
          book$forget(before)
          known <<- lapply(known, `[`, known$time > before)
        }
        none_for(least_wait(paced, now), here)
        hold <- if (early > 0) max(0, granted$at + early - now) else 0
        return(structure(0, token = granted$id, hold = hold))
      }
      # a quota's requests, which may be many, are read where nothing else
      # explains the refusal
      read_known(paced, now)
      wait <- least_wait(paced, now)
      if (wait <= 0 && length(paced) < length(limits)) {
        read_known(limits, now)
        wait <- least_wait(limits, now)
      }
      next_look <- soon(max(0.001, wait), now)
      # a request of others may be known to have left at any moment
      unsent <- by_sent && any(known$time > now)
      if (unsent) next_look <- min(next_look, limit_look)
      none_for(next_look, here, next_look >= wait)
      if (by_sent && then) max(0.005, next_look - ahead) else next_look
    },
    # for a collector that takes no token meanwhile: looks at what is in flight,
    # and returns the seconds until it is to be looked at again
    watch = function() {
      if (by_sent || !length(flying$id) ||
        !(travel$is_open() || travel$is_long())) {
        return(Inf)
      }
      here <- as.numeric(Sys.time())
      missed()
      if (any(flying$missed)) {
        travel$read(here)
        look(here)
        return(if (by_sent) Inf else limit_look)
      }
      max(0.001, min(flying$left) + travel$patience - book$now())
    },
    # for how many seconds to wait until a request has left
    waits_sent = function() {
      if (by_sent) 1 else if (travel$is_open()) 0.01 else 0
    },
    # a request has left, or (`gone`) not yet, because a connection is opened
    sent = function(token, gone = TRUE) {
      force(token)
      # this may wait until it has left
      force(gone)
      here <- as.numeric(Sys.time())
      now <- book$now()
      if (gone) flying$left[flying$id == token] <<- now
      if (!by_sent) {
        return(invisible())
      }
      mark(token, now + if (gone) 0 else limit_under_way)
      flying$sent[flying$id == token] <<- here
      none_for(least_wait(paced, now), here)
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
  own <- others <- all <- list(fastest = Inf, answers = 0)
  read <- -Inf
  # whether others were told of own answers, and whether any has come
  said <- answered_any <- FALSE
  seconds <- min(Inf, unlist(lapply(limits, `[[`, "seconds")))
  # a window full of answers, or ten
  least <- min(
    limit_answers, max(4, min(Inf, unlist(lapply(limits, `[[`, "count"))))
  )
  # from what others know now, or knew
  merge <- function(known = others) {
    others <<- known %||% others
    all <<- list(
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
    # how long answers stay away from a source that is slow
    patience = seconds + limit_slow,
    # what others know, at most once a second
    read = function(here) {
      if (here > read + (if (all$answers < least) limit_look else 1)) {
        read <<- here
        merge(shared())
      }
    },
    # the time of an answer, or the least time of one that is still to come,
    # which counts until the first answer
    add = function(waited, answered = TRUE) {
      first <- answered && !answered_any
      answered_any <<- answered_any || answered
      if (first) own$fastest <<- Inf
      if (!answered && answered_any) waited <- Inf
      faster <- waited < 0.95 * all$fastest
      own <<- list(
        fastest = min(own$fastest, waited), answers = own$answers + 1
      )
      # of fast answers nobody needs to know, unless others were told of slow
      # ones
      told <- all$answers < least || faster || first
      slow <- own$fastest > max(0.25 * seconds, limit_slow)
      tells <- told && (slow || said)
      said <<- said || tells
      if (tells) merge(shared(unlist(own))) else merge()
    }
  )
}

no_requests_known <- list(id = numeric(), time = numeric(), weight = numeric())

no_requests_made <- data.frame(time = numeric(), weight = numeric())

limit_under_way <- 2
limit_answers <- 10
limit_slow <- 0.5
limit_ahead <- 0.05
limit_look <- 0.05

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
      list(id = last, at = now)
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
