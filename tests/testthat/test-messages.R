# Messages of every kind of error, and every printed class.
test_that("errors of arguments", {
  quay <- source_card("quay")
  archive <- archive_with_days()
  expect_snapshot(refused(archive_read(archive, 7)))
  expect_snapshot(refused(archive_read(archive, "KELD@1 hour")))
  expect_snapshot(refused(archive_bars(archive, "KELD", interval = "soon")))
  expect_snapshot(refused(archive_read(archive, "KELD", from = "12.03.2026")))
  expect_snapshot(refused(archive_read(archive, "KELD", zone = "Riga")))
  expect_snapshot(
    refused(query_bars(quay, "KELD", "2 minutes", span = "1 day"))
  )
  expect_snapshot(refused(query_bars(quay, "KELD", "1 day")))
  expect_snapshot(
    refused(query_rows(quay, "directry")), transform = plain_words
  )
  expect_snapshot(
    refused(query_rows(source_card("river"), "levels", gauge = "tamm-weir"))
  )
  expect_snapshot(refused(time_instant("2026-03-12 09:30", zone = "Mars")))
  expect_snapshot(refused(plan_requests("quay", archive)))
})

test_that("errors of series", {
  archive <- archive_with_days()
  bars <- archive_read(archive, "KELD")[[1]]
  values <- data.frame(series = "a", period = as.Date("2026-03-01"), value = 1)
  expect_snapshot(refused(bars_resample(bars, "1 hour")))
  expect_snapshot(refused(bars_resample(bars, "36 hours")))
  expect_snapshot(refused(series_fill(values, rule = "nearest")))
  expect_snapshot(refused(series_fill(data.frame(x = 1))))
  expect_snapshot(refused(series_align(values, grid = "b")))
  expect_snapshot(
    refused(series_align(values, grid = "a", rule = "linear"))
  )
  expect_snapshot(refused(series_align(values, grid = "a", lagg = "1 day")))
  expect_snapshot(refused(series_change(values, "percent")))
  expect_snapshot(refused(series_gaps(list(1, 2))))
  expect_snapshot(refused(series_aggregate(values, "fortnight")))
})

test_that("errors of cards and drafts", {
  expect_snapshot(
    refused(card_of("sorce: a", "url: https://a.example.org")),
    transform = plain_words
  )
  rows <- c("datasets:", "  d:", "    shape: bars", "    request: /d")
  expect_snapshot(
    refused(card_of("source: a", "url: http://a.example.org", rows)),
    transform = plain_words
  )
  expect_snapshot(
    refused(
      card_of(
        "source: a", "url: https://a.example.org", rows, "    rows: /r",
        "    columns: {tme: /t, close: /c}"
      )
    ),
    transform = plain_words
  )
  expect_snapshot(
    refused(
      card_of(
        "source: a", "url: https://a.example.org", rows, "    rows: /r",
        "    columns: {time: {at: /t, as: epoch}, close: /c}"
      )
    ),
    transform = plain_words
  )
  sample <- withr::local_tempfile(lines = "{\"items\": []}", fileext = ".json")
  expect_snapshot(refused(source_draft(sample)), transform = plain_words)
  writeLines("{\"items\": [", sample)
  expect_snapshot(refused(source_draft(sample)), transform = plain_words)
})

test_that("errors of access and of the network", {
  quay <- source_card("quay")
  withr::local_envvar(QUAY_KEY = NA)
  collect <- function(card) {
    collect_bars(card, "KELD", "1 day", "2026-03-12", "2026-03-13")
  }
  expect_snapshot(
    refused(source_secret(quay, "QUAY_KEY")),
    transform = plain_words
  )
  expect_snapshot(refused(collect(quay)), transform = plain_words)
  withr::local_envvar(QUAY_KEY = "wrong")
  services <- start_services()
  card <- withr::local_tempfile(fileext = ".yml")
  writeLines(
    sub("^url:.*", paste("url:", services$url), readLines(quay$file)), card
  )
  expect_snapshot(refused(collect(source_card(card))), transform = plain_words)
  services$process$kill()
  expect_snapshot(
    refused(collect(source_card(card))),
    transform = function(lines) {
      # the words are those of the library
      sub("(source quay): .*", "\\1: REASON.", plain_words(lines))
    }
  )
})

