# print(), `[`, rbind() and other methods of tables of series.

#' Tables of series
#'
#' Bars, observations and points are tibbles with classes of their own and
#' methods for R's functions.
#'
#' @param y Another table, for `merge()`; not used by `plot()`.
#' @param x,object A table of bars, see [bars_frame()]; of observations, see
#'   [series_frame()]; or of points.
#' @param i,j,... Rows and columns; passed on.
#' @param drop Whether a single column becomes a vector.
#' @return `[`, `merge()`, `transform()` and `rbind()` keep the class as long as
#'   the columns of the shape are present, and the facts of the table (see
#'   [series_about()]). Tables of bars with different intervals cannot be bound;
#'   different zones or calendars become the columns `through` and `known`, and
#'   different units the column `unit`. `summary()` has a row per series:
#'   `series`, `rows`, `missing` (rows without a value), `first`, `last`
#'   (`POSIXct`, UTC), `interval` (an ISO 8601 duration, if known), `coverage`
#'   (the share of the times from the first to the last that have a value;
#'   without a calendar, of all times of the kind), `least`, `middle`,
#'   `greatest`, and `course`: 24 signs, each as high as the mean of a 24th of
#'   the time, with a space for no values. `print()` shows up to five series in
#'   this form. `as.ts()` returns a `ts` of one series with annual to monthly
#'   periods, with `NA` for missing periods.
#' @name vetusta_series
#' @examples
#' months <- series_frame(data.frame(
#'   series = "salt", period = c("2026-01", "2026-02", "2026-04"),
#'   value = c(4.2, 4.4, 4.1)
#' ))
#' summary(months)
#' as.ts(months)
NULL

#' @rdname vetusta_series
#' @export
`[.vetusta_series` <- function(x, i, j, ..., drop = FALSE) {
  shape <- class(x)[1]
  out <- NextMethod()
  if (!is.data.frame(out)) {
    return(out)
  }
  out <- with_facts(out, facts_of(x))
  if (all(series_shapes[[shape]] %in% names(out))) out else without_shape(out)
}

#' @rdname vetusta_series
#' @export
as.data.frame.vetusta_series <- function(x, ...) {
  for (name in fact_names) attr(x, name) <- NULL
  class(x) <- "data.frame"
  x
}

#' @rdname vetusta_series
#' @export
merge.vetusta_series <- function(x, y, ...) {
  shape <- class(x)[1]
  merged <- as_rows(as.list(merge(as.data.frame(x), as.data.frame(y), ...)))
  if (all(series_shapes[[shape]] %in% names(merged))) {
    merged <- with_shape(merged, shape)
  }
  with_facts(merged, facts_of(x))
}

#' @export
transform.vetusta_series <- function(`_data`, ...) {
  changed <- as_rows(as.list(transform(as.data.frame(`_data`), ...)))
  with_facts(with_shape(changed, class(`_data`)[1]), facts_of(`_data`))
}

#' @rdname vetusta_series
#' @export
rbind.vetusta_series <- function(...) {
  tables <- Filter(function(x) is.data.frame(x) && length(x), list(...))
  facts <- lapply(tables, facts_of)
  lengths <- unique(unlist(lapply(facts, function(fact) fact$interval$iso)))
  if (length(lengths) > 1) {
    vetusta_stop(
      "shape",
      paste0(
        "Bars of ",
        paste(
          vapply(
            lengths,
            function(iso) {
              format(time_interval(iso))
            },
            ""
          ),
          collapse = " and of "
        ),
        " cannot be one table."
      ),
      todo = "resample them to one interval first, or keep a list of tables"
    )
  }
  # where zones or calendars differ, the instants they imply become columns
  differ <- any(vapply(
    c("zone", "calendar"),
    function(name) {
      length(unique(lapply(facts, `[[`, name))) > 1
    },
    TRUE
  ))
  tables <- lapply(tables, function(x) {
    if (differ && length(facts_of(x))) x <- with_time_columns(as_series(x))
    units <- attr(x, "unit", exact = TRUE)
    x <- as.data.frame(x)
    if (units_differ(facts) && !is.null(x[["value"]]) && is.null(x[["unit"]])) {
      x$unit <- rep(unname(units["value"]), nrow(x))
    }
    x
  })
  together <- facts_together(facts)
  rows <- list_frame(
    as.list(data.table::rbindlist(tables, use.names = TRUE, fill = TRUE))
  )
  series_table(as_series(with_facts(as_rows(rows), together)))
}

