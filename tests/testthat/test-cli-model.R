# The command model, models in files, and models of a desk.
model_desk <- function(env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  desk_make(folder, cards = "river")
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  days <- as.Date("2016-01-01") + 0:3652
  value <- withr::with_seed(
    1,
    round(
      190 + 40 * cos(2 * pi * year_part(as.numeric(days))) +
        as.numeric(
          stats::filter(rnorm(3653, sd = 5), 0.8, method = "recursive")
        ),
      1
    )
  )
  csv <- withr::local_tempfile(fileext = ".csv")
  export_csv(
    data.frame(series = "lock", period = days, value = value)[
      -c(100, 101, 900),
    ],
    csv
  )
  archive_import_rows(
    archive, csv, "observations", source = "files", dataset = "levels"
  )
  archive_close(archive)
  folder
}

model_command <- function(folder, ...) {
  done <- processx::run(
    "Rscript",
    c("--no-init-file", "-e", "vetusta::cli_main()", "model", ...),
    env = c("current", R_LIBS = r_libs()),
    error_on_status = FALSE,
    wd = folder
  )
  list(
    status = done$status,
    out = strsplit(done$stdout, "\n")[[1]],
    said = done$stderr
  )
}

test_that("every kind of model, as text, JSON, table and figure", {
  folder <- model_desk()
  run <- function(...) model_command(folder, ...)
  common <- c(
    "lock", "--fill", "linear", "--order", "1,0", "--harmonics", "1",
    "--paths", "200", "--horizon", "1 year"
  )
  season <- c("--below", "180", "--season", "05-01,10-31")
  expect_match(run("spectrum", common)$out[1], "a year")
  expect_match(
    run("dependence", common)$out[1], "autocorrelation 0.[78]"
  )
  expect_match(
    run("season", common)$out[1], "trend and season of lock, 3,653 days"
  )
  expect_match(
    run("noise", common)$out[1], "ARMA(1,0) with a constant variance",
    fixed = TRUE
  )
  expect_match(run("paths", common)$out[1], "200 paths of 365 days, seed 1")
  index <- run("index", common, season)
  expect_match(index$out[1], "the mean of 200 paths")
  expect_true(any(grepl("^2016 +2016-05-01", index$out)))
  payoff <- run(
    "payoff", common, season, "--strikes", "1000,2000", "--pays", "3", "--json"
  )
  rows <- jsonlite::fromJSON(payoff$out)
  expect_identical(nrow(rows), 4L)
  expect_identical(rows$pays, rep(3L, 4))
  expect_match(payoff$said, "^$")
  back <- run("backtest", common, "--origins", "2023-06-30")
  expect_match(back$out[1], "1 year ahead from 1 day")
  for (file in c("p.csv", "p.png", "p.svg", "p.html")) {
    done <- run("paths", common, "--file", file)
    expect_match(done$said, paste0("wrote ", file), fixed = TRUE)
    expect_gt(file.size(file.path(folder, file)), 5000)
  }
  quantiles <- utils::read.csv(file.path(folder, "p.csv"), check.names = FALSE)
  expect_identical(
    names(quantiles), c("period", "mean", "5%", "25%", "50%", "75%", "95%")
  )
  expect_identical(nrow(quantiles), 365L)
})

test_that("a saved model gives equal numbers and reports changed data", {
  folder <- model_desk()
  saved <- model_command(
    folder, "payoff", "lock", "--fill", "linear", "--order", "1,0", "--paths",
    "300", "--horizon", "1 year", "--below", "180", "--season", "05-01,10-31",
    "--strikes", "1000", "--save", "low.yml"
  )
  expect_identical(saved$status, 0L)
  lines <- readLines(file.path(folder, "low.yml"))
  expect_true(any(grepl("^series: [']?files/levels/lock", lines)))
  for (line in c(
    "  values: 3650", "  seed: 1.0", "  first: '2016-01-01T00:00:00Z'"
  )) {
    expect_true(line %in% lines, info = line)
  }
  again <- model_command(folder, "run", "low.yml")
  expect_identical(again$out, saved$out)
  expect_match(again$said, "the same numbers as before\n$")
  # more days arrive, and one value is revised
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  csv <- withr::local_tempfile(fileext = ".csv")
  export_csv(
    data.frame(
      series = "lock",
      period = as.Date(c("2025-12-31", "2026-01-01")),
      value = c(150, 151)
    ),
    csv
  )
  archive_import_rows(
    archive, csv, "observations", source = "files", dataset = "levels"
  )
  archive_close(archive)
  later <- model_command(folder, "run", "low.yml")
  expect_identical(later$out, saved$out)
  expect_match(later$said, "the same numbers as before", fixed = TRUE)
  expect_match(later$said, "the data has changed since: 3,65[12] values now")
  renewed <- model_command(folder, "run", "low.yml", "--renew")
  expect_false(identical(renewed$out, saved$out))
  expect_match(
    model_command(folder, "run", "low.yml")$said,
    "the same numbers as before\n$"
  )
  expect_identical(
    grep("^# A model", readLines(file.path(folder, "low.yml"))), 1L
  )
})

