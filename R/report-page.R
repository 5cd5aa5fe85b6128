# A report as one file: a page that opens offline and loads nothing.

#' Report on an archive
#'
#' One self-contained HTML file, or a short text: coverage, gaps with reasons,
#' figures, revisions, documents, failures, and notes of the sources. Tables can
#' be sorted, searched and saved as CSV; figures show values under the pointer.
#'
#' @param archive An archive.
#' @param ids Series IDs, see [archive_find()]; `NULL` for all.
#' @param title The title.
#' @param from,to The window of figures and gaps, days or instants; open by
#'   default.
#' @param zone The IANA zone of the days and times shown.
#' @param calendars A named list of calendars by source, for expected values.
#' @param sources A data frame of `source`, `title`, `url`, `notes` and
#'   `licence`, from the cards.
#' @param status A result of [desk_status()].
#' @param names Names in place of those of the series.
#' @return `report_make()`: a `vetusta_report`, a list of `title`, `made` (an
#'   instant), `summary` (texts), `numbers` (texts, named), `tables` (data
#'   frames, named by their headings) and `figures` (ggplots). [report_save()]
#'   writes it, `print()` shows it as text.
#' @section Errors: `vetusta_error_argument` if the archive has none of the
#'   series.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' figures <- data.frame(
#'   time = as.POSIXct("2026-03-02", tz = "UTC") + 86400 * 0:9,
#'   close = 41:50
#' )
#' csv <- tempfile(fileext = ".csv")
#' export_csv(figures, csv)
#' archive_import(archive, csv, symbol = "KELD", interval = "1 day")
#' report <- report_make(archive)
#' report_save(report, tempfile(fileext = ".html"))
report_make <- function(archive, ids = NULL, title = "Contents of the archive",
                        from = NULL, to = NULL, zone = "UTC",
                        calendars = list(), sources = NULL, status = NULL,
                        names = NULL) {
  check_archive(archive)
  if (!is.null(ids)) check_text(ids, "ids", several = TRUE)
  check_text(title, "title")
  check_zone(zone)
  check_names(names)
  if (!is.list(calendars)) {
    vetusta_stop(
      "argument", "`calendars` must be a list of calendars, named by source.",
      todo = "write it as list(quay = source_calendar(\"quay\"))"
    )
  }
  series <- archive_series(archive)
  if (!is.null(ids)) {
    series <- series[series$id %in% archive_find(archive, ids)$id, ]
  }
  wanted <- list(
    from = from, to = to, zone = zone, calendars = calendars, names = names
  )
  wanted$titles <- stats::setNames(
    as.character(sources[["title"]]), as.character(sources[["source"]])
  )
  drawn <- report_series(archive, series, wanted)
  tables <- list(
    "Tracked queries" = report_status(status),
    "Quotas" = attr(status, "quotas"),
    "Series" = report_coverage_table(series, drawn$coverage, zone),
    "Gaps and their reasons" = report_gap_times(drawn$gaps, zone),
    "Revisions" = report_revised(archive, series),
    "Documents" = report_documents(archive),
    "Failures" = report_failed(archive),
    "Rejected rows" = report_rejected(archive),
    "Requests" = report_requests(archive, series),
    "Sources" = sources
  )
  open <- archive_incomplete(archive)
  open <- open[
    paste(open$source, open$dataset) %in% paste(series$source, series$dataset),
  ]
  findings <- archive_findings(archive)
  tables$Findings <- as.data.frame(findings)
  attention <- report_attention(
    status, series, drawn, tables, nrow(open), findings
  )
  numbers <- report_numbers(
    nrow(series), sum(series$rows), drawn, status, nrow(open), tables
  )
  tables <- c(
    list("Needs attention" = attention, "Newest values" = drawn$newest), tables
  )
  figures <- c(
    if (nrow(series)) {
      list(
        "Coverage by dataset" =
          figure_coverage(series, zone = zone, incomplete = open)
      )
    },
    drawn$figures
  )
  structure(
    list(
      title = title,
      made = utc(floor(now_seconds())),
      zone = zone,
      summary = report_summary(archive, series, drawn),
      numbers = numbers,
      tables = Filter(NROW, tables),
      figures = figures
    ),
    class = "vetusta_report"
  )
}

#' Write a report
#'
#' @param report A report, see [report_make()].
#' @param file Path of an `.html` file; or of a `.txt` or `.md` file for the
#'   short text.
#' @param template Path of an R Markdown file that makes an `.html` file in
#'   place of the standard page; it receives the report as `params$report`.
#'   `system.file("report/template.Rmd", package = "vetusta")` is a start. It
#'   needs the package rmarkdown and pandoc.
#' @return The path, invisibly. The file is written completely or not at all.
#' @section Errors: `vetusta_error_report` for another ending, a file that
#'   cannot be written, or a template that fails (with its line).
#' @export
#' @examples
#' \dontrun{
#' report_save(report_make(archive), "report.html")
#' }
report_save <- function(report, file, template = NULL) {
  if (missing(report) || !inherits(report, "vetusta_report")) {
    vetusta_stop(
      "report", "This is not a report.",
      todo = "make a report with report_make()"
    )
  }
  check_text(file, "file", "report")
  lines <- list(
    html = report_html, htm = report_html, txt = format, md = format
  )[[tolower(tools::file_ext(file))]]
  if (is.null(lines)) {
    vetusta_stop(
      "report", "The report's file must end in .html, .txt or .md.",
      where = file, todo = "give another name"
    )
  }
  if (!dir.exists(dirname(file))) {
    vetusta_stop(
      "report", "The folder of the report does not exist.",
      where = dirname(file), todo = "create it, or give another path"
    )
  }
  if (!is.null(template)) {
    if (!identical(lines, report_html)) {
      vetusta_stop(
        "report", "A template needs an .html file.",
        where = file,
        todo = "give a name that ends in .html, or no template"
      )
    }
    lines <- function(report) report_templated(report, template)
  }
  write_lines_whole(lines(report), file, "report")
  invisible(file)
}
