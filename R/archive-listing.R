# Directories of instruments: an instrument that disappears from a list stays
# stored, with the last day on which it was listed.

# Shapes whose requests list everything that exists, and the column for the last
# day.
listing_columns <- c(instruments = "last_day")

# Compares a request's new list with its previous one. Entries that disappeared,
# and that no other request lists, get the day of the previous list as their
# last day. Returns their number. Each page is noted when it comes; the last
# page completes the list.
listing_put <- function(store, page) {
  rule <- page$listing
  column <- listing_columns[page$shape]
  if (is.null(rule) || is.na(column)) {
    return(0)
  }
  keys <- page$rows$keys
  if (!rule$last) {
    store_note(
      store, "listing", page$source, page$dataset,
      paste(rule$planned, rule$page, sep = "\r"),
      json_array(as.character(keys)), page$now
    )
    return(0)
  }
  parts <- if (rule$page > 1) listing_parts(store, page)
  now <- unique(as.character(c(unlist(parts), keys)))
  notes <- store_notes(store, "listed", page$source, page$dataset, rule$planned)
  before <- listing_keys(notes$value)
  # an empty list after a full one is not believed
  if (!length(now) && length(before)) {
    return(0)
  }
  gone <- setdiff(before, now)
  # entries that another request lists still exist
  if (length(gone)) {
    others <- store_notes(store, "listed", page$source, page$dataset)
    gone <- setdiff(
      gone, listing_keys(others$value[others$key != rule$planned])
    )
  }
  if (length(gone)) {
    store_records_close(
      store, page$source, page$dataset, gone, unname(column),
      as.Date(utc(notes$at), tz = "UTC"), page$now
    )
  }
  store_note(
    store, "listed", page$source, page$dataset, rule$planned, json_array(now),
    page$now
  )
  for (key in names(parts)) {
    store_forget(store, "listing", page$source, page$dataset, key)
  }
  length(gone)
}

# What earlier pages of a request listed, by the keys of their notes.
listing_parts <- function(store, page) {
  notes <- store_notes(store, "listing", page$source, page$dataset)
  number <- suppressWarnings(as.numeric(sub("^.*\r", "", notes$key)))
  earlier <- sub("\r[0-9]+$", "", notes$key) == page$listing$planned &
    number < page$listing$page
  stats::setNames(
    lapply(notes$value[earlier], listing_keys), notes$key[earlier]
  )
}

listing_keys <- function(texts) {
  unique(as.character(unlist(lapply(texts, function(text) {
    if (!is.na(text) && nzchar(text)) jsonlite::fromJSON(text)
  }))))
}

# Entries that all requests of a dataset list, and how many of them differ:
# c(entries, rows).
listing_counts <- function(store, source, dataset) {
  keys <- lapply(
    store_notes(store, "listed", source, dataset)$value, listing_keys
  )
  # one symbol may be the entries of several companies
  symbols <- function(keys) sub(paste0(former_mark, ".*"), "", keys)
  former <- symbols(store_notes(store, "former", source, dataset)$key)
  keys <- lapply(keys, symbols)
  c(
    entries = sum(lengths(keys)),
    rows = length(unique(unlist(keys))) + sum(former %in% unlist(keys))
  )
}
