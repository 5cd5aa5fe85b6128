weekdays_of_work <- c("monday", "tuesday", "wednesday", "thursday", "friday")

quay <- source_calendar("quay")

test_that("closed days, half days, and holidays on weekends", {
  expect_identical(
    nrow(calendar_sessions(quay, "2026-03-20", "2026-03-22")), 0L
  )
  half <- calendar_sessions(quay, "2025-08-29", "2025-08-29")
  expect_identical(half$session, c("early", "regular"))
  expect_identical(format(half$close[2], "%H:%M", tz = "Europe/Riga"), "12:30")
  expect_identical(
    nrow(calendar_sessions(quay, "2026-08-31", "2026-08-31", "regular")), 1L
  )
})

test_that("expected minutes number 390 a day, whatever the clock does", {
  expect_length(
    calendar_times(quay, "1 minute", "2026-03-12", "2026-03-12"), 390
  )
  winter <- calendar_times(quay, "1 hour", "2026-03-27", "2026-03-27")
  summer <- calendar_times(quay, "1 hour", "2026-03-30", "2026-03-30")
  expect_identical(format(winter[1], "%H:%M", tz = "UTC"), "07:30")
  expect_identical(format(summer[1], "%H:%M", tz = "UTC"), "06:30")
  expect_length(summer, 7)
})

test_that("days, weeks and months bear the opening of their first session", {
  weeks <- calendar_times(quay, "1 week", "2026-03-16", "2026-03-29")
  expect_identical(
    format(weeks, "%Y-%m-%d %H:%M"), c("2026-03-16 07:30", "2026-03-23 07:30")
  )
  months <- calendar_times(quay, "1 month", "2025-12-15", "2026-02-28")
  expect_identical(format(months, "%Y-%m-%d"), c("2026-01-02", "2026-02-02"))
})

test_that("sessions may cross midnight", {
  night <- calendar_make(
    list(
      calendar = "night",
      zone = "Europe/Riga",
      sessions = list(regular = "22:00-02:00")
    )
  )
  sessions <- calendar_sessions(night, "2026-03-28", "2026-03-28")
  expect_identical(
    format(sessions$close, "%Y-%m-%d %H:%M", tz = "Europe/Riga"),
    "2026-03-29 02:00"
  )
})

test_that("a wrong calendar says its wrong word", {
  base <- list(
    calendar = "x",
    zone = "Europe/Riga",
    sessions = list(regular = "09:00-17:00")
  )
  expect_error_kind(
    calendar_make(utils::modifyList(base, list(zone = "Europe/Rigga"))),
    "calendar", "not a time zone"
  )
  expect_error_kind(
    calendar_make(c(base, list(weekday = "monday"))), "calendar", "weekdays"
  )
  expect_error_kind(
    calendar_make(c(base, list(closed = list(list(day = "02-31"))))),
    "calendar", "closed/1"
  )
  expect_error_kind(
    calendar_make(
      list(
        calendar = "x",
        zone = "UTC",
        sessions = list(a = "09:00-17:00", b = "16:00-18:00")
      )
    ),
    "calendar", "overlap"
  )
  expect_error_kind(
    calendar_make(
      list(calendar = "x", zone = "UTC", sessions = list(a = "nine to five"))
    ),
    "calendar"
  )
  expect_error_kind(source_calendar("nowhere"), "calendar", "quay")
})

test_that("the stand-in's own calendar is the one that ships", {
  standin <- vetusta:::source_calendar_for_standin()
  window <- c("2025-01-01", "2027-12-31")
  expect_identical(
    calendar_sessions(standin, window[1], window[2]),
    calendar_sessions(quay, window[1], window[2])
  )
})

test_that("days by rule, moved days, and years in which a rule holds", {
  calendar <- calendar_make(
    list(
      calendar = "x",
      zone = "Europe/Riga",
      weekdays = weekdays_of_work,
      closed = list(
        list(day = "12-25", moved = "next"),
        list(day = "12-26", moved = "next"),
        list(weekday = "monday", nth = "last", month = 5),
        list(weekday = "thursday", nth = 4, month = 11, from = 2025),
        list(easter = 1), list(eastern_easter = -2, until = 2025),
        list(day = "01-01", moved = "nearest")
      )
    )
  )
  open <- function(days) {
    as.Date(days) %in%
      vetusta:::calendar_days(calendar, min(as.Date(days)), max(as.Date(days)))
  }
  # Christmas of 2021 fell on a Saturday and a Sunday
  expect_identical(
    open(c("2021-12-24", "2021-12-27", "2021-12-28", "2021-12-29")),
    c(TRUE, FALSE, FALSE, TRUE)
  )
  expect_identical(open(c("2026-05-25", "2026-05-18")), c(FALSE, TRUE))
  expect_identical(open(c("2024-11-28", "2025-11-27")), c(TRUE, FALSE))
  expect_identical(
    open(c("2026-04-06", "2026-04-10", "2024-05-03")), c(FALSE, TRUE, FALSE)
  )
  # 1 January 2022 was a Saturday: the Friday before is closed, in another year
  expect_identical(open(c("2021-12-31", "2022-01-03")), c(FALSE, TRUE))
  expect_error_kind(
    calendar_make(
      list(
        calendar = "x",
        zone = "UTC",
        closed = list(list(weekday = "monday", nth = 7, month = 5))
      )
    ),
    "calendar", "nth"
  )
  expect_error_kind(
    calendar_make(
      list(
        calendar = "x",
        zone = "UTC",
        closed = list(list(day = "12-25", moved = "nxt"))
      )
    ),
    "calendar", "moved"
  )
  expect_error_kind(
    calendar_make(
      list(calendar = "x", zone = "UTC", closed = list(list(dy = "12-25")))
    ),
    "calendar", "day"
  )
})

