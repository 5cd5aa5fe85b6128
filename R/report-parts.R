# Parts of a report: coverage, gaps, revisions, failures.

report_summary <- function(archive, series, drawn) {
  if (!nrow(series)) {
    return("The archive has no series.")
  }
  missing <- sum(drawn$gaps$missing)
  c(
    paste0(
      thousands(nrow(series)), " series with ", thousands(sum(series$rows)),
      " values, from ", format(min(series$first, na.rm = TRUE), "%Y-%m-%d"),
      " to ", format(max(series$last, na.rm = TRUE), "%Y-%m-%d"), "."
    ),
    if (missing > 0) {
      paste0(thousands(missing), " expected values are missing.")
    },
    if (drawn$passed > 0) {
      paste0(
        thousands(drawn$passed), " series of datasets that have more than ",
        report_most, " are listed without figures."
      )
    }
  )
}

# Datasets with more series are summarised, not drawn series by series.
report_most <- 200

# list(gaps, coverage, figures): series are read once, dataset by dataset.
report_series <- function(archive, series, wanted) {
  place <- paste(series$source, series$dataset, series$frequency, sep = "/")
  groups <- split(seq_len(nrow(series)), match(place, unique(place)))
  wanted$many <- length(groups) > report_many
  wanted$points <- min(
    report_limits[["figure"]], report_limits[["all"]] / max(1, length(groups))
  )
  parts <- lapply(
    groups, function(rows) report_group(archive, series[rows, ], wanted)
  )
  names(
    parts
  ) <- vapply(groups, function(rows) report_name(series[rows[1], ]), "")
  figures <- unlist(unname(lapply(parts, `[[`, "figures")), recursive = FALSE)
  jumps <- lapply(names(parts), function(name) {
    jumps <- as.data.frame(parts[[name]]$jumps)
    if (nrow(jumps)) cbind(jumps, figure = name)
  })
  passed <- lengths(groups)[lengths(groups) > report_most]
  list(
    gaps = do.call(rbind, unname(lapply(parts, `[[`, "gaps"))),
    coverage = unlist(unname(lapply(parts, `[[`, "coverage"))),
    figures = figures,
    newest = report_newest_all(lapply(parts, `[[`, "newest")),
    jumps = do.call(rbind, jumps),
    passed = sum(passed)
  )
}

report_name <- function(entry) {
  interval <- tryCatch(
    paste0(", ", format(time_interval(entry$frequency))),
    vetusta_error = function(e) ""
  )
  paste0(entry$source, " ", entry$dataset, interval)
}

# One dataset, with at most as many series as a figure shows.
report_group <- function(archive, series, wanted) {
  drawable <- c(
    "bars", "observations"
  )[match(series$shape[1], c("bars", "observations"))]
  if (is.na(drawable) || nrow(series) > report_most) {
    return(NULL)
  }
  tables <- tryCatch(
    archive_read(
      archive, series$id, wanted$from, wanted$to,
      zone = wanted$zone
    ),
    vetusta_error_argument = function(e) NULL
  )
  if (!length(tables) || !nrow(tables[[1]])) {
    return(NULL)
  }
  table <- archive_unit_labels(tables[[1]], archive)
  wanted$heading <- archive_heading(archive, list(table))
  title <- wanted$titles[series$source[1]]
  wanted$caption <- paste0(
    "source: ", if (isTRUE(!is.na(title))) title else series$source[1],
    "; last value ",
    format(max(series$last, na.rm = TRUE), "%Y-%m-%d", tz = wanted$zone)
  )
  calendar <- wanted$calendars[[series$source[1]]]
  gaps <- tryCatch(
    without_notes(
      series_gaps(
        table,
        calendar,
        attr(table, "interval"),
        session = if (!is.null(calendar)) main_session(calendar)
      )
    ),
    vetusta_error = function(e) NULL
  )
  summary <- attr(gaps, "summary")
  key <- c("symbol", "series")[c("symbol", "series") %in% names(summary)][1]
  list(
    gaps = report_gaps(gaps, series),
    coverage = stats::setNames(
      summary$coverage,
      paste(
        series$source[1], series$dataset[1], summary[[key]], series$frequency[1]
      )
    ),
    figures = report_drawn(table, series, calendar, wanted, gaps),
    newest = report_newest(table, wanted$names, wanted$heading[1], wanted$zone),
    jumps = if (is_bars(table)) {
      candle_jumps(table, attr(table, "interval", exact = TRUE), wanted$zone)
    }
  )
}

