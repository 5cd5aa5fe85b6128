# The care of an archive in SQLite: its check, its copies, and what can be saved of a damaged one.

#' @export
store_check.vetusta_store_sqlite <- function(store) {
  found <- list()
  add <- function(what, where, finding, lost = FALSE) {
    n <- max(length(where), length(finding))
    if (length(where) && length(finding)) {
      found[[length(found) + 1]] <<- data.frame(what = rep(what, n), where = rep_len(where, n),
        finding = rep_len(finding, n), lost = rep(lost, n))
    }
  }
  whole <- tryCatch(DBI::dbGetQuery(store$connection, "PRAGMA integrity_check(20)")[[1]],
    error = function(e) conditionMessage(e))
  add("database", basename(store$path), whole[whole != "ok"], TRUE)
  # what the database cannot read is told by it
  part <- function(what, work) {
    tryCatch(work(), error = function(e) {
      add(what, basename(store$path), sub("\n.*", "", conditionMessage(e)), TRUE)
    })
  }
  part("segment", function() check_segments(store, add))
  part("coverage", function() check_coverage(store, add))
  part("series", function() {
    bare <- sqlite_get(store, "SELECT source, dataset, key, frequency FROM series WHERE NOT EXISTS
      (SELECT 1 FROM segments WHERE series = series.id)")
    add("series", series_address(bare), "has no rows")
    orphans <- sqlite_get(store, "SELECT DISTINCT series FROM segments WHERE series NOT IN
      (SELECT id FROM series)")$series
    add("series", paste("number", orphans)[seq_along(orphans)], "has rows and is not there", TRUE)
  })
  part("frame", function() check_bodies(store, "frames", add))
  part("record", function() check_records(store, add))
  part("note", function() {
    lost <- sqlite_get(store, "SELECT journal FROM raw WHERE journal NOT IN
      (SELECT id FROM journal)")$journal
    add("note", paste("raw page", lost)[seq_along(lost)], "belongs to no call")
  })
  none <- data.frame(what = character(), where = character(), finding = character(),
    lost = logical())
  do.call(rbind, c(list(none), found))
}

# Each segment is read, and compared with what stands beside it.
check_segments <- function(store, add) {
  last <- 0
  repeat {
    some <- sqlite_get(store, "SELECT g.id, g.first, g.last, g.rows, g.times, g.body, s.source,
      s.dataset, s.key, s.frequency FROM segments g LEFT JOIN series s ON s.id = g.series
      WHERE g.id > ? ORDER BY g.id LIMIT 200", list(last))
    if (!nrow(some)) break
    last <- max(some$id)
    where <- paste0(series_address(some), ", from ", format_instant(some$first))
    for (i in seq_len(nrow(some))) {
      read <- tryCatch(blocks_read(some$body[i], newest = FALSE), error = function(e) NULL)
      if (is.null(read)) {
        add("segment", where[i], "is damaged: its bytes are not those that were written", TRUE)
        next
      }
      time <- as.numeric(read$columns$time)
      right <- length(time) == some$rows[i] && length(time) > 0 && time[1] == some$first[i] &&
        time[length(time)] == some$last[i] && length(unique(time)) == some$times[i]
      if (!right) add("segment", where[i], "holds other rows than stand beside it", TRUE)
    }
  }
  over <- sqlite_get(store, "SELECT s.source, s.dataset, s.key, s.frequency FROM series s WHERE s.id
    IN (SELECT series FROM (SELECT series, first, lag(last) OVER (PARTITION BY series ORDER BY
      first) AS before FROM segments) WHERE first <= before)")
  add("segment", series_address(over), "has two segments over one time")
}

# Stretches that end before they begin, or lie over each other; and those of datasets of which
# nothing was ever asked.
check_coverage <- function(store, add) {
  odd <- sqlite_get(store, "SELECT source, dataset, key FROM (SELECT source, dataset, key, start,
    end, lag(end) OVER (PARTITION BY source, dataset, key ORDER BY start) AS before FROM coverage)
    WHERE start >= end OR start < before")
  where <- function(rows) paste0(rows$source, "/", rows$dataset, " ", rows$key)[seq_len(nrow(rows))]
  add("coverage", where(odd), "has stretches that cannot be")
  bare <- sqlite_get(store, "SELECT DISTINCT source, dataset, '' AS key FROM coverage c WHERE NOT
    EXISTS (SELECT 1 FROM journal j WHERE j.source = c.source AND j.dataset = c.dataset)")
  add("coverage", where(bare), "is said to be held, and was never asked for")
}

check_bodies <- function(store, table, add) {
  found <- sqlite_get(store, paste("SELECT source, dataset, at, rows, body FROM", table))
  for (i in seq_len(nrow(found))) {
    read <- tryCatch(blocks_read(found$body[i])$rows, error = function(e) -1)
    if (!identical(as.numeric(read), as.numeric(found$rows[i]))) {
      add("frame", paste0(found$source[i], "/", found$dataset[i], " at ",
        format_instant(found$at[i])), "is damaged: its bytes are not those that were written", TRUE)
    }
  }
}

check_records <- function(store, add) {
  bad <- sqlite_get(store, "SELECT source, dataset, key FROM records WHERE NOT json_valid(body)")
  add("record", paste0(bad$source, "/", bad$dataset, " ", bad$key)[seq_len(nrow(bad))],
    "is damaged", TRUE)
}

#' @export
store_compact.vetusta_store_sqlite <- function(store) {
  many <- sqlite_get(store,
    "SELECT series FROM segments GROUP BY series HAVING count(*) > 1")$series
  for (ids in split(many, (seq_along(many) - 1) %/% 1000)) store_settle(store, ids)
  sqlite_do(store, "DELETE FROM claims WHERE done IS NOT NULL")
  # a quota counts calls for a month at most
  sqlite_do(store, "DELETE FROM tokens WHERE taken < ?", list(now_seconds() - 40 * 86400))
  sqlite_do(store, "VACUUM")
  sqlite_get(store, "PRAGMA wal_checkpoint(TRUNCATE)")
  invisible()
}

#' @export
store_copy.vetusta_store_sqlite <- function(store, file) {
  sqlite_do(store, "VACUUM INTO ?", list(sqlite_name(file)))
  copy <- sqlite_connect(file, read_only = TRUE)
  on.exit(DBI::dbDisconnect(copy))
  told <- tryCatch(DBI::dbGetQuery(copy, "PRAGMA quick_check(1)")[[1]],
    error = function(e) conditionMessage(e))
  if (!identical(told, "ok")) {
    vetusta_stop("archive", paste0("The copy is not whole: ", told[1]), where = file,
      todo = "look at the disk, and run `vetusta archive check`")
  }
}

#' @export
store_in_use.vetusta_store_sqlite <- function(store) {
  claims <- sqlite_get(store, "SELECT DISTINCT host, process, began FROM claims WHERE done IS NULL")
  own <- this_process()
  any(vapply(seq_len(nrow(claims)), function(i) {
    claim <- as.list(claims[i, ])
    !is_same_process(claim, own) && claim$host == own$host && process_lives(claim, own)
  }, TRUE))
}

rescued_tables <- c("series", "attributes", "segments", "frames", "records", "types", "coverage",
  "journal", "faults", "notes", "raw", "structures")

# What can be read of a damaged file, row by row where it must be, into a new archive.
sqlite_rescue <- function(from, to) {
  connection <- tryCatch(DBI::dbConnect(RSQLite::SQLite(), sqlite_name(from),
    flags = RSQLite::SQLITE_RO, loadable.extensions = FALSE, synchronous = NULL),
    error = function(e) NULL)
  known <- tryCatch(DBI::dbGetQuery(connection, "SELECT name FROM sqlite_master")$name,
    error = function(e) character())
  on.exit(if (!is.null(connection)) DBI::dbDisconnect(connection))
  if (!all(c("series", "segments") %in% known)) {
    vetusta_stop("archive", "Nothing can be saved: the file is no archive, or its tables are lost.",
      where = from, todo = "bring back a copy, or collect again")
  }
  form <- tryCatch(sqlite_form(connection), error = function(e) numeric())
  if (length(form) == 1 && !is.na(form) && form != archive_form) {
    vetusta_stop("archive",
      paste0("The archive is of the form ", form, ", and what is saved is of ",
      "the form ", archive_form, "."), where = from,
      todo = if (form < archive_form) "open a copy of it once, which carries it over"
      else "install a newer vetusta")
  }
  store <- sqlite_store(to)
  on.exit(store_close(store), add = TRUE)
  sqlite_do(store, "PRAGMA foreign_keys = OFF")
  counts <- lapply(intersect(rescued_tables, known), function(table) {
    read <- rescued_rows(connection, table)
    good <- rescued_good(table, read$rows)
    saved <- 0
    lost <- read$lost + sum(!good)
    if (any(good)) {
      rows <- read$rows[good, , drop = FALSE]
      marks <- paste(rep("?", ncol(rows)), collapse = ", ")
      saved <- DBI::dbExecute(store$connection, paste0("INSERT OR IGNORE INTO ", table, " (",
        paste(names(rows), collapse = ", "), ") VALUES (", marks, ")"),
        params = unname(as.list(rows)))
    }
    data.frame(what = table, saved = as.numeric(saved), lost = as.numeric(lost))
  })
  sqlite_do(store, "DELETE FROM segments WHERE series NOT IN (SELECT id FROM series)")
  # of what was lost nobody can say any more that it is held
  if (any(vapply(counts, function(one) one$what == "segments" && one$lost > 0, TRUE))) {
    sqlite_do(store, "DELETE FROM coverage")
    sqlite_do(store, "DELETE FROM notes WHERE kind IN ('looked', 'asked', 'reached', 'round')")
  }
  do.call(rbind, counts)
}

# All rows that can be read: at once, else by halves of their numbers until the bad ones stand
# alone.
rescued_rows <- function(connection, table) {
  get <- function(...) tryCatch(DBI::dbGetQuery(connection, paste(...)), error = function(e) NULL)
  all <- get("SELECT * FROM", table)
  if (!is.null(all)) {
    return(list(rows = all, lost = 0))
  }
  last <- get("SELECT max(rowid) AS last FROM", table)$last
  if (is.null(last) || is.na(last)) {
    return(list(rows = data.frame(), lost = 1))
  }
  parts <- list()
  lost <- 0
  halve <- function(low, high) {
    rows <- get("SELECT * FROM", table, "WHERE rowid BETWEEN", low, "AND", high)
    if (!is.null(rows)) {
      parts[[length(parts) + 1]] <<- rows
    } else if (low == high) {
      lost <<- lost + 1
    } else {
      middle <- floor((low + high) / 2)
      halve(low, middle)
      halve(middle + 1, high)
    }
  }
  halve(1, last)
  list(rows = if (length(parts)) do.call(rbind, parts) else data.frame(), lost = lost)
}

# Blocks whose bytes are those that were written.
rescued_good <- function(table, rows) {
  if (!nrow(rows) || !table %in% c("segments", "frames")) {
    return(rep(TRUE, nrow(rows)))
  }
  vapply(seq_len(nrow(rows)), function(i) {
    !inherits(try(blocks_read(rows$body[i], newest = FALSE), silent = TRUE), "try-error")
  }, TRUE)
}
