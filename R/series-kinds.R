# Tables of values in time have a class by shape: bars, observations by period,
# or points by instant. Differences between shapes are methods of the generics
# here; operations on values are the same for all.

series_shapes <- list(
  vetusta_observations = c("series", "period", "value"),
  vetusta_bars = c("symbol", "time", "close"),
  vetusta_points = c("series", "time", "value")
)

# Adds the class of its shape, which its columns show.
as_series <- function(x) {
  if (missing(x) || !is.data.frame(x)) {
    vetusta_stop(
      "shape", "Series must be a data frame.",
      todo = "give bars, observations, or a table with series, time and value"
    )
  }
  facts <- facts_of(x)
  x <- plain_table(x)
  for (shape in names(series_shapes)) {
    if (all(series_shapes[[shape]] %in% names(x))) {
      return(with_facts(with_shape(x, shape), facts))
    }
  }
  vetusta_stop(
    "shape",
    "This table is neither bars nor observations.",
    where = paste("its columns:", paste(names(x), collapse = ", ")),
    todo = paste(
      paste0(
        "name its columns symbol, time, close (bars), or series, ",
        "period, value ", "(observations), or series, time,"
      ),
      "value"
    )
  )
}

with_shape <- function(x, shape) {
  # dplyr's groups do not survive this
  if (inherits(x, "grouped_df")) attr(x, "groups") <- attr(x, "shape") <- NULL
  class(
    x
  ) <- c(
    shape, "vetusta_series",
    setdiff(
      class(x),
      c(names(series_shapes), "vetusta_series", "vetusta_grouped", "grouped_df")
    )
  )
  x
}

without_shape <- function(x) {
  class(x) <- setdiff(class(x), c(names(series_shapes), "vetusta_series"))
  x
}

is_bars <- function(x) {
  is.data.frame(x) &&
    all(series_shapes$vetusta_bars %in% names(x)) &&
    !"period" %in% names(x)
}

# The series name of each row, for every shape.
series_names_of <- function(x) as.character(x[["series"]] %||% x[["symbol"]])

`series_names_of<-` <- function(x, value) {
  x[[if (is.null(x[["series"]])) "symbol" else "series"]] <- value
  x
}

# The name of a history whose symbol another company has now, and its parts:
# "OLDM to 2018-09-30".
former_label <- function(symbol, day) paste(symbol, "to", format(day))

former_parts <- function(name) {
  form <- "^(.+) to ([0-9]{4}-[0-9]{2}-[0-9]{2})$"
  former <- grepl(form, name)
  list(
    symbol = ifelse(former, sub(form, "\\1", name), name),
    last = as.Date(ifelse(former, sub(form, "\\2", name), NA))
  )
}

# Checked and sorted by series and time.
series_table <- function(x) UseMethod("series_table")
#' @export
series_table.vetusta_bars <- function(x) bars_frame(x)
#' @export
series_table.vetusta_observations <- function(x) series_frame(x)
#' @export
series_table.vetusta_points <- function(x) ordered_points(x)

# The same for work on each row: bars of several sides are sorted by side too.
series_ordered <- function(x) UseMethod("series_ordered")
#' @export
series_ordered.default <- function(x) series_table(x)
#' @export
series_ordered.vetusta_bars <- function(x) ordered_bars(x)

# The columns of the value and of all numbers of a filled row.
value_column <- function(x) UseMethod("value_column")
#' @export
value_column.default <- function(x) "value"
#' @export
value_column.vetusta_bars <- function(x) "close"

price_columns <- function(x) UseMethod("price_columns")
#' @export
price_columns.default <- function(x) character()
#' @export
price_columns.vetusta_bars <- function(x) c("open", "high", "low")

# The value column to use, where the shape has several.
value_asked <- function(x, value) UseMethod("value_asked")
#' @export
value_asked.default <- function(x, value) NULL
#' @export
value_asked.vetusta_bars <- function(x, value) value

# Each row's series: bars have one a side. `own` identifies it, `shown` is its
# printed name.
series_of_rows <- function(x) UseMethod("series_of_rows")
#' @export
series_of_rows.default <- function(x) as.character(x$series)
#' @export
series_of_rows.vetusta_bars <- function(x) {
  symbol <- as.character(x$symbol)
  if (is.null(x[["side"]]) ||
    length(text_groups(as.character(x$side))$levels) < 2) {
    return(symbol)
  }
  paste0(symbol, ifelse(is.na(x$side), "", paste0(".", x$side)))
}

# The start of each row's period, in seconds.
start_times <- function(x) UseMethod("start_times")
#' @export
start_times.default <- function(x) as.numeric(x$time)
#' @export
start_times.vetusta_observations <- function(x) as.numeric(x$period) * 86400

