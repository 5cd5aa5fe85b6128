#' @rdname desk_open
#' @return `desk_new()` makes a new desk and returns it: a `desk.yml` with
#'   comments, source cards of the invented services, their keys and a workbook
#'   with a growing table. It can be refreshed while `vetusta services` runs. A
#'   folder that is not empty is refused.
#' @export
desk_new <- function(folder, title = NULL) {
  check_text(folder, "folder", "desk")
  if (file.exists(folder) &&
    (!dir.exists(folder) ||
      length(list.files(folder, all.files = TRUE, no.. = TRUE)))) {
    vetusta_stop(
      "desk", "The folder exists and is not empty.",
      where = folder,
      todo = "give the path of a folder that does not exist yet"
    )
  }
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
  from <- system.file("desk", package = "vetusta")
  for (card in c("quay", "river", "basin", "fixing")) {
    file.copy(card_path(card), file.path(folder, "sources"))
  }
  lines <- readLines(file.path(from, "desk.yml"), encoding = "UTF-8")
  title <- title %||% basename(normalizePath(folder))
  check_text(title, "title", "desk")
  lines[startsWith(lines, "desk:")] <- paste0("desk: ", desk_text_scalar(title))
  # without the package for workbooks the growing table is a CSV file
  book <- requireNamespace("openxlsx2", quietly = TRUE)
  if (!book) {
    lines <- sub(
      "append: fixings.xlsx", "append: fixings.csv", lines,
      fixed = TRUE
    )
    lines <- lines[!grepl("^ *table: Fixings$", lines)]
  }
  write_lines_whole(lines, file.path(folder, "desk.yml"), "desk")
  file.copy(
    file.path(from, c("stations.txt", if (book) "fixings.xlsx")), folder
  )
  write_lines_whole(
    readLines(file.path(from, "keys.txt")), file.path(folder, "desk.env"),
    "secret", "600"
  )
  writeLines(c("desk.env", "archive.sqlite*"), file.path(folder, ".gitignore"))
  desk_open(folder)
}
