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
  good <- tryCatch(job_store(state, chain, offer, file), vetusta_error_payload = function(e) {
    collect_failed(state, chain, list(), "payload", e$what, e$todo)
    FALSE
  })
  unlink(file)
  in_transaction(state$archive, function() archive_job_forget(state$archive, state$want, chain))
  invisible(good)
}

job_ask <- function(state, chain, offer) {
  answer <- job_fetch(state, chain, chain$request, "the export")
  if (is.null(answer)) {
    return(NULL)
  }
  ticket <- job_member(answer, offer$job$ticket)
  if (is.null(ticket)) {
    collect_failed(state, chain, answer, "payload", paste0("the answer has no ticket at ", offer$job$ticket), "correct ticket: in the card")
    return(NULL)
  }
  look <- paste0(state$want$source$address, template_expand(offer$job$look, c(list(ticket = ticket), offer_values(offer, chain$known, state$want$source$zone))))
  in_transaction(state$archive, function() archive_job_note(state$archive, state$want, chain, look, NA_character_))
  list(look = look, link = NA_character_)
}

job_look <- function(state, chain, offer, note) {
  pause <- time_interval(offer$job$pause %||% "PT1S")$seconds
  repeat {
    answer <- job_fetch(state, chain, list(address = note$look, method = "GET", headers = list(Accept = "application/json")), "the export's state")
    if (is.null(answer)) {
      # a ticket that is no longer known is asked for anew the next time
      in_transaction(state$archive, function() archive_job_forget(state$archive, state$want, chain))
      return(NULL)
    }
    said <- job_member(answer, offer$job$state)
    if (identical(said, offer$job$ready)) break
    if (!is.null(offer$job$failed) && identical(said, offer$job$failed)) {
      in_transaction(state$archive, function() archive_job_forget(state$archive, state$want, chain))
      collect_failed(state, chain, answer, "failed", "the service says that the export failed", "ask for it again; a shorter window may help")
      return(NULL)
    }
    Sys.sleep(pause)
    pause <- min(60, pause * 1.5)
  }
  link <- job_member(answer, offer$job$link) %|else|% function(link) absolute_address(link, note$look)
  if (is.null(link) || is.na(link) || !may_follow(link, state$want$source$address, state$want$source$elsewhere)) {
    collect_failed(state, chain, answer, "payload", "the export's link is missing or leads to another place",
      "look at link: in the card; where another place is right, say elsewhere: follow")
    return(NULL)
  }
  in_transaction(state$archive, function() archive_job_note(state$archive, state$want, chain, note$look, link))
  list(look = note$look, link = link)
}

job_member <- function(answer, pointer) {
  found <- tryCatch(decode_json(answer$body, c(value = pointer))$value, vetusta_error_payload = function(e) NULL)
  member_text(found)
}

# One request of a job within the limits, repeated when it stumbles; NULL when it failed for good, which is then recorded.
job_fetch <- function(state, chain, request, what) {
  for (attempt in 1:5) {
    while ((wait <- take_token(state)) > 0) Sys.sleep(min(wait, 1))
    chain$asked <- as.numeric(Sys.time())
    chain$request$address <- request$address
    answer <- tryCatch(line_fetch(wire_signed(request, state$want$source, state$tokens), state$want$source$patience), vetusta_error_network = identity)
    if (inherits(answer, "vetusta_error_network")) {
      if (attempt == 5) stop_network(state, answer$what)
      journal_alone(state, chain, list(), "again", answer$what)
      Sys.sleep(retry_pause(attempt))
      next
    }
    verdict <- judge_status(answer$status)
    if (verdict == "good") {
      journal_alone(state, chain, answer, "asked", what)
      return(answer)
    }
    if (verdict == "refused") collect_refused(state, chain, answer)
    if (verdict != "again") break
    state$again <- state$again + 1
    Sys.sleep(retry_after(answer$headers) %|na|% retry_pause(attempt))
  }
  collect_failed(state, chain, answer, verdict, paste0(what, ": ", answer_text(state, answer)), "look at the request in the source card, or run it again later")
  NULL
}

# Beside the archive, named after the call; what is there already is not downloaded again.
job_file <- function(state, chain) {
  folder <- paste0(state$archive$path, ".parts")
  dir.create(folder, showWarnings = FALSE)
  file.path(folder, paste0(content_hash(charToRaw(paste(state$want$source$source, state$want$offer$name, chain$start))), ".part"))
}

job_download <- function(state, chain, link, file) {
  reason <- NULL
  for (attempt in 1:5) {
    reason <- job_download_rest(state, link, file)
    if (is.null(reason)) {
      return(TRUE)
    }
    Sys.sleep(retry_pause(attempt))
  }
  collect_failed(state, chain, list(), "failed", paste0("the download broke off: ", reason), "run it again: it goes on where it broke off")
  FALSE
}

