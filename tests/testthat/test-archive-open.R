days_csv <- function(days, env = parent.frame(), ...) {
  file <- withr::local_tempfile(fileext = ".csv", .local_envir = env)
  day <- as.Date("2026-01-01") + days - 1
  utils::write.csv(data.frame(time = format(day), close = days, ...), file, row.names = FALSE,
    quote = FALSE)
  file
}
put_days <- function(archive, days, ...) {
  archive_import(archive, days_csv(days), symbol = "KELD",
  interval = "1 day", ...)
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
  for (archive in list(a, b)) expect_identical(archive_bars(archive, "KELD")$close, as.double(1:20))
  # a transaction that comes to nothing leaves nothing at hand either
  try(vetusta:::store_transaction(a, function() {
    put_rows(a, "own", "import", "bars", minute_bars()[1:5, ], "P1D")
    stop("no")
  }), silent = TRUE)
  put_days(b, 21:30)
  put_days(a, 25:35)
  expect_identical(archive_bars(a, "KELD")$close, as.double(1:35))
  withr::with_seed(4, for (i in 1:30) {
    from <- sample(1:200, 1)
    put_days(list(a, b)[[sample(2, 1)]], from:(from + sample(20, 1)))
  })
  expect_identical(archive_bars(a, "KELD")$close, archive_bars(b, "KELD")$close)
  expect_false(any(duplicated(archive_bars(a, "KELD")$time)))
})

test_that("times of whole microseconds are the same however often they are imported", {
  archive <- new_archive()
  file <- withr::local_tempfile(fileext = ".csv")
  withr::with_seed(2, micros <- sort(sample(1e9, 1000)))
  writeLines(c("symbol,time,close",
    sprintf("KELD,2026-03-12T09:%02d:%02d.%06dZ,%d", as.integer(micros %/% 1e6 %/% 60 %% 60),
      as.integer(micros %/% 1e6 %% 60), as.integer(micros %% 1e6),
    seq_along(micros))), file)
  expect_identical(archive_import(archive, file, interval = "1 second")$new, 1000)
  again <- archive_import(archive, file, interval = "1 second")
  expect_identical(c(again$new, again$changed, again$unchanged), c(0, 0, 1000))
  bars <- archive_bars(archive, "KELD", "1 second")
  expect_identical(nrow(bars), 1000L)
  expect_identical(round(as.numeric(bars$time) * 1e6) %% 1e9,
    as.double(round((as.numeric(as.POSIXct("2026-03-12 09:00", tz = "UTC")) * 1e6 + micros)) %%
    1e9))
  # and they come out in the text they went in with
  out <- withr::local_tempfile(fileext = ".csv")
  export_csv(bars, out)
  expect_identical(archive_import(archive, out, interval = "1 second")$unchanged, 1000)
})

test_that("a byte that was changed is found, with where it stands", {
  archive <- new_archive()
  put_days(archive, 1:50)
  body <- vetusta:::sql_get(archive, "SELECT body FROM segments")$body[[1]]
  withr::with_seed(5, places <- sample(length(body), 12))
  for (at in places) {
    spoilt <- body
    spoilt[at] <- xor(spoilt[at], as.raw(64))
    vetusta:::sql_do(archive, "UPDATE segments SET body = ?", list(list(spoilt)))
    expect_error_kind(archive_bars(archive, "KELD"), "archive", "KELD.*damaged")
  }
  vetusta:::sql_do(archive, "UPDATE segments SET body = ?", list(list(body)))
  expect_identical(nrow(archive_bars(archive, "KELD")), 50L)
  vetusta:::sql_do(archive,
    paste0("INSERT INTO records (source, dataset, shape, key, body, known) VALUES ('quay', ",
      "'market', 'table', 'a', '{\"a\":', 1)"))
  expect_error_kind(archive_rows(archive, "quay", "market"), "archive", "damaged")
})

