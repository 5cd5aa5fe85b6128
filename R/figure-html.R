# HTML of one file: scripts and styles stand in it, so that it opens from a disk
# without a network.

# The lines of a page of tags.
html_lines <- function(title, body, head = NULL, class = "page") {
  rendered <- htmltools::renderTags(htmltools::tagList(body, head))
  needed <- htmltools::resolveDependencies(rendered$dependencies)
  c(
    "<!doctype html>", "<html lang=\"en\"><head><meta charset=\"utf-8\">",
    "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">",
    paste0("<title>", html_text(title), "</title>"),
    "<link rel=\"icon\" href=\"data:,\">",
    unlist(lapply(needed, dependency_lines)), as.character(rendered$head),
    paste0("</head><body class=\"", class, "\">"),
    as.character(rendered$html), "</body></html>"
  )
}

# A dependency's styles and scripts, as they stand in its files.
dependency_lines <- function(dependency) {
  folder <- dependency$src[["file"]]
  if (!is.null(dependency$package)) {
    folder <- system.file(folder, package = dependency$package)
  }
  read <- function(files) {
    names <- vapply(files, function(file) {
      if (is.list(file)) file$src %||% file$href else file
    }, "")
    lapply(
      file.path(folder, names), readLines,
      warn = FALSE, encoding = "UTF-8"
    )
  }
  styles <- Map(
    with_pictures, read(dependency$stylesheet),
    dirname(file.path(folder, unlist(dependency$stylesheet)))
  )
  c(
    unlist(lapply(styles, function(lines) c("<style>", lines, "</style>"))),
    unlist(lapply(read(dependency$script), function(lines) {
      # the end of a script in a text would end it
      c("<script>", gsub("</script", "<\\/script", lines, fixed = TRUE),
        "</script>")
    }))
  )
}

# A style whose pictures stand in it.
with_pictures <- function(lines, folder) {
  pattern <- "url\\([\"']?([^\"')]+[.]png)[\"']?\\)"
  for (name in unique(unlist(regmatches(lines, gregexpr(pattern, lines))))) {
    file <- file.path(folder, sub(pattern, "\\1", name))
    if (!file.exists(file)) next
    bytes <- jsonlite::base64_enc(readBin(file, "raw", file.size(file)))
    data <- paste0(
      "url(data:image/png;base64,", gsub("\n", "", bytes, fixed = TRUE), ")"
    )
    lines <- gsub(name, data, lines, fixed = TRUE)
  }
  lines
}

html_asset <- function(folder, name) {
  paste(
    readLines(
      system.file(folder, name, package = "vetusta"),
      warn = FALSE, encoding = "UTF-8"
    ),
    collapse = "\n"
  )
}

# A figure with its texts, as a part of a page below the heading `head`; `level`
# is that of its own heading.
figure_tags <- function(figure, id, level = 3, wheel = FALSE, head = "") {
  tags <- htmltools::tags
  labels <- figure_labels(figure)
  widget <- figure_interactive(figure, wheel = wheel)
  htmltools::tags$figure(
    id = id, class = "drawn", `aria-label` = labels$title,
    if (length(labels$title) && labels$title != head) {
      tags[[paste0("h", level)]](labels$title)
    },
    if (length(labels$subtitle)) tags$p(class = "soft", labels$subtitle),
    widget,
    if (length(labels$caption)) {
      tags$figcaption(class = "soft", labels$caption)
    }
  )
}

# One interactive figure as a page.
figure_page <- function(figure) {
  tags <- htmltools::tags
  title <- figure_labels(figure)$title
  html_lines(
    if (length(title)) title else "Figure",
    htmltools::tagList(
      tags$main(figure_tags(figure, "figure", level = 1, wheel = TRUE)),
      htmltools::HTML(lineage_tag(figure))
    ),
    html_head()
  )
}

# Styles and scripts of pages with figures.
html_head <- function() {
  htmltools::tags$head(
    htmltools::tags$style(htmltools::HTML(html_asset("report", "report.css"))),
    htmltools::tags$script(htmltools::HTML(html_asset("report", "figures.js")))
  )
}
