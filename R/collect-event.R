# What an answer, or none, means for the run: stored, asked again, a failure of this call, or the end of all.

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
    absent = if (chain_beyond(state, event$chain, response) || chain_restart(state, event$chain, response) || chain_parted(state, event$chain, response)) NULL else collect_failed(state,
      event$chain, response, "absent",
      paste0("the source has no ", event$chain$label, ": ", answer_text(state, response)),
      "look at the symbol, or leave it out"),
    wrong = if (chain_restart(state, event$chain, response) || chain_parted(state, event$chain, response)) NULL else collect_failed(state, event$chain, response, "wrong",
      paste0("the service did not accept the call: ", answer_text(state, response)),
      "look at the want, and at the request in the source card")
  )
}

# Some services say HTTP 404 for the page after the last one. A place by number or count that an earlier run reached may be just that.
chain_beyond <- function(state, chain, response) {
  if (chain$page < 2 || !is.null(state$want$sdmx) || (chain$resumed && !(state$want$offer$next_page$by %||% "") %in% c("page", "offset"))) {
    return(FALSE)
  }
  page <- empty_page(state, chain)
  chain <- page_place(chain, page, state)
  state$store(state, chain, response, page)
  state$stumbled <- 0
  state$vain <- 0
  TRUE
}

# A place reached by an earlier run that the service no longer knows: the pages are asked for from the first on.
chain_restart <- function(state, chain, response) {
  if (!isTRUE(chain$resumed)) {
    return(FALSE)
  }
  journal_alone(state, chain, response, "again", paste("the place reached before is not known any more:", answer_text(state, response)))
  in_transaction(state$archive, function() archive_reach(state$archive, state$want$source$source, state$want$offer$name, list(start = chain$start), NULL))
  fresh <- collect_chain(state$want, chain$call, NULL)
  fresh$claim <- chain$claim
  state$queue <- c(list(fresh), state$queue)
  TRUE
}

# A call for several symbols that is refused because of one of them: asked for again in two halves, until that one stands alone.
chain_parted <- function(state, chain, response) {
  if (length(chain$symbols) < 2 || chain$page > 1) {
    return(FALSE)
  }
  journal_alone(state, chain, response, "cut", paste0(answer_text(state, response), "; asked for again in two halves"))
  half <- seq_along(chain$symbols) <= length(chain$symbols) / 2
  for (part in list(chain$symbols[!half], chain$symbols[half])) {
    call <- chain$call
    call$symbols <- list(part)
    call$label <- paste(part, collapse = " ")
    state$queue <- c(list(collect_chain(state$want, call, NULL)), state$queue)
  }
  claim_over(state, chain)
  TRUE
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
  if (grepl("certificate", reason)) stop_network(state, as.character(reason), tries = chain$attempt)
  if (is_for_good(reason)) {
    return(collect_failed(state, chain, list(), "failed", as.character(reason), if (grepl("larger than", reason)) "ask for less at once: a shorter window, fewer symbols, or smaller pages"
    else "look at the address in the card; where another place is right, say elsewhere: follow"))
  }
  # a service that was there and is away is waited for by all calls, about a minute
  away <- state$pages > 0 && grepl("connect|resolv", reason, ignore.case = TRUE)
  tries <- if (away) 8 else 5
  if (chain$attempt < tries) {
    return(collect_again(state, chain, what = reason, tries = tries, hold = away))
  }
  state$unanswered <- state$unanswered + 1
  if (state$pages == 0 || away || state$unanswered > 2) stop_network(state, reason, tries)
  collect_failed(state, chain, list(), "failed", paste0("nothing came, ", tries, " times: ", reason), "run it again later: it goes on")
}

# Transient: asked again after a pause, five times at most; the service's own word leads.
collect_again <- function(state, chain, what, response = list(), tries = 5, hold = identical(as.numeric(response$status), 429)) {
  journal_alone(state, chain, response, "again", what)
  if (chain$attempt >= tries) {
    state$stumbled <- state$stumbled + 1
    if (state$stumbled > 4) stop_stumbling(state, what)
    return(collect_failed(state, chain, response, "failed", paste0("asked ", chain$attempt, " times, the last answer was: ", what), "run it again later: it goes on"))
  }
  state$again <- state$again + 1
  state$vain <- state$vain + 1
  asked_for <- retry_after(response$headers %||% list())
  pause <- if (is.na(asked_for)) retry_pause(chain$attempt) else asked_for + 0.05
  if (hold) state$hold <- max(state$hold, as.numeric(Sys.time()) + pause)
  chain$not_before <- as.numeric(Sys.time()) + pause
  chain$attempt <- chain$attempt + 1
  state$queue <- c(list(chain), state$queue)
}

# One call after another was asked again and again in vain, and nothing good came between: the rest would only cost calls.
stop_stumbling <- function(state, what, kind = "network", todo = "run it again later") {
  vetusta_stop(kind, paste0("The source ", state$want$source$source, " answers nothing that is of use: ", what), where = paste0(origin_of(state$want$source$address), ", ",
    state$stumbled, " calls in a row, each asked several times"), todo = paste0(todo, "; it goes on with what is missing"))
}

stop_network <- function(state, what, tries = 5) {
  vetusta_stop("network", paste0("Nothing answers at the address of the source ", state$want$source$source, ": ", what, "."),
    where = paste0(origin_of(state$want$source$address), if (tries > 1) paste0(", after ", tries, " tries")),
    todo = "look whether the service runs and the address in the card is right; then run it again: it goes on")
}

collect_refused <- function(state, chain, response) {
  if (state$want$source$access$by == "token" && response$status == 401 && !chain$renewed) {
    # the token ran out before its time: a new one is asked for, once, also where several calls bore the old one
    if (identical(state$tokens$value, chain$token)) state$tokens$value <- NULL
    chain$renewed <- TRUE
    journal_alone(state, chain, response, "again", answer_text(state, response))
    state$queue <- c(list(chain), state$queue)
    return(invisible())
  }
  stop_refused(state, chain, response)
}

stop_refused <- function(state, chain, response) {
  text <- answer_text(state, response)
  journal_alone(state, chain, response, "refused", text)
  names <- access_secrets(state$want$source$access)
  vetusta_stop("access", paste0("The source ", state$want$source$source, " refuses access: ", text), where = paste0("offer ", state$want$offer$name, ", ", chain$label),
    todo = if (length(names)) paste0("look whether ", paste(names, collapse = " and "),
      " holds a key that is valid for this") else "the card says access none: look whether the service needs a key")
}

collect_failed <- function(state, chain, response, outcome, what, todo) {
  what <- redact(what, state_secrets(state))
  todo <- redact(todo, state_secrets(state))
  journal_alone(state, chain, response, outcome, what)
  names <- if (state$want$shape == "bars") chain$symbols else chain$label
  claim_over(state, chain)
  state$failed_keys <- c(state$failed_keys, chain$call$keys)
  state$failed <- rbind(state$failed, data.frame(symbol = names, what = rep(what, length(names)), todo = rep(todo, length(names)), outcome = rep(outcome, length(names))))
}
