# Segments: the rows of a series in blocks, written, dropped and opened.

# Pieces of at most a segment's rows; the releases of one time stay together.
segment_pieces <- function(time) {
  n <- length(time)
  if (n <= segment_rows) {
    return(list(seq_len(n)))
  }
  starts <- if (rises_cpp(time)) seq_len(n)
  else which(c(TRUE, as.numeric(time)[-1] != as.numeric(time)[-n]))
  piece <- (starts - 1L) %/% segment_rows
  split(seq_len(n), rep(piece, diff(c(starts, n + 1L))))
}

sql_insert_segment <- function(store, id, rows, level, thorough) {
  sql_insert_segments(store, id, list(rows), level, thorough)
}

# A segment of each of several series.
sql_insert_segments <- function(store, ids, rows, level = 0L, thorough = FALSE) {
  if (!length(ids)) {
    return(invisible())
  }
  part <- function(f) vapply(rows, function(one) as.numeric(f(one$time)), 0)
  sql_append(store, "segments", list(series = ids, first = part(function(t) t[1]),
    last = part(function(t) t[length(t)]), rows = part(length),
    times = part(different_times_cpp), level = rep(level, length(ids)),
    body = lapply(rows, block_write, thorough)))
}

sql_drop_segments <- function(store, ids) {
  if (length(ids)) {
    sql_do(store, "DELETE FROM segments WHERE id IN @numbers",
      list(json_numbers(ids)))
  }
}

# The rows of segments by their numbers, in their order, with all releases.
sql_segments <- function(store, ids) {
  found <- sql_get(store,
    "SELECT id, series, first, body FROM segments WHERE id IN @numbers",
    list(json_numbers(ids)))
  sql_open_segments(store, found[match(ids, found$id), ], newest = FALSE)$columns
}

sql_open_segments <- function(store, segments, from = -Inf, to = Inf, at = Inf, newest = TRUE) {
  tryCatch(blocks_read(segments$body, from, to, at, newest),
    error = function(e) sql_stop_damaged(store, segments))
}

# A segment whose bytes are not those that were written is found, and is not read as other values.
sql_stop_damaged <- function(store, segments) {
  whole <- vapply(segments$body,
    function(body) !inherits(try(blocks_read(list(body)), silent = TRUE), "try-error"), TRUE)
  bad <- which(!whole)[1]
  series <- sql_get(store, "SELECT source, dataset, key, frequency FROM series WHERE id = ?",
    list(segments$series[bad]))
  what <- paste0("A segment of ", series_address(series),
    " is damaged: its bytes are not those that were written.")
  vetusta_stop("archive", what,
    where = paste0(store$path, ", segment ", segments$id[bad], ", from ",
    format_instant(segments$first[bad])),
    todo = "bring back a copy of the archive, or collect the series into another one")
}
