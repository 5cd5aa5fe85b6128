# Noise models and tests for structure: a known truth is found.
series_of <- function(value) {
  data.frame(
    series = "rest",
    period = as.Date("2004-01-01") + seq_along(value) - 1,
    value = value
  )
}

garch_numbers <- function(n, omega, alpha, beta, draw = stats::rnorm) {
  z <- draw(n + 300)
  e <- h <- numeric(n + 300)
  h[1] <- omega / (1 - alpha - beta)
  e[1] <- sqrt(h[1]) * z[1]
  for (t in 2:(n + 300)) {
    h[t] <- omega + alpha * e[t - 1]^2 + beta * h[t - 1]
    e[t] <- sqrt(h[t]) * z[t]
  }
  e[-(1:300)]
}

test_that("an ARMA is estimated as by stats::arima", {
  within <- withr::with_seed(
    1,
    vapply(
      1:40,
      function(i) {
        x <- as.numeric(
          stats::arima.sim(list(ar = 0.7, ma = 0.4), 1500, sd = 3)
        )
        found <- model_noise(series_of(x), order = c(1, 1))$coefficients
        truth <- c(0.7, 0.4, 3)
        found$low < truth & truth < found$high
      },
      logical(3)
    )
  )
  expect_true(all(rowSums(within) >= 31), info = toString(rowSums(within)))
  x <- withr::with_seed(
    2, as.numeric(stats::arima.sim(list(ar = c(0.5, 0.2)), 900))
  )
  own <- model_noise(series_of(x), order = c(2, 0))
  reference <- stats::arima(
    x - mean(x), c(2, 0, 0), include.mean = FALSE, method = "ML"
  )
  expect_equal(own$ar, unname(stats::coef(reference)), tolerance = 1e-3)
  expect_equal(own$likelihood, reference$loglik, tolerance = 1e-5)
})

test_that("orders are chosen, none for white noise", {
  chosen <- withr::with_seed(
    3,
    vapply(
      1:12,
      function(i) {
        c(
          sum(
              model_noise(
                  series_of(as.numeric(stats::arima.sim(list(ar = 0.8), 2000)))
                )$order ==
                c(1, 0)
            ) ==
            2,
          sum(model_noise(series_of(rnorm(1000)))$order) == 0
        )
      },
      logical(2)
    )
  )
  expect_true(all(rowSums(chosen) >= 9), info = toString(rowSums(chosen)))
})

test_that("a GARCH is estimated, also with an ARMA", {
  within <- withr::with_seed(
    4,
    vapply(
      1:24,
      function(i) {
        x <- as.numeric(
          stats::filter(
            garch_numbers(3000, 0.2, 0.1, 0.8), 0.5, method = "recursive"
          )
        )
        found <- model_noise(
          series_of(10 * x), order = c(1, 0), variance = "garch"
        )$coefficients
        truth <- c(0.5, 20, 0.1, 0.8)
        found$low < truth & truth < found$high
      },
      logical(4)
    )
  )
  expect_true(all(rowSums(within) >= 18), info = toString(rowSums(within)))
})

test_that("the likelihood of a GARCH is the one that its definition gives", {
  x <- withr::with_seed(5, garch_numbers(400, 0.3, 0.15, 0.7))
  h <- numeric(400)
  h[1] <- mean(x^2)
  for (t in 2:400) h[t] <- 0.25 + 0.2 * x[t - 1]^2 + 0.6 * h[t - 1]
  expect_equal(
    model_garch_likelihood_cpp(x, numeric(), numeric(), 0.25, 0.2, 0.6, 0),
    -sum(stats::dnorm(x, 0, sqrt(h), log = TRUE))
  )
  df <- 5
  scale <- sqrt(h * (df - 2) / df)
  expect_equal(
    model_garch_likelihood_cpp(x, numeric(), numeric(), 0.25, 0.2, 0.6, df),
    -sum(stats::dt(x / scale, df, log = TRUE) - log(scale))
  )
  expect_equal(model_garch_cpp(x, 0.25, 0.2, 0.6), h)
})

test_that("far tails are told by their degrees of freedom", {
  withr::local_seed(6)
  z <- stats::rt(6000, 5) * sqrt(3 / 5)
  fit <- model_noise(series_of(4 * z), order = c(0, 0), residuals = "t")
  expect_gt(fit$df, 4)
  expect_lt(fit$df, 6.5)
  expect_match(fit$diagnostics$conclusion[3], "heavier tails")
  both <- model_noise(
    series_of(
      garch_numbers(
        5000, 0.1, 0.1, 0.8, function(n) stats::rt(n, 6) * sqrt(4 / 6)
      )
    ),
    c(0, 0), "garch", "t"
  )
  expect_gt(both$df, 4.5)
  expect_lt(both$df, 9)
})

