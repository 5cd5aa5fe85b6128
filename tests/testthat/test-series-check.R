test_that("spikes, stale runs, repeated times, and honest moves", {
  x <- data.frame(
    series = "a",
    time = as.POSIXct("2026-01-01", tz = "UTC") + 86400 * 0:99,
    value = 200 + cumsum(withr::with_seed(2, stats::rnorm(100)))
  )
  expect_identical(nrow(series_check(x)), 0L)
  step <- x
  step$value[50:100] <- step$value[50:100] + 60
  expect_identical(nrow(series_check(step)), 0L)
  x$value[30] <- x$value[30] * 10
  x$value[60:85] <- 205
  x <- x[c(1:9, 11, 10, 12:100, 100), ]
  found <- series_check(x)
  expect_setequal(
    found$finding,
    c("jumped and came back", "stale", "doubled time", "out of order")
  )
  expect_identical(
    found$first[found$finding == "jumped and came back"], x$time[30]
  )
  expect_identical(found$rows[found$finding == "stale"], 26L)
})

test_that("bars are judged by their prices too", {
  bars <- minute_bars()
  bars$high[5] <- bars$low[5] - 1
  bars$close[9] <- -1
  bars$low[9] <- -2
  found <- series_check(bars)
  expect_true(all(c("high below low", "negative price") %in% found$finding))
  calm <- minute_bars()
  calm$close <- calm$open <- calm$high <- calm$low <- 40
  expect_identical(series_check(calm)$finding, "stale")
  calm$volume <- 0
  expect_identical(nrow(series_check(calm)), 0L)
})

test_that("reasons of gaps: unlisted, delayed, not yet published", {
  x <- data.frame(
    series = rep(c("a", "b"), c(10, 4)),
    period = as.Date("2026-03-01") + c(0:9, 3:6),
    value = 1
  )
  listed <- data.frame(
    symbol = "b", listed = as.Date("2026-03-03"),
    delisted = as.Date("2026-03-08")
  )
  gaps <- series_gaps(x, listed = listed)
  expect_identical(
    gaps$reason,
    c(
      "before listing", "other series have a value",
      "other series have a value", "after the last day"
    )
  )
  expect_identical(gaps$missing, c(2L, 1L, 1L, 2L))
  months <- data.frame(
    series = "m",
    period = c("2026-01", "2026-02", "2026-04"),
    value = 1
  )
  late <- series_gaps(
    months,
    from = "2026-01-01",
    to = "2026-06-30",
    published = "45 days",
    now = as.POSIXct("2026-07-01", tz = "UTC")
  )
  expect_identical(late$reason, c("unknown", "not yet published"))
  expect_identical(late$missing, c(1L, 2L))
  expect_identical(attr(late, "summary")$expected, 6L)
  bars <- minute_bars(without = 380:389)
  held <- series_gaps(
    bars, source_calendar("quay"), from = "2026-03-12", to = "2026-03-12",
    delayed_from = "2026-03-12T13:50:00Z"
  )
  expect_identical(held$reason, "delayed")
  expect_error_kind(
    series_gaps(months, published = "45 days"), "argument", "present"
  )
})
