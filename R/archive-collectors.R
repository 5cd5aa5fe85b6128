# Collectors that are working on an archive.

#' List collectors
#'
#' A collector is a process that asks services for what goes into an archive, on
#' this machine or on another. Each request is made by one of them. One that is
#' gone (killed, or its machine away) is known by its silence: of another
#' machine after its lease, 90 seconds unless `VETUSTA_LEASE_SECONDS` says
#' otherwise, and its requests are made by others then.
#'
#' @param archive An archive, see [archive_open()].
#' @return A tibble with one row a collector: `host`, `process` (its number
#'   there), `since` (`POSIXct`, UTC: when it began), `doing` (the source and
#'   dataset it is at), `requests` (how many it has claimed and not ended),
#'   `silent` (seconds since its last sign, by the archive's own clock), `lease`
#'   (seconds) and `gone`.
#' @section Errors: `vetusta_error_archive` for something that is no open
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
