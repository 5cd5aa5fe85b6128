# Trend and season: a known truth is found, over many draws.
remembering <- function(n, memory, size) {
  as.numeric(
    stats::filter(size * stats::rnorm(n + 200), memory, method = "recursive")
  )[-(1:200)]
}

daily <- function(value, from = "2004-01-01", name = "lock") {
  data.frame(
    series = name,
    period = as.Date(from) + seq_along(value) - 1,
    value = value
  )
}

year_wave <- function(days) cos(2 * pi * (as.POSIXlt(days)$yday - 100) / 365.25)

test_that("trend and season are found within their intervals", {
  n <- 8 * 365
  days <- as.Date("2004-01-01") + seq_len(n) - 1
  years <- as.numeric(days - days[1]) / 365.2425
  for (memory in c(0, 0.6, 0.93)) {
    within <- withr::with_seed(
      5,
      vapply(
        1:80,
        function(i) {
          level <- daily(
            200 - 1.5 * years +
              30 * cos(2 * pi * year_part(as.numeric(days))) +
              remembering(n, memory, 5)
          )
          found <- model_season(level, harmonics = 1)$coefficients
          truth <- c(200, -1.5, 30, 0)
          found$low < truth & truth < found$high
        },
        logical(4)
      )
    )
    # 95% intervals: of 80 draws, fewer than 64 would occur once in ten thousand
    # times
    expect_true(
      all(rowSums(within) >= 64),
      info = paste(memory, toString(rowSums(within)))
    )
    expect_lt(mean(within), 0.999)
  }
})

test_that("coefficients are those of least squares, and the parts add up", {
  withr::local_seed(2)
  n <- 2000
  level <- daily(
    200 + 30 * year_wave(as.Date("2004-01-01") + 0:(n - 1)) +
      remembering(n, 0.5, 4)
  )
  model <- model_season(level, harmonics = 2)
  days <- as.numeric(level$period)
  part <- year_part(days)
  years <- (days - days[1]) / 365.2425
  reference <- stats::lm(
    level$value ~
      years + cos(2 * pi * part) + sin(2 * pi * part) + cos(4 * pi * part) +
        sin(4 * pi * part)
  )
  expect_equal(
    model$coefficients$estimate, unname(stats::coef(reference)),
    tolerance = 1e-8
  )
  rows <- as.data.frame(model)
  expect_equal(rows$trend + rows$season + rows$rest, rows$observed)
  expect_equal(rows$fitted, unname(stats::fitted(reference)), tolerance = 1e-8)
  expect_equal(model$explained, summary(reference)$r.squared, tolerance = 1e-6)
  # white noise has nearly the errors of ordinary least squares
  white <- model_season(daily(rnorm(4000)), harmonics = 1)
  own <- stats::lm(white$data$value ~ I(seq_len(4000)))
  expect_equal(
    white$coefficients$error[1], summary(own)$coefficients[1, 2],
    tolerance = 0.35
  )
})

test_that("the number of harmonics is chosen, or none", {
  withr::local_seed(3)
  n <- 10 * 365
  days <- as.Date("2004-01-01") + seq_len(n) - 1
  part <- year_part(as.numeric(days))
  chosen <- function(value) model_season(daily(value))$spec$cycles
  expect_identical(
    chosen(
      20 * cos(2 * pi * part) + 8 * sin(4 * pi * part) + remembering(n, 0.9, 3)
    )$harmonics,
    2L
  )
  expect_identical(nrow(chosen(remembering(n, 0.9, 3))), 0L)
  week <- chosen(
    5 * cos(2 * pi * as.numeric(days) / 7) + remembering(n, 0.5, 2)
  )
  expect_identical(week$period, 7)
})

test_that("a day of the year is equal in all years; 29 February", {
  level <- daily(year_wave(as.Date("2000-01-01") + 0:3652) * 10, "2000-01-01")
  model <- model_season(level, harmonics = 2, trend = "none")
  at <- function(day) season_at(model, as.numeric(as.Date(day)))$season
  expect_identical(at("2001-07-01"), at("2004-07-01"))
  expect_identical(at("2001-12-31"), at("2004-12-31"))
  between <- at("2004-02-29")
  expect_true((between - at("2004-02-28")) * (between - at("2004-03-01")) < 0)
})

