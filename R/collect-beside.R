# Runs of several sources side by side: each proceeds as if alone, and all wait
# together for the next event.
#
# `lanes` are functions, one a source: each starts the source's next run on the
# given pool, or returns NULL when none is left. `ended` is called with the
# result of a finished run or its error. A failure in one lane does not affect
# the others.
collect_beside <- function(lanes, ended, most_pause = 1) {
  beside <- new.env(parent = emptyenv())
  beside$lanes <- lanes
  beside$ended <- ended
  beside$pool <- wire_pool(100)
  beside$going <- vector("list", length(lanes))
  # lanes without further runs, and lanes that wait within a request while
  # others go on
  beside$over <- logical(length(lanes))
  beside$within <- logical(length(lanes))
  on.exit(
    for (collection in beside$going) {
      if (!is.null(collection)) {
        collect_drain(collection)
        collect_release(collection)
      }
    }
  )
  while (!all(beside$over)) beside_round(beside, most_pause)
  invisible()
}

# Starts possible requests, waits up to `seconds` for the first event, and
# handles it.
beside_round <- function(beside, seconds) {
  for (i in which(!beside$over & !beside$within)) beside_next(beside, i)
  pause <- seconds
  for (i in beside_free(beside)) {
    beside_try(
      beside, i,
      function(collection) {
        pause <<- min(
          pause, collect_begun(collection), collection$run$sink$due()
        )
      }
    )
  }
  under_way <- sum(
    vapply(
      Filter(length, beside$going),
      function(collection) collection$run$line$active, 0L
    )
  )
  if (under_way > 0) {
    for (waiting in Filter(length, beside$going)) line_late(waiting$run$line)
    pool_wait(beside$pool, pause)
  } else if (!all(beside$over)) {
    Sys.sleep(pause)
  }
  for (i in beside_free(beside)) beside_try(beside, i, collect_came_in)
  for (i in beside_free(beside)) {
    if (!collect_goes_on(beside$going[[i]])) beside_finish(beside, i)
  }
}

# Lanes that have a run and are not waiting within a request.
beside_free <- function(beside) {
  which(lengths(beside$going) > 0 & !beside$within)
}

# The lane's next run with something to do.
beside_next <- function(beside, i) {
  rest <- function(seconds) beside_round(beside, min(1, seconds))
  while (is.null(beside$going[[i]]) && !beside$over[i]) {
    beside$going[i] <- list(beside$lanes[[i]](beside$pool, rest))
    if (is.null(beside$going[[i]])) {
      beside$over[i] <- TRUE
    } else if (!collect_goes_on(beside$going[[i]])) {
      beside_finish(beside, i)
    }
  }
}

# While a lane works, the rounds that it lets others have leave it alone.
beside_try <- function(beside, i, work) {
  collection <- beside$going[[i]]
  if (is.null(collection) || beside$within[i]) {
    return(invisible())
  }
  beside$within[i] <- TRUE
  failed <- tryCatch(
    {
      work(collection)
      NULL
    },
    error = function(e) e
  )
  beside$within[i] <- FALSE
  if (!is.null(failed)) {
    beside$going[i] <- list(NULL)
    collect_release(collection)
    beside$ended(collection, error = failed)
  }
}

beside_finish <- function(beside, i) {
  beside_try(beside, i, function(collection) {
    result <- collect_end(collection)
    collect_release(collection)
    beside$ended(collection, result = result)
  })
  beside$going[i] <- list(NULL)
}
