# The queue of a run: requests not yet begun, chains that continue or wait for a
# retry, and events. Only these functions change it.

queue_make <- function(requests) {
  queue <- new.env(parent = emptyenv())
  queue$requests <- requests
  # the order in which requests begin; one that another collector has moves to
  # the end
  queue$order <- seq_len(NROW(requests))
  queue$tried <- queue$passes <- numeric(NROW(requests))
  queue$shared <- FALSE
  # whether another collector was met since the last look at all requests
  queue$met <- FALSE
  queue$looked <- -Inf
  queue$turns <- 0
  queue$begun <- 0
  queue$waiting <- list()
  queue$finished <- list()
  # no request before this instant
  queue$hold <- 0
  queue$waits_for <- NULL
  # sent requests that still waited for a connection: their token, and their
  # name in the line
  queue$leaving <- list()
  # the export that is being waited for
  queue$job <- NULL
  queue$stopped <- FALSE
  queue$resume <- NULL
  # chains, by first request, that were dropped
  queue$dropped <- character()
  # requests that had begun but not ended when the run ended
  queue$unfinished <- 0
  queue
}

queue_left <- function(queue) {
  length(queue$waiting) + length(queue$order) - queue$begun
}

# A chain that continues or is retried goes before all others.
queue_back <- function(queue, chain) {
  queue$waiting <- c(list(chain), queue$waiting)
}

# Events that slow down or stop the run are handled first.
queue_event <- function(queue, event) {
  before <- if (event$urgent) {
    sum(vapply(queue$finished, `[[`, TRUE, "urgent"))
  } else {
    length(queue$finished)
  }
  queue$finished <- append(queue$finished, list(event), before)
}

queue_is_urgent <- function(queue) {
  length(queue$finished) > 0 && queue$finished[[1]]$urgent
}

# The earliest event; NULL without one. Others may arrive while it is handled.
queue_event_next <- function(queue) {
  if (!length(queue$finished)) {
    return(NULL)
  }
  event <- queue$finished[[1]]
  queue$finished <- queue$finished[-1]
  event
}

# Drops a chain.
queue_drop <- function(queue, chain) {
  queue$dropped <- c(queue$dropped, chain$start)
  queue$waiting <- Filter(
    function(other) other$start != chain$start, queue$waiting
  )
}

queue_hold <- function(queue, seconds) {
  queue$hold <- max(queue$hold, now_seconds() + seconds)
}

# The wait is longer than the run may wait: the run ends and reports when to
# continue.
queue_stop <- function(queue, pause) {
  queue$stopped <- TRUE
  queue$resume <- utc(now_seconds() + pause)
}

# More requests, after all others.
queue_add <- function(queue, requests) {
  new <- nrow(queue$requests) + seq_len(nrow(requests))
  queue$requests <- rbind(queue$requests, requests)
  queue$order <- c(queue$order, new)
  queue$tried <- c(queue$tried, numeric(nrow(requests)))
  queue$passes <- c(queue$passes, numeric(nrow(requests)))
}

# The number of the next request to begin.
queue_begin <- function(queue) {
  queue$begun <- queue$begun + 1
  queue$order[queue$begun]
}

# Turns the order of the requests that were not looked at yet: they begin at
# this part of them, from 0 to 1.
queue_turn <- function(queue, part) {
  left <- queue_rest(queue)
  fresh <- left[queue$tried[left] == 0]
  n <- length(fresh)
  first <- floor(part * n)
  if (n < 2 || first < 1) {
    return(invisible())
  }
  turned <- fresh[c((first + 1):n, seq_len(first))]
  queue$order <- c(
    queue$order[seq_len(queue$begun)], turned, setdiff(left, fresh)
  )
}

# The numbers of the requests that have not begun.
queue_rest <- function(queue) {
  queue$order[seq_along(queue$order) > queue$begun]
}

# Leaves out requests that have not begun.
queue_without <- function(queue, gone) {
  at <- seq_along(queue$order) > queue$begun & queue$order %in% gone
  queue$order <- queue$order[!at]
}

# Another collector has it: try it again after all others.
queue_later <- function(queue, i) {
  queue$order <- c(queue$order, i)
  queue$passes[i] <- queue$passes[i] + 1
  queue$tried[i] <- now_seconds()
  queue$shared <- TRUE
}

# Whether another collector has the last examined request.
queue_is_shared <- function(queue) {
  shared <- isTRUE(queue$shared)
  queue$shared <- FALSE
  shared
}

# Seconds until the next new request may be tried: one that another collector
# has is looked at after one second, then two, and so on, up to `again_at_most`.
queue_fresh_in <- function(queue) {
  if (queue$begun >= length(queue$order)) {
    return(Inf)
  }
  i <- queue$order[queue$begun + 1]
  max(0, queue$tried[i] + min(again_at_most, queue$passes[i]) - now_seconds())
}

again_at_most <- 5

# The counts of a run so far: a plain value that each step returns changed.

tally_make <- function() {
  list(
    pages = 0,
    new = 0,
    changed = 0,
    unchanged = 0,
    gone = 0,
    doubled = 0,
    rejected = 0,
    retried = 0,
    cut = 0,
    empty = character(),
    # symbols with rows, as names of an environment, because there may be many
    came = new.env(parent = emptyenv()),
    failed_keys = list(),
    largest = 0,
    failed = data.frame(
      symbol = character(), what = character(), todo = character(),
      outcome = character()
    ),
    # consecutive useless answers, failed requests, and requests without an
    # answer
    in_a_row = list(vain = 0, stumbled = 0, unanswered = 0)
  )
}

# Records symbols with rows.
tally_came <- function(tally, symbols) {
  for (symbol in symbols) assign(symbol, TRUE, envir = tally$came)
}

tally_without <- function(tally, symbols) {
  symbols[!vapply(symbols, exists, TRUE, envir = tally$came, inherits = FALSE)]
}

tally_counts <- function(tally, counts) {
  for (name in names(counts)) tally[[name]] <- tally[[name]] + counts[[name]]
  tally
}

# Counts a stored page.
tally_page <- function(tally, counts, page) {
  tally <- tally_counts(tally, counts)
  tally$rejected <- tally$rejected + length(unique(page$rejected$row))
  tally$largest <- max(tally$largest, page$items)
  tally$pages <- tally$pages + 1
  tally$in_a_row[c("vain", "stumbled")] <- 0
  tally
}

tally_again <- function(tally) {
  tally$retried <- tally$retried + 1
  tally$in_a_row$vain <- tally$in_a_row$vain + 1
  tally
}

tally_row <- function(tally, name, by = 1) {
  tally$in_a_row[[name]] <- tally$in_a_row[[name]] + by
  tally
}

tally_failed <- function(tally, names, what, todo, outcome, keys = NULL) {
  n <- length(names)
  tally$failed_keys <- c(tally$failed_keys, keys)
  tally$failed <- rbind(
    tally$failed,
    data.frame(
      symbol = names, what = rep(what, n), todo = rep(todo, n),
      outcome = rep(outcome, n)
    )
  )
  tally
}
