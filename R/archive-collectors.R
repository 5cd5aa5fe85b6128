# Collectors that are working on an archive.

#' List collectors
#'
#' A collector is a process that requests data for an archive, on this machine
#' or another. Each request is made by one collector. A dead collector on
#' another machine is recognised when its lease has expired, after 90 seconds
#' (`VETUSTA_LEASE_SECONDS`); other collectors then make its requests.
#'
#' @param archive An archive, see [archive_open()].
#' @return A tibble with a row per collector: `host`, `process` (its id there),
#'   `since` (`POSIXct`, UTC: its start), `doing` (the source and dataset in
#'   progress), `requests` (claimed and unfinished ones), `silent` (seconds
#'   since its last sign, by the archive's clock), `lease` (seconds) and `gone`.
#' @section Errors: `vetusta_error_archive` for an object that is not an open
#'   archive.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' archive_collectors(archive)
archive_collectors <- function(archive) {
  check_archive(archive)
  collectors <- store_collectors(archive)
  as_rows(
    list(
      host = as.character(collectors$host),
      process = as.numeric(collectors$process),
      since = utc(as.numeric(collectors$started)),
      doing = as.character(collectors$doing),
      requests = as.numeric(collectors$requests),
      silent = pmax(0, store_now(archive) - as.numeric(collectors$seen)),
      lease = as.numeric(collectors$lease),
      gone = as.logical(collectors$gone)
    )
  )
}
