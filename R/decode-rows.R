# Rows of a body into the columns that the card declares. What does not fit is reported with its
# place, row and value; a
# row that lacks what its shape cannot be without is set aside.

# The whole of a body: list(columns, faults, rows, members), where `members` are the values that
# the page rule asked for.
decode_body <- function(dataset, body, source, known = list(), members = character(),
  where = "the body") {
  format <- dataset$format %||% "json"
  body <- text_in_utf8(unpacked_body(body, where))
  if (isTRUE(dataset$wrapped)) body <- json_within(body)
  if (format == "json-lines") {
    if (length(body)) body <- json_lines(body)
    dataset$rows <- ""
  }
  if (format %in% c("json", "json-lines")) {
    whole <- body_columns(dataset)
    problem <- problem_pointers(source$problem)
    found <- decode_json(body,
      c(rows = dataset$rows, problem, members, whole, lookup = dataset$lookup$rows), where,
      instants = instant_members(dataset),
      map = is.null(dataset$within) && identical(dataset[["form"]], "map"))
    stop_on_problem(found, source$problem, where)
    if (is.null(found$rows) && !"absent" %in% dataset$nothing) {
      stop_payload(paste0("The answer has no rows at ", dataset$rows, "."), where,
        "look whether the service changed its answer, and correct rows: in the card")
    }
    read <- function(part) {
      if (is.null(part)) NULL
      else if (is.null(dataset$within)) json_rows(part,
      dataset[["form"]] %||% "objects", where, dataset$rows, column_pointers(dataset))
      else rows_within(part, dataset, where)
    }
    rows <- read(found$rows)
    if (has_long_names(rows, dataset) || has_fine_times(rows, dataset, body)) {
      rows <- read(decode_json(body, c(rows = dataset$rows), where, "string")$rows)
    }
    rows <- rows_looked_up(rows, found$lookup, dataset, where)
    known <- c(known, found[names(whole)])
  } else {
    found <- list()
    rows <- switch(dataset$format, "json-stat" = jsonstat_rows(body, where),
      "xbrl-json" = xbrl_rows(body, where),
      decode_table(body, dataset$format, where, dataset$table))
  }
  decoded <- decode_rows(dataset, rows, source$zone, where, known)
  if (identical(dataset$next_page$by, "last") && decoded$rows > 0) {
    decoded$last <- last_value(column_value(rows, list(at = dataset$next_page$at), list()), dataset,
      where)
  }
  # what the service counts as a row: one of several sides, or one that holds rows of its own,
  # counts once
  items <- attr(rows, "items") %||% if (length(dataset$sides)) decoded$rows / length(dataset$sides)
  else if (length(dataset$only) || length(dataset$unpack)) NROW(rows) else decoded$rows
  c(decoded, list(members = found, items = items))
}

# Members of rows that become a column of instants and nothing else: they need not be texts first.
instant_members <- function(dataset) {
  used <- members_used(dataset)
  plain <- Filter(function(rule) {
    rule$as == "rfc3339" && length(rule$at) == 1 &&
      all(names(rule) %in% c("at", "as", "need", "declared")) &&
      grepl("^/[^/~{]+$", rule$at) && sum(used == rule$at) == 1
  }, dataset$columns)
  substring(vapply(unname(plain), `[[`, "", "at"), 2)
}

# Every use of a member of the rows.
members_used <- function(dataset) {
  c(unlist(lapply(dataset$columns, `[[`, "at")), dataset$next_page$at)
}

# Names that are written as numbers too long for a double.
has_long_names <- function(rows, dataset) {
  if (is.null(rows)) {
    return(FALSE)
  }
  rules <- c(Filter(function(rule) rule$as == "text", dataset$columns),
    if (identical(dataset$next_page$by, "last")) list(list(at = dataset$next_page$at)))
  any(vapply(rules, function(rule) {
    value <- column_value(rows, rule, list())
    is.numeric(value) && is_long(value)
  }, TRUE))
}

# Whether times in nanoseconds, which no double can hold, are alike as whole microseconds.
has_fine_times <- function(rows, dataset, body) {
  rule <- dataset$columns$time
  if (is.null(rows) || !isTRUE(rule$as %in% c("epoch-ns", "rfc3339"))) {
    return(FALSE)
  }
  value <- column_value(rows, rule, list())
  if (rule$as == "epoch-ns") is.numeric(value) && anyDuplicated(round(value / 1000)) > 0
  else inherits(value, "POSIXct") && anyDuplicated(value) > 0 &&
    length(grepRaw("[.][0-9]{7,9}[Zz+-]", body)) > 0
}

# The nanoseconds of each time within its second; NULL where none is finer than a microsecond.
finer_part <- function(value, type) {
  digits <- if (type == "epoch-ns" && is.character(value)) {
    sub("^.*?([0-9]{1,9})$", "\\1", value, perl = TRUE)
  } else if (type == "rfc3339" && is.character(value) && any(grepl("[.][0-9]{7}", value))) {
    substr(paste0(sub("^[^.]*[.]?([0-9]*).*$", "\\1", value), "000000000"), 1, 9)
  }
  nanos <- suppressWarnings(as.numeric(digits))
  nanos[is.na(nanos)] <- 0
  if (any(nanos %% 1000 > 0)) nanos
}

# The member of the last row by which the next page is asked for.
last_value <- function(values, dataset, where) {
  last <- if (length(values)) values[[length(values)]]
  if (is.null(member_text(last))) {
    stop_payload(paste0("The last row has no member ", dataset$next_page$at,
      ", by which the next page is asked for."), where, "correct at: of next_page: in the card")
  }
  last
}

