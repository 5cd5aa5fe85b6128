# Moving segments from the catalogue to the column store, their record, and its
# check.

#' @export
store_settle.vetusta_store_columns <- function(store, series = NULL,
                                               whole = segment_whole) {
  gathered <- sql_get(
    store, "SELECT coalesce(sum(1.0 * rows), 0) AS n FROM segments"
  )$n
  if (gathered < columns_gather) {
    return(NextMethod())
  }
  # a segment that cannot be moved now is moved later, and read from the
  # catalogue until then
  tryCatch(columns_shift(store), vetusta_error_archive = function(e) {
    warning(e$what, " ", e$todo, call. = FALSE)
  })
  invisible()
}

#' @export
store_compact.vetusta_store_columns <- function(store) {
  columns_shift(store)
  sums_take(store)
  for (shape in columns_shapes(store)) {
    for (server in store$columns$servers) {
      columns_do(
        store$columns,
        paste("OPTIMIZE TABLE", columns_table(store$columns, shape, FALSE)),
        server
      )
    }
  }
  NextMethod()
}

columns_shapes <- function(store) {
  sql_get(
    store,
    "SELECT DISTINCT s.shape FROM moved m JOIN series s ON s.id = m.series"
  )$shape
}

# Moves all segments, a batch of one shape at a time; only one process does so.
columns_shift <- function(store) {
  if (store_claim(store, "columns", Inf) != "ours") {
    return(invisible())
  }
  on.exit(try(store_claims_release(store, "columns"), silent = TRUE))
  columns_note(store)
  repeat {
    segments <- sql_get(
      store,
      "SELECT g.id, g.series, s.shape, s.frequency, g.rows FROM segments g
      JOIN series s ON s.id = g.series ORDER BY s.shape, g.series,
      g.first LIMIT 20000"
    )
    segments <- datasets_of_shape(segments, segments$shape[1])
    before <- cumsum(segments$rows) - segments$rows
    segments <- segments[before < columns_batch, ]
    if (!nrow(segments)) {
      return(invisible())
    }
    columns_shift_batch(store, segments)
  }
}

columns_shift_batch <- function(store, segments) {
  read <- sql_get(
    store,
    "SELECT id, series, first, last, times, body FROM segments WHERE
    id IN @numbers",
    list(json_numbers(segments$id))
  )
  read <- read[match(segments$id, read$id), ]
  read <- read[!is.na(read$id), ]
  rows <- sql_open_segments(store, read, newest = FALSE)
  wide <- is_wide(segments$frequency[match(read$series, segments$series)])
  of <- rep(read$series, rows$rows)
  wide <- rep(wide, rows$rows)
  sums <- sums_begin(store, segments$shape[1], of, rows$columns, wide)
  columns_insert(
    store$columns, segments$shape[1], of, rows$columns,
    floor(store_now(store) * 1e6), wide
  )
  store_beat(store, "rows into the column store")
  # where rows overlap stored ones, their times are counted there
  counted <- moved_count(store, segments$shape[1], moved_over(store, read))
  store_transaction(store, function() {
    for (id in unique(read$series)) sql_hold_series(store, id)
    # segments that another process has rewritten meanwhile are moved later
    left <- sql_get(
      store, "SELECT id FROM segments WHERE id IN @numbers",
      list(json_numbers(read$id))
    )$id
    gone <- read[read$id %in% left, ]
    sql_drop_segments(store, gone$id)
    moved_note(store, gone, counted)
    sums_end(
      store, sums, setdiff(gone$series, read$series[!read$id %in% left])
    )
  })
}

# Records what is stored there: a count for series that were counted, an
# increase for others.
moved_note <- function(store, gone, counted) {
  if (!nrow(gone)) {
    return(invisible())
  }
  each <- function(x, f) {
    as.numeric(tapply(x, factor(gone$series, unique(gone$series)), f))
  }
  ids <- unique(gone$series)
  sql_do(
    store,
    "INSERT INTO moved (series, first, last, times) VALUES (?, ?, ?, ?)
    ON CONFLICT (series) DO UPDATE SET
      first = CASE WHEN excluded.first < moved.first THEN excluded.first ELSE
      moved.first END, last = CASE WHEN excluded.last > moved.last THEN
      excluded.last ELSE moved.last END, times = moved.times + excluded.times",
    list(
      ids, each(gone$first, min), each(gone$last, max), each(gone$times, sum)
    )
  )
  at <- counted$series %in% ids
  if (any(at)) {
    sql_do(
      store, "UPDATE moved SET times = ? WHERE series = ?",
      list(counted$times[at], counted$series[at])
    )
  }
}

