# The noise around trend and season: an ARMA process and the variance of its
# innovations.

#' Noise model of a series
#'
#' Fits an ARMA by maximum likelihood (`stats::arima`). The innovations have a
#' constant variance, a seasonal variance, or a GARCH(1,1) variance (Bollerslev,
#' *Journal of Econometrics* 31, 1986), which is estimated jointly by the
#' conditional likelihood.
#'
#' @param x A [model_season()], whose residuals are modelled; or a table of one
#'   series, whose mean is subtracted.
#' @param order `c(p, q)`, the orders of the ARMA; `NULL` chooses among p up to
#'   4 and q up to 2 by the Bayesian information criterion.
#' @param variance `"constant"`, `"seasonal"` (the logarithm of the variance has
#'   yearly harmonics) or `"garch"`.
#' @param residuals `"normal"`, `"t"` (Student's t with estimated degrees of
#'   freedom) or `"bootstrap"` (drawn from the past residuals).
#' @param harmonics The number of harmonics of a seasonal variance.
#' @param value,as_of,calendar As in [model_season()].
#' @param level The confidence level of the intervals.
#' @return A `vetusta_noise`: a list of `coefficients` (a tibble of `term`,
#'   `estimate`, `error`, `low`, `high`), `order`, `ar`, `ma`, `variance`,
#'   `residuals`, `innovations`, `spread` (their standard deviation at each
#'   time), `likelihood` (its logarithm), `criterion` (Bayesian), `diagnostics`
#'   (a tibble of `test`, `statistic`, `p_value`, `conclusion`) and `season`.
#' @section Errors: `vetusta_error_model` for missing values, a constant series,
#'   a series that is too short for the orders, and a fit that does not converge
#'   (with what was tried).
#' @export
#' @examples
#' noise <- as.numeric(stats::filter(rnorm(1000), 0.8, method = "recursive"))
#' level <- data.frame(
#'   series = "lock",
#'   period = as.Date("2020-01-01") + 0:999,
#'   value = noise
#' )
#' model_noise(level, order = c(1, 0))
model_noise <- function(x, order = NULL, variance = "constant",
                        residuals = "normal", harmonics = 2, value = NULL,
                        as_of = NULL, calendar = NULL, level = 0.95) {
  asked <- lineage_asked()
  data <- model_input_or_rest(given(x, "x", "model"), value, as_of, calendar)
  check_choice(
    variance, "variance", c("constant", "seasonal", "garch"), "model"
  )
  check_choice(residuals, "residuals", c("normal", "t", "bootstrap"), "model")
  check_count(harmonics, "harmonics", "model")
  check_level(level)
  season <- if (inherits(x, "vetusta_season")) {
    x
  } else {
    season_fitted(
      data,
      list(
        trend = "none", breaks = NULL, cycles = no_cycles, origin = data$days[1]
      ),
      rep(1, length(data$days)), level
    )
  }
  data$value <- season$series$rest
  model_changes(data)
  order <- noise_order(data, order)
  fit <- noise_fits[[variance]](data, order, residuals, harmonics)
  made <- noise_made(data, season, order, fit, residuals, level)
  lineage_step(made, "model_noise", asked)
}

noise_order <- function(data, order) {
  n <- length(data$value)
  if (is.null(order)) {
    return(noise_chosen(data$value))
  }
  good <- is.numeric(order) &&
    length(order) == 2 &&
    !anyNA(order) &&
    all(order >= 0) &&
    all(order == round(order))
  if (!good) {
    vetusta_stop(
      "model", "`order` must be the two whole numbers of the ARMA.",
      todo = "write it as c(1, 0), or leave it out"
    )
  }
  if (n < 10 * (sum(order) + 1)) {
    vetusta_stop(
      "model",
      paste0(
        "The series ", data$name, ", of ", counted(n, "value"),
        ", is too short for an ARMA(", order[1], ",", order[2], ")."
      ),
      todo = "give lower orders"
    )
  }
  as.integer(order)
}

