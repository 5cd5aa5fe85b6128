# The catalogue of series: which there are, and their sizes, as a list, a sum a
# dataset, or a total.

# Datasets of series: source, dataset, shape, series (with rows), rows (times),
# first, last.
store_series_datasets <- function(store) {
  summed <- function(of, count) {
    sql_get(
      store,
      paste(
        "SELECT p.*, (SELECT t.shape FROM series t WHERE t.source = p.source AND
        t.dataset = p.dataset LIMIT 1) AS shape FROM (SELECT s.source,
        s.dataset,", count, "AS series, sum(1.0 * g.times) AS rows,
        min(g.first) AS first, max(g.last) AS last FROM series s JOIN", of,
        "g ON g.series = s.id GROUP BY s.source, s.dataset) p ORDER BY p.source,
        p.dataset"
      )
    )
  }
  here <- summed("segments", "count(DISTINCT s.id)")
  names <- c("source", "dataset", "shape", "series", "rows", "first", "last")
  here <- here[names]
  if (!sql_any_moved(store)) {
    return(here)
  }
  # a series may have rows in both places
  away <- summed(
    "moved",
    "sum(CASE WHEN EXISTS (SELECT 1 FROM segments h WHERE h.series = s.id) THEN
    0 ELSE 1 END)"
  )
  all <- rbind(here, away[names])
  parts <- split(all, paste(all$source, all$dataset, sep = "\r"))
  parts <- lapply(parts, function(part) {
    data.frame(
      part[1, c("source", "dataset", "shape")], series = sum(part$series),
      rows = sum(part$rows), first = min(part$first), last = max(part$last)
    )
  })
  result <- do.call(rbind, unname(parts))
  result <- result[
    order(result$source, result$dataset, method = "radix"), , drop = FALSE
  ]
  row.names(result) <- NULL
  result
}

# The numbers of the first series of a dataset that have rows.
store_first <- function(store, source, dataset, most, frequency = NULL) {
  sql_get(
    store,
    paste(
      "SELECT s.id FROM series s WHERE s.source = ? AND s.dataset = ?",
      if (!is.null(frequency)) "AND s.frequency = ?",
      # looked up for each, so that no server reads the whole table first
      "AND ((SELECT 1 FROM segments g WHERE g.series = s.id LIMIT 1) IS NOT NULL
      OR (SELECT 1 FROM moved m WHERE m.series = s.id) IS NOT NULL)
      ORDER BY s.key, s.frequency LIMIT CAST(? AS bigint)"
    ),
    c(list(source, dataset), frequency, most)
  )$id
}

# The frequencies of a dataset, in the order of their first series.
store_frequencies <- function(store, source, dataset) {
  sql_get(
    store,
    "SELECT frequency, min(key) AS first FROM series WHERE source = ? AND
    dataset = ? GROUP BY frequency ORDER BY 2, 1",
    list(source, dataset)
  )$frequency
}

# The catalogue of series, or of those with these `ids`, or with these `keys`
# and all whose key has a side or an encoded character: id, source, dataset,
# shape, key, frequency, dimensions (JSON), and with `sizes` also rows, first,
# last (times), and with `bytes` those.
store_series <- function(store, source = NULL, dataset = NULL, sizes = FALSE,
                         shape = NULL, ids = NULL, keys = NULL, bytes = sizes) {
  where <- c(
    if (!is.null(source)) "s.source = ?",
    if (!is.null(dataset)) "s.dataset = ?", if (!is.null(shape)) "s.shape = ?",
    if (!is.null(ids)) "s.id IN @numbers",
    if (!is.null(keys)) {
      "(s.key IN @texts OR s.key LIKE '%:%' OR s.key LIKE '%!%%' ESCAPE '!')"
    }
  )
  get <- function(columns, joined, grouped) {
    sql_get(
      store,
      paste0(
        "SELECT s.id, s.source, s.dataset, s.shape, s.key, s.frequency, ",
        "s.dimensions", columns, " FROM series s", joined,
        if (length(where)) " WHERE ", paste(where, collapse = " AND "),
        grouped, " ORDER BY s.source, s.dataset, s.key, s.frequency"
      ),
      c(
        source, dataset, shape, if (!is.null(ids)) json_numbers(ids),
        if (!is.null(keys)) json_array(keys)
      )
    )
  }
  if (!sizes) {
    return(get("", "", ""))
  }
  here <- get(
    paste0(
      ", sum(1.0 * g.times) AS rows, min(g.first) AS first, ",
      "max(g.last) AS last",
      if (bytes) ", sum(1.0 * length(g.body)) AS bytes"
    ),
    " JOIN segments g ON g.series = s.id", " GROUP BY s.id"
  )
  if (!sql_any_moved(store)) {
    return(here)
  }
  away <- get(
    ", m.times AS rows, m.first, m.last", " JOIN moved m ON m.series = s.id", ""
  )
  if (!nrow(away)) {
    return(here)
  }
  if (bytes) away$bytes <- moved_bytes(store, away)
  sizes_together(here, away)
}