# The pointers of a dataset's columns.
column_pointers <- function(dataset) {
  unique(unlist(lapply(dataset$columns, `[[`, "at")))
}

# Columns whose value stands once for the whole body, as pointers by a name that no want has.
body_columns <- function(dataset) {
  pointers <- unlist(lapply(dataset$columns, `[[`, "body"))
  stats::setNames(pointers, if (length(pointers)) paste0("body ", pointers))
}

# Where a body says error with status 200: a member that is there and says something, or that says
# none of the words that are fine.
problem_pointers <- function(problem) {
  if (is.list(problem)) c(problem = problem$at, problem_text = problem$text)
  else if (!is.null(problem)) c(problem = problem)
}

stop_on_problem <- function(found, rule, where) {
  problem <- found$problem
  fine <- if (is.list(rule)) rule$fine
  # a member that is not there, or an array or object with nothing in it, says nothing
  if (!length(problem) || (is.atomic(problem) && is.na(problem[1]))) {
    return(invisible())
  }
  if (is.null(fine) && is.atomic(problem) && problem[1] %in% list("", FALSE, 0)) {
    return(invisible())
  }
  if (!is.null(fine) &&
    tolower(as.character(unlist(problem)[1])) %in% tolower(as.character(unlist(fine)))) {
    return(invisible())
  }
  told <- found$problem_text %||% problem
  text <- substr(paste(unlist(told), collapse = ", "), 1, 200)
  again <- is.list(rule) &&
    tolower(as.character(unlist(problem)[1])) %in% tolower(as.character(unlist(rule$again)))
  vetusta_stop("payload", paste0("The service answers with an error: ", text), where,
    "look at the want; if it is right, ask again later", again = again)
}

# Rows as a frame of members, into the columns of the card. Sides become rows of their own. Where
# `at` is given, it says which of the service's rows each one is.
decode_rows <- function(dataset, rows, zone, where, known = list()) {
  if (!is.null(dataset$unpack)) rows <- turned_rows(rows, dataset$unpack, where)
  at <- rows_wanted(rows, dataset$only)
  if (!is.null(at)) rows <- rows[at, , drop = FALSE]
  if (is.null(rows) || !nrow(rows)) {
    return(list(columns = empty_columns(dataset), faults = no_faults, rows = 0L))
  }
  if (!length(dataset$sides)) {
    return(c(decode_side(dataset, rows, zone, where, known, at = at), list(at = at)))
  }
  parts <- lapply(dataset$sides, function(side) {
    part <- decode_side(dataset, rows, zone, where, known, side, at)
    part$columns$side <- rep(side, part$rows)
    part
  })
  columns <- lapply(stats::setNames(nm = names(parts[[1]]$columns)),
    function(name) do.call(c, lapply(parts, function(part) part$columns[[name]])))
  faults <- do.call(rbind, lapply(seq_along(parts), function(i) {
    found <- parts[[i]]$faults
    found$row <- found$row + (i - 1L) * nrow(rows)
    found
  }))
  list(columns = columns, faults = faults, rows = nrow(rows) * length(parts),
    at = rep(at %||% seq_len(nrow(rows)), length(parts)))
}

# Columns that name what a row speaks of.
key_columns <- c("symbol", "series", "entity", "item", "place", "dataset", "link", "kind", "side")

decode_side <- function(dataset, rows, zone, where, known, side = NULL, at = NULL) {
  columns <- list()
  faults <- list(no_faults)
  finer <- NULL
  for (name in names(dataset$columns)) {
    rule <- dataset$columns[[name]]
    if (length(side)) rule$at <- sub("{side}", side, rule$at, fixed = TRUE)
    value <- column_value(rows, rule, known)
    if (is.null(value)) {
      if (rule$need == "required") {
        stop_payload(paste0("No row has the member ", rule$at, ", which is the column `", name,
          "`."), paste0(where, ", ", dataset$rows, "/0", rule$at),
          paste0("look whether the service changed its answer; mark the column need: optional in ",
            "the card if it may be absent"))
      }
      value <- rep(rule$default %||% NA, nrow(rows))
    }
    # words for nothing in a table, but in its keys: NA may be a country
    if (is.null(rule$nothing) && is.character(value) && !name %in% key_columns &&
      isTRUE(dataset$format %in% c("csv", "tsv"))) {
      value[value %in% table_absent] <- NA
    }
    if (!is.null(rule$nothing)) {
      value[as.character(unlist(value)) %in% as.character(unlist(rule$nothing))] <- NA
    }
    if (!is.null(rule$words)) value <- column_words(value, rule$words)
    type <- rule$as
    read <- read_column(value, type, zone, rule)
    absent <- if (anyNA(value)) which(is.na(read$value) & is.na(value)) else integer()
    if (!is.null(rule$default) && length(absent)) {
      read$value[absent] <- read_column(rep(rule$default, length(absent)), type, zone, rule)$value
    }
    if (rule$need == "required") read$bad <- union(read$bad, absent)
    if (length(read$bad)) {
      faults[[length(faults) + 1]] <- column_faults(read$bad, value, name, rule$at, dataset, at,
        read$far)
    }
    columns[[name]] <- read$value
    if (name == "time" && inherits(read$value, "POSIXct")) finer <- finer_part(value, type)
  }
  list(columns = columns, faults = if (length(faults) == 1) no_faults
  else do.call(rbind, faults), rows = nrow(rows), finer = finer)
}
