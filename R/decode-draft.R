# Drafting a card from samples: what several answers have in common, and what
# the last page lacks.

#' Draft a source card from samples
#'
#' Drafts a card from samples of an API's answers: the place of the rows,
#' columns with types, formats of instants, paging, and optional columns, which
#' some samples or rows lack. Edit the draft: guesses are marked with `# ?`.
#'
#' @param files Paths of samples, JSON or CSV: answers to one kind of request;
#'   the first and the last page are the most useful.
#' @param name The name of the source.
#' @return The lines of the card, a character vector.
#' @section Errors: `vetusta_error_draft` for a missing or unreadable sample, or
#'   samples without rows.
#' @export
#' @examples
#' first <- tempfile(fileext = ".json")
#' writeLines(
#'   paste0(
#'     '{"items":[{"at":1773300600000,"lst":41.2,"deals":3}],"more":"/',
#'     'bars?page=2"}'
#'   ),
#'   first
#' )
#' last <- tempfile(fileext = ".json")
#' writeLines('{"items":[{"at":1773300660000,"lst":41.3}]}', last)
#' cat(source_draft(c(first, last)), sep = "\n")
source_draft <- function(files, name = "new") {
  check_text(files, "files", "draft", several = TRUE)
  check_text(name, "name", "draft")
  for (file in files) {
    if (!file.exists(file) || dir.exists(file)) {
      vetusta_stop(
        "draft", "There is no such sample.",
        where = file,
        todo = "check the path"
      )
    }
  }
  draft_card(
    lapply(files, function(file) draft_sample(draft_bytes(file), file)), files,
    name
  )
}

# The lines of a card from samples; `call` describes the request, if known:
# `url`, `access`, `request` and `parameters`, as lines of a card.
draft_card <- function(samples, files, name, call = NULL) {
  formats <- unique(vapply(samples, `[[`, "", "format"))
  if (length(formats) > 1) {
    vetusta_stop(
      "draft",
      "The samples are of several formats.",
      where = paste(files, collapse = ", "),
      todo = "draft from samples of a single kind of request"
    )
  }
  place <- draft_place(samples, files)
  members <- draft_members(place$rows)
  sided <- draft_sides(members)
  members <- sided$members
  place$sides <- sided$sides
  place$outer <- if (length(place$outer)) draft_members(place$outer)
  place$table <- samples[[1]]$table
  place$comma <- isTRUE(samples[[1]]$comma)
  paging <- draft_paging(samples)
  dataset <- draft_dataset(formats, place, members, paging, call)
  head <- draft_head(name, call)
  c(
    head[1],
    draft_second(samples, dataset),
    draft_cookbook(formats, place, c(head, paging)),
    head[-1],
    draft_calendar(members),
    dataset
  )
}

draft_bytes <- function(file) {
  # gzfile() reads compressed and plain files
  connection <- gzfile(file, "rb")
  on.exit(close(connection))
  readBin(connection, "raw", 1e8)
}

draft_sample <- function(bytes, file) {
  if (is_zip(bytes)) {
    return(draft_workbook(bytes, file))
  }
  if (identical(bytes[1:3], as.raw(c(0xef, 0xbb, 0xbf)))) bytes <- bytes[-(1:3)]
  text <- rawToChar(bytes[bytes != as.raw(0)])
  encoding <- NULL
  if (!validUTF8(text)) {
    # latin1 accepts every byte, so it is only a guess
    encoding <- "latin1"
    text <- iconv(text, "latin1", "UTF-8")
  }
  if (grepl("^\\s*<", text)) {
    return(draft_xml(bytes, text, file))
  }
  if (grepl("^\\s*[{[]", text)) {
    parse <- function(text) {
      tryCatch(
        json_read_cpp(charToRaw(text), "", 0L, FALSE)[[1]],
        error = function(e) NULL
      )
    }
    content <- parse(text)
    lines <- strsplit(text, "\r?\n")[[1]]
    lines <- lines[nzchar(trimws(lines))]
    if (is.null(content) && length(lines) > 1) {
      content <- lapply(lines, parse)
      if (!any(vapply(content, is.null, TRUE))) {
        return(list(format = "json-lines", content = content))
      }
      content <- NULL
    }
    if (is.null(content)) {
      vetusta_stop(
        "draft", "The sample is not valid JSON.",
        where = file,
        todo = "save the complete answer"
      )
    }
    if (is_jsonstat(content)) {
      return(list(format = "json-stat", content = content))
    }
    return(list(format = "json", content = content))
  }
  draft_text_table(text, encoding, file)
}

