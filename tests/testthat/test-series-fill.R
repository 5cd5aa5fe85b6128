rules <- c("last", "next", "linear", "spline")

test_that("each rule fills like a reference and keeps observations", {
  for (seed in 1:4) {
    x <- random_points(seed = seed)
    one <- x[!duplicated(paste(x$series, x$time), fromLast = TRUE), ]
    for (rule in rules) {
      full <- series_fill(x, rule = rule, interval = "1 day")
      for (name in unique(x$series)) {
        days <- one[one$series == name & !is.na(one$value), ]
        days <- days[order(days$time), ]
        got <- full[full$series == name & full$status == "filled", ]
        expect_gt(nrow(got), 5)
        for (i in seq_len(nrow(got))) {
          before <- days[days$time < got$time[i], ]
          after <- days[days$time > got$time[i], ]
          p <- before[nrow(before), ]
          q <- after[1, ]
          slow <- switch(rule,
            last = p$value,
            `next` = q$value,
            linear = p$value +
              (q$value - p$value) *
                as.numeric(difftime(got$time[i], p$time, units = "secs")) /
                as.numeric(difftime(q$time, p$time, units = "secs")),
            spline = stats::splinefun(
              as.numeric(days$time), days$value, "natural"
            )(
              as.numeric(got$time[i])
            )
          )
          expect_equal(got$value[i], slow, tolerance = 1e-9)
        }
      }
      kept <- series_unfill(full)
      expect_equal(
        kept$value[!is.na(kept$value)],
        x[order(x$series, x$time), "value"][
          !is.na(x[order(x$series, x$time), "value"])
        ]
      )
      # filling a complete series changes nothing
      again <- series_fill(full, rule = rule, interval = "1 day")
      expect_identical(as.data.frame(again), as.data.frame(full))
    }
  }
})

test_that("values some days apart are daily with gaps", {
  x <- data.frame(
    series = "mill",
    time = as.POSIXct(c("2026-03-01", "2026-03-03", "2026-03-06"), tz = "UTC"),
    value = c(1, 3, 6)
  )
  filled <- series_fill(x, rule = "linear")
  expect_equal(filled$value, as.numeric(1:6))
  expect_identical(sum(filled$status == "filled"), 3L)
  expect_identical(sum(series_gaps(x)$missing), 3L)
  weeks <- series_fill(
    data.frame(
      series = "mill",
      time = as.POSIXct("2026-03-02", tz = "UTC") + 604800 * c(0, 1, 3),
      value = c(1, 2, 4)
    ),
    rule = "linear"
  )
  expect_equal(weeks$value, as.numeric(1:4))
  # without a calendar the times of a series show where others are expected: on
  # Fridays, at a quarter past
  fridays <- data.frame(
    series = "mill",
    time = as.POSIXct("2026-03-06", tz = "UTC") + 604800 * c(0, 1, 3),
    value = c(1, 2, 4)
  )
  expect_equal(series_fill(fridays, rule = "linear")$value, as.numeric(1:4))
  expect_identical(
    series_gaps(fridays)$first, as.POSIXct("2026-03-20", tz = "UTC")
  )
  quarters <- data.frame(
    series = "mill",
    time = as.POSIXct("2026-03-06 09:15", tz = "UTC") + 3600 * c(0, 1, 2, 5),
    value = c(1, 2, 3, 6)
  )
  expect_equal(
    series_fill(quarters, rule = "linear", across = TRUE)$value, as.numeric(1:6)
  )
  expect_identical(
    sum(series_gaps(quarters, from = "2026-03-06", to = "2026-03-06")$missing),
    20L
  )
})

test_that("long runs, ends and sessions stay open, with reasons", {
  x <- data.frame(
    series = "a",
    period = as.Date("2026-03-01") + c(2, 3, 7, 9),
    value = c(1, 2, 6, 8)
  )
  full <- series_fill(
    x, rule = "linear", at_most = 2, from = "2026-03-01", to = "2026-03-12"
  )
  expect_identical(full$value[full$status == "filled"], 7)
  left <- attr(full, "left")
  expect_identical(left$missing, c(2L, 3L, 2L))
  expect_identical(left$reason, c("at an end", "too long", "at an end"))
  ends <- series_fill(
    x, rule = c("last", "next"), ends = TRUE, from = "2026-03-01",
    to = "2026-03-12"
  )
  expect_identical(nrow(ends), 12L)
  expect_identical(ends$rule[c(1, 5, 12)], c("next", "last", "last"))
  calendar <- source_calendar("quay")
  bars <- rbind(
    minute_bars(day = "2026-03-12", without = 380:389),
    minute_bars(day = "2026-03-13", without = c(0:9, 100))
  )
  within <- series_fill(bars, calendar)
  expect_identical(sum(within$status == "filled"), 1L)
  flat <- within[within$status == "filled", ]
  expect_identical(c(flat$open, flat$high, flat$low), rep(flat$close, 3))
  expect_identical(flat$volume, 0)
  expect_identical(
    sum(series_fill(bars, calendar, across = TRUE)$status == "filled"), 21L
  )
  expect_equal(
    as.data.frame(series_unfill(within)), as.data.frame(bars),
    ignore_attr = TRUE
  )
})

