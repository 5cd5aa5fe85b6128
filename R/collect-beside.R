# Runs of several sources beside each other: each goes on as if it were alone, and all of them wait
# together for whatever comes first.

# `lanes` are functions, one a source, each of which begins the source's next run on the pool that
# it is given, or gives NULL where there is none any more. `ended` is told of a run that has come to
# its end, with its result or with the error that ended it. What fails in one lane is no matter of
# the others.
collect_beside <- function(lanes, ended, most_pause = 1) {
  beside <- new.env(parent = emptyenv())
  beside$lanes <- lanes
  beside$ended <- ended
  beside$pool <- wire_pool(100)
  beside$going <- vector("list", length(lanes))
  # lanes that have no run any more, and lanes that wait within a call: they let the others go on
  beside$over <- logical(length(lanes))
  beside$within <- logical(length(lanes))
  on.exit(for (one in beside$going) if (!is.null(one)) {
    collect_drain(one)
    collect_release(one)
  })
  while (!all(beside$over)) beside_round(beside, most_pause)
  invisible()
}

# Starts what may be started, waits for what comes first, `seconds` at most, and looks at it.
beside_round <- function(beside, seconds) {
  for (i in which(!beside$over & !beside$within)) beside_next(beside, i)
  pause <- seconds
  for (i in beside_free(beside)) {
    beside_try(beside, i,
      function(one) pause <<- min(pause, collect_begun(one)))
  }
  under_way <- sum(vapply(Filter(length, beside$going), function(one) one$run$line$active, 0L))
  if (under_way > 0) {
    for (one in Filter(length, beside$going)) line_late(one$run$line)
    curl::multi_run(timeout = pause, poll = TRUE, pool = beside$pool)
  } else if (!all(beside$over)) {
    Sys.sleep(pause)
  }
  for (i in beside_free(beside)) beside_try(beside, i, collect_came_in)
  for (i in beside_free(beside)) {
    if (!collect_goes_on(beside$going[[i]])) beside_finish(beside, i)
  }
}

# Lanes that have a run and are not waiting within a call.
beside_free <- function(beside) which(lengths(beside$going) > 0 & !beside$within)

# The lane's next run that has something to do.
beside_next <- function(beside, i) {
  rest <- function(seconds) beside_round(beside, min(1, seconds))
  while (is.null(beside$going[[i]]) && !beside$over[i]) {
    beside$going[i] <- list(beside$lanes[[i]](beside$pool, rest))
    if (is.null(beside$going[[i]])) beside$over[i] <- TRUE
    else if (!collect_goes_on(beside$going[[i]])) beside_finish(beside, i)
  }
}

# While it works it is left alone by the rounds that it lets the others have.
beside_try <- function(beside, i, work) {
  one <- beside$going[[i]]
  if (is.null(one) || beside$within[i]) {
    return(invisible())
  }
  beside$within[i] <- TRUE
  failed <- tryCatch({
    work(one)
    NULL
  }, error = function(e) e)
  beside$within[i] <- FALSE
  if (!is.null(failed)) {
    beside$going[i] <- list(NULL)
    collect_release(one)
    beside$ended(one, error = failed)
  }
}

beside_finish <- function(beside, i) {
  beside_try(beside, i, function(one) {
    result <- collect_end(one)
    collect_release(one)
    beside$ended(one, result = result)
  })
  beside$going[i] <- list(NULL)
}

# Exports are followed turn by turn; all else is started. Gives the seconds until the next turn:
# none where something has come that was not looked at yet.
collect_begun <- function(going) {
  pause <- 1
  if (!going$queue$stopped && is.null(going$run$want$dataset$job)) {
    pause <- collect_start(going$run, going$queue, going$tally)
  } else if (!going$queue$stopped) {
    turn <- collect_jobs(going$run, going$queue, going$tally)
    going$tally <- turn$tally
    pause <- min(1, turn$pause)
  }
  if (length(going$queue$finished)) 0 else pause
}
