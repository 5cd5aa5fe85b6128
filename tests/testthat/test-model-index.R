# Index of a season and payoff, against a plain reference and closed forms.
daily_values <- function(value, from) {
  data.frame(
    series = "lock",
    period = as.Date(from) + seq_along(value) - 1,
    value = value
  )
}

# Written from the words: day by day.
plain_index <- function(day, value, level, below, from, to, most, cap) {
  sums <- list()
  for (i in seq_along(day)) {
    md <- format(day[i], "%m-%d")
    year <- as.integer(format(day[i], "%Y"))
    if (from <= to) {
      if (md < from || md > to) next
    } else {
      if (md < from && md > to) next
      if (md <= to) year <- year - 1L
    }
    part <- max(0, if (below) level - value[i] else value[i] - level)
    key <- as.character(year)
    sums[[key]] <- (sums[[key]] %||% 0) + min(part, most)
  }
  sums <- unlist(sums)
  pmin(sums[order(as.integer(names(sums)))], cap)
}

test_that("an index is that of its words, for many seasons, levels and caps", {
  withr::local_seed(1)
  for (i in 1:30) {
    value <- round(rnorm(1600, 100, 20), 1)
    from <- as.Date("2015-01-01") + sample(500, 1)
    season <- format(as.Date("2024-01-01") + sample(0:365, 2), "%m-%d")
    below <- runif(1) < 0.5
    most <- sample(c(Inf, 10), 1)
    cap <- sample(c(Inf, 800), 1)
    level <- daily_values(value, from)
    found <- do.call(
      index_sum,
      c(
        list(level, season = season, most = most, cap = cap),
        stats::setNames(list(95), if (below) "below" else "above")
      )
    )
    plain <- plain_index(
      level$period, value, 95, below, season[1], season[2], most, cap
    )
    expect_identical(found$season, as.integer(names(plain)))
    expect_equal(found$index, unname(plain))
    bounds <- as.integer(found$to - found$from) + 1L
    expect_identical(found$days, bounds)
    inside <- found$from >= level$period[1] & found$to <= level$period[1600]
    expect_identical(found$missing[inside], rep(0L, sum(inside)))
    expect_true(all(found$missing[!inside] > 0))
  }
})

test_that("29 February bounds a season, and one may cross the year's end", {
  value <- rep(1, 1500)
  leap <- index_sum(
    daily_values(value, "2019-01-01"), above = 0, season = c("02-29", "03-05")
  )
  expect_identical(leap$days, c(5L, 6L, 5L, 5L))
  expect_identical(leap$index[2], 6)
  expect_identical(leap$from[1], as.Date("2019-03-01"))
  to <- index_sum(
    daily_values(value, "2019-01-01"), above = 0, season = c("02-01", "02-29")
  )
  expect_identical(to$to[1:2], as.Date(c("2019-02-28", "2020-02-29")))
  winter <- index_sum(
    daily_values(value, "2019-01-01"), above = 0, season = c("11-01", "02-28")
  )
  expect_identical(winter$season[1:2], c(2018L, 2019L))
  expect_identical(winter$to[2], as.Date("2020-02-28"))
  expect_identical(winter$missing[1], 61L)
  expect_identical(winter$index[2], 120)
})

test_that("missing days are counted, past payments need whole seasons", {
  level <- daily_values(rep(5, 800), "2019-01-01")[-c(10, 20), ]
  index <- index_sum(level, below = 10)
  expect_identical(index$missing[1:2], c(2L, 0L))
  paid <- payoff_value(index, data.frame(strike = 0))
  expect_identical(paid$count, 1L)
  expect_error(
    payoff_value(index[1, ], data.frame(strike = 0)),
    "No past season is complete",
    class = "vetusta_error_model"
  )
})

simulated_index <- function(sums) {
  noise <- withr::with_seed(
    1, model_noise(daily_values(rnorm(200), "2019-01-01"), c(0, 0))
  )
  index <- index_sum(
    model_paths(noise, length(sums), "3 years", seed = 1), above = 0
  )
  attr(index, "simulated")[2, ] <- sums
  index
}

