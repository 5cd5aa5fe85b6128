test_that("words and ISO 8601 say the same length", {
  expect_identical(time_interval("5 min"), time_interval("PT5M"))
  expect_identical(time_interval("60 minutes")$iso, "PT1H")
  expect_identical(time_interval("7 days")$iso, "P1W")
  expect_identical(time_interval("quarter")$iso, "P3M")
  expect_identical(time_interval("1 month")$unit, "month")
  expect_identical(time_interval("1 minute")$unit, "minute")
  expect_identical(time_interval("2 h")$seconds, 7200)
  expect_identical(format(time_interval("PT90M")), "90 minutes")
})

test_that("what is no length of time is refused", {
  for (wrong in c(
    "1 minut", "", "PT", "-1 day", "0 days", "P1H", "five minutes"
  )) {
    expect_error_kind(time_interval(wrong), "argument")
  }
  expect_error_kind(time_interval(5), "argument")
})

test_that("months end where the shorter month ends", {
  month <- time_interval("1 month")
  expect_identical(
    vetusta:::shift_day(as.Date("2026-03-31"), month, -1), as.Date("2026-02-28")
  )
  expect_identical(
    vetusta:::shift_day(as.Date("2024-01-31"), month), as.Date("2024-02-29")
  )
  expect_identical(
    vetusta:::shift_day(as.Date("2024-02-29"), time_interval("1 year"), -1),
    as.Date("2023-02-28")
  )
})

at <- function(text) as.POSIXct(text, tz = "UTC")

test_that("local times follow the zone's clock through its changes", {
  day <- as.Date("2026-03-29")
  expect_equal(
    time_local(day, 2.5 * 3600, "Europe/Riga"), at("2026-03-29 00:30:00")
  )
  expect_equal(
    time_local(day, 3.5 * 3600, "Europe/Riga"), at("2026-03-29 01:30:00")
  )
  expect_equal(
    time_local(day, 3.5 * 3600, "Europe/Riga", skipped = "next"),
    at("2026-03-29 01:00:00")
  )
  expect_true(
    is.na(time_local(day, 3.5 * 3600, "Europe/Riga", skipped = "missing"))
  )
  expect_error_kind(
    time_local(day, 3.5 * 3600, "Europe/Riga", skipped = "error"), "argument",
    "jumped over"
  )
  autumn <- as.Date("2026-10-25")
  expect_equal(
    time_local(autumn, 3.5 * 3600, "Europe/Riga"), at("2026-10-25 00:30:00")
  )
  expect_equal(
    time_local(autumn, 3.5 * 3600, "Europe/Riga", twice = "second"),
    at("2026-10-25 01:30:00")
  )
  expect_equal(
    time_local(
      as.Date("2026-04-05"), 2.5 * 3600, "Australia/Sydney", twice = "second"
    ),
    at("2026-04-04 16:30:00")
  )
  expect_equal(
    time_local(as.Date("2026-06-01"), 0, "Asia/Kolkata"),
    at("2026-05-31 18:30:00")
  )
})

test_that("local times agree with the clock of every zone", {
  days <- as.Date("2026-01-01") + 0:364
  for (zone in c(
    "Europe/Riga", "Australia/Lord_Howe", "America/St_Johns", "Pacific/Chatham"
  )) {
    instant <- time_local(days, 12 * 3600, zone)
    expect_identical(
      format(instant, "%Y-%m-%d %H:%M", tz = zone), paste(days, "12:00")
    )
  }
})

test_that("instants are read with their offsets, days as local midnights", {
  expect_equal(
    time_instant("2026-03-12T09:30:00+02:00"), at("2026-03-12 07:30:00")
  )
  expect_equal(
    time_instant("2026-03-12T09:30", "Europe/Riga"), at("2026-03-12 07:30:00")
  )
  expect_equal(
    time_instant("2026-03-12", "Europe/Riga"), at("2026-03-11 22:00:00")
  )
  expect_equal(
    time_instant("2026-03-12", "Europe/Riga", end = TRUE),
    at("2026-03-12 22:00:00")
  )
  for (wrong in c(
    "2026-02-30", "yesterday", "2026-03-12T25:00:00Z", "12.03.2026"
  )) {
    expect_error_kind(
      time_instant(wrong), "argument", "neither a day nor an instant"
    )
  }
  expect_error_kind(
    time_instant("2026-03-12", "Europe/Rige"), "argument", "Europe/Riga"
  )
})

