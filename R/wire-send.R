# Sending: many requests at once over persistent connections. A line is a pool
# of connections; each request ends in a plain response or failure, and nothing
# here depends on its purpose.

wire_bounds <- list(
  connect = 10, stall = 30, total = 300, body = 256e6, redirects = 5
)

wire_line <- function(at_once = 1L, pool = NULL) {
  line <- new.env(parent = emptyenv())
  # several lines may share one pool
  line$pool <- pool %||% wire_pool(at_once)
  line$handles <- new.env(parent = emptyenv())
  line$begun <- 0
  line$active <- 0L
  # the last look, and the accumulated lateness
  line$looked <- NULL
  line$late <- 0
  line
}

wire_pool <- function(at_once) {
  curl::new_pool(total_con = at_once, host_con = at_once)
}

# `done` is called with a response: status, headers (names in lower case), body
# (raw), URL, seconds, and the seconds to the first byte. `failed` is called
# with a reason in words. Redirects within the origin are followed; one
# elsewhere is a failure. `secrets` returns texts to redact: they are removed
# from the answer before it is read, and no redirect sends them elsewhere.
line_start <- function(line, request, done, failed, elsewhere = "refuse",
                       redirects = wire_bounds$redirects,
                       patience = wire_bounds$stall,
                       secrets = function() character()) {
  handle <- curl::new_handle(
    url = request$url,
    httpheader = header_lines(request$headers),
    followlocation = 0L,
    connecttimeout = min(patience, wire_bounds$connect),
    low_speed_limit = 1L,
    low_speed_time = patience,
    timeout = max(patience, wire_bounds$total),
    maxfilesize_large = wire_bounds$body,
    # without TLS there is no HTTP/2 to wait for: else all requests wait for the
    # first answer, to see whether they could share its connection
    pipewait = as.integer(startsWith(request$url, "https:")),
    useragent = "vetusta"
  )
  if (identical(request$method, "POST")) {
    curl::handle_setopt(
      handle,
      post = 1L, copypostfields = request$body %||% ""
    )
  }
  started <- as.numeric(Sys.time())
  attr(
    handle, "limits"
  ) <- list(stall = patience, total = max(patience, wire_bounds$total))
  over <- line_add(line, handle)
  # the body is collected here, so that one that grows too large, also by
  # decompression, is cut off
  parts <- list()
  size <- 0
  shown <- list()
  curl::multi_add(
    handle,
    pool = line$pool,
    data = function(bytes, final) {
      # a transfer that was ended here is called once more without bytes
      if (!length(bytes)) {
        return(invisible())
      }
      size <<- size + length(bytes)
      if (size > wire_bounds$body) {
        parts <<- list()
        # stop() ends the transfer without being printed
        shown <<- options(show.error.messages = FALSE)
        stop("too large")
      }
      parts[[length(parts) + 1L]] <<- bytes
    },
    done = function(answer) {
      over()
      headers <- header_list(answer$headers)
      response <- list(
        status = answer$status_code,
        headers = headers,
        body = if (length(parts) == 1L) parts[[1]] else join_bytes_cpp(parts),
        url = request$url,
        seconds = as.numeric(Sys.time()) - started,
        waited = max(
          0, answer$times[["starttransfer"]] - answer$times[["pretransfer"]]
        )
      )
      redirect <- if (response$status >= 300 && !isTRUE(request$stay)) {
        redirect_url(response)
      }
      # a service without a session sends its visitors to the login
      if (!is.null(redirect) && !is.null(request$login) &&
        identical(sub("[?#].*", "", redirect), request$login)) {
        redirect <- NULL
        response$status <- 401L
      }
      if (is.null(redirect)) {
        response$body <- without_secrets(response$body, secrets())
        done(response)
      } else if (redirects < 1 ||
        !may_follow(redirect, request$url, elsewhere)) {
        failed(
          for_good(
            "the service redirects to another place, which is not followed"
          )
        )
      } else if (!same_origin(redirect, request$url) &&
        has_secret(redirect, secrets())) {
        failed(
          for_good(
            paste0(
              "the service redirects to another place with a secret in the ",
              "URL, which is not followed"
            )
          )
        )
      } else {
        if (!same_origin(redirect, request$url)) {
          request$headers <- request$headers["Accept"]
        }
        request$url <- redirect
        line_start(
          line, request, done, failed, elsewhere, redirects - 1, patience,
          secrets
        )
      }
    },
    fail = function(reason) {
      over()
      options(shown)
      reason <- if (size > wire_bounds$body ||
        grepl("Maximum file size", reason)) {
        paste(
          "the answer is larger than", format(wire_bounds$body / 1e6),
          "MB when unpacked"
        )
      } else {
        sub("[.]$", "", gsub("[[:space:]]+", " ", reason))
      }
      failed(
        if (grepl("certificate|larger than", reason)) {
          for_good(reason)
        } else {
          reason
        }
      )
    }
  )
  invisible(line)
}

# Headers as lines. A body is sent at once, without waiting for the service's
# consent.
header_lines <- function(headers) {
  text <- as.character(unlist(headers))
  c(
    paste0(
      names(headers), ifelse(grepl("^\\s+$", text), ";", paste0(": ", text)),
      recycle0 = TRUE
    ),
    "Expect: "
  )
}

# Counts a transfer of a line; the returned function ends it.
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

# A failure that a retry cannot fix.
for_good <- function(reason) structure(reason, for_good = TRUE)
is_for_good <- function(reason) isTRUE(attr(reason, "for_good"))

