# What lines show: an index, changes, notes and the label of the axis.

# list(index, value, day): the value of each row's series that becomes `index`,
# and the day in words; NULL without an index.
lines_base <- function(points, index, base, zone) {
  if (is.null(base)) {
    return(if (!is.null(index)) {
      first <- match(points$name, points$name)
      list(index = index, value = points$value[first])
    })
  }
  end <- change_base(base, zone)
  at <- vapply(split(seq_len(nrow(points)), points$name), function(rows) {
    before <- rows[as.numeric(points$time[rows]) < end]
    if (length(before)) before[length(before)] else NA_integer_
  }, 1L)
  if (anyNA(at)) {
    vetusta_stop(
      "figure",
      paste0(
        "The series ", names(at)[is.na(at)][1], " has no value on ", base,
        " or before."
      ),
      todo = "give a later day as base"
    )
  }
  list(
    index = index %||% 100, value = points$value[at[points$name]],
    day = figure_window(end - 1e-3, zone)
  )
}

# Jumps of prices, of all tables of bars.
lines_jumps <- function(x, value, zone) {
  prices <- c("open", "high", "low", "close")
  if (!is.null(value) && (!is.character(value) || !any(value %in% prices))) {
    return(NULL)
  }
  tables <- if (is.data.frame(x)) list(x) else x
  do.call(rbind, lapply(tables, function(table) {
    if (is_bars(table)) {
      as.data.frame(
        candle_jumps(table, attr(table, "interval", exact = TRUE), zone)
      )
    }
  }))
}

# The tables with their changes in percent in place of their values.
lines_changes <- function(x, over, index, value) {
  time_interval(over, "over")
  if (!is.null(index)) {
    vetusta_stop(
      "figure", "A figure shows either changes or an index.",
      todo = "leave out `over`, or `index` and `base`"
    )
  }
  tables <- if (is.data.frame(x)) list(x) else x
  lapply(tables, function(table) {
    # a year before a trading day may be a weekend
    changed <- without_notes(series_change(
      table, "simple",
      over = over, value = value, or_before = "7 days"
    ))
    changed$value <- 100 * changed$value
    changed
  })
}

lines_notes <- function(points, drawn, columns) {
  filled <- sum(points$status == "filled")
  c(
    if (nrow(drawn) < nrow(points)) {
      paste0(
        thousands(nrow(points)), " values, of which the ",
        "first, last, lowest and highest of each of ", thousands(columns),
        " columns are drawn"
      )
    },
    if (any(points$status == "provisional")) "dashed: provisional",
    if (filled) {
      paste0("marks: ", thousands(filled), " filled value", if (filled > 1) "s")
    },
    if (length(unique(points$name)) > 12) {
      paste0(
        thousands(length(unique(points$name))),
        " series: their names are left out"
      )
    }
  )
}

lines_label <- function(points, index, value, day = NULL, over = NULL) {
  if (!is.null(over)) {
    return(paste0("change in ", over, ", in percent"))
  }
  if (!is.null(index)) {
    return(paste0(day %||% "first value", " = ", format(index)))
  }
  unit <- unique(points$unit)
  if (length(unit) == 1 && !is.na(unit)) {
    unit
  } else if (all(points$intraday) || !is.null(value)) {
    value %||% "close"
  }
}

# The drawn values, for what is drawn over them.
overlay_rows <- function(points) {
  data.frame(
    name = points$name, time = as.numeric(points$time), value = points$shown
  )
}

lines_second <- function(second, points, axis, panels, log_scale, zone, names,
                         dark) {
  if (is.null(second)) {
    return(NULL)
  }
  if (panels != "none" || log_scale) {
    vetusta_stop(
      "figure",
      "An axis at the right needs one panel, without a logarithmic axis.",
      todo = "leave out `panels` and `log_scale`, or `second`"
    )
  }
  points$time <- as.numeric(points$time)
  second_axis(second, points, axis, zone, names, dark)
}