# Series with rows that overlap stored ones.
moved_over <- function(store, read) {
  ids <- unique(read$series)
  ranges <- sql_get(
    store, "SELECT series, first, last FROM moved WHERE series IN @numbers",
    list(json_numbers(ids))
  )
  at <- match(read$series, ranges$series)
  unique(
    read$series[
      !is.na(at) & read$first <= ranges$last[at] & read$last >= ranges$first[at]
    ]
  )
}

moved_count <- function(store, shape, ids) {
  parts <- lapply(split(ids, (seq_along(ids) - 1) %/% 5000), function(some) {
    counts <- columns_get(
      store$columns, "SELECT series, uniqExact(time) AS times FROM ",
      columns_table(store$columns, shape), " WHERE series IN (",
      paste(sprintf("%.0f", some), collapse = ","), ") GROUP BY series"
    )
    list_frame(
      list(series = as.numeric(counts$series), times = as.numeric(counts$times))
    )
  })
  do.call(
    rbind,
    c(
      list(list_frame(list(series = numeric(), times = numeric()))),
      unname(parts)
    )
  )
}

# The catalogue records what the column store has of each series, and a count
# there must agree.
#' @export
sql_check_more.vetusta_store_columns <- function(store, add) {
  against <- sums_against(store) %||%
    data.frame(series = numeric(), part = numeric())
  for (shape in columns_shapes(store)) {
    moved <- sql_get(
      store,
      "SELECT m.series, m.first, m.last, m.times, s.source, s.dataset, s.key,
      s.frequency FROM moved m JOIN series s ON s.id = m.series WHERE s.shape =
      ?",
      list(shape)
    )
    counts <- columns_get(
      store$columns,
      "SELECT series, uniqExact(time) AS times, min(time) AS first, ",
      "max(time) AS last FROM ", columns_table(store$columns, shape),
      " GROUP BY series"
    )
    at <- match(moved$series, counts$series)
    lost <- is.na(at) |
      counts$times[at] < moved$times |
      counts$first[at] > moved$first |
      counts$last[at] < moved$last
    lost[is.na(lost)] <- TRUE
    # those with checksums are told below, with their months
    lost <- lost & !moved$series %in% against$series
    add(
      "column", series_id(moved[lost, ]),
      "has fewer rows in the column store than went there", TRUE
    )
    named <- against[against$series %in% moved$series, ]
    add(
      "column", series_id(moved[match(named$series, moved$series), ]),
      sums_finding(named), TRUE
    )
  }
}

#' @export
copy_moved.vetusta_store_columns <- function(from, to, state, show) {
  ids <- sql_get(
    from, "SELECT series FROM moved WHERE series > ? ORDER BY series",
    list(as.numeric(state$moved %||% 0))
  )$series
  store_transaction(to, function() sql_numbers_go_on(to))
  for (i in seq_along(ids)) {
    rows <- store_read(from, ids[i], newest = FALSE)$columns
    store_transaction(to, function() {
      # with its earlier segments
      sql_do(to, "DELETE FROM segments WHERE series = ?", list(ids[i]))
      for (at in segment_pieces(rows$time)) {
        sql_insert_segment(
          to, ids[i], lapply(rows, `[`, at), 9L,
          thorough = TRUE
        )
      }
      state$moved <<- ids[i]
      copy_note(to, state)
    })
    show(i, length(ids))
  }
  TRUE
}

#' @export
store_again.vetusta_store_columns <- function(store) {
  again <- NextMethod()
  again$columns <- store$columns
  class(again) <- c("vetusta_store_columns", class(again))
  again
}

# A copy in a file has all rows.
#' @export
store_copy.vetusta_store_columns <- function(store, file) {
  copy_to_file(store, file)
}
