# Robust decomposition, beside the regression.

#' @rdname model_season
#' @param period The period, a number of days or a length.
#' @param robust Whether outliers get low weights.
#' @return `model_decompose()`: a tibble of `period` or `time`, `observed`,
#'   `fitted`, `season`, `trend`, `rest`, by `stats::stl` (Cleveland and others,
#'   *Journal of Official Statistics* 6, 1990). In a year of days, 29 February
#'   is interpolated between its neighbours.
#' @export
model_decompose <- function(x, period = "1 year", robust = TRUE, value = NULL,
                            as_of = NULL, calendar = NULL) {
  asked <- lineage_asked()
  data <- model_input(given(x, "x", "model"), value, as_of, calendar)
  check_flag(robust, "robust")
  days <- season_cycles(data, period, 1)$period
  if (length(days) != 1) {
    vetusta_stop(
      "model", "A decomposition has a single period.",
      todo = "give a number of days, or a length such as \"1 year\""
    )
  }
  step <- model_frequency(as_series(x), data$days * 86400)$days
  count <- round(days / step)
  leap <- is_year_long(days) &
    data$frequency == "D" &
    format(data$time, "%m-%d") == "02-29"
  kept <- which(!leap)
  fit <- stats::stl(
    stats::ts(data$value[kept], frequency = count),
    s.window = "periodic",
    robust = robust
  )$time.series
  between <- function(column) {
    stats::approx(data$days[kept], fit[, column], data$days, rule = 2)$y
  }
  clock <- if (inherits(data$time, "Date")) {
    list(period = data$time)
  } else {
    list(time = data$time)
  }
  season <- between("seasonal")
  trend <- between("trend")
  parts <- as_rows(
    c(
      clock,
      list(
        observed = data$value,
        fitted = season + trend,
        season = season,
        trend = trend,
        rest = data$value - season - trend
      )
    )
  )
  lineage_step(parts, "model_decompose", asked)
}
