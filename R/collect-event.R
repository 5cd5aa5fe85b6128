# What an answer means for the run: stored, retried, a failure of this request,
# or the end of the run. Each function returns the tally.

# An internal error fails one request and the others go on; the request's
# further pages are dropped and its window stays open.
collect_safely <- function(run, queue, tally, event) {
  if (event$chain$start %in% queue$dropped) {
    return(tally)
  }
  tryCatch(collect_event(run, queue, tally, event), error = function(e) {
    if (inherits(e, "vetusta_error")) stop(e)
    queue_drop(queue, event$chain)
    reason <- paste(
      "internal error:", redact(conditionMessage(e), run$secrets())
    )
    tally <- collect_cut_short(run, tally, event$chain, event$response, reason)
    tally$failed$todo[nrow(tally$failed)] <- paste0(
      "run it again; if the error stays, report it ",
      "with the card and the answer, which `vetusta try` shows"
    )
    tally
  })
}

collect_event <- function(run, queue, tally, event) {
  chain <- event$chain
  if (!is.null(event$reason)) {
    return(collect_unanswered(run, queue, tally, chain, event$reason))
  }
  response <- event$response
  tally$in_a_row$unanswered <- 0
  verdict <- if (response$status >= 400) {
    query_refused(run$query, chain, response)
  }
  if (!is.null(verdict)) {
    return(collect_verdict(run, queue, tally, chain, response, verdict))
  }
  if (!is.null(run$query$dataset$nothing) &&
    says_nothing(run$query$dataset, chain, response)) {
    return(
      chain_beyond(run, queue, tally, chain, response) %||%
        collect_empty(run, tally, chain, response)
    )
  }
  if (!is.na(event$spent)) queue_hold(queue, event$spent)
  partial <- response$status == 206 || !is.null(chain$part)
  if (partial && is_part_of_bytes(response, chain)) {
    return(collect_part(run, queue, tally, chain, response))
  }
  switch(judge_status(response$status),
    good = collect_good(run, queue, tally, chain, response),
    again = collect_again(
      run, queue, tally, chain, answer_text(run, response), response
    ),
    refused = collect_refused(run, queue, tally, chain, response),
    absent = chain_beyond(run, queue, tally, chain, response) %||%
      chain_otherwise(run, queue, tally, chain, response) %||%
      collect_failed(
        run, tally, chain, response, "absent",
        paste0(
          "the source has no ", chain$label, ": ", answer_text(run, response)
        ),
        "look at the symbol, or leave it out"
      ),
    wrong = chain_beyond(run, queue, tally, chain, response) %||%
      chain_otherwise(run, queue, tally, chain, response) %||%
      collect_failed(
        run, tally, chain, response, "wrong",
        paste0(
          "the service did not accept the request: ", answer_text(run, response)
        ),
        "look at the query, and at the request in the source card"
      )
  )
}

# The query's reading of a refusal: list(outcome, message), with `chains` to
# request in its place, or `empty`.
collect_verdict <- function(run, queue, tally, chain, response, verdict) {
  journal_alone(run, chain, response, verdict$outcome, verdict$message)
  if (!is.null(verdict$failed)) {
    return(
      collect_failed(
        run, tally, chain, response, "failed", verdict$failed, verdict$todo
      )
    )
  }
  if (isTRUE(verdict$empty)) {
    against <- proof_against(chain$proof, chain$page)
    claim_over(
      run,
      chain,
      notes = c(
        if (!length(against)) query_notes(run$query, chain),
        incomplete_notes(run, chain, against)
      )
    )
    if (length(against)) {
      return(collect_incomplete(run, tally, chain, against))
    }
    tally$empty <- c(tally$empty, verdict$reported)
    return(tally)
  }
  if (verdict$outcome == "cut") {
    tally$cut <- tally$cut + 1
    claim_over(run, chain, notes = verdict$notes)
  }
  for (follower in rev(verdict$chains)) {
    if (verdict$outcome == "cut") follower$claim <- NULL
    queue_back(queue, follower)
  }
  tally
}

