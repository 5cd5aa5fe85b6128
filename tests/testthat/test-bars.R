quay <- source_calendar("quay")

# The slow and obvious way: one bucket at a time.
resample_slowly <- function(bars, label) {
  do.call(
    rbind,
    lapply(
      split(seq_len(nrow(bars)), list(label, bars$symbol), drop = TRUE),
      function(rows) {
        b <- bars[rows[order(bars$time[rows])], ]
        data.frame(
          symbol = b$symbol[1], time = b$time[1], open = b$open[1],
          high = max(b$high), low = min(b$low), close = b$close[nrow(b)],
          volume = sum(b$volume), count = nrow(b)
        )
      }
    )
  )
}

test_that("days have first, largest, smallest, last and sum", {
  set.seed(1)
  bars <- rbind(
    minute_bars("KELD", "2026-03-12", without = sample(1:388, 40)),
    minute_bars("TAMX", "2026-03-13"), minute_bars("KELD", "2026-03-13")
  )
  bars$close <- bars$close + rnorm(nrow(bars), sd = 0.01)
  shuffled <- bars[sample(nrow(bars)), ]
  days <- bars_resample(shuffled, "1 day", quay, base = "1 minute")
  slow <- resample_slowly(bars, as.Date(bars$time))
  slow <- slow[order(slow$symbol, slow$time), ]
  for (name in c("symbol", "open", "high", "low", "close", "volume", "bars")) {
    expect_equal(days[[name]], slow[[name]])
  }
  expect_identical(days$expected, rep(390L, 3))
  expect_equal(
    days$vwap[1],
    weighted.mean(
      bars$close[bars$symbol == "KELD" & as.Date(bars$time) == "2026-03-12"],
      bars$volume[bars$symbol == "KELD" & as.Date(bars$time) == "2026-03-12"]
    )
  )
})

test_that("hours begin at the opening, and the last one is short", {
  hours <- bars_resample(minute_bars(), "1 hour", quay)
  expect_identical(
    format(hours$time, "%H:%M"),
    c("07:30", "08:30", "09:30", "10:30", "11:30", "12:30", "13:30")
  )
  expect_identical(hours$count, c(rep(60L, 6), 30L))
  expect_identical(hours$expected, hours$count)
  expect_identical(unique(hours$status), "observed")
})

test_that("bars outside the sessions are counted, not mixed in", {
  bars <- minute_bars()
  early <- bars[1:10, ]
  early$time <- early$time - 3600
  days <- bars_resample(rbind(bars, early), "1 day", quay)
  expect_identical(days$count, 390L)
  expect_identical(attr(days, "outside"), 10)
  expect_identical(
    bars_resample(rbind(bars, early), "1 day", quay, session = NULL)$count, 400L
  )
})

test_that("a bucket that has not ended is provisional", {
  expect_identical(
    bars_resample(minute_bars(without = 200:389), "1 day", quay)$status,
    "provisional"
  )
  weeks <- bars_resample(minute_bars(), "1 week", quay, base = "1 minute")
  expect_identical(weeks$status, "provisional")
  expect_identical(weeks$expected, 5L * 390L)
})

test_that("without a calendar the days are those of the zone", {
  days <- bars_resample(minute_bars(), "1 day", zone = "Asia/Kolkata")
  expect_identical(format(days$time, "%H:%M", tz = "Asia/Kolkata"), "00:00")
})

test_that("no rows, one row and an impossible interval are defined", {
  expect_identical(nrow(bars_resample(minute_bars()[0, ], "1 day", quay)), 0L)
  one <- bars_resample(minute_bars()[5, ], "1 day", quay)
  expect_identical(c(one$count, one$expected), c(1L, NA))
  expect_error_kind(
    bars_resample(minute_bars(), "30 seconds", quay), "argument",
    "cannot be resampled"
  )
  expect_error_kind(
    bars_resample(
      bars_resample(minute_bars(), "2 minutes", quay), "5 minutes", quay
    ),
    "argument", "a multiple of"
  )
})

