# The embedded store: one SQLite file in WAL mode. Connection, transactions and
# errors are here, tables in store-sqlite-forms.R, and what both SQL stores
# share in store-sql.R.

sqlite_store <- function(path, read_only = FALSE) {
  store <- sql_store("vetusta_store_sqlite", path)
  store$read_only <- read_only
  # the file has one writer at a time, and a transaction costs as much as a page
  store$gathers <- TRUE
  store$connection <- sqlite_connect(path, read_only)
  reg.finalizer(store, function(store) store_close(store), onexit = TRUE)
  tryCatch(
    if (!read_only) sqlite_prepare(store$connection),
    error = function(e) {
      store_close(store)
      stop(archive_error(e, path))
    }
  )
  store
}

#' @export
store_close.vetusta_store_sqlite <- function(store) {
  if (!is.null(store$connection)) try(store_gathered(store), silent = TRUE)
  for (statement in ls(store$ready)) sqlite_unready(store, statement)
  if (!is.null(store$connection) && DBI::dbIsValid(store$connection)) {
    without_driver_lines(DBI::dbDisconnect(store$connection))
  }
  store$connection <- NULL
  invisible(store)
}

sqlite_connect <- function(path, read_only = FALSE) {
  connect <- function(name = sqlite_name(path)) {
    DBI::dbConnect(
      RSQLite::SQLite(),
      name,
      loadable.extensions = FALSE,
      synchronous = NULL,
      flags = if (read_only) RSQLite::SQLITE_RO else RSQLite::SQLITE_RWC
    )
  }
  if (read_only) {
    return(sqlite_connect_read(connect, path))
  }
  connection <- tryCatch(
    connect(),
    error = function(e) stop(archive_error(e, path))
  )
  tryCatch(
    {
      DBI::dbExecute(connection, "PRAGMA busy_timeout = 30000")
      # another program's database is left unchanged: nothing has been written
      # yet
      sqlite_check_file(connection, path)
      DBI::dbExecute(connection, "PRAGMA foreign_keys = ON")
      DBI::dbGetQuery(connection, "PRAGMA journal_mode = WAL")
      DBI::dbExecute(connection, "PRAGMA synchronous = NORMAL")
    },
    error = function(e) {
      without_driver_lines(DBI::dbDisconnect(connection))
      stop(archive_error(e, path))
    }
  )
  connection
}

# For reading only. In a folder without write permission the file is read as it
# is, because no lock file can be created.
sqlite_connect_read <- function(connect, path) {
  ready <- function(connection) {
    DBI::dbExecute(connection, "PRAGMA busy_timeout = 30000")
    sqlite_check_file(connection, path)
    connection
  }
  name <- sqlite_name(path)
  fixed <- paste0(
    if (!startsWith(name, "file:")) "file:",
    gsub("?", "%3f", gsub("#", "%23", name, fixed = TRUE), fixed = TRUE),
    "?immutable=1"
  )
  tryCatch(
    other_errors(ready(connect()), function(e) ready(connect(fixed))),
    error = function(e) stop(archive_error(e, path))
  )
}

# A path in bytes: where the locale cannot represent its letters, R would
# replace them.
sqlite_name <- function(path) {
  bytes <- charToRaw(path.expand(path))
  if (all(bytes < as.raw(128))) {
    return(path)
  }
  letters <- charToRaw(
    "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789/._-~"
  )
  plain <- bytes %in% letters
  signs <- sprintf("%%%02X", as.integer(bytes))
  signs[plain] <- rawToChar(bytes[plain], multiple = TRUE)
  paste0("file:", paste(signs, collapse = ""))
}

# A file without tables becomes an archive; one with tables must be an archive
# of a known form.
sqlite_check_file <- function(connection, path) {
  tables <- DBI::dbGetQuery(
    connection, "SELECT name FROM sqlite_master WHERE type = 'table'"
  )$name
  if (!length(tables)) {
    return(invisible())
  }
  is_archive <- all(c("meta", "series", "segments") %in% tables)
  form <- if (is_archive) {
    tryCatch(sqlite_form(connection), error = function(e) NULL)
  }
  if (length(form) == 1 && isTRUE(form < archive_form_oldest)) {
    older_archive(path)
  }
  if (length(form) != 1 || is.na(form)) {
    vetusta_stop(
      "archive", "The file is a database, but not an archive.",
      where = path,
      todo = "give the path of an archive, or of a file that does not exist yet"
    )
  }
  if (form > archive_form) newer_archive(form, path)
}

# The form of an archive, 0 before the first release.
sqlite_form <- function(connection) {
  meta_form(DBI::dbGetQuery(connection, "SELECT * FROM meta"))
}

meta_form <- function(meta) {
  if ("form" %in% meta$name) {
    return(0)
  }
  suppressWarnings(as.numeric(meta$value[meta$name == "version"]))
}

