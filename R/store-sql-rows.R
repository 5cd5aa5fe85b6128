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
