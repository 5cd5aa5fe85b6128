# SDMX data messages in all their forms, into one: `series` (a data frame: a column a dimension or attribute, a row a series), `obs` (columns `series`, the row's
# number there, `time`, `value`, and attributes), `sets` (a data frame: action, valid_from, valid_to), `notes` (what the service says beside), `prepared`.

sdmx_reserved <- c("structureRef", "action", "setID", "validFromDate", "validToDate", "reportingBeginDate", "reportingEndDate", "publicationYear",
  "publicationPeriod", "dataScope", "type", "REPORTING_YEAR_START_DAY_")

decode_sdmx <- function(body, dimensions, where) {
  if (!length(body)) stop_payload("The answer is empty.", where, "try again later")
  if (identical(body[1:3], as.raw(c(0xef, 0xbb, 0xbf)))) body <- body[-(1:3)]
  start <- utils::head(body, 400)
  start <- trimws(rawToChar(start[start != as.raw(0)]))
  if (grepl("^<", start)) {
    if (grepl("<html|<!DOCTYPE html", start, ignore.case = TRUE)) stop_payload("The answer is a web page, not a message.", where,
      paste0("look whether the card's address is right; it begins: ", body_excerpt(body, 80)))
    sdmx_from_xml(body, dimensions, where)
  } else if (grepl("^\\{", start)) {
    sdmx_from_json(body, dimensions, where)
  } else {
    sdmx_from_csv(body, dimensions, where)
  }
}

texts_of <- function(column) c(NA_character_, column$levels)[column$codes + 1L]

columns_frame <- function(columns, rows) {
  out <- lapply(columns, texts_of)
  structure(out, row.names = .set_row_names(rows), class = "data.frame")
}

# --- SDMX-ML -----------------------------------------------------------------------------------------------------------

sdmx_from_xml <- function(body, dimensions, where) {
  read <- tryCatch(sdmx_xml_cpp(body), error = function(e) {
    parts <- strsplit(conditionMessage(e), "@", fixed = TRUE)[[1]]
    stop_payload(paste0("The message cannot be read: ", parts[1], "."), paste0(where, ", byte ", parts[2]), "ask again; if it stays so, tell the service's makers")
  })
  notes <- sdmx_notes(columns_frame(read$notes, read$note_rows))
  if (grepl("Error$", read$root)) stop_payload(paste0("The service answers with an error: ", paste(notes, collapse = "; ")), where, "look at the want; if it is right, ask again later")
  if (!grepl("Data$|DataSet$", read$root)) stop_payload(paste0("The answer is XML and no data message: its first element is ", read$root, "."), where,
    "look whether the card's address is right")
  sets <- columns_frame(read$sets, read$set_rows)
  flat <- any(read$obs_series == 0L)
  if (flat) {
    grouped <- flat_series(read$obs, dimensions, where)
    series <- grouped$series
    series_set <- read$obs_set[grouped$first]
    owner <- grouped$owner
  } else {
    series <- columns_frame(read$series, read$series_count)
    series_set <- read$series_set
    owner <- read$obs_series
  }
  series <- with_groups(series, series_set, columns_frame(read$groups, read$group_rows), read$group_set, dimensions)
  series <- with_set_attributes(series, series_set, sets)
  time <- read$obs[[read$dimension]] %||% read$obs[["TIME_PERIOD"]]
  if (is.null(time) && read$obs_rows > 0) stop_payload(paste0("No observation says its ", read$dimension, "."), where, "look at what the service sends")
  attributes <- lapply(read$obs[setdiff(names(read$obs), c(read$dimension, "TIME_PERIOD", if (flat) dimensions))], texts_of)
  obs <- c(list(series = owner, time = if (read$obs_rows) texts_of(time) else character(), value = read$value), attributes)
  sdmx_message(series, obs, sdmx_sets(sets), series_set, dimensions, where, notes = notes, prepared = read$prepared, odd = list(row = read$odd, text = read$odd_text))
}

# Observations that carry their dimensions: the series are their distinct combinations.
flat_series <- function(columns, dimensions, where) {
  missing <- setdiff(dimensions, names(columns))
  if (length(missing)) stop_payload(paste0("The data do not match the structure: the observations lack the dimension ", missing[1], "."), where,
    "look whether the structure was changed; `vetusta describe` reads it anew")
  owner <- row_groups(lapply(columns[dimensions], `[[`, "codes"))
  first <- which(!duplicated(owner))
  series <- lapply(columns[dimensions], function(column) c(NA_character_, column$levels)[column$codes[first] + 1L])
  list(series = structure(series, row.names = .set_row_names(length(first)), class = "data.frame"), owner = owner, first = first)
}

# A number a distinct row of some columns, in the order in which they first come.
row_groups <- function(columns) {
  if (!length(columns[[1]])) {
    return(integer())
  }
  table <- data.table::setDT(unname(columns) |> stats::setNames(paste0("k", seq_along(columns))))
  table[, ".group" := .GRP, by = c(names(table))]
  table[[".group"]]
}

