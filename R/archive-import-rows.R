# Import of rows of any shape from local files.

#' Import rows of any shape from a file
#'
#' Imports levels, statistics, lists of instruments, places or facts.
#' [archive_import()] is for bars, [import_files()] for many files at once.
#'
#' @param archive An archive, see [archive_open()].
#' @param file Path of a file with a table, as in [archive_import()].
#' @param shape The shape of the rows: `observations`, `facts`, `instruments`,
#'   `places`, `documents`, `snapshot` or `table`.
#' @param dataset The name of the dataset; by default that of the file.
#' @param source The name of the source.
#' @param columns The file's names of the shape's columns, as in `c(period =
#'   "Month", value = "Level")`.
#' @param unit Units by column, as `c(value = "cm")`, or a single text, the unit
#'   of the value.
#' @param types Types of columns beyond those of the shape, as in
#'   [archive_import()].
#' @param wide Whether each column of numbers is a separate series, with the
#'   column's name, or, if their names are periods, a separate period
#'   (observations).
#' @details A row of observations or facts with the status `deleted` needs no
#'   value: its period has no value from its import (or its `known` or `filed`)
#'   on.
#' @param form The form of the file, see [archive_import_form()]; by default a
#'   plain table with a header line.
#' @param series The name of the series, for a file without a column of series;
#'   by default the file's name.
#' @param read A function of the file that returns a data frame, for files that
#'   no words describe.
#' @return `archive_import_rows()`: invisibly a `vetusta_import`, like
#'   [archive_import()]. Importing the same file again changes nothing.
#' @section Errors: `vetusta_error_import` for a file that is not there, is
#'   damaged, or lacks a column that the shape needs; nothing is stored then.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' file <- tempfile(fileext = ".csv")
#' writeLines(c("day,level", "2026-03-12,250.1", "2026-03-13,251"), file)
#' archive_import_guess(file)
#' archive_import_rows(archive, file,
#'   columns = c(period = "day", value = "level"),
#'   dataset = "levels"
#' )
archive_import_rows <- function(archive, file, shape = "observations",
                                dataset = NULL, source = "files",
                                columns = NULL,
                                wide = FALSE, unit = NULL, types = NULL,
                                form = NULL, series = NULL, read = NULL) {
  check_archive(archive)
  check_import_file(file)
  check_text(source, "source", "import")
  check_choice(
    shape, "shape", setdiff(names(shape_columns), c("bars", "datasets")),
    "import"
  )
  check_flag(wide, "wide")
  if (!is.null(series)) check_text(series, "series", "import")
  check_read(read, form)
  dataset <- dataset %||% import_name(file)
  check_text(dataset, "dataset", "import")
  about <- about_import(file)
  unit <- check_named(unit, "unit", "value") %||% about$unit
  types <- check_types(types)
  text <- character()
  cleaned <- import_cleaned(file, form)
  if (!is.null(form)) on.exit(unlink(cleaned$path))
  parts <- import_parts(cleaned$path, function(rows, line) {
    line <- cleaned_lines(cleaned, line)
    was <- names(rows)
    quoted <- attr(rows, "quoted")
    rows <- import_shaped(rows, shape, columns, wide, file, series)
    # under the names that the columns have now
    text <<- union(
      text, if (wide) character() else names(rows)[match(quoted, was)]
    )
    rows$.line <- line[attr(rows, "from") %||% seq_len(nrow(rows))]
    rows
  }, own = read)
  rows <- list_frame(
    as.list(
      data.table::rbindlist(
        lapply(parts, as.list),
        use.names = TRUE, fill = TRUE
      )
    )
  )
  lines <- rows$.line
  types <- about_types(about, types, rows, shape_typed(shape))
  declared <- import_declared(rows[names(rows) != ".line"], types, file)
  rows <- about_typed(
    about, declared$rows, c(names(types), shape_typed(shape))
  )
  rows <- import_typed(rows, shape, c(text, names(types)))
  rejected <- rbind(import_rejected(rows, shape), declared$rejected)
  rejected <- rejected[!duplicated(rejected$row), ]
  twice <- doubled_values(
    rows, shape, rejected$row, lines
  )[c("row", "reason", "detail")]
  twice$detail <- gsub(" in row ", " in line ", twice$detail, fixed = TRUE)
  rejected <- rbind(rejected, twice)
  rejected <- rejected[order(rejected$row), ]
  good <- if (nrow(rejected)) rows[-rejected$row, , drop = FALSE] else rows
  rejects <- data.frame(
    symbol = rep(NA_character_, nrow(rejected)),
    time = rep(NA_real_, nrow(rejected)),
    place = sprintf(
      "%s, line %d", basename(file), as.integer(lines[rejected$row])
    ),
    reason = rejected$reason,
    detail = rejected$detail
  )
  counts <- store_put(
    archive,
    list(
      source = source,
      dataset = dataset,
      shape = shape,
      rejected = rejects,
      types = types,
      rows = if (nrow(good)) {
        archive_parcel(shape, good, at = now_seconds(), place = basename(file))
      },
      journal = list(
        run = "import", source = source, dataset = dataset,
        asked = now_seconds(), rows = nrow(good), outcome = "stored",
        url = basename(file)
      ),
      origin = import_origin(file, lines, rejected$row)
    )
  )
  dataset_facts_put(
    archive, source, dataset, list(unit = unit, title = about$title)
  )
  store_settle(archive)
  invisible(
    structure(
      list(
        file = file,
        source = source,
        interval = "",
        read = nrow(rows),
        new = counts[["new"]],
        changed = counts[["changed"]],
        unchanged = counts[["unchanged"]],
        doubled = import_twice(good, counts),
        rejected = data.frame(
          line = lines[rejected$row], reason = rejected$reason,
          detail = rejected$detail
        )
      ),
      class = "vetusta_import"
    )
  )
}

