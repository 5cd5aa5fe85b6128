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
  drawn <- report_series(archive, series, wanted)
  tables <- list(
    "Tracked queries" = report_status(status),
    "Quotas" = attr(status, "quotas"),
    "Series" = report_coverage_table(series, drawn$coverage, zone),
    "Gaps and their reasons" = drawn$gaps,
    "Revisions" = report_revised(archive, series),
    "Documents" = report_documents(archive),
    "Failures" = report_failed(archive),
    "Rejected rows" = report_rejected(archive),
    "Sources" = sources
  )
  open <- archive_incomplete(archive)
  open <- open[
    paste(open$source, open$dataset) %in% paste(series$source, series$dataset),
  ]
  attention <- report_attention(status, series, drawn, tables, nrow(open))
  numbers <- report_numbers(archive, series, drawn, status, nrow(open), tables)
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
      made = utc(floor(as.numeric(Sys.time()))),
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

# Tables of the first screen, before the figures.
report_first <- c("Needs attention", "Newest values")

report_html <- function(report) {
  first <- intersect(report_first, names(report$tables))
  others <- setdiff(names(report$tables), first)
  heads <- c(first, names(report$figures), others)
  id <- function(text) gsub("[^a-z0-9]+", "-", tolower(text))
  link <- paste0(
    "<li><a href=\"#", id(heads), "\">", html_text(heads), "</a></li>"
  )
  figures <- unlist(lapply(seq_along(report$figures), function(i) {
    name <- names(report$figures)[i]
    c(
      paste0("<section><h2 id=\"", id(name), "\">", html_text(name), "</h2>"),
      report_figure(report$figures[[i]], paste0("figure-", i), report$zone),
      "</section>"
    )
  }))
  tabled <- function(name) {
    rows <- report$tables[[name]]
    c(
      paste0("<section><h2 id=\"", id(name), "\">", html_text(name), "</h2>"),
      report_table(rows, name, report$zone, id, heads), "</section>"
    )
  }
  opening <- unlist(lapply(first, tabled))
  tables <- unlist(lapply(others, tabled))
  c(
    "<!doctype html>", "<html lang=\"en\"><head><meta charset=\"utf-8\">",
    "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">",
    paste0("<title>", html_text(report$title), "</title>"),
    "<link rel=\"icon\" href=\"data:,\">", "<style>",
    report_asset("report.css"), "</style></head>",
    "<body><a class=\"skip\" href=\"#main\">To the report</a>", "<header>",
    paste0("<h1>", html_text(report$title), "</h1>"),
    paste0(
      "<p class=\"soft\">", html_text(paste(report$summary, collapse = " ")),
      " Made ", format_instant(report$made), "; times in ",
      html_text(report$zone), ".</p>"
    ),
    report_numbers_html(report$numbers), "</header>",
    "<nav aria-label=\"Contents\"><ul>", link, "</ul></nav>",
    "<main id=\"main\">", opening, figures, tables, "</main>", "<script>",
    report_asset("tables.js"), "</script>", "<script>",
    report_asset("report.js"), "</script></body></html>"
  )
}

report_asset <- function(name) {
  readLines(
    system.file("report", name, package = "vetusta"),
    warn = FALSE,
    encoding = "UTF-8"
  )
}

# A table with search, sortable columns, and a CSV link.
report_table <- function(rows, name, zone, id = identity, heads = NULL) {
  lines <- attr(rows, "lines")
  shown <- utils::head(as.data.frame(rows), 5000)
  shown <- shown[!vapply(shown, function(column) all(is.na(column)), TRUE)]
  cells <- lapply(names(shown), function(column) {
    if (column == "see" && !is.null(heads)) {
      return(report_see(shown$see, id, heads))
    }
    report_cells(shown[[column]], column, zone)
  })
  if (length(lines) == nrow(shown)) {
    cells <- c(cells, list(
      paste0("<td>", vapply(lines, report_spark, ""), "</td>")
    ))
  }
  body <- paste0("<tr>", do.call(paste0, cells), "</tr>")
  numbers <- vapply(shown, is.numeric, TRUE)
  columns <- paste0(
    "<th scope=\"col\"", ifelse(numbers, " class=\"number\"", ""), "><button>",
    html_text(gsub("_", " ", names(shown))), "</button></th>",
    collapse = ""
  )
  if (length(lines) == nrow(shown)) {
    columns <- paste0(
      columns, "<th scope=\"col\"><button>last values</button></th>"
    )
  }
  few <- nrow(shown) < 8 || name %in% report_first
  c(
    paste0(
      "<div class=\"table\" data-name=\"",
      gsub("[^a-z0-9]+", "-", tolower(name)), "\">"
    ),
    if (!few) {
      paste0(
        "<p class=\"tools\"><label>Search <input type=\"search\"></label> ",
        paste0(
          "<button class=\"csv\">Save as CSV</button> <span class=\"count\" ",
          "aria-live=\"polite\"></span>"
        ),
        "</p>"
      )
    },
    paste0(
      "<div class=\"scroll\" tabindex=\"0\" role=\"region\" aria-label=\"",
      html_text(name), "\"><table><thead><tr>"
    ),
    columns, "</tr></thead><tbody>", body, "</tbody></table></div>",
    if (nrow(rows) > nrow(shown)) {
      paste0(
        "<p class=\"soft\">the first ", thousands(nrow(shown)), " of ",
        thousands(nrow(rows)), " rows</p>"
      )
    },
    "</div>"
  )
}

# Links to the sections with the details.
report_see <- function(see, id, heads) {
  ifelse(
    see %in% heads,
    paste0("<td><a href=\"#", id(see), "\">", html_text(see), "</a></td>"),
    paste0("<td>", html_text(see), "</td>")
  )
}

# The shown text of a value, and its sort key.
report_cells <- function(column, name, zone) {
  sorted <- if (is.numeric(column) || inherits(column, c("Date", "POSIXct"))) {
    ifelse(is.na(column), "", format_exact(as.numeric(column)))
  }
  number <- function(x) {
    format(
      signif(x, 8),
      big.mark = ",", trim = TRUE, scientific = FALSE,
      drop0trailing = TRUE
    )
  }
  text <- if (inherits(column, "POSIXct")) {
    format(column, "%Y-%m-%d %H:%M", tz = zone)
  } else if (inherits(column, "Date")) {
    format(column)
  } else if (name == "coverage") {
    ifelse(is.na(column), "", sprintf("%.2f%%", 100 * column))
  } else if (is.numeric(column)) {
    ifelse(is.na(column), "", number(column))
  } else {
    as.character(column)
  }
  text[is.na(text)] <- ""
  shown <- html_text(text)
  linked <- is_link(text)
  shown[linked] <- paste0(
    "<a href=\"", html_text(text[linked]), "\" rel=\"noreferrer\">",
    html_text(sub("^.*/([^/]+)/?$", "\\1", text[linked])), "</a>"
  )
  paste0(
    "<td",
    if (is.numeric(column)) {
      " class=\"number\""
    } else if (length(text) && all(grepl("^([0-9]{4}-[0-9]{2}.*)?$", text))) {
      " class=\"time\""
    },
    if (!is.null(sorted)) paste0(" data-sort=\"", sorted, "\""), ">", shown,
    "</td>"
  )
}
