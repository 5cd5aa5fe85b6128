# Blocks: columns as bytes, written down in docs/blocks.md.

# Columns of numbers, instants, days, texts and flags; what is missing throughout is left out.
# Columns that are like each other,
# as the prices of a bar, are written smaller where the one that leads comes first.
block_write <- function(columns, thorough = TRUE) {
  lead <- intersect(c("time", "known", "close", "open", "high", "low"), names(columns))
  columns <- columns[c(lead, setdiff(names(columns), lead))]
  held <- vapply(columns, function(column) !anyNA(column) || !all(is.na(column)), TRUE)
  held[names(columns) == "time"] <- TRUE
  columns <- lapply(columns[held], function(column) {
    if (is.double(column) || is.character(column) || is.logical(column)) column
    else plain_column(column)
  })
  block_write_cpp(columns, thorough)
}

plain_column <- function(column) {
  if (!is.integer(column) || is.factor(column)) {
    return(as.character(column))
  }
  # with its class, if it has one
  storage.mode(column) <- "double"
  column
}

# The rows of blocks, one behind the other: list(columns, rows), with how many rows each block
# gives. `from` and `to` bound the
# column `time`, `at` bounds `known`; with `newest` of several rows with one time the last one is
# given.
blocks_read <- function(bodies, from = -Inf, to = Inf, at = Inf, newest = FALSE) {
  blocks_read_cpp(bodies, from, to, at, newest) %||% blocks_mixed(bodies, from, to, at, newest)
}

# A column that is of one type in one block and of another elsewhere is text.
blocks_mixed <- function(bodies, from, to, at, newest) {
  parts <- lapply(bodies, function(body) blocks_read_cpp(list(body), from, to, at, newest)$columns)
  types <- lapply(parts, function(part) Filter(Negate(is.null), lapply(part, value_type)))
  each <- split(unlist(types), names(unlist(types)))
  mixed <- names(each)[vapply(each, function(type) length(unique(type)) > 1, TRUE)]
  parts <- lapply(parts, function(part) {
    for (name in intersect(mixed, names(part))) part[[name]] <- as_text(part[[name]])
    part
  })
  columns <- as.list(data.table::rbindlist(parts, use.names = TRUE, fill = TRUE))
  list(columns = columns, rows = vapply(parts, function(part) length(part[[1]]), 1L))
}
