quay <- source_calendar("quay")

test_that("a run of missing minutes is found, with what was expected", {
  gaps <- series_gaps(minute_bars(without = 19:24), quay)
  expect_identical(gaps$missing, 6L)
  expect_identical(
    format(c(gaps$first, gaps$last), "%H:%M"), c("07:49", "07:54")
  )
  expect_identical(gaps$reason, "unknown")
  summary <- attr(gaps, "summary")
  expect_identical(
    c(summary$expected, summary$present, summary$longest), c(390L, 384L, 6L)
  )
})

test_that("others tell no trade from an outage", {
  bars <- rbind(
    minute_bars("KELD", without = c(10, 50:59)),
    minute_bars("TAMX", without = 50:54)
  )
  gaps <- series_gaps(bars, quay)
  expect_identical(
    gaps$reason[gaps$symbol == "KELD"], c("no trade", "outage", "no trade")
  )
  expect_identical(gaps$missing[gaps$symbol == "KELD"], c(1L, 5L, 5L))
  expect_identical(gaps$reason[gaps$symbol == "TAMX"], "outage")
})

test_that("a minute in which nobody trades is no outage", {
  bars <- rbind(
    minute_bars("KELD", without = c(100, 300:303)),
    minute_bars("TAMX", without = 50:389)
  )
  gaps <- series_gaps(bars, quay, to = "2026-03-12")
  expect_identical(gaps$missing[gaps$symbol == "TAMX"], 340L)
  expect_identical(unique(gaps$reason), "no trade")
  expect_identical(
    series_gaps(bars, quay, to = "2026-03-12", outage = 3)$reason[1:2],
    c("no trade", "outage")
  )
})

test_that("nights are no gaps, and a run continues across one", {
  days <- rbind(
    minute_bars("KELD", "2026-03-19"), minute_bars("KELD", "2026-03-23")
  )
  expect_identical(nrow(series_gaps(days, quay)), 0L)
  ends <- rbind(
    minute_bars("KELD", "2026-03-19", without = 380:389),
    minute_bars("KELD", "2026-03-23", without = 0:9)
  )
  expect_identical(series_gaps(ends, quay)$missing, 20L)
})

test_that("the window may be wider than the data", {
  gaps <- series_gaps(
    minute_bars(), quay, from = "2026-03-12", to = "2026-03-13"
  )
  expect_identical(gaps$missing, 390L)
  expect_error_kind(
    series_gaps(minute_bars(), quay, from = "2026-03-13", to = "2026-03-12"),
    "argument", "before it begins"
  )
  expect_error_kind(
    series_gaps(minute_bars()[1, ], quay), "argument", "interval"
  )
  expect_error_kind(
    series_gaps(minute_bars()[0, ], quay, interval = "1 minute"), "argument",
    "window"
  )
})

test_that("gaps agree with the slow way on random holes", {
  set.seed(2)
  for (i in 1:5) {
    without <- sort(sample(0:389, 100))
    gaps <- series_gaps(
      minute_bars(without = without), quay, from = "2026-03-12",
      to = "2026-03-12"
    )
    runs <- rle(0:389 %in% without)
    expect_identical(gaps$missing, runs$lengths[runs$values])
  }
})

test_that("times and values are read exactly or refused", {
  at <- as.POSIXct("2026-01-01", tz = "UTC") + 86400 * 0:3
  base <- data.frame(series = "mill", time = at, value = c(1, 2, 3, 4))
  same <- series_align(base, grid = "union")
  for (time in list(
    as.Date(at), format(at, "%Y-%m-%d"), factor(format(at, "%Y-%m-%d")),
    paste0(format(at, "%Y-%m-%d"), "T00:00:00Z"), as.POSIXlt(at)
  )) {
    other <- base
    other$time <- time
    expect_identical(series_align(other, grid = "union"), same)
  }
  spoilt <- list(
    time = list(
      1:4, c(at[1:3], NA), c("2026-01-01", "x", "2026-01-03", "2026-01-04"),
      as.numeric(at)
    ),
    value = list(as.character(1:4), factor(1:4), as.Date(at)),
    known = list(as.numeric(at), c("2026-03-01", "march", NA, NA))
  )
  works <- list(
    align = function(x) series_align(x),
    change = function(x) series_change(x),
    fill = function(x) series_fill(x),
    gaps = function(x) series_gaps(x),
    aggregate = function(x) series_aggregate(x, "M"),
    faults = function(x) series_check(x)
  )
  for (column in names(spoilt)) {
    for (value in spoilt[[column]]) {
      for (name in names(works)) {
        if (column == "known" && name == "gaps") next
        other <- base
        other[[column]] <- value
        expect_error(
          works[[name]](other),
          class = "vetusta_error_shape",
          label = paste(name, column, class(value)[1])
        )
      }
    }
  }
  told <- base
  told$known <- as.Date(c("2026-03-01", NA, NA, NA))
  expect_identical(
    series_align(
      told, grid = as.Date("2026-02-01"), rule = c(mill = "last")
    )$mill,
    4
  )
  expect_true(is.na(series_align(told[1, ], grid = as.Date("2026-02-28"))$mill))
  figures <- data.frame(
    series = "mill",
    period = factor(c("2026-Q1", "2026-Q2")),
    value = 1:2
  )
  expect_identical(
    series_frame(figures)$period, as.Date(c("2026-01-01", "2026-04-01"))
  )
  expect_error_kind(
    series_frame(
      data.frame(series = "mill", period = c(20454, 20455), value = 1:2)
    ),
    "shape", "period"
  )
})

