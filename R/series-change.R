#' Change, windows and comparison
#'
#' @param x Bars, observations, or a table with `series`, `time` and `value`.
#' @param change What is computed, for each value: `"simple"` (the change as a share of the value before), `"log"` (the difference of logarithms),
#'   `"difference"`; each from the value before, or from the one `over` earlier; `"index"` (scaled so that the value at `base` is 100); `"mean"`, `"sum"`, `"sd"`,
#'   `"min"`, `"max"` of the window of time that ends with the value; `"cumulative"` (the running sum); `"drawdown"` (how far below the largest value so far, as a share).
#' @param over A length of time, as `"1 year"`: the change from the value at the same time that much earlier; where there is none just then, there is no change.
#' @param window For windows: their length in time, not a count of values. A window is open at its start: `"7 days"` of daily values are seven.
#' @param least For windows: how many values there must be in one.
#' @param base For the index: an instant or day, of which the newest value up to then is 100; by default each series' first value.
#' @param value,interval,zone As for [series_align()].
#' @return A tibble of `series`, `time` (`POSIXct`, UTC: a bar's start, a period's first day), `value` and `released` (the instant from which the value counts, as [series_align()] takes
#'   it, so that nothing computed from it looks ahead), one row a value of `x`, in order; `NA` where there is
#'   nothing to compute from. Shares are fractions: 0.01 is one per cent. Missing and infinite values in a window: the missing are left out, an infinite one makes the
#'   mean, sum and sd of its windows missing.
#' @section Errors: `vetusta_error_want` for an unknown change, and for a window or base that is needed and is none.
#' @export
#' @examples
#' days <- data.frame(series = "salt", time = as.POSIXct("2026-03-01", tz = "UTC") + 86400 * 0:9, value = 100 + 0:9)
#' series_change(days, "log")
#' series_change(days, "mean", window = "3 days")
series_change <- function(x, change = "simple", over = NULL, window = NULL, least = 1, base = NULL, value = NULL, interval = NULL, zone = "UTC") {
  windows <- c("mean", "sum", "sd", "min", "max")
  check_choice(change, "change", c("simple", "log", "difference", "index", windows, "cumulative", "drawdown"))
  kind <- series_kind(x)
  points <- series_points(x, if (kind == "bars") value, interval, zone = zone)
  if (kind == "observations") points <- points[!duplicated(points[c("series", "time")], fromLast = TRUE), ]
  groups <- (attr(points, "groups") %||% text_groups(points$series))$id
  result <- if (change %in% windows) {
    if (is.null(window)) vetusta_stop("want", paste0("The ", change, " of a window needs its length."), todo = "give `window`, such as \"30 days\"")
    change_window(points, groups, change, time_interval(window, "window"), check_count(least, "least"))
  } else if (change %in% c("simple", "log", "difference")) {
    change_from(points$value, if (is.null(over)) value_before(points$value, groups) else value_earlier(points, groups, time_interval(over, "over"), zone), change)
  } else {
    by_group(points$value, groups, switch(change, index = change_index(points, groups, base, zone), cumulative = running_sum, drawdown = drawdown))
  }
  points_rows(points$series, points$time, result, released = utc(points$known))
}

by_group <- function(value, groups, work) {
  out <- value
  for (rows in split(seq_along(value), groups)) out[rows] <- work(value[rows], rows)
  out
}

change_window <- function(points, groups, change, window, least) {
  if (is.na(window$seconds)) vetusta_stop("want", "A window is a length of days, weeks or less.", todo = "write 365 days for a year, 30 days for a month")
  if (change %in% c("min", "max")) roll_extremes_cpp(groups, points$time, points$value, window$seconds, change == "max", as.integer(least))
  else roll_sums_cpp(groups, points$time, points$value, window$seconds, match(change, c("mean", "sum", "sd")) - 1L, as.integer(least))
}

value_before <- function(value, groups) {
  n <- length(value)
  if (!n) {
    return(value)
  }
  before <- c(NA, value[-n])
  before[c(TRUE, groups[-1] != groups[-n])] <- NA
  before
}

value_earlier <- function(points, groups, over, zone) {
  out <- rep(NA_real_, nrow(points))
  for (rows in split(seq_along(groups), groups)) {
    wanted <- as.numeric(shift_instant(utc(points$time[rows]), over, -1, zone))
    out[rows] <- points$value[rows][match(wanted, points$time[rows])]
  }
  out
}

