# The services at another day, and a week of mornings.
test_that("the services live at a day, with faults of daily life", {
  levels <- function(day, station = "kelder-lock") {
    row <- vetusta:::river_stations()
    row <- row[row$station == station, ]
    day <- as.Date(day)
    vetusta:::rehearsal_levels(
      vetusta:::river_levels(row, list(), day), station, day
    )
  }
  # yesterday is the newest, and what was published stays, but for corrections
  monday <- levels("2026-03-24")
  expect_identical(max(monday$day), "2026-03-23")
  later <- levels("2026-03-25")
  both <- merge(monday, later, by = "day")
  expect_identical(
    both$day[both$level.x != both$level.y], "2026-03-23"
  )
  expect_equal(
    both$level.x[both$day == "2026-03-23"] -
      both$level.y[both$day == "2026-03-23"],
    8
  )
  # a Tuesday at Tamm Weir comes a day late
  expect_false("2026-03-24" %in% levels("2026-03-25", "tamm-weir")$day)
  expect_named(levels("2026-03-26", "tamm-weir"), c("day", "mean"))
  expect_true("2026-03-24" %in% levels("2026-03-26", "tamm-weir")$day)
  # the river flows on, and its past stays
  far <- levels("2027-06-01")
  expect_identical(max(far$day), "2027-05-31")
  usual <- vetusta:::river_levels(
    subset(vetusta:::river_stations(), station == "kelder-lock"), list()
  )
  old <- merge(usual, far, by = "day")
  expect_identical(nrow(old), nrow(usual))
  expect_equal(old$level.x, old$level.y)
  bars <- data.frame(
    at = as.numeric(as.POSIXct("2026-03-24 09:00", tz = "UTC")) + c(0, 300),
    fst = 7, top = 8, low = 6, lst = 7
  )
  wrong <- vetusta:::rehearsal_bars(bars, "TAMX", as.Date("2026-03-25"))
  expect_identical(wrong$lst, c(700, 7))
  expect_identical(
    vetusta:::rehearsal_bars(bars, "TAMX", as.Date("2026-03-26"))$lst, c(7, 7)
  )
  expect_identical(vetusta:::rehearsal_bars(bars, "TAMX", NULL), bars)
})

test_that("a day of the services is checked, and time may run faster", {
  for (day in c("yesterday", "2028-01-01", "2000-01-01")) {
    expect_error_kind(services_serve(0, until = 0, today = day), "service")
  }
  clock <- vetusta:::standin_clock("2026-03-27", 1440)
  first <- clock()
  expect_identical(
    format(vetusta:::utc(floor(first / 60) * 60), "%F %H:%M"),
    "2026-03-27 05:00"
  )
  Sys.sleep(0.5)
  expect_gt(clock() - first, 700)
})

test_that("a client may live on another day", {
  withr::local_envvar(VETUSTA_TODAY = "2026-03-27T05:00:00Z")
  expect_lt(
    abs(vetusta:::now_seconds() -
      as.numeric(as.POSIXct("2026-03-27 05:00", tz = "UTC"))),
    60
  )
  query <- query_bars(source_card("quay"), "KELD", "1 day", span = "5 days")
  expect_identical(as.Date(query$to), as.Date("2026-03-27"))
  withr::local_envvar(VETUSTA_TODAY = "2026-03-27")
  expect_identical(as.Date(vetusta:::now_time()), as.Date("2026-03-27"))
  withr::local_envvar(VETUSTA_TODAY = "tomorrow")
  expect_error_kind(vetusta:::now_seconds(), "argument", "VETUSTA_TODAY")
})

test_that("a week of mornings shows what happens, and what is told", {
  folder <- file.path(withr::local_tempdir(), "week")
  done <- run_vetusta("demo", "--week", folder)
  expect_identical(done$status, 0L)
  parts <- strsplit(done$stdout, "\n[A-Z][a-z]+day [ 0-9]+ March 2026, 7:00\n")
  morning <- parts[[1]][-1]
  expect_length(morning, 5)
  # an outage, a renamed field, and both mended
  expect_match(morning[3], "rates .* failed")
  expect_match(morning[4], "No row has the member /level", fixed = TRUE)
  expect_false(grepl("failed\n", morning[5]))
  # a wrong price is found, and gone when it was corrected
  expect_match(morning[3], "spike  quay/bars/TAMX", fixed = TRUE)
  expect_match(morning[4], "no findings", fixed = TRUE)
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  then <- archive_read(
    archive, "TAMX", as_of = "2026-03-25T06:00:00Z"
  )[[1]]
  now <- archive_read(archive, "TAMX")[[1]]
  expect_gt(max(then$close), 400)
  expect_lt(max(now$close), 20)
  # a late value and a correction stand in the history
  revised <- archive_revisions(archive, "kelder-lock")
  revised <- revised[revised$revision != 0, ]
  expect_identical(revised$period, as.Date("2026-03-23"))
  expect_equal(revised$revision, -8)
  late <- archive_read(archive, "tamm-weir")[[1]]
  expect_true(as.Date("2026-03-24") %in% late$period)
  trace <- archive_trace(archive, "kelder-lock", "2026-03-23")
  expect_identical(nrow(trace), 2L)
  expect_identical(as.Date(trace$asked), as.Date(c("2026-03-24", "2026-03-25")))
  expect_identical(run_vetusta("demo", "--week", folder)$status, 1L)
})
