put <- function(archive, rows, symbol = "KELD", ...) {
  rows$symbol <- rep(symbol, nrow(rows))
  put_rows(archive, "test", "bars", "bars", rows, "PT1M", ...)
}
segments <- function(archive) {
  vetusta:::sql_get(
    archive, "SELECT first, last, rows FROM segments ORDER BY first"
  )
}

test_that("pages of any size and order give one series", {
  whole <- minute_bars()
  set.seed(3)
  for (size in c(1, 7, 60, 390)) {
    archive <- new_archive()
    pieces <- split(seq_len(390), (seq_len(390) - 1) %/% size)
    for (piece in sample(pieces)) put(archive, whole[piece, ])
    expect_identical(
      as.data.frame(archive_bars(archive, "KELD", "1 minute")),
      as.data.frame(whole)
    )
    expect_identical(sum(segments(archive)$rows), 390L)
  }
})

test_that("an equal value changes nothing, another one is a version", {
  archive <- new_archive()
  rows <- minute_bars()
  expect_identical(put(archive, rows), c(new = 390, changed = 0, unchanged = 0))
  expect_identical(
    put(archive, rows[100:200, ]), c(new = 0, changed = 0, unchanged = 101)
  )
  changed <- rows[100:110, ]
  changed$close[3] <- 99
  changed$high[3] <- 99
  expect_identical(
    put(archive, changed), c(new = 0, changed = 1, unchanged = 10)
  )
  expect_identical(archive_bars(archive, "KELD", "1 minute")$close[102], 99)
  all <- archive_revisions(archive, "KELD", all = TRUE)
  expect_identical(
    all$value[all$time == rows$time[102]], c(rows$close[102], 99)
  )
  # the first value counts from the end of its minute, the change from its
  # arrival
  came <- all$known[all$time == rows$time[102]]
  expect_identical(came[1], rows$time[102] + 60)
  then <- archive_bars(archive, "KELD", "1 minute", as_of = came[1])
  expect_identical(then$close, rows$close[1:102])
  expect_identical(
    archive_bars(archive, "KELD", "1 minute", as_of = came[2])$close[102], 99
  )
  expect_identical(
    archive_bars(archive, "KELD", "1 minute", as_of = came[2] - 1)$close,
    rows$close
  )
  expect_identical(
    nrow(archive_bars(archive, "KELD", "1 minute", as_of = rows$time[1])), 0L
  )
  expect_error_kind(
    archive_bars(archive, "KELD", "1 minute", as_of = as.POSIXct(NA)),
    "argument", "as_of"
  )
})

test_that("further columns are kept, also of some pages only", {
  archive <- new_archive()
  with_deals <- minute_bars()[1:5, ]
  with_deals$deals <- 1:5 + 0
  put(archive, with_deals)
  put(archive, minute_bars()[6:8, ])
  expect_identical(
    archive_bars(archive, "KELD", "1 minute")$deals, c(1:5 + 0, NA, NA, NA)
  )
})

test_that("coverage joins ranges and is cut out of a query", {
  archive <- new_archive()
  for (piece in list(c(10, 20), c(30, 40), c(20, 30), c(50, 60))) {
    covered <- data.frame(key = "KELD", start = piece[1], end = piece[2])
    vetusta:::store_put(
      archive, list(source = "test", dataset = "bars", covered = covered)
    )
  }
  held <- vetusta:::store_covered(archive, "test", "bars", "KELD")
  expect_equal(
    held, data.frame(key = "KELD", start = c(10, 50), end = c(40, 60))
  )
  expect_identical(
    nrow(vetusta:::store_covered(archive, "test", "bars", "TAMX")), 0L
  )
  left <- vetusta:::missing_of(list(from = 0, to = 55), "KELD", held)
  expect_equal(left$start, c(0, 40))
  expect_equal(left$end, c(10, 50))
})

test_that("a window minus ranges, for ranges of any position", {
  set.seed(11)
  for (trial in 1:200) {
    n <- sample(0:6, 1)
    start <- sample(-5:25, n, TRUE)
    held <- data.frame(
      key = sample(c("a", "b"), n, TRUE),
      start = start,
      end = start + sample(0:9, n, TRUE)
    )
    own <- held[held$key == "a", ]
    # each unit of the window separately
    bare <- Filter(function(x) !any(own$start <= x & own$end >= x + 1), 0:19)
    left <- vetusta:::missing_of(list(from = 0, to = 20), "a", held)
    expect_equal(
      unlist(Map(seq, left$start, left$end - 1)), if (length(bare)) bare
    )
    expect_true(all(diff(c(rbind(left$start, left$end))) > 0))
  }
})

