# What a draft adds beside the words of its samples: a calendar, what a second
# sample would settle, and the nearest cards of the cookbook.

# An answer in XML, as the JSON that its pointers see.
draft_xml <- function(bytes, text, file) {
  if (
    grepl("<html|<!DOCTYPE html", substr(text, 1, 2000), ignore.case = TRUE)
  ) {
    vetusta_stop(
      "draft", "The sample is a web page.",
      where = file,
      todo = "give an answer of the API, as JSON, XML or a table"
    )
  }
  body <- tryCatch(
    xml_as_json(bytes, file),
    vetusta_error_payload = function(e) {
      vetusta_stop("draft", e$what, where = file, todo = "save it whole")
    }
  )
  list(format = "xml", content = json_read_cpp(body, "", 0L, FALSE)[[1]])
}

# A workbook: the sheet with the most cells, and the lines above its names.
draft_workbook <- function(bytes, file) {
  path <- tempfile(fileext = ".xlsx")
  on.exit(unlink(path))
  writeBin(bytes, path)
  sheets <- tryCatch(
    sheet_names(path),
    vetusta_error_import = function(e) {
      vetusta_stop(
        "draft", "The sample is packed, and no workbook.",
        where = file,
        todo = "unpack it, and give one of its files"
      )
    }
  )
  cells <- lapply(sheets, function(sheet) sheet_cells(path, sheet))
  best <- which.max(vapply(cells, function(x) sum(x != ""), 0))
  cells <- cells[[best]]
  head <- cells_skip(cells) + 1
  rows <- as.data.frame(cells[-seq_len(head), , drop = FALSE])
  names(rows) <- make.unique(cells[head, ])
  rows[] <- lapply(rows, function(column) {
    column[column %in% c("", "NA", "null")] <- NA
    column
  })
  rows <- rows[rowSums(!is.na(rows)) > 0, nzchar(names(rows)), drop = FALSE]
  list(
    format = "xlsx", content = rows, comma = FALSE,
    table = c(
      if (best > 1) paste0("sheet: \"", sheets[best], "\""),
      if (head > 1) paste0("skip: ", head - 1)
    )
  )
}

# The names of a row's members in another list of the answer: texts, or objects
# with a name.
draft_names <- function(content, width, at = "") {
  if (!is_object(content)) {
    return(NULL)
  }
  for (key in names(content)) {
    part <- content[[key]]
    here <- paste0(at, "/", key)
    texts <- is_plain_array(part) && all(vapply(part, is.character, TRUE))
    if (texts && length(part) == width && !anyDuplicated(unlist(part))) {
      return(list(at = here, member = NULL, names = unlist(part)))
    }
    member <- if (is_rows(part) && length(part) == width) {
      intersect(c("name", "id", "field", "column"), names(part[[1]]))
    }
    if (length(member)) {
      return(list(
        at = here, member = paste0("/", member[1]),
        names = vapply(part, function(x) as.character(x[[member[1]]]), "")
      ))
    }
    deeper <- draft_names(part, width, here)
    if (!is.null(deeper)) {
      return(deeper)
    }
  }
}

# A calendar where times of two weeks or more fall on weekdays only.
draft_calendar <- function(members) {
  for (name in names(members)) {
    type <- draft_type(members[[name]]$values, sub(".*/", "", name))
    if (!plain_type(type) %in% c(instant_types, "local")) next
    written <- regmatches(type, regexec("written: \"(.*)\"", type))[[1]]
    time <- read_column(
      members[[name]]$values, plain_type(type), "UTC",
      list(written = if (length(written)) written[2])
    )$value
    day <- unique(as.Date(time[!is.na(time)]))
    weekday <- as.POSIXlt(day)$wday
    return(
      if (length(day) >= 10 && !any(weekday %in% c(0, 6))) {
        paste0(
          "calendar: weekdays         # ? no time falls on a weekend; ",
          "a calendar of its own has the holidays too"
        )
      }
    )
  }
}

# What a second sample would settle.
draft_second <- function(samples, lines) {
  if (length(samples) > 1) {
    return(NULL)
  }
  open <- c(
    if (any(grepl("? the day or the month first", lines, fixed = TRUE))) {
      "the order of day and month (a sample with a day after the 12th)"
    },
    if (any(grepl("? a comma of thousands", lines, fixed = TRUE))) {
      "the comma of numbers (a sample with larger or smaller numbers)"
    },
    if (any(grepl("do not show how pages follow", lines, fixed = TRUE))) {
      "how pages follow (a sample of the last page)"
    }
  )
  if (length(open)) {
    paste0(
      "# A second sample would settle ", paste(open, collapse = ", and "), "."
    )
  }
}

# The nearest cards of the cookbook.
draft_cookbook <- function(format, place, lines) {
  said <- function(pattern) any(grepl(pattern, sub("#.*", "", lines)))
  inner <- place$inner %||% ""
  form <- if (format %in% c("csv", "tsv")) {
    "table-csv"
  } else if (format == "xml") {
    "answers-xml"
  } else if (format == "xlsx") {
    "answers-workbook"
  } else if (format == "json-stat") {
    "statistics-json-stat"
  } else if (format == "json-lines") {
    "form-json-lines"
  } else if (!is.null(place$labels)) {
    if (place$form == "matrix") "form-matrix" else "form-series-labels"
  } else if (length(place$sides)) {
    "form-sides"
  } else if (place$form == "map" && nzchar(inner)) {
    "form-map-by-symbol"
  } else if (place$form == "map") {
    "form-map-by-time"
  } else if (!is.null(place$names)) {
    "form-names-elsewhere"
  } else {
    c(
      arrays = "form-arrays", columns = "form-columns",
      one = "form-single-object"
    )[place$form]
  }
  if (is.na(form) && nzchar(place$within %||% "")) {
    form <- "form-rows-within-rows"
  }
  pages <- c(
    "by: url" = "pages-next-url", "by: cursor" = "pages-cursor",
    "by: page" = "pages-number", "by: offset" = "pages-offset"
  )
  paging <- pages[vapply(names(pages), said, TRUE)]
  access <- c(
    "access: .*by: query" = "access-query-key",
    "access: .*by: header" = "access-header",
    "access: .*by: bearer" = "access-bearer",
    "access: .*by: basic" = "access-basic"
  )
  access <- access[vapply(names(access), said, TRUE)]
  cards <- c(stats::na.omit(unname(form)), unname(paging), unname(access))
  if (length(cards)) {
    paste0("# Similar cards: vetusta sources cookbook ", paste(
      cards,
      collapse = ", or "
    ), ".")
  }
}
