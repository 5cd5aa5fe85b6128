# Converts rows of a body to the columns of the card. A value that does not fit
# is reported with its place, row and text; a row without a required value is
# rejected.

# A whole body: list(columns, rejected rows, rows, members), where `members` are
# the values that the page rule needs.
decode_body <- function(dataset, body, source, known = list(),
                        members = character(), where = "the body") {
  # gzip and zip files begin with these bytes
  if (length(body) && body[1] %in% as.raw(c(0x1f, 0x50))) {
    body <- unpacked_body(body, where)
    # a workbook is a zip file too
    if (is_zip(body) && !identical(dataset$format, "xlsx")) {
      return(decode_zip(dataset, body, source, known, members, where))
    }
  }
  read <- body_rows(dataset, body, source, members, where)
  dataset <- read$dataset
  rows <- read$rows
  known <- c(known, read$known)
  decoded <- decode_rows(dataset, rows, source$zone, where, known)
  if (identical(dataset$next_page$by, "last") && decoded$rows > 0) {
    decoded$last <- last_value(
      column_value(rows, list(at = dataset$next_page$at), list()), dataset,
      where
    )
  }
  # rows as the service counts them: one with several sides, or with nested
  # rows, counts once
  items <- attr(rows, "items") %||%
    if (length(dataset$sides)) {
      decoded$rows / length(dataset$sides)
    } else if (length(dataset$only) || length(dataset$unpack)) {
      NROW(rows)
    } else {
      decoded$rows
    }
  c(decoded, list(members = read$parsed, items = items))
}

# The rows of a body before their columns are read: list(rows, parsed (members
# of the body), known (values for all rows), dataset).
body_rows <- function(dataset, body, source, members = character(),
                      where = "the body") {
  format <- dataset$format %||% "json"
  known <- list()
  if (format != "xlsx") body <- text_in_utf8(body)
  if (isTRUE(dataset$wrapped)) body <- json_within(body)
  if (format == "json-lines") {
    lines <- if (length(body)) json_lines(body)
    body <- lines$body %||% body
    dataset$rows <- ""
  }
  if (format == "xml") {
    body <- xml_as_json(body, where, c(dataset$rows, dataset$reading$within))
  }
  if (format %in% c("json", "json-lines", "xml")) {
    whole <- dataset$reading$whole
    problem <- if (!is.null(source$problem)) problem_pointers(source$problem)
    parsed <- decode_json(
      body,
      c(
        rows = dataset$rows, problem, members, whole,
        lookup = dataset$lookup$rows, names = dataset$reading$names
      ),
      where,
      instants = dataset$reading$instants,
      map = is.null(dataset$within) && identical(dataset[["form"]], "map")
    )
    if (length(parsed$problem)) {
      stop_on_problem(parsed, source$problem, where)
    }
    if (is.null(parsed$rows) && !"absent" %in% dataset$nothing) {
      stop_payload(
        paste0("The answer has no rows at ", dataset$rows, "."), where,
        paste0(
          "check whether the service changed its answer, and correct rows: ",
          "in the card"
        )
      )
    }
    read <- function(part) {
      if (is.null(part)) {
        return(NULL)
      }
      if (!is.null(dataset$within)) {
        return(rows_within(part, dataset, where))
      }
      rows <- json_rows(
        part, dataset[["form"]] %||% "objects", where, dataset$rows,
        dataset$reading$pointers
      )
      if (is.null(dataset$names)) {
        rows
      } else {
        rows_named(rows, parsed$names, dataset, where)
      }
    }
    rows <- read(parsed$rows)
    if (needs_exact(rows, dataset, body)) {
      rows <- read(
        decode_json(body, c(rows = dataset$rows), where, "string")$rows
      )
    }
    if (!is.null(dataset$lookup)) {
      rows <- rows_looked_up(rows, parsed$lookup, dataset, where)
    }
    known <- parsed[names(whole)]
    if (format == "json-lines" && identical(NROW(rows), length(lines$at))) {
      attr(rows, "lines") <- lines$at
    }
  } else {
    parsed <- list()
    rows <- switch(dataset$format,
      "json-stat" = jsonstat_rows(body, where),
      "xbrl-json" = xbrl_rows(body, where),
      xlsx = decode_sheet(body, dataset$table, where),
      decode_table(body, dataset$format, where, dataset$table)
    )
  }
  list(rows = rows, parsed = parsed, known = known, dataset = dataset)
}

