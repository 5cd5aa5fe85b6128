# The side bar of the page: sources, their datasets, and the series in words.

# All series with their names and the text that a search looks at; no rows where
# the archive is gone.
browse_series <- function(place) {
  sign <- place$changed()
  if (!identical(place$memory$sign, sign)) {
    place$memory$series <- browse_catalogue(place)
    place$memory$sign <- sign
  }
  place$memory$series
}

browse_catalogue <- function(place) {
  tryCatch(
    {
      archive <- place$reader()
      series <- as.data.frame(archive_series(archive))
      series$name <- ifelse(is.na(series$title), "", series$title)
      place_of <- paste(series$source, series$dataset)
      each <- !duplicated(place_of)
      heads <- vapply(which(each), function(i) {
        dataset_words(archive, series$source[i], series$dataset[i])
      }, "")
      series$heading <- heads[match(place_of, place_of[each])]
      series$text <- tolower(paste(series$id, series$name, series$heading))
      series
    },
    vetusta_error = function(e) {
      structure(
        data.frame(
          id = character(), source = character(), dataset = character(),
          key = character(), frequency = character(), shape = character(),
          rows = numeric(), first = utc(numeric()), last = utc(numeric()),
          bytes = numeric(), name = character(), heading = character(),
          text = character()
        ),
        trouble = e
      )
    }
  )
}

# The title of a dataset and the units of its columns, in words.
dataset_words <- function(archive, source, dataset) {
  facts <- dataset_facts(archive, source, dataset)
  units <- unique(unname(unlist(facts[["units"]] %||% facts[["unit"]])))
  units <- units[!is.na(units) & nzchar(units)]
  title <- facts$title %||% dataset
  paste0(title, if (length(units)) {
    paste0(" (", paste(utils::head(units, 3), collapse = ", "), ")")
  })
}

browse_about <- function(place, series) {
  trouble <- attr(series, "trouble")
  if (!is.null(trouble)) {
    return(browse_trouble(trouble))
  }
  shiny::tags$p(
    class = "soft",
    paste0(
      thousands(nrow(series)), " series, ",
      counted(sum(series$rows), "value"), "; ", archive_label(place$path),
      if (place$collect) "" else ", read only"
    )
  )
}

# Series that match the search: every word occurs in their texts.
browse_matching <- function(series, search) {
  words <- strsplit(tolower(trimws(search %||% "")), "[[:space:]]+")[[1]]
  kept <- rep(TRUE, nrow(series))
  for (word in words[nzchar(words)]) {
    kept[kept] <- grepl(word, series$text[kept], fixed = TRUE)
  }
  series[kept, , drop = FALSE]
}

browse_most <- 100

# So many series are all shown at once.
browse_few <- 30

browse_tree <- function(series, search, open, ids) {
  tags <- shiny::tags
  searching <- nzchar(trimws(search %||% ""))
  series <- browse_matching(series, search)
  if (!nrow(series)) {
    return(tags$p(class = "soft", role = "status", "no series is like that"))
  }
  place <- paste0(series$source, "/", series$dataset)
  counts <- table(place)
  left <- browse_most
  branches <- lapply(unique(series$source), function(source) {
    datasets <- unique(place[series$source == source])
    tags$li(
      tags$span(class = "source", source),
      tags$ul(lapply(datasets, function(dataset) {
        rows <- series[place == dataset, , drop = FALSE]
        show <- searching || identical(open, dataset) ||
          nrow(series) <= browse_few
        few <- if (show) utils::head(rows, left)
        left <<- left - NROW(few)
        tags$li(
          tags$button(
            type = "button", class = "branch", `data-open` = dataset,
            `aria-expanded` = if (show) "true" else "false",
            rows$heading[1],
            tags$span(class = "count", thousands(counts[[dataset]]))
          ),
          if (NROW(few)) browse_leaves(few, ids),
          if (show && nrow(rows) > NROW(few)) {
            tags$p(
              class = "soft", "and ", thousands(nrow(rows) - NROW(few)),
              " more: search for them"
            )
          }
        )
      }))
    )
  })
  tags$div(
    tags$p(
      class = "soft", role = "status", paste(thousands(nrow(series)), "series")
    ),
    tags$ul(class = "tree", branches)
  )
}

browse_leaves <- function(rows, ids) {
  tags <- shiny::tags
  tags$ul(lapply(seq_len(nrow(rows)), function(i) {
    entry <- rows[i, ]
    name <- if (nzchar(entry$name)) entry$name else entry$key
    tags$li(
      class = "leaf",
      tags$button(
        type = "button", class = "one", `data-series` = entry$id,
        `aria-pressed` = if (entry$id %in% ids) "true" else "false",
        name,
        tags$span(
          class = "span", paste0(
            browse_step(entry$frequency), " ", format(entry$first, "%Y"),
            "\u2013", format(entry$last, "%Y")
          )
        )
      ),
      tags$button(
        type = "button", class = "add", `data-series` = entry$id,
        `aria-label` = paste("Compare:", name),
        if (entry$id %in% ids) "\u2212" else "+"
      )
    )
  }))
}

# The chosen series, each with a button that takes it away, and its facts.
browse_chosen_tags <- function(chosen) {
  tags <- shiny::tags
  if (!nrow(chosen)) {
    return(NULL)
  }
  tags$ul(
    class = "chosen", `aria-label` = "Chosen series",
    lapply(seq_len(nrow(chosen)), function(i) {
      entry <- chosen[i, ]
      tags$li(
        tags$strong(if (nzchar(entry$name)) entry$name else entry$key),
        tags$span(class = "soft", paste0(
          entry$id, ", ", format(entry$first, "%Y-%m-%d"), " to ",
          format(entry$last, "%Y-%m-%d"), ", ", counted(entry$rows, "value")
        )),
        tags$button(
          type = "button", class = "drop", `data-series` = entry$id,
          `aria-label` = paste("Leave out", entry$id), "\u00d7"
        )
      )
    })
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
  } else {
    ""
  }
}
