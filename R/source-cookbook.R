# The cookbook: short cards, one per manner of an API.

#' Cookbook of source cards
#'
#' Short cards that each show one manner of an API: access, limits, paging, form
#' of the rows, times, exports, statistics. Copy the lines that your API needs.
#'
#' @param word A text that the name or the card contains; `NULL` for all.
#' @return A tibble with a row per card: `name`, `about` (its first line),
#'   `card` (its text) and `file`.
#' @section Errors: `vetusta_error_argument` for a word that no card contains.
#' @export
#' @examples
#' source_cookbook("cursor")
#' cat(source_cookbook("pages-cursor")$card)
source_cookbook <- function(word = NULL) {
  if (!is.null(word)) check_text(word, "word")
  files <- list.files(
    system.file("cookbook", package = "vetusta"), "[.]yml$",
    full.names = TRUE
  )
  lines <- lapply(files, readLines, warn = FALSE, encoding = "UTF-8")
  cards <- as_rows(
    list(
      name = sub("[.]yml$", "", basename(files)),
      about = vapply(lines, function(line) sub("^# ", "", line[1]), ""),
      card = vapply(lines, function(line) {
        paste0(paste(line, collapse = "\n"), "\n")
      }, ""),
      file = files
    )
  )
  if (is.null(word)) {
    return(cards)
  }
  exact <- cards$name == word
  text <- tolower(paste(cards$name, cards$card))
  found <- if (any(exact)) exact else grepl(tolower(word), text, fixed = TRUE)
  if (!any(found)) {
    vetusta_stop(
      "argument", paste0("The cookbook has no card with \"", word, "\"."),
      todo = suggest_word(word, cards$name)
    )
  }
  cards[found, ]
}