# By the conditional sum of squares, which compares orders as well as the
# likelihood does.
noise_chosen <- function(x) {
  n <- length(x)
  grid <- expand.grid(p = 0:4, q = 0:2)
  grid <- grid[rowSums(grid) < n / 15, , drop = FALSE]
  products <- noise_products(x, max(grid$p), max(grid$q))
  score <- vapply(
    seq_len(nrow(grid)),
    function(i) {
      fit <- noise_squares(x, grid$p[i], grid$q[i], products)
      n * log(fit$squares / n) + sum(grid[i, ]) * log(n)
    },
    0
  )
  as.integer(unlist(grid[which.min(score), ]))
}

# Conditional least squares of an ARMA, started from the estimate of Hannan and
# Rissanen (Biometrika 69, 1982).
noise_squares <- function(x, p, q, products = noise_products(x, p, q)) {
  n <- length(x)
  if (p + q == 0) {
    return(list(ar = numeric(), ma = numeric(), squares = sum(x^2)))
  }
  start <- noise_start(products, p, q)
  if (q == 0) {
    return(
      list(
        ar = start,
        ma = numeric(),
        squares = model_squares_cpp(x, start, numeric(), 0L)
      )
    )
  }
  split <- function(par) list(ar = par[seq_len(p)], ma = par[p + seq_len(q)])
  fit <- stats::optim(
    start,
    function(par) {
      terms <- split(par)
      log(model_squares_cpp(x, terms$ar, terms$ma, 0L) / n)
    },
    method = "BFGS",
    control = list(maxit = 60, reltol = 1e-7)
  )
  c(split(fit$par), list(squares = n * exp(fit$value)))
}

# The cross products of a series with its lags, `ar 1` and on, and of its
# shocks, `ma 1` and on: regressions of all orders use parts of the largest one.
noise_products <- function(x, p, q) {
  n <- length(x)
  lags <- function(x, count, name) {
    columns <- vapply(
      seq_len(count), function(lag) c(rep(0, lag), x[seq_len(n - lag)]), x
    )
    matrix(
      columns,
      n,
      dimnames = list(NULL, paste(rep(name, count), seq_len(count)))
    )
  }
  shocks <- if (q) {
    far <- lags(x, min(20, floor(n / 5)), "ar")
    x - as.numeric(far %*% solved(crossprod(far), crossprod(far, x)))
  }
  crossprod(cbind(lags(x, p, "ar"), if (q) lags(shocks, q, "ma"), value = x))
}

# The coefficients of a regression from its cross products; 0 for a collinear
# column.
solved <- function(products, values) {
  coefficients <- qr.coef(qr(products), values)
  replace(as.numeric(coefficients), is.na(coefficients), 0)
}

noise_start <- function(products, p, q) {
  terms <- c(paste(rep("ar", p), seq_len(p)), paste(rep("ma", q), seq_len(q)))
  start <- solved(
    products[terms, terms, drop = FALSE], products[terms, "value"]
  )
  # keeps the start of the moving average invertible
  if (q) start[p + seq_len(q)] <- pmax(-0.9, pmin(0.9, start[p + seq_len(q)]))
  start
}

