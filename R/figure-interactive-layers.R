# The layers of a built figure as traces of plotly: one per panel and colour.

interactive_traces <- function(figure, built, panels, times) {
  candles <- interactive_candles(figure, built, panels)
  geoms <- vapply(
    built$plot$layers, function(layer) class(layer$geom)[1], ""
  )
  legend <- interactive_legend(built)
  left_out <- if (length(candles)) {
    geoms %in% c("GeomLinerange", "GeomRect") &
      vapply(built$plot$layers, drawn_from_candles, TRUE)
  } else {
    rep(FALSE, length(geoms))
  }
  traces <- list()
  for (i in seq_along(geoms)) {
    data <- built$data[[i]]
    if (left_out[i] || !NROW(data)) next
    data <- finite_ends(data, built)
    if (is_log_scale(built$layout$panel_scales_y[[1]])) {
      for (name in intersect(c("y", "ymin", "ymax", "yend"), names(data))) {
        data[[name]] <- 10^data[[name]]
      }
    }
    # names at the ends of lines are those of the legend
    if (geoms[i] == "GeomText" && length(data[["series"]])) next
    draw <- interactive_geoms[[geoms[i]]]
    if (is.null(draw)) next
    made <- layer_traces(data, draw, legend)
    if (length(data[["second_axis"]])) {
      made <- second_traces(made, built$layout$panel_scales_y[[1]]$second)
    }
    traces <- c(traces, made)
  }
  one_legend_entry(c(candles, traces))
}

# The layers of candles and of their volume, which have a trace of their own.
drawn_from_candles <- function(layer) {
  !is.data.frame(layer$data) || "volume" %in% names(layer$data)
}

# A series on the axis at the right, in its own values.
second_traces <- function(traces, second) {
  lapply(traces, function(trace) {
    trace$y <- (trace$y - second$shift) / second$slope
    trace$yaxis <- "y99"
    trace$name <- second$label
    trace$showlegend <- TRUE
    trace
  })
}

# Ends at infinity are those of the panel.
finite_ends <- function(data, built) {
  for (name in intersect(c("xmin", "xmax", "ymin", "ymax"), names(data))) {
    far <- which(is.infinite(data[[name]]))
    if (!length(far)) next
    axis <- paste0(substr(name, 1, 1), ".range")
    ranges <- lapply(built$layout$panel_params, `[[`, axis)
    end <- if (grepl("max", name)) 2 else 1
    data[[name]][far] <- vapply(
      ranges[as.integer(data$PANEL[far])], `[`, 0, end
    )
  }
  if (!is.null(data[["xintercept"]]) || !is.null(data[["yintercept"]])) {
    params <- built$layout$panel_params[as.integer(data$PANEL)]
    data$low <- vapply(params, function(x) {
      if (is.null(data[["xintercept"]])) x$x.range[1] else x$y.range[1]
    }, 0)
    data$high <- vapply(params, function(x) {
      if (is.null(data[["xintercept"]])) x$x.range[2] else x$y.range[2]
    }, 0)
  }
  data
}

# Names of colours and fills, where the figure has them.
interactive_legend <- function(built) {
  names_of <- function(aesthetic) {
    scale <- built$plot$scales$get_scales(aesthetic)
    if (is.null(scale) || identical(scale$guide, "none") ||
      !scale$is_discrete() || scale$is_empty()) {
      return(NULL)
    }
    limits <- scale$get_limits()
    stats::setNames(as.character(limits), scale$map(limits))
  }
  list(colours = names_of("colour"), fills = names_of("fill"))
}

# A trace per panel, colour and line; the series of a line is its name.
layer_traces <- function(data, draw, legend) {
  series <- data[["series"]]
  look <- lapply(
    c("colour", "fill", "linetype", "linewidth", "alpha", "size", "shape"),
    function(name) if (length(data[[name]])) as.character(data[[name]])
  )
  key <- do.call(
    paste, c(
      list(data$PANEL, if (length(series)) series else ""),
      Filter(length, look)
    )
  )
  rows <- split(seq_len(nrow(data)), match(key, unique(key)))
  unname(lapply(rows, function(rows) {
    part <- data[rows, , drop = FALSE]
    name <- if (length(series)) {
      as.character(series[rows[1]])
    } else {
      trace_name(part, legend)
    }
    panel <- as.integer(part$PANEL[1])
    number <- if (panel == 1) "" else panel
    c(
      draw(part, name),
      list(
        name = name %||% "", xaxis = paste0("x", number),
        yaxis = paste0("y", number), legendgroup = name %||% "",
        showlegend = !is.null(name)
      )
    )
  }))
}

