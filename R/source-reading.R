# How answers of a dataset are read, decided once when its card is read.

# Constants for reading the dataset's answers: `pointers` of its columns; those
# of values for the whole body (`whole`), under names that no query has; the
# `parts` that page rules need, pointers and headers, and of these the pointers
# (`members`); members that become instants only, and need not be texts first
# (`instants`); rules of names, which may be long numbers (`names_read`);
# whether times are local; and the `base` of the places of rows.
dataset_reading <- function(dataset) {
  facts <- unlist(
    lapply(dataset$columns, function(rule) {
      Filter(is.list, rule[column_facts])
    }),
    recursive = FALSE
  )
  pointers <- unlist(
    c(lapply(dataset$columns, `[[`, "at"), lapply(facts, `[[`, "at")),
    use.names = FALSE
  )
  whole <- unique(
    unlist(
      c(lapply(dataset$columns, `[[`, "body"), lapply(facts, `[[`, "body"))
    )
  )
  rule <- dataset$next_page
  parts <- list(
    following = if (isTRUE(rule$by %in% c("url", "cursor"))) rule$at,
    total = rule$total,
    pages = rule$pages,
    more = rule$more
  )
  parts <- parts[lengths(parts) > 0]
  used <- c(pointers, unlist(rule$at))
  plain <- Filter(
    function(column) {
      column$as == "rfc3339" &&
        !is.null(column$member) &&
        !grepl("[/~{]", column$member) &&
        all(
          names(column) %in%
            c("at", "as", "need", "declared", "member", "plain")
        ) &&
        sum(used == column$at) == 1
    },
    dataset$columns
  )
  time <- dataset$columns$time
  list(
    pointers = unique(pointers),
    whole = stats::setNames(whole, if (length(whole)) paste0("body ", whole)),
    names = if (is.list(dataset$names)) dataset$names$at else dataset$names,
    within = if (is.list(dataset$within)) dataset$within$at else dataset$within,
    parts = parts,
    members = unlist(Filter(is.character, parts)),
    instants = vapply(unname(plain), `[[`, "", "member"),
    names_read = c(
      Filter(function(column) column$as == "text", dataset$columns),
      if (identical(rule$by, "last")) list(list(at = rule$at))
    ),
    local = identical(time$as, "local") || !is.null(time$written),
    base = rows_base(dataset)
  )
}

# Where the rows of an answer are: a JSON Pointer where each row is a member of
# one array, the number of the member where it is one of an object, a line, or
# else their number.
rows_base <- function(dataset) {
  form <- dataset[["form"]] %||% "objects"
  plain <- identical(dataset$format %||% "json", "json") &&
    form %in% c("objects", "arrays", "pairs") &&
    !length(c(dataset$within, dataset$unpack, dataset$wrapped)) &&
    !grepl("*", dataset$rows %||% "*", fixed = TRUE)
  if (!plain) {
    return("row ")
  }
  array <- sub("/$", "", dataset$rows)
  paste0(array, if (form == "pairs") ", member " else "/")
}