test_that("a data.table is a table as any other", {
  base <- data.frame(
    series = "mill",
    time = as.POSIXct("2026-01-01", tz = "UTC") + 86400 * c(0:4, 7:9),
    value = 1:8
  )
  table <- data.table::as.data.table(base)
  for (work in list(
    series_align, series_change, series_fill, series_gaps, series_check,
    function(x) series_aggregate(x, "M"),
    function(x) series_unfill(series_fill(x))
  )) {
    expect_equal(as.data.frame(work(table)), as.data.frame(work(base)))
  }
  expect_equal(
    as.data.frame(series_unfill(data.table::as.data.table(series_fill(base))))[
      names(base)
    ],
    base, ignore_attr = TRUE
  )
  bars <- minute_bars()
  expect_equal(
    bars_resample(data.table::as.data.table(bars), "1 hour"),
    bars_resample(bars, "1 hour")
  )
})

test_that("a period with a time of the day is refused, a midnight is its day", {
  rows <- function(period, ...) {
    data.frame(series = "a", period = period, value = seq_along(period), ...)
  }
  hours <- as.POSIXct("2026-03-12", tz = "UTC") + 3600 * 0:2
  for (period in list(hours, format(hours, "%Y-%m-%dT%H:%M:%SZ"))) {
    error <- expect_error(
      series_frame(rows(period)), class = "vetusta_error_shape"
    )
    expect_match(conditionMessage(error), "time of the day", fixed = TRUE)
    expect_match(conditionMessage(error), "row 2", fixed = TRUE)
  }
  expect_error(
    series_frame(rows(as.Date("2026-03-12") + 0:1, frequency = "PT1H")),
    "need a time of the day", class = "vetusta_error_shape"
  )
  days <- as.Date("2026-03-12") + 0:2
  instants <- rows(paste0(days, "T00:00:00Z"))
  expect_identical(series_frame(instants)$frequency, rep("D", 3))
  expect_identical(series_aggregate(instants, "M", "sum")$value, 6)
  expect_identical(
    series_frame(rows(days, frequency = "I"))$frequency, rep("D", 3)
  )
  for (zone in c("UTC", "Europe/Riga", "America/New_York")) {
    midnights <- as.POSIXct(format(days), tz = zone)
    expect_identical(series_frame(rows(midnights))$period, days, label = zone)
    in_utc <- structure(
      as.POSIXct(format(days), tz = "UTC"), tzone = zone
    )
    expect_identical(series_frame(rows(in_utc))$period, days, label = zone)
  }
})

test_that("a series is read with the frequency that is stored", {
  archive <- new_archive()
  rows <- data.frame(
    series = c("a", "b", "b"),
    period = as.Date(c("2026-01-01", "2026-01-01", "2026-04-01")),
    frequency = c("Q", "A", "A"),
    value = 1:3
  )
  vetusta:::store_put(
    archive,
    list(
      source = "s", dataset = "d", shape = "observations",
      now = as.numeric(Sys.time()),
      rows = vetusta:::archive_parcel("observations", rows)
    )
  )
  got <- archive_observations(archive, "s", "d")
  expect_identical(got$frequency, c("Q", "A", "A"))
  # the first quarter is not known before it ends
  early <- archive_observations(archive, "s", "d", as_of = "2026-03-31")
  expect_identical(nrow(early), 0L)
})

test_that("a stated frequency takes no time of the day away", {
  archive <- new_archive()
  time <- as.POSIXct("2026-01-01", tz = "UTC") + 3600 * c(6, 7, 8)
  file <- tempfile(fileext = ".csv")
  stored <- c(H = "PT1H", D = "I", hourly = "I", PT1H = "PT1H", M = "I")
  for (code in names(stored)) {
    export_csv(
      data.frame(series = "a", time = time, frequency = code, value = 1:3), file
    )
    archive_import_rows(archive, file, shape = "observations", dataset = code)
    got <- archive_observations(archive, "files", code)
    expect_identical(got$time, time, label = code)
    expect_identical(
      archive_find(archive, paste0("files/", code, "/*"))$frequency,
      stored[[code]], label = code
    )
  }
})
