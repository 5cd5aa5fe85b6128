# Figures of change: revisions, seasons, the distribution of changes.

#' Draw revisions, seasons, or the distribution of changes
#'
#' @param releases Every release of series, as returned by [archive_revisions()]
#'   with `all = TRUE`; or a row per period with `first` and `latest`, as
#'   returned without it.
#' @param x A table of bars, observations or points, or a list of tables.
#' @param by `"year"`: a line per year, on one axis from January to December;
#'   `"month"`: the values of each month of the year side by side.
#' @param change The kind of change: `"simple"`, `"log"` or `"difference"`, see
#'   [series_change()].
#' @param unit The unit of the values.
#' @param title,subtitle,caption,zone,names,dark,heading As in [figure_lines()].
#' @return A ggplot object. `figure_revisions()`: the values as first published
#'   and as known now, and their difference in a panel below; of more than four
#'   series the differences alone. `figure_season()`: the latest year and the
#'   one before it, over bands with the middle 50% and 90% of the earlier years
#'   and their median; with fewer than five earlier years a line each.
#'   `figure_spread()`: a histogram of changes, with a normal curve of the same
#'   mean and standard deviation.
#' @section Errors: `vetusta_error_figure` if there is nothing to draw.
#' @export
#' @examples
#' level <- data.frame(
#'   series = "kelder-lock", period = as.Date("2023-01-01") + 0:1100,
#'   value = 230 + 40 * cos(0:1100 / 58)
#' )
#' figure_season(level)
#' figure_spread(level, "difference")
figure_revisions <- function(releases, title = NULL, subtitle = NULL,
                             caption = NULL, zone = "UTC", dark = FALSE,
                             names = NULL, heading = NULL, unit = NULL) {
  check_rows(releases, "releases")
  check_zone(zone, "figure")
  check_flag(dark, "dark")
  check_names(names)
  check_heading(heading)
  if (length(unit) && !anyNA(unit)) check_text(unit, "unit", "figure")
  rows <- as.data.frame(releases)
  clock <- intersect(c("period", "time"), names(rows))[1]
  if (is.na(clock)) check_column(rows, "period")
  check_column(rows, "series")
  rows$at <- if (inherits(rows[[clock]], "Date")) {
    as.numeric(rows[[clock]]) * 86400
  } else {
    as.numeric(rows[[clock]])
  }
  points <- if ("latest" %in% names(rows)) {
    revisions_of_two(rows)
  } else {
    revisions_of_all(rows)
  }
  points <- points[!is.na(points$first) | !is.na(points$latest), ]
  if (!nrow(points)) {
    vetusta_stop(
      "figure", "There are no releases to draw.",
      todo = "check the series and the window"
    )
  }
  known <- match(points$series, base::names(names))
  points$name <- ifelse(
    is.na(known), points$series, as.character(names)[known]
  )
  shared <- shared_parts(points$name)
  points$name <- factor(shared$names, unique(shared$names))
  points$revision <- points$latest - points$first
  points$unit <- unit %||% rep(NA_character_, nrow(points))
  heads <- figure_heads(points$name, shared$shared, heading, 3)
  figure_dressed(
    revisions_drawn(points, figure_axis(points$at, zone, FALSE), dark),
    title %||% paste0(heads$title, ": first published and now"),
    subtitle %||%
      paste0(
        heads$before, figure_window(points$at, zone), "; ",
        revisions_counted(points)
      ),
    captions(
      caption,
      if (nlevels(points$name) <= 4) {
        "orange: as first published; blue: as known now"
      }
    ),
    dark = dark
  ) + strip_text()
}