report_gaps <- function(gaps, series) {
  if (!NROW(gaps)) {
    return(NULL)
  }
  gaps <- as.data.frame(gaps)
  data.frame(
    dataset = rep(paste0(series$source[1], "/", series$dataset[1]), nrow(gaps)),
    series = gaps[["symbol"]] %||% gaps[["series"]],
    first = gaps$first,
    last = gaps$last,
    missing = as.numeric(gaps$missing),
    reason = gaps$reason
  )
}

# Gaps of periods with their days.
report_gap_times <- function(gaps, zone) {
  if (NROW(gaps)) {
    for (name in c("first", "last")) {
      gaps[[name]] <- report_times(gaps[[name]], zone)
    }
  }
  gaps
}

# The number of points of one figure and of all, which keeps a report small.
report_limits <- c(figure = 9000, all = 3e4)

# With more datasets each has its lines, thinned, and no calendar.
report_many <- 12

# A few series have a panel each, one series of bars has candles; many are
# unnamed lines.
report_drawn <- function(table, group, calendar, wanted, gaps) {
  name <- report_name(group[1, ])
  series <- length(unique(series_of_rows(as_series(table))))
  draw <- function(work) {
    tryCatch(without_notes(work), vetusta_error = function(e) NULL)
  }
  few <- series <= 12 && !wanted$many
  lines <- draw(
    figure_lines(
      table,
      panels = if (series > 1 && series <= 12) "free" else "none",
      zone = wanted$zone,
      names = wanted$names,
      columns = if (few) max(150, floor(wanted$points / 4 / series)) else 150,
      heading = wanted$heading, caption = wanted$caption
    )
  )
  candles <- if (is_bars(table) && series <= 2) {
    draw(
      figure_candles(
        table,
        zone = wanted$zone, calendar = calendar, names = wanted$names,
        caption = wanted$caption, most = 400
      )
    )
  }
  gaps <- if (series <= 4 && !wanted$many) {
    draw(
      figure_gaps(
        table, calendar,
        zone = wanted$zone, names = wanted$names, gaps = gaps,
        caption = wanted$caption
      )
    )
  }
  figures <- list(lines, candles, gaps)
  names(figures) <- paste0(name, c("", ": candles", ": coverage"))
  Filter(length, figures)
}

report_status <- function(status) {
  if (is.null(status)) {
    return(NULL)
  }
  rows <- as.data.frame(status)
  rows$stale <- ifelse(rows$stale, "stale", "current")
  rows[
    intersect(
      c(
        "query", "source", "series", "coverage", "from", "complete_until",
        "last", "stale", "refreshed", "outcome", "message"
      ),
      names(rows)
    )
  ]
}

# Days as dates, instants with their hour.
report_times <- function(time, zone) {
  whole <- as.numeric(time) %% 86400 == 0
  ifelse(
    whole, format(time, "%Y-%m-%d", tz = "UTC"),
    format(time, "%Y-%m-%d %H:%M", tz = zone)
  )
}

report_coverage_table <- function(series, coverage, zone) {
  key <- paste(series$source, series$dataset, series$key, series$frequency)
  rows <- as.data.frame(series)[c("source", "id", "rows", "first", "last")]
  rows$coverage <- as.numeric(
    coverage[match(key, names(coverage))] %||% rep(NA, nrow(rows))
  )
  # a bar of a day or longer is its trading day
  days <- series$id %in% datasets_of_shape(series, "bars")$id &
    !grepl("^PT", series$frequency)
  for (name in c("first", "last")) {
    rows[[name]] <- ifelse(
      days, format(local_day(rows[[name]], zone)),
      report_times(rows[[name]], zone)
    )
  }
  rows[c("source", "id", "rows", "coverage", "first", "last")]
}

