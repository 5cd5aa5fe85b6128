# The download of an export to disk, within the limits, with resume.

# A file beside the archive, named by the request; a finished download is
# reused.
job_file <- function(job) {
  folder <- job$run$sink$folder
  dir.create(folder, recursive = TRUE, showWarnings = FALSE)
  name <- paste(
    job$run$source$source, job$run$query$dataset$name, job$chain$start
  )
  file.path(folder, paste0(content_hash(charToRaw(name)), ".part"))
}

job_download <- function(job, link, file) {
  run <- job$run
  job$chain$request$url <- link
  ended <- download_patiently(
    run, link, file, function() job$chain$asked <- now_seconds(),
    function(reason) {
      job$tally <- tally_again(job$tally)
      journal_alone(
        run, job$chain, list(), "retried", redact(reason, run$secrets())
      )
    }
  )
  if (!is.null(ended$wait)) {
    job_later(job, ended$wait)
    return(FALSE)
  }
  reason <- ended$reason
  if (is.null(reason)) {
    journal_alone(
      run, job$chain, list(status = 200L, body = raw()), "asked",
      paste("the file,", number_text(file.size(file)), "bytes")
    )
    return(TRUE)
  }
  # a broken link is looked up again the next time
  if (is_for_good(reason)) job_forget(job)
  todo <- if (is_for_good(reason)) {
    "run it again: the export is requested anew"
  } else {
    "run it again: it continues where it stopped"
  }
  job_failed(
    job, list(), "failed",
    paste0("the download broke off: ", redact(reason, run$secrets())), todo
  )
  FALSE
}

# Downloads a file within the limits, with up to five attempts: list() when
# complete, else `reason`, or `wait` in seconds where the pause is longer than
# the run may wait.
download_patiently <- function(run, link, file, begins = function() NULL,
                               stumbled = function(reason) NULL) {
  renewed <- FALSE
  for (attempt in 1:5) {
    while ((pause <- run$counter$take()) > 0) {
      if (pause > run$most_wait) {
        return(list(wait = pause))
      }
      rest_for(pause, run$rest)
    }
    begins()
    reason <- job_download_rest(run, link, file)
    run$counter$answered(attr(pause, "token"))
    if (is.null(reason)) {
      return(list())
    }
    # a token that expired early
    if (reason == "HTTP 401" &&
      is_token_access(run$source$access) &&
      !renewed) {
      token_refused(run$tokens)
      renewed <- TRUE
      next
    }
    if (is_for_good(reason)) break
    stumbled(reason)
    if (attempt < 5) rest_for(retry_pause(attempt), run$rest)
  }
  list(reason = reason)
}

# Downloads the missing rest of a file; NULL when it is complete, else the
# reason. The rest is requested with If-Range (RFC 9110), so that a changed file
# is sent whole.
job_download_rest <- function(run, link, file,
                              redirects = wire_bounds$redirects) {
  source <- run$source
  tag <- paste0(file, ".tag")
  have <- if (file.exists(file)) file.size(file) else 0
  request <- wire_signed(
    list(url = link, method = "GET", headers = list()), source, run$tokens
  )
  handle <- curl::new_handle(
    followlocation = 0L,
    connecttimeout = min(source$patience, wire_bounds$connect),
    low_speed_limit = 1L,
    low_speed_time = source$patience,
    useragent = "vetusta",
    accept_encoding = NULL
  )
  # byte positions must be those of the stored file, so no compression on the
  # way
  request$headers[["Accept-Encoding"]] <- "identity"
  if (have > 0) {
    request$headers[c("Range", "If-Range")] <- c(
      list(paste0("bytes=", number_text(have), "-")),
      list(if (file.exists(tag)) readLines(tag, 1))
    )
  }
  curl::handle_setheaders(
    handle,
    .list = request$headers[lengths(request$headers) > 0]
  )
  answer <- job_stream(run, request$url, handle, file, tag)
  status <- answer$status
  headers <- answer$headers
  if (!is.null(answer$reason)) {
    return(
      if (grepl("certificate|too large", answer$reason)) {
        for_good(answer$reason)
      } else {
        answer$reason
      }
    )
  }
  redirect <- redirect_url(list(status = status, headers = headers, url = link))
  if (!is.null(redirect)) {
    if (redirects < 1 ||
      !may_follow(redirect, source$url, source$elsewhere) ||
      (!same_origin(redirect, source$url) &&
        has_secret(redirect, run$secrets()))) {
      return(
        for_good("the link redirects to another place, which is not followed")
      )
    }
    return(job_download_rest(run, redirect, file, redirects - 1))
  }
  if (status == 416 && have > 0) {
    return(job_end(file, headers[["content-range"]], have))
  }
  if (!status %in% c(200, 206)) {
    reason <- paste("HTTP", status)
    return(if (judge_status(status) == "again") reason else for_good(reason))
  }
  # a part of the file; the rest is still to come
  whole <- content_range(answer)$total
  if (status == 206 && length(whole) && file.size(file) < whole) {
    paste(
      number_text(file.size(file)), "of", number_text(whole), "bytes received"
    )
  }
}

