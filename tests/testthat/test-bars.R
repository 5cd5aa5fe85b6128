quay <- source_calendar("quay")

# The slow, obvious way: one bucket at a time.
regroup_slowly <- function(bars, label) {
  do.call(rbind, lapply(split(seq_len(nrow(bars)), list(label, bars$symbol), drop = TRUE), function(rows) {
    b <- bars[rows[order(bars$time[rows])], ]
    data.frame(symbol = b$symbol[1], time = b$time[1], open = b$open[1], high = max(b$high), low = min(b$low), close = b$close[nrow(b)], volume = sum(b$volume), bars = nrow(b))
  }))
}

test_that("days are the first, the largest, the smallest, the last and the sum", {
  set.seed(1)
  bars <- rbind(minute_bars("KELD", "2026-03-12", without = sample(1:388, 40)), minute_bars("TAMX", "2026-03-13"), minute_bars("KELD", "2026-03-13"))
  bars$close <- bars$close + rnorm(nrow(bars), sd = 0.01)
  shuffled <- bars[sample(nrow(bars)), ]
  days <- bars_regroup(shuffled, "1 day", quay, base = "1 minute")
  slow <- regroup_slowly(bars, as.Date(bars$time))
  slow <- slow[order(slow$symbol, slow$time), ]
  for (name in c("symbol", "open", "high", "low", "close", "volume", "bars")) expect_equal(days[[name]], slow[[name]])
  expect_identical(days$expected, rep(390L, 3))
  expect_equal(days$average[1], weighted.mean(bars$close[bars$symbol == "KELD" & as.Date(bars$time) == "2026-03-12"], bars$volume[bars$symbol == "KELD" & as.Date(bars$time) == "2026-03-12"]))
})

test_that("hours are counted from the session's opening, and the last one is short", {
  hours <- bars_regroup(minute_bars(), "1 hour", quay)
  expect_identical(format(hours$time, "%H:%M"), c("07:30", "08:30", "09:30", "10:30", "11:30", "12:30", "13:30"))
  expect_identical(hours$bars, c(rep(60L, 6), 30L))
  expect_identical(hours$expected, hours$bars)
  expect_identical(unique(hours$status), "observed")
})

test_that("bars outside the sessions are counted, not mixed in", {
  bars <- minute_bars()
  early <- bars[1:10, ]
  early$time <- early$time - 3600
  days <- bars_regroup(rbind(bars, early), "1 day", quay)
  expect_identical(days$bars, 390L)
  expect_identical(attr(days, "outside"), 10)
  expect_identical(bars_regroup(rbind(bars, early), "1 day", quay, session = NULL)$bars, 400L)
})

test_that("a bucket that has not ended is provisional", {
  expect_identical(bars_regroup(minute_bars(without = 200:389), "1 day", quay)$status, "provisional")
  weeks <- bars_regroup(minute_bars(), "1 week", quay, base = "1 minute")
  expect_identical(weeks$status, "provisional")
  expect_identical(weeks$expected, 5L * 390L)
})

test_that("without a calendar the days are those of the zone", {
  days <- bars_regroup(minute_bars(), "1 day", zone = "Asia/Kolkata")
  expect_identical(format(days$time, "%H:%M", tz = "Asia/Kolkata"), "00:00")
})

test_that("no rows, one row and an impossible interval are defined", {
  expect_identical(nrow(bars_regroup(minute_bars()[0, ], "1 day", quay)), 0L)
  one <- bars_regroup(minute_bars()[5, ], "1 day", quay)
  expect_identical(c(one$bars, one$expected), c(1L, NA))
  expect_error_kind(bars_regroup(minute_bars(), "30 seconds", quay), "want", "cannot be regrouped")
  expect_error_kind(bars_regroup(bars_regroup(minute_bars(), "2 minutes", quay), "5 minutes", quay), "want", "whole number of times")
})

test_that("each fault of a bar is named", {
  base <- data.frame(symbol = "KELD", time = as.POSIXct("2026-03-12 07:30", tz = "UTC"), open = 2, high = 3, low = 1, close = 2, volume = 5)
  fault_of <- function(...) bars_faults(bars_frame(utils::modifyList(base, list(...))))$fault
  expect_identical(fault_of(), character())
  expect_identical(fault_of(high = 0.5), "high below low")
  expect_identical(fault_of(close = 9), "open or close outside high and low")
  expect_identical(fault_of(volume = -1), "negative volume")
  expect_identical(fault_of(high = Inf), "not finite")
  expect_identical(fault_of(close = NA_real_), "no close")
  expect_identical(fault_of(open = NA_real_), character())
})

test_that("the shape's columns are checked where bars enter", {
  expect_error_kind(bars_frame(data.frame(symbol = "A", close = 1)), "shape", "`time`")
  expect_error_kind(bars_frame(data.frame(symbol = "A", time = "2026-03-12", close = 1)), "shape", "instants")
  expect_error_kind(bars_frame(data.frame(symbol = "A", time = Sys.time(), close = "1")), "shape", "numbers")
  expect_error_kind(bars_frame(data.frame(symbol = "A", time = Sys.time(), close = 1, status = "guessed")), "shape", "status")
  kept <- bars_frame(data.frame(symbol = "A", time = Sys.time(), close = 1, deals = 7))
  expect_identical(names(kept), c("symbol", "time", "open", "high", "low", "close", "volume", "session", "side", "status", "deals"))
})
