# Forms of answers that a draft recognises: text tables, JSON-stat, sides,
# arrays at different depths, and dates in other orders.

# A text table: remarks, lines above the header, separator, marks of numbers.
draft_text_table <- function(text, encoding, file) {
  lines <- strsplit(gsub("\r\n?", "\n", text), "\n", fixed = TRUE)[[1]]
  remark <- grepl("^\\s*#", lines)
  kept <- which(!remark & nzchar(trimws(lines)))
  separator <- if (any(grepl("\t", lines[kept], fixed = TRUE))) {
    "\t"
  } else {
    lines_separator(lines[kept])
  }
  cells <- if (length(separator) && length(kept) > 1) {
    lines_cells(lines[kept], separator)
  }
  if (is.null(cells) || ncol(cells) < 2) {
    vetusta_stop(
      "draft", "The sample is neither JSON nor a table.",
      where = file,
      todo = "give an answer of the API, unchanged"
    )
  }
  head <- cells_skip(cells) + 1
  # lines above the header, remarks among them
  skip <- if (head > 1) kept[head] - 1 else 0
  rows <- as.data.frame(cells[-seq_len(head), , drop = FALSE])
  names(rows) <- make.unique(cells[head, ])
  rows[] <- lapply(rows, function(column) {
    column[column %in% c("", "NA", "null")] <- NA
    column
  })
  list(
    format = if (separator == "\t") "tsv" else "csv",
    content = rows,
    comma = numbers_marks(cells[-seq_len(head), ], separator)$decimal == ",",
    table = c(
      if (skip) paste0("skip: ", skip),
      if (separator %in% c(";", "|")) paste0("separator: \"", separator, "\""),
      if (any(remark & seq_along(remark) > skip)) "remark: \"#\"",
      if (!is.null(encoding)) "encoding: latin1"
    )
  )
}

is_jsonstat <- function(x) {
  is_object(x) && all(c("id", "size", "dimension") %in% names(x))
}

# JSON-stat 2.0: a series of the dimensions other than time.
draft_jsonstat <- function(samples) {
  content <- samples[[1]]$content
  ids <- as.character(unlist(content$id))
  time <- as.character(unlist(content$role$time))[1]
  if (is.na(time)) {
    time <- ids[grepl("^(time|year|period|date|month)", ids, TRUE)][1]
  }
  list(
    at = NULL, form = "objects", rows = list(),
    jsonstat = list(time = time, others = setdiff(ids, time))
  )
}

# The columns of a JSON-stat dataset, as lines of a card.
draft_jsonstat_lines <- function(stat) {
  series <- paste0("/", stat$others)
  if (is.na(stat$time)) {
    return(paste0("      ", c(stat$others, "value"), ": /", c(
      stat$others, "value"
    )))
  }
  c(
    if (length(series) == 1) {
      paste0("      series: ", series)
    } else if (length(series)) {
      paste0(
        "      series: {at: [", paste(series, collapse = ", "),
        "], joined: \".\"}"
      )
    },
    paste0("      period: /", stat$time),
    "      value: {at: /value, need: optional}"
  )
}

price_sides <- c("bid", "mid", "ask")

# Prices of sides: objects bid, mid and ask with the same members become one
# row per side. list(members, sides)
draft_sides <- function(members) {
  if (!length(members)) {
    return(list(members = members, sides = NULL))
  }
  parts <- strsplit(names(members), "/", fixed = TRUE)
  side <- vapply(parts, function(part) tolower(part[2]), "")
  inner <- vapply(
    parts, function(part) paste(part[-(1:2)], collapse = "/"), ""
  )
  sided <- side %in% price_sides & nzchar(inner)
  sides <- intersect(price_sides, side[sided])
  alike <- length(sides) > 1 &&
    length(unique(lapply(sides, function(name) inner[sided & side == name]))) ==
      1
  if (!alike) {
    return(list(members = members, sides = NULL))
  }
  first <- which(sided & side == sides[1])
  named <- members
  names(named)[first] <- paste0("/{side}/", inner[first])
  written <- vapply(parts[match(sides, side)], `[`, "", 2)
  list(members = named[!sided | side == sides[1]], sides = written)
}

# Plain arrays of an object at any depth, named by their pointers. An array of a
# single object is entered.
nested_arrays <- function(x, at = "") {
  if (is_plain_array(x)) {
    return(stats::setNames(list(x), at))
  }
  if (!is.list(x)) {
    return(NULL)
  }
  keys <- names(x)
  if (is.null(keys)) {
    if (length(x) != 1 || !is_object(x[[1]])) {
      return(NULL)
    }
    keys <- "0"
  }
  unlist(
    lapply(seq_along(keys), function(i) {
      nested_arrays(x[[i]], paste0(at, "/", keys[i]))
    }),
    recursive = FALSE
  )
}

