#' Draw lines
#'
#' Draws series of any kind as lines: bars by one of their numbers,
#' observations, points, the items of a company, several frequencies together.
#'
#' @param x A table of bars, observations, points or facts, or a list of such
#'   tables, as returned by [archive_read()].
#' @param value The number of bars to draw [`close`].
#' @param panels `"none"`: all on one axis; `"free"`: a panel each, with its own
#'   axis; `"fixed"`: a panel each, with the same axis.
#' @param index A number to which the first value of every series is scaled,
#'   such as 100, to compare series of different size; `NULL` draws the values
#'   as they are.
#' @param base The day (or instant) on which every series has the value `index`,
#'   or 100 without one: its last value on that day, or before it; by default
#'   the first value.
#' @param over A length of time, such as `"1 year"`: the change in percent
#'   since the value that long before, or up to seven days older, is drawn, see
#'   [series_change()].
#' @param log_scale Whether the axis of values is logarithmic.
#' @param names Names in place of those of the series, as `c(KELD = "Kelder
#'   Lines")`.
#' @param with Texts of what is drawn over the figure: `"mean 20 days"`, `"min 1
#'   month"` or `"max 1 month"` of the window that ends with each value, `"band
#'   20 days"` (the mean and two standard deviations around it; `"band 2.5 20
#'   days"` has another number), `"level 250 flood"` (a line with its words),
#'   `"mark 2026-03-12 strike"` (a day with its words).
#' @param second A table of one series that is drawn on an axis of its own at
#'   the right.
#' @param heading What the series measure, as the title of their dataset: it
#'   becomes the title. What all names share goes into the subtitle, after a
#'   second text of `heading`.
#' @param title,subtitle,caption Texts above and below; by default from the
#'   series. The caption states the window, thinning, and provisional values.
#' @param zone The IANA zone of the dates on the axis.
#' @param bridge A line of bars within the day is broken where a series has no
#'   value at more than this many consecutive times of the others.
#' @param dark For a dark background.
#' @param columns The number of pixel columns of a line: it is thinned to its
#'   visible points, see [series_thin()].
#' @return A ggplot object, to which layers can be added; [figure_save()] writes
#'   it to a file. Its data are the drawn values: `name`, `time` (`POSIXct`),
#'   `at` (the position on the axis), `shown`, `status`. A provisional end is
#'   dashed, and a filled value has a mark.
#' @section Errors: `vetusta_error_figure` if there is nothing to draw, or for a
#'   logarithmic axis with a value at or below zero. Series of different units
#'   get panels of their own; if one series hides the others on a shared axis, a
#'   message of the class `vetusta_note` says so.
#' @export
#' @examples
#' days <- bars_frame(
#'   data.frame(
#'     symbol = "KELD",
#'     time = as.POSIXct("2026-03-02 07:30", tz = "UTC") + 86400 * 0:3,
#'     open = c(41, 41.5, 41.2, 42),
#'     high = c(42, 42.1, 42.3, 42.4),
#'     low = c(40.6, 41, 41, 41.1),
#'     close = c(41.5, 41.2, 42, 41.4),
#'     volume = c(100, 140, 90, 120)
#'   )
#' )
#' figure_lines(days)
figure_lines <- function(x, value = NULL, panels = "none", index = NULL,
                         log_scale = FALSE, names = NULL, title = NULL,
                         subtitle = NULL, caption = NULL, zone = "UTC",
                         bridge = 30, dark = FALSE, columns = 2000,
                         heading = NULL, base = NULL, over = NULL,
                         with = NULL, second = NULL) {
  asked <- lineage_asked()
  check_lines(panels, index, log_scale, zone, bridge, dark, columns)
  check_heading(heading)
  x <- given(x, "x", "figure")
  jumps <- lines_jumps(x, value, zone)
  if (!is.null(over)) x <- lines_changes(x, over, index %||% base, value)
  points <- figure_points(x, value, names)
  points <- points[!is.na(points$value), , drop = FALSE]
  shared <- shared_parts(points$name)
  points$name <- shared$names
  side_by_side <- all(points$intraday)
  axis <- figure_axis(points$time, zone, side_by_side)
  points$at <- axis$position
  points$time <- utc(points$time)
  points$shown <- points$value
  base <- lines_base(points, index, base, zone)
  if (!is.null(base)) {
    index <- base$index
    points$shown <- points$value / base$value * index
  }
  if (log_scale && any(points$shown <= 0)) {
    vetusta_stop(
      "figure",
      paste0(
        "The series ", points$name[points$shown <= 0][1],
        " has values at or below zero, which a logarithmic axis cannot show."
      ),
      todo = "leave log_scale out, or index the values"
    )
  }
  panels <- panels_needed(points, panels, index, log_scale)
  points$piece <- line_pieces(points, side_by_side, bridge)
  drawn <- thinned_points(points, columns)
  second <- lines_second(
    second, points, axis, panels, log_scale, zone, names, dark
  )
  plot <- lines_drawn(drawn, axis, panels, log_scale, dark, second) +
    overlay_layers(overlay_rows(points), with, axis, zone, dark)
  names_shown <- unique(points$name)
  heads <- figure_heads(names_shown, shared$shared, heading)
  notes <- captions(
    caption, overlay_words(with), jump_words(jumps),
    lines_notes(points, drawn, columns)
  )
  figure <- figure_dressed(
    plot,
    title %||% heads$title,
    subtitle %||%
      paste0(heads$before, figure_window(as.numeric(points$time), zone)),
    notes,
    y = lines_label(points, index, value, base$day, over),
    dark = dark
  ) +
    ggplot2::theme(
      plot.margin = ggplot2::margin(
        10,
        if (panels == "none" && length(names_shown) <= 12 && is.null(second)) {
          label_room(names_shown)
        } else {
          14
        },
        8, 10
      )
    )
  lineage_step(figure, "figure_lines", asked)
}

