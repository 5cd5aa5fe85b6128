# The rows of a sample: members, their types, and how pages follow each other.

draft_single <- function(x) {
  only <- if (length(x) == 1 && is_object(x[[1]])) names(x) else NULL
  data.frame(
    at = if (is.null(only)) "" else paste0("/", only),
    rows = 1,
    form = "one",
    within = "",
    inner = ""
  )
}

draft_at <- function(x, pointer) {
  for (key in strsplit(substring(pointer, 2), "/", fixed = TRUE)[[1]]) {
    key <- gsub("~0", "~", gsub("~1", "/", key, fixed = TRUE), fixed = TRUE)
    x <- if (is.null(names(x))) x[[as.integer(key) + 1]] else x[[key]]
  }
  x
}

# All members of the rows, including nested ones, with their values; a member
# missing from a row is optional.
draft_members <- function(rows) {
  flat <- lapply(
    rows, function(row) unlist(draft_flat(row, ""), recursive = FALSE)
  )
  names <- unique(unlist(lapply(flat, names)))
  lapply(stats::setNames(names, names), function(name) {
    values <- lapply(flat, `[[`, name)
    there <- vapply(
      values, function(value) length(value) == 1 && !is.na(value), TRUE
    )
    list(values = unlist(values[there]), optional = !all(there))
  })
}

draft_flat <- function(row, at) {
  parts <- lapply(names(row), function(name) {
    here <- paste0(at, "/", name)
    if (is.list(row[[name]]) && length(names(row[[name]]))) {
      draft_flat(row[[name]], here)
    } else if (!is.list(row[[name]])) {
      stats::setNames(list(stats::setNames(list(row[[name]]), here)), NULL)
    }
  })
  do.call(c, parts)
}

# Names of members that may be instants; other large numbers are numbers.
instant_names <- paste0(
  "(^|_)(t|ts|at|on|time|times|date|day|epoch|when|stamp|timestamp|datetime|",
  "asof|since|until|from|to|begins?|starts?|ends?|open(ed)?|closed?|",
  "updated|created)($|_)|",
  "(time|date|day|stamp|epoch|_ts|_at|[a-z]At)$|^(0|[a-z]|column_?0)$"
)

# The type of a member's values. `name` is its last part; `sure` says that no
# other type fits.
draft_type <- function(values, name = "t") {
  text <- as.character(values)
  number <- suppressWarnings(as.numeric(text))
  if (!length(text)) {
    return("text")
  }
  if (is.logical(values) || all(tolower(text) %in% c("true", "false"))) {
    return("flag")
  }
  if (grepl(instant_names, name, ignore.case = TRUE) &&
    all(grepl("^(19|20)[0-9]{6}$", text)) &&
    !anyNA(as.Date(text, "%Y%m%d"))) {
    return("day, written: \"%Y%m%d\"")
  }
  if (!anyNA(number)) {
    scale <- c(
      "epoch-s" = 1, "epoch-ms" = 1e3, "epoch-us" = 1e6, "epoch-ns" = 1e9
    )
    # instants from 1990 to 2100, whole and of one magnitude
    fits <- vapply(
      scale,
      function(s) {
        all(number / s > 6.3e8 & number / s < 4.1e9 & number == round(number))
      },
      TRUE
    )
    named <- grepl(instant_names, name, ignore.case = TRUE)
    return(if (any(fits) && named) names(scale)[fits][1] else "number")
  }
  if (!anyNA(read_number(text))) {
    return("number")
  }
  if (all(grepl("^[-+]?[0-9]{1,3}([. ]?[0-9]{3})*,[0-9]+$", text))) {
    return("decimal comma")
  }
  if (all(grepl("^[+-]?[0-9.]+%$", text))) {
    return("percent")
  }
  if (!anyNA(read_day(text))) {
    return("day")
  }
  spelled <- draft_spelled_day(text)
  if (!is.null(spelled)) {
    return(spelled)
  }
  if (all(grepl("T", text)) && !anyNA(read_rfc3339(text))) {
    return(
      if (all(grepl("(Z|[+-][0-9]{2}:?[0-9]{2})$", text))) {
        "rfc3339"
      } else {
        "local"
      }
    )
  }
  if (!anyNA(read_rfc3339(sub(" ", "T", text, fixed = TRUE)))) {
    return("local")
  }
  "text"
}

# The meaning of common member names, as a proposal.
draft_columns <- list(
  time = paste0(
    "^(t|ts|at|time|date|day|epoch|timestamp|stamp|begins?|start|",
    "datetime|when)$"
  ),
  open = "^(o|op|open|first|fst|opening)$", high = "^(h|hi|high|top|max)$",
  low = "^(l|lo|low|min|bottom)$",
  close = "^(c|cl|close|last|lst|closing|price)$",
  volume = "^(v|vol|volume|qty|quantity|lots)$",
  symbol = "^(symbol|code|ticker|sym|key|s)$"
)