test_that("a variance that follows the season is found again", {
  withr::local_seed(7)
  days <- as.Date("2004-01-01") + 0:5843
  part <- year_part(as.numeric(days))
  spread <- exp(0.5 * (1 + 0.8 * cos(2 * pi * part)))
  x <- as.numeric(
    stats::filter(spread * rnorm(5844), 0.6, method = "recursive")
  )
  fit <- model_noise(series_of(x), c(1, 0), "seasonal", harmonics = 1)
  table <- fit$coefficients[-1, ]
  expect_true(all(table$low < c(1, 0.8, 0) & table$high > c(1, 0.8, 0)))
  expect_gt(stats::cor(fit$spread, spread), 0.99)
})

test_that("what is left is said in words, and what fits is found to fit", {
  withr::local_seed(8)
  fit <- model_noise(
    series_of(as.numeric(stats::arima.sim(list(ar = 0.8), 3000))), c(1, 0)
  )
  expect_gt(fit$diagnostics$p_value[1], 0.001)
  bad <- model_noise(
    series_of(as.numeric(stats::arima.sim(list(ar = 0.8), 3000))), c(0, 0)
  )
  expect_match(bad$diagnostics$conclusion[1], "depend on earlier")
  expect_output(print(fit), "ARMA\\(1,0\\) with a constant variance")
})

test_that("a fit that is none says what was tried and what to do", {
  withr::local_seed(9)
  expect_error(
    model_noise(series_of(rnorm(2000)), c(0, 0), "garch"), "did not converge",
    class = "vetusta_error_model"
  )
  expect_error(
    model_noise(series_of(rep(3, 50))), "does not change",
    class = "vetusta_error_model"
  )
  expect_error(
    model_noise(series_of(rnorm(30)), c(3, 2)), "too short",
    class = "vetusta_error_model"
  )
  expect_error(
    model_noise(series_of(rnorm(300)), c(1, 0.5)), class = "vetusta_error_model"
  )
  expect_error(
    model_noise(series_of(rnorm(300)), variance = "large"),
    class = "vetusta_error_model"
  )
  expect_error(
    model_noise(series_of(rnorm(300))[-50, ]), "1 hole",
    class = "vetusta_error_model"
  )
})

test_that("periods in autocorrelated noise, and none in noise alone", {
  withr::local_seed(10)
  n <- 3653
  red <- as.numeric(stats::filter(rnorm(n), 0.9, method = "recursive"))
  days <- seq_len(n)
  found <- attr(
    model_spectrum(
      series_of(
        20 * cos(2 * pi * days / 365.2425) + 2 * cos(2 * pi * days / 7) + red
      )
    ),
    "peaks"
  )
  expect_setequal(found$words, c("a year", "a week"))
  expect_equal(found$period[found$words == "a week"], 7, tolerance = 0.002)
  expect_gt(found$part[found$words == "a year"], 0.8)
  none <- vapply(
    1:20,
    function(i) {
      nrow(attr(model_spectrum(series_of(rnorm(1000))), "peaks"))
    },
    0L
  )
  expect_lte(sum(none > 0), 4)
  # autocorrelated noise and a random walk have slopes and no cycles
  for (memory in c(0.9, 1)) {
    none <- vapply(
      1:30,
      function(i) {
        x <- as.numeric(
          stats::filter(rnorm(1500), memory, method = "recursive")
        )
        nrow(attr(model_spectrum(series_of(x)), "peaks"))
      },
      0L
    )
    expect_lte(sum(none > 0), 6)
  }
  # the sum of the periodogram is the variance: Parseval
  x <- rnorm(512)
  raw <- stats::spec.pgram(x, taper = 0, detrend = TRUE, plot = FALSE)
  expect_equal(
    2 * sum(raw$spec) / 512, mean(stats::lm(x ~ seq_len(512))$residuals^2),
    tolerance = 0.02
  )
  expect_output(print(model_spectrum(series_of(rnorm(400)))), "cycles of rest")
})

test_that("memory of values and of squares is told apart", {
  withr::local_seed(11)
  white <- model_dependence(series_of(rnorm(4000)))
  expect_lt(mean(abs(white$autocorrelation) > attr(white, "bound")), 0.2)
  clustered <- model_dependence(series_of(garch_numbers(6000, 0.05, 0.2, 0.75)))
  expect_lt(abs(clustered$autocorrelation[1]), 0.08)
  expect_gt(clustered$of_squares[1], 4 * attr(clustered, "bound"))
  own <- model_dependence(
    series_of(as.numeric(stats::arima.sim(list(ar = 0.8), 5000)))
  )
  expect_equal(own$autocorrelation[1:3], 0.8^(1:3), tolerance = 0.08)
  expect_equal(own$partial[2], 0, tolerance = 0.06)
  expect_output(print(own), "autocorrelation")
})

test_that("a walk is told from noise that comes back", {
  skip_if_not_installed("urca")
  withr::local_seed(12)
  walk <- model_tests(series_of(cumsum(rnorm(1500))))
  expect_match(walk$conclusion[1], "not rejected")
  expect_match(walk$conclusion[2], "rejected")
  back <- model_tests(
    series_of(as.numeric(stats::arima.sim(list(ar = 0.6), 1500)))
  )
  expect_match(back$conclusion[1], "unit root rejected")
  expect_match(back$conclusion[3], "depend on earlier")
  expect_output(print(back), "Dickey-Fuller")
})
