# Rows of matrices and nested objects, and rows whose names stand elsewhere.

# A row per cell: the members `row` and `column` are its place, counted from 1.
matrix_frame <- function(rows) {
  columns <- positions_frame(rows)
  if (is.null(columns)) {
    return(NULL)
  }
  deep <- nrow(columns)
  list_frame(
    list(
      row = rep(seq_len(deep), length(columns)),
      column = rep(seq_along(columns), each = deep),
      value = plain_values(unlist(unname(as.list(columns)), recursive = FALSE))
    )
  )
}

# A row per leaf of nested objects: the members 0, 1, ... are its names from the
# outermost on, and `value` is the leaf.
tree_frame <- function(rows) {
  if (!length(names(rows))) {
    return(NULL)
  }
  leaves <- tree_leaves(rows, list())
  # an array is no leaf, and none is dropped silently
  if (isTRUE(attr(leaves, "arrays"))) {
    return(NULL)
  }
  if (!length(leaves)) {
    return(NULL)
  }
  out <- as.data.frame(
    data.table::rbindlist(leaves, use.names = TRUE, fill = TRUE)
  )
  out[c(setdiff(names(out), "value"), "value")]
}

tree_leaves <- function(x, above) {
  level <- as.character(length(above))
  single <- lengths(x) <= 1 & !vapply(x, is.list, TRUE)
  own <- if (any(single)) {
    value <- plain_values(as.list(x)[single])
    keys <- lapply(above, rep, length.out = sum(single))
    list(c(keys, stats::setNames(
      list(names(x)[single], unname(value)), c(level, "value")
    )))
  }
  arrays <- FALSE
  deeper <- lapply(names(x)[!single], function(name) {
    part <- x[[name]]
    if (is.data.frame(part) || !length(names(part))) {
      arrays <<- arrays || length(part) > 0
      return(NULL)
    }
    below <- tree_leaves(part, c(above, stats::setNames(list(name), level)))
    arrays <<- arrays || isTRUE(attr(below, "arrays"))
    below
  })
  structure(c(own, unlist(deeper, recursive = FALSE)), arrays = arrays)
}

# Members by position get the names that stand in another list of the body.
rows_named <- function(rows, names, dataset, where) {
  rule <- dataset$names
  if (is.null(rule) || is.null(rows)) {
    return(rows)
  }
  if (is.list(rule) && !is.null(rule$member) && !is.null(names)) {
    names <- if (is.data.frame(names)) {
      member_at(names, rule$member)
    } else {
      lapply(names, value_at, rule$member)
    }
  }
  names <- as.character(unlist(names))
  if (length(names) < length(rows)) {
    stop_payload(
      paste0(
        "The answer names ", counted(length(names), "member"),
        " of a row, and rows have ", length(rows), "."
      ),
      where, "correct names: in the card"
    )
  }
  stats::setNames(rows, names[seq_along(rows)])
}
