# Rows that stand within others: a symbol with its bars, a company with its facts. Each outer row,
# or each entry of a map, holds rows of its own;
# what stands once in the outer one is a column of all of them.

rows_within <- function(outer, dataset, where) {
  within <- dataset$within
  if (!is.list(within)) within <- list(at = within)
  form <- within[["form"]] %||% "objects"
  holders <- outer_rows(outer, dataset[["form"]] %||% "objects", where, dataset$rows)
  told <-
    unique(as.character(unlist(lapply(dataset$columns,
      function(rule) if (is.list(rule)) rule$outer))))
  parts <- lapply(seq_along(holders), function(i) {
    holder <- holders[[i]]
    inner <- if (nzchar(within$at)) value_at(holder, within$at) else holder
    rows <- if (length(inner)) json_rows(inner, form, where,
      paste0(dataset$rows, "/", i - 1L, within$at), column_pointers(dataset))
    if (is.null(rows) || !nrow(rows)) {
      return(NULL)
    }
    own <- lapply(stats::setNames(told, sprintf("outer %s", told)),
      function(pointer) rep(plain_values(list(value_at(holder, pointer)))[[1]], nrow(rows)))
    if (form %in% c("objects", "arrays", "columns", "one") && !is.null(names(holders))) {
      own$key <- rep(names(holders)[i], nrow(rows))
    }
    if (!is.null(names(holders))) own[["outer-key"]] <- rep(names(holders)[i], nrow(rows))
    list_frame(c(as.list(rows), own))
  })
  rows <- data.table::rbindlist(Filter(Negate(is.null), parts), use.names = TRUE, fill = TRUE)
  rows <- as.data.frame(rows)
  attr(rows, "items") <- length(holders)
  rows
}

# The outer rows as a list of objects; named where they are the entries of a map.
outer_rows <- function(outer, form, where, at) {
  if (!length(outer)) {
    return(list())
  }
  if (form == "map") {
    if (is.list(outer) && !is.data.frame(outer) && length(names(outer))) {
      return(outer)
    }
    stop_payload(paste0("What stands at ", at, " is no map from a name to rows."), where,
      "correct rows: or form: in the card")
  }
  if (form == "one" && is.list(outer) && !is.data.frame(outer)) {
    return(list(outer))
  }
  if (is.data.frame(outer)) {
    return(lapply(seq_len(nrow(outer)),
      function(i) {
        lapply(outer,
        function(column) {
          if (is.data.frame(column)) as.list(column[i, , drop = FALSE])
          else column[[i]]
        })
      }))
  }
  if (is.list(outer) && is.null(names(outer)) && all(vapply(outer, is.list, TRUE))) {
    return(outer)
  }
  stop_payload(paste0("What stands at ", at, " is no array of objects that hold rows."), where,
    "correct rows:, form: or within: in the card")
}
