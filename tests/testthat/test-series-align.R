test_that("a value counts from its release and never before", {
  for (seed in 1:5) {
    x <- withr::with_seed(seed, {
      n <- 40
      period <- as.Date("2024-01-01") + 7 * sample(n)
      rows <- data.frame(
        series = rep(c("a", "b"), each = n),
        period = c(period, period),
        frequency = "W",
        value = round(stats::rnorm(2 * n), 3),
        known = as.POSIXct(
          c(period, period) + 7 + sample(0:60, 2 * n, TRUE), tz = "UTC"
        )
      )
      # some values are revised later
      again <- rows[sample(2 * n, 20), ]
      again$value <- again$value + 10
      again$known <- again$known + 86400 * sample(1:90, 20, TRUE)
      rows <- rbind(rows, again)
      rows$value[sample(nrow(rows), 8)] <- NA
      rows[sample(nrow(rows)), ]
    })
    grid <- as.POSIXct("2024-01-01", tz = "UTC") +
        86400 * sort(sample(0:400, 60))
    got <- series_align(x, grid = grid, form = "long", ages = TRUE)
    points <- data.frame(
      series = x$series,
      time = as.numeric(x$period),
      known = as.numeric(x$known),
      value = x$value
    )
    for (name in c("a", "b")) {
      slow <- vapply(
        as.numeric(grid),
        function(at) slow_as_of(points[points$series == name, ], at), 1
      )
      expect_identical(got$value[got$series == name], slow)
    }
    expect_true(all(got$known <= got$time, na.rm = TRUE))
    expect_true(all(got$age_days >= 0, na.rm = TRUE))
  }
})

test_that("changing the future changes nothing before it", {
  bars <- minute_bars()
  traffic <- data.frame(
    series = "t",
    period = c("2026-01", "2026-02"),
    value = c(1, 2),
    known = as.Date(c("2026-02-20", "2026-03-12"))
  )
  grid <- as.POSIXct("2026-03-12 07:00", tz = "UTC") + 600 * 0:40
  whole <- series_align(bars, traffic, grid = grid)
  cut <- grid[20]
  later <- bars
  later$close[later$time >= cut] <- 999
  expect_identical(
    series_align(later, traffic, grid = grid)[1:20, ], whole[1:20, ]
  )
  # a bar counts from its end: at 07:31 the bar that began at 07:30
  expect_identical(
    series_align(
      bars,
      grid = as.POSIXct(c("2026-03-12 07:30", "2026-03-12 07:31"), tz = "UTC")
    )$KELD,
    c(NA, bars$close[1])
  )
  # without releases a period counts from its end, plus the lag
  expect_identical(
    series_align(traffic[1:3], grid = as.Date(c("2026-01-31", "2026-02-01")))$t,
    c(NA, 1)
  )
  expect_identical(
    series_align(
      traffic[1:3],
      grid = as.Date(c("2026-02-01", "2026-03-18")),
      lag = "45 days"
    )$t,
    c(NA, 1)
  )
})

test_that("grids, rules, ages and limits are as said", {
  a <- data.frame(
    series = "a",
    time = as.POSIXct("2026-03-01", tz = "UTC") + 86400 * c(0, 1, 4),
    value = c(1, 2, 5)
  )
  b <- data.frame(
    series = "b",
    time = as.POSIXct("2026-03-01", tz = "UTC") + 86400 * c(1, 2, 4),
    value = c(10, 20, 50)
  )
  expect_identical(series_align(a, b)$a, c(1, 2, 2, 5))
  expect_identical(series_align(a, b, grid = "intersection")$b, c(10, 50))
  expect_identical(
    series_align(a, b, grid = "a", rule = c(b = "exact"))$b, c(NA, 10, 50)
  )
  expect_identical(
    series_align(
      a,
      b,
      grid = as.POSIXct("2026-03-01", tz = "UTC") + 86400 * 0:4,
      rule = "sum"
    )$b,
    c(NA, 10, 20, NA, 50)
  )
  expect_identical(
    series_align(a, b, grid = "b", max_age = "1 day")$a, c(2, 2, 5)
  )
  expect_identical(
    series_align(a, grid = as.Date("2026-03-04"), max_age = "1 day")$a, NA_real_
  )
  wide <- series_align(a, b, grid = "b", ages = TRUE)
  expect_identical(names(wide), c("time", "a", "a_age_days", "b", "b_age_days"))
  expect_identical(wide[["a_age_days"]], c(0, 1, 0))
  expect_identical(
    series_align(
      a, grid = as.Date("2026-03-03"), rule = "linear", point_in_time = FALSE
    )$a,
    3
  )
  calendar <- list(
    calendar = source_calendar("quay"),
    interval = "1 day",
    from = "2026-03-19",
    to = "2026-03-24"
  )
  expect_identical(nrow(series_align(minute_bars(), grid = calendar)), 3L)
  expect_error_kind(
    series_align(a, rule = "linear"), "argument", "not known yet"
  )
  expect_error_kind(
    series_align(a, rule = c(x = "last")), "argument", "not among the tables"
  )
  expect_error_kind(series_align(a, grid = "c"), "argument", "grid")
  expect_error_kind(series_align(data.frame(x = 1)), "shape")
})

test_that("disjoint, empty and single-value series", {
  a <- data.frame(
    series = "a",
    time = as.POSIXct("1900-03-01", tz = "UTC"),
    value = 1
  )
  b <- data.frame(
    series = "b",
    time = as.POSIXct("2099-03-01", tz = "UTC"),
    value = Inf
  )
  expect_identical(nrow(series_align(a, b, grid = "intersection")), 0L)
  expect_identical(series_align(a, b)$b, c(NA, Inf))
  none <- a[0, ]
  expect_identical(nrow(series_align(none, grid = "union")), 0L)
})
