# The first view of the page: numbers, what needs attention, newest values.

browse_overview <- function(place) {
  datasets <- browse_datasets(place)
  if (!nrow(datasets)) {
    return(shiny::tags$p(class = "soft", "The archive has no series yet."))
  }
  archive <- place$reader()
  status <- tryCatch(place$status(), vetusta_error = function(e) NULL)
  zone <- if (length(unique(datasets$source)) == 1) {
    browse_zone(place, datasets$source[1])
  } else {
    "UTC"
  }
  tables <- list(
    "Tracked queries" = report_status(status),
    "Failures" = report_failed(archive),
    "Rejected rows" = report_rejected(archive)
  )
  incomplete <- nrow(archive_incomplete(archive))
  newest <- browse_newest(place, archive)
  attention <- report_attention(
    status, NULL, list(gaps = NULL, jumps = newest$jumps), tables, incomplete,
    archive_findings(archive)
  )
  numbers <- report_numbers(
    sum(datasets$series), sum(datasets$rows), list(), status, incomplete, tables
  )
  part <- function(name, rows) {
    if (NROW(rows)) report_section(name, report_table(rows, name, zone))
  }
  attention$see <- NULL
  shiny::tagList(
    report_numbers_tags(numbers),
    if (NROW(attention)) {
      part("Needs attention", attention)
    } else {
      shiny::tags$p(class = "soft", "Nothing needs attention.")
    },
    part("Newest values", newest$rows),
    part("Tracked queries", tables[["Tracked queries"]]),
    part("Failures", tables$Failures)
  )
}

# The newest values of a few series of each dataset and frequency; only their
# last part is read.
browse_newest <- function(place, archive, most = 15, each = 3) {
  datasets <- browse_datasets(place)
  drawable <- rbind(
    datasets_of_shape(datasets, "bars"),
    datasets_of_shape(datasets, "observations")
  )
  datasets <- drawable[order(drawable$source, drawable$dataset), , drop = FALSE]
  groups <- do.call(rbind, lapply(seq_len(nrow(datasets)), function(i) {
    data.frame(
      source = datasets$source[i],
      dataset = datasets$dataset[i],
      frequency = store_frequencies(
        archive, datasets$source[i], datasets$dataset[i]
      )
    )
  }))
  groups <- utils::head(groups, most)
  parts <- lapply(seq_len(NROW(groups)), function(i) {
    few <- browse_first(
      place, groups$source[i], groups$dataset[i], each, groups$frequency[i]
    )
    if (!nrow(few)) {
      return(NULL)
    }
    step <- (as.numeric(few$last) - as.numeric(few$first)) / pmax(1, few$rows)
    from <- utc(min(as.numeric(few$last) - 80 * step))
    zone <- browse_zone(place, few$source[1])
    tables <- tryCatch(
      without_notes(archive_read(archive, few$id, from = from, zone = zone)),
      vetusta_error = function(e) NULL
    )
    if (!length(tables) || !nrow(tables[[1]])) {
      return(NULL)
    }
    table <- archive_unit_labels(tables[[1]], archive)
    names <- stats::setNames(few$name, few$key)[nzchar(few$name)]
    list(
      rows = report_newest(
        table, names, archive_heading(archive, list(table))[1] %||%
          paste(few$source[1], few$dataset[1]), zone
      )
    )
  })
  list(rows = report_newest_all(lapply(parts, `[[`, "rows")))
}
