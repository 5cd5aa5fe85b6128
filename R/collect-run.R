#' Collect what a plan asks for
#'
#' Sends the plan's calls within the source's limits, follows their pages, checks every row and stores each page as one
#' transaction: its bars, its row in the journal and the place that was reached. Stopped at any moment and run again, it
#' goes on; no page that is stored is asked for again. What fails for one symbol is recorded, and the rest goes on.
#'
#' @param plan A plan, see [plan_calls()].
#' @param into An archive, see [archive_open()].
#' @param progress Whether to show a progress bar, on standard error.
#' @param pages Stop after so many pages; the next run goes on there.
#' @param raw Whether to keep the raw pages too, compressed, so that [collect_reread()] can read them again with a corrected card.
#' @param wait The longest pause, in seconds, that is waited for within the run; where a quota makes it longer, the run ends
#'   and says when to go on.
#' @return Invisibly a `vetusta_run`: a list with `pages`, `new`, `changed`, `equal` (bars), `aside` (rows set aside among the
#'   archive's findings), `again` (calls that had to be repeated), `seconds`, and `failed` (a data frame of `symbol`, `what`, `todo`).
#'   `left` are the calls not made or not ended because a quota is used up or `pages` was reached, `resume` when to go on.
#' @section Errors: `vetusta_error_secret` when the key is not set, `vetusta_error_access` when the service refuses it,
#'   `vetusta_error_network` when nothing answers, `vetusta_error_archive` when the archive cannot be written. What was
#'   stored before is kept in every case.
#' @export
#' @examples
#' \dontrun{
#' quay <- source_card("quay") # `vetusta services` serves it on this machine
#' want <- want_bars(quay, c("KELD", "TAMX"), interval = "1 minute", from = "2026-03-12", to = "2026-03-13")
#' archive <- archive_open("archive.sqlite")
#' collect_run(plan_calls(want, archive), into = archive)
#' }
collect_run <- function(plan, into, progress = interactive(), pages = Inf, raw = FALSE, wait = 900) {
  if (!inherits(plan, "vetusta_plan")) vetusta_stop("want", "What is collected is a plan.", todo = "make one with plan_calls()")
  archive <- check_archive(into)
  source <- plan$want$source
  for (name in access_secrets(source$access)) source_secret(source, name)
  state <- collect_state(plan, archive)
  state$most_pages <- pages
  state$keep_raw <- raw
  state$most_wait <- wait
  on.exit(line_close(state$line))
  if (!is.null(plan$want$offer$job)) {
    while (calls_left(state)) collect_job(state, next_chain(state))
  }
  bar <- if (progress && calls_left(state)) collect_bar(plan$pages)
  while ((calls_left(state) && !state$stopped) || state$line$active > 0L) {
    pause <- if (state$stopped) 1 else collect_start(state)
    line_run(state$line, pause)
    while (length(state$finished)) {
      event <- state$finished[[1]]
      state$finished <- state$finished[-1]
      collect_event(state, event)
      if (!is.null(bar)) bar(state$pages, event$chain$label)
    }
  }
  for (series in state$touched) archive_settle(archive, series)
  invisible(collect_result(state))
}

collect_state <- function(plan, archive) {
  state <- new.env(parent = emptyenv())
  want <- plan$want
  state$want <- want
  state$archive <- archive
  state$calendar <- source_calendar(want$source)
  state$gate <- limits_gate(want$source$limits)
  state$tokens <- new.env(parent = emptyenv())
  state$store <- page_store
  state$one_by_one <- FALSE
  state$stopped <- FALSE
  state$most_pages <- Inf
  state$keep_raw <- FALSE
  state$most_wait <- 900
  state$resume <- NULL
  state$line <- wire_line(want$source$at_once)
  state$run <- format(Sys.time(), "%Y%m%dT%H%M%OS3", tz = "UTC")
  # the calls of the plan that are not begun yet, and those that go on or wait to be repeated
  state$calls <- plan$calls
  state$begun <- 0
  state$queue <- list()
  state$unfinished <- 0
  state$unanswered <- 0
  state$finished <- list()
  state$hold <- 0
  state$touched <- numeric()
  state$series <- list()
  state$started <- as.numeric(Sys.time())
  state$empty <- character()
  for (name in c("pages", "new", "changed", "equal", "aside", "again", "cut")) state[[name]] <- 0
  state$failed <- data.frame(symbol = character(), what = character(), todo = character())
  state
}