# The rows: the longest part of any sample that looks like rows.
draft_place <- function(samples, files) {
  if (samples[[1]]$format == "json-stat") {
    return(draft_jsonstat(samples))
  }
  if (samples[[1]]$format %in% c("csv", "tsv", "xlsx")) {
    rows <- do.call(
      c,
      lapply(samples, function(sample) {
        lapply(
          seq_len(nrow(sample$content)),
          function(i) as.list(sample$content[i, , drop = FALSE])
        )
      })
    )
    return(list(at = NULL, form = "objects", rows = rows))
  }
  arrays <- do.call(
    rbind, lapply(samples, function(sample) draft_arrays(sample$content, ""))
  )
  said <- lapply(samples, function(sample) draft_error_said(sample$content))
  # an error message is no row
  if (!is.null(arrays)) {
    arrays <- arrays[!grepl(error_members, arrays$at, ignore.case = TRUE), ]
    if (any(lengths(said) > 0)) arrays <- arrays[arrays$form != "one", ]
  }
  if (any(lengths(said) > 0) && !NROW(arrays)) {
    vetusta_stop(
      "draft",
      paste0(
        "The sample is an error of the service: ", Filter(length, said)[[1]]
      ),
      where = paste(files, collapse = ", "),
      todo = paste0(
        "save an answer that has rows; check whether the request needs a key"
      )
    )
  }
  if (!NROW(arrays)) {
    vetusta_stop(
      "draft",
      "No rows are found in the samples.",
      where = paste(files, collapse = ", "),
      todo = "give a sample of an answer with rows in it"
    )
  }
  arrays <- rbind(
    arrays,
    do.call(
      rbind,
      lapply(samples, function(sample) draft_nested_arrays(sample$content))
    )
  )
  best <- arrays[order(-arrays$rows, nchar(arrays$at)), ][1, ]
  parts <- lapply(samples, function(sample) {
    part <- draft_at(sample$content, best$at)
    if (best$form == "nested") {
      return(draft_nested_rows(part))
    }
    # look into the entries of a map rather than take them for rows
    if (best$form == "map" && nzchar(best$within)) {
      part
    } else {
      draft_rows(part, best$form)
    }
  })
  holders <- if (nzchar(best$within)) do.call(c, parts)
  rows <- if (is.null(holders)) {
    do.call(c, parts)
  } else {
    do.call(
      c,
      lapply(seq_along(holders), function(i) {
        holder <- holders[[i]]
        # the entries of a map contain the rows in one of their members
        inner <- if (best$within == "/") {
          holder
        } else {
          holder[[substring(best$within, 2)]]
        }
        rows <- draft_rows(inner, best$inner)
        if (best$form != "map") {
          rows
        } else {
          lapply(
            rows, function(row) c(list(`outer-key` = names(holders)[i]), row)
          )
        }
      })
    )
  }
  rows <- Filter(is.list, rows)
  names <- if (best$form == "arrays" && length(rows)) {
    draft_names(samples[[1]]$content, length(rows[[1]]))
  }
  if (!is.null(names)) {
    rows <- lapply(rows, function(row) {
      stats::setNames(row, names$names[seq_along(row)])
    })
  }
  list(
    at = best$at,
    names = names,
    form = if (best$form == "nested") "columns" else best$form,
    body = if (best$form == "nested") draft_body_columns(samples, best$at),
    within = best$within,
    inner = best$inner,
    rows = rows,
    outer = if (best$form != "map") {
      lapply(
        holders,
        function(holder) holder[names(holder) != substring(best$within, 2)]
      )
    }
  )
}

# The rows as a list of objects, from any form.
draft_rows <- function(part, form) {
  switch(form,
    map = do.call(
      c,
      unname(Map(
        function(key, row) {
          if (is.null(names(row)) &&
            length(row) &&
            all(vapply(row, is.list, TRUE))) {
            lapply(row, function(item) c(list(key = key), item))
          } else {
            list(c(list(key = key), row))
          }
        },
        names(part), part
      ))
    ),
    arrays = lapply(
      part, function(row) stats::setNames(as.list(row), seq_along(row) - 1)
    ),
    pairs = Map(
      function(key, value) list(key = key, value = value), names(part), part
    ),
    columns = {
      sizes <- lengths(part)
      part <- part[vapply(part, is_plain_array, TRUE)]
      part <- part[lengths(part) == max(lengths(part))]
      lapply(seq_len(max(sizes)), function(i) lapply(part, `[[`, i))
    },
    one = list(part),
    part
  )
}

# Members that report an error.
error_members <-
  "(^|/)(errors?|faults?|problems?|warnings?|messages?|exceptions?)(/|$)"

