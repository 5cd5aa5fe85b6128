# Single-statement work of PostgreSQL by its own clock, and its results.

# The server's clock: its difference from this machine's is measured every
# minute. Up to half a second counts as none.
postgres_now <- function(store) {
  now <- now_seconds()
  if (is.null(store$ahead) ||
    now > store$ahead_asked + 60 ||
    now < store$ahead_asked) {
    instant <- sql_get(
      store, "SELECT extract(epoch FROM clock_timestamp())::float8 AS now"
    )$now
    after <- now_seconds()
    ahead <- instant - (now + after) / 2
    store$ahead <- if (abs(ahead) < 0.5 + (after - now)) 0 else ahead
    store$ahead_asked <- after
    now <- after
  }
  whole_micros(now + store$ahead)
}

#' @export
sql_page_in.vetusta_store_postgres <- function(store, values) {
  postgres_patiently(store, function(again) {
    statement <- paste0("SELECT page_put(", strrep("?, ", length(values)), "?)")
    postgres_send(store, DBI::dbGetQuery, statement, c(values, again))
  })
}

# Another process may have added a row since.
#' @export
sql_last_journal.vetusta_store_postgres <- function(store) {
  sql_get(
    store,
    "SELECT currval(pg_get_serial_sequence('vetusta.journal', 'id')) AS id"
  )$id
}

# Many rows are written by COPY, few by statements.
#' @export
sql_append.vetusta_store_postgres <- function(store, table, rows) {
  store_transaction(store, function() {
    values <- list_frame(stats::setNames(postgres_values(rows), names(rows)))
    other_errors(
      DBI::dbAppendTable(store$connection, table, values, copy = TRUE),
      function(e) stop(postgres_error(e, store$path))
    )
  })
}

#' @export
sql_numbers_go_on.vetusta_store_postgres <- function(store) {
  for (table in c(
    "series", "segments", "frames", "records", "journal", "rejected", "origins"
  )) {
    sql_get(
      store,
      paste0(
        "SELECT setval(pg_get_serial_sequence('vetusta.", table,
        "', 'id'), greatest(1, (SELECT max(id) FROM ", table, ")))"
      )
    )
  }
}

#' @export
sql_cover.vetusta_store_postgres <- function(store, page, stretch) {
  sql_get(
    store, "SELECT coverage_put(?, ?, ?, ?, ?, ?)",
    list(
      page$source, page$dataset, stretch$key, stretch$start, stretch$end,
      !isTRUE(store$holds_all)
    )
  )
}

# A page of one series is written beside other pages of its dataset; any other
# page alone.
#' @export
sql_hold.vetusta_store_postgres <- function(store, page) {
  single <- inherits(page$rows, "vetusta_parcel_series") &&
    nrow(page$rows$series) == 1 &&
    is.null(page$listing)
  store$holds_all <- !single
  sql_get(
    store,
    if (single) "SELECT hold_shared(?, ?)" else "SELECT hold_dataset(?, ?)",
    list(page$source, page$dataset)
  )
}

#' @export
sql_hold_series.vetusta_store_postgres <- function(store, id) {
  if (!isTRUE(store$holds_all)) {
    sql_get(store, "SELECT hold_series(?)", list(id))
  }
}

# Counted and taken by the server, one collector at a time, by its clock. Others
# wait only until the token is taken, and not until it is on the disk; the
# request is sent once it is, so that no crash of the server forgets it.
#' @export
store_token_take.vetusta_store_postgres <- function(store, source, limits,
                                                    under_way, weight = 1) {
  json <- jsonlite::toJSON(
    lapply(store_quotas_lately(store, source, limits), function(limit) {
      limit[intersect(c("count", "weighs", "seconds", "since"), names(limit))]
    }),
    auto_unbox = TRUE, digits = NA
  )
  id <- sql_get(
    store,
    "SELECT token_take(?, ?, ?, ?::json) AS id @lazily",
    list(source, under_way, weight, as.character(json)),
    often = TRUE
  )$id
  if (is.na(id)) {
    return(list())
  }
  # the disk has a transaction with all that were before it
  at <- sql_get(
    store,
    "UPDATE tokens SET weight = weight WHERE rowid = ?
      RETURNING taken - ? AS at",
    list(id, under_way), often = TRUE
  )$at
  list(id = id, at = at)
}

#' @export
sql_give_back.vetusta_store_postgres <- function(store) {
  # VACUUM FULL locks the tables, so it runs only while nobody collects
  how <- if (store_in_use(store)) {
    "VACUUM (ANALYZE)"
  } else {
    "VACUUM (FULL, ANALYZE)"
  }
  for (table in names(postgres_tables)) sql_do(store, paste(how, table))
}

# A copy of a server's archive is a file.
#' @export
store_copy.vetusta_store_postgres <- function(store, file) {
  copy_to_file(store, file)
}

#' @export
store_sign.vetusta_store_postgres <- function(store) {
  paste(
    sql_get(
      store,
      "SELECT coalesce(max(id), 0) AS pages, (SELECT coalesce(max(id), 0)
    FROM segments) AS segments, (SELECT coalesce(max(at),
    0) FROM notes) AS noted FROM journal"
    ),
    collapse = " "
  )
}

# The parent's connection is not touched: closing it would close it for both.
#' @export
store_again.vetusta_store_postgres <- function(store) {
  again <- sql_store("vetusta_store_postgres", store$path)
  again$connect <- store$connect
  again$connection <- store$connect()
  again$read_only <- TRUE
  again
}

#' @export
store_bytes.vetusta_store_postgres <- function(store) {
  sql_get(
    store,
    "SELECT coalesce(sum(pg_total_relation_size(c.oid)), 0)::float8 AS bytes
    FROM pg_class c WHERE c.relnamespace = 'vetusta'::regnamespace AND c.relkind
    = 'r'"
  )$bytes
}

# Parts are assembled in a folder of this machine.
#' @export
store_folder.vetusta_store_postgres <- function(store) {
  file.path(
    tools::R_user_dir("vetusta", "cache"),
    paste0("parts-", content_hash(charToRaw(store$path)))
  )
}
