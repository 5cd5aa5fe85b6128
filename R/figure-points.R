# The data of line figures: points of any kind of series, by name.

# One table or a list of tables as one table: `name`, `time` (seconds), `value`,
# `status`, `rule` (of filled values), `unit`, and `intraday`.
figure_points <- function(x, value = NULL, names = NULL) {
  check_names(names)
  if (!is.null(value)) check_text(value, "value", "figure")
  tables <- if (is.data.frame(x)) list(x) else x
  if (!is.list(tables) ||
    !length(tables) ||
    !all(vapply(tables, is.data.frame, TRUE))) {
    vetusta_stop(
      "figure",
      "This is neither a table of series nor a list of such tables.",
      todo = "give bars, observations, or a result of archive_read()"
    )
  }
  parts <- Filter(
    length, lapply(tables, function(table) points_drawn(table, value))
  )
  all <- if (length(parts)) {
    list_frame(
      as.list(data.table::rbindlist(parts, use.names = TRUE, fill = TRUE))
    )
  }
  if (!NROW(all) || all(is.na(all$value))) {
    vetusta_stop(
      "figure", "There are no values to draw.",
      todo = paste0(
        "check the window; `vetusta list` shows the first and last time ",
        "of each series"
      )
    )
  }
  known <- match(all$name, names(names))
  all$name <- ifelse(is.na(all$title), all$name, all$title)
  all$name <- ifelse(is.na(known), all$name, as.character(names)[known])
  all <- all[order(match(all$name, unique(all$name)), all$time), , drop = FALSE]
  all[setdiff(base::names(all), "title")]
}

# Names to show in place of others.
check_names <- function(names) {
  if (!is.null(names) &&
    (!is.character(names) || (length(names) && is.null(names(names))))) {
    vetusta_stop(
      "figure", "`names` must be texts, named by series.",
      todo = "write them as c(KELD = \"Kelder Lines\")"
    )
  }
}

points_drawn <- function(table, value) {
  if (!nrow(table)) {
    return(NULL)
  }
  series <- if (all(c("symbol", "item", "period_end") %in% names(table))) {
    facts_drawn(table)
  } else {
    as_series(table)
  }
  # a figure may sort its rows without a note
  series <- without_notes(series_table(series))
  column <- value_asked(series, value) %||% value_column(series)
  if (!column %in% names(series) || !is.numeric(series[[column]])) {
    check_choice(
      column, "value",
      names(series)[vapply(as.list(series), is.numeric, TRUE)], "figure"
    )
  }
  series <- series_latest_rows(series)
  n <- nrow(series)
  list_frame(
    list(
      name = series_of_rows(series),
      time = start_times(series),
      value = as.double(series[[column]]),
      status = as.character(series[["status"]] %||% rep("observed", n)),
      rule = as.character(
        series[["fill_rule"]] %||% series[["rule"]] %||% rep(NA, n)
      ),
      unit = units_of(series, column),
      title = titles_of(series),
      intraday = rep(is_bars(series) && is_within_days(start_times(series)), n)
    )
  )
}

# A company's items as observations at the ends of their periods.
facts_drawn <- function(facts) {
  name <- paste(facts$symbol, facts$item)
  without_shape(
    as_rows(
      list(
        series = name,
        period = facts$period_end,
        value = facts$value,
        unit = facts[["unit"]] %||% rep(NA_character_, nrow(facts))
      )
    )
  ) |>
    duplicates_out() |>
    series_frame()
}

duplicates_out <- function(rows) {
  rows[
    !duplicated(list_frame(list(rows$series, rows$period)), fromLast = TRUE), ,
    drop = FALSE
  ]
}

figure_window <- function(time, zone) {
  day <- function(instant) trimws(format(utc(instant), "%e %B %Y", tz = zone))
  range <- range(time)
  if (day(range[1]) == day(range[2])) {
    day(range[1])
  } else {
    paste(day(range[1]), "to", day(range[2]))
  }
}

# A few names, and the number of the others.
figure_title <- function(names, most = 5) {
  names <- short_names(unique(names))
  # as many as fit in one line
  most <- max(1, min(most, sum(cumsum(nchar(names) + 2) <= 70)))
  paste0(
    paste(utils::head(names, most), collapse = ", "),
    if (length(names) > most) {
      paste0(" and ", thousands(length(names) - most), " more")
    }
  )
}

# Positions on the time axis: consecutive where bars lie within the day, so that
# nights and closed days take no room; otherwise proportional to time.
figure_axis <- function(time, zone, side_by_side, most = 12) {
  if (side_by_side) {
    return(time_axis(time, zone, most))
  }
  range <- range(time)
  if (range[1] == range[2]) range <- range + c(-1, 1) * 43200
  span <- diff(range)
  breaks <- pretty(utc(range), n = min(most, 8))
  breaks <- as.numeric(
    breaks
  )[as.numeric(breaks) >= range[1] & as.numeric(breaks) <= range[2]]
  form <- if (span > 1100 * 86400) {
    "%Y"
  } else if (span > 60 * 86400) {
    "%b %Y"
  } else if (span > 2 * 86400) {
    "%e %b"
  } else {
    "%H:%M"
  }
  labels <- trimws(format(utc(breaks), form, tz = zone))
  list(
    position = time,
    breaks = breaks[!duplicated(labels)],
    labels = unique(labels),
    zone = zone
  )
}

# Positions 1, 2, 3, ... for the times that occur, with labels where a day,
# month or year begins.
time_axis <- function(time, zone, most = 12) {
  times <- sort(unique(as.numeric(time)))
  days <- local_day(utc(times), zone)
  spanned <- as.numeric(max(days) - min(days))
  mark <- if (spanned <= 45) {
    days
  } else if (spanned <= 1100) {
    format(days, "%Y-%m")
  } else {
    format(days, "%Y")
  }
  starts <- which(!duplicated(mark))
  if (spanned == 0) {
    starts <- unique(
      round(seq(1, length(times), length.out = min(8, length(times))))
    )
  }
  if (length(starts) > most) {
    starts <- starts[
      seq(1, length(starts), by = ceiling(length(starts) / most))
    ]
  }
  labels <- if (spanned == 0) {
    format(utc(times[starts]), "%H:%M", tz = zone)
  } else if (spanned <= 45) {
    trimws(format(days[starts], "%e %b"))
  } else if (spanned <= 1100) {
    format(days[starts], "%b %Y")
  } else {
    format(days[starts], "%Y")
  }
  list(
    position = match(as.numeric(time), times),
    breaks = starts,
    labels = labels,
    times = times,
    zone = zone
  )
}

# The scale of an axis of times; what its positions mean goes with it, for
# interactive figures.
axis_scale <- function(axis) {
  scale <- ggplot2::scale_x_continuous(
    breaks = axis$breaks,
    labels = axis$labels,
    expand = ggplot2::expansion(mult = c(0.02, 0.02)),
    # in a small figure labels that would touch are left out
    guide = ggplot2::guide_axis(check.overlap = TRUE)
  )
  scale$positions_of <- axis$times %||% "time"
  scale$zone <- axis$zone
  scale
}

# Moves labels apart until none overlap, in their order.
spread_labels <- function(at, least) {
  order <- order(at)
  placed <- at[order]
  for (i in seq_along(placed)[-1]) {
    placed[i] <- max(placed[i], placed[i - 1] + least)
  }
  placed <- placed - mean(placed - at[order])
  placed[order(order)]
}