# Whether a column has different units.
units_differ <- function(facts) {
  units <- unlist(lapply(unname(facts), `[[`, "unit"))
  any(duplicated(names(units))) &&
    length(unique(paste(names(units), units))) > length(unique(names(units)))
}

# Adds both instants of each row as columns.
with_time_columns <- function(x) {
  x <- series_table(x)
  facts <- frame_facts(x)
  times <- row_times(x, end_times(x, facts), facts)
  x$through <- utc(times$through)
  x$known <- utc(times$known)
  x
}

#' @export
print.vetusta_series <- function(x, ..., n = 10) {
  what <- c(
    vetusta_bars = "bar", vetusta_observations = "observation",
    vetusta_points = "value"
  )[[class(x)[1]]]
  names <- text_groups(as.character(series_names_of(x)))$levels
  cat(
    counted(nrow(x), what), " of ",
    paste(utils::head(names, 5), collapse = ", "),
    if (length(names) > 5) " and more", "\n",
    sep = ""
  )
  if (!nrow(x)) {
    return(invisible(x))
  }
  if (length(names) <= 5) cat(series_outline(x), sep = "\n")
  shown <- as.data.frame(bars_dated(x[seq_len(min(n, nrow(x))), ]))
  shown <- shown[!vapply(shown, function(column) all(is.na(column)), TRUE)]
  layout <- columns_that_fit(shown, getOption("width", 80))
  cat(layout$lines, sep = "\n")
  if (nrow(x) > n) cat("and ", thousands(nrow(x) - n), " more\n", sep = "")
  if (length(layout$left)) {
    cat(
      strwrap(
        paste0("beside them: ", paste(layout$left, collapse = ", ")),
        getOption("width", 80),
        exdent = 2
      ),
      sep = "\n"
    )
  }
  invisible(x)
}

#' @rdname vetusta_series
#' @export
summary.vetusta_series <- function(object, ...) {
  points <- without_notes(series_points(object, times_only = TRUE))
  parts <- lapply(series_split(points$series), function(rows) {
    value <- points$value[rows]
    time <- points$time[rows]
    edge <- function(f) {
      if (all(is.na(value))) NA_real_ else f(value, na.rm = TRUE)
    }
    list(
      rows = length(rows),
      missing = sum(is.na(value)),
      first = min(time),
      last = max(time),
      least = edge(min),
      middle = edge(stats::median),
      greatest = edge(max),
      course = series_course(time, value)
    )
  })
  table <- as.list(data.table::rbindlist(unname(parts)))
  for (bound in c("first", "last")) table[[bound]] <- utc(table[[bound]])
  counted <- series_counted(object)
  at <- match(names(parts), counted$series)
  as_rows(
    c(
      list(series = names(parts)),
      table[c("rows", "missing", "first", "last")],
      list(interval = counted$interval[at], coverage = counted$coverage[at]),
      table[c("least", "middle", "greatest", "course")]
    )
  )
}

# list(lines, left): as many columns as fit in a line, and the names of the
# others.
columns_that_fit <- function(frame, width) {
  for (most in rev(seq_along(frame))) {
    lines <- text_table(frame[seq_len(most)], width)
    if (max(nchar(lines, "width")) <= width) break
  }
  list(lines = lines, left = names(frame)[-seq_len(most)])
}

# Interval and coverage by series, where the times have a regular step.
series_counted <- function(x) {
  gaps <- tryCatch(
    without_notes(series_gaps(x)),
    vetusta_error = function(e) NULL
  )
  summary <- attr(gaps, "summary")
  list(
    series = as.character(summary[["symbol"]] %||% summary[["series"]]),
    interval = rep(as.character(attr(gaps, "interval") %||% NA), NROW(summary)),
    coverage = as.numeric(summary$coverage)
  )
}

