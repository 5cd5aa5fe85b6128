# The three times of rows, the facts of tables, and the cases in which one was
# lost between two steps.
day <- function(text) as.POSIXct(text, tz = "UTC")

test_that("bars of any length are known from their end", {
  at <- day("2026-03-02")
  for (n in c(2, 3, 5, 10, 30)) {
    bars <- bars_frame(
      data.frame(symbol = "K", time = at + 86400 * n * (0:5), close = 1:6)
    )
    expect_identical(
      series_align(bars)$time[1], at + 86400 * n, label = paste(n, "days")
    )
  }
  # months of 28 to 31 days, and their quarters, in another zone
  zone <- "America/New_York"
  first <- seq(as.Date("2026-01-01"), by = "month", length.out = 12)
  months <- series_about(
    bars_frame(
      data.frame(
        symbol = "K",
        close = 1:12,
        time = vetusta:::time_local(first, 0, zone)
      )
    ),
    interval = "1 month", zone = zone
  )
  ends <- vetusta:::time_local(
    seq(as.Date("2026-02-01"), by = "month", length.out = 12), 0, zone
  )
  expect_identical(series_align(months)$time, ends)
  quarters <- bars_resample(months, "3 months")
  expect_identical(series_align(quarters)$time, ends[c(3, 6, 9, 12)])
  # a day of 25 hours
  long <- series_about(
    bars_frame(
      data.frame(
        symbol = "K",
        close = 1,
        time = vetusta:::time_local(as.Date("2026-10-25"), 0, "Europe/Riga")
      )
    ),
    interval = "1 day", zone = "Europe/Riga"
  )
  expect_identical(series_align(long)$time, long$time + 25 * 3600)
})

test_that("aggregated days end in their zone, and ranges where they say", {
  hours <- data.frame(
    series = "a",
    time = day("2026-03-02") + 3600 * (0:240),
    value = 1:241
  )
  days <- series_aggregate(hours, "D", zone = "America/Los_Angeles")
  expect_identical(
    format(days$known[1:2], "%d %H:%M"), c("02 08:00", "03 08:00")
  )
  weeks <- series_aggregate(days, "W")
  months <- series_aggregate(weeks, "M")
  # a month is known when its last week is
  expect_identical(months$known[1], weeks$known[1])
  expect_gte(as.numeric(months$known[2]), max(as.numeric(weeks$known[2:3])))
  ten <- series_frame(
    data.frame(
      series = "t",
      value = 1:2,
      period = c("2019-01-01/P10D", "2019-01-11/P10D")
    )
  )
  expect_identical(ten$frequency, c("P10D", "P10D"))
  expect_message(aligned <- series_align(ten), "no release dates: t counts")
  expect_identical(aligned$time, day(c("2019-01-11", "2019-01-21")))
  expect_identical(
    time_spelling(
      as.Date(c("2025-07-01", "2026-01-01", "2026-03-05", "2019-01-01")),
      c("A", "A", "W", "P10D")
    ),
    c("2025-07-01/P1Y", "2026", "2026-03-05/P1W", "2019-01-01/P10D")
  )
})

test_that("a lag moves what was computed, filled, converted and joined", {
  x <- data.frame(
    series = "l",
    period = as.Date("2026-01-01") + c(0:4, 6:9),
    value = c(1:5, 7:10)
  )
  quiet <- function(work) suppressMessages(work)
  lagged <- function(table) quiet(series_align(table, lag = "10 days"))
  plain <- quiet(series_align(series_change(x)))
  expect_identical(lagged(series_change(x))$time, plain$time + 86400 * 10)
  full <- series_fill(x, rule = "linear")
  # the sixth day is drawn from the seventh
  expect_identical(full$through[full$status == "filled"], day("2026-01-08"))
  expect_identical(nrow(lagged(full)), 9L)
  rate <- data.frame(series = "r", time = day("2025-12-01"), value = 2)
  expect_identical(lagged(series_convert(x, rate))$time, lagged(x)$time)
  b <- transform(x, period = period - 5, value = value * 2)
  joined <- series_join(a = x, b = b, adjust = "ratio")
  expect_identical(min(joined$through[joined$origin == "b"]), day("2026-01-06"))
})

