# Which request comes next: one that nobody else has made in the meantime, and that no other
# collector
# is at.

# The next request that is not begun yet; NULL where it is not ours to make: another collector has
# made it in the meantime, or is at
# it, and then its turn comes again after all others.
next_chain <- function(run, queue) {
  i <- queue_begin(queue)
  planned <- frame_row(queue$requests, i)
  chain <- query_chain(run$query, planned)
  claim <- query_claim(run$query, chain)
  looks <- run$planned && claim$shows && !chain$resumed
  verdict <- run$sink$claim(claim$name, if (claim$shows) Inf else run$started,
    if (looks) query_cover_keys(run$query, chain))
  if (verdict == "taken") queue_later(queue, i)
  if (verdict != "ours") {
    return(NULL)
  }
  # how far it was brought is looked at now that nobody else is at it
  if (!chain$windowed || !is.null(chain$noted)) {
    chain <- query_chain(run$query, planned, run$sink$noted)
  }
  covered <- if (isFALSE(attr(verdict, "covered"))) function(keys) no_coverage else run$sink$covered
  rest <- if (looks && !chain$resumed) query_rest(run$query, chain, covered) else planned
  if (is.null(rest)) {
    claim_over(run, list(claim = claim$name))
    return(NULL)
  }
  if (nrow(rest) > 1) queue_add(queue, rest[-1, ])
  if (!identical(rest, planned)) chain <- query_chain(run$query, rest[1, ], run$sink$noted)
  chain$claim <- claim$name
  chain
}

# A request of many symbols would make a name of many thousand letters.
claim_name <- function(...) {
  text <- paste(c(...), collapse = " ")
  if (nchar(text) > 500) paste(substr(text, 1, 200), content_hash(charToRaw(text))) else text
}

# A request has come to its end without a page.
claim_over <- function(run, chain, covered = NULL, notes = NULL) {
  claims <- run$sink$ending(chain$claim)
  if (length(claims) || NROW(covered) || length(notes)) {
    run$sink$ended(list(covered = covered, notes = notes, claims = claims))
  }
}

# What is missing of a stretch may have come since the plan was made, or a part of it: only the
# rest is asked for, a request for each stretch of it where there are few. NULL where nothing is
# left.
planned_rest <- function(planned, left) {
  if (!nrow(left)) {
    return(NULL)
  }
  if (nrow(left) == 1 && left$start == as.numeric(planned$from) &&
    left$end == as.numeric(planned$to)) {
    return(planned)
  }
  left <- left[order(left$start), ]
  # several symbols' stretches that touch are one
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

# More stretches than these are asked for in one request, with what lies between them.
rest_stretches <- 3L
