# Statistical formats whose rows are read like those of other datasets:
# JSON-stat 2.0, xBRL-JSON, and tables with dimensions packed into the first
# column.

# JSON-stat 2.0: members are the dimensions by id, `value` and `status`.
jsonstat_rows <- function(body, where) {
  parsed <- parse_json(body, where, level = "vector")
  if (identical(parsed$class, "error") || !is.null(parsed$error)) {
    stop_payload(
      paste0(
        "The service answers with an error: ",
        paste(unlist(c(parsed$error, parsed$label)), collapse = " ")
      ),
      where, "look at the query"
    )
  }
  if (identical(parsed$class, "collection")) {
    stop_payload(
      "The answer is a collection of JSON-stat, not a dataset.", where,
      "query a single dataset"
    )
  }
  ids <- as.character(unlist(parsed$id))
  sizes <- as.numeric(unlist(parsed$size))
  if (!length(ids) || length(ids) != length(sizes)) {
    stop_payload(
      "The answer is JSON and no JSON-stat dataset: id and size are missing.",
      where, "correct format: in the card"
    )
  }
  cells <- prod(sizes)
  value <- rep(NA_real_, cells)
  if (!is.null(names(parsed$value))) {
    value <- jsonstat_sparse(parsed$value, value, where)
  } else if (!is.null(parsed$value) && length(parsed$value)) {
    given <- jsonstat_vector(parsed$value)
    if (length(given) != cells) {
      stop_payload(
        "The answer has another number of values than its dimensions give.",
        where, "report it to the provider of the service"
      )
    }
    value <- suppressWarnings(as.double(given))
  }
  columns <- list()
  for (i in seq_along(ids)) {
    codes <- jsonstat_codes(
      parsed$dimension[[ids[i]]]$category, sizes[i], where
    )
    each <- prod(sizes[-seq_len(i)])
    columns[[ids[i]]] <- rep(rep(codes, each = each), length.out = cells)
  }
  columns$value <- value
  columns$status <- jsonstat_status(parsed$status, cells, where)
  list_frame(c(columns, jsonstat_members(parsed, columns)))
}

# Values or statuses by position, from 0; null is a missing value at its
# position.
jsonstat_sparse <- function(given, into, where) {
  at <- suppressWarnings(as.numeric(names(given))) + 1
  if (anyNA(at) || any(at < 1 | at > length(into))) {
    stop_payload(
      "The answer has a value beside its dimensions.", where,
      "report it to the provider of the service"
    )
  }
  given <- jsonstat_vector(given)
  into[at] <- if (is.character(into)) {
    as.character(given)
  } else {
    suppressWarnings(as.double(given))
  }
  into
}

# Roles and hierarchies of dimensions as members "role/time", "role/geo",
# "role/metric", and "parent/..." by dimension.
jsonstat_members <- function(parsed, columns) {
  roles <- list()
  for (role in intersect(c("time", "geo", "metric"), names(parsed$role))) {
    id <- as.character(unlist(parsed$role[[role]]))
    if (length(id) && id[1] %in% names(columns)) {
      roles[[paste0("role/", role)]] <- columns[[id[1]]]
    }
  }
  for (id in names(parsed$dimension)) {
    child <- parsed$dimension[[id]]$category$child
    if (!length(child)) next
    parent <- rep(names(child), lengths(child))
    roles[[paste0("parent/", id)]] <-
      parent[match(columns[[id]], as.character(unlist(child)))]
  }
  roles
}

jsonstat_vector <- function(values) {
  if (is.atomic(values)) {
    return(unname(values))
  }
  values[lengths(values) == 0] <- NA
  unlist(values, use.names = FALSE)
}

jsonstat_codes <- function(category, size, where) {
  index <- category$index
  codes <- if (is.null(index)) {
    names(category$label)
  } else if (!is.null(names(index))) {
    names(index)[order(as.numeric(unlist(index)))]
  } else {
    as.character(unlist(index))
  }
  if (length(codes) != size) {
    stop_payload(
      paste0(
        "A dimension of the answer has another number of categories than ",
        "its size."
      ),
      where, "report it to the provider of the service"
    )
  }
  codes
}