test_that("each fault of a bar is named", {
  base <- data.frame(
    symbol = "KELD",
    time = as.POSIXct("2026-03-12 07:30", tz = "UTC"),
    open = 2,
    high = 3,
    low = 1,
    close = 2,
    volume = 5
  )
  fault_of <- function(...) {
    bars_check(bars_frame(utils::modifyList(base, list(...))))$reason
  }
  expect_identical(fault_of(), character())
  expect_identical(fault_of(high = 0.5), "high below low")
  expect_identical(fault_of(close = 9), "open or close outside high and low")
  expect_identical(fault_of(volume = -1), "negative volume")
  expect_identical(fault_of(high = Inf), "not finite")
  expect_identical(fault_of(close = NA_real_), "no close")
  expect_identical(fault_of(open = NA_real_), character())
})

test_that("the shape's columns are checked where bars enter", {
  expect_error_kind(
    bars_frame(data.frame(symbol = "A", close = 1)), "shape", "`time`"
  )
  expect_error_kind(
    bars_frame(data.frame(symbol = "A", time = "2026-03-12", close = 1)),
    "shape", "instants"
  )
  expect_error_kind(
    bars_frame(data.frame(symbol = "A", time = Sys.time(), close = "1")),
    "shape", "numbers"
  )
  expect_error_kind(
    bars_frame(
      data.frame(symbol = "A", time = Sys.time(), close = 1, status = "guessed")
    ),
    "shape", "status"
  )
  kept <- bars_frame(
    data.frame(symbol = "A", time = Sys.time(), close = 1, deals = 7)
  )
  expect_identical(
    names(kept),
    c(
      "symbol", "time", "open", "high", "low", "close", "volume", "session",
      "side", "status", "deals"
    )
  )
})

test_that("resampling equals a reference, however the input is split", {
  calendar <- source_calendar("quay")
  for (seed in 1:3) {
    bars <- withr::with_seed(seed, {
      all <- rbind(
        minute_bars("KELD", "2026-03-12", sample(0:389, 120)),
        minute_bars("TAMX", "2026-03-13", sample(0:389, 60)),
        minute_bars("KELD", "2026-03-13", sample(0:389, 200))
      )
      all$close <- all$close + round(stats::rnorm(nrow(all), sd = 0.02), 3)
      all[sample(nrow(all)), ]
    })
    sessions <- calendar_sessions(
      calendar, "2026-03-12", "2026-03-13", "regular"
    )
    days <- bars_resample(bars, "1 day", calendar)
    slow <- slow_resample(as.data.frame(bars), sessions)
    expect_equal(as.data.frame(days[names(slow)]), slow, ignore_attr = TRUE)
    hours <- do.call(
      rbind,
      lapply(seq_len(nrow(sessions)), function(i) {
        open <- seq(sessions$open[i], sessions$close[i] - 1, by = 3600)
        data.frame(open = open, close = pmin(open + 3600, sessions$close[i]))
      })
    )
    expect_equal(
      as.data.frame(bars_resample(bars, "1 hour", calendar)[names(slow)]),
      slow_resample(as.data.frame(bars), hours), ignore_attr = TRUE
    )
    # through hours, quarter hours, or directly
    for (way in c("1 hour", "15 minutes", "30 minutes")) {
      same <- c(
        "symbol", "time", "open", "high", "low", "close", "volume", "vwap"
      )
      expect_equal(
        bars_resample(
          bars_resample(bars, way, calendar, base = "1 minute"), "1 day",
          calendar, base = way
        )[same],
        days[same], tolerance = 1e-12
      )
    }
    expect_equal(
      as.data.frame(days$vwap),
      data.frame(vapply(
        seq_len(nrow(days)),
        function(i) {
          rows <- bars[
            bars$symbol == days$symbol[i] &
              as.Date(bars$time) == as.Date(days$time[i]),

          ]
          sum(rows$close * rows$volume) / sum(rows$volume)
        },
        1
      )),
      ignore_attr = TRUE
    )
  }
})

