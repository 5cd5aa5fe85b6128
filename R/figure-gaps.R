# Coverage figures: a calendar of one or several series, filled beside observed
# values, and all series of an archive over time.

gap_states <- c("present", "partly", "filled", "provisional", "missing")

#' Draw coverage and gaps
#'
#' `figure_gaps()` shows a cell per day (for values of months and longer: per
#' month), coloured by its coverage: several series, and up to two months of
#' one, as strips, a longer series as a calendar. `figure_filled()` draws lines
#' on which filled values have marks, a shape per rule. `figure_coverage()`
#' shows the time span of each stored series.
#'
#' @param x A table of bars, observations or points, or a list of tables, as
#'   returned by [archive_read()].
#' @param calendar The calendar of expected days; by default every day.
#' @param gaps Gaps with reasons, as returned by [series_gaps()]: cells without
#'   a value then show the reason.
#' @param title,subtitle,caption,zone,names,dark As in [figure_lines()].
#' @return A ggplot object. The data of `figure_gaps()` are the cells: `name`,
#'   `day` (`Date`), `state` (`present`, `partly`: less than 95% of a day's
#'   values; `filled`, `provisional`, `missing`, or `missing: ` and the reason;
#'   days without expected values have no cell).
#' @section Errors: `vetusta_error_figure` if there is nothing to draw.
#' @export
#' @examples
#' level <- data.frame(
#'   series = "kelder-lock", period = as.Date("2026-01-01") + c(0:40, 45:89),
#'   value = 1
#' )
#' figure_gaps(level)
figure_gaps <- function(x, calendar = NULL, title = NULL, subtitle = NULL,
                        caption = NULL, zone = "UTC", names = NULL,
                        dark = FALSE, gaps = NULL) {
  asked <- lineage_asked()
  check_zone(zone, "figure")
  check_flag(dark, "dark")
  check_calendar(calendar)
  points <- figure_points(given(x, "x", "figure"), NULL, names)
  cells <- do.call(
    rbind,
    lapply(
      split(points, match(points$name, unique(points$name))), gap_cells,
      calendar = calendar, zone = zone
    )
  )
  rownames(cells) <- NULL
  if (!is.null(gaps)) {
    cells$state <- states_with_reasons(cells, gaps, names, zone)
  }
  cells$name <- factor(cells$name, unique(points$name))
  strips <- gap_in_strips(cells)
  cells <- if (strips) gap_strips(cells) else gap_places(cells)
  page <- page_colours[[shade_name(dark)]]
  lines <- line_colours[[shade_name(dark)]]
  fill <- c(
    present = lines[1], partly = lines[5], filled = lines[6],
    provisional = lines[4], missing = lines[2]
  )
  why <- setdiff(cells$state, gap_states)
  fill <- c(
    fill,
    stats::setNames(
      rep(c(lines[3], lines[7], page$quiet), length.out = length(why)), why
    )
  )
  cells$state <- factor(cells$state, c(gap_states, why))
  count <- table(cells$state)
  plot <- ggplot2::ggplot(
    cells, ggplot2::aes(x = .data$column, y = .data$line, fill = .data$state)
  ) +
    gap_tiles(cells, strips, page) +
    (if (strips) strip_marks(cells)) +
    ggplot2::scale_fill_manual(values = fill, drop = TRUE) +
    attr(cells, "scale") +
    ggplot2::scale_y_discrete(
      limits = rev, labels = function(x) short_names(x, 34)
    )
  if (nlevels(cells$name) > 1 && !strips) {
    plot <- plot +
      ggplot2::facet_wrap(
        ggplot2::vars(.data$name),
        scales = "free_y",
        labeller = ggplot2::labeller(.default = short_names)
      )
  }
  said <- paste(
    paste(thousands(as.integer(count[count > 0])), names(count)[count > 0]),
    collapse = ", "
  )
  figure <- figure_dressed(
    plot,
    title %||% paste("Coverage of", figure_title(unique(points$name), 3)),
    subtitle %||% paste0(figure_window(points$time, zone), ": ", said),
    caption,
    dark = dark
  ) +
    ggplot2::theme(panel.grid.major = ggplot2::element_blank())
  lineage_step(figure, "figure_gaps", asked)
}

gap_tiles <- function(cells, strips, page) {
  many <- nrow(cells) > 2500
  look <- list(
    colour = if (many) NA else page$paper, linewidth = 0.3,
    height = if (strips) {
      min(0.6, 0.08 * nlevels(cells$name) + 0.1)
    } else if (many) {
      0.9
    } else {
      1
    }
  )
  # narrow cells overlap a little: a seam would look like a missing day
  if (strips && many) look$width <- 1.3
  do.call(ggplot2::geom_tile, look)
}