test_that("what is adjusted waits for the prices that tell by how much", {
  days <- series_about(
    bars_frame(
      data.frame(
        symbol = "K",
        time = day("2026-03-02") + 86400 * 0:5,
        close = c(10, 11, 12, 11, 12, 13)
      )
    ),
    interval = "1 day"
  )
  cash <- data.frame(
    symbol = "K", ex_day = as.Date("2026-03-05"), kind = "cash-dividend",
    amount = 1
  )
  known <- function(x) vetusta:::series_points(x)$known
  ratio <- bars_adjust(days, cash, "all")
  expect_equal(known(ratio)[1:3], rep(as.numeric(day("2026-03-05")), 3))
  # a window with the first close of the ex-day counts from the end of that day
  total <- bars_adjust(days, cash, "all", "total-return")
  expect_equal(known(total)[1:3], rep(as.numeric(day("2026-03-06")), 3))
  # and so do weeks made of them, and their changes
  weeks <- bars_resample(total, "1 week")
  expect_gte(
    as.numeric(weeks$through[1] %||% Inf), as.numeric(day("2026-03-06"))
  )
  expect_equal(known(series_change(total))[2], as.numeric(day("2026-03-06")))
})

test_that("yearly changes across clock changes", {
  at <- vetusta:::time_local(as.Date("2025-01-01") + 0:500, 0, "Europe/Riga")
  x <- data.frame(series = "q", time = at, value = 1 + 0:500)
  for (zone in c("Europe/Riga", "UTC")) {
    change <- series_change(x, "difference", over = "1 year", zone = zone)
    expect_identical(sum(!is.na(change$value)), 136L, label = zone)
  }
})

test_that("clock buckets end on the hour; months of ranks", {
  ten <- bars_frame(
    data.frame(symbol = "K", time = day("2026-03-27") + 600 * 0:700, close = 1)
  )
  whole <- calendar_make(
    list(
      calendar = "whole",
      zone = "Europe/Riga",
      sessions = list(regular = "00:00-24:00")
    )
  )
  for (length in c("1 hour", "4 hours", "5 hours", "30 minutes")) {
    ends <- bars_resample(ten, length, whole, anchor = "clock", stamp = "end")
    expect_identical(
      sum(as.numeric(ends$time) %% 1800 != 0), 0L, label = length
    )
  }
  days <- bars_frame(
    data.frame(
      symbol = "K",
      time = day("2026-02-01") + 86400 * 0:28,
      close = c(99, rep(1, 28)),
      high = c(99, rep(1, 28))
    )
  )
  expect_identical(rank_days(days, window = "1 month")$highest, 99)
  expect_identical(rank_days(days[-29, ], window = "27 days")$highest, 99)
  expect_identical(rank_days(days, window = "27 days")$highest, 1)
})

test_that("weeks from Thursday, fiscal years, ranges, weekends", {
  gaps <- function(x) {
    attr(series_gaps(x), "summary")[c("expected", "missing")]
  }
  weeks <- data.frame(
    series = "w",
    period = as.Date("2026-01-01") + 7 * 0:9,
    frequency = "W",
    value = 1
  )
  expect_identical(
    gaps(series_frame(weeks)), data.frame(expected = 10L, missing = 0L)
  )
  years <- data.frame(
    series = "f",
    period = as.Date(paste0(2020:2024, "-07-01")),
    frequency = "A",
    value = 1
  )
  expect_identical(
    gaps(series_frame(years[-3, ])), data.frame(expected = 5L, missing = 1L)
  )
  ten <- data.frame(
    series = "t",
    period = paste0(as.Date("2019-01-01") + 10 * c(0:3, 5), "/P10D"),
    value = 1
  )
  expect_identical(
    gaps(series_frame(ten)), data.frame(expected = 6L, missing = 1L)
  )
  # a source without a calendar
  days <- data.frame(
    series = "x",
    time = day("2026-03-02") + 86400 * 0:40,
    value = 1
  )
  open <- days[!format(days$time, "%u") %in% c("6", "7"), ]
  two <- rbind(open[-9, ], transform(open, series = "y"))
  found <- series_gaps(two)
  expect_identical(found$reason, "other series have a value")
  expect_identical(attr(found, "calendar"), "weekdays")
  expect_identical(nrow(series_gaps(open)), 0L)
})