check_import_file <- function(file) {
  check_text(file, "file", "import")
  if (!file.exists(file) || dir.exists(file)) {
    vetusta_stop(
      "import", "There is no such file.",
      where = file,
      todo = "check the path"
    )
  }
}

import_name <- function(file) {
  name <- gsub("[^A-Za-z0-9._-]+", "-", sub("[.][^.]*$", "", basename(file)))
  if (nzchar(name)) name else "import"
}

# Renames columns to the names of the shape.
import_shaped <- function(rows, shape, columns, wide, file, series = NULL) {
  if (length(columns) && (!is.character(columns) || is.null(names(columns)))) {
    vetusta_stop(
      "import",
      paste0(
        "`columns` must be the file's column names, named by the shape's ",
        "columns."
      ),
      todo = "write them as c(period = \"Month\", value = \"Level\")"
    )
  }
  rows <- import_joined_columns(rows, columns)
  for (name in names(columns)) {
    if (!columns[[name]] %in% names(rows)) {
      vetusta_stop(
        "import",
        paste0("The file has no column \"", columns[[name]], "\"."),
        where = file,
        todo = suggest_word(columns[[name]], names(rows))
      )
    }
    names(rows)[match(columns[[name]], names(rows))] <- name
  }
  known <- unique(
    c(shape_columns[[shape]], "frequency", "unit", "status", "known", "name")
  )
  lower <- match(plain_names(names(rows)), known)
  free <- !is.na(lower) & !known[lower] %in% names(rows)
  names(rows)[free] <- known[lower[free]]
  if (shape_is_series(shape)) {
    time <- intersect(c("time", "date", "day"), tolower(names(rows)))
    if (!"period" %in% names(rows) && length(time)) {
      names(rows)[match(time[1], tolower(names(rows)))] <- "period"
    }
    if (wide) rows <- import_long(rows, file)
    rows$period <- import_times(rows$period)
    if (is.null(rows$series)) {
      rows$series <- rep(series %||% import_name(file), nrow(rows))
    }
  }
  for (name in setdiff(shape_columns[[shape]], names(rows))) {
    vetusta_stop(
      "import",
      paste0("The file has no column for `", name, "`."),
      where = file,
      todo = paste0(
        "say which column it is; the file has: ",
        paste(names(rows), collapse = ", ")
      )
    )
  }
  rows
}

shape_is_series <- function(shape) "period" %in% shape_columns[[shape]]