draft_paging <- function(samples) {
  if (!samples[[1]]$format %in% c("json", "xml")) {
    return(
      paste0(
        "    # next_page: {by: none}               # ? all rows in a ",
        "single answer"
      )
    )
  }
  tops <- lapply(
    samples,
    function(sample) unlist(draft_tops(sample$content, ""), recursive = FALSE)
  )
  names <- unique(unlist(lapply(tops, names)))
  value <- function(name) unlist(lapply(tops, `[[`, name))
  absent <- function(name) {
    any(
      vapply(
        tops, function(top) is.null(top[[name]]) || identical(top[[name]], ""),
        TRUE
      )
    )
  }
  word <- function(pattern) names[grepl(pattern, names, ignore.case = TRUE)]
  urls <- Filter(
    function(name) {
      is.character(value(name)) &&
        all(grepl("^(https?://|/|[?])", value(name)[nzchar(value(name))]))
    },
    word("next|more|following|continue")
  )
  if (length(urls)) {
    return(
      paste0(
        "    next_page: {by: url, at: ", urls[1], "}",
        if (absent(urls[1])) "      # absent on the last page"
      )
    )
  }
  cursors <- word("cursor|next|continuation|token|marker")
  if (length(cursors)) {
    return(
      paste0(
        "    next_page: {by: cursor, at: ", cursors[1],
        ", send: cursor}   # ? the parameter's name"
      )
    )
  }
  pages <- word("^(.*/)?(pages|total_?pages|page_?count|last_?page)$")
  if (length(pages)) {
    return(
      paste0(
        "    next_page: {by: page, send: page, pages: ", pages[1],
        "}   # ? the parameter's name"
      )
    )
  }
  total <- word("total|count$")
  if (length(total)) {
    return(
      paste0(
        "    next_page: {by: offset, send: offset, total: ", total[1],
        "}   # ? the parameter's name"
      )
    )
  }
  paste0(
    "    # next_page: {by: none}               # ? the samples do not ",
    "show how pages follow"
  )
}

draft_tops <- function(x, at) {
  if (is.null(names(x))) {
    return(NULL)
  }
  do.call(
    c,
    lapply(names(x), function(name) {
      here <- paste0(at, "/", name)
      if (is.list(x[[name]])) {
        draft_tops(x[[name]], here)
      } else if (length(x[[name]]) == 1) {
        list(stats::setNames(list(x[[name]]), here))
      }
    })
  )
}

draft_head <- function(name, call = NULL) {
  c(
    "# A draft: what is marked with \"# ?\" was guessed from the samples.",
    paste0("source: ", name), "title: ",
    call$url %||% "url: https://data.example.org   # ? where the API is",
    call$access %||%
      paste0(
        "access: {by: none}                   # ? query, path, header, ",
        "bearer, basic, pair, token, login, form-login or signature; name the ",
        "secret, never ",
        "write it here"
      ),
    "limits: [60 per minute]              # ? what the API's terms say"
  ) |>
    sub(pattern = "^title: $", replacement = paste0("title: ", name))
}

