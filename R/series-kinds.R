# Tables of values in time carry a class by their shape: bars, observations by period, or points by
# instant. What differs by the
# shape stands in methods of the generics here; what is done with values in time is the same for
# all of them.

series_shapes <- list(
  vetusta_observations = c("series", "period", "value"),
  vetusta_bars = c("symbol", "time", "close"),
  vetusta_points = c("series", "time", "value")
)

# A table with the class of its shape, which its columns tell.
as_series <- function(x) {
  if (missing(x) || !is.data.frame(x)) {
    vetusta_stop("shape", "Series are a data frame.",
      todo = "give bars, observations, or a table with series, time and value")
  }
  x <- plain_table(x)
  for (shape in names(series_shapes)) {
    if (all(series_shapes[[shape]] %in% names(x))) return(with_shape(x, shape))
  }
  vetusta_stop("shape", "This table is neither bars nor observations.",
    where = paste("its columns:", paste(names(x), collapse = ", ")),
    todo = paste(
      paste0("name its columns symbol, time, close (bars), or series, period, value ",
        "(observations), or series, time,"),
      "value"))
}

with_shape <- function(x, shape) {
  class(x) <- c(shape, "vetusta_series",
    setdiff(class(x), c(names(series_shapes), "vetusta_series")))
  x
}

without_shape <- function(x) {
  class(x) <- setdiff(class(x), c(names(series_shapes), "vetusta_series"))
  x
}

is_bars <- function(x) {
  is.data.frame(x) && all(series_shapes$vetusta_bars %in% names(x)) &&
  !"period" %in% names(x)
}

# What names a table's series, whatever its shape.
series_names_of <- function(x) as.character(x[["series"]] %||% x[["symbol"]])

`series_names_of<-` <- function(x, value) {
  x[[if (is.null(x[["series"]])) "symbol" else "series"]] <- value
  x
}

# Checked, and in order of series and time.
series_table <- function(x) UseMethod("series_table")
#' @export
series_table.vetusta_bars <- function(x) bars_frame(x)
#' @export
series_table.vetusta_observations <- function(x) series_frame(x)
#' @export
series_table.vetusta_points <- function(x) ordered_points(x)

# The same for work on each row: bars of several sides are in order of these too.
series_ordered <- function(x) UseMethod("series_ordered")
#' @export
series_ordered.default <- function(x) series_table(x)
#' @export
series_ordered.vetusta_bars <- function(x) ordered_bars(x)

# The columns of the value that is meant, and of all numbers that a filled row bears.
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

# The number that is asked for, where the shape has several.
value_asked <- function(x, value) UseMethod("value_asked")
#' @export
value_asked.default <- function(x, value) NULL
#' @export
value_asked.vetusta_bars <- function(x, value) value

# Each row's series: bars have one for each side. `own` is what tells rows apart, and `shown` what
# is told.
series_of_rows <- function(x) UseMethod("series_of_rows")
#' @export
series_of_rows.default <- function(x) as.character(x$series)
#' @export
series_of_rows.vetusta_bars <- function(x) {
  symbol <- as.character(x$symbol)
  if (is.null(x[["side"]]) || length(text_groups(as.character(x$side))$levels) < 2) {
    return(symbol)
  }
  paste0(symbol, ifelse(is.na(x$side), "", paste0(".", x$side)))
}

# Where each row's own time begins, in seconds.
own_times <- function(x) UseMethod("own_times")
#' @export
own_times.default <- function(x) as.numeric(x$time)
#' @export
own_times.vetusta_observations <- function(x) as.numeric(x$period) * 86400

# Where it ends: what a row without a release is known from.
own_ends <- function(x, frame, calendar) UseMethod("own_ends")
#' @export
own_ends.default <- function(x, frame, calendar) own_times(x)
#' @export
own_ends.vetusta_observations <- function(x, frame,
  calendar) {
  (as.numeric(period_last(x$period, x$frequency)) + 1) * 86400
}
#' @export
own_ends.vetusta_bars <- function(x, frame, calendar) {
  plain <- list_frame(as.list(x)[setdiff(names(x), "released")])
  without_notes(points_of_bars(plain, "close", frame$interval, NULL, frame$zone, calendar))$known
}

# Times as they came, of rows that may stand in any order and be of any type.
raw_times <- function(x) UseMethod("raw_times")
#' @export
raw_times.default <- function(x) as.numeric(read_instants(x$time, "time"))
#' @export
raw_times.vetusta_bars <- function(x) as.numeric(read_instants(x$time, "time", na = TRUE))
#' @export
raw_times.vetusta_observations <- function(x) {
  as.numeric(read_periods(x$period, nrow(x))$first) *
  86400
}

# Whether a row of the same time may be another release of it.
has_releases <- function(x) UseMethod("has_releases")
#' @export
has_releases.default <- function(x) FALSE
#' @export
has_releases.vetusta_observations <- function(x) TRUE

# Of several releases of one time the newest, where the shape has such.
newest_points <- function(x, points) {
  if (has_releases(x)) points[!duplicated(points[c("series", "time")], fromLast = TRUE), ]
  else points
}

# A table's values on their way through points: see series_points().
points_of <- function(x, value, interval, lag, zone, calendar, own) UseMethod("points_of")
#' @export
points_of.vetusta_bars <- function(x, value, interval, lag, zone, calendar, own) {
  points_of_bars(x, value, interval %||% attr(x, "interval"), lag, zone, calendar, own)
}
#' @export
points_of.vetusta_observations <- function(x, value, interval, lag, zone, calendar, own) {
  points_of_observations(x, value, lag, zone)
}
#' @export
points_of.vetusta_points <- function(x, value, interval, lag, zone, calendar,
  own) {
  points_of_points(x, value, lag, zone)
}

# Values of one table, whatever its kind.
long_points <- function(x, value, dated, zone) {
  value <- if (is_bars(x)) value else "value"
  if (!value %in% names(x) || !is.numeric(x[[value]])) {
    vetusta_stop("want", paste0("These bars have no numbers called \"", value, "\"."),
      todo = suggest_word(value, names(x)[vapply(as.list(x), is.numeric, TRUE)]))
  }
  time <- if (dated) list(period = x$period)
  else list(time = if (!is.null(x[["period"]])) time_local(as.Date(x$period), 0, zone) else x$time)
  # the sides of a price are series of their own
  side <- x[["side"]] %||% rep(NA_character_, nrow(x))
  names <- ifelse(is.na(side), series_names_of(x), paste(series_names_of(x), side))
  c(list(series = names), time,
    list(value = x[[value]], status = x[["status"]] %||% rep("observed", nrow(x)),
      released = x[["released"]] %||% utc(rep(NA_real_, nrow(x)))))
}