jsonstat_status <- function(status, cells, where) {
  if (is.null(status) || !length(status)) {
    return(rep(NA_character_, cells))
  }
  if (is.character(status) && length(status) == 1 && is.null(names(status))) {
    return(rep(status, cells))
  }
  out <- rep(NA_character_, cells)
  if (!is.null(names(status))) {
    return(jsonstat_sparse(status, out, where))
  }
  given <- as.character(jsonstat_vector(status))
  out[seq_along(given)] <- given
  out
}

# xBRL-JSON (OIM): a row a fact; members are concept, entity, period_start,
# period_end, basis, unit, value, decimals, and every further dimension by its
# name.
xbrl_rows <- function(body, where) {
  parsed <- parse_json(body, where, level = "list")
  facts <- parsed$facts
  if (is.null(facts)) {
    stop_payload(
      "The answer has no facts.", where, "correct format: in the card"
    )
  }
  if (!length(facts)) {
    return(NULL)
  }
  dims <- lapply(facts, `[[`, "dimensions")
  text <- function(name) {
    vapply(
      dims, function(item) as.character(item[[name]] %||% NA), "",
      USE.NAMES = FALSE
    )
  }
  # a name has a prefix that the report declares; a typed value such as 10:30
  # does not
  prefixes <- names(parsed$documentInfo$namespaces)
  local <- function(x) {
    prefix <- sub(":.*", "", x)
    named <- grepl("^[A-Za-z_][^:/ ]*:[^:/ ]+$", x) &
      (if (length(prefixes)) prefix %in% prefixes else TRUE)
    ifelse(named, sub("^[^:]*:", "", x), x)
  }
  period <- xbrl_periods(text("period"))
  further <- setdiff(
    unique(unlist(lapply(dims, names))),
    c("concept", "entity", "period", "unit", "language", "noteId")
  )
  rows <- c(
    list(concept = local(text("concept")), entity = local(text("entity"))),
    period,
    list(
      unit = local(text("unit")),
      value = vapply(
        facts, function(fact) as.character(fact$value %||% NA), "",
        USE.NAMES = FALSE
      ),
      decimals = vapply(
        facts, function(fact) as.character(fact$decimals %||% NA), "",
        USE.NAMES = FALSE
      )
    )
  )
  for (name in further) rows[[local(name)]] <- local(text(name))
  # a fact in several languages is several facts
  if (any(!is.na(text("language")))) rows$language <- text("language")
  list_frame(rows)
}

# "start/end" where the end is an exclusive midnight; or an instant, the end of
# the day before.
xbrl_periods <- function(text) {
  ends <- strsplit(text, "/", fixed = TRUE)
  day <- function(x) {
    read_day(substr(x, 1, 10)) - (grepl("T00:00:00", x) | nchar(x) == 10)
  }
  start <- read_day(substr(
    vapply(
      ends,
      function(part) {
        if (length(part) == 2) part[1] else NA_character_
      },
      ""
    ),
    1, 10
  ))
  end <- day(vapply(ends, function(part) part[length(part)], ""))
  days <- as.numeric(end - start) + 1
  basis <- ifelse(
    is.na(days), "instant",
    ifelse(
      days > 340 & days < 390, "annual",
      ifelse(
        days > 170 & days < 195, "half-yearly",
        ifelse(days > 80 & days < 100, "quarterly", "other")
      )
    )
  )
  list(period_start = format(start), period_end = format(end), basis = basis)
}