test_that("Easter is as the tables of both churches have it", {
  expect_identical(
    format(
      vetusta:::easter_western(
        c(1900, 1961, 2000, 2019, 2024, 2026, 2038, 2099)
      )
    ),
    c(
      "1900-04-15", "1961-04-02", "2000-04-23", "2019-04-21", "2024-03-31",
      "2026-04-05", "2038-04-25", "2099-04-12"
    )
  )
  expect_identical(
    format(vetusta:::easter_eastern(c(1900, 2000, 2019, 2024, 2026, 2038))),
    c(
      "1900-04-22", "2000-04-30", "2019-04-28", "2024-05-05", "2026-04-12",
      "2038-04-25"
    )
  )
})

test_that("a calendar builds on another, with days added and taken away", {
  folder <- withr::local_tempdir()
  file <- file.path(folder, "half.yml")
  writeLines(
    c(
      "calendar: half", "builds_on: quay", "without: [Thaw Day]", "closed:",
      "  - {day: \"05-01\", name: Barge Day}"
    ),
    file
  )
  calendar <- source_calendar(file)
  days <- vetusta:::calendar_days(calendar, "2026-03-20", "2026-05-01")
  expect_true(as.Date("2026-03-20") %in% days)
  expect_false(as.Date("2026-05-01") %in% days)
  expect_identical(calendar$zone, "Europe/Riga")
  writeLines(c("calendar: half", "builds_on: nix"), file)
  expect_error_kind(source_calendar(file), "calendar", "base calendar")
})

test_that("sessions across midnight, and days of 23 and 25 hours", {
  fixing <- calendar_sessions(
    source_calendar("fixing"), "2026-03-27", "2026-03-31"
  )
  expect_identical(
    format(fixing$open, "%a %H:%M", tz = "Europe/Riga"),
    c("Sun 17:00", "Mon 17:00", "Tue 17:00")
  )
  river <- source_calendar("river")
  expect_length(
    calendar_times(river, "1 hour", "2026-03-29", "2026-03-29", NULL), 23
  )
  expect_length(
    calendar_times(river, "1 hour", "2026-10-25", "2026-10-25", NULL), 25
  )
})

test_that("moved days do not depend on their order", {
  # 25 and 26 December 2021 are Saturday and Sunday
  days <- list(
    list(day = "12-25", name = "first", moved = "next"),
    list(day = "12-26", name = "second", moved = "next")
  )
  closed <- function(days, weekdays = NULL) {
    calendar <- calendar_make(
      list(
        calendar = "mill",
        zone = "UTC",
        weekdays = weekdays %||% weekday_words[1:5],
        closed = days
      )
    )
    open <- unique(calendar_sessions(calendar, "2021-12-20", "2021-12-31")$day)
    setdiff(
      format(seq(as.Date("2021-12-20"), as.Date("2021-12-31"), 1)),
      c(format(open), "2021-12-25", "2021-12-26")
    )
  }
  weekday_words <- c(
    "monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"
  )
  expect_identical(closed(days), c("2021-12-27", "2021-12-28"))
  expect_identical(closed(rev(days)), c("2021-12-27", "2021-12-28"))
  # a fixed day is never the target of a moved day, wherever it is in the list
  monday <- list(
    list(day = "12-26", name = "moves", moved = "next"),
    list(day = "12-27", name = "stays")
  )
  expect_identical(closed(monday), c("2021-12-27", "2021-12-28"))
  # in a week from Sunday to Thursday, the nearest day to Friday is Thursday,
  # and to Saturday Sunday
  week <- weekday_words[c(7, 1:4)]
  friday <- closed(list(list(day = "12-24", moved = "nearest")), week)
  expect_true("2021-12-23" %in% friday)
  expect_false(
    "2021-12-26" %in%
      c(
        format(
          unique(
            calendar_sessions(
              calendar_make(
                list(
                  calendar = "mill",
                  zone = "UTC",
                  weekdays = week,
                  closed = list(list(day = "12-25", moved = "nearest"))
                )
              ),
              "2021-12-20", "2021-12-31"
            )$day
          )
        )
      )
  )
})
