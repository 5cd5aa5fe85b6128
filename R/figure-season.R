# The layers of a figure of seasons.

# The latest year and the one before it, over the bands of all earlier years;
# with few years a line each. Lines have their year at the end.
season_years <- function(points, dark) {
  newest <- max(points$year)
  colour <- line_colours[[shade_name(dark)]]
  page <- page_colours[[shade_name(dark)]]
  starts <- c(1, 32, 60, 91, 121, 152, 182, 213, 244, 274, 305, 335)
  bands <- season_bands(points[points$year < newest, , drop = FALSE])
  last <- points[points$year >= newest - 1, , drop = FALSE]
  old <- points[points$year < newest - 1, , drop = FALSE]
  old <- old[!old$name %in% bands$name, , drop = FALSE]
  ends <- rbind(last, old)
  key <- paste(ends$name, ends$year)
  ends <- ends[order(ends$day), , drop = FALSE]
  key <- paste(ends$name, ends$year)
  ends <- ends[!duplicated(key, fromLast = TRUE), , drop = FALSE]
  ends$newest <- ends$year == newest
  ggplot2::ggplot(points, ggplot2::aes(x = .data$day, y = .data$value)) +
    season_ribbons(bands, page) +
    ggplot2::geom_line(
      ggplot2::aes(group = .data$year),
      data = old, colour = page$soft, linewidth = 0.35, alpha = 0.7
    ) +
    ggplot2::geom_line(
      data = last[last$year < newest, , drop = FALSE], colour = colour[2],
      linewidth = 0.5
    ) +
    ggplot2::geom_line(
      data = last[last$year == newest, , drop = FALSE], colour = colour[1],
      linewidth = 1
    ) +
    ggplot2::geom_text(
      ggplot2::aes(label = .data$year),
      data = ends, hjust = -0.15, size = 3.4,
      fontface = ifelse(ends$newest, "bold", "plain"),
      colour = ifelse(
        ends$newest, colour[1],
        ifelse(ends$year == newest - 1, colour[2], page$soft)
      )
    ) +
    ggplot2::coord_cartesian(clip = "off") +
    ggplot2::scale_x_continuous(
      breaks = starts, labels = month.abb, limits = c(1, 366),
      expand = ggplot2::expansion(mult = c(0.02, 0.05))
    ) +
    ggplot2::scale_y_continuous(labels = axis_numbers)
}

season_ribbons <- function(bands, page) {
  if (!NROW(bands)) {
    return(NULL)
  }
  ribbon <- function(low, high, alpha) {
    ggplot2::geom_ribbon(
      ggplot2::aes(
        x = .data$day, ymin = .data[[low]], ymax = .data[[high]], y = NULL
      ),
      data = bands, inherit.aes = FALSE, fill = page$quiet, alpha = alpha
    )
  }
  list(
    ribbon("q05", "q95", 0.35), ribbon("q25", "q75", 0.6),
    ggplot2::geom_line(
      ggplot2::aes(x = .data$day, y = .data$q50),
      data = bands, inherit.aes = FALSE, colour = page$soft, linewidth = 0.5
    )
  )
}

# Quantiles of the earlier years by the day of the year, with the values of
# three days before and after where values are daily; only of series with five
# years or more.
season_bands <- function(past) {
  parts <- lapply(split(past, past$name), function(rows) {
    if (length(unique(rows$year)) < 5) {
      return(NULL)
    }
    days <- sort(unique(rows$day))
    near <- if (length(days) > 300) 3 else 0
    quantiles <- vapply(days, function(day) {
      # the days around the turn of the year are neighbours
      apart <- abs(rows$day - day)
      apart <- pmin(apart, 366 - apart)
      stats::quantile(
        rows$value[apart <= near], c(0.05, 0.25, 0.5, 0.75, 0.95),
        names = FALSE
      )
    }, numeric(5))
    data.frame(
      name = rows$name[1], day = days, q05 = quantiles[1, ],
      q25 = quantiles[2, ], q50 = quantiles[3, ], q75 = quantiles[4, ],
      q95 = quantiles[5, ]
    )
  })
  do.call(rbind, parts)
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
