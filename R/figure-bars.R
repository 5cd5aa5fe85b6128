#' Draw bars
#'
#' Both figures put values side by side in the order of their times, so that nights and closed days
#' take no room.
#'
#' @param bars A table of bars, see [bars_frame()].
#' @param title,subtitle Texts above the figure; by default what the bars say of themselves.
#' @param zone The IANA zone of the dates on the axis.
#' @return A ggplot object; [figure_save()] writes it to a file.
#' @details `figure_candles()` draws one candle a bar: the body from open to close, the line from
#'   low to high. A bar that
#'   closed higher is hollow and blue, one that closed lower is filled and orange, so that the two
#'   differ without colour too;
#'   a bar that is provisional is drawn pale. One symbol has its volume as grey columns at the
#'   foot; several symbols have a panel each.
#' @section Errors: `vetusta_error_figure` when there is nothing to draw.
#' @export
#' @examples
#' days <- bars_frame(data.frame(
#'   symbol = "KELD", time = as.POSIXct("2026-03-02 07:30", tz = "UTC") + 86400 * 0:3,
#'   open = c(41, 41.5, 41.2, 42), high = c(42, 42.1, 42.3, 42.4), low = c(40.6, 41, 41, 41.1),
#'   close = c(41.5, 41.2, 42, 41.4), volume = c(100, 140, 90, 120)
#' ))
#' figure_candles(days)
#' figure_lines(days)
figure_candles <- function(bars, title = NULL, subtitle = NULL, zone = "UTC") {
  check_zone(zone, "figure")
  bars <- drawable(bars)
  bars <- bars[stats::complete.cases(bars[c("open", "high", "low", "close")]), ]
  if (!nrow(bars)) {
    vetusta_stop("figure", "None of the bars has an open, high, low and close.",
      todo = "draw them with figure_lines()")
  }
  axis <- time_axis(bars$time, zone, most = if (length(unique(bars$symbol)) > 1) 6 else 12)
  bars$at <- axis$position
  bars$way <- ifelse(bars$close >= bars$open, "closed higher", "closed lower")
  symbols <- unique(bars$symbol)
  plot <- ggplot2::ggplot(bars,
    ggplot2::aes(x = .data$at, colour = .data$way, alpha = .data$status == "provisional"))
  if (length(symbols) == 1) plot <- plot + volume_foot(bars)
  body <- ggplot2::aes(xmin = .data$at - 0.34, xmax = .data$at + 0.34,
    ymin = pmin(.data$open, .data$close), ymax = pmax(.data$open, .data$close), fill = .data$way)
  plot <- plot +
    ggplot2::geom_linerange(ggplot2::aes(ymin = .data$low, ymax = .data$high), linewidth = 0.5) +
    ggplot2::geom_rect(body, linewidth = 0.5) +
    ggplot2::scale_colour_manual(values = way_colours) +
    ggplot2::scale_fill_manual(values = c("closed higher" = "white",
      "closed lower" = way_colours[["closed lower"]])) +
    ggplot2::scale_alpha_manual(values = c("FALSE" = 1, "TRUE" = 0.45), guide = "none")
  if (length(symbols) > 1) {
    plot <- plot + ggplot2::facet_wrap(ggplot2::vars(.data$symbol), scales = "free_y")
  }
  caption <- if (length(symbols) == 1 &&
    any(bars$volume > 0, na.rm = TRUE)) paste0("grey columns: volume, the largest ",
    format(max(bars$volume, na.rm = TRUE), big.mark = ","))
  figure_finish(plot, axis, title %||% paste(symbols, collapse = ", "),
    subtitle %||% describe_window(bars, zone), "price", caption)
}

