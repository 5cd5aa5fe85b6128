# Removal of rows from a store in SQL, with all records that refer to them.

#' @export
store_drop.vetusta_store_sql <- function(store, series, datasets) {
  store_transaction(store, function() {
    if (NROW(series)) sql_drop_series(store, series)
    for (i in seq_len(NROW(datasets))) {
      place <- list(datasets$source[i], datasets$dataset[i])
      for (table in c("records", "frames", "types", "coverage")) {
        sql_do(
          store,
          paste("DELETE FROM", table, "WHERE source = ? AND dataset = ?"), place
        )
      }
      sql_drop_notes(store, place)
    }
  })
  sql_forget_caches(store)
}

sql_drop_series <- function(store, series) {
  ids <- json_numbers(series$id)
  for (table in c(
    "segments", "attributes", "moved", "origins", "checksums"
  )) {
    sql_do(
      store, paste("DELETE FROM", table, "WHERE series IN @numbers"), list(ids)
    )
  }
  sql_do(store, "DELETE FROM series WHERE id IN @numbers", list(ids))
  for (i in seq_len(nrow(series))) {
    for (key in covered_keys(store, series[i, ])) {
      sql_do(
        store,
        "DELETE FROM coverage WHERE source = ? AND dataset = ? AND key = ?",
        list(series$source[i], series$dataset[i], key)
      )
    }
  }
  places <- unique(series[c("source", "dataset")])
  for (i in seq_len(nrow(places))) sql_drop_notes(store, as.list(places[i, ]))
}

# The keys under which the coverage of a series is noted: ranges are named by
# symbol and interval, or by the keys of a request.
covered_keys <- function(store, series) {
  known <- series_dimensions(series)
  symbol <- as.character(known[["symbol"]] %||% NA)
  bars <- if (!is.na(symbol)) bars_cover_key(symbol, series$frequency, "")
  covered <- sql_get(
    store,
    "SELECT DISTINCT key FROM coverage WHERE source = ? AND dataset = ?",
    list(series$source, series$dataset)
  )$key
  covered[
    (length(bars) > 0 & startsWith(covered, bars %||% "")) |
      grepl(json_text(series$key), covered, fixed = TRUE)
  ]
}

# Removes what is noted about requests and lists of a dataset; documents and
# queries stay.
sql_drop_notes <- function(store, place) {
  sql_do(
    store,
    paste(
      "DELETE FROM notes WHERE source = ? AND dataset = ? AND kind IN
        ('reached',",
      "'asked', 'refreshed', 'looked', 'round', 'listed', 'listing',",
      "'open', 'rejected', 'holes',", "'unpublished', 'large', 'repair')"
    ),
    unname(place)
  )
}

# Rows in the column store are removed first, while their series is still known.
#' @export
store_drop.vetusta_store_columns <- function(store, series, datasets) {
  columns <- store$columns
  by_shape <- split(series$id, series$shape)
  for (shape in names(by_shape)) {
    if (!length(columns_present(columns, shape))) next
    columns_delete(columns, shape, columns_where(by_shape[[shape]]))
  }
  NextMethod()
}

columns_delete <- function(columns, shape, condition) {
  for (server in columns$servers) {
    columns_do(
      columns,
      paste0(
        "ALTER TABLE ", columns_table(columns, shape, FALSE), " DELETE WHERE ",
        condition
      ),
      server
    )
  }
  columns_settled(columns, shape)
}

# Waits until removals from a shape's table have finished.
columns_settled <- function(columns, shape, patience = 120) {
  until <- now_seconds() + patience
  repeat {
    left <- vapply(
      columns$servers,
      function(server) {
        running <- columns_send(
          columns,
          paste0(
            "SELECT count() FROM system.mutations WHERE ", "database = '",
            columns$database, "' AND table = '", shape, "_", columns$key,
            "' AND is_done = 0"
          ),
          server = server
        )
        as.numeric(trimws(rawToChar(running)))
      },
      0
    )
    if (!sum(left)) {
      return(invisible())
    }
    if (now_seconds() > until) {
      vetusta_stop(
        "archive", "The column store has not finished deleting rows.",
        where = columns$servers[1],
        todo = "check its load, and repeat the command"
      )
    }
    Sys.sleep(0.2)
  }
}