test_that("breaks of the trend, effects of months and weekdays", {
  withr::local_seed(4)
  n <- 4000
  days <- as.Date("2004-01-01") + seq_len(n) - 1
  years <- as.numeric(days - days[1]) / 365.2425
  at <- as.Date("2010-01-01")
  bend <- pmax(0, as.numeric(days - at) / 365.2425)
  model <- model_season(
    daily(50 + years - 3 * bend + rnorm(n)), trend = "2010-01-01",
    periods = numeric()
  )
  expect_identical(
    model$coefficients$term, c("level", "trend", "trend from 2010-01-01")
  )
  expect_equal(model$coefficients$estimate, c(50, 1, -3), tolerance = 0.03)
  expect_error(
    model_season(daily(rnorm(100)), trend = "2030-01-01"), "cannot break",
    class = "vetusta_error_model"
  )
  month <- as.POSIXlt(days)$mon + 1
  effects <- model_season(daily(10 + month), trend = "none", effects = "month")
  table <- effects$coefficients
  expect_identical(table$term, c("level", month.name))
  expect_equal(table$estimate[1], 16.5)
  expect_equal(table$estimate[-1], 1:12 - 6.5)
  weekday <- model_season(
    daily((as.POSIXlt(days)$wday == 0) * 7), trend = "none", effects = "weekday"
  )
  expect_equal(
    weekday$coefficients$estimate[weekday$coefficients$term == "Sunday"], 6
  )
})

test_that("filled values count as they are told to", {
  level <- daily(c(rep(10, 100), 1000))
  level$status <- c(rep("observed", 100), "filled")
  none <- model_season(level, trend = "none", periods = numeric(), filled = 0)
  expect_equal(none$estimate[["level"]], 10)
  all <- model_season(level, trend = "none", periods = numeric())
  expect_equal(all$estimate[["level"]], 10 + 990 / 101)
  half <- model_season(level, trend = "none", periods = numeric(), filled = 0.5)
  expect_equal(half$estimate[["level"]], (1000 + 500) / 100.5)
})

test_that("no fit uses later values than the given day", {
  withr::local_seed(6)
  level <- daily(rnorm(800, 100))
  then <- model_season(level, as_of = "2005-12-31", periods = numeric())
  # a day's mean is known at the end of the day
  expect_identical(max(then$data$time), as.Date("2005-12-30"))
  # another future does not move the past
  level$value[level$period > as.Date("2005-12-30")] <- 1e6
  again <- model_season(level, as_of = "2005-12-31", periods = numeric())
  expect_identical(again$coefficients, then$coefficients)
  # a revised value is read as published at the time
  twice <- rbind(
    cbind(level[1:400, ], known = as.POSIXct("2005-02-05", tz = "UTC")),
    cbind(level[400, ], known = as.POSIXct("2005-06-01", tz = "UTC"))
  )
  twice$value[401] <- 5000
  early <- model_season(
    twice, as_of = "2005-03-01", periods = numeric(), trend = "none"
  )
  expect_equal(early$estimate[["level"]], mean(level$value[1:400]))
  late <- model_season(
    twice, as_of = "2005-07-01", periods = numeric(), trend = "none"
  )
  expect_gt(late$estimate[["level"]], early$estimate[["level"]] + 5)
})

