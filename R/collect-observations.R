# Collecting observations: one message a call; what is too large for the service is cut and asked for again in pieces.

observation_chain <- function(want, call, archive, now = as.numeric(Sys.time())) {
  keys <- call$keys[[1]]
  chain <- list(known = keys, symbols = character(), label = piece_label(keys), asked = now, attempt = 1, page = 1, before = 0, not_before = 0,
    seen = character(), resumed = FALSE, direction = NA_character_, ends = NULL,
    renewed = FALSE, windowed = TRUE, formats = want$source$sdmx$formats %||% names(sdmx_formats[[want$source$sdmx$version]]))
  observation_request(want, chain, archive)
}

observation_request <- function(want, chain, archive) {
  query <- c(list(startPeriod = chain$known$start, endPeriod = chain$known$end), want$query)
  address <- function(query) sdmx_data_address(want$source, want$dataset$flow, chain$known$selection, query)
  chain$start <- address(query)
  if (isTRUE(want$source$sdmx$updates) && !is.null(archive) && is.null(query$updatedAfter) && is.null(query$includeHistory)) {
    since <- archive_refreshed(archive, want$source$source, chain$start)
    if (length(since)) query$updatedAfter <- format_instant(floor(since))
  }
  chain$request <- list(address = address(query), method = "GET", body = NULL, headers = list(Accept = accept_of(want$source, chain$formats)))
  chain
}

accept_of <- function(source, formats) {
  source$sdmx$formats <- formats
  sdmx_accept(source)
}

# What an answer other than a message means for a want of observations; TRUE where that is all.
observation_event <- function(state, chain, response) {
  if (response$status == 413 || (response$status %in% c(400, 403, 500) && grepl("too large|size limit|exceed", body_excerpt(response$body), ignore.case = TRUE))) {
    collect_too_large(state, chain, response)
    return(TRUE)
  }
  if (response$status %in% c(406, 415) && length(chain$formats) > 1) {
    journal_alone(state, chain, response, "again", paste("the service does not send", chain$formats[1]))
    chain$formats <- chain$formats[-1]
    chain$request$headers$Accept <- accept_of(state$want$source, chain$formats)
    state$queue <- c(list(chain), state$queue)
    return(TRUE)
  }
  if (response$status == 404) {
    journal_alone(state, chain, response, "empty", "no data for this selection")
    claim_over(state, chain)
    if (!grepl("updatedAfter=", chain$request$address)) state$empty <- c(state$empty, chain$label)
    if (isTRUE(state$want$source$sdmx$updates) && !is.null(state$archive)) in_transaction(state$archive, function() archive_put_refreshed(state$archive,
      state$want$source$source, chain$start, chain$asked))
    return(TRUE)
  }
  FALSE
}

collect_too_large <- function(state, chain, response) {
  parts <- halve_call(state$want, chain$known)
  journal_alone(state, chain, response, "cut", "too large for the service, asked for again in two parts")
  if (is.null(parts)) {
    return(collect_failed(state, chain, response, "failed", "the service refuses even the smallest selection as too large", "ask for fewer codes or a shorter window"))
  }
  state$cut <- state$cut + 1
  claim_over(state, chain)
  chain$claim <- NULL
  for (part in rev(parts)) {
    chain$known <- part
    chain$label <- piece_label(part)
    chain$attempt <- 1
    state$queue <- c(list(observation_request(state$want, chain, state$archive)), state$queue)
  }
}

observation_page <- function(state, chain, response, where) {
  want <- state$want
  dims <- want$dataset$dimensions
  dimensions <- dims$id[dims$role != "time"]
  message <- if (identical(as.numeric(response$status), 204)) NULL else decode_sdmx(response$body, dimensions, where)
  tidy <- tidy_message(message, dimensions)
  list(rows = tidy$rows, count = nrow(tidy$rows), hash = NULL, faults = tidy$faults, notes = c(message$notes, unknown_codes(message$series, want$dataset)),
    following = NULL, series = message$series, dimensions = dimensions, frequency = tidy$frequency)
}

# Codes that the code lists do not have are kept, and told.
unknown_codes <- function(series, about) {
  unlist(lapply(intersect(names(about$codes), names(series)), function(id) {
    odd <- setdiff(unique(series[[id]]), c(about$codes[[id]]$id, NA))
    if (length(odd)) paste0("the code list of ", id, " does not have ", paste(utils::head(odd, 5), collapse = ", "))
  }))
}

# Observations with their periods read, statuses in words and other attributes as JSON; what cannot be read is set aside.
tidy_message <- function(message, dimensions) {
  if (is.null(message) || !length(message$obs$series)) {
    return(list(rows = data.frame(series = integer(), period = numeric(), value = numeric(), status = character(), words = character(), released = numeric()),
      faults = no_page_faults, frequency = character()))
  }
  obs <- message$obs
  start <- unique(message$series[["REPORTING_YEAR_START_DAY"]])
  start <- start[!is.na(start)]
  periods <- time_periods(obs$time, if (length(start) == 1) start else "--01-01")
  code <- obs[["OBS_STATUS"]] %||% rep(NA_character_, length(obs$value))
  status <- ifelse(is.na(obs$value), "missing", ifelse(code %in% c("P", "F"), "provisional", "observed"))
  others <- obs[setdiff(names(obs), c("series", "time", "value"))]
  others <- others[vapply(others, function(column) any(!is.na(column)), TRUE)]
  words <- if (length(others)) record_texts(lapply(others, as.character)) else rep(NA_character_, length(status))
  words[words == "{}"] <- NA
  valid <- message$sets$valid_from[message$series_set]
  released <- as.numeric(read_released(valid, length(valid)))[obs$series]
  rows <- data.frame(series = obs$series, period = as.numeric(periods$first), value = obs$value, status = status, words = words, released = released)
  key <- if ("FREQ" %in% names(message$series)) message$series$FREQ else NA
  by_time <- periods$frequency[match(seq_len(nrow(message$series)), obs$series)]
  frequency <- ifelse(is.na(key) | !key %in% names(frequency_words), ifelse(is.na(by_time), "D", by_time), key)
  bad <- c(which(is.na(rows$period)), message$odd$row)
  faults <- no_page_faults
  if (length(bad)) {
    bad <- unique(bad)
    series <- do.call(paste, c(unname(message$series[dimensions]), sep = "."))[obs$series[bad]]
    faults <- data.frame(row = bad, symbol = series, time = NA_real_, place = paste0("observation ", bad), fault = ifelse(is.na(rows$period[bad]),
      "period cannot be read", "value cannot be read"),
      detail = ifelse(is.na(rows$period[bad]), paste("value", obs$time[bad]), paste("value", message$odd$text[match(bad, message$odd$row)])))
  }
  list(rows = rows, faults = faults, frequency = frequency)
}

store_observations <- function(state, chain, page, good, journal) {
  counts <- archive_put_observations(state$archive, state$want$source$source, state$want$dataset$id, page$series, page$dimensions, page$frequency, as.list(good), journal)
  for (name in names(counts)) state[[name]] <- state[[name]] + counts[[name]]
  archive_put_refreshed(state$archive, state$want$source$source, chain$start, chain$asked)
}
