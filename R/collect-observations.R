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
    if (!is.null(state$archive)) in_transaction(state$archive, function() call_held(state, chain, state$want$source$source, state$want$offer$name))
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
  # a message of notes alone says that there is nothing, or that there will be
  if (!is.null(message) && !length(message$obs$series) && length(message$notes) && !any(grepl("\\((100|404)\\)$|no (results|data|records)", message$notes, ignore.case = TRUE))) {
    vetusta_stop("payload", paste0("The service sends no data, and says: ", paste(message$notes, collapse = "; ")), where = where, todo = "run it again later: it goes on", again = FALSE)
  }
  tidy <- tidy_message(message, dimensions, want$dataset$attributes)
  list(rows = tidy$rows, count = nrow(tidy$rows), hash = NULL, faults = tidy$faults, notes = c(message$notes, tidy$notes, unknown_codes(tidy$series, want$dataset)), full = FALSE,
    following = NULL, probing = FALSE, series = tidy$series, dimensions = dimensions, frequency = tidy$frequency)
}

# Codes that the code lists do not have are kept, and told.
unknown_codes <- function(series, about) {
  unlist(lapply(intersect(names(about$codes), names(series)), function(id) {
    odd <- setdiff(unique(series[[id]]), c(about$codes[[id]]$id, NA))
    if (length(odd)) paste0("the code list of ", id, " does not have ", paste(utils::head(odd, 5), collapse = ", "))
  }))
}

# Observations with their periods read, statuses in words and other attributes as JSON; what cannot be read is set aside. What the structure attaches to a series is said of the
# series, in whatever form it came; `known` are the structure's attributes with their `level`. A series whose periods are of several lengths is one series for each.
tidy_message <- function(message, dimensions, known = NULL) {
  if (is.null(message) || !length(message$obs$series)) {
    return(list(rows = data.frame(series = integer(), period = numeric(), value = numeric(), status = character(), words = character(), released = numeric()),
      faults = no_page_faults, frequency = character(), series = message$series))
  }
  obs <- message$obs
  attributes <- message$attributes
  series <- message$series
  set <- message$series_set
  for (name in intersect(names(attributes), known$id[known$level == "series"])) {
    there <- which(!is.na(attributes[[name]]))
    if (is.null(series[[name]])) series[[name]] <- rep(NA_character_, nrow(series))
    said <- attributes[[name]][there][match(seq_len(nrow(series)), obs$series[there])]
    series[[name]] <- ifelse(is.na(series[[name]]), as.character(said), series[[name]])
    attributes[[name]] <- NULL
  }
  year_start <- attributes[["REPORTING_YEAR_START_DAY"]] %||% series[["REPORTING_YEAR_START_DAY"]][obs$series] %||% rep(NA_character_, length(obs$time))
  year_start[is.na(year_start) | !grepl("^--[0-9]{2}-[0-9]{2}$", year_start)] <- "--01-01"
  periods <- time_periods(obs$time, year_start)
  instant <- ifelse(periods$frequency %in% "I", as.numeric(read_rfc3339(sub("/.*", "", obs$time))), NA)
  day <- as.numeric(periods$first)
  code <- attributes[["OBS_STATUS"]] %||% rep(NA_character_, length(obs$value))
  deleted <- obs$deleted %in% TRUE
  status <- ifelse(deleted, "deleted", ifelse(is.na(obs$value), "missing", ifelse(code %in% c("P", "F"), "provisional", "observed")))
  others <- attributes[vapply(attributes, function(column) any(!is.na(column)), TRUE)]
  words <- if (length(others)) record_texts(lapply(others[order(names(others))], as.character)) else rep(NA_character_, length(status))
  words[words == "{}" | deleted] <- NA
  valid <- message$sets$valid_from
  since <- released_instants(valid)
  notes <- if (any(is.na(since) & !is.na(valid))) paste0("the release \"", valid[is.na(since) & !is.na(valid)][1], "\" cannot be read: the values count from their coming")
  key <- if ("FREQ" %in% names(series)) series$FREQ[obs$series] else rep(NA_character_, length(obs$series))
  own <- ifelse(periods$frequency %in% "I" & as.numeric(periods$days) > 1, NA, periods$frequency)
  # the key says it, unless the periods are of other lengths
  usual <- ifelse(is.na(key) | !key %in% names(frequency_words), NA, key)
  usual[!is.na(usual) & usual == "D" & own %in% "I" & !is.na(instant) & instant %% 86400 != 0] <- "I"
  ranges <- grepl("/P", obs$time, fixed = TRUE)
  frequency <- ifelse(ranges | is.na(usual), ifelse(is.na(own), "D", own), usual)
  if (any(deleted & is.na(obs$time))) frequency[deleted & is.na(obs$time)] <- ifelse(is.na(usual), "D", usual)[deleted & is.na(obs$time)]
  split <- split_series(obs$series, frequency)
  period <- ifelse(split$frequency[split$owner] == "I" & !is.na(instant), instant / 86400, day)
  rows <- data.frame(series = split$owner, period = period, value = ifelse(deleted, NA_real_, obs$value), status = status, words = words, released = since[set][obs$series])
  bad <- unique(c(which(is.na(rows$period) & !(deleted & is.na(obs$time))), message$odd$row))
  faults <- no_page_faults
  if (length(bad)) {
    names <- do.call(paste, c(unname(series[dimensions]), sep = "."))[obs$series[bad]]
    faults <- data.frame(row = bad, symbol = names, time = NA_real_, place = paste0("observation ", bad), fault = ifelse(is.na(rows$period[bad]),
      "period cannot be read", "value cannot be read"),
      detail = ifelse(is.na(rows$period[bad]), paste("value", obs$time[bad]), paste("value", message$odd$text[match(bad, message$odd$row)])))
  }
  list(rows = rows, faults = faults, frequency = split$frequency, series = series[split$of, , drop = FALSE], notes = notes)
}

# The series of observations, one for each frequency that occurs in it: `owner` of each observation, and for each series that it is part `of` and its `frequency`.
split_series <- function(series, frequency) {
  key <- paste(series, frequency)
  first <- which(!duplicated(key))
  first <- first[order(series[first], method = "radix")]
  list(owner = match(key, key[first]), of = series[first], frequency = frequency[first])
}

# When a message's data were released: an instant, a day, or a month or year, which count from their first day.
released_instants <- function(text) {
  if (!length(text) || all(is.na(text))) {
    return(rep(NA_real_, length(text)))
  }
  instant <- as.numeric(read_rfc3339(as.character(text)))
  ifelse(is.na(instant), as.numeric(time_periods(as.character(text))$first) * 86400, instant)
}

store_observations <- function(state, chain, page, good, journal) {
  counts <- archive_put_observations(state$archive, state$want$source$source, state$want$dataset$id, page$series, page$dimensions, page$frequency, as.list(good), journal)
  for (name in names(counts)) state[[name]] <- state[[name]] + counts[[name]]
  archive_put_refreshed(state$archive, state$want$source$source, chain$start, chain$asked)
}
