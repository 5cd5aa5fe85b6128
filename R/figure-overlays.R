# What is drawn over lines and candles: means and bands of a window, levels,
# marked days, and a series on an axis of its own.

# The layers of `with`, texts as "mean 20 days". `rows` has the drawn `name`,
# `time` (seconds), and `value`; `axis` the positions.
overlay_layers <- function(rows, with, axis, zone, dark, strip = NULL) {
  if (is.null(with)) {
    return(NULL)
  }
  check_text(with, "with", "figure", several = TRUE)
  read <- lapply(with, overlay_read)
  lapply(seq_along(read), function(i) {
    overlay <- read[[i]]
    overlay_kinds[[overlay$draw]](overlay, rows, axis, zone, dark, strip, i)
  })
}

overlay_pattern <- "^(mean|min|max|band|level|mark)[[:space:]]+(.+)$"

# What a text says, with the name of its entry in overlay_kinds.
overlay_read <- function(text) {
  refuse <- function() {
    vetusta_stop(
      "figure", paste0("\"", text, "\" cannot be drawn over a figure."),
      todo = paste0(
        "write \"mean 20 days\", \"min 1 month\", \"max 1 month\", ",
        "\"band 20 days\", \"band 2.5 20 days\", \"level 250 flood\" or ",
        "\"mark 2026-03-12 strike\""
      )
    )
  }
  if (!grepl(overlay_pattern, text)) refuse()
  kind <- sub(overlay_pattern, "\\1", text)
  rest <- trimws(sub(overlay_pattern, "\\2", text))
  first <- sub("[[:space:]].*", "", rest)
  words <- trimws(substring(rest, nchar(first) + 1))
  read <- overlay_words_of[[kind]] %||% overlay_words_of$window
  read(kind, first, words, rest, refuse)
}

overlay_words_of <- list(
  level = function(kind, first, words, rest, refuse) {
    number <- suppressWarnings(as.numeric(first))
    if (is.na(number)) refuse()
    list(draw = "level", level = number, words = words)
  },
  mark = function(kind, first, words, rest, refuse) {
    if (!grepl("^[0-9]{4}-[0-9]{2}-[0-9]{2}$", first)) refuse()
    list(draw = "mark", day = check_day(first, refuse), words = words)
  },
  # a band may state its width before its length
  band = function(kind, first, words, rest, refuse) {
    number <- suppressWarnings(as.numeric(first))
    wide <- !is.na(number) && grepl("^[0-9]", words)
    read <- overlay_words_of$window(
      kind, first, words, if (wide) words else rest, refuse
    )
    read$width <- if (wide) number else 2
    read
  },
  window = function(kind, first, words, rest, refuse) {
    tryCatch(time_interval(rest), vetusta_error = function(e) refuse())
    list(draw = "window", of = kind, length = rest)
  }
)

check_day <- function(text, refuse) {
  day <- tryCatch(as.Date(text), error = function(e) NA)
  if (is.na(day)) refuse()
  day
}

overlay_kinds <- list(
  window = function(overlay, rows, axis, zone, dark, strip, i) {
    drawn <- overlay_window(overlay, rows, zone)
    drawn$at <- axis_position(axis, drawn$time)
    drawn$strip <- strip
    page <- page_colours[[shade_name(dark)]]
    colours <- line_colours[[shade_name(dark)]]
    colour <- colours[1 + (i + 2) %% 6]
    list(
      if (!is.null(overlay$width)) {
        ggplot2::geom_ribbon(
          ggplot2::aes(
            x = .data$at, ymin = .data$low, ymax = .data$high,
            group = .data$name
          ),
          data = drawn[!is.na(drawn$low), ], inherit.aes = FALSE,
          fill = page$quiet, alpha = 0.22
        )
      },
      ggplot2::geom_line(
        ggplot2::aes(x = .data$at, y = .data$value, group = .data$name),
        data = drawn[!is.na(drawn$value), ], inherit.aes = FALSE,
        colour = colour, linewidth = 0.6
      )
    )
  },
  level = function(overlay, rows, axis, zone, dark, strip, i) {
    page <- page_colours[[shade_name(dark)]]
    at <- data.frame(
      level = overlay$level, at = min(axis$position), label = overlay$words
    )
    at$strip <- strip
    list(
      ggplot2::geom_hline(
        ggplot2::aes(yintercept = .data$level),
        data = at, colour = page$soft, linetype = "42", linewidth = 0.5
      ),
      if (nzchar(overlay$words)) {
        ggplot2::geom_text(
          ggplot2::aes(x = .data$at, y = .data$level, label = .data$label),
          data = at, inherit.aes = FALSE, hjust = 0, vjust = -0.5, size = 3.4,
          colour = page$soft
        )
      }
    )
  },
  mark = function(overlay, rows, axis, zone, dark, strip, i) {
    page <- page_colours[[shade_name(dark)]]
    time <- as.numeric(local_midnight(overlay$day, zone))
    if (time < min(rows$time) - 86400 || time > max(rows$time) + 86400) {
      return(NULL)
    }
    at <- data.frame(
      at = axis_from(axis, time), label = paste0(" ", overlay$words),
      value = max(rows$value, na.rm = TRUE)
    )
    at$strip <- strip
    list(
      ggplot2::geom_vline(
        ggplot2::aes(xintercept = .data$at),
        data = at, colour = page$soft, linetype = "42", linewidth = 0.5
      ),
      if (nzchar(overlay$words)) {
        ggplot2::geom_text(
          ggplot2::aes(x = .data$at, y = .data$value, label = .data$label),
          data = at, inherit.aes = FALSE, hjust = 0, size = 3.4,
          colour = page$soft
        )
      }
    )
  }
)

