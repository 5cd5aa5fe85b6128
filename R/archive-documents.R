# Documents that were fetched into a folder: link, file, bytes, sha256, fetched.
stored_documents <- function(archive, source, dataset, folder) {
  notes <- store_notes(archive, "document", source, dataset)
  place <- paste0(document_folder(folder), "\r")
  notes <- notes[startsWith(notes$key, place), , drop = FALSE]
  notes$key <- substring(notes$key, nchar(place) + 1)
  entries <- json_objects(notes$value)
  part <- function(name, empty) {
    vapply(
      entries, function(entry) entry[[name]] %||% empty, empty,
      USE.NAMES = FALSE
    )
  }
  data.frame(
    link = notes$key,
    file = part("file", ""),
    bytes = as.numeric(part("bytes", 0)),
    sha256 = part("sha256", ""),
    fetched = utc(notes$at)
  )
}

# The absolute path of a folder, as a note stores it.
document_folder <- function(folder) normalizePath(folder, mustWork = FALSE)

document_note <- function(folder, link) {
  paste0(document_folder(folder), "\r", link)
}

#' List fetched documents
#'
#' @param archive An archive.
#' @param source,dataset The names of the source and of its dataset.
#' @param folder The folder of the fetched documents.
#' @return A tibble with a row per document: `link` (as received), `file`,
#'   `bytes`, `sha256`, `fetched` (an instant) and `state`: `whole`, `changed`
#'   (its hash differs) or `gone`.
#' @section Errors: `vetusta_error_argument` for names that are not texts.
#' @export
#' @examples
#' \dontrun{
#' archive_documents(archive, "register", "filings", "filings")
#' }
archive_documents <- function(archive, source, dataset, folder = ".") {
  check_archive(archive)
  check_text(source, "source")
  check_text(dataset, "dataset")
  check_text(folder, "folder")
  documents <- stored_documents(archive, source, dataset, folder)
  now <- vapply(
    file.path(rep(folder, nrow(documents)), documents$file),
    function(file) {
      file_sha256(file) %||% NA_character_
    },
    "",
    USE.NAMES = FALSE
  )
  documents$state <- as.character(
    ifelse(
      is.na(now), "gone", ifelse(now == documents$sha256, "whole", "changed")
    )
  )
  as_rows(as.list(documents))
}

# SHA-256 of a file's bytes (FIPS 180-4); NULL where there is no file.
file_sha256 <- function(file) {
  if (file.exists(file) && !dir.exists(file)) {
    digest::digest(file = file, algo = "sha256")
  }
}