# list(ar, ma, covariance, likelihood, parameters, variance, spread): one entry
# a kind of variance.
noise_fits <- list(
  constant = function(data, order, residuals, harmonics) {
    fit <- noise_arma(data, order)
    innovations <- model_innovations_cpp(data$value, fit$ar, fit$ma)
    spread <- sqrt(fit$sigma2)
    c(
      fit,
      list(
        variance = list(kind = "constant", sigma = spread),
        more = 1L,
        spread = rep(spread, length(innovations)),
        innovations = innovations,
        extra = noise_extra(
          "standard deviation", spread, spread / sqrt(2 * length(innovations))
        )
      )
    )
  },
  seasonal = function(data, order, residuals, harmonics) {
    fit <- noise_arma(data, order)
    innovations <- model_innovations_cpp(data$value, fit$ar, fit$ma)
    cycles <- season_cycles(data, "1 year", harmonics)
    design <- season_design(
      list(
        trend = "none", breaks = NULL, cycles = cycles, origin = data$days[1]
      ),
      data$days
    )
    regression <- stats::glm.fit(
      design, pmax(innovations^2, 1e-12 * mean(innovations^2)),
      family = stats::Gamma("log")
    )
    if (!regression$converged) {
      noise_unsettled(data, order, "a seasonal variance")
    }
    spread <- sqrt(regression$fitted.values)
    z <- innovations / spread
    # the square of a standard normal has variance 2
    covariance <- 2 * chol2inv(chol(crossprod(design)))
    fit$likelihood <- sum(stats::dnorm(innovations, 0, spread, log = TRUE))
    c(
      fit,
      list(
        variance = list(
          kind = "seasonal",
          cycles = cycles,
          log = regression$coefficients
        ),
        more = ncol(design),
        spread = spread,
        innovations = innovations,
        extra = noise_extra(
          paste("log variance,", colnames(design)), regression$coefficients,
          sqrt(diag(covariance))
        )
      )
    )
  },
  garch = function(data, order, residuals, harmonics) {
    noise_garch(data, order, residuals)
  }
)

noise_extra <- function(term, estimate, error) {
  data.frame(
    term = term, estimate = as.numeric(estimate), error = as.numeric(error)
  )
}

noise_unsettled <- function(data, order, what, reason = NULL) {
  vetusta_stop(
    "model",
    paste0(
      "The noise of ", data$name, " was not fitted: an ARMA(", order[1], ",",
      order[2], ") with ", what, " did not converge",
      if (!is.null(reason)) paste0(" (", reason, ")"), "."
    ),
    todo = paste0(
      "give lower orders or another variance; look at ",
      "model_dependence() and model_tests()"
    )
  )
}

noise_arma <- function(data, order) {
  x <- data$value
  if (sum(order) == 0) {
    return(
      list(
        ar = numeric(),
        ma = numeric(),
        covariance = matrix(0, 0, 0),
        sigma2 = mean(x^2),
        likelihood = sum(stats::dnorm(x, 0, sqrt(mean(x^2)), log = TRUE))
      )
    )
  }
  start <- noise_squares(x, order[1], order[2])
  fit <- tryCatch(
    suppressWarnings(
      stats::arima(
        x,
        c(order[1], 0, order[2]),
        include.mean = FALSE,
        init = c(start$ar, start$ma),
        method = "ML",
        optim.control = list(maxit = 200)
      )
    ),
    error = function(e) NULL
  )
  # a start outside the region cannot be improved
  if (is.null(fit)) {
    fit <- tryCatch(
      suppressWarnings(
        stats::arima(
          x, c(order[1], 0, order[2]),
          include.mean = FALSE, method = "CSS-ML"
        )
      ),
      error = function(e) {
        noise_unsettled(data, order, "a constant variance", conditionMessage(e))
      }
    )
  }
  if (fit$code != 0 || anyNA(fit$var.coef)) {
    noise_unsettled(data, order, "a constant variance")
  }
  list(
    ar = unname(fit$coef[seq_len(order[1])]),
    ma = unname(fit$coef[order[1] + seq_len(order[2])]),
    covariance = unname(fit$var.coef),
    sigma2 = fit$sigma2,
    likelihood = fit$loglik
  )
}