local_midnight <- function(day, zone) {
  as.POSIXct(format(day, "%Y-%m-%d"), tz = zone)
}

# The mean, lowest or highest value of a window, and deviations around it.
overlay_window <- function(overlay, rows, zone) {
  table <- data.frame(
    series = as.character(rows$name), time = utc(rows$time), value = rows$value
  )
  window <- function(change) {
    without_notes(series_change(
      table, change,
      window = overlay$length, zone = zone
    ))
  }
  banded <- !is.null(overlay$width)
  done <- window(if (banded) "mean" else overlay$of)
  out <- data.frame(
    name = factor(done$series, unique(as.character(rows$name))),
    time = as.numeric(done$time), value = done$value
  )
  if (banded) {
    deviation <- window("sd")$value
    out$low <- out$value - overlay$width * deviation
    out$high <- out$value + overlay$width * deviation
  }
  out
}

# The position of a time on an axis: of evenly spaced values that of the value
# at or before it.
axis_position <- function(axis, time) {
  if (is.null(axis$times)) {
    return(as.numeric(time))
  }
  pmax(1, findInterval(as.numeric(time), axis$times))
}

# The position of the first value at or after a time.
axis_from <- function(axis, time) {
  if (is.null(axis$times)) {
    return(time)
  }
  min(findInterval(time, axis$times, left.open = TRUE) + 1, length(axis$times))
}

# What the overlays are, for the caption.
overlay_words <- function(with) {
  drawn <- grep("^(mean|min|max|band)", with, value = TRUE)
  if (length(drawn)) paste("over it:", paste(drawn, collapse = ", "))
}

# A series on an axis at the right: its line, and the axis.
second_axis <- function(second, points, axis, zone, names, dark) {
  if (is.null(second)) {
    return(NULL)
  }
  rows <- figure_points(second, NULL, names)
  rows <- rows[!is.na(rows$value), , drop = FALSE]
  if (length(unique(rows$name)) != 1) {
    vetusta_stop(
      "figure", "The axis at the right is for a single series.",
      todo = "give one series as `second`"
    )
  }
  range <- range(points$time)
  rows <- rows[rows$time >= range[1] & rows$time <= range[2], , drop = FALSE]
  if (!nrow(rows)) {
    vetusta_stop(
      "figure", "The second series has no value in the time of the figure.",
      todo = "choose another window"
    )
  }
  spread <- function(x) if (diff(range(x)) > 0) diff(range(x)) else 1
  slope <- spread(points$shown) / spread(rows$value)
  shift <- min(points$shown) - slope * min(rows$value)
  rows$at <- axis_position(axis, rows$time)
  rows$shown <- shift + slope * rows$value
  unit <- unique(rows$unit[!is.na(rows$unit)])
  label <- paste(c(rows$name[1], unit), collapse = ", ")
  colour <- line_colours[[shade_name(dark)]][3]
  # `second_axis` marks the layer for interactive figures
  line <- suppressWarnings(ggplot2::geom_line(
    ggplot2::aes(x = .data$at, y = .data$shown, second_axis = 1),
    data = rows, inherit.aes = FALSE, colour = colour, linewidth = 0.6
  ))
  list(
    line = line, label = label, colour = colour, shift = shift, slope = slope,
    axis = ggplot2::sec_axis(~ (. - shift) / slope,
      name = label, labels = axis_numbers
    )
  )
}
