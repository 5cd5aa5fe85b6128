# What a store in SQLite knows of calls: coverage, notes, claims, tokens, the journal, faults, raw
# pages, structures.

#' @export
store_covered.vetusta_store_sqlite <- function(store, source, dataset, keys = NULL) {
  few <- length(keys) > 0 && length(keys) <= 200
  sqlite_get(store, paste("SELECT key, start, end FROM coverage WHERE source = ? AND dataset = ?",
    if (few) "AND key IN (SELECT value FROM json_each(?))", "ORDER BY key, start"),
    c(list(source, dataset), if (few) list(json_array(keys))))
}

#' @export
store_notes.vetusta_store_sqlite <- function(store, kind, source, dataset, key = NULL) {
  sqlite_get(store,
    paste("SELECT key, at, value FROM notes WHERE kind = ? AND source = ? AND dataset = ?",
    if (!is.null(key)) "AND key = ?", "ORDER BY key"), c(list(kind, source, dataset), key))
}

#' @export
store_note.vetusta_store_sqlite <- function(store, kind, source, dataset, key,
  value = NA_character_, at = now_seconds()) {
  sqlite_do(store,
    "INSERT INTO notes (kind, source, dataset, key, at, value) VALUES (?, ?, ?, ?, ?, ?)
    ON CONFLICT (kind, source, dataset, key) DO UPDATE SET at = excluded.at, value =
      excluded.value",
    list(kind, source, dataset, key, at, value))
}

#' @export
store_forget.vetusta_store_sqlite <- function(store, kind, source, dataset, key) {
  sqlite_do(store, "DELETE FROM notes WHERE kind = ? AND source = ? AND dataset = ? AND key = ?",
    list(kind, source, dataset, key))
}

# Which collector of this archive is at which call, so that several that are asked for the same do
# it once: a call that another
# one is at is left to it. A claim of a process that is no more counts for nothing; nor does an old
# one while no call at all was
# made for longer than a collector waits, since another program may have the number of a process
# that was killed.
claim_minutes <- 16

