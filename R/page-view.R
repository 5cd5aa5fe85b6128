# What the page shows of the chosen series: tables, figures, lines to copy.

# list(tables, names, heading, zone, calendar): the chosen series as known, in
# their window, resampled and filled as wanted.
browse_read <- function(place, chosen, wanted) {
  source <- chosen$source[1]
  zone <- browse_zone(place, source)
  calendar <- browse_calendar(place, source)
  archive <- place$reader()
  longer <- if (nzchar(wanted$resample)) {
    list(
      interval = wanted$resample, calendar = calendar,
      session = if (!is.null(calendar)) main_session(calendar), zone = zone,
      need = 0
    )
  }
  tables <- without_notes(
    archive_read(
      archive, chosen$id, given_choice(wanted$from), given_choice(wanted$to),
      as_of = given_choice(wanted$as_of), zone = zone, resample = longer
    )
  )
  if (!length(tables) || !sum(vapply(tables, NROW, 1L))) {
    vetusta_stop(
      "figure", "No values in this window.",
      todo = paste0(
        "choose other days; above the figure are the first and last day of ",
        "each series"
      )
    )
  }
  stored <- tables
  if (nzchar(wanted$repair)) {
    tables <- lapply(
      tables, browse_repaired, place, source, zone, wanted$repair
    )
  }
  repaired <- unique(unlist(lapply(tables, attr, "repaired")))
  if (nzchar(wanted$fill)) {
    tables <- lapply(tables, browse_filled, place, calendar, wanted$fill)
  }
  list(
    tables = lapply(tables, archive_unit_labels, archive = archive),
    stored = stored,
    repaired = repaired,
    names = c(
      archive_drawn_names(archive, tables, unique(chosen$source)),
      stats::setNames(chosen$name, chosen$key)[nzchar(chosen$name)]
    ),
    heading = archive_heading(archive, tables), zone = zone,
    calendar = calendar
  )
}

browse_filled <- function(table, place, calendar, rule) {
  calendar <- if (is_bars(table)) calendar
  without_notes(
    series_fill(
      table, calendar, rule,
      interval = attr(table, "interval", exact = TRUE)
    )
  )
}

# What repair and filling did: how many values of which series, and what stays
# open.
browse_effect <- function(read, wanted) {
  if (inherits(read, "condition")) {
    return(NULL)
  }
  if (!nzchar(wanted$fill)) {
    return(if (length(read$repaired)) {
      shiny::tags$p(
        class = "effect", role = "status",
        paste0(paste(read$repaired, collapse = "; "), ". Nothing is stored.")
      )
    })
  }
  filled <- sum(vapply(read$tables, function(table) {
    sum(table$status %in% "filled")
  }, 0))
  left <- do.call(rbind, unname(lapply(read$tables, attr, "left")))
  shiny::tags$p(
    class = "effect", role = "status",
    paste0(
      if (length(read$repaired)) {
        paste0(paste(read$repaired, collapse = "; "), "; ")
      },
      counted(filled, "value"), " filled by the rule ", wanted$fill,
      if (NROW(left)) {
        paste0(
          "; ", counted(nrow(left), "gap"), " stay open: ",
          paste(unique(left$reason), collapse = ", ")
        )
      },
      ". Nothing is stored."
    )
  )
}