test_that("a failure in the middle of a transaction leaves nothing of it", {
  archive <- new_archive()
  put(archive, minute_bars()[1:10, ])
  expect_error_kind(
    vetusta:::store_transaction(archive, function() {
      put(archive, minute_bars()[11:20, ])
      stop("database or disk is full")
    }),
    "archive", "disk is full"
  )
  expect_identical(nrow(archive_bars(archive, "KELD", "1 minute")), 10L)
})

test_that("unknown windows, symbols and intervals are refused with hints", {
  archive <- new_archive()
  put(archive, minute_bars())
  expect_identical(
    nrow(
      archive_bars(
        archive, "KELD", "1 minute", from = "2026-03-12T08:00:00Z",
        to = "2026-03-12T08:10:00Z"
      )
    ),
    10L
  )
  expect_identical(
    nrow(archive_bars(archive, "KELD", "1 minute", from = "2027-01-01")), 0L
  )
  expect_error_kind(
    archive_bars(archive, "KELLD", "1 minute"), "argument",
    "did you mean \"KELD\""
  )
  expect_error_kind(
    archive_bars(archive, "KELD", "1 day"), "argument", "1 minute"
  )
  expect_error_kind(
    archive_bars(archive, "KELD", "1 minute", source = "tset"), "argument",
    "test"
  )
})

test_that("a file that is no archive is refused and left as it is", {
  file <- withr::local_tempfile()
  writeLines(
    paste0(
      "this is a letter, not an archive, and it is long enough to be ",
      "looked at as a database header"
    ),
    file
  )
  before <- readLines(file)
  expect_error_kind(archive_open(file), "archive", "not an archive")
  expect_identical(readLines(file), before)
  expect_error_kind(
    archive_open(file.path(tempdir(), "none", "a.sqlite")), "archive", "folder"
  )
  expect_error_kind(
    archive_open(file.path(tempdir(), "none.sqlite"), create = FALSE),
    "archive", "no archive yet"
  )
  closed <- archive_open(withr::local_tempfile())
  archive_close(closed)
  expect_error_kind(archive_series(closed), "archive", "not an open archive")
})

test_that("a local CSV is imported once, with bad lines reported", {
  archive <- new_archive()
  csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
  first <- archive_import(
    archive, csv, symbol = "KELD", interval = "1 day", zone = "Europe/Riga"
  )
  expect_identical(c(first$read, first$new), c(4, 4))
  expect_identical(
    archive_import(
      archive, csv, symbol = "KELD", interval = "1 day", zone = "Europe/Riga"
    )$unchanged,
    4
  )
  expect_identical(
    archive_bars(
      archive, "KELD", "1 day", from = "2026-03-12", to = "2026-03-13",
      zone = "Europe/Riga"
    )$close,
    c(39.744, 39.018)
  )
  wrong <- withr::local_tempfile(fileext = ".csv")
  writeLines(
    c(
      "When;Last;High;Low;Ticker", "2026-03-12 09:30;41,5;42;41;TAMX",
      "2026-03-12 09:31;41.5;40;41;TAMX", "noon;41;42;40;TAMX",
      "2026-03-12 09:32;41;42;40;TAMX"
    ),
    wrong
  )
  result <- archive_import(
    archive,
    wrong,
    interval = "1 minute",
    columns = c(time = "When", close = "Last", symbol = "Ticker"),
    zone = "Europe/Riga"
  )
  expect_identical(result$new, 1)
  expect_identical(result$rejected$line, 2:4)
  expect_identical(
    result$rejected$reason,
    c("close cannot be read", "high below low", "time cannot be read")
  )
  expect_identical(nrow(archive_rejected(archive)), 3L)
  with_calendar <- archive_import(
    archive,
    csv,
    symbol = "BROM",
    interval = "1 day",
    calendar = source_calendar("quay")
  )
  expect_identical(
    format(archive_bars(archive, "BROM", "1 day")$time[1], "%H:%M"), "07:30"
  )
})

test_that("an import that cannot be stores nothing", {
  archive <- new_archive()
  csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
  expect_error_kind(
    archive_import(archive, "none.csv", interval = "1 day"), "import",
    "no such file"
  )
  expect_error_kind(
    archive_import(archive, csv, interval = "1 day"), "import", "symbol"
  )
  expect_error_kind(
    archive_import(
      archive, csv, symbol = "KELD", interval = "1 day",
      columns = c(close = "Clse")
    ),
    "import", "close"
  )
  expect_error_kind(
    archive_import(
      archive, csv, symbol = "KELD", interval = "1 day", zone = "Nowhere/City"
    ),
    "import"
  )
  expect_identical(nrow(archive_series(archive)), 0L)
})
