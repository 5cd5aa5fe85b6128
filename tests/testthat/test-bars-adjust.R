# Adjusted bars against a slow reference from the definition, and what was known
# when.

days_at <- function(days) as.POSIXct(as.Date("2025-01-06") + days, tz = "UTC")
random_days <- function(seed, n = 60) {
  set.seed(seed)
  at <- sort(sample(0:120, n))
  close <- round(exp(cumsum(rnorm(n, 0, 0.02))) * 50, 3)
  open <- round(close * exp(rnorm(n, 0, 0.01)), 3)
  bars_frame(
    data.frame(
      symbol = "KELD",
      time = days_at(at),
      open = open,
      high = pmax(open, close) + 0.1,
      low = pmin(open, close) - 0.1,
      close = close,
      volume = round(runif(n, 100, 900))
    )
  )
}
random_actions <- function(seed, n = 6) {
  set.seed(seed + 1000)
  kind <- sample(names(vetusta:::action_rules), n, TRUE)
  data.frame(
    symbol = sample(c("KELD", "TAMX"), n, TRUE, c(0.9, 0.1)),
    ex_day = as.Date("2025-01-06") + sample(-5:130, n),
    kind = kind,
    ratio = ifelse(
      kind == "cash-dividend", NA,
      ifelse(
        kind %in% c("spin-off", "stock-dividend"), runif(n, 0.05, 0.3),
        sample(c(2, 3, 0.1), n, TRUE)
      )
    ),
    amount = ifelse(kind == "cash-dividend", runif(n, 0.1, 1.5), NA)
  )
}

# One bar and one action at a time, in the order of ex-days.
slow_adjust <- function(bars, actions, of, method) {
  if (of == "splits") {
    actions <- actions[
      actions$kind %in% c("split", "consolidation", "stock-dividend"),
    ]
  }
  actions <- actions[order(actions$ex_day), ]
  close <- bars$close
  volume <- bars$volume
  days <- as.Date(bars$time)
  for (i in seq_len(nrow(bars))) {
    for (j in seq_len(nrow(actions))) {
      one <- actions[j, ]
      if (one$symbol != bars$symbol[i] || one$ex_day <= days[i]) next
      p0 <- utils::tail(bars$close[days < one$ex_day], 1)
      p1 <- utils::head(bars$close[days >= one$ex_day], 1)
      if (one$kind == "cash-dividend" && !length(p1)) next
      if (one$kind %in% c("split", "consolidation")) {
        close[i] <- close[i] / one$ratio
        volume[i] <- volume[i] * one$ratio
      } else if (one$kind == "stock-dividend") {
        close[i] <- close[i] / (1 + one$ratio)
        volume[i] <- volume[i] * (1 + one$ratio)
      } else if (one$kind == "spin-off") {
        close[i] <- close[i] * (1 - one$ratio)
      } else if (method == "difference") {
        close[i] <- close[i] - one$amount
      } else if (method == "total-return" && length(p1)) {
        close[i] <- close[i] * p1 / (p1 + one$amount)
      } else {
        close[i] <- close[i] * (1 - one$amount / p0)
      }
    }
  }
  list(close = close, volume = volume)
}

test_that("adjusted prices follow the definition for all kinds", {
  for (seed in 1:40) {
    bars <- random_days(seed)
    actions <- random_actions(seed)
    for (of in c("splits", "all")) {
      for (method in c("ratio", "difference", "total-return")) {
        done <- bars_adjust(bars, actions, of, method)
        slow <- slow_adjust(bars, actions, of, method)
        expect_equal(done$close, slow$close)
        expect_equal(done$volume, slow$volume)
        expect_equal(done$close, bars$close * done$factor + done$offset)
        # with prices as first traded the first price stays, and all prices
        # differ by one map
        first <- bars_adjust(bars, actions, of, method, anchor = "first")
        expect_equal(first$close[1], bars$close[1])
        fit <- stats::lm(done$close ~ first$close)
        expect_lt(max(abs(stats::residuals(fit))), 1e-6)
      }
    }
  }
})

test_that("total return reinvests cash, also for a window before an action", {
  bars <- bars_frame(
    data.frame(
      symbol = "YSLT",
      time = days_at(0:3),
      close = c(60, 61, 60.5, 62)
    )
  )
  cash <- data.frame(
    symbol = "YSLT", ex_day = as.Date("2025-01-08"), kind = "cash-dividend",
    amount = 0.8
  )
  done <- bars_adjust(bars, cash, of = "all", method = "total-return")
  expect_equal(done$close[3] / done$close[2], (60.5 + 0.8) / 61)
  # the price before its ex-day is unknown: there is no result
  expect_identical(bars_adjust(bars[1:2, ], cash, of = "all")$close, c(60, 61))
  split <- data.frame(
    symbol = "YSLT", ex_day = as.Date("2025-01-08"), kind = "split", ratio = 2
  )
  expect_identical(bars_adjust(bars[1:2, ], split)$close, c(30, 30.5))
  expect_identical(bars_adjust(bars, cash)$close, bars$close)
  expect_identical(nrow(attr(done, "applied")), 1L)
})

