# Collecting observations by name: one message a call; what is too large for the service is cut and
# asked for again in pieces.

#' @export
want_calls.vetusta_want_observations <- function(want, archive) plan_observations(want, archive)

#' @export
want_chain.vetusta_want_observations <- function(want, call, noted = function(kind, key) NULL) {
  keys <- call$keys[[1]]
  chain <- list(
    call = call, known = keys, symbols = character(), label = piece_label(keys),
    asked = now_seconds(), attempt = 1, page = 1,
    before = 0, not_before = 0, seen = character(), resumed = FALSE, direction = NA_character_,
    renewed = FALSE,
    windowed = TRUE, noted = noted, proof = proof_make(),
    formats = want$source$sdmx$formats %||% names(sdmx_formats[[want$source$sdmx$version]])
  )
  chain <- observation_request(want, chain)
  if (!chain$updates) chain$proof$total <- if (isTRUE(keys$count > 0)) keys$count
  chain
}

observation_request <- function(want, chain) {
  query <- c(list(startPeriod = chain$known$start, endPeriod = chain$known$end), want$query)
  address <- function(query) {
    sdmx_data_address(want$source, want$about$flow, chain$known$selection,
    query)
  }
  chain$start <- address(query)
  plain <- is.null(query$updatedAfter) && is.null(query$includeHistory)
  before <- if (isTRUE(want$source$sdmx$updates) && plain) chain$noted("refreshed", chain$start)
  if (!is.null(before)) query$updatedAfter <- format_instant(floor(before$at))
  chain$updates <- !is.null(before)
  # what was deleted can be said in every form but the first version of CSV
  if (chain$updates && !sdmx_is_3(want$source)) {
    chain$formats <- c(setdiff(chain$formats, "csv"), intersect(chain$formats, "csv"))
  }
  headers <- list(Accept = accept_of(want$source, chain$formats))
  chain$request <- list(address = address(query), method = "GET", body = NULL, headers = headers)
  chain
}

accept_of <- function(source, formats) {
  source$sdmx$formats <- formats
  sdmx_accept(source)
}

#' @export
want_claim.vetusta_want_observations <- function(want, chain) {
  list(name = claim_name(want$source$source, want$dataset$name, chain$start), shows = FALSE)
}

#' @export
want_refused.vetusta_want_observations <- function(want, chain, response) {
  status <- response$status
  if (status %in% c(413, 414, 510) || (status %in% c(400, 403, 500) &&
    grepl(large_words, body_excerpt(response$body), ignore.case = TRUE))) {
    return(observation_parts(want, chain, status))
  }
  if (status %in% c(406, 415) && length(chain$formats) > 1) {
    message <- paste("the service does not send", chain$formats[1])
    chain$formats <- chain$formats[-1]
    chain$request$headers$Accept <- accept_of(want$source, chain$formats)
    return(list(outcome = "retried", message = message, chains = list(chain)))
  }
  if (status == 404) {
    list(outcome = "empty", message = "no data for this selection", empty = TRUE,
      told = if (!chain$updates) chain$label)
  }
}

# How services say in words that a selection is too large.
large_words <- paste0("too (large|long|many|big)|size limit|exceed|limit of [0-9]|",
  "(maximum|larger|more) (number|than)|narrow|reduce")

observation_parts <- function(want, chain, status = 413) {
  # what brings the address down is fewer codes, and not a shorter time
  long <- status == 414 || nchar(chain$request$address) > address_long
  parts <- halve_call(want, chain$known, long) %||% if (long) halve_call(want, chain$known)
  message <- "too large for the service, asked for again in two parts"
  if (is.null(parts)) {
    return(list(outcome = "cut", message = message,
      failed = "the service refuses even the smallest selection as too large",
      todo = "ask for fewer codes or a shorter window"))
  }
  chains <- lapply(parts, function(part) {
    chain$known <- part
    chain$label <- piece_label(part)
    chain$attempt <- 1
    chain$proof <- proof_make()
    observation_request(want, chain)
  })
  list(outcome = "cut", message = message, chains = chains,
    notes = list(list(kind = "large", key = chain$start, value = if (long) "address"
    else "answer")))
}

# Addresses beyond this many characters are refused by many servers.
address_long <- 8000

#' @export
want_page.vetusta_want_observations <- function(want, chain, response, where, calendar, largest) {
  dims <- want$about$dimensions
  dimensions <- dims$id[dims$role != "time"]
  message <- if (response$status != 204) decode_sdmx(response$body, dimensions, where,
    want$about$measures %||% "OBS_VALUE")
  if (isTRUE(message$several)) dimensions <- c(dimensions, measure_name(dimensions))
  # a message of notes alone says that there is nothing, or that there will be
  if (!is.null(message) && !length(message$obs$series) && length(message$notes)) {
    stop_on_notes(message$notes, where)
  }
  tidy <- tidy_message(message, dimensions, want$about$attributes)
  page_make(tidy$rows, tidy$faults,
    # a message that was cut off says so behind its data
    too_large = any(grepl("\\((413|510)\\)$", message$notes)),
    notes = c(message$notes, tidy$notes, unknown_codes(tidy$series, want$about)),
    series = if (NROW(tidy$series)) tidy$series
    else list_frame(lapply(stats::setNames(nm = dimensions), function(name) character())),
    dimensions = dimensions, frequency = tidy$frequency,
    actions = tidy$actions, empties = isTRUE(message$empties))
}

