# Small segments become larger ones: as pages gather, and at the end of a run.

# After so many pages of a series its newest segments are looked at.
sql_gathered <- function(store, id) {
  name <- as.character(id)
  count <- (store$pages[[name]] %||% 0) + 1
  assign(name, count, envir = store$pages)
  if (count %% segment_fan == 0) {
    store_transaction(store, function() sql_settle_newest(store, id))
  }
}

# While the last twelve segments are small and of one level, they become one of the next.
sql_settle_newest <- function(store, id) {
  sql_hold_series(store, id)
  repeat {
    tail <- sql_get(store,
      "SELECT id, rows, level FROM segments WHERE series = ? ORDER BY first DESC LIMIT ?",
      list(id, segment_fan))
    full <- nrow(tail) == segment_fan && all(tail$level == tail$level[1]) &&
      all(tail$rows < segment_whole)
    if (!full) {
      return(invisible())
    }
    sql_join(store, id, rev(tail$id), tail$level[1] + 1L)
  }
}

sql_join <- function(store, id, ids, level) {
  rows <- sql_segments(store, ids)
  sql_drop_segments(store, ids)
  sql_insert_segment(store, id, rows, level, thorough = TRUE)
}

# At the end of a run: of series with several small segments, those that are neighbours are joined.
#' @export
store_settle.vetusta_store_sql <- function(store, series = NULL, whole = segment_whole) {
  # those that were written since they were settled last
  if (is.null(series)) series <- as.numeric(ls(store$pages))
  if (!length(series)) {
    return(invisible())
  }
  rm(list = ls(store$pages), envir = store$pages)
  many <- sql_get(store,
    "SELECT series FROM segments WHERE series IN @numbers
    GROUP BY series HAVING sum(CASE WHEN rows < ? THEN 1 ELSE 0 END) >= ?",
      list(json_numbers(series), whole, settle_least))$series
  for (id in many) {
    store_transaction(store, function() {
      sql_hold_series(store, id)
      all <- sql_get(store, "SELECT id, rows FROM segments WHERE series = ? ORDER BY first",
        list(id))
      for (ids in split(all$id, settle_groups(all$rows, whole))) {
        if (length(ids) > 1) sql_join(store, id, ids, 9L)
      }
    })
  }
}

settle_least <- 5

# Which segments become one, by their rows: small ones side by side, up to the most of a segment.
settle_groups <- function(rows, whole) {
  group <- integer(length(rows))
  at <- 0L
  size <- Inf
  for (i in seq_along(rows)) {
    stays <- rows[i] >= whole
    if (stays || size + rows[i] > segment_rows) {
      at <- at + 1L
      size <- 0
    }
    size <- if (stays) Inf else size + rows[i]
    group[i] <- at
  }
  group
}