test_that("what is no archive is refused and left as it is", {
  path <- withr::local_tempfile(fileext = ".sqlite")
  connection <- DBI::dbConnect(RSQLite::SQLite(), path)
  DBI::dbExecute(connection, "CREATE TABLE accounts (name TEXT)")
  DBI::dbDisconnect(connection)
  before <- tools::md5sum(path)
  expect_error_kind(archive_open(path), "archive", "no archive")
  expect_identical(tools::md5sum(path), before)
  run <- run_vetusta("list", "--archive", path)
  expect_identical(run$status, 1L)
  expect_identical(tools::md5sum(path), before)
  for (change in c("UPDATE meta SET value = '10'", "UPDATE meta SET value = '99'",
    "DELETE FROM meta", "UPDATE meta SET value = 'x'")) {
    own <- withr::local_tempfile(fileext = ".sqlite")
    archive <- archive_open(own)
    vetusta:::sql_do(archive, change)
    archive_close(archive)
    expect_error_kind(archive_open(own), "archive", if (grepl("10|99", change)) "newer"
    else "no archive")
  }
  folder <- withr::local_tempdir()
  expect_error_kind(archive_open(folder), "archive", "folder")
  text <- withr::local_tempfile()
  writeLines(rep("no database at all", 100), text)
  expect_error_kind(archive_open(text), "archive", "no archive|damaged")
})

# One archive of each form, as the versions before wrote them: bars with a change, a river's levels
# with one that was corrected,
# stations, facts, a directory, rates, and from the second form on freight prices with their
# releases.
test_that("archives of all older forms are carried over when they are opened, with what was before",
  {
  for (form in 1:4) {
    path <- withr::local_tempfile(fileext = ".sqlite")
    packed <- gzfile(test_path("forms", paste0("form-", form, ".sqlite.gz")), "rb")
    writeBin(readBin(packed, "raw", 1e7), path)
    close(packed)
    archive <- archive_open(path)
    label <- paste("form", form)
    expect_identical(nrow(archive_bars(archive, "KELD", "1 minute")), 381L, label = label)
    expect_identical(sort(unique(archive_bars(archive, interval = "1 day",
      source = "fixing")$side)), c("ask", "bid", "mid"), label = label)
    own <- archive_bars(archive, "OWN", source = "own")
    expect_identical(own$close, c(10.75, 11, 12), label = label)
    expect_identical(own$desk, c("a", "b", NA), label = label)
    first <- archive_revisions(archive, "OWN", all = TRUE)
    expect_identical(first$value, c(10.5, 10.75, 11, 12), label = label)
    expect_identical(archive_bars(archive, "OWN", source = "own",
      as_of = first$known[1])$close[1], 10.5, label = label)
    level <- archive_rows(archive, "river", "levels")
    expect_identical(unique(diff(sort(as.numeric(level$period))))[1], 1, label = label)
    expect_identical(archive_revisions(archive, "kelder-lock", all = TRUE)$value[1], 99,
      label = label)
    expect_identical(nrow(archive_rows(archive, "register", "facts")), 140L, label = label)
    expect_s3_class(archive_rows(archive, "river", "stations")$first, "Date")
    expect_gt(nrow(archive_journal(archive)), 8)
    if (form > 1) {
      expect_gt(nrow(archive_observations(archive, "basin", "FREIGHT_PRICES")), 10)
      expect_gt(max(archive_revisions(archive, "basin/FREIGHT_PRICES")$releases), 1)
    }
    # what is held is not asked for again
    quay <- source_card("quay")
    expect_identical(nrow(plan_calls(want_bars(quay, "KELD", "1 minute", from = "2026-03-12",
      to = "2026-03-12"), archive)$calls), 0L, label = label)
    archive_close(archive)
    # it is of the form of this version now
    expect_identical(nrow(archive_bars(archive_open(path), "KELD", "1 minute")), 381L,
      label = label)
  }
})

