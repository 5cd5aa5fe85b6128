# Which call comes next: one that nobody else has made in the meantime, and that no other collector
# is at.

# The next call that is not begun yet; NULL where it is not ours to make: another collector has
# made it in the meantime, or is at
# it, and then its turn comes again after all others.
next_chain <- function(run, queue) {
  i <- queue_begin(queue)
  call <- frame_row(queue$calls, i)
  chain <- want_chain(run$want, call)
  claim <- want_claim(run$want, chain)
  looks <- run$planned && claim$shows && !chain$resumed
  verdict <- run$sink$claim(claim$name, if (claim$shows) Inf else run$started,
    if (looks) want_cover_keys(run$want, chain))
  if (verdict == "taken") queue_later(queue, i)
  if (verdict != "ours") {
    return(NULL)
  }
  # how far it was brought is looked at now that nobody else is at it
  if (!chain$windowed || !is.null(chain$noted)) chain <- want_chain(run$want, call, run$sink$noted)
  covered <- if (isFALSE(attr(verdict, "covered"))) function(keys) no_coverage else run$sink$covered
  rest <- if (looks && !chain$resumed) want_rest(run$want, chain, covered) else call
  if (is.null(rest)) {
    claim_over(run, list(claim = claim$name))
    return(NULL)
  }
  if (nrow(rest) > 1) queue_add(queue, rest[-1, ])
  if (!identical(rest, call)) chain <- want_chain(run$want, rest[1, ], run$sink$noted)
  chain$claim <- claim$name
  chain
}

# A call of many symbols would make a name of many thousand letters.
claim_name <- function(...) {
  text <- paste(c(...), collapse = " ")
  if (nchar(text) > 500) paste(substr(text, 1, 200), content_hash(charToRaw(text))) else text
}

# A call has come to its end without a page.
claim_over <- function(run, chain, covered = NULL, notes = NULL) {
  claims <- run$sink$ending(chain$claim)
  if (length(claims) || NROW(covered) || length(notes)) {
    run$sink$ended(list(covered = covered, notes = notes, claims = claims))
  }
}

# What is missing of a stretch may have come since the plan was made, or a part of it: only the
# rest is asked for, a call for each stretch of it where there are few. NULL where nothing is left.
call_rest <- function(call, left) {
  if (!nrow(left)) {
    return(NULL)
  }
  if (nrow(left) == 1 && left$start == as.numeric(call$from) && left$end == as.numeric(call$to)) {
    return(call)
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
  calls <- call[rep(1L, length(from)), ]
  changed <- from != as.numeric(call$from)
  if (any(changed)) calls$from[changed] <- utc(from[changed])
  changed <- to != as.numeric(call$to)
  if (any(changed)) calls$to[changed] <- utc(to[changed])
  calls
}

# More stretches than these are asked for in one call, with what lies between them.
rest_stretches <- 3L
