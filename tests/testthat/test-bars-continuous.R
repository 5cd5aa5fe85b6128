# One series from contracts, against a slow reference from the definition.

contract_bars <- function(seed, count = 5) {
  set.seed(seed)
  ends <- as.Date("2025-02-10") + cumsum(sample(25:35, count, TRUE))
  contracts <- data.frame(
    symbol = sprintf("GRN-%02d", seq_len(count)),
    underlying = "GRAIN",
    first_day = ends - 80,
    last_day = ends
  )
  days <- seq(as.Date("2025-01-06"), max(ends) + 3, by = 1)
  days <- days[!as.POSIXlt(days)$wday %in% c(0, 6)]
  spot <- 200 * exp(cumsum(rnorm(length(days), 0, 0.01)))
  bars <- do.call(
    rbind,
    lapply(seq_len(count), function(i) {
      here <- days >= contracts$first_day[i] &
          days <= ends[i] &
          runif(length(days)) > 0.1
      left <- as.numeric(ends[i] - days[here])
      data.frame(
        symbol = contracts$symbol[i],
        time = as.POSIXct(days[here], tz = "UTC"),
        close = round(spot[here] * (1 + left / 900), 2),
        volume = round(
          runif(sum(here), 0.5, 1.5) * 1000 * exp(-((left - 25) / 18)^2)
        )
      )
    })
  )
  list(bars = bars_frame(bars), contracts = contracts)
}

# The contract of a day, one day at a time, looking only at days before it.
slow_which <- function(bars, contracts, day, roll, days, nth, now) {
  trading <- function(last) {
    d <- seq(last - 60, last, by = 1)
    rev(d[!as.POSIXlt(d)$wday %in% c(0, 6)])
  }
  contracts <- contracts[order(contracts$last_day), ]
  if (roll == "volume") {
    before <- sort(unique(as.Date(bars$time)))
    before <- before[before < day]
    while (now < nrow(contracts) && contracts$last_day[now] < day) {
      now <- now + 1
    }
    if (length(before) && now < nrow(contracts)) {
      volume <- vapply(
        contracts$symbol,
        function(s) {
          sum(bars$volume[bars$symbol == s & as.Date(bars$time) == max(before)])
        },
        0
      )
      behind <- (now + 1):nrow(contracts)
      best <- behind[which.max(volume[behind])]
      if (volume[best] > volume[now] && contracts$last_day[best] >= day) {
        now <- best
      }
    }
    return(now)
  }
  counts <- vapply(
    seq_len(nrow(contracts)),
    function(i) {
      last <- contracts$last_day[i]
      day <=
        if (roll == "expiry") {
          c(last, trading(last)[-1])[1 + days]
        } else {
          min(last, as.Date(format(last, "%Y-%m-01")) + days - 2)
        }
    },
    TRUE
  )
  which(counts)[nth]
}

test_that("each day has the contract of the rule, from earlier data", {
  for (seed in 1:12) {
    made <- contract_bars(seed)
    for (rule in list(
      list("expiry", 0, 1), list("expiry", 3, 1), list("expiry", 0, 2),
      list("day", 5, 1), list("volume", 0, 1)
    )) {
      done <- bars_continuous(
        made$bars, made$contracts, roll = rule[[1]], roll_days = rule[[2]],
        nth = rule[[3]]
      )
      now <- 1
      expected <- character()
      for (day in as.list(sort(unique(as.Date(made$bars$time))))) {
        now <- slow_which(
          made$bars, made$contracts, day, rule[[1]], rule[[2]], rule[[3]], now
        )
        symbol <- made$contracts$symbol[now]
        if (!is.na(symbol) &&
          any(made$bars$symbol == symbol & as.Date(made$bars$time) == day)) {
          expected <- c(expected, stats::setNames(symbol, format(day)))
        }
        if (rule[[1]] != "volume") now <- 1
      }
      expect_identical(
        stats::setNames(done$contract, format(as.Date(done$time))), expected
      )
      expect_identical(done$symbol, rep("GRAIN", nrow(done)))
    }
  }
})

