# Where a statistic is largest: the newest value of each series.

#' Draw the newest values over places
#'
#' A bar per series, from the largest value to the smallest, with its rank a
#' length of time ago where that differs; or a map of dots.
#'
#' @param x A table of series, or a result of [series_newest()].
#' @param places A data frame of `place`, `latitude` and `longitude`, degrees:
#'   the series are drawn as dots at their places, larger for larger values.
#' @param over The length of time to the earlier rank, as `"1 year"`.
#' @param most The largest number of bars.
#' @param names,heading,title,subtitle,caption,zone,dark As in [figure_lines()].
#' @return A ggplot object; its data are the drawn values.
#' @section Errors: `vetusta_error_figure` if none of the series has a place,
#'   and the errors of [series_newest()].
#' @export
#' @examples
#' traffic <- data.frame(
#'   series = rep(c("lock", "weir"), each = 400),
#'   time = as.POSIXct("2025-01-01", tz = "UTC") + 86400 * rep(0:399, 2),
#'   value = c(1:400, 400:1)
#' )
#' figure_newest(traffic)
figure_newest <- function(x, places = NULL, over = "1 year", most = 25,
                          names = NULL, heading = NULL, title = NULL,
                          subtitle = NULL, caption = NULL, zone = "UTC",
                          dark = FALSE) {
  check_zone(zone, "figure")
  check_flag(dark, "dark")
  check_names(names)
  check_heading(heading)
  check_number(most, "most", 1, "figure")
  given(x, "x", "figure")
  rows <- as.data.frame(
    if ("rank_before" %in% base::names(x)) x else series_newest(x, over)
  )
  known <- match(rows$series, names(names))
  titles <- attr(x, "title", exact = TRUE)
  name <- ifelse(
    rows$series %in% base::names(titles), titles[rows$series], rows$series
  )
  name <- ifelse(is.na(known), name, as.character(names)[known])
  shared <- shared_parts(name)
  rows$name <- shared$names
  heads <- figure_heads(rows$name, shared$shared, heading, 3)
  unit <- unique(rows$unit[!is.na(rows$unit)])
  if (length(unit) > 1) {
    vetusta_stop(
      "figure", paste0(
        "The units differ (", paste(utils::head(unit, 4), collapse = ", "),
        "), so the values have no order."
      ),
      todo = "draw series of one unit"
    )
  }
  drawn <- if (is.null(places)) {
    newest_bars(utils::head(rows, most), over, dark)
  } else {
    newest_dots(rows, places, dark)
  }
  all <- nrow(rows)
  day <- figure_window(as.numeric(rows$time), "UTC")
  figure_dressed(
    drawn, title %||% paste0(heads$title, ": newest values"),
    subtitle %||% paste0(heads$before, day),
    captions(
      caption,
      if (is.null(places) && any(newest_moved(rows))) {
        paste0("in brackets: the rank ", over, " earlier")
      },
      if (is.null(places) && all > most) {
        paste0("the largest ", most, " of ", thousands(all), " series")
      }
    ),
    x = if (is.null(places)) unit else "longitude",
    y = if (!is.null(places)) "latitude", dark = dark
  )
}

newest_moved <- function(rows) {
  !is.na(rows$rank_before) & rows$rank_before != rows$rank
}

newest_bars <- function(rows, over, dark) {
  label <- make.unique(short_names(rows$name, 44), sep = " ")
  rows$label <- factor(label, rev(label))
  rows$said <- paste0(
    axis_numbers(signif(rows$value, 6)),
    ifelse(newest_moved(rows), paste0(" (", rows$rank_before, ".)"), "")
  )
  page <- page_colours[[shade_name(dark)]]
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$value, y = .data$label)) +
    ggplot2::geom_col(
      fill = line_colours[[shade_name(dark)]][1], width = 0.7
    ) +
    ggplot2::geom_text(
      ggplot2::aes(label = .data$said),
      hjust = ifelse(rows$value < 0, 1.1, -0.1), size = 3.4,
      colour = page$text
    ) +
    ggplot2::scale_x_continuous(
      labels = axis_numbers, expand = ggplot2::expansion(mult = c(0.02, 0.16))
    )
}

newest_dots <- function(rows, places, dark) {
  check_rows(places, "places")
  for (name in c("place", "latitude", "longitude")) check_column(places, name)
  at <- match(rows$series, as.character(places$place))
  rows$latitude <- as.numeric(places$latitude)[at]
  rows$longitude <- as.numeric(places$longitude)[at]
  rows <- rows[!is.na(rows$latitude) & !is.na(rows$longitude), , drop = FALSE]
  if (!nrow(rows)) {
    vetusta_stop(
      "figure", "None of the series is named as a place with coordinates.",
      todo = "give `places` with the series' names in the column place"
    )
  }
  page <- page_colours[[shade_name(dark)]]
  rows$said <- paste0(
    short_names(rows$name, 24), " ", axis_numbers(signif(rows$value, 6))
  )
  # a degree of longitude is shorter than one of latitude
  ratio <- 1 / max(0.05, cos(mean(rows$latitude) * pi / 180))
  room <- function(x) max(diff(range(x)) * 0.25, 0.05)
  ggplot2::ggplot(
    rows, ggplot2::aes(
      x = .data$longitude, y = .data$latitude, size = .data$value
    )
  ) +
    ggplot2::geom_point(
      colour = line_colours[[shade_name(dark)]][1], alpha = 0.75
    ) +
    ggplot2::geom_text(
      ggplot2::aes(label = .data$said),
      size = 3.4, vjust = -1.3, colour = page$text
    ) +
    ggplot2::scale_size_area(max_size = 9, guide = "none") +
    ggplot2::coord_fixed(
      ratio = ratio,
      xlim = range(rows$longitude) + c(-1, 1) * room(rows$longitude),
      ylim = range(rows$latitude) + c(-1, 1) * room(rows$latitude)
    )
}
