# plot() and autoplot() of tables of series.

#' @rdname vetusta_series
#' @return `plot()` and `ggplot2::autoplot()` draw bars as candles and all other
#'   series as lines.
#' @export
plot.vetusta_series <- function(x, y, ...) print(series_figure(x, ...))

#' @rawNamespace S3method(ggplot2::autoplot, vetusta_series)
#' @noRd
autoplot.vetusta_series <- function(object, ...) series_figure(object, ...)

series_figure <- function(x, ...) UseMethod("series_figure")

#' @export
series_figure.vetusta_bars <- function(x, ...) figure_candles(x, ...)

#' @export
series_figure.default <- function(x, ...) figure_lines(x, ...)

# The coverage of an archive over time.

#' @export
plot.vetusta_archive <- function(x, ...) print(archive_figure(x, ...))

#' @rawNamespace S3method(ggplot2::autoplot, vetusta_archive)
#' @noRd
autoplot.vetusta_archive <- function(object, ...) archive_figure(object, ...)

archive_figure <- function(x, ...) figure_coverage(archive_series(x), ...)
