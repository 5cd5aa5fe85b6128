# Interactive figures: a drawn figure as panels and traces of plotly.

#' Interactive figures
#'
#' The layers of a figure as an interactive one: values under the pointer, zoom
#' and pan by both axes, a legend that switches series on and off, and buttons
#' for the last months and years. Days and hours without any bar take no space.
#'
#' @param figure A figure, or another ggplot of lines, points, ranges,
#'   rectangles, ribbons and texts.
#' @param height The height in pixels; by default by the number of panels.
#' @param wheel Whether the wheel of the mouse zooms.
#' @return An htmlwidget of the package plotly. `figure_save()` writes it, with
#'   the figure's texts, to an `.html` file that needs no network.
#' @section Errors: `vetusta_error_figure` if it is no figure, or cannot be
#'   drawn.
#' @export
#' @examples
#' days <- bars_frame(
#'   data.frame(
#'     symbol = "KELD",
#'     time = as.POSIXct("2026-03-02", tz = "UTC") + 86400 * 0:3,
#'     close = 41:44
#'   )
#' )
#' figure_interactive(figure_lines(days))
figure_interactive <- function(figure, height = NULL, wheel = FALSE) {
  check_figure(figure)
  check_flag(wheel, "wheel")
  if (!is.null(height)) check_number(height, "height", 100, "figure")
  built <- figure_built(figure)
  panels <- interactive_panels(built)
  times <- interactive_times(built)
  traces <- interactive_traces(figure, built, panels, times)
  height <- height %||% interactive_height(panels)
  layout <- interactive_layout(built, panels, times, traces, height)
  widget <- plotly::as_widget(
    list(
      data = interactive_points(traces, times),
      layout = layout,
      config = list(
        displaylogo = FALSE, scrollZoom = wheel, responsive = TRUE,
        modeBarButtonsToRemove = I(c("select2d", "lasso2d", "autoScale2d"))
      )
    ),
    sizingPolicy = htmlwidgets::sizingPolicy(padding = 0),
  )
  # a substitute that only browsers from before 2013 need
  old <- vapply(widget$dependencies, `[[`, "", "name") == "typedarray"
  widget$dependencies <- widget$dependencies[!old]
  widget$width <- "100%"
  widget$height <- height
  widget
}

check_figure <- function(figure) {
  if (missing(figure) || !inherits(figure, "ggplot")) {
    vetusta_stop(
      "figure", "This is not a figure.",
      todo = "make a figure with figure_candles() or figure_lines()"
    )
  }
}

# Separates errors of the figure from errors of the file.
figure_built <- function(figure, where = NULL) {
  other_errors(ggplot2::ggplot_build(figure), function(e) {
    vetusta_stop(
      "figure",
      paste0(
        "The figure cannot be drawn: ",
        gsub("[[:space:]]+", " ", conditionMessage(e))
      ),
      where = where, todo = "check the layers added to it"
    )
  })
}

# A row per panel: its number, row and column, its heading, the share of the
# height of its row, and whether its axes are those of all panels.
interactive_panels <- function(built) {
  layout <- built$layout$layout
  facet <- built$layout$facet
  strips <- facet[["strip_heights"]]
  variables <- setdiff(
    names(layout),
    c("PANEL", "ROW", "COL", "SCALE_X", "SCALE_Y", if (length(strips)) "strip")
  )
  heads <- do.call(
    paste, c(lapply(layout[variables], as.character), list(sep = ", "))
  )
  rows <- max(layout$ROW)
  heights <- rep_len(if (length(strips)) strips else 1, rows)
  shares <- heights / sum(heights)
  room <- min(0.3, 0.09 * (rows - 1)) / max(1, rows - 1)
  tops <- 1 - c(0, cumsum(shares))[seq_len(rows)] * 1
  data.frame(
    panel = as.integer(layout$PANEL), row = layout$ROW, column = layout$COL,
    head = if (length(variables)) heads else "",
    axis = if (length(strips)) as.character(layout$strip) else "",
    top = tops[layout$ROW] - if (rows > 1) room / 2 else 0,
    bottom = (tops - shares)[layout$ROW] + if (rows > 1) room / 2 else 0,
    shared_x = length(unique(layout$SCALE_X)) == 1,
    shared_y = length(unique(layout$SCALE_Y)) == 1 && nrow(layout) > 1
  )
}

