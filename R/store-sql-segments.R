# Segments: writing, removing and reading the rows of a series in blocks.

# Parts of at most a segment's rows; the releases of one time stay together.
segment_pieces <- function(time) {
  n <- length(time)
  if (n <= segment_rows) {
    return(list(seq_len(n)))
  }
  starts <- if (rises_cpp(time)) {
    seq_len(n)
  } else {
    which(c(TRUE, as.numeric(time)[-1] != as.numeric(time)[-n]))
  }
  piece <- (starts - 1L) %/% segment_rows
  split(seq_len(n), rep(piece, diff(c(starts, n + 1L))))
}

sql_insert_segment <- function(store, id, rows, level, thorough) {
  sql_insert_segments(store, id, list(rows), level, thorough)
}

# Writes a segment of each of several series.
sql_insert_segments <- function(store, ids, rows, level = 0L,
                                thorough = FALSE) {
  if (!length(ids)) {
    return(invisible())
  }
  part <- function(f) vapply(rows, function(table) as.numeric(f(table$time)), 0)
  sql_append(
    store, "segments",
    list(
      series = ids,
      first = part(function(t) t[1]),
      last = part(function(t) t[length(t)]),
      rows = part(length),
      times = part(different_times_cpp),
      level = rep(level, length(ids)),
      body = lapply(rows, block_write, thorough)
    )
  )
}

sql_drop_segments <- function(store, ids) {
  if (length(ids)) {
    sql_do(
      store, "DELETE FROM segments WHERE id IN @numbers",
      list(json_numbers(ids))
    )
  }
}

# The rows of segments by number, in their order, with all releases.
sql_segments <- function(store, ids) {
  segments <- sql_get(
    store, "SELECT id, series, first, body FROM segments WHERE id IN @numbers",
    list(json_numbers(ids))
  )
  sql_open_segments(
    store, segments[match(ids, segments$id), ],
    newest = FALSE
  )$columns
}

sql_open_segments <- function(store, segments, from = -Inf, to = Inf, at = Inf,
                              newest = TRUE) {
  tryCatch(
    blocks_read(segments$body, from, to, at, newest),
    error = function(e) sql_stop_damaged(store, segments)
  )
}

# A segment with changed bytes is an error and never read as other values.
sql_stop_damaged <- function(store, segments) {
  whole <- vapply(
    segments$body,
    function(body) {
      !inherits(try(blocks_read(list(body)), silent = TRUE), "try-error")
    },
    TRUE
  )
  bad <- which(!whole)[1]
  series <- sql_get(
    store, "SELECT source, dataset, key, frequency FROM series WHERE id = ?",
    list(segments$series[bad])
  )
  what <- paste0(
    "A segment of ", series_id(series),
    " is damaged: its bytes are not those that were written."
  )
  vetusta_stop(
    "archive",
    what,
    where = paste0(
      store$path, ", segment ", segments$id[bad], ", from ",
      format_instant(segments$first[bad])
    ),
    todo = paste0(
      "restore a backup of the archive, or collect the series into ",
      "a new one"
    )
  )
}

# Blocks: columns as bytes (docs/blocks.md).

# Columns of numbers, instants, days, texts and flags; a column without values
# is left out. Similar columns, such as the prices of a bar, are smaller when
# the leading one comes first.
block_write <- function(columns, thorough = TRUE) {
  lead <- intersect(
    c("time", "known", "close", "open", "high", "low"), names(columns)
  )
  columns <- columns[c(lead, setdiff(names(columns), lead))]
  present <- vapply(
    columns, function(column) !anyNA(column) || !all(is.na(column)), TRUE
  )
  present[names(columns) == "time"] <- TRUE
  columns <- lapply(columns[present], function(column) {
    if (is.double(column) || is.character(column) || is.logical(column)) {
      column
    } else {
      plain_column(column)
    }
  })
  block_write_cpp(columns, thorough)
}

plain_column <- function(column) {
  if (!is.integer(column) || is.factor(column)) {
    return(as.character(column))
  }
  # keeps the class
  storage.mode(column) <- "double"
  column
}

