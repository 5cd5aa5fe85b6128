# The store for a team: PostgreSQL, for collectors on several machines.
# Connection and transactions are here, tables in store-postgres-forms.R,
# requests in store-postgres-requests.R, and what both SQL stores share in
# store-sql.R.

# The oldest server that is tested.
postgres_least <- 13

postgres_store <- function(uri, create = TRUE, read_only = FALSE,
                           password = NULL) {
  if (!requireNamespace("RPostgres", quietly = TRUE)) {
    vetusta_stop(
      "archive", "An archive in PostgreSQL needs the package RPostgres.",
      where = uri, todo = "install it: install.packages(\"RPostgres\")"
    )
  }
  parts <- server_uri(uri, "archive")
  if (!is.null(parts$password) || !is.null(parts$sslpassword)) {
    vetusta_stop(
      "archive",
      "The archive's URL contains a password.",
      where = database_named(uri),
      todo = paste0(
        "take it out, and keep it in PGPASSWORD, in ~/.pgpass, or as ",
        "ARCHIVE_PASSWORD ", "among the desk's secrets"
      )
    )
  }
  if (is.null(parts$dbname)) {
    vetusta_stop(
      "archive", "The archive's URL names no database.",
      where = uri,
      todo = "write it as postgresql://user@host:5432/name"
    )
  }
  store <- sql_store("vetusta_store_postgres", uri)
  store$connect <- function() postgres_connect(parts, read_only, password, uri)
  store$connection <- postgres_first(store$connect)
  store$read_only <- read_only
  store$now <- function() postgres_now(store)
  reg.finalizer(store, function(store) store_close(store), onexit = TRUE)
  tryCatch(postgres_prepare(store, create), error = function(e) {
    store_close(store)
    stop(e)
  })
  store
}

# The first connection: a server without a free one is waited for; one that does
# not answer may be another's.
postgres_first <- function(connect) {
  until <- now_seconds() + postgres_patience()
  repeat {
    made <- tryCatch(connect(), vetusta_error_archive = identity)
    if (!inherits(made, "condition")) {
      return(made)
    }
    if (!identical(made$reason, "full") || now_seconds() > until) stop(made)
    allowInterrupts(Sys.sleep(0.5))
  }
}

# Reasons for which a connection is made again.
postgres_away <- c("lost", "full")

postgres_connect <- function(parts, read_only, password, uri) {
  usual <- list(
    connect_timeout = "10", application_name = "vetusta",
    keepalives_idle = "30", keepalives_interval = "10", keepalives_count = "3",
    tcp_user_timeout = "60000", client_encoding = "UTF8"
  )
  usual[names(parts)] <- parts
  # they apply to a new connection too; statements are short, and compiling one
  # takes longer than it does
  usual$options <- paste(
    c(
      parts$options, "-c search_path=vetusta -c DateStyle=ISO",
      "-c extra_float_digits=1", "-c client_min_messages=warning", "-c jit=off",
      if (read_only) "-c default_transaction_read_only=on"
    ),
    collapse = " "
  )
  if (!is.null(password)) usual$password <- password
  tryCatch(
    postgres_driver(usual),
    error = function(e) stop(postgres_error(e, uri))
  )
}

# The driver reads this machine's time zone when it is loaded, which in a
# container prints a warning; no time here depends on it.
postgres_driver <- function(parts) {
  if (!nzchar(Sys.getenv("TZ"))) {
    Sys.setenv(TZ = "UTC")
    on.exit(Sys.unsetenv("TZ"))
  }
  do.call(
    DBI::dbConnect,
    c(
      list(
        RPostgres::Postgres(),
        bigint = "numeric", timezone = "UTC",
        timezone_out = "UTC"
      ),
      parts
    )
  )
}

#' @export
store_close.vetusta_store_postgres <- function(store) {
  if (!is.null(store$connection)) {
    quiet_driver(DBI::dbDisconnect(store$connection))
  }
  store$connection <- NULL
  invisible(store)
}

# --- statements

postgres_words <- c(
  numbers = "(SELECT value::bigint AS value FROM
    json_array_elements_text(?::json))",
  texts = "(SELECT value FROM json_array_elements_text(?::json))",
  differs = "IS DISTINCT FROM", valid = "json_whole(body)",
  lazily = "FROM (SELECT set_config('synchronous_commit', 'off', true)) lazily"
)
postgres_worded <- new.env(parent = emptyenv())

postgres_statement <- function(statement) {
  cached <- postgres_worded[[statement]]
  if (!is.null(cached)) {
    return(cached)
  }
  worded <- sql_worded(statement, postgres_words, new.env(parent = emptyenv()))
  parts <- strsplit(paste0(worded, " "), "?", fixed = TRUE)[[1]]
  marks <- c(sprintf("$%d", seq_along(parts[-1])), "")
  worded <- trimws(paste0(parts, marks, collapse = ""))
  assign(statement, worded, envir = postgres_worded)
  worded
}

# Values as the texts that give them back.
postgres_values <- function(params) {
  lapply(unname(params), function(values) {
    if (is.list(values)) {
      bytes_hex_cpp(values)
    } else if (is.double(values)) {
      ifelse(is.na(values), NA_character_, sprintf("%.17g", values))
    } else if (is.character(values)) {
      enc2utf8(values)
    } else {
      as.character(values)
    }
  })
}

