# Writing rows to the column store and reading them together with the
# catalogue's.

# Times in a column store are whole numbers; rows without a stated instant have
# this one, before all others.
before_all <- -9e9

instants_or_first <- function(rows) {
  known <- as.double(rows$known %||% rep(NA_real_, length(rows$time)))
  known[is.na(known)] <- before_all
  known
}

# The columns of rows by their names there, other than the times.
columns_values <- function(rows) {
  others <- rows[setdiff(names(rows), time_columns)]
  names(others) <- as.character(mapply(columns_name, names(others), others))
  lapply(others, function(column) {
    if (is.character(column)) {
      column
    } else if (is.factor(column)) {
      as.character(column)
    } else {
      as.double(column)
    }
  })
}

# Rows of several series, in one insert. `of` are the series numbers; `wide` is
# 1 for days and longer, which do not fill a month.
columns_insert <- function(columns, shape, of, rows, stamp,
                           wide = rep(0, length(of))) {
  values <- columns_values(rows)
  all <- c(
    list(
      series = as.double(of),
      time = as.double(rows$time),
      known = instants_or_first(rows),
      stamp = rep(stamp, length(of)),
      wide = wide
    ),
    values
  )
  columns_prepare(columns, shape, names(values))
  types <- c(
    "UInt32", "Int64", "Int64", "UInt64", "UInt8",
    vapply(names(values), columns_type, "")
  )
  body <- native_write_cpp(unname(all), names(all), types)
  columns_send(
    columns,
    paste0(
      "INSERT INTO ", columns_table(columns, shape), " (",
      paste(names(all), collapse = ", "), ") FORMAT Native"
    ),
    body,
    settings = columns_settings(columns)
  )
  columns_spread(columns, shape)
}

# Waits until rows are on every replica, before the catalogue releases them:
# each replica may be read, or lost.
columns_spread <- function(columns, shape) {
  if (is.null(columns$cluster)) {
    return(invisible())
  }
  if (is.null(columns$replicated[[shape]])) {
    engines <- columns_get(
      columns, "SELECT engine FROM system.tables WHERE database = '",
      columns$database, "' AND name = '", shape, "_", columns$key, "'"
    )$engine
    columns$replicated[[shape]] <-
      any(startsWith(as.character(engines), "Replicated"))
  }
  if (columns$replicated[[shape]]) {
    for (server in columns$servers) {
      columns_do(
        columns,
        paste("SYSTEM SYNC REPLICA", columns_table(columns, shape, FALSE)),
        server
      )
    }
  }
}

# An insert is acknowledged when it is stored on every shard.
columns_settings <- function(columns) {
  c(
    if (!is.null(columns$cluster)) list(insert_distributed_sync = 1),
    # newer servers refuse inserts over many months
    if (columns$version[1] > 18) list(max_partitions_per_insert_block = 0)
  )
}

# Rows that were moved and no longer exist are an error, never silently missing.
columns_lost <- function(columns, how) {
  vetusta_stop(
    "archive",
    paste0("The column store has fewer rows than went there: ", how, "."),
    where = columns$uri,
    todo = paste0(
      "look whether all its servers have their data; ",
      "`vetusta archive repair` shows what can be put back"
    )
  )
}

# Rows of series within a window: list(series, columns), in order of series,
# `time` and `known`.
columns_read <- function(columns, shape, series, from = -Inf, to = Inf,
                         at = Inf, newest = TRUE) {
  # all columns, because another process may have added some; rows are sorted
  # here, because a column store takes longer to sort than to send
  got <- columns_get(
    columns, "SELECT * FROM ", columns_table(columns, shape), " WHERE ",
    columns_where(series, from, to, at)
  )
  counts <- columns_counting(got, newest)
  rows <- columns_back(got[setdiff(names(got), c("series", "stamp", "wide"))])
  if (!is.null(counts)) rows <- lapply(rows, `[`, counts)
  rows$time <- utc(as.numeric(rows$time))
  known <- as.numeric(rows$known)
  known[known == before_all] <- NA
  rows$known <- utc(known)
  list(
    series = if (is.null(counts)) {
      as.numeric(got$series)
    } else {
      got$series[counts]
    },
    columns = rows
  )
}

micros_text <- function(x) sprintf("%.0f", x * 1e6)

columns_times <- function(from, to) {
  paste("time >=", micros_text(from), "AND time <", micros_text(to))
}

