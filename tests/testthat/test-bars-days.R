# Bars of a day and longer are shown and written with their trading day.
day_bars <- function(times, zone = "Europe/Riga", calendar = NULL,
                     interval = "1 day") {
  bars <- bars_frame(
    data.frame(symbol = "AA", time = as.POSIXct(times, tz = "UTC"), close = 1)
  )
  attr(bars, "interval") <- time_interval(interval)
  attr(bars, "zone") <- zone
  attr(bars, "calendar") <- calendar
  bars
}

test_that("the trading day of sessions, and of the middle of a bar", {
  dated <- function(...) vetusta:::bars_dated(day_bars(...))$time
  quay <- source_calendar("quay")
  expect_identical(
    dated("2026-03-12 07:30", calendar = quay), as.Date("2026-03-12")
  )
  # a day from 17:00 to 17:00 has the date of its end, a day from midnight its
  # own date
  expect_identical(dated("2026-03-11 15:00"), as.Date("2026-03-12"))
  expect_identical(dated("2026-03-11 22:00"), as.Date("2026-03-12"))
  expect_identical(
    dated("2026-03-12 00:00", zone = "UTC"), as.Date("2026-03-12")
  )
  # on both sides of a clock change
  expect_identical(
    dated(c("2026-03-28 15:00", "2026-03-29 14:00")),
    as.Date(c("2026-03-29", "2026-03-30"))
  )
  hours <- day_bars("2026-03-12 07:30", interval = "1 hour")
  expect_identical(vetusta:::bars_dated(hours), hours)
})

test_that("exports and prints have days, and instants where asked for", {
  bars <- day_bars(
    c("2026-03-12 07:30", "2026-03-13 07:30"),
    calendar = source_calendar("quay")
  )
  file <- tempfile(fileext = ".csv")
  export_csv(bars, file)
  expect_match(readLines(file)[2], "2026-03-12,", fixed = TRUE)
  expect_false(grepl("07:30", readLines(file)[2]))
  export_csv(bars, file, instants = TRUE)
  expect_match(readLines(file)[2], "2026-03-12T07:30:00Z", fixed = TRUE)
  expect_identical(export_rows(list(bars))$time, as.Date("2026-03-12") + 0:1)
  expect_s3_class(export_rows(list(bars), instants = TRUE)$time, "POSIXct")
  expect_match(
    paste(capture.output(print(bars)), collapse = " "), "2026-03-12 "
  )
  # daily bars and daily values are in one row of a wide table
  level <- data.frame(
    series = "level",
    period = as.Date("2026-03-12") + 0:1,
    value = c(5, 6)
  )
  wide <- export_rows(list(bars, level), form = "wide")
  expect_identical(wide$level, c(5, 6))
  expect_identical(wide$AA, c(1, 1))
})

test_that("daily series of different hours are paired by their day", {
  close <- c(1, 2, 4, 3, 5, 4)
  bars <- day_bars(sprintf("2026-03-%02d 15:00", 9:14), calendar = NULL)
  bars$close <- close
  level <- data.frame(
    series = "level",
    period = as.Date("2026-03-10") + 0:5,
    value = close
  )
  found <- series_correlation(bars, level, change = "difference")
  expect_identical(found$pairs, 5L)
  expect_equal(found$correlation, 1)
})

test_that("bars by side become a row a time and symbol", {
  bars <- bars_frame(
    data.frame(
      symbol = rep(c("A", "B"), each = 2),
      side = rep(c("bid", "ask"), 2),
      time = as.POSIXct("2026-03-12 15:00", tz = "UTC"),
      close = 1:4
    )
  )
  attr(bars, "interval") <- time_interval("1 hour")
  done <- export_rows(list(bars), form = "sides")
  expect_identical(done$symbol, c("A", "B"))
  expect_identical(done$ask, c(2, 4))
  bare <- bars[bars$side == "bid", ]
  bare$side <- NA_character_
  expect_error_kind(
    export_rows(list(bare), form = "sides"), "argument", "needs bars with sides"
  )
})

test_that("an unfinished bar is provisional and requested again", {
  now <- as.numeric(Sys.time())
  hour <- floor(now / 3600) * 3600
  url <- start_scripted(eval(bquote(function(n, request) {
    json_answer(list(
      items = lapply(.(hour) - 3600 * (2:0), function(at) {
        list(t = at, e = at + 3600, c = 1)
      })
    ))
  })))
  card <- bars_card(
    url,
    c(
      "datasets:", "  bars:", "    shape: bars",
      "    request: /b/{symbol}{?from}",
      "    parameters: {from: {as: epoch-s}}", "    rows: /items",
      "    columns:", "      time: {at: /t, as: epoch-s}",
      "      ends: {at: /e, as: epoch-s}", "      close: /c"
    )
  )
  got <- collect_bars(
    card, "AA", "1 hour", from = utc(hour - 7200), to = utc(now)
  )
  expect_identical(got$bars$status, c("observed", "observed", "provisional"))
  expect_null(got$bars[["ends"]])
})

test_that("a span to date: year, quarter, month and week", {
  end <- as.POSIXct("2026-05-14 10:00", tz = "UTC")
  start <- function(span) {
    format(vetusta:::span_start(span, end, "Europe/Riga"), tz = "Europe/Riga")
  }
  expect_identical(start("year to date"), "2026-01-01")
  expect_identical(start("quarter to date"), "2026-04-01")
  expect_identical(start("Month to date"), "2026-05-01")
  expect_identical(start("week to date"), "2026-05-11")
  expect_identical(vetusta:::span_start("1 day", end, "UTC"), end - 86400)
  expect_error(
    vetusta:::span_start("decade to date", end, "UTC"),
    class = "vetusta_error_argument"
  )
})