# Charts of the chosen series by kind.
browse_draw <- list(
  lines = function(read, wanted, chosen, place, panels = "none") {
    figure_lines(
      read$tables,
      panels = panels, zone = read$zone, names = read$names,
      heading = read$heading, log_scale = wanted$log,
      base = given_choice(wanted$base), over = given_choice(wanted$over)
    )
  },
  panels = function(read, wanted, chosen, place) {
    browse_draw$lines(read, wanted, chosen, place, panels = "free")
  },
  candles = function(read, wanted, chosen, place) {
    if (!all(vapply(read$tables, is_bars, TRUE))) {
      vetusta_stop(
        "figure", "Candles are drawn of bars.",
        todo = "draw the other series as lines"
      )
    }
    figure_candles(
      cli_joined_bars(read$tables),
      zone = read$zone, calendar = read$calendar, names = read$names,
      most = 600
    )
  },
  gaps = function(read, wanted, chosen, place) {
    figure_gaps(
      read$tables, read$calendar,
      zone = read$zone, names = read$names
    )
  },
  season = function(read, wanted, chosen, place) {
    figure_season(
      read$tables,
      zone = read$zone, names = read$names, heading = read$heading
    )
  },
  spread = function(read, wanted, chosen, place) {
    figure_spread(read$tables, zone = read$zone, names = read$names)
  },
  correlation = function(read, wanted, chosen, place) {
    figure_correlation(
      do.call(
        series_correlation,
        c(unname(read$tables), list(zone = read$zone))
      )
    )
  },
  revisions = function(read, wanted, chosen, place) {
    figure_revisions(
      archive_revisions(place$reader(), chosen$id, all = TRUE),
      names = read$names, heading = read$heading, zone = read$zone
    )
  }
)

# Candles for one series of bars as stored, lines for all else.
browse_kind <- function(read, wanted) {
  chosen <- setdiff(wanted$kind, c("", "auto"))
  if (length(chosen)) {
    return(chosen)
  }
  plain <- !nzchar(wanted$base) && !nzchar(wanted$over) && !wanted$log
  one <- length(read$tables) == 1 && is_bars(read$tables[[1]]) &&
    length(unique(series_names_of(read$tables[[1]]))) == 1
  if (one && plain) "candles" else "lines"
}

browse_figure <- function(place, chosen, read, wanted) {
  draw <- browse_draw[[browse_kind(read, wanted)]] %||% browse_draw$lines
  figure <- without_notes(draw(read, wanted, chosen, place))
  figure$labels$caption <- captions(
    figure$labels$caption, browse_origin(chosen, read$zone)
  ) |> paste(collapse = "\n")
  figure
}

# The sources of the chosen series, and their newest value.
browse_origin <- function(chosen, zone) {
  last <- max(chosen$last, na.rm = TRUE)
  paste0(
    "source: ", paste(unique(chosen$source), collapse = ", "),
    "; last value ", format(last, "%Y-%m-%d", tz = zone)
  )
}

# The values, the newest first, with their status, `known` and source.
browse_values <- function(read) {
  read <- browse_some(read)
  parts <- lapply(unname(read$tables), function(table) {
    series <- as_series(table)
    facts <- frame_facts(series)
    rows <- as.data.frame(series)
    source <- attr(table, "source", exact = TRUE)
    if (tells_ends(series)) {
      ends <- end_times(series, facts)
      rows$known <- utc(row_times(series, ends, facts)$known)
    }
    if (length(source) == 1) rows$source <- source
    rows[rev(seq_len(nrow(rows))), , drop = FALSE]
  })
  as.data.frame(data.table::rbindlist(parts, use.names = TRUE, fill = TRUE))
}

browse_gaps <- function(place, chosen, read) {
  parts <- lapply(unname(read$stored), function(table) {
    calendar <- if (is_bars(table)) read$calendar
    gaps <- as.data.frame(without_notes(
      series_gaps(
        table, calendar, attr(table, "interval", exact = TRUE),
        session = if (!is.null(calendar)) main_session(calendar)
      )
    ))
    if (nrow(gaps)) {
      data.frame(
        series = gaps[["symbol"]] %||% gaps[["series"]], first = gaps$first,
        last = gaps$last, missing = gaps$missing, reason = gaps$reason
      )
    }
  })
  rows <- do.call(rbind, parts)
  if (NROW(rows)) rows[order(-rows$missing, rows$first), , drop = FALSE]
}

# Revised values of the chosen series, release by release.
browse_versions <- function(place, chosen) {
  rows <- as.data.frame(
    archive_revisions(place$reader(), chosen$id, all = TRUE)
  )
  key <- paste(rows[[1]], as.numeric(rows[[2]]))
  rows <- rows[key %in% key[duplicated(key)], , drop = FALSE]
  if (nrow(rows)) rows
}

