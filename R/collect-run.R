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
#' @return Invisibly a `vetusta_run`: a list with `empty` (what had no data), `pages`, `new`, `changed`, `equal` (bars), `aside` (rows set aside among the
#'   archive's findings), `again` (calls that had to be repeated), `seconds`, and `failed` (a data frame of `symbol`, `what`, `todo`, `outcome`).
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
  if (missing(plan) || !inherits(plan, "vetusta_plan")) vetusta_stop("want", "What is collected is a plan.", todo = "make one with plan_calls()")
  archive <- check_archive(into)
  source <- plan$want$source
  for (name in access_secrets(source$access)) source_secret(source, name)
  state <- collect_state(plan, archive)
  state$most_pages <- pages
  state$keep_raw <- raw
  state$most_wait <- wait
  on.exit({
    line_close(state$line)
    try(archive_claims_release(archive), silent = TRUE)
  })
  round <- want_round(plan$want)
  if (!is.null(round)) in_transaction(archive, function() archive_round_begin(archive, source$source, plan$want$offer$name, round))
  if (!is.null(plan$want$offer$job)) {
    while (calls_left(state) && !state$stopped) {
      chain <- next_chain(state)
      if (is.null(chain)) Sys.sleep(0.2) else collect_job(state, chain)
    }
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
  # where every call was made, the next run asks anew
  if (!is.null(round) && calls_left(state) + state$unfinished == 0) in_transaction(archive, function() archive_round_end(archive, source$source, plan$want$offer$name, round))
  invisible(collect_result(state))
}

collect_state <- function(plan, archive) {
  state <- new.env(parent = emptyenv())
  want <- plan$want
  state$want <- want
  state$archive <- archive
  state$calendar <- source_calendar(want$source)
  state$counter <- source_counter(want$source, archive)
  state$largest <- 0
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
  state$order <- seq_len(nrow(plan$calls))
  state$tried <- numeric(nrow(plan$calls))
  state$begun <- 0
  state$claimed <- new.env(parent = emptyenv())
  state$planned_with <- isTRUE(plan$with_archive)
  state$queue <- list()
  state$unfinished <- 0
  state$unanswered <- 0
  state$stumbled <- 0
  state$vain <- 0
  state$finished <- list()
  state$hold <- 0
  state$touched <- numeric()
  state$series <- list()
  state$started <- as.numeric(Sys.time())
  state$empty <- character()
  state$came <- new.env(parent = emptyenv())
  state$failed_keys <- list()
  for (name in c("pages", "new", "changed", "equal", "aside", "again", "cut")) state[[name]] <- 0
  state$failed <- data.frame(symbol = character(), what = character(), todo = character(), outcome = character())
  state
}

# A chain is one call of the plan with the pages that follow from it. One that was stopped in the middle of its pages, and whose
# place is known by an address alone, goes on at that address.
collect_chain <- function(want, call, archive = NULL, now = as.numeric(Sys.time())) {
  if (!is.null(want$sdmx)) {
    return(observation_chain(want, call, archive, now))
  }
  known <- call_known(want, call)
  chain <- list(call = call, known = known, symbols = call$symbols[[1]], label = call$label, from = as.numeric(call$from), to = as.numeric(call$to), asked = now, attempt = 1, page = 1, before = 0,
    not_before = 0, seen = character(), resumed = FALSE, direction = NA_character_, ends = NULL, renewed = FALSE,
    request = wire_request(want$source, want$offer, offer_values(want$offer, known, want$source$zone)))
  if (is.na(chain$from)) chain["from"] <- list(NULL)
  chain$start <- request_key(chain$request)
  chain$key <- call_key(call)
  chain$windowed <- want$shape == "bars" && has_window(want$offer)
  reached <- if (!is.null(archive) && !chain$windowed && !is.null(want$offer$next_page)) archive_reached(archive, want$source$source, want$offer$name, chain$start)
  chain$resumed <- !is.null(reached)
  if (!is.null(reached)) {
    chain$request$address <- reached$following
    chain$page <- reached$page
    chain$before <- reached$before
  }
  chain
}

calls_left <- function(state) length(state$queue) + length(state$order) - state$begun

# What is shown while it runs: pages of those that were planned, of which more may come, and what is at work. That it cannot be drawn is no reason to stop.
collect_bar <- function(total) {
  began <- as.numeric(Sys.time())
  # the environment keeps the line until the run that shows it has ended
  id <- cli::cli_progress_bar(type = "custom", total = NA, format = "{cli::pb_extra$text}", extra = list(text = ""), clear = TRUE, .auto_close = TRUE, .envir = parent.frame())
  function(done, symbol) {
    planned <- max(total, done)
    left <- (as.numeric(Sys.time()) - began) / max(1, done) * (planned - done)
    text <- paste0(format(done, big.mark = ","), " of ", format(planned, big.mark = ","), " pages, ", symbol, ", about ", format_seconds(left), " left")
    try(cli::cli_progress_update(extra = list(text = text), id = id), silent = TRUE)
  }
}

# Starts every call that may be sent now; gives the seconds until the next one may.
collect_start <- function(state, most = state$want$source$at_once) {
  now <- as.numeric(Sys.time())
  wait <- 1
  while (calls_left(state) && state$line$active < most) {
    not_before <- vapply(state$queue, `[[`, 0, "not_before")
    ready <- which(not_before <= now)
    held <- max(0, state$hold - now)
    # where one answer after another is of no use, those that wait are asked again before any other is begun
    soon <- if (state$vain < 8 || !length(state$queue)) fresh_in(state) else Inf
    if ((!length(ready) && soon > 0) || held > 0) {
      pause <- max(held, if (soon > 0) min(not_before - now, soon), 0.001)
      if (pause > state$most_wait) collect_stop(state, pause)
      return(min(wait, pause))
    }
    if (length(ready)) {
      chain <- state$queue[[ready[1]]]
      state$queue <- state$queue[-ready[1]]
    } else {
      chain <- next_chain(state)
      if (is.null(chain)) next
    }
    token <- take_token(state)
    if (token > 0) {
      state$queue <- c(list(chain), state$queue)
      if (token > state$most_wait) collect_stop(state, token)
      return(min(wait, token))
    }
    send_chain(state, chain, attr(token, "token"))
  }
  wait
}

# The wait is too long to stay for: the run ends and says when to go on.
collect_stop <- function(state, pause) {
  state$stopped <- TRUE
  state$resume <- utc(as.numeric(Sys.time()) + pause)
}

take_token <- function(state) state$counter$take()

# Calls are counted in the archive where there is one, for all processes on it.
source_counter <- function(source, archive = NULL) {
  limit_counter(source$limits, if (is.null(archive)) limit_memory() else list(
    take = function(windows, under_way) archive_take_token(archive, source$source, windows, under_way),
    made = function(id, at) archive_token_made(archive, id, at),
    times = function(since) archive_tokens(archive, source$source, since),
    forget = function(before) archive_tokens_forget(archive, source$source, before)
  ))
}

send_chain <- function(state, chain, token = NULL) {
  # its own token, and not the one that is taken next
  force(token)
  chain$asked <- as.numeric(Sys.time())
  finish <- function(...) {
    event <- list(chain = chain, ...)
    state$counter$answered(token, event$response$waited)
    state$finished[[length(state$finished) + 1]] <- event
  }
  request <- wire_signed(chain$request, state$want$source, state$tokens)
  chain$token <- state$tokens$value
  line_start(state$line, request, elsewhere = state$want$source$elsewhere, secrets = function() state_secrets(state),
    patience = state$want$source$patience, done = function(response) finish(response = response), failed = function(reason) finish(reason = reason))
}
