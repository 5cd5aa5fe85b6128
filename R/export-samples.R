# Samples: answers stored with a card, without secrets, and the rows they gave.

#' Save samples of answers, and test a card with them
#'
#' @param tried A result of [collect_try()].
#' @param folder The folder of the samples; it is created if necessary.
#' @return `samples_keep()`: invisibly the paths written: for the first, a
#'   middle and the last answer a file `SOURCE-DATASET-N.sample.json` (the
#'   request, and the rows) and the body beside it. Secrets are removed from
#'   both.
#' @section Errors: `vetusta_error_argument` if no row was read,
#'   `vetusta_error_export` if the folder cannot be written.
#' @export
#' @examples
#' \dontrun{
#' tried <- collect_try(query_rows(source_card("quay"), "market"))
#' samples_keep(tried, "sources/samples")
#' samples_test(source_card("quay"), "sources/samples")
#' }
samples_keep <- function(tried, folder) {
  if (missing(tried) || !inherits(tried, "vetusta_try")) {
    vetusta_stop(
      "argument", "Samples are made from a result of collect_try().",
      todo = "make it with collect_try()"
    )
  }
  check_text(folder, "folder")
  good <- Filter(function(request) is.null(request$error), tried$requests)
  if (!length(good)) {
    vetusta_stop(
      "argument", "No row was read, so there are no samples.",
      todo = "correct the card, and try again"
    )
  }
  if (any(vapply(good, function(request) is.null(request$texts), TRUE))) {
    vetusta_stop(
      "argument",
      paste0(
        "No sample of ", tried$dataset,
        " is saved: its rows need more than the card."
      ),
      todo = "keep samples of datasets that a card describes"
    )
  }
  n <- length(good)
  chosen <- unique(c(1, ceiling(n / 2), n))
  dir.create(folder, recursive = TRUE, showWarnings = FALSE)
  paths <- lapply(seq_along(chosen), function(i) {
    request <- good[[chosen[i]]]
    name <- paste0(tried$source, "-", tried$dataset, "-", i)
    body <- paste0(name, ".body")
    write_whole(
      file.path(folder, body),
      function(path) writeBin(request$sample$body, path)
    )
    about <- list(
      source = tried$source, dataset = tried$dataset, body = body,
      asked = request$sample$about, rows = I(request$texts)
    )
    text <- jsonlite::toJSON(about, auto_unbox = TRUE, pretty = TRUE)
    file <- file.path(folder, paste0(name, ".sample.json"))
    write_lines_whole(as.character(text), file, "export")
    c(file, file.path(folder, body))
  })
  invisible(unlist(paths))
}