# The requests for the chosen series, the newest first.
browse_requests <- function(place, chosen) {
  journal <- as.data.frame(archive_journal(place$reader()))
  symbol <- sub(":.*", "", chosen$key)
  place_of <- paste(journal$source, journal$dataset)
  matching <- place_of %in% paste(chosen$source, chosen$dataset)
  of_it <- journal$symbol %in% c(NA, "", symbol, chosen$key)
  # where the journal has no symbols, all requests of the dataset are shown
  if (any(matching & of_it)) matching <- matching & of_it
  rows <- journal[
    matching,
    intersect(
      c("asked", "symbol", "status", "rows", "bytes", "outcome", "message"),
      names(journal)
    )
  ]
  if (nrow(rows)) rows[rev(seq_len(nrow(rows))), , drop = FALSE]
}

browse_table_tags <- function(rows, name, zone) {
  few <- utils::head(rows, 1000)
  left <- nrow(rows) - nrow(few)
  shiny::tagList(
    report_table(few, name, zone),
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

# The same choice on the command line and in R.
browse_lines <- function(place, chosen, wanted) {
  text <- function(x) encodeString(x, quote = "\"")
  has <- function(name) nzchar(wanted[[name]])
  bounds <- c(
    if (has("from")) paste0("from = ", text(wanted$from)),
    if (has("to")) paste0("to = ", text(wanted$to)),
    if (has("as_of")) paste0("as_of = ", text(wanted$as_of))
  )
  window <- c(
    if (has("from")) paste("--from", wanted$from),
    if (has("to")) paste("--to", wanted$to),
    if (has("resample")) paste("--resample", shQuote(wanted$resample)),
    if (has("as_of")) paste("--as-of", wanted$as_of)
  )
  kind <- switch(wanted$kind, auto = NULL, panels = "lines", wanted$kind)
  drawn <- c(
    switch(wanted$kind, panels = "--panels free"),
    if (has("base")) paste("--base", wanted$base),
    if (has("over")) paste("--over", shQuote(wanted$over)),
    if (wanted$log) "--log-scale"
  )
  if (length(drawn) && is.null(kind)) kind <- "lines"
  ids <- paste(vapply(chosen$id, shQuote, ""), collapse = " ")
  options <- c(window, place$command)
  read <- paste0(
    "tables <- archive_read(archive_open(", text(place$path), "), ",
    paste(c(
      if (nrow(chosen) == 1) {
        text(chosen$id)
      } else {
        paste0("c(", paste(vapply(chosen$id, text, ""), collapse = ", "), ")")
      },
      bounds
    ), collapse = ", "), ")"
  )
  list(
    "IDs" = paste(chosen$id, collapse = "\n"),
    "Values, in R" = paste(c(
      read,
      if (has("fill")) {
        paste0(
          "tables <- lapply(tables, series_fill, rule = \"", wanted$fill, "\")"
        )
      }
    ), collapse = "\n"),
    "Values, on the command line" = paste(
      c("vetusta export", ids, options), collapse = " "
    ),
    "Figure, on the command line" = paste(
      c("vetusta figure", kind, ids, drawn, options), collapse = " "
    ),
    "Adjusted, on the command line" = if (wanted$repair %in%
      c("splits", "all")) {
      paste(
        c("vetusta adjust", ids, "--of", wanted$repair, options),
        collapse = " "
      )
    },
    "Traced, on the command line" = paste(
      c(
        "vetusta trace", shQuote(chosen$id[1]), "--at",
        if (has("day")) {
          wanted$day
        } else {
          format_instant(utc(as.numeric(chosen$last[1])))
        },
        place$command
      ),
      collapse = " "
    ),
    "Filled, on the command line" = if (has("fill")) {
      paste(
        c("vetusta fill", ids, "--rule", wanted$fill, options),
        collapse = " "
      )
    }
  )
}

browse_copies <- function(lines) {
  tags <- shiny::tags
  lines <- Filter(length, lines)
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
