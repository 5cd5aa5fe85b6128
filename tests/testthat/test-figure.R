# Figures by their built data.
utc_at <- function(seconds) {
  as.POSIXct(1.7e9 + seconds, tz = "UTC", origin = "1970-01-01")
}
days_of <- function(n, names = "mill", start = "2020-01-01", value = NULL) {
  as.data.frame(do.call(
    rbind,
    lapply(seq_along(names), function(i) {
      data.frame(
        series = names[i],
        period = as.Date(start) + seq_len(n) - 1,
        value = if (is.null(value)) i * 100 + sin(seq_len(n) / 20) else value
      )
    })
  ))
}
notes_of <- function(work) {
  said <- character()
  result <- withCallingHandlers(work, vetusta_note = function(m) {
    said <<- c(said, conditionMessage(m))
    tryInvokeRestart("muffleMessage")
  })
  list(figure = result, said = said)
}
draw <- function(figure, width = 640, height = 400) {
  file <- withr::local_tempfile(fileext = ".png")
  figure_save(figure, file, width, height)
  file.size(file)
}

test_that("lines take series of any kind, several frequencies together", {
  observations <- data.frame(
    series = "traffic",
    period = c("2026-01", "2026-02", "2026-03"),
    value = c(5, 6, 7),
    unit = "t"
  )
  facts <- data.frame(
    symbol = "KELD",
    item = "revenue",
    period_end = as.Date(c("2025-12-31", "2026-03-31")),
    value = c(5, 6)
  )
  figure <- figure_lines(
    list(observations, days_of(90, start = "2026-01-01"), facts)
  )
  expect_setequal(
    as.character(figure$data$name), c("traffic", "mill", "KELD revenue")
  )
  expect_identical(nrow(figure$data), 95L)
  expect_gt(draw(figure), 3000)
  expect_match(figure$labels$title, "traffic, mill, KELD revenue")
  named <- figure_lines(days_of(10), names = c(mill = "Tamm Mill"))
  expect_identical(unique(as.character(named$data$name)), "Tamm Mill")
  # layers added to a figure are drawn
  expect_identical((named + ggplot2::labs(title = "mine"))$labels$title, "mine")
})

test_that("a dominating series is reported, units get panels", {
  apart <- rbind(
    days_of(50, "small"),
    transform(days_of(50, "large"), value = value * 1e4 * seq_len(50))
  )
  told <- notes_of(figure_lines(apart))
  expect_match(told$said, "small is as good as flat; panels \\(free\\)")
  expect_length(notes_of(figure_lines(apart, panels = "free"))$said, 0)
  expect_length(notes_of(figure_lines(apart, index = 100))$said, 0)
  units <- rbind(
    transform(days_of(9, "a"), unit = "cm"),
    transform(days_of(9, "b"), unit = "t")
  )
  told <- notes_of(figure_lines(units))
  expect_match(told$said, "units differ \\(cm, t\\)")
  expect_s3_class(told$figure$facet, "FacetWrap")
  crowd <- days_of(9, sprintf("s%02d", 1:30))
  crowd$unit <- ifelse(crowd$series < "s15", "cm", "t")
  told <- notes_of(figure_lines(crowd))
  expect_match(told$said, "so each unit has a separate panel")
  expect_identical(nrow(ggplot2::ggplot_build(told$figure)$layout$layout), 2L)
  # a unit that only some series have is not the unit of the axis
  expect_null(
    figure_lines(
      rbind(
        transform(days_of(9, "a"), unit = "cm"),
        transform(days_of(9, "b"), unit = NA)
      )
    )$labels$y
  )
  fixed <- ggplot2::ggplot_build(
    figure_lines(days_of(9, c("a", "b")), panels = "fixed")
  )
  expect_identical(length(unique(fixed$layout$layout$SCALE_Y)), 1L)
})

test_that("logarithmic axes need positive values; an index begins at 100", {
  rising <- days_of(100, value = 10^(1 + 0:99 / 50))
  scale <- figure_lines(rising, log_scale = TRUE)$scales$get_scales("y")
  expect_match(paste(class(scale$trans), collapse = " "), "transform|trans")
  expect_error_kind(
    figure_lines(transform(rising, value = value - 50), log_scale = TRUE),
    "figure", "at or below zero"
  )
  expect_identical(figure_lines(rising, index = 100)$data$shown[1], 100)
})