# Up to four series: the values, and the revisions below. More: the revisions
# alone.
revisions_drawn <- function(points, axis, dark) {
  colour <- line_colours[[shade_name(dark)]]
  page <- page_colours[[shade_name(dark)]]
  strips <- c("value", "revision")
  unit <- unique(points$unit[!is.na(points$unit)])
  if (length(unit) == 1) strips[1] <- unit
  part <- function(value, strip, line) {
    data.frame(
      name = points$name, at = points$at, value = value,
      strip = factor(strip, strips), line = line
    )
  }
  few <- nlevels(points$name) <= 4
  first <- part(points$first, strips[1], "first")
  latest <- part(points$latest, strips[1], "latest")
  revised <- part(points$revision, strips[2], "revision")
  revised <- revised[!is.na(revised$value), ]
  plot <- ggplot2::ggplot(
    if (few) rbind(first, latest, revised) else revised,
    ggplot2::aes(x = .data$at, y = .data$value)
  ) +
    ggplot2::geom_hline(
      ggplot2::aes(yintercept = 0),
      data = data.frame(strip = factor(strips[2], strips)),
      colour = page$soft, linewidth = 0.3
    ) +
    ggplot2::geom_linerange(
      ggplot2::aes(ymin = pmin(.data$value, 0), ymax = pmax(.data$value, 0)),
      data = revised, colour = colour[2], linewidth = 1.2
    ) +
    axis_scale(axis) +
    ggplot2::scale_y_continuous(labels = axis_numbers)
  if (!few) {
    return(plot + ggplot2::labs(y = strips[2]) + ggplot2::facet_wrap(
      ggplot2::vars(.data$name),
      labeller = ggplot2::labeller(.default = short_names)
    ))
  }
  plot <- plot +
    ggplot2::geom_line(
      data = first[!is.na(first$value), ], colour = colour[2], linewidth = 0.5
    ) +
    ggplot2::geom_point(
      data = first[which(points$revision != 0), ], colour = colour[2],
      size = 1.5
    ) +
    ggplot2::geom_line(
      data = latest[!is.na(latest$value), ], colour = colour[1],
      linewidth = 0.8
    )
  plot + stacked_strips(
    if (nlevels(points$name) > 1) ggplot2::vars(.data$name), c(2, 1)
  )
}

# How many values were revised, and by how much at most.
revisions_counted <- function(points) {
  revised <- which(points$revision != 0)
  if (!length(revised)) {
    return(paste0("none of ", thousands(nrow(points)), " values was revised"))
  }
  share <- abs(points$revision / points$first)[revised]
  share <- share[is.finite(share)]
  paste0(
    thousands(length(revised)), " of ", thousands(nrow(points)),
    " values revised",
    if (length(share)) {
      paste0(", by ", format(100 * max(share), digits = 2), "% at most")
    }
  )
}

# A row per series and period: its first and its latest value.
revisions_of_two <- function(rows) {
  data.frame(
    series = rows$series, at = rows$at, first = rows$first,
    latest = rows$latest
  )
}

revisions_of_all <- function(rows) {
  check_column(rows, "known")
  rows <- rows[
    order(rows$series, rows$at, as.numeric(rows$known), method = "radix"),
  ]
  key <- rows[c("series", "at")]
  first <- which(!duplicated(key))
  latest <- which(!duplicated(key, fromLast = TRUE))
  data.frame(
    series = rows$series[first], at = rows$at[first],
    first = rows$value[first], latest = rows$value[latest]
  )
}

#' @rdname figure_revisions
#' @export
figure_season <- function(x, by = "year", title = NULL, subtitle = NULL,
                          caption = NULL, zone = "UTC", names = NULL,
                          dark = FALSE, heading = NULL) {
  asked <- lineage_asked()
  check_choice(by, "by", c("year", "month"), "figure")
  check_zone(zone, "figure")
  check_flag(dark, "dark")
  check_heading(heading)
  points <- figure_points(given(x, "x", "figure"), NULL, names)
  points <- points[!is.na(points$value), , drop = FALSE]
  shared <- shared_parts(points$name)
  points$name <- shared$names
  date <- as.POSIXlt(
    utc(points$time),
    tz = if (any(points$intraday)) zone else "UTC"
  )
  points$year <- date$year + 1900
  points$month <- factor(month.abb[date$mon + 1], month.abb)
  points$day <- date$yday + 1
  plot <- if (by == "month") {
    season_months(points, dark)
  } else {
    season_years(points, dark)
  }
  if (length(unique(points$name)) > 1) {
    plot <- plot +
      ggplot2::facet_wrap(
        ggplot2::vars(.data$name),
        scales = "free_y",
        labeller = ggplot2::labeller(.default = short_names)
      )
  }
  unit <- unique(points$unit[!is.na(points$unit)])
  heads <- figure_heads(points$name, shared$shared, heading, 3)
  figure <- figure_dressed(
    plot,
    title %||%
      paste0(
        heads$title, if (by == "year") ", by day of the year" else ", by month"
      ),
    subtitle %||% paste0(heads$before, figure_window(points$time, zone)),
    captions(caption, if (by == "year") season_note(points)),
    y = if (length(unit) == 1) unit,
    dark = dark
  )
  lineage_step(figure, "figure_season", asked)
}

