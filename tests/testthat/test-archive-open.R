days_csv <- function(days, env = parent.frame(), ...) {
  file <- withr::local_tempfile(fileext = ".csv", .local_envir = env)
  day <- as.Date("2026-01-01") + days - 1
  utils::write.csv(
    data.frame(time = format(day), close = days, ...), file, row.names = FALSE,
    quote = FALSE
  )
  file
}
put_days <- function(archive, days, ...) {
  archive_import(
    archive, days_csv(days), symbol = "KELD", interval = "1 day", ...
  )
}

test_that("two handles on one archive see and keep each other's rows", {
  path <- withr::local_tempfile(fileext = ".sqlite")
  a <- archive_open(path)
  b <- archive_open(path)
  withr::defer({
    archive_close(a)
    archive_close(b)
  })
  put_days(a, 1:10)
  put_days(b, 6:20)
  put_days(a, 8:12)
  for (archive in list(a, b)) {
    expect_identical(archive_bars(archive, "KELD")$close, as.double(1:20))
  }
  # a transaction that fails leaves no prepared state either
  try(
    vetusta:::store_transaction(a, function() {
      put_rows(a, "files", "import", "bars", minute_bars()[1:5, ], "P1D")
      stop("no")
    }),
    silent = TRUE
  )
  put_days(b, 21:30)
  put_days(a, 25:35)
  expect_identical(archive_bars(a, "KELD")$close, as.double(1:35))
  withr::with_seed(
    4,
    for (i in 1:30) {
      from <- sample(1:200, 1)
      put_days(list(a, b)[[sample(2, 1)]], from:(from + sample(20, 1)))
    }
  )
  expect_identical(archive_bars(a, "KELD")$close, archive_bars(b, "KELD")$close)
  expect_false(any(duplicated(archive_bars(a, "KELD")$time)))
})

test_that("microseconds survive repeated imports", {
  archive <- new_archive()
  file <- withr::local_tempfile(fileext = ".csv")
  withr::with_seed(2, micros <- sort(sample(1e9, 1000)))
  writeLines(
    c(
      "symbol,time,close",
      sprintf(
        "KELD,2026-03-12T09:%02d:%02d.%06dZ,%d",
        as.integer(micros %/% 1e6 %/% 60 %% 60),
        as.integer(micros %/% 1e6 %% 60), as.integer(micros %% 1e6),
        seq_along(micros)
      )
    ),
    file
  )
  expect_identical(
    archive_import(archive, file, interval = "1 second")$new, 1000
  )
  again <- archive_import(archive, file, interval = "1 second")
  expect_identical(c(again$new, again$changed, again$unchanged), c(0, 0, 1000))
  bars <- archive_bars(archive, "KELD", "1 second")
  expect_identical(nrow(bars), 1000L)
  expect_identical(
    round(as.numeric(bars$time) * 1e6) %% 1e9,
    as.double(
      round(
          (as.numeric(as.POSIXct("2026-03-12 09:00", tz = "UTC")) * 1e6 +
              micros)
        ) %%
        1e9
    )
  )
  # the text comes back unchanged
  out <- withr::local_tempfile(fileext = ".csv")
  export_csv(bars, out)
  expect_identical(
    archive_import(archive, out, interval = "1 second")$unchanged, 1000
  )
})

test_that("a byte that was changed is found, with where it stands", {
  archive <- new_archive()
  put_days(archive, 1:50)
  body <- vetusta:::sql_get(archive, "SELECT body FROM segments")$body[[1]]
  withr::with_seed(5, places <- sample(length(body), 12))
  for (at in places) {
    spoilt <- body
    spoilt[at] <- xor(spoilt[at], as.raw(64))
    vetusta:::sql_do(
      archive, "UPDATE segments SET body = ?", list(list(spoilt))
    )
    expect_error_kind(archive_bars(archive, "KELD"), "archive", "KELD.*damaged")
  }
  vetusta:::sql_do(archive, "UPDATE segments SET body = ?", list(list(body)))
  expect_identical(nrow(archive_bars(archive, "KELD")), 50L)
  vetusta:::sql_do(
    archive,
    paste0(
      "INSERT INTO records (source, dataset, shape, key, body,
        known) VALUES ('quay', ",
      "'market', 'table', 'a', '{\"a\":', 1)"
    )
  )
  expect_error_kind(
    archive_rows(archive, "quay", "market"), "archive", "damaged"
  )
})

test_that("what is no archive is refused and left as it is", {
  path <- withr::local_tempfile(fileext = ".sqlite")
  connection <- DBI::dbConnect(RSQLite::SQLite(), path)
  DBI::dbExecute(connection, "CREATE TABLE accounts (name TEXT)")
  DBI::dbDisconnect(connection)
  before <- tools::md5sum(path)
  expect_error_kind(archive_open(path), "archive", "not an archive")
  expect_identical(tools::md5sum(path), before)
  run <- run_vetusta("list", "--archive", path)
  expect_identical(run$status, 1L)
  expect_identical(tools::md5sum(path), before)
  for (change in c(
    "UPDATE meta SET value = '10'", "UPDATE meta SET value = '99'",
    "DELETE FROM meta", "UPDATE meta SET value = 'x'"
  )) {
    own <- withr::local_tempfile(fileext = ".sqlite")
    archive <- archive_open(own)
    vetusta:::sql_do(archive, change)
    archive_close(archive)
    expect_error_kind(
      archive_open(own), "archive",
      if (grepl("10|99", change)) "newer" else "not an archive"
    )
  }
  folder <- withr::local_tempdir()
  expect_error_kind(archive_open(folder), "archive", "folder")
  text <- withr::local_tempfile()
  writeLines(rep("no database at all", 100), text)
  expect_error_kind(archive_open(text), "archive", "not an archive|damaged")
})

