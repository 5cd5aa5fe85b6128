# Care of an archive in SQLite: copies, and the rescue of a damaged one.

#' @export
sql_give_back.vetusta_store_sqlite <- function(store) {
  sql_do(store, "VACUUM")
  sql_get(store, "PRAGMA wal_checkpoint(TRUNCATE)")
}

#' @export
store_sign.vetusta_store_sqlite <- function(store) {
  about <- file.info(paste0(store$path, c("", "-wal")))
  paste(about$size, as.numeric(about$mtime), collapse = " ")
}

#' @export
store_again.vetusta_store_sqlite <- function(store) {
  sqlite_store(store$path, read_only = TRUE)
}

#' @export
store_bytes.vetusta_store_sqlite <- function(store) file.size(store$path)

#' @export
store_folder.vetusta_store_sqlite <- function(store) {
  paste0(store$path, ".parts")
}

#' @export
sql_check_database.vetusta_store_sqlite <- function(store) {
  whole <- tryCatch(
    DBI::dbGetQuery(store$connection, "PRAGMA integrity_check(20)")[[1]],
    error = function(e) conditionMessage(e)
  )
  whole[whole != "ok"]
}

#' @export
store_copy.vetusta_store_sqlite <- function(store, file) {
  sql_do(store, "VACUUM INTO ?", list(sqlite_name(file)))
  copy <- sqlite_connect(file, read_only = TRUE)
  on.exit(DBI::dbDisconnect(copy))
  result <- tryCatch(
    DBI::dbGetQuery(copy, "PRAGMA quick_check(1)")[[1]],
    error = function(e) conditionMessage(e)
  )
  if (!identical(result, "ok")) {
    vetusta_stop(
      "archive", paste0("The copy is damaged: ", result[1]),
      where = file,
      todo = "check the disk, and run `vetusta archive check`"
    )
  }
}

rescued_tables <- c(
  "series", "attributes", "segments", "frames", "records", "types", "coverage",
  "journal", "rejected", "notes", "raw", "structures", "origins"
)

# Copies everything readable of a damaged file into a new archive, row by row if
# necessary.
sqlite_rescue <- function(from, to) {
  connection <- tryCatch(
    DBI::dbConnect(
      RSQLite::SQLite(), sqlite_name(from),
      flags = RSQLite::SQLITE_RO,
      loadable.extensions = FALSE, synchronous = NULL
    ),
    error = function(e) NULL
  )
  known <- tryCatch(
    DBI::dbGetQuery(connection, "SELECT name FROM sqlite_master")$name,
    error = function(e) character()
  )
  on.exit(if (!is.null(connection)) DBI::dbDisconnect(connection))
  if (!all(c("series", "segments") %in% known)) {
    vetusta_stop(
      "archive",
      "Nothing can be recovered: it is not an archive, or its tables are lost.",
      where = from, todo = "restore a backup, or collect again"
    )
  }
  form <- tryCatch(sqlite_form(connection), error = function(e) numeric())
  if (length(form) == 1 && isTRUE(form < archive_form_oldest)) {
    older_archive(from)
  }
  if (length(form) == 1 && !is.na(form) && form > archive_form) {
    newer_archive(form, from)
  }
  store <- sqlite_store(to)
  on.exit(store_close(store), add = TRUE)
  sql_do(store, "PRAGMA foreign_keys = OFF")
  counts <- lapply(intersect(rescued_tables, known), function(table) {
    read <- rescued_rows(connection, table)
    good <- rescued_good(table, read$rows)
    saved <- 0
    lost <- read$lost + sum(!good)
    if (any(good)) {
      rows <- read$rows[good, , drop = FALSE]
      marks <- paste(rep("?", ncol(rows)), collapse = ", ")
      saved <- DBI::dbExecute(
        store$connection,
        paste0(
          "INSERT OR IGNORE INTO ", table, " (",
          paste(names(rows), collapse = ", "), ") VALUES (", marks, ")"
        ),
        params = unname(as.list(rows))
      )
    }
    data.frame(what = table, saved = as.numeric(saved), lost = as.numeric(lost))
  })
  sql_do(
    store, "DELETE FROM segments WHERE series NOT IN (SELECT id FROM series)"
  )
  # coverage of lost rows cannot be trusted
  if (any(
    vapply(
      counts, function(entry) entry$what == "segments" && entry$lost > 0, TRUE
    )
  )) {
    sql_do(store, "DELETE FROM coverage")
    sql_do(
      store,
      "DELETE FROM notes WHERE kind IN ('looked', 'asked', 'reached', 'round')"
    )
  }
  do.call(rbind, counts)
}

# All readable rows: in one query, else by halves of their ids until only the
# bad ones are left out.
rescued_rows <- function(connection, table) {
  get <- function(...) {
    tryCatch(DBI::dbGetQuery(connection, paste(...)), error = function(e) NULL)
  }
  all <- get("SELECT * FROM", table)
  if (!is.null(all)) {
    return(list(rows = all, lost = 0))
  }
  last <- get("SELECT max(rowid) AS last FROM", table)$last
  if (is.null(last) || is.na(last)) {
    return(list(rows = data.frame(), lost = 1))
  }
  parts <- list()
  lost <- 0
  halve <- function(low, high) {
    rows <- get("SELECT * FROM", table, "WHERE rowid BETWEEN", low, "AND", high)
    if (!is.null(rows)) {
      parts[[length(parts) + 1]] <<- rows
    } else if (low == high) {
      lost <<- lost + 1
    } else {
      middle <- floor((low + high) / 2)
      halve(low, middle)
      halve(middle + 1, high)
    }
  }
  halve(1, last)
  list(
    rows = if (length(parts)) do.call(rbind, parts) else data.frame(),
    lost = lost
  )
}

# Blocks whose bytes match their checksum.
rescued_good <- function(table, rows) {
  if (!nrow(rows) || !table %in% c("segments", "frames")) {
    return(rep(TRUE, nrow(rows)))
  }
  vapply(
    seq_len(nrow(rows)),
    function(i) {
      !inherits(
        try(blocks_read(rows$body[i], newest = FALSE), silent = TRUE),
        "try-error"
      )
    },
    TRUE
  )
}