# The condition for rows of series within a window, known at an instant, and
# outside another window.
columns_where <- function(series, from = -Inf, to = Inf, at = Inf,
                          without = c(Inf, Inf)) {
  micros <- micros_text
  edges <- c(
    if (is.finite(without[1])) paste("time <", micros(without[1])),
    if (is.finite(without[2])) paste("time >=", micros(without[2]))
  )
  paste(
    c(
      paste0(
        "series IN (", paste(sprintf("%.0f", series), collapse = ","), ")"
      ),
      if (is.finite(from)) paste("time >=", micros(from)),
      if (is.finite(to)) paste("time <", micros(to)),
      if (is.finite(at)) paste("known <=", micros(at)),
      if (length(edges)) paste0("(", paste(edges, collapse = " OR "), ")")
    ),
    collapse = " AND "
  )
}

# The rows that count, in order of series, `time` and `known`: the newest of
# each time (or all releases on request), and of a row written twice the later
# one. NULL where all of them count, as they are.
columns_counting <- function(got, newest) {
  n <- length(got$time)
  if (n < 2) {
    return(NULL)
  }
  a <- -n
  same <- got$series[-1] == got$series[a]
  if (all(
    (same & got$time[-1] > got$time[a]) | got$series[-1] > got$series[a]
  )) {
    return(NULL)
  }
  order <- order(got$series, got$time, got$known, got$stamp, method = "radix")
  key <- lapply(got[c("series", "time", if (!newest) "known")], `[`, order)
  last <- Reduce(`|`, lapply(key, function(part) part[-1] != part[-n]))
  order[c(last, TRUE)]
}

#' @export
store_read.vetusta_store_columns <- function(store, series, from = -Inf,
                                             to = Inf, at = Inf,
                                             newest = TRUE) {
  moved <- sql_get(
    store,
    "SELECT m.series, s.shape, m.first, m.last, m.times FROM moved m
    JOIN series s ON s.id = m.series WHERE m.series IN @numbers AND m.first < ?
    AND m.last >= ?",
    list(json_numbers(series), to, from)
  )
  if (!nrow(moved)) {
    return(NextMethod())
  }
  columns_note(store)
  here <- sql_get(
    store,
    "SELECT DISTINCT series FROM segments WHERE series IN @numbers AND
    first < ? AND last >= ?",
    list(json_numbers(series), to, from)
  )$series
  parts <- lapply(split(moved$series, moved$shape), function(ids) {
    # series stored in both places need all releases
    lapply(split(ids, ids %in% here), function(some) {
      got <- columns_read(
        store$columns, moved$shape[match(some[1], moved$series)], some, from,
        to, at, newest && !some[1] %in% here
      )
      columns_check_read(
        store$columns, moved[moved$series %in% some, ], got, from, to, at
      )
      got
    })
  })
  parts <- unlist(unname(lapply(parts, unname)), recursive = FALSE)
  if (length(here)) {
    both <- here %in% moved$series
    for (some in split(here, both)) {
      local <- store_read.vetusta_store_sql(
        store, some, from, to, at, newest && !some[1] %in% moved$series
      )
      parts[[length(parts) + 1]] <-
        list(series = rep(some, local$rows), columns = local$columns)
    }
  }
  columns_together(parts, series, newest, intersect(here, moved$series))
}

# Series that are read as a whole must have as many times as were moved.
columns_check_read <- function(columns, went, got, from, to, at) {
  whole <- went$first >= from & went$last < to & is.infinite(at)
  if (!any(whole)) {
    return(invisible())
  }
  time <- as.numeric(got$columns$time)
  n <- length(time)
  # releases of one time are adjacent
  first <- if (n) {
    c(TRUE, time[-1] != time[-n] | got$series[-1] != got$series[-n])
  }
  came <- tabulate(match(got$series[first], went$series), nrow(went))
  if (any(came[whole] < went$times[whole])) {
    columns_lost(
      columns,
      paste(
        thousands(sum(went$times[whole])), "times went there, and",
        thousands(sum(came[whole])), "are found"
      )
    )
  }
}

# Parts combined as a store returns them; rows of `mixed` series are merged from
# several parts.
columns_together <- function(parts, series, newest, mixed) {
  of <- unlist(lapply(parts, `[[`, "series"))
  rows <- if (length(parts) == 1) {
    parts[[1]]$columns
  } else {
    as.list(
      suppressWarnings(
        data.table::rbindlist(
          lapply(parts, `[[`, "columns"),
          use.names = TRUE, fill = TRUE
        )
      )
    )
  }
  place <- match(of, series)
  time <- as.numeric(rows$time)
  known <- known_order(rows$known)
  order <- order(place, time, known, method = "radix")
  keep <- rep(TRUE, length(order))
  if (length(mixed)) {
    n <- length(order)
    a <- order[-n]
    b <- order[-1]
    # the catalogue's rows are later and take precedence
    same <- place[a] == place[b] &
      time[a] == time[b] &
      (newest | known[a] == known[b])
    keep <- c(!same, TRUE)[seq_len(n)]
  }
  order <- order[keep]
  list(
    columns = lapply(rows, `[`, order),
    rows = tabulate(place[order], length(series))
  )
}

