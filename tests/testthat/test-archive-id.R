# The spark line depends on the locale.
without_course <- function(lines) sub("present  .*$", "present", lines)

# Series by their IDs, and series of all kinds in one command.
mixed_archive <- function(env = parent.frame()) {
  archive <- new_archive(env = env)
  day <- as.POSIXct("2026-03-02", tz = "UTC") + 86400 * 0:9
  bars <- function(symbol, close) {
    data.frame(
      symbol = symbol, time = day, open = close, high = close, low = close,
      close = close, volume = 1
    )
  }
  put_rows(archive, "quay", "bars", "bars", bars("KELD", 41:50), "P1D")
  put_rows(archive, "quay", "bars", "bars", bars("TAMX", 7 + 1:10 / 10), "P1D")
  minutes <- bars("KELD", 1:10)
  minutes$time <- as.POSIXct("2026-03-12 07:30", tz = "UTC") + 60 * 0:9
  put_rows(archive, "quay", "bars", "bars", minutes, "PT1M")
  sided <- bars("ORV-TSK", 2 + 1:10 / 100)
  for (side in c("bid", "ask")) {
    sided$side <- side
    put_rows(archive, "fixing", "candles", "bars", sided, "P1D")
  }
  level <- data.frame(
    series = "kelder-lock",
    period = as.Date("2026-03-02") + 0:9,
    value = 200 + 1:10
  )
  put_rows(archive, "river", "levels", "observations", level)
  put_rows(
    archive, "river", "stations", "places",
    data.frame(place = "kelder-lock", name = "Kelder Lock")
  )
  fact <- data.frame(
    symbol = "KELD", item = "revenue", basis = "quarterly", unit = "ORV",
    period_start = as.Date("2026-01-01"), period_end = as.Date("2026-03-31"),
    value = 5, filed = as.Date("2026-05-01")
  )
  put_rows(archive, "register", "facts", "facts", fact)
  codes <- list(
    FREQ = list(id = "M", labels = list(en = "Monthly")),
    STATE = list(
      id = c("ORV", "TSK"),
      labels = list(en = c("Orvane", "Teskland"))
    )
  )
  for (state in codes$STATE$id) {
    about <- data.frame(
      key = paste0("M.", state),
      frequency = "M",
      dimensions = sprintf("{\"FREQ\":\"M\",\"STATE\":\"%s\"}", state)
    )
    rows <- list(
      time = as.POSIXct(c("2026-01-01", "2026-02-01"), tz = "UTC"),
      known = as.POSIXct(c("2026-02-20", "2026-03-20"), tz = "UTC"),
      value = c(10, 20)
    )
    vetusta:::store_put(
      archive,
      list(
        source = "basin",
        dataset = "TRAFFIC",
        shape = "observations",
        rows = vetusta:::parcel_series(about, rows)
      )
    )
  }
  vetusta:::keep_labels(archive, list(source = "basin"), "TRAFFIC", codes)
  archive
}

test_that("a short ID, a pattern, a label and a name find a series", {
  archive <- mixed_archive()
  found <- function(...) archive_find(archive, c(...))$id
  expect_identical(found("quay/bars/KELD@1 day"), "quay/bars/KELD@1 day")
  expect_identical(found("KELD@1 minute"), "quay/bars/KELD@1 minute")
  expect_identical(found("KELD@PT1M"), "quay/bars/KELD@1 minute")
  expect_identical(found("tamx"), "quay/bars/TAMX@1 day")
  expect_identical(
    found("quay/bars/*@1 day"),
    c("quay/bars/KELD@1 day", "quay/bars/TAMX@1 day")
  )
  expect_identical(found("ORV-TSK:b*"), "fixing/candles/ORV-TSK:bid@1 day")
  expect_identical(found("kelder-lock"), "river/levels/kelder-lock")
  expect_identical(found("Kelder Lock"), "river/levels/kelder-lock")
  expect_identical(found("M.Teskland"), "basin/TRAFFIC/M.TSK@M")
  expect_identical(
    found("basin/TRAFFIC/M.*"),
    c("basin/TRAFFIC/M.ORV@M", "basin/TRAFFIC/M.TSK@M")
  )
  expect_identical(
    found("basin/TRAFFIC"), c("basin/TRAFFIC/M.ORV@M", "basin/TRAFFIC/M.TSK@M")
  )
  expect_identical(
    found("M.ORV@monthly", "TAMX"),
    c("basin/TRAFFIC/M.ORV@M", "quay/bars/TAMX@1 day")
  )
  # a star does not cross a slash in the middle; every series is found by its
  # own ID
  all <- archive_series(archive)$id
  # a star matches slashes too
  expect_setequal(found("quay/*"), all[startsWith(all, "quay/")])
  expect_identical(unlist(lapply(all, found)), all)
})