test_that("the value of a payoff is that of its closed form on normal sums", {
  sums <- withr::with_seed(2, rnorm(200000, 1000, 200))
  index <- simulated_index(sums)
  strikes <- c(700, 1000, 1300)
  value <- payoff_value(
    index, data.frame(strike = strikes, pays = 2), season = 2020, loading = 0.5
  )
  d <- (1000 - strikes) / 200
  expected <- 2 * (200 * stats::dnorm(d) + (1000 - strikes) * stats::pnorm(d))
  expect_true(all(abs(value$mean - expected) < 4.5 * value$standard_error))
  expect_equal(value$probability, stats::pnorm(d), tolerance = 0.02)
  expect_equal(value$premium, value$mean + 0.5 * value$deviation)
  capped <- payoff_value(
    index, data.frame(strike = 700, cap = 1300, pays = 2), season = 2020
  )
  expect_equal(capped$mean, value$mean[1] - value$mean[3])
  expect_lte(capped$greatest, 1200)
  own <- payoff_value(
    index,
    payoff = function(index) 2 * pmax(index - 1000, 0),
    season = 2020
  )
  expect_equal(own$mean, value$mean[2])
})

test_that("half a season: observed days count, the rest is simulated", {
  value <- withr::with_seed(3, rnorm(600, 100, 10))
  level <- daily_values(value, "2019-01-01")
  noise <- model_noise(level, c(0, 0))
  paths <- model_paths(noise, 300, "1 year", seed = 4)
  index <- index_sum(paths, below = 100, season = c("07-01", "12-31"))
  expect_identical(index$season[1], 2020L)
  expect_identical(index$missing[1], 0L)
  observed <- level$period >= as.Date("2020-07-01")
  so_far <- sum(pmax(0, 100 - value[observed]))
  ahead <- paths$time <= as.Date("2020-12-31")
  rest <- colSums(pmax(100 - paths$paths[ahead, ], 0))
  expect_equal(attr(index, "simulated")[1, ], so_far + rest)
})

test_that("a payoff is any function of a path", {
  noise <- withr::with_seed(
    5, model_noise(daily_values(rnorm(300), "2019-01-01"), c(0, 0))
  )
  paths <- model_paths(noise, 500, "30 days", seed = 1)
  paid <- payoff_value(
    paths,
    payoff = function(path, time) max(path) - path[length(path)]
  )
  expect_equal(
    attr(paid, "payments")[[1]],
    apply(paths$paths, 2, function(path) {
      max(path) - path[30]
    })
  )
})

test_that("the trend can be taken out of past seasons", {
  days <- as.Date("2010-01-01") + 0:3652
  level <- data.frame(
    series = "lock",
    period = days,
    value = 200 - as.numeric(days - days[1]) * 10 / 365.2425
  )
  season <- model_season(level, periods = numeric())
  moved <- index_sum(level, below = 180, trend = season)
  # all years are moved to the trend of the last day
  expect_equal(
    moved$index / (moved$days - moved$missing),
    rep(180 - level$value[3653], 11), tolerance = 1e-6
  )
})

test_that("terms and levels that are none are told", {
  level <- daily_values(rnorm(800), "2019-01-01")
  index <- index_sum(level, below = 0)
  wrong <- function(code) expect_error(code, class = "vetusta_error_model")
  wrong(index_sum(level))
  wrong(index_sum(level, below = 1, above = 2))
  wrong(index_sum(level, below = 0, season = c("02-30", "03-01")))
  wrong(index_sum(level, below = 0, season = "05-01"))
  wrong(index_sum(level[1:30, ], below = 0, season = c("05-01", "06-01")))
  expect_error(
    payoff_value(index, data.frame(strike = 5, cap = 3)), "not below its cap",
    class = "vetusta_error_model"
  )
  wrong(payoff_value(index, data.frame(cap = 3)))
  wrong(payoff_value(index, data.frame(strike = "a")))
  wrong(payoff_value(index))
  wrong(payoff_value(level, data.frame(strike = 1)))
  wrong(payoff_value(index, payoff = 3))
  expect_output(
    print(payoff_value(index, data.frame(strike = 1))), "payoff of lock"
  )
  expect_output(print(index), "days below 0 and the sum of their shortfall")
})
