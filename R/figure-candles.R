#' Draw candles
#'
#' A candle per bar: the body from open to close, the line from low to high. A
#' rising bar is hollow and blue, a falling bar filled and orange, so that they
#' differ without colour too; a provisional bar is pale. Bars are evenly spaced,
#' so that nights and closed days take no space; early and late sessions are
#' shaded. The volume of a single symbol has a panel below; several symbols have
#' a panel each.
#'
#' @param bars A table of bars, see [bars_frame()].
#' @param title,subtitle,caption Texts above and below; by default from the
#'   bars.
#' @param zone The IANA zone of the dates on the axis.
#' @param calendar The calendar for resampling, if there are too many bars.
#' @param names Names in place of symbols, as `c(KELD = "Kelder Lines")`.
#' @param dark For a dark background.
#' @param with What is drawn over the candles, as in [figure_lines()]; windows
#'   are those of the closes of the drawn bars.
#' @param most The largest number of candles. More bars are resampled to the
#'   shortest interval that fits, and a message of the class `vetusta_note` and
#'   the caption say so; if none fits, ranges from low to high are drawn with a
#'   line through the closes.
#' @return A ggplot object whose data are the candles drawn; [figure_save()]
#'   writes it to a file.
#' @section Errors: `vetusta_error_figure` if there is nothing to draw.
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
#' figure_candles(days)
figure_candles <- function(bars, title = NULL, subtitle = NULL, caption = NULL,
                           zone = "UTC", calendar = NULL, names = NULL,
                           dark = FALSE, most = 200, with = NULL) {
  asked <- lineage_asked()
  check_zone(zone, "figure")
  check_flag(dark, "dark")
  check_number(most, "most", 2, "figure")
  check_calendar(calendar)
  check_names(names)
  interval <- attr(given(bars, "bars", "figure"), "interval")
  bars <- drawable(bars)
  bars <- bars[
    stats::complete.cases(
      as.data.frame(bars)[c("open", "high", "low", "close")]
    ),
  ]
  if (!nrow(bars)) {
    vetusta_stop(
      "figure", "None of the bars has an open, high, low and close.",
      todo = "draw them with figure_lines()"
    )
  }
  symbols <- unique(series_of_rows(as_series(bars)))
  jumps <- candle_jumps(bars, interval, zone)
  grown <- candles_that_fit(
    bars, interval, calendar, zone,
    max(20, most / ceiling(sqrt(length(symbols))))
  )
  bars <- grown$bars
  shown <- candle_rows(bars, zone, names, if (length(symbols) > 1) 5 else 12)
  plot <- if (grown$fit) {
    candles_drawn(shown, dark)
  } else {
    ranges_drawn(shown, dark)
  }
  if (grown$fit) plot <- plot + candle_scales(dark)
  plot <- plot + jump_lines(jumps, shown, dark) + axis_scale(shown$axis) +
    ggplot2::scale_y_continuous(labels = axis_numbers)
  strips <- shown$volume && length(symbols) == 1
  plot <- plot + overlay_layers(
    candle_closes(shown$rows), with, shown$axis, zone, dark,
    if (strips) factor("price", c("price", "volume"))
  )
  plot <- plot +
    if (strips) {
      candle_strips()
    } else if (length(symbols) > 1) {
      ggplot2::facet_wrap(ggplot2::vars(.data$name), scales = "free_y")
    }
  figure <- figure_dressed(
    plot, title %||% figure_title(unique(as.character(shown$rows$name))),
    subtitle %||%
      paste0(grown$length, ", ", figure_window(as.numeric(bars$time), zone)),
    captions(
      caption, overlay_words(with), grown$said, jump_words(jumps),
      if (any(shown$rows$status %in% "provisional")) "pale: provisional"
    ),
    y = if (!strips) "price", dark = dark
  ) + strip_text()
  figure <- structure(figure, candles = grown$fit)
  lineage_step(figure, "figure_candles", asked)
}

candle_closes <- function(rows) {
  data.frame(
    name = rows$name, time = as.numeric(rows$time), value = rows$close
  )
}

