# Adding rows to an existing table: a CSV file, or a named table of a workbook.

#' Update a table in a file
#'
#' Adds rows for new times to an existing table. Columns are matched by their
#' headers, and everything around the table stays.
#'
#' @param rows A data frame with a `time` or `period`, and, if it is long, with
#'   `symbol` or `series`.
#' @param file An existing `.csv`, `.tsv` or `.xlsx` file. A missing CSV file is
#'   created.
#' @param table The name of the table in a workbook.
#' @param update Whether changed values of existing times are replaced;
#'   otherwise they stay. No time is added twice.
#' @param zone The IANA zone of local times without an offset in the table, and
#'   of times written to a workbook, which has no zones.
#' @return Invisibly a list of class `vetusta_append`: `file`, `table`, `new`
#'   (rows), `changed` (rows), `unchanged`, `left_out` (columns of the rows that
#'   the table lacks).
#' @section Errors: `vetusta_error_export` for a missing file or table, a column
#'   of the table that the rows lack (except formulas), unreadable times, or a
#'   file that is open elsewhere; the file is unchanged then.
#' @export
#' @examples
#' file <- tempfile(fileext = ".csv")
#' days <- data.frame(
#'   period = as.Date("2026-03-12") + 0:1,
#'   level = c(250.1, 251)
#' )
#' export_append(days, file)
#' export_append(
#'   rbind(days, data.frame(period = as.Date("2026-03-14"), level = 249)), file
#' )
export_append <- function(rows, file, table = NULL, update = TRUE,
                          zone = "UTC") {
  check_exported(if (missing(rows)) NULL else rows)
  check_text(file, "file", "export")
  check_flag(update, "update")
  check_zone(zone, "export")
  ending <- export_ending(file, c("csv", "tsv", "xlsx"))
  if (ending == "xlsx" && is.null(table)) {
    vetusta_stop(
      "export", "A workbook has several tables.",
      where = file,
      todo = "name the table: table = \"Rates\", or --table Rates"
    )
  }
  if (ending != "xlsx" && !is.null(table)) {
    vetusta_stop(
      "export", "A file of this kind is a single table without a name.",
      where = file, todo = "leave out the table's name"
    )
  }
  keys <- append_keys(rows)
  done <- with_locked_file(file, function() {
    if (ending == "xlsx") {
      append_sheet(rows, file, table, keys, update, zone)
    } else {
      append_text(rows, file, text_separator(file, ending), keys, update, zone)
    }
  })
  invisible(
    structure(
      c(list(file = file, table = table), done),
      class = "vetusta_append"
    )
  )
}

# The columns that identify rows: those that the rows state, a key of facts, or
# the time and the series of a long table.
append_keys <- function(rows) {
  named <- attr(rows, "keys")
  if (length(named)) {
    return(named)
  }
  facts <- c("period_end", "symbol", "item")
  if (all(facts %in% names(rows))) {
    return(c(facts, intersect(c("period_start", "basis", "unit"), names(rows))))
  }
  time <- intersect(c("time", "period"), names(rows))
  if (length(time) != 1) {
    vetusta_stop(
      "export",
      "The rows have no column of times.",
      where = paste("their columns:", paste(names(rows), collapse = ", ")),
      todo = "give rows with a column time or period"
    )
  }
  c(time, intersect(c("symbol", "series", "side"), names(rows)))
}

# Matches new rows to those of an existing table: list(at, columns, left_out),
# where `at` is NA for a new row. `existing` are the table's columns, with times
# as numbers.
append_places <- function(rows, existing, keys, file, formulas = character()) {
  heads <- names(existing)
  lower <- function(x) tolower(trimws(x))
  place <- match(lower(heads), lower(names(rows)))
  lacking <- heads[is.na(place) & !heads %in% formulas]
  if (length(lacking)) {
    vetusta_stop(
      "export",
      paste0(
        "The table has a column \"", lacking[1],
        "\", which the rows do not have."
      ),
      where = file,
      todo = paste0(
        "remove it from the table, or give the rows such a column; they have: ",
        paste(names(rows), collapse = ", ")
      )
    )
  }
  for (key in keys) {
    if (!lower(key) %in% lower(heads)) {
      # a long table of one series need not name it
      if (key %in% c("series", "symbol", "side") &&
        length(unique(rows[[key]])) == 1) {
        next
      }
      vetusta_stop(
        "export",
        paste0("The table has no column \"", key, "\"."),
        where = file,
        todo = paste0(
          "add it: rows are identified by it; the file has: ",
          paste(heads, collapse = ", ")
        )
      )
    }
  }
  used <- keys[lower(keys) %in% lower(heads)]
  text <- function(frame, names) {
    do.call(
      paste,
      c(
        lapply(names, function(name) {
          column <- frame[[name]]
          if (inherits(column, c("POSIXct", "Date"))) {
            format_exact(as.numeric(column))
          } else if (is.numeric(column)) {
            format_exact(column)
          } else {
            # an empty cell and a missing text are equal
            ifelse(is.na(column), "", as.character(column))
          }
        }),
        sep = "\r"
      )
    )
  }
  ours <- text(rows, used)
  if (anyDuplicated(ours)) {
    timed <- length(time_keys(rows, used)) > 0
    vetusta_stop(
      "export",
      paste0("Two rows have the same ", if (timed) "time." else "key."),
      where = file,
      todo = if (timed) {
        "give a single row per time and series"
      } else {
        paste("give a single row per", paste(used, collapse = ", "))
      }
    )
  }
  theirs <- text(existing, heads[match(lower(used), lower(heads))])
  columns <- heads[!is.na(place) & !heads %in% formulas]
  list(
    at = match(ours, theirs),
    columns = columns,
    from = names(rows)[match(lower(columns), lower(names(rows)))],
    left_out = setdiff(names(rows), names(rows)[place])
  )
}