# Attributes of a group go to the series that have its key.
with_groups <- function(series, series_set, groups, group_set, dimensions) {
  if (!nrow(groups) || !nrow(series)) {
    return(series)
  }
  for (i in seq_len(nrow(groups))) {
    key <- intersect(dimensions, names(groups)[!is.na(unlist(groups[i, ]))])
    at <- series_set == group_set[i]
    for (name in key) at <- at & series[[name]] %in% groups[[name]][i]
    for (name in setdiff(names(groups)[!is.na(unlist(groups[i, ]))], c(key, sdmx_reserved))) {
      if (is.null(series[[name]])) series[[name]] <- rep(NA_character_, nrow(series))
      series[[name]][at & is.na(series[[name]])] <- groups[[name]][i]
    }
  }
  series
}

with_set_attributes <- function(series, series_set, sets) {
  for (name in setdiff(names(sets), c(sdmx_reserved, names(series)))) series[[name]] <- sets[[name]][series_set]
  series
}

sdmx_sets <- function(sets) {
  n <- nrow(sets)
  text <- function(name) as.character(sets[[name]] %||% rep(NA, n))
  data.frame(action = text("action"), valid_from = text("validFromDate"), valid_to = text("validToDate"))
}

sdmx_notes <- function(notes) {
  if (!nrow(notes)) {
    return(character())
  }
  trimws(paste0(ifelse(is.na(notes[["severity"]] %||% NA), "", paste0(notes[["severity"]], ": ")), notes[["text"]] %||% "",
    ifelse(is.na(notes[["code"]] %||% NA), "", paste0(" (", notes[["code"]], ")"))))
}

# --- SDMX-CSV ------------------------------------------------------------------------------------------------------------

sdmx_from_csv <- function(body, dimensions, where) {
  text <- tryCatch(rawToChar(body), error = function(e) rawToChar(body[body != as.raw(0)]))
  # all is text but the value; a value that is no number makes its column text, and is found below
  words <- setdiff(gsub("\"", "", strsplit(sub("[\r\n].*", "", substr(text, 1, 5000)), ",", fixed = TRUE)[[1]]), "OBS_VALUE")
  rows <- tryCatch(data.table::fread(text = if (endsWith(text, "\n")) text else paste0(text, "\n"), colClasses = list(character = words), na.strings = "",
    header = TRUE, data.table = FALSE, showProgress = FALSE, encoding = "UTF-8", fill = TRUE),
    error = function(e) stop_payload("The answer cannot be read as SDMX-CSV.", where, paste0("it begins: ", body_excerpt(body, 80))))
  # a blank line at the end is no row
  if (anyNA(rows[[1]])) rows <- rows[!is.na(rows[[1]]), , drop = FALSE]
  with_labels <- grepl(": ", names(rows), fixed = TRUE)
  names(rows) <- sub(": .*", "", names(rows))
  # with labels beside the codes each value is "CODE: label"
  if (any(with_labels)) for (name in setdiff(names(rows)[with_labels], c("OBS_VALUE"))) rows[[name]] <- sub(": .*", "", rows[[name]])
  missing <- setdiff(c(dimensions, "OBS_VALUE"), names(rows))
  if (length(missing)) {
    stop_payload(if (length(missing) > length(dimensions)) "The answer is no SDMX message." else paste0("The data do not match the structure: the table lacks the column ", missing[1], "."), where,
      paste0("look whether the structure was changed; it begins: ", body_excerpt(body, 80)))
  }
  n <- nrow(rows)
  action <- rows[["ACTION"]] %||% rep("I", n)
  owner <- row_groups(as.list(rows[dimensions]))
  first <- which(!duplicated(owner))
  others <- setdiff(names(rows), c("DATAFLOW", "STRUCTURE", "STRUCTURE_ID", "STRUCTURE_NAME", "ACTION", dimensions, "TIME_PERIOD", "OBS_VALUE"))
  value <- suppressWarnings(as.double(rows$OBS_VALUE))
  odd <- if (is.character(rows$OBS_VALUE)) which(is.na(value) & !is.na(rows$OBS_VALUE) & rows$OBS_VALUE != "NaN") else integer()
  obs <- c(list(series = owner, time = rows[["TIME_PERIOD"]] %||% rep(NA_character_, n), value = value), as.list(rows[others]))
  sdmx_message(rows[first, dimensions, drop = FALSE], obs, data.frame(action = if (n) action[1] else NA_character_, valid_from = NA_character_,
    valid_to = NA_character_), rep(1L, length(first)), dimensions, where,
    odd = list(row = odd, text = rows$OBS_VALUE[odd]))
}

# --- what all of them become -------------------------------------------------------------------------------------------

sdmx_message <- function(series, obs, sets, series_set, dimensions, where, notes = character(), prepared = "", odd = list(row = integer(), text = character())) {
  missing <- setdiff(dimensions, names(series))
  if (length(missing) && nrow(series)) {
    stop_payload(paste0("The data do not match the structure: the series lack the dimension ", missing[1], "."), where,
      "look whether the structure was changed; `vetusta describe` reads it anew")
  }
  obs$value[is.nan(obs$value)] <- NA_real_
  list(series = series, obs = obs, sets = sets, series_set = series_set, notes = notes, prepared = prepared, odd = odd)
}

utils::globalVariables(c(".GRP", ":="))
