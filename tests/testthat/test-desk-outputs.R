# Outputs of rows by key, of facts, statements and rankings, and their tables
# that grow.
outputs_desk <- function(lines, env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  desk <- desk_make(folder)
  cat(
    c("outputs:", paste0("  ", lines)), sep = "\n",
    file = file.path(folder, "desk.yml"), append = TRUE
  )
  archive <- archive_open(desk$archive)
  on.exit(archive_close(archive))
  put_rows(
    archive, "quay", "directory", "instruments",
    data.frame(symbol = c("KELD", "TAMX"), name = c("Kelder", "Tamm"))
  )
  put_rows(archive, "register", "facts", "facts", quarters(1:4))
  days <- as.POSIXct("2026-03-12 07:30", tz = "UTC") + 86400 * 0:1
  put_rows(
    archive, "quay", "bars", "bars",
    data.frame(
      symbol = rep(c("KELD", "TAMX"), each = 2), time = rep(days, 2),
      close = c(40, 44, 10, 9), volume = 5000
    ),
    "P1D"
  )
  desk_open(folder)
}

quarters <- function(of) {
  ends <- as.Date(c("2025-03-31", "2025-06-30", "2025-09-30", "2025-12-31"))
  data.frame(
    symbol = "KELD", item = "revenue",
    period_start = as.Date(c("2025-01-01", "2025-04-01", "2025-07-01",
      "2025-10-01"
    ))[of],
    period_end = ends[of], basis = "quarterly", unit = "ORV",
    value = 100 * of, filed = ends[of] + 40
  )
}

test_that("tables of rows by key and of facts grow", {
  desk <- outputs_desk(
    c(
      "names: {rows: quay/directory, append: names.csv}",
      "facts: {series: register/facts, append: facts.csv}",
      "known: {rows: quay/directory, columns: [symbol], file: known.csv}"
    )
  )
  written <- desk_write(desk)
  expect_identical(written$message, rep("", 3))
  read <- function(name) utils::read.csv(file.path(desk$folder, name))
  expect_identical(read("names.csv")$symbol, c("KELD", "TAMX"))
  expect_identical(read("facts.csv")$value, c(100L, 200L, 300L, 400L))
  expect_identical(names(read("known.csv")), "symbol")
  # again: nothing twice; then a new row, a changed one, and a new fact
  desk_write(desk)
  expect_identical(nrow(read("facts.csv")), 4L)
  archive <- archive_open(desk$archive)
  put_rows(
    archive, "quay", "directory", "instruments",
    data.frame(symbol = c("TAMX", "BROM"), name = c("Tamm River", "Brom"))
  )
  more <- quarters(4)
  more$item <- "profit"
  put_rows(archive, "register", "facts", "facts", more)
  archive_close(archive)
  expect_identical(desk_write(desk)$message, rep("", 3))
  expect_identical(read("names.csv")$name, c("Kelder", "Tamm River", "Brom"))
  expect_identical(nrow(read("facts.csv")), 5L)
})

test_that("statements and rankings are outputs", {
  desk <- outputs_desk(
    c(
      "year: {statement: {symbols: [KELD], period: quarterly}, file: y.csv}",
      "grows: {statement: {symbols: [KELD], period: quarterly, limit: 2},",
      "  append: grows.csv}",
      "moves: {rank: {of: [\"quay/bars/*@1 day\"], limit: 1}, file: m.csv}",
      "falls: {rank: {of: [\"quay/bars/*@1 day\"], by: down, type: any,",
      "  min_volume: 0}, where: [\"symbol=TAMX\"], file: f.csv}"
    )
  )
  written <- desk_write(desk)
  expect_identical(written$message, rep("", 4))
  read <- function(name) {
    utils::read.csv(file.path(desk$folder, name), check.names = FALSE)
  }
  expect_identical(read("y.csv")[["2025-09-30"]], 300L)
  expect_identical(read("grows.csv")$value, c(400L, 300L))
  expect_identical(nrow({
    desk_write(desk, "grows")
    read("grows.csv")
  }), 2L)
  expect_identical(read("m.csv")$symbol, "KELD")
  expect_equal(read("m.csv")$percent, 10)
  expect_identical(read("f.csv")$symbol, "TAMX")
})

test_that("words that do not fit together are refused with the line", {
  wrong <- function(lines, pattern) {
    error <- expect_error_kind(outputs_desk(lines), "desk", pattern)
    expect_match(error$where, "line [0-9]+")
  }
  wrong(
    "a: {statement: {symbols: [K]}, rows: register/facts, file: a.csv}",
    "facts: of its own"
  )
  wrong("a: {rank: {of: [x]}, series: [y], file: a.csv}", "by of:")
  wrong("a: {rank: {off: [x]}, file: a.csv}", "Unknown word \"off\"")
  wrong("a: {rows: quay/directory, from: 2026, file: a.csv}", "no window")
  wrong("a: {statement: {period: weekly}, file: a.csv}", "weekly")
})
