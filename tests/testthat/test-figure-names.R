# Names, units, an index and changes in figures.
statistic <- function(names, values = 1:24, unit = NULL) {
  months <- seq(as.Date("2024-01-01"), by = "month", length.out = 24)
  rows <- do.call(rbind, lapply(seq_along(names), function(i) {
    data.frame(
      series = paste0("s", i), period = months, value = values * i
    )
  }))
  table <- series_frame(rows)
  series_about(
    table,
    title = stats::setNames(names, paste0("s", seq_along(names))),
    unit = unit
  )
}

test_that("what all names share is said once", {
  parts <- function(...) vetusta:::shared_parts(c(...))
  expect_identical(
    parts("Lower, Nominal", "Upper, Nominal"),
    list(names = c("Lower", "Upper"), shared = "Nominal")
  )
  expect_identical(
    parts("Orvane, Lower, N", "Orvane, Upper, N", "Orvane, Lower, N"),
    list(names = c("Lower", "Upper", "Lower"), shared = "Orvane, N")
  )
  # nothing is lost where a name is a part of another, or nothing is shared
  expect_identical(
    parts("Rye", "Rye, wheat"),
    list(names = c("Rye", "Rye, wheat"), shared = "")
  )
  expect_identical(parts("a, b", "a, b")$names, c("a, b", "a, b"))
  expect_identical(parts("a", "b")$shared, "")
  figure <- figure_lines(
    statistic(c("Lower, Nominal", "Upper, Nominal"), unit = "orv per tonne"),
    heading = c("freight prices", "Orvane")
  )
  expect_identical(figure$labels$title, "Freight prices")
  expect_match(figure$labels$subtitle, "^Orvane, Nominal; 1 January 2024")
  expect_identical(figure$labels$y, "orv per tonne")
  expect_setequal(as.character(unique(figure$data$name)), c("Lower", "Upper"))
  one <- figure_lines(statistic("Kelder Lock"), heading = "Daily mean level")
  expect_identical(one$labels$title, "Kelder Lock: daily mean level")
  long <- figure_lines(
    statistic(strrep("a long name ", 6)), heading = "Daily mean level"
  )
  expect_identical(long$labels$title, "Daily mean level")
  expect_match(long$labels$subtitle, "^a long name")
  abbreviation <- figure_lines(statistic("Orvane"), heading = "GDP at prices")
  expect_identical(abbreviation$labels$title, "Orvane: GDP at prices")
})

test_that("lines show an index from a day, and changes over a length", {
  table <- statistic(c("a", "b"))
  index <- figure_lines(table, base = "2024-06-30")
  at <- index$data$time == as.POSIXct("2024-06-01", tz = "UTC")
  expect_identical(index$data$shown[at], c(100, 100))
  expect_identical(index$labels$y, "30 June 2024 = 100")
  change <- figure_lines(table, over = "1 year")
  # January 2025 is the 13th month: 13 against 1
  expect_equal(change$data$value[1], 1200)
  expect_identical(nrow(change$data), 24L)
  expect_identical(change$labels$y, "change in 1 year, in percent")
  expect_error_kind(
    figure_lines(table, base = "2020-01-01"), "figure", "no value on 2020-01-01"
  )
  expect_error_kind(
    figure_lines(table, over = "1 year", index = 100), "figure", "either"
  )
  expect_error_kind(figure_lines(table, base = "soon"), "argument")
  expect_error_kind(figure_lines(table, over = 3), "argument")
})