sqlite_words <- c(
  numbers = "(SELECT value FROM json_each(?))",
  texts = "(SELECT value FROM json_each(?))", differs = "IS NOT",
  valid = "json_valid(body)", lazily = ""
)
sqlite_worded <- new.env(parent = emptyenv())

#' @export
sql_get.vetusta_store_sqlite <- function(store, statement, params = NULL,
                                         often = FALSE) {
  withCallingHandlers(tryCatch(
    if (often) {
      sqlite_often(store, statement, params)
    } else {
      statement <- sql_worded(statement, sqlite_words, sqlite_worded)
      if (is.null(params)) {
        DBI::dbGetQuery(store$connection, statement)
      } else {
        DBI::dbGetQuery(store$connection, statement, params = unname(params))
      }
    },
    error = function(e) stop(archive_error(e, store$path))
  ), warning = driver_line)
}

#' @export
sql_do.vetusta_store_sqlite <- function(store, statement, params = NULL,
                                        often = FALSE) {
  withCallingHandlers(tryCatch(
    if (often) {
      sqlite_often(store, statement, params, rows = FALSE)
    } else {
      statement <- sql_worded(statement, sqlite_words, sqlite_worded)
      if (is.null(params)) {
        DBI::dbExecute(store$connection, statement)
      } else {
        DBI::dbExecute(store$connection, statement, params = unname(params))
      }
    },
    error = function(e) stop(archive_error(e, store$path))
  ), warning = driver_line)
}

#' @export
sql_page_in.vetusta_store_sqlite <- function(store, values) {
  sql_do(store, sqlite_page_statement, values, often = TRUE)
}

sqlite_page_statement <- paste0(
  "INSERT INTO page_in VALUES (",
  paste(rep("?", length(page_names)), collapse = ", "), ")"
)

#' @export
sql_append.vetusta_store_sqlite <- function(store, table, rows) {
  columns <- paste0("\"", names(rows), "\"", collapse = ", ")
  sql_do(
    store,
    paste0(
      "INSERT INTO ", table, " (", columns, ") VALUES (",
      paste(rep("?", length(rows)), collapse = ", "), ")"
    ),
    rows
  )
}

#' @export
sql_cover.vetusta_store_sqlite <- function(store, page, stretch) {
  sql_do(
    store, "INSERT INTO coverage_in VALUES (?, ?, ?, ?, ?)",
    list(page$source, page$dataset, stretch$key, stretch$start, stretch$end)
  )
}

# Several reads at one moment, unaffected by writers.
#' @export
store_snapshot.vetusta_store_sqlite <- function(store, work) {
  if (isTRUE(store$inside)) {
    return(work())
  }
  sql_do(store, "BEGIN")
  store$inside <- TRUE
  on.exit({
    store$inside <- FALSE
    quiet_driver(DBI::dbExecute(store$connection, "COMMIT"))
  })
  work()
}

# A transaction that locks for writing at once, so that two collectors never
# fail halfway. A nested one is part of the outer one.
#' @export
store_transaction.vetusta_store_sqlite <- function(store, work) {
  if (isTRUE(store$inside)) {
    return(work())
  }
  connection <- store$connection
  sql_do(store, "BEGIN IMMEDIATE")
  done <- FALSE
  store$inside <- TRUE
  on.exit({
    store$inside <- FALSE
    # after a rollback cached lookups are dropped
    if (!done) sql_forget_caches(store)
    if (!done) quiet_driver(DBI::dbExecute(connection, "ROLLBACK"))
  })
  result <- other_errors(work(), function(e) stop(archive_error(e, store$path)))
  tryCatch(
    DBI::dbExecute(connection, "COMMIT"),
    error = function(e) stop(archive_error(e, store$path))
  )
  done <- TRUE
  result
}

archive_error <- function(error, path) {
  if (inherits(error, "vetusta_error")) {
    return(error)
  }
  text <- conditionMessage(error)
  for (entry in sqlite_errors) {
    if (grepl(entry[1], text, ignore.case = TRUE)) {
      return(vetusta_error("archive", entry[2], where = path, todo = entry[3]))
    }
  }
  vetusta_error(
    "archive", paste0("The archive failed: ", text),
    where = path,
    todo = "run it again; if the error stays, check the file"
  )
}