#' @export
store_claim.vetusta_store_sqlite <- function(store, call, since) {
  own <- store_process(store)
  now <- now_seconds()
  params <- list(call, own$host, own$process, own$began, now)
  # the usual call is nobody's
  free <- sqlite_get(store,
    "INSERT INTO claims (call, host, process, began, since) VALUES (?, ?, ?, ?, ?)
    ON CONFLICT (call) DO NOTHING RETURNING 1 AS ours", params)
  if (nrow(free)) {
    return("ours")
  }
  store_transaction(store, function() {
    found <- sqlite_get(store,
      "SELECT host, process, began, since, done FROM claims WHERE call = ?", list(call))
    if (nrow(found) && !is.na(found$done) && found$done >= since) {
      return("done")
    }
    held <- nrow(found) && is.na(found$done) && !is_same_process(found, own) &&
      process_lives(found, own)
    if (held && !is_old_claim(store, found$since, now)) {
      return("taken")
    }
    sqlite_do(store, "INSERT INTO claims (call, host, process, began, since) VALUES (?, ?, ?, ?, ?)
      ON CONFLICT (call) DO UPDATE SET host = excluded.host, process = excluded.process, began =
        excluded.began,
      since = excluded.since, done = NULL", params)
    "ours"
  })
}

# A process is told by its machine, its number and when it began: a number is given again.
this_process <- function() {
  list(host = Sys.info()[["nodename"]], process = Sys.getpid(),
    began = as.numeric(ps::ps_create_time(ps::ps_handle())))
}

# The same, looked up once for each process that has the store open.
store_process <- function(store) {
  if (is.null(store$process) || store$process$process != Sys.getpid()) {
    store$process <- this_process()
  }
  store$process
}

is_same_process <- function(a, b) {
  a$host == b$host && a$process == b$process &&
  abs(a$began - b$began) < 2
}

is_old_claim <- function(store, since, now) {
  newest <- sqlite_get(store, "SELECT asked FROM journal ORDER BY id DESC LIMIT 1")$asked
  max(since, newest) < now - 60 * claim_minutes
}

# Whether a process is still at work. One that has ended is there until somebody asks for its end,
# which in a container may be
# never. Of another machine nothing can be seen: there the time since its claim tells.
process_lives <- function(claim, own = this_process()) {
  if (claim$host != own$host) {
    return(TRUE)
  }
  tryCatch({
    handle <- ps::ps_handle(as.integer(claim$process))
    abs(as.numeric(ps::ps_create_time(handle)) - claim$began) < 2 &&
      !ps::ps_status(handle) %in% c("zombie", "dead")
  }, error = function(e) FALSE)
}

#' @export
store_claim_done.vetusta_store_sqlite <- function(store, call) {
  sqlite_do(store, "UPDATE claims SET done = ? WHERE call = ?", list(now_seconds(), call))
}

# At the end of a run nothing of it is claimed any more; what was done long ago is forgotten.
#' @export
store_claims_release.vetusta_store_sqlite <- function(store) {
  own <- store_process(store)
  sqlite_do(store,
    "DELETE FROM claims WHERE (host = ? AND process = ? AND done IS NULL) OR done < ?",
    list(own$host, own$process, now_seconds() - 7 * 86400))
}

# One statement counts and takes, so that nobody comes between, and reads the clock when it has its
# turn to write, and not before
# it waits for that. A call that is under way counts as made in a moment from now, until its answer
# tells when it was made.
# `limits` have `count` and either `seconds`, how long a call counts, or `since`, the instant from
# which calls count.
#' @export
store_token_take.vetusta_store_sqlite <- function(store, source, limits, under_way, weight = 1) {
  each <- function(limit) {
    lately <- is.null(limit$since)
    counted <- if (isTRUE(limit$weighs)) "coalesce(sum(weight), 0)" else "count(*)"
    list(paste0("(SELECT ", counted, " FROM tokens WHERE source = ? AND taken > ",
      if (lately) "c.now - ?" else "?", ") <= ?"),
      list(source, if (lately) limit$seconds else limit$since,
        limit$count - if (isTRUE(limit$weighs)) weight else 1))
  }
  parts <- lapply(limits, each)
  found <- sqlite_get(store, paste0("INSERT INTO tokens (source, taken, weight)
    SELECT ?, c.now + ?, ?
    FROM (SELECT (julianday('now') - 2440587.5) * 86400.0 AS now) c WHERE ",
    paste(vapply(parts, `[[`, "", 1), collapse = " AND "), " RETURNING rowid AS id"),
    c(list(source, under_way, weight), unlist(lapply(parts, `[[`, 2), recursive = FALSE)))
  if (nrow(found)) list(id = found$id) else list()
}

# When a call was made, at the latest, now that it is answered.
#' @export
store_token_made.vetusta_store_sqlite <- function(store, id, at) {
  sqlite_do(store, "UPDATE tokens SET taken = ? WHERE rowid = ?", list(at, id))
}

#' @export
store_tokens.vetusta_store_sqlite <- function(store, source, since = -1e18) {
  sqlite_get(store, "SELECT taken AS time, weight FROM tokens WHERE source = ? AND taken > ?",
    list(source, since))
}

#' @export
store_tokens_forget.vetusta_store_sqlite <- function(store, source, before) {
  sqlite_do(store, "DELETE FROM tokens WHERE source = ? AND taken <= ?", list(source, before))
}

journal_columns <- c("run", "source", "dataset", "symbol", "asked", "seconds", "status", "bytes",
  "rows", "outcome", "address",
  "message")

journal_values <- function(entry) lapply(journal_columns, function(name) entry[[name]] %||% NA)

#' @export
store_journal.vetusta_store_sqlite <- function(store) {
  sqlite_get(store,
    paste("SELECT", paste(journal_columns, collapse = ", "), "FROM journal ORDER BY id"))
}

#' @export
store_journal_add.vetusta_store_sqlite <- function(store, entry) {
  sqlite_do(store,
    paste0("INSERT INTO journal (", paste(journal_columns, collapse = ", "), ") VALUES (",
    paste(rep("?", length(journal_columns)), collapse = ", "), ")"), journal_values(entry))
}

#' @export
store_faults.vetusta_store_sqlite <- function(store) {
  sqlite_get(store, "SELECT symbol, time, place, fault, detail, found FROM faults ORDER BY id")
}

sqlite_put_faults <- function(store, faults, journal, now) {
  n <- nrow(faults)
  if (n) {
    sqlite_do(store,
      paste0("INSERT INTO faults (journal, symbol, time, place, fault, detail, found) VALUES (?, ",
        "?, ?, ?, ?, ?, ?)"),
      list(rep(journal, n), faults$symbol, as.numeric(faults$time), faults$place, faults$fault,
        faults$detail, rep(now, n)))
  }
}

#' @export
store_page_bytes.vetusta_store_sqlite <- function(store, source, dataset) {
  as.numeric(sqlite_get(store,
    "SELECT bytes FROM journal WHERE source = ? AND dataset = ? AND outcome = 'stored'
    ORDER BY id DESC LIMIT 50", list(source, dataset))$bytes)
}

#' @export
store_raw.vetusta_store_sqlite <- function(store, source, dataset) {
  sqlite_get(store,
    "SELECT journal, about, hash FROM raw WHERE source = ? AND dataset = ? ORDER BY journal",
    list(source, dataset))
}

#' @export
store_raw_body.vetusta_store_sqlite <- function(store, journal) {
  memDecompress(sqlite_get(store, "SELECT body FROM raw WHERE journal = ?",
    list(journal))$body[[1]], "gzip")
}

# A raw page is kept compressed with a hash of its bytes.
sqlite_put_raw <- function(store, page, journal) {
  sqlite_do(store,
    "INSERT INTO raw (journal, source, dataset, hash, about, body) VALUES (?, ?, ?, ?, ?, ?)",
    list(journal, page$source, page$dataset, page$raw$hash, page$raw$about,
      list(memCompress(page$raw$body, "gzip"))))
}

content_hash <- function(body) cli::hash_raw_md5(body)

#' @export
store_structure.vetusta_store_sqlite <- function(store, source, address) {
  found <- sqlite_get(store,
    "SELECT etag, modified, fetched, body FROM structures WHERE source = ? AND address = ?",
    list(source, address))
  if (nrow(found)) {
    list(etag = found$etag, modified = found$modified, fetched = found$fetched,
      body = memDecompress(found$body[[1]], "gzip"))
  }
}

#' @export
store_structure_put.vetusta_store_sqlite <- function(store, source, address, etag, modified, body) {
  sqlite_do(store,
    "INSERT INTO structures (source, address, etag, modified, fetched, body) VALUES (?, ?, ?, ?,
      ?, ?)
    ON CONFLICT (source, address) DO UPDATE SET etag = excluded.etag, modified = excluded.modified,
    fetched = excluded.fetched, body = excluded.body",
    list(source, address, etag %||% NA, modified %||% NA, now_seconds(),
      list(memCompress(body, "gzip"))))
}

#' @export
store_structure_touch.vetusta_store_sqlite <- function(store, source, address) {
  sqlite_do(store, "UPDATE structures SET fetched = ? WHERE source = ? AND address = ?",
    list(now_seconds(), source, address))
}
