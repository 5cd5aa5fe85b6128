test_that("changes and windows of time equal a reference", {
  for (seed in 1:3) {
    x <- random_points(seed = seed, doubled = 0)
    x <- x[order(x$series, x$time), ]
    for (change in c("mean", "sum", "sd", "min", "max")) {
      got <- series_change(x, change, window = "10 days", minimum_count = 2)
      slow <- vapply(
        seq_len(nrow(x)),
        function(i) {
          inside <- x$value[
            x$series == x$series[i] &
              x$time <= x$time[i] &
              x$time > x$time[i] - 10 * 86400
          ]
          inside <- inside[!is.na(inside)]
          if (length(inside) < 2) NA_real_ else get(change)(inside)
        },
        1
      )
      expect_equal(got$value, slow, tolerance = 1e-9, label = change)
    }
    got <- series_change(x, "log")
    slow <- vapply(
      seq_len(nrow(x)),
      function(i) {
        if (i == 1 || x$series[i] != x$series[i - 1]) {
          NA_real_
        } else {
          log(x$value[i] / x$value[i - 1])
        }
      },
      1
    )
    expect_equal(got$value, slow)
  }
})

test_that("over a year ago, indices, running sums and drawdowns are as said", {
  months <- data.frame(
    series = "p",
    period = time_spelling(
      seq(as.Date("2024-01-01"), by = "month", length.out = 30), "M"
    ),
    value = 100 * 1.01^(0:29)
  )
  year <- series_change(months, "simple", over = "1 year")
  expect_identical(sum(is.na(year$value)), 12L)
  expect_equal(year$value[13], 1.01^12 - 1)
  index <- series_change(months, "index", base = "2025-01-15")
  expect_equal(index$value[13], 100)
  x <- data.frame(
    series = "a",
    time = as.POSIXct("2026-03-01", tz = "UTC") + 86400 * 0:4,
    value = c(10, 12, NA, 9, 13)
  )
  expect_identical(series_change(x, "cumulative")$value, c(10, 22, NA, 31, 44))
  expect_equal(series_change(x, "drawdown")$value, c(0, 0, NA, -0.25, 0))
  expect_identical(series_change(x, "difference")$value, c(NA, 2, NA, NA, 4))
  expect_identical(nrow(series_change(x[0, ], "mean", window = "2 days")), 0L)
  x$value[2] <- Inf
  expect_identical(
    is.na(series_change(x, "mean", window = "2 days")$value),
    c(FALSE, TRUE, TRUE, FALSE, FALSE)
  )
  expect_error_kind(series_change(x, "mean"), "argument", "length")
  expect_error_kind(series_change(x, "men"), "argument", "mean")
})

test_that("long windows do not drift", {
  x <- data.frame(
    series = "a",
    time = as.POSIXct("2000-01-01", tz = "UTC") + 60 * seq_len(3e5),
    value = 1e9 + withr::with_seed(3, stats::rnorm(3e5))
  )
  got <- series_change(x, "sd", window = "1 day")
  expect_equal(
    got$value[3e5], stats::sd(x$value[(3e5 - 1439):3e5]), tolerance = 1e-6
  )
})

test_that("conversion by the known rate; pairs of correlations", {
  x <- data.frame(
    series = "a",
    time = as.POSIXct("2026-03-01", tz = "UTC") + 86400 * 0:3,
    value = c(10, 10, 10, 10)
  )
  rates <- data.frame(
    series = "TSK",
    time = as.POSIXct("2026-03-01", tz = "UTC") + 86400 * c(1, 3) + 3600,
    value = c(3, 4)
  )
  got <- series_convert(x, rates)
  expect_identical(got$value, c(NA, NA, 30, 30))
  expect_identical(
    is.na(series_convert(x, rates, max_age = "1 day")$value),
    c(TRUE, TRUE, FALSE, TRUE)
  )
  y <- x
  y$series <- "b"
  x$value <- c(1, 2, 4, 3)
  y$value <- 2 * x$value
  both <- series_correlation(x, y[-1, ])
  expect_identical(both$pairs, 2L)
  expect_true(is.na(both$correlation))
  expect_equal(series_correlation(x, y)$correlation, 1)
  # a series with a hole: changes are between times that both have
  expect_identical(series_correlation(x, y[-2, ])$pairs, 2L)
})

test_that("what is computed counts no earlier than what it is computed from", {
  days <- data.frame(
    series = "a",
    period = as.Date("2026-03-01") + 0:4,
    value = c(1, 2, 3, 4, 5)
  )
  means <- series_change(days, "mean", window = "2 days")
  # the mean of 1 and 2 March is known at the end of 2 March
  expect_identical(
    series_align(means, grid = as.Date(c("2026-03-02", "2026-03-03")))$a,
    c(1, 1.5)
  )
  bars <- minute_bars()
  change <- series_change(bars, "log")
  expect_identical(as.numeric(change$known), as.numeric(bars$time) + 60)
})

