# The side bar of the page: sources, their datasets, and the series in words.

# What the archive has, read again when it changes.
browse_kept <- function(place, name, read) {
  sign <- place$changed()
  if (!identical(place$memory[[name]]$sign, sign)) {
    place$memory[[name]] <- list(sign = sign, value = read())
  }
  place$memory[[name]]$value
}

# The datasets of series with their headings; no rows where the archive is gone.
browse_datasets <- function(place) {
  browse_kept(place, "datasets", function() {
    tryCatch(
      {
        archive <- place$reader()
        datasets <- store_series_datasets(archive)
        datasets$heading <- vapply(seq_len(nrow(datasets)), function(i) {
          dataset_words(archive, datasets$source[i], datasets$dataset[i])
        }, "")
        datasets
      },
      vetusta_error = function(e) {
        structure(
          data.frame(
            source = character(), dataset = character(), shape = character(),
            series = integer(), rows = numeric(), heading = character()
          ),
          trouble = e
        )
      }
    )
  })
}

# All series with the text that a search looks at. Only a search reads them all.
browse_series <- function(place) {
  browse_kept(place, "series", function() {
    series <- browse_named(place, archive_series(place$reader()))
    series$text <- tolower(paste(series$id, series$name, series$heading))
    series
  })
}

# The first series of a dataset.
browse_first <- function(place, source, dataset, most, frequency = NULL) {
  browse_named(
    place, archive_first(place$reader(), source, dataset, most, frequency)
  )
}

# The series of these IDs; those that are not there are left out.
browse_chosen <- function(place, ids) {
  # the tree and the heading tell of an archive that is gone
  parts <- lapply(ids, function(id) {
    rows <- tryCatch(
      archive_named(place$reader(), id), vetusta_error = function(e) NULL
    )
    rows[rows$id %in% id, , drop = FALSE]
  })
  parts <- lapply(Filter(NROW, parts), as.data.frame)
  if (length(parts)) browse_named(place, do.call(rbind, parts))
}

# Series with their names and the headings of their datasets.
browse_named <- function(place, series) {
  series <- as.data.frame(series)
  series$name <- ifelse(is.na(series$title), "", series$title)
  datasets <- browse_datasets(place)
  series$heading <- datasets$heading[
    match(
      paste(series$source, series$dataset, sep = "/"),
      paste(datasets$source, datasets$dataset, sep = "/")
    )
  ]
  series
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

browse_about <- function(place) {
  datasets <- browse_datasets(place)
  trouble <- attr(datasets, "trouble")
  if (!is.null(trouble)) {
    return(browse_trouble(trouble))
  }
  shiny::tags$p(
    class = "soft",
    paste0(
      thousands(sum(datasets$series)), " series, ",
      counted(sum(datasets$rows), "value"), "; ", archive_label(place$path),
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

browse_tree <- function(place, search, open, ids) {
  tags <- shiny::tags
  searching <- nzchar(trimws(search %||% ""))
  if (searching) {
    series <- browse_matching(browse_series(place), search)
    datasets <- browse_counted(series)
  } else {
    datasets <- browse_datasets(place)
  }
  if (!nrow(datasets)) {
    return(tags$p(class = "soft", role = "status", "no series is like that"))
  }
  total <- sum(datasets$series)
  left <- browse_most
  branch <- function(entry) {
    name <- paste0(entry$source, "/", entry$dataset)
    show <- searching || identical(open, name) || total <= browse_few
    few <- if (show && searching) {
      here <- series$source == entry$source & series$dataset == entry$dataset
      utils::head(series[here, , drop = FALSE], left)
    } else if (show) {
      browse_first(place, entry$source, entry$dataset, left)
    }
    left <<- left - NROW(few)
    tags$li(
      tags$button(
        type = "button", class = "branch", `data-open` = name,
        `aria-expanded` = if (show) "true" else "false",
        entry$heading,
        tags$span(class = "count", thousands(entry$series))
      ),
      if (NROW(few)) browse_leaves(few, ids),
      if (show && entry$series > NROW(few)) {
        tags$p(
          class = "soft", "and ", thousands(entry$series - NROW(few)),
          " more: search for them"
        )
      }
    )
  }
  branches <- lapply(unique(datasets$source), function(source) {
    rows <- which(datasets$source == source)
    tags$li(
      tags$span(class = "source", source),
      tags$ul(lapply(rows, function(i) branch(datasets[i, ])))
    )
  })
  tags$div(
    tags$p(
      class = "soft", role = "status", paste(thousands(total), "series")
    ),
    tags$ul(class = "tree", branches)
  )
}

# The datasets of some series, with how many of them each has.
browse_counted <- function(series) {
  name <- paste(series$source, series$dataset, sep = "/")
  first <- which(!duplicated(name))
  datasets <- series[first, c("source", "dataset", "heading")]
  datasets$series <- tabulate(match(name, name[first]), length(first))
  datasets
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
  if (!NROW(chosen)) {
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
