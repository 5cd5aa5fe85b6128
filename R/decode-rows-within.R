# Selected rows, rows of a second list, and rows within rows.

# Numbers of the rows that match `only`; NULL for all.
rows_wanted <- function(rows, only) {
  if (!length(only) || is.null(rows)) {
    return(NULL)
  }
  kept <- rep(TRUE, nrow(rows))
  for (pointer in names(only)) {
    value <- member_at(rows, pointer)
    words <- tolower(as.character(value %||% rep(NA, nrow(rows))))
    kept <- kept & words %in% tolower(as.character(unlist(only[[pointer]])))
  }
  which(kept)
}

# Rows joined with another list of the body by a member of each.
rows_looked_up <- function(rows, second, dataset, where) {
  rule <- dataset$lookup
  if (is.null(rule) || is.null(rows)) {
    return(rows)
  }
  members <- unique(unlist(lapply(dataset$columns, function(column) {
    if (is.list(column)) column$lookup
  })))
  second <- if (length(second)) {
    json_rows(
      second, rule[["form"]] %||% "objects", where, rule$rows,
      c(rule$by, members)
    )
  }
  by <- member_at(rows, rule$from)
  if (is.null(by)) {
    stop_payload(
      paste0(
        "No row has the member ", rule$from,
        ", by which its other columns are looked up."
      ),
      where, "correct from: of lookup: in the card"
    )
  }
  key <- if (is.null(rule$by)) {
    second[["key"]]
  } else if (!is.null(second)) {
    member_at(second, rule$by)
  }
  if (length(second) && is.null(key)) {
    stop_payload(
      paste0(
        "No row at ", rule$rows, " has the member ", rule$by,
        ", by which rows are joined."
      ),
      where, "correct by: of lookup: in the card"
    )
  }
  at <- match(as.character(by), as.character(key))
  for (pointer in members) {
    value <- if (!is.null(second)) member_at(second, pointer)
    rows[[paste("lookup", pointer)]] <-
      if (is.null(value)) rep(NA, length(at)) else value[at]
  }
  rows
}

# The bytes from the first to the last bracket of JSON, without a function name
# or a guard around them.
json_within <- function(body) {
  opens <- which(body %in% charToRaw("{["))
  closes <- which(body %in% charToRaw("}]"))
  if (!length(opens) || !length(closes) || opens[1] > closes[length(closes)]) {
    return(body)
  }
  body[opens[1]:closes[length(closes)]]
}

# Nested rows: a symbol with its bars, a company with its facts.

rows_within <- function(outer, dataset, where) {
  within <- dataset$within
  if (!is.list(within)) within <- list(at = within)
  form <- within[["form"]] %||% "objects"
  holders <- outer_rows(
    outer, dataset[["form"]] %||% "objects", where, dataset$rows
  )
  members <- unique(
    as.character(
      unlist(
        lapply(dataset$columns, function(rule) if (is.list(rule)) rule$outer)
      )
    )
  )
  parts <- lapply(seq_along(holders), function(i) {
    holder <- holders[[i]]
    inner <- if (nzchar(within$at)) value_at(holder, within$at) else holder
    # an array of values is a row of a matrix
    if (form == "matrix") inner <- list(inner)
    rows <- if (length(inner)) {
      json_rows(
        inner, form, where, paste0(dataset$rows, "/", i - 1L, within$at),
        dataset$reading$pointers
      )
    }
    if (is.null(rows) || !nrow(rows)) {
      return(NULL)
    }
    ancestors <- lapply(
      stats::setNames(members, sprintf("outer %s", members)),
      function(pointer) {
        rep(plain_values(list(value_at(holder, pointer)))[[1]], nrow(rows))
      }
    )
    if (form %in% c("objects", "arrays", "columns", "one") &&
      !is.null(names(holders))) {
      ancestors$key <- rep(names(holders)[i], nrow(rows))
    }
    if (!is.null(names(holders))) {
      ancestors[["outer-key"]] <- rep(names(holders)[i], nrow(rows))
    }
    list_frame(c(as.list(rows), ancestors))
  })
  rows <- data.table::rbindlist(
    Filter(Negate(is.null), parts),
    use.names = TRUE, fill = TRUE
  )
  rows <- as.data.frame(rows)
  attr(rows, "items") <- length(holders)
  rows
}

# The outer rows as a list of objects; named where they are entries of a map.
outer_rows <- function(outer, form, where, at) {
  if (!length(outer)) {
    return(list())
  }
  if (form == "map") {
    if (is.list(outer) && !is.data.frame(outer) && length(names(outer))) {
      return(outer)
    }
    stop_payload(
      paste0("The member at ", at, " is no map from a name to rows."), where,
      "correct rows: or form: in the card"
    )
  }
  if (form == "one" && is.list(outer) && !is.data.frame(outer)) {
    return(list(outer))
  }
  if (is.data.frame(outer)) {
    return(lapply(seq_len(nrow(outer)), function(i) {
      lapply(outer, function(column) {
        if (is.data.frame(column)) {
          as.list(column[i, , drop = FALSE])
        } else if (is.matrix(column)) {
          column[i, ]
        } else {
          column[[i]]
        }
      })
    }))
  }
  if (is.list(outer) &&
    is.null(names(outer)) &&
    all(vapply(outer, is.list, TRUE))) {
    return(outer)
  }
  stop_payload(
    paste0("The member at ", at, " is not an array of objects with rows."),
    where, "correct rows:, form: or within: in the card"
  )
}