# A chain is one call of the plan with the pages that follow from it. One that was stopped in the middle of its pages, and whose
# place is known by an address alone, goes on at that address.
collect_chain <- function(want, call, archive = NULL, now = as.numeric(Sys.time())) {
  if (!is.null(want$sdmx)) {
    return(observation_chain(want, call, archive, now))
  }
  known <- call_known(want, call)
  chain <- list(known = known, symbols = call$symbols[[1]], label = call$label, from = as.numeric(call$from), to = as.numeric(call$to), asked = now, attempt = 1, page = 1, before = 0,
    not_before = 0, seen = character(), resumed = FALSE, direction = NA_character_, edge = NULL, renewed = FALSE,
    request = wire_request(want$source, want$offer, offer_values(want$offer, known, want$source$zone)))
  if (is.na(chain$from)) chain["from"] <- list(NULL)
  chain$start <- chain$request$address
  chain$windowed <- want$shape == "bars" && "from" %in% offer_gives(want$offer)
  reached <- if (!is.null(archive) && !chain$windowed && !is.null(want$offer$next_page)) archive_reached(archive, want, chain)
  chain$resumed <- !is.null(reached)
  if (!is.null(reached)) {
    chain$request$address <- reached$following
    chain$page <- reached$page
    chain$before <- reached$before
  }
  chain
}

calls_left <- function(state) length(state$queue) + nrow(state$calls) - state$begun

next_chain <- function(state) {
  state$begun <- state$begun + 1
  collect_chain(state$want, state$calls[state$begun, ], state$archive)
}

collect_bar <- function(total) {
  id <- cli::cli_progress_bar(total = total, format = "{cli::pb_bar} {cli::pb_current} of {cli::pb_total} pages | {cli::pb_status} | {cli::pb_eta_str}",
    .auto_close = FALSE, clear = TRUE)
  function(done, symbol) cli::cli_progress_update(set = min(done, total), status = symbol, id = id)
}

# Starts every call that may be sent now; gives the seconds until the next one may.
collect_start <- function(state, most = state$want$source$at_once) {
  now <- as.numeric(Sys.time())
  wait <- 1
  while (calls_left(state) && state$line$active < most) {
    not_before <- vapply(state$queue, `[[`, 0, "not_before")
    ready <- which(not_before <= now)
    held <- max(0, state$hold - now)
    fresh <- state$begun < nrow(state$calls)
    if ((!length(ready) && !fresh) || held > 0) {
      pause <- max(held, if (!fresh) min(not_before) - now, 0.001)
      if (pause > state$most_wait) collect_stop(state, pause)
      return(min(wait, pause))
    }
    token <- take_token(state)
    if (token > 0) {
      if (token > state$most_wait) collect_stop(state, token)
      return(min(wait, token))
    }
    if (length(ready)) {
      chain <- state$queue[[ready[1]]]
      state$queue <- state$queue[-ready[1]]
    } else {
      chain <- next_chain(state)
    }
    send_chain(state, chain)
  }
  wait
}

# The wait is too long to stay for: the run ends and says when to go on.
collect_stop <- function(state, pause) {
  state$stopped <- TRUE
  state$resume <- utc(as.numeric(Sys.time()) + pause)
}

take_token <- function(state) {
  limits <- state$want$source$limits
  if (!length(limits)) {
    return(0)
  }
  if (is.null(state$archive)) {
    return(state$gate())
  }
  now <- as.numeric(Sys.time())
  archive_take_token(state$archive, state$want$source$source, limit_windows(limits, now), longest_window(limits), function(times, now) limit_wait(times, limits, now), now)
}

send_chain <- function(state, chain) {
  chain$asked <- as.numeric(Sys.time())
  finish <- function(...) state$finished[[length(state$finished) + 1]] <- list(chain = chain, ...)
  line_start(state$line, wire_signed(chain$request, state$want$source, state$tokens), elsewhere = state$want$source$elsewhere,
    patience = state$want$source$patience, done = function(response) finish(response = response), failed = function(reason) finish(reason = reason))
}

collect_event <- function(state, event) {
  if (!is.null(event$reason)) {
    return(collect_unanswered(state, event$chain, event$reason))
  }
  response <- event$response
  state$unanswered <- 0
  if (!is.null(state$want$sdmx) && response$status >= 400 && observation_event(state, event$chain, response)) {
    return(invisible())
  }
  spent <- rate_limit_wait(response$headers)
  if (!is.na(spent)) state$hold <- max(state$hold, as.numeric(Sys.time()) + spent)
  switch(judge_status(response$status),
    good = collect_good(state, event$chain, response),
    again = collect_again(state, event$chain, answer_text(state, response), response),
    refused = collect_refused(state, event$chain, response),
    absent = collect_failed(state, event$chain, response, "absent", paste0("the source has no ", event$chain$label, ": ", answer_text(state, response)),
      "look at the symbol, or leave it out"),
    wrong = collect_failed(state, event$chain, response, "wrong", paste0("the service did not accept the call: ", answer_text(state, response)),
      "look at the want, and at the request in the source card")
  )
}