stop_on_notes <- function(notes, where) {
  if (!any(grepl("\\((100|404)\\)$|no (results|data|records)", notes, ignore.case = TRUE))) {
    vetusta_stop("payload",
      paste0("The service sends no data, and says: ", paste(notes, collapse = "; ")), where = where,
      todo = "run it again later: it goes on", again = FALSE)
  }
}

# The series of a message with their dimensions and what is said of them, and their rows.
#' @export
want_parcel.vetusta_want_observations <- function(want, chain, page, good) {
  if (!nrow(good)) {
    return(NULL)
  }
  series <- page$series
  n <- nrow(series)
  words <- function(columns) {
    if (!length(columns)) {
      return(rep("{}", n))
    }
    record_texts(lapply(stats::setNames(nm = columns), function(name) as.character(series[[name]])))
  }
  key <- do.call(paste,
    c(unname(lapply(series[page$dimensions], function(x) ifelse(is.na(x), "", x))), sep = "."))
  said <- tapply(good$known, factor(good$series, seq_len(n)),
    function(x) max(c(-Inf, x), na.rm = anyNA(x) && !all(is.na(x))))
  said <- as.numeric(said)
  here <- seq_len(n) %in% good$series
  about <- data.frame(key = key, frequency = page$frequency, dimensions = words(page$dimensions),
    attributes = ifelse(here, words(setdiff(names(series), page$dimensions)), NA_character_),
    attributes_known = ifelse(is.finite(said), said, NA_real_))
  parcel_series(about,
    list(series = good$series, time = utc(good$period * 86400), known = good$known,
      value = good$value,
    status = good$status, words = good$words))
}

#' @export
want_notes.vetusta_want_observations <- function(want, chain) {
  list(list(kind = "asked", key = chain$start, value = ""),
    list(kind = "refreshed", key = chain$start, value = "", at = chain$asked))
}

#' @export
want_table.vetusta_want_observations <- function(want, page, rows) {
  rows <- rows[rows$status != "deleted", , drop = FALSE]
  key <- do.call(paste, c(unname(page$series[page$dimensions]), sep = "."))
  frame <- list(series = key[rows$series],
    period = epoch_days(floor(rows$period)),
    frequency = page$frequency[rows$series], value = rows$value, status = rows$status,
    known = utc(rows$known))
  series <- lapply(page$series, `[`, rows$series)
  if (!any(frame$frequency %in% "I")) {
    columns <- c(frame, free_names(series, c(names(frame), "unit")))
    return(without_notes(series_frame(list_frame(columns))))
  }
  frame$period <- utc(whole_micros(rows$period * 86400))
  names(frame)[2] <- "time"
  as_rows(c(frame, free_names(series, names(frame))))
}

#' @export
want_round.vetusta_want_observations <- function(want) {
  asked <- c(want$selection, want$query,
    list(from = want$window$from$text, to = want$window$to$text))
  key_text(asked[lengths(asked) > 0])
}

#' @export
want_again.vetusta_want_observations <- function(want, tally) NULL

#' @export
want_noun.vetusta_want_observations <- function(want) "values"

#' @export
want_plan_text.vetusta_want_observations <- function(want, plan) {
  calls <- plan$calls
  address <- vapply(seq_len(nrow(calls)), function(i) want_chain(want, calls[i, ])$request$address,
    "")
  most <- want$source$sdmx$most_cells
  cut <- if (plan$pages > 1 && !is.null(most)) paste0("; cut so that none has more than ",
    thousands(most))
  window <- if (length(unlist(want$window))) {
    paste0("  window    ", want$window$from$text %||% "the beginning", " to ",
      want$window$to$text %||% "the end")
  }
  c(
    paste0("plan: ", want$dataset$name, " from ", want$source$title, ": ", want$about$title),
    window,
    paste0("  key       ", sdmx_key(want$selection), "   (",
      paste(names(want$selection), collapse = "."), ")"),
    if (nrow(calls)) c(paste0("  requests  ", thousands(plan$pages), ", about ",
      thousands(plan$rows), " values", cut), plan_costs(plan))
    else "  requests  none: the archive holds all of it",
    plan_open(plan), if (length(want$notes)) paste0("  note      ", want$notes), "",
    paste0("  ", utils::head(address, 8)),
    if (length(address) > 8) paste0("  and ", thousands(length(address) - 8), " more")
  )
}