# The meaning of the database's errors, and what to do.
sqlite_errors <- list(
  c(
    "locked|busy", "The archive is in use by another process for too long.",
    "let the other process end, or stop it, and run it again: it continues"
  ),
  c(
    "full", "The disk is full.",
    "free some space and run it again: it continues"
  ),
  c(
    "readonly|read-only", "The archive cannot be written.",
    "check the permissions of the file and of its folder"
  ),
  c("is a directory", "The archive is a folder.", "give the path of a file"),
  c(
    "not a database|malformed", "The file is not an archive, or it is damaged.",
    "give the path of an archive, or restore a backup"
  ),
  c(
    "unable to open", "The archive cannot be opened.",
    "check whether its folder is there and yours to write"
  )
)
# One statement counts and takes a token, so that no other process comes
# between, and reads the clock when it has the write lock. A request in flight
# counts as made in the near future, until its answer tells when it was made.
# `limits` have `count` and either `seconds`, how long a request counts, or
# `since`, the instant from which requests count.
#' @export
store_token_take.vetusta_store_sql <- function(store, source, limits,
                                               under_way, weight = 1) {
  each <- function(limit) {
    lately <- is.null(limit$since)
    counted <- if (isTRUE(limit$weighs)) {
      "coalesce(sum(weight), 0)"
    } else {
      "count(*)"
    }
    list(
      paste0(
        "(SELECT ", counted, " FROM tokens WHERE source = ? AND taken > ",
        if (lately) "c.now - ?" else "?", ") <= ?"
      ),
      list(
        source, if (lately) limit$seconds else limit$since,
        limit$count - if (isTRUE(limit$weighs)) weight else 1
      )
    )
  }
  if (any(vapply(limits, function(limit) !is.null(limit$since), TRUE))) {
    limits <- store_quotas_lately(store, source, limits)
  }
  parts <- lapply(limits, each)
  taken <- sql_get(
    store,
    paste0(
      "INSERT INTO tokens (source, taken, weight)
    SELECT ?, c.now + ?, ?
    FROM (SELECT (julianday('now') - 2440587.5) * 86400.0 AS now) c WHERE ",
      paste(vapply(parts, `[[`, "", 1), collapse = " AND "),
      " RETURNING rowid AS id, taken - ? AS at"
    ),
    c(
      list(source, under_way, weight),
      unlist(lapply(parts, `[[`, 2), recursive = FALSE),
      list(under_way)
    ),
    often = TRUE
  )
  if (nrow(taken)) list(id = taken$id, at = taken$at) else list()
}

# Statements of every request are kept prepared. The driver keeps one statement
# a connection, so each has its own connection; within a transaction all run on
# the main one.

# Bounds open files and memory.
ready_statements <- 12
# A connection is not worth it for the first uses of a statement.
ready_after <- 3

sqlite_often <- function(store, statement, params, rows = TRUE) {
  apart <- !isTRUE(store$inside) && !store$read_only
  ready <- if (apart) store$ready[[statement]]
  if (apart && !is.list(ready)) ready <- sqlite_ready(store, statement, rows)
  if (!is.list(ready)) {
    make <- if (rows) DBI::dbGetQuery else DBI::dbExecute
    return(
      make(
        store$connection, sql_worded(statement, sqlite_words, sqlite_worded),
        params = unname(params)
      )
    )
  }
  # a statement that ends early, by an error or an interrupt, must be reset, or
  # it would lock the archive
  whole <- FALSE
  on.exit(if (!whole) sqlite_unready(store, statement))
  ready$bind(ready$result, unname(params))
  fetched <- if (rows) ready$fetch(ready$result, row.names = FALSE)
  whole <- TRUE
  fetched
}

# The statement on its own connection; NULL where it runs on the main one.
sqlite_ready <- function(store, statement, rows) {
  uses <- (store$ready[[statement]] %||% 0) + 1
  assign(statement, uses, envir = store$ready)
  if (uses <= ready_after || length(store$ready) > ready_statements) {
    return(NULL)
  }
  # if no more files can be opened, the main connection is used
  connection <- tryCatch(sqlite_connect(store$path), error = function(e) NULL)
  if (is.null(connection)) {
    assign(statement, -Inf, envir = store$ready)
    return(NULL)
  }
  make <- if (rows) DBI::dbSendQuery else DBI::dbSendStatement
  worded <- sql_worded(statement, sqlite_words, sqlite_worded)
  result <- tryCatch(make(connection, worded), error = function(e) {
    DBI::dbDisconnect(connection)
    stop(e)
  })
  # its methods never change, and looking them up takes as long as a short
  # statement
  ready <- list(
    connection = connection,
    result = result,
    bind = methods::selectMethod(DBI::dbBind, class(result)),
    fetch = methods::selectMethod(DBI::dbFetch, class(result))
  )
  assign(statement, ready, envir = store$ready)
  ready
}

sqlite_unready <- function(store, statement) {
  prepared <- store$ready[[statement]]
  if (is.list(prepared)) {
    if (DBI::dbIsValid(prepared$result)) DBI::dbClearResult(prepared$result)
    if (DBI::dbIsValid(prepared$connection)) {
      without_driver_lines(DBI::dbDisconnect(prepared$connection))
    }
  }
  assign(statement, 0, envir = store$ready)
}