# UTF-16 as UTF-8, recognised by its byte order mark, or by zeros in every other
# byte, which UTF-8 text never has.
text_in_utf8 <- function(body) {
  start <- body[seq_len(min(length(body), 400))]
  marked <- length(start) && start[1] >= as.raw(0xfe)
  if (!marked && !length(grepRaw(as.raw(0), start, fixed = TRUE))) {
    return(body)
  }
  encoding <- utf16_of(body)
  if (is.null(encoding)) {
    return(body)
  }
  if (encoding$mark) body <- body[-(1:2)]
  read <- iconv(
    list(body[seq_len(length(body) - length(body) %% 2)]), encoding$name,
    "UTF-8",
    toRaw = TRUE
  )[[1]]
  read %||% body
}

# Whether numbers are to be read as texts, because a double would change them:
# names that are written as long numbers, and times in nanoseconds that are
# equal in microseconds.
needs_exact <- function(rows, dataset, body) {
  if (is.null(rows)) {
    return(FALSE)
  }
  for (rule in dataset$reading$names_read) {
    value <- column_value(rows, rule, list())
    if (is.numeric(value) && is_long(value)) {
      return(TRUE)
    }
  }
  rule <- dataset$columns$time
  fine <- if (isTRUE(rule$as %in% c("epoch-ns", "rfc3339"))) {
    column_value(rows, rule, list())
  }
  if (is.numeric(fine) && rule$as == "epoch-ns") {
    anyDuplicated(round(fine / 1000)) > 0
  } else {
    inherits(fine, "POSIXct") &&
      anyDuplicated(fine) > 0 &&
      length(grepRaw("[.][0-9]{7,9}[Zz+-]", body)) > 0
  }
}

# The nanoseconds of each time within its second; NULL where no time is finer
# than a microsecond.
finer_part <- function(value, type) {
  digits <- if (type == "epoch-ns") {
    sub("^.*?([0-9]{1,9})$", "\\1", value, perl = TRUE)
  } else if (type == "rfc3339" && any(grepl("[.][0-9]{7}", value))) {
    substr(
      paste0(sub("^[^.]*[.]?([0-9]*).*$", "\\1", value), "000000000"), 1, 9
    )
  }
  nanos <- suppressWarnings(as.numeric(digits))
  nanos[is.na(nanos)] <- 0
  if (any(nanos %% 1000 > 0)) nanos
}

# The member of the last row that the next request uses.
last_value <- function(values, dataset, where) {
  last <- if (length(values)) values[[length(values)]]
  if (is.null(member_text(last))) {
    stop_payload(
      paste0(
        "The last row has no member ", dataset$next_page$at,
        ", which the next page needs."
      ),
      where, "correct at: of next_page: in the card"
    )
  }
  last
}

# Where a body reports an error with status 200: a member that is present and
# not empty, or that has none of the words for success.
problem_pointers <- function(problem) {
  if (is.list(problem)) {
    c(problem = problem$at, problem_text = problem$text)
  } else if (!is.null(problem)) {
    c(problem = problem)
  }
}

stop_on_problem <- function(parsed, rule, where) {
  problem <- parsed$problem
  fine <- if (is.list(rule)) rule$fine
  # a missing member, or an empty array or object, reports nothing
  if (!length(problem) || (is.atomic(problem) && is.na(problem[1]))) {
    return(invisible())
  }
  if (is.null(fine) &&
    is.atomic(problem) &&
    problem[1] %in% list("", FALSE, 0)) {
    return(invisible())
  }
  if (!is.null(fine) &&
    tolower(as.character(unlist(problem)[1])) %in%
      tolower(as.character(unlist(fine)))) {
    return(invisible())
  }
  reported <- parsed$problem_text %||% problem
  text <- substr(paste(unlist(reported), collapse = ", "), 1, 200)
  again <- is.list(rule) &&
    tolower(as.character(unlist(problem)[1])) %in%
      tolower(as.character(unlist(rule$again)))
  vetusta_stop(
    "payload", paste0("The service answers with an error: ", text), where,
    "check the query; if it is right, try again later",
    again = again
  )
}

