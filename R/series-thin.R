#' Thin a line for drawing
#'
#' Of the points in one pixel column, the first, last, lowest and highest are
#' kept: the line through them covers the same pixels as the line through all
#' points.
#'
#' @param time Increasing times (`POSIXct`, `Date` or numbers).
#' @param value Numbers, one per time. A missing value that breaks the line is
#'   kept.
#' @param columns The number of pixel columns.
#' @return The increasing numbers of the points kept: at most four per column,
#'   and one per break.
#' @section Errors: `vetusta_error_figure` for times that do not increase, or
#'   values that are not numbers or have another length.
#' @references Jugel, Jerzak, Hackenbroich and Markl, "M4: A
#'   Visualization-Oriented Time Series Data Aggregation", PVLDB 7(10), 2014.
#' @export
#' @examples
#' time <- 1:100000
#' kept <- series_thin(time, sin(time / 5000) + (time == 31415), 500)
#' length(kept)
#' 31415 %in% kept
series_thin <- function(time, value, columns = 2000) {
  time <- given(time, "time", "figure")
  value <- given(value, "value", "figure")
  time <- thin_numbers(time, "time")
  value <- thin_numbers(value, "value")
  check_number(columns, "columns", 1, "figure")
  if (length(time) != length(value)) {
    vetusta_stop(
      "figure", "`time` and `value` are of different lengths.",
      todo = "give a value for each time"
    )
  }
  if (length(time) <= 4 * columns) {
    return(seq_along(time))
  }
  if (anyNA(time) || is.unsorted(time)) {
    vetusta_stop(
      "figure", "The times of a line that is thinned must increase.",
      todo = "sort the rows by time"
    )
  }
  series_thin_cpp(time, value, time[1], time[length(time)], as.integer(columns))
}

thin_numbers <- function(x, name) {
  if (!(is.numeric(x) ||
    inherits(x, c("POSIXct", "Date")) ||
    (is.logical(x) && all(is.na(x))))) {
    vetusta_stop(
      "figure",
      paste0("`", name, "` must be numbers, and is ", shown_value(x), "."),
      todo = "give numbers, days or instants"
    )
  }
  as.double(x)
}
