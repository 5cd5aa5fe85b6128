# Parquet files in subfolders by a column's values.

#' Export series of an archive as a folder of Parquet, however many
#'
#' Reads a few series at a time, see [archive_scan()], so that memory is
#' bounded.
#'
#' @param archive An archive, see [archive_open()].
#' @param folder Path of the folder. An existing folder of Parquet is replaced
#'   when the new one is complete; any other folder is refused.
#' @param ids Series IDs of one dataset (for bars, of one interval), see
#'   [archive_find()].
#' @param from,to,as_of,zone As in [archive_read()].
#' @param by The column by whose values the rows are partitioned into folders
#'   named `column=value`, as in [export_table()]; by default `series` or
#'   `symbol`.
#' @param at_once The approximate number of rows in memory.
#' @param change A function of each table that returns the rows to write; `NULL`
#'   for all rows.
#' @param progress Whether to show progress on standard error.
#' @return Invisibly the number of rows written.
#' @section Errors: `vetusta_error_argument` for series of several datasets;
#'   `vetusta_error_export` for another kind of folder, or one that cannot be
#'   written.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
#' archive_import(archive, csv, symbol = "KELD", interval = "1 day")
#' folder <- file.path(tempdir(), "days")
#' export_series(archive, folder, "KELD@1 day")
#' list.files(folder, recursive = TRUE)
export_series <- function(archive, folder, ids = NULL, from = NULL, to = NULL,
                          as_of = NULL, zone = "UTC", by = NULL, at_once = 1e6,
                          change = NULL, progress = interactive()) {
  check_archive(archive)
  check_text(folder, "folder", "export")
  if (!is.null(by)) check_text(by, "by")
  if (!is.null(change) && !is.function(change)) {
    vetusta_stop(
      "argument", "`change` must be a function of a table.",
      todo = "give a function, or NULL"
    )
  }
  series <- archive_find(archive, ids)
  if (series_tables(series) > 1) {
    vetusta_stop(
      "argument",
      "Series of several datasets have different columns.",
      where = paste(
        utils::head(
          series$id[!duplicated(paste(series$source, series$dataset))], 3
        ),
        collapse = ", "
      ),
      todo = "export the datasets separately, each into its own folder"
    )
  }
  writer <- folder_writer(folder)
  on.exit(writer$end())
  written <- archive_scan(
    archive, ids,
    function(table) {
      if (!is.null(change)) table <- change(table)
      if (nrow(table)) writer$add(as_rows(as.list(table)), by)
      data.frame(rows = nrow(table))
    },
    at_once, from, to, as_of, zone,
    progress = progress
  )
  writer$place()
  invisible(sum(written$rows))
}

# The number of tables that series are: one a dataset, and for bars one an
# interval.
series_tables <- function(series) {
  length(
    unique(
      paste(
        series$source, series$dataset,
        ifelse(startsWith(series$frequency, "P"), series$frequency, "")
      )
    )
  )
}

# Writes Parquet files in subfolders by a column's values. The folder is written
# beside its target and replaces it; an existing target must be such a folder.
export_folder <- function(rows, folder, by) {
  writer <- folder_writer(folder)
  on.exit(writer$end())
  writer$add(rows, by)
  writer$place()
}

# A folder that grows: `add(rows, by)`, `place()` when complete, and `end()` in
# any case.
folder_writer <- function(folder) {
  folder <- sub("/+$", "", folder)
  if (!dir.exists(dirname(folder))) {
    vetusta_stop(
      "export", "The parent folder does not exist.",
      where = dirname(folder), todo = "create it, or give another path"
    )
  }
  check_replaced_folder(folder)
  beside <- tempfile(paste0(".", basename(folder), "."), dirname(folder))
  failed <- function(reason) {
    vetusta_stop(
      "export",
      paste0("The folder cannot be written: ", reason, "."),
      where = folder,
      todo = paste0(
        "check the permissions of its folder and the room on the disk; what ",
        "was there ", "is as before"
      )
    )
  }
  list(
    add = function(rows, by) {
      if (is.null(by)) by <- intersect(c("series", "symbol"), names(rows))[1]
      if (!by %in% names(rows)) {
        vetusta_stop(
          "export",
          paste0("The rows have no column \"", by, "\" for the partition."),
          todo = suggest_word(by, names(rows))
        )
      }
      rows <- export_columns(rows)
      column <- rows[[by]]
      dated <- inherits(column, c("POSIXct", "Date"))
      value <- if (dated) format(column, "%Y") else as.character(column)
      value[is.na(value)] <- "none"
      # the subfolder names the column, which is left out; a time is kept
      kept <- if (dated) rows else rows[names(rows) != by]
      places <- split(seq_along(value), factor(value, unique(value)))
      other_errors(
        for (i in seq_along(places)) {
          part <- file.path(
            beside,
            paste0(if (dated) "year" else by, "=", path_part(names(places)[i]))
          )
          dir.create(part, recursive = TRUE, showWarnings = FALSE)
          nanoparquet::write_parquet(
            as_rows(parquet_instants(lapply(kept, `[`, places[[i]]), TRUE)),
            folder_file(part)
          )
        },
        function(e) failed(plain_reason(conditionMessage(e)))
      )
    },
    place = function() {
      dir.create(beside, showWarnings = FALSE)
      old <- paste0(beside, ".old")
      if (dir.exists(folder)) file.rename(folder, old)
      done <- suppressWarnings(file.rename(beside, folder))
      if (!done && dir.exists(old)) file.rename(old, folder)
      unlink(old, recursive = TRUE)
      if (!done) failed("it cannot be renamed")
    },
    end = function() unlink(beside, recursive = TRUE)
  )
}

# A part that has a file gets a second one.
folder_file <- function(part) {
  count <- length(list.files(part))
  file.path(
    part, if (count) paste0("rows-", count + 1, ".parquet") else "rows.parquet"
  )
}

# Only a folder that contains nothing but Parquet parts is replaced.
check_replaced_folder <- function(folder) {
  if (!file.exists(folder)) {
    return(invisible())
  }
  within <- list.files(folder, recursive = TRUE, all.files = TRUE)
  if (!dir.exists(folder) ||
    !all(grepl("^[^/=]+=[^/]*/[^/]+[.]parquet$", within))) {
    vetusta_stop(
      "export",
      "The path exists and is not a folder of Parquet, so it is not replaced.",
      where = folder, todo = "give another path, or look at what is in it"
    )
  }
}

# A value as a folder name: special characters are written as %XX.
path_part <- function(value) {
  utils::URLencode(value, reserved = TRUE)
}
