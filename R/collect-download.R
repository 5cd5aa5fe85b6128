# The download of an export: to disk, within the limits, going on where it broke off.

# Beside the archive, named after the request; what is there already is not downloaded again.
job_file <- function(job) {
  folder <- job$run$sink$folder
  dir.create(folder, recursive = TRUE, showWarnings = FALSE)
  name <- paste(job$run$source$source, job$run$query$dataset$name, job$chain$start)
  file.path(folder, paste0(content_hash(charToRaw(name)), ".part"))
}

job_download <- function(job, link, file) {
  run <- job$run
  job$chain$request$url <- link
  ended <- download_patiently(run, link, file, function() job$chain$asked <- now_seconds(),
    function(reason) {
      job$tally <- tally_again(job$tally)
      journal_alone(run, job$chain, list(), "retried", redact(reason, run$secrets()))
    })
  if (!is.null(ended$wait)) {
    job_later(job, ended$wait)
    return(FALSE)
  }
  reason <- ended$reason
  if (is.null(reason)) {
    journal_alone(run, job$chain, list(status = 200L, body = raw()), "asked",
      paste("the file,", number_text(file.size(file)), "bytes"))
    return(TRUE)
  }
  # a link that leads nowhere is looked for anew the next time
  if (is_for_good(reason)) job_forget(job)
  todo <- if (is_for_good(reason)) "run it again: the export is requested anew"
  else "run it again: it goes on where it broke off"
  job_failed(job, list(), "failed",
    paste0("the download broke off: ", redact(reason, run$secrets())), todo)
  FALSE
}

# Downloads a file within the limits, five times at most: list() where it is whole, else its
# `reason`, or the seconds to `wait` where that is too long to stay for.
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
    # a token that ran out before its time
    if (reason == "HTTP 401" && is_token_access(run$source$access) && !renewed) {
      run$tokens$value <- NULL
      renewed <- TRUE
      next
    }
    if (is_for_good(reason)) break
    stumbled(reason)
    if (attempt < 5) rest_for(retry_pause(attempt), run$rest)
  }
  list(reason = reason)
}

# Fetches what is missing of the file; NULL when it is whole, else the reason why not. The rest is
# asked for only of the file
# that was begun (If-Range, RFC 9110): where it has changed, it comes whole.
job_download_rest <- function(run, link, file, redirects = wire_bounds$redirects) {
  source <- run$source
  tag <- paste0(file, ".tag")
  have <- if (file.exists(file)) file.size(file) else 0
  request <- wire_signed(list(url = link, method = "GET", headers = list()), source, run$tokens)
  handle <- curl::new_handle(followlocation = 0L,
    connecttimeout = min(source$patience, wire_bounds$connect), low_speed_limit = 1L,
    low_speed_time = source$patience,
    useragent = "vetusta", accept_encoding = NULL)
  # the bytes as they are on the way are kept, so that the place to go on at is the same on both
  # sides
  request$headers[["Accept-Encoding"]] <- "identity"
  if (have > 0) {
    request$headers[c("Range", "If-Range")] <- c(list(paste0("bytes=", number_text(have), "-")),
      list(if (file.exists(tag)) readLines(tag, 1)))
  }
  curl::handle_setheaders(handle, .list = request$headers[lengths(request$headers) > 0])
  answer <- job_stream(run, request$url, handle, file, tag)
  status <- answer$status
  headers <- answer$headers
  if (!is.null(answer$reason)) {
    return(if (grepl("certificate|too large", answer$reason)) for_good(answer$reason)
    else answer$reason)
  }
  redirect <- redirect_url(list(status = status, headers = headers, url = link))
  if (!is.null(redirect)) {
    if (redirects < 1 || !may_follow(redirect, source$url, source$elsewhere) ||
      (!same_origin(redirect, source$url) && has_secret(redirect, run$secrets()))) {
      return(for_good("the link redirects to another place, which is not followed"))
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
  # a part of the file, of which the rest is still to be asked for
  whole <- content_range(answer)$total
  if (status == 206 && length(whole) && file.size(file) < whole) {
    paste(number_text(file.size(file)), "of", number_text(whole), "bytes received")
  }
}

# What comes is written as it comes, so that nothing of it comes twice, however the run ends: after
# what is here, if it is the rest of the same
# file (HTTP 206), and else in its place.
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
      if (status == 206 && !begins_at(header_list(curl::handle_data(handle)$headers), size)) {
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
  curl::multi_add(handle, pool = run$line$pool, data = write,
    done = function(answer) {
      over()
      ended <<- TRUE
    }, fail = function(why) {
      over()
      reason <<- reason %||% why
      ended <<- TRUE
    })
  # a stop within `write` ends the transfer and is its reason; it is not to be printed on the way
  shown <- options(show.error.messages = FALSE)
  on.exit({
    options(shown)
    if (!is.null(sink)) close(sink)
  })
  while (!ended) run$rest(1)
  answer <- curl::handle_data(handle)
  # a file that is empty brings no bytes
  if (is.null(reason) && answer$status_code == 200 && is.null(sink)) close(file(file, "wb"))
  list(status = answer$status_code, headers = header_list(answer$headers), reason = reason)
}

# Whether a part of a file is the rest from `at` on; one that does not say is taken for it.
begins_at <- function(headers, at) {
  said <-
    suppressWarnings(as.numeric(sub("^bytes +([0-9]+)-.*", "\\1",
      headers[["content-range"]] %||% "")))
  is.na(said) || said == at
}

# Nothing follows what is here (HTTP 416): it is whole, unless the service's file has another
# length, and then it begins anew.
job_end <- function(file, range, have) {
  length <- suppressWarnings(as.numeric(sub(".*/", "", range %||% "")))
  if (is.na(length) || length == have) {
    return(NULL)
  }
  unlink(c(file, paste0(file, ".tag")))
  "the file has another length than before"
}

# What tells whether a file is the same: its tag, unless that is a weak one, which does not tell of
# bytes, or the time of its last change.
job_note_tag <- function(tag, headers) {
  value <- if (!is.null(headers$etag) && !startsWith(headers$etag, "W/")) headers$etag
  else headers[["last-modified"]]
  if (is.null(value)) unlink(tag) else writeLines(value, tag)
}