# Jumps of daily and longer bars that a split would explain.
candle_jumps <- function(bars, interval, zone) {
  if (!is.null(interval) && is_intraday(interval)) {
    return(NULL)
  }
  jumps <- tryCatch(
    without_notes(bars_jumps(bars, zone = zone)),
    vetusta_error = function(e) NULL
  )
  if (NROW(jumps)) {
    jumps$day <- local_day(jumps$time, zone)
    jumps
  }
}

# A dashed line at the bar of each jump.
jump_lines <- function(jumps, shown, dark) {
  if (is.null(jumps)) {
    return(NULL)
  }
  at <- findInterval(as.numeric(jumps$time), shown$axis$times)
  symbol <- series_of_rows(as_series(shown$rows))
  lines <- data.frame(
    at = at, name = shown$rows$name[match(jumps$symbol, symbol)]
  )
  ggplot2::geom_vline(
    ggplot2::aes(xintercept = .data$at),
    data = lines[at > 0, , drop = FALSE],
    colour = page_colours[[shade_name(dark)]]$soft, linetype = "22",
    linewidth = 0.5
  )
}

drawable <- function(bars) {
  bars <- given(bars, "bars", "figure")
  if (!is.data.frame(bars) || !nrow(bars)) {
    vetusta_stop(
      "figure", "There are no bars to draw.",
      todo = "check the window and the symbols"
    )
  }
  without_notes(ordered_bars(bars))
}

candle_lengths <- c(
  "5 minutes", "15 minutes", "30 minutes", "1 hour", "1 day", "1 week",
  "1 month", "3 months", "1 year"
)

# list(bars, length, said, fit): the bars, or the shortest longer bars that are
# still distinguishable.
candles_that_fit <- function(bars, interval, calendar, zone, most) {
  count <- function(bars) length(unique(as.numeric(bars$time)))
  step <- smallest_step(bars$time, bar_groups(bars)$id)
  step_interval <- if (!is.null(interval)) {
    interval
  } else if (!is.na(step) && step < 72000) {
    interval_of(round(step), "second")
  }
  label <- function(interval) {
    if (is.null(interval)) "days" else paste0(format(interval), " bars")
  }
  before <- count(bars)
  if (before <= most) {
    return(
      list(bars = bars, length = label(step_interval), said = NULL, fit = TRUE)
    )
  }
  seconds <- if (is.null(step_interval)) {
    86400
  } else {
    interval_seconds(step_interval)
  }
  for (length in candle_lengths) {
    longer <- time_interval(length)
    if (interval_seconds(longer) <= seconds) next
    # skip an interval that is far too short
    if (is_intraday(longer) &&
      before * seconds / interval_seconds(longer) > 1.5 * most) {
      next
    }
    made <- tryCatch(
      without_notes(
        bars_resample(
          bars,
          longer,
          calendar,
          session = NULL,
          base = step_interval %||% "1 day",
          zone = zone,
          need = 0
        )
      ),
      vetusta_error = function(e) NULL
    )
    if (is.null(made) || count(made) > most) next
    said <- paste0(
      thousands(before), " bars of ",
      format(step_interval %||% time_interval("1 day")),
      " are too many to draw: drawn as ", format(longer)
    )
    say_figure(said)
    return(list(bars = made, length = label(longer), said = said, fit = TRUE))
  }
  said <- paste0(
    thousands(before), " bars are too many for candles: drawn as ranges"
  )
  say_figure(said)
  list(bars = bars, length = label(step_interval), said = said, fit = FALSE)
}

# Bars with their place on the axis and whether they rose.
candle_rows <- function(bars, zone, names, labels) {
  axis <- time_axis(bars$time, zone, labels)
  symbol <- series_of_rows(as_series(bars))
  known <- match(symbol, names(names))
  rows <- as.data.frame(bars)
  rows$name <- ifelse(is.na(known), symbol, as.character(names)[known])
  rows$name <- factor(rows$name, unique(rows$name))
  rows$at <- axis$position
  rows$way <- ifelse(rows$close >= rows$open, "closed higher", "closed lower")
  rows$status <- rows[["status"]] %||% rep("observed", nrow(rows))
  rows$status[is.na(rows$status)] <- "observed"
  rows$strip <- factor("price", c("price", "volume"))
  rows$shown <- rows$close
  list(
    rows = rows,
    axis = axis,
    volume = any(rows$volume > 0, na.rm = TRUE),
    sessions = session_runs(rows)
  )
}

