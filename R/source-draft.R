# Drafting a card from samples: what several answers have in common, and what the last page lacks.

#' Draft a source card from samples
#'
#' Looks at samples of an API's answers and proposes a card: where the rows stand, the columns with
#' their types, how instants
#' are written, how pages follow, and what is optional because some sample or row lacks it. The
#' draft is for editing: what was
#' guessed is marked with `# ?`.
#'
#' @param files Paths of samples, JSON or CSV: answers to one kind of request, the first and the
#'   last page above all.
#' @param name The source's name.
#' @return The card's lines, a character vector.
#' @section Errors: `vetusta_error_draft` for a sample that is not there or cannot be read, or in
#'   which no rows are found.
#' @export
#' @examples
#' first <- tempfile(fileext = ".json")
#' writeLines('{"items":[{"at":1773300600000,"lst":41.2,"deals":3}],"more":"/bars?page=2"}', first)
#' last <- tempfile(fileext = ".json")
#' writeLines('{"items":[{"at":1773300660000,"lst":41.3}]}', last)
#' cat(source_draft(c(first, last)), sep = "\n")
source_draft <- function(files, name = "new") {
  check_text(files, "files", "draft", several = TRUE)
  check_text(name, "name", "draft")
  for (file in files) {
    if (!file.exists(file) || dir.exists(file)) {
      vetusta_stop("draft", "There is no such sample.", where = file, todo = "look at the path")
    }
  }
  samples <- lapply(files, draft_sample)
  formats <- unique(vapply(samples, `[[`, "", "format"))
  if (length(formats) > 1) {
    vetusta_stop("draft", "The samples are of several formats.",
      where = paste(files, collapse = ", "), todo = "draft from samples of one kind of request")
  }
  place <- draft_place(samples, files)
  members <- draft_members(place$rows)
  place$outer <- if (length(place$outer)) draft_members(place$outer)
  c(draft_head(name), draft_dataset(formats, place, members, draft_paging(samples)))
}

draft_sample <- function(file) {
  # this reads a file that is packed and one that is not
  connection <- gzfile(file, "rb")
  on.exit(close(connection))
  bytes <- readBin(connection, "raw", 1e8)
  if (identical(bytes[1:3], as.raw(c(0xef, 0xbb, 0xbf)))) bytes <- bytes[-(1:3)]
  text <- rawToChar(bytes[bytes != as.raw(0)])
  if (!validUTF8(text)) {
    vetusta_stop("draft", "The sample is no text in UTF-8.", where = file,
      todo = "give an answer of the API as it came")
  }
  if (grepl("^\\s*[{[]", text)) {
    parse <- function(text) {
      tryCatch(json_read_cpp(charToRaw(text), "", 0L, FALSE)[[1]],
      error = function(e) NULL)
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
      vetusta_stop("draft", "The sample is no whole JSON.", where = file,
        todo = "save the whole answer")
    }
    return(list(format = "json", content = content))
  }
  rows <- tryCatch(data.table::fread(text = text, colClasses = "character", data.table = FALSE,
    showProgress = FALSE, na.strings = c("", "NA", "null")), error = function(e) NULL)
  if (is.null(rows) || ncol(rows) < 2) {
    vetusta_stop("draft", "The sample is neither JSON nor a table.", where = file,
      todo = "give an answer of the API as it came")
  }
  list(format = if (grepl("\t", sub("\n.*", "", text))) "tsv" else "csv", content = rows)
}