test_that("errors of archives, imports and exports", {
  folder <- withr::local_tempdir()
  at <- function(...) file.path(folder, ...)
  writeLines("no archive", at("text.sqlite"))
  expect_snapshot(
    refused(archive_open(at("text.sqlite"))), transform = plain_words
  )
  expect_snapshot(
    refused(archive_open(at("none.sqlite"), read_only = TRUE)),
    transform = plain_words
  )
  archive <- archive_with_days()
  writeLines(c("time,close", "2026-03-12,1"), at("bars.csv"))
  expect_snapshot(
    refused(archive_import(archive, at("none.csv"), interval = "1 day")),
    transform = plain_words
  )
  expect_snapshot(
    refused(archive_import(archive, at("bars.csv"), interval = "1 day")),
    transform = plain_words
  )
  expect_snapshot(
    refused(archive_import_rows(archive, at("bars.csv"), "barz")),
    transform = plain_words
  )
  rows <- data.frame(time = as.Date("2026-03-12"), close = 1)
  expect_snapshot(
    refused(export_table(rows, at("out.doc"))), transform = plain_words
  )
  expect_snapshot(
    refused(export_table(rows, at("none", "out.csv"))),
    transform = plain_words
  )
  export_append(rows, at("grown.csv"))
  expect_snapshot(
    refused(export_append(data.frame(day = 1), at("grown.csv"))),
    transform = plain_words
  )
})

test_that("errors of desks, calendars, figures and reports", {
  folder <- withr::local_tempdir()
  at <- function(...) file.path(folder, ...)
  expect_snapshot(refused(desk_open(at("none"))), transform = plain_words)
  desk <- desk_make(at("desk"))
  cat("trak: {}\n", file = at("desk", "desk.yml"), append = TRUE)
  expect_snapshot(refused(desk_open(at("desk"))), transform = plain_words)
  expect_snapshot(refused(desk_refresh(desk, "levls")), transform = plain_words)
  expect_snapshot(refused(source_calendar("quai")), transform = plain_words)
  expect_snapshot(
    refused(
      calendar_make(
        list(
          calendar = "mill", zone = "Europe/Riga",
          sessions = list(regular = "9 to 17")
        )
      )
    )
  )
  values <- data.frame(
    series = "a", period = as.Date("2026-03-01") + 0:2, value = 1:3
  )
  expect_snapshot(refused(figure_candles(values)))
  expect_snapshot(refused(figure_lines(values[0, ])))
  expect_snapshot(
    refused(figure_save(figure_lines(values), at("a.bmp"))),
    transform = plain_words
  )
  expect_snapshot(refused(report_save("no report", at("a.html"))))
  expect_snapshot(refused(model_season(values)))
  expect_snapshot(refused(model_noise(values, c(1, 1))))
  expect_snapshot(refused(index_sum(values, below = 1, above = 2)))
})

test_that("every class of model is printed", {
  days <- as.Date("2016-01-01") + 0:1460
  turn <- 2 * pi * (as.POSIXlt(days)$yday - 100) / 365.25
  values <- data.frame(
    series = "lock", period = days, value = 200 + 40 * cos(turn) +
      as.numeric(withr::with_seed(
        1, stats::arima.sim(list(ar = 0.7), length(days))
      ))
  )
  season <- model_season(values, harmonics = 2)
  expect_snapshot(print(season))
  noise <- model_noise(season, c(1, 0))
  expect_snapshot(print(noise))
  paths <- model_paths(noise, 50, "2 years", seed = 1)
  expect_snapshot(print(paths))
  index <- index_sum(paths, below = 180)
  expect_snapshot(print(index))
  expect_snapshot(print(payoff_value(index, data.frame(strike = 100))))
})