test_that("local times at clock changes and changed rules", {
  at <- function(day, clock, zone, ...) {
    format(time_local(as.Date(day), clock * 3600, zone, ...), "%Y-%m-%dT%H:%M")
  }
  # Riga, spring and autumn; Sydney, the other way round
  expect_identical(at("2026-03-29", 3.5, "Europe/Riga"), "2026-03-29T01:30")
  expect_identical(
    at("2026-10-25", 3.5, "Europe/Riga", twice = "first"), "2026-10-25T00:30"
  )
  expect_identical(
    at("2026-10-25", 3.5, "Europe/Riga", twice = "second"), "2026-10-25T01:30"
  )
  expect_identical(
    at("2026-10-04", 2.5, "Australia/Sydney", skipped = "next"),
    "2026-10-03T16:00"
  )
  expect_identical(
    at("2026-04-05", 2.5, "Australia/Sydney", twice = "second"),
    "2026-04-04T16:30"
  )
  # a change of half an hour, and offsets that are no whole hours
  expect_identical(
    at("2026-10-04", 2.25, "Australia/Lord_Howe"), "2026-10-03T15:45"
  )
  expect_identical(at("2026-01-01", 0, "Asia/Kathmandu"), "2025-12-31T18:15")
  # Brazil gave summer time up, Samoa left a day out
  expect_identical(
    c(
      at("2018-12-01", 0, "America/Sao_Paulo"),
      at("2020-12-01", 0, "America/Sao_Paulo")
    ),
    c("2018-12-01T02:00", "2020-12-01T03:00")
  )
  expect_identical(at("2011-12-31", 0, "Pacific/Apia"), "2011-12-30T10:00")
  expect_error_kind(
    time_local(
      as.Date("2026-03-29"), 3.5 * 3600, "Europe/Riga", skipped = "error"
    ),
    "argument", "jumped over"
  )
})

test_that("every zone gives back the clock that it was asked for", {
  zones <- setdiff(OlsonNames(), "Factory")
  days <- as.Date(c("1900-06-01", "1975-01-15", "2026-07-01", "2099-12-31"))
  for (zone in zones) {
    back <- format(
      time_local(days, 12 * 3600, zone), "%Y-%m-%d %H:%M", tz = zone
    )
    expect_identical(back, paste(days, "12:00"), label = zone)
  }
})

test_that("periods of every frequency are read and written", {
  read <- time_periods(
    c(
      "2026", "2026-A1", "2026-S2", "2026-T3", "2026-Q1", "2026Q4", "2026-03",
      "2026-M03", "2026-W01", "2026-W53", "2026-D071", "2026-03-12",
      "2026-03-01/P1M", "2026-03-12T09:30:00"
    )
  )
  expect_identical(
    read$frequency,
    c("A", "A", "S", "T", "Q", "Q", "M", "M", "W", "W", "D", "D", "M", "I")
  )
  expect_identical(
    format(read$first[9:11]), c("2025-12-29", "2026-12-28", "2026-03-12")
  )
  expect_identical(read$days[c(1, 3, 5, 7)], c(365L, 184L, 90L, 31L))
  bad <- time_periods(
    c("2026-13", "2025-W53", "2026-D366", "2026-02-30", "2026-Q5", "soon", NA)
  )
  expect_true(all(is.na(bad$first)))
  spelt <- c(
    "2026", "2026-S2", "2026-T3", "2026-Q4", "2026-M03", "2026-W53",
    "2026-03-12"
  )
  again <- time_periods(spelt)
  expect_identical(time_spelling(again$first, again$frequency), spelt)
  expect_identical(time_spelling(as.Date("2026-03-01"), "M", "iso"), "2026-03")
  expect_identical(
    format(time_periods("2026-Q1", year_start = "--07-01")$first), "2026-07-01"
  )
  # every week of forty years reads back as written
  weeks <- seq(as.Date("2000-01-03"), by = 7, length.out = 2080)
  expect_identical(time_periods(time_spelling(weeks, "W"))$first, weeks)
})

test_that("what is no time is not taken for one", {
  read <- function(x) {
    tryCatch(time_instant(x), vetusta_error_argument = function(e) NA)
  }
  for (text in c(
    "2026-03-12T24:30:00Z", "2026-03-12T24:00:01", "2026-03-12T10:00:00+99:99",
    "2026-03-12T10:00:00+24:00", "2026-03-12T10:00:00-00:60"
  )) {
    expect_true(is.na(read(text)), label = text)
  }
  expect_identical(
    time_instant("2026-03-12T24:00:00Z"), as.POSIXct("2026-03-13", tz = "UTC")
  )
  expect_true(
    all(
      is.na(
        time_periods(c("20263", "2026-13", "202613", "2026M", "2026-Q5"))$first
      )
    )
  )
  expect_identical(
    time_periods(c("202603", "2026M3", "2026-3"))$first,
    rep(as.Date("2026-03-01"), 3)
  )
})

test_that("lengths in any case; m is ambiguous", {
  for (text in c("5 MIN", "5 min", "PT5M", "pt5m", "5 Minutes")) {
    expect_identical(time_interval(text)$iso, "PT5M", label = text)
  }
  for (text in c("1 Day", "p1d", "daily", "Daily", "24 hours")) {
    expect_identical(time_interval(text)$iso, "P1D", label = text)
  }
  expect_identical(time_interval("quarterly")$iso, "P3M")
  expect_error_kind(time_interval("1m"), "argument", "1m")
  expect_match(tryCatch(time_interval("1m"), error = function(e) e$todo), "min")
})

test_that("reporting years, and days with a zone", {
  read <- time_periods(
    c("2023-Q1", "2023-Q1", "2023"), c("--07-01", "--01-01", "--04-01")
  )
  expect_identical(
    read$first, as.Date(c("2023-07-01", "2023-01-01", "2023-01-01"))
  )
  read <- time_periods(
    c(
      "2024-03-01T00:00:00+02:00", "2024-03-03Z", "2023Z", "2023-05+01:00",
      "2023-05:00"
    )
  )
  expect_identical(
    read$first,
    as.Date(
      c("2024-03-01", "2024-03-03", "2023-01-01", "2023-05-01", "2023-01-01")
    )
  )
})