# Runs transfers until one has ended or `seconds` have passed.
line_run <- function(line, seconds) {
  # evaluated first, because it may start a request
  force(seconds)
  if (line$active > 0L) {
    now <- as.numeric(Sys.time())
    if (isTRUE(now - line$looked >= 1)) line_late(line)
    # what has arrived by now, else the next to arrive
    ran <- curl::multi_run(timeout = 0, poll = TRUE, pool = line$pool)
    waits <- ran$success + ran$error == 0 && ran$pending > 0
    if (seconds > 0 && waits) pool_wait(line$pool, seconds)
  } else {
    Sys.sleep(max(0, seconds))
  }
  line$looked <- as.numeric(Sys.time())
  invisible(line)
}

# Waits until a transfer of a pool ends, for so many seconds at most.
# multi_run() itself waits for whole seconds.
pool_wait <- function(pool, seconds) {
  until <- as.numeric(Sys.time()) + seconds
  repeat {
    ran <- curl::multi_run(timeout = 0, poll = TRUE, pool = pool)
    left <- until - as.numeric(Sys.time())
    if (left <= 0 || ran$success + ran$error > 0 || ran$pending == 0) {
      return(invisible(ran))
    }
    watched <- curl::multi_fdset(pool)
    if (watched$timeout >= 0) left <- min(left, watched$timeout / 1000)
    milliseconds <- max(1, ceiling(1000 * left))
    if (length(c(watched$reads, watched$writes, watched$exceptions))) {
      processx::poll(list(processx::curl_fds(watched)), milliseconds)
    } else {
      # an address is being looked up
      Sys.sleep(min(0.01, milliseconds / 1000))
    }
  }
}

# Waits until the last request has left, for so many seconds at most, and says
# whether it has. A new connection takes a moment, to look up the name, to
# connect and to agree on the encryption.
line_sent <- function(line, seconds = 1) {
  until <- as.numeric(Sys.time()) + seconds
  name <- as.character(line$begun)
  repeat {
    handle <- line$handles[[name]]
    watched <- curl::multi_fdset(line$pool)
    connected <- is.null(handle) ||
      curl::handle_data(handle)$times[["pretransfer"]] > 0
    if (connected && !length(watched$writes)) {
      return(TRUE)
    }
    if (as.numeric(Sys.time()) >= until) {
      return(FALSE)
    }
    if (length(c(watched$reads, watched$writes))) {
      processx::poll(list(processx::curl_fds(watched)), 10)
    } else {
      Sys.sleep(0.002)
    }
    curl::multi_run(timeout = 0, poll = TRUE, pool = line$pool)
  }
}

# Whether a request has left; NA once it has ended.
line_left <- function(line, name) {
  handle <- line$handles[[name]]
  if (is.null(handle)) {
    return(NA)
  }
  curl::handle_data(handle)$times[["pretransfer"]] > 0
}

# A process that was too busy to look at its transfers is late itself: their
# deadlines are extended by that time.
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
      curl::handle_setopt(
        handle,
        low_speed_time = limits$stall + line$late,
        timeout = limits$total + line$late
      )
    }
  }
}

line_close <- function(line) {
  for (handle in as.list(line$handles)) curl::multi_cancel(handle)
  line$handles <- new.env(parent = emptyenv())
  line$active <- 0L
}

# A URL elsewhere is followed only if the card allows it, without credentials,
# and never from https to http.
may_follow <- function(url, from, elsewhere) {
  if (same_origin(url, from)) {
    return(TRUE)
  }
  parts <- tryCatch(curl::curl_parse_url(url), error = function(e) NULL)
  elsewhere == "follow" &&
    !is.null(parts) &&
    (parts$scheme == "https" ||
      (parts$scheme == "http" && is_loopback(parts$host)))
}

# Headers by name in lower case. A repeated header is one list separated by
# commas (RFC 9110, section 5.3).
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

# Usually one blank precedes a value and none follows it.
trimmed <- function(text) {
  spaced <- startsWith(text, " ")
  text[spaced] <- substring(text[spaced], 2L)
  more <- grepl("^[ \t\r\n]|[ \t\r\n]$", text, perl = TRUE, useBytes = TRUE)
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

# The meaning of a status: `good`, `again` (with the wait), `absent` (no data
# for this symbol), `refused` (no request of this kind will succeed), `wrong`
# (this request is wrong, others may succeed).
judge_status <- function(status) {
  if (status >= 200 && status < 300) {
    "good"
  } else if (status %in% c(408, 425, 429, 500, 502, 503, 504, 520:524)) {
    "again"
  } else if (status %in% c(401, 402, 403, 407)) {
    "refused"
  } else if (status %in% c(404, 410)) {
    "absent"
  } else {
    "wrong"
  }
}

# Pauses double from half a second to a minute, each drawn between half and all
# of it, so that many clients do not return together.
retry_pause <- function(attempt) {
  min(60, 0.5 * 2^(attempt - 1)) * stats::runif(1, 0.5, 1)
}

# The start of an answer that is no data, for an error or the journal.
body_excerpt <- function(body, limit = 160) {
  body <- utils::head(body, 8000)
  text <- tryCatch(
    rawToChar(utils::head(body[body != as.raw(0)], 2000)),
    error = function(e) ""
  )
  text <- iconv(text, "UTF-8", "UTF-8", sub = "?")
  text <- gsub("[[:space:]]+", " ", gsub("<[^>]*>", " ", text))
  text <- trimws(text)
  if (nchar(text) > limit) paste0(substr(text, 1, limit), " ...") else text
}
