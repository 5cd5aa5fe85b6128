# Sending: many requests at once over kept connections. A line is a pool of connections; what is
# started on it ends in a
# plain response or a plain failure, and nothing here knows why it was asked.

wire_bounds <- list(connect = 10, stall = 30, total = 300, body = 256e6, redirects = 5)

wire_line <- function(at_once = 1L, pool = NULL) {
  line <- new.env(parent = emptyenv())
  # several lines may wait together on one pool
  line$pool <- pool %||% wire_pool(at_once)
  line$handles <- new.env(parent = emptyenv())
  line$begun <- 0
  line$active <- 0L
  # when it was looked at last, and by how long that was too late in all
  line$looked <- NULL
  line$late <- 0
  line
}

wire_pool <- function(at_once) curl::new_pool(total_con = at_once, host_con = at_once)

# `done` is called with a response: status, headers (names in small letters), body (raw), URL,
# seconds, and how many of them were waited for the first byte.
# `failed` is called with a reason in words. Redirects within the origin are followed, one
# elsewhere is a failure. `secrets` gives what must not be seen: where
# a service repeats it, it is taken out of the answer before anybody reads it, and no redirect
# takes it elsewhere.
line_start <- function(line, request, done, failed, elsewhere = "refuse",
  redirects = wire_bounds$redirects, patience = wire_bounds$stall,
  secrets = function() character()) {
  handle <- curl::new_handle(
    url = request$url, httpheader = header_lines(request$headers), followlocation = 0L,
    connecttimeout = min(patience, wire_bounds$connect),
    low_speed_limit = 1L,
    low_speed_time = patience, timeout = max(patience, wire_bounds$total),
    maxfilesize_large = wire_bounds$body, useragent = "vetusta"
  )
  if (identical(request$method, "POST")) {
    curl::handle_setopt(handle, post = 1L, copypostfields = request$body %||% "")
  }
  started <- as.numeric(Sys.time())
  attr(handle, "limits") <- list(stall = patience, total = max(patience, wire_bounds$total))
  over <- line_add(line, handle)
  # the body is gathered here, so that one that grows too large, also by unpacking, is cut off
  parts <- list()
  size <- 0
  shown <- list()
  curl::multi_add(handle, pool = line$pool,
    data = function(bytes, final) {
      # a transfer that was ended here is told of its end once more, without bytes
      if (!length(bytes)) {
        return(invisible())
      }
      size <<- size + length(bytes)
      if (size > wire_bounds$body) {
        parts <<- list()
        # the stop ends the transfer, and is not to be printed on the way
        shown <<- options(show.error.messages = FALSE)
        stop("too large")
      }
      parts[[length(parts) + 1L]] <<- bytes
    },
    done = function(answer) {
      over()
      headers <- header_list(answer$headers)
      response <- list(
        status = answer$status_code, headers = headers, body = if (length(parts) == 1L) parts[[1]]
        else join_bytes_cpp(parts), url = request$url,
        seconds = as.numeric(Sys.time()) - started,
        waited = max(0, answer$times[["starttransfer"]] - answer$times[["pretransfer"]])
      )
      redirect <- redirect_url(response)
      if (is.null(redirect)) {
        response$body <- without_secrets(response$body, secrets())
        done(response)
      } else if (redirects < 1 || !may_follow(redirect, request$url, elsewhere)) {
        failed(for_good("the service redirects to another place, which is not followed"))
      } else if (!same_origin(redirect, request$url) && has_secret(redirect, secrets())) {
        failed(for_good(paste0("the service redirects to another place with a secret in the ",
          "URL, which is not followed")))
      } else {
        if (!same_origin(redirect, request$url)) request$headers <- request$headers["Accept"]
        request$url <- redirect
        line_start(line, request, done, failed, elsewhere, redirects - 1, patience, secrets)
      }
    },
    fail = function(reason) {
      over()
      options(shown)
      reason <- if (size > wire_bounds$body ||
        grepl("Maximum file size", reason)) paste("the answer is larger than",
        format(wire_bounds$body / 1e6), "MB when unpacked")
      else sub("[.]$", "", gsub("[[:space:]]+", " ", reason))
      failed(if (grepl("certificate|larger than", reason)) for_good(reason) else reason)
    }
  )
  invisible(line)
}

# Headers as lines. A body is sent at once, and not when the service says that it may be.
header_lines <- function(headers) {
  text <- as.character(unlist(headers))
  c(paste0(names(headers), ifelse(grepl("^\\s+$", text), ";", paste0(": ", text)),
    recycle0 = TRUE), "Expect: ")
}