# Wide to long: each number of a column becomes a row.
import_long <- function(rows, file) {
  periods <- names(rows)[period_columns(names(rows))]
  if (!"period" %in% names(rows) && length(periods) > 1) {
    return(import_long_periods(rows, periods))
  }
  if (!"period" %in% names(rows)) {
    vetusta_stop(
      "import", "A wide table has a column of times.",
      where = file,
      todo = "say which column it is: columns = c(period = \"Month\")"
    )
  }
  values <- setdiff(
    names(rows), c("period", "series", "frequency", "unit", "status", "known")
  )
  texts <- lapply(rows[values], function(x) {
    if (is.numeric(x)) format_exact(x) else as.character(x)
  })
  all <- unlist(texts, use.names = FALSE)
  period <- if (inherits(rows$period, c("Date", "POSIXct"))) {
    rows$period
  } else {
    as.character(rows$period)
  }
  long <- list_frame(
    list(
      series = rep(values, each = nrow(rows)),
      period = rep(period, length(values)),
      value = all
    )
  )
  # an empty cell is no value
  keep <- which(!is.na(all))
  from <- rep(seq_len(nrow(rows)), length(values))[keep]
  long <- long[keep, , drop = FALSE]
  attr(long, "from") <- from
  long
}

# A column per period: the other columns name the series.
import_long_periods <- function(rows, periods) {
  others <- setdiff(names(rows), c(periods, "unit", "status", "name"))
  series <- rows$series %||%
    do.call(paste, c(lapply(rows[others], as.character), sep = "."))
  all <- unlist(lapply(rows[periods], function(x) {
    if (is.numeric(x)) format_exact(x) else as.character(x)
  }), use.names = FALSE)
  # an empty cell is no value
  keep <- which(!is.na(all))
  from <- rep(seq_len(nrow(rows)), length(periods))[keep]
  long <- list_frame(list(
    series = series[from], period = rep(periods, each = nrow(rows))[keep],
    value = all[keep]
  ))
  for (name in intersect(c("unit", "name"), names(rows))) {
    long[[name]] <- rows[[name]][from]
  }
  attr(long, "from") <- from
  long
}

# Texts as numbers and days, where every value of a column reads back as it is
# written; columns in `text` stay text.
import_typed <- function(rows, shape, text = character()) {
  numbers <- intersect("value", shape_columns[[shape]])
  list_frame(Map(
    function(column, name) {
      if (!is.character(column)) {
        return(column)
      }
      number <- plain_number(column)
      if (name %in% numbers) {
        attr(number, "text") <- column
        return(number)
      }
      # beside a stated frequency a day is the start of a period
      if (name == "period" && !is.null(rows[["frequency"]])) {
        return(texts_as$day(column) %||% column)
      }
      if (name %in%
        c(
          shape_columns[[shape]], "name", "unit", "status", "known",
          "frequency", text
        ) ||
        all(is.na(column))) {
        return(column)
      }
      texts_as$number(column) %||% texts_as$day(column) %||% column
    },
    as.list(rows), names(rows)
  ))
}

# Shapes whose rows need a value, unless they are deletions.
needs_value <- c(facts = TRUE)

# Rejects rows without a key, a readable time or a number.
import_rejected <- function(rows, shape) {
  judge <- function(bad, reason, shown) {
    row <- which(bad)
    data.frame(
      row = row,
      reason = rep(reason, length(row)),
      detail = sprintf("value %s", as.character(shown)[row])
    )
  }
  text <- attr(rows$value, "text")
  gone <- (rows[["status"]] %||% rep(NA, nrow(rows))) %in% "deleted"
  if (length(text)) text[gone] <- NA
  problems <- c(
    list(
      if (isTRUE(unname(needs_value[shape]))) {
        judge(
          is.na(rows$value) & is.na(text %||% NA) & !gone,
          "no value, and its status is not deleted", rows$value
        )
      }
    ),
    list(
      if (length(text)) {
        judge(is.na(rows$value) & !is.na(text), "value cannot be read", text)
      }
    ),
    lapply(setdiff(shape_columns[[shape]], "value"), function(name) {
      judge(is.na(rows[[name]]), paste("no", name), rows[[name]])
    }),
    if (shape_is_series(shape)) {
      list(
        judge(
          is.na(observation_times(rows$period)$time) & !is.na(rows$period),
          "period cannot be read", rows$period
        )
      )
    }
  )
  all <- do.call(
    rbind,
    c(
      list(
        data.frame(row = integer(), reason = character(), detail = character())
      ),
      problems
    )
  )
  all[!duplicated(all$row), ][order(all$row[!duplicated(all$row)]), ]
}