test_that("an ambiguous or unknown series ID is refused with candidates", {
  archive <- mixed_archive()
  expect_error_kind(
    archive_find(archive, "KELD"), "argument",
    "2 series.*KELD@1 day.*KELD@1 minute"
  )
  expect_error_kind(
    archive_find(archive, "ORV-TSK"), "argument", "ORV-TSK:ask.*ORV-TSK:bid"
  )
  expect_error_kind(
    archive_find(archive, "KELDD"), "argument", "did you mean \"quay/bars/KELD"
  )
  expect_error_kind(
    archive_find(archive, "TAMX@1 minute"), "argument", "TAMX@1 day"
  )
  expect_error_kind(archive_find(archive, "nothing*"), "argument", "no series")
  expect_error_kind(
    archive_find(new_archive(), "KELD"), "argument", "no series yet"
  )
})

test_that("one function reads every dataset, in a window, as of an instant", {
  archive <- mixed_archive()
  tables <- archive_read(
    archive, c("KELD@1 day", "kelder-lock", "M.ORV", "register/facts"),
    from = "2026-03-01", to = "2026-03-31"
  )
  expect_identical(
    names(tables),
    c("quay/bars", "river/levels", "basin/TRAFFIC", "register/facts")
  )
  expect_s3_class(tables[[1]], "vetusta_bars")
  expect_identical(nrow(tables[[2]]), 10L)
  expect_identical(nrow(tables[[3]]), 0L)
  expect_identical(tables[[4]]$value, 5)
  # a value is known from its release, its filing, or the end of its bar
  known <- function(at, id) nrow(archive_read(archive, id, as_of = at)[[1]])
  expect_identical(known("2026-03-01", "M.ORV"), 1L)
  expect_identical(known("2026-03-20", "M.ORV"), 2L)
  expect_identical(known("2026-04-30", "register/facts"), 0L)
  expect_identical(known("2026-05-01", "register/facts"), 1L)
  every <- archive_read(archive, "KELD@1 day")[[1]]
  expect_identical(
    known("2026-03-05", "KELD@1 day"),
    sum(every$time + 86400 < as.POSIXct("2026-03-06", tz = "UTC"))
  )
})

test_that("a price, level, statistic and fact share grid, gaps and figure", {
  archive <- mixed_archive()
  folder <- withr::local_tempdir()
  run <- function(...) {
    run_vetusta(..., "--archive", archive$path, folder = folder)
  }
  grid <- run(
    "align", "KELD@1 day", "kelder-lock", "M.Orvane", "--grid", "KELD",
    "--from", "2026-03-05"
  )
  expect_identical(grid$status, 0L, label = grid$stderr)
  rows <- utils::read.csv(text = grid$stdout)
  expect_identical(names(rows), c("time", "KELD", "kelder.lock", "M.ORV"))
  # values known before the window count in it
  expect_identical(rows$M.ORV[1], 10L)
  expect_false(anyNA(rows$kelder.lock))
  gaps <- run("gaps", "TAMX", "kelder-lock")
  expect_match(gaps$stdout, "kelder-lock")
  expect_match(gaps$stdout, "TAMX")
  expect_identical(
    run("figure", "lines", "TAMX", "kelder-lock", "--file", "x.png")$status, 0L
  )
  expect_identical(
    run("figure", "candles", "kelder-lock", "--file", "y.png")$status, 2L
  )
  both <- run("revisions", "TAMX", "kelder-lock")
  expect_identical(both$status, 0L, label = both$stderr)
  expect_identical(
    nrow(utils::read.csv(text = run("export", "KELD@1 minute")$stdout)), 10L
  )
  mixed <- run("export", "KELD@1 day", "kelder-lock")
  # one table of several kinds
  long <- utils::read.csv(text = mixed$stdout)
  expect_identical(sort(unique(long$series)), c("KELD", "kelder-lock"))
  # two intervals of one name are distinguished by their IDs
  twice <- utils::read.csv(
    text = run("align", "KELD@1 day", "KELD@1 minute")$stdout,
    check.names = FALSE
  )
  expect_setequal(
    names(twice)[-1], c("quay/bars/KELD@1 day", "quay/bars/KELD@1 minute")
  )
})

test_that("tables of values in time have the methods that R people expect", {
  archive <- mixed_archive()
  bars <- archive_bars(archive, c("KELD", "TAMX"), "1 day")
  expect_s3_class(bars[1:3, ], "vetusta_bars")
  expect_false(inherits(bars[c("symbol", "time")], "vetusta_series"))
  expect_identical(nrow(rbind(bars[1:2, ], bars[5:6, ])), 4L)
  expect_identical(summary(bars)$series, c("KELD", "TAMX"))
  expect_identical(summary(bars)$greatest, c(50, 8))
  expect_identical(class(as.data.frame(bars)), "data.frame")
  months <- series_frame(
    data.frame(series = "a", period = c("2026-01", "2026-03"), value = c(1, 3))
  )
  expect_identical(as.numeric(as.ts(months)), c(1, NA, 3))
  expect_identical(stats::tsp(as.ts(months))[3], 12)
  expect_error_kind(
    as.ts(
      series_frame(
        data.frame(
          series = "a",
          period = as.Date("2026-01-01") + 0:3,
          value = 1:4
        )
      )
    ),
    "argument", "one series"
  )
  expect_s3_class(ggplot2::autoplot(bars), "ggplot")
  expect_snapshot(print(bars[1:3, ]), transform = without_course)
  expect_snapshot(
    print(archive_read(archive, "kelder-lock")[[1]], n = 2),
    transform = without_course
  )
})
