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
#' @param title,subtitle,caption,zone,names,dark As in [figure_lines()].
#' @return A ggplot object. `figure_revisions()`: the latest values as a thick
#'   line and each release as a thin one; or the first value and the latest.
#'   `figure_season()`: the latest year is thick. `figure_spread()`: a histogram
#'   of changes, with a normal curve of the same mean and standard deviation.
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
                             caption = NULL, zone = "UTC", dark = FALSE) {
  check_rows(releases, "releases")
  check_zone(zone, "figure")
  check_flag(dark, "dark")
  rows <- as.data.frame(releases)
  clock <- intersect(c("period", "time"), names(rows))[1]
  if (is.na(clock)) check_column(rows, "period")
  check_column(rows, "series")
  rows$at <- if (inherits(rows[[clock]], "Date")) {
    as.numeric(rows[[clock]]) * 86400
  } else {
    as.numeric(rows[[clock]])
  }
  lines <- if ("latest" %in% names(rows)) {
    revisions_of_two(rows)
  } else {
    revisions_of_all(rows)
  }
  lines <- lines[!is.na(lines$value), ]
  if (!nrow(lines)) {
    vetusta_stop(
      "figure", "There are no releases to draw.",
      todo = "check the series and the window"
    )
  }
  axis <- figure_axis(lines$at, zone, FALSE)
  colour <- line_colours[[shade_name(dark)]]
  old <- lines[!lines$newest, ]
  plot <- ggplot2::ggplot(lines, ggplot2::aes(x = .data$at, y = .data$value)) +
    ggplot2::geom_line(
      ggplot2::aes(group = paste(.data$series, .data$release)),
      data = old[!old$alone, ], colour = colour[2], linewidth = 0.35,
      alpha = 0.8
    ) +
    ggplot2::geom_point(
      data = old[old$alone, ], colour = colour[2], size = 1.1
    ) +
    ggplot2::geom_line(
      ggplot2::aes(group = .data$series),
      data = lines[lines$newest, ],
      colour = colour[1],
      linewidth = 0.9
    ) +
    axis_scale(axis) +
    ggplot2::scale_y_continuous(labels = axis_numbers)
  if (length(unique(lines$series)) > 1) {
    plot <- plot +
      ggplot2::facet_wrap(
        ggplot2::vars(.data$series),
        scales = "free_y",
        labeller = ggplot2::labeller(.default = short_names)
      )
  }
  figure_dressed(
    plot,
    title %||%
      paste("How", figure_title(unique(lines$series), 3), "was revised"),
    subtitle %||% figure_window(lines$at, zone),
    captions(caption, "thick: the newest values; thin: what was said before"),
    dark = dark
  )
}

revisions_of_two <- function(rows) {
  part <- function(value, newest) {
    data.frame(
      series = rows$series, at = rows$at, value = value, release = newest,
      newest = newest, alone = FALSE
    )
  }
  rbind(part(rows$first, FALSE), part(rows$latest, TRUE))
}

# A vintage is the series as it was known just after a release.
revisions_of_all <- function(rows) {
  check_column(rows, "known")
  rows <- rows[
    order(rows$series, rows$at, as.numeric(rows$known), method = "radix"),
  ]
  newest <- !duplicated(rows[c("series", "at")], fromLast = TRUE)
  release <- as.numeric(rows$known)
  old <- rows[!newest, ]
  alone <- stats::ave(
    rep(1, nrow(old)), old$series, as.numeric(old$known),
    FUN = length
  ) ==
    1
  rbind(
    data.frame(
      series = old$series,
      at = old$at,
      value = old$value,
      release = as.numeric(old$known),
      newest = rep(FALSE, nrow(old)),
      alone = alone
    ),
    data.frame(
      series = rows$series[newest], at = rows$at[newest],
      value = rows$value[newest], release = release[newest], newest = TRUE,
      alone = FALSE
    )
  )
}

#' @rdname figure_revisions
#' @export
figure_season <- function(x, by = "year", title = NULL, subtitle = NULL,
                          caption = NULL, zone = "UTC", names = NULL,
                          dark = FALSE) {
  check_choice(by, "by", c("year", "month"), "figure")
  check_zone(zone, "figure")
  check_flag(dark, "dark")
  points <- figure_points(given(x, "x", "figure"), NULL, names)
  points <- points[!is.na(points$value), , drop = FALSE]
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
  figure_dressed(
    plot,
    title %||%
      paste(
        figure_title(unique(points$name), 3),
        if (by == "year") "year over year" else "by month"
      ),
    subtitle %||% figure_window(points$time, zone),
    caption,
    y = if (length(unit) == 1) unit,
    dark = dark
  )
}

season_years <- function(points, dark) {
  newest <- max(points$year)
  colour <- line_colours[[shade_name(dark)]]
  page <- page_colours[[shade_name(dark)]]
  starts <- c(1, 32, 60, 91, 121, 152, 182, 213, 244, 274, 305, 335)
  old <- points[points$year != newest, , drop = FALSE]
  ggplot2::ggplot(points, ggplot2::aes(x = .data$day, y = .data$value)) +
    ggplot2::geom_line(
      ggplot2::aes(group = .data$year, alpha = .data$year),
      data = old,
      colour = page$soft, linewidth = 0.35
    ) +
    ggplot2::geom_line(
      data = points[points$year == newest, , drop = FALSE],
      colour = colour[1],
      linewidth = 1
    ) +
    ggplot2::scale_alpha_continuous(range = c(0.25, 0.8), guide = "none") +
    ggplot2::scale_x_continuous(
      breaks = starts, labels = month.abb, limits = c(1, 366)
    ) +
    ggplot2::scale_y_continuous(labels = axis_numbers) +
    ggplot2::annotate(
      "text",
      x = Inf, y = Inf, hjust = 1.05, vjust = 1.5, size = 3.8,
      label = newest, colour = colour[1], fontface = "bold"
    )
}

season_months <- function(points, dark) {
  colour <- line_colours[[shade_name(dark)]]
  ggplot2::ggplot(points, ggplot2::aes(x = .data$month, y = .data$value)) +
    ggplot2::geom_boxplot(
      colour = colour[1], fill = NA, outlier.size = 0.7, linewidth = 0.4
    ) +
    ggplot2::scale_x_discrete(drop = FALSE) +
    ggplot2::scale_y_continuous(labels = axis_numbers)
}

#' @rdname figure_revisions
#' @export
figure_spread <- function(x, change = "simple", title = NULL, subtitle = NULL,
                          caption = NULL, zone = "UTC", names = NULL,
                          dark = FALSE) {
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
  figure_dressed(
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
