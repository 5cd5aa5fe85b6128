# One rule for all functions: a result counts no earlier than the latest of its
# inputs. Random vintages are cut at an instant, later knowledge is changed, and
# the results known by that instant must be equal.
vintage_table <- function(seed, n = 14, kind = "observations") {
  withr::with_seed(seed, {
    period <- seq(as.Date("2024-01-01"), by = "month", length.out = n)
    rows <- do.call(
      rbind,
      lapply(seq_len(n), function(i) {
        releases <- sort(sample(5:200, sample(1:3, 1)))
        data.frame(
          series = "mill",
          period = period[i],
          frequency = "M",
          value = round(100 + stats::rnorm(length(releases)) * 9, 2),
          known = as.POSIXct(period[i], tz = "UTC") + 86400 * (30 + releases)
        )
      })
    )
    rows <- rows[sample(nrow(rows), ceiling(nrow(rows) * 0.9)), ]
    rows[order(rows$period, rows$known), ]
  })
}

# As of an instant: per time the latest row known by then.
known_by <- function(rows, now) {
  rows <- rows[!is.na(rows$known) & rows$known <= now, ]
  rows$key <- paste(
    rows$series,
    as.numeric(if (is.null(rows[["period"]])) rows$time else rows$period)
  )
  rows <- rows[order(rows$key, rows$known), ]
  rows <- rows[!duplicated(rows$key, fromLast = TRUE) & !is.na(rows$value), ]
  data.frame(key = as.character(rows$key), value = rows$value)
}

past_of <- function(rows, now, seed) {
  withr::with_seed(seed, {
    late <- rows$known > now
    other <- rows
    other$value[late] <- other$value[late] * stats::runif(sum(late), 0.5, 2)
    other <- other[!late | stats::runif(nrow(rows)) < 0.7, ]
    list(rows, other, rows[!late, ])
  })
}

works <- list(
  change = function(x) series_change(x),
  over = function(x) series_change(x, "difference", over = "3 months"),
  older = function(x) series_change(x, over = "1 year", or_before = "70 days"),
  mean = function(x) series_change(x, "mean", window = "100 days"),
  sd = function(x) series_change(x, "sd", window = "4 months"),
  max = function(x) series_change(x, "max", window = "65 days"),
  cumulative = function(x) series_change(x, "cumulative"),
  drawdown = function(x) series_change(x, "drawdown"),
  index = function(x) series_change(x, "index"),
  base = function(x) series_change(x, "index", base = "2024-04-10"),
  quarters = function(x) series_aggregate(x, "Q", "sum"),
  ends = function(x) series_aggregate(x, "Q", "end"),
  needed = function(x) series_aggregate(x, "Q", "mean", need = 1),
  disaggregated = function(x) series_disaggregate(x, "W", "linear"),
  carried = function(x) series_disaggregate(x, "D"),
  even = function(x) series_disaggregate(x, "D", "even"),
  filled = function(x) series_fill(x, rule = "last"),
  drawn = function(x) series_fill(x, rule = "linear"),
  back = function(x) series_fill(x, rule = "next"),
  seasonal = function(x) series_fill(x, rule = c("monotone", "seasonal"))
)

test_that("no function sees the future", {
  for (name in names(works)) {
    for (seed in 1:12) {
      rows <- vintage_table(seed)
      now <- withr::with_seed(seed, sample(rows$known, 1)) + 3600
      results <- lapply(
        past_of(rows, now, seed), function(x) known_by(works[[name]](x), now)
      )
      expect_equal(
        results[[2]],
        results[[1]],
        label = paste(name, seed, "with another future")
      )
      expect_equal(
        results[[3]],
        results[[1]],
        label = paste(name, seed, "without a future")
      )
    }
  }
})

test_that("a change is computed from what was known when it was published", {
  rows <- data.frame(
    series = "mill",
    period = as.Date(c("2026-01-01", "2026-01-01", "2026-02-01")),
    value = c(100, 200, 110),
    known = as.POSIXct(c("2026-02-20", "2026-06-10", "2026-03-20"), tz = "UTC")
  )
  out <- series_change(rows)
  grid <- series_align(
    out,
    grid = as.POSIXct(c("2026-03-21", "2026-07-01"), tz = "UTC")
  )
  expect_equal(grid$mill, c(0.10, -0.45))
})