# Missing values, with the reason where it is known.
states_with_reasons <- function(cells, gaps, names, zone) {
  check_rows(gaps, "gaps")
  for (column in c("first", "last", "reason")) check_column(gaps, column)
  series <- as.character(gaps[["symbol"]] %||% gaps[["series"]])
  known <- match(series, names(names))
  series <- ifelse(is.na(known), series, as.character(names)[known])
  state <- cells$state
  first <- local_day(gaps$first, zone)
  last <- local_day(gaps$last, zone)
  explained <- which(!gaps$reason %in% "unknown")
  for (i in explained) {
    at <- state == "missing" &
      cells$name == series[i] &
      cells$day >= first[i] &
      cells$day <= last[i]
    state[at] <- paste("missing:", gaps$reason[i])
  }
  state
}

# The cells of one series: days, or months where its values are monthly or
# longer.
gap_cells <- function(points, calendar, zone) {
  points <- points[
    !is.na(points$value) | points$status %in% "missing", ,
    drop = FALSE
  ]
  steps <- diff(sort(unique(points$time)))
  step <- if (length(steps)) stats::median(steps) else NA
  monthly <- isTRUE(min(steps, Inf) >= 25 * 86400) && length(steps) > 0
  if (monthly) step <- min(steps)
  # values within the day belong to their local day, daily bars to their
  # calendar's day
  axis_zone <- if (points$intraday[1]) {
    zone
  } else if (monthly) {
    "UTC"
  } else {
    calendar$zone %||% "UTC"
  }
  day <- local_day(utc(points$time), axis_zone)
  if (monthly) day <- as.Date(format(day, "%Y-%m-01"))
  there <- !is.na(points$value)
  count <- tapply(there, format(day), sum)
  status <- tapply(points$status, format(day), function(x) {
    if (any(x %in% "filled")) {
      "filled"
    } else if (any(x %in% "provisional")) {
      "provisional"
    } else {
      "present"
    }
  })
  usual <- stats::median(count[count > 0])
  all <- gap_days(range(day), monthly, step, calendar)
  at <- match(format(all), names(count))
  counted <- count[at]
  state <- ifelse(
    is.na(at) | counted == 0, "missing",
    ifelse(counted < 0.95 * usual, "partly", status[at])
  )
  data.frame(
    name = rep(points$name[1], length(all)),
    day = all,
    state = unname(state),
    monthly = rep(monthly, length(all))
  )
}

gap_days <- function(range, monthly, step, calendar) {
  if (monthly) {
    months <- max(1, round(step / 86400 / 30.4))
    return(seq(range[1], range[2], by = paste(months, "months")))
  }
  if (!is.null(calendar)) {
    return(calendar_days(calendar, range[1], range[2]))
  }
  all <- seq(range[1], range[2], by = 1)
  # weekly or weekday series expect no values on other days
  if (isTRUE(step > 6 * 86400)) {
    all <- all[(as.numeric(all - range[1]) %% 7) == 0]
  }
  all
}

# Whether cells are drawn as a strip a series: several series, or a short
# window.
gap_in_strips <- function(cells) {
  nlevels(cells$name) > 1 || nrow(cells) <= 62
}

# What is not present is drawn again, wide enough to be seen at any length.
strip_marks <- function(cells) {
  least <- diff(range(cells$column)) * 0.004
  other <- cells[cells$state != "present", , drop = FALSE]
  step <- if (cells$monthly[1]) 30 else 1
  if (nrow(other) && least > step) {
    ggplot2::geom_tile(
      data = other, width = least,
      height = min(0.6, 0.08 * nlevels(cells$name) + 0.1)
    )
  }
}

# Cells along the time, a row a series.
gap_strips <- function(cells) {
  cells$column <- as.numeric(cells$day) +
    if (cells$monthly[1]) 15 else 0
  cells$line <- cells$name
  range <- range(cells$day)
  breaks <- if (length(unique(cells$day)) <= 10) {
    sort(unique(cells$day))
  } else {
    pretty(range, 8)
  }
  breaks <- breaks[breaks >= range[1] & breaks <= range[2]]
  span <- as.numeric(diff(range))
  labels <- format(
    breaks, if (span > 1100) "%Y" else if (span > 90) "%b %Y" else "%e %b"
  )
  attr(cells, "scale") <- axis_scale(list(
    breaks = as.numeric(breaks)[!duplicated(labels)],
    labels = trimws(labels)[!duplicated(labels)], times = "day"
  ))
  cells
}

# The place of a cell: days in rows of months, or of years where there are many
# months; months in rows of years.
gap_places <- function(cells) {
  date <- as.POSIXlt(cells$day)
  if (cells$monthly[1]) {
    cells$column <- date$mon + 1
    cells$line <- format(cells$day, "%Y")
    scale <- ggplot2::scale_x_continuous(
      breaks = 1:12, labels = month.abb, expand = c(0, 0)
    )
  } else if (diff(as.numeric(range(cells$day))) <= 550) {
    cells$column <- date$mday
    cells$line <- format(cells$day, "%Y-%m")
    scale <- ggplot2::scale_x_continuous(
      breaks = c(1, 5, 10, 15, 20, 25, 30),
      expand = c(0, 0)
    )
  } else {
    cells$column <- date$yday + 1
    cells$line <- format(cells$day, "%Y")
    starts <- c(1, 32, 60, 91, 121, 152, 182, 213, 244, 274, 305, 335)
    scale <- ggplot2::scale_x_continuous(
      breaks = starts, labels = month.abb, expand = c(0, 0)
    )
  }
  attr(cells, "scale") <- scale
  cells
}