# A table's bytes are divided among its series by their rows.
#' @export
moved_bytes.vetusta_store_columns <- function(store, away) {
  each <- vapply(unique(away$shape), function(shape) {
    columns_row_bytes(store$columns, shape)
  }, 0)
  round(away$rows * unname(each[away$shape]))
}

# The bytes of a row on average, asked once a minute, because every search for
# series wants them; NA where the store is away.
columns_row_bytes <- function(columns, shape) {
  last <- columns$row_bytes[[shape]]
  if (!is.null(last) && now_seconds() < last$at + 60) {
    return(last$bytes)
  }
  parts <- tryCatch(
    lapply(columns$servers, function(server) {
      columns_get(
        columns, "SELECT toFloat64(sum(bytes_on_disk)) AS bytes, ",
        "toFloat64(sum(rows)) AS rows FROM system.parts WHERE active AND ",
        "database = '", columns$database, "' AND table = '", shape, "_",
        columns$key, "'",
        server = server
      )
    }),
    vetusta_error_archive = function(e) NULL
  )
  sum_of <- function(name) sum(vapply(parts, `[[`, 0, name))
  bytes <- if (length(parts) && sum_of("rows") > 0) {
    sum_of("bytes") / sum_of("rows")
  } else {
    NA_real_
  }
  columns$row_bytes[[shape]] <- list(at = now_seconds(), bytes = bytes)
  bytes
}

# Rows of one series in the column store within a range, or NULL: a page is
# compared with them.
#' @export
sql_moved_rows.vetusta_store_columns <- function(store, id, first, last) {
  shapes <- sql_get(
    store,
    "SELECT s.shape FROM moved m JOIN series s ON s.id = m.series
    WHERE m.series = ? AND m.first <= ? AND m.last >= ?",
    list(id, last, first)
  )
  if (nrow(shapes)) {
    rows <- columns_read(
      store$columns, shapes$shape, id, first, last + 1e-6,
      newest = FALSE
    )$columns
    if (length(rows$time)) rows
  }
}

# Rows of series that are stored in two places: here, and in a column store.

# Combines rows stored elsewhere with those stored here; unchanged ones are not
# written again. Of a row stored in both places, the one here counts.
with_moved <- function(old, away) {
  if (is.null(away)) {
    return(old)
  }
  if (length(old$time)) {
    there <- match_pairs(
      as.numeric(away$time), as.numeric(away$known),
      as.numeric(old$time), as.numeric(old$known)
    )
    away <- lapply(away, `[`, is.na(there))
  }
  away$.moved <- rep(TRUE, length(away$time))
  all <- as.list(
    data.table::rbindlist(list(old, away), use.names = TRUE, fill = TRUE)
  )
  order <- order(as.numeric(all$time), known_order(all$known), method = "radix")
  lapply(all, `[`, order)
}

without_moved <- function(rows) {
  moved <- rows$.moved
  if (is.null(moved)) {
    return(rows)
  }
  rows$.moved <- NULL
  lapply(rows, `[`, is.na(moved))
}

# Sizes of series stored in two places.
sizes_together <- function(here, away) {
  both <- match(away$id, here$id)
  at <- both[!is.na(both)]
  more <- away[!is.na(both), ]
  here$rows[at] <- here$rows[at] + more$rows
  if (length(here$bytes)) here$bytes[at] <- here$bytes[at] + more$bytes
  here$first[at] <- pmin(here$first[at], more$first)
  here$last[at] <- pmax(here$last[at], more$last)
  all <- rbind(here, away[is.na(both), ])
  all <- all[
    order(all$source, all$dataset, all$key, all$frequency, method = "radix"),
  ]
  row.names(all) <- NULL
  all
}

# A process that opened the archive before rows were moved does not know where
# they are, so it must not return part of them.
sql_none_moved <- function(store, series) {
  if (is.null(store$columns) &&
    nrow(
      sql_get(
        store, "SELECT series FROM moved WHERE series IN @numbers LIMIT 1",
        list(json_numbers(series))
      )
    )) {
    vetusta_stop(
      "archive",
      "Rows moved to a column store since the archive was opened.",
      where = store$path, todo = "open the archive again"
    )
  }
}
