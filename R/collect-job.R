# Jobs: an export is asked for, looked at again with growing pauses, its link followed, the file downloaded to disk with
# resume, and stored in pieces. Each step is noted in the archive: after a restart the export is not asked for again.

collect_job <- function(state, chain) {
  offer <- state$want$offer
  note <- archive_job(state$archive, state$want, chain) %||% job_ask(state, chain, offer)
  if (is.null(note)) {
    return(invisible())
  }
  if (is.na(note$link)) note <- job_look(state, chain, offer, note)
  if (is.null(note)) {
    return(invisible())
  }
  file <- job_file(state, chain)
  if (!job_download(state, chain, note$link, file)) {
    return(invisible())
  }
  chain$request$address <- note$link
  good <- tryCatch(job_store(state, chain, offer, file), vetusta_error_payload = function(e) {
    collect_failed(state, chain, list(), "payload", e$what, e$todo)
    FALSE
  })
  beside <- list.files(dirname(file), full.names = TRUE)
  unlink(beside[startsWith(basename(beside), basename(file))])
  # its folder is of no use any more, unless another export is in it
  if (!length(list.files(dirname(file), all.files = TRUE, no.. = TRUE))) unlink(dirname(file), recursive = TRUE)
  in_transaction(state$archive, function() archive_job_forget(state$archive, state$want, chain))
  invisible(good)
}

job_ask <- function(state, chain, offer) {
  answer <- job_fetch(state, chain, chain$request, "the export")
  if (is.null(answer)) {
    return(NULL)
  }
  look <- if (identical(offer$job$look, "location")) {
    answer$headers[["location"]] %|else|% function(address) absolute_address(address, answer$address)
  } else {
    job_member(answer, offer$job$ticket) %|else|% function(ticket) job_look_address(state, chain, offer, ticket)
  }
  if (is.null(look) || is.na(look) || !may_follow(look, state$want$source$address, state$want$source$elsewhere)) {
    collect_failed(state, chain, answer, "payload", paste0("the answer does not say where to look for the export",
      if (!is.null(offer$job$ticket)) paste0(": there is no ticket at ", offer$job$ticket)), "correct ticket: and look: in the card")
    return(NULL)
  }
  in_transaction(state$archive, function() archive_job_note(state$archive, state$want, chain, look, NA_character_))
  list(look = look, link = NA_character_)
}

job_look_address <- function(state, chain, offer, ticket) {
  address <- template_expand(offer$job$look, c(list(ticket = ticket), offer_values(offer, chain$known, state$want$source$zone)))
  if (grepl("^https?://", address)) address else paste0(state$want$source$address, address)
}

# Looks until the export is ready, with growing pauses, as long as the run may wait.
job_look <- function(state, chain, offer, note) {
  pause <- time_interval(offer$job$pause %||% "PT1S")$seconds
  until <- as.numeric(Sys.time()) + state$most_wait
  forget <- function() in_transaction(state$archive, function() archive_job_forget(state$archive, state$want, chain))
  repeat {
    answer <- job_fetch(state, chain, list(address = note$look, method = "GET", headers = list(Accept = "application/json")), "the export's state")
    if (is.null(answer)) {
      # a ticket that is no longer known is asked for anew the next time
      if (!state$stopped) forget()
      return(NULL)
    }
    said <- job_state(answer, offer$job)
    if (said == "ready") break
    if (said == "failed") {
      forget()
      collect_failed(state, chain, answer, "failed", "the service says that the export failed", "ask for it again; a shorter window may help")
      return(NULL)
    }
    asked_for <- retry_after(answer$headers)
    wait <- if (is.na(asked_for)) pause else max(asked_for, pause)
    if (as.numeric(Sys.time()) + wait > until) {
      return(job_later(state, wait))
    }
    Sys.sleep(wait)
    pause <- min(60, pause * 1.5)
  }
  # without a link of its own, the file is where one looked
  link <- if (is.null(offer$job$link)) note$look else job_member(answer, offer$job$link) %|else|% function(link) absolute_address(link, note$look)
  if (is.null(link) || is.na(link) || !may_follow(link, state$want$source$address, state$want$source$elsewhere)) {
    collect_failed(state, chain, answer, "payload", "the export's link is missing or leads to another place",
      "look at link: in the card; where another place is right, say elsewhere: follow")
    return(NULL)
  }
  in_transaction(state$archive, function() archive_job_note(state$archive, state$want, chain, note$look, link))
  list(look = note$look, link = link)
}

# Where the card names no state, HTTP 202 (accepted) says that the export is under way.
job_state <- function(answer, job) {
  if (is.null(job$state)) {
    return(if (identical(as.numeric(answer$status), 202)) "under way" else "ready")
  }
  said <- job_member(answer, job$state)
  if (identical(said, job$ready)) "ready" else if (!is.null(job$failed) && identical(said, job$failed)) "failed" else "under way"
}

job_member <- function(answer, pointer) {
  found <- tryCatch(decode_json(answer$body, c(value = pointer))$value, vetusta_error_payload = function(e) NULL)
  member_text(found)
}

# One request of a job within the limits, repeated when it stumbles; NULL when it failed for good, which is then recorded, or when its
# turn is too far away, which ends the run.
job_fetch <- function(state, chain, request, what, outcome = "asked") {
  source <- state$want$source
  chain$request$address <- request$address
  fetch <- function() {
    fetch_patiently(function() wire_signed(request, source, state$tokens), source$patience, state$counter, most_wait = state$most_wait, secrets = function() state_secrets(state),
      stumbled = function(why, answer) {
        state$again <- state$again + 1
        journal_alone(state, chain, answer[c("status", "body")], "again", redact(why, state_secrets(state)))
      })
  }
  chain$asked <- as.numeric(Sys.time())
  answer <- tryCatch({
    answer <- fetch()
    if (answer$status == 401 && source$access$by == "token") {
      state$tokens$value <- NULL
      answer <- fetch()
    }
    answer
  }, vetusta_error_limit = identity, vetusta_error_network = identity)
  if (inherits(answer, "vetusta_error_limit")) {
    return(job_later(state, answer$seconds))
  }
  if (inherits(answer, "vetusta_error_network")) {
    if (!is_for_good(answer$reason)) stop_network(state, answer$reason)
    collect_failed(state, chain, list(), "failed", answer$what, answer$todo)
    return(NULL)
  }
  verdict <- judge_status(answer$status)
  if (verdict == "good") {
    journal_alone(state, chain, answer, outcome, what)
    return(answer)
  }
  if (verdict == "refused") stop_refused(state, chain, answer)
  collect_failed(state, chain, answer, verdict, paste0(what, ": ", answer_text(state, answer)), "look at the request in the source card, or run it again later")
  NULL
}

# The export is not to be had within this run: the next one goes on where this one stands.
job_later <- function(state, seconds) {
  state$unfinished <- state$unfinished + 1
  collect_stop(state, seconds)
  NULL
}
