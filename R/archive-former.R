# Symbols that two companies had, one after the other: their bars are stored
# under one symbol and read as two series. The directory of the source says so.

# The companies of symbols, as known at an instant: symbol, name, last (day) and
# start (seconds) of each; NULL where no symbol had two.
archive_former <- function(archive, source, symbols, at, zone) {
  keys <- store_notes(archive, "former", source)$key
  keys <- keys[sub(paste0(former_mark, ".*"), "", keys) %in% symbols]
  if (!length(keys)) {
    return(NULL)
  }
  symbols <- unique(sub(paste0(former_mark, ".*"), "", keys))
  records <- sql_get(
    archive,
    "SELECT key, body FROM (SELECT key, body, row_number() OVER (PARTITION BY
      dataset, key ORDER BY known DESC) AS nth FROM records WHERE source = ? AND
      shape = 'instruments' AND key IN @texts) r WHERE nth = 1",
    list(source, json_array(c(keys, symbols)))
  )
  if (!nrow(records)) {
    return(NULL)
  }
  rows <- words_frame(records$body)
  days <- list_days(as.list(rows), "instruments")
  entries <- data.frame(
    symbol = sub(paste0(former_mark, ".*"), "", records$key),
    name = as.character(rows[["name"]] %||% rep(NA, nrow(rows))),
    first = days$first, last = days$last
  )
  # what began or ended later was not known
  entries <- entries[
    is.na(entries$first) | entries$first * 86400 <= at, ,
    drop = FALSE
  ]
  entries <- entries[order(entries$symbol, entries$first), , drop = FALSE]
  entries <- do.call(rbind, lapply(
    split(entries, entries$symbol), former_companies
  ))
  if (!NROW(entries)) {
    return(NULL)
  }
  entries$start <- as.numeric(
    time_local(as.Date(entries$first, origin = "1970-01-01"), 0, zone)
  )
  entries$last <- as.Date(entries$last, origin = "1970-01-01")
  entries
}

# Of several entries of a list with one symbol the last.
list_current <- function(rows) {
  for (shape in names(list_day_columns)) {
    key <- record_keys[[shape]]
    days <- if (key %in% names(rows)) list_days(as.list(rows), shape)
    if (is.null(days)) next
    by <- order(days$first, na.last = FALSE)
    return(rows[sort(by[!duplicated(rows[[key]][by], fromLast = TRUE)]), ])
  }
  rows
}

archive_former_of <- function(archive, series, symbols, at) {
  facts <- dataset_facts(archive, series$source[1], series$dataset[1])
  archive_former(
    archive, series$source[1], as.character(symbols), at, trace_zone(facts)
  )
}

# The entries of one symbol that are different companies; NULL for only one. An
# entry that was listed again under its name is one company.
former_companies <- function(entries) {
  n <- nrow(entries)
  if (n < 2) {
    return(NULL)
  }
  apart <- entries$last[-n] < entries$first[-1] &
    entries$name[-n] != entries$name[-1]
  last <- c(which(apart), n)
  if (length(last) < 2) {
    return(NULL)
  }
  out <- entries[last, ]
  out$first <- entries$first[c(1, last[-length(last)] + 1)]
  out
}

# Names of the histories of rows by their time, and the titles of the earlier
# ones.
former_names <- function(symbol, time, companies) {
  out <- symbol
  titles <- character()
  for (one in split(companies, companies$symbol)) {
    at <- which(symbol == one$symbol[1])
    n <- nrow(one)
    holder <- 1 + findInterval(time[at], one$start[-1])
    label <- c(former_label(one$symbol[-n], one$last[-n]), one$symbol[n])
    out[at] <- label[holder]
    titles <- c(titles, stats::setNames(one$name[-n], label[-n]))
  }
  list(symbol = out, titles = titles[!is.na(titles)])
}
