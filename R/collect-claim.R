# Which call comes next: one that nobody else has made in the meantime, and that no other collector is at.

# The next call that is not begun yet; NULL where it is not ours to make: another collector has made it in the meantime, or is at it, and then
# its turn comes again after all others.
next_chain <- function(state) {
  state$begun <- state$begun + 1
  i <- state$order[state$begun]
  chain <- collect_chain(state$want, state$calls[i, ])
  if (is.null(state$archive)) {
    return(chain)
  }
  # a stretch of bars shrinks while somebody collects it: what is claimed there are the series, of all sessions, and what is left shows afterwards
  bars <- chain$windowed && state$want$shape == "bars"
  ranged <- is_ranged(state, chain)
  chain$claim <- claim_name(if (bars) paste(c(state$want$source$source, state$want$offer$name, state$want$interval$iso, chain$symbols), collapse = " ")
  else paste(state$want$source$source, state$want$offer$name, if (ranged) chain$key else chain$start))
  verdict <- archive_claim(state$archive, chain$claim, if (bars || ranged) Inf else state$started)
  if (verdict == "taken") {
    state$order <- c(state$order, i)
    state$tried[i] <- as.numeric(Sys.time())
  }
  if (verdict != "ours") {
    return(NULL)
  }
  state$claimed[[chain$claim]] <- (state$claimed[[chain$claim]] %||% 0) + 1
  # how far it was brought is looked at now that nobody else is at it
  if (!is.null(state$want$sdmx) || (!chain$windowed && !is.null(state$want$offer$next_page))) {
    claim <- chain$claim
    chain <- collect_chain(state$want, state$calls[i, ], state$archive)
    chain$claim <- claim
  }
  rest <- still_missing(state, chain)
  if (is.null(rest)) claim_over(state, chain)
  rest
}

# A call of many symbols would make a name of many thousand letters.
claim_name <- function(text) if (nchar(text) > 500) paste(substr(text, 1, 200), content_hash(charToRaw(text))) else text

claim_over <- function(state, chain) if (!is.null(chain$claim) && !is.null(state$archive)) in_transaction(state$archive, function() claim_ended(state, chain))

# A call has come to its end: its claim ends with the last call that has it.
claim_ended <- function(state, chain) {
  if (is.null(chain$claim) || is.null(state$archive)) {
    return(invisible())
  }
  state$claimed[[chain$claim]] <- (state$claimed[[chain$claim]] %||% 1) - 1
  if (state$claimed[[chain$claim]] <= 0) archive_claim_done(state$archive, chain$claim)
}

# What was missing when the plan was made may have come since, or a part of it: only the rest is asked for. NULL where nothing is left.
still_missing <- function(state, chain) {
  if (is_ranged(state, chain)) {
    return(still_missing_rows(state, chain))
  }
  if (!chain$windowed || !state$planned_with || state$want$shape != "bars") {
    return(chain)
  }
  left <- do.call(rbind, missing_ranges(list(source = state$want$source, interval = state$want$interval, session = state$want$session,
    from = chain$from, to = chain$to), chain$symbols, state$archive))
  if (!nrow(left)) {
    return(NULL)
  }
  first <- min(left$start)
  last <- max(left$end)
  if (first == chain$from && last == chain$to) {
    return(chain)
  }
  call <- chain$call
  call$from <- utc(first)
  call$to <- utc(last)
  rest <- collect_chain(state$want, call, state$archive)
  rest$claim <- chain$claim
  rest
}

# Whether a call asks for rows of a window.
is_ranged <- function(state, chain) state$want$shape != "bars" && is.null(state$want$sdmx) && !is.null(chain$from)

still_missing_rows <- function(state, chain) {
  if (!state$planned_with || chain$resumed) {
    return(chain)
  }
  held <- archive_covered_rows(state$archive, state$want$source$source, state$want$offer$name, chain$key)
  left <- data.frame(start = chain$from, end = chain$to)
  for (i in seq_len(nrow(held))) left <- cut_out(left, held$start[i], held$end[i])
  if (!nrow(left)) {
    return(NULL)
  }
  if (min(left$start) == chain$from && max(left$end) == chain$to) {
    return(chain)
  }
  call <- chain$call
  call$from <- utc(min(left$start))
  call$to <- utc(max(left$end))
  rest <- collect_chain(state$want, call, state$archive)
  rest$claim <- chain$claim
  rest
}

# Seconds until the next call may be tried that is not begun yet: one that another collector is at is looked at again each second.
fresh_in <- function(state) if (state$begun < length(state$order)) max(0, state$tried[state$order[state$begun + 1]] + 1 - as.numeric(Sys.time())) else Inf
