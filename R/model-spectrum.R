# Structure of a series: periods, memory, a unit root.

#' Test a series for structure
#'
#' @param x A table of one series, without missing values; or a
#'   [model_season()], whose residuals are tested.
#' @param smooth Spans of modified Daniell smoothers, as `c(5, 7)`; `NULL` for
#'   the raw periodogram.
#' @param limit The largest number of peaks.
#' @param lags The number of lags.
#' @param value,as_of,calendar As in [model_season()].
#' @return `model_spectrum()`: a `vetusta_spectrum`, a tibble of `period`
#'   (days), `frequency` (cycles per year) and `power`, of the series without
#'   its linear trend (`stats::spec.pgram`). Its attribute `peaks` is a data
#'   frame of `period`, `words`, `part` (of the variance, within the peak) and
#'   `ratio` (to the median of the surrounding power): peaks that exceed their
#'   surroundings at the 1% level of the whole series.
#'
#'   `model_dependence()`: a `vetusta_dependence`, a tibble of `lag`,
#'   `autocorrelation`, `partial`, `of_squares` and `partial_of_squares`. Its
#'   attribute `bound` contains 95% of the lags of white noise.
#'
#'   `model_tests()`: a tibble of `test`, `statistic`, `critical` (at 5%),
#'   `p_value` and `conclusion`: for a unit root (augmented Dickey-Fuller, lags
#'   by the Bayesian criterion) and against it (KPSS), both by the package urca;
#'   and for dependence of values and of squares (Ljung-Box).
#' @section Errors: `vetusta_error_model` for missing values and series that are
#'   too short, and without the package urca.
#' @export
#' @examples
#' days <- as.Date("2016-01-01") + 0:3652
#' level <- data.frame(
#'   series = "lock",
#'   period = days,
#'   value = 200 + 40 * cos(2 * pi * (as.POSIXlt(days)$yday - 100) / 365.25) +
#'     rnorm(3653)
#' )
#' model_spectrum(level)
model_spectrum <- function(x, smooth = NULL, limit = 5, value = NULL,
                           as_of = NULL, calendar = NULL) {
  asked <- lineage_asked()
  data <- model_input_or_rest(given(x, "x", "model"), value, as_of, calendar)
  check_whole(limit, "limit")
  if (!is.null(smooth) &&
    (!is.numeric(smooth) ||
      anyNA(smooth) ||
      any(smooth < 1 | smooth > length(data$value) / 2))) {
    vetusta_stop(
      "model", "`smooth` must be spans of smoothers.",
      todo = "give numbers such as c(5, 7)"
    )
  }
  model_changes(data)
  step <- (max(data$days) - min(data$days)) / (length(data$days) - 1)
  spectrum <- stats::spec.pgram(
    data$value,
    spans = smooth, taper = 0.1, detrend = TRUE, plot = FALSE
  )
  frequency <- spectrum$freq / step
  table <- as_rows(
    list(
      period = 1 / frequency,
      frequency = frequency * 365.2425,
      power = as.numeric(spectrum$spec)
    )
  )
  attr(
    table, "peaks"
  ) <- spectrum_peaks(spectrum, step, limit, diff(range(data$days)))
  attr(table, "name") <- data$name
  class(table) <- c("vetusta_spectrum", class(table))
  lineage_step(table, "model_spectrum", asked)
}

model_input_or_rest <- function(x, value, as_of, calendar) {
  if (!inherits(x, "vetusta_season")) {
    return(model_input(x, value, as_of, calendar))
  }
  data <- x$data
  data$value <- x$series$rest
  data
}

model_changes <- function(data) {
  if (diff(range(data$value)) < 1e-12 * max(1, abs(data$value))) {
    vetusta_stop(
      "model", paste0("The series ", data$name, " does not change."),
      todo = "it has no variance to model"
    )
  }
}

