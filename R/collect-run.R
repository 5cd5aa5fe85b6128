#' Collect what a plan asks for
#'
#' Sends the plan's requests within the source's limits, follows their pages, checks every row and
#' stores each page as one
#' transaction: its rows, its row in the journal and the place that was reached. Stopped at any
#' moment and run again, it
#' goes on; no page that is stored is asked for again. What fails for one symbol is recorded, and
#' the rest goes on.
#'
#' @param plan A plan, see [plan_requests()].
#' @param into An archive, see [archive_open()].
#' @param progress Whether to show what is being done, on standard error: on a terminal one line
#'   that changes, elsewhere a plain
#'   line each minute.
#' @param requests Stop after so many requests for pages; the next run goes on there.
#' @param raw Whether to keep the raw pages too, compressed, so that [collect_reparse()] can read
#'   them again with a corrected
#'   card.
#' @param wait The longest pause, in seconds, that is waited for within the run; where a quota
#'   makes it longer, the run ends
#'   and says when to go on.
#' @param gather How many small pages are written to the archive in one transaction; none waits
#'   longer than a fifth of a second for it. A run that is killed asks for these pages again; with
#'   1 each page is written as it comes.
#' @return Invisibly a `vetusta_run`: a list with `empty` (what had no data), `pages`, `new`,
#'   `changed`, `unchanged` (rows),
#'   `doubled` (rows that came twice and are stored once), `rejected` (rejected rows among the
#'   archive's rejected rows), `retried` (requests that had to be
#'   repeated), `seconds`, and `failed`
#'   (a data frame of `symbol`, `what`, `todo`, `outcome`). `left` are the requests not made or not
#'   ended because a quota is used
#'   up or `requests` was reached, `resume` when to go on.
#' @section Errors: `vetusta_error_secret` when the key is not set, `vetusta_error_access` when
#'   the service refuses it,
#'   `vetusta_error_network` when nothing answers, `vetusta_error_archive` when the archive cannot
#'   be written. What was
#'   stored before is kept in every case.
#' @export
#' @examples
#' \dontrun{
#' quay <- source_card("quay") # `vetusta services` serves it on this machine
#' query <- query_bars(quay, c("KELD", "TAMX"), interval = "1 minute", from = "2026-03-12", to =
#' "2026-03-13")
#' archive <- archive_open("archive.sqlite")
#' collect_run(plan_requests(query, archive), into = archive)
#' }
collect_run <- function(plan, into, progress = interactive(), requests = Inf, raw = FALSE,
  wait = 900, gather = 50) {
  going <- collect_begin(plan, into, progress, requests, raw, wait, gather)
  ended <- FALSE
  on.exit({
    if (!ended) collect_drain(going)
    collect_release(going)
  })
  while (collect_goes_on(going)) collect_step(going)
  ended <- TRUE
  invisible(collect_end(going))
}

# A run that is stopped, by a signal or an error, stores what came and asks for nothing more.
collect_drain <- function(going) {
  going$run$most_pages <- -Inf
  going$queue$stopped <- TRUE
  until <- now_seconds() + drain_seconds
  try(silent = TRUE, {
    line_run(going$run$line, 0)
    while (length(going$queue$finished) && now_seconds() < until) {
      event <- queue_event_next(going$queue)
      # an answer that is no page is of no use any more
      if (isTRUE(event$response$status < 300)) {
        going$tally <- collect_safely(going$run, going$queue, going$tally, event)
      }
      line_run(going$run$line, 0)
    }
  })
}

drain_seconds <- 20

# A run that has begun and is brought on step by step: what is the same throughout it, its queue,
# and its tally.
collect_begin <- function(plan, into, progress = FALSE, requests = Inf, raw = FALSE, wait = 900,
  gather = 50, pool = NULL, rest = NULL) {
  check_plan(plan)
  check_whole(gather, "gather", kind = "argument")
  archive <- check_archive(into)
  query <- plan$query
  going <- new.env(parent = emptyenv())
  sink <- archive_sink(archive, query, keep_raw = raw, gather = gather)
  going$run <- run_make(query, sink, most_pages = requests, most_wait = wait,
    planned = isTRUE(plan$with_archive), pool = pool, rest = rest)
  going$queue <- queue_make(plan$requests)
  going$tally <- tally_make()
  going$total <- plan$pages
  going$began <- now_seconds()
  going$round <- query_round(query)
  going$run$sink$beat()
  dataset_facts_put(archive, query$source$source, query$dataset$name, run_facts(going$run))
  going$run$sink$round_begin(going$round)
  going$show <- if (progress && queue_left(going$queue)) progress_make(going$run, plan$pages)
  else function(...) NULL
  going
}

