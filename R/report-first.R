# The first screen of a report: numbers, what needs attention, newest values.

# The newest value of up to a dozen series of a dataset, the change from the
# value before, and the last values for a small line.
report_newest <- function(table, names, heading, zone, most = 12) {
  points <- tryCatch(
    figure_points(table, NULL, names),
    vetusta_error = function(e) NULL
  )
  points <- points[!is.na(points$value), , drop = FALSE]
  if (!NROW(points)) {
    return(NULL)
  }
  shown <- unique(points$name)
  if (length(shown) > most) shown <- utils::head(shown, 3)
  rows <- lapply(shown, function(name) {
    part <- points[points$name == name, , drop = FALSE]
    n <- nrow(part)
    before <- if (n > 1) part$value[n - 1] else NA_real_
    list(
      row = data.frame(
        series = name, time = utc(part$time[n]), value = part$value[n],
        unit = part$unit[n],
        change = if (isTRUE(before != 0)) {
          100 * (part$value[n] / before - 1)
        } else {
          NA_real_
        },
        dataset = heading %||% NA_character_
      ),
      line = utils::tail(part$value, 60)
    )
  })
  out <- do.call(rbind, lapply(rows, `[[`, "row"))
  # bars of a day or longer have a day, and no hour
  interval <- attr(table, "interval", exact = TRUE)
  out$time <- if (is_bars(table) && !is.null(interval) &&
    !is_intraday(interval)) {
    format(local_day(out$time, zone))
  } else {
    report_times(out$time, zone)
  }
  attr(out, "lines") <- lapply(rows, `[[`, "line")
  out
}

# The rows of all datasets, with their lines; at most so many.
report_newest_all <- function(parts, most = 40) {
  parts <- Filter(NROW, parts)
  if (!length(parts)) {
    return(NULL)
  }
  lines <- unlist(lapply(parts, attr, "lines"), recursive = FALSE)
  rows <- do.call(rbind, unname(lapply(parts, as.data.frame)))
  kept <- utils::head(seq_len(nrow(rows)), most)
  names(rows)[names(rows) == "change"] <- "change_percent"
  rows$change_percent <- round(rows$change_percent, 2)
  rows <- rows[kept, c(
    "series", "dataset", "time", "value", "unit", "change_percent"
  )]
  rows <- rows[!vapply(rows, function(x) all(is.na(x)), TRUE)]
  attr(rows, "lines") <- lines[kept]
  rows
}

# What a reader should look at: a row each, with the heading of the table or
# figure that has the details.
report_attention <- function(status, series, drawn, tables, incomplete,
                             findings = NULL) {
  row <- function(what, detail, see) {
    if (length(what)) data.frame(what = what, detail = detail, see = see)
  }
  stale <- status[status[["stale"]] %in% TRUE, ]
  failed <- status[status[["outcome"]] %in% "failed", ]
  recent <- report_recent_gaps(drawn$gaps, series)
  count <- function(name) NROW(tables[[name]])
  jumps <- drawn$jumps
  rows <- rbind(
    if (NROW(stale)) {
      row(
        paste0("stale: ", stale$query),
        ifelse(
          is.na(stale$complete_until), "no window is complete",
          paste0("complete until ", format(stale$complete_until, "%Y-%m-%d"))
        ),
        "Tracked queries"
      )
    },
    if (NROW(failed)) {
      row(
        paste0("failed: ", failed$query),
        ifelse(is.na(failed$message), "", failed$message), "Tracked queries"
      )
    },
    report_findings(findings),
    if (NROW(recent)) {
      row(
        paste0("gap: ", recent$series),
        paste0(
          counted_each(recent$missing, "value"),
          " missing in a gap of the last week: ", recent$reason
        ),
        "Gaps and their reasons"
      )
    },
    if (NROW(jumps)) {
      row(
        paste0("jump: ", jumps$symbol),
        vapply(
          seq_len(nrow(jumps)), function(i) jump_words(jumps[i, ]), ""
        ),
        jumps$figure
      )
    },
    if (incomplete > 0) {
      row(
        paste0("incomplete: ", counted(incomplete, "window")),
        "`vetusta list incomplete` has the reasons", "Series"
      )
    },
    if (count("Failures")) {
      row(
        paste0("failed: ", counted(count("Failures"), "request")),
        utils::tail(tables[["Failures"]]$message, 1), "Failures"
      )
    },
    if (count("Rejected rows")) {
      row(
        paste0("rejected: ", counted(count("Rejected rows"), "row")),
        tables[["Rejected rows"]]$reason[1], "Rejected rows"
      )
    },
    report_large_revisions(tables[["Revisions"]])
  )
  if (NROW(rows)) {
    rows <- utils::head(rows, 30)
    rows[!duplicated(rows), , drop = FALSE]
  }
}