interactive_height <- function(panels) {
  rows <- max(panels$row)
  if (any(nzchar(panels$axis))) 470 else min(1400, 330 + 130 * (rows - 1))
}

# A function from positions on the axis to seconds; NULL where the axis is none
# of times.
interactive_times <- function(built) {
  scale <- built$layout$panel_scales_x[[1]]
  times <- scale[["positions_of"]]
  if (is.null(times)) {
    return(NULL)
  }
  seconds <- if (identical(times, "time")) {
    identity
  } else if (identical(times, "day")) {
    function(x) 86400 * x
  } else {
    at <- seq_along(times)
    function(x) {
      inside <- stats::approx(at, times, pmin(pmax(x, 1), length(at)))$y
      if (length(at) == 1) times else inside
    }
  }
  structure(
    list(seconds = seconds, zone = scale[["zone"]], times = times),
    class = "vetusta_axis_times"
  )
}

# list(form, zone): how the times of a figure are written: days without their
# hour, hours without their seconds. One form for all traces, since a day alone
# stands for its midnight.
interactive_time_form <- function(traces, times) {
  seconds <- unique(unlist(lapply(traces, function(trace) {
    times$seconds(as.numeric(trace$x))
  })))
  seconds <- sort(seconds[is.finite(seconds)])
  if (all(seconds %% 86400 == 0) || identical(times$times, "day")) {
    days <- format(utc(seconds), "%d", tz = "UTC")
    form <- if (all(days == "01")) "%Y-%m" else "%Y-%m-%d"
    return(list(form = form, zone = "UTC"))
  }
  clock <- format(utc(seconds), "%H:%M:%S", tz = times$zone)
  # values of whole days, all at one hour
  form <- if (length(unique(clock)) == 1 && min(diff(seconds), Inf) > 72000) {
    "%Y-%m-%d"
  } else if (all(endsWith(clock, ":00"))) {
    "%Y-%m-%d %H:%M"
  } else {
    "%Y-%m-%d %H:%M:%S"
  }
  list(form = form, zone = times$zone)
}

interactive_time_text <- function(x, times, form) {
  seconds <- times$seconds(x)
  unique <- unique(seconds)
  text <- format(utc(unique), form$form, tz = form$zone)
  ifelse(is.na(seconds), NA_character_, text[match(seconds, unique)])
}

# Traces as plotly takes them: dates for times, numbers with few digits.
interactive_points <- function(traces, times) {
  form <- if (!is.null(times)) interactive_time_form(traces, times)
  lapply(traces, function(trace) {
    if (!is.null(times)) {
      trace$x <- I(interactive_time_text(as.numeric(trace$x), times, form))
    } else if (is.numeric(trace$x)) {
      trace$x <- I(signif(trace$x, 10))
    }
    for (name in c("y", "open", "high", "low", "close")) {
      if (!is.null(trace[[name]])) {
        trace[[name]] <- I(signif(as.numeric(trace[[name]]), 10))
      }
    }
    trace
  })
}

