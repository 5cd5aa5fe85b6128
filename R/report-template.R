# A report by the user's template in R Markdown.

# Lines of the HTML that a template makes of a report, which it has as
# `params$report`.
report_templated <- function(report, template) {
  check_text(template, "template", "report")
  if (!file.exists(template)) {
    vetusta_stop(
      "report", "The template does not exist.",
      where = template,
      todo = "give the path of an .Rmd file"
    )
  }
  if (!requireNamespace("rmarkdown", quietly = TRUE) ||
    !rmarkdown::pandoc_available()) {
    vetusta_stop(
      "report",
      "A template needs the package rmarkdown, and the program pandoc.",
      todo = paste0(
        "install both (of Debian r-cran-rmarkdown and pandoc), or leave ",
        "the template out"
      )
    )
  }
  folder <- tempfile("report")
  dir.create(folder)
  on.exit(unlink(folder, recursive = TRUE))
  said <- character()
  made <- withCallingHandlers(
    tryCatch(
      rmarkdown::render(
        template,
        output_file = file.path(folder, "report.html"),
        intermediates_dir = folder,
        knit_root_dir = folder,
        params = list(report = report),
        envir = new.env(parent = globalenv()),
        quiet = TRUE
      ),
      error = function(e) template_failed(template, conditionMessage(e), said)
    ),
    message = function(m) {
      said <<- c(said, conditionMessage(m))
      invokeRestart("muffleMessage")
    }
  )
  lines <- readLines(made, warn = FALSE, encoding = "UTF-8")
  if (!any(grepl("<html", lines, fixed = TRUE))) {
    vetusta_stop(
      "report", "The template makes no HTML.",
      where = template,
      todo = "write `output: html_document` in its head"
    )
  }
  lines
}

template_failed <- function(template, what, said) {
  # knitr's messages or the error name the lines
  text <- paste(c(said, what), collapse = "\n")
  lines <- regmatches(text, regexpr("lines? [0-9]+(-[0-9]+)?", text))
  vetusta_stop(
    "report",
    paste0("The template fails: ", sub("\n.*", "", what)),
    where = paste(c(template, lines), collapse = ", "),
    todo = "correct the template there; the report is params$report in it"
  )
}

#' @rdname report_make
#' @param report A report.
#' @param parts Headings of the tables and figures to keep, patterns included,
#'   in their order; the `summary` texts always stay.
#' @return `report_choose()`: the report with only those parts.
#' @export
report_choose <- function(report, parts) {
  if (!inherits(given(report, "report", "report"), "vetusta_report")) {
    vetusta_stop(
      "report", "This is not a report.",
      todo = "make a report with report_make()"
    )
  }
  check_text(parts, "parts", "report", several = TRUE)
  heads <- c(names(report$figures), names(report$tables))
  for (part in parts) {
    if (!any(grepl(utils::glob2rx(tolower(part)), tolower(heads)))) {
      check_choice(part, "parts", heads, "report")
    }
  }
  chosen <- function(all) {
    at <- lapply(
      parts,
      function(part) grep(utils::glob2rx(tolower(part)), tolower(names(all)))
    )
    all[unique(unlist(at))]
  }
  report$figures <- chosen(report$figures)
  report$tables <- chosen(report$tables)
  report
}
