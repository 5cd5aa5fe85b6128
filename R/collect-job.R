# Jobs: an export is requested, polled with growing pauses, downloaded to disk
# with resume, and stored in parts. Each step is noted in the archive, so that a
# restart does not request the export again.

# One step of a run of jobs, one job after another: list(tally, pause), with the
# seconds until the next step. It never sleeps between polls, so that other runs
# go on.
collect_jobs <- function(run, queue, tally) {
  job <- queue$job
  if (is.null(job)) {
    chain <- next_chain(run, queue)
    if (is.null(chain)) {
      return(list(tally = tally, pause = 0.2))
    }
    job <- job_make(run, queue, chain)
  }
  if (job$look_at <= now_seconds()) {
    queue$job <- NULL
    job$tally <- tally
    collect_job(job)
    tally <- job$tally
  }
  waits <- !is.null(queue$job)
  queue$waits_for <- if (waits) "an export"
  list(
    tally = tally,
    pause = if (waits) max(0, job$look_at - now_seconds()) else 0
  )
}

job_make <- function(run, queue, chain) {
  pause <- time_interval(run$query$dataset$job$pause %||% "PT1S")$seconds
  list2env(
    list(
      run = run,
      queue = queue,
      tally = NULL,
      chain = chain,
      note = NULL,
      look_at = 0,
      pause = pause,
      until = now_seconds() + run$most_wait
    ),
    parent = emptyenv()
  )
}

collect_job <- function(job) {
  note <- job$note %||% job_noted(job) %||% job_ask(job)
  if (!is.null(note) && is.na(note$link)) note <- job_look(job, note)
  file <- job_file(job)
  if (is.null(note) || !job_download(job, note$link, file)) {
    return(invisible())
  }
  job$chain$request$url <- note$link
  tryCatch(
    job_store(job, file),
    vetusta_error_payload = function(e) {
      job_failed(job, list(), "payload", e$what, e$todo)
    }
  )
  beside <- list.files(dirname(file), full.names = TRUE)
  unlink(beside[startsWith(basename(beside), basename(file))])
  # the folder is removed unless it holds another export
  if (!length(list.files(dirname(file), all.files = TRUE, no.. = TRUE))) {
    unlink(dirname(file), recursive = TRUE)
  }
  job_forget(job)
}

# What is noted of a job: where to poll, and its link once it is ready.
job_noted <- function(job) {
  noted <- job$run$sink$noted("job", job$chain$start)
  if (!is.null(noted)) {
    place <- jsonlite::fromJSON(noted$value)
    list(look = place$look, link = place$link %||% NA_character_)
  }
}

job_note <- function(job, look, link = NULL) {
  place <- list(look = look, link = link)
  job$run$sink$note(
    "job", job$chain$start,
    as.character(jsonlite::toJSON(place[lengths(place) > 0], auto_unbox = TRUE))
  )
  list(look = look, link = link %||% NA_character_)
}

job_forget <- function(job) job$run$sink$forget("job", job$chain$start)

# The failure of a job.
job_failed <- function(job, answer, outcome, what, todo) {
  job$tally <- collect_failed(
    job$run, job$tally, job$chain, answer, outcome, what, todo
  )
  NULL
}

job_ask <- function(job) {
  rule <- job$run$query$dataset$job
  answer <- job_fetch(job, job$chain$request, "the export")
  if (is.null(answer)) {
    return(NULL)
  }
  look <- if (identical(rule$look, "location")) {
    answer$headers[["location"]] %|else|%
      function(url) {
        absolute_url(url, answer$url)
      }
  } else {
    job_member(answer, rule$ticket) %|else|%
      function(ticket) job_look_url(job, ticket)
  }
  if (!job_may_follow(job, look)) {
    ticket <- if (!is.null(rule$ticket)) {
      paste0(": there is no ticket at ", rule$ticket)
    }
    return(
      job_failed(
        job, answer, "payload",
        paste0("the answer has no URL of the export", ticket),
        "correct ticket: and look: in the card"
      )
    )
  }
  job_note(job, look)
}

job_may_follow <- function(job, url) {
  !is.null(url) &&
    !is.na(url) &&
    may_follow(url, job$run$source$url, job$run$source$elsewhere)
}

job_look_url <- function(job, ticket) {
  dataset <- job$run$query$dataset
  values <- dataset_values(dataset, job$chain$known, job$run$source$zone)
  url <- template_expand(dataset$job$look, c(list(ticket = ticket), values))
  if (grepl("^https?://", url)) url else paste0(job$run$source$url, url)
}

