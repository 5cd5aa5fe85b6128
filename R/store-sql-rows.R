# Rows without a series: frames of one instant, and records by key, each with
# earlier versions.

#' @export
sql_put_rows.vetusta_parcel_frame <- function(parcel, store, page) {
  n <- nrow(parcel$rows)
  if (!n) {
    return(no_counts)
  }
  frame <- sql_get(
    store,
    "SELECT id, at, body FROM frames WHERE source = ? AND dataset = ? AND
    place = ? ORDER BY at DESC, id DESC LIMIT 1",
    list(page$source, page$dataset, parcel$place)
  )
  old <- if (nrow(frame)) blocks_read(frame$body)$columns
  counts <- frame_counts(old, parcel$rows, parcel$key)
  if (!identical(counts[["unchanged"]] + 0, length(old[[1]]) + 0) ||
    counts[["new"]] + counts[["changed"]] > 0) {
    sql_do(
      store,
      paste0(
        "INSERT INTO frames (source, dataset, shape, place, at, rows,
          body) VALUES (?, ?, ",
        "?, ?, ?, ?, ?)"
      ),
      list(
        page$source,
        page$dataset,
        page$shape,
        parcel$place,
        # after the newest one, even if the clock was set back
        if (isTRUE(page$as_came)) {
          parcel$at
        } else {
          max(parcel$at, frame$at + 2e-6)
        },
        n,
        list(block_write(as.list(parcel$rows), TRUE))
      )
    )
    sql_put_version(store, page, page$number)
  }
  counts
}

# The numbers of new, changed and unchanged rows of a frame compared with the
# one before.
frame_counts <- function(old, rows, key) {
  n <- nrow(rows)
  if (is.null(old)) {
    return(c(new = n, changed = 0, unchanged = 0))
  }
  named <- function(x) {
    do.call(
      paste,
      c(lapply(unname(x[intersect(key, names(x))]), as.character), sep = "\r")
    )
  }
  both <- as.list(
    data.table::rbindlist(
      list(old, as.list(rows)),
      use.names = TRUE, fill = TRUE
    )
  )
  at <- match(named(rows), named(old))
  known <- which(!is.na(at))
  changed <- sum(
    rows_apart(both, length(old[[1]]) + known, at[known], names(rows))
  )
  c(
    new = n - length(known),
    changed = changed,
    unchanged = length(known) - changed
  ) +
    0
}

# The frames of a dataset as known at an instant: the newest of each place, or
# with `all` every one: data frame of at, body.
store_frames <- function(store, source, dataset, at = Inf, all = FALSE) {
  newest <- "AND id IN (SELECT id FROM (SELECT id,
      row_number() OVER (PARTITION BY place ORDER BY at DESC,
      id DESC) AS nth FROM frames WHERE source = ? AND dataset = ? AND at <= ?)
      f WHERE nth = 1)"
  sql_get(
    store,
    paste(
      "SELECT at, body FROM frames WHERE source = ? AND dataset = ? AND at <=
        ?",
      if (!all) newest, "ORDER BY at, id"
    ),
    c(list(source, dataset, at), if (!all) list(source, dataset, at))
  )
}

# Known keys are counted in one query; a row that equals the last one of its key
# is not written.
#' @export
sql_put_rows.vetusta_parcel_records <- function(parcel, store, page) {
  n <- length(parcel$keys)
  if (!n) {
    return(no_counts)
  }
  place <- list(page$source, page$dataset)
  parcel$bodies <- record_texts(parcel$rows)
  parcel <- former_put(store, page, parcel)
  present <- sql_get(
    store,
    "SELECT count(*) AS known FROM @texts k WHERE EXISTS (SELECT 1 FROM
      records r WHERE r.source = ? AND r.dataset = ? AND r.key = k.value)",
    c(list(json_array(parcel$keys)), place)
  )
  written <- if (present$known) {
    sql_put_changed(store, page, parcel)
  } else {
    sql_put_new(store, page, parcel)
  }
  if (written) sql_put_version(store, page, page$number)
  new <- n - present$known
  c(new = new, changed = written - new, unchanged = n - written) + 0
}

record_place <- "INSERT INTO records (source, dataset, shape, key, known, body)"
record_again <-
  "ON CONFLICT (source, dataset, key, known) DO UPDATE SET body = excluded.body"

record_values <- function(page, parcel) {
  each <- function(x) rep(x, length(parcel$keys))
  list(
    each(page$source), each(page$dataset), each(page$shape), parcel$keys,
    each(page$now), parcel$bodies
  )
}

sql_put_new <- function(store, page, parcel) {
  sql_do(
    store, paste(record_place, "VALUES (?, ?, ?, ?, ?, ?)", record_again),
    record_values(page, parcel)
  )
}

sql_put_changed <- function(store, page, parcel) {
  values <- record_values(page, parcel)
  if (!isTRUE(page$as_came)) {
    values[[5]] <- since_of_records(store, page, parcel$keys)
  }
  sql_do(
    store,
    paste(
      record_place,
      "SELECT ?, ?, ?, ?, ?, ? WHERE (SELECT r.body FROM records r
    WHERE r.source = ? AND r.dataset = ? AND r.key = ? ORDER BY r.known DESC
    LIMIT 1) @differs ?",
      record_again
    ),
    values[c(1:6, 1:2, 4, 6)]
  )
}

