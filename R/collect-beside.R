# Runs of several sources beside each other: each goes on as if it were alone, and all of them wait
# together for whatever comes first.

# `lanes` are functions, one a source, each of which begins the source's next run on the pool that
# it
# is given, or gives NULL where there is none any more. `ended` is told of a run that has come to
# its
# end, with its result or with the error that ended it. What fails in one lane is no matter of the
# others.
collect_beside <- function(lanes, ended, most_pause = 1) {
  pool <- wire_pool(100)
  going <- vector("list", length(lanes))
  on.exit(for (one in going) if (!is.null(one)) collect_release(one))
  attempt <- function(i, work) {
    failed <- tryCatch({
      work(going[[i]])
      NULL
    }, error = function(e) e)
    if (!is.null(failed)) {
      collect_release(going[[i]])
      ended(going[[i]], error = failed)
      going[i] <<- list(NULL)
    }
  }
  finish <- function(i) {
    attempt(i, function(run) {
      result <- collect_end(run)
      collect_release(run)
      ended(run, result = result)
    })
    going[i] <<- list(NULL)
  }
  active <- seq_along(lanes)
  repeat {
    for (i in active) {
      while (is.null(going[[i]])) {
        going[i] <- list(lanes[[i]](pool))
        if (is.null(going[[i]])) break
        if (!collect_goes_on(going[[i]])) finish(i)
      }
    }
    active <- active[!vapply(going[active], is.null, TRUE)]
    if (!length(active)) {
      return(invisible())
    }
    pause <- most_pause
    for (i in active) {
      attempt(i,
        function(run) pause <<- min(pause, if (run$queue$stopped) 1 else collect_begun(run)))
    }
    here <- active[!vapply(going[active], is.null, TRUE)]
    under_way <- sum(vapply(going[here], function(one) one$run$line$active, 0L))
    if (under_way > 0) curl::multi_run(timeout = pause, poll = TRUE, pool = pool)
    else if (length(here)) Sys.sleep(pause)
    for (i in here) attempt(i, collect_came_in)
    for (i in here) if (!is.null(going[[i]]) && !collect_goes_on(going[[i]])) finish(i)
  }
}

# Exports that are waited for are followed to their end; all else is started.
collect_begun <- function(going) {
  if (is.null(going$run$want$dataset$job)) {
    return(collect_start(going$run, going$queue, going$tally))
  }
  going$tally <- collect_jobs(going$run, going$queue, going$tally)
  0
}
