# The choice of the next request: one that no other collector has made or is
# making.

# Several collectors begin at different parts of the requests: the first at the
# first, the next in the middle, and so on.
collect_share <- function(run, queue) {
  rank <- run$sink$rank()
  part <- 0
  half <- 0.5
  while (rank > 0) {
    part <- part + half * (rank %% 2)
    rank <- rank %/% 2
    half <- half / 2
  }
  queue_turn(queue, part)
}

# Where another collector was met, all requests that are answered by now are
# left out, and the next one is taken from another part.
collect_met <- function(run, queue) {
  queue$met <- FALSE
  left <- queue_rest(queue)
  now <- now_seconds()
  if (length(left) < 3 || now < queue$looked + meet_seconds) {
    return(invisible())
  }
  queue$looked <- now
  if (run$planned) {
    done <- query_answered(
      run$query, queue$requests[left, , drop = FALSE], run$sink$covered
    )
    queue_without(queue, left[done])
  }
  # a different part for each collector and time
  queue$turns <- queue$turns + 1
  number <- run$number %||% Sys.getpid()
  queue_turn(queue, (0.618034 * number + 0.754878 * queue$turns) %% 1)
}

meet_seconds <- 0.2

# The next request to begin; NULL where another collector has it. Such a request
# is tried again after all others.
next_chain <- function(run, queue) {
  i <- queue_begin(queue)
  planned <- frame_row(queue$requests, i)
  chain <- query_chain(run$query, planned)
  claim <- query_claim(run$query, chain)
  looks <- run$planned && claim$shows && !chain$resumed
  verdict <- run$sink$claim(
    claim$name, if (claim$shows) Inf else run$started,
    if (looks) query_cover_keys(run$query, chain)
  )
  if (verdict == "taken") queue_later(queue, i)
  if (verdict != "ours") {
    queue$met <- TRUE
    return(NULL)
  }
  # read the place reached only after the claim, when no other collector changes
  # it
  if (!chain$windowed || !is.null(chain$noted)) {
    chain <- query_chain(run$query, planned, run$sink$noted)
  }
  # a request of which nothing is covered is made as it was planned
  rest <- if (looks &&
    !chain$resumed &&
    !isFALSE(attr(verdict, "covered"))) {
    query_rest(run$query, chain, run$sink$covered)
  } else {
    planned
  }
  if (is.null(rest)) {
    queue$met <- TRUE
    claim_over(run, list(claim = claim$name))
    return(NULL)
  }
  if (nrow(rest) > 1) queue_add(queue, rest[-1, ])
  if (!identical(rest, planned)) {
    chain <- query_chain(run$query, rest[1, ], run$sink$noted)
  }
  chain$claim <- claim$name
  chain
}

# The hash of a request's parts, because the names of many symbols would be too
# long.
claim_name <- function(...) {
  text <- paste(c(...), collapse = " ")
  if (nchar(text) > 500) {
    paste(substr(text, 1, 200), content_hash(charToRaw(text)))
  } else {
    text
  }
}

# A request has ended without a page.
claim_over <- function(run, chain, covered = NULL, notes = NULL) {
  claims <- run$sink$ending(chain$claim)
  if (length(claims) || NROW(covered) || length(notes)) {
    run$sink$ended(list(covered = covered, notes = notes, claims = claims))
  }
}

# Another collector may have fetched part of a range since the plan was made:
# only the rest is requested, with one request a range where there are few. NULL
# where nothing is left.
planned_rest <- function(planned, left) {
  if (!nrow(left)) {
    return(NULL)
  }
  if (nrow(left) == 1 &&
    left$start == as.numeric(planned$from) &&
    left$end == as.numeric(planned$to)) {
    return(planned)
  }
  left <- left[order(left$start), ]
  # adjacent ranges of several symbols are joined
  begins <- c(TRUE, left$start[-1] > cummax(left$end)[-nrow(left)])
  from <- left$start[begins]
  to <- as.numeric(tapply(left$end, cumsum(begins), max))
  if (length(from) > rest_stretches) {
    from <- min(from)
    to <- max(to)
  }
  requests <- planned[rep(1L, length(from)), ]
  changed <- from != as.numeric(planned$from)
  if (any(changed)) requests$from[changed] <- utc(from[changed])
  changed <- to != as.numeric(planned$to)
  if (any(changed)) requests$to[changed] <- utc(to[changed])
  requests
}

# Above this number of ranges one request covers them all, with what lies
# between.
rest_stretches <- 3L
