# Checks of a desk: what is new, what is still there, what was accepted.
checked_desk <- function(level, more = "", env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  desk_make(folder, cards = "river", title = "A desk")
  cat(more, file = file.path(folder, "desk.yml"), append = TRUE)
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  put_rows(archive, "files", "levels", "observations", level)
  archive_close(archive)
  folder
}

checked_level <- function(n = 400) {
  withr::with_seed(5, data.frame(
    series = "lock", period = as.Date("2025-01-01") + seq_len(n) - 1,
    value = round(200 + cumsum(stats::rnorm(n)), 2)
  ))
}

put_level <- function(folder, rows) {
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  on.exit(archive_close(archive))
  put_rows(archive, "files", "levels", "observations", rows)
}

test_that("a finding is new once, then still there, then gone", {
  level <- checked_level()
  folder <- checked_desk(level[-380, ])
  desk <- desk_open(folder)
  first <- desk_check(desk)
  expect_identical(first$state, "new")
  expect_identical(first$rule, "gap")
  expect_identical(first$series, "files/levels/lock")
  expect_identical(as.Date(first$first), level$period[380])
  again <- desk_check(desk)
  expect_identical(again$state, "still")
  expect_identical(again$id, first$id)
  expect_identical(again$found, first$found)
  put_level(folder, level[380, ])
  expect_identical(nrow(desk_check(desk)), 0L)
})

test_that("an accepted finding is silent until its day, and comes back", {
  folder <- checked_desk(checked_level()[-380, ])
  desk <- desk_open(folder)
  id <- desk_check(desk)$id
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  withr::defer(archive_close(archive))
  archive_accept(archive, substr(id, 1, 4), "a strike", Sys.Date() + 1)
  row <- desk_check(desk)
  expect_identical(row$state, "accepted")
  expect_identical(row$reason, "a strike")
  expect_match(format(row), "1 finding accepted", all = FALSE)
  archive_accept(archive, id, "a strike", Sys.Date() - 2)
  expect_identical(desk_check(desk)$state, "still")
  expect_error(
    archive_accept(archive, "zz", "x"), "No finding",
    class = "vetusta_error_argument"
  )
  expect_error(
    archive_accept(archive, id, "x", "soon"),
    class = "vetusta_error_argument"
  )
})

test_that("a selection and a day choose what is checked", {
  level <- checked_level()
  other <- transform(level, series = "weir")
  folder <- checked_desk(rbind(level[-c(20, 380), ], other[-390, ]))
  desk <- desk_open(folder)
  expect_setequal(
    desk_check(desk)$series, c("files/levels/lock", "files/levels/weir")
  )
  one <- desk_check(desk, "weir")
  expect_identical(one$series, "files/levels/weir")
  # what was not checked stays as it was
  expect_identical(nrow(desk_check(desk)), 2L)
  expect_identical(nrow(desk_check(desk, since = "2025-01-01")), 3L)
})

test_that("desk.yml sets rules, and wrong words have their line", {
  level <- checked_level()
  level$value[395] <- 900
  off <- checked_desk(level, "checks:\n  spike: false\n  gap: {at_least: 2}\n")
  expect_identical(nrow(desk_check(desk_open(off))), 0L)
  on <- checked_desk(level, "checks:\n  range: {high: 500}\n")
  expect_setequal(desk_check(desk_open(on))$rule, c("spike", "range"))
  wrong <- checked_desk(level, "checks:\n  spyke: false\n")
  expect_error(desk_open(wrong), "spike", class = "vetusta_error_desk")
  wrong <- checked_desk(level, "checks:\n  spike: {spread: wide}\n")
  expect_error(desk_open(wrong), "number", class = "vetusta_error_desk")
})

test_that("two sources that differ are found on their days", {
  level <- checked_level(100)
  other <- transform(level, series = "lock-of-another")
  other$value[c(40, 70)] <- other$value[c(40, 70)] * c(1.02, 1.2)
  folder <- checked_desk(
    rbind(level, other),
    paste0(
      "checks:\n  differ:\n    lock:\n      series: [files/levels/lock, ",
      "files/levels/lock-of-another]\n      percent: 5\n"
    )
  )
  found <- desk_check(desk_open(folder))
  found <- found[found$rule == "differ", ]
  expect_identical(as.Date(found$first), level$period[70])
  expect_match(found$detail, "16.7% apart", fixed = TRUE)
})

