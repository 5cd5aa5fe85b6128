# All forms of SDMX data messages as one record: `series` (a data frame, a row a
# series, a column a dimension or attribute), `obs` (columns `series`, the row
# number there, `time`, `value`, `deleted`), `attributes` (of observations, a
# column each), `sets` (a data frame: action, valid_from, valid_to), `notes`
# (remarks of the service), `prepared`.

sdmx_reserved <- c(
  "structureRef", "action", "setID", "validFromDate", "validToDate",
  "reportingBeginDate", "reportingEndDate", "publicationYear",
  "publicationPeriod", "dataScope", "type", "REPORTING_YEAR_START_DAY_"
)

decode_sdmx <- function(body, dimensions, where, measures = "OBS_VALUE") {
  with_measures(
    decode_sdmx_message(body, dimensions, where, measures), dimensions, measures
  )
}

decode_sdmx_message <- function(body, dimensions, where, measures) {
  if (!length(body)) {
    stop_spoilt("The answer is empty.", where, "try again later")
  }
  body <- utf8_body(body, where)
  start <- utils::head(body, 400)
  start <- trimws(rawToChar(start[start != as.raw(0)]))
  if (grepl("^<", start)) {
    if (grepl("<html|<!DOCTYPE html", start, ignore.case = TRUE)) {
      stop_spoilt(
        "The answer is a web page, not a message.", where,
        paste0(
          "check whether the card's URL is right; it begins: ",
          body_excerpt(body, 80)
        )
      )
    }
    sdmx_from_xml(body, dimensions, where)
  } else if (grepl("^\\{", start)) {
    sdmx_from_json(body, dimensions, where)
  } else {
    sdmx_from_csv(body, dimensions, where, measures)
  }
}

# A message in UTF-8 from any encoding, identified by its first bytes or its XML
# declaration (XML 1.0, appendix F).
utf8_body <- function(body, where) {
  begins <- function(...) identical(body[seq_along(c(...))], as.raw(c(...)))
  if (begins(0xef, 0xbb, 0xbf)) {
    return(body[-(1:3)])
  }
  encoding <- if (begins(0xff, 0xfe)) {
    "UTF-16LE"
  } else if (begins(0xfe, 0xff)) {
    "UTF-16BE"
  } else if (begins(0x3c, 0, 0x3f, 0)) {
    "UTF-16LE"
  } else if (begins(0, 0x3c, 0, 0x3f)) {
    "UTF-16BE"
  }
  if (is.null(encoding)) {
    # of the first bytes alone, because a message may be large
    head <- utils::head(body, 400)
    head <- rawToChar(utils::head(head[head != as.raw(0)], 200))
    said <- regmatches(
      head,
      regexec(
        "^\\s*<\\?xml[^>]*encoding\\s*=\\s*[\"']([A-Za-z0-9._-]+)[\"']", head,
        useBytes = TRUE
      )
    )[[1]]
    if (length(said) < 2 ||
      toupper(said[2]) %in% c("UTF-8", "UTF8", "US-ASCII", "ASCII")) {
      return(body)
    }
    encoding <- said[2]
  } else if (begins(0xff, 0xfe) || begins(0xfe, 0xff)) {
    body <- body[-(1:2)]
  }
  text <- tryCatch(
    iconv(list(body), encoding, "UTF-8", toRaw = TRUE)[[1]],
    error = function(e) NULL
  )
  if (is.null(text)) {
    stop_payload(
      paste0("The message is not written in ", encoding, ", as it states."),
      where, "report it to the provider of the service"
    )
  }
  # the declaration describes the received bytes
  head <- rawToChar(utils::head(text, 200))
  declared <- regexpr("^\\s*<\\?xml[^>]*\\?>", head, useBytes = TRUE)
  if (declared > 0) text[-seq_len(attr(declared, "match.length"))] else text
}

texts_of <- function(column) c(NA_character_, column$levels)[column$codes + 1L]

columns_frame <- function(columns, rows) {
  out <- lapply(columns, texts_of)
  structure(out, row.names = .set_row_names(rows), class = "data.frame")
}

# --- SDMX-ML
# ------------------------------------------------------------

