# Joining several sources, against a reference from the definition.

test_that("values of the first source, brought to its level", {
  for (seed in 1:20) {
    set.seed(seed)
    days <- as.Date("2025-01-01") + 0:80
    truth <- 250 + cumsum(rnorm(81))
    pick <- function(p, f) {
      rows <- runif(81) < p
      data.frame(series = "level", period = days[rows], value = f(truth[rows]))
    }
    a <- pick(0.5, identity)
    b <- pick(0.7, function(x) x * 1.1 + rnorm(length(x), 0, 0.01))
    c <- pick(0.9, function(x) x - 7)
    for (level in c("none", "ratio", "difference")) {
      done <- series_join(
        one = a, two = b, three = c, adjust = level, tolerance = 1
      )
      expect_identical(
        done$period, sort(unique(c(a$period, b$period, c$period)))
      )
      expect_identical(
        done$origin,
        ifelse(
          done$period %in% a$period, "one",
          ifelse(done$period %in% b$period, "two", "three")
        )
      )
      own <- function(x) x$value[match(done$period, x$period)]
      factors <- attr(done, "factors")
      values <- mapply(
        function(x, i) own(x) * factors$factor[i] + factors$offset[i],
        list(a, b, c), 1:3
      )
      expect_equal(
        done$value,
        values[
          cbind(
            seq_len(nrow(done)), match(done$origin, c("one", "two", "three"))
          )
        ]
      )
      both <- a$period[a$period %in% b$period]
      x <- a$value[match(both, a$period)]
      y <- b$value[match(both, b$period)]
      if (level == "ratio") expect_equal(factors$factor[2], median(x / y))
      if (level == "difference") {
        expect_equal(factors$offset[2], median(x - y))
      }
    }
  }
})

test_that("disagreements are findings; levels are known once measured", {
  at <- as.Date("2026-03-10") + 0:4
  a <- data.frame(series = "x", period = at[3:5], value = c(100, 101, 102))
  b <- data.frame(
    series = "x",
    period = at[1:4],
    value = c(50, 51, 50, 60),
    known = as.POSIXct("2026-04-01", tz = "UTC") + 0:3
  )
  done <- series_join(a = a, b = b, adjust = "ratio", tolerance = 0.05)
  found <- attr(done, "findings")
  expect_identical(found$period, at[3:4])
  expect_identical(found$origin, c("a", "a"))
  expect_equal(done$value[1:2], c(50, 51) * median(c(2, 101 / 60)))
  expect_true(all(as.numeric(done$known[1:2]) >= as.numeric(b$known[4])))
  # values of other sources need no level
  expect_equal(as.numeric(done$known[5]), 86400 * as.numeric(at[5] + 1))
  last <- series_join(
    a = a, b = b, adjust = "ratio", overlap = "1 day", tolerance = 1
  )
  expect_equal(attr(last, "factors")$factor[2], 101 / 60)
  expect_identical(attr(last, "factors")$overlap[2], 1)
})

test_that("bars and days together, and what cannot be joined", {
  bars <- bars_frame(
    data.frame(
      symbol = "KELD",
      time = as.POSIXct("2026-03-12", tz = "UTC") + 86400 * 0:2,
      close = c(40, 41, 42)
    )
  )
  old <- data.frame(
    series = "KELD",
    period = as.Date("2026-03-10") + 0:1,
    value = c(38, 39)
  )
  done <- series_join(now = bars, before = old)
  expect_identical(done$value, c(38, 39, 40, 41, 42))
  expect_identical(done$origin, rep(c("before", "now"), c(2, 3)))
  expect_error_kind(
    series_join(bars, old, adjust = "ratio"), "argument", "in common"
  )
  expect_error_kind(series_join(bars), "argument", "two or more")
  two <- rbind(old, transform(old, series = "TAMX"))
  expect_error_kind(series_join(bars, two), "shape", "has 2")
  negative <- data.frame(
    series = "x", period = as.Date("2026-03-10"), value = -1
  )
  expect_error_kind(
    series_join(negative, negative, adjust = "ratio"), "argument", "no ratio"
  )
})