# The first column packs the dimensions ("M,T,ORV"), and its name lists them
# ("FREQ,UNIT,STATE\\TIME"); other columns are periods, with flags after the
# numbers.
turned_rows <- function(rows, rule, where) {
  if (is.null(rows)) {
    return(NULL)
  }
  if (!is.null(rule$keep)) {
    return(rows_long(rows, rule$keep, where))
  }
  by <- rule$by %||% ","
  packed <- names(rows)[1]
  into <- rule$into %||%
    strsplit(sub("\\\\.*$", "", packed), by, fixed = TRUE)[[1]]
  parts <- strsplit(rows[[1]], by, fixed = TRUE)
  wrong <- which(lengths(parts) != length(into))
  if (length(wrong)) {
    stop_payload(
      paste0(
        "The first column of row ", wrong[1], " does not unpack into ",
        paste(into, collapse = ", "), "."
      ),
      where, "correct unpack: in the card"
    )
  }
  parts <- matrix(trimws(unlist(parts)), ncol = length(into), byrow = TRUE)
  periods <- trimws(names(rows)[-1])
  columns <- stats::setNames(
    lapply(seq_along(into), function(i) rep(parts[, i], length(periods))), into
  )
  parted <- cells_parted(unlist(rows[-1], use.names = FALSE))
  frame <- list_frame(
    c(columns, list(period = rep(periods, each = nrow(rows))), parted)
  )
  # an empty cell is no value; a flag without a number is a missing value
  frame[!(is.na(frame$value) & is.na(frame$flag)), , drop = FALSE]
}

# Cells with a number and flags: list(value, flag) as texts. A flag in square
# brackets before its number, as in [r]12.3, is moved behind it.
flags_behind <- function(cells) {
  front <- grepl("^ *\\[[A-Za-z]{1,3}\\]", cells)
  cells[front] <-
    sub("^ *\\[([A-Za-z]{1,3})\\] *(.*)$", "\\2 \\1", cells[front])
  cells
}

cells_parted <- function(cells) {
  cells <- flags_behind(cells)
  cells <- trimws(cells)
  # an exponent has digits; a letter after a number is a flag
  number <- sub("^([-+]?[0-9.,]*([eE][-+]?[0-9]+)?).*$", "\\1", cells)
  flag <- trimws(substring(cells, nchar(number) + 1))
  absent <- is.na(cells) | !nzchar(number) | number %in% c(":", "-")
  colon <- which(startsWith(flag, ":"))
  flag[colon] <- trimws(substring(flag[colon], 2))
  list(
    value = ifelse(absent, NA_character_, number),
    flag = ifelse(is.na(flag) | !nzchar(flag), NA_character_, flag)
  )
}

# A table with a column a series as rows of `/name` and `/value`; `keep` are
# other columns. An empty cell is no row.
rows_long <- function(rows, keep, where) {
  keep <- sub("^/", "", keep)
  lacks <- setdiff(keep, names(rows))
  if (length(lacks)) {
    stop_payload(
      paste0("There is no column ", lacks[1], " to keep."), where,
      paste0(
        "correct keep: of unpack: in the card; there are: ",
        paste(utils::head(names(rows), 8), collapse = ", ")
      )
    )
  }
  names <- setdiff(names(rows), keep)
  if (!length(names) && nrow(rows)) {
    stop_payload(
      "There is no column beside those that unpack: keeps.", where,
      paste0(
        "check whether the service changed its answer, or correct keep: ",
        "in the card"
      )
    )
  }
  kept <- lapply(rows[keep], function(column) rep(column, length(names)))
  value <- unlist(lapply(rows[names], as.character), use.names = FALSE)
  value[value %in% table_absent] <- NA
  # a number with a flag, as 12.3 p or [p]12.3
  value <- flags_behind(value)
  flagged <- grepl(
    "^ *[-+]?[0-9][0-9.,]*([eE][-+]?[0-9]+)? *[a-zA-Z]{1,3} *$", value
  )
  flag <- rep(NA_character_, length(value))
  if (any(flagged)) {
    parted <- cells_parted(value[flagged])
    value[flagged] <- parted$value
    flag[flagged] <- parted$flag
  }
  long <- list_frame(
    c(
      kept,
      list(name = rep(names, each = nrow(rows)), value = value, flag = flag)
    )
  )
  # where no cell has a value, the rows are kept as missing
  if (all(is.na(long$value))) long else long[!is.na(long$value), , drop = FALSE]
}