# The rows: the longest of what looks like rows, wherever it stands in any of the samples.
draft_place <- function(samples, files) {
  if (samples[[1]]$format %in% c("csv", "tsv")) {
    rows <- do.call(c,
      lapply(samples,
        function(sample) {
          lapply(seq_len(nrow(sample$content)),
          function(i) as.list(sample$content[i, , drop = FALSE]))
        }))
    return(list(at = NULL, form = "objects", rows = rows))
  }
  found <- do.call(rbind, lapply(samples, function(sample) draft_arrays(sample$content, "")))
  if (is.null(found)) {
    vetusta_stop("draft", "No rows are found in the samples.",
      where = paste(files, collapse = ", "), todo = "give a sample of an answer with rows in it")
  }
  best <- found[order(-found$rows, nchar(found$at)), ][1, ]
  parts <- lapply(samples,
    function(sample) draft_rows(draft_at(sample$content, best$at), best$form))
  holders <- if (nzchar(best$within)) do.call(c, parts)
  rows <- if (is.null(holders)) do.call(c, parts)
  else do.call(c,
    lapply(holders, function(holder) draft_rows(holder[[substring(best$within, 2)]], best$inner)))
  list(at = best$at, form = best$form, within = best$within, inner = best$inner,
    rows = Filter(is.list, rows), outer = lapply(holders,
    function(holder) holder[names(holder) != substring(best$within, 2)]))
}

# The rows as a list of objects, whatever their form.
draft_rows <- function(part, form) {
  switch(form,
    map = do.call(c, unname(Map(function(key, row) {
      if (is.null(names(row)) && length(row) && all(vapply(row, is.list, TRUE))) lapply(row,
        function(one) c(list(key = key), one)) else list(c(list(key = key), row))
    }, names(part), part))),
    arrays = lapply(part, function(row) stats::setNames(as.list(row), seq_along(row) - 1)),
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

# An array of numbers, texts and nothings.
is_plain_array <- function(x) {
  is.list(x) && is.null(names(x)) && length(x) > 0 &&
  all(vapply(x, function(one) is.null(one) || (is.atomic(one) && length(one) == 1), TRUE))
}

is_object <- function(x) is.list(x) && length(names(x)) > 0

is_rows <- function(x) {
  is.list(x) && is.null(names(x)) && length(x) > 0 &&
  all(vapply(x, is_object, TRUE))
}

draft_arrays <- function(x, at) {
  if (!is.list(x) || !length(x)) {
    return(NULL)
  }
  found <- function(form, rows, within = "", inner = "") {
    data.frame(at = at, rows = rows,
    form = form, within = within, inner = inner)
  }
  deeper <- function(name) {
    draft_arrays(x[[name]],
    paste0(at, "/", gsub("/", "~1", gsub("~", "~0", name, fixed = TRUE), fixed = TRUE)))
  }
  if (is.null(names(x))) {
    if (!all(vapply(x, is_object, TRUE))) {
      return(if (all(vapply(x, is_plain_array, TRUE)) && all(lengths(x) > 1)) found("arrays",
        length(x)))
    }
    # objects, or objects that hold rows of their own
    inside <- Filter(function(name) any(vapply(x, function(row) is_rows(row[[name]]), TRUE)),
      unique(unlist(lapply(x, names))))
    held <- vapply(inside, function(name) sum(lengths(lapply(x, `[[`, name))), 0)
    best <- if (length(held) && max(held) > length(x)) names(which.max(held))
    return(if (is.null(best)) found("objects", length(x))
    else found("objects", max(held), paste0("/", best), "objects"))
  }
  objects <- all(vapply(x, is_object, TRUE))
  alike <- function(parts) length(unique(lapply(parts, function(part) sort(names(part))))) == 1
  plain <- Filter(is_plain_array, x)
  here <- if (length(x) > 2 && objects && alike(x)) found("map", length(x))
  else if (length(x) > 1 && all(vapply(x, is_rows, TRUE)) && alike(lapply(x, `[[`, 1))) found("map",
    sum(lengths(x)))
  else if (length(plain) > 1 && sum(lengths(plain) == max(lengths(plain))) > 1 &&
    max(lengths(plain)) > 1) found("columns", max(lengths(plain)))
  below <- do.call(rbind, lapply(names(x), deeper))
  # one object that holds no rows is a row itself
  if (is.null(here) && is.null(below) && at == "" && length(unlist(x))) here <- draft_single(x)
  rbind(here, below)
}