check_lines <- function(panels, index, log_scale, zone, bridge, dark, columns) {
  check_choice(panels, "panels", c("none", "free", "fixed"), "figure")
  check_flag(log_scale, "log_scale")
  check_flag(dark, "dark")
  check_zone(zone, "figure")
  check_number(bridge, "bridge", 0, "figure")
  check_number(columns, "columns", 10, "figure")
  if (!is.null(index)) check_number(index, "index", kind = "figure")
}

# Different units need separate axes; so does a series that is so large that the
# others would be flat.
panels_needed <- function(points, panels, index, log_scale) {
  names <- unique(points$name)
  if (panels != "none" || length(names) < 2 || !is.null(index)) {
    return(panels)
  }
  units <- unique(points$unit[!is.na(points$unit)])
  if (length(units) > 1) {
    say_figure(
      "the units differ (", paste(utils::head(units, 4), collapse = ", "),
      "), so each ", if (length(names) > 12) "unit", " has a separate panel"
    )
    # many series share a panel by unit, fewer have one each
    return(if (length(names) > 12) "units" else "free")
  }
  spread <- vapply(
    split(points$shown, points$name), function(x) diff(range(x)), 0
  )
  whole <- diff(range(points$shown))
  hidden <- names(spread)[spread < 0.03 * whole]
  if (!log_scale && length(hidden) && length(hidden) < length(names)) {
    say_figure(
      "on one axis ", figure_title(hidden, 3),
      if (length(hidden) == 1) " is" else " are",
      " as good as flat; panels (free), an index or a logarithmic axis show ",
      if (length(hidden) == 1) "it" else "them"
    )
  }
  panels
}

# Pieces of lines: a new one for each series, after a break, and where values
# become provisional.
line_pieces <- function(points, side_by_side, bridge) {
  n <- nrow(points)
  new <- c(TRUE, points$name[-1] != points$name[-n])
  if (side_by_side) {
    new <- new | c(FALSE, diff(points$at) > bridge)
  } else {
    new <- new | long_breaks(points)
  }
  cumsum(new)
}

# Gaps longer than five steps of the series, and than its longest usual step.
long_breaks <- function(points) {
  step <- c(0, diff(as.numeric(points$time)))
  same <- c(FALSE, points$name[-1] == points$name[-nrow(points)])
  usual <- tapply(step[same], points$name[same], stats::median)
  same & step > 5.5 * as.numeric(usual[points$name])
}

thinned_points <- function(points, columns) {
  range <- range(points$at)
  kept <- lapply(
    split(seq_len(nrow(points)), match(points$name, unique(points$name))),
    function(rows) {
      if (length(rows) <= 4 * columns) {
        return(rows)
      }
      rows[
        series_thin_cpp(
          as.double(points$at[rows]), points$shown[rows], range[1], range[2],
          as.integer(columns)
        )
      ]
    }
  )
  kept <- unlist(kept, use.names = FALSE)
  if (length(kept) < nrow(points)) points[kept, , drop = FALSE] else points
}