test_that("what cannot be fitted is refused; short and flat series", {
  expect_error(
    model_season(daily(rnorm(400))[-c(5, 9, 10), ]), "3 holes",
    class = "vetusta_error_model"
  )
  expect_error(
    model_season(daily(rnorm(300)), periods = "1 year"),
    "longer than the series", class = "vetusta_error_model"
  )
  expect_error(
    model_season(daily(rnorm(500)), periods = "1 year"),
    "shorter than two periods", class = "vetusta_error_model"
  )
  expect_error(
    model_season(daily(rnorm(9))), "too few", class = "vetusta_error_model"
  )
  expect_error(
    model_season(rbind(daily(rnorm(30)), daily(rnorm(30), name = "b"))),
    "lock, b", class = "vetusta_error_model"
  )
  expect_error(
    model_season(daily(rnorm(900)), periods = "1 year", harmonics = 200),
    class = "vetusta_error_model"
  )
  expect_error(
    model_season(daily(rnorm(900)), effects = "month", periods = "1 year"),
    class = "vetusta_error_model"
  )
  expect_error(
    model_season(daily(rnorm(900)), level = 2), class = "vetusta_error_model"
  )
  still <- model_season(daily(rep(7, 800)))
  expect_equal(still$estimate[["level"]], 7)
  expect_identical(nrow(model_season(daily(rnorm(30)))$spec$cycles), 0L)
  long <- model_season(
    daily(year_wave(as.Date("1925-01-01") + 0:36524) * 9, "1925-01-01")
  )
  expect_gt(long$explained, 0.99)
  expect_output(print(still), "trend and season of lock")
})

test_that("seasons of months, weeks and trading days", {
  months <- data.frame(
    series = "salt",
    period = seq(as.Date("2010-01-01"), by = "month", length.out = 120),
    value = rep(sin(2 * pi * 1:12 / 12), 10) * 4 + 20
  )
  model <- model_season(months)
  expect_identical(model$data$step, "month")
  expect_gt(model$explained, 0.95)
  expect_error(
    model_season(months[-7, ]), "1 hole", class = "vetusta_error_model"
  )
  trading <- as.Date("2020-01-01") + 0:1500
  trading <- trading[!as.POSIXlt(trading)$wday %in% c(0, 6)]
  bars <- bars_frame(
    data.frame(
      symbol = "KELD",
      time = as.POSIXct(trading) + 34200,
      close = 40 + seq_along(trading) / 100
    )
  )
  share <- model_season(bars)
  expect_identical(share$data$step, "trading day")
  expect_equal(
    share$estimate[["trend"]], 365.2425 / 7 * 5 / 100, tolerance = 0.01
  )
})

test_that("the robust decomposition adds up, and outliers hardly move it", {
  withr::local_seed(9)
  days <- as.Date("2004-01-01") + 0:2921
  value <- 100 + 20 * year_wave(days) + rnorm(2922)
  parts <- model_decompose(daily(value))
  expect_equal(parts$season + parts$trend + parts$rest, value)
  expect_gt(stats::cor(parts$season, year_wave(days)), 0.99)
  months <- seq(as.Date("2000-01-01"), by = "month", length.out = 300)
  wave <- rep(sin(2 * pi * 1:12 / 12) * 20, 25)
  spoilt <- 100 + wave + rnorm(300)
  spoilt[sample(300, 12)] <- 400
  off <- function(robust) {
    mean(
      abs(
        model_decompose(
            data.frame(series = "salt", period = months, value = spoilt),
            robust = robust
          )$season -
          wave
      )
    )
  }
  expect_lt(off(TRUE), 0.3 * off(FALSE))
  expect_error(
    model_decompose(daily(rnorm(300))), class = "vetusta_error_model"
  )
})

test_that("the long-run covariance of Newey and West", {
  x <- withr::with_seed(
    1,
    matrix(
      as.numeric(stats::filter(rnorm(900), 0.5, method = "recursive")), 300
    )
  )
  own <- newey_west(x)
  # written from the definition, with the chosen bandwidth
  plain <- function(band) {
    total <- crossprod(x) / 300
    for (lag in seq_len(band)) {
      part <- crossprod(
            x[seq_len(300 - lag) + lag, ], x[seq_len(300 - lag), ]
          ) /
          300
      total <- total + (1 - lag / (band + 1)) * (part + t(part))
    }
    total
  }
  off <- vapply(0:60, function(band) max(abs(plain(band) - own)), 0)
  expect_lt(min(off), 1e-10)
  expect_gt(which.min(off), 2)
})