# The series of a dataset and frequency that have rows, all of them or those
# with these keys, in any order: id, source, dataset, key, frequency, rows,
# first, last. What is the same for all is not read for each.
store_spans <- function(store, source, dataset, frequency, keys = NULL) {
  place <- list(source = source, dataset = dataset, frequency = frequency)
  some <- if (!is.null(keys)) "AND s.key IN @texts"
  read <- function(...) {
    rows <- sql_get(
      store, paste(...),
      c(unname(place), if (!is.null(keys)) json_array(keys))
    )
    for (name in names(place)) rows[[name]] <- rep(place[[name]], nrow(rows))
    rows
  }
  here <- read(
    "SELECT s.id, s.key, sum(1.0 * g.times) AS rows, min(g.first) AS first,
    max(g.last) AS last FROM series s JOIN segments g ON g.series = s.id WHERE
      s.source = ? AND s.dataset = ? AND s.frequency = ?",
    some, "GROUP BY s.id"
  )
  if (!sql_any_moved(store)) {
    return(here)
  }
  away <- read(
    "SELECT s.id, s.key, m.times AS rows, m.first, m.last FROM series s JOIN
    moved m ON m.series = s.id WHERE s.source = ? AND s.dataset = ? AND
      s.frequency = ?",
    some
  )
  if (nrow(away)) sizes_together(here, away) else here
}

# The keys of the series of a dataset and frequency, also of those without rows.
store_keys <- function(store, source, dataset, frequency) {
  sql_get(
    store,
    "SELECT key FROM series WHERE source = ? AND dataset = ? AND frequency = ?",
    list(source, dataset, frequency)
  )$key
}

# One row for all series of a dataset and frequency that have rows, with their
# number as `series`, and without id and key; no row where none has any.
store_spans_total <- function(store, source, dataset, frequency) {
  if (sql_any_moved(store)) {
    spans <- store_spans(store, source, dataset, frequency)
    total <- list(
      series = nrow(spans),
      rows = sum(spans$rows),
      first = min(spans$first, Inf),
      last = max(spans$last, -Inf)
    )
  } else {
    total <- sql_get(
      store,
      "SELECT count(DISTINCT s.id) AS series, sum(1.0 * g.times) AS rows,
      min(g.first) AS first, max(g.last) AS last FROM series s JOIN segments g
        ON g.series = s.id WHERE s.source = ? AND s.dataset = ? AND s.frequency
        = ?",
      list(source, dataset, frequency)
    )
  }
  row <- data.frame(
    id = NA_real_, key = NA_character_, source = source, dataset = dataset,
    frequency = frequency, series = as.numeric(total$series),
    rows = as.numeric(total$rows), first = as.numeric(total$first),
    last = as.numeric(total$last)
  )
  row[row$series > 0, , drop = FALSE]
}

# A series of a dataset and frequency whose last row has this time.
store_series_until <- function(store, source, dataset, frequency, last) {
  at <- function(table) {
    sql_get(
      store,
      paste(
        "SELECT s.id FROM series s JOIN", table, "g ON g.series = s.id WHERE
        s.source = ? AND s.dataset = ? AND s.frequency = ? AND g.last = ?
        LIMIT 1"
      ),
      list(source, dataset, frequency, last)
    )$id
  }
  here <- at("segments")
  if (length(here)) here else at("moved")
}

# Whether any rows are in a column store.
sql_any_moved <- function(store) {
  nrow(sql_get(store, "SELECT 1 AS one FROM moved LIMIT 1")) > 0
}

# The bytes of series that are stored elsewhere; NA where that is not known.
moved_bytes <- function(store, away) UseMethod("moved_bytes")

#' @export
moved_bytes.default <- function(store, away) rep(NA_real_, nrow(away))