postgres_send <- function(store, send, statement, params) {
  statement <- postgres_statement(statement)
  params <- if (!is.null(params)) postgres_values(params)
  without_driver_lines(
    tryCatch(
      if (is.null(params)) {
        send(store$connection, statement)
      } else {
        send(store$connection, statement, params = params)
      },
      error = function(e) stop(postgres_error(e, store$path))
    )
  )
}

#' @export
sql_get.vetusta_store_postgres <- function(store, statement, params = NULL,
                                           often = FALSE) {
  postgres_patiently(store, function(again) {
    postgres_send(store, DBI::dbGetQuery, statement, params)
  })
}

#' @export
sql_do.vetusta_store_postgres <- function(store, statement, params = NULL,
                                          often = FALSE) {
  # several rows are written all or none
  if (!isTRUE(store$inside) && max(0, lengths(params)) > 1) {
    return(
      store_transaction(store, function() sql_do(store, statement, params))
    )
  }
  postgres_patiently(store, function(again) {
    postgres_send(store, DBI::dbExecute, statement, params)
  })
}

# --- a server that goes away, and others that write at once

# Seconds for which a server that does not answer is waited for; a restart takes
# a while.
postgres_patience <- function() {
  given <- suppressWarnings(
    as.numeric(Sys.getenv("VETUSTA_SERVER_PATIENCE_SECONDS"))
  )
  if (is.finite(given) && given >= 0) given else 60
}

# Repeats work after a lost connection or a conflict with another writer; `work`
# is told whether it may have been done before. A transaction is repeated as a
# whole.
postgres_patiently <- function(store, work) {
  if (isTRUE(store$inside)) {
    return(work(FALSE))
  }
  tried <- 0
  until <- now_seconds() + postgres_patience()
  repeat {
    failed <- NULL
    result <- tryCatch(work(tried > 0), vetusta_error_archive = function(e) {
      failed <<- e
      NULL
    })
    if (is.null(failed)) {
      return(result)
    }
    tried <- tried + 1
    reason <- failed$reason %||% ""
    # a lost connection is retried as long as a server is waited for
    enough <- if (reason %in% postgres_away) {
      now_seconds() > until && tried > 8
    } else {
      tried > 8
    }
    if (!nzchar(reason) || enough) stop(failed)
    if (reason %in% postgres_away) {
      postgres_reconnect(store, failed)
    } else {
      Sys.sleep(stats::runif(1, 0.5, 1) * 0.02 * 2^tried)
    }
  }
}

postgres_reconnect <- function(store, failed) {
  quiet_driver(DBI::dbDisconnect(store$connection))
  sql_forget_caches(store)
  store$ahead <- NULL
  until <- now_seconds() + postgres_patience()
  repeat {
    made <- tryCatch(store$connect(), vetusta_error_archive = identity)
    if (!inherits(made, "condition")) break
    away <- isTRUE(made$reason %in% postgres_away)
    if (now_seconds() > until || !away) {
      stop(if (away) failed else made)
    }
    allowInterrupts(Sys.sleep(0.5))
  }
  store$connection <- made
}

# Several reads at one moment, unaffected by writers.
#' @export
store_snapshot.vetusta_store_postgres <- function(store, work) {
  if (isTRUE(store$inside)) {
    return(work())
  }
  postgres_patiently(store, function(again) {
    postgres_send(
      store, DBI::dbExecute, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY",
      NULL
    )
    store$inside <- TRUE
    on.exit({
      store$inside <- FALSE
      quiet_driver(DBI::dbExecute(store$connection, "ROLLBACK"))
    })
    work()
  })
}

# A nested transaction is part of the outer one. If the connection is lost
# during the commit, the server is asked for the outcome.
#' @export
store_transaction.vetusta_store_postgres <- function(store, work) {
  if (isTRUE(store$inside)) {
    return(work())
  }
  postgres_patiently(store, function(again) {
    send <- function(statement) {
      postgres_send(store, DBI::dbExecute, statement, NULL)
    }
    send("BEGIN")
    done <- FALSE
    store$inside <- TRUE
    on.exit({
      store$inside <- FALSE
      store$holds_all <- FALSE
      if (!done) {
        sql_forget_caches(store)
        quiet_driver(DBI::dbExecute(store$connection, "ROLLBACK"))
      }
    })
    result <- other_errors(
      work(), function(e) stop(postgres_error(e, store$path))
    )
    number <- sql_get(store, "SELECT txid_current()::text AS number")$number
    ended <- tryCatch(send("COMMIT"), vetusta_error_archive = identity)
    if (inherits(ended, "condition") &&
      !postgres_was_made(store, ended, number)) {
      stop(ended)
    }
    done <- TRUE
    result
  })
}

postgres_was_made <- function(store, failed, number) {
  if (!isTRUE(failed$reason %in% postgres_away)) {
    return(FALSE)
  }
  postgres_reconnect(store, failed)
  until <- now_seconds() + postgres_patience()
  repeat {
    became <- tryCatch(
      postgres_send(
        store, DBI::dbGetQuery, "SELECT txid_status(?) AS became", list(number)
      )$became,
      vetusta_error_archive = identity
    )
    cut <- inherits(became, "condition")
    if (!cut && !identical(became, "in progress")) {
      return(identical(became, "committed"))
    }
    # work with an unknown outcome is not repeated; the connection may be lost
    # during this question too
    away <- cut && isTRUE(became$reason %in% postgres_away)
    if (now_seconds() > until || (cut && !away)) {
      failed$reason <- NULL
      stop(failed)
    }
    if (cut) {
      postgres_reconnect(store, became)
    } else {
      allowInterrupts(Sys.sleep(0.2))
    }
  }
}
