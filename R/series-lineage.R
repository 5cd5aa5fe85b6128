# Lineage: what a table was read from, and the steps that made it. A node is a
# list of `step` (a function's name), `arguments` (texts, or nodes for tables),
# `version`, `rows` and `hash` (of the table's columns); of a reading also
# `known`, the last instant at which one of its values counts. No clock and no
# path is in it: equal tables have equal lineages.

# The hash of a table's columns: xxHash, 64 bits, of their bytes in order.
table_hash <- function(x) {
  columns <- lapply(unclass(x), function(column) {
    if (is.factor(column)) as.character(column) else column
  })
  attributes(columns) <- NULL
  columns_hash_cpp(columns, enc2utf8(names(x)))
}

lineage_node <- function(step, arguments, x, ...) {
  list(
    step = step, arguments = arguments, ...,
    version = unname(getNamespaceVersion("vetusta")),
    rows = nrow(x), hash = table_hash(x)
  )
}

# The lineage of an argument that is a table: its own, if it still has the
# content that its last step made.
lineage_input <- function(x) {
  node <- attr(x, "lineage", exact = TRUE)
  # a model is not changed by hand
  if (!is.data.frame(x)) {
    return(node)
  }
  if (is.null(node)) {
    return(lineage_node("input", list(), x))
  }
  if (identical(node$hash, table_hash(x))) {
    return(node)
  }
  lineage_node("changed", list(node), x)
}

has_lineage <- function(x) !is.null(attr(x, "lineage", exact = TRUE))

# The arguments given to the calling function; NULL where no table among them
# has a lineage, so that tables made by hand cost nothing.
lineage_asked <- function(frame = parent.frame()) {
  formals <- names(formals(sys.function(sys.parent())))
  absent <- vapply(setdiff(formals, "..."), function(name) {
    eval(call("missing", as.name(name)), frame)
  }, TRUE)
  values <- mget(names(absent)[!absent], frame)
  if ("..." %in% formals) values <- c(eval(quote(list(...)), frame), values)
  if (!any(vapply(values, has_lineage, TRUE))) {
    return(NULL)
  }
  lapply(values, function(value) {
    if (is.data.frame(value) || has_lineage(value)) {
      lineage_input(value)
    } else {
      lineage_text(value)
    }
  })
}

# An argument as R code.
lineage_text <- function(value) {
  if (inherits(value, "vetusta_interval")) {
    value <- format(value)
  } else if (inherits(value, "vetusta_calendar")) {
    return(paste0("source_calendar(", deparse(value$name), ")"))
  } else if (inherits(value, "Date")) {
    value <- format(value)
  } else if (inherits(value, "POSIXct")) {
    value <- format_instant(value)
  } else if (is.list(value)) {
    parts <- vapply(value, lineage_text, "")
    named <- names(value) %||% rep("", length(value))
    return(paste0(
      "list(",
      paste0(ifelse(nzchar(named), paste0(named, " = "), ""), parts,
        collapse = ", "
      ), ")"
    ))
  }
  if (is.function(value)) {
    return("NULL")
  }
  paste(deparse(value, width.cutoff = 500), collapse = " ")
}

# Adds the step to a result.
lineage_step <- function(result, step, asked) {
  if (is.null(asked)) {
    return(result)
  }
  attr(result, "lineage") <- if (is.data.frame(result)) {
    lineage_node(step, asked, result)
  } else {
    list(
      step = step, arguments = asked,
      version = unname(getNamespaceVersion("vetusta"))
    )
  }
  result
}

#' Lineage of a table
#'
#' What a table was read from, and the steps that made it: as sentences, and as
#' a script that makes it again. Tables of [archive_read()] have a lineage, and
#' the functions that make series from series add to it.
#'
#' @param x A table, a model, a figure, or a lineage.
#' @return A list of class `vetusta_lineage`, with a row per step in `steps`
#'   (`step`, `arguments` as R code, `rows`, `hash`, `known`, `version`), and
#'   `script`, lines of R. `print()` shows sentences and the script. A step done
#'   outside of this package shows as "changed by other code". `NULL` for a
#'   table without a lineage.
#' @details The script reads the series `as_of` the last instant at which one of
#'   their values counted, so that later values do not change its result. A hash
#'   is xxHash (64 bits, seed 0) over the hashes of the names and columns.
#' @section Errors: `vetusta_error_argument` for an object that is no table.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
#' archive_import(archive, csv, symbol = "KELD", interval = "1 day")
#' days <- archive_read(archive, "KELD")[[1]]
#' series_lineage(series_change(days))
series_lineage <- function(x) {
  node <- if (is.data.frame(given(x, "x")) || has_lineage(x)) {
    if (has_lineage(x)) lineage_input(x)
  } else if (is.list(x) && !is.null(x$step)) {
    x
  } else {
    vetusta_stop(
      "argument", "Only tables have a lineage.",
      todo = "give a table of archive_read(), or one made from it"
    )
  }
  if (is.null(node)) {
    return(NULL)
  }
  lineage_of_node(node)
}