append_text <- function(rows, file, separator, keys, update, zone) {
  write <- function(cells, path, head, words = names(cells)) {
    csv_write(cells, path, separator, head, words)
  }
  if (!file.exists(file)) {
    write_whole(file, function(path) write(csv_cells(rows, zone), path, TRUE))
    return(
      list(new = nrow(rows), changed = 0, unchanged = 0, left_out = character())
    )
  }
  check_heads(file, separator)
  texts <- append_errors(table_of_texts(file), file)
  # numbers are compared and written with the file's decimal mark
  commas <- if (separator != ",") names(texts)[vapply(texts, has_commas, TRUE)]
  texts[commas] <- lapply(texts[commas], with_points)
  if (separator != ",") {
    write <- function(cells, path, head, words = names(cells)) {
      cells[intersect(commas, names(cells))] <-
        lapply(cells[intersect(commas, names(cells))], with_comma)
      csv_write(cells, path, separator, head, words)
    }
  }
  existing <- existing_rows(texts, keys, rows, zone, file)
  places <- append_places(rows, existing, keys, file)
  cells <- as.list(csv_texts(rows[places$from], zone))
  names(cells) <- places$columns
  # days as the file writes them
  for (i in seq_along(cells)) {
    written <- attr(existing[[places$columns[i]]], "written")
    if (!is.null(written)) {
      cells[[i]] <- format(rows[[places$from[i]]], written)
    }
  }
  there <- which(!is.na(places$at))
  values <- places$columns[!places$from %in% keys]
  differ <- append_differ(
    rows[places$from[!places$from %in% keys]], texts[values], there,
    places$at[there]
  )
  fresh <- which(is.na(places$at))
  if (update && any(differ)) {
    words <- columns_of_words(texts)
    texts[] <- lapply(texts, without_formula)
    for (name in places$columns) {
      texts[[name]][places$at[there[differ]]] <- cells[[name]][there[differ]]
    }
    all <- lapply(stats::setNames(nm = names(texts)), function(name) {
      c(texts[[name]], (cells[[name]] %||% rep("", nrow(rows)))[fresh])
    })
    write_whole(file, function(path) {
      write(list_frame(all), path, TRUE, words)
      with_marks_of(file, path)
    })
  } else if (length(fresh)) {
    # existing rows stay byte for byte
    added <- lapply(
      stats::setNames(nm = names(texts)),
      function(name) (cells[[name]] %||% rep("", nrow(rows)))[fresh]
    )
    write_whole(file, function(path) {
      bytes <- readBin(file, "raw", file.size(file))
      if (length(bytes) && bytes[length(bytes)] != as.raw(10)) {
        bytes <- c(bytes, as.raw(10))
      }
      beside <- paste0(path, ".rows")
      on.exit(unlink(beside))
      write(list_frame(added), beside, FALSE)
      with_marks_of(file, beside, start = FALSE)
      writeBin(c(bytes, readBin(beside, "raw", file.size(beside))), path)
    })
  }
  list(
    new = length(fresh),
    changed = if (update) sum(differ) else 0,
    unchanged = length(there) - if (update) sum(differ) else 0,
    left_out = places$left_out
  )
}

