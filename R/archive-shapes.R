# How rows of each shape are stored: as series, as frames, or as records by key.

# A parcel of tidy rows. `frequency` is the interval of bars; `at` and `place`
# are the instant of a frame and its part of the whole.
archive_parcel <- function(shape, rows, frequency = "", at = NA_real_,
                           place = "") {
  make <- shape_parcels[[shape]] %||% parcel_of_records
  make(rows, shape = shape, frequency = frequency, at = at, place = place)
}

# The key columns of rows of a shape, beside source and dataset. A shape without
# an entry uses all of its columns.
record_keys <- list(
  instruments = "symbol",
  snapshot = c("symbol", "time"),
  documents = c("symbol", "link"),
  places = "place",
  actions = c("symbol", "ex_day", "kind"),
  contracts = "symbol",
  members = c("list", "symbol", "first_day"),
  datasets = "dataset"
)

# Assigns rows to series. Dimensions that identify a series make its key; `name`
# turns a list of them into the key.
rows_by_series <- function(dimensions, frequency, columns, name,
                           finishes = FALSE) {
  of <- series_rows(c(unname(dimensions), list(frequency)))
  about <- lapply(dimensions, `[`, of$first)
  series <- list_frame(
    list(
      key = name(about), frequency = frequency[of$first],
      dimensions = record_texts(about)
    )
  )
  # missing and empty text are one name
  named <- paste(series$key, series$frequency, sep = "\r")
  if (anyDuplicated(named)) {
    kept <- !duplicated(named)
    of$row <- match(named, named[kept])[of$row]
    series <- series[kept, ]
  }
  parcel_series(
    series, c(if (nrow(series) != 1) list(series = of$row), columns), finishes
  )
}

# Groups rows by equal texts: `row` is the group of each row, `first` the first
# row of each group.
series_rows <- function(texts) {
  id <- rep(0, length(texts[[1]]))
  for (text in texts) {
    groups <- text_groups(text)
    if (length(groups$levels) < 2) next
    id <- id * (length(groups$levels) + 1) + groups$id
    # above 2^53 products of ids are no longer exact
    if (length(id) && max(id) > 1e9) id <- match(id, unique(id))
  }
  first <- which(!duplicated(id))
  list(row = match(id, id[first]), first = first)
}

parcel_of_bars <- function(rows, frequency, ...) {
  n <- nrow(rows)
  rows <- as.list(rows)
  side <- rows$side %||% rep(NA_character_, n)
  columns <- rows[setdiff(names(rows), c("symbol", "side"))]
  if (n && all(is.na(side)) && all(rows$symbol == rows$symbol[1])) {
    # the usual page, of one symbol, without a look at each row
    symbol <- as.character(rows$symbol[1])
    about <- list_frame(
      list(
        key = bars_key(symbol, NA_character_),
        frequency = frequency,
        dimensions = record_texts(list(symbol = symbol))
      )
    )
    return(parcel_series(about, columns, finishes = TRUE))
  }
  dimensions <- list(
    symbol = as.character(rows$symbol),
    side = as.character(side)
  )
  rows_by_series(
    dimensions, rep(frequency, n), columns,
    function(of) {
      bars_key(of$symbol, of$side)
    },
    finishes = TRUE
  )
}

# The key of a symbol's bars, with the side after a colon. A side is a word in
# lower case, or has a leading per cent sign; a symbol that would read as one
# with a side has its last colon percent-encoded.
bars_key <- function(symbol, side) {
  marked <- which(grepl(":", symbol, fixed = TRUE))
  if (!length(marked) && all(is.na(side))) {
    return(as.character(symbol))
  }
  like_side <- marked[
    is.na(rep_len(side, length(symbol))[marked]) &
      grepl(":([a-z]+|%[^:]*)$", symbol[marked])
  ]
  symbol[like_side] <- sub(":([^:]*)$", "%3A\\1", symbol[like_side])
  if (all(is.na(side))) {
    return(as.character(symbol))
  }
  plain <- grepl("^[a-z]+$", side)
  paste0(
    symbol, ifelse(is.na(side), "", paste0(":", ifelse(plain, "", "%"), side))
  )
}

