# What the stores share whose tables are in SQL: SQLite (store-sqlite.R) and PostgreSQL
# (store-postgres.R). Series are in store-sql-series.R, everything else in store-sql-rows.R and
# -calls.R. The statements are written once; where the two differ they have a word of ours:
#
#   @numbers, @texts   the values of a JSON array, as a table with the column `value`
#   @differs           is another value, or only one of both is missing
#   @valid             whether the column `body` is JSON

# `often`: a statement that a run makes with every request, and that a store may keep ready.
sql_get <- function(store, statement, params = NULL, often = FALSE) UseMethod("sql_get")
sql_do <- function(store, statement, params = NULL, often = FALSE) UseMethod("sql_do")

# A statement in a store's own words; each is worded once.
sql_worded <- function(statement, words, cache) {
  cached <- cache[[statement]]
  if (!is.null(cached)) {
    return(cached)
  }
  worded <- statement
  for (word in names(words)) worded <- gsub(paste0("@", word), words[[word]], worded, fixed = TRUE)
  assign(statement, worded, envir = cache)
  worded
}

# Everything of a page but the rows that have to be looked up first, in one statement; stops with
# "times are stored" where its segment lies over another one.
sql_page_in <- function(store, values) UseMethod("sql_page_in")

# A stretch that is held whole, joined with those that it touches.
sql_cover <- function(store, page, stretch) UseMethod("sql_cover")

# Within a transaction: nobody else writes what this page writes, or this series, until its end. In
# a store with one writer at a time there is nothing to do.
sql_hold <- function(store, page) UseMethod("sql_hold")
sql_hold_series <- function(store, id) UseMethod("sql_hold_series")

#' @export
sql_hold.default <- function(store, page) invisible()
#' @export
sql_hold_series.default <- function(store, id) invisible()

# Rows of a series that stand elsewhere, within a stretch; NULL where there are none.
sql_moved_rows <- function(store, id, first, last) UseMethod("sql_moved_rows")

#' @export
sql_moved_rows.default <- function(store, id, first, last) {
  sql_none_moved(store, id)
  NULL
}

# What was looked up within a transaction that is not to be is looked up again.
sql_forget_caches <- function(store) {
  for (cache in c("ids", "types")) {
    rm(list = ls(store[[cache]], all.names = TRUE), envir = store[[cache]])
  }
}

# A store with its caches: numbers of series that were looked up, which never change; types of
# columns that were noted; and segments written since the last look at what may be settled.
sql_store <- function(class, path) {
  store <- new.env(parent = emptyenv())
  store$path <- path
  for (cache in c("ids", "types", "pages", "ready")) store[[cache]] <- new.env(parent = emptyenv())
  store$later <- list2env(list(pages = list(), claims = character(), since = NULL,
    wrong = list()), parent = emptyenv())
  class(store) <- c(class, "vetusta_store_sql", "vetusta_archive")
  store
}

json_numbers <- function(x) {
  paste0("[", paste(format(x, scientific = FALSE, trim = TRUE), collapse = ","), "]")
}

json_array <- function(x) {
  json_array_cpp(enc2utf8(as.character(x)))
}
