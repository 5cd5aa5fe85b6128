# plot() and autoplot() of models.

model_figure <- function(x, ...) UseMethod("model_figure")
#' @export
model_figure.vetusta_spectrum <- function(x, ...) figure_spectrum(x, ...)
#' @export
model_figure.vetusta_dependence <- function(x, ...) figure_dependence(x, ...)
#' @export
model_figure.vetusta_season <- function(x, ...) figure_parts(x, ...)
#' @export
model_figure.vetusta_paths <- function(x, ...) figure_fan(x, ...)
#' @export
model_figure.vetusta_index <- function(x, ...) figure_index(x, ...)
#' @export
model_figure.vetusta_payoff <- function(x, ...) figure_payoff(x, ...)
#' @export
model_figure.vetusta_backtest <- function(x, ...) figure_backtest(x, ...)

#' @export
plot.vetusta_spectrum <- function(x, ...) print(model_figure(x, ...))
#' @export
plot.vetusta_dependence <- plot.vetusta_spectrum
#' @export
plot.vetusta_season <- plot.vetusta_spectrum
#' @export
plot.vetusta_paths <- plot.vetusta_spectrum
#' @export
plot.vetusta_index <- plot.vetusta_spectrum
#' @export
plot.vetusta_payoff <- plot.vetusta_spectrum
#' @export
plot.vetusta_backtest <- plot.vetusta_spectrum
#' @rawNamespace S3method(ggplot2::autoplot, vetusta_spectrum)
#' @noRd
autoplot.vetusta_spectrum <- function(object, ...) model_figure(object, ...)
#' @rawNamespace S3method(ggplot2::autoplot, vetusta_dependence)
#' @noRd
autoplot.vetusta_dependence <- autoplot.vetusta_spectrum
#' @rawNamespace S3method(ggplot2::autoplot, vetusta_season)
#' @noRd
autoplot.vetusta_season <- autoplot.vetusta_spectrum
#' @rawNamespace S3method(ggplot2::autoplot, vetusta_paths)
#' @noRd
autoplot.vetusta_paths <- autoplot.vetusta_spectrum
#' @rawNamespace S3method(ggplot2::autoplot, vetusta_index)
#' @noRd
autoplot.vetusta_index <- autoplot.vetusta_spectrum
#' @rawNamespace S3method(ggplot2::autoplot, vetusta_payoff)
#' @noRd
autoplot.vetusta_payoff <- autoplot.vetusta_spectrum
#' @rawNamespace S3method(ggplot2::autoplot, vetusta_backtest)
#' @noRd
autoplot.vetusta_backtest <- autoplot.vetusta_spectrum