trace_name <- function(part, legend) {
  find <- function(names, value) {
    if (length(value) && !is.na(value[1]) && value[1] %in% names(names)) {
      names[[value[1]]]
    }
  }
  find(legend$fills, part[["fill"]]) %||%
    find(legend$colours, part[["colour"]])
}

# Traces of one series share an entry.
one_legend_entry <- function(traces) {
  seen <- character()
  lapply(traces, function(trace) {
    if (isTRUE(trace$showlegend)) {
      trace$showlegend <- !trace$name %in% seen
      seen <<- c(seen, trace$name)
    }
    trace
  })
}

interactive_colour <- function(colour, alpha = NULL) {
  if (!length(colour) || is.na(colour[1])) {
    return("rgba(0,0,0,0)")
  }
  parts <- grDevices::col2rgb(colour[1], alpha = TRUE)
  share <- if (length(alpha) && !is.na(alpha[1])) alpha[1] else parts[4] / 255
  if (share >= 1) {
    return(grDevices::rgb(parts[1], parts[2], parts[3], maxColorValue = 255))
  }
  sprintf(
    "rgba(%d,%d,%d,%s)", parts[1], parts[2], parts[3], format(share, digits = 3)
  )
}

interactive_line <- function(part) {
  list(
    color = interactive_colour(part[["colour"]], part[["alpha"]]),
    width = round(max(1, 3 * (part[["linewidth"]] %||% 0.5)[1]), 1),
    dash = if ((part[["linetype"]] %||% 1)[1] %in% c("1", "solid")) {
      "solid"
    } else {
      "dash"
    }
  )
}

# Pieces of a line, with a gap between them.
with_gaps <- function(x, group) {
  ends <- which(diff(as.integer(factor(group, unique(group)))) != 0)
  if (!length(ends)) {
    return(x)
  }
  at <- sort(c(seq_along(x), ends + 0.5))
  out <- x[ifelse(at %% 1 == 0, at, NA)]
  out
}

# Several numbers a row, with a gap after each row.
rows_with_gaps <- function(...) c(rbind(..., NA))

lines_trace <- function(part, name) {
  list(
    type = "scatter", mode = "lines", x = with_gaps(part$x, part$group),
    y = with_gaps(part$y, part$group), line = interactive_line(part),
    hoverinfo = if (is.null(name)) "y" else "y+name"
  )
}

ranges_trace <- function(x, y, part) {
  list(
    type = "scatter", mode = "lines", x = x, y = y,
    line = interactive_line(part), hoverinfo = "y"
  )
}

filled_trace <- function(x, y, part, name) {
  list(
    type = "scatter", mode = "lines", x = x, y = y, fill = "toself",
    fillcolor = interactive_colour(part[["fill"]], part[["alpha"]]),
    line = list(width = 0), hoveron = "fills",
    hoverinfo = if (is.null(name)) "skip" else "name"
  )
}

# Boxes side by side are one.
joined_boxes <- function(part) {
  part <- part[order(part$ymin, part$xmin), , drop = FALSE]
  n <- nrow(part)
  new <- c(
    TRUE, part$ymin[-1] != part$ymin[-n] | part$ymax[-1] != part$ymax[-n] |
      abs(part$xmin[-1] - part$xmax[-n]) > 1e-6 * abs(part$xmax[-n])
  )
  first <- which(new)
  last <- c(first[-1] - 1L, n)
  out <- part[first, , drop = FALSE]
  out$xmax <- part$xmax[last]
  out
}

boxes_trace <- function(part, name) {
  part <- joined_boxes(part)
  filled_trace(
    rows_with_gaps(part$xmin, part$xmax, part$xmax, part$xmin, part$xmin),
    rows_with_gaps(part$ymin, part$ymin, part$ymax, part$ymax, part$ymin),
    part, name
  )
}

ribbon_trace <- function(part, name) {
  filled_trace(
    c(part$x, rev(part$x)), c(part$ymax, rev(part$ymin)), part, name
  )
}

