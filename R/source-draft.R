# Drafting a card from samples: what several answers have in common, and what the last page lacks.

#' Draft a source card from samples
#'
#' Looks at samples of an API's answers and proposes a card: where the rows stand, the columns with their types, how instants
#' are written, how pages follow, and what is optional because some sample or row lacks it. The draft is for editing: what was
#' guessed is marked with `# ?`.
#'
#' @param files Paths of samples, JSON or CSV: answers to one kind of request, the first and the last page above all.
#' @param name The source's name.
#' @return The card's lines, a character vector.
#' @section Errors: `vetusta_error_draft` for a sample that is not there or cannot be read, or in which no rows are found.
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
    if (!file.exists(file) || dir.exists(file)) vetusta_stop("draft", "There is no such sample.", where = file, todo = "look at the path")
  }
  samples <- lapply(files, draft_sample)
  formats <- unique(vapply(samples, `[[`, "", "format"))
  if (length(formats) > 1) vetusta_stop("draft", "The samples are of several formats.", where = paste(files, collapse = ", "), todo = "draft from samples of one kind of request")
  place <- draft_place(samples, files)
  members <- draft_members(place$rows)
  place$outer <- if (length(place$outer)) draft_members(place$outer)
  c(draft_head(name), draft_offer(formats, place, members, draft_paging(samples)))
}

draft_sample <- function(file) {
  # this reads a file that is packed and one that is not
  connection <- gzfile(file, "rb")
  on.exit(close(connection))
  bytes <- readBin(connection, "raw", 1e8)
  if (identical(bytes[1:3], as.raw(c(0xef, 0xbb, 0xbf)))) bytes <- bytes[-(1:3)]
  text <- rawToChar(bytes[bytes != as.raw(0)])
  if (!validUTF8(text)) vetusta_stop("draft", "The sample is no text in UTF-8.", where = file, todo = "give an answer of the API as it came")
  if (grepl("^\\s*[{[]", text)) {
    parse <- function(text) tryCatch(RcppSimdJson::fparse(text, max_simplify_lvl = "list", int64_policy = "double"), error = function(e) NULL)
    content <- parse(text)
    lines <- strsplit(text, "\r?\n")[[1]]
    lines <- lines[nzchar(trimws(lines))]
    if (is.null(content) && length(lines) > 1) {
      content <- lapply(lines, parse)
      if (!any(vapply(content, is.null, TRUE))) return(list(format = "json-lines", content = content))
      content <- NULL
    }
    if (is.null(content)) vetusta_stop("draft", "The sample is no whole JSON.", where = file, todo = "save the whole answer")
    return(list(format = "json", content = content))
  }
  rows <- tryCatch(data.table::fread(text = text, colClasses = "character", data.table = FALSE, showProgress = FALSE, na.strings = c("", "NA", "null")), error = function(e) NULL)
  if (is.null(rows) || ncol(rows) < 2) vetusta_stop("draft", "The sample is neither JSON nor a table.", where = file, todo = "give an answer of the API as it came")
  list(format = if (grepl("\t", sub("\n.*", "", text))) "tsv" else "csv", content = rows)
}

# The rows: the longest of what looks like rows, wherever it stands in any of the samples.
draft_place <- function(samples, files) {
  if (samples[[1]]$format %in% c("csv", "tsv")) {
    rows <- do.call(c, lapply(samples, function(sample) lapply(seq_len(nrow(sample$content)), function(i) as.list(sample$content[i, , drop = FALSE]))))
    return(list(at = NULL, form = "objects", rows = rows))
  }
  found <- do.call(rbind, lapply(samples, function(sample) draft_arrays(sample$content, "")))
  if (is.null(found)) vetusta_stop("draft", "No rows are found in the samples.", where = paste(files, collapse = ", "), todo = "give a sample of an answer with rows in it")
  best <- found[order(-found$rows, nchar(found$at)), ][1, ]
  parts <- lapply(samples, function(sample) draft_rows(draft_at(sample$content, best$at), best$form))
  holders <- if (nzchar(best$within)) do.call(c, parts)
  rows <- if (is.null(holders)) do.call(c, parts) else do.call(c, lapply(holders, function(holder) draft_rows(holder[[substring(best$within, 2)]], best$inner)))
  list(at = best$at, form = best$form, within = best$within, inner = best$inner, rows = Filter(is.list, rows), outer = lapply(holders,
    function(holder) holder[names(holder) != substring(best$within, 2)]))
}