test_that("an archive of before the first release is refused", {
  path <- withr::local_tempfile(fileext = ".sqlite")
  archive <- archive_open(path)
  put_days(archive, 1:3)
  vetusta:::sql_do(
    archive, "UPDATE meta SET name = 'form', value = '7' WHERE name = 'version'"
  )
  archive_close(archive)
  before <- tools::md5sum(path)
  expect_error_kind(archive_open(path), "archive", "before its first release")
  expect_error_kind(
    archive_open(path, read_only = TRUE), "archive", "cannot read it"
  )
  expect_error_kind(
    archive_rescue(path, withr::local_tempfile()), "archive", "first release"
  )
  expect_identical(tools::md5sum(path), before)
})

test_that("readers see whole pages while somebody writes", {
  path <- withr::local_tempfile(fileext = ".sqlite")
  archive <- archive_open(path)
  withr::defer(archive_close(archive))
  put_days(archive, 1:5)
  # each transaction of the writer adds or changes ten days of one number: a
  # reader that mixes two moments sees two numbers
  writer <- processx::process$new(
    "Rscript",
    c(
      "--no-init-file", "-e",
      sprintf(
        "library(vetusta); a <- archive_open('%s'); ready <- FALSE
    for (i in 1:60) { f <- tempfile();
      write.csv(data.frame(time = format(as.Date('2026-02-01') + 0:39),
        close = i), f, row.names = FALSE, quote = FALSE)
    archive_import(a, f, symbol = 'TAMX', interval = '1 day');
      if (i == 1) { cat('ready\\n'); flush(stdout()) } }",
        path
      )
    ),
    env = c("current", R_LIBS = r_libs()),
    stdout = "|",
    stderr = "|"
  )
  withr::defer(writer$kill())
  while (writer$is_alive() && !"ready" %in% writer$read_output_lines()) {
    writer$poll_io(200)
  }
  seen <- 0
  while (writer$is_alive()) {
    values <- archive_bars(archive, "TAMX")$close
    expect_identical(length(unique(values)), 1L)
    expect_identical(length(values), 40L)
    seen <- seen + 1
  }
  expect_identical(writer$get_exit_status(), 0L)
  expect_gt(seen, 0)
})

test_that("import refuses ambiguous rows, cut lines and words for numbers", {
  archive <- new_archive()
  file <- withr::local_tempfile(fileext = ".csv")
  writeBin(
    c(
      charToRaw("time,close\n2026-01-01,1"), as.raw(0),
      charToRaw("\n2026-01-02,2\n")
    ),
    file
  )
  expect_error_kind(
    archive_import(archive, file, symbol = "KELD", interval = "1 day"),
    "import", "zero byte"
  )
  writeBin(
    c(
      charToRaw("symbol,time,close\nM"), as.raw(0xfc),
      charToRaw("hle,2026-01-01,1\n")
    ),
    file
  )
  expect_error_kind(
    archive_import(archive, file, interval = "1 day"), "import", "UTF-8"
  )
  expect_identical(nrow(archive_series(archive)), 0L)
  writeLines(
    c(
      "time,close", "2026-01-01,inf", "2026-01-02,0x1F", "2026-01-03,NaN",
      "2026-01-04,4"
    ),
    file
  )
  read <- archive_import(archive, file, symbol = "KELD", interval = "1 day")
  expect_identical(read$new, 1)
  expect_identical(archive_bars(archive, "KELD")$close, 4)
  writeLines(c("symbol,time,close,note", "'=KELD,2026-01-01,1,'-X"), file)
  archive_import(archive, file, interval = "1 week")
  got <- archive_bars(archive, interval = "1 week")
  expect_identical(c(got$symbol, got$note), c("=KELD", "-X"))
})

test_that("sessions are those that are asked for", {
  archive <- new_archive()
  file <- withr::local_tempfile(fileext = ".csv")
  export_csv(
    data.frame(
      symbol = "KELD",
      time = as.POSIXct("2026-03-12 06:30", tz = "UTC") + 3600 * 0:8,
      close = 1:9
    ),
    file
  )
  archive_import(
    archive,
    file,
    interval = "1 hour",
    calendar = source_calendar("quay")
  )
  all <- archive_bars(archive, "KELD", "1 hour")
  expect_identical(
    nrow(archive_bars(archive, "KELD", "1 hour", session = "regular")),
    sum(all$session %in% "regular")
  )
  expect_lt(sum(all$session %in% "regular"), 9)
  expect_identical(
    nrow(
      archive_bars(archive, "KELD", "1 hour", session = c("early", "regular"))
    ),
    sum(all$session %in% c("early", "regular"))
  )
})

test_that("an archive may have any letters in its path, in any locale", {
  folder <- withr::local_tempdir()
  file.copy(days_csv(1:3), file.path(folder, "days.csv"))
  name <- "Gr\u00f6\u00dfe.sqlite"
  for (locale in c("C", "C.UTF-8")) {
    run <- run_vetusta(
      "import", "days.csv", "--symbol", "KELD", "--interval", "1 day",
      "--archive", name, folder = folder, env = c(LC_ALL = locale)
    )
    expect_identical(run$status, 0L)
    expect_match(
      run_vetusta(
        "list", "series", "--archive", name,
        folder = folder, env = c(LC_ALL = locale)
      )$stdout,
      "KELD"
    )
  }
  expect_true(file.exists(file.path(folder, name)))
  expect_length(list.files(folder, "sqlite$"), 1)
})