parcel_of_observations <- function(rows, ...) {
  rows <- as.list(rows)
  n <- length(rows$series)
  read <- observation_times(rows$period)
  series <- as.character(rows$series)
  if (is.character(rows[["through"]])) {
    rows$through <- through_instants(rows$through)
  }
  columns <- c(
    list(time = read$time, known = row_known(rows, "known")),
    if (read$keep) list(period = rows$period),
    rows[setdiff(names(rows), c("series", "period", "known", "frequency"))]
  )
  stated <- as.character(rows[["frequency"]] %||% rep(NA_character_, n))
  frequency <- stated_frequency(stated, read)
  rows_by_series(
    list(series = series), frequency, columns, function(of) of$series
  )
}

# The frequency of rows: the stated one, if it has room for their time of the
# day, else that of their period.
stated_frequency <- function(stated, read) {
  timed <- within_day(read$frequency)
  length <- unname(sdmx_lengths[stated])
  stated <- ifelse(timed & !is.na(length), length, stated)
  odd <- timed & !within_day(stated) & (
    as.numeric(read$time) %% 86400 != 0 |
      stated %in% unknown_frequency(stated)
  )
  ifelse(is.na(stated) | odd, read$frequency, stated)
}

# Texts as instants, if all are instants.
through_instants <- function(text) {
  instant <- read_rfc3339(text)
  if (all(is.na(text) | !is.na(instant))) instant else text
}

# list(time, frequency, keep): the start of a period. A day does not state the
# period's length; a text does, and is kept.
observation_times <- function(period) {
  if (inherits(period, "POSIXct")) {
    return(
      list(time = period, frequency = rep("I", length(period)), keep = FALSE)
    )
  }
  if (inherits(period, "Date")) {
    return(
      list(
        time = utc(as.numeric(period) * 86400),
        frequency = rep("", length(period)),
        keep = FALSE
      )
    )
  }
  read <- time_periods(as.character(period))
  instant <- ifelse(
    within_day(read$frequency),
    as.numeric(read_rfc3339(sub("/.*", "", as.character(period)))), NA
  )
  day <- is.na(instant)
  instant[day] <- as.numeric(read$first[day]) * 86400
  frequency <- ifelse(is.na(read$frequency), "", read$frequency)
  list(
    time = utc(instant),
    frequency = frequency,
    keep = !all(within_day(frequency))
  )
}

# The instant from which rows are known, where the source states it.
row_known <- function(rows, column) {
  values <- rows[[column]]
  if (is.null(values)) {
    return(rep(NA_real_, length(rows[[1]])))
  }
  if (inherits(values, "Date")) {
    as.numeric(values) * 86400
  } else if (is.character(values)) {
    released_instants(values)
  } else {
    as.numeric(values)
  }
}

# A fact's series is a company's item in one basis, unit and segment; its time
# is the end of its period.
parcel_of_facts <- function(rows, ...) {
  rows <- as.list(rows)
  values <- c("period_start", "value", "filed", "decimals")
  # a status in the product's own words belongs to the value; other words are a
  # dimension of the fact
  if (all(rows[["status"]] %in% c(status_words, "deleted", NA))) {
    values <- c(values, "status")
  }
  apart <- setdiff(names(rows), c(values, "period_end", "known"))
  dimensions <- lapply(rows[apart], as.character)
  end <- as_days(rows$period_end)
  start <- as_days(rows$period_start %||% rep(NA, length(end)))
  columns <- c(
    list(time = utc(as.numeric(end) * 86400), known = row_known(rows, "filed")),
    rows[intersect(values, names(rows))]
  )
  rows_by_series(dimensions, fact_frequency(start, end), columns, function(of) {
    text <- lapply(of, function(x) ifelse(is.na(x), "", key_part(x)))
    sub("[.]+$", "", do.call(paste, c(unname(text), sep = ".")))
  })
}