# A table of texts with its times as instants or days, like those of the new
# rows.
existing_rows <- function(texts, keys, rows, zone, file) {
  existing <- as.list(texts)
  for (time in time_keys(rows, keys)) {
    at <- match(tolower(time), tolower(trimws(names(texts))))
    if (is.na(at)) next
    pattern <- if (inherits(rows[[time]], "Date")) day_pattern(existing[[at]])
    read <- if (!is.null(pattern)) {
      read_written(existing[[at]], "day", zone, pattern)
    } else if (inherits(rows[[time]], "Date")) {
      read_day(existing[[at]])
    } else {
      text_times(existing[[at]], zone, NULL)
    }
    bad <- which(is.na(read) & !is.na(existing[[at]]))
    if (length(bad) && all(grepl(date_like, existing[[at]][bad]))) {
      vetusta_stop(
        "export",
        paste0(
          "The table's ", time, " \"", existing[[at]][bad[1]],
          "\" may have the day or the month first."
        ),
        where = paste0(file, ", line ", bad[1] + 1),
        todo = "write days as 2026-03-12, or append once one is after the 12th"
      )
    }
    if (length(bad)) {
      vetusta_stop(
        "export",
        paste0(
          "The table's ", time, " \"", existing[[at]][bad[1]],
          "\" cannot be read."
        ),
        where = paste0(file, ", line ", bad[1] + 1),
        todo = if (inherits(rows[[time]], "Date")) {
          "write days as 2026-03-12"
        } else {
          "write instants as 2026-03-12T09:30:00Z"
        }
      )
    }
    existing[[at]] <- read
    if (!is.null(pattern)) attr(existing[[at]], "written") <- pattern
  }
  existing
}

# Keys that are instants or days.
time_keys <- function(rows, keys) {
  dated <- vapply(
    keys, function(key) inherits(rows[[key]], c("POSIXct", "Date")), TRUE
  )
  keys[dated]
}

# Whether rows differ from the existing ones: numbers by value, others as text.
append_differ <- function(rows, texts, there, at) {
  differ <- rep(FALSE, length(there))
  for (i in seq_along(rows)) {
    column <- rows[[i]][there]
    values <- texts[[i]][at]
    if (is.numeric(column) && !is.object(column)) {
      old <- if (is.numeric(values)) values else plain_number(values)
      differ <- differ |
        !(column == old | (is.na(column) & is.na(old))) %in% TRUE
    } else if (inherits(column, "POSIXct")) {
      old <- if (inherits(values, "POSIXct")) {
        values
      } else {
        text_times(as.character(values), "UTC", NULL)
      }
      differ <- differ |
        apart_or_one_missing(as.numeric(column), as.numeric(old))
    } else if (inherits(column, "Date")) {
      old <- if (inherits(values, c("Date", "POSIXct"))) {
        as.Date(values)
      } else {
        read_day(as.character(values))
      }
      differ <- differ |
        apart_or_one_missing(as.numeric(column), as.numeric(old))
    } else {
      # an empty cell and a missing text are equal
      words <- function(x) {
        text <- if (is.logical(x)) toupper(as.character(x)) else as.character(x)
        ifelse(is.na(text), "", text)
      }
      old <- if (is.logical(column)) toupper(words(values)) else words(values)
      differ <- differ | words(column) != old
    }
  }
  differ %in% TRUE
}

apart_or_one_missing <- function(a, b) is.na(a) != is.na(b) | (a != b) %in% TRUE

# The separator of an existing file: the commonest one of its first line.
text_separator <- function(file, ending) {
  usual <- if (ending == "csv") "," else "\t"
  first <- if (file.exists(file)) {
    sub("\"[^\"]*\"", "", readLines(utf8_file(file), 1, warn = FALSE))
  }
  if (!length(first)) {
    return(usual)
  }
  count <- vapply(
    c(usual, setdiff(c(";", ",", "\t", "|"), usual)),
    function(sign) {
      lengths(regmatches(first, gregexpr(sign, first, fixed = TRUE)))
    },
    1L
  )
  if (max(count) == 0) usual else names(count)[which.max(count)]
}

append_errors <- function(work, file) {
  tryCatch(work, vetusta_error_import = function(e) {
    vetusta_stop("export", e$what, where = e$where %||% file, todo = e$todo)
  })
}

#' @export
print.vetusta_append <- function(x, ...) {
  cat(format_append(x), "\n", sep = "")
  invisible(x)
}

format_append <- function(x) {
  paste0(
    basename(x$file), if (!is.null(x$table)) paste0(", table ", x$table), ": ",
    counted(x$new, "new row"), ", ", thousands(x$changed), " changed, ",
    thousands(x$unchanged), " as before",
    if (length(x$left_out)) {
      paste0(
        "; left out, as the table has no such column: ",
        paste(x$left_out, collapse = ", ")
      )
    }
  )
}
