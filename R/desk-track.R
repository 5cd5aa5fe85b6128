# Adding queries to a desk's file and removing them.

#' Track a query
#'
#' @param desk A desk, see [desk_open()].
#' @param name The name of the query: small letters, digits and hyphens.
#' @param source A source of the desk.
#' @param dataset The dataset of the source; optional if only one has bars.
#' @param symbols Symbols of bars.
#' @param keys A named list: keys of rows or dimensions of statistics, each with
#'   its values.
#' @param ... Further words of the query: `interval`, `session`, `from`, `to`,
#'   `span`, `account`, `history`, `lookback`, `every`, `stale`, `times`,
#'   `title`; texts as in a `desk.yml`.
#' @return `desk_track()` and `desk_drop()` invisibly return the changed desk.
#'   The file is edited in place; comments and everything else stay.
#' @section Errors: `vetusta_error_desk` for a name that is taken or unknown, an
#'   invalid word or value, or a file that cannot be written; the file is
#'   unchanged then.
#' @export
#' @examples
#' desk <- desk_make(file.path(tempdir(), "another-desk"))
#' desk <- desk_track(
#'   desk, "shares", "quay", symbols = "KELD", interval = "1 day",
#'   span = "1 year"
#' )
#' desk <- desk_drop(desk, "shares")
desk_track <- function(desk, name, source, dataset = NULL, symbols = NULL,
                       keys = list(), ...) {
  check_desk(desk)
  check_text(name, "name", "desk")
  check_text(source, "source", "desk")
  with_locked_file(desk$file, function() {
    desk_track_entry(desk, name, source, dataset, symbols, keys, ...)
  })
}

desk_track_entry <- function(desk, name, source, dataset, symbols, keys, ...) {
  desk <- desk_open(desk$folder)
  if (name %in% names(desk$track)) {
    vetusta_stop(
      "desk",
      paste0("The desk already has a query \"", name, "\"."),
      where = desk_place(desk, "track", name),
      todo = "choose another name, or drop that query first"
    )
  }
  entry <- c(
    list(
      source = source,
      dataset = dataset,
      symbols = symbols,
      keys = if (length(keys)) keys
    ),
    list(...)
  )
  entry <- entry[lengths(entry) > 0]
  desk_edit(
    desk, function(lines) desk_text_add(lines, "track", name, entry),
    c(desk$track, stats::setNames(list(entry), name)),
    paste0("The query ", name)
  )
}

#' @rdname desk_track
#' @export
desk_drop <- function(desk, name) {
  check_desk(desk)
  check_text(name, "name", "desk")
  with_locked_file(desk$file, function() desk_drop_entry(desk, name))
}

desk_drop_entry <- function(desk, name) {
  desk <- desk_open(desk$folder)
  if (!name %in% names(desk$track)) {
    vetusta_stop(
      "desk",
      paste0("The desk has no query \"", name, "\"."),
      where = desk$file,
      todo = suggest_word(name, names(desk$track)),
      usage = TRUE
    )
  }
  desk_edit(
    desk, function(lines) desk_text_drop(lines, "track", name),
    desk$track[names(desk$track) != name], paste0("The desk without ", name)
  )
}

# The desk's file with other queries, checked as a whole before it is written.
desk_edit <- function(desk, edit, queries, what) {
  lines <- edit(readLines(desk$file, warn = FALSE, encoding = "UTF-8"))
  content <- tryCatch(
    desk_plain(card_yaml(lines, desk$file, "desk")),
    vetusta_error = function(e) NULL
  )
  if (!is.null(content)) {
    desk_checked(content, function(keys) paste(keys, collapse = ", "))
  }
  desk_text_write(desk, lines, queries, what)
  invisible(desk_open(desk$folder))
}