spectrum_peaks <- function(spectrum, step, limit, span) {
  power <- as.numeric(spectrum$spec)
  n <- length(power)
  # the median of an exponential variable is 0.69 of its mean
  ratio <- power / pmax(spectrum_ground(power) / log(2), 1e-300)
  higher <- c(TRUE, power[-1] >= power[-n]) & c(power[-n] > power[-1], TRUE)
  limit <- stats::qchisq(1 - 0.01 / n, spectrum$df) / spectrum$df
  # a period must have occurred twice
  at <- which(higher & ratio > limit & step / spectrum$freq <= span / 2)
  at <- at[order(-power[at])]
  # leakage lies near a large peak
  leaked <- vapply(
    seq_along(at),
    function(i) {
      far <- abs(at[seq_len(i - 1)] - at[i])
      any(
        far <= 10 & power[at[i]] < power[at[seq_len(i - 1)]] * 4 / (pi * far)^2
      )
    },
    TRUE
  )
  at <- utils::head(at[!leaked], limit)
  total <- sum(power)
  period <- vapply(
    at,
    function(i) {
      near <- max(1, i - 1):min(n, i + 1)
      # between frequencies, by the parabola through the logarithms
      if (length(near) < 3) {
        return(step / spectrum$freq[i])
      }
      log_power <- log(pmax(power[near], 1e-300))
      bend <- log_power[1] - 2 * log_power[2] + log_power[3]
      shift <- if (bend < 0) 0.5 * (log_power[1] - log_power[3]) / bend else 0
      step /
        (spectrum$freq[i] +
          max(-0.5, min(0.5, shift)) * diff(spectrum$freq[near[1:2]]))
    },
    0
  )
  part <- vapply(
    at, function(i) sum(power[max(1, i - 2):min(n, i + 2)]) / total, 0
  )
  data.frame(
    period = period,
    words = vapply(period, period_words, ""),
    part = part,
    ratio = ratio[at]
  )
}

# The background of a spectrum: medians of bands that widen with frequency,
# joined by lines of logarithms, so that autocorrelated noise and a random walk
# keep their slope.
spectrum_ground <- function(power) {
  n <- length(power)
  x <- log(seq_len(n))
  y <- log(pmax(power, 1e-300))
  knots <- NULL
  from <- 1
  while (from <= n) {
    to <- max(from + 8, ceiling(1.5 * from))
    if (n - to < 5) to <- n
    knots <- rbind(
      knots, c(stats::median(x[from:to]), stats::median(y[from:to]))
    )
    from <- to + 1
  }
  if (nrow(knots) == 1) {
    return(rep(exp(knots[1, 2]), n))
  }
  ground <- stats::approx(knots[, 1], knots[, 2], x, rule = 2)$y
  # the lowest frequencies lie on the first line
  low <- x < knots[1, 1]
  slope <- min(0, diff(knots[1:2, 2]) / diff(knots[1:2, 1]))
  ground[low] <- knots[1, 2] + slope * (x[low] - knots[1, 1])
  exp(ground)
}

#' @export
print.vetusta_spectrum <- function(x, ...) {
  peaks <- attr(x, "peaks")
  cat("cycles of ", attr(x, "name"), " without its trend: ", sep = "")
  if (!nrow(peaks)) {
    cat("no peak\n")
  } else {
    cat(
      paste0(
        peaks$words, " (", round(100 * peaks$part, 1), "% of the variance)",
        collapse = ", "
      ),
      "\n",
      sep = ""
    )
    shown <- data.frame(
      cycle = peaks$words,
      "period, days" = signif(peaks$period, 5),
      "part of the variance" = signif(peaks$part, 3),
      "times the level around it" = signif(peaks$ratio, 3),
      check.names = FALSE
    )
    cat(text_table(shown, getOption("width", 80)), sep = "\n")
  }
  invisible(x)
}

#' @rdname model_spectrum
#' @export
model_dependence <- function(x, lags = NULL, value = NULL, as_of = NULL,
                             calendar = NULL) {
  asked <- lineage_asked()
  data <- model_input_or_rest(given(x, "x", "model"), value, as_of, calendar)
  model_changes(data)
  n <- length(data$value)
  lags <- lags %||% min(n - 1, floor(10 * log10(n)))
  check_whole(lags, "lags")
  lags <- min(lags, n - 1)
  both <- function(x) {
    list(
      as.numeric(stats::acf(x, lags, plot = FALSE)$acf)[-1],
      as.numeric(stats::pacf(x, lags, plot = FALSE)$acf)
    )
  }
  levels <- both(data$value)
  squares <- both((data$value - mean(data$value))^2)
  table <- as_rows(
    list(
      lag = seq_len(lags), autocorrelation = levels[[1]],
      partial = levels[[2]], of_squares = squares[[1]],
      partial_of_squares = squares[[2]]
    )
  )
  attr(table, "bound") <- stats::qnorm(0.975) / sqrt(n)
  attr(table, "name") <- data$name
  attr(table, "step") <- data$step
  class(table) <- c("vetusta_dependence", class(table))
  lineage_step(table, "model_dependence", asked)
}