# The common length of several arrays, 0 without one.
common_length <- function(arrays) {
  sizes <- lengths(arrays)
  counts <- table(sizes[sizes > 1])
  if (length(counts) && max(counts) > 1) {
    as.integer(names(which.max(counts)))
  } else {
    0L
  }
}

# Arrays of equal length at different depths are columns. The place is the
# deepest object that holds them all.
draft_nested_arrays <- function(content) {
  if (!is_object(content)) {
    return(NULL)
  }
  arrays <- nested_arrays(content)
  size <- common_length(arrays)
  if (!size) {
    return(NULL)
  }
  parts <- strsplit(names(arrays)[lengths(arrays) == size], "/", fixed = TRUE)
  shared <- 0
  least <- min(lengths(parts)) - 1
  while (shared < least &&
    length(unique(vapply(parts, `[`, "", shared + 1))) == 1) {
    shared <- shared + 1
  }
  depths <- unique(lengths(parts))
  # arrays of one object are found without this
  if (length(depths) == 1 && depths == shared + 1) {
    return(NULL)
  }
  data.frame(
    at = paste(parts[[1]][seq_len(shared)], collapse = "/"),
    rows = size + 0.5, form = "nested", within = "", inner = ""
  )
}

draft_nested_rows <- function(part) {
  arrays <- nested_arrays(part)
  arrays <- arrays[lengths(arrays) == common_length(arrays)]
  names(arrays) <- substring(names(arrays), 2)
  lapply(
    seq_len(common_length(arrays)), function(i) lapply(arrays, `[[`, i)
  )
}

# A symbol that occurs once, beside arrays at different depths.
draft_body_columns <- function(samples, at) {
  tops <- unlist(draft_tops(draft_at(samples[[1]]$content, at), ""), FALSE)
  named <- grepl(draft_columns$symbol, sub(".*/", "", names(tops)), TRUE)
  if (any(named)) {
    paste0(
      "      symbol: {at: \"", at, names(tops)[named][1], "\", of: body}"
    )
  }
}

plain_type <- function(type) sub(",.*", "", type)

# Local times as 12.03.2026 07:30, with their format; NULL for other texts.
draft_spelled_instant <- function(text) {
  parts <- regmatches(text, regexec("^(\\S+)[ T]([0-9:]+)$", text))
  if (!all(lengths(parts) == 3)) {
    return(NULL)
  }
  clock <- vapply(parts, `[`, "", 3)
  hours <- if (all(grepl("^[0-9]{1,2}:[0-9]{2}$", clock))) {
    "%H:%M"
  } else if (all(grepl("^[0-9]{1,2}:[0-9]{2}:[0-9]{2}$", clock))) {
    "%H:%M:%S"
  }
  day <- draft_spelled_day(vapply(parts, `[`, "", 2))
  if (is.null(hours) || is.null(day)) {
    return(NULL)
  }
  sub("\"$", paste0(" ", hours, "\""), sub("^day", "local", day))
}

# Days as 12.03.2026 or 12/03/2026, with their format; NULL for other
# texts.
draft_spelled_day <- function(text) {
  if (!all(grepl(date_like, text))) {
    return(NULL)
  }
  mark <- unique(gsub("[0-9]", "", text))
  if (length(mark) != 1 || substr(mark, 1, 1) != substr(mark, 2, 2)) {
    return(NULL)
  }
  mark <- substr(mark, 1, 1)
  order <- if (all(grepl("^[0-9]{4}", text))) "ymd" else dates_order(text)$order
  year <- if (all(grepl("[0-9]{4}", text))) "%Y" else "%y"
  codes <- c(d = "%d", m = "%m", y = year)[strsplit(order, "")[[1]]]
  paste0("day, written: \"", paste(codes, collapse = mark), "\"")
}

# Days and months with English names, with their format; NULL for other texts.
draft_month_names <- function(text) {
  if (!all(grepl("[A-Za-z]{3}|Q[1-4]", text))) {
    return(NULL)
  }
  for (written in c(
    "%d %b %Y", "%d-%b-%Y", "%d-%b-%y", "%b %d, %Y", "%b %d %Y", "%Y-%b-%d",
    "%A, %d %b %Y", "%a, %d %b %Y"
  )) {
    if (!anyNA(read_written(text, "day", "UTC", written))) {
      return(paste0("day, written: \"", written, "\""))
    }
  }
  for (written in c(
    "%b %Y", "%b-%Y", "%Y %b", "%b-%y", "Q%q %Y", "Q%q-%Y",
    "%Y Q%q", "Q%q/%Y", "%b/%Y"
  )) {
    if (!anyNA(read_written(text, "text", "UTC", written))) {
      return(paste0("period, written: \"", written, "\""))
    }
  }
}