#' @rdname figure_candles
#' @param value The column that is drawn.
#' @param base A number to which every series' first value is scaled, such as 100, so that series
#'   of different height can be
#'   compared; `NULL` draws the values as they are.
#' @param bridge A line is broken where a symbol has no value at more than this many times in a
#'   row at which others have one.
#' @details `figure_lines()` draws one line a symbol, named at its end.
#' @export
figure_lines <- function(bars, value = "close", base = NULL, title = NULL, subtitle = NULL,
  zone = "UTC", bridge = 30) {
  check_zone(zone, "figure")
  check_number(bridge, "bridge", 0, "figure")
  if (!is.null(base)) check_number(base, "base", kind = "figure")
  bars <- drawable(bars)
  check_choice(value, "value", names(bars)[vapply(bars, is.numeric, TRUE)], "figure")
  bars <- bars[!is.na(bars[[value]]), ]
  if (!nrow(bars)) {
    vetusta_stop("figure", paste0("None of the bars has a ", value, "."),
      todo = "choose another column as `value`")
  }
  axis <- time_axis(bars$time, zone)
  bars$at <- axis$position
  bars$shown <- bars[[value]]
  if (!is.null(base)) {
    first <- bars[[value]][match(bars$symbol, bars$symbol)]
    bars$shown <- bars[[value]] / first * base
  }
  starts_new <- c(TRUE, diff(bars$at) > bridge | bars$symbol[-1] != bars$symbol[-nrow(bars)])
  bars$piece <- cumsum(starts_new)
  symbols <- unique(bars$symbol)
  colours <- stats::setNames(rep(line_colours, length.out = length(symbols)), symbols)
  ends <- bars[!duplicated(bars$symbol, fromLast = TRUE), ]
  ends$label <- spread_labels(ends$shown, diff(range(bars$shown)) * 0.032)
  plot <- ggplot2::ggplot(bars,
    ggplot2::aes(x = .data$at, y = .data$shown, colour = .data$symbol)) +
    ggplot2::geom_line(ggplot2::aes(group = .data$piece), linewidth = if (nrow(bars) > 2000) 0.4
    else 0.7) +
    ggplot2::geom_text(ggplot2::aes(y = .data$label, label = .data$symbol), data = ends, hjust = 0,
      nudge_x = max(bars$at) * 0.008, size = 3.6, show.legend = FALSE) +
    ggplot2::scale_colour_manual(values = colours, guide = "none") +
    ggplot2::coord_cartesian(clip = "off")
  label <- if (is.null(base)) value else paste0(value, ", first value = ", format(base))
  figure_finish(plot, axis, title %||% paste(symbols, collapse = ", "),
    subtitle %||% describe_window(bars, zone), label) +
    ggplot2::theme(plot.margin = ggplot2::margin(10, 60, 8, 10))
}

#' Write a figure to a file
#'
#' @param figure A figure.
#' @param file Path of a `.png`, `.pdf` or `.svg` file.
#' @param width,height Size in pixels of a PNG; 120 of them are an inch of the others.
#' @return The path, invisibly.
#' @section Errors: `vetusta_error_figure` for an unknown kind of file or a folder that is not
#'   there.
#' @export
#' @examples
#' days <- bars_frame(data.frame(symbol = "KELD", time = as.POSIXct("2026-03-02", tz = "UTC") +
#' 86400 * 0:3, close = 41:44))
#' figure_save(figure_lines(days), tempfile(fileext = ".png"))
figure_save <- function(figure, file, width = 1280, height = 800) {
  if (missing(figure) || !inherits(figure, "ggplot")) {
    vetusta_stop("figure", "What is written is a figure.",
      todo = "make one with figure_candles() or figure_lines()")
  }
  check_text(file, "file", "figure")
  ending <- tolower(sub(".*[.]", "", file))
  if (!ending %in% c("png", "pdf", "svg")) {
    vetusta_stop("figure", "The figure's file must end in .png, .pdf or .svg.", where = file,
      todo = "give another name")
  }
  if (!dir.exists(dirname(file))) {
    vetusta_stop("figure", "The folder for the figure is not there.", where = dirname(file),
      todo = "make it, or give another path")
  }
  switch(ending,
    png = grDevices::png(file, width, height, res = 120, type = if (capabilities("cairo")) "cairo"
    else getOption("bitmapType")),
    pdf = grDevices::pdf(file, width / 120, height / 120),
    svg = grDevices::svg(file, width / 120, height / 120)
  )
  tryCatch(print(figure), finally = grDevices::dev.off())
  invisible(file)
}