# Findings of the last check that nobody has accepted.
report_findings <- function(findings) {
  open <- findings[findings$state %in% c("new", "still"), ]
  if (NROW(open)) {
    data.frame(
      what = paste0(open$rule, ": ", open$series),
      detail = paste0(
        format(open$first, "%Y-%m-%d"), ": ", open$detail,
        ifelse(open$state == "new", "", " (still)")
      ),
      see = "Findings"
    )
  }
}

counted_each <- function(counts, what) {
  vapply(counts, function(n) counted(n, what), "")
}

# Gaps that reach into the last week of their dataset's values, except those
# without any trade, about which nothing can be done.
report_recent_gaps <- function(gaps, series, days = 7) {
  gaps <- gaps[!gaps$reason %in% "no trade", ]
  if (!NROW(gaps)) {
    return(NULL)
  }
  newest <- tapply(
    as.numeric(series$last), paste0(series$source, "/", series$dataset), max,
    na.rm = TRUE
  )
  gaps <- gaps[
    as.numeric(gaps$last) > newest[gaps$dataset] - days * 86400,
  ]
  if (!nrow(gaps)) {
    return(NULL)
  }
  parts <- split(gaps, paste(gaps$series, gaps$reason))
  out <- do.call(rbind, lapply(parts, function(part) {
    data.frame(
      series = part$series[1], missing = sum(part$missing),
      reason = part$reason[1]
    )
  }))
  out[order(-out$missing), ]
}

# Revisions of more than so many percent of the value.
report_large_revisions <- function(revised, bound = 10) {
  if (!NROW(revised)) {
    return(NULL)
  }
  large <- revised[which(revised$largest_percent > bound), ]
  if (nrow(large)) {
    data.frame(
      what = paste0("revision: ", large$series),
      detail = paste0("by ", large$largest_percent, "% at most"),
      see = "Revisions"
    )
  }
}

# The numbers of the first line.
report_numbers <- function(series, values, drawn, status, incomplete, tables) {
  coverage <- drawn$coverage
  c(
    series = thousands(series),
    values = thousands(values),
    coverage = if (length(coverage) && !all(is.na(coverage))) {
      sprintf("%.1f%%", 100 * mean(coverage, na.rm = TRUE))
    },
    stale = if (NROW(status)) thousands(sum(status$stale, na.rm = TRUE)),
    incomplete = thousands(incomplete),
    rejected = thousands(NROW(tables[["Rejected rows"]])),
    failed = thousands(NROW(tables[["Failures"]]))
  )
}

report_numbers_tags <- function(numbers) {
  tags <- htmltools::tags
  if (length(numbers)) {
    tags$dl(
      class = "numbers",
      Map(
        function(name, value) tags$div(tags$dt(name), tags$dd(value)),
        names(numbers), unname(numbers)
      )
    )
  }
}

# A small line of values as SVG, without axes.
report_spark <- function(values, width = 120, height = 26) {
  if (length(values) < 2) {
    return("")
  }
  range <- range(values)
  x <- seq(1, width - 1, length.out = length(values))
  y <- if (diff(range) > 0) {
    height - 2 - (values - range[1]) / diff(range) * (height - 4)
  } else {
    rep(height / 2, length(values))
  }
  paste0(
    "<svg class=\"spark\" width=\"", width, "\" height=\"", height,
    "\" role=\"img\" aria-label=\"the last ", length(values), " values, from ",
    format(signif(range[1], 5)), " to ", format(signif(range[2], 5)),
    "\"><polyline points=\"",
    paste0(round(x, 1), ",", round(y, 1), collapse = " "), "\"/></svg>"
  )
}
