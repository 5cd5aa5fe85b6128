# Paths: closed forms, equal paths from equal seeds, and no look-ahead.
noise_of <- function(value, order = c(1, 0), ...) {
  model_noise(
    data.frame(
      series = "rest",
      period = as.Date("2020-01-01") + seq_along(value) - 1,
      value = value
    ),
    order, ...
  )
}

# A noise with given parameters, so that the truth is known.
known_noise <- function(ar, sigma, value) {
  noise <- withr::with_seed(
    1, noise_of(c(as.numeric(stats::arima.sim(list(ar = 0.5), 299)), 1))
  )
  noise$ar <- ar
  noise$variance$sigma <- sigma
  noise$data$value[300] <- value
  noise$season$estimate[] <- 0
  noise
}

test_that("an AR(1) has its closed-form mean and variance", {
  noise <- known_noise(0.8, 2, 10)
  paths <- model_paths(noise, 20000, "40 days", seed = 3)$paths
  h <- seq_len(40)
  variance <- 4 * (1 - 0.8^(2 * h)) / (1 - 0.64)
  # four standard errors of a mean and of a variance
  expect_true(
    all(abs(rowMeans(paths) - 10 * 0.8^h) < 4.5 * sqrt(variance / 20000))
  )
  expect_true(
    all(abs(apply(paths, 1, stats::var) / variance - 1) < 4.5 * sqrt(2 / 20000))
  )
  expect_equal(stats::cor(paths[20, ], paths[21, ]), 0.8, tolerance = 0.02)
  far <- model_paths(noise, 20000, "5 days", seed = 3, from = "long run")$paths
  expect_equal(stats::var(far[1, ]), 4 / 0.36, tolerance = 0.05)
  expect_equal(mean(far[1, ]), 0, tolerance = 0.15)
})

test_that("numbers are normal, and those of R's own inversion", {
  x <- model_normal_cpp(2e5, 7)
  expect_gt(stats::ks.test(x, "pnorm")$p.value, 1e-4)
  expect_lt(max(abs(x)), 6)
  expect_lt(abs(mean(x)), 4.5 / sqrt(2e5))
  p <- stats::pnorm(x)
  expect_equal(stats::qnorm(p), x, tolerance = 1e-9)
})

test_that("equal seeds give equal paths, for any number of them", {
  noise <- known_noise(0.6, 1, 2)
  whole <- model_paths(noise, 2500, "60 days", seed = 11)
  expect_identical(
    model_paths(noise, 2500, "60 days", seed = 11)$paths, whole$paths
  )
  expect_identical(
    model_paths(noise, 100, "60 days", seed = 11)$paths, whole$paths[, 1:100]
  )
  # the beginning of a path does not depend on its length
  expect_identical(
    model_paths(noise, 100, "10 days", seed = 11)$paths,
    whole$paths[1:10, 1:100]
  )
  expect_false(
    identical(
      model_paths(noise, 100, "60 days", seed = 12)$paths, whole$paths[, 1:100]
    )
  )
  kept <- model_paths(
    noise,
    2500,
    "60 days",
    seed = 11,
    each = function(paths, time) {
      colSums(paths)
    }
  )
  expect_equal(kept$kept, colSums(whole$paths))
  expect_null(kept$paths)
  expect_error(summary(kept), class = "vetusta_error_model")
  before <- .Random.seed <- withr::with_seed(1, .Random.seed)
  model_paths(noise, 10, "3 days", seed = 1)
  expect_identical(.Random.seed, before)
})

test_that("trend and season go on, or the trend stays; bounds hold", {
  days <- as.Date("2016-01-01") + 0:2921
  level <- withr::with_seed(
    2,
    data.frame(
      series = "lock",
      period = days,
      value = 50 + as.numeric(days - days[1]) / 365.2425 * 2 +
        10 * cos(2 * pi * year_part(as.numeric(days))) + rnorm(2922, sd = 0.1)
    )
  )
  season <- model_season(level, harmonics = 1)
  noise <- model_noise(season, c(0, 0))
  paths <- model_paths(noise, 400, "1 year", seed = 1)
  expected <- season_at(season, as.numeric(paths$time))$fitted
  expect_lt(max(abs(rowMeans(paths$paths) - expected)), 0.05)
  expect_identical(paths$time[1], as.Date("2024-01-01"))
  expect_identical(paths$observed$value, level$value)
  stays <- model_paths(noise, 400, "1 year", seed = 1, trend = "stays")
  expect_equal(
    rowMeans(paths$paths - stays$paths)[365], 2 * 365 / 365.2425,
    tolerance = 0.02
  )
  bounded <- model_paths(
    noise, 50, "1 year", seed = 1, lower = 60, upper = 70
  )$paths
  expect_true(all(bounded >= 60 & bounded <= 70))
})

