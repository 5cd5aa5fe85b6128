# The download of an export: to disk, within the limits, going on where it broke off.

# Beside the archive, named after the call; what is there already is not downloaded again.
job_file <- function(state, chain) {
  folder <- paste0(state$archive$path, ".parts")
  dir.create(folder, showWarnings = FALSE)
  file.path(folder, paste0(content_hash(charToRaw(paste(state$want$source$source, state$want$offer$name, chain$start))), ".part"))
}

job_download <- function(state, chain, link, file) {
  for (attempt in 1:5) {
    while ((pause <- take_token(state)) > 0) {
      if (pause > state$most_wait) {
        job_later(state, pause)
        return(FALSE)
      }
      Sys.sleep(pause)
    }
    chain$asked <- as.numeric(Sys.time())
    chain$request$address <- link
    reason <- job_download_rest(state, link, file)
    if (is.null(reason)) {
      journal_alone(state, chain, list(status = 200L, body = raw()), "asked", paste("the file,", number_text(file.size(file)), "bytes"))
      return(TRUE)
    }
    if (is_for_good(reason)) break
    state$again <- state$again + 1
    journal_alone(state, chain, list(), "again", redact(reason, state_secrets(state)))
    Sys.sleep(retry_pause(attempt))
  }
  # a link that leads nowhere is looked for anew the next time
  if (is_for_good(reason)) in_transaction(state$archive, function() archive_job_forget(state$archive, state$want, chain))
  collect_failed(state, chain, list(), "failed", paste0("the download broke off: ", redact(reason, state_secrets(state))),
    if (is_for_good(reason)) "run it again: the export is asked for anew" else "run it again: it goes on where it broke off")
  FALSE
}

# Fetches what is missing of the file; NULL when it is whole, else the reason why not. The rest is asked for only of the file
# that was begun (If-Range, RFC 9110): where it has changed, it comes whole.
job_download_rest <- function(state, link, file, redirects = wire_bounds$redirects) {
  source <- state$want$source
  tag <- paste0(file, ".tag")
  have <- if (file.exists(file)) file.size(file) else 0
  request <- wire_signed(list(address = link, method = "GET", headers = list()), source, state$tokens)
  handle <- curl::new_handle(followlocation = 0L, connecttimeout = min(source$patience, wire_bounds$connect), low_speed_limit = 1L, low_speed_time = source$patience,
    useragent = "vetusta", accept_encoding = NULL)
  # the bytes as they are on the way are kept, so that the place to go on at is the same on both sides
  request$headers[["Accept-Encoding"]] <- "identity"
  if (have > 0) request$headers[c("Range", "If-Range")] <- c(list(paste0("bytes=", number_text(have), "-")), list(if (file.exists(tag)) readLines(tag, 1)))
  curl::handle_setheaders(handle, .list = request$headers[lengths(request$headers) > 0])
  part <- tempfile(tmpdir = dirname(file))
  on.exit(unlink(part))
  answer <- tryCatch(curl::curl_fetch_disk(request$address, part, handle = handle), error = function(e) list(status_code = -1, reason = conditionMessage(e)))
  # what came of an answer that broke off is kept: the rest is asked for the next time
  broken <- answer$status_code == -1
  status <- if (broken) tryCatch(curl::handle_data(handle)$status_code, error = function(e) 0) else answer$status_code
  headers <- header_list(curl::handle_data(handle)$headers)
  if (status %in% c(200, 206) && file.exists(part)) {
    job_append(part, file, status == 206)
    if (status == 200) job_note_tag(tag, headers$etag)
  }
  if (broken) {
    return(if (grepl("certificate", answer$reason)) for_good(answer$reason) else answer$reason)
  }
  redirect <- redirect_address(list(status = status, headers = headers, address = link))
  if (!is.null(redirect)) {
    if (redirects < 1 || !may_follow(redirect, source$address, source$elsewhere)) {
      return(for_good("the link redirects to another place, which is not followed"))
    }
    return(job_download_rest(state, redirect, file, redirects - 1))
  }
  if (status == 416 && have > 0) {
    return(job_end(file, headers[["content-range"]], have))
  }
  if (!status %in% c(200, 206)) {
    reason <- paste("HTTP", status)
    return(if (judge_status(status) == "again") reason else for_good(reason))
  }
  if (file.size(file) > wire_bounds$body * 40) for_good("the file is too large") else NULL
}

# Nothing follows what is here (HTTP 416): it is whole, unless the service's file has another length, and then it begins anew.
job_end <- function(file, range, have) {
  length <- suppressWarnings(as.numeric(sub(".*/", "", range %||% "")))
  if (is.na(length) || length == have) {
    return(NULL)
  }
  unlink(c(file, paste0(file, ".tag")))
  "the file has another length than before"
}

# A weak tag does not tell of bytes.
job_note_tag <- function(tag, value) {
  if (is.null(value) || startsWith(value, "W/")) unlink(tag) else writeLines(value, tag)
}

job_append <- function(part, file, rest) {
  if (rest) file.append(file, part) else file.copy(part, file, overwrite = TRUE)
}