test_that("the command tells, exits with 3, runs on_finding, and accepts", {
  folder <- checked_desk(
    checked_level()[-380, ],
    "on_finding: printf '%s' \"$VETUSTA_MESSAGE\" > told.txt\n"
  )
  told <- file.path(folder, "told.txt")
  first <- run_vetusta("check", folder = folder)
  expect_identical(first$status, 3L, label = first$stderr)
  expect_match(first$stdout, "1 finding, 1 new", fixed = TRUE)
  expect_match(readLines(told, warn = FALSE), "gap files/levels/lock")
  unlink(told)
  again <- run_vetusta("check", "--json", folder = folder)
  expect_false(file.exists(told))
  findings <- jsonlite::fromJSON(again$stdout)$findings
  expect_identical(findings$state, "still")
  status <- run_vetusta("status", folder = folder)
  expect_match(status$stderr, "1 finding of the last check")
  accepted <- run_vetusta(
    "check", "--accept", substr(findings$id, 1, 6), "--reason", "a strike",
    folder = folder
  )
  expect_identical(accepted$status, 0L, label = accepted$stderr)
  expect_identical(run_vetusta("check", folder = folder)$status, 0L)
  for (words in list(
    c("--accept", "x"), c("--reason", "x"), "nobody", c("--since", "soon")
  )) {
    wrong <- do.call(run_vetusta, c("check", as.list(words), folder = folder))
    expect_true(wrong$status %in% 1:2, info = words[1])
    expect_match(wrong$stderr, "to do")
  }
})

test_that("a report has the findings, with their link", {
  folder <- checked_desk(checked_level()[-380, ])
  desk <- desk_open(folder)
  desk_check(desk)
  report <- desk_report(desk)
  expect_identical(report$tables$Findings$rule, "gap")
  expect_true(
    "gap: files/levels/lock" %in% report$tables[["Needs attention"]]$what
  )
})

test_that("items that do not add up to their total are found, as filed last", {
  end <- as.Date(c("2024-12-31", "2025-12-31"))
  facts <- data.frame(
    symbol = "KELD", period_start = rep(end - 364, 3),
    period_end = rep(end, 3),
    item = rep(c("total_assets", "equity", "total_liabilities"), each = 2),
    basis = "annual", unit = "ORV", value = c(100, 110, 60, 60, 40, 40),
    filed = rep(end + 70, 3)
  )
  folder <- checked_desk(
    checked_level(),
    "checks:\n  adds_up:\n    total_assets: [equity, total_liabilities]\n"
  )
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  put_rows(archive, "register", "facts", "facts", facts)
  archive_close(archive)
  found <- desk_check(desk_open(folder))
  expect_identical(found$rule, "adds_up")
  expect_identical(found$series, "KELD total_assets")
  expect_identical(as.Date(found$first), end[2])
  expect_match(found$detail, "equity + total_liabilities is 100", fixed = TRUE)
  # a later filing mends it
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  facts$filed <- facts$filed + 30
  facts$value[4] <- 70
  put_rows(archive, "register", "facts", "facts", facts[4, ])
  archive_close(archive)
  expect_identical(nrow(desk_check(desk_open(folder))), 0L)
})

test_that("two intraday series are compared by their times", {
  folder <- checked_desk(checked_level(), paste0(
    "checks:\n  few: false\n  gap: false\n  differ:\n    keld:\n",
    "      series: [\"quay/bars/KELD@1 minute\", ",
    "\"quay/bars/COPY@1 minute\"]\n      percent: 5\n"
  ))
  bars <- as.data.frame(minute_bars("KELD"))
  other <- transform(bars, symbol = "COPY")
  other$close[30] <- other$close[30] * 1.5
  other$high <- pmax(other$high, other$close)
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  put_rows(archive, "quay", "bars", "bars", rbind(bars, other), "PT1M")
  archive_close(archive)
  found <- desk_check(desk_open(folder))
  found <- found[found$rule == "differ", ]
  expect_identical(as.numeric(found$first), as.numeric(bars$time[30]))
})

test_that("a killed check leaves the archive whole, and each finding is told", {
  folder <- withr::local_tempdir()
  desk <- desk_make(folder, "A desk")
  archive <- archive_open(desk$archive)
  days <- as.Date("2025-01-01") + 0:299
  value <- 200 + sin(1:300)
  value[150] <- 900
  vetusta:::store_put(archive, list(
    source = "river", dataset = "levels", shape = "observations", now = 1e9,
    rows = vetusta:::archive_parcel(
      "observations", data.frame(series = "lock", period = days, value = value)
    )
  ))
  archive_close(archive)
  at <- c("check", "--since", "2025-01-01", "--desk", folder)
  for (wait in c(0.3, 0.7, 1.1, 1.6)) {
    process <- processx::process$new(
      "Rscript", c("--no-init-file", "-e", "vetusta::cli_main()", at),
      env = c("current", R_LIBS = r_libs())
    )
    Sys.sleep(wait)
    process$kill()
  }
  done <- run_vetusta(at)
  expect_identical(done$status, 3L)
  archive <- archive_open(desk$archive, read_only = TRUE)
  found <- archive_findings(archive)
  expect_identical(found$rule, "spike")
  expect_identical(as.Date(found$first), days[150])
  expect_identical(run_vetusta(at)$status, 3L)
  expect_identical(archive_findings(archive)$state, "still")
})
