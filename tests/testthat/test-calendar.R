quay <- source_calendar("quay")

test_that("closed days are closed, half days are short, and a weekend day is not moved", {
  expect_identical(nrow(calendar_sessions(quay, "2026-03-20", "2026-03-22")), 0L)
  half <- calendar_sessions(quay, "2025-08-29", "2025-08-29")
  expect_identical(half$session, c("early", "regular"))
  expect_identical(format(half$close[2], "%H:%M", tz = "Europe/Riga"), "12:30")
  expect_identical(nrow(calendar_sessions(quay, "2026-08-31", "2026-08-31", "regular")), 1L)
})

test_that("expected minutes number 390 a day, whatever the clock does", {
  expect_length(calendar_times(quay, "1 minute", "2026-03-12", "2026-03-12"), 390)
  winter <- calendar_times(quay, "1 hour", "2026-03-27", "2026-03-27")
  summer <- calendar_times(quay, "1 hour", "2026-03-30", "2026-03-30")
  expect_identical(format(winter[1], "%H:%M", tz = "UTC"), "07:30")
  expect_identical(format(summer[1], "%H:%M", tz = "UTC"), "06:30")
  expect_length(summer, 7)
})

test_that("days, weeks and months bear the opening of their first session", {
  weeks <- calendar_times(quay, "1 week", "2026-03-16", "2026-03-29")
  expect_identical(format(weeks, "%Y-%m-%d %H:%M"), c("2026-03-16 07:30", "2026-03-23 07:30"))
  months <- calendar_times(quay, "1 month", "2025-12-15", "2026-02-28")
  expect_identical(format(months, "%Y-%m-%d"), c("2026-01-02", "2026-02-02"))
})

test_that("sessions may cross midnight", {
  night <- calendar_make(list(calendar = "night", zone = "Europe/Riga", sessions = list(regular = "22:00-02:00")))
  sessions <- calendar_sessions(night, "2026-03-28", "2026-03-28")
  expect_identical(format(sessions$close, "%Y-%m-%d %H:%M", tz = "Europe/Riga"), "2026-03-29 02:00")
})

test_that("a wrong calendar says its wrong word", {
  base <- list(calendar = "x", zone = "Europe/Riga", sessions = list(regular = "09:00-17:00"))
  expect_error_kind(calendar_make(utils::modifyList(base, list(zone = "Europe/Rigga"))), "calendar", "no time zone")
  expect_error_kind(calendar_make(c(base, list(weekday = "monday"))), "calendar", "weekdays")
  expect_error_kind(calendar_make(c(base, list(closed = list(list(day = "02-31"))))), "calendar", "closed/1")
  expect_error_kind(calendar_make(list(calendar = "x", zone = "UTC", sessions = list(a = "09:00-17:00", b = "16:00-18:00"))), "calendar", "overlap")
  expect_error_kind(calendar_make(list(calendar = "x", zone = "UTC", sessions = list(a = "nine to five"))), "calendar")
  expect_error_kind(source_calendar("nowhere"), "calendar", "quay")
})

test_that("the stand-in's own calendar is the one that ships", {
  standin <- vetusta:::source_calendar_for_standin()
  window <- c("2025-01-01", "2027-12-31")
  expect_identical(calendar_sessions(standin, window[1], window[2]), calendar_sessions(quay, window[1], window[2]))
})
