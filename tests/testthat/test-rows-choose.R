# Sorted, joined, distinct and counted rows; places near a point; the largest
# moves.

market <- function(seed = 1, n = 60) {
  set.seed(seed)
  data.frame(
    symbol = sprintf("S%03d", sample(n)),
    last = round(runif(n, 0.2, 90), 1),
    before = round(runif(n, 0.2, 90), 1),
    volume = sample(c(5, 400, 1000, 50000), n, TRUE),
    high = runif(n, 90, 100),
    low = runif(n, 0.1, 0.2),
    highest = runif(n, 80, 110),
    lowest = runif(n, 0.1, 0.3),
    type = sample(c("share", "warrant"), n, TRUE)
  )
}

test_that("rows are sorted, joined, made distinct and counted", {
  rows <- data.frame(symbol = c("B", "a", "C", NA), volume = c(2, NA, 2, 1))
  expect_identical(
    rows_sort(rows, c("volume-", "symbol"))$symbol, c("B", "C", NA, "a")
  )
  expect_identical(rows_sort(rows, "symbol")$symbol, c("B", "C", "a", NA))
  other <- data.frame(
    symbol = c("C", "B"), volume = 7:8, name = c("Sea", "Bee")
  )
  joined <- rows_join(rows, other)
  expect_identical(joined$name, c("Bee", NA, "Sea", NA))
  expect_identical(joined$volume_other, c(8L, NA, 7L, NA))
  expect_error_kind(
    rows_join(rows, rbind(other, other)), "argument", "no column in common"
  )
  expect_error_kind(
    rows_join(rows, rbind(other, other), by = "symbol"), "argument",
    "Several rows"
  )
  expect_error_kind(
    rows_join(rows, other, by = "symbl"), "argument", "did you mean \"symbol\""
  )
  expect_error_kind(
    rows_sort(rows, "volme"), "argument", "did you mean \"volume\""
  )
  expect_identical(rows_distinct(rows, "volume")$symbol, c("B", "a", NA))
  expect_identical(
    as.data.frame(rows_count(rows, "volume")),
    data.frame(volume = c(2, NA, 1), count = c(2, 1, 1))
  )
  expect_error_kind(rows_count(rows, "vol"), "argument")
})

test_that("nearby places by great circle, the fullest first at ties", {
  places <- data.frame(
    place = c("a", "b", "c", "d"),
    latitude = c(57.12, 57.31, 57.31, -57.1),
    longitude = c(24.31, 24.55, 24.55, 24.3),
    rows = c(5, 10, 20, 1)
  )
  near <- places_near(places, 57.1, 24.3, "30 km")
  expect_identical(near$place, c("a", "c", "b"))
  # by the angle between the vectors to both points
  slow <- function(a, b) {
    v <- function(p) {
      c(
        cospi(p[1] / 180) * cospi(p[2] / 180),
        cospi(p[1] / 180) * sinpi(p[2] / 180), sinpi(p[1] / 180)
      )
    }
    cross <- v(a)[c(2, 3, 1)] * v(b)[c(3, 1, 2)] -
        v(a)[c(3, 1, 2)] * v(b)[c(2, 3, 1)]
    6371.0088 * atan2(sqrt(sum(cross^2)), sum(v(a) * v(b)))
  }
  set.seed(2)
  for (i in 1:50) {
    a <- c(runif(1, -90, 90), runif(1, -180, 180))
    b <- c(runif(1, -90, 90), runif(1, -180, 180))
    one <- data.frame(place = "x", latitude = b[1], longitude = b[2])
    expect_lt(
      abs(places_near(one, a[1], a[2], 30000)$distance_km - slow(a, b)), 1e-3
    )
  }
  expect_identical(places_near(places, 57.12, 24.31, "800 m")$place, "a")
  expect_identical(nrow(places_near(places, 0, 0, 10)), 0L)
  expect_error_kind(places_near(places, 124.3, 57.1), "argument", "57.1,124.3")
  expect_error_kind(places_near(places, 57, 24, "far"), "argument", "30 km")
  expect_error_kind(
    places_near(places["place"], 57, 24), "argument", "latitude"
  )
})

test_that("a ranking has the requested rows, above floors, with ties", {
  slow <- function(rows, by) {
    value <- switch(by,
      up = ,
      down = 100 * (rows$last / rows$before - 1),
      traded = rows$volume,
      range = 100 * (rows$high - rows$low) / rows$before,
      high = 100 * (rows$high / rows$highest - 1),
      low = 100 * (rows$low / rows$lowest - 1)
    )
    keep <- rows$volume >= 1000 & rows$last >= 1
    if (by == "high") keep <- keep & value > 0
    if (by == "low") keep <- keep & value < 0
    sign <- if (by %in% c("down", "low")) 1 else -1
    at <- which(keep)
    at[order(sign * value[at], rows$symbol[at])]
  }
  for (seed in 1:10) {
    for (by in c("up", "down", "traded", "range", "high", "low")) {
      rows <- market(seed)
      expected <- slow(rows, by)
      done <- rank_moves(rows, by, limit = 7)
      expect_identical(done$symbol, rows$symbol[utils::head(expected, 7)])
      expect_true(all(diff(done$rank) >= 0))
      left <- attr(done, "left_out")
      expect_identical(left[["volume"]], sum(rows$volume < 1000))
      all <- rank_moves(rows, by, limit = 1000)
      expect_identical(nrow(all), length(expected))
      out <- attr(done, "tied_out")
      expect_identical(
        sort(out), sort(all$symbol[-(1:7)][all$score[-(1:7)] == done$score[7]])
      )
    }
  }
  tied <- rank_moves(market(1), "traded", limit = 3)
  expect_identical(tied$rank, c(1L, 1L, 1L))
  expect_true(all(tied$tied))
  expect_true(
    all(rank_moves(market(1), "up", where = "type=share")$type == "share")
  )
  expect_error_kind(rank_moves(market(1)["symbol"]), "argument", "last")
  expect_error_kind(
    rank_moves(market(1), "upp"), "argument", "did you mean \"up\""
  )
})

test_that("days are ranked as of any day, looking at nothing later", {
  set.seed(3)
  days <- as.POSIXct("2026-03-02", tz = "UTC") + 86400 * 0:9
  bars <- bars_frame(do.call(
    rbind,
    lapply(c("A", "B", "C"), function(s) {
      data.frame(symbol = s, time = days[runif(10) > 0.2], close = 1)
    })
  ))
  bars$close <- round(runif(nrow(bars), 10, 20), 2)
  bars$high <- bars$close + 1
  bars$low <- bars$close - 1
  bars$volume <- 2000
  for (day in format(days[3:10])) {
    then <- bars[bars$time <= as.POSIXct(day, tz = "UTC"), ]
    if (!any(then$time == as.POSIXct(day, tz = "UTC"))) next
    done <- rank_days(bars, day)
    expect_identical(done, rank_days(then, day))
    for (i in seq_len(nrow(done))) {
      own <- then[then$symbol == done$symbol[i], ]
      before <- own[own$time < as.POSIXct(day, tz = "UTC"), ]
      expect_identical(done$last[i], own$close[nrow(own)])
      expect_identical(
        done$before[i], c(before$close, NA)[max(1, nrow(before))]
      )
      if (nrow(before)) expect_identical(done$highest[i], max(before$high))
      if (nrow(before)) expect_identical(done$lowest[i], min(before$low))
    }
  }
  expect_error_kind(
    rank_days(bars, "2026-02-01"), "argument", "no bars of 2026-02-01"
  )
})