change_from <- function(value, before, change) {
  out <- switch(change, simple = value / before - 1, log = suppressWarnings(log(value / before)), difference = value - before)
  out[is.nan(out) | (change != "difference" & before %in% 0)] <- NA
  out
}

change_index <- function(points, groups, base, zone) {
  if (!is.null(base)) {
    is_day <- inherits(base, "Date") || (is.character(base) && !is.na(read_day(base)))
    # a day counts whole, an instant with itself
    base <- as.numeric(time_instant(base, zone, end = TRUE, name = "base")) + if (is_day) 0 else 1e-6
  }
  function(value, rows) {
    usable <- which(is.finite(value) & value != 0 & (if (is.null(base)) TRUE else points$time[rows] < base))
    if (!length(usable)) {
      return(rep(NA_real_, length(value)))
    }
    100 * value / value[if (is.null(base)) usable[1] else usable[length(usable)]]
  }
}

running_sum <- function(value, rows) {
  out <- cumsum(ifelse(is.na(value), 0, value))
  out[is.na(value)] <- NA
  out
}

drawdown <- function(value, rows) {
  top <- cummax(ifelse(is.na(value), -Inf, value))
  value / top - 1
}

#' @rdname series_change
#' @param rates A table of one series: what one unit of the values' currency costs in the other one.
#' @param lag,oldest As for [series_align()]: when a rate is known, and how old it may be.
#' @return `series_convert()`: a tibble of `series`, `time`, `value` (converted), `released`, `rate` and `age` of the rate in days. A value takes the newest rate that was known when
#'   the value was.
#' @export
series_convert <- function(x, rates, value = NULL, interval = NULL, lag = NULL, oldest = NULL, zone = "UTC") {
  points <- series_points(x, if (series_kind(x) == "bars") value, interval, zone = zone)
  rate <- align_series(list(rates), NULL, NULL, lag, zone, TRUE)
  if (length(rate) != 1) vetusta_stop("want", "The rates must be one series.", todo = paste0("choose one of: ", paste(utils::head(names(rate), 8), collapse = ", ")))
  times <- sort(unique(points$known))
  found <- align_one(rate[[1]], times, "last", if (!is.null(oldest)) time_interval(oldest, "oldest"), zone)
  at <- match(points$known, times)
  points_rows(points$series, points$time, points$value * found$value[at], released = utc(points$known), rate = found$value[at], age = (points$known - found$known[at]) / 86400)
}

#' @rdname series_change
#' @param ... Tables of series.
#' @return `series_correlation()`: a tibble of `a`, `b` (every pair of series), `correlation` (Pearson's, of the changes of values that both series have at the same
#'   times) and `pairs` (how many changes that were). Fewer than three pairs, or a series that does not change, give `NA`.
#' @export
series_correlation <- function(..., change = "log", value = NULL, interval = NULL, zone = "UTC") {
  check_choice(change, "change", c("simple", "log", "difference"))
  series <- align_series(list(...), value, interval, NULL, zone, FALSE)
  if (length(series) < 2) vetusta_stop("want", "A correlation needs two series.", todo = "give another one")
  pairs <- utils::combn(names(series), 2)
  rows <- apply(pairs, 2, function(pair) {
    a <- series[[pair[1]]]
    b <- series[[pair[2]]]
    a <- lapply(a, `[`, !duplicated(a$time, fromLast = TRUE))
    b <- lapply(b, `[`, !duplicated(b$time, fromLast = TRUE))
    both <- sort(intersect(a$time, b$time))
    # the changes are between times that both have, so that both speak of the same stretch
    va <- a$value[match(both, a$time)]
    vb <- b$value[match(both, b$time)]
    ca <- change_from(va, c(NA, va[-length(va)]), change)
    cb <- change_from(vb, c(NA, vb[-length(vb)]), change)
    good <- is.finite(ca) & is.finite(cb)
    flat <- sum(good) < 3 || stats::sd(ca[good]) == 0 || stats::sd(cb[good]) == 0
    list(a = pair[1], b = pair[2], correlation = if (flat) NA_real_ else stats::cor(ca[good], cb[good]), pairs = sum(good))
  })
  as_rows(as.data.frame(data.table::rbindlist(rows)))
}