sdmx_from_xml <- function(body, dimensions, where) {
  read <- tryCatch(sdmx_xml_cpp(body), error = function(e) {
    parts <- strsplit(conditionMessage(e), "@", fixed = TRUE)[[1]]
    stop_payload(
      paste0("The message cannot be read: ", parts[1], "."),
      paste0(where, ", byte ", parts[2]),
      "try again; if the error stays, report it to the provider of the service"
    )
  })
  notes <- sdmx_notes(columns_frame(read$notes, read$note_rows))
  if (grepl("Error$", read$root)) {
    stop_payload(
      paste0(
        "The service answers with an error: ", paste(notes, collapse = "; ")
      ),
      where, "check the query; if it is right, try again later"
    )
  }
  if (!grepl("Data$|DataSet$", read$root)) {
    stop_payload(
      paste0(
        "The answer is XML and no data message: its first element is ",
        read$root, "."
      ),
      where, "check whether the card's URL is right"
    )
  }
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
  series <- with_groups(
    series, series_set, columns_frame(read$groups, read$group_rows),
    read$group_set, dimensions
  )
  series <- with_set_attributes(series, series_set, sets)
  time <- read$obs[[read$dimension]] %||% read$obs[["TIME_PERIOD"]]
  if (is.null(time) && read$obs_rows > 0) {
    stop_payload(
      paste0("No observation has its ", read$dimension, "."), where,
      "look at what the service sends"
    )
  }
  attributes <- lapply(
    read$obs[
      setdiff(
        names(read$obs), c(read$dimension, "TIME_PERIOD", if (flat) dimensions)
      )
    ],
    texts_of
  )
  obs <- list(
    series = owner,
    time = if (read$obs_rows) texts_of(time) else character(),
    value = read$value
  )
  sdmx_message(
    series,
    obs,
    attributes,
    sdmx_sets(sets),
    series_set,
    where,
    dimensions,
    notes = notes,
    prepared = read$prepared,
    odd = list(row = read$odd, text = read$odd_text),
    third = length(grepRaw("v3_0", utils::head(body, 4000), fixed = TRUE)) > 0
  )
}

# Observations that carry their dimensions: series are the distinct
# combinations.
flat_series <- function(columns, dimensions, where) {
  missing <- setdiff(dimensions, names(columns))
  if (length(missing)) {
    stop_payload(
      paste0(
        paste0(
          "The data do not match the structure: the ",
          "observations lack the dimension "
        ),
        missing[1], "."
      ),
      where,
      "check whether the structure changed; `vetusta describe` reads it again"
    )
  }
  owner <- row_groups(lapply(columns[dimensions], `[[`, "codes"))
  first <- which(!duplicated(owner))
  series <- lapply(
    columns[dimensions],
    function(column) c(NA_character_, column$levels)[column$codes[first] + 1L]
  )
  list(
    series = structure(
      series,
      row.names = .set_row_names(length(first)),
      class = "data.frame"
    ),
    owner = owner,
    first = first
  )
}

# Numbers the distinct rows of some columns, in order of first appearance.
row_groups <- function(columns) {
  if (!length(columns[[1]])) {
    return(integer())
  }
  table <- data.table::setDT(
    unname(columns) |> stats::setNames(paste0("k", seq_along(columns)))
  )
  table[, ".group" := .GRP, by = c(names(table))]
  table[[".group"]]
}

# Adds attributes of groups to the series that match their key. Groups with the
# same dimensions are matched together.
with_groups <- function(series, series_set, groups, group_set, dimensions) {
  if (!nrow(groups) || !nrow(series)) {
    return(series)
  }
  stated <- !is.na(as.matrix(groups))
  keys <- intersect(dimensions, names(groups))
  kind <- if (length(keys)) {
    do.call(
      paste,
      c(
        lapply(keys, function(name) ifelse(stated[, name], name, "")),
        sep = "\r"
      )
    )
  } else {
    rep("", nrow(groups))
  }
  for (rows in split(seq_len(nrow(groups)), kind)) {
    key <- keys[stated[rows[1], keys]]
    name_of <- function(frame, set) {
      do.call(paste, c(list(set), unname(as.list(frame[key])), sep = "\r"))
    }
    at <- match(
      name_of(series, series_set),
      name_of(groups[rows, , drop = FALSE], group_set[rows])
    )
    for (name in setdiff(names(groups), c(keys, sdmx_reserved))) {
      value <- groups[[name]][rows][at]
      if (all(is.na(value))) next
      if (is.null(series[[name]])) {
        series[[name]] <- rep(NA_character_, nrow(series))
      }
      series[[name]] <- ifelse(is.na(series[[name]]), value, series[[name]])
    }
  }
  series
}

with_set_attributes <- function(series, series_set, sets) {
  for (name in setdiff(names(sets), c(sdmx_reserved, names(series)))) {
    series[[name]] <- sets[[name]][series_set]
  }
  series
}

sdmx_sets <- function(sets) {
  n <- nrow(sets)
  text <- function(name) as.character(sets[[name]] %||% rep(NA, n))
  data.frame(
    action = text("action"), valid_from = text("validFromDate"),
    valid_to = text("validToDate")
  )
}

sdmx_notes <- function(notes) {
  if (!nrow(notes)) {
    return(character())
  }
  trimws(
    paste0(
      ifelse(
        is.na(notes[["severity"]] %||% NA), "",
        paste0(notes[["severity"]], ": ")
      ),
      notes[["text"]] %||% "",
      ifelse(
        is.na(notes[["code"]] %||% NA), "", paste0(" (", notes[["code"]], ")")
      )
    )
  )
}

