# Stretches of series whose rows are damaged, and their removal before a repair.

# A data frame of series (its number), from, to (seconds, `to` excluded), why,
# and rows and hash: of the rows as they were, where that is known.
store_damaged <- function(store) UseMethod("store_damaged")

#' @export
store_damaged.vetusta_store_sql <- function(store) {
  last <- 0
  out <- list(no_damage)
  repeat {
    some <- sql_get(
      store,
      "SELECT id, series, first, last, rows, body FROM segments WHERE id > ?
      ORDER BY id LIMIT 200",
      list(last)
    )
    if (!nrow(some)) break
    last <- max(some$id)
    for (i in seq_len(nrow(some))) {
      time <- tryCatch(
        as.numeric(blocks_read(some$body[i], newest = FALSE)$columns$time),
        error = function(e) NULL
      )
      if (length(time) == some$rows[i] && length(time) &&
        time[1] == some$first[i] && time[length(time)] == some$last[i]) {
        next
      }
      # services take whole seconds
      out[[length(out) + 1]] <- data.frame(
        series = some$series[i], from = floor(some$first[i]),
        to = floor(some$last[i]) + 1, why = "damaged",
        rows = as.numeric(some$rows[i]), hash = NA_character_
      )
    }
  }
  do.call(rbind, out)
}

no_damage <- data.frame(
  series = numeric(), from = numeric(), to = numeric(), why = character(),
  rows = numeric(), hash = character()
)

#' @export
store_damaged.vetusta_store_columns <- function(store) {
  here <- NextMethod()
  against <- sums_against(store)
  if (!NROW(against)) {
    return(here)
  }
  bounds <- part_bounds(against$part, against$wide)
  kept <- sums_kept(store, unique(against$series))
  at <- match_pairs(against$series, against$part, kept$series, kept$part)
  rbind(here, data.frame(
    series = against$series, from = bounds$from, to = bounds$to,
    why = against$why, rows = against$rows,
    hash = ifelse(is.na(at), "0", kept$hash[at])
  ))
}

# The rows of a stretch, as far as they can be read.
store_found <- function(store, series, from, to) UseMethod("store_found")

#' @export
store_found.vetusta_store_sql <- function(store, series, from, to) {
  tryCatch(
    store_read(store, series$id, from, to, newest = FALSE)$columns,
    vetusta_error_archive = function(e) NULL
  )
}

#' @export
store_found.vetusta_store_columns <- function(store, series, from, to) {
  here <- NextMethod()
  if (length(here) || !length(columns_present(store$columns, series$shape))) {
    return(here)
  }
  # other than when it is read, fewer rows than went there are no error
  columns_read(
    store$columns, series$shape, series$id, from, to,
    newest = FALSE
  )$columns
}

# The rows of a stretch as the store counts them: list(rows, hash).
store_stretch_sum <- function(store, series, from, to) {
  read <- store_read(store, series$id, from, to, newest = FALSE)
  wide <- is_wide(series$frequency)
  sums <- rows_sums(
    rep(series$id, read$rows), read$columns, rep(wide, sum(read$rows))
  )
  list(
    rows = sum(sums$rows),
    hash = Reduce(
      function(x, y) sums_joined_cpp(x, y, FALSE), sums$hash, "0"
    )
  )
}

# Removes the rows of a series from a stretch, and its coverage.
store_cut <- function(store, series, from, to) UseMethod("store_cut")

#' @export
store_cut.vetusta_store_sql <- function(store, series, from, to) {
  store_transaction(store, function() {
    sql_hold_series(store, series$id)
    segments <- sql_get(
      store,
      "SELECT id, body FROM segments WHERE series = ? AND first < ? AND
      last >= ?",
      list(series$id, to, from)
    )
    for (i in seq_len(nrow(segments))) {
      # of a damaged segment no row can be kept
      rows <- tryCatch(
        blocks_read(segments$body[i], newest = FALSE)$columns,
        error = function(e) NULL
      )
      sql_drop_segments(store, segments$id[i])
      time <- as.numeric(rows$time)
      for (side in list(time < from, time >= to)) {
        if (any(side)) {
          sql_insert_segments(
            store, series$id, list(lapply(rows, `[`, side))
          )
        }
      }
    }
    sql_uncover(store, series, from, to)
  })
}

# Takes a stretch out of the coverage of a series.
sql_uncover <- function(store, series, from, to) {
  keys <- covered_keys(store, series)
  ranges <- store_covered(store, series$source, series$dataset, keys)
  ranges <- ranges[
    ranges$key %in% keys & ranges$start < to & ranges$end > from,
  ]
  place <- list(series$source, series$dataset)
  for (i in seq_len(nrow(ranges))) {
    one <- ranges[i, ]
    sql_do(
      store,
      "DELETE FROM coverage WHERE source = ? AND dataset = ? AND key = ? AND
      start = ?",
      c(place, one$key, one$start)
    )
    for (left in list(c(one$start, from), c(to, one$end))) {
      if (left[1] < left[2]) {
        sql_do(
          store,
          "INSERT INTO coverage (source, dataset, key, start, \"end\") VALUES
          (?, ?, ?, ?, ?)",
          c(place, one$key, left)
        )
      }
    }
  }
}

#' @export
store_cut.vetusta_store_columns <- function(store, series, from, to) {
  columns <- store$columns
  if (length(columns_present(columns, series$shape))) {
    columns_delete(
      columns, series$shape, columns_where(series$id, from, to)
    )
    counted <- columns_get(
      columns, "SELECT uniqExact(time) AS times, min(time) AS first, ",
      "max(time) AS last FROM ", columns_table(columns, series$shape),
      " WHERE series = ", micros_text(series$id / 1e6)
    )
    if (isTRUE(counted$times > 0)) {
      sql_do(
        store,
        "UPDATE moved SET times = ?, first = ?, last = ? WHERE series = ?",
        list(counted$times, counted$first, counted$last, series$id)
      )
    } else {
      sql_do(store, "DELETE FROM moved WHERE series = ?", list(series$id))
    }
    wide <- is_wide(series$frequency)
    sql_do(
      store, "DELETE FROM checksums WHERE series = ? AND part BETWEEN ? AND ?",
      list(series$id, part_of_time(from, wide), part_of_time(to - 1e-6, wide))
    )
  }
  NextMethod()
}
