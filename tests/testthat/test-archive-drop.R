# Deleting wrong data, and restoring it.

test_that("series and datasets are dropped, collected again, restored", {
  folder <- withr::local_tempdir()
  path <- file.path(folder, "archive.sqlite")
  archive <- archive_open(path)
  withr::defer(archive_close(archive))
  answer <- function(n, request) {
    json_answer(list(items = list(list(t = 1773300660, c = 1))))
  }
  source <- bars_card(
    start_scripted(answer),
    c(
      "datasets:", "  bars:", "    shape: bars",
      "    request: /b/{symbol}{?from,to}", "    rows: /items",
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
      "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
    )
  )
  query <- query_bars(
    source, c("AA", "BB"), "1 minute",
    from = "2026-03-12", to = "2026-03-12"
  )
  collect_run(plan_requests(query, archive), archive, progress = FALSE)
  put_rows(
    archive, "test", "places", "places",
    data.frame(place = c("a", "b"), name = "x")
  )
  expect_identical(archive_drop(archive, "AA", dry = TRUE)$rows, 1)
  gone <- archive_drop(archive, "AA")
  expect_identical(
    as.character(archive_bars(archive, interval = "1 minute")$symbol), "BB"
  )
  expect_identical(plan_requests(query, archive)$requests$symbol, "AA")
  expect_identical(nrow(archive_check(archive)), 0L)
  archive_drop(archive, "test/places", backup = file.path(folder, "b.sqlite"))
  expect_error_kind(archive_rows(archive, "test", "places"), "argument")
  expect_error_kind(archive_drop(archive, "nothing/*"), "argument", "no series")
  archive_close(archive)
  archive_restore(attr(gone, "backup"), path)
  archive <- archive_open(path)
  expect_setequal(
    as.character(archive_bars(archive, interval = "1 minute")$symbol),
    c("AA", "BB")
  )
})

test_that("the command shows what would go, and goes with --yes", {
  folder <- withr::local_tempdir()
  archive <- archive_open(file.path(folder, "a.sqlite"))
  put_rows(archive, "test", "bars", "bars", minute_bars(), frequency = "PT1M")
  archive_close(archive)
  words <- c("archive", "drop", "KELD", "--archive", "a.sqlite")
  shown <- run_vetusta(words, folder = folder)
  expect_match(shown$stdout, "KELD@1 minute +390")
  expect_match(shown$stderr, "nothing was removed yet")
  done <- run_vetusta(words, "--yes", folder = folder)
  expect_identical(done$status, 0L)
  expect_match(done$stderr, "vetusta archive restore .*before-drop")
  expect_identical(run_vetusta("archive", "drop", folder = folder)$status, 2L)
})

test_that("rows in a column store go too", {
  archive <- archive_open(
    withr::local_tempfile(fileext = ".sqlite"),
    columns = columns_database()
  )
  withr::defer(archive_close(archive))
  put_rows(archive, "test", "bars", "bars", minute_bars(), frequency = "PT1M")
  archive_compact(archive)
  archive_drop(archive, "KELD")
  expect_identical(nrow(archive_series(archive)), 0L)
  put_rows(
    archive, "test", "bars", "bars", minute_bars(without = 0:99),
    frequency = "PT1M"
  )
  archive_compact(archive)
  expect_identical(nrow(archive_bars(archive, "KELD", "1 minute")), 290L)
})