# A part of a key whose parts are joined by points: points within it are
# percent-encoded.
key_part <- function(text) {
  gsub(".", "%2E", gsub("%", "%25", text, fixed = TRUE), fixed = TRUE)
}

as_days <- function(x) {
  if (inherits(x, "Date")) {
    x
  } else if (inherits(x, "POSIXct")) {
    as.Date(x, tz = "UTC")
  } else {
    read_day(as.character(x))
  }
}

# The length of a fact's period; without a start it is one day.
fact_frequency <- function(start, end) {
  all <- as.numeric(end) - as.numeric(start) + 1
  days <- unique(all)
  out <- ifelse(is.na(days), "D", paste0(days, "D"))
  lengths <- list(
    A = c(340, 390), S = c(170, 195), Q = c(80, 100), M = c(28, 31), D = c(1, 1)
  )
  for (name in names(lengths)) {
    out[
      !is.na(days) & days >= lengths[[name]][1] & days <= lengths[[name]][2]
    ] <-
      name
  }
  out[match(all, days)]
}

parcel_of_frame <- function(rows, shape, at, place, ...) {
  parcel_frame(list_frame(as.list(rows)), at, place, record_keys[[shape]])
}

parcel_of_records <- function(rows, shape, ...) {
  rows <- as.list(rows)
  key <- record_key_texts(shape, rows)
  days <- if (anyDuplicated(key)) list_days(rows, shape, former_day_columns)
  if (!is.null(days)) key <- former_keys(key, days)
  # of two rows with one key the later one counts
  last <- !duplicated(key, fromLast = TRUE)
  parcel_records(key[last], lapply(rows, `[`, last))
}

shape_parcels <- list(
  bars = parcel_of_bars, observations = parcel_of_observations,
  facts = parcel_of_facts, snapshot = parcel_of_frame
)

record_key_texts <- function(shape, rows) {
  columns <- intersect(record_keys[[shape]] %||% names(rows), names(rows))
  texts <- lapply(rows[columns], function(column) {
    text <- if (inherits(column, "POSIXct")) {
      format_instant(column)
    } else {
      as.character(column)
    }
    ifelse(is.na(text), "", text)
  })
  do.call(paste, c(unname(texts), sep = "\x1f"))
}

# Rows as JSON objects, one text a row; missing values are left out.
record_texts <- function(rows, nulls = FALSE) {
  if (!length(rows)) {
    return("{}")
  }
  plain <- vapply(rows, function(x) is.numeric(x) || is.logical(x), TRUE)
  columns <- lapply(unname(rows), function(column) {
    if (is.numeric(column)) {
      text <- format_exact(column)
      # JSON has no word for infinite numbers
      text[!is.finite(column)] <- NA
      return(text)
    }
    if (is.logical(column)) {
      return(tolower(as.character(column)))
    }
    enc2utf8(
      if (inherits(column, "POSIXct")) {
        format_instant(column)
      } else {
        as.character(column)
      }
    )
  })
  record_texts_cpp(
    enc2utf8(names(rows) %||% character()), columns, plain == FALSE, nulls
  )
}

json_text <- function(x) json_text_cpp(enc2utf8(x))

# The key under which coverage of a symbol's bars is stored: symbol, interval
# and session.
bars_cover_key <- function(symbol, interval, session) {
  paste0(symbol, "@", interval, " ", session)
}

# JSON objects written by the archive: as lists, or as the columns of a table.
json_objects <- function(texts, table = FALSE) {
  if (!length(texts)) {
    return(list())
  }
  text <- enc2utf8(paste0("[", paste(texts, collapse = ","), "]"))
  json_read_cpp(charToRaw(text), "", if (table) 2L else 0L, FALSE)[[1]]
}
