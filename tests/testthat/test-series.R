quay <- source_calendar("quay")

test_that("a run of missing minutes is found, with what was expected", {
  gaps <- series_gaps(minute_bars(without = 19:24), quay)
  expect_identical(gaps$missing, 6L)
  expect_identical(format(c(gaps$first, gaps$last), "%H:%M"), c("07:49", "07:54"))
  expect_identical(gaps$reason, "unknown")
  summary <- attr(gaps, "summary")
  expect_identical(c(summary$expected, summary$present, summary$longest), c(390L, 384L, 6L))
})

test_that("others tell no trade from an outage", {
  bars <- rbind(minute_bars("KELD", without = c(10, 50:59)), minute_bars("TAMX", without = 50:54))
  gaps <- series_gaps(bars, quay)
  expect_identical(gaps$reason[gaps$symbol == "KELD"], c("no trade", "outage", "no trade"))
  expect_identical(gaps$missing[gaps$symbol == "KELD"], c(1L, 5L, 5L))
  expect_identical(gaps$reason[gaps$symbol == "TAMX"], "outage")
})

test_that("a minute in which nobody trades is no outage", {
  bars <- rbind(minute_bars("KELD", without = c(100, 300:303)), minute_bars("TAMX", without = 50:389))
  gaps <- series_gaps(bars, quay, to = "2026-03-12")
  expect_identical(gaps$missing[gaps$symbol == "TAMX"], 340L)
  expect_identical(unique(gaps$reason), "no trade")
  expect_identical(series_gaps(bars, quay, to = "2026-03-12", outage = 3)$reason[1:2], c("no trade", "outage"))
})

test_that("closed days and nights are no gaps, and a run goes on across a night", {
  days <- rbind(minute_bars("KELD", "2026-03-19"), minute_bars("KELD", "2026-03-23"))
  expect_identical(nrow(series_gaps(days, quay)), 0L)
  ends <- rbind(minute_bars("KELD", "2026-03-19", without = 380:389), minute_bars("KELD", "2026-03-23", without = 0:9))
  expect_identical(series_gaps(ends, quay)$missing, 20L)
})

test_that("the window may be wider than the data", {
  gaps <- series_gaps(minute_bars(), quay, from = "2026-03-12", to = "2026-03-13")
  expect_identical(gaps$missing, 390L)
  expect_error_kind(series_gaps(minute_bars(), quay, from = "2026-03-13", to = "2026-03-12"), "want", "before it begins")
  expect_error_kind(series_gaps(minute_bars()[1, ], quay), "want", "interval")
  expect_error_kind(series_gaps(minute_bars()[0, ], quay, interval = "1 minute"), "want", "window")
})

test_that("gaps agree with the slow way on random holes", {
  set.seed(2)
  for (i in 1:5) {
    without <- sort(sample(0:389, 100))
    gaps <- series_gaps(minute_bars(without = without), quay, from = "2026-03-12", to = "2026-03-12")
    runs <- rle(0:389 %in% without)
    expect_identical(gaps$missing, runs$lengths[runs$values])
  }
})