# The instant from which records are known: after the stored ones, even if the
# clock was set back.
since_of_records <- function(store, page, keys) {
  late <- sql_get(
    store,
    "SELECT key, max(known) AS known FROM records WHERE source = ?
    AND dataset = ? AND known >= ? GROUP BY key",
    list(page$source, page$dataset, page$now)
  )
  since <- rep(page$now, length(keys))
  at <- match(keys, late$key)
  since[!is.na(at)] <- late$known[at[!is.na(at)]] + 2e-6
  since
}

# Writes a day into an empty column of records, which marks them as no longer
# listed.
store_records_close <- function(store, source, dataset, keys, column, day,
                                now) {
  records <- sql_get(
    store,
    "SELECT shape, key, body FROM (SELECT shape, key, body, row_number() OVER
    (PARTITION BY key ORDER BY known DESC) AS nth FROM records WHERE source = ?
    AND dataset = ?
      AND key IN @texts) r WHERE nth = 1",
    list(source, dataset, json_array(keys))
  )
  # a missing member is not written, so a written one exists
  named <- paste0(json_text(column), ":")
  records <- records[!grepl(named, records$body, fixed = TRUE), ]
  n <- nrow(records)
  if (n) {
    first <- ifelse(records$body == "{}", "", ",")
    body <- paste0(
      substr(records$body, 1, nchar(records$body) - 1), first, named,
      json_text(format(day)), "}"
    )
    sql_do(
      store,
      "INSERT INTO records (source, dataset, shape, key, known, body)
      VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (source, dataset, key,
      known) DO UPDATE SET
        body = excluded.body",
      list(
        rep(source, n), rep(dataset, n), records$shape, records$key,
        rep(now, n), body
      )
    )
  }
  sql_do(
    store, "INSERT INTO types VALUES (?, ?, ?, 'day') ON CONFLICT DO NOTHING",
    list(source, dataset, column)
  )
}

# Rows without time: list of texts (JSON objects), in the order of their keys'
# first appearance, as known at an instant; and the types of their columns.
store_records <- function(store, source, dataset, at = Inf) {
  place <- list(source, dataset)
  bodies <- sql_get(
    store,
    "SELECT body FROM (SELECT key, body, min(id) OVER (PARTITION BY key) AS
    came, row_number() OVER (PARTITION BY key ORDER BY known DESC) AS nth FROM
    records WHERE source = ?
      AND dataset = ? AND known <= ?) r
    WHERE nth = 1 ORDER BY came",
    c(place, at)
  )$body
  types <- sql_get(
    store, "SELECT name, type FROM types WHERE source = ? AND dataset = ?",
    place
  )
  list(bodies = bodies, types = stats::setNames(types$type, types$name))
}

# Datasets with rows without a series: source, dataset, shape, rows, changed,
# seen.
store_datasets <- function(store) {
  sql_get(
    store,
    "SELECT source, dataset, shape, count(DISTINCT key) AS rows,
      count(*) - count(DISTINCT key) AS changed,
      max(known) AS seen FROM records GROUP BY source, dataset, shape
    UNION ALL SELECT source, dataset, shape, sum(CASE WHEN nth = 1 THEN rows
    ELSE 0 END), count(*)
      - sum(CASE WHEN nth = 1 THEN 1 ELSE 0 END), max(at)
      FROM (SELECT *, row_number() OVER (PARTITION BY source, dataset,
      place ORDER BY at DESC, id
        DESC) AS nth FROM frames) f
      GROUP BY source, dataset, shape ORDER BY 1, 2"
  )
}

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
  place <- paste(all$source, all$dataset, sep = "\r")
  first <- which(!duplicated(place))
  at <- factor(place, place[first])
  both <- function(column, how) {
    as.numeric(tapply(as.numeric(column), at, how))
  }
  result <- data.frame(
    source = all$source[first],
    dataset = all$dataset[first],
    shape = all$shape[first],
    series = both(all$series, sum),
    rows = both(all$rows, sum),
    first = both(all$first, min),
    last = both(all$last, max)
  )
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

# The attributes of each series, with the instant from which they hold.
sql_put_attributes <- function(store, ids, series, now) {
  if (is.null(series$attributes)) {
    return(invisible())
  }
  since <- series$attributes_known
  since[is.na(since)] <- now
  there <- which(!is.na(series$attributes))
  sql_do(
    store,
    "INSERT INTO attributes (series, known, attributes) SELECT ?, ?,
      ? WHERE ? @differs (SELECT attributes FROM attributes WHERE series = ? AND
      known <= ? ORDER BY known DESC
        LIMIT 1)
    ON CONFLICT (series, known) DO UPDATE SET attributes = excluded.attributes",
    list(
      ids[there], since[there], series$attributes[there],
      series$attributes[there], ids[there], since[there]
    )
  )
}

# Attributes of series as known at an instant: a JSON object of texts each, or
# NA.
store_attributes <- function(store, series, at = Inf) {
  rows <- sql_get(
    store,
    "SELECT a.series, a.attributes FROM attributes a
    WHERE a.series IN @numbers AND a.known = coalesce(
      (SELECT max(known) FROM attributes b WHERE b.series = a.series AND b.known
      <= ?), (SELECT min(known) FROM attributes b WHERE b.series = a.series))",
    list(json_numbers(series), at)
  )
  rows$attributes[match(series, rows$series)]
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