# Fetches what is missing of the file; NULL when it is whole, else the reason why not.
job_download_rest <- function(state, link, file) {
  have <- if (file.exists(file)) file.size(file) else 0
  request <- wire_signed(list(address = link, method = "GET", headers = list()), state$want$source, state$tokens)
  handle <- curl::new_handle(followlocation = 0L, connecttimeout = wire_bounds$connect, low_speed_limit = 1L, low_speed_time = state$want$source$patience, useragent = "vetusta")
  if (have > 0) request$headers[["Range"]] <- paste0("bytes=", number_text(have), "-")
  curl::handle_setheaders(handle, .list = request$headers)
  part <- tempfile(tmpdir = dirname(file))
  on.exit(unlink(part))
  answer <- tryCatch(curl::curl_fetch_disk(request$address, part, handle = handle), error = function(e) list(status_code = -1, reason = conditionMessage(e)))
  # what came of an answer that broke off is kept: the rest is asked for the next time
  if (answer$status_code == -1) {
    status <- tryCatch(curl::handle_data(handle)$status_code, error = function(e) 0)
    if (status %in% c(200, 206) && file.exists(part)) job_append(part, file, status == 206)
    return(answer$reason)
  }
  if (answer$status_code == 416 && have > 0) {
    return(NULL)
  }
  if (!answer$status_code %in% c(200, 206)) {
    return(paste("HTTP", answer$status_code))
  }
  job_append(part, file, answer$status_code == 206)
  if (file.size(file) > wire_bounds$body * 40) "the file is too large" else NULL
}

job_append <- function(part, file, rest) {
  if (rest) file.append(file, part) else file.copy(part, file, overwrite = TRUE)
}

# The file's rows, some ten thousand at a time, so that memory does not grow with its length.
job_store <- function(state, chain, offer, file) {
  where <- paste0("source ", state$want$source$source, ", offer ", offer$name, ", the export of ", chain$label)
  connection <- job_connection(file, offer$job$unpack %||% "none", where)
  on.exit(close(connection))
  read <- function(n) tryCatch(suppressWarnings(readLines(connection, n, warn = FALSE)), error = function(e) stop_payload("The export is damaged.", where, "run it again"))
  header <- read(1)
  if (!length(header)) stop_payload("The export is empty.", where, "look at the want")
  size <- offer$job$piece %||% 20000
  unpacked <- 0
  repeat {
    lines <- read(size)
    if (!length(lines)) break
    unpacked <- unpacked + sum(nchar(lines, "bytes"))
    if (unpacked > wire_bounds$body * 40) stop_payload("The export is too large when unpacked.", where, "ask for a shorter window")
    rows <- read_text_table(text = paste0(paste(c(header, lines), collapse = "\n"), "\n"), format = offer$format %||% "csv", where = where)
    job_piece(state, chain, offer, rows, where)
    chain$page <- chain$page + 1
    if (length(lines) < size) break
  }
  TRUE
}

job_connection <- function(file, unpack, where) {
  switch(unpack,
    none = file(file, "r"),
    gzip = gzfile(file, "r"),
    zip = {
      entries <- tryCatch(utils::unzip(file, list = TRUE)$Name, error = function(e) stop_payload("The export is no zip file.", where, "correct unpack: in the card"))
      plain <- entries[!grepl("/$", entries)]
      # entries are read, never written, so that none can leave its folder; a name that tries to is refused all the same
      if (length(plain) != 1 || grepl("(^|/)[.][.](/|$)|^/", plain)) stop_payload("The zip file must hold one plain file.", where, "look at what the service sends")
      unz(file, plain, "r")
    }
  )
}

job_piece <- function(state, chain, offer, rows, where) {
  decoded <- decode_rows(offer, rows, state$want$source$zone, where, chain$known)
  frame <- list_frame(decoded$columns)
  if (is.null(frame$symbol) && length(chain$symbols) == 1) frame$symbol <- rep(chain$symbols, decoded$rows)
  if (state$want$shape == "bars") frame <- complete_bars(frame, state$calendar, state$want$interval, state$want$source$zone)
  chain$asked <- as.numeric(Sys.time())
  chain$cover <- NULL
  chain$last <- FALSE
  page <- list(rows = frame, count = decoded$rows, faults = page_faults(frame, decoded$faults, offer, state$want$shape), notes = NULL, following = "piece")
  chain$windowed <- TRUE
  state$store(state, chain, list(status = 200L, body = raw()), page)
  state$pages <- state$pages + 1
}