test_that("provisional ends, filled values, breaks and single points", {
  rows <- transform(
    days_of(20),
    status = c(rep("observed", 15), rep("provisional", 5))
  )
  built <- ggplot2::ggplot_build(figure_lines(rows))
  expect_identical(nrow(built$data[[2]]), 6L)
  expect_identical(unique(as.character(built$data[[2]]$linetype)), "22")
  full <- series_fill(days_of(20)[-c(7, 8), ], rule = "linear")
  figure <- figure_filled(full)
  marks <- Filter(
    function(layer) "shape" %in% names(layer$mapping), figure$layers
  )
  expect_length(marks, 1)
  expect_identical(nrow(marks[[1]]$data), 2L)
  expect_match(figure$labels$caption, "2 filled values")
  expect_match(
    notes_of(figure_filled(days_of(5)))$said, "none of these values is filled"
  )
  broken <- figure_lines(days_of(300)[-(100:200), ])
  expect_identical(length(unique(broken$data$piece)), 2L)
  alone <- figure_lines(days_of(300)[c(1:50, 150, 250:300), ])
  expect_identical(sum(tabulate(alone$data$piece) == 1), 1L)
})

test_that("a million points are thinned, keep their extremes, and it is said", {
  n <- 1e6
  rows <- data.frame(
    series = "tick",
    time = utc_at(seq_len(n)),
    value = sin(seq_len(n) / 1e4)
  )
  rows$value[654321] <- 9
  figure <- figure_lines(rows, columns = 1000)
  expect_lt(nrow(figure$data), 4100)
  expect_identical(max(figure$data$shown), 9)
  expect_match(figure$labels$caption, "1,000,000 values, of which")
})

test_that("candles that cannot be told apart become longer, and say so", {
  quay <- source_calendar("quay")
  bars <- rbind(
    minute_bars("KELD", "2026-03-12"), minute_bars("KELD", "2026-03-13")
  )
  attr(bars, "interval") <- time_interval("1 minute")
  told <- notes_of(figure_candles(bars, calendar = quay))
  expect_match(
    told$said, "780 bars of 1 minute are too many .* drawn as 5 minutes"
  )
  expect_lte(nrow(told$figure$data), 200L)
  own <- bars_resample(
    bars, "5 minutes", quay, session = NULL, base = "1 minute", need = 0
  )
  expect_identical(told$figure$data$close, own$close)
  few <- figure_candles(bars[1:50, ], calendar = quay)
  expect_identical(nrow(few$data), 50L)
  # price and volume have panels with their own axes
  built <- ggplot2::ggplot_build(few)
  expect_identical(
    as.character(built$layout$layout$strip), c("price", "volume")
  )
  expect_lt(max(built$layout$panel_params[[1]]$y.range), 50)
  expect_gt(max(built$layout$panel_params[[2]]$y.range), 100)
  expect_gt(draw(few), 3000)
  # drawing without thinning: no interval fits
  long <- bars_frame(
    data.frame(
      symbol = "KELD",
      time = as.POSIXct("1700-01-01", tz = "UTC") + 86400 * 365.25 * 0:299,
      open = 1,
      high = 3,
      low = 0.5,
      close = 2,
      volume = 1
    )
  )
  told <- notes_of(figure_candles(long))
  expect_match(told$said, "drawn as ranges")
  expect_gt(draw(told$figure), 3000)
  both <- figure_candles(
    rbind(minute_bars("KELD")[1:20, ], minute_bars("TAMX")[1:20, ])
  )
  expect_s3_class(both$facet, "FacetWrap")
  shaded <- minute_bars("KELD")[1:40, ]
  shaded$session[1:5] <- "early"
  runs <- figure_candles(shaded)$layers[[1]]$data
  expect_identical(unlist(runs, use.names = FALSE), c(0.5, 5.5))
})