# A page that does not exist or is refused. If the source announced it, that is
# a contradiction: the page is requested again, and then the window stays open.
# If it was requested only to see whether more follows, it is the end, because
# some services answer 404 after the last page. A place by number that an
# earlier run reached may be such an end.
chain_beyond <- function(run, queue, tally, chain, response) {
  counted <- (run$query$dataset$next_page$by %||% "") %in% c("page", "offset")
  if (chain$page < 2 || (chain$resumed && !counted)) {
    return(NULL)
  }
  absent <- judge_status(response$status) == "absent"
  if (!absent && !isTRUE(chain$beyond)) {
    return(NULL)
  }
  announced <- isTRUE(chain$announced)
  if (!isTRUE(chain$beyond) &&
    chain$attempt < if (announced) announced_tries else 2) {
    return(
      collect_again(
        run, queue, tally, chain, answer_text(run, response), response
      )
    )
  }
  if (announced) {
    return(
      collect_cut_short(
        run, tally, chain, response,
        paste0(
          "page ", chain$page, ", which the source announced, is not there: ",
          answer_text(run, response)
        )
      )
    )
  }
  pages <- tally$pages
  tally <- collect_empty(run, tally, chain, response)
  tally$pages <- pages
  tally
}

# An answer without rows, stated in any form.
collect_empty <- function(run, tally, chain, response) {
  page <- query_empty_page(run$query, chain, run$calendar)
  page$against <- proof_against(chain$proof, chain$page)
  page$cause <- "open"
  chain <- page_place(chain, page, run)
  tally <- tally_page(tally, collect_store(run, chain, response, page), page)
  if (length(page$against)) {
    tally <- collect_incomplete(run, tally, chain, page$against)
  }
  collect_came(run, tally, chain, page)
}

# Whether the card declares this answer empty, by status or by an empty body. An
# answer for several symbols may concern only one of them.
says_nothing <- function(dataset, chain, response) {
  nothing <- dataset$nothing
  by_status <- response$status >= 400 &&
    length(chain$symbols) < 2 &&
    as.character(response$status) %in% as.character(unlist(nothing))
  bare <- response$status < 300 &&
    length(response$body) < 16 &&
    !nzchar(trimws(rawToChar(response$body[response$body != as.raw(0)])))
  by_status || (bare && "empty" %in% nothing)
}

chain_otherwise <- function(run, queue, tally, chain, response) {
  chain_restart(run, queue, tally, chain, response) %||%
    chain_parted(run, queue, tally, chain, response)
}

# A place reached by an earlier run that the service no longer knows: paging
# starts from the first page.
chain_restart <- function(run, queue, tally, chain, response) {
  if (!isTRUE(chain$resumed)) {
    return(NULL)
  }
  journal_alone(
    run, chain, response, "retried",
    paste(
      "the place reached before is not known any more:",
      answer_text(run, response)
    )
  )
  run$sink$forget("reached", chain$start)
  fresh <- query_chain(run$query, chain$planned)
  fresh$claim <- chain$claim
  queue_back(queue, fresh)
  tally
}

# A request for several symbols that is refused because of one: requested again
# in halves until that symbol stands alone.
chain_parted <- function(run, queue, tally, chain, response) {
  if (length(chain$symbols) < 2 || chain$page > 1) {
    return(NULL)
  }
  journal_alone(
    run, chain, response, "cut",
    paste0(answer_text(run, response), "; requested again in two halves")
  )
  half <- seq_along(chain$symbols) <= length(chain$symbols) / 2
  for (part in list(chain$symbols[!half], chain$symbols[half])) {
    planned <- chain$planned
    planned$symbols <- list(part)
    planned$label <- paste(part, collapse = " ")
    queue_back(queue, query_chain(run$query, planned))
  }
  claim_over(run, chain)
  tally
}

answer_text <- function(run, response) {
  redact(
    paste0("HTTP ", response$status, " ", body_excerpt(response$body)),
    run$secrets()
  )
}

# The journal's row of a request, without secrets.
journal_entry <- function(run, chain, response, outcome, rows = NA,
                          message = NA) {
  secrets <- run$secrets()
  list(
    run = run$name,
    symbol = chain$label,
    asked = chain$asked,
    seconds = response$seconds %||% (now_seconds() - chain$asked),
    status = response$status,
    bytes = response$bytes %||% length(response$body),
    rows = rows,
    outcome = outcome,
    url = redact(chain$request$url, secrets),
    message = if (anyNA(message)) message else redact(message, secrets)
  )
}

journal_alone <- function(run, chain, response, outcome, message) {
  run$sink$journal(
    journal_entry(run, chain, response, outcome, message = message)
  )
}