test_that("the times that come are those of the series' own step", {
  months <- data.frame(
    series = "salt",
    period = seq(as.Date("2015-01-01"), by = "month", length.out = 60),
    value = withr::with_seed(1, rnorm(60))
  )
  noise <- model_noise(months, c(0, 0))
  time <- model_paths(noise, 2, "1 year", seed = 1)$time
  expect_identical(
    time, seq(as.Date("2020-01-01"), by = "month", length.out = 12)
  )
  quarters <- data.frame(
    series = "salt",
    period = seq(as.Date("2015-10-01"), by = "quarter", length.out = 40),
    value = withr::with_seed(1, rnorm(40))
  )
  expect_length(
    model_paths(model_noise(quarters, c(0, 0)), 2, "3 years", seed = 1)$time, 12
  )
  calendar <- source_calendar("quay")
  days <- calendar_times(calendar, "1 day", "2025-01-02", "2025-12-20")
  bars <- bars_frame(
    data.frame(
      symbol = "KELD",
      time = days,
      close = withr::with_seed(1, 40 + rnorm(length(days)))
    )
  )
  share <- model_noise(bars, c(0, 0))
  weekdays <- as.Date(model_paths(share, 2, "20 days", seed = 1)$time)
  own <- as.Date(
    model_paths(share, 2, "20 days", seed = 1, calendar = calendar)$time
  )
  expect_false(any(as.POSIXlt(weekdays)$wday %in% c(0, 6)))
  # Christmas and New Year are closed
  expect_identical(
    setdiff(format(weekdays), format(own)),
    c("2025-12-24", "2025-12-25", "2025-12-26", "2026-01-01")
  )
})

test_that("a GARCH returns to its long-run variance", {
  noise <- known_noise(numeric(), 1, 0)
  noise$order <- c(0L, 0L)
  noise$variance <- list(kind = "garch", omega = 0.1, alpha = 0.1, beta = 0.8)
  noise$innovations[300] <- 0
  noise$spread[300] <- 2
  paths <- model_paths(noise, 40000, "120 days", seed = 5)$paths
  first <- 0.1 + 0.8 * 4
  expected <- 1 + 0.9^(0:119) * (first - 1)
  found <- rowMeans(paths^2)
  expect_equal(
    found[c(1, 2, 10, 60)], expected[c(1, 2, 10, 60)], tolerance = 0.05
  )
})

test_that("Student's and resampled residuals", {
  withr::local_seed(4)
  x <- stats::rt(4000, 5) * sqrt(3 / 5) * 3
  noise <- noise_of(x, c(0, 0), residuals = "t")
  drawn <- as.numeric(model_paths(noise, 2000, "50 days", seed = 1)$paths)
  expect_equal(stats::sd(drawn), noise$variance$sigma, tolerance = 0.05)
  expect_gt(mean((drawn / stats::sd(drawn))^4), 4)
  seen <- noise_of(x, c(0, 0), residuals = "bootstrap")
  again <- model_paths(seen, 50, "50 days", seed = 1)$paths
  z <- seen$standardised
  z <- (z - mean(z)) / stats::sd(z)
  back <- (as.numeric(again) - seen$season$estimate[[1]]) / seen$variance$sigma
  expect_lt(max(abs(vapply(back, function(one) min(abs(z - one)), 0))), 1e-9)
})

test_that("blocks keep the order of past residuals", {
  noise <- known_noise(numeric(), 1, 0)
  noise$order <- c(0L, 0L)
  noise$standardised <- seq(-1, 1, length.out = 300)
  paths <- model_paths(
    noise, 200, "60 days", seed = 1, draw = "blocks", block = 20
  )$paths
  z <- (seq(-1, 1, length.out = 300))
  step <- diff(z / stats::sd(z))[1]
  rising <- abs(diff(paths) - step) < 1e-9
  # within a block each residual follows the previous one
  expect_true(
    all(
      rising[-c(20, 40), ] |
        paths[-1, ][-c(20, 40), ] < paths[-60, ][-c(20, 40), ]
    )
  )
  expect_gt(mean(rising), 0.9)
})

