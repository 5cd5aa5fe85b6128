# Lists with links, as an HTML page or a workbook.

#' Write a table with links that open
#'
#' @param rows A data frame. Its columns of web URLs (`http`, `https`), or of
#'   paths of files with `folder`, become links.
#' @param file Path of an `.html` or `.xlsx` file.
#' @param title The title above the table.
#' @return The path, invisibly. The page loads nothing from elsewhere, and a URL
#'   of another scheme stays text. The file is written completely or not at all.
#' @section Errors: `vetusta_error_export` for another ending, or a file that
#'   cannot be written.
#' @export
#' @examples
#' export_links(
#'   data.frame(
#'     title = "Annual report", link = "https://register.example.org/keld"
#'   ),
#'   tempfile(fileext = ".html")
#' )
export_links <- function(rows, file, title = "Documents") {
  check_exported(if (missing(rows)) NULL else rows)
  check_text(file, "file", "export")
  check_text(title, "title", "export")
  write <- list(
    html = links_page, htm = links_page, xlsx = links_sheet
  )[[tolower(tools::file_ext(file))]]
  if (is.null(write)) {
    vetusta_stop(
      "export",
      paste0(
        "A list with links is not written as \".", tools::file_ext(file), "\"."
      ),
      where = file, todo = "give a path that ends in .html or .xlsx"
    )
  }
  write(rows, file, title)
  invisible(file)
}

is_link <- function(text) grepl("^https?://[^[:space:]\"'<>]+$", text)

links_page <- function(rows, file, title) {
  text <- csv_cells(rows)
  cells <- lapply(names(rows), function(name) {
    plain <- as.character(text[[name]])
    plain[is.na(plain)] <- ""
    shown <- html_text(plain)
    linked <- is_link(plain)
    # the last part of a URL is enough to show
    short <- html_text(sub("^.*/([^/]+)/?$", "\\1", plain))
    shown[linked] <- paste0(
      "<a href=\"", html_text(plain[linked]), "\" rel=\"noreferrer\">",
      short[linked], "</a>"
    )
    number <- is.numeric(rows[[name]])
    paste0("<td", if (number) " class=\"number\"", ">", shown, "</td>")
  })
  body <- if (nrow(rows)) paste0("<tr>", do.call(paste0, cells), "</tr>")
  head <- paste0(
    "<th scope=\"col\">", html_text(names(rows)), "</th>",
    collapse = ""
  )
  write_lines_whole(
    c(
      "<!doctype html>", "<html lang=\"en\"><head><meta charset=\"utf-8\">",
      paste0(
        "<meta name=\"viewport\" content=\"width=device-width, ",
        "initial-scale=1\">"
      ),
      paste0("<title>", html_text(title), "</title>"), "<style>", links_style,
      "</style></head><body>", paste0("<h1>", html_text(title), "</h1>"),
      paste0("<p>", counted(nrow(rows), "row"), "</p>"), "<table><thead><tr>",
      head, "</tr></thead><tbody>", body, "</tbody></table></body></html>"
    ),
    file
  )
}

links_style <- c(
  paste0(
    "body { font: 16px/1.5 system-ui, sans-serif; color: #1c2430; ",
    "margin: 2rem; }"
  ),
  "h1 { font-size: 1.4rem; }", "table { border-collapse: collapse; }",
  paste0(
    "th, td { text-align: left; padding: .3rem .9rem .3rem 0; ",
    "border-bottom: 1px solid #d5dbe3; }"
  ),
  ".number { text-align: right; font-variant-numeric: tabular-nums; }",
  "a { color: #0b5a8a; }"
)

html_text <- function(text) {
  for (sign in list(
    c("&", "&amp;"), c("<", "&lt;"), c(">", "&gt;"), c("\"", "&quot;")
  )) {
    text <- gsub(sign[1], sign[2], text, fixed = TRUE)
  }
  text
}

links_sheet <- function(rows, file, title) {
  needs_sheets()
  shown <- sheet_columns(rows)
  write_whole(file, function(path) {
    book <- openxlsx2::wb_workbook(creator = "vetusta", title = title)
    book$add_worksheet("rows")
    book$add_data(x = shown, na = NULL)
    for (j in seq_along(shown)) {
      linked <- if (is.character(shown[[j]])) which(is_link(shown[[j]]))
      for (i in linked) {
        book$add_hyperlink(
          dims = paste0(openxlsx2::int2col(j), i + 1),
          target = shown[[j]][i]
        )
      }
    }
    book$freeze_pane(first_row = TRUE)
    book$save(path)
  })
}