#' @export
print.vetusta_dependence <- function(x, ...) {
  bound <- attr(x, "bound")
  outside <- function(column) which(abs(column) > bound)
  first_within <- function(column) {
    within <- which(abs(column) <= bound)
    if (length(within)) within[1] - 1 else length(column)
  }
  step <- attr(x, "step")
  partial <- first_within(x$partial)
  seen <- paste0(
    "autocorrelation ", signif(x$autocorrelation[1], 3),
    " at lag 1; significant up to ",
    counted(first_within(x$autocorrelation), step),
    ", partial autocorrelation up to ", counted(partial, step)
  )
  cat(
    "dependence of ", attr(x, "name"), ": ",
    if (abs(x$autocorrelation[1]) <= bound) {
      "no autocorrelation"
    } else {
      seen
    },
    "\nof squares: ",
    if (!length(outside(x$of_squares)) ||
      length(outside(x$of_squares)) <= 0.1 * nrow(x)) {
      "none"
    } else {
      paste0(signif(x$of_squares[1], 3), " at lag 1")
    },
    "\n",
    sep = ""
  )
  shown <- as.data.frame(utils::head(x, 10))
  shown[-1] <- lapply(shown[-1], round, 3)
  cat(text_table(shown, getOption("width", 80)), sep = "\n")
  cat("95% of white noise is within ", signif(bound, 2), "\n", sep = "")
  invisible(x)
}

#' @rdname model_spectrum
#' @export
model_tests <- function(x, lags = NULL, value = NULL, as_of = NULL,
                        calendar = NULL) {
  data <- model_input_or_rest(given(x, "x", "model"), value, as_of, calendar)
  model_changes(data)
  if (!requireNamespace("urca", quietly = TRUE)) {
    vetusta_stop(
      "model", "Tests for a unit root need the package urca.",
      todo = "install.packages(\"urca\"), or of Debian the package r-cran-urca"
    )
  }
  n <- length(data$value)
  lags <- lags %||% min(floor(12 * (n / 100)^0.25), floor(n / 4))
  check_whole(lags, "lags")
  if (n < 20 || lags > n / 3) {
    vetusta_stop(
      "model",
      paste0(
        "The series ", data$name, ", of ", counted(n, "value"),
        ", is too short for tests with ", counted(lags, "lag"), "."
      ),
      todo = "give fewer lags"
    )
  }
  root <- urca::ur.df(
    data$value,
    type = "drift", lags = lags, selectlags = "BIC"
  )
  against <- urca::ur.kpss(data$value, type = "mu", lags = "long")
  left <- dependence_left(data$value, min(lags, n - 2), 0)
  statistic <- c(root@teststat[1, 1], against@teststat[1])
  critical <- c(root@cval[1, 2], against@cval[1, 2])
  conclusion <- c(
    if (isTRUE(statistic[1] < critical[1])) {
      "unit root rejected: the series returns to its level"
    } else {
      "unit root not rejected: the series may drift"
    },
    if (isTRUE(statistic[2] > critical[2])) {
      "constant level rejected"
    } else {
      "no evidence against a constant level"
    }
  )
  rows <- as_rows(
    list(
      test = c("unit root (Dickey-Fuller)", "constant level (KPSS)", left$test),
      statistic = c(statistic, left$statistic),
      critical = c(critical, NA, NA),
      p_value = c(NA, NA, left$p_value),
      conclusion = c(conclusion, left$conclusion)
    )
  )
  class(rows) <- c("vetusta_tests", class(rows))
  rows
}

#' @export
print.vetusta_tests <- function(x, ...) {
  shown <- as.data.frame(x)
  for (name in c("statistic", "critical", "p_value")) {
    shown[[name]] <- signif(shown[[name]], 3)
  }
  cat(text_table(shown, getOption("width", 80)), sep = "\n")
  invisible(x)
}

# Ljung-Box tests of values and squares; `fitted` coefficients reduce the
# degrees of freedom.
dependence_left <- function(x, lags, fitted) {
  lags <- max(lags, fitted + 3)
  test <- stats::Box.test(x, lags, "Ljung-Box", fitdf = fitted)
  squares <- stats::Box.test((x - mean(x))^2, lags, "Ljung-Box")
  list(
    test = c("dependence (Ljung-Box)", "dependence of squares (Ljung-Box)"),
    statistic = unname(c(test$statistic, squares$statistic)),
    p_value = c(test$p.value, squares$p.value),
    conclusion = c(
      if (test$p.value < 0.05) {
        "values depend on earlier values"
      } else {
        "no dependence found"
      },
      if (squares$p.value < 0.05) {
        "the variance depends on earlier values"
      } else {
        "no change of the variance found"
      }
    )
  )
}
