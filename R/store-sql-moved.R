# Rows of series that stand in two places: here, and in a column store beside the archive.

# Rows that stand elsewhere beside those that are here, and which of them they are: what is as it
# was there is not written here. Of a row that stands in both, that which is here counts.
with_moved <- function(old, away) {
  if (is.null(away)) {
    return(old)
  }
  if (length(old$time)) {
    there <- paste(as.numeric(away$time), as.numeric(away$known)) %in%
      paste(as.numeric(old$time), as.numeric(old$known))
    away <- lapply(away, `[`, !there)
  }
  away$.moved <- rep(TRUE, length(away$time))
  all <- as.list(data.table::rbindlist(list(old, away), use.names = TRUE, fill = TRUE))
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

# Sizes of series that stand in two places.
sizes_together <- function(here, away) {
  both <- match(away$id, here$id)
  at <- both[!is.na(both)]
  more <- away[!is.na(both), ]
  here$rows[at] <- here$rows[at] + more$rows
  here$first[at] <- pmin(here$first[at], more$first)
  here$last[at] <- pmax(here$last[at], more$last)
  all <- rbind(here, away[is.na(both), ])
  all <- all[order(all$source, all$dataset, all$key, all$frequency, method = "radix"), ]
  row.names(all) <- NULL
  all
}

# Who opened the archive before another process began to move rows does not know where they are, and
# gives no part of them.
sql_none_moved <- function(store, series) {
  if (is.null(store$columns) && nrow(sql_get(store,
    "SELECT series FROM moved WHERE series IN @numbers LIMIT 1", list(json_numbers(series))))) {
    vetusta_stop("archive", "Rows of the archive went into a column store since it was opened.",
      where = store$path, todo = "open it again: it knows where they are")
  }
}
