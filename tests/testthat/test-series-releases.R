# The result for a series with several releases, against its definition: as of
# every instant, the result for the rows that count then.

# A value on most days, with delays, corrections, deletions, missing values,
# late times, and sometimes a release of everything.
drawn_releases <- function(seed, step, n = 16) {
  withr::with_seed(seed, {
    day <- seq(
      as.Date("2024-01-01"), by = step, length.out = 2 * n
    )[sort(sample(2 * n, n))]
    late <- ifelse(runif(n) < 0.15, sample(90, n, TRUE), 0)
    known <- as.numeric(day) + c(day = 1, month = 31)[[step]] + 3 * runif(n) +
        late
    value <- ifelse(runif(n) < 0.12, NA, round(runif(n, 1, 9), 1))
    rows <- data.frame(series = "a", period = day, value, known)
    again <- rows[sample(n, 9, TRUE), ]
    again$known <- again$known +
        sample(c(0.5, 4, 40), 9, TRUE) * runif(9, 0.1, 1)
    again$value <- ifelse(runif(9) < 0.2, again$value, round(runif(9, 1, 9), 1))
    status <- ifelse(runif(9) < 0.3, "deleted", "observed")
    again$value[status == "deleted"] <- NA
    all <- transform(
      rows,
      known = max(known) + 1,
      value = value + (runif(n) < 0.5)
    )
    rows <- rbind(rows, again, if (runif(1) < 0.4) all)
    rows$status <- c(
      rep("observed", n), status, rep("observed", nrow(rows) - n - 9)
    )
  })
  rows$status[is.na(rows$value) & rows$status != "deleted"] <- "missing"
  rows$frequency <- c(day = "D", month = "M")[[step]]
  rows$known <- as.POSIXct(
    round(rows$known * 86400), origin = "1970-01-01", tz = "UTC"
  )
  rows
}

newest_of <- function(table, at) {
  time <- intersect(c("period", "time"), names(table))
  own <- table[table$known <= at, ]
  own <- own[order(own[[time]], own$known), ]
  own <- own[!duplicated(own[[time]], fromLast = TRUE), ]
  gone <- if (is.null(own[["status"]])) FALSE else own$status %in% "deleted"
  own <- own[!is.na(own$value) & !gone, ]
  data.frame(time = as.numeric(own[[time]]), value = own$value)
}

expect_as_of <- function(work, step, seeds, more = NULL, alone = work) {
  for (seed in seeds) {
    rows <- drawn_releases(seed, step)
    all <- suppressMessages(work(rows))
    for (at in as.list(unique(c(rows$known, more)))) {
      state <- rows[rows$known <= at, ]
      state <- state[order(state$period, state$known), ]
      state <- state[!duplicated(state$period, fromLast = TRUE), ]
      state <- state[state$status != "deleted", ]
      query <- if (nrow(state)) {
        newest_of(suppressMessages(alone(state, rows)), at)
      } else {
        data.frame(time = numeric(), value = numeric())
      }
      expect_equal(
        newest_of(all, at),
        query,
        tolerance = 1e-9,
        info = paste(seed, format(at))
      )
    }
  }
}

test_that("changes and windows are those of what was known", {
  changes <- list(
    list("simple"), list("difference", over = "1 month"),
    list("log", over = "7 days", or_before = "5 days"),
    list("mean", window = "7 days"), list("sd", window = "10 days"),
    list("max", window = "1 month"), list("cumulative"), list("drawdown"),
    list("index"), list("index", base = "2024-01-15")
  )
  for (change in changes) {
    expect_as_of(
      function(x, ...) do.call(series_change, c(list(x), change)), "day", 1:6
    )
  }
})

test_that("longer periods are those of what was known when they were over", {
  ends <- as.POSIXct(
    seq(as.Date("2024-01-01"), by = "month", length.out = 8), tz = "UTC"
  )
  for (rule in c("mean", "sum", "last", "median", "end")) {
    for (to in c("M", "W")) {
      expect_as_of(
        function(x, ...) series_aggregate(x, to, rule), "day", 1:6, ends
      )
    }
  }
})

test_that("parts of periods are those of what was known", {
  shares <- data.frame(
    series = "i",
    period = as.Date("2024-01-01") + 0:1100,
    value = 1 + sin(0:1100)^2,
    known = as.POSIXct("2020-01-01", tz = "UTC")
  )
  for (how in list(
    list("last"), list("last", known = "end"), list("linear"), list("even"),
    list("indicator", indicator = shares), list("spline")
  )) {
    expect_as_of(
      function(x, ...) do.call(series_disaggregate, c(list(x, "D"), how)),
      "month", 1:5
    )
  }
  expect_as_of(
    function(x, ...) series_disaggregate(x, "W", "linear"), "month", 1:5
  )
})

test_that("filled values are of what was known, and are replaced", {
  every <- calendar_make(list(calendar = "every day", zone = "UTC"))
  for (how in list(
    list("last"), list("next"), list("linear"),
    list(c("linear", "last"), at_most = 2), list("constant", constant = 0),
    list("monotone"), list("seasonal")
  )) {
    fill <- function(x, rows, ...) {
      do.call(
        series_fill,
        c(list(x, every), list(rule = how[[1]]), how[-1], list(...))
      )
    }
    expect_as_of(
      function(x, ...) fill(x),
      "day",
      1:6,
      alone = function(x, rows) {
        had <- rows$period[!is.na(rows$value)]
        fill(x, from = min(had), to = max(had))
      }
    )
  }
  rows <- drawn_releases(3, "day")
  full <- suppressMessages(series_fill(rows, every))
  back <- series_unfill(full)
  expect_equal(
    as.data.frame(back), as.data.frame(suppressMessages(series_frame(rows))),
    ignore_attr = TRUE
  )
  # the late value is the latest of its day, and not the end of the filled one
  days <- as.Date("2026-01-01") + c(0, 1, 3, 2, 1)
  late <- data.frame(
    series = "a",
    period = days,
    value = c(1, 2, 4, 3, 2.5),
    known = as.POSIXct(
      c(days[1:3] + 1, as.Date("2026-02-01") + 0:1), tz = "UTC"
    )
  )
  full <- suppressMessages(series_fill(late))
  third <- full[full$period == days[4], ]
  expect_identical(third$status, c("filled", "observed"))
  expect_identical(third$value, c(2, 3))
})

test_that("a release of one row computes little anew", {
  n <- 20000
  day <- as.Date("1950-01-01") + seq_len(n)
  rows <- data.frame(
    series = "a",
    period = day,
    value = sin(seq_len(n) / 50),
    known = as.POSIXct(day + 1, tz = "UTC")
  )
  again <- rows[40, ]
  again$value <- 9
  again$known <- again$known + 86400 * 400
  asked <- 0
  whole <- vetusta:::changed_points
  local_instead("changed_points", function(points, groups, how) {
    asked <<- asked + nrow(points)
    whole(points, groups, how)
  })
  changed <- series_change(rbind(rows, again), "mean", window = "30 days")
  expect_lt(asked, n + 200)
  expect_identical(nrow(changed), as.integer(n + 30))
})