# What has come and was not looked at yet counts: it may come while another run is looked at.
collect_goes_on <- function(going) {
  queue <- going$queue
  length(queue$finished) > 0 || going$run$line$active > 0L ||
    ((queue_left(queue) || !is.null(queue$job)) && !queue$stopped)
}

# Starts what may be started, waits for what comes, and looks at one answer.
collect_step <- function(going) {
  pause <- collect_begun(going)
  line_run(going$run$line, min(pause, going$run$sink$due()))
  collect_came_in(going)
}

# One answer is looked at, and then what it makes room for is begun before the next: the service
# is at work meanwhile.
collect_came_in <- function(going) {
  going$run$sink$beat()
  if (!is.null(event <- queue_event_next(going$queue))) {
    going$tally <- collect_safely(going$run, going$queue, going$tally, event)
    # what is answered meanwhile is known to be at once, and counts from then
    if (going$run$line$active > 0L) line_run(going$run$line, 0)
  }
  going$run$sink$due()
  going$tally <- tally_counts(going$tally, going$run$sink$wrong())
  going$show(going$tally, going$queue)
}

collect_end <- function(going) {
  going$run$sink$settle()
  going$tally <- tally_counts(going$tally, going$run$sink$wrong())
  # where every request was made, the next run asks anew
  if (queue_left(going$queue) + going$queue$unfinished == 0) going$run$sink$round_end(going$round)
  collect_result(going$run, going$queue, going$tally)
}

collect_release <- function(going) {
  line_close(going$run$line)
  try(going$run$sink$release(), silent = TRUE)
}

check_plan <- function(plan) {
  if (missing(plan) || !inherits(plan, "vetusta_plan")) {
    vetusta_stop("argument", "What is collected is a plan.",
      todo = "make a plan with plan_requests()")
  }
  for (name in access_secrets(plan$query$source$access)) source_secret(plan$query$source, name)
}

# What is the same throughout a run: what is wanted, where it goes, and how far.
run_make <- function(query, sink, most_pages = Inf, most_wait = 900, at_once = query$source$at_once,
  planned = FALSE, ahead = TRUE, pool = NULL, rest = NULL) {
  source <- source_of_run(query$source)
  tokens <- new.env(parent = emptyenv())
  line <- wire_line(source$at_once, pool)
  pass <- rest %||% function(seconds) line_run(line, seconds)
  list(
    query = query, source = source, sink = sink,
    calendar = calendar_within(source_calendar(source), query$from, query$to),
    counter = sink$counter,
    # the token that was granted, and all that must not be seen
    tokens = tokens, secrets = run_secrets(source, tokens),
    line = line,
    # how a wait within a request is spent, in seconds at most; other runs may go on meanwhile
    rest = function(seconds) {
      sink$beat()
      pass(min(seconds, 10))
    },
    name = format(Sys.time(), "%Y%m%dT%H%M%OS3", tz = "UTC"),
    started = sink$now(),
    most_pages = most_pages, most_wait = most_wait, at_once = at_once, planned = planned,
    ahead = ahead,
    # whether the card says which way pages run, and whether bars are of less than a day
    way = stated_direction(query$dataset),
    short = is.null(query$interval) || is_intraday(query$interval)
  )
}

# What the card says of the dataset as a whole.
run_facts <- function(run) {
  dataset <- run$query$dataset
  units <- unlist(lapply(dataset$columns, `[[`, "unit"))
  list(zone = if (run$source$zone != "UTC") run$source$zone,
    calendar = calendar_plain(run$calendar), delay = run$source$delay, title = dataset$title,
    unit = units)
}

