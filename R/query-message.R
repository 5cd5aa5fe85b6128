# An SDMX message as tidy rows.

# Codes missing from the code lists are kept and reported.
unknown_codes <- function(series, about) {
  unlist(lapply(intersect(names(about$codes), names(series)), function(id) {
    odd <- setdiff(unique(series[[id]]), c(about$codes[[id]]$id, NA))
    if (length(odd)) {
      paste0(
        "the code list of ", id, " does not have ",
        paste(utils::head(odd, 5), collapse = ", ")
      )
    }
  }))
}

# Observations with periods read, statuses in words and other attributes as
# JSON; unreadable ones are rejected. Attributes that the structure attaches to
# series belong to series, whatever the format; `known` are the structure's
# attributes with their `level`. A series with several frequencies becomes one
# series a frequency.
tidy_message <- function(message, dimensions, known = NULL) {
  if (is.null(message) || !length(message$obs$series)) {
    return(
      list(
        rows = data.frame(
          series = integer(), period = numeric(), value = numeric(),
          status = character(), words = character(), known = numeric()
        ),
        rejected = no_rejected_rows,
        frequency = character(),
        series = message$series,
        actions = list(action = character())
      )
    )
  }
  obs <- message$obs
  attributes <- message$attributes
  series <- message$series
  set <- message$series_set
  for (name in setdiff(
    intersect(names(attributes), known$id[known$level == "series"]),
    "OBS_STATUS"
  )) {
    reported <- said_of_series(attributes[[name]], obs$series, nrow(series))
    if (is.null(series[[name]])) {
      series[[name]] <- rep(NA_character_, nrow(series))
    }
    free <- is.na(series[[name]])
    series[[name]][free] <- reported$value[free]
    attributes[[name]][reported$agreed[obs$series] & free[obs$series]] <- NA
  }
  year_start <- attributes[["REPORTING_YEAR_START_DAY"]] %||%
    series[["REPORTING_YEAR_START_DAY"]][obs$series] %||%
    rep(NA_character_, length(obs$time))
  year_start[is.na(year_start) | !grepl("^--[0-9]{2}-[0-9]{2}$", year_start)] <-
    "--01-01"
  periods <- time_periods(obs$time, year_start)
  instant <- ifelse(
    within_day(periods$frequency),
    as.numeric(read_rfc3339(sub("/.*", "", obs$time))), NA
  )
  day <- as.numeric(periods$first)
  code <- attributes[["OBS_STATUS"]] %||% rep(NA_character_, length(obs$value))
  # a status of a whole series is that of its values
  code <- ifelse(
    is.na(code), series[["OBS_STATUS"]][obs$series] %||% NA_character_, code
  )
  deleted <- obs$deleted %in% TRUE
  status <- ifelse(
    deleted, "deleted",
    ifelse(
      is.na(obs$value), "missing",
      ifelse(code %in% c("P", "F"), "provisional", "observed")
    )
  )
  others <- attributes[
    vapply(attributes, function(column) any(!is.na(column)), TRUE)
  ]
  words <- if (length(others)) {
    record_texts(lapply(others[order(names(others))], as.character))
  } else {
    rep(NA_character_, length(status))
  }
  words[words == "{}" | deleted] <- NA
  valid <- message$sets$valid_from
  since <- released_instants(valid)
  notes <- if (any(is.na(since) & !is.na(valid))) {
    paste0(
      "the release \"", valid[is.na(since) & !is.na(valid)][1],
      "\" cannot be read: the values count from their coming"
    )
  }
  key <- if ("FREQ" %in% names(series)) {
    series$FREQ[obs$series]
  } else {
    rep(NA_character_, length(obs$series))
  }
  codes <- periods$frequency
  # an instant whose key says hourly or minutely begins an hour or a minute
  of_key <- unname(sdmx_lengths[key])
  timed <- codes %in% "I" & !is.na(of_key)
  codes[timed] <- of_key[timed]
  # the key states the frequency, unless the periods contradict it
  usual <- ifelse(is.na(key) | !key %in% names(frequency_words), NA, key)
  usual[
    !is.na(usual) &
      usual == "D" &
      codes %in% "I" &
      !is.na(instant) &
      instant %% 86400 != 0
  ] <-
    "I"
  ranges <- grepl("/P", obs$time, fixed = TRUE)
  frequency <- ifelse(
    ranges | is.na(usual), ifelse(is.na(codes), "D", codes), usual
  )
  # a deletion without a period has only the key's frequency
  whole <- which(deleted & is.na(obs$time))
  if (length(whole)) {
    stated <- ifelse(is.na(of_key), usual, of_key)[whole]
    frequency[whole] <- ifelse(is.na(stated), "D", stated)
  }
  split <- split_series(obs$series, frequency)
  period <- ifelse(
    within_day(split$frequency[split$owner]) & !is.na(instant),
    instant / 86400, day
  )
  rows <- data.frame(
    series = split$owner,
    period = period,
    value = ifelse(deleted, NA_real_, obs$value),
    status = status,
    words = words,
    known = since[set][obs$series]
  )
  actions <- message_actions(message, others)
  bad <- unique(
    c(which(is.na(rows$period) & !(deleted & is.na(obs$time))), message$odd$row)
  )
  rejected <- no_rejected_rows
  seq_row <- seq_len(nrow(rows))
  if (length(bad)) {
    names <- do.call(
      paste, c(unname(series[dimensions]), sep = ".")
    )[obs$series[bad]]
    rejected <- data.frame(
      row = bad,
      symbol = names,
      time = NA_real_,
      place = paste0("observation ", (message$numbers %||% seq_row)[bad]),
      reason = ifelse(
        is.na(rows$period[bad]), "period cannot be read", "value cannot be read"
      ),
      detail = ifelse(
        is.na(rows$period[bad]), paste("value", obs$time[bad]),
        paste("value", message$odd$text[match(bad, message$odd$row)])
      )
    )
  }
  list(
    rows = rows,
    rejected = rejected,
    frequency = split$frequency,
    series = series[split$of, , drop = FALSE],
    notes = notes,
    actions = actions
  )
}