# Ranges of early and late sessions on the axis.
session_runs <- function(rows) {
  if (is.null(rows[["session"]]) ||
    all(is.na(rows$session)) ||
    !any(rows$session %in% c("early", "late")) ||
    length(unique(rows$name)) > 1) {
    return(NULL)
  }
  beside <- rows$session %in% c("early", "late")
  runs <- rle(beside)
  ends <- cumsum(runs$lengths)
  starts <- ends - runs$lengths + 1
  data.frame(
    from = rows$at[starts[runs$values]] - 0.5,
    to = rows$at[ends[runs$values]] + 0.5
  )
}

candles_drawn <- function(shown, dark) {
  rows <- shown$rows
  page <- page_colours[[shade_name(dark)]]
  plot <- ggplot2::ggplot(
    rows,
    ggplot2::aes(
      x = .data$at,
      colour = .data$way,
      alpha = .data$status == "provisional"
    )
  )
  if (!is.null(shown$sessions)) {
    plot <- plot + session_shade(shown$sessions, page)
  }
  plot <- plot +
    ggplot2::geom_linerange(
      ggplot2::aes(ymin = .data$low, ymax = .data$high),
      linewidth = 0.5
    ) +
    ggplot2::geom_rect(
      ggplot2::aes(
        xmin = .data$at - 0.34,
        xmax = .data$at + 0.34,
        ymin = pmin(.data$open, .data$close),
        ymax = pmax(.data$open, .data$close),
        fill = .data$way
      ),
      linewidth = 0.5
    )
  if (shown$volume && nlevels(rows$name) == 1) {
    plot <- plot + volume_columns(rows, page)
  }
  plot
}

session_shade <- function(sessions, page) {
  ggplot2::geom_rect(
    ggplot2::aes(xmin = .data$from, xmax = .data$to, ymin = -Inf, ymax = Inf),
    data = sessions, inherit.aes = FALSE, fill = page$shade
  )
}

volume_columns <- function(rows, page) {
  rows <- rows[!is.na(rows$volume), , drop = FALSE]
  rows$strip <- factor("volume", c("price", "volume"))
  ggplot2::geom_rect(
    ggplot2::aes(
      xmin = .data$at - 0.34, xmax = .data$at + 0.34, ymin = 0,
      ymax = .data$volume
    ),
    data = rows, inherit.aes = FALSE, fill = page$quiet
  )
}

# Too many bars for candles: the range of each bar, and a line through the
# closes.
ranges_drawn <- function(shown, dark) {
  rows <- shown$rows
  page <- page_colours[[shade_name(dark)]]
  plot <- ggplot2::ggplot(rows, ggplot2::aes(x = .data$at)) +
    ggplot2::geom_linerange(
      ggplot2::aes(ymin = .data$low, ymax = .data$high),
      colour = page$quiet,
      linewidth = 0.3
    ) +
    ggplot2::geom_line(
      ggplot2::aes(y = .data$close),
      colour = line_colours[[shade_name(dark)]][1],
      linewidth = 0.4
    )
  if (shown$volume && nlevels(rows$name) == 1) {
    plot <- plot + volume_columns(rows, page)
  }
  plot
}

candle_scales <- function(dark) {
  colours <- way_colours[[shade_name(dark)]]
  paper <- page_colours[[shade_name(dark)]]$paper
  list(
    ggplot2::scale_colour_manual(values = colours),
    ggplot2::scale_fill_manual(
      values = c(
        "closed higher" = paper,
        "closed lower" = colours[["closed lower"]]
      )
    ),
    ggplot2::scale_alpha_manual(
      values = c("FALSE" = 1, "TRUE" = 0.45),
      guide = "none"
    )
  )
}

# Price above volume, four to one, each with its own axis.
candle_strips <- function() stacked_strips(NULL, c(4, 1))
