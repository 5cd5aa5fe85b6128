# Code lists of statistics, with their earlier versions.

#' Code lists of a dataset
#'
#' The codes of a dataset of statistics with their labels, as they were known.
#'
#' @param archive An archive.
#' @param source,dataset The names of the source and of its dataset.
#' @param as_of An instant or a day: the lists as known then; `NULL` for now.
#' @return A tibble with a row per code: `dimension`, `code`, `parent` (of
#'   hierarchies), a column per language with the label, and `known` (`POSIXct`,
#'   the arrival of the list that had the code first). A list is kept whenever
#'   it changes, so a code that was removed is in the lists before that.
#' @section Errors: `vetusta_error_argument` where no code lists are stored.
#' @export
#' @examples
#' \dontrun{
#' archive_codes(archive, "basin", "LOCK_TRAFFIC")
#' }
archive_codes <- function(archive, source, dataset, as_of = NULL) {
  check_archive(archive)
  check_text(given(source, "source"), "source")
  check_text(given(dataset, "dataset"), "dataset")
  at <- known_at(as_of)
  versions <- code_versions(archive, source, dataset)
  if (!length(versions)) {
    vetusta_stop(
      "argument",
      paste0("There are no code lists of ", source, "/", dataset, "."),
      todo = "collect statistics of it first"
    )
  }
  since <- vapply(versions, `[[`, 0, "since")
  versions <- versions[since <= at]
  now <- if (length(versions)) versions[[length(versions)]]$codes
  parts <- lapply(names(now), function(name) {
    list <- now[[name]]
    first <- vapply(list$id, function(code) {
      had <- vapply(versions, function(version) {
        code %in% version$codes[[name]]$id
      }, TRUE)
      versions[[which(had)[1]]]$since
    }, 0)
    list_frame(c(
      list(
        dimension = rep(name, length(list$id)), code = as.character(list$id),
        parent = as.character(list$parent %||% rep(NA, length(list$id)))
      ),
      lapply(list$labels, as.character), list(known = utc(unname(first)))
    ))
  })
  if (!length(parts)) {
    return(as_rows(list(
      dimension = character(), code = character(), parent = character(),
      known = utc(numeric())
    )))
  }
  rows <- data.table::rbindlist(parts, use.names = TRUE, fill = TRUE)
  rows <- as.list(rows)
  as_rows(rows[c(setdiff(names(rows), "known"), "known")])
}

# The versions of code lists, oldest first: since (seconds) and codes.
code_versions <- function(archive, source, dataset) {
  name <- paste0("labels:", dataset)
  rows <- sql_get(
    archive,
    "SELECT url, fetched, body FROM structures WHERE source = ? AND
      (url = ? OR substr(url, 1, ?) = ?)",
    list(source, name, nchar(name) + 1, paste0(name, "@"))
  )
  versions <- lapply(seq_len(nrow(rows)), function(i) {
    stated <- sub("^[^@]*@", "", rows$url[i])
    list(
      since = if (rows$url[i] == name) {
        rows$fetched[i]
      } else {
        as.numeric(read_rfc3339(stated))
      },
      codes = unserialize(memDecompress(rows$body[[i]], "gzip"))
    )
  })
  versions[order(vapply(versions, `[[`, 0, "since"))]
}

# Writes code lists where they differ from the stored ones, which are kept with
# the instant of their arrival.
archive_codes_put <- function(archive, source, dataset, codes) {
  name <- paste0("labels:", dataset)
  before <- store_structure(archive, source, name)
  if (!is.null(before)) {
    old <- unserialize(before$body)
    if (identical(old, codes)) {
      return(invisible())
    }
    store_structure_put(
      archive, source,
      paste0(name, "@", format_instant(utc(before$fetched))), NA, NA,
      before$body
    )
  }
  store_structure_put(archive, source, name, NA, NA, serialize(codes, NULL))
}