#' @rdname figure_gaps
#' @param ... Further arguments of [figure_lines()].
#' @export
figure_filled <- function(x, title = NULL, caption = NULL, ...) {
  figure <- figure_lines(
    given(x, "x", "figure"),
    title = title, caption = caption, ...
  )
  if (!any(figure$data$status == "filled")) {
    say_figure(
      "none of these values is filled; series_fill() fills and marks them"
    )
  }
  figure
}

#' @rdname figure_gaps
#' @param incomplete Windows that are not complete, as returned by
#'   [archive_incomplete()]; they are marked.
#' @param series A table of series, as returned by [archive_series()]: `id`,
#'   `source`, `rows`, `first`, `last`.
#' @export
figure_coverage <- function(series, title = NULL, subtitle = NULL,
                            caption = NULL, zone = "UTC", dark = FALSE,
                            incomplete = NULL) {
  check_rows(series, "series")
  if (!is.null(incomplete)) check_rows(incomplete, "incomplete")
  for (name in c("id", "source", "first", "last", "rows")) {
    check_column(series, name)
  }
  check_zone(zone, "figure")
  check_flag(dark, "dark")
  rows <- as.data.frame(series)[c("id", "source", "first", "last", "rows")]
  rows <- rows[!is.na(rows$first), ]
  if (!nrow(rows)) {
    vetusta_stop(
      "figure", "There is no series to draw.",
      todo = "collect some first"
    )
  }
  whole <- nrow(rows)
  if (whole > 50) rows <- coverage_by_dataset(rows)
  rows <- rows[order(rows$source, rows$first, rows$id, method = "radix"), ]
  rows$label <- factor(
    short_names(rows$id, 44), rev(unique(short_names(rows$id, 44)))
  )
  rows$from <- as.numeric(rows$first)
  rows$to <- pmax(
    as.numeric(rows$last),
    rows$from + diff(range(c(rows$from, as.numeric(rows$last)))) * 0.002
  )
  axis <- figure_axis(c(rows$from, rows$to), zone, FALSE)
  open <- coverage_open(incomplete, rows)
  thick <- if (nrow(rows) > 25) 2 else 3.4
  colour <- line_colours[[shade_name(dark)]]
  plot <- ggplot2::ggplot(
    rows,
    ggplot2::aes(xmin = .data$from, xmax = .data$to, y = .data$label)
  ) +
    ggplot2::geom_linerange(linewidth = thick, colour = colour[1]) +
    (if (NROW(open)) {
      ggplot2::geom_linerange(
        data = open, linewidth = thick, colour = colour[2]
      )
    }) +
    axis_scale(axis)
  figure_dressed(
    plot, title %||% "Coverage by dataset",
    subtitle %||%
      paste0(
        thousands(whole), " series, ", thousands(sum(rows$rows)), " values"
      ),
    captions(
      caption, if (NROW(open)) "orange: not complete, `list incomplete`",
      if (whole > nrow(rows)) "series of a dataset are drawn together"
    ),
    dark = dark
  )
}

# Incomplete windows at the rows of their series or dataset, wide enough to be
# seen.
coverage_open <- function(incomplete, rows) {
  if (!NROW(incomplete)) {
    return(NULL)
  }
  least <- diff(range(c(rows$from, rows$to))) * 0.004
  parts <- lapply(seq_len(nrow(incomplete)), function(i) {
    prefix <- paste0(incomplete$source[i], "/", incomplete$dataset[i])
    own <- startsWith(rows$id, paste0(prefix, "/", incomplete$label[i]))
    of_dataset <- startsWith(rows$id, prefix)
    at <- which(if (any(own)) own else of_dataset)
    if (!length(at) || is.na(incomplete$from[i])) {
      return(NULL)
    }
    from <- as.numeric(incomplete$from[i])
    data.frame(
      label = rows$label[at], from = from,
      to = pmax(as.numeric(incomplete$to[i]), from + least)
    )
  })
  do.call(rbind, parts)
}

# Datasets instead of their series.
coverage_by_dataset <- function(rows) {
  dataset <- sub("^([^/]*/[^/]*)/.*$", "\\1", rows$id)
  parts <- split(rows, dataset)
  do.call(
    rbind,
    lapply(names(parts), function(name) {
      group <- parts[[name]]
      data.frame(
        id = paste0(name, " (", thousands(nrow(group)), " series)"),
        source = group$source[1],
        first = min(group$first),
        last = max(group$last),
        rows = sum(group$rows)
      )
    })
  )
}