interactive_layout <- function(built, panels, times, traces, height) {
  page <- page_colours$light
  columns <- max(panels$column)
  gap <- if (columns > 1) 0.07 else 0
  wide <- (1 - gap * (columns - 1)) / columns
  labels <- figure_labels(built$plot)
  several <- nrow(panels) > 1
  axes <- list()
  for (i in seq_len(nrow(panels))) {
    panel <- panels[i, ]
    number <- if (i == 1) "" else i
    left <- (panel$column - 1) * (wide + gap)
    lowest <- panel$row == max(panels$row[panels$column == panel$column])
    axes[[paste0("xaxis", number)]] <- c(
      list(
        domain = c(left, left + wide), anchor = paste0("y", number),
        gridcolor = page$grid, zeroline = FALSE, tickangle = 0,
        nticks = max(3, floor(12 / columns)),
        showticklabels = lowest || !panel$shared_x,
        # candles would bring a second, small axis
        rangeslider = list(visible = FALSE)
      ),
      if (several && panel$shared_x && i > 1) list(matches = "x"),
      if (lowest && length(labels$x)) {
        list(title = list(text = labels$x, standoff = 8))
      },
      interactive_axis(built, panel$panel, "x", times)
    )
    axes[[paste0("yaxis", number)]] <- c(
      list(
        domain = c(panel$bottom, panel$top), anchor = paste0("x", number),
        gridcolor = page$grid, zeroline = FALSE, separatethousands = TRUE,
        hoverformat = ",.8~g", automargin = TRUE
      ),
      if (several && panel$shared_y && i > 1) list(matches = "y"),
      interactive_title(panel, labels$y, several),
      interactive_axis(built, panel$panel, "y", NULL)
    )
  }
  second <- built$layout$panel_scales_y[[1]]$second
  if (!is.null(second)) {
    axes$yaxis99 <- list(
      overlaying = "y", side = "right", anchor = "x", showgrid = FALSE,
      separatethousands = TRUE, hoverformat = ",.8~g", automargin = TRUE,
      title = list(text = second$label, font = list(color = second$colour))
    )
  }
  axes$xaxis$rangeselector <- interactive_ranges(
    traces, times, if (any(nzchar(panels$head))) 20 / height else 0
  )
  axes$xaxis$rangebreaks <- interactive_breaks(times)
  if (length(axes$xaxis$rangebreaks)) {
    for (name in grep("^xaxis", names(axes), value = TRUE)) {
      axes[[name]]$rangebreaks <- axes$xaxis$rangebreaks
    }
  }
  named <- sum(vapply(traces, function(x) isTRUE(x$showlegend), TRUE))
  headed <- any(nzchar(panels$head))
  c(
    axes,
    list(
      annotations = interactive_heads(panels, wide, gap),
      meta = list(
        panels = if (any(nzchar(panels$axis))) 1 else nrow(panels)
      ),
      hovermode = if (several) "x" else "x unified",
      showlegend = named > 1 && named <= 12 && named > sum(nzchar(panels$head)),
      legend = list(orientation = "h", x = 0, y = -0.16, yanchor = "top"),
      margin = list(l = 60, r = 20, t = if (headed) 64 else 44, b = 40),
      modebar = list(
        bgcolor = "rgba(0,0,0,0)", color = page$quiet, activecolor = page$soft,
        orientation = "v"
      ),
      paper_bgcolor = "rgba(0,0,0,0)", plot_bgcolor = "rgba(0,0,0,0)",
      font = list(color = page$text, family = "inherit", size = 13),
      dragmode = "zoom"
    )
  )
}

figure_labels <- function(plot) {
  one <- function(name) {
    text <- plot$labels[[name]]
    if (is.character(text) && length(text) == 1 && !grepl("^\\.data", text)) {
      text
    }
  }
  # labels that ggplot2 makes from mappings are names of columns
  made <- c("at", "shown", "value", "column", "line", "label", "state")
  list(
    x = setdiff(one("x"), made), y = setdiff(one("y"), made),
    title = one("title"), subtitle = one("subtitle"), caption = one("caption")
  )
}

interactive_title <- function(panel, label, several) {
  text <- if (nzchar(panel$axis)) {
    panel$axis
  } else if (panel$column == 1 && (panel$row == 1 || !several)) {
    label
  }
  if (length(text)) list(title = list(text = text, standoff = 6))
}