# Values in time as a line of text: the height of each character is the mean of
# its stretch of time.
series_course <- function(time, value, signs = 24) {
  marks <- if (isTRUE(l10n_info()[["UTF-8"]])) {
    strsplit(
      paste0("\u2581\u2582\u2583\u2584", "\u2585\u2586\u2587\u2588"), ""
    )[[1]]
  } else {
    strsplit("_.,-=+*#", "")[[1]]
  }
  kept <- is.finite(value)
  if (!any(kept)) {
    return("")
  }
  time <- time[kept]
  range <- range(time)
  # few values have a character each
  steps <- diff(sort(unique(time)))
  signs <- if (!length(steps)) {
    1
  } else {
    min(signs, round(diff(range) / stats::median(steps)) + 1)
  }
  place <- if (!length(steps)) {
    rep(1L, length(time))
  } else {
    as.integer(pmin(signs, 1 + floor((time - range[1]) / diff(range) * signs)))
  }
  place <- structure(
    place,
    levels = as.character(seq_len(signs)),
    class = "factor"
  )
  means <- tapply(value[kept], place, mean)
  height <- range(means, na.rm = TRUE)
  level <- if (diff(height) == 0) {
    rep(4, signs)
  } else {
    1 + round(7 * (means - height[1]) / diff(height))
  }
  paste(ifelse(is.na(means), " ", marks[level]), collapse = "")
}

# Coverage needs a pass over all rows, so for longer tables only summary()
# counts it, and print() draws a sample.
long_table <- 200000

# A line a series: first and last day, coverage, course.
series_outline <- function(x) {
  if (nrow(x) > long_table) {
    return(sampled_lines(x))
  }
  all <- summary(x)
  day <- outline_days(x)
  covered <- ifelse(
    is.na(all$coverage), "",
    paste0(", ", all$interval, ", ", format_coverage(all$coverage), " present")
  )
  filled <- sum(x[["status"]] %in% "filled")
  c(
    paste0(
      "  ", format(short_names(all$series, 24)), "  ", day(all$first), " to ",
      day(all$last), covered, "  ", all$course
    ),
    if (filled) paste0("  ", counted(filled, "value"), " filled")
  )
}

# How instants are shown as days: bars of a day or longer by their trading day,
# as in their rows.
outline_days <- function(x) {
  facts <- if (is_bars(x) && has_day_bars(x)) frame_facts(x)
  function(time) {
    time <- utc(time)
    if (is.null(facts)) {
      return(format(time, "%Y-%m-%d", tz = "UTC"))
    }
    format(bar_trading_days(time, facts$calendar, facts$zone))
  }
}

sampled_lines <- function(x) {
  time <- start_times(x)
  lines <- lapply(series_split(series_of_rows(x)), function(rows) {
    range <- range(time[rows])
    sample <- rows[unique(round(seq(1, length(rows), length.out = 20000)))]
    points <- without_notes(series_points(x[sample, ], times_only = TRUE))
    list(
      first = range[1],
      last = range[2],
      course = series_course(points$time, points$value)
    )
  })
  table <- data.table::rbindlist(unname(lines))
  day <- outline_days(x)
  c(
    paste0(
      "  ", format(short_names(names(lines), 24)), "  ", day(table$first),
      " to ", day(table$last), "  ", table$course
    ),
    "  summary() counts coverage"
  )
}

# A share as per cent; less than all is never rounded to 100%.
format_coverage <- function(part) {
  text <- sprintf("%.1f%%", 100 * part)
  ifelse(part < 1 & text == "100.0%", "99.9%", ifelse(part == 1, "100%", text))
}

#' @rdname vetusta_series
#' @importFrom stats as.ts
#' @export
as.ts.vetusta_observations <- function(x, ...) {
  x <- newest_rows(series_frame(x))
  frequency <- unique(x$frequency)
  a_year <- c(A = 1, S = 2, T = 3, Q = 4, M = 12)
  if (length(unique(x$series)) != 1 ||
    length(frequency) != 1 ||
    !frequency %in% names(a_year)) {
    vetusta_stop(
      "argument",
      paste0(
        "A ts needs a single series of years, half-years, thirds, ",
        "quarters or months."
      ),
      todo = paste0(
        "choose one series, or bring it to another frequency with ",
        "series_aggregate()"
      )
    )
  }
  all <- period_sequence(min(x$period), max(x$period), frequency)
  at <- as.POSIXlt(all[1])
  start <- c(at$year + 1900, at$mon %/% (12 / a_year[[frequency]]) + 1)
  stats::ts(
    x$value[match(all, x$period)],
    start = start,
    frequency = a_year[[frequency]]
  )
}