noise_made <- function(data, season, order, fit, residuals, level) {
  z <- fit$innovations / fit$spread
  k <- sum(order)
  df <- if (residuals == "t") fit$df %||% noise_df(z)
  arma <- noise_extra(
    c(
      if (order[1]) paste("ar", seq_len(order[1])),
      if (order[2]) paste("ma", seq_len(order[2]))
    ),
    c(fit$ar, fit$ma), if (k) sqrt(pmax(0, diag(fit$covariance))) else numeric()
  )
  table <- rbind(
    if (k) arma, fit$extra,
    if (residuals == "t" && is.null(fit$df)) {
      noise_extra("degrees of freedom", df, NA)
    }
  )
  reach <- stats::qnorm(1 - (1 - level) / 2) * table$error
  n <- length(z)
  structure(
    list(
      name = data$name,
      unit = data$unit,
      season = season,
      data = data,
      order = order,
      ar = fit$ar,
      ma = fit$ma,
      variance = fit$variance,
      residuals = residuals,
      df = df,
      innovations = fit$innovations,
      spread = fit$spread,
      standardised = z,
      coefficients = as_rows(
        list(
          term = table$term, estimate = table$estimate, error = table$error,
          low = table$estimate - reach, high = table$estimate + reach
        )
      ),
      likelihood = fit$likelihood,
      criterion = -2 * fit$likelihood + (k + fit$more) * log(n),
      diagnostics = noise_diagnostics(z, k)
    ),
    class = "vetusta_noise"
  )
}

# The degrees of freedom of standardised residuals, by maximum likelihood.
noise_df <- function(z) {
  z <- z / stats::sd(z)
  optimum <- stats::optimize(
    function(inverse) {
      df <- 1 / inverse
      scale <- sqrt((df - 2) / df)
      -sum(stats::dt(z / scale, df, log = TRUE) - log(scale))
    },
    c(1 / 400, 1 / 2.1)
  )
  1 / optimum$minimum
}

noise_diagnostics <- function(z, fitted) {
  n <- length(z)
  left <- dependence_left(z, min(20, floor(n / 5)), fitted)
  centred <- z - mean(z)
  skew <- mean(centred^3) / mean(centred^2)^1.5
  tails <- mean(centred^4) / mean(centred^2)^2 - 3
  # Jarque and Bera (Economics Letters 6, 1980)
  shape <- n / 6 * (skew^2 + tails^2 / 4)
  p <- stats::pchisq(shape, 2, lower.tail = FALSE)
  as_rows(
    list(
      test = c(left$test, "normality (Jarque-Bera)"),
      statistic = c(left$statistic, shape),
      p_value = c(left$p_value, p),
      conclusion = c(
        left$conclusion,
        if (p >= 0.05) {
          "no evidence against a normal distribution"
        } else {
          paste0(
            if (tails > 0) {
              "heavier tails than the normal distribution"
            } else {
              "lighter tails than the normal distribution"
            },
            if (abs(skew) > 4 * sqrt(6 / n)) {
              if (skew > 0) ", skewed to the right" else ", skewed to the left"
            }
          )
        }
      )
    )
  )
}

#' @export
print.vetusta_noise <- function(x, ...) {
  kind <- c(
    constant = "a constant variance",
    seasonal = "a variance that follows the season",
    garch = "a GARCH(1,1) variance"
  )[[x$variance$kind]]
  cat(
    "noise of ", x$name, ": ARMA(", x$order[1], ",", x$order[2], ") with ",
    kind, ", ",
    c(normal = "normal", t = "Student's t", bootstrap = "bootstrapped")[[
      x$residuals
    ]],
    " residuals\n",
    sep = ""
  )
  shown <- as.data.frame(x$coefficients)
  shown[-1] <- lapply(shown[-1], signif, 4)
  cat(text_table(shown, getOption("width", 80)), "", sep = "\n")
  cat(
    paste0(
      x$diagnostics$test, ": ", x$diagnostics$conclusion, " (p ",
      ifelse(
        x$diagnostics$p_value < 0.001, "below 0.001",
        paste("=", round(x$diagnostics$p_value, 3))
      ),
      ")"
    ),
    sep = "\n"
  )
  invisible(x)
}
