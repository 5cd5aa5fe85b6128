# The origin of a query's list of values: in place, a file, or rows of the
# archive.

# The values of a list; `where` is file and line, `name` the key they belong to.
desk_list <- function(desk, list, name, archive, where) {
  if (!is.list(list)) {
    return(as.character(list))
  }
  kind <- intersect(names(desk_list_kinds), names(list))
  if (length(kind) != 1) {
    vetusta_stop(
      "desk",
      paste0(
        "The list of `", name, "` has ",
        if (length(kind)) "two places" else "no place",
        " for the origin of its values."
      ),
      where = where,
      todo = paste0(
        "write values, as in [KELD, TAMX], or file:, rows:, ", "series:"
      )
    )
  }
  odd <- setdiff(names(list), c(kind, desk_list_words[[kind]]))
  if (length(odd)) {
    vetusta_stop(
      "desk",
      paste0("`", odd[1], "` cannot be used with `", kind, "`."),
      where = where,
      todo = paste0("leave ", odd[1], " out")
    )
  }
  rows <- desk_list_kinds[[kind]](desk, list, name, archive, where)
  if (!is.data.frame(rows)) {
    return(unique(rows))
  }
  column <- list$column %||% desk_list_column(rows, name)
  rows <- at_place(rows_filter(rows, list$where), where)
  if (!column %in% names(rows)) {
    vetusta_stop(
      "desk",
      paste0("The list of `", name, "` has no column \"", column, "\"."),
      where = where,
      todo = suggest_word(column, names(rows))
    )
  }
  values <- unique(as.character(rows[[column]]))
  values <- values[!is.na(values) & nzchar(values)]
  if (!length(values)) {
    vetusta_stop(
      "desk", paste0("The list of `", name, "` is empty."),
      where = where,
      todo = "check its file and its conditions", none = TRUE
    )
  }
  values
}

desk_list_words <- list(
  file = c("column", "sheet", "where"),
  rows = c("with", "column", "where"),
  series = c("column", "where")
)

# The column with the key's name, else the first.
desk_list_column <- function(rows, name) {
  known <- c(name, sub("s$", "", name), "symbol", "place", "key")
  c(intersect(known, names(rows)), names(rows))[1]
}

desk_list_kinds <- list(
  file = function(desk, list, name, archive, where) {
    path <- if (grepl("^/", list$file)) {
      list$file
    } else {
      file.path(desk$folder, list$file)
    }
    if (!file.exists(path) || dir.exists(path)) {
      vetusta_stop(
        "desk",
        paste0("The list of `", name, "` is in a file that does not exist."),
        where = paste0(path, "; ", where),
        todo = "check the path, which is relative to the desk's folder"
      )
    }
    ending <- tolower(sub(".*[.]", "", path))
    if (ending == "xlsx") {
      return(at_place(read_sheet(path, list$sheet), where))
    }
    if (ending %in% c("csv", "tsv")) {
      return(at_place(table_of_texts(path), where))
    }
    data.frame(value = list_lines(path))
  },
  rows = function(desk, list, name, archive, where) {
    rows <- desk_rows(archive, list$rows, where)
    if (is.null(list$with)) {
      return(rows)
    }
    with <- desk_rows(archive, list$with, where)
    by <- intersect(names(rows), names(with))
    by <- c(
      intersect(c(name, sub("s$", "", name), "symbol", "place", "series"), by),
      by
    )[1]
    if (is.na(by)) {
      vetusta_stop(
        "desk",
        paste0(
          "The rows of ", list$rows, " and ", list$with,
          " have no column in common."
        ),
        where = where, todo = "leave out with:"
      )
    }
    at_place(rows_join(rows, with, by), where)
  },
  series = function(desk, list, name, archive, where) {
    listed <- at_place(archive_find(archive, list$series), where)
    listed$years <- as.numeric(
      difftime(listed$last, listed$first, units = "days")
    ) /
      365.25
    # the symbol of bars, or the key of the series of another dataset
    listed[[name]] <- listed$key
    listed
  }
)

# Rows of source/dataset from the archive.
desk_rows <- function(archive, id, where) {
  parts <- strsplit(id, "/", fixed = TRUE)[[1]]
  if (length(parts) != 2) {
    vetusta_stop(
      "desk", paste0("\"", id, "\" names no dataset."),
      where = where,
      todo = "write a source and a dataset, as in quay/directory"
    )
  }
  list_current(at_place(archive_rows(archive, parts[1], parts[2]), where))
}

# Adds the place in the desk's file to an error without one.
at_place <- function(work, where) {
  tryCatch(work, vetusta_error = function(e) {
    vetusta_stop(
      "desk",
      e$what,
      where = paste(c(e$where, where), collapse = "; "),
      todo = e$todo
    )
  })
}

# A value a line; remarks and blank lines are ignored.
list_lines <- function(path) {
  lines <- readLines(path, warn = FALSE, encoding = "UTF-8")
  noted <- grepl("#", lines, fixed = TRUE)
  if (any(noted)) lines[noted] <- sub("#.*", "", lines[noted])
  lines <- trimmed(lines)
  lines[nzchar(lines)]
}