# The action of a message in words, where it is not to insert.
message_action <- function(actions) {
  action <- setdiff(unique(actions$action), "insert")
  if (length(action)) paste0(paste(sort(action), collapse = " and "), ", ")
}

# The action for each observation: "insert"; "merge", which keeps what is not
# stated; "delete", or for SDMX 3.0 "lessen", which removes only what is named.
# `named` are the parts that a deletion names.
message_actions <- function(message, attributes) {
  obs <- message$obs
  code <- obs$action %||% rep(NA_character_, length(obs$series))
  action <- ifelse(
    obs$deleted %in% TRUE, "delete",
    ifelse(code %in% c("M", "A"), "merge", "insert")
  )
  if (!any(action == "delete") || !isTRUE(message$third)) {
    return(list(action = action))
  }
  named <- lapply(seq_along(action), function(i) NULL)
  for (i in which(action == "delete" & !is.na(obs$time))) {
    parts <- c(
      if (!is.na(obs$value[i]) || i %in% message$odd$row) "value",
      names(attributes)[
        !vapply(attributes, function(column) is.na(column[i]), TRUE)
      ]
    )
    if (length(parts)) {
      action[i] <- "lessen"
      named[[i]] <- parts
    }
  }
  list(action = action, named = named)
}

# An attribute of observations that belongs to their series, where all of its
# values agree: list(value, agreed), one a series.
said_of_series <- function(said, owner, count) {
  there <- which(!is.na(said))
  first <- there[match(seq_len(count), owner[there])]
  value <- as.character(said)[first]
  differs <- unique(
    owner[there][as.character(said)[there] != value[owner[there]]]
  )
  agreed <- !seq_len(count) %in% differs & !is.na(value)
  list(value = ifelse(agreed, value, NA_character_), agreed = agreed)
}

# The series of observations, one for each frequency: `owner` of each
# observation, and for each series its origin `of` and its `frequency`.
split_series <- function(series, frequency) {
  key <- paste(series, frequency)
  first <- which(!duplicated(key))
  first <- first[order(series[first], method = "radix")]
  list(
    owner = match(key, key[first]),
    of = series[first],
    frequency = frequency[first]
  )
}
