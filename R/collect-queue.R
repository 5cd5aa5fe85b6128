# The queue of a run: requests that are not begun yet, chains of pages that go on or wait to be
# asked
# again, and what has come. Only
# the functions here change it.

queue_make <- function(requests) {
  queue <- new.env(parent = emptyenv())
  queue$requests <- requests
  # the order in which requests are begun; one that another collector is at stands at its end once
  # more
  queue$order <- seq_len(NROW(requests))
  queue$tried <- queue$passes <- numeric(NROW(requests))
  queue$shared <- FALSE
  queue$begun <- 0
  queue$waiting <- list()
  queue$finished <- list()
  # no request before this instant
  queue$hold <- 0
  queue$waits_for <- NULL
  # the export that is waited for
  queue$job <- NULL
  queue$stopped <- FALSE
  queue$resume <- NULL
  # chains, by their first request, that are not followed any more
  queue$dropped <- character()
  # requests that were begun and are not at their end, though the run ends
  queue$unfinished <- 0
  queue
}

queue_left <- function(queue) length(queue$waiting) + length(queue$order) - queue$begun

# A chain goes on, or is asked again, before all others.
queue_back <- function(queue, chain) queue$waiting <- c(list(chain), queue$waiting)

# What bids to slow down or to stop is looked at before anything else that has come, and before
# anything more is sent.
queue_event <- function(queue, event) {
  before <- if (event$urgent) sum(vapply(queue$finished, `[[`, TRUE, "urgent"))
  else length(queue$finished)
  queue$finished <- append(queue$finished, list(event), before)
}

queue_is_urgent <- function(queue) length(queue$finished) > 0 && queue$finished[[1]]$urgent

# The event that came first; NULL where there is none. While one is looked at others may come.
queue_event_next <- function(queue) {
  if (!length(queue$finished)) {
    return(NULL)
  }
  event <- queue$finished[[1]]
  queue$finished <- queue$finished[-1]
  event
}

# Nothing more of a chain is asked for or looked at.
queue_drop <- function(queue, chain) {
  queue$dropped <- c(queue$dropped, chain$start)
  queue$waiting <- Filter(function(other) other$start != chain$start, queue$waiting)
}

queue_hold <- function(queue, seconds) queue$hold <- max(queue$hold, now_seconds() + seconds)

# The wait is too long to stay for: the run ends and says when to go on.
queue_stop <- function(queue, pause) {
  queue$stopped <- TRUE
  queue$resume <- utc(now_seconds() + pause)
}

# More requests, behind all others.
queue_add <- function(queue, requests) {
  new <- nrow(queue$requests) + seq_len(nrow(requests))
  queue$requests <- rbind(queue$requests, requests)
  queue$order <- c(queue$order, new)
  queue$tried <- c(queue$tried, numeric(nrow(requests)))
  queue$passes <- c(queue$passes, numeric(nrow(requests)))
}

# The number of the next request that is not begun yet.
queue_begin <- function(queue) {
  queue$begun <- queue$begun + 1
  queue$order[queue$begun]
}

# Another collector is at it: its turn comes again after all others.
queue_later <- function(queue, i) {
  queue$order <- c(queue$order, i)
  queue$passes[i] <- queue$passes[i] + 1
  queue$tried[i] <- now_seconds()
  queue$shared <- TRUE
}

# Whether the request that was looked at last is another collector's.
queue_is_shared <- function(queue) {
  shared <- isTRUE(queue$shared)
  queue$shared <- FALSE
  shared
}

# Seconds until the next request may be tried that is not begun yet: one that another collector is
# at is looked at after a second, then after two, and so on, each `again_at_most` seconds.
queue_fresh_in <- function(queue) {
  if (queue$begun >= length(queue$order)) {
    return(Inf)
  }
  i <- queue$order[queue$begun + 1]
  max(0, queue$tried[i] + min(again_at_most, queue$passes[i]) - now_seconds())
}

again_at_most <- 5