# Polls an export: its note when it is ready, else NULL. Until then it is polled
# again after a growing pause, as long as the run may wait.
job_look <- function(job, note) {
  rule <- job$run$query$dataset$job
  request <- list(
    url = note$look,
    method = "GET",
    headers = list(Accept = "application/json")
  )
  answer <- job_fetch(job, request, "the export's state")
  if (is.null(answer)) {
    # an expired ticket is requested anew the next time
    if (!job$queue$stopped) job_forget(job)
    return(NULL)
  }
  said <- job_state(answer, rule)
  if (said == "failed") {
    job_forget(job)
    return(
      job_failed(
        job, answer, "failed", "the service reports that the export failed",
        "request it again; a shorter window may help"
      )
    )
  }
  if (said != "ready") {
    return(job_wait(job, note, retry_after(answer$headers)))
  }
  # without a link the file is at the polled URL
  link <- if (is.null(rule$link)) {
    note$look
  } else {
    job_member(answer, rule$link) %|else|%
      function(link) {
        absolute_url(link, note$look)
      }
  }
  if (!job_may_follow(job, link)) {
    return(
      job_failed(
        job, answer, "payload",
        "the export's link is missing or leads to another place",
        paste0(
          "check link: in the card; where another origin is intended, ",
          "write elsewhere: follow"
        )
      )
    )
  }
  job_note(job, note$look, link)
}

# Polls again after a pause, or after the one that the service asks for.
job_wait <- function(job, note, asked_for) {
  wait <- if (is.na(asked_for)) job$pause else max(asked_for, job$pause)
  if (now_seconds() + wait > job$until) {
    return(job_later(job, wait))
  }
  job$note <- note
  job$look_at <- now_seconds() + wait
  job$pause <- min(60, job$pause * 1.5)
  job$queue$job <- job
  NULL
}

# Without a state in the card, HTTP 202 (accepted) means that the export is in
# progress.
job_state <- function(answer, job) {
  if (is.null(job$state)) {
    return(
      if (identical(as.numeric(answer$status), 202)) "under way" else "ready"
    )
  }
  said <- job_member(answer, job$state)
  if (identical(said, job$ready)) {
    "ready"
  } else if (!is.null(job$failed) && identical(said, job$failed)) {
    "failed"
  } else {
    "under way"
  }
}

job_member <- function(answer, pointer) {
  state <- tryCatch(
    decode_json(answer$body, c(value = pointer))$value,
    vetusta_error_payload = function(e) NULL
  )
  member_text(state)
}

# One request of a job within the limits, with retries. NULL when it failed for
# good, which is recorded, or when the wait exceeds the run's, which ends the
# run.
job_fetch <- function(job, request, what, outcome = "asked") {
  run <- job$run
  job$chain$request$url <- request$url
  stumbled <- function(why, answer) {
    job$tally <- tally_again(job$tally)
    journal_alone(
      run, job$chain, answer[c("status", "body")], "retried",
      redact(why, run$secrets())
    )
  }
  fetch <- function() {
    fetch_patiently(
      function() wire_signed(request, run$source, run$tokens),
      run$source$patience, run$counter,
      most_wait = run$most_wait,
      secrets = run$secrets, stumbled = stumbled, line = run$line,
      rest = run$rest
    )
  }
  job$chain$asked <- now_seconds()
  answer <- tryCatch(
    {
      answer <- fetch()
      if (answer$status == 401 && is_token_access(run$source$access)) {
        token_refused(run$tokens)
        answer <- fetch()
      }
      answer
    },
    vetusta_error_limit = identity,
    vetusta_error_network = identity
  )
  if (inherits(answer, "vetusta_error_limit")) {
    return(job_later(job, answer$seconds))
  }
  if (inherits(answer, "vetusta_error_network")) {
    if (!is_for_good(answer$reason)) stop_network(run, answer$reason)
    return(job_failed(job, list(), "failed", answer$what, answer$todo))
  }
  verdict <- judge_status(answer$status)
  if (verdict == "good") {
    journal_alone(run, job$chain, answer, outcome, what)
    return(answer)
  }
  if (verdict == "refused") stop_refused(run, job$chain, answer)
  job_failed(
    job, answer, verdict, paste0(what, ": ", answer_text(run, answer)),
    "look at the request in the source card, or run it again later"
  )
}

# The export will not be ready within this run; the next run resumes here.
job_later <- function(job, seconds) {
  job$queue$unfinished <- job$queue$unfinished + 1
  queue_stop(job$queue, seconds)
  NULL
}