test_that("late values, later values, and their lag", {
  at <- as.POSIXct("2026-03-02", tz = "UTC") + 86400 * 0:4
  late <- data.frame(
    series = "mill",
    time = at[c(1, 2, 4, 5)],
    value = c(1, 2, 4, 5),
    known = at[c(1, 4, 4, 5)] + 3600
  )
  full <- series_fill(late, rule = "last")
  expect_identical(full$known[full$status == "filled"], at[4] + 3600)
  months <- data.frame(
    series = "mill",
    period = as.Date(c("2026-01-01", "2026-03-01")),
    value = c(1, 3)
  )
  for (rule in c("next", "linear", "monotone")) {
    grid <- series_align(
      series_fill(months, rule = rule),
      grid = as.Date("2026-04-01") + 0:60,
      lag = "40 days"
    )
    expect_equal(
      unique(grid$mill[grid$time < as.POSIXct("2026-05-11", tz = "UTC")]), 1,
      label = rule
    )
  }
  neighbour <- data.frame(
    series = "other", time = at, value = 11:15, known = at + 864000
  )
  holed <- data.frame(series = "mill", time = at[-3], value = c(1, 2, 4, 5))
  got <- series_fill(holed, rule = "neighbour", neighbour = neighbour)
  expect_true(got$known[got$status == "filled"] >= max(neighbour$known))
})

test_that("daily series with different starts are daily", {
  a <- data.frame(
    series = "a",
    time = as.POSIXct("2026-03-02 06:00", tz = "UTC") + 86400 * 0:13,
    value = 1:14
  )
  b <- data.frame(
    series = "b",
    time = as.POSIXct("2026-03-02 18:00", tz = "UTC") + 86400 * 0:13,
    value = 1:14
  )
  gaps <- series_gaps(rbind(a, b))
  expect_identical(nrow(gaps), 0L)
  expect_identical(attr(gaps, "summary")$present, c(14L, 14L))
  expect_identical(
    attr(series_gaps(rbind(a[-5, ], b)), "summary")$missing, c(1L, 0L)
  )
  bars <- bars_frame(
    data.frame(
      symbol = rep(c("a", "b"), each = 14),
      time = c(a$time, b$time),
      close = 1
    )
  )
  known <- series_align(bars, grid = "union", form = "long")
  expect_identical(
    min(known$known[known$series == "a"], na.rm = TRUE), a$time[1] + 86400
  )
})

test_that("a daily bar is known from the end of its session", {
  quay <- source_calendar("quay")
  days <- calendar_times(quay, "1 day", "2026-03-12", "2026-03-17")
  bars <- bars_frame(
    data.frame(symbol = "KELD", time = days, close = seq_along(days))
  )
  friday <- which(format(days, "%u") == "5")
  grid <- series_align(
    bars,
    grid = as.POSIXct("2026-03-13 14:00", tz = "UTC") + c(-1, 0, 86400),
    calendar = quay
  )
  expect_identical(grid$KELD, c(friday - 1, friday, friday))
  expect_error_kind(series_align(bars[1, ]), "argument", "interval")
  expect_identical(
    series_align(bars[1, ], interval = "1 day")$time, days[1] + 86400
  )
})

test_that("bars with releases are resampled into bars with releases", {
  minutes <- as.data.frame(minute_bars())
  minutes$known <- as.POSIXct(NA, tz = "UTC")
  minutes$known[100] <- as.POSIXct("2026-04-01", tz = "UTC")
  day <- bars_resample(minutes, "1 day", source_calendar("quay"))
  expect_identical(day$known, as.POSIXct("2026-04-01", tz = "UTC"))
  hours <- bars_resample(minutes, "1 hour", source_calendar("quay"))
  expect_identical(hours$known[1], as.POSIXct("2026-03-12 08:30", tz = "UTC"))
})

test_that("a grid has the release known at each time", {
  archive <- archive_open(withr::local_tempfile(fileext = ".sqlite"))
  withr::defer(archive_close(archive))
  csv <- withr::local_tempfile(fileext = ".csv")
  # two months known in turn, the second revised in May
  export_csv(
    data.frame(
      series = "mill",
      period = c("2026-01", "2026-02", "2026-02"),
      value = c(10, 20, 25),
      known = c(
        "2026-02-10T00:00:00Z", "2026-03-10T00:00:00Z", "2026-05-10T00:00:00Z"
      )
    ),
    csv
  )
  archive_import_rows(
    archive, csv, "observations", source = "files", dataset = "output"
  )
  grid <- as.POSIXct(
    c("2026-02-01", "2026-03-01", "2026-04-01", "2026-06-01"), tz = "UTC"
  )
  every <- archive_read(archive, "mill", releases = TRUE)[[1]]
  expect_identical(nrow(every), 3L)
  expect_identical(series_align(every, grid = grid)$mill, c(NA, 10, 20, 25))
  # the latest release alone does not show April
  newest <- archive_read(archive, "mill")[[1]]
  expect_identical(series_align(newest, grid = grid)$mill, c(NA, 10, 10, 25))
  expect_error(
    archive_read(archive, "mill", releases = 2),
    class = "vetusta_error_argument"
  )
})
