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
  if (!grepl("^[a-z][a-z0-9-]*$", name)) {
    vetusta_stop(
      "draft", paste0("A source cannot be named \"", name, "\"."),
      todo = "use small letters, digits and hyphens, beginning with a letter"
    )
  }
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
  wrapped <- draft_wrapped(text)
  if (!is.null(wrapped)) {
    return(list(format = "wrapped-json", content = wrapped))
  }
  draft_text_table(text, encoding, file)
}

# JSON in a call of a function, or after a guard; NULL for other texts.
draft_wrapped <- function(text) {
  if (!grepl("^\\s*[^\\s{\\[,;]{0,80}\\s*[({\\[]", text, perl = TRUE) ||
    !grepl("[}\\]]\\s*[)]?;?\\s*$", text, perl = TRUE)) {
    return(NULL)
  }
  tryCatch(
    json_read_cpp(json_within(charToRaw(text)), "", 0L, FALSE)[[1]],
    error = function(e) NULL
  )
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
      lapply(samples, function(sample) {
        rbind(
          draft_nested_arrays(sample$content), draft_labelled(sample$content)
        )
      })
    )
  )
  # names with numbers are rows only where nothing else is
  loose <- arrays$form == "pairs" & vapply(arrays$at, function(at) {
    anyNA(key_times(names(draft_at(samples[[1]]$content, at))))
  }, TRUE)
  if (!all(loose)) arrays <- arrays[!loose, ]
  best <- arrays[order(-arrays$rows, nchar(arrays$at)), ][1, ]
  parts <- lapply(samples, function(sample) {
    part <- draft_at(sample$content, best$at)
    if (best$form == "nested") {
      return(draft_nested_rows(part))
    }
    if (best$form == "labelled") {
      return(draft_labelled_rows(sample$content, best))
    }
    # look into the entries of a map rather than take them for rows
    if (best$form == "map" && nzchar(best$within)) {
      part
    } else {
      draft_rows(part, best$form)
    }
  })
  if (best$form == "labelled") {
    return(draft_labelled_place(do.call(c, parts), best))
  }
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
          draft_at(holder, best$within)
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
        function(holder) {
          holder[names(holder) != sub("/.*", "", substring(best$within, 2))]
        }
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
