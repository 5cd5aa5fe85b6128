# How objects print that no command shows. Every change is read before it is
# accepted.

test_that("files, forms and guesses print", {
  folder <- withr::local_tempdir()
  withr::local_dir(folder)
  writeLines(
    c("Account report;;", "", "Date;Price", "13/03/2026;61,70"), "march.csv"
  )
  expect_snapshot(print(archive_import_form("march.csv")))
  expect_snapshot(
    print(archive_import_guess("march.csv", archive_import_form("march.csv")))
  )
  card <- list(interval = "1 day", symbol = "LUDR", dates = "dmy")
  expect_snapshot(print(import_card(card)))
  writeLines(c("a,b", "1,2"), "other.csv")
  expect_snapshot(
    print(import_files(new_archive(), c("march.csv", "other.csv"), card))
  )
  writeLines(c("item,2025", "revenue,"), "model.csv")
  facts <- data.frame(
    symbol = "KELD", item = "revenue", value = 2,
    period_start = as.Date("2025-01-01"), period_end = as.Date("2025-12-31")
  )
  expect_snapshot(print(export_fill(facts, "model.csv", symbol = "KELD")))
  rows <- data.frame(period = as.Date("2026-03-12"), level = 250.1)
  export_append(rows, "level.csv")
  expect_snapshot(print(export_append(rows, "level.csv")))
})

test_that("desks, datasets, reports and secrets print", {
  folder <- withr::local_tempdir()
  desk <- desk_make(folder)
  expect_snapshot(print(desk), transform = plain_words)
  expect_snapshot(print(datasets_describe(source_card("quay"), "bars")))
  withr::local_envvar(QUAY_KEY = "an-invented-key")
  expect_snapshot(print(source_secret(source_card("quay"), "QUAY_KEY")))
  archive <- archive_with_days()
  expect_snapshot(print(report_make(archive)), transform = plain_words)
})

test_that("tests and cycles of models print", {
  days <- 1:800
  level <- data.frame(
    series = "mill", period = as.Date("2024-01-01") + days - 1,
    value = round(200 + 30 * sin(2 * pi * days / 365.25) + days %% 7, 2)
  )
  expect_snapshot(print(model_spectrum(level)))
  expect_snapshot(print(model_dependence(level)))
  expect_snapshot(print(model_tests(level)))
})

test_that("a whole model and a backtest print", {
  days <- as.Date("2016-01-01") + 0:1825
  level <- data.frame(
    series = "lock", period = days,
    value = round(
      190 + 40 * cos(2 * pi * (as.POSIXlt(days)$yday - 100) / 365.25) +
        seq_along(days) * 7919 %% 101 / 25, 2
    )
  )
  # machines differ in the last digits of an optimum
  words_only <- function(lines) {
    gsub("(\\S) +", "\\1 ", gsub("-?[0-9]+([.,][0-9]+)*", "N", lines))
  }
  model <- model_run(
    level,
    list(
      noise = list(order = c(1, 1)),
      paths = list(n = 50, horizon = "1 year"),
      index = list(below = 180, season = c("05-01", "10-31")),
      payoff = list(strikes = c(500, 1500))
    )
  )
  expect_snapshot(print(model), transform = words_only)
  expect_snapshot(
    print(model_backtest(
      level,
      origins = "2019-01-01", horizon = "90 days", n = 20,
      season = list(periods = 365.25), noise = list(order = c(1, 0))
    )),
    transform = words_only
  )
})
