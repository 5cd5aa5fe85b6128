# Conversion by rates, and correlation of changes.

#' @rdname series_change
#' @param rates A table of one series: the price of one unit of the values'
#'   currency in the other currency.
#' @param lag,max_age As in [series_align()]: when a rate is known, and its
#'   greatest age.
#' @return `series_convert()`: a tibble of `series`, `time`, `value`
#'   (converted), `through`, `known`, `rate` and `age_days` of the rate. A value
#'   uses the latest rate known when the value was.
#' @export
series_convert <- function(x, rates, value = NULL, interval = NULL, lag = NULL,
                           max_age = NULL, zone = NULL, calendar = NULL) {
  asked <- lineage_asked()
  if (!is.null(zone)) check_zone(zone)
  check_calendar(calendar)
  if (missing(rates)) {
    vetusta_stop(
      "argument", "A conversion needs rates.",
      todo = "give `rates`, a table of a single series"
    )
  }
  x <- as_series(x)
  points <- series_points(
    x, value_asked(x, value), interval,
    zone = zone, calendar = calendar
  )
  rate <- align_series(list(rates), NULL, NULL, lag, zone, TRUE, list(calendar))
  if (length(rate) != 1) {
    vetusta_stop(
      "argument",
      "The rates must be a single series.",
      todo = paste0(
        "choose one of: ", paste(utils::head(names(rate), 8), collapse = ", ")
      )
    )
  }
  times <- sort(unique(points$known))
  joined <- align_one(
    rate[[1]], times, "last",
    if (!is.null(max_age)) time_interval(max_age, "max_age"), zone %||% "UTC"
  )
  at <- match(points$known, times)
  converted <- derived_points(
    x,
    points,
    points$value * joined$value[at],
    pmax(points$through, joined$through[at], na.rm = TRUE),
    points$known,
    rate = joined$value[at],
    age_days = (points$known - joined$counts[at]) / 86400
  )
  lineage_step(converted, "series_convert", asked)
}

#' @rdname series_change
#' @param ... Tables of series.
#' @return `series_correlation()`: a tibble of `a`, `b` (every pair of series),
#'   `correlation` (Pearson's, of changes between times that both series have;
#'   daily and longer series are paired by trading day) and `pairs` (the number
#'   of changes). Fewer than three pairs, or a constant series, give `NA`.
#' @export
series_correlation <- function(..., change = "log", value = NULL,
                               interval = NULL, zone = NULL) {
  check_choice(change, "change", c("simple", "log", "difference"))
  if (!is.null(zone)) check_zone(zone)
  tables <- list(...)
  if (!length(tables)) {
    vetusta_stop(
      "argument", "A correlation needs two series.",
      todo = "give two tables, or a table of several series"
    )
  }
  check_tables(tables)
  tables <- lapply(tables, as_series)
  by_day <- all(
    vapply(tables, function(x) !is.null(x[["period"]]) || has_day_bars(x), TRUE)
  )
  # days of different sources begin at different hours, so they are paired by
  # date
  if (by_day) {
    tables <- lapply(
      tables, function(x) if (is_bars(x)) bars_at_dates(x) else x
    )
  }
  series <- align_series(
    tables, value, interval, NULL, if (by_day) "UTC" else zone, FALSE
  )
  if (length(series) < 2) {
    vetusta_stop(
      "argument", "A correlation needs two series.",
      todo = "give another series"
    )
  }
  pairs <- utils::combn(names(series), 2)
  rows <- apply(pairs, 2, function(pair) {
    a <- series[[pair[1]]]
    b <- series[[pair[2]]]
    a <- lapply(a, `[`, !duplicated(a$time, fromLast = TRUE))
    b <- lapply(b, `[`, !duplicated(b$time, fromLast = TRUE))
    both <- sort(intersect(a$time, b$time))
    # changes between common times, so that both cover the same period
    va <- a$value[match(both, a$time)]
    vb <- b$value[match(both, b$time)]
    ca <- change_from(va, c(NA, va[-length(va)]), change)
    cb <- change_from(vb, c(NA, vb[-length(vb)]), change)
    good <- is.finite(ca) & is.finite(cb)
    flat <- sum(good) < 3 ||
      stats::sd(ca[good]) == 0 ||
      stats::sd(cb[good]) == 0
    list(
      a = pair[1],
      b = pair[2],
      correlation = if (flat) NA_real_ else stats::cor(ca[good], cb[good]),
      pairs = sum(good)
    )
  })
  as_rows(as.data.frame(data.table::rbindlist(rows)))
}