# The rows as a list of objects, whatever their form.
draft_rows <- function(part, form) {
  switch(form,
    map = do.call(c, unname(Map(function(key, row) {
      if (is.null(names(row)) && length(row) && all(vapply(row, is.list, TRUE))) lapply(row, function(one) c(list(key = key), one)) else list(c(list(key = key), row))
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
is_plain_array <- function(x) is.list(x) && is.null(names(x)) && length(x) > 0 && all(vapply(x, function(one) is.null(one) || (is.atomic(one) && length(one) == 1), TRUE))

is_object <- function(x) is.list(x) && length(names(x)) > 0

is_rows <- function(x) is.list(x) && is.null(names(x)) && length(x) > 0 && all(vapply(x, is_object, TRUE))

draft_arrays <- function(x, at) {
  if (!is.list(x) || !length(x)) {
    return(NULL)
  }
  found <- function(form, rows, within = "", inner = "") data.frame(at = at, rows = rows, form = form, within = within, inner = inner)
  deeper <- function(name) draft_arrays(x[[name]], paste0(at, "/", gsub("/", "~1", gsub("~", "~0", name, fixed = TRUE), fixed = TRUE)))
  if (is.null(names(x))) {
    if (!all(vapply(x, is_object, TRUE))) {
      return(if (all(vapply(x, is_plain_array, TRUE)) && all(lengths(x) > 1)) found("arrays", length(x)))
    }
    # objects, or objects that hold rows of their own
    inside <- Filter(function(name) any(vapply(x, function(row) is_rows(row[[name]]), TRUE)), unique(unlist(lapply(x, names))))
    held <- vapply(inside, function(name) sum(lengths(lapply(x, `[[`, name))), 0)
    best <- if (length(held) && max(held) > length(x)) names(which.max(held))
    return(if (is.null(best)) found("objects", length(x)) else found("objects", max(held), paste0("/", best), "objects"))
  }
  objects <- all(vapply(x, is_object, TRUE))
  alike <- function(parts) length(unique(lapply(parts, function(part) sort(names(part))))) == 1
  plain <- Filter(is_plain_array, x)
  here <- if (length(x) > 2 && objects && alike(x)) found("map", length(x))
  else if (length(x) > 1 && all(vapply(x, is_rows, TRUE)) && alike(lapply(x, `[[`, 1))) found("map", sum(lengths(x)))
  else if (length(plain) > 1 && sum(lengths(plain) == max(lengths(plain))) > 1 && max(lengths(plain)) > 1) found("columns", max(lengths(plain)))
  below <- do.call(rbind, lapply(names(x), deeper))
  # one object that holds no rows is a row itself
  if (is.null(here) && is.null(below) && at == "" && length(unlist(x))) here <- draft_single(x)
  rbind(here, below)
}

draft_single <- function(x) {
  only <- if (length(x) == 1 && is_object(x[[1]])) names(x) else NULL
  data.frame(at = if (is.null(only)) "" else paste0("/", only), rows = 1, form = "one", within = "", inner = "")
}

draft_at <- function(x, pointer) {
  for (key in strsplit(substring(pointer, 2), "/", fixed = TRUE)[[1]]) x <- x[[gsub("~0", "~", gsub("~1", "/", key, fixed = TRUE), fixed = TRUE)]]
  x
}

# Every member of the rows, also nested ones, with its values; absent from a row means optional.
draft_members <- function(rows) {
  flat <- lapply(rows, function(row) unlist(draft_flat(row, ""), recursive = FALSE))
  names <- unique(unlist(lapply(flat, names)))
  lapply(stats::setNames(names, names), function(name) {
    values <- lapply(flat, `[[`, name)
    there <- vapply(values, function(value) length(value) == 1 && !is.na(value), TRUE)
    list(values = unlist(values[there]), optional = !all(there))
  })
}

draft_flat <- function(row, at) {
  parts <- lapply(names(row), function(name) {
    here <- paste0(at, "/", name)
    if (is.list(row[[name]]) && length(names(row[[name]]))) draft_flat(row[[name]], here)
    else if (!is.list(row[[name]])) stats::setNames(list(stats::setNames(list(row[[name]]), here)), NULL)
  })
  do.call(c, parts)
}

draft_type <- function(values) {
  text <- as.character(values)
  number <- suppressWarnings(as.numeric(text))
  if (!length(text)) return("text")
  if (is.logical(values) || all(tolower(text) %in% c("true", "false"))) return("flag")
  if (!anyNA(number)) {
    scale <- c("epoch-s" = 1, "epoch-ms" = 1e3, "epoch-us" = 1e6, "epoch-ns" = 1e9)
    # instants of 1990 to 2100, whole and of one size
    fits <- vapply(scale, function(s) all(number / s > 6.3e8 & number / s < 4.1e9 & number == round(number)), TRUE)
    return(if (any(fits)) names(scale)[fits][1] else "number")
  }
  if (all(grepl("^[+-]?[0-9.]+%$", text))) return("percent")
  if (!anyNA(read_day(text))) return("day")
  if (all(grepl("T", text)) && !anyNA(read_rfc3339(text))) return(if (all(grepl("(Z|[+-][0-9]{2}:?[0-9]{2})$", text))) "rfc3339" else "local")
  if (!anyNA(read_rfc3339(sub(" ", "T", text, fixed = TRUE)))) return("local")
  "text"
}

# What a member is, by the words that many write; only a proposal.
draft_columns <- list(
  time = "^(t|at|time|date|day|timestamp|begins?|start|datetime|when)$", open = "^(o|op|open|first|fst|opening)$", high = "^(h|hi|high|top|max)$", low = "^(l|lo|low|min|bottom)$",
  close = "^(c|cl|close|last|lst|closing|price)$", volume = "^(v|vol|volume|qty|quantity|lots)$", symbol = "^(symbol|code|ticker|sym|key|s)$"
)

draft_paging <- function(samples) {
  if (samples[[1]]$format != "json") {
    return("    # next_page: {by: none}               # ? all in one answer")
  }
  tops <- lapply(samples, function(sample) unlist(draft_tops(sample$content, ""), recursive = FALSE))
  names <- unique(unlist(lapply(tops, names)))
  value <- function(name) unlist(lapply(tops, `[[`, name))
  absent <- function(name) any(vapply(tops, function(top) is.null(top[[name]]) || identical(top[[name]], ""), TRUE))
  word <- function(pattern) names[grepl(pattern, names, ignore.case = TRUE)]
  addresses <- Filter(function(name) is.character(value(name)) && all(grepl("^(https?://|/|[?])", value(name)[nzchar(value(name))])), word("next|more|following|continue"))
  if (length(addresses)) return(paste0("    next_page: {by: address, at: ", addresses[1], "}", if (absent(addresses[1])) "      # absent on the last page"))
  cursors <- word("cursor|next|continuation|token|marker")
  if (length(cursors)) return(paste0("    next_page: {by: cursor, at: ", cursors[1], ", send: cursor}   # ? the parameter's name"))
  pages <- word("^(.*/)?(pages|total_?pages|page_?count|last_?page)$")
  if (length(pages)) return(paste0("    next_page: {by: page, send: page, pages: ", pages[1], "}   # ? the parameter's name"))
  total <- word("total|count$")
  if (length(total)) return(paste0("    next_page: {by: offset, send: offset, total: ", total[1], "}   # ? the parameter's name"))
  "    # next_page: {by: none}               # ? nothing in the samples tells how pages follow"
}

draft_tops <- function(x, at) {
  if (is.null(names(x))) {
    return(NULL)
  }
  do.call(c, lapply(names(x), function(name) {
    here <- paste0(at, "/", name)
    if (is.list(x[[name]])) draft_tops(x[[name]], here) else if (length(x[[name]]) == 1) list(stats::setNames(list(x[[name]]), here))
  }))
}

draft_head <- function(name) {
  c("# A draft: what is marked with \"# ?\" was guessed from the samples.", paste0("source: ", name), "title: ", "address: https://data.example.org   # ? where the API is",
    "access: {by: none}                   # ? query, header, bearer, basic, pair or token; name the secret, never write it here",
    "limits: [60 per minute]              # ? what the API's terms say") |> sub(pattern = "^title: $", replacement = paste0("title: ", name))
}

draft_offer <- function(format, place, members, paging) {
  taken <- character()
  lines <- character()
  outer <- rep(c(FALSE, TRUE), c(length(members), length(place$outer)))
  members <- c(members, place$outer)
  last_part <- sub(".*/", "", names(members))
  types <- vapply(members, function(member) draft_type(member$values), "")
  for (i in seq_along(members)) {
    fits <- names(draft_columns)[vapply(draft_columns, function(pattern) grepl(pattern, last_part[i], ignore.case = TRUE), TRUE)]
    fits <- setdiff(fits, taken)
    if (length(fits) && fits[1] == "time" && !types[i] %in% c(instant_types, "local")) fits <- character()
    column <- if (length(fits)) fits[1] else make.unique(c(taken, sub("^([0-9])", "column_\\1", gsub("[^a-z0-9]+", "_", tolower(last_part[i])))), sep = "_")[length(taken) + 1]
    taken <- c(taken, column)
    at <- if (place$form == "map" && names(members)[i] == "/key") "of: key" else paste0(if (outer[i]) "outer" else "at", ": \"", names(members)[i], "\"")
    lines <- c(lines, paste0("      ", column, ": {", at, ", as: ", types[i], if (members[[i]]$optional) ", need: optional", "}", if (!length(fits)) "   # ? a column of its own"))
  }
  bars <- all(c("time", "close") %in% taken)
  c("offers:", paste0("  ", if (bars) "bars" else "rows", ":"), paste0("    shape: ", if (bars) "bars" else "table",
    if (!bars) "                      # ? see docs/source-cards.md for the shapes"),
    paste0("    request: /", if (bars) "bars/{symbol}{?from,to}" else "rows", "    # ? the path below the address"),
    if (format != "json") paste0("    format: ", format), if (!is.null(place$at)) paste0("    rows: \"", place$at, "\""), if (place$form != "objects") paste0("    form: ", place$form),
    if (nzchar(place$within %||% "")) paste0("    within: \"", place$within, "\""),
    paging, "    columns:", lines)
}
