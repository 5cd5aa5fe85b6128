#' Run a plan
#'
#' Sends the plan's requests within the source's limits, follows their pages,
#' checks every row and stores each page in one transaction: its rows, its
#' journal row and the place reached. An interrupted run continues when it is
#' started again, and no stored page is requested again. A failure of one symbol
#' is recorded, and the others go on.
#'
#' @param plan A plan, see [plan_requests()].
#' @param into An archive, see [archive_open()].
#' @param progress Whether to show progress on standard error: one changing line
#'   on a terminal, else a plain line per minute.
#' @param requests Stop after this many requests for pages; the next run
#'   continues there.
#' @param raw Whether to store the raw pages too, compressed, so that
#'   [collect_reparse()] can parse them again with a corrected card.
#' @param wait The longest pause, in seconds, to wait for. If a quota needs a
#'   longer one, the run ends and states when to continue.
#' @param gather The number of small pages written in one transaction; a page
#'   waits at most a fifth of a second. A killed run requests these pages again.
#'   With 1 each page is written at once.
#' @return Invisibly a `vetusta_run`: a list with `empty` (requests without
#'   data), `pages`, `new`, `changed`, `unchanged` (rows), `doubled` (rows
#'   received twice and stored once), `rejected` (rejected rows), `retried`
#'   (repeated requests), `seconds`, and `failed` (a data frame of `symbol`,
#'   `what`, `todo`, `outcome`). `left` is the number of requests not made or
#'   not finished because a quota is used up or `requests` was reached, `resume`
#'   the instant to continue.
#' @section Errors: `vetusta_error_secret` for a missing key,
#'   `vetusta_error_access` if the service refuses it, `vetusta_error_network`
#'   without an answer, `vetusta_error_archive` if the archive cannot be
#'   written. Rows stored before stay in every case.
#' @export
#' @examples
#' \dontrun{
#' quay <- source_card("quay") # `vetusta services` serves it on this machine
#' query <- query_bars(quay, c("KELD", "TAMX"),
#'   interval = "1 minute", from = "2026-03-12", to =
#'     "2026-03-13"
#' )
#' archive <- archive_open("archive.sqlite")
#' collect_run(plan_requests(query, archive), into = archive)
#' }
collect_run <- function(plan, into, progress = interactive(), requests = Inf,
                        raw = FALSE, wait = 900, gather = 50) {
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

# A run that ends by a signal or error stores what has arrived and requests
# nothing more.
collect_drain <- function(going) {
  going$run$most_pages <- -Inf
  going$queue$stopped <- TRUE
  until <- now_seconds() + drain_seconds
  try(silent = TRUE, {
    line_run(going$run$line, 0)
    while (length(going$queue$finished) && now_seconds() < until) {
      event <- queue_event_next(going$queue)
      # only successful answers can be stored
      if (isTRUE(event$response$status < 300)) {
        going$tally <- collect_safely(
          going$run, going$queue, going$tally, event
        )
      }
      line_run(going$run$line, 0)
    }
  })
}

drain_seconds <- 20

# A run that has begun and advances step by step: its constants, its queue and
# its tally.
collect_begin <- function(plan, into, progress = FALSE, requests = Inf,
                          raw = FALSE, wait = 900, gather = 50, pool = NULL,
                          rest = NULL) {
  check_plan(plan)
  check_whole(gather, "gather", kind = "argument")
  archive <- check_archive(into)
  query <- plan$query
  going <- new.env(parent = emptyenv())
  sink <- archive_sink(archive, query, keep_raw = raw, gather = gather)
  going$run <- run_make(
    query,
    sink,
    most_pages = requests,
    most_wait = wait,
    planned = isTRUE(plan$with_archive),
    pool = pool,
    rest = rest
  )
  going$queue <- queue_make(plan$requests)
  going$tally <- tally_make()
  going$total <- plan$pages
  going$began <- now_seconds()
  going$round <- query_round(query)
  going$run$sink$beat()
  collect_share(going$run, going$queue)
  dataset_facts_put(
    archive, query$source$source, query$dataset$name, run_facts(going$run)
  )
  collect_card_note(archive, query$source)
  going$run$sink$round_begin(going$round)
  going$show <- if (progress && queue_left(going$queue)) {
    progress_make(going$run, plan$pages)
  } else {
    function(...) NULL
  }
  going
}

# Unhandled events count too, because they may arrive while another run is
# handled.
collect_goes_on <- function(going) {
  queue <- going$queue
  length(queue$finished) > 0 ||
    going$run$line$active > 0L ||
    ((queue_left(queue) || !is.null(queue$job)) && !queue$stopped)
}

# Starts possible requests, waits for answers, and handles one.
collect_step <- function(going) {
  pause <- collect_begun(going)
  line_run(going$run$line, min(pause, going$run$sink$due()))
  collect_came_in(going)
}

# Polls exports step by step; starts other requests. Returns the seconds until
# the next step: zero where an event is unhandled.
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

# Handles one answer, then starts what it makes possible before the next, so
# that the service is kept busy.
collect_came_in <- function(going) {
  going$run$sink$beat()
  if (!is.null(event <- queue_event_next(going$queue))) {
    going$tally <- collect_safely(going$run, going$queue, going$tally, event)
    # collect arrivals now, so that their time is that of their arrival
    if (going$run$line$active > 0L) line_run(going$run$line, 0)
  }
  going$run$sink$due()
  wrong <- going$run$sink$wrong()
  if (length(wrong)) going$tally <- tally_counts(going$tally, wrong)
  going$show(going$tally, going$queue)
}

collect_end <- function(going) {
  going$run$sink$settle()
  going$tally <- tally_counts(going$tally, going$run$sink$wrong())
  # when every request was made, the next run starts anew
  if (queue_left(going$queue) + going$queue$unfinished == 0) {
    going$run$sink$round_end(going$round)
  }
  collect_result(going$run, going$queue, going$tally)
}

collect_release <- function(going) {
  line_close(going$run$line)
  try(going$run$sink$release(), silent = TRUE)
}

check_plan <- function(plan) {
  if (missing(plan) || !inherits(plan, "vetusta_plan")) {
    vetusta_stop(
      "argument", "This is not a plan.",
      todo = "make a plan with plan_requests()"
    )
  }
  for (name in access_secrets(plan$query$source$access)) {
    source_secret(plan$query$source, name)
  }
}

# The constants of a run: the query, the destination and the bounds.
run_make <- function(query, sink, most_pages = Inf, most_wait = 900,
                     at_once = query$source$at_once, planned = FALSE,
                     ahead = TRUE, pool = NULL, rest = NULL) {
  source <- source_of_run(query$source)
  tokens <- new.env(parent = emptyenv())
  line <- wire_line(source$at_once, pool)
  pass <- rest %||% function(seconds) line_run(line, seconds)
  list(
    query = query,
    source = source,
    sink = sink,
    calendar = calendar_within(source_calendar(source), query$from, query$to),
    counter = sink$counter,
    # the current token, and all texts to redact
    tokens = tokens,
    secrets = run_secrets(source, tokens),
    line = line,
    # sleeps within a request, up to the given seconds; other runs may go on
    # meanwhile
    rest = function(seconds) {
      sink$beat()
      pass(min(seconds, 10))
    },
    name = format(now_time(), "%Y%m%dT%H%M%OS3", tz = "UTC"),
    started = sink$now(),
    most_pages = most_pages,
    most_wait = most_wait,
    at_once = at_once,
    planned = planned,
    ahead = ahead,
    # the direction of pages that the card states, and whether bars are shorter
    # than a day
    way = stated_direction(query$dataset),
    short = is.null(query$interval) || is_intraday(query$interval)
  )
}

# Facts of the dataset that the card states.
run_facts <- function(run) {
  dataset <- run$query$dataset
  units <- unlist(lapply(dataset$columns, `[[`, "unit"))
  list(
    zone = if (run$source$zone != "UTC") run$source$zone,
    calendar = calendar_plain(run$calendar),
    delay = run$source$delay,
    title = dataset$title,
    licence = run$source$licence,
    unit = units
  )
}

# Starts all requests that may be sent now; returns the seconds until the next.
# Unhandled answers are at most twice as many as requests under way, and
# together with those no more than the wanted pages. With `fresh`, new requests
# are begun until one belongs to another collector or an answer has arrived: a
# claim takes time, and answers are stored first.
collect_start <- function(run, queue, tally, most = run$at_once, fresh = TRUE) {
  now <- now_seconds()
  wait <- 1
  queue$waits_for <- NULL
  if (length(queue$leaving)) collect_sent(run, queue)
  if (run$line$active >= most) wait <- min(wait, run$counter$watch())
  in_hand <- min(2 * most, run$most_pages - tally$pages)
  left <- function() if (fresh) queue_left(queue) else length(queue$waiting)
  while (left() &&
    run$line$active < most &&
    run$line$active + length(queue$finished) < in_hand &&
    !queue_is_urgent(queue)) {
    not_before <- vapply(queue$waiting, `[[`, 0, "not_before")
    ready <- which(not_before <= now)
    delay <- max(0, queue$hold - now)
    # after many failures in a row, retries come before new requests
    begins <- fresh && (tally$in_a_row$vain < 8 || !length(queue$waiting))
    soon <- if (begins) queue_fresh_in(queue) else Inf
    if ((!length(ready) && soon > 0) || delay > 0) {
      pause <- max(delay, if (soon > 0) min(not_before - now, soon), 0.001)
      queue$waits_for <- if (delay > 0) {
        "the service"
      } else if (length(queue$waiting)) {
        "another try"
      } else {
        "another collector"
      }
      if (pause > run$most_wait) queue_stop(queue, pause)
      return(min(wait, pause))
    }
    if (length(ready)) {
      chain <- queue$waiting[[ready[1]]]
      queue$waiting <- queue$waiting[-ready[1]]
    } else {
      # handle arrivals before another request begins
      if (length(queue$finished)) {
        return(0)
      }
      if (queue$met) {
        collect_met(run, queue)
        if (queue$begun >= length(queue$order)) next
      }
      chain <- next_chain(run, queue)
      line_run(run$line, 0)
      if (is.null(chain)) {
        if (queue_is_shared(queue)) {
          return(min(wait, queue_fresh_in(queue)))
        }
        next
      }
    }
    token <- run$counter$take(limit_ahead)
    if (token > 0) {
      queue_back(queue, chain)
      queue$waits_for <- if (token > 120) "a quota" else "the limit"
      if (token > run$most_wait) queue_stop(queue, token)
      return(min(wait, token))
    }
    if (attr(token, "hold") > 0) Sys.sleep(attr(token, "hold"))
    send_chain(run, queue, chain, attr(token, "token"))
    # send it now, not when all others are ready
    line_run(run$line, 0)
    if (run$counter$waits_sent() > 0) {
      collect_sent(run, queue, attr(token, "token"))
    }
  }
  wait
}

# Tells the counter when requests have left: the one just sent, which is waited
# for, and earlier ones that then still waited for a connection.
collect_sent <- function(run, queue, token = NULL) {
  left <- vapply(
    queue$leaving, function(one) line_left(run$line, one$name), TRUE
  )
  for (one in queue$leaving[left %in% TRUE]) run$counter$sent(one$token)
  queue$leaving <- queue$leaving[left %in% FALSE]
  patience <- if (is.null(token)) 0 else run$counter$waits_sent()
  if (patience > 0) {
    name <- as.character(run$line$begun)
    gone <- line_sent(run$line, patience)
    run$counter$sent(token, gone)
    if (!gone) {
      queue$leaving <- c(queue$leaving, list(list(token = token, name = name)))
    }
  }
}

send_chain <- function(run, queue, chain, token = NULL) {
  # the current token, not the one that follows
  force(token)
  chain$asked <- now_seconds()
  finish <- function(...) {
    event <- list(chain = chain, ...)
    run$counter$answered(token, event$response$waited)
    event$spent <- if (is.null(event$response)) {
      NA
    } else {
      rate_limit_wait(event$response$headers)
    }
    event$urgent <- is.null(event$response) ||
      event$response$status >= 300 ||
      !is.na(event$spent)
    queue_event(queue, event)
  }
  request <- wire_signed(chain$request, run$source, run$tokens)
  chain$token <- run$tokens$value
  line_start(
    run$line,
    request,
    elsewhere = run$source$elsewhere,
    secrets = run$secrets,
    patience = run$source$patience,
    done = function(response) finish(response = response),
    failed = function(reason) finish(reason = reason)
  )
}