# What each geometry of a figure becomes.
interactive_geoms <- list(
  GeomLine = lines_trace,
  GeomPath = lines_trace,
  GeomStep = lines_trace,
  GeomPoint = function(part, name) {
    symbol <- interactive_shapes[as.character(part$shape[1])]
    list(
      type = "scatter", mode = "markers", x = part$x, y = part$y,
      marker = list(
        color = interactive_colour(part[["colour"]], part[["alpha"]]),
        size = round(3 * (part$size %||% 1.5)[1], 1),
        symbol = if (is.na(symbol)) "circle" else unname(symbol)
      ),
      hoverinfo = if (is.null(name)) "x+y" else "x+y+name"
    )
  },
  GeomRibbon = ribbon_trace,
  GeomArea = ribbon_trace,
  GeomRect = boxes_trace,
  GeomTile = boxes_trace,
  GeomBar = boxes_trace,
  GeomCol = boxes_trace,
  GeomLinerange = function(part, name) {
    if (!is.null(part[["ymin"]])) {
      ranges_trace(
        rows_with_gaps(part$x, part$x), rows_with_gaps(part$ymin, part$ymax),
        part
      )
    } else {
      ranges_trace(
        rows_with_gaps(part$xmin, part$xmax), rows_with_gaps(part$y, part$y),
        part
      )
    }
  },
  GeomErrorbar = function(part, name) {
    ranges_trace(
      rows_with_gaps(part$x, part$x), rows_with_gaps(part$ymin, part$ymax),
      part
    )
  },
  GeomSegment = function(part, name) {
    ranges_trace(
      rows_with_gaps(part$x, part$xend), rows_with_gaps(part$y, part$yend),
      part
    )
  },
  GeomVline = function(part, name) {
    ranges_trace(
      rows_with_gaps(part$xintercept, part$xintercept),
      rows_with_gaps(part$low, part$high), part
    )
  },
  GeomHline = function(part, name) {
    ranges_trace(
      rows_with_gaps(part$low, part$high),
      rows_with_gaps(part$yintercept, part$yintercept), part
    )
  },
  GeomText = function(part, name) {
    list(
      type = "scatter", mode = "text", x = part$x, y = part$y,
      text = I(as.character(part$label)),
      textposition = if ((part$hjust %||% 0.5)[1] < 0.4) {
        "middle right"
      } else {
        "middle center"
      },
      textfont = list(color = interactive_colour(part[["colour"]])),
      hoverinfo = "skip", cliponaxis = FALSE
    )
  },
  GeomBoxplot = function(part, name) {
    boxes_trace(
      data.frame(
        xmin = part$xmin, xmax = part$xmax, ymin = part$lower,
        ymax = part$upper, fill = part$colour, alpha = 0.35
      ), name
    )
  }
)

interactive_shapes <- c(
  "0" = "square-open", "1" = "circle-open", "2" = "triangle-up-open",
  "5" = "diamond-open", "6" = "triangle-down-open", "4" = "x-thin-open",
  "3" = "cross-thin-open", "15" = "square",
  "16" = "circle", "17" = "triangle-up", "18" = "diamond", "19" = "circle"
)

# The bars of a figure of candles, with their four prices under the pointer.
interactive_candles <- function(figure, built, panels) {
  rows <- figure$data
  if (!isTRUE(attr(figure, "candles"))) {
    return(NULL)
  }
  colours <- way_colours$light
  names <- unique(as.character(rows$name))
  strip <- match("volume", panels$axis)
  volume <- if (!is.na(strip)) {
    list(list(
      type = "bar", x = rows$at, y = rows$volume, name = "volume",
      marker = list(color = page_colours$light$quiet), showlegend = FALSE,
      xaxis = paste0("x", strip), yaxis = paste0("y", strip)
    ))
  }
  c(volume, lapply(seq_along(names), function(i) {
    part <- rows[as.character(rows$name) == names[i], , drop = FALSE]
    number <- if (i == 1 || any(nzchar(panels$axis))) "" else i
    list(
      type = "candlestick", x = part$at, open = part$open, high = part$high,
      low = part$low, close = part$close, name = names[i], showlegend = FALSE,
      increasing = list(
        line = list(color = colours[["closed higher"]], width = 1),
        fillcolor = "rgba(255,255,255,0)"
      ),
      decreasing = list(
        line = list(color = colours[["closed lower"]], width = 1),
        fillcolor = colours[["closed lower"]]
      ),
      xaxis = paste0("x", number), yaxis = paste0("y", number)
    )
  }))
}
