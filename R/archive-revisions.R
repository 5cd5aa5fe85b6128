# Revisions: earlier values of a period beside the current one.

#' Revisions of values
#'
#' @param archive An archive.
#' @param ids Series IDs of series of any kind, see [archive_find()].
#' @param all Whether to return every release.
#' @param value For series with several numbers: the number to use, `close` for
#'   bars by default.
#' @return `archive_revisions()`: a tibble with a row per series and period:
#'   `series` (the key; the complete series ID for several datasets), `period`
#'   (`Date`; for instants and bars `time`, `POSIXct`), `releases` (their
#'   number), `first`, `first_known`, `latest`, `latest_known`, `revision`
#'   (latest minus first). `first_known` and `latest_known` are the release, or,
#'   if the service states none, the arrival of the value. The attribute
#'   `summary` has a row per series: `series`, `periods`, `revised`,
#'   `mean_revision`, `mean_absolute_revision` (over periods with several
#'   releases). With `all = TRUE` a row per release: `series`, `period` or
#'   `time`, `known`, `value`, `status`.
#' @section Errors: Those of [archive_find()].
#' @export
#' @examples
#' \dontrun{
#' archive_revisions(archive, "basin/LOCK_TRAFFIC/M.ORV.*")
#' }
archive_revisions <- function(archive, ids, all = FALSE, value = NULL) {
  check_archive(archive)
  check_text(ids, "ids", several = TRUE)
  check_flag(all, "all")
  rows <- store_snapshot(
    archive, function() archive_releases(archive, ids, value)
  )
  clock <- names(rows)[2]
  if (all) {
    return(as_rows(rows))
  }
  rows <- lapply(rows, `[`, which(!is.na(rows$value)))
  key <- paste(rows$series, as.numeric(rows[[clock]]))
  first <- !duplicated(key)
  latest <- !duplicated(key, fromLast = TRUE)
  table <- list(
    series = rows$series[first],
    period = rows[[clock]][first],
    releases = as.integer(table(factor(key, unique(key)))),
    first = rows$value[first],
    first_known = rows$known[first],
    latest = rows$value[latest],
    latest_known = rows$known[latest],
    # twelve digits remove the error of the subtraction
    revision = signif(rows$value[latest] - rows$value[first], 12)
  )
  names(table)[2] <- clock
  table <- as_rows(table)
  revised <- table[table$releases > 1, ]
  groups <- factor(revised$series, unique(table$series))
  each <- function(x) as.numeric(tapply(x, groups, mean))
  attr(
    table, "summary"
  ) <- data.frame(
    series = levels(groups),
    periods = as.integer(table(factor(table$series, levels(groups)))),
    revised = as.integer(table(groups)),
    mean_revision = each(revised$revision),
    mean_absolute_revision = each(abs(revised$revision))
  )
  table
}

# All releases of series, in order of series, time and release.
archive_releases <- function(archive, ids, value) {
  listed <- archive_find(archive, ids)
  every <- store_series(archive)
  series <- every[match(listed$id, series_id(every)), ]
  read <- read_rows(archive, series, -Inf, Inf, Inf, newest = FALSE)
  name <- value %||% intersect(c("value", "close"), names(read$columns))[1]
  if (!is.numeric(read$columns[[name]])) {
    vetusta_stop(
      "argument",
      paste0("The series have no number called \"", name, "\"."),
      todo = suggest_word(
        name, names(read$columns)[vapply(read$columns, is.numeric, TRUE)]
      )
    )
  }
  numbers <- read$columns[[name]]
  # bars and facts read together with single values: each uses its usual value
  # column
  if (is.null(value) && !is.null(read$columns[["close"]])) {
    numbers <- ifelse(is.na(numbers), read$columns$close, numbers)
  }
  same_dataset <- length(unique(paste(series$source, series$dataset))) == 1
  status <- read$columns[["status"]] %||% rep("observed", length(numbers))
  status[is.na(status)] <- "observed"
  time <- read$columns$time
  days <- all(as.numeric(time) %% 86400 == 0)
  rows <- list(
    series = (if (same_dataset) series$key else listed$id)[read$owner],
    period = if (days) epoch_days(as.numeric(time) / 86400) else time,
    known = rows_known(archive, series, read),
    value = numbers,
    status = status
  )
  if (!days) names(rows)[2] <- "time"
  rows
}
