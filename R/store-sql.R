# What both SQL stores share: SQLite (store-sqlite.R) and PostgreSQL
# (store-postgres.R). Series are in store-sql-series.R, their catalogue in
# store-sql-catalogue.R, everything else in store-sql-rows.R and
# store-sql-requests.R. Statements are written once; where
# the two differ they have a placeholder:
#
#   @numbers, @texts   the values of a JSON array, as a table with the column
# `value`
#   @differs           is another value, or exactly one of both is missing
#   @valid             whether the column `body` is JSON
#   @lazily            (a FROM) others need not wait until the disk has it

# `often`: a statement of every request, which a store may keep prepared.
sql_get <- function(store, statement, params = NULL, often = FALSE) {
  UseMethod("sql_get")
}
sql_do <- function(store, statement, params = NULL, often = FALSE) {
  UseMethod("sql_do")
}

# A statement with the store's placeholders replaced; cached.
sql_worded <- function(statement, words, cache) {
  cached <- cache[[statement]]
  if (!is.null(cached)) {
    return(cached)
  }
  worded <- statement
  for (word in names(words)) {
    worded <- gsub(paste0("@", word), words[[word]], worded, fixed = TRUE)
  }
  assign(statement, worded, envir = cache)
  worded
}

# Writes a page except rows that need a lookup, in one statement; stops with
# "times are stored" where its segment overlaps another one.
sql_page_in <- function(store, values) UseMethod("sql_page_in")

# The number of the journal row that this connection wrote last.
sql_last_journal <- function(store) UseMethod("sql_last_journal")

#' @export
sql_last_journal.default <- function(store) {
  sql_get(store, "SELECT max(id) AS id FROM journal")$id
}

# Adds a covered range and joins it with adjacent ones.
sql_cover <- function(store, page, stretch) UseMethod("sql_cover")

# Within a transaction: locks this page's dataset or series until its end. A
# store with a single writer need not do anything.
sql_hold <- function(store, page) UseMethod("sql_hold")
sql_hold_series <- function(store, id) UseMethod("sql_hold_series")

#' @export
sql_hold.default <- function(store, page) invisible()
#' @export
sql_hold_series.default <- function(store, id) invisible()

# Rows of a series stored elsewhere, within a range; NULL without any.
sql_moved_rows <- function(store, id, first, last) UseMethod("sql_moved_rows")

#' @export
sql_moved_rows.default <- function(store, id, first, last) {
  sql_none_moved(store, id)
  NULL
}

# After a rollback, cached lookups of the transaction are dropped.
sql_forget_caches <- function(store) {
  for (cache in c("ids", "types")) {
    rm(list = ls(store[[cache]], all.names = TRUE), envir = store[[cache]])
  }
}

# A store with its caches: numbers of series, which never change; types of
# columns; and segments written since the last settling.
sql_store <- function(class, path) {
  store <- new.env(parent = emptyenv())
  store$path <- path
  store$now <- now_seconds
  for (cache in c("ids", "types", "pages", "ready")) {
    store[[cache]] <- new.env(parent = emptyenv())
  }
  store$later <- list2env(
    list(pages = list(), claims = character(), since = NULL, wrong = list()),
    parent = emptyenv()
  )
  class(store) <- c(class, "vetusta_store_sql", "vetusta_archive")
  store
}

json_numbers <- function(x) {
  paste0(
    "[", paste(format(x, scientific = FALSE, trim = TRUE), collapse = ","), "]"
  )
}

json_array <- function(x) {
  json_array_cpp(enc2utf8(as.character(x)))
}

# Lines of a driver about what it clears away are no concern of a user.
without_driver_lines <- function(work) {
  withCallingHandlers(work, warning = driver_line)
}

driver_line <- function(w) {
  if (grepl(
    "open result set|already disconnected|result object still in use",
    conditionMessage(w),
    ignore.case = TRUE
  )) {
    tryInvokeRestart("muffleWarning")
  }
}

# The end of a connection or a transaction, which may have ended by itself.
quiet_driver <- function(work) {
  without_driver_lines(try(work, silent = TRUE))
}
