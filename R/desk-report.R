# A desk's report: its queries, their state, and everything in its archive.

#' Report on a desk
#'
#' @param desk A desk, see [desk_open()].
#' @param ids Series IDs; `NULL` for all series of the archive.
#' @param from,to The window of figures and gaps.
#' @param title The title; by default that of the desk.
#' @return A `vetusta_report`, see [report_make()].
#' @section Errors: `vetusta_error_desk` for an object that is not a desk, or a
#'   desk without an archive.
#' @export
#' @examples
#' \dontrun{
#' report_save(desk_report(desk_open("my-desk")), "report.html")
#' }
desk_report <- function(desk, ids = NULL, from = NULL, to = NULL,
                        title = NULL) {
  check_desk(desk)
  archive <- desk_archive_filled(desk)
  on.exit(archive_close(archive))
  names <- unique(
    c(
      vapply(desk$track, `[[`, "", "source"), archive_series(archive)$source,
      archive_datasets(archive)$source
    )
  )
  cards <- lapply(stats::setNames(nm = names), function(name) {
    tryCatch(desk_source(desk, name), vetusta_error = function(e) NULL)
  })
  cards <- Filter(length, cards)
  calendars <- Filter(length, lapply(cards, source_calendar))
  zones <- unique(vapply(calendars, function(calendar) calendar$zone, ""))
  report <- report_make(
    archive,
    ids,
    title %||% desk$title,
    from,
    to,
    zone = if (length(zones) == 1) zones else "UTC",
    calendars = calendars,
    sources = desk_sources_text(cards),
    status = if (length(desk$track)) desk_status(desk),
    names = archive_names(archive, names, codes = FALSE)
  )
  desk_report_models(desk, report)
}

# The models that the desk writes, as parts of its report.
desk_report_models <- function(desk, report) {
  for (name in names(desk$outputs)) {
    file <- desk$outputs[[name]]$model
    # a report only reads: a model without a fit is fitted when outputs are
    # written
    model <- if (!is.null(file)) {
      tryCatch(
        desk_model(desk, file, fitted = TRUE),
        vetusta_error = function(e) NULL
      )
    }
    if (is.null(model)) next
    description <- model_report(model)
    for (part in c("figures", "tables")) {
      all <- description[[part]]
      if (length(all)) names(all) <- paste0(name, ": ", names(all))
      report[[part]] <- c(report[[part]], all)
    }
  }
  report
}

# Notes and licences of the sources, from their cards.
desk_sources_text <- function(cards) {
  if (!length(cards)) {
    return(NULL)
  }
  field <- function(name) {
    vapply(
      cards, function(card) as.character(card[[name]] %||% NA)[1], "",
      USE.NAMES = FALSE
    )
  }
  data.frame(
    source = names(cards),
    title = field("title"),
    url = vapply(
      cards,
      function(card) {
        origin_of(card$url)
      },
      "",
      USE.NAMES = FALSE
    ),
    notes = field("notes"),
    licence = field("licence")
  )
}

# The archive of a desk that has collected something.
desk_archive_filled <- function(desk) {
  archive <- desk_archive(desk)
  if (is.null(archive)) {
    vetusta_stop(
      "desk", "The desk has no archive yet.",
      where = desk$folder,
      todo = "collect something first: vetusta refresh"
    )
  }
  archive
}