# Writes bytes as they arrive, so that none is transferred twice: appended if
# they are the rest of the same file (HTTP 206), otherwise from the start.
job_stream <- function(run, url, handle, file, tag) {
  curl::handle_setopt(handle, url = url)
  sink <- NULL
  size <- 0
  reason <- NULL
  write <- function(bytes, final) {
    status <- curl::handle_data(handle)$status_code
    if (!length(bytes) || !status %in% c(200, 206)) {
      return(invisible())
    }
    if (is.null(sink)) {
      if (status == 200) {
        unlink(file)
        job_note_tag(tag, header_list(curl::handle_data(handle)$headers))
      }
      size <<- if (file.exists(file)) file.size(file) else 0
      if (status == 206 &&
        !begins_at(header_list(curl::handle_data(handle)$headers), size)) {
        unlink(c(file, tag))
        reason <<- "the service sent another part of the file than requested"
        stop(reason)
      }
      sink <<- file(file, "ab")
    }
    size <<- size + length(bytes)
    if (size > wire_bounds$body * 40) {
      unlink(c(file, tag))
      reason <<- "the file is too large"
      stop(reason)
    }
    writeBin(bytes, sink)
    flush(sink)
  }
  over <- line_add(run$line, handle)
  ended <- FALSE
  curl::multi_add(
    handle,
    pool = run$line$pool,
    data = write,
    done = function(answer) {
      over()
      ended <<- TRUE
    },
    fail = function(why) {
      over()
      reason <<- reason %||% why
      ended <<- TRUE
    }
  )
  # an error within `write` ends the transfer and becomes its reason, without
  # being printed
  shown <- options(show.error.messages = FALSE)
  on.exit({
    options(shown)
    if (!is.null(sink)) close(sink)
  })
  while (!ended) run$rest(1)
  answer <- curl::handle_data(handle)
  # an empty file sends no bytes
  if (is.null(reason) && answer$status_code == 200 && is.null(sink)) {
    close(file(file, "wb"))
  }
  list(
    status = answer$status_code,
    headers = header_list(answer$headers),
    reason = reason
  )
}

# Whether a partial answer begins at byte `at`; without Content-Range it is
# assumed to.
begins_at <- function(headers, at) {
  said <- suppressWarnings(
    as.numeric(
      sub("^bytes +([0-9]+)-.*", "\\1", headers[["content-range"]] %||% "")
    )
  )
  is.na(said) || said == at
}

# HTTP 416: nothing follows. The file is complete unless the service states
# another length; then the download restarts.
job_end <- function(file, range, have) {
  length <- suppressWarnings(as.numeric(sub(".*/", "", range %||% "")))
  if (is.na(length) || length == have) {
    return(NULL)
  }
  unlink(c(file, paste0(file, ".tag")))
  "the file has another length than before"
}

# The validator of a file: its strong ETag, else its Last-Modified; a weak ETag
# does not identify bytes.
job_note_tag <- function(tag, headers) {
  value <- if (!is.null(headers$etag) && !startsWith(headers$etag, "W/")) {
    headers$etag
  } else {
    headers[["last-modified"]]
  }
  if (is.null(value)) unlink(tag) else writeLines(value, tag)
}
