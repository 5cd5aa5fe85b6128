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
  for (wrong in c("1 minut", "", "PT", "-1 day", "0 days", "P1H", "five minutes")) expect_error_kind(time_interval(wrong), "want")
  expect_error_kind(time_interval(5), "want")
})

test_that("months end where the shorter month ends", {
  month <- time_interval("1 month")
  expect_identical(vetusta:::shift_day(as.Date("2026-03-31"), month, -1), as.Date("2026-02-28"))
  expect_identical(vetusta:::shift_day(as.Date("2024-01-31"), month), as.Date("2024-02-29"))
  expect_identical(vetusta:::shift_day(as.Date("2024-02-29"), time_interval("1 year"), -1), as.Date("2023-02-28"))
})

at <- function(text) as.POSIXct(text, tz = "UTC")

test_that("local times follow the zone's clock through its changes", {
  day <- as.Date("2026-03-29")
  expect_equal(time_local(day, 2.5 * 3600, "Europe/Riga"), at("2026-03-29 00:30:00"))
  expect_equal(time_local(day, 3.5 * 3600, "Europe/Riga"), at("2026-03-29 01:30:00"))
  expect_equal(time_local(day, 3.5 * 3600, "Europe/Riga", skipped = "next"), at("2026-03-29 01:00:00"))
  expect_true(is.na(time_local(day, 3.5 * 3600, "Europe/Riga", skipped = "missing")))
  expect_error_kind(time_local(day, 3.5 * 3600, "Europe/Riga", skipped = "error"), "want", "jumped over")
  autumn <- as.Date("2026-10-25")
  expect_equal(time_local(autumn, 3.5 * 3600, "Europe/Riga"), at("2026-10-25 00:30:00"))
  expect_equal(time_local(autumn, 3.5 * 3600, "Europe/Riga", twice = "second"), at("2026-10-25 01:30:00"))
  expect_equal(time_local(as.Date("2026-04-05"), 2.5 * 3600, "Australia/Sydney", twice = "second"), at("2026-04-04 16:30:00"))
  expect_equal(time_local(as.Date("2026-06-01"), 0, "Asia/Kolkata"), at("2026-05-31 18:30:00"))
})

test_that("a local time agrees with the clock of every zone tried, day by day", {
  days <- as.Date("2026-01-01") + 0:364
  for (zone in c("Europe/Riga", "Australia/Lord_Howe", "America/St_Johns", "Pacific/Chatham")) {
    instant <- time_local(days, 12 * 3600, zone)
    expect_identical(format(instant, "%Y-%m-%d %H:%M", tz = zone), paste(days, "12:00"))
  }
})

test_that("instants are read with their offsets, days as local midnights", {
  expect_equal(time_instant("2026-03-12T09:30:00+02:00"), at("2026-03-12 07:30:00"))
  expect_equal(time_instant("2026-03-12T09:30", "Europe/Riga"), at("2026-03-12 07:30:00"))
  expect_equal(time_instant("2026-03-12", "Europe/Riga"), at("2026-03-11 22:00:00"))
  expect_equal(time_instant("2026-03-12", "Europe/Riga", end = TRUE), at("2026-03-12 22:00:00"))
  for (wrong in c("2026-02-30", "yesterday", "2026-03-12T25:00:00Z", "12.03.2026")) expect_error_kind(time_instant(wrong), "want", "no day and no instant")
  expect_error_kind(time_instant("2026-03-12", "Europe/Rige"), "want", "Europe/Riga")
})
