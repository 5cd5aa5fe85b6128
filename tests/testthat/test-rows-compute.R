test_that("columns are computed from others, and nothing else is run", {
  rows <- data.frame(symbol = c("A", "B"), open = c(40, 50), last = c(41, NA))
  done <- rows_compute(
    rows,
    c("gain = 100 * (last / open - 1)", "twice=2*gain", "size=abs(open-45)")
  )
  expect_equal(done$gain, c(2.5, NA))
  expect_equal(done$twice, c(5, NA))
  expect_identical(done$size, c(5, 5))
  expect_identical(rows_compute(rows, character()), rows)
  # numbers stored as text
  expect_identical(
    rows_compute(data.frame(n = c("1", "2")), "m = n + 1")$m, c(2, 3)
  )
  expect_error_kind(
    rows_compute(rows, "x = opn + 1"), "argument", "did you mean \"open\""
  )
  expect_error_kind(
    rows_compute(rows, "x = symbol + 1"), "argument", "no numbers"
  )
  for (wrong in c(
    "x", "x = ", "x = system('ls')", "x = open; quit()", "x == 1",
    "x = `open`(1)", "x = function() 1", "x = open[1]", "x = {open}",
    "1x = open"
  )) {
    expect_error_kind(rows_compute(rows, wrong), "argument", "cannot be read")
  }
})

test_that("conditions compare two columns", {
  rows <- data.frame(
    last = c(2, 1, NA),
    open = c(1, 2, 1),
    first = as.Date("2026-01-01") + 0:2,
    until = as.Date("2026-01-02"),
    name = "open"
  )
  expect_identical(rows_filter(rows, "last>open")$last, 2)
  expect_identical(nrow(rows_filter(rows, "first<=until")), 2L)
  # equality compares with the text, not with the column
  expect_identical(nrow(rows_filter(rows, "name=open")), 3L)
  expect_error_kind(
    rows_filter(rows, "last>first"), "argument", "compares numbers"
  )
})

test_that("renamed columns stay keys", {
  days <- data.frame(
    time = as.Date("2026-03-12") + c(0, 0, 1),
    symbol = c("A", "B", "A"),
    bid = 1:3
  )
  chosen <- vetusta:::rows_columns(days, c("time", "leg=symbol", "bid"))
  expect_identical(names(chosen), c("time", "leg", "bid"))
  file <- tempfile(fileext = ".csv")
  export_append(chosen[1:2, ], file)
  chosen$bid[2] <- 9L
  done <- export_append(
    vetusta:::rows_columns(
      transform(days, bid = c(1L, 9L, 3L)), c("time", "leg=symbol", "bid")
    ),
    file
  )
  expect_identical(c(done$new, done$changed), c(1L, 1L))
  expect_identical(read.csv(file)$bid, c(1L, 9L, 3L))
})