# --- what all of them become
# ------------------------------------------------------------

# Attributes are kept apart from dimensions, because an attribute may be called
# value or series. `numbers` are the places of the observations in the message,
# NULL for all in turn.
sdmx_message <- function(series, obs, attributes, sets, series_set, where,
                         dimensions, notes = character(), prepared = "",
                         odd = list(row = integer(), text = character()),
                         third = FALSE) {
  missing <- setdiff(dimensions, names(series))
  if (length(missing) && nrow(series)) {
    stop_payload(
      paste0(
        "The data do not match the structure: the series lack the dimension ",
        missing[1], "."
      ),
      where,
      "check whether the structure changed; `vetusta describe` reads it again"
    )
  }
  none <- which(is.nan(obs$value))
  if (length(none)) obs$value[none] <- NA_real_
  action <- toupper(substr(sets$action, 1, 1))
  if (is.null(obs$action)) obs$action <- action[series_set][obs$series]
  obs$deleted <- obs$action %in% "D"
  # a fully deleted series comes without observations
  bare <- setdiff(which((action %in% "D")[series_set]), obs$series)
  numbers <- NULL
  if (length(bare)) {
    n <- length(bare)
    numbers <- c(seq_along(obs$series), rep(NA_integer_, n))
    obs <- lapply(obs, function(column) c(column, column[rep(NA_integer_, n)]))
    new <- length(obs$series) - n + seq_len(n)
    obs$series[new] <- bare
    obs$action[new] <- "D"
    obs$deleted[new] <- TRUE
    attributes <- lapply(attributes, function(column) c(column, rep(NA, n)))
  }
  # a data set of deletions that names nothing is deleted as a whole
  empty <- any(action %in% "D" & !seq_along(action) %in% series_set)
  list(
    series = series, obs = obs, attributes = attributes, sets = sets,
    series_set = series_set, notes = notes, prepared = prepared, odd = odd,
    third = third, empties = empty, numbers = numbers
  )
}

# The measures of a message. A single measure is the value, whatever its name;
# with several, each is a series, distinguished by the dimension MEASURE.
with_measures <- function(message, dimensions, measures) {
  obs <- message$obs
  by_place <- startsWith(names(obs), "measure ")
  texts <- c(
    stats::setNames(obs[by_place], sub("^measure ", "", names(obs)[by_place])),
    message$attributes[
      intersect(setdiff(measures, "OBS_VALUE"), names(message$attributes))
    ]
  )
  message$obs <- obs[!by_place]
  if (!length(texts)) {
    return(message)
  }
  message$attributes[names(texts)] <- NULL
  if (!any(by_place) && any(!is.na(obs$value))) {
    texts <- c(list(OBS_VALUE = format_exact(obs$value)), texts)
  }
  numbers <- lapply(texts, function(text) plain_number(as.character(text)))
  message$odd <- measures_odd(texts, numbers, message$odd, length(obs$series))
  if (length(texts) == 1) {
    message$obs$value <- numbers[[1]]
    return(message)
  }
  n <- length(obs$series)
  k <- length(texts)
  count <- nrow(message$series)
  series <- message$series[rep(seq_len(count), k), , drop = FALSE]
  rownames(series) <- NULL
  series[[measure_name(dimensions)]] <- rep(names(texts), each = count)
  message$obs <- lapply(message$obs, rep, k)
  message$obs$series <- message$obs$series +
    rep((seq_len(k) - 1L) * count, each = n)
  message$obs$value <- unlist(numbers, use.names = FALSE)
  message$attributes <- lapply(message$attributes, rep, k)
  message$series <- series
  message$series_set <- rep(message$series_set, k)
  # an observation without a measure has no row for it
  keep <- which(
    !is.na(message$obs$value) |
      message$obs$deleted |
      rep(Reduce(`&`, lapply(numbers, is.na)), k)
  )
  message$obs <- lapply(message$obs, `[`, keep)
  message$numbers <- rep(message$numbers %||% seq_len(n), k)[keep]
  message$attributes <- lapply(message$attributes, `[`, keep)
  message$odd$row <- match(message$odd$row, keep)
  message$odd <- lapply(message$odd, `[`, !is.na(message$odd$row))
  message$several <- TRUE
  message
}

measure_name <- function(dimensions) {
  setdiff(c("MEASURE", "MEASURE_ID", "MEASURE_OF_VALUE"), dimensions)[1]
}

# Values of measures that are no numbers.
measures_odd <- function(texts, numbers, odd, n) {
  for (i in seq_along(texts)) {
    bad <- which(
      is.na(numbers[[i]]) & !is.na(texts[[i]]) & !texts[[i]] %in% c("", "NaN")
    )
    odd <- list(
      row = c(odd$row, bad + (i - 1L) * n),
      text = c(odd$text, as.character(texts[[i]])[bad])
    )
  }
  odd
}

utils::globalVariables(c(".GRP", ":="))
