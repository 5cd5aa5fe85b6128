# Lists of what there is: an instrument that a list does not have any more stays, with the last day
# on which it was there.

# The shapes whose requests list what there is, and the column that says when one was there last.
listing_columns <- c(instruments = "last_day")

# Lays what a request lists beside what it listed the time before. What is gone, and stands in no
# other
# request's list, gets its last day: that of the list before. Gives how many those are. A page is
# noted as it comes; with the last one the list is whole.
listing_put <- function(store, page) {
  rule <- page$listing
  column <- listing_columns[page$shape]
  if (is.null(rule) || is.na(column)) {
    return(0)
  }
  keys <- page$rows$keys
  if (!rule$last) {
    store_note(store, "listing", page$source, page$dataset,
      paste(rule$planned, rule$page, sep = "\r"),
      json_array(as.character(keys)), page$now)
    return(0)
  }
  parts <- if (rule$page > 1) listing_parts(store, page)
  now <- unique(as.character(c(unlist(parts), keys)))
  notes <- store_notes(store, "listed", page$source, page$dataset, rule$planned)
  before <- listing_keys(notes$value)
  # a list with nothing in it, where there was something, is not believed
  if (!length(now) && length(before)) {
    return(0)
  }
  gone <- setdiff(before, now)
  # what another request lists is there
  if (length(gone)) {
    others <- store_notes(store, "listed", page$source, page$dataset)
    gone <- setdiff(gone, listing_keys(others$value[others$key != rule$planned]))
  }
  if (length(gone)) {
    store_records_close(store, page$source, page$dataset, gone, unname(column),
      as.Date(utc(notes$at), tz = "UTC"), page$now)
  }
  store_note(store, "listed", page$source, page$dataset, rule$planned, json_array(now), page$now)
  for (key in names(parts)) store_forget(store, "listing", page$source, page$dataset, key)
  length(gone)
}

# What the pages of a request before its last one listed, by their notes' keys.
listing_parts <- function(store, page) {
  notes <- store_notes(store, "listing", page$source, page$dataset)
  number <- suppressWarnings(as.numeric(sub("^.*\r", "", notes$key)))
  earlier <- sub("\r[0-9]+$", "", notes$key) == page$listing$planned & number < page$listing$page
  stats::setNames(lapply(notes$value[earlier], listing_keys), notes$key[earlier])
}

listing_keys <- function(texts) {
  unique(as.character(unlist(lapply(texts, function(text) {
    if (!is.na(text) && nzchar(text)) jsonlite::fromJSON(text)
  }))))
}

# How many entries all requests of a dataset list, and how many different ones: c(entries, rows).
listing_counts <- function(store, source, dataset) {
  keys <- lapply(store_notes(store, "listed", source, dataset)$value, listing_keys)
  c(entries = sum(lengths(keys)), rows = length(unique(unlist(keys))))
}