test_that("readers see whole pages while somebody writes", {
  path <- withr::local_tempfile(fileext = ".sqlite")
  archive <- archive_open(path)
  withr::defer(archive_close(archive))
  put_days(archive, 1:5)
  # each transaction of the writer adds or changes ten days of one number: a reader that sees two
  # moments sees two numbers
  writer <- processx::process$new("Rscript",
    c("--no-init-file", "-e", sprintf("library(vetusta); a <- archive_open('%s'); ready <- FALSE
    for (i in 1:60) { f <- tempfile();
      write.csv(data.frame(time = format(as.Date('2026-02-01') + 0:39),
        close = i), f, row.names = FALSE, quote = FALSE)
    archive_import(a, f, symbol = 'TAMX', interval = '1 day');
      if (i == 1) { cat('ready\\n'); flush(stdout()) } }", path)),
    env = c("current", R_LIBS = r_libs()),


        stdout = "|", stderr = "|")
  withr::defer(writer$kill())
  while (writer$is_alive() && !"ready" %in% writer$read_output_lines()) writer$poll_io(200)
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

test_that("import refuses what would be joined, cut or unreadable, and takes no word for a number",
  {
  archive <- new_archive()
  file <- withr::local_tempfile(fileext = ".csv")
  writeBin(c(charToRaw("time,close\n2026-01-01,1"), as.raw(0), charToRaw("\n2026-01-02,2\n")), file)
  expect_error_kind(archive_import(archive, file, symbol = "KELD", interval = "1 day"), "import",
    "byte of zero")
  writeBin(c(charToRaw("symbol,time,close\nM"), as.raw(0xfc), charToRaw("hle,2026-01-01,1\n")),
    file)
  expect_error_kind(archive_import(archive, file, interval = "1 day"), "import", "UTF-8")
  expect_identical(nrow(archive_series(archive)), 0L)
  writeLines(c("time,close", "2026-01-01,inf", "2026-01-02,0x1F", "2026-01-03,NaN", "2026-01-04,4"),
    file)
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
  export_csv(data.frame(symbol = "KELD",
    time = as.POSIXct("2026-03-12 06:30", tz = "UTC") + 3600 * 0:8, close = 1:9), file)
  archive_import(archive, file, interval = "1 hour", calendar = source_calendar("quay"))
  all <- archive_bars(archive, "KELD", "1 hour")
  expect_identical(nrow(archive_bars(archive, "KELD", "1 hour", session = "regular")),
    sum(all$session %in% "regular"))
  expect_lt(sum(all$session %in% "regular"), 9)
  expect_identical(nrow(archive_bars(archive, "KELD", "1 hour", session = c("early", "regular"))),
    sum(all$session %in% c("early", "regular")))
})

test_that("an archive may have any letters in its path, in any locale", {
  folder <- withr::local_tempdir()
  file.copy(days_csv(1:3), file.path(folder, "days.csv"))
  name <- "Gr\u00f6\u00dfe.sqlite"
  for (locale in c("C", "C.UTF-8")) {
    run <- run_vetusta("import", "days.csv", "--symbol", "KELD", "--interval", "1 day", "--archive",
      name, folder = folder, env = c(LC_ALL = locale))
    expect_identical(run$status, 0L)
    expect_match(run_vetusta("list", "--archive", name, folder = folder,
      env = c(LC_ALL = locale))$stdout, "KELD")
  }
  expect_true(file.exists(file.path(folder, name)))
  expect_length(list.files(folder, "sqlite$"), 1)
})

test_that("an archive of form 5 counts its calls on with the weight of one each", {
  file <- withr::local_tempfile(fileext = ".sqlite")
  archive <- archive_open(file)
  vetusta:::sql_do(archive, "ALTER TABLE tokens DROP COLUMN weight")
  vetusta:::sql_do(archive, "DROP TABLE collectors")
  vetusta:::sql_do(archive, "DROP TABLE moved")
  vetusta:::sql_do(archive, "INSERT INTO tokens VALUES ('quay', 5)")
  vetusta:::sql_do(archive, "UPDATE meta SET value = '5' WHERE name = 'form'")
  archive_close(archive)
  archive <- archive_open(file)
  withr::defer(archive_close(archive))
  expect_identical(vetusta:::store_tokens(archive, "quay")[c("time", "weight")],
    data.frame(time = 5, weight = 1))
})

test_that("an archive of form 6 is carried over as it is, and knows who collects from then on", {
  file <- withr::local_tempfile(fileext = ".sqlite")
  packed <- gzfile(test_path("forms", "form-6.sqlite.gz"), "rb")
  writeBin(readBin(packed, "raw", 1e7), file)
  close(packed)
  archive <- archive_open(file)
  withr::defer(archive_close(archive))
  expect_identical(archive_bars(archive, "KELD", "1 minute")$close, c(1.5, 9, 3.5))
  expect_identical(archive_revisions(archive, "KELD", all = TRUE)$value, c(1.5, 2.5, 9, 3.5))
  expect_identical(archive_rows(archive, "quay", "directory")$name, c("Kelder", "Tamarix"))
  expect_identical(archive_observations(archive, "river", "levels")$value, c(1.5, NA, 2))
  expect_identical(vetusta:::store_tokens(archive, "quay")$weight, 3)
  expect_identical(nrow(archive_journal(archive)), 4L)
  expect_identical(nrow(archive_check(archive)), 0L)
  vetusta:::store_beat(archive, "quay bars")
  expect_identical(vetusta:::store_collectors(archive)$doing, "quay bars")
})