# The rows of blocks in sequence: list(columns, rows), with the number of rows
# of each block. `from` and `to` bound the column `time`, `at` bounds `known`;
# with `newest` the last of several rows with one time is returned.
blocks_read <- function(bodies, from = -Inf, to = Inf, at = Inf,
                        newest = FALSE) {
  blocks_read_cpp(bodies, from, to, at, newest) %||%
    blocks_mixed(bodies, from, to, at, newest)
}

# A column with different types in different blocks is text.
blocks_mixed <- function(bodies, from, to, at, newest) {
  parts <- lapply(
    bodies,
    function(body) blocks_read_cpp(list(body), from, to, at, newest)$columns
  )
  types <- lapply(
    parts, function(part) Filter(Negate(is.null), lapply(part, value_type))
  )
  each <- split(unlist(types), names(unlist(types)))
  mixed <- names(
    each
  )[vapply(each, function(type) length(unique(type)) > 1, TRUE)]
  parts <- lapply(parts, function(part) {
    for (name in intersect(mixed, names(part))) {
      part[[name]] <- as_text(part[[name]])
    }
    part
  })
  columns <- as.list(
    data.table::rbindlist(parts, use.names = TRUE, fill = TRUE)
  )
  list(
    columns = columns,
    rows = vapply(parts, function(part) length(part[[1]]), 1L)
  )
}

# Small segments are joined into larger ones: while pages gather, and at the end
# of a run.

# After a number of pages of a series its newest segments are examined; `ids`
# is evaluated only then.
sql_gathered <- function(store, names, ids) {
  for (i in seq_along(names)) {
    count <- (store$pages[[names[i]]] %||% 0) + 1
    assign(names[i], count, envir = store$pages)
    if (count %% segment_fan == 0) {
      store_transaction(store, function() sql_settle_newest(store, ids[i]))
    }
  }
}

# Joins the last twelve segments while they are small and of one level.
sql_settle_newest <- function(store, id) {
  sql_hold_series(store, id)
  repeat {
    tail <- sql_get(
      store,
      "SELECT id, rows, level FROM segments WHERE series = ? ORDER BY first
        DESC LIMIT ?",
      list(id, segment_fan)
    )
    full <- nrow(tail) == segment_fan &&
      all(tail$level == tail$level[1]) &&
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

# At the end of a run: joins neighbouring small segments of series with several.
#' @export
store_settle.vetusta_store_sql <- function(store, series = NULL,
                                           whole = segment_whole) {
  # those written since the last settling
  if (is.null(series)) series <- sql_written(store)
  if (!length(series)) {
    return(invisible())
  }
  rm(list = ls(store$pages), envir = store$pages)
  many <- sql_get(
    store,
    "SELECT series FROM segments WHERE series IN @numbers
    GROUP BY series HAVING sum(CASE WHEN rows < ? THEN 1 ELSE 0 END) >= ?",
    list(json_numbers(series), whole, settle_least)
  )$series
  for (id in many) {
    store_transaction(store, function() {
      sql_hold_series(store, id)
      all <- sql_get(
        store, "SELECT id, rows FROM segments WHERE series = ? ORDER BY first",
        list(id)
      )
      for (ids in split(all$id, settle_groups(all$rows, whole))) {
        if (length(ids) > 1) sql_join(store, id, ids, 9L)
      }
    })
  }
}

# The numbers of the series that were written since the last settling.
sql_written <- function(store) {
  names <- ls(store$pages)
  ids <- sql_known_ids(store, names)
  parts <- data.table::tstrsplit(names[is.na(ids)], "\r", fixed = TRUE)
  away <- list()
  if (length(parts)) {
    place <- unique(paste(parts[[1]], parts[[2]], sep = "\r"))
    away <- lapply(strsplit(place, "\r", fixed = TRUE), function(of) {
      matching <- parts[[1]] == of[1] & parts[[2]] == of[2]
      sql_get(
        store,
        "SELECT id FROM series WHERE source = ? AND dataset = ? AND key IN
          @texts",
        list(of[1], of[2], json_array(unique(parts[[3]][matching])))
      )$id
    })
  }
  unique(c(ids[!is.na(ids)], unlist(away)))
}

settle_least <- 5

# Groups of segments to join, by rows: adjacent small ones, up to the size of a
# segment.
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
