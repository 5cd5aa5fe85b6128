# Removal of series and datasets.

#' Delete series or a dataset from an archive
#'
#' Writes a backup first, then deletes all rows, all earlier versions and their
#' coverage, so that the next `collect` requests them again. The journal stays.
#'
#' @param archive An archive, see [archive_open()].
#' @param what Series IDs, patterns included, or a dataset as `source/dataset`.
#' @param backup Path of the backup, a file that does not exist; by default
#'   beside the archive, with the time in its name.
#' @param dry Whether to only report what would be deleted.
#' @return A tibble of the deleted series: `id` and `rows`; its attribute
#'   `backup` is the path of the backup, which [archive_restore()] restores.
#' @section Errors: `vetusta_error_argument` for an ID without rows;
#'   `vetusta_error_archive` if a collector is using the archive or the backup
#'   cannot be written. Nothing is deleted then.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
#' archive_import(archive, csv, symbol = "KELD", interval = "1 day")
#' archive_drop(archive, "KELD", dry = TRUE)
#' archive_drop(archive, "KELD")
archive_drop <- function(archive, what, backup = NULL, dry = FALSE) {
  check_archive(archive)
  check_text(what, "what", "archive", several = TRUE)
  check_flag(dry, "dry")
  if (!is.null(backup)) check_text(backup, "backup", "archive")
  others <- store_datasets(archive)
  known <- paste0(others$source, "/", others$dataset)
  rows <- others[known %in% what, , drop = FALSE]
  named <- setdiff(what, known)
  matches <- if (length(named)) archive_find(archive, named)
  catalogue <- store_series(archive)
  series <- catalogue[series_id(catalogue) %in% matches$id, , drop = FALSE]
  gone <- as_rows(
    list(
      id = c(known[known %in% what], matches$id),
      rows = c(as.numeric(rows$rows), as.numeric(matches$rows))
    )
  )
  if (dry) {
    return(gone)
  }
  if (store_in_use(archive)) {
    vetusta_stop(
      "archive", "A collector is using the archive.",
      where = archive$path,
      todo = "wait until it ends, or stop it, and repeat the command"
    )
  }
  backup <- backup %||% drop_backup(archive)
  archive_backup(archive, backup)
  store_drop(archive, series, rows)
  attr(gone, "backup") <- backup
  gone
}

# The backup lies beside the archive's file, or in the working folder for an
# archive on a server.
drop_backup <- function(archive) {
  folder <- if (is_server(archive$path)) "." else dirname(archive$path)
  name <- sub("[.]sqlite$", "", archive_label(archive$path))
  file.path(
    folder,
    paste0(
      name, "-before-drop-", format(Sys.time(), "%Y%m%dT%H%M%S", tz = "UTC"),
      ".sqlite"
    )
  )
}