test_that("prices that jump as at a split are marked", {
  days <- as.POSIXct("2025-09-08", tz = "UTC") + 86400 * c(0:4, 7:11)
  close <- c(118, 119, 120, 119, 121, 60.6, 61, 60.5, 61, 60)
  bars <- bars_frame(data.frame(
    symbol = "KELD", time = days, open = close, high = close + 1,
    low = close - 1, close = close, volume = 1
  ))
  bars <- series_about(bars, interval = "1 day")
  words <- "not adjusted: .*KELD on 15 September 2025 \\(2 for 1\\)"
  candles <- figure_candles(bars)
  expect_match(candles$labels$caption, words)
  lines <- vapply(candles$layers, function(x) class(x$geom)[1], "")
  expect_true("GeomVline" %in% lines)
  expect_match(figure_lines(bars)$labels$caption, words)
  calm <- figure_candles(bars[1:5, ])
  expect_no_match(calm$labels$caption %||% "", "not adjusted")
  expect_message(
    vetusta:::say_jumps(list(bars), "UTC"), "note: not adjusted",
    class = "vetusta_note"
  )
  expect_silent(vetusta:::say_jumps(list(bars[1:5, ], mtcars), "UTC"))
})

test_that("gaps of several series, and of a short window, are strips", {
  day <- as.Date("2026-03-02") + c(0:3, 6:9)
  level <- data.frame(series = "mill", period = day, value = 1)
  short <- figure_gaps(level)
  expect_identical(
    as.character(unique(short$data$line)), "mill"
  )
  expect_identical(sum(short$data$state == "missing"), 2L)
  long <- data.frame(
    series = "lock", period = as.Date("2020-01-01") + 0:1500, value = 1
  )
  calendar <- figure_gaps(long)
  expect_setequal(unique(calendar$data$line), as.character(2020:2024))
  both <- figure_gaps(list(long[-900, ], transform(long, series = "weir")))
  expect_setequal(as.character(unique(both$data$line)), c("lock", "weir"))
  # one missing day in four years has a width of its own
  marks <- both$layers[[2]]
  expect_identical(nrow(marks$data), 1L)
  expect_gt(marks$aes_params$width, 1)
})

test_that("incomplete windows are marked in the coverage", {
  archive <- archive_with_days()
  series <- archive_series(archive)
  plain <- figure_coverage(series)
  open <- data.frame(
    source = series$source[1], dataset = series$dataset[1], label = "none",
    from = series$first[1], to = series$last[1]
  )
  marked <- figure_coverage(series, incomplete = open)
  expect_length(marked$layers, length(plain$layers) + 1L)
  expect_match(marked$labels$caption, "not complete")
})

test_that("the season has bands of earlier years, and names the years", {
  days <- as.Date("2015-01-01") + 0:4000
  level <- data.frame(
    series = "lock", period = days,
    value = 200 + 40 * cos(as.POSIXlt(days)$yday / 58)
  )
  season <- figure_season(level, heading = "level")
  geoms <- vapply(season$layers, function(x) class(x$geom)[1], "")
  expect_identical(sum(geoms == "GeomRibbon"), 2L)
  expect_match(season$labels$title, "by day of the year")
  expect_match(season$labels$caption, "90% of 2015 to 2024")
  bands <- season$layers[[1]]$data
  expect_true(all(bands$q05 <= bands$q50 & bands$q50 <= bands$q95))
  few <- figure_season(level[days >= as.Date("2023-01-01"), ])
  expect_false("GeomRibbon" %in% vapply(few$layers, function(x) {
    class(x$geom)[1]
  }, ""))
})

test_that("figure refuses options of other kinds, and takes texts", {
  folder <- withr::local_tempdir()
  file <- file.path(folder, "a.csv")
  days <- as.Date("2026-01-01") + 0:9
  writeLines(c("time,value", paste0(days, ",", 1:10)), file)
  run <- function(...) {
    run_vetusta("figure", ..., "--input", "a.csv", folder = folder)
  }
  wrong <- run("season", "--panels", "free")
  expect_identical(wrong$status, 2L)
  expect_match(wrong$stderr, "--panels is for lines, and this figure is season")
  expect_identical(run("lines", "--change", "log")$status, 2L)
  right <- run("lines", "--title", "Ours", "--base", "2026-01-03")
  expect_identical(right$status, 0L)
  expect_true(file.exists(file.path(folder, "lines.png")))
})
