# What R people expect of a table of values in time.

#' Tables of values in time
#'
#' Bars, observations and points are tibbles with a class of their own, so that R's functions do
#' what is meant.
#'
#' @param x,object A table of bars, see [bars_frame()]; of observations, see [series_frame()]; or
#'   of points.
#' @param i,j,... Rows and columns; passed on.
#' @param drop Whether a single column is given as a vector.
#' @return `[` keeps the class as long as the columns that make the shape are there. `summary()`
#'   has a row a series: `series`,
#'   `rows`, `missing` (rows without a value), `first`, `last` (`POSIXct`, UTC), `least`, `middle`,
#'   `greatest`. `as.ts()` gives
#'   a `ts` of one series whose periods have a frequency within the year (annual to monthly), with
#'   `NA` where one is missing.
#' @name vetusta_series
#' @examples
#' months <- series_frame(data.frame(series = "salt", period = c("2026-01", "2026-02", "2026-04"),
#' value = c(4.2, 4.4, 4.1)))
#' summary(months)
#' as.ts(months)
NULL

#' @rdname vetusta_series
#' @export
`[.vetusta_series` <- function(x, i, j, ..., drop = FALSE) {
  shape <- class(x)[1]
  out <- NextMethod()
  if (is.data.frame(out) && !all(series_shapes[[shape]] %in% names(out))) without_shape(out)
  else out
}

#' @rdname vetusta_series
#' @export
as.data.frame.vetusta_series <- function(x, ...) {
  attr(x, "interval") <- NULL
  class(x) <- "data.frame"
  x
}

#' @export
rbind.vetusta_series <- function(...) {
  tables <- lapply(list(...), function(x) if (is.data.frame(x)) as.data.frame(x) else x)
  series_table(as_series(as_rows(as.list(data.table::rbindlist(tables, use.names = TRUE,
    fill = TRUE)))))
}

#' @export
print.vetusta_series <- function(x, ..., n = 10) {
  what <- c(vetusta_bars = "bar", vetusta_observations = "observation",
    vetusta_points = "value")[[class(x)[1]]]
  names <- unique(series_names_of(x))
  cat(counted(nrow(x), what), " of ", paste(utils::head(names, 5), collapse = ", "),
    if (length(names) > 5) " and more", "\n",
    sep = "")
  if (!nrow(x)) {
    return(invisible(x))
  }
  shown <- utils::head(as.data.frame(x), n)
  shown <- shown[!vapply(shown, function(column) all(is.na(column)), TRUE)]
  cat(text_table(shown, width = getOption("width", 80)), sep = "\n")
  if (nrow(x) > n) cat("and ", format(nrow(x) - n, big.mark = ","), " more\n", sep = "")
  invisible(x)
}

#' @rdname vetusta_series
#' @export
summary.vetusta_series <- function(object, ...) {
  points <- without_notes(series_points(object, own = TRUE))
  parts <- lapply(series_split(points$series), function(rows) {
    value <- points$value[rows]
    edge <- function(f) if (all(is.na(value))) NA_real_ else f(value, na.rm = TRUE)
    list(rows = length(rows), missing = sum(is.na(value)), first = min(points$time[rows]),
      last = max(points$time[rows]),
      least = edge(min), middle = edge(stats::median), greatest = edge(max))
  })
  table <- as.list(data.table::rbindlist(unname(parts)))
  for (bound in c("first", "last")) table[[bound]] <- utc(table[[bound]])
  as_rows(c(list(series = names(parts)), table))
}

#' @rdname vetusta_series
#' @importFrom stats as.ts
#' @export
as.ts.vetusta_observations <- function(x, ...) {
  x <- newest_rows(series_frame(x))
  frequency <- unique(x$frequency)
  a_year <- c(A = 1, S = 2, T = 3, Q = 4, M = 12)
  if (length(unique(x$series)) != 1 || length(frequency) != 1 || !frequency %in% names(a_year)) {
    vetusta_stop("want",
      "A ts is made of one series of years, half-years, thirds, quarters or months.",
      todo = "choose one series, or bring it to another frequency with series_condense()")
  }
  all <- period_sequence(min(x$period), max(x$period), frequency)
  at <- as.POSIXlt(all[1])
  start <- c(at$year + 1900, at$mon %/% (12 / a_year[[frequency]]) + 1)
  stats::ts(x$value[match(all, x$period)], start = start, frequency = a_year[[frequency]])
}
