# Bars live in segments: a run of one series' bars as one Parquet value. A page arrives as a small segment; twelve
# neighbours of one size are settled into one of the next, so that each bar is written a few times, however small the pages.

segment_most <- 60000L
segment_fan <- 12L

# Columns that say the same default throughout are left out and come back when the segment is read.
segment_defaults <- list(status = "observed", side = NA_character_, session = NA_character_)

segment_encode <- function(rows) {
  rows <- as.list(rows)
  rows$symbol <- NULL
  for (name in names(segment_defaults)) {
    default <- segment_defaults[[name]]
    if (if (is.na(default)) all(is.na(rows[[name]])) else all(rows[[name]] %in% default)) rows[[name]] <- NULL
  }
  rows <- rows[!vapply(rows, function(column) all(is.na(column)), TRUE)]
  nanoparquet::write_parquet(
    list_frame(rows), ":raw:", compression = "snappy", encoding = "PLAIN",
    options = nanoparquet::parquet_options(write_arrow_metadata = FALSE)
  )
}

segment_decode <- function(body) {
  connection <- rawConnection(body)
  on.exit(close(connection))
  rows <- as.list(nanoparquet::read_parquet(connection))
  n <- length(rows$time)
  rows$time <- utc(whole_micros(as.numeric(rows$time)))
  for (name in c("open", "high", "low", "close", "volume")) rows[[name]] <- rows[[name]] %||% rep(NA_real_, n)
  for (name in names(segment_defaults)) rows[[name]] <- rows[[name]] %||% rep(segment_defaults[[name]], n)
  list_frame(rows[c(setdiff(bars_columns, "symbol"), setdiff(names(rows), bars_columns))])
}

# A segment bears a hash of its bytes: one that was changed outside is found, and is not read as other values.
segment_insert <- function(archive, series, rows, level) {
  rows$time <- utc(whole_micros(as.numeric(rows$time)))
  body <- segment_encode(rows)
  hash <- content_hash(body)
  id <- archive_get(archive, "INSERT INTO segments (series, first, last, rows, level, body, hash) VALUES (?, ?, ?, ?, ?, ?, ?) RETURNING id",
    list(series, as.numeric(rows$time[1]), as.numeric(rows$time[nrow(rows)]), nrow(rows), level, list(body), hash))$id
  # pages that were just written are about to be settled: they are kept at hand by what they hold, so that they cannot be mistaken for others
  if (level == 0L) {
    if (length(archive$fresh) >= 4L * segment_fan) archive$fresh <- list()
    archive$fresh[[hash]] <- rows
  }
  invisible(id)
}

# Within a transaction: those at hand are not read again.
segments_read <- function(archive, ids) {
  if (!length(ids)) {
    return(NULL)
  }
  place <- json_numbers(ids)
  found <- archive_get(archive, "SELECT id, hash FROM segments WHERE id IN (SELECT value FROM json_each(?))", list(place))
  found <- found[match(ids, found$id), ]
  away <- found$id[!found$hash %in% names(archive$fresh)]
  bodies <- if (length(away)) archive_get(archive, "SELECT id, series, first, hash, body FROM segments WHERE id IN (SELECT value FROM json_each(?))", list(json_numbers(away)))
  parts <- lapply(seq_along(ids), function(i) {
    if (found$hash[i] %in% names(archive$fresh)) archive$fresh[[found$hash[i]]] else segment_open(archive, bodies[match(ids[i], bodies$id), ])
  })
  join_rows(parts)
}

json_numbers <- function(x) paste0("[", paste(format(x, scientific = FALSE, trim = TRUE), collapse = ","), "]")

join_rows <- function(parts) if (length(parts) == 1) parts[[1]] else as.data.frame(data.table::rbindlist(parts, use.names = TRUE, fill = TRUE))

# The rows of one segment, whose bytes must be those that were written.
segment_open <- function(archive, segment) {
  body <- segment$body[[1]]
  rows <- if (is.na(segment$hash) || content_hash(body) == segment$hash) tryCatch(segment_decode(body), error = function(e) NULL)
  if (is.null(rows)) {
    series <- archive_get(archive, "SELECT source, symbol, interval FROM series WHERE id = ?", list(segment$series))
    vetusta_stop("archive", paste0("A segment of ", series$symbol, " (", series$interval, ", from ", series$source, ") is damaged: its bytes are not those that were written."),
      where = paste0(archive$path, ", segment ", segment$id, ", from ", format_instant(segment$first)), todo = "bring back a copy of the archive, or collect the series into another one")
  }
  rows
}

segments_drop <- function(archive, ids) {
  hashes <- archive_get(archive, "SELECT hash FROM segments WHERE id IN (SELECT value FROM json_each(?))", list(json_numbers(ids)))$hash
  archive_do(archive, "DELETE FROM segments WHERE id IN (SELECT value FROM json_each(?))", list(json_numbers(ids)))
  archive$fresh[hashes] <- NULL
}

# Settles the newest segments of a series: while the last twelve are of one level, they become one of the next.
segments_settle <- function(archive, series, tail = segments_tail(archive, series)) {
  while (nrow(tail) == segment_fan && all(tail$level == tail$level[1]) && sum(tail$rows) <= segment_most * 1.5) {
    segments_join(archive, series, rev(tail$id), tail$level[1] + 1L)
    tail <- segments_tail(archive, series)
  }
}

# The newest segments of a series, newest first.
segments_tail <- function(archive, series) {
  archive_get(archive, "SELECT id, last, rows, level FROM segments WHERE series = ? ORDER BY first DESC LIMIT ?", list(series, segment_fan))
}

segments_join <- function(archive, series, ids, level) {
  rows <- segments_read(archive, ids)
  segments_drop(archive, ids)
  segment_insert(archive, series, rows, level)
}

# At the end of a run: neighbours are joined as long as they stay within the size of a segment.
archive_settle <- function(archive, series) {
  in_transaction(archive, function() {
    all <- archive_get(archive, "SELECT id, rows FROM segments WHERE series = ? ORDER BY first", list(series))
    if (nrow(all) < 2) {
      return(invisible())
    }
    group <- settle_groups(all$rows)
    for (ids in split(all$id, group)) {
      if (length(ids) > 1) segments_join(archive, series, ids, 9L)
    }
  })
}

settle_groups <- function(rows) {
  group <- integer(length(rows))
  at <- 1L
  size <- 0
  for (i in seq_along(rows)) {
    if (size > 0 && size + rows[i] > segment_most) {
      at <- at + 1L
      size <- 0
    }
    size <- size + rows[i]
    group[i] <- at
  }
  group
}