# Series with revised values.
report_revised <- function(archive, series) {
  datasets <- datasets_of_shape(series, "observations")
  if (!nrow(datasets) || nrow(datasets) > 500) {
    return(NULL)
  }
  rows <- tryCatch(
    archive_revisions(archive, datasets$id),
    vetusta_error = function(e) NULL
  )
  summary <- attr(rows, "summary")
  if (!NROW(summary)) {
    return(NULL)
  }
  share <- abs(rows$revision / rows$first)
  largest <- tapply(
    ifelse(is.finite(share), share, NA), factor(rows$series, summary$series),
    function(x) if (all(is.na(x))) NA_real_ else max(x, na.rm = TRUE)
  )
  summary$largest_percent <- round(100 * as.numeric(largest), 2)
  summary <- summary[summary$revised > 0, ]
  if (NROW(summary)) summary
}

report_documents <- function(archive) {
  datasets <- archive_datasets(archive)
  datasets <- datasets_of_shape(datasets, "documents")
  parts <- lapply(seq_len(nrow(datasets)), function(i) {
    rows <- as.data.frame(
      archive_rows(archive, datasets$source[i], datasets$dataset[i])
    )
    rows[intersect(c("symbol", "kind", "filed", "title", "link"), names(rows))]
  })
  if (length(parts)) {
    as.data.frame(data.table::rbindlist(parts, use.names = TRUE, fill = TRUE))
  }
}

# Where values come from: the requests of each dataset and symbol, and the URL
# of the newest.
report_requests <- function(archive, series) {
  journal <- as.data.frame(archive_journal(archive))
  place <- paste(journal$source, journal$dataset)
  journal <- journal[
    place %in% paste(series$source, series$dataset) &
      journal$outcome %in% "stored",
  ]
  if (!nrow(journal)) {
    return(NULL)
  }
  symbol <- ifelse(is.na(journal$symbol), "", journal$symbol)
  parts <- split(
    journal, paste(journal$source, journal$dataset, symbol, sep = "\r")
  )
  parts <- utils::head(parts, 2000)
  rows <- lapply(unname(parts), function(part) {
    newest <- part[nrow(part), ]
    data.frame(
      source = newest$source, dataset = newest$dataset,
      symbol = newest$symbol, requests = nrow(part),
      rows = sum(part$rows, na.rm = TRUE), first = part$asked[1],
      last = newest$asked, url = newest[["url"]] %||% NA_character_
    )
  })
  do.call(rbind, rows)
}

# The newest failed requests.
report_failed <- function(archive) {
  journal <- as.data.frame(archive_journal(archive))
  rows <- journal[
    !journal$outcome %in% c("stored", "asked", "retried", "end", "cut"),
  ]
  rows <- utils::tail(rows, 200)
  rows[
    intersect(
      c("asked", "source", "dataset", "symbol", "outcome", "message"),
      names(rows)
    )
  ]
}

report_rejected <- function(archive) {
  rows <- as.data.frame(archive_rejected(archive))
  utils::tail(
    rows[
      intersect(
        c("found", "symbol", "time", "place", "reason", "detail"), names(rows)
      )
    ],
    200
  )
}

#' @export
print.vetusta_report <- function(x, ...) {
  cat(format(x), sep = "\n")
  invisible(x)
}

# The short text, for mail or a terminal of 80 columns.
#' @export
format.vetusta_report <- function(x, ...) {
  long <- c("Documents", "Rejected rows", "Requests")
  short <- x$tables[setdiff(names(x$tables), long)]
  c(
    x$title, strrep("=", nchar(x$title)), "", x$summary,
    paste0("Made ", format_instant(x$made), "; times in ", x$zone, "."),
    unlist(lapply(names(short), function(name) {
      rows <- as.data.frame(utils::head(short[[name]], 20))
      rows <- rows[!vapply(rows, function(column) all(is.na(column)), TRUE)]
      for (column in names(rows)) {
        if (inherits(rows[[column]], "POSIXct")) {
          rows[[column]] <-
            format(rows[[column]], "%Y-%m-%d %H:%M", tz = x$zone)
        }
        if (column == "coverage" && is.numeric(rows[[column]])) {
          share <- rows[[column]]
          rows[[column]] <- ifelse(
            is.na(share), "", sprintf("%.1f%%", 100 * share)
          )
        }
        if (is.character(rows[[column]])) {
          rows[[column]] <- short_names(rows[[column]], 34)
        }
      }
      left <- nrow(short[[name]]) - nrow(rows)
      c(
        "", name, strrep("-", nchar(name)), text_table(rows, 80),
        if (left > 0) paste("and", thousands(left), "more")
      )
    }))
  )
}
