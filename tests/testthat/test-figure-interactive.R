# Interactive figures: what each layer of a figure becomes.
spec_of <- function(figure, ...) figure_interactive(figure, ...)$x

level_rows <- function(n = 20, name = "weir") {
  data.frame(
    series = name, period = as.Date("2026-01-01") + seq_len(n) - 1,
    value = seq_len(n) + 0.25
  )
}

test_that("lines keep every value, day and name, with gaps between pieces", {
  rows <- level_rows(40)
  rows <- rows[-(10:25), ]
  spec <- spec_of(figure_lines(rbind(rows, level_rows(40, "lock"))))
  named <- vapply(spec$data, `[[`, "", "name")
  expect_setequal(named, c("weir", "lock"))
  weir <- spec$data[[match("weir", named)]]
  there <- !is.na(weir$y)
  expect_identical(as.numeric(weir$y[there]), rows$value)
  expect_identical(as.character(weir$x[there]), format(rows$period))
  expect_identical(sum(!there), 1L)
  expect_true(spec$layout$showlegend)
  expect_identical(spec$layout$xaxis$type, "date")
})

test_that("times are those of the zone, and nights take no space", {
  bars <- minute_bars("KELD")
  spec <- spec_of(figure_lines(bars, zone = "Europe/Riga"))
  expect_identical(
    as.character(spec$data[[1]]$x[1]),
    format(bars$time[1], "%Y-%m-%d %H:%M", tz = "Europe/Riga")
  )
  two <- rbind(bars, transform(bars, time = time + 86400))
  breaks <- spec_of(
    figure_lines(two, zone = "Europe/Riga")
  )$layout$xaxis$rangebreaks
  hours <- Filter(function(x) identical(x$pattern, "hour"), breaks)[[1]]$bounds
  local <- as.POSIXlt(bars$time, tz = "Europe/Riga")
  clock <- local$hour + local$min / 60
  expect_gte(hours[1], max(clock) + 1 / 60)
  expect_lte(hours[2], min(clock))
})

test_that("candles keep their prices, and volume its panel", {
  bars <- minute_bars("KELD")
  figure <- figure_candles(bars, zone = "UTC", most = 1e5)
  spec <- spec_of(figure)
  kind <- vapply(spec$data, `[[`, "", "type")
  candles <- spec$data[[match("candlestick", kind)]]
  for (price in c("open", "high", "low", "close")) {
    expect_equal(as.numeric(candles[[price]]), bars[[price]])
  }
  volume <- spec$data[[match("bar", kind)]]
  expect_equal(as.numeric(volume$y), as.numeric(bars$volume))
  expect_false(volume$yaxis == candles$yaxis)
  expect_false("scatter" %in% kind)
})

test_that("a logarithmic axis has the values themselves", {
  spec <- spec_of(figure_lines(level_rows(), log_scale = TRUE))
  expect_identical(spec$layout$yaxis$type, "log")
  expect_equal(as.numeric(spec$data[[1]]$y), level_rows()$value)
})

test_that("panels share their time, and have headings", {
  rows <- rbind(level_rows(), level_rows(name = "lock"), level_rows(name = "a"))
  spec <- spec_of(figure_lines(rows, panels = "free"))
  expect_identical(spec$layout$xaxis2$matches, "x")
  expect_null(spec$layout$yaxis2$matches)
  heads <- vapply(spec$layout$annotations, `[[`, "", "text")
  expect_setequal(heads, c("<b>a</b>", "<b>lock</b>", "<b>weir</b>"))
  fixed <- spec_of(figure_lines(rows, panels = "fixed"))
  expect_identical(fixed$layout$yaxis2$matches, "y")
  expect_false(fixed$layout$showlegend)
})

test_that("every kind of figure has traces, and no text that runs", {
  rows <- level_rows(800)
  rows$value <- rows$value + 40 * sin(rows$period |> as.numeric() / 58)
  odd <- rows
  odd$series <- "<img src=x onerror=alert(1)>"
  figures <- list(
    season = figure_season(rows), months = figure_season(rows, by = "month"),
    spread = figure_spread(rows), gaps = figure_gaps(rows[-(40:60), ]),
    strips = figure_gaps(rbind(rows[1:50, ], level_rows(50, "lock")[-7, ])),
    filled = figure_filled(series_fill(rows[-(40:42), ], rule = "linear")),
    odd = figure_lines(rbind(odd, rows), panels = "free")
  )
  for (name in names(figures)) {
    spec <- spec_of(figures[[name]])
    expect_gt(length(spec$data), 0)
    finite <- unlist(lapply(spec$data, function(x) as.numeric(x$y)))
    expect_false(any(is.infinite(finite)), label = name)
    file <- withr::local_tempfile(fileext = ".html")
    figure_save(figures[[name]], file)
    expect_length(
      xml2::xml_find_all(xml2::read_html(file), "//img|//*[@onerror]"), 0
    )
  }
  # boxes side by side are one
  gaps <- spec_of(figures$gaps)$data
  expect_lt(sum(lengths(lapply(gaps, `[[`, "x"))), 100)
})

test_that("the page of a figure needs no network and no other file", {
  file <- withr::local_tempfile(fileext = ".html")
  expect_identical(
    figure_save(figure_lines(level_rows(), caption = "source: A"), file), file
  )
  html <- xml2::read_html(file)
  outside <- "//*[@src]|//link[@href!='data:,']"
  expect_length(xml2::xml_find_all(html, outside), 0)
  text <- xml2::xml_text(xml2::xml_find_first(html, "//figcaption"))
  expect_match(text, "source: A")
  expect_lt(file.size(file), 4.2e6)
  expect_error_kind(figure_save(figure_lines(level_rows()), "x.gif"), "figure")
  expect_error_kind(figure_interactive(1), "figure", "not a figure")
  expect_error_kind(figure_interactive(), "figure")
  expect_error_kind(
    figure_interactive(figure_lines(level_rows()), height = "tall"), "figure"
  )
  broken <- figure_lines(level_rows()) +
    ggplot2::geom_point(ggplot2::aes(y = .data$nothing))
  expect_error_kind(figure_interactive(broken), "figure", "cannot be drawn")
})

test_that("a hundred thousand values are all there", {
  n <- 1e5
  times <- as.POSIXct("2015-01-01", tz = "UTC") + 3600 * seq_len(n)
  table <- data.frame(series = "s", time = times, value = cumsum(sin(1:n)))
  spec <- spec_of(figure_lines(table, columns = 1e5))
  expect_length(spec$data[[1]]$y, n)
})
