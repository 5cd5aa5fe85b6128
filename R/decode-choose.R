# Which rows of a body are meant, and what else in the body belongs to them: rows of one kind among
# several, columns that lie in a second list, JSON with other text around it.

# The numbers of the rows that `only` names by their members; NULL where all are meant.
rows_wanted <- function(rows, only) {
  if (!length(only) || is.null(rows)) {
    return(NULL)
  }
  kept <- rep(TRUE, nrow(rows))
  for (pointer in names(only)) {
    value <- member_at(rows, pointer)
    told <- tolower(as.character(value %||% rep(NA, nrow(rows))))
    kept <- kept & told %in% tolower(as.character(unlist(only[[pointer]])))
  }
  which(kept)
}

# Rows with the columns of another list of the body, joined by a member of each.
rows_looked_up <- function(rows, second, dataset, where) {
  rule <- dataset$lookup
  if (is.null(rule) || is.null(rows)) {
    return(rows)
  }
  told <- unique(unlist(lapply(dataset$columns, function(column) {
    if (is.list(column)) column$lookup
  })))
  second <- if (length(second)) json_rows(second, rule[["form"]] %||% "objects", where, rule$rows,
    c(rule$by, told))
  by <- member_at(rows, rule$from)
  if (is.null(by)) {
    stop_payload(paste0("No row has the member ", rule$from,
      ", by which its other columns are looked up."), where,
      "correct from: of lookup: in the card")
  }
  key <- if (is.null(rule$by)) second[["key"]] else if (!is.null(second)) member_at(second, rule$by)
  if (length(second) && is.null(key)) {
    stop_payload(paste0("No row at ", rule$rows, " has the member ", rule$by,
      ", by which rows are joined."), where, "correct by: of lookup: in the card")
  }
  at <- match(as.character(by), as.character(key))
  for (pointer in told) {
    value <- if (!is.null(second)) member_at(second, pointer)
    rows[[paste("lookup", pointer)]] <- if (is.null(value)) rep(NA, length(at)) else value[at]
  }
  rows
}

# The bytes from the first bracket of JSON to the last: what stands around them is the name of a
# function, or a guard against being run.
json_within <- function(body) {
  opens <- which(body %in% charToRaw("{["))
  closes <- which(body %in% charToRaw("}]"))
  if (!length(opens) || !length(closes) || opens[1] > closes[length(closes)]) {
    return(body)
  }
  body[opens[1]:closes[length(closes)]]
}
