# Writing rows: each value once, whatever is written again; what a later page changes is kept as a vintage.

archive_series_id <- function(archive, source, symbol, interval, side = "", shape = "bars") {
  key <- list(source, shape, symbol, interval, side)
  found <- archive_get(archive, "SELECT id FROM series WHERE source = ? AND shape = ? AND symbol = ? AND interval = ? AND side = ?", key)
  if (nrow(found)) {
    return(found$id)
  }
  archive_do(archive, "INSERT INTO series (source, shape, symbol, interval, side) VALUES (?, ?, ?, ?, ?)", key)
  archive_get(archive, "SELECT last_insert_rowid() AS id")$id
}

# Bars of one series, in order of time; inside a transaction. Returns how many were new, changed and equal.
archive_put_bars <- function(archive, series, rows, journal = NA_integer_, now = as.numeric(Sys.time())) {
  if (!nrow(rows)) {
    return(c(new = 0, changed = 0, equal = 0))
  }
  rows <- unique_times(rows)
  bounds <- as.numeric(rows$time[c(1, nrow(rows))])
  added <- c(new = nrow(rows), changed = 0, equal = 0)
  tail <- segments_tail(archive, series)
  if (!nrow(tail) || tail$last[1] < bounds[1]) {
    # the usual page: newer than all that is held
    id <- segment_insert(archive, series, rows, 0L)
    segments_settle(archive, series, utils::head(rbind(data.frame(id = id, last = bounds[2], rows = nrow(rows), level = 0L), tail), segment_fan))
    return(added)
  }
  touched <- archive_get(archive, "SELECT id, level FROM segments WHERE series = ? AND first <= ? AND last >= ? ORDER BY first",
    list(series, bounds[2], bounds[1]))
  if (!nrow(touched)) {
    segment_insert(archive, series, rows, 0L)
    segments_settle(archive, series)
    return(added)
  }
  merge_bars(archive, series, rows, touched, journal, now)
}

# Of two rows with one time the later one counts.
unique_times <- function(rows) {
  time <- as.numeric(rows$time)
  if (is.unsorted(time, strictly = TRUE)) {
    rows <- rows[order(time, method = "radix"), ]
    rows <- rows[!duplicated(as.numeric(rows$time), fromLast = TRUE), ]
  }
  rows
}

merge_bars <- function(archive, series, rows, touched, journal, now) {
  old <- segments_read(archive, touched$id)
  at <- match(as.numeric(rows$time), as.numeric(old$time))
  known <- which(!is.na(at))
  changed <- known[rows_differ(rows[known, , drop = FALSE], old[at[known], , drop = FALSE])]
  new <- which(is.na(at))
  counts <- c(new = length(new), changed = length(changed), equal = length(known) - length(changed)) + 0
  if (!length(new) && !length(changed)) {
    return(counts)
  }
  if (length(changed)) keep_vintages(archive, series, old[at[changed], , drop = FALSE], journal, now)
  kept <- if (length(changed)) old[-at[changed], , drop = FALSE] else old
  all <- as.data.frame(data.table::rbindlist(list(kept, rows[c(new, changed), , drop = FALSE]), use.names = TRUE, fill = TRUE))
  all <- all[order(as.numeric(all$time), method = "radix"), ]
  segments_drop(archive, touched$id)
  pieces <- (seq_len(nrow(all)) - 1L) %/% segment_most
  for (piece in split(seq_len(nrow(all)), pieces)) segment_insert(archive, series, all[piece, , drop = FALSE], max(touched$level))
  segments_settle(archive, series)
  counts
}

rows_differ <- function(a, b) {
  differ <- logical(nrow(a))
  for (name in setdiff(intersect(names(a), names(b)), "time")) {
    x <- a[[name]]
    y <- b[[name]]
    differ <- differ | (is.na(x) != is.na(y)) | (!is.na(x) & !is.na(y) & x != y)
  }
  for (name in setdiff(names(a), names(b))) differ <- differ | !is.na(a[[name]])
  differ
}

keep_vintages <- function(archive, series, rows, journal, now) {
  was <- vapply(seq_len(nrow(rows)), function(i) {
    values <- as.list(rows[i, setdiff(names(rows), "time")])
    as.character(jsonlite::toJSON(values[!is.na(values)], auto_unbox = TRUE, digits = NA))
  }, "")
  archive_do(archive, "INSERT INTO vintages (series, time, was, replaced, journal) VALUES (?, ?, ?, ?, ?)",
    list(rep(series, nrow(rows)), as.numeric(rows$time), was, rep(now, nrow(rows)), rep(journal, nrow(rows))))
}

