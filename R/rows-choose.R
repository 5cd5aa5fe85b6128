# Operations on rows: sort, join, distinct, count.

#' Sort, join, deduplicate and count rows
#'
#' @param rows A data frame.
#' @param by For `rows_sort()`: names of columns; a hyphen after a name sorts in
#'   descending order, and missing values come last. For `rows_join()`: the
#'   columns that identify matching rows; by default those that both tables
#'   have, of which there must be exactly one.
#' @return `rows_sort()`: the sorted rows; equal rows keep their order.
#' @section Errors: `vetusta_error_argument` for an unknown column, with the
#'   nearest name.
#' @export
#' @examples
#' rows <- data.frame(
#'   symbol = c("KELD", "TAMX", "SALT"), type = c("share", "share", "contract"),
#'   volume = c(12000, 800, 5100)
#' )
#' rows_sort(rows, "volume-")
#' rows_count(rows, "type")
rows_sort <- function(rows, by) {
  check_rows(rows)
  check_text(by, "by", several = TRUE)
  keys <- lapply(by, function(word) {
    name <- sub("-$", "", word)
    column <- rows[[check_column(rows, name)]]
    rank <- if (is.character(column)) {
      match(column, sort(unique(column), method = "radix"))
    } else {
      as.numeric(column)
    }
    if (endsWith(word, "-")) -rank else rank
  })
  rows[
    do.call(order, c(keys, list(na.last = TRUE, method = "radix"))), ,
    drop = FALSE
  ]
}

#' @rdname rows_sort
#' @param other A data frame whose columns are added to those of `rows`.
#' @return `rows_join()`: each row with the columns of its matching row of
#'   `other`; missing without a match. A row with several matches is an error,
#'   so that no row is duplicated.
#' @export
rows_join <- function(rows, other, by = NULL) {
  check_rows(rows)
  check_rows(other, "other")
  by <- by %||% join_columns(rows, other)
  check_text(by, "by", several = TRUE)
  for (name in by) {
    check_column(rows, name)
    check_column(other, name)
  }
  key <- function(x) {
    do.call(paste, c(lapply(unclass(x)[by], as.character), sep = "\r"))
  }
  theirs <- key(other)
  at <- match(key(rows), theirs)
  several <- intersect(theirs[duplicated(theirs)], theirs[at[!is.na(at)]])
  if (length(several)) {
    vetusta_stop(
      "argument",
      paste0(
        "Several rows of the other table match ",
        gsub("\r", ", ", several[1], fixed = TRUE), "."
      ),
      todo = paste0("filter them first, or name more columns in `by`")
    )
  }
  extra <- setdiff(names(other), by)
  added <- lapply(unclass(other)[extra], `[`, at)
  names(added) <- ifelse(extra %in% names(rows), paste0(extra, "_other"), extra)
  as_rows(c(as.list(rows), added))
}

# The key of a join: the one column that both tables have and whose values are
# unique in the second.
join_columns <- function(rows, other) {
  common <- intersect(names(rows), names(other))
  identifying <- common[
    vapply(common, function(name) !anyDuplicated(other[[name]]), TRUE)
  ]
  if (!length(identifying)) {
    vetusta_stop(
      "argument",
      "The tables have no column in common.",
      where = paste0(
        "one table has ", paste(names(rows), collapse = ", "), "; the other ",
        paste(names(other), collapse = ", ")
      ),
      todo = "name the column, or rename it in one table"
    )
  }
  identifying[1]
}

#' @rdname rows_sort
#' @param columns Names of columns.
#' @return `rows_distinct()`: the first row of each combination of values of
#'   `columns` (of all of them by default).
#' @export
rows_distinct <- function(rows, columns = names(rows)) {
  check_rows(rows)
  check_text(columns, "columns", several = TRUE)
  for (name in columns) check_column(rows, name)
  rows[!duplicated(list_frame(unclass(rows)[columns])), , drop = FALSE]
}

#' @rdname rows_sort
#' @return `rows_count()`: a tibble of the combinations of values of `columns`,
#'   most frequent first, and `count`.
#' @export
rows_count <- function(rows, columns) {
  check_rows(rows)
  check_text(columns, "columns", several = TRUE)
  for (name in columns) check_column(rows, name)
  parts <- unclass(rows)[columns]
  key <- do.call(paste, c(lapply(parts, as.character), sep = "\r"))
  first <- which(!duplicated(key))
  count <- tabulate(match(key, key[first]), length(first))
  order <- order(-count, method = "radix")
  as_rows(
    c(lapply(parts, `[`, first[order]), list(count = as.numeric(count[order])))
  )
}

check_rows <- function(rows, name = "rows") {
  rows <- given(rows, name)
  if (!is.data.frame(rows)) {
    vetusta_stop(
      "argument",
      paste0(
        "`", name, "` must be a table of rows, not ", shown_value(rows),
        "."
      ),
      todo = "give a data frame"
    )
  }
  invisible(rows)
}

# Selects columns; `new=old` renames one.
rows_columns <- function(rows, names) {
  if (!length(names)) {
    return(rows)
  }
  parts <- strsplit(names, "=", fixed = TRUE)
  old <- vapply(parts, function(part) part[length(part)], "")
  for (name in old) check_column(rows, name)
  chosen <- rows[old]
  names(chosen) <- vapply(parts, `[`, "", 1)
  # the key columns under their new names
  identifying <- attr(rows, "keys") %||%
    c("time", "period", "symbol", "series", "side")
  keys <- names(chosen)[old %in% identifying]
  if (length(attr(rows, "keys")) || length(dated_columns(chosen[keys]))) {
    attr(chosen, "keys") <- keys
  }
  chosen
}

dated_columns <- function(rows) {
  names(rows)[vapply(
    as.list(rows), function(column) inherits(column, c("POSIXct", "Date")), TRUE
  )]
}

check_column <- function(rows, name) {
  check_text(name, "column")
  if (!name %in% names(rows)) {
    vetusta_stop(
      "argument",
      paste0("The rows have no column \"", name, "\"."),
      todo = suggest_word(name, names(rows))
    )
  }
  name
}