test_that("rolls are adjusted by earlier closes, to either end", {
  for (seed in 1:8) {
    made <- contract_bars(seed)
    raw <- bars_continuous(made$bars, made$contracts, roll = "volume")
    rolls <- attr(raw, "rolls")
    expect_true(all(rolls$measured < rolls$day))
    for (adjust in c("difference", "ratio")) {
      for (anchor in c("last", "first")) {
        done <- bars_continuous(
          made$bars, made$contracts, roll = "volume", adjust = adjust,
          anchor = anchor
        )
        expect_identical(done$contract, raw$contract)
        stays <- done$contract ==
            (if (anchor == "last") rolls$to[nrow(rolls)] else rolls$from[1])
        expect_identical(done$close[stays], raw$close[stays])
        # from the day of measurement on, the change at each roll is that of the
        # new contract
        for (i in seq_len(nrow(rolls))) {
          now <- which(as.Date(done$time) == rolls$day[i])
          if (!length(now) || is.na(rolls$measured[i])) next
          old <- which(
            as.Date(done$time) == rolls$measured[i] &
              done$contract == rolls$from[i]
          )
          new <- made$bars$close[made$bars$symbol == rolls$to[i]]
          at <- as.Date(made$bars$time[made$bars$symbol == rolls$to[i]])
          if (!length(old)) next
          query <- if (adjust == "ratio") {
            new[at == rolls$day[i]] / new[at == rolls$measured[i]]
          } else {
            new[at == rolls$day[i]] - new[at == rolls$measured[i]]
          }
          got <- if (adjust == "ratio") {
            done$close[now] / done$close[old]
          } else {
            done$close[now] - done$close[old]
          }
          expect_equal(got, query)
        }
      }
    }
  }
})

test_that("later data do not change earlier continuous prices", {
  made <- contract_bars(5)
  for (day in as.Date(c("2025-03-03", "2025-04-14"))) {
    day <- as.Date(day, origin = "1970-01-01")
    then <- as.Date(made$bars$time) <= day
    changed <- made$bars
    changed$close[!then] <- changed$close[!then] * runif(sum(!then), 0.5, 2)
    changed$volume[!then] <- rev(changed$volume[!then])
    for (adjust in c("none", "ratio")) {
      a <- bars_continuous(
        made$bars, made$contracts, roll = "volume", adjust = adjust,
        anchor = "first"
      )
      b <- bars_continuous(
        changed, made$contracts, roll = "volume", adjust = adjust,
        anchor = "first"
      )
      c <- bars_continuous(
        made$bars[then, ], made$contracts, roll = "volume", adjust = adjust,
        anchor = "first"
      )
      early <- as.Date(a$time) <= day
      expect_identical(a$close[early], b$close[as.Date(b$time) <= day])
      expect_identical(a$close[early], c$close)
    }
  }
})

test_that("what cannot roll is refused in words", {
  made <- contract_bars(1)
  bare <- made$bars
  bare$volume <- NA_real_
  expect_error_kind(
    bars_continuous(bare, made$contracts, roll = "volume"), "argument",
    "no volume"
  )
  expect_error_kind(
    bars_continuous(bare, made$contracts, roll = "open-interest"), "argument",
    "open_interest"
  )
  expect_error_kind(
    bars_continuous(bare, made$contracts["symbol"]), "shape", "last_day"
  )
  other <- made$contracts
  other$symbol <- paste0("X", other$symbol)
  expect_error_kind(
    bars_continuous(bare, other), "argument", "None of the bars"
  )
  below <- made$bars
  below$close <- -below$close
  expect_error_kind(
    bars_continuous(below, made$contracts, adjust = "ratio"), "argument",
    "no ratio"
  )
  expect_s3_class(
    bars_continuous(below, made$contracts, adjust = "difference"),
    "vetusta_bars"
  )
})
