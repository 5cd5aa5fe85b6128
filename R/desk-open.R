# A desk is a folder with desk.yml, its source cards and its archive.

#' Open a desk
#'
#' @param folder A folder with a `desk.yml`, or one below it.
#' @return A `vetusta_desk`: a list with `folder`, `title`, `archive` and
#'   `sources` (paths, or the URI of a database), `columns` (a column store, see
#'   [archive_open()]), `urls` (of services that do not run at their card's
#'   URL), `queries` and `outputs` (as written, see [desk_tracked()]).
#' @section Errors: `vetusta_error_desk` without a `desk.yml` here or above, or
#'   for an invalid one.
#' @export
#' @examples
#' folder <- file.path(tempdir(), "desk")
#' desk_make(folder, title = "A desk")
#' desk_open(folder)
desk_open <- function(folder = ".") {
  check_text(folder, "folder", "desk")
  at <- normalizePath(folder, mustWork = FALSE)
  repeat {
    file <- file.path(at, "desk.yml")
    if (file.exists(file)) break
    if (dirname(at) == at) {
      vetusta_stop(
        "desk",
        "There is no desk here: no desk.yml in this folder or above it.",
        where = folder,
        todo = paste0(
          "go to a desk's folder or name it with --desk; `vetusta demo` ",
          "makes a desk to ", "try, and --archive FILE works without a desk"
        ),
        absent = TRUE
      )
    }
    at <- dirname(at)
  }
  lines <- readLines(file, warn = FALSE, encoding = "UTF-8")
  content <- parsed_once("desk", lines, file, make = function() {
    content <- desk_plain(card_yaml(lines, file, "desk"))
    desk_checked(content, function(keys) card_place(lines, file, keys))
    content
  })
  within <- function(path) {
    if (grepl("^/|^[A-Za-z][A-Za-z0-9+.-]*://", path)) {
      path
    } else {
      file.path(at, path)
    }
  }
  structure(
    list(
      folder = at,
      title = content$desk %||% basename(at),
      archive = within(content$archive %||% "archive.sqlite"),
      columns = content$columns,
      sources = within(content$sources %||% "sources"),
      urls = content$urls %||% list(),
      track = content$track %||% list(),
      outputs = content$outputs %||% list(),
      log = if (!is.null(content$log)) within(content$log),
      on_failure = content$on_failure,
      on_success = content$on_success,
      on_finding = content$on_finding,
      checks = content$checks %||% list(),
      file = file
    ),
    class = "vetusta_desk"
  )
}

#' @rdname desk_open
#' @param title The desk's title.
#' @param cards Names of shipped cards, or paths of cards, for the desk.
#' @param urls A named list of service URLs by source.
#' @param secrets A named list of secrets for the desk's env file, which only
#'   its owner can read.
#' @return `desk_make()` returns the new desk; existing files stay, except for
#'   the URLs.
#' @export
desk_make <- function(folder, title = basename(folder), cards = "quay",
                      urls = list(), secrets = list()) {
  check_text(folder, "folder", "desk")
  dir.create(
    file.path(folder, "sources"),
    recursive = TRUE, showWarnings = FALSE
  )
  if (!dir.exists(file.path(folder, "sources"))) {
    vetusta_stop(
      "desk", "The desk's folder cannot be made.",
      where = folder,
      todo = "check the permissions of the folder above"
    )
  }
  for (card in cards) {
    path <- card_path(card)
    to <- file.path(folder, "sources", basename(path))
    if (!file.exists(to)) file.copy(path, to)
  }
  file <- file.path(folder, "desk.yml")
  lines <- if (file.exists(file)) {
    readLines(file, warn = FALSE, encoding = "UTF-8")
  } else {
    sub(
      "\n$", "",
      yaml::as.yaml(
        list(desk = title, archive = "archive.sqlite", sources = "sources")
      )
    )
  }
  if (length(urls)) lines <- desk_text_set(lines, "urls", urls)
  write_lines_whole(lines, file, "desk")
  keep_out <- file.path(folder, ".gitignore")
  if (!file.exists(keep_out)) {
    writeLines(c("desk.env", "archive.sqlite*"), keep_out)
  }
  env <- file.path(folder, "desk.env")
  if (!file.exists(env)) {
    write_lines_whole(
      c(
        paste0(
          "# Secrets of this desk: NAME=value, a line each. Keep this ",
          "file private and ", "out of version control."
        ),
        paste0(names(secrets), "=", unlist(secrets))[seq_along(secrets)]
      ),
      env, "secret", "600"
    )
  }
  desk_open(folder)
}

#' @rdname desk_open
#' @param desk A desk.
#' @param source The name of a source of the desk, the path of a card, or the
#'   name of a shipped card.
#' @param account One of the card's accounts, see [source_card()].
#' @return `desk_source()` returns the source, see [source_card()], with the
#'   desk's URL and secrets.
#' @export
desk_source <- function(desk, source, account = NULL) {
  if (!inherits(given(desk, "desk", "desk"), "vetusta_desk")) {
    vetusta_stop(
      "desk", "This is not a desk.",
      todo = "open a desk with desk_open()"
    )
  }
  check_text(source, "source", "desk")
  card <- file.path(desk$sources, paste0(source, ".yml"))
  file <- if (file.exists(card)) card else source
  known <- c(sub("[.]yml$", "", list.files(desk$sources, "[.]yml$")))
  if (!file.exists(file) &&
    !nzchar(
      system.file("cards", paste0(source, ".yml"), package = "vetusta")
    )) {
    vetusta_stop(
      "desk",
      paste0("The desk has no source \"", source, "\"."),
      where = desk$sources,
      todo = suggest_word(source, known),
      usage = TRUE
    )
  }
  source_card(
    file,
    url = desk$urls[[source]],
    secrets = file.path(desk$folder, "desk.env"),
    account = account
  )
}

# The names of a desk's cards.
desk_cards <- function(desk) {
  files <- list.files(desk$sources, "[.]yml$")
  sub("[.]yml$", "", files[!grepl("[.]calendar[.]yml$", files)])
}

#' @export
print.vetusta_desk <- function(x, ...) {
  cat(
    "desk ", x$title, "\n  folder   ", x$folder, "\n  archive  ",
    archive_label(x$archive),
    if (!archive_there(x$archive)) " (nothing collected yet)", "\n",
    sep = ""
  )
  cat(
    "  sources  ",
    paste(
      sub("[.]yml$", "", list.files(x$sources, "[.]yml$")),
      collapse = ", "
    ),
    "\n",
    sep = ""
  )
  invisible(x)
}