# Starts every request that may be sent now; gives the seconds until the next one may. Answers that
# were not looked at yet are no more than twice as many as requests may be under way, and with these
# no more than pages are wanted. With `fresh` requests are begun that were not begun before; that
# ends with the first one that another collector is at, and with the first answer that has come: to
# claim takes time, and what has come is stored first.
collect_start <- function(run, queue, tally, most = run$at_once, fresh = TRUE) {
  now <- now_seconds()
  wait <- 1
  queue$waits_for <- NULL
  in_hand <- min(2 * most, run$most_pages - tally$pages)
  left <- function() if (fresh) queue_left(queue) else length(queue$waiting)
  while (left() && run$line$active < most &&
    run$line$active + length(queue$finished) < in_hand && !queue_is_urgent(queue)) {
    not_before <- vapply(queue$waiting, `[[`, 0, "not_before")
    ready <- which(not_before <= now)
    delay <- max(0, queue$hold - now)
    # where one answer after another is of no use, those that wait are asked again before any other
    # is begun
    begins <- fresh && (tally$in_a_row$vain < 8 || !length(queue$waiting))
    soon <- if (begins) queue_fresh_in(queue) else Inf
    if ((!length(ready) && soon > 0) || delay > 0) {
      pause <- max(delay, if (soon > 0) min(not_before - now, soon), 0.001)
      queue$waits_for <- if (delay > 0) "the service" else if (length(queue$waiting)) "another try"
      else "another collector"
      if (pause > run$most_wait) queue_stop(queue, pause)
      return(min(wait, pause))
    }
    if (length(ready)) {
      chain <- queue$waiting[[ready[1]]]
      queue$waiting <- queue$waiting[-ready[1]]
    } else {
      # what has come meanwhile is looked at before another request is begun
      if (length(queue$finished)) return(0)
      chain <- next_chain(run, queue)
      line_run(run$line, 0)
      if (is.null(chain)) {
        if (queue_is_shared(queue)) return(min(wait, queue_fresh_in(queue)))
        next
      }
    }
    token <- run$counter$take()
    if (token > 0) {
      queue_back(queue, chain)
      queue$waits_for <- if (token > 120) "a quota" else "the limit"
      if (token > run$most_wait) queue_stop(queue, token)
      return(min(wait, token))
    }
    send_chain(run, queue, chain, attr(token, "token"))
    # it goes out now, and not when all others are ready
    line_run(run$line, 0)
  }
  wait
}

send_chain <- function(run, queue, chain, token = NULL) {
  # its own token, and not the one that is taken next
  force(token)
  chain$asked <- now_seconds()
  finish <- function(...) {
    event <- list(chain = chain, ...)
    run$counter$answered(token, event$response$waited)
    event$spent <- if (is.null(event$response)) NA else rate_limit_wait(event$response$headers)
    event$urgent <- is.null(event$response) || event$response$status >= 300 || !is.na(event$spent)
    queue_event(queue, event)
  }
  request <- wire_signed(chain$request, run$source, run$tokens)
  chain$token <- run$tokens$value
  line_start(run$line, request, elsewhere = run$source$elsewhere, secrets = run$secrets,
    patience = run$source$patience,
    done = function(response) finish(response = response),
    failed = function(reason) finish(reason = reason))
}

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
  # lanes that have no run any more, and lanes that wait within a request: they let the others go on
  beside$over <- logical(length(lanes))
  beside$within <- logical(length(lanes))
  on.exit(for (collection in beside$going) if (!is.null(collection)) {
    collect_drain(collection)
    collect_release(collection)
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
      function(collection) pause <<- min(pause, collect_begun(collection), collection$run$sink$due()))
  }
  under_way <- sum(vapply(Filter(length, beside$going), function(collection) collection$run$line$active, 0L))
  if (under_way > 0) {
    for (waiting in Filter(length, beside$going)) line_late(waiting$run$line)
    curl::multi_run(timeout = pause, poll = TRUE, pool = beside$pool)
  } else if (!all(beside$over)) {
    Sys.sleep(pause)
  }
  for (i in beside_free(beside)) beside_try(beside, i, collect_came_in)
  for (i in beside_free(beside)) {
    if (!collect_goes_on(beside$going[[i]])) beside_finish(beside, i)
  }
}

# Lanes that have a run and are not waiting within a request.
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
  collection <- beside$going[[i]]
  if (is.null(collection) || beside$within[i]) {
    return(invisible())
  }
  beside$within[i] <- TRUE
  failed <- tryCatch({
    work(collection)
    NULL
  }, error = function(e) e)
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

# Exports are followed turn by turn; all else is started. Gives the seconds until the next turn:
# none where something has come that was not looked at yet.
collect_begun <- function(going) {
  pause <- 1
  if (!going$queue$stopped && is.null(going$run$query$dataset$job)) {
    pause <- collect_start(going$run, going$queue, going$tally)
  } else if (!going$queue$stopped) {
    turn <- collect_jobs(going$run, going$queue, going$tally)
    going$tally <- turn$tally
    pause <- min(1, turn$pause)
  }
  if (length(going$queue$finished)) 0 else pause
}