# Counts a transfer as under way on a line; what is given back is called at its end.
line_add <- function(line, handle) {
  line$active <- line$active + 1L
  line$begun <- line$begun + 1
  name <- as.character(line$begun)
  line$handles[[name]] <- handle
  function() {
    line$active <- line$active - 1L
    rm(list = name, envir = line$handles)
  }
}

# A failure that asking again will not mend.
for_good <- function(reason) structure(reason, for_good = TRUE)
is_for_good <- function(reason) isTRUE(attr(reason, "for_good"))

# Runs what was started, until something has ended or `seconds` are over.
line_run <- function(line, seconds) {
  # to say how long may be what starts a request
  force(seconds)
  if (line$active > 0L) {
    line_late(line)
    curl::multi_run(timeout = seconds, poll = TRUE, pool = line$pool)
  } else {
    Sys.sleep(max(0, seconds))
  }
  line$looked <- as.numeric(Sys.time())
  invisible(line)
}

# A process that could not look at its transfers for a while, because the machine or the archive was
# busy, is late itself: its transfers get as much longer as they were not looked at.
line_late <- function(line) {
  now <- as.numeric(Sys.time())
  late <- now - line$looked
  line$looked <- now
  if (!isTRUE(late >= 1)) {
    return(invisible())
  }
  line$late <- line$late + ceiling(late)
  for (handle in as.list(line$handles)) {
    limits <- attr(handle, "limits")
    if (!is.null(limits)) {
      curl::handle_setopt(handle, low_speed_time = limits$stall + line$late,
        timeout = limits$total + line$late)
    }
  }
}

line_close <- function(line) {
  for (handle in as.list(line$handles)) curl::multi_cancel(handle)
  line$handles <- new.env(parent = emptyenv())
  line$active <- 0L
}

# A URL elsewhere is followed only when the card says so, without credentials, and never from
# https down to http.
may_follow <- function(url, from, elsewhere) {
  if (same_origin(url, from)) {
    return(TRUE)
  }
  parts <- tryCatch(curl::curl_parse_url(url), error = function(e) NULL)
  elsewhere == "follow" && !is.null(parts) &&
    (parts$scheme == "https" || (parts$scheme == "http" && is_loopback(parts$host)))
}

# Headers by their names in small letters. One that comes several times is one list with commas
# between (RFC 9110, section 5.3).
header_list <- function(raw) {
  lines <- curl::parse_headers(raw)
  lines <- lines[grepl(":", lines, fixed = TRUE)]
  colon <- regexpr(":", lines, fixed = TRUE)
  values <- as.list(trimmed(substring(lines, colon + 1L)))
  names(values) <- tolower(substring(lines, 1L, colon - 1L))
  for (name in unique(names(values)[duplicated(names(values))])) {
    at <- which(names(values) == name)
    values[[at[1]]] <- paste(values[at], collapse = ", ")
    values <- values[-at[-1]]
  }
  values
}

# As a rule one blank stands before a value, and none behind it.
trimmed <- function(text) {
  spaced <- startsWith(text, " ")
  text[spaced] <- substring(text[spaced], 2L)
  more <- grepl("^[ \t\r\n]|[ \t\r\n]$", text)
  if (any(more)) text[more] <- trimws(text[more])
  text
}

redirect_url <- function(response) {
  location <- response$headers[["location"]]
  if (!response$status %in% c(301, 302, 303, 307, 308) || is.null(location)) {
    return(NULL)
  }
  absolute_url(location, response$url)
}

# What an answer means: `good`, `again` (with how long to wait), `absent` (this symbol has
# nothing), `refused` (stop: no
# request of this kind will do better), `wrong` (this request is wrong, others may do).
judge_status <- function(status) {
  if (status >= 200 && status < 300) "good"
  else if (status %in% c(408, 425, 429, 500, 502, 503, 504, 520:524)) "again"
  else if (status %in% c(401, 402, 403, 407)) "refused"
  else if (status %in% c(404, 410)) "absent"
  else "wrong"
}

# Pauses double from half a second to a minute, each drawn between half and whole so that many
# clients do not return together.
retry_pause <- function(attempt) min(60, 0.5 * 2^(attempt - 1)) * stats::runif(1, 0.5, 1)

# A few words of an answer that is no data, for an error or the journal.
body_excerpt <- function(body, limit = 160) {
  body <- utils::head(body, 8000)
  text <- tryCatch(rawToChar(utils::head(body[body != as.raw(0)], 2000)), error = function(e) "")
  text <- iconv(text, "UTF-8", "UTF-8", sub = "?")
  text <- gsub("[[:space:]]+", " ", gsub("<[^>]*>", " ", text))
  text <- trimws(text)
  if (nchar(text) > limit) paste0(substr(text, 1, limit), " ...") else text
}
