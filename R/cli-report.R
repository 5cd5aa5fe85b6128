# vetusta report: one file to read or to send.
cli_report <- function(arguments) {
  options <- cli_arguments(
    arguments, "report", "[FILE.html] [ID...]",
    c(
      cli_window_options(),
      list(
        cli_option("title", "; by default the desk's"),
        cli_option(
          "parts",
          "headings of the parts that stay, patterns included, with commas",
          metavar = "LIST"
        ),
        cli_option(
          "template", "an R Markdown file by which the page is made",
          metavar = "FILE.Rmd"
        ),
        cli_option(
          "plain", "a short text, for a mail or a terminal",
          flag = TRUE
        )
      ),
      cli_place_options()
    ),
    c(
      "vetusta report",
      paste0(
        "vetusta report monday.html \"KELD@1 minute\" kelder-lock --from ",
        "2026-03-01"
      ),
      "vetusta report share.html --parts \"*candles,Gaps*\"",
      "vetusta report --plain"
    )
  )
  words <- options$words
  if (options$plain && any(grepl("[.]html?$", words, ignore.case = TRUE))) {
    cli_usage_error("--plain writes text: end the file's name in .txt")
  }
  if (options$plain && !is.null(options$template)) {
    cli_usage_error("--plain takes no --template")
  }
  # a word with a file ending is a file, also for formats that reports do not
  # have
  is_file <- grepl(
    "[.](html?|txt|md|pdf|docx?|csv|xlsx|json|png)$", words,
    ignore.case = TRUE
  )
  if (sum(is_file) > 1) cli_usage_error("name a single file for the report")
  file <- if (any(is_file)) words[is_file] else "report.html"
  ids <- if (any(!is_file)) cli_ids(words[!is_file])
  desk <- cli_desk(options, needed = FALSE)
  report <- if (is.null(options$archive) && !is.null(desk)) {
    desk_report(desk, ids, options$from, options$to, options$title)
  } else {
    archive <- cli_archive(options)
    report_make(
      archive, ids, options$title %||% archive_label(archive$path),
      options$from, options$to
    )
  }
  if (!is.null(options$parts)) {
    report <- report_choose(report, cli_list_of(options$parts))
  }
  if (options$plain && !any(is_file)) {
    return(cat(cli_words(format(report)), sep = "\n"))
  }
  if (options$plain) {
    write_lines_whole(cli_words(format(report)), file, "report")
    return(
      cli_say(
        "wrote ", file, ": the report as text, ", format_bytes(file.size(file))
      )
    )
  }
  report_save(report, file, options$template)
  cli_say(
    "wrote ", file, ": ", counted(length(report$figures), "figure"), ", ",
    counted(length(report$tables), "table"), ", ", format_bytes(file.size(file))
  )
}
