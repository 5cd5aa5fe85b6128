# Parts of the page: the list of series, facts, tables, and lines to copy.

# All series with their names; no rows where the archive is gone.
browse_series <- function(place) {
  tryCatch(
    {
      archive <- place$reader()
      series <- as.data.frame(archive_series(archive))
      names <- archive_names(archive, unique(series$source))
      series$name <- unname(
        ifelse(series$key %in% names(names), names[series$key], "")
      )
      series$name[is.na(series$name)] <- ""
      series
    },
    vetusta_error = function(e) {
      structure(
        data.frame(
          id = character(), source = character(), dataset = character(),
          key = character(), frequency = character(), shape = character(),
          rows = numeric(), first = utc(numeric()), last = utc(numeric()),
          bytes = numeric(), name = character()
        ),
        trouble = e
      )
    }
  )
}

browse_about <- function(place, series) {
  trouble <- attr(series, "trouble")
  if (!is.null(trouble)) {
    return(browse_trouble(trouble))
  }
  shiny::tags$p(
    class = "soft",
    paste0(
      thousands(nrow(series)), " series", ", ",
      counted(sum(series$rows), "value"), "; ", archive_label(place$path),
      ", read only"
    )
  )
}

browse_offer <- function(session, series, source, shape) {
  offer <- function(id, values, chosen) {
    values <- sort(unique(values))
    shiny::updateSelectInput(
      session,
      id,
      choices = c("all" = "", stats::setNames(nm = values)),
      selected = if (isTRUE(chosen %in% values)) chosen else ""
    )
  }
  offer("source", series$source, source)
  offer("shape", series$shape, shape)
}

browse_longer <- c(
  "5 minutes", "15 minutes", "1 hour", "1 day", "1 week", "1 month", "1 year"
)

browse_reset <- function(session, selected) {
  if (nrow(selected) != 1) {
    return(invisible())
  }
  longer <- if (startsWith(selected$frequency, "P")) {
    step <- interval_seconds(time_interval(selected$frequency))
    seconds <- vapply(
      browse_longer, function(word) interval_seconds(time_interval(word)), 0
    )
    browse_longer[seconds > step]
  }
  shiny::updateSelectInput(
    session,
    "resample",
    choices = c("as stored" = "", stats::setNames(nm = longer)),
    selected = ""
  )
}

browse_most <- 200

browse_list <- function(place, series, id) {
  tags <- shiny::tags
  if (!nrow(series)) {
    return(tags$p(class = "soft", role = "status", "no series is like that"))
  }
  shown <- utils::head(series, browse_most)
  covered <- browse_coverage(place, shown)
  rows <- lapply(seq_len(nrow(shown)), function(i) {
    entry <- shown[i, ]
    tags$li(
      tags$button(
        type = "button",
        class = "one",
        `data-series` = entry$id,
        `aria-current` = if (identical(entry$id, id)) "true",
        tags$span(
          class = "series-name",
          if (nzchar(entry$name)) entry$name else entry$id
        ),
        if (nzchar(entry$name)) tags$span(class = "series-id", entry$id),
        tags$span(
          class = "span",
          paste0(
            format(entry$first, "%Y-%m-%d"), " to ",
            format(entry$last, "%Y-%m-%d"), ", ", counted(entry$rows, "value")
          )
        ),
        browse_meter(covered[i])
      )
    )
  })
  left <- nrow(series) - nrow(shown)
  tags$div(
    tags$p(
      class = "soft", role = "status", paste(thousands(nrow(series)), "series")
    ),
    tags$ul(class = "list", rows),
    if (left > 0) {
      tags$p(
        class = "soft", paste("and", thousands(left), "more: search for them")
      )
    }
  )
}

browse_meter <- function(part) {
  tags <- shiny::tags
  if (is.na(part)) {
    return(NULL)
  }
  text <- format_coverage(part)
  tags$span(
    class = "meter",
    tags$span(
      class = "bar",
      tags$span(style = paste0("width:", round(100 * part, 1), "%"))
    ),
    tags$span(class = "part", paste(text, "present"))
  )
}

# The frequency of a series in words, where known.
browse_step <- function(frequency) {
  words <- c(
    D = "daily", W = "weekly", M = "monthly", Q = "quarterly",
    S = "half-yearly", A = "annual"
  )
  if (startsWith(frequency, "P")) {
    format(time_interval(frequency))
  } else if (frequency %in% names(words)) {
    words[[frequency]]
  }
}

browse_facts <- function(place, series) {
  facts <- c(
    paste0(series$source, ", ", series$dataset), series$shape,
    browse_step(series$frequency),
    paste0(
      format(series$first, "%Y-%m-%d"), " to ", format(series$last, "%Y-%m-%d")
    ),
    counted(series$rows, "value"),
    paste0("days in ", browse_zone(place, series$source))
  )
  shiny::tags$p(class = "soft", paste(facts, collapse = "; "))
}

# A table as in a report, with its newest or longest rows.
browse_shown <- function(rows, zone) {
  if (inherits(rows, "condition")) {
    return(browse_trouble(rows))
  }
  if (!NROW(rows)) {
    return(shiny::tags$p(class = "soft", role = "status", "there is none"))
  }
  few <- utils::head(rows, 500)
  left <- nrow(rows) - nrow(few)
  shiny::tagList(
    shiny::HTML(report_table(few, "shown", zone)),
    if (left > 0) {
      shiny::tags$p(
        class = "soft",
        paste0(
          "the first ", thousands(nrow(few)), " of ", thousands(nrow(rows)),
          "; all of the values are in the CSV"
        )
      )
    }
  )
}

browse_copies <- function(lines) {
  tags <- shiny::tags
  lapply(names(lines), function(name) {
    tags$div(
      class = "copy", tags$span(class = "soft", name),
      tags$code(lines[[name]]),
      tags$button(
        type = "button", class = "take", `data-text` = lines[[name]], "Copy",
        `aria-label` = paste("Copy:", name)
      )
    )
  })
}