test_that("a desk's model is fitted with its outputs and reported", {
  folder <- model_desk()
  writeLines(
    c(
      "model: Low water", "series: files/levels/lock", "fill: [linear]",
      "noise:", "  order: [1, 0]", "paths: {n: 100, horizon: 1 year}",
      "index: {below: 180, season: [05-01, 10-31]}", "payoff: {strikes: 1000}"
    ),
    file.path(folder, "low.yml")
  )
  cat(
    "outputs:\n  low-water:\n    model: low.yml\n    file: low.html\n",
    file = file.path(folder, "desk.yml"),
    append = TRUE
  )
  desk <- desk_open(folder)
  written <- desk_write(desk)
  expect_identical(written$outcome, "written")
  expect_true(file.exists(file.path(folder, "low.html")))
  expect_true(any(grepl("^fitted:", readLines(file.path(folder, "low.yml")))))
  expect_identical(
    readLines(file.path(folder, "low.yml"))[1], "model: Low water"
  )
  report <- desk_report(desk)
  expect_true("low-water: Simulated paths" %in% names(report$figures))
  expect_true("low-water: Payoff terms" %in% names(report$tables))
  cat(
    "    series: files/levels/lock\n",
    file = file.path(folder, "desk.yml"),
    append = TRUE
  )
  expect_error(
    desk_open(folder), "names its series", class = "vetusta_error_desk"
  )
})

test_that("what is wrong with a model is told, with what to do", {
  folder <- model_desk()
  wrong <- list(
    list(c("payoff", "lock"), "3 holes"), list("season", "name a series"),
    list(c("saeson", "lock"), "did you mean \"season\""),
    list(character(), "needs"),
    list(
      c("season", "lock", "--fill", "linear", "--periods", "40 years"),
      "longer than the series"
    ),
    list(
      c("noise", "lock", "--fill", "linear", "--order", "1"),
      "two whole numbers"
    ),
    list(c("noise", "lock", "--fill", "linear", "--order", "a,b"), "numbers"),
    list(c("index", "lock", "--fill", "linear"), "below a level"),
    list(
      c(
        "payoff", "lock", "--fill", "linear", "--below", "180", "--strikes",
        "9", "--cap", "3"
      ),
      "not below its cap"
    ),
    list(
      c("noise", "lock", "--fill", "linear", "--file", "x.png"), "has no figure"
    ),
    list(c("run", "none.yml"), "There is no such model"),
    list("run", "name the model's file"),
    list(c("season", "nothing"), "nothing")
  )
  for (one in wrong) {
    done <- do.call(model_command, c(list(folder), as.list(one[[1]])))
    expect_true(done$status %in% 1:2, info = paste(one[[1]], collapse = " "))
    expect_match(done$said, one[[2]], fixed = TRUE)
    expect_match(done$said, "to do")
  }
  file <- file.path(folder, "bad.yml")
  for (text in list(
    c("series: lock", "indx: {}"), c("series: lock", "paths: {n: many}"),
    "model: none", c("series: lock", "season: {effects: year}")
  )) {
    writeLines(text, file)
    expect_error(model_read(file), class = "vetusta_error_model")
  }
})

test_that("a definition in R is checked word by word", {
  level <- data.frame(
    series = "a",
    period = as.Date("2016-01-01") + 0:899,
    value = rnorm(900)
  )
  expect_error(
    model_run(level, list(seson = list())), "season",
    class = "vetusta_error_model"
  )
  expect_error(
    model_run(level, list(payoff = list(strikes = 1))), "needs an index",
    class = "vetusta_error_model"
  )
  expect_error(
    model_run(level, list(index = list(below = 0), payoff = list(strike = 1))),
    "strikes", class = "vetusta_error_model"
  )
  expect_error(model_run(level, 3), class = "vetusta_error_model")
  only <- model_run(level, list(season = list(periods = numeric())))
  expect_null(only$noise)
  expect_identical(unique(summary(only)$part), "season")
})

test_that("a desk's report fits and writes no model of its own", {
  folder <- model_desk()
  text <- c(
    "series: files/levels/lock", "fill: [linear]",
    "paths: {n: 50, horizon: 1 month}"
  )
  writeLines(text, file.path(folder, "low.yml"))
  cat(
    "outputs:\n  low-water:\n    model: low.yml\n    file: low.html\n",
    file = file.path(folder, "desk.yml"),
    append = TRUE
  )
  report <- desk_report(desk_open(folder))
  expect_false(any(grepl("^low-water", names(report$figures))))
  expect_identical(readLines(file.path(folder, "low.yml")), text)
})