# The message of an answer that is only an error: its top level has such a
# member that is not empty, or problem details (RFC 9457).
draft_error_said <- function(x) {
  if (!is_object(x)) {
    return(NULL)
  }
  names <- names(x)
  members <- names[
    grepl(
      "^(errors?|faults?|exceptions?|error_?(message|code|description))$",
      names,
      ignore.case = TRUE
    )
  ]
  said <- Filter(
    function(value) {
      length(unlist(value)) &&
        !identical(value, FALSE) &&
        !identical(value, 0) &&
        !identical(value, "")
    },
    x[members]
  )
  failed <- identical(
    tolower(as.character(unlist(x[["status"]]))[1]), "error"
  ) ||
    identical(x[["ok"]], FALSE) ||
    identical(x[["success"]], FALSE)
  details <- all(c("title", "status") %in% names) &&
    is_number(x[["status"]]) &&
    x[["status"]] >= 400
  if (!length(said) && !failed && !details) {
    return(NULL)
  }
  text <- unlist(if (length(said)) said else x[vapply(x, is.atomic, TRUE)])
  substr(paste(text, collapse = ", "), 1, 160)
}

is_object <- function(x) is.list(x) && length(names(x)) > 0

is_rows <- function(x) {
  is.list(x) &&
    is.null(names(x)) &&
    length(x) > 0 &&
    all(vapply(x, is_object, TRUE))
}

# Names of members as instants, days or periods of a map; NA for other names.
key_times <- function(names) {
  day <- as.numeric(read_day(names)) * 86400
  instant <- as.numeric(read_rfc3339(sub(" ", "T", names, fixed = TRUE)))
  ifelse(is.na(day), instant, day)
}

holds_objects <- function(x) any(vapply(x, is.list, TRUE))

draft_arrays <- function(x, at) {
  if (!is.list(x) || !length(x)) {
    return(NULL)
  }
  candidate <- function(form, rows, within = "", inner = "") {
    data.frame(
      at = at, rows = rows, form = form, within = within, inner = inner
    )
  }
  if (is.null(names(x))) {
    return(draft_of_array(x, candidate))
  }
  deeper <- function(name) {
    draft_arrays(
      x[[name]],
      paste0(
        at, "/",
        gsub("/", "~1", gsub("~", "~0", name, fixed = TRUE), fixed = TRUE)
      )
    )
  }
  here <- draft_of_object(x, candidate)
  below <- do.call(rbind, lapply(names(x), deeper))
  # a single object without rows is a row
  if (is.null(here) && is.null(below) && at == "" && length(unlist(x))) {
    here <- draft_single(x)
  }
  rbind(here, below)
}

# An array of arrays, of objects, or of objects that contain rows.
draft_of_array <- function(x, array) {
  if (!all(vapply(x, is_object, TRUE))) {
    arrays <- all(vapply(x, is_plain_array, TRUE)) && all(lengths(x) > 1)
    return(if (arrays) array("arrays", length(x)))
  }
  holds <- function(row) is_rows(row) || is_table(row)
  inside <- Filter(
    function(name) any(vapply(x, function(row) holds(row[[name]]), TRUE)),
    unique(unlist(lapply(x, names)))
  )
  sizes <- vapply(inside, function(name) sum(lengths(lapply(x, `[[`, name))), 0)
  best <- if (length(sizes) && max(sizes) > length(x)) names(which.max(sizes))
  if (is.null(best)) {
    return(array("objects", length(x)))
  }
  rows <- any(vapply(x, function(row) is_rows(row[[best]]), TRUE))
  array(
    "objects", max(sizes), paste0("/", best), if (rows) "objects" else "arrays"
  )
}

# An object whose members are rows, or whose arrays are columns.
draft_of_object <- function(x, array) {
  every <- function(is) all(vapply(x, is, TRUE))
  alike <- function(parts) {
    length(unique(lapply(parts, function(part) sort(names(part))))) == 1
  }
  objects <- every(is_object)
  dated <- function(part) {
    is_object(part) && !anyNA(key_times(names(part)))
  }
  if (length(x) > 2 && every(is_number)) {
    array("pairs", length(x))
  } else if (objects &&
    every(is_map_of_numbers) &&
    !anyNA(read_day(names(x)))) {
    array("map", sum(lengths(x)), "/", "pairs")
  } else if (every(dated) && all(vapply(x, holds_objects, TRUE))) {
    array("map", sum(lengths(x)), "/", "map")
  } else if (objects && dated(x) && !any(vapply(x, holds_objects, TRUE))) {
    array("map", length(x) + 0.5)
  } else if (length(x) > 1 && dated(x) && every(is_number)) {
    array("pairs", length(x))
  } else if (every(is_table)) {
    array("map", sum(lengths(x)), "/", "arrays")
  } else if (length(x) > 2 && objects && alike(x)) {
    array("map", length(x))
  } else if (length(x) > 1 && every(is_rows) && alike(lapply(x, `[[`, 1))) {
    array("map", sum(lengths(x)))
  } else {
    plain <- lengths(Filter(is_plain_array, x))
    columns <- length(plain) > 1 &&
      sum(plain == max(plain)) > 1 &&
      max(plain) > 1
    if (columns) array("columns", max(plain))
  }
}
