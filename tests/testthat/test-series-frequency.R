test_that("going down is what each day gives, summed by hand", {
  x <- data.frame(
    series = "a",
    period = as.Date("2025-11-15") + 0:199,
    value = withr::with_seed(1, round(stats::rnorm(200), 2))
  )
  x$value[c(20, 50:60)] <- NA
  for (to in c("W", "M", "Q", "S", "A")) {
    for (rule in c("mean", "sum", "first", "last", "min", "max", "median")) {
      got <- series_aggregate(x, to, rule)
      first <- vapply(
        x$period,
        function(day) {
          as.numeric(
            vetusta:::period_first(as.Date(day, origin = "1970-01-01"), to)
          )
        },
        1
      )
      slow <- vapply(
        sort(unique(first)),
        function(at) {
          v <- x$value[first == at]
          v <- v[!is.na(v)]
          if (!length(v)) {
            NA_real_
          } else {
            switch(rule, first = v[1], last = v[length(v)], get(rule)(v))
          }
        },
        1
      )
      expect_equal(got$value, slow, label = paste(to, rule))
    }
  }
  shares <- series_aggregate(x, "M", "mean", need = 0.9)
  expect_true(is.na(shares$value[1]) && shares$status[1] == "missing")
  expect_equal(shares$coverage[1], 16 / 30)
  expect_true(is.na(series_aggregate(x[-nrow(x), ], "M", "end")$value[8]))
  expect_error_kind(
    series_aggregate(series_aggregate(x, "Q"), "M"), "argument",
    "series_disaggregate"
  )
  expect_error_kind(series_aggregate(x, "X"), "argument")
})

test_that("weeks belong to the period of their Thursday", {
  weeks <- data.frame(
    series = "g",
    period = c("2025-W52", "2026-W01", "2026-W53"),
    value = c(1, 2, 3)
  )
  years <- series_aggregate(weeks, "A", "sum")
  expect_identical(years$value, c(1, 5))
})

test_that("to higher frequencies: carried, linear, and split totals", {
  quarters <- data.frame(
    series = "t",
    period = c("2025-Q4", "2026-Q1", "2026-Q2"),
    value = c(92, 90, 182)
  )
  days <- series_disaggregate(quarters, "D", "even")
  expect_equal(
    tapply(days$value, vetusta:::period_first(days$period, "Q"), sum) |>
      as.numeric(),
    c(92, 90, 182)
  )
  expect_identical(unique(days$status), "filled")
  indicator <- data.frame(
    series = "i",
    period = time_spelling(
      seq(as.Date("2025-10-01"), by = "month", length.out = 9), "M"
    ),
    value = 1:9
  )
  months <- series_disaggregate(
    quarters, "M", "indicator", indicator = indicator
  )
  expect_equal(months$value[1:3], 92 * 1:3 / 6)
  expect_equal(sum(months$value[7:9]), 182)
  expect_identical(
    series_disaggregate(quarters, "M", "last")$value[1:4], c(92, 92, 92, 90)
  )
  expect_identical(
    series_disaggregate(quarters, "M", "last", known = "end")$value[1], 92
  )
  expect_identical(
    series_disaggregate(quarters, "M", "last", known = "end")$period[1],
    as.Date("2026-01-01")
  )
  line <- series_disaggregate(quarters, "M", "linear")
  expect_true(all(line$value >= 90 & line$value <= 182))
  expect_error_kind(
    series_disaggregate(quarters, "M", "indicator"), "argument", "indicator"
  )
  expect_identical(nrow(series_disaggregate(quarters[1, ], "M", "spline")), 0L)
})

test_that("to lower frequencies: all values of a day, named lengths", {
  hours <- data.frame(
    series = "mill",
    time = as.POSIXct("2026-03-12", tz = "UTC") + 3600 * 0:23,
    value = 1:24
  )
  expect_identical(series_aggregate(hours, "D", "sum")$value, 300)
  expect_identical(series_aggregate(hours, "1 day", "sum")$value, 300)
  expect_identical(series_aggregate(hours, "monthly", "max")$value, 24)
  expect_identical(
    series_aggregate(hours, "D", "last", zone = "Europe/Riga")$value, c(22, 24)
  )
  weeks <- data.frame(
    series = "mill",
    period = seq(as.Date("2026-01-26"), by = 7, length.out = 9),
    value = 1:9
  )
  months <- series_aggregate(weeks, "M", "sum", need = 1)
  expect_identical(months$coverage[months$period == as.Date("2026-02-01")], 1)
  expect_identical(series_aggregate(weeks[-3, ], "M")$coverage[2], 0.75)
  quay <- source_calendar("quay")
  days <- data.frame(
    series = "mill",
    period = unique(calendar_sessions(quay, "2026-03-01", "2026-03-31")$day),
    value = 1
  )
  expect_identical(
    series_aggregate(days, "M", need = 1, calendar = quay)$value, 1
  )
  expect_true(
    is.na(series_aggregate(days[-3, ], "M", need = 1, calendar = quay)$value)
  )
  expect_identical(nrow(series_aggregate(weeks[0, ], "M")), 0L)
  expect_identical(nrow(series_aggregate(hours[0, ], "M")), 0L)
})

test_that("ten days are made months, and units of instants are kept", {
  tens <- data.frame(
    series = "a", period = as.Date("2026-02-01") + 10 * 0:5,
    frequency = "P10D", value = 1
  )
  months <- series_aggregate(tens, "M", "sum")
  expect_identical(months$value, c(3, 3))
  expect_equal(months$coverage, c(1, 30 / 31))
  time <- as.POSIXct("2026-02-01 08:00", tz = "UTC") + 86400 * 0:1
  points <- data.frame(
    series = rep(c("a", "b"), each = 2), time = rep(time, 2), value = 1:4,
    unit = c("m", "m", "cm", "m")
  )
  days <- series_aggregate(points[4:1, ], "D")
  expect_identical(days$unit, c("m", "m", "cm", "m"))
})

test_that("a later row moves neither unit nor coverage of an earlier day", {
  time <- as.POSIXct("2026-01-01", tz = "UTC") + 3600 * 0:30
  hours <- data.frame(
    series = "a", time = time, value = 1, unit = "m", frequency = "PT1H",
    through = time + 3600
  )
  later <- transform(
    hours[1, ],
    time = time + 9 * 86400, unit = "cm", frequency = "I",
    through = time + 9 * 86400
  )[1, ]
  expect_identical(
    as.data.frame(series_aggregate(rbind(hours, later), "D"))[1:2, ],
    as.data.frame(series_aggregate(hours, "D"))
  )
})