lineage_of_node <- function(node) {
  names <- character()
  lines <- character()
  rows <- list()
  # equal nodes are written once
  add <- function(node) {
    key <- paste(node$step, node$hash, lineage_calls(node))
    if (key %in% names(names)) {
      return(names[[key]])
    }
    inputs <- lapply(node$arguments, function(x) if (is.list(x)) add(x))
    texts <- vapply(seq_along(node$arguments), function(i) {
      inputs[[i]] %||% as.character(node$arguments[[i]])
    }, "")
    called <- names(node$arguments) %||% rep("", length(texts))
    code <- paste0(
      ifelse(nzchar(called), paste0(called, " = "), ""), texts,
      collapse = ", "
    )
    name <- paste0("table", length(names) + 1)
    lines <<- c(lines, switch(node$step,
      archive_read = paste0(
        name, " <- archive_read(archive, ", code, ")[[",
        deparse(node$table), "]]"
      ),
      input = paste0(
        "# ", name, " is a table of ", counted(node$rows, "row"),
        " that was made by hand (hash ", node$hash, ")"
      ),
      command = c(
        "# in a shell, where the archive has nothing newer:",
        paste0("# ", node$command)
      ),
      changed = paste0(
        name, " <- ", texts, "  # changed by other code: ",
        counted(node$rows, "row"), ", hash ", node$hash
      ),
      paste0(name, " <- ", node$step, "(", code, ")")
    ))
    rows[[length(rows) + 1]] <<- list(
      name = name, step = node$step,
      arguments = node$command %||% code,
      rows = as.integer(node$rows %||% NA), hash = node$hash %||% NA_character_,
      known = node$known %||% NA_character_, version = node$version
    )
    names[[key]] <<- name
    name
  }
  last <- add(node)
  reads <- any(vapply(rows, function(row) row$step == "archive_read", TRUE))
  structure(
    list(
      steps = as_rows(as.list(data.table::rbindlist(rows))),
      script = c(
        "library(vetusta)",
        if (reads) "archive <- archive_open(\"archive.sqlite\")",
        lines, if (node$step != "command") last
      )
    ),
    class = "vetusta_lineage"
  )
}

# The names of all steps below a node, to tell nodes of equal content apart.
lineage_calls <- function(node) {
  paste(vapply(node$arguments, function(x) {
    if (is.list(x)) paste0(x$step, "(", lineage_calls(x), ")") else x
  }, ""), collapse = ",")
}

#' @rdname series_lineage
#' @param ... Unused.
#' @export
format.vetusta_lineage <- function(x, ...) {
  words <- vapply(seq_len(nrow(x$steps)), function(i) {
    row <- x$steps[i, ]
    switch(row$step,
      archive_read = paste0(
        row$name, " was read from the archive: ", row$arguments, "; ",
        counted(row$rows, "row"),
        if (!is.na(row$known)) paste0(", known up to ", row$known)
      ),
      input = paste0(
        row$name, " was made by hand: ", counted(row$rows, "row")
      ),
      command = paste0(
        "made from these by the command: ", row$arguments,
        if (!is.na(row$rows)) paste0("; ", counted(row$rows, "row"))
      ),
      changed = paste0(
        row$name, " is ", row$arguments, ", changed by other code: ",
        counted(row$rows, "row")
      ),
      paste0(
        row$name, " was made by ", row$step, "(", row$arguments, ")",
        if (!is.na(row$rows)) paste0(": ", counted(row$rows, "row"))
      )
    )
  }, "")
  hash <- ifelse(is.na(x$steps$hash), "", paste0(", hash ", x$steps$hash))
  c(
    paste0(words, " (vetusta ", x$steps$version, hash, ")"),
    "", x$script
  )
}

#' @rdname series_lineage
#' @export
print.vetusta_lineage <- function(x, ...) {
  cat(format(x), sep = "\n")
  invisible(x)
}