# Headings of panels, above their left corner.
interactive_heads <- function(panels, wide, gap) {
  first <- panels[nzchar(panels$head) &
    !duplicated(paste(panels$head, panels$column)), ]
  lapply(seq_len(nrow(first)), function(i) {
    list(
      text = paste0("<b>", html_text(short_names(first$head[i], 40)), "</b>"),
      x = (first$column[i] - 1) * (wide + gap), y = first$top[i],
      xref = "paper", yref = "paper", xanchor = "left", yanchor = "bottom",
      showarrow = FALSE, font = list(size = 12)
    )
  })
}

# The kind of an axis, and the labels of one of names.
interactive_axis <- function(built, panel, which, times) {
  if (!is.null(times)) {
    return(list(type = "date"))
  }
  scale <- built$layout[[paste0("panel_scales_", which)]][[
    built$layout$layout[[paste0("SCALE_", toupper(which))]][panel]
  ]]
  range <- built$layout$panel_params[[panel]][[paste0(which, ".range")]]
  if (is_log_scale(scale)) {
    return(list(type = "log"))
  }
  view <- built$layout$panel_params[[panel]][[which]]
  breaks <- view$get_breaks()
  at <- if (scale$is_discrete()) {
    seq_along(breaks)
  } else if (is.character(scale$labels) || is.function(scale$labels)) {
    as.numeric(breaks)
  }
  # numbers are labelled anew when the axis is zoomed
  if (!scale$is_discrete() && !is.character(scale$labels)) {
    return(list(range = range))
  }
  labels <- view$get_labels()
  kept <- !is.na(at)
  list(
    tickvals = I(at[kept]), ticktext = I(as.character(labels)[kept]),
    range = range
  )
}

is_log_scale <- function(scale) {
  trans <- scale$trans %||% scale$transformation
  isTRUE(grepl("log", trans$name %||% ""))
}

# Buttons for the last months and years, where the time is longer.
interactive_ranges <- function(traces, times, above) {
  if (is.null(times)) {
    return(NULL)
  }
  at <- unlist(lapply(traces, function(trace) range(trace$x, na.rm = TRUE)))
  days <- diff(range(times$seconds(at))) / 86400
  steps <- list(
    list(1, "day", "1 day", 1.5), list(7, "day", "1 week", 12),
    list(1, "month", "1 month", 40), list(6, "month", "6 months", 250),
    list(1, "year", "1 year", 450), list(5, "year", "5 years", 2200)
  )
  steps <- Filter(function(step) days > step[[4]], steps)
  if (!length(steps)) {
    return(NULL)
  }
  buttons <- lapply(utils::tail(steps, 3), function(step) {
    list(
      count = step[[1]], step = step[[2]], label = step[[3]],
      stepmode = "backward"
    )
  })
  list(
    buttons = c(buttons, list(list(step = "all", label = "all"))),
    x = 0, xanchor = "left", y = 1.02 + above, yanchor = "bottom"
  )
}

# Days and hours without any bar, which take no space.
interactive_breaks <- function(times) {
  if (is.null(times) || is.character(times$times) ||
    length(times$times) < 2) {
    return(NULL)
  }
  local <- as.POSIXlt(utc(times$times), tz = times$zone)
  day <- as.Date(local)
  all <- seq(min(day), max(day), by = 1)
  weekday <- as.POSIXlt(all)$wday
  free <- !any(as.POSIXlt(day)$wday %in% c(0, 6)) && any(weekday %in% c(0, 6))
  closed <- all[!all %in% day & !(free & weekday %in% c(0, 6))]
  hours <- interactive_nights(local, times$times)
  c(
    if (free) list(list(bounds = c("sat", "mon"))),
    if (length(closed) && length(closed) < 1000) {
      list(list(values = I(format(closed))))
    },
    if (length(hours)) list(list(bounds = hours, pattern = "hour"))
  )
}

# The hours of the night: from the end of the last bar of all days to the start
# of the first.
interactive_nights <- function(local, times) {
  step <- min(diff(times))
  if (step >= 72000) {
    return(NULL)
  }
  hour <- local$hour + local$min / 60
  first <- floor(min(hour) * 2) / 2
  last <- ceiling((max(hour) + step / 3600) * 2) / 2
  if (last - first < 22) c(last, first)
}
