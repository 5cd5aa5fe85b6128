# What is drawn over lines and candles, and an axis at the right.
overlay_days <- function(n = 60) {
  data.frame(
    series = "lock", period = as.Date("2026-01-01") + seq_len(n) - 1,
    value = 100 + cumsum(sin(seq_len(n)))
  )
}

layer_with <- function(figure, column) {
  data <- lapply(figure$layers, function(layer) layer$data)
  Filter(function(x) is.data.frame(x) && column %in% names(x), data)[[1]]
}

test_that("a mean and a band are those of the window, by definition", {
  days <- overlay_days()
  figure <- figure_lines(days, with = c("band 3 10 days", "mean 5 days"))
  band <- layer_with(figure, "low")
  for (i in c(10, 37, 60)) {
    window <- days$value[max(1, i - 9):i]
    time <- as.numeric(as.POSIXct(days$period[i], tz = "UTC"))
    at <- band[band$time == time, ]
    expect_equal(at$value, mean(window))
    expect_equal(at$high, mean(window) + 3 * sd(window))
    expect_equal(at$low, mean(window) - 3 * sd(window))
  }
  expect_match(figure$labels$caption, "over it: band 3 10 days, mean 5 days")
})

test_that("a later value moves no earlier mean", {
  days <- overlay_days()
  before <- layer_with(figure_lines(days, with = "mean 7 days"), "value")
  days$value[50:60] <- 1e6
  after <- layer_with(figure_lines(days, with = "mean 7 days"), "value")
  expect_identical(after$value[1:49], before$value[1:49])
})

test_that("levels and marks have their words, and stand at their place", {
  bars <- data.frame(
    symbol = "KELD", time = as.POSIXct("2026-03-02 07:30", tz = "UTC") +
      86400 * c(0:4, 7:9), open = 1:8, high = 2:9, low = 0:7 + 0.5, close = 1:8
  )
  figure <- figure_candles(
    bars_frame(bars),
    with = c("level 4 flood mark", "mark 2026-03-07 strike begins")
  )
  expect_identical(layer_with(figure, "level")$label, "flood mark")
  texts <- unlist(lapply(figure$layers, function(layer) layer$data$label))
  expect_true(" strike begins" %in% texts)
  marks <- Filter(
    function(layer) inherits(layer$geom, "GeomVline"), figure$layers
  )
  # a Saturday stands at the Monday after it
  expect_identical(as.numeric(marks[[1]]$data$at), 6)
  expect_s3_class(figure_interactive(figure), "htmlwidget")
})

test_that("overlays follow an index, and every panel", {
  days <- rbind(overlay_days(), transform(overlay_days(), series = "weir"))
  days$value[days$series == "weir"] <- 5 * days$value[days$series == "weir"]
  figure <- figure_lines(days, base = "2026-01-01", with = "level 100")
  expect_identical(layer_with(figure, "level")$level, 100)
  indexed <- figure_lines(days, base = "2026-01-01", with = "mean 1 day")
  lines <- Filter(is.data.frame, lapply(indexed$layers, `[[`, "data"))
  own <- c("name", "time", "value", "at")
  over <- Filter(function(x) identical(names(x), own), lines)[[1]]
  expect_equal(over$value[over$name == "weir"], over$value[over$name == "lock"])
  figure <- figure_lines(days, panels = "free", with = "mean 3 days")
  built <- ggplot2::ggplot_build(figure)
  panels <- lapply(built$data, function(data) unique(as.integer(data$PANEL)))
  expect_true(all(lengths(panels) == 2))
})

test_that("what is no overlay is refused with the right words", {
  for (with in c(
    "mean", "mean x days", "median 5 days", "level high", "mark soon",
    "mark 2026-02-30 x", "band", "band x 5 days", ""
  )) {
    expect_error(
      figure_lines(overlay_days(), with = with),
      class = "vetusta_error_figure"
    )
  }
  expect_error(
    figure_lines(overlay_days(), with = 5), class = "vetusta_error_figure"
  )
})

test_that("a second series keeps its own values on the axis at the right", {
  days <- overlay_days()
  other <- transform(overlay_days(), series = "price", value = 3 + value / 1e4)
  figure <- figure_lines(days, second = other)
  spec <- figure_interactive(figure)$x
  traces <- spec$data
  right <- Filter(function(trace) identical(trace$yaxis, "y99"), traces)[[1]]
  expect_equal(as.numeric(right$y), other$value)
  expect_match(right$name, "price")
  expect_identical(spec$layout$yaxis99$overlaying, "y")
  # in the static figure the axis undoes the scale of the line
  built <- ggplot2::ggplot_build(figure)
  scale <- built$layout$panel_scales_y[[1]]$second
  is_second <- function(data) !is.null(data[["second_axis"]])
  line <- Filter(is_second, built$data)[[1]]
  expect_equal((line$y - scale$shift) / scale$slope, other$value)
  expect_error(
    figure_lines(days, second = other, panels = "free"),
    class = "vetusta_error_figure"
  )
  expect_error(
    figure_lines(days, second = rbind(days, other)),
    class = "vetusta_error_figure"
  )
  expect_error(
    figure_lines(
      days,
      second = transform(other, period = period + 5000)
    ),
    class = "vetusta_error_figure"
  )
})
