# Tables written to files, in the format of the file's ending.

export_endings <- list(
  csv = function(rows, path, zone) write_separated(rows, path, zone, ","),
  tsv = function(rows, path, zone) write_separated(rows, path, zone, "\t"),
  parquet = function(rows, path, zone) {
    nanoparquet::write_parquet(
      list_frame(parquet_instants(export_columns(rows), TRUE)), path,
      metadata = c(
        parquet_facts(rows), csvw = about_json(about_table(rows))
      )
    )
  },
  jsonl = function(rows, path, zone) {
    writeLines(
      record_texts(jsonl_cells(rows, zone), nulls = TRUE), path,
      useBytes = TRUE
    )
  },
  xlsx = function(rows, path, zone) write_sheet(rows, path),
  rds = function(rows, path, zone) saveRDS(tibble::as_tibble(rows), path)
)

#' @rdname export_csv
#' @param by For a folder of Parquet (`file` ends in `/`): the column by whose
#'   values the rows are partitioned into folders named `column=value`, which
#'   other engines can read; for a time or period, its year.
#' @param about Whether to write beside a `.csv` or `.tsv` file what it is, as
#'   CSV on the Web (`FILE-metadata.json`); Parquet and XLSX have it within. See
#'   [export_about()].
#' @param dictionary Whether to write a dictionary of the columns too, see
#'   [export_dictionary()].
#' @return `export_table()` writes the format of the file's ending: `.csv`,
#'   `.tsv` (both as `export_csv()`), `.jsonl` (a JSON object per line; missing
#'   values are `null`), `.parquet`, `.xlsx` (a sheet with a table; needs the
#'   package openxlsx2), `.rds` (a tibble), or a folder of Parquet. Parquet,
#'   XLSX and RDS keep the types of instants, days and numbers, and change no
#'   text; in XLSX a column with days before March 1900, or with instants finer
#'   than a millisecond, is text, because sheets have no such times. Parquet has
#'   microseconds. Other endings are refused.
#' @export
export_table <- function(rows, file, zone = "UTC", by = NULL,
                         dictionary = FALSE, instants = FALSE, about = TRUE) {
  check_text(file, "file", "export")
  check_zone(zone, "export")
  check_flag(dictionary, "dictionary")
  check_flag(instants, "instants")
  check_flag(about, "about")
  if (!missing(rows) && is.data.frame(rows)) {
    # the lineage is that of the table as it was given
    node <- lineage_written(rows)
    if (!instants) rows <- bars_dated(rows)
    attr(rows, "lineage") <- node
  }
  if (grepl("/$", file)) {
    export_folder(check_exported(if (missing(rows)) NULL else rows), file, by)
  } else {
    if (!is.null(by)) {
      vetusta_stop(
        "export", "`by` partitions a folder, and this path is a file.",
        where = file, todo = "end the name in /, or leave out `by`"
      )
    }
    write <- export_endings[[export_ending(file)]]
    check_exported(if (missing(rows)) NULL else rows)
    write_whole(file, function(path) write(rows, path, zone))
    if (about && grepl("[.][ct]sv$", file, ignore.case = TRUE)) {
      about_write(rows, file)
    }
  }
  if (dictionary) {
    beside <- sub("/$", "", sub("[.][a-z]+$", "", file))
    export_csv(export_dictionary(rows), paste0(beside, ".columns.csv"))
  }
  invisible(file)
}

# The ending of a file, if it is a known format.
export_ending <- function(file, known = names(export_endings)) {
  name <- basename(file)
  ending <- tolower(sub(".*[.]", "", name))
  if (!grepl(".", name, fixed = TRUE) || !ending %in% known) {
    vetusta_stop(
      "export",
      paste0(
        "Tables cannot be written to files that end in \"",
        if (grepl(".", name, fixed = TRUE)) paste0(".", ending) else name, "\"."
      ),
      where = file,
      todo = paste0(
        "end the file's name in one of ", paste0(".", known, collapse = ", "),
        if (length(known) > 3) ", or in / for a folder of Parquet"
      )
    )
  }
  ending
}

write_separated <- function(rows, path, zone, separator) {
  csv_write(csv_cells(rows, zone), path, separator)
}

# Units and titles as Parquet metadata: `unit.close`, `title.KELD`.
parquet_facts <- function(rows) {
  facts <- lapply(facts_of(rows)[c("unit", "title")], as.list)
  texts <- unlist(facts)
  if (length(texts)) texts
}

# Columns as plain vectors: factors as texts, lists as texts joined by commas.
export_columns <- function(rows) {
  list_frame(lapply(as.list(rows), function(column) {
    if (is.list(column)) {
      vapply(column, function(value) paste(value, collapse = ", "), "")
    } else if (is.factor(column)) {
      as.character(column)
    } else if (inherits(column, "POSIXlt")) {
      as.POSIXct(column)
    } else {
      column
    }
  }))
}

jsonl_cells <- function(rows, zone) {
  lapply(as.list(export_columns(rows)), function(column) {
    if (inherits(column, "POSIXct")) format_in_zone(column, zone) else column
  })
}

#' Describe the columns of a table
#'
#' @param rows A data frame.
#' @return A tibble with a row per column: `column`, `type` (`text`, `number`,
#'   `day`, `instant`, `flag`), `unit` (if the column or the rows state one),
#'   `meaning` (for columns with names of this package), `missing` (the number
#'   of missing values).
#' @section Errors: `vetusta_error_export` for an object that is not a table.
#' @export
#' @examples
#' export_dictionary(data.frame(symbol = "KELD", close = 41.2))
export_dictionary <- function(rows) {
  check_exported(if (missing(rows)) NULL else rows)
  type <- function(column) {
    if (inherits(column, "POSIXt")) {
      "instant"
    } else if (inherits(column, "Date")) {
      "day"
    } else if (is.logical(column)) {
      "flag"
    } else if (is.numeric(column)) {
      "number"
    } else {
      "text"
    }
  }
  unit <- function(name) {
    shown_unit <- attr(rows[[name]], "unit")
    units <- if (name %in% c("value", "close", "open", "high", "low")) {
      unique(rows[["unit"]])
    }
    stated <- attr(rows, "unit", exact = TRUE)
    if (name %in% names(stated)) {
      stated[[name]]
    } else if (length(shown_unit)) {
      shown_unit
    } else if (length(units) == 1) {
      as.character(units)
    } else {
      NA_character_
    }
  }
  as_rows(
    list(
      column = names(rows),
      type = vapply(as.list(rows), type, "", USE.NAMES = FALSE),
      unit = vapply(names(rows), unit, "", USE.NAMES = FALSE),
      meaning = unname(column_meanings[names(rows)]),
      missing = vapply(
        as.list(rows), function(column) sum(is.na(column)), 1L,
        USE.NAMES = FALSE
      )
    )
  )
}

column_meanings <- c(
  symbol = "the instrument's symbol at its source",
  series = "the series within its dataset",
  time = "the instant; of a bar its start",
  period = "the first day of the period",
  frequency = "the length of the period: A, S, T, Q, M, W, D, PT1H",
  open = "the first price", high = "the highest price",
  low = "the lowest price", close = "the last price",
  volume = "how much was traded",
  vwap = "the average price weighted by volume",
  count = "how many bars it was made from",
  expected = "how many bars there should have been",
  session = "the part of the trading day",
  side = "bid, ask or mid, where the source has sides", value = "the value",
  unit = "the unit of the value",
  status = "observed, provisional, missing, deleted or filled",
  known = "the instant from which the value counts",
  through = "the end of the latest thing that the value was made from",
  rule = "the rule by which a value was filled", id = "the series ID"
)