test_that("buckets by clock, start of day or week, and session", {
  calendar <- source_calendar("quay")
  bars <- minute_bars()
  clock <- bars_resample(bars, "1 hour", calendar, anchor = "clock")
  expect_identical(
    format(clock$time, "%H:%M", tz = "Europe/Riga"), sprintf("%02d:00", 9:15)
  )
  expect_identical(clock$expected, c(30L, rep(60L, 6)))
  expect_identical(unique(clock$status), "observed")
  ends <- bars_resample(bars, "1 hour", calendar, stamp = "end")
  expect_identical(
    format(ends$time[c(1, 7)], "%H:%M", tz = "Europe/Riga"), c("10:30", "16:00")
  )
  expect_identical(bars_resample(bars, "session", calendar)$session, "regular")
  late <- bars_resample(
    bars, "1 day", zone = "Europe/Riga", day_start = "17:00"
  )
  expect_identical(
    format(late$time, "%d %H:%M", tz = "Europe/Riga"), "11 17:00"
  )
  days <- bars_frame(
    data.frame(
      symbol = "A",
      time = as.POSIXct("2026-03-01", tz = "UTC") + 86400 * 0:13,
      close = 1:14
    )
  )
  expect_identical(
    bars_resample(days, "1 week", week_start = "sunday")$close, c(7, 14)
  )
  expect_identical(bars_resample(days, "1 week")$close[1:2], c(1, 8))
  expect_error_kind(
    bars_resample(bars, "1 hour", anchor = "klock"), "argument", "clock"
  )
  expect_error_kind(
    bars_resample(bars, "1 day", calendar, day_start = "17:00"), "argument",
    "day_start"
  )
})

test_that("a day is provisional until it ends, even with missing bars", {
  bars <- minute_bars(without = c(100, 200))
  calendar <- source_calendar("quay")
  day <- bars_resample(bars, "1 day", calendar)
  expect_identical(
    c(day$status, day$count, day$expected), c("observed", "388", "390")
  )
  expect_identical(
    bars_resample(bars[1:300, ], "1 day", calendar)$status, "provisional"
  )
  # complete days have to be requested
  expect_identical(
    bars_resample(bars, "1 day", calendar, need = 1)$status, "provisional"
  )
  # the same share is missing in each form
  minutes <- series_about(bars, interval = "1 minute", calendar = calendar)
  expect_identical(
    summary(minutes)$coverage, attr(series_gaps(minutes), "summary")$coverage
  )
  expect_equal(summary(minutes)$coverage, 388 / 390)
})

test_that("hours on the clock stay whole on the day the clock changes", {
  time <- seq(
    as.POSIXct("2026-10-24 21:00", tz = "UTC"), by = 1800, length.out = 50
  )
  bars <- bars_frame(
    data.frame(symbol = "R", time = time, close = 1, volume = 1)
  )
  four <- bars_resample(bars, "4 hours", zone = "Europe/Riga", anchor = "clock")
  expect_true(all(as.POSIXlt(four$time, tz = "Europe/Riga")$hour %% 4 == 0))
  expect_identical(sum(four$count), 50L)
})

test_that("clock hours on days of a clock change, in every zone", {
  # from the definition: an edge is a clock time of a whole number of steps; a
  # bar belongs to the latest edge before it
  minutes <- function(from, to, symbol = "KELD") {
    at <- seq(
      as.POSIXct(from, tz = "UTC"), as.POSIXct(to, tz = "UTC"), by = 600
    )
    bars_frame(
      data.frame(
        symbol = symbol, time = at, open = 1, high = 1, low = 1, close = 1,
        volume = 1
      )
    )
  }
  for (zone in c(
    "Europe/Riga", "Europe/London", "Atlantic/Azores", "Australia/Lord_Howe",
    "Asia/Kolkata", "America/New_York"
  )) {
    for (window in list(
      c("2026-03-28 12:00", "2026-03-30 12:00"),
      c("2026-10-24 12:00", "2026-10-26 12:00"), c("2026-04-04", "2026-04-06"),
      c("2026-03-07 12:00", "2026-03-09 12:00")
    )) {
      bars <- minutes(window[1], window[2])
      for (step in c(
        "30 minutes", "1 hour", "90 minutes", "210 minutes", "6 hours"
      )) {
        out <- bars_resample(bars, step, zone = zone, anchor = "clock")
        label <- paste(zone, window[1], step)
        expect_false(is.unsorted(out$time, strictly = TRUE), label = label)
        expect_identical(sum(out$count), nrow(bars), label = label)
        local <- as.POSIXlt(out$time, tz = zone)
        seconds <- time_interval(step)$seconds
        on_edge <- (local$hour * 3600 + local$min * 60) %% seconds == 0
        # an edge within a skipped hour falls on the first instant after it
        before <- as.POSIXlt(out$time - 1, tz = zone)
        jumped <- before$gmtoff < local$gmtoff
        expect_true(all(on_edge | jumped), label = label)
      }
    }
  }
})

