# Rows in the column store that are altered, added or removed by others are
# told, and nothing else is, whatever moves were interrupted.
for (cluster in c(FALSE, TRUE)) test_that(paste(
  "a checksum counted here is that of the column store, shards:", cluster
), {
  archive <- columns_archive(cluster = cluster)
  withr::with_seed(3, for (frequency in c("PT1M", "P1D")) {
    n <- 400
    step <- if (frequency == "P1D") 86400 * 9 else 60 * 977
    rows <- data.frame(
      symbol = rep(c("A", "B"), each = n),
      # before and after 1970
      time = vetusta:::utc(rep(step * (seq_len(n) - 90), 2)),
      open = rnorm(2 * n), close = c(0, -0.5, NA, rnorm(2 * n - 3)),
      volume = round(runif(2 * n, 0, 1e6)),
      # names that a statement uses
      part = runif(2 * n), hash = "x", rows = 1, series__x = 2, wide = TRUE,
      status = sample(c("observed", NA, "prövisional"), 2 * n, TRUE),
      session = ""
    )
    put_rows(archive, "s", frequency, "bars", rows, frequency)
  })
  archive_compact(archive)
  kept <- vetusta:::sql_get(archive, "SELECT * FROM checksums")
  expect_gt(nrow(kept), 20)
  expect_true(all(is.na(kept$next_rows)))
  expect_identical(sum(kept$rows), 1600)
  expect_null(vetusta:::sums_against(archive))
  expect_identical(nrow(archive_check(archive)), 0L)
  # a server that is away has lost nothing
  local_instead("columns_ask", function(...) stop("connection refused"))
  away <- archive_check(archive)
  expect_false(any(away$lost))
  expect_match(away$finding, "is not checked: .*reached")
})

# What a store says of the rows of a shape.
changed <- function(archive, statement) {
  columns <- archive$columns
  vetusta:::columns_do(columns, sprintf(
    statement, vetusta:::columns_table(columns, "bars", FALSE)
  ))
  vetusta:::columns_settled(columns, "bars")
}

test_that("altered, added and removed rows are told with their month", {
  rows <- data.frame(
    symbol = "KELD", time = as.POSIXct("2026-01-05", "UTC") + 3600 * 0:1999,
    close = 100 + seq_len(2000) / 8
  )
  cases <- list(
    altered = "ALTER TABLE %s UPDATE close = 77.77 WHERE close = 110",
    removed = "ALTER TABLE %s DELETE WHERE close = 110",
    added = paste(
      "INSERT INTO %s (series, time, known, stamp, wide, close)",
      "SELECT series, time + 60000000, known, stamp, wide, close FROM %1$s",
      "WHERE close = 110"
    )
  )
  for (name in names(cases)) {
    archive <- columns_archive()
    put_rows(archive, "quay", "bars", "bars", rows, "PT1H")
    archive_compact(archive)
    expect_identical(nrow(archive_check(archive)), 0L)
    changed(archive, cases[[name]])
    found <- archive_check(archive)
    expect_identical(nrow(found), 1L, label = name)
    expect_match(found$where, "quay/bars/KELD@1 hour", fixed = TRUE)
    expect_match(found$finding, name)
    expect_match(found$finding, "2026-0")
  }
})

test_that("moves that stop and go on leave the right checksums", {
  withr::with_seed(8, for (turn in 1:12) {
    archive <- columns_archive()
    all <- list()
    for (step in 1:10) {
      n <- sample(40, 1)
      first <- sample(0:200, 1)
      rows <- data.frame(
        symbol = sample(c("A", "B"), 1),
        time = as.POSIXct("2026-01-01", "UTC") + 86400 * (first + seq_len(n)),
        close = round(rnorm(n), 3)
      )
      put_rows(archive, "s", "d", "bars", rows, sample(c("P1D", "PT1M"), 1))
      if (runif(1) < 0.6) {
        # a stop before, within or after the rows go over
        stops <- sample(c("never", "before", "after"), 1)
        local({
          real <- vetusta:::columns_insert
          if (stops != "never") {
            local_instead("columns_insert", function(...) {
              if (stops == "after") real(...)
              stop("stopped")
            })
          }
          try(vetusta:::columns_shift(archive), silent = TRUE)
        })
        try(vetusta:::store_claims_release(archive, "columns"), silent = TRUE)
      }
      expect_null(vetusta:::sums_against(archive))
    }
    archive_compact(archive)
    expect_null(vetusta:::sums_against(archive))
    expect_true(all(is.na(
      vetusta:::sql_get(archive, "SELECT next_rows FROM checksums")$next_rows
    )))
    # and one changed value is seen
    changed(archive, "ALTER TABLE %s UPDATE close = close + 1 WHERE 1")
    expect_gt(NROW(vetusta:::sums_against(archive)), 0)
  })
})

test_that("every kind of statement is on the page of statements", {
  file <- testthat::test_path("..", "..", "docs", "column-store.md")
  testthat::skip_if_not(file.exists(file), "the documents are not beside")
  page <- readLines(file)
  page <- paste(page[startsWith(page, "|")], collapse = "\n")
  sent <- character()
  real <- vetusta:::columns_send
  local_instead("columns_send", function(columns, statement, ...) {
    sent <<- c(sent, statement)
    real(columns, statement, ...)
  })
  archive <- columns_archive(cluster = TRUE)
  put_rows(archive, "s", "d", "bars", data.frame(
    symbol = "A", time = as.POSIXct("2026-03-02 08:00", "UTC") + 60 * 1:50,
    close = 1:50 + 0.5, status = "observed"
  ), "PT1M")
  archive_compact(archive)
  archive_series(archive)
  archive_read(archive)
  archive_read(archive, resample = list(interval = "5 minutes"))
  archive_check(archive)
  vetusta:::store_cut(
    archive, vetusta:::store_series(archive), 0, 2e9
  )
  starts <- unique(
    sub("^([A-Z]+( (TABLE|INTO|SYNC REPLICA))?).*", "\\1", sent)
  )
  for (start in starts) expect_match(page, start, fixed = TRUE)
  tables <- unlist(regmatches(sent, gregexpr("system[.][a-z]+", sent)))
  for (name in unique(tables)) expect_match(page, name, fixed = TRUE)
  functions <- unlist(regmatches(
    sent, gregexpr("[A-Za-z][A-Za-z0-9]*(?=[(])", sent, perl = TRUE)
  ))
  # those of any SQL
  plain <- c(
    "count", "max", "min", "sum", "if", "not", "toInt32", "toInt64",
    "toUInt32", "toUInt64", "toFloat64", "toString", "isNull", "assumeNotNull"
  )
  tables <- grepl("^(bars|observations|facts)_", functions)
  for (name in setdiff(functions[!tables], plain)) {
    expect_match(page, name, fixed = TRUE)
  }
})