test_that("the applied actions are listed, in any order of input", {
  bars <- bars_frame(
    data.frame(
      symbol = rep(c("A", "B"), each = 4),
      time = rep(days_at(0:3), 2),
      close = 60
    )
  )
  # A's action is before all bars and changes nothing; C has no bars
  actions <- data.frame(
    symbol = c("A", "C", "A", "B"),
    ex_day = as.Date(c("2025-01-08", "2025-01-08", "2020-01-01", "2025-01-08")),
    kind = "split",
    ratio = c(2, 3, 5, 4)
  )
  expect_identical(attr(bars_adjust(bars, actions), "applied")$ratio, c(2, 4))
  again <- bars_adjust(bars, actions[c(3, 4, 2, 1), ])
  expect_identical(attr(again, "applied")$ratio, c(4, 2))
  expect_identical(again$factor, c(0.5, 0.5, 1, 1, 0.25, 0.25, 1, 1))
})

test_that("nothing is known before it was announced and took place", {
  for (seed in 1:15) {
    bars <- random_days(seed)
    actions <- random_actions(seed)
    actions$announced <- actions$ex_day - sample(0:30, nrow(actions), TRUE)
    for (day in c("2025-02-01", "2025-03-10")) {
      then <- bars[as.Date(bars$time) <= as.Date(day), ]
      known <- actions[
        actions$announced <= as.Date(day) & actions$ex_day <= as.Date(day),
      ]
      expect_identical(
        bars_adjust(then, actions, "all", as_of = day)$close,
        bars_adjust(then, known, "all")$close
      )
      # later actions may be anything
      changed <- actions
      late <- !(changed$announced <= as.Date(day) &
          changed$ex_day <= as.Date(day))
      changed <- changed[!late, ]
      expect_identical(
        bars_adjust(then, changed, "all", as_of = day)$close,
        bars_adjust(then, actions, "all", as_of = day)$close
      )
    }
    done <- bars_adjust(bars, actions, "all")
    moved <- done$factor != 1 | done$offset != 0
    if (any(moved)) expect_true(all(!is.na(done$through[moved])))
    # an adjusted value counts no earlier than the latest action in it
    latest <- max(c(-Inf, as.numeric(actions$ex_day)[actions$symbol == "KELD"]))
    if (any(moved)) {
      end <- as.numeric(done$time[moved]) / 86400 + 1
      expect_true(
        all(as.numeric(done$known[moved]) / 86400 <= pmax(end, latest))
      )
    }
  }
})

test_that("minute bars are adjusted by local day and symbol", {
  time <- as.POSIXct(c("2025-09-14 20:59", "2025-09-14 21:00"), tz = "UTC")
  bars <- bars_frame(
    data.frame(
      symbol = rep(c("KELD", "TAMX"), each = 2),
      time = rep(time, 2),
      close = c(80, 40, 20, 21)
    )
  )
  split <- data.frame(
    symbol = "KELD", ex_day = as.Date("2025-09-15"), kind = "split", ratio = 2
  )
  expect_identical(
    bars_adjust(bars, split, zone = "Europe/Riga")$close, c(40, 40, 20, 21)
  )
  expect_identical(
    bars_adjust(bars, split, zone = "UTC")$close, c(40, 20, 20, 21)
  )
})

test_that("actions that cannot be are refused, with the nearest right word", {
  bars <- random_days(1)
  one <- function(...) {
    utils::modifyList(
      list(
        symbol = "KELD", ex_day = as.Date("2025-02-03"), kind = "split",
        ratio = 2, amount = NA_real_
      ),
      list(...)
    )
  }
  try <- function(...) bars_adjust(bars, as.data.frame(one(...)), of = "all")
  expect_error_kind(try(ratio = 0), "shape", "ratio 0")
  expect_error_kind(try(kind = "splt"), "shape", "did you mean \"split\"")
  expect_error_kind(
    try(kind = "spin-off", ratio = 1.2), "shape", "between 0 and 1"
  )
  expect_error_kind(try(kind = "cash-dividend"), "shape", "amount")
  expect_error_kind(
    try(kind = "cash-dividend", amount = 900), "argument",
    "as large as the price"
  )
  expect_error_kind(try(ex_day = as.Date(NA)), "shape", "no ex-day")
  expect_error_kind(
    bars_adjust(bars, data.frame(symbol = "KELD")), "shape", "ex_day"
  )
  # an action of a symbol without bars, or on a day without bars, changes
  # nothing
  expect_identical(try(symbol = "XXXX")$close, bars$close)
})

test_that("an unexplained jump is found, an explained one is not", {
  bars <- random_days(3)
  at <- 30
  bars$close[at:60] <- bars$close[at:60] / 2
  bars$open[at:60] <- bars$open[at:60] / 2
  found <- bars_jumps(bars)
  expect_identical(as.numeric(found$time), as.numeric(bars$time[at]))
  expect_identical(found$ratio, 2)
  told <- data.frame(
    symbol = "KELD",
    ex_day = as.Date(bars$time[at]),
    kind = "split",
    ratio = 2
  )
  expect_identical(nrow(bars_jumps(bars, told)), 0L)
  expect_identical(nrow(bars_jumps(random_days(4))), 0L)
})
