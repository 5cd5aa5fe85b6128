test_that("a CSV is exact, safe in a spreadsheet, and comes into place whole", {
  file <- withr::local_tempfile(fileext = ".csv")
  rows <- data.frame(symbol = c("=1+1", "KELD"), time = as.POSIXct(c(0, 0.25), origin = "1970-01-01", tz = "UTC"), close = c(0.1 + 0.2, NA))
  export_csv(rows, file)
  expect_identical(readLines(file), c("symbol,time,close", "'=1+1,1970-01-01T00:00:00Z,0.30000000000000004", "KELD,1970-01-01T00:00:00.250Z,"))
  expect_error_kind(export_csv(rows, "/none/here.csv"), "export", "folder")
})

test_that("a line is broken where a symbol has nothing while others do", {
  bars <- rbind(minute_bars("KELD"), minute_bars("TAMX", without = 100:200))
  figure <- figure_lines(bars)
  expect_identical(length(unique(figure$data$piece[figure$data$symbol == "TAMX"])), 2L)
  expect_identical(length(unique(figure$data$piece[figure$data$symbol == "KELD"])), 1L)
  scaled <- figure_lines(bars, base = 100)
  expect_equal(scaled$data$shown[1], 100)
})

test_that("nights take no room, and labels at line ends do not lie on each other", {
  bars <- rbind(minute_bars("KELD", "2026-03-12"), minute_bars("KELD", "2026-03-13"))
  expect_identical(range(figure_lines(bars)$data$at), c(1L, 780L))
  expect_true(all(diff(sort(vetusta:::spread_labels(c(1, 1.01, 1.02, 5), 0.5))) >= 0.5 - 1e-9))
})

test_that("every figure can be written in each form, and bad asks are refused", {
  days <- bars_regroup(rbind(minute_bars("KELD"), minute_bars("TAMX")), "1 hour", source_calendar("quay"))
  for (ending in c("png", "pdf", "svg")) {
    file <- withr::local_tempfile(fileext = paste0(".", ending))
    figure_save(figure_candles(days), file)
    expect_gt(file.size(file), 3000)
  }
  expect_error_kind(figure_candles(days[0, ]), "figure", "no bars")
  expect_error_kind(figure_lines(days, value = "clsoe"), "figure", "close")
  expect_error_kind(figure_save(figure_lines(days), "x.gif"), "figure", "png")
})
