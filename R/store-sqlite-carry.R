# Archives of older forms, carried over into the present one when they are opened.

# Archives of the forms 1 to 4 held bars in Parquet, everything else in rows of JSON, and what was
# before in tables of its own.
# Their tables are set aside under other names, all is put into the new ones, and the old are
# dropped.
sqlite_carry_over <- function(connection) {
  tables <- setdiff(DBI::dbGetQuery(connection, "SELECT name FROM sqlite_master WHERE type = 'table'
    AND name NOT LIKE 'sqlite_%'")$name, "meta")
  indices <- DBI::dbGetQuery(connection,
    "SELECT name FROM sqlite_master WHERE type = 'index' AND sql IS NOT NULL")$name
  for (name in indices) DBI::dbExecute(connection, paste("DROP INDEX", name))
  for (name in tables) {
    DBI::dbExecute(connection, paste0("ALTER TABLE ", name, " RENAME TO old_", name))
  }
  for (statement in sqlite_tables) DBI::dbExecute(connection, statement)
  old <- list(connection = connection, tables = tables)
  carry_tables(old)
  carry_bars(old)
  carry_records(old)
  carry_statistics(old)
  # children first, as rows point to rows
  for (name in rev(c("series", "records", setdiff(tables, c("series", "records"))))) {
    if (name %in% tables) DBI::dbExecute(connection, paste0("DROP TABLE old_", name))
  }
  DBI::dbExecute(connection, "UPDATE meta SET value = ? WHERE name = 'form'",
    params = list(as.character(archive_form)))
}

# Archives of form 5 lack what a call weighs, and those up to form 6 who collects and what of them
# stands elsewhere.
sqlite_step <- function(connection, form) {
  if (form < 6) {
    DBI::dbExecute(connection, "ALTER TABLE tokens ADD COLUMN weight REAL NOT NULL DEFAULT 1")
  }
  DBI::dbExecute(connection, sqlite_collectors)
  DBI::dbExecute(connection, sqlite_moved)
  DBI::dbExecute(connection, "DROP TRIGGER page_in_put")
  DBI::dbExecute(connection, sqlite_tables[["page_put"]])
  DBI::dbExecute(connection, "UPDATE meta SET value = ? WHERE name = 'form'",
    params = list(as.character(archive_form)))
}

old_get <- function(old, table, statement, params = NULL) {
  if (!table %in% old$tables) {
    return(NULL)
  }
  if (is.null(params)) DBI::dbGetQuery(old$connection, statement)
  else DBI::dbGetQuery(old$connection, statement, params = params)
}

# A store within the transaction that carries an archive over.
old_store <- function(old) {
  store <- list2env(list(connection = old$connection, path = "the archive", inside = TRUE,
    ids = new.env(), types = new.env(),
    pages = new.env()), parent = emptyenv())
  class(store) <- c("vetusta_store_sqlite", "vetusta_store_sql")
  store
}

# What stays as it is, under its new words.
carry_tables <- function(old) {
  carry <- function(table, statement) {
    if (table %in% old$tables) DBI::dbExecute(old$connection,
    statement)
  }
  carry("journal",
    "INSERT INTO journal SELECT id, run, source, offer, symbol, asked, seconds, status, bytes, rows,
    CASE outcome WHEN 'again' THEN 'retried' ELSE outcome END, address, message FROM old_journal")
  carry("findings",
    paste0("INSERT INTO faults SELECT id, journal, symbol, time, place, fault, detail, found ",
      "FROM old_findings"))
  carry("tokens", "INSERT INTO tokens SELECT source, taken, 1 FROM old_tokens")
  carry("raw", "INSERT INTO raw SELECT journal, source, offer, hash, about, body FROM old_raw")
  carry("structures",
    paste0("INSERT INTO structures SELECT source, address, etag, modified, fetched, body FROM ",
      "old_structures"))
  carry("jobs",
    paste0("INSERT INTO notes SELECT 'job', source, offer, start, 0, json_object('look', look, ",
      "'link', link) FROM old_jobs"))
  carry("row_coverage",
    "INSERT INTO coverage SELECT source, offer, key, start, end FROM old_row_coverage")
}

# Bars were held in Parquet without the name of their dataset, which the journal has; what was
# before stood beside them.
carry_bars <- function(old) {
  store <- old_store(old)
  series <- old_get(old, "series",
    "SELECT id, source, symbol, interval, side FROM old_series WHERE shape = 'bars'")
  for (i in seq_len(NROW(series))) {
    one <- series[i, ]
    dataset <- carry_dataset(old, one)
    segments <- old_get(old, "segments",
      "SELECT body FROM old_segments WHERE series = ? ORDER BY first", list(one$id))
    rows <- as.data.frame(data.table::rbindlist(lapply(segments$body, carry_segment),
      use.names = TRUE, fill = TRUE))
    page <- list(source = one$source, dataset = dataset$name, shape = "bars")
    if (nrow(rows)) {
      rows$symbol <- rep(one$symbol, nrow(rows))
      rows$side <- rep(if (nzchar(one$side)) one$side else NA_character_, nrow(rows))
      rows$since <- rep(dataset$came, nrow(rows))
      was <- carry_vintages(old, one, rows)
      all <- data.table::rbindlist(list(was$before, was$rows), use.names = TRUE, fill = TRUE)
      parcel <- archive_parcel("bars", as.data.frame(all), frequency = one$interval)
      sql_put_rows(parcel, store, c(page, list(now = dataset$came)))
    }
    covered <- old_get(old, "coverage",
      "SELECT session, start, end FROM old_coverage WHERE series = ?", list(one$id))
    for (k in seq_len(NROW(covered))) {
      sql_cover(store, page,
        list(key = bars_cover_key(one$symbol, one$interval, covered$session[k]),
        start = covered$start[k], end = covered$end[k]))
    }
  }
}

# The dataset of a series of bars, by its calls, and when the first of them was.
carry_dataset <- function(old, series) {
  calls <- old_get(old, "journal",
    "SELECT offer, min(asked) AS came FROM old_journal WHERE source = ? AND outcome = 'stored'
    AND (symbol = ? OR run = 'import' OR symbol IS NULL OR instr(symbol, ?) > 0) GROUP BY offer
      ORDER BY count(*) DESC",
    list(series$source, series$symbol, series$symbol))
  if (NROW(calls)) list(name = calls$offer[1], came = calls$came[1])
  else list(name = "bars", came = 0)
}

carry_segment <- function(body) {
  connection <- rawConnection(body)
  on.exit(close(connection))
  rows <- as.data.frame(nanoparquet::read_parquet(connection))
  rows$time <- utc(whole_micros(as.numeric(rows$time)))
  rows
}

# What bars were before: each value from its coming until the next one replaced it.
carry_vintages <- function(old, series, rows) {
  was <- old_get(old, "vintages",
    "SELECT time, was, replaced FROM old_vintages WHERE series = ? ORDER BY time, replaced",
    list(series$id))
  if (!NROW(was)) {
    return(list(rows = rows, before = NULL))
  }
  values <- data.table::rbindlist(lapply(was$was, function(text) jsonlite::fromJSON(text)),
    use.names = TRUE, fill = TRUE)
  first <- !duplicated(was$time)
  came <- rows$since[1]
  before <- list(symbol = rep(series$symbol, nrow(was)), time = utc(was$time),
    since = ifelse(first, came, c(NA, was$replaced[-nrow(was)])))
  last <- !duplicated(was$time, fromLast = TRUE)
  at <- match(as.numeric(rows$time), was$time[last])
  rows$since[!is.na(at)] <- was$replaced[last][at[!is.na(at)]]
  list(rows = rows, before = c(before, as.list(values)[setdiff(names(values), names(before))]))
}

# Rows of all shapes were JSON by key. Those of series and of snapshots go where these are kept now.
carry_records <- function(old) {
  store <- old_store(old)
  held <- old_get(old, "records", "SELECT DISTINCT source, offer, shape FROM old_records")
  for (i in seq_len(NROW(held))) {
    one <- held[i, ]
    now <- old_get(old, "records",
      "SELECT r.id, r.body, r.seen, (SELECT max(replaced) FROM old_record_vintages v
      WHERE v.record = r.id) AS replaced FROM old_records r WHERE r.source = ? AND r.offer = ?
        ORDER BY r.id",
      list(one$source, one$offer))
    was <- old_get(old, "record_vintages",
      "SELECT v.record AS id, v.was AS body, v.replaced FROM old_record_vintages v
      JOIN old_records r ON r.id = v.record WHERE r.source = ? AND r.offer = ? ORDER BY v.record,
        v.replaced",
      list(one$source, one$offer))
    # the oldest of each is known from its coming, which only the newest row of the journal tells
    came <- min(now$seen, was$replaced)
    before <- c(NA, was$replaced)[seq_len(nrow(was))]
    before[!duplicated(was$id)] <- came - 1
    rows <- carry_rows(c(was$body, now$body))
    since <- c(before, ifelse(is.na(now$replaced), now$seen, now$replaced))
    page <- list(source = one$source, dataset = one$offer, shape = one$shape)
    for (at in sort(unique(since))) {
      part <- rows[since == at, , drop = FALSE]
      parcel <- archive_parcel(one$shape, part, frequency = "", at = at, place = "")
      sql_put_rows(parcel, store, c(page, list(now = at)))
    }
  }
}

# Old rows as a table: days and instants were told by their names.
carry_rows <- function(bodies) {
  rows <- as.data.frame(data.table::rbindlist(lapply(bodies, function(body) {
    lapply(jsonlite::fromJSON(body, simplifyVector = FALSE, bigint_as_char = TRUE),
      function(x) if (is.null(x)) NA else x)
  }), use.names = TRUE, fill = TRUE))
  for (name in names(rows)) {
    if (is.integer(rows[[name]])) rows[[name]] <- as.double(rows[[name]])
    if (name == "time" && is.character(rows[[name]])) rows[[name]] <- read_rfc3339(rows[[name]])
    if (name %in% old_record_days && is.character(rows[[name]])) {
      day <- read_day(rows[[name]])
      if (!anyNA(day[!is.na(rows[[name]])])) rows[[name]] <- day
    }
  }
  rows
}

old_record_days <- c("period", "period_start", "period_end", "filed", "listed", "delisted", "first",
  "last_day", "updated",
  "released")

# Statistics had a row a series, period and release, and what is said of series beside them.
carry_statistics <- function(old) {
  if (!"observations" %in% old$tables) {
    return(invisible())
  }
  store <- old_store(old)
  series <- old_get(old, "series",
    "SELECT s.id, s.source, s.symbol, s.interval, s.side, w.dimensions, w.attributes
    FROM old_series s JOIN old_series_words w ON w.series = s.id WHERE s.shape = 'observations'
      ORDER BY s.id")
  told <- old_get(old, "series_attributes",
    "SELECT series, since, attributes FROM old_series_attributes")
  for (i in seq_len(NROW(series))) {
    one <- series[i, ]
    rows <- old_get(old, "observations",
      "SELECT period, released, value, status, words FROM old_observations WHERE series = ?
      ORDER BY period, released", list(one$id))
    page <- list(source = one$source, dataset = one$side, shape = "observations",
      now = max(rows$released, 0))
    about <- data.frame(key = one$symbol, frequency = one$interval, dimensions = one$dimensions)
    own <- told[told$series == one$id, ]
    if (!NROW(own)) own <- data.frame(since = -1e18, attributes = one$attributes)
    parcel <- parcel_series(about, list(time = utc(rows$period * 86400), since = utc(rows$released),
      value = as.double(rows$value), status = rows$status, words = rows$words))
    sql_put_rows(parcel, store, page)
    id <- sql_series_ids(store, page, about)
    for (k in seq_len(nrow(own))) {
      sql_put_attributes(store, id,
        data.frame(attributes = own$attributes[k], attributes_since = own$since[k]), page$now)
    }
  }
}