# The end of each row's period, in seconds, by interval, zone and calendar: see
# frame_facts().
end_times <- function(x, facts) UseMethod("end_times")
#' @export
end_times.default <- function(x, facts) start_times(x)
#' @export
end_times.vetusta_observations <- function(x, facts) {
  period_ends(x$period, x$frequency, facts$zone)
}
#' @export
end_times.vetusta_bars <- function(x, facts) {
  time <- seconds_of(x$time)
  stated <- !is.null(x[["through"]]) && !anyNA(x$through)
  length <- facts$interval %||%
    if (!stated) step_interval(x$time, bar_groups(x)$id)
  if (is.null(length)) {
    if (!length(time) || stated) {
      return(time)
    }
    if (!is.null(x[["known"]]) && !anyNA(x$known)) {
      return(pmax(time, as.numeric(x$known)))
    }
    vetusta_stop(
      "argument",
      "The length of a single bar, and so when it was known, is not stated.",
      todo = "give `interval`, such as \"1 day\""
    )
  }
  if (is_intraday(length)) {
    return(session_ends(time, time + length$seconds, facts$calendar))
  }
  # a bar of a day or longer ends with its last session, if a calendar is known
  if (!is.null(facts$calendar) && length(time)) {
    return(trading_ends(x$time, length, facts$calendar, facts$zone))
  }
  as.numeric(shift_instant(utc(time), length, 1, facts$zone))
}

# Bars within the day end no later than their session.
session_ends <- function(time, end, calendar) {
  if (is.null(calendar) || !length(time)) {
    return(end)
  }
  known <- utc(ends_of(time))
  frames <- sessions_around(calendar, known[1], known[2])
  close <- as.numeric(frames$close)
  at <- frames_find_cpp(time, as.numeric(frames$open), close)
  pmin(end, c(Inf, close)[at + 1L])
}

# The instants at which periods end: midnights of the zone.
period_ends <- function(first, frequency, zone = "UTC") {
  after <- period_last(first, frequency) + 1
  if (identical(zone, "UTC")) {
    as.numeric(after) * 86400
  } else {
    as.numeric(time_local(after, 0, zone))
  }
}

# The ends of observations of several frequencies, "" where none is stated, from
# the start of each. Instants end as they begin. `owner` numbers the series.
observation_ends <- function(time, frequency, zone, owner) {
  ends <- within_day_ends(time, frequency)
  days <- which(!within_day(frequency))
  if (!length(days)) {
    return(ends)
  }
  first <- epoch_days(floor(as.numeric(time[days]) / 86400))
  code <- ifelse(nzchar(frequency[days]), frequency[days], NA)
  if (anyNA(code)) {
    code <- guessed_frequencies(as.character(owner[days]), first, code)
  }
  ends[days] <- period_ends(first, code, zone)
  ends
}

# The times of rows in any order and of any type.
raw_times <- function(x) UseMethod("raw_times")
#' @export
raw_times.default <- function(x) as.numeric(read_instants(x$time, "time"))
#' @export
raw_times.vetusta_bars <- function(x) {
  as.numeric(read_instants(x$time, "time", na = TRUE))
}
#' @export
raw_times.vetusta_observations <- function(x) {
  as.numeric(read_periods(x$period, nrow(x))$first) * 86400
}

# Whether a row with the same time may be another release.
has_releases <- function(x) UseMethod("has_releases")
#' @export
has_releases.default <- function(x) !is.null(x[["known"]])
#' @export
has_releases.vetusta_bars <- function(x) FALSE
#' @export
has_releases.vetusta_observations <- function(x) TRUE

# The newest release of each time, without deleted values.
newest_points <- function(x, points) {
  if (has_releases(x)) {
    earlier <- duplicated(points[c("series", "time")], fromLast = TRUE)
    points <- points[!earlier, ]
  }
  deleted <- points[["status"]] %in% "deleted"
  if (any(deleted)) points[!deleted, ] else points
}

# A table's values as points: see series_points(). `facts` come from
# frame_facts().
points_of <- function(x, value, facts, times_only) UseMethod("points_of")
#' @export
points_of.vetusta_bars <- function(x, value, facts, times_only) {
  points_of_bars(x, value, facts, times_only)
}
#' @export
points_of.vetusta_observations <- function(x, value, facts, times_only) {
  points_of_observations(x, value, facts, times_only)
}
#' @export
points_of.vetusta_points <- function(x, value, facts, times_only) {
  points_of_points(x, value, facts, times_only)
}

# The values of a table of any shape.
long_points <- function(x, value, dated, zone) {
  value <- if (is_bars(x)) value else "value"
  if (!value %in% names(x) || !is.numeric(x[[value]])) {
    vetusta_stop(
      "argument",
      paste0("These bars have no numbers called \"", value, "\"."),
      todo = suggest_word(value, names(x)[vapply(as.list(x), is.numeric, TRUE)])
    )
  }
  time <- if (dated) {
    list(period = x[["period"]] %||% bar_table_days(x))
  } else {
    list(
      time = if (!is.null(x[["period"]])) {
        time_local(as.Date(x$period), 0, zone)
      } else {
        x$time
      }
    )
  }
  # each side of a price is a series
  side <- x[["side"]] %||% rep(NA_character_, nrow(x))
  names <- ifelse(
    is.na(side), series_names_of(x), paste(series_names_of(x), side)
  )
  c(
    list(series = names), time,
    list(
      value = x[[value]],
      status = x[["status"]] %||% rep("observed", nrow(x)),
      known = x[["known"]] %||% utc(rep(NA_real_, nrow(x)))
    )
  )
}

# Where pairs of exact numbers are in others; NA where they are not. As
# text, numbers would lose digits.
match_pairs <- function(x, y, in_x, in_y) {
  named <- function(x, y) paste(match(x, in_x), match(y, in_y))
  match(named(x, y), named(in_x, in_y))
}