# No answer. If other requests were answered, this request failed; if none was,
# the service is down.
collect_unanswered <- function(run, queue, tally, chain, reason) {
  if (grepl("certificate", reason)) {
    stop_network(run, as.character(reason), tries = chain$attempt)
  }
  if (is_for_good(reason)) {
    todo <- if (grepl("larger than", reason)) {
      "request less at a time: a shorter window, fewer symbols or smaller pages"
    } else {
      paste0(
        "check the URL in the card; where another origin is intended, ",
        "write elsewhere: follow"
      )
    }
    return(
      collect_failed(
        run, tally, chain, list(), "failed", as.character(reason), todo
      )
    )
  }
  # a service that answered before and is now unreachable is awaited by all
  # requests, for about a minute
  away <- tally$pages > 0 && grepl("connect|resolv", reason, ignore.case = TRUE)
  tries <- if (away) 8 else 5
  if (chain$attempt < tries) {
    return(
      collect_again(
        run, queue, tally, chain,
        what = reason, tries = tries, hold = away
      )
    )
  }
  tally <- tally_row(tally, "unanswered")
  if (tally$pages == 0 || away || tally$in_a_row$unanswered > 2) {
    stop_network(run, reason, tries)
  }
  collect_failed(
    run, tally, chain, list(), "failed",
    paste0("no answer, ", tries, " times: ", reason),
    "run the command again later; it continues"
  )
}

# A transient error: retried after a pause, five times at most; a pause that the
# service states takes precedence.
collect_again <- function(run, queue, tally, chain, what, response = list(),
                          tries = 5,
                          hold = identical(as.numeric(response$status), 429)) {
  journal_alone(run, chain, response, "retried", what)
  if (chain$attempt >= tries) {
    tally <- tally_row(tally, "stumbled")
    if (tally$in_a_row$stumbled > 4) stop_stumbling(run, tally, what)
    return(
      collect_failed(
        run, tally, chain, response, "failed",
        paste0("asked ", chain$attempt, " times, the last answer was: ", what),
        "run the command again later; it continues"
      )
    )
  }
  asked_for <- retry_after(response$headers %||% list())
  pause <- if (is.na(asked_for)) {
    retry_pause(chain$attempt)
  } else {
    asked_for + 0.05
  }
  if (hold) queue_hold(queue, pause)
  chain$not_before <- now_seconds() + pause
  chain$attempt <- chain$attempt + 1
  queue_back(queue, chain)
  tally_again(tally)
}

# Several requests in a row failed after all retries: the rest would only waste
# requests.
stop_stumbling <- function(run, tally, what, kind = "network",
                           todo = "run it again later") {
  vetusta_stop(
    kind,
    paste0("The source ", run$source$source, " gives no usable answer: ", what),
    where = paste0(
      origin_of(run$source$url), ", ", tally$in_a_row$stumbled,
      " requests in a row, each tried several times"
    ),
    todo = paste0(todo, "; it continues with the missing data")
  )
}

stop_network <- function(run, what, tries = 5) {
  vetusta_stop(
    "network",
    paste0(
      "Nothing answers at the URL of the source ", run$source$source, ": ",
      what, "."
    ),
    where = paste0(
      origin_of(run$source$url),
      if (tries > 1) paste0(", after ", tries, " tries")
    ),
    todo = paste0(
      "check whether the service runs and the URL in the card is right; ",
      "then run ", "it again: it continues"
    )
  )
}

collect_refused <- function(run, queue, tally, chain, response) {
  if (is_token_access(run$source$access) &&
    response$status == 401 &&
    !chain$renewed) {
    # the token expired early: a new one is requested once, also where several
    # requests used the old one
    if (identical(run$tokens$value, chain$token)) token_refused(run$tokens)
    chain$renewed <- TRUE
    journal_alone(run, chain, response, "retried", answer_text(run, response))
    queue_back(queue, chain)
    return(tally)
  }
  stop_refused(run, chain, response)
}

stop_refused <- function(run, chain, response) {
  text <- answer_text(run, response)
  journal_alone(run, chain, response, "refused", text)
  names <- access_secrets(run$source$access)
  todo <- if (length(names)) {
    paste0(
      "check whether ", paste(names, collapse = " and "),
      " has a key that is valid for this"
    )
  } else {
    "the card has access none: check whether the service needs a key"
  }
  vetusta_stop(
    "access",
    paste0("The source ", run$source$source, " refuses access: ", text),
    where = paste0("dataset ", run$query$dataset$name, ", ", chain$label),
    todo = todo
  )
}

collect_failed <- function(run, tally, chain, response, outcome, what, todo) {
  what <- redact(what, run$secrets())
  todo <- redact(todo, run$secrets())
  journal_alone(run, chain, response, outcome, what)
  # a symbol that the source does not have leaves no open window
  claim_over(
    run,
    chain,
    notes = if (outcome != "absent") {
      incomplete_notes(run, chain, what, cause = "failed")
    }
  )
  tally_failed(
    tally, query_failed(run$query, chain), what, todo, outcome,
    chain$planned$keys
  )
}