test_that("days of a month by the calendar, across a clock change", {
  days <- function(zone, month) {
    first <- as.Date(paste0("2026-", month, "-01"))
    all <- seq(first, by = 1, length.out = 31)
    bars_frame(
      data.frame(
        symbol = "KELD",
        time = time_local(all, 0, zone),
        open = 1,
        high = 1,
        low = 1,
        close = 1
      )
    )
  }
  expect_identical(
    bars_resample(
      days("Europe/Riga", "10"), "1 month", zone = "Europe/Riga"
    )$expected[1],
    31L
  )
  expect_identical(
    bars_resample(
      days("America/New_York", "03"), "1 month", zone = "America/New_York"
    )$expected[1],
    31L
  )
})

test_that("daily bars belong to their trading day, whatever their instant", {
  quay <- source_calendar("quay")
  days <- unique(calendar_sessions(quay, "2026-03-02", "2026-03-27")$day)
  stamps <- list(
    close = time_local(days, 16 * 3600, "Europe/Riga"),
    midnight = as.POSIXct(days, tz = "UTC"),
    local = time_local(days, 0, "Europe/Riga"),
    late = time_local(days, 18 * 3600, "Europe/Riga")
  )
  for (name in names(stamps)) {
    bars <- bars_frame(
      data.frame(
        symbol = "KELD", time = stamps[[name]], open = 1, high = 1, low = 1,
        close = seq_along(days)
      )
    )
    expect_identical(
      attr(series_gaps(bars, quay), "summary")$coverage, 1, label = name
    )
    weeks <- bars_resample(bars, "1 week", quay)
    expect_identical(weeks$count, c(5L, 5L, 4L, 5L), label = name)
    expect_identical(weeks$expected, c(5L, 5L, 4L, 5L), label = name)
    one_less <- series_gaps(bars[-7, ], quay)
    expect_identical(one_less$missing, 1L, label = name)
    expect_identical(
      nrow(series_fill(bars[-7, ], quay)), nrow(bars), label = name
    )
  }
})

test_that("what lies outside all sessions is said", {
  quay <- source_calendar("quay")
  night <- rbind(
    minute_bars(),
    transform(
      minute_bars()[1:3, ],
      time = as.POSIXct("2026-03-12 20:00", tz = "UTC") + 60 * 0:2
    )
  )
  expect_message(
    bars_resample(night, "1 hour", quay),
    "3 rows of 393 lie outside all sessions", class = "vetusta_note"
  )
  expect_message(series_gaps(night, quay), "outside", class = "vetusta_note")
  expect_no_message(bars_resample(minute_bars(), "1 hour", quay))
})

test_that("one close that is missing takes no mean away", {
  bars <- bars_frame(
    data.frame(
      symbol = "KELD",
      time = as.POSIXct("2026-03-12 07:30", tz = "UTC") + 60 * 0:2,
      open = 1,
      high = 3,
      low = 1,
      close = c(1, NA, 3),
      volume = c(10, 50, 30)
    )
  )
  expect_equal(bars_resample(bars, "1 hour")$vwap, (1 * 10 + 3 * 30) / 40)
})