draft_dataset <- function(format, place, members, paging, call = NULL) {
  taken <- character()
  lines <- character()
  outer <- rep(c(FALSE, TRUE), c(length(members), length(place$outer)))
  members <- c(members, place$outer)
  last_part <- sub(".*/", "", names(members))
  types <- vapply(
    seq_along(members),
    function(i) draft_type(members[[i]]$values, last_part[i]), ""
  )
  if (isTRUE(place$comma)) types[types == "number"] <- "decimal comma"
  keyed <- place$form == "map" || "pairs" %in% c(place$form, place$inner)
  dated <- which(plain_type(types) %in% c(instant_types, "local"))
  # the value of a pair has no name of its own; by time it is a price
  by_time <- place$form == "pairs" && "/key" %in% names(members)[dated]
  paired <- by_time & names(members) == "/value"
  price <- only_price(types, ifelse(paired, "", last_part), length(dated) > 0)
  dated_alone <- if (length(dated) == 1) dated else 0
  for (i in seq_along(members)) {
    fits <- names(draft_columns)[
      vapply(
        draft_columns,
        function(pattern) grepl(pattern, last_part[i], ignore.case = TRUE), TRUE
      )
    ]
    fits <- setdiff(fits, taken)
    if (length(fits) &&
      fits[1] == "time" &&
      !plain_type(types[i]) %in% c(instant_types, "local")) {
      fits <- character()
    }
    # the key of a map is a time or a symbol, whatever its place
    if (names(members)[i] %in% c("/key", "/outer-key")) {
      dated <- plain_type(types[i]) %in% c(instant_types, "local")
      fits <- setdiff(if (dated) "time" else "symbol", taken)
    }
    if (!length(fits) && i == price) fits <- setdiff("close", taken)
    # a single date of a table is its time, in any language
    if (!length(fits) && i == dated_alone) fits <- setdiff("time", taken)
    column <- if (length(fits)) {
      fits[1]
    } else {
      make.unique(
        c(
          taken,
          sub(
            "^([0-9])", "column_\\1",
            gsub("[^a-z0-9]+", "_", tolower(last_part[i]))
          )
        ),
        sep = "_"
      )[length(taken) + 1]
    }
    taken <- c(taken, column)
    at <- if (keyed &&
      names(members)[i] %in% c("/key", "/value", "/outer-key")) {
      paste("of:", substring(names(members)[i], 2))
    } else {
      paste0(
        "at: \"", names(members)[i], "\"", if (outer[i]) ", of: outer"
      )
    }
    lines <- c(
      lines,
      paste0(
        "      ", column, ": {", at, ", as: ", draft_type_words(types[i]),
        if (members[[i]]$optional) ", need: optional", "}",
        draft_doubt(
          types[i], members[[i]]$values, length(fits) > 0, i == price
        )
      )
    )
  }
  lines <- c(lines, place$body)
  bars <- all(c("time", "close") %in% taken)
  statistic <- draft_statistic(lines, taken, types)
  if (!is.null(statistic)) lines <- statistic
  if (!is.null(place$jsonstat)) {
    return(
      c(
        "datasets:", "  rows:",
        paste(
          "    shape:",
          if (is.na(place$jsonstat$time)) "table" else "observations"
        ),
        call$request %||% "    request: /rows    # ? the path below the URL",
        call$parameters, "    format: json-stat", "    columns:",
        draft_jsonstat_lines(place$jsonstat)
      )
    )
  }
  c(
    "datasets:", paste0("  ", if (bars) "bars" else "rows", ":"),
    paste0(
      "    shape: ",
      if (bars) {
        "bars"
      } else if (!is.null(statistic)) {
        "observations"
      } else {
        "table"
      },
      if (!bars && is.null(statistic)) {
        "                      # ? see docs/source-cards.md for the shapes"
      }
    ),
    call$request %||%
      paste0(
        "    request: /", if (bars) "bars/{symbol}{?from,to}" else "rows",
        "    # ? the path below the URL"
      ),
    call$parameters, if (format != "json") paste0("    format: ", format),
    if (!is.null(place$at)) paste0("    rows: \"", place$at, "\""),
    if (place$form != "objects") paste0("    form: ", place$form),
    if (!is.null(place$names)) {
      paste0("    names: ", if (is.null(place$names$member)) {
        place$names$at
      } else {
        paste0("{at: ", place$names$at, ", member: ", place$names$member, "}")
      })
    },
    if (length(place$sides)) {
      paste0("    sides: [", paste(place$sides, collapse = ", "), "]")
    },
    if (length(place$table)) {
      paste0(
        "    table: {", paste(place$table, collapse = ", "), "}",
        if (any(grepl("encoding", place$table))) "   # ? the encoding"
      )
    },
    draft_within(place), paging, "    columns:", lines
  )
}

# Days with a single number that is no price are a statistic: the columns of
# observations; NULL for other rows.
draft_statistic <- function(lines, taken, types) {
  plain <- plain_type(types)
  number <- which(plain %in% c("number", "decimal comma", "percent"))
  day <- which(plain == "day")
  if (length(lines) != length(taken) || "close" %in% taken ||
    length(number) != 1 || length(day) != 1 || taken[day] != "time") {
    return(NULL)
  }
  named <- function(at, name) {
    sub(
      "^      [^:]+:", paste0("      ", name, ":"), lines[at]
    )
  }
  lines[day] <- named(day, "period")
  series <- if ("symbol" %in% taken) {
    at <- match("symbol", taken)
    lines[at] <- named(at, "series")
    NULL
  } else {
    name <- if (taken[number] == "value") "series" else taken[number]
    paste0("      series: {value: ", name, "}   # ? the name of the series")
  }
  lines[number] <- sub(
    "   # [?] a separate column", "   # ? unit: of the values",
    named(number, "value")
  )
  c(series, lines)
}

draft_type_words <- function(type) {
  if (type == "decimal comma") "number, decimal: \",\"" else type
}

# The place and form of nested rows.
draft_within <- function(place) {
  within <- place$within %||% ""
  if (!nzchar(within)) {
    return(NULL)
  }
  at <- if (within == "/") "" else within
  paste0(
    "    within: ",
    if (place$inner == "objects") {
      paste0("\"", at, "\"")
    } else {
      paste0("{at: \"", at, "\", form: ", place$inner, "}")
    }
  )
}
