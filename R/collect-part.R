# Partial answers (HTTP 206, RFC 9110, section 14): the rest is requested by
# Range; where the service refuses that, the request is split.

# Content-Range as list(unit, from, to, total); empty where it cannot be read,
# without `total` where that is unknown.
content_range <- function(response) {
  said <- response$headers[["content-range"]]
  if (is.null(said)) {
    return(list())
  }
  part <- regmatches(
    said, regexec("^ *([a-zA-Z]+)?[ =]*([0-9]+)-([0-9]+)/([0-9]+|[*]) *$", said)
  )[[1]]
  if (!length(part)) {
    return(list())
  }
  total <- suppressWarnings(as.numeric(part[5]))
  list(
    unit = if (nzchar(part[2])) tolower(part[2]) else "items",
    from = as.numeric(part[3]),
    to = as.numeric(part[4]),
    total = if (!is.na(total)) total
  )
}

# The largest number of rows that a range of rows states.
items_total <- function(response) {
  range <- content_range(response)
  if (!identical(range$unit, "bytes")) range$total
}

is_part_of_bytes <- function(response, chain) {
  !is.null(chain$part) && response$status %in% c(200, 206, 416) ||
    (response$status == 206 && identical(content_range(response)$unit, "bytes"))
}

collect_part <- function(run, queue, tally, chain, response) {
  part <- chain$part
  range <- content_range(response)
  whole <- function(body) {
    chain$part <- NULL
    chain$request$headers[c("Range", "If-Range", "Accept-Encoding")] <- NULL
    response$status <- 200L
    response$body <- body
    collect_good(run, queue, tally, chain, response)
  }
  if (response$status == 200) {
    return(whole(response$body))
  }
  if (response$status == 416) {
    return(
      if (is.null(part$total)) {
        whole(part$body)
      } else {
        collect_smaller(
          run, queue, tally, chain, response, "the rest of it was refused"
        )
      }
    )
  }
  # byte ranges count compressed bytes, so they are used only for uncompressed
  # answers
  plain <- is.null(response$headers[["content-encoding"]]) ||
    isTRUE(length(response$body) == range$to - range$from + 1)
  follows <- identical(range$unit, "bytes") &&
    range$from == (part$at %||% 0) &&
    range$to >= range$from &&
    plain
  if (!follows) {
    return(
      collect_smaller(
        run, queue, tally, chain, response, "the rest of it does not follow"
      )
    )
  }
  body <- c(part$body, response$body)
  if (!is.null(range$total) && range$to + 1 >= range$total) {
    return(whole(body))
  }
  journal_alone(
    run, chain, response, "part",
    paste0(
      "bytes ", number_text(range$from), " to ", number_text(range$to), " of ",
      if (is.null(range$total)) {
        "an unknown number"
      } else {
        number_text(range$total)
      }
    )
  )
  tag <- response$headers[["etag"]]
  chain$part <- list(body = body, at = range$to + 1, total = range$total)
  chain$request$headers[["Range"]] <-
    paste0("bytes=", number_text(range$to + 1), "-")
  chain$request$headers[["Accept-Encoding"]] <- "identity"
  if (!is.null(tag) && !startsWith(tag, "W/")) {
    chain$request$headers[["If-Range"]] <- tag
  }
  chain$attempt <- 1
  queue_back(queue, chain)
  tally
}

# Splits a request whose answer is partial into two: by symbols, codes or time.
# A request that cannot be split leaves its window open.
collect_smaller <- function(run, queue, tally, chain, response,
                            why = paste0(
                              "the service gives no more in a ", "single answer"
                            )) {
  chain$request$headers[c("Range", "If-Range", "Accept-Encoding")] <- NULL
  chain$part <- NULL
  reason <- paste0(
    "HTTP ", response$status, ": the answer is partial, and ", why
  )
  parts <- query_refused(run$query, chain, list(status = 413, body = raw()))
  if (!is.null(parts) && is.null(parts$failed)) {
    return(collect_verdict(run, queue, tally, chain, response, parts))
  }
  chain_parted(run, queue, tally, chain, response) %||%
    chain_halved(run, queue, tally, chain, response) %||%
    collect_cut_short(run, tally, chain, response, reason)
}

# A request for a window, repeated in two halves, split at a local midnight
# where there is one.
chain_halved <- function(run, queue, tally, chain, response) {
  query <- run$query
  length <- (chain$to %||% 0) - (chain$from %||% 0)
  if (is.null(chain$from) ||
    chain$page > 1 ||
    !has_window(query$dataset) ||
    length < max(2, 2 * (query$interval$seconds %||% 86400) %|na|% 86400)) {
    return(NULL)
  }
  zone <- query$source$zone
  middle <- floor(chain$from + length / 2)
  if (length > 3 * 86400) {
    middle <- as.numeric(time_local(local_day(utc(middle), zone), 0, zone))
  }
  journal_alone(
    run, chain, response, "cut",
    paste0(answer_text(run, response), "; requested again in two halves")
  )
  tally$cut <- tally$cut + 1
  for (window in list(c(middle, chain$to), c(chain$from, middle))) {
    planned <- chain$planned
    planned$from <- utc(window[1])
    planned$to <- utc(window[2])
    queue_back(queue, query_chain(query, planned))
  }
  claim_over(run, chain)
  tally
}