test_that("seasonal, neighbour, constant and lists of rules", {
  days <- as.Date("2020-01-01") + 0:2191
  value <- 100 + 10 * sin(as.POSIXlt(days)$yday / 365 * 2 * pi)
  x <- data.frame(series = "level", period = days, value = value)
  holed <- x[-(1500:1530), ]
  full <- series_fill(holed, rule = "seasonal")
  expect_lt(max(abs(full$value - value)), 0.3)
  expect_identical(sum(full$rule %in% "seasonal"), 31L)
  other <- data.frame(
    series = "up",
    time = as.POSIXct(days, tz = "UTC"),
    value = 3 * value + 7
  )
  expect_equal(
    series_fill(holed, rule = "neighbour", neighbour = other)$value, value
  )
  expect_identical(
    series_fill(holed, rule = "constant", constant = 0)$value[1501], 0
  )
  two <- data.frame(
    series = "a",
    period = as.Date("2026-03-01") + c(0, 3),
    value = c(1, 4)
  )
  both <- series_fill(two, rule = c("spline", "linear"))
  expect_identical(unique(both$rule[2:3]), "linear")
  expect_identical(
    attr(series_fill(two, rule = "spline"), "left")$reason, "not enough values"
  )
  expect_error_kind(
    series_fill(two, rule = "neighbour"), "argument", "another series"
  )
  expect_error_kind(series_fill(two, rule = "constant"), "argument", "number")
  expect_error_kind(series_fill(two, rule = "lats"), "argument", "last")
  gone <- data.frame(
    series = "a",
    period = as.Date("2026-03-01") + 0:2,
    value = NA_real_
  )
  expect_identical(
    sum(
      !is.na(series_fill(gone, from = "2026-03-01", to = "2026-03-03")$value)
    ),
    0L
  )
})

test_that("the monotone rule stays between its neighbours", {
  # from the definition: a piece from y0 to y1 stays between them and does not
  # turn
  withr::with_seed(11, {
    for (i in 1:400) {
      n <- sample(4:8, 1)
      at <- sort(sample(1:60, n))
      value <- cumsum(10^stats::runif(n, -6, 6))
      x <- data.frame(
        series = "mill",
        time = as.POSIXct("2026-03-01", tz = "UTC") + 86400 * at,
        value = value
      )
      got <- series_fill(x, rule = "monotone", interval = "1 day")
      if (any(diff(got$value) < -1e-9 * abs(got$value[-1]))) {
        fail(paste("case", i, "is not monotone"))
      }
    }
  })
  turning <- data.frame(
    series = "mill",
    time = as.POSIXct("2026-03-01", tz = "UTC") + 86400 * c(0, 5, 10, 15),
    value = c(0, 10, 0, 10)
  )
  got <- series_fill(turning, rule = "monotone", interval = "1 day")
  expect_true(all(got$value >= 0 & got$value <= 10))
  # if the slopes are within the circle, it is R's curve
  gentle <- data.frame(
    series = "mill",
    time = as.POSIXct("2026-03-01", tz = "UTC") + 86400 * c(0, 4, 7, 10, 16),
    value = c(1, 5, 9, 12, 19)
  )
  got <- series_fill(gentle, rule = "monotone", interval = "1 day")
  curve <- stats::splinefun(
    as.numeric(gentle$time), gentle$value, method = "monoH.FC"
  )
  expect_equal(got$value, curve(as.numeric(got$time)))
})

test_that("a value drawn from later ones is not used before they were known", {
  days <- data.frame(
    series = "a",
    period = as.Date("2026-03-01") + c(0, 3),
    value = c(1, 4)
  )
  grid <- as.Date("2026-03-01") + 1:5
  at <- function(rule) {
    series_align(series_fill(days, rule = rule), grid = grid)$a
  }
  expect_identical(at("linear"), c(1, 1, 1, 4, 4))
  expect_identical(at("last"), c(1, 1, 1, 4, 4))
  expect_identical(
    series_fill(days, rule = "linear")$known[2],
    as.POSIXct("2026-03-05", tz = "UTC")
  )
  bars <- minute_bars(without = 10:12)
  full <- series_fill(bars, source_calendar("quay"), rule = "linear")
  expect_identical(
    unique(as.numeric(full$known[full$status == "filled"])),
    as.numeric(full$time[14]) + 60
  )
  expect_equal(
    as.data.frame(series_unfill(full)), as.data.frame(bars), ignore_attr = TRUE
  )
})