test_that("the coverage calendar: present, partly, filled, missing", {
  level <- days_of(60, start = "2026-01-01")[-c(10, 11), ]
  cells <- figure_gaps(level)$data
  expect_identical(
    as.character(cells$day[cells$state == "missing"]),
    c("2026-01-10", "2026-01-11")
  )
  full <- series_fill(level, rule = "last")
  expect_identical(sum(figure_gaps(full)$data$state == "filled"), 2L)
  quay <- source_calendar("quay")
  minutes <- rbind(
    minute_bars("KELD", "2026-03-12"),
    minute_bars("KELD", "2026-03-13", without = 100:200),
    minute_bars("KELD", "2026-03-17")
  )
  cells <- figure_gaps(minutes, quay, zone = "Europe/Riga")$data
  expect_identical(
    as.character(cells$state), c("present", "partly", "missing", "present")
  )
  monthly <- data.frame(
    series = "t",
    period = c("2025-01", "2025-02", "2025-05"),
    value = 1
  )
  cells <- figure_gaps(monthly)$data
  expect_identical(
    as.character(cells$state),
    c("present", "present", "missing", "missing", "present")
  )
  for (n in c(60, 2000)) expect_gt(draw(figure_gaps(days_of(n))), 3000)
})

test_that("coverage, moves, statements, correlations, revisions, seasons", {
  archive <- new_archive()
  put_rows(archive, "files", "levels", "observations", days_of(30, c("a", "b")))
  series <- archive_series(archive)
  expect_identical(nrow(figure_coverage(series)$data), 2L)
  many <- series[rep(1:2, 40), ]
  many$id <- paste0("files/levels/", seq_len(80))
  expect_match(
    levels(figure_coverage(many)$data$label), "files/levels \\(80 series\\)"
  )
  expect_error_kind(figure_coverage(series[0, ]), "figure", "no series")
  moves <- rank_moves(
    data.frame(
      symbol = c("A", "B"), last = c(12, 9), before = 10, volume = 1e4
    ),
    "up"
  )
  expect_identical(figure_movers(moves)$data$said, c("+20.00%", "-10.00%"))
  facts <- data.frame(
    symbol = "KELD",
    item = rep(c("x", "y"), each = 4),
    value = 1:8,
    period_start = as.Date(paste0(2022:2025, "-01-01")),
    period_end = as.Date(paste0(2022:2025, "-12-31"))
  )
  wide <- facts_statement(facts)
  long <- facts_statement(facts, form = "long")
  expect_identical(
    sort(figure_statement(wide)$data$value),
    sort(figure_statement(long)$data$value)
  )
  pairs <- series_correlation(days_of(50, c("a", "b")))
  cells <- figure_correlation(pairs)$data
  expect_identical(nrow(cells), 4L)
  expect_equal(cells$correlation[cells$a != cells$b], rep(pairs$correlation, 2))
  releases <- data.frame(
    series = "t",
    period = as.Date(c("2026-01-01", "2026-01-01", "2026-02-01")),
    known = utc_at(c(1, 2, 2)),
    value = c(1, 2, 3)
  )
  revised <- figure_revisions(releases)
  lines <- revised$data
  expect_identical(lines$value[lines$line == "first"], c(1, 3))
  expect_identical(lines$value[lines$line == "latest"], c(2, 3))
  expect_identical(lines$value[lines$line == "revision"], c(1, 0))
  expect_match(revised$labels$subtitle, "1 of 2 values revised, by 100%")
  named <- figure_revisions(
    releases,
    heading = "Traffic", names = c(t = strrep("a long name ", 6))
  )
  expect_identical(named$labels$title, "Traffic: first published and now")
  season <- figure_season(days_of(800))
  expect_setequal(unique(season$data$year), 2020:2022)
  expect_identical(
    levels(figure_season(days_of(800), "month")$data$month), month.abb
  )
  walk <- transform(days_of(200), value = cumsum(sin(1:200)^2 + 1))
  walk$value[100:200] <- walk$value[100:200] * 50
  spread <- figure_spread(walk, "difference")
  expect_match(spread$labels$caption, "left out: [0-9]+ change")
  for (figure in list(
    figure_coverage(series), figure_movers(moves), figure_statement(wide),
    figure_correlation(pairs), figure_revisions(releases), season, spread
  )) {
    expect_gt(draw(figure), 3000)
  }
})