archive_put_findings <- function(archive, findings, journal, series = NA_integer_, now = as.numeric(Sys.time())) {
  n <- nrow(findings)
  if (n) {
    archive_do(archive, "INSERT INTO findings (journal, series, symbol, time, place, fault, detail, found) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
      list(rep(journal, n), rep(series, n), findings$symbol, as.numeric(findings$time), findings$place, findings$fault, findings$detail, rep(now, n)))
  }
  invisible(n)
}

# Which stretches of a series are held whole, by the session that was asked for: "all" covers "regular" too.
archive_cover <- function(archive, series, session, start, end) {
  # the usual case first: one stretch that grows
  grown <- archive_do(archive, "UPDATE coverage SET start = min(start, ?), end = max(end, ?) WHERE series = ? AND session = ? AND start <= ? AND end >= ?",
    list(start, end, series, session, end, start))
  if (grown == 1) {
    return(invisible())
  }
  touching <- archive_get(archive, "SELECT rowid AS row, start, end FROM coverage WHERE series = ? AND session = ? AND start <= ? AND end >= ?",
    list(series, session, end, start))
  whole <- list(min(start, touching$start), max(end, touching$end))
  for (row in touching$row) archive_do(archive, "DELETE FROM coverage WHERE rowid = ?", list(row))
  archive_do(archive, "INSERT INTO coverage VALUES (?, ?, ?, ?)", c(list(series, session), whole))
}

# The stretches held of some symbols, or of all of a source and interval, in one question.
archive_covered <- function(archive, source, interval, session, symbols = NULL) {
  few <- !is.null(symbols) && length(symbols) <= 50
  archive_get(archive, paste0("SELECT s.symbol, c.start, c.end FROM series s JOIN coverage c ON c.series = s.id WHERE s.source = ? AND s.shape = 'bars' AND s.interval = ?
    AND c.session IN (?, 'all')", if (few) " AND s.symbol IN (SELECT value FROM json_each(?))", " ORDER BY s.symbol, c.start"),
    c(list(source, interval, session), if (few) list(as.character(jsonlite::toJSON(symbols)))))
}

archive_journal_add <- function(archive, entry) {
  archive_get(archive, "INSERT INTO journal (run, source, offer, symbol, asked, seconds, status, bytes, rows, outcome, address, message)
    VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id",
    list(entry$run, entry$source, entry$offer, entry$symbol %||% NA, entry$asked, entry$seconds %||% NA, entry$status %||% NA,
      entry$bytes %||% NA, entry$rows %||% NA, entry$outcome, entry$address %||% NA, entry$message %||% NA))$id
}

# Takes a token from the source's limits, counted for all processes on this archive. `limits` have `count` and either `seconds`, how long a call counts, or `since`, the
# instant from which calls count. One statement counts and takes, so that nobody comes between, and reads the clock when it has its turn to write, and not before it waits for that.
# A call that is under way counts as made in a moment from now, until its answer tells when it was made. Gives list(id, now), without `id` where there is no room.
archive_take_token <- function(archive, source, limits, under_way) {
  each <- function(limit) if (is.null(limit$since)) list("(SELECT count(*) FROM tokens WHERE source = ? AND taken > c.now - ?) < ?", list(source, limit$seconds, limit$count))
  else list("(SELECT count(*) FROM tokens WHERE source = ? AND taken > ?) < ?", list(source, limit$since, limit$count))
  parts <- lapply(limits, each)
  found <- archive_get(archive, paste0("INSERT INTO tokens (source, taken) SELECT ?, c.now + ? FROM (SELECT (julianday('now') - 2440587.5) * 86400.0 AS now) c WHERE ",
    paste(vapply(parts, `[[`, "", 1), collapse = " AND "), " RETURNING rowid AS id"), c(list(source, under_way), unlist(lapply(parts, `[[`, 2), recursive = FALSE)))
  if (nrow(found)) list(id = found$id) else list()
}

# When a call was made, at the latest, now that it is answered.
archive_token_made <- function(archive, id, at) archive_do(archive, "UPDATE tokens SET taken = ? WHERE rowid = ?", list(at, id))

archive_tokens_forget <- function(archive, source, before) archive_do(archive, "DELETE FROM tokens WHERE source = ? AND taken <= ?", list(source, before))

archive_tokens <- function(archive, source, since = -1e18) archive_get(archive, "SELECT taken FROM tokens WHERE source = ? AND taken > ?", list(source, since))$taken

# How large the newest pages of an offer were, in the middle.
archive_page_bytes <- function(archive, source, offer) {
  found <- archive_get(archive, "SELECT bytes FROM journal WHERE source = ? AND offer = ? AND outcome = 'stored' ORDER BY id DESC LIMIT 50", list(source, offer))$bytes
  if (length(found)) stats::median(as.numeric(found)) else NA_real_
}