test_that("filling and removing keep empty rows and older releases", {
  x <- data.frame(
    series = "mill",
    period = as.Date("2026-01-01") + c(0, 1, 1, 2, 4),
    value = c(1, 2, 2.5, NA, 5),
    status = c("observed", "provisional", "observed", "missing", "observed"),
    known = as.POSIXct("2026-02-01", tz = "UTC") + 86400 * c(0, 0, 5, 0, 0),
    rule = c("by hand", NA, "as told", NA, NA)
  )
  before <- series_frame(x)
  full <- series_fill(before, rule = "linear")
  expect_true(all(c(2, 2.5) %in% full$value))
  expect_identical(full$rule[full$status != "filled"][1], "by hand")
  expect_identical(as.data.frame(series_unfill(full)), as.data.frame(before))
  once <- data.frame(
    series = "mill",
    time = as.POSIXct("2026-01-01", tz = "UTC") + 86400 * 0:3,
    value = c(1, NA, 3, NA),
    note = c("a", "b", "c", "d")
  )
  full <- series_fill(once, rule = "linear", ends = TRUE)
  expect_identical(full$value[2], 2)
  expect_equal(
    as.data.frame(series_unfill(full))[names(once)], once, ignore_attr = TRUE
  )
})

test_that("a table without filled values is unfilled to itself", {
  levels <- series_frame(data.frame(
    series = "l", period = as.Date("2025-12-05") + 0:5, value = 1:6 + 0
  ))
  expect_identical(series_unfill(levels)$value, levels$value)
  months <- series_aggregate(levels, "M")
  expect_identical(series_unfill(months)$value, months$value)
})

test_that("a filled row has what is the same in all rows of its series", {
  x <- data.frame(
    series = rep(c("a", "b"), each = 3),
    period = rep(as.Date("2026-01-01") + c(0, 1, 3), 2),
    frequency = "D",
    value = as.double(1:6),
    unit = rep(c("m", "t"), each = 3),
    place = factor(rep(c("Kelder", "Tamm"), each = 3)),
    note = c("x", "x", "x", "x", "y", "x"),
    seen = rep(as.POSIXct("2026-02-01", tz = "UTC"), 6)
  )
  full <- series_fill(x)
  new <- full[full$status == "filled", ]
  expect_identical(new$series, c("a", "b"))
  expect_identical(new$unit, c("m", "t"))
  expect_identical(as.character(new$place), c("Kelder", "Tamm"))
  # b has two notes before its gap ends
  expect_identical(new$note, c("x", NA))
  expect_identical(new$seen, x$seen[c(1, 4)])
  points <- data.frame(
    series = "a",
    time = as.POSIXct("2026-01-01", tz = "UTC") + 3600 * c(0, 1, 3),
    value = 1:3, FREQ = "H"
  )
  full <- series_fill(points)
  expect_identical(full$FREQ, rep("H", 4))
  back <- series_unfill(full)
  expect_identical(back$FREQ, points$FREQ)
})

test_that("a later row changes no column of an earlier filled row", {
  set.seed(5)
  for (i in 1:40) {
    n <- sample(6:14, 1)
    x <- data.frame(
      series = sample(c("a", "b"), n, TRUE),
      period = as.Date("2026-01-01") + sample(0:20, n, TRUE),
      frequency = "D", value = round(stats::rnorm(n), 2),
      note = sample(c("x", "x", "x", "y", NA), n, TRUE),
      unit = sample(c("m", "m", "cm"), n, TRUE)
    )
    x <- x[!duplicated(x[c("series", "period")]), ]
    x$known <- as.POSIXct(x$period + sample(1:9, nrow(x), TRUE), tz = "UTC")
    cut <- as.POSIXct("2026-01-14", tz = "UTC")
    before <- x[x$known <= cut, ]
    if (nrow(before) < 3) next
    fill <- function(rows) {
      full <- as.data.frame(suppressMessages(series_fill(rows)))
      full <- full[full$status %in% "filled" & full$known <= cut, ]
      full[c("series", "period", "value", "note", "known")]
    }
    early <- fill(before)
    late <- fill(x)
    key <- function(rows) paste(rows$series, rows$period, rows$known)
    same <- match(key(early), key(late))
    there <- !is.na(same)
    expect_identical(
      late$note[same[there]], early$note[there], label = paste("case", i)
    )
  }
})