test_that("empty, single and thousand series, long names, odd values", {
  expect_error_kind(
    figure_lines(days_of(5)[0, ]), "figure", "no values to draw"
  )
  expect_error_kind(
    figure_lines(transform(days_of(5), value = NA_real_)), "figure", "no values"
  )
  expect_error_kind(figure_gaps(days_of(5)[0, ]), "figure")
  expect_silent(draw(figure_lines(days_of(1))))
  many <- suppressMessages(
    figure_lines(days_of(30, sprintf("station %04d", 1:1000)))
  )
  expect_match(many$labels$caption, "1,000 series: their names are left out")
  expect_match(many$labels$title, "and [0-9]+ more$")
  expect_gt(draw(many), 3000)
  long <- strrep("a very long name of a lock ", 12)
  expect_lt(nchar(figure_lines(days_of(9, long))$labels$title), 100)
  for (value in list(1e-9 * 1:9, 1e12 * 1:9, -5 * 1:9, rep(0, 9))) {
    for (dark in c(FALSE, TRUE)) {
      expect_gt(
        draw(figure_lines(days_of(9, value = value), dark = dark)), 3000
      )
    }
  }
  for (width in c(320, 2560)) {
    expect_gt(draw(figure_lines(days_of(9, c("a", "b"))), width), 2000)
  }
})

test_that("figures are complete files, equal each time", {
  figure <- figure_lines(days_of(50, c("a", "b")))
  for (ending in c("png", "svg", "pdf")) {
    files <- withr::local_tempfile(
      lines = rep("", 2), fileext = paste0(".", ending)
    )
    other <- withr::local_tempfile(fileext = paste0(".", ending))
    figure_save(figure, files)
    Sys.sleep(1.1)
    figure_save(figure, other)
    expect_identical(
      unname(tools::md5sum(files)), unname(tools::md5sum(other)), label = ending
    )
  }
  expect_error_kind(
    figure_save(figure, "x.png", 10, 10), "figure", "10 by 10 pixels"
  )
  expect_error_kind(figure_save(figure, "x.png", Inf), "figure", "pixels")
  expect_error_kind(figure_save(figure, "x.gif"), "figure", "png")
  expect_error_kind(
    figure_save(figure, "no-such-folder/x.png"), "figure", "does not exist"
  )
  kept <- withr::local_tempfile(fileext = ".png", lines = "mine")
  broken <- figure + ggplot2::aes(y = .data$nothing)
  expect_error_kind(figure_save(broken, kept), "figure", "cannot be drawn")
  expect_identical(readLines(kept), "mine")
})

test_that("what is missing tells its reason where one is known", {
  days <- data.frame(
    series = "level",
    period = as.Date("2026-01-01") + c(0:9, 15:20),
    value = 1
  )
  gaps <- data.frame(
    series = "level",
    first = as.POSIXct("2026-01-11", tz = "UTC"),
    last = as.POSIXct("2026-01-12", tz = "UTC"),
    missing = 2,
    reason = "outage"
  )
  cells <- figure_gaps(days, gaps = gaps)$data
  expect_identical(
    as.integer(table(cells$state)[c("present", "missing", "missing: outage")]),
    c(16L, 3L, 2L)
  )
  expect_identical(
    as.character(cells$state[cells$day == as.Date("2026-01-11")]),
    "missing: outage"
  )
  expect_error(figure_gaps(days, gaps = 3), class = "vetusta_error_argument")
})

test_that("a series prints from when to when, how complete, and its course", {
  days <- series_frame(
    data.frame(
      series = "level",
      period = as.Date("2026-01-01") + c(0:9, 15:23),
      value = c(1:10, 16:24)
    )
  )
  told <- capture.output(print(days))
  expect_match(
    told[2],
    "level  2026-01-01 to 2026-01-24, P1D|level  2026-01-01 to 2026-01-24, D"
  )
  expect_match(told[2], "79.2% present", fixed = TRUE)
  about <- summary(days)
  expect_equal(about$coverage, 19 / 24)
  signs <- strsplit(about$course, "")[[1]]
  # twenty-four days, five of them without a value
  expect_length(signs, 24)
  expect_identical(
    signs[c(1, 24)],
    if (isTRUE(l10n_info()[["UTF-8"]])) c("\u2581", "\u2588") else c("_", "#")
  )
  expect_identical(which(signs == " "), 11:15)
  flat <- summary(
    series_frame(
      data.frame(
        series = "level",
        period = as.Date("2026-01-01") + 0:2,
        value = 5
      )
    )
  )
  expect_length(unique(strsplit(flat$course, "")[[1]]), 1)
  wide <- days
  for (i in 1:12) wide[[paste0("a_long_column_", i)]] <- i
  expect_true(
    all(
      nchar(
          capture.output(withr::with_options(list(width = 80), print(wide)))
        ) <=
        80
    )
  )
})