# A frame of members as the columns of the card. Sides become separate rows.
# `at` are the numbers of rows in the answer, NULL for all in turn; with `base`
# they are lines.
decode_rows <- function(dataset, rows, zone, where, known = list()) {
  # of a table, the lines of its rows
  lines <- attr(rows, "lines")
  if (!is.null(dataset$unpack)) rows <- turned_rows(rows, dataset$unpack, where)
  at <- if (length(dataset$only)) rows_wanted(rows, dataset$only)
  if (!is.null(at)) rows <- rows[at, , drop = FALSE]
  if (is.null(rows) || !nrow(rows)) {
    return(
      list(
        columns = empty_columns(dataset),
        rejected = no_wrong_values,
        rows = 0L
      )
    )
  }
  if (!length(dataset$sides)) {
    decoded <- decode_side(dataset, rows, zone, where, known, at = at)
    if (is.null(lines)) {
      decoded$at <- at
      return(decoded)
    }
    return(c(decoded, rows_at(at, lines)))
  }
  parts <- lapply(dataset$sides, function(side) {
    part <- decode_side(dataset, rows, zone, where, known, side, at)
    part$columns$side <- rep(side, part$rows)
    part
  })
  columns <- lapply(
    stats::setNames(nm = names(parts[[1]]$columns)),
    function(name) {
      do.call(c, lapply(parts, function(part) part$columns[[name]]))
    }
  )
  rejected <- do.call(
    rbind,
    lapply(seq_along(parts), function(i) {
      rejects <- parts[[i]]$rejected
      rejects$row <- rejects$row + (i - 1L) * nrow(rows)
      rejects
    })
  )
  c(
    list(
      columns = columns,
      rejected = rejected,
      rows = nrow(rows) * length(parts),
      zone = parts[[1]]$zone
    ),
    rows_at(rep(at %||% seq_len(nrow(rows)), length(parts)), lines)
  )
}

# The numbers of rows in the answer, or their lines.
rows_at <- function(at, lines) {
  if (is.null(lines)) {
    list(at = at)
  } else {
    list(at = if (is.null(at)) lines else lines[at], base = "line ")
  }
}

# Columns that identify what a row is about.
key_columns <- c(
  "symbol", "series", "item", "place", "dataset", "link", "kind", "side"
)

decode_side <- function(dataset, rows, zone, where, known, side = NULL,
                        at = NULL) {
  columns <- list()
  rejected <- list(no_wrong_values)
  finer <- local <- NULL
  for (name in names(dataset$columns)) {
    rule <- dataset$columns[[name]]
    if (length(rule$facts)) {
      rule <- rule_with_facts(rule, name, rows, known, where)
    }
    if (length(side)) {
      rule$at <- sub("{side}", side, rule$at, fixed = TRUE)
      rule$member <- NULL
    }
    value <- if (!is.null(rule$member)) .subset2(rows, rule$member)
    if (is.null(value)) value <- column_value(rows, rule, known)
    # the usual column of numbers without missing ones
    if (rule$plain && is.double(value) && !is.object(value) && !anyNA(value)) {
      columns[[name]] <- value
      next
    }
    if (is.null(value)) {
      if (rule$need == "required") {
        stop_payload(
          paste0(
            "No row has the member ",
            (rule$at %||% rule$body %||% rule$outer %||% rule$of)[1],
            ", which is the column \"", name, "\"."
          ),
          paste0(where, ", ", dataset$rows, "/0", rule$at),
          paste0(
            "check whether the service changed its answer; mark the ",
            "column need: optional in ", "the card if it may be absent"
          )
        )
      }
      value <- rep(rule$default %||% NA, nrow(rows))
    }
    # words for missing values, except in keys: NA may be a country
    if (is.null(rule$missing) &&
      is.character(value) &&
      !name %in% key_columns &&
      isTRUE(dataset$format %in% c("csv", "tsv", "xlsx"))) {
      value[value %in% table_absent] <- NA
    }
    if (!is.null(rule$missing)) {
      value[
        as.character(unlist(value)) %in% as.character(unlist(rule$missing))
      ] <-
        NA
    }
    if (!is.null(rule$words)) value <- column_words(value, rule$words)
    type <- rule$as
    read <- read_column(value, type, zone, rule)
    absent <- if (anyNA(value)) {
      which(is.na(read$value) & is.na(value))
    } else {
      integer()
    }
    if (!is.null(rule$default) && length(absent)) {
      read$value[absent] <- read_column(
        rep(rule$default, length(absent)), type, zone,
        rule_of_rows(rule, absent)
      )$value
    }
    if (rule$need == "required") read$bad <- union(read$bad, absent)
    if (length(read$bad)) {
      rejected[[length(rejected) + 1]] <-
        wrong_values(read$bad, value, name, rule$at, dataset, at, read$far)
    }
    columns[[name]] <- read$value
    if (name == "time" && inherits(read$value, "POSIXct")) {
      if (is.character(value)) finer <- finer_part(value, type)
      local <- rule$zone
    }
  }
  list(
    columns = columns,
    rejected = if (length(rejected) == 1) {
      no_wrong_values
    } else {
      do.call(rbind, rejected)
    },
    rows = nrow(rows),
    finer = finer,
    zone = local
  )
}

# Selection of rows of a body, and values joined from elsewhere in it.