answer_text <- function(state, response) {
  redact(paste0("HTTP ", response$status, " ", body_excerpt(response$body)), state_secrets(state))
}

# What must not be seen: the secrets, and the token that was granted for them.
state_secrets <- function(state) c(source_secrets(state$want$source), state$tokens$value)

journal_entry <- function(state, chain, response, outcome, rows = NA, message = NA) {
  if (is.null(state$archive)) {
    return(NA_integer_)
  }
  secrets <- state_secrets(state)
  archive_journal_add(state$archive, list(
    run = state$run, source = state$want$source$source, offer = state$want$offer$name, symbol = chain$label, asked = chain$asked,
    seconds = as.numeric(Sys.time()) - chain$asked, status = response$status, bytes = length(response$body), rows = rows, outcome = outcome,
    address = redact(chain$request$address, secrets), message = redact(message, secrets)
  ))
}

journal_alone <- function(state, chain, response, outcome, message) {
  if (!is.null(state$archive)) in_transaction(state$archive, function() journal_entry(state, chain, response, outcome, message = message))
}

# Nothing came. Where others were answered it is this call's failure; where nothing is answered, it is the service's.
collect_unanswered <- function(state, chain, reason) {
  if (is_for_good(reason)) {
    return(collect_failed(state, chain, list(), "failed", as.character(reason), "look at the address in the card; where another place is right, say elsewhere: follow"))
  }
  if (chain$attempt < 5) {
    return(collect_again(state, chain, what = reason))
  }
  state$unanswered <- state$unanswered + 1
  if (state$pages == 0 || state$unanswered > 2) stop_network(state, reason)
  collect_failed(state, chain, list(), "failed", paste0("nothing came, 5 times: ", reason), "run it again later: it goes on")
}

# Transient: asked again after a pause, five times at most; the service's own word leads.
collect_again <- function(state, chain, what, response = list()) {
  journal_alone(state, chain, response, "again", what)
  if (chain$attempt >= 5) {
    return(collect_failed(state, chain, response, "failed", paste0("asked ", chain$attempt, " times, the last answer was: ", what), "run it again later: it goes on"))
  }
  state$again <- state$again + 1
  asked_for <- retry_after(response$headers %||% list())
  pause <- if (is.na(asked_for)) retry_pause(chain$attempt) else asked_for + 0.05
  if (identical(as.numeric(response$status), 429)) state$hold <- max(state$hold, as.numeric(Sys.time()) + pause)
  chain$not_before <- as.numeric(Sys.time()) + pause
  chain$attempt <- chain$attempt + 1
  state$queue <- c(list(chain), state$queue)
}

stop_network <- function(state, what) {
  vetusta_stop("network", paste0("Nothing answers at the address of the source ", state$want$source$source, ": ", what, "."),
    where = paste0(origin_of(state$want$source$address), ", after 5 tries"),
    todo = "look whether the service runs and the address in the card is right; then run it again: it goes on")
}

collect_refused <- function(state, chain, response) {
  text <- answer_text(state, response)
  if (state$want$source$access$by == "token" && response$status == 401 && !chain$renewed) {
    # the token ran out before its time: a new one is asked for, once
    state$tokens$value <- NULL
    chain$renewed <- TRUE
    journal_alone(state, chain, response, "again", text)
    state$queue <- c(list(chain), state$queue)
    return(invisible())
  }
  journal_alone(state, chain, response, "refused", text)
  names <- access_secrets(state$want$source$access)
  vetusta_stop("access", paste0("The source ", state$want$source$source, " refuses access: ", text), where = paste0("offer ", state$want$offer$name, ", ", chain$label),
    todo = if (length(names)) paste0("look whether ", paste(names, collapse = " and "),
      " holds a key that is valid for this") else "the card says access none: look whether the service needs a key")
}

collect_failed <- function(state, chain, response, outcome, what, todo) {
  journal_alone(state, chain, response, outcome, what)
  names <- if (state$want$shape == "bars") chain$symbols else chain$label
  state$failed <- rbind(state$failed, data.frame(symbol = names, what = rep(what, length(names)), todo = rep(todo, length(names))))
}
