# Statements that a run makes with every call are kept ready: to make one anew costs several times
# what it does. The driver keeps one statement a connection, so each has a connection of its own.
# Within a transaction, which is the main connection's, all statements are made there.

# So many at most: files and memory are bounded.
ready_statements <- 12
# The first uses of a statement are not worth a connection.
ready_after <- 3

sqlite_often <- function(store, statement, params, rows = TRUE) {
  ready <- if (!isTRUE(store$inside) && !store$read_only) sqlite_ready(store, statement, rows)
  if (is.null(ready)) {
    make <- if (rows) DBI::dbGetQuery else DBI::dbExecute
    return(make(store$connection, statement, params = unname(params)))
  }
  # one that ends early, by an error or an interrupt, must not stand half done: it would hold the
  # archive
  whole <- FALSE
  on.exit(if (!whole) sqlite_unready(store, statement))
  ready$bind(ready$result, unname(params))
  found <- if (rows) ready$fetch(ready$result, row.names = FALSE)
  whole <- TRUE
  found
}

# The statement on its connection; NULL where it is made as any other.
sqlite_ready <- function(store, statement, rows) {
  held <- store$ready[[statement]]
  if (is.list(held)) {
    return(held)
  }
  uses <- (held %||% 0) + 1
  assign(statement, uses, envir = store$ready)
  if (uses <= ready_after || length(store$ready) > ready_statements) {
    return(NULL)
  }
  # where no more files can be opened, say, the main connection does as well
  connection <- tryCatch(sqlite_connect(store$path), error = function(e) NULL)
  if (is.null(connection)) {
    assign(statement, -Inf, envir = store$ready)
    return(NULL)
  }
  make <- if (rows) DBI::dbSendQuery else DBI::dbSendStatement
  result <- tryCatch(make(connection, statement), error = function(e) {
    DBI::dbDisconnect(connection)
    stop(e)
  })
  # its methods are the same every time, and to look for them takes as long as a short statement
  ready <- list(connection = connection, result = result,
    bind = methods::selectMethod(DBI::dbBind, class(result)),
    fetch = methods::selectMethod(DBI::dbFetch, class(result)))
  assign(statement, ready, envir = store$ready)
  ready
}

sqlite_unready <- function(store, statement) {
  held <- store$ready[[statement]]
  if (is.list(held)) {
    if (DBI::dbIsValid(held$result)) DBI::dbClearResult(held$result)
    if (DBI::dbIsValid(held$connection)) DBI::dbDisconnect(held$connection)
  }
  assign(statement, 0, envir = store$ready)
}
