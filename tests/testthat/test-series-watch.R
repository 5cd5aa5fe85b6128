# Rules that watch series: planted faults are found, and quiet series are quiet.

# Ten years of daily values: a price with lively times, and a level with a
# season.
watched_price <- function(seed = 1) {
  withr::with_seed(seed, {
    days <- as.Date("2016-01-01") + 0:3652
    days <- days[as.POSIXlt(days)$wday %in% 1:5]
    n <- length(days)
    lively <- 0.008 * (1 + 2 * (sin(seq_len(n) / 150) > 0.8))
    close <- round(80 * exp(cumsum(lively * stats::rt(n, 5))), 2)
    data.frame(series = "price", period = days, value = close)
  })
}
watched_level <- function(seed = 2) {
  withr::with_seed(seed, {
    days <- as.Date("2016-01-01") + 0:3652
    noise <- as.numeric(stats::arima.sim(list(ar = 0.9), length(days))) * 4
    season <- 40 * cos(2 * pi * (as.POSIXlt(days)$yday - 100) / 365.25)
    data.frame(
      series = "level", period = days, value = round(220 + season + noise, 1)
    )
  })
}
watched_minutes <- function(days = 40, seed = 3) {
  withr::with_seed(seed, {
    starts <- as.POSIXct("2026-01-05 08:00", tz = "UTC") + 86400 * 0:60
    starts <- starts[as.POSIXlt(starts)$wday %in% 1:5][seq_len(days)]
    time <- rep(starts, each = 120) + 60 * (0:119)
    close <- round(50 * exp(cumsum(stats::rnorm(length(time)) * 4e-4)), 3)
    bars_frame(data.frame(
      symbol = "KELD", time = time, open = close, high = close, low = close,
      close = close, volume = 10
    ))
  })
}

found_at <- function(found, rule, day) {
  any(found$rule == rule & as.Date(found$first) <= day &
    as.Date(found$last) >= day)
}

test_that("forty faults of eight kinds are all found, with few that are none", {
  price <- watched_price()
  level <- watched_level()
  at <- c(300, 800, 1300, 1800, 2300)
  missed <- character()
  extra <- 0
  judge <- function(table, rule, days, ...) {
    found <- series_watch(table, ...)
    hit <- vapply(days, function(day) found_at(found, rule, day), TRUE)
    missed <<- c(missed, paste(rule, days)[!hit])
    own <- vapply(seq_len(nrow(found)), function(i) {
      found$rule[i] == rule && any(
        days >= as.Date(found$first[i]) & days <= as.Date(found$last[i])
      )
    }, TRUE)
    extra <<- extra + sum(!own)
  }
  # missing values
  judge(level[-at, ], "gap", level$period[at])
  # a value with a digit too much, taken back the next day
  spiked <- price
  spiked$value[at] <- spiked$value[at] * c(10, 1.8, 0.1, 0.5, 3)
  judge(spiked, "spike", price$period[at])
  # a level that moves for good
  moved <- level
  for (i in at) {
    rows <- seq_len(nrow(level)) >= i
    moved$value[rows] <- moved$value[rows] + 400
  }
  judge(moved, "jump", level$period[at])
  # a sensor that stands still
  still <- level
  for (i in at) still$value[i + 0:7] <- still$value[i]
  judge(still, "repeated", level$period[at])
  # splits that no action explains
  bars <- bars_frame(data.frame(
    symbol = "KELD", time = as.POSIXct(price$period) + 27000,
    open = price$value, high = price$value, low = price$value,
    close = price$value
  ))
  for (i in seq_along(at)) {
    rows <- seq_len(nrow(bars)) >= at[i]
    for (name in c("open", "high", "low", "close")) {
      bars[[name]][rows] <- bars[[name]][rows] / c(2, 3, 2, 4, 2)[i]
    }
  }
  judge(
    series_about(bars, interval = "1 day"), "split", price$period[at],
    rules = list(jump = FALSE)
  )
  # days with half of their minutes
  minutes <- watched_minutes()
  day <- as.Date(minutes$time)
  low <- unique(day)[c(5, 11, 18, 25, 33)]
  cut <- day %in% low & as.POSIXlt(minutes$time)$hour >= 8 &
    as.POSIXlt(minutes$time)$min %% 10 >= 3
  judge(minutes[!cut, ], "few", low, rules = list(gap = FALSE))
  # large revisions
  again <- level[at, ]
  again$value <- again$value * 1.4
  again$known <- as.POSIXct(again$period, tz = "UTC") + 86400 * 30
  first <- level
  first$known <- as.POSIXct(first$period, tz = "UTC") + 86400
  judge(
    rbind(first, again), "revision", as.Date(again$known),
    rules = list(spike = FALSE)
  )
  # values that cannot be
  odd <- level
  odd$value[at] <- -1
  judge(
    odd, "range", level$period[at],
    rules = list(range = list(low = 0), spike = FALSE)
  )
  expect_identical(missed, character())
  expect_lte(extra, 5)
})

test_that("quiet series have no findings, and few values are judged by none", {
  for (seed in 11:14) {
    expect_identical(nrow(series_watch(watched_price(seed))), 0L)
    expect_identical(nrow(series_watch(watched_level(seed))), 0L)
  }
  expect_identical(nrow(series_watch(watched_minutes())), 0L)
  short <- watched_level()[1:30, ]
  short$value[15] <- 1e6
  expect_identical(nrow(series_watch(short)), 0L)
  flat <- watched_level()
  flat$value <- 7
  expect_identical(nrow(series_watch(flat)), 0L)
})

test_that("rules are switched and set, and `since` cuts", {
  level <- watched_level()
  level$value[c(500, 3000)] <- 900
  expect_identical(nrow(series_watch(level)), 2L)
  expect_identical(nrow(series_watch(level, since = "2020-01-01")), 1L)
  expect_identical(nrow(series_watch(level, rules = list(spike = FALSE))), 0L)
  expect_identical(
    nrow(series_watch(level, rules = list(spike = list(spread = 1e6)))), 0L
  )
  for (wrong in list(
    list(spyke = FALSE), list(spike = list(width = 3)),
    list(spike = list(spread = "x")), "spike", list(FALSE)
  )) {
    expect_error(
      series_watch(level, rules = wrong),
      class = "vetusta_error_argument"
    )
  }
})