test_that("a deleted value ends the one before it everywhere", {
  rows <- series_frame(
    data.frame(
      series = "m",
      period = c("2026-01", "2026-02", "2026-02"),
      value = c(1, 2, NA),
      status = c("observed", "observed", "deleted"),
      known = day(c("2026-02-10", "2026-03-10", "2026-04-10"))
    )
  )
  grid <- day(c("2026-03-01", "2026-03-20", "2026-05-01"))
  expect_identical(series_align(rows, grid = grid)$m, c(1, 2, 1))
  for (work in list(
    function(x) series_change(x, "cumulative"),
    function(x) series_fill(x, rule = "last"),
    function(x) series_disaggregate(x, "W")
  )) {
    done <- work(rows)
    later <- series_align(done, grid = grid)[[2]]
    expect_false(isTRUE(later[3] == later[2] && later[2] > 1))
  }
  expect_identical(
    series_align(rows, grid = grid, point_in_time = FALSE)$m, c(1, 1, 1)
  )
})

test_that("facts survive operations; differences become columns", {
  bars <- series_about(
    minute_bars(),
    interval = "1 minute",
    zone = "Europe/Riga",
    unit = c(close = "crowns"),
    title = c(KELD = "Keld Harbour Lines"),
    source = "quay/bars"
  )
  all <- names(series_about(bars))
  expect_identical(all, c("interval", "zone", "unit", "title", "source"))
  prices <- data.frame(symbol = "KELD", sector = "shipping")
  for (kept in list(
    bars[5:9, ], utils::head(bars, 3), rbind(bars[1:3, ], bars[4:6, ]),
    subset(bars, close > 0), transform(bars, close = close * 2),
    merge(bars, prices), series_fill(bars[-7, ]), bars_resample(bars, "1 hour")
  )) {
    expect_identical(names(series_about(kept)), all)
  }
  expect_identical(
    series_about(series_change(bars, "difference"))$unit, c(value = "crowns")
  )
  expect_null(series_about(series_change(bars))$unit)
  expect_identical(
    series_about(series_change(bars))$title, c(KELD = "Keld Harbour Lines")
  )
  expect_error_kind(
    rbind(bars, series_about(bars, interval = "1 hour")), "shape",
    "1 minute and of 1 hour"
  )
  # for two zones the instants are written out
  days <- bars_frame(
    data.frame(
      symbol = "A",
      time = day("2026-03-02") + 86400 * 0:2,
      close = 1:3
    )
  )
  riga <- series_about(
    days, interval = "1 day", zone = "Europe/Riga", unit = "crowns"
  )
  york <- series_about(
    transform(days, symbol = "B"), interval = "1 day",
    zone = "America/New_York", unit = "marks"
  )
  both <- rbind(riga, york)
  expect_s3_class(both$through, "POSIXct")
  expect_identical(names(series_about(both)), "interval")
  a <- series_about(
    data.frame(series = "a", time = day("2026-03-02"), value = 1), unit = "cm"
  )
  b <- series_about(
    data.frame(series = "b", time = day("2026-03-02"), value = 1), unit = "m"
  )
  expect_identical(rbind(a, b)$unit, c("cm", "m"))
  for (wrong in list(
    list(zone = "Riga"), list(interval = "soon"), list(unit = c("a", "b")),
    list(title = 3), list(delay = "x")
  )) {
    expect_error(
      do.call(series_about, c(list(bars), wrong)),
      class = "vetusta_error_argument"
    )
  }
})