# Blue and vermilion, and the eight colours of Okabe and Ito without yellow: they stay apart for
# colour-blind readers.
way_colours <- c("closed higher" = "#0072B2", "closed lower" = "#D55E00")
line_colours <- c("#0072B2", "#D55E00", "#009E73", "#CC79A7", "#56B4E9", "#E69F00", "#000000")

drawable <- function(bars) {
  bars <- given(bars, "bars", "figure")
  if (!is.data.frame(bars) || !nrow(bars)) {
    vetusta_stop("figure", "There are no bars to draw.",
      todo = "look at the window and the symbols")
  }
  without_notes(ordered_bars(bars))
}

describe_window <- function(bars, zone) {
  day <- function(instant) format(instant, "%e %B %Y", tz = zone)
  step <- smallest_step(bars$time, bar_groups(bars)$id)
  length_of_bar <- if (is.na(step)) "" else if (step >= 72000 && step < 6e5) "days, "
  else paste0(format(interval_of(round(step), "second")), " bars, ")
  trimws(paste0(length_of_bar, trimws(day(min(bars$time))), " to ", trimws(day(max(bars$time)))))
}

# Positions 1, 2, 3, ... for the times that occur, and labels where a day, month or year begins.
time_axis <- function(time, zone, most = 12) {
  times <- sort(unique(as.numeric(time)))
  days <- local_day(utc(times), zone)
  spanned <- as.numeric(max(days) - min(days))
  mark <- if (spanned <= 45) days else if (spanned <= 1100) format(days, "%Y-%m")
  else format(days, "%Y")
  starts <- which(!duplicated(mark))
  if (spanned == 0) {
    starts <- unique(round(seq(1, length(times), length.out = min(8, length(times)))))
  }
  if (length(starts) > most) {
    starts <- starts[seq(1, length(starts), by = ceiling(length(starts) / most))]
  }
  labels <- if (spanned == 0) format(utc(times[starts]), "%H:%M", tz = zone)
  else if (spanned <= 45) trimws(format(days[starts], "%e %b"))
  else if (spanned <= 1100) format(days[starts], "%b %Y")
  else format(days[starts], "%Y")
  list(position = match(as.numeric(time), times), breaks = starts, labels = labels)
}

# Labels pushed apart until none lies on another, keeping their order.
spread_labels <- function(at, least) {
  order <- order(at)
  placed <- at[order]
  for (i in seq_along(placed)[-1]) placed[i] <- max(placed[i], placed[i - 1] + least)
  placed <- placed - mean(placed - at[order])
  placed[order(order)]
}

volume_foot <- function(bars) {
  low <- min(bars$low)
  room <- (max(bars$high) - low) * 0.22
  largest <- max(c(bars$volume, 0), na.rm = TRUE)
  if (largest == 0 || all(is.na(bars$volume))) {
    return(NULL)
  }
  columns <- data.frame(at = bars$at, foot = low - room,
    top = low - room + ifelse(is.na(bars$volume), 0, bars$volume) / largest * room * 0.9)
  ggplot2::geom_rect(ggplot2::aes(xmin = .data$at - 0.34, xmax = .data$at + 0.34, ymin = .data$foot,
    ymax = .data$top), data = columns,
    inherit.aes = FALSE, fill = "grey80")
}

figure_finish <- function(plot, axis, title, subtitle, label, caption = NULL) {
  plot +
    ggplot2::scale_x_continuous(breaks = axis$breaks, labels = axis$labels,
      expand = ggplot2::expansion(mult = c(0.02, 0.02))) +
    ggplot2::scale_y_continuous(labels = function(x) format(x, big.mark = ",", trim = TRUE)) +
    ggplot2::labs(title = title, subtitle = subtitle, x = NULL, y = label, caption = caption) +
    ggplot2::theme_minimal(base_size = 12) +
    ggplot2::theme(
      legend.position = "top", legend.title = ggplot2::element_blank(),
      legend.justification = "left", panel.grid.minor = ggplot2::element_blank(),
      plot.title = ggplot2::element_text(face = "bold"),
      plot.background = ggplot2::element_rect(fill = "white", colour = NA)
    )
}

utils::globalVariables(".data")