season_note <- function(points) {
  past <- sort(unique(points$year[points$year < max(points$year)]))
  if (length(past) >= 5) {
    paste0(
      "bands: the middle 50% and 90% of ", past[1], " to ", max(past),
      "; grey line: their median"
    )
  }
}

#' @rdname figure_revisions
#' @export
figure_spread <- function(x, change = "simple", title = NULL, subtitle = NULL,
                          caption = NULL, zone = "UTC", names = NULL,
                          dark = FALSE) {
  asked <- lineage_asked()
  check_choice(change, "change", c("simple", "log", "difference"), "figure")
  check_zone(zone, "figure")
  check_flag(dark, "dark")
  points <- figure_points(given(x, "x", "figure"), NULL, names)
  points <- points[!is.na(points$value), , drop = FALSE]
  before <- c(NA, points$value[-nrow(points)])
  before[!duplicated(points$name)] <- NA
  points$change <- change_from(points$value, before, change)
  points <- points[is.finite(points$change), , drop = FALSE]
  if (!nrow(points)) {
    vetusta_stop(
      "figure", "There are no changes to draw.",
      todo = "give two values or more"
    )
  }
  points$name <- factor(points$name, unique(points$name))
  far <- far_changes(points)
  beyond <- sum(far)
  points <- points[!far, , drop = FALSE]
  curves <- do.call(rbind, lapply(split(points, points$name), spread_curve))
  colour <- line_colours[[shade_name(dark)]]
  page <- page_colours[[shade_name(dark)]]
  plot <- ggplot2::ggplot(points, ggplot2::aes(x = .data$change)) +
    ggplot2::geom_histogram(
      ggplot2::aes(y = ggplot2::after_stat(density)),
      bins = 60,
      fill = colour[1], alpha = 0.75
    ) +
    ggplot2::geom_line(
      ggplot2::aes(y = .data$density),
      data = curves, colour = page$soft,
      linewidth = 0.5
    ) +
    ggplot2::scale_x_continuous(
      labels = if (change == "difference") {
        axis_numbers
      } else {
        function(x) paste0(format(100 * x, trim = TRUE), "%")
      }
    )
  if (nlevels(points$name) > 1) {
    plot <- plot +
      ggplot2::facet_wrap(
        ggplot2::vars(.data$name),
        scales = "free",
        labeller = ggplot2::labeller(.default = short_names)
      )
  }
  words <- c(
    simple = "change", log = "change of the logarithm",
    difference = "difference"
  )
  figure <- figure_dressed(
    plot,
    title %||% paste("How", figure_title(unique(points$name), 3), "changes"),
    subtitle %||%
      paste0(
        thousands(nrow(points)), " changes, ", figure_window(points$time, zone)
      ),
    captions(
      caption,
      "grey line: a normal distribution of the same mean and deviation",
      if (beyond) {
        paste0(
          "beyond the axis, and left out: ", thousands(beyond),
          if (beyond == 1) " change" else " changes"
        )
      }
    ),
    x = words[[change]], dark = dark
  )
  lineage_step(figure, "figure_spread", asked)
}

# Changes so extreme that all others would fall into one column: beyond ten
# times the distance from the middle that covers 90%.
far_changes <- function(points) {
  far <- lapply(split(points$change, points$name), function(x) {
    out <- abs(x - stats::median(x))
    out > 10 * stats::quantile(out, 0.9) & length(x) > 20
  })
  unsplit(far, points$name)
}

spread_curve <- function(points) {
  mean <- mean(points$change)
  sd <- stats::sd(points$change)
  if (!is.finite(sd) || sd == 0) {
    return(NULL)
  }
  at <- seq(min(points$change), max(points$change), length.out = 200)
  data.frame(
    name = points$name[1],
    change = at,
    density = stats::dnorm(at, mean, sd)
  )
}
