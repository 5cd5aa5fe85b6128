# SDMX data messages in all their forms, into one: `series` (a data frame: a column a dimension or attribute, a row a series), `obs` (columns `series`, the row's
# number there, `time`, `value`, and attributes), `sets` (a data frame: action, valid_from, valid_to), `notes` (what the service says beside), `prepared`.

sdmx_reserved <- c("structureRef", "action", "setID", "validFromDate", "validToDate", "reportingBeginDate", "reportingEndDate", "publicationYear", "publicationPeriod", "dataScope", "type", "REPORTING_YEAR_START_DAY_")

decode_sdmx <- function(body, dimensions, where) {
  if (!length(body)) stop_payload("The answer is empty.", where, "try again later")
  if (identical(body[1:3], as.raw(c(0xef, 0xbb, 0xbf)))) body <- body[-(1:3)]
  start <- utils::head(body, 400)
  start <- trimws(rawToChar(start[start != as.raw(0)]))
  if (grepl("^<", start)) {
    if (grepl("<html|<!DOCTYPE html", start, ignore.case = TRUE)) stop_payload("The answer is a web page, not a message.", where, paste0("look whether the card's address is right; it begins: ", body_excerpt(body, 80)))
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
  if (!grepl("Data$|DataSet$", read$root)) stop_payload(paste0("The answer is XML and no data message: its first element is ", read$root, "."), where, "look whether the card's address is right")
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
  if (length(missing)) stop_payload(paste0("The data do not match the structure: the observations lack the dimension ", missing[1], "."), where, "look whether the structure was changed; `vetusta describe` reads it anew")
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
  trimws(paste0(ifelse(is.na(notes[["severity"]] %||% NA), "", paste0(notes[["severity"]], ": ")), notes[["text"]] %||% "", ifelse(is.na(notes[["code"]] %||% NA), "", paste0(" (", notes[["code"]], ")"))))
}

# --- SDMX-JSON -----------------------------------------------------------------------------------------------------------

sdmx_from_json <- function(body, dimensions, where) {
  parsed <- tryCatch(RcppSimdJson::fparse(body, max_simplify_lvl = "vector", int64_policy = "double"), error = function(e) stop_no_json(body, where))
  problems <- c(parsed[["errors"]], parsed[["data"]][["errors"]])
  content <- if (is.null(parsed[["data"]])) parsed else parsed[["data"]]
  if (is.null(content$dataSets)) {
    if (length(problems)) stop_payload(paste0("The service answers with an error: ", paste(vapply(problems, json_problem, ""), collapse = "; ")), where, "look at the want; if it is right, ask again later")
    stop_payload("The answer is JSON and no data message: it has no dataSets.", where, "look whether the card's address is right")
  }
  structures <- content[["structures"]] %||% list(content[["structure"]])
  parts <- lapply(content$dataSets, function(set) json_set(set, structures[[(set[["structure"]] %||% 0) + 1]], dimensions, where))
  sets <- data.frame(action = vapply(content$dataSets, function(set) set$action %||% NA_character_, ""), valid_from = vapply(content$dataSets, function(set) set$validFrom %||% NA_character_, ""),
    valid_to = vapply(content$dataSets, function(set) set$validTo %||% NA_character_, ""))
  series <- data.table::rbindlist(lapply(parts, `[[`, "series"), use.names = TRUE, fill = TRUE)
  counts <- vapply(parts, function(part) nrow(part$series), 0L)
  shift <- cumsum(c(0L, counts))
  obs <- lapply(seq_along(parts), function(i) {
    part <- parts[[i]]$obs
    part$series <- part$series + shift[i]
    part
  })
  obs <- if (length(obs) == 1) obs[[1]] else as.list(data.table::rbindlist(obs, use.names = TRUE, fill = TRUE))
  sdmx_message(as.data.frame(series), obs, sets, rep(seq_along(parts), counts), dimensions, where, notes = vapply(problems, json_problem, ""), prepared = parsed[["meta"]][["prepared"]] %||% parsed[["header"]][["prepared"]] %||% "")
}

json_problem <- function(problem) if (is.list(problem)) paste(c(problem$title, problem$detail, problem$code), collapse = " ") else as.character(problem)

json_set <- function(set, structure, dimensions, where) {
  parts <- structure$dimensions
  ids <- function(components) vapply(components, `[[`, "", "id")
  # the ids of a component's values, in the order in which indices count them
  values <- function(component) vapply(component$values, function(value) {
    if (is.list(value)) as.character(value$id %||% value$value %||% value$name %||% NA) else as.character(value)
  }, "")
  attributes <- function(place) structure$attributes[[place]] %||% list()
  read_attributes <- function(rows, components) json_attributes(rows, components, values)
  if (!is.null(set$series)) {
    components <- parts$series
    index <- json_index(names(set$series), length(components), where)
    series <- lapply(seq_along(components), function(i) values(components[[i]])[index[, i] + 1])
    names(series) <- ids(components)
    series <- c(series, json_set_dimensions(parts$dataSet, length(set$series), values), read_attributes(lapply(set$series, `[[`, "attributes"), attributes("series")))
    inner <- lapply(unname(set$series), `[[`, "observations")
    counts <- lengths(inner)
    flat <- unlist(inner, recursive = FALSE, use.names = FALSE)
    place <- text_groups(as.character(unlist(lapply(inner, names), use.names = FALSE)))
    at <- as.integer(place$levels)[place$id]
    owner <- rep(seq_along(inner), counts)
    time <- values(parts$observation[[1]])[at + 1]
  } else {
    components <- parts$observation
    names <- names(set$observations)
    index <- json_index(names, length(components), where)
    flat <- unname(set$observations)
    all <- stats::setNames(lapply(seq_along(components), function(i) values(components[[i]])[index[, i] + 1]), ids(components))
    clock <- which(ids(components) == "TIME_PERIOD" | vapply(components, function(one) isTRUE(one$keyPosition == length(components) - 1) && identical(one$id, "TIME_PERIOD"), TRUE))
    time <- all[[clock[1]]]
    owner <- row_groups(all[-clock[1]])
    first <- !duplicated(owner)
    series <- c(lapply(all[-clock[1]], `[`, first), json_set_dimensions(parts$dataSet, sum(first), values))
  }
  n <- length(series[[1]])
  set_attributes <- json_attributes(list(set$attributes), c(attributes("dataSet"), if (is.null(attributes("dataSet"))) list()), values)
  series <- c(series, lapply(set_attributes, rep, n))
  series <- as.data.frame(series, check.names = FALSE)
  series <- json_dimension_groups(series, set$dimensionGroupAttributes, attributes("dimensionGroup"), dimensions, values)
  cells <- json_cells(flat)
  obs <- if (is.null(cells)) c(list(series = owner, time = time, value = json_first(flat)), json_attributes(json_rest(flat), attributes("observation"), values))
  else c(list(series = owner, time = time, value = cells[1, ]), json_cell_attributes(cells[-1, , drop = FALSE], attributes("observation"), values))
  list(series = series, obs = obs)
}

json_index <- function(names, width, where) {
  parts <- strsplit(names, ":", fixed = TRUE)
  if (length(parts) && any(lengths(parts) != width)) stop_payload("The data do not match the structure: a key has another number of parts than there are dimensions.", where, "tell the service's makers")
  matrix(as.integer(unlist(parts)), ncol = width, byrow = TRUE)
}

json_set_dimensions <- function(components, n, values) {
  stats::setNames(lapply(components, function(one) rep(values(one)[1], n)), vapply(components, `[[`, "", "id"))
}

# The usual observations, arrays of numbers: a matrix with a column each; NULL where some hold anything else.
json_cells <- function(flat) {
  if (is.numeric(flat)) {
    return(matrix(as.double(flat), nrow = 1))
  }
  lengths <- lengths(flat)
  values <- unlist(flat, use.names = FALSE)
  if (!is.numeric(values) || length(values) != sum(lengths) || !all(lengths)) {
    return(NULL)
  }
  if (length(unique(lengths)) == 1) {
    return(matrix(as.double(values), nrow = lengths[1]))
  }
  cells <- matrix(NA_real_, max(lengths), length(flat))
  cells[cbind(sequence(lengths), rep(seq_along(flat), lengths))] <- values
  cells
}

json_cell_attributes <- function(cells, components, values) {
  out <- list()
  for (i in seq_len(min(nrow(cells), length(components)))) {
    known <- values(components[[i]])
    out[[components[[i]]$id]] <- if (length(known)) known[cells[i, ] + 1] else as.character(cells[i, ])
  }
  out
}

# The first member of each observation is its value.
json_first <- function(flat) {
  if (is.numeric(flat)) {
    return(as.double(flat))
  }
  lengths <- lengths(flat)
  if (length(flat) && all(lengths == 1) && all(vapply(flat, is.numeric, TRUE))) {
    return(as.double(unlist(flat, use.names = FALSE)))
  }
  vapply(flat, function(one) {
    value <- if (length(one)) one[[1]]
    if (is.null(value) || !length(value) || is.na(value)) NA_real_ else suppressWarnings(as.double(value))
  }, 1)
}

json_rest <- function(flat) {
  if (!is.list(flat) || all(lengths(flat) <= 1)) {
    return(NULL)
  }
  lapply(flat, function(one) if (length(one) > 1) one[-1])
}

# Attributes are indices into a component's values, or the values themselves; trailing ones may be left out.
json_attributes <- function(rows, components, values) {
  if (!length(components) || is.null(rows)) {
    return(list())
  }
  width <- max(lengths(rows), 0L)
  out <- list()
  for (i in seq_along(components)) {
    if (i > width) break
    raw <- lapply(rows, function(row) if (length(row) >= i) row[[i]])
    raw[lengths(raw) == 0] <- NA
    raw <- unlist(lapply(raw, function(one) if (length(one) > 1) one[[1]] else one), use.names = FALSE)
    known <- values(components[[i]])
    out[[components[[i]]$id]] <- if (length(known) && is.numeric(raw)) known[raw + 1] else as.character(raw)
  }
  out
}

# SDMX-JSON 2.0: attributes of a partial key, "0:1:" with nothing for the dimensions that are left open.
json_dimension_groups <- function(series, groups, components, dimensions, values) {
  for (key in names(groups)) {
    parts <- strsplit(paste0(key, ":x"), ":", fixed = TRUE)[[1]]
    parts <- parts[-length(parts)]
    found <- json_attributes(list(groups[[key]]), components, values)
    at <- rep(TRUE, nrow(series))
    for (i in seq_along(parts)) {
      name <- dimensions[i]
      if (nzchar(parts[i]) && parts[i] != "~" && !is.na(name)) at <- at & series[[name]] == unique(series[[name]])[as.integer(parts[i]) + 1]
    }
    for (name in names(found)) {
      if (is.null(series[[name]])) series[[name]] <- NA_character_
      series[[name]][at] <- found[[name]]
    }
  }
  series
}

# --- SDMX-CSV ------------------------------------------------------------------------------------------------------------

sdmx_from_csv <- function(body, dimensions, where) {
  text <- tryCatch(rawToChar(body), error = function(e) rawToChar(body[body != as.raw(0)]))
  # all is text but the value; a value that is no number makes its column text, and is found below
  words <- setdiff(gsub("\"", "", strsplit(sub("[\r\n].*", "", substr(text, 1, 5000)), ",", fixed = TRUE)[[1]]), "OBS_VALUE")
  rows <- tryCatch(data.table::fread(text = if (endsWith(text, "\n")) text else paste0(text, "\n"), colClasses = list(character = words), na.strings = "", header = TRUE, data.table = FALSE, showProgress = FALSE, encoding = "UTF-8", fill = TRUE),
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
  sdmx_message(rows[first, dimensions, drop = FALSE], obs, data.frame(action = if (n) action[1] else NA_character_, valid_from = NA_character_, valid_to = NA_character_), rep(1L, length(first)), dimensions, where,
    odd = list(row = odd, text = rows$OBS_VALUE[odd]))
}

# --- what all of them become -------------------------------------------------------------------------------------------

sdmx_message <- function(series, obs, sets, series_set, dimensions, where, notes = character(), prepared = "", odd = list(row = integer(), text = character())) {
  missing <- setdiff(dimensions, names(series))
  if (length(missing) && nrow(series)) {
    stop_payload(paste0("The data do not match the structure: the series lack the dimension ", missing[1], "."), where, "look whether the structure was changed; `vetusta describe` reads it anew")
  }
  obs$value[is.nan(obs$value)] <- NA_real_
  list(series = series, obs = obs, sets = sets, series_set = series_set, notes = notes, prepared = prepared, odd = odd)
}

utils::globalVariables(c(".GRP", ":="))