lines_drawn <- function(points, axis, panels, log_scale, dark, second = NULL) {
  names <- unique(points$name)
  points$name <- factor(points$name, names)
  colours <- if (length(names) > 12) {
    stats::setNames(
      rep(page_colours[[shade_name(dark)]]$quiet, length(names)), names
    )
  } else {
    series_colours(names, dark)
  }
  whole <- points[
    points$status != "provisional" & !alone_in_piece(points), ,
    drop = FALSE
  ]
  plot <- ggplot2::ggplot(
    points, ggplot2::aes(
      x = .data$at, y = .data$shown, colour = .data$name, series = .data$name
    )
  ) +
    (if (nrow(whole)) {
      ggplot2::geom_line(
        ggplot2::aes(group = .data$piece),
        data = whole,
        linewidth = if (nrow(points) > 2000 || length(names) > 12) {
          0.4
        } else {
          0.7
        }
      )
    }) +
    provisional_ends(points) +
    points_alone(points) +
    filled_marks(points)
  plot <- plot +
    ggplot2::scale_colour_manual(values = colours, guide = "none") +
    axis_scale(axis)
  plot <- plot +
    if (log_scale) {
      ggplot2::scale_y_log10(labels = axis_numbers)
    } else {
      second_scale(second)
    }
  if (panels == "units") {
    return(
      plot + ggplot2::facet_wrap(ggplot2::vars(.data$unit), scales = "free_y")
    )
  }
  if (panels != "none") {
    return(plot + lines_panels(names, panels))
  }
  # at the right is the other axis
  if (length(names) > 12 || !is.null(second)) {
    return(plot)
  }
  ends <- points[!duplicated(points$name, fromLast = TRUE), , drop = FALSE]
  scale <- if (log_scale) log10 else identity
  back <- if (log_scale) function(x) 10^x else identity
  height <- diff(range(scale(points$shown)))
  ends$label <- back(
    spread_labels(scale(ends$shown), max(height, 1e-300) * 0.036)
  )
  plot +
    ggplot2::geom_text(
      ggplot2::aes(y = .data$label, label = short_names(.data$name, 28)),
      data = ends,
      hjust = 0,
      nudge_x = diff(range(points$at)) * 0.008,
      size = 3.6,
      show.legend = FALSE
    ) +
    ggplot2::coord_cartesian(clip = "off")
}

# The axis of values, with that of a second series.
second_scale <- function(second) {
  if (is.null(second)) {
    return(ggplot2::scale_y_continuous(labels = axis_numbers))
  }
  scale <- ggplot2::scale_y_continuous(
    labels = axis_numbers, sec.axis = second$axis
  )
  scale$second <- second[c("label", "shift", "slope", "colour")]
  list(second$line, scale, ggplot2::theme(
    axis.title.y.right = ggplot2::element_text(colour = second$colour)
  ))
}

label_room <- function(names) 14 + 6.2 * min(28, max(nchar(names)))

lines_panels <- function(names, panels) {
  most <- 24
  if (length(names) > most) {
    say_figure(length(names), " series have a panel each: they will be small")
  }
  ggplot2::facet_wrap(
    ggplot2::vars(.data$name),
    scales = if (panels == "free") "free_y" else "fixed",
    labeller = ggplot2::labeller(.default = function(x) short_names(x, 34))
  )
}

# A provisional end is joined to the last final value.
provisional_ends <- function(points) {
  late <- which(points$status == "provisional")
  if (!length(late)) {
    return(NULL)
  }
  before <- late - 1
  hang <- before[
    before > 0 & points$piece[pmax(before, 1)] == points$piece[late]
  ]
  rows <- sort(unique(c(late, hang)))
  run <- cumsum(c(TRUE, diff(rows) > 1 | diff(points$piece[rows]) != 0))
  ends <- points[rows, , drop = FALSE]
  ends$run <- run
  ggplot2::geom_line(
    ggplot2::aes(group = .data$run),
    data = ends, linetype = "22",
    linewidth = 0.6
  )
}

alone_in_piece <- function(points) {
  tabulate(points$piece, max(points$piece))[points$piece] == 1
}

# A value between two gaps is drawn as a point.
points_alone <- function(points) {
  alone <- points[alone_in_piece(points), , drop = FALSE]
  if (nrow(alone)) ggplot2::geom_point(data = alone, size = 1.6)
}

# Filled values as marks of another shape, one a rule.
filled_marks <- function(points) {
  filled <- points[points$status == "filled", , drop = FALSE]
  if (!nrow(filled)) {
    return(NULL)
  }
  filled$rule[is.na(filled$rule)] <- "filled"
  list(
    ggplot2::geom_point(
      ggplot2::aes(shape = .data$rule),
      data = filled, size = 2, stroke = 0.9
    ),
    ggplot2::scale_shape_manual(
      values = c(1, 2, 0, 5, 6, 4, 3),
      guide = ggplot2::guide_legend(override.aes = list(colour = "grey50"))
    )
  )
}