# The symbol of a request: a value of the sample's symbol columns that is part
# of the URL.
draft_symbol <- function(url, samples) {
  values <- unique(unlist(lapply(samples, function(sample) {
    draft_symbols(sample$content)
  })))
  parts <- utils::URLdecode(
    unlist(strsplit(sub("^[a-z]+://[^/]*", "", url), "[/?&=.]"))
  )
  found <- parts[nzchar(parts) & tolower(parts) %in% tolower(values)]
  if (length(unique(found)) == 1) found[1]
}

# Texts of members that are named like symbols, and names of maps.
draft_symbols <- function(x) {
  if (!is.list(x)) {
    return(NULL)
  }
  named <- grepl(draft_columns$symbol, names(x) %||% "", ignore.case = TRUE)
  own <- if (length(names(x))) {
    unlist(Filter(is.character, x[named]))
  }
  keys <- if (is_object(x) && all(vapply(x, is.list, TRUE))) names(x)
  c(own, keys, unlist(lapply(unname(x), draft_symbols)))
}

# Labels in a list of their own, beside a matrix or beside objects that each
# have an array of the same length, as categories and series of a chart. `inner`
# is the pointer of the labels of columns, and of rows after a space.
draft_labelled <- function(content) {
  if (!is_object(content)) {
    return(NULL)
  }
  arrays <- nested_arrays(content)
  labels <- Filter(function(array) {
    length(array) > 1 && !anyDuplicated(unlist(array)) &&
      all(vapply(array, is.character, TRUE))
  }, arrays)
  if (!length(labels)) {
    return(NULL)
  }
  places <- draft_series_places(content, "")
  out <- lapply(places, function(place) {
    columns <- names(labels)[lengths(labels) == place$wide]
    rows <- names(labels)[lengths(labels) == place$deep]
    if (!length(columns) || (is.null(place$member) && !length(rows)) ||
      (is.null(place$member) && identical(columns[1], rows[1]))) {
      return(NULL)
    }
    data.frame(
      at = place$at, rows = place$deep * place$wide + 0.5, form = "labelled",
      within = place$member %||% "",
      inner = paste(c(columns[1], if (is.null(place$member)) rows[1]),
        collapse = " "
      )
    )
  })
  do.call(rbind, out)
}

# Matrices, and arrays of objects that each have one array of a common length.
draft_series_places <- function(x, at) {
  if (is_object(x)) {
    return(unlist(lapply(names(x), function(name) {
      draft_series_places(x[[name]], paste0(at, "/", name))
    }), recursive = FALSE))
  }
  if (is_table(x)) {
    return(list(list(at = at, wide = lengths(x)[1], deep = length(x))))
  }
  if (!is_rows(x)) {
    return(NULL)
  }
  plain <- unique(unlist(lapply(x, function(row) {
    names(row)[vapply(row, is_plain_array, TRUE) & lengths(row) > 1]
  })))
  wide <- if (length(plain) == 1) unique(lengths(lapply(x, `[[`, plain)))
  if (length(wide) == 1) {
    list(list(
      at = at, wide = wide, deep = length(x), member = paste0("/", plain)
    ))
  }
}

# The rows of labelled cells: a member per label, the value, and the members of
# the object around it.
draft_labelled_rows <- function(content, best) {
  labels <- strsplit(best$inner, " ", fixed = TRUE)[[1]]
  part <- draft_at(content, best$at)
  across <- unlist(draft_at(content, labels[1]))
  do.call(c, lapply(seq_along(part), function(i) {
    member <- substring(best$within, 2)
    cells <- if (nzchar(member)) part[[i]][[member]] else part[[i]]
    around <- if (nzchar(member)) {
      part[[i]][names(part[[i]]) != member]
    } else {
      list(rowlabel = unlist(draft_at(content, labels[2]))[i])
    }
    lapply(seq_along(cells), function(k) {
      c(list(columnlabel = across[k]), around, list(value = cells[[k]]))
    })
  }))
}

draft_labelled_place <- function(rows, best) {
  labels <- strsplit(best$inner, " ", fixed = TRUE)[[1]]
  around <- setdiff(names(rows[[1]]), c("columnlabel", "rowlabel", "value"))
  list(
    at = best$at, form = if (nzchar(best$within)) "objects" else "matrix",
    within = best$within, inner = if (nzchar(best$within)) "matrix" else "",
    rows = rows, outer = NULL, names = NULL, body = NULL,
    labels = c(
      list(
        "/columnlabel" = paste0("at: \"", labels[1], "\", of: column"),
        "/value" = "of: value"
      ),
      if (length(labels) == 2) {
        list("/rowlabel" = paste0("at: \"", labels[2], "\", of: row"))
      },
      stats::setNames(
        as.list(paste0("at: \"/", around, "\", of: outer")),
        paste0("/", around)[seq_along(around)]
      )
    )
  )
}