test_that("joint simulation keeps the correlation of residuals", {
  withr::local_seed(6)
  common <- rnorm(1500)
  a <- noise_of(common + rnorm(1500, sd = 0.5), c(0, 0))
  b <- noise_of(2 * common + rnorm(1500, sd = 0.5), c(0, 0))
  truth <- stats::cor(a$standardised, b$standardised)
  for (by in c("model", "blocks")) {
    both <- model_paths(
      list(a = a, b = b), 3000, "30 days",
      seed = 2, draw = by
    )
    expect_named(both, c("a", "b"))
    expect_equal(
      stats::cor(as.numeric(both$a$paths), as.numeric(both$b$paths)), truth,
      tolerance = 0.02
    )
  }
  short <- noise_of(rnorm(100), c(0, 0))
  expect_error(
    model_paths(list(a, short), 10), "same last day",
    class = "vetusta_error_model"
  )
})

test_that("quantiles and the mean are series, and wrong arguments are told", {
  noise <- known_noise(0.5, 1, 0)
  paths <- model_paths(noise, 500, "20 days", seed = 1)
  rows <- model_quantiles(paths, c(0.1, 0.9))
  expect_identical(unique(rows$series), c("rest mean", "rest 10%", "rest 90%"))
  expect_equal(
    rows$value[rows$series == "rest 10%"],
    unname(apply(paths$paths, 1, stats::quantile, 0.1))
  )
  expect_s3_class(series_frame(rows), "vetusta_observations")
  expect_output(print(paths), "500 paths of 20 days, seed 1 of rest")
  for (wrong in list(
    list(n = 0), list(seed = 1.5), list(from = "then"), list(draw = "luck"),
    list(lower = 3, upper = 2), list(horizon = "1 hour"), list(each = 3),
    list(trend = "up")
  )) {
    expect_error(
      do.call(model_paths, c(list(noise), wrong)), class = "vetusta_error"
    )
  }
  expect_error(model_paths(3), class = "vetusta_error_model")
  expect_error(summary(paths, 2), class = "vetusta_error_model")
})

test_that("scores follow their definitions; plain models compare", {
  withr::local_seed(8)
  for (i in 1:5) {
    sample <- rnorm(40)
    came <- rnorm(1)
    direct <- mean(abs(sample - came)) -
        mean(abs(outer(sample, sample, "-"))) / 2
    scores <- sample_scores_cpp(list(sample), came, c(0, 0.05, 0.5, 0.9, 1))
    expect_equal(scores$crps, direct)
    expect_equal(
      as.numeric(scores$quantiles),
      stats::quantile(sample, c(0, 0.05, 0.5, 0.9, 1), names = FALSE)
    )
    expect_equal(scores$mean, mean(sample))
  }
  expect_equal(sample_scores_cpp(list(4), 7, 0.5)$crps, 3)
  days <- as.Date("2012-01-01") + 0:3652
  noise <- as.numeric(
    stats::filter(rnorm(3653, sd = 3), 0.8, method = "recursive")
  )
  level <- data.frame(
    series = "lock",
    period = days,
    value = 100 + 30 * cos(2 * pi * year_part(as.numeric(days))) + noise
  )
  back <- model_backtest(
    level,
    c("2018-01-01", "2019-01-01", "2020-01-01"),
    "1 year",
    noise = list(order = c(1, 0)),
    n = 200
  )
  all <- as.data.frame(back$summary)
  expect_identical(
    all$method, c("model", "same day of other years", "last value")
  )
  expect_lt(all$crps[1], all$crps[2])
  expect_lt(all$crps[2], all$crps[3])
  expect_gt(all$within_90[1], 0.84)
  expect_lt(all$within_90[1], 0.96)
  expect_identical(all$values, rep(3L * 365L, 3))
  # another future, the same past: the forecast stays
  changed <- level
  changed$value[changed$period > as.Date("2019-06-30")] <- 0
  other <- model_backtest(
    changed,
    "2018-01-01",
    "1 year",
    noise = list(order = c(1, 0)),
    n = 200
  )
  expect_equal(
    as.data.frame(other$scores)[1:3, -1], as.data.frame(back$scores)[1:3, -1]
  )
  expect_output(print(back), "the model is better than the plain benchmarks")
  expect_error(
    model_backtest(level, "2022-01-01"), class = "vetusta_error_model"
  )
  expect_error(
    model_backtest(level, noise = list(3)), class = "vetusta_error_model"
  )
})