test_that("windows stay exact after a print that is out of all measure", {
  withr::with_seed(3, value <- 1 + stats::runif(6000) / 1000)
  value[1000] <- 1e8
  x <- data.frame(
    series = "mill",
    time = as.POSIXct("2026-01-01", tz = "UTC") + 60 * seq_along(value),
    value = value
  )
  for (change in c("sd", "mean", "sum")) {
    got <- series_change(x, change, window = "10 minutes")$value
    work <- switch(change, sd = stats::sd, mean = mean, sum = sum)
    at <- c(500, 1000:1011, 2000, 5000)
    slow <- vapply(at, function(i) work(value[(i - 9):i]), 1)
    expect_equal(got[at], slow, tolerance = 1e-12, label = change)
  }
})

test_that("windows of months, and changes over a year at month ends", {
  days <- data.frame(
    series = "mill",
    time = as.POSIXct("2026-01-01", tz = "UTC") + 86400 * 0:120,
    value = 1
  )
  got <- series_change(days, "sum", window = "1 month")$value
  expect_identical(
    got[
      match(as.POSIXct(c("2026-03-01", "2026-04-01"), tz = "UTC"), days$time)
    ],
    c(28, 31)
  )
  ends <- as.POSIXct(
    c("2024-01-31", "2024-02-29", "2025-01-31", "2025-02-28"), tz = "UTC"
  )
  x <- data.frame(series = "mill", time = ends, value = c(1, 2, 3, 8))
  expect_equal(series_change(x, over = "1 year")$value, c(NA, NA, 2, 3))
  week <- data.frame(
    series = "mill",
    time = as.POSIXct(c("2025-03-14", "2026-03-15"), tz = "UTC"),
    value = c(100, 110)
  )
  expect_true(is.na(series_change(week, over = "1 year")$value[2]))
  expect_equal(
    series_change(week, over = "1 year", or_before = "3 days")$value[2], 0.1
  )
})

test_that("a share of a top at or below zero is none", {
  x <- data.frame(
    series = "mill",
    time = as.POSIXct("2026-01-01", tz = "UTC") + 86400 * 0:4,
    value = c(-5, -2, 0, 10, 5)
  )
  expect_equal(series_change(x, "drawdown")$value, c(NA, NA, NA, 0, -0.5))
})

test_that("several rules that name no series are refused", {
  a <- data.frame(
    series = "a",
    time = as.POSIXct("2026-01-01", tz = "UTC") + 86400 * 0:4,
    value = 1:5
  )
  expect_error_kind(
    series_align(a, transform(a, series = "b"), rule = c("last", "sum")),
    "argument", "2 times"
  )
  expect_error_kind(series_align(a, grdi = "union"), "argument", "grdi")
})

test_that("one series alone, and beside others, changes alike", {
  set.seed(5)
  days <- as.POSIXct("2026-03-02", tz = "UTC") + 86400 * sort(sample(0:80, 40))
  table <- function(name) {
    data.frame(series = name, time = days, value = round(rnorm(40), 3))
  }
  parts <- lapply(c("a", "b", "c"), table)
  # a missing value, an infinite value, and releases
  parts[[2]]$value[7] <- NA
  parts[[3]]$value[9] <- Inf
  for (change in c(
    "mean", "sum", "sd", "min", "max", "simple", "log", "index", "cumulative",
    "drawdown"
  )) {
    window <- if (change %in% c("mean", "sum", "sd", "min", "max")) "7 days"
    go <- function(x) {
      suppressWarnings(series_change(x, change, window = window))
    }
    expect_identical(
      go(do.call(rbind, parts)), do.call(rbind, lapply(parts, go)),
      info = change
    )
  }
  issued <- cbind(parts[[1]], known = parts[[1]]$time + 86400)
  late <- transform(
    issued[5:9, ], known = known + 86400 * 20, value = value + 1
  )
  both <- rbind(issued, late)
  both <- both[order(both$time, both$known), ]
  other <- transform(both, series = "b")
  go <- function(x) series_change(x, "mean", window = "7 days")
  expect_identical(go(rbind(both, other)), rbind(go(both), go(other)))
  expect_identical(nrow(go(both[0, ])), 0L)
})

test_that("windows of one row, of all rows, and at edges", {
  set.seed(9)
  time <- as.POSIXct("2026-03-02", tz = "UTC") +
      cumsum(sample(c(1, 5, 60), 60, TRUE))
  value <- round(rnorm(60), 2)
  x <- data.frame(series = "a", time = time, value = value)
  for (seconds in c(1L, 5L, 60L, 61L, 300L, 90000L)) {
    for (minimum in c(1, 4)) {
      own <- vapply(
        seq_along(time),
        function(i) {
          inside <- value[time > time[i] - seconds & time <= time[i]]
          if (length(inside) < minimum) NA_real_ else mean(inside)
        },
        0
      )
      got <- series_change(
        x,
        "mean",
        window = paste(seconds, "seconds"),
        minimum_count = minimum
      )
      expect_equal(got$value, own, tolerance = 1e-12)
    }
  }
})
