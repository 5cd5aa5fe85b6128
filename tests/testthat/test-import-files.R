# Import of many files, of folders and sheets, by a card.
write_month <- function(folder, name, days, prices) {
  writeLines(
    c("Broker's list", "", "Day;Last", paste(days, prices, sep = ";")),
    file.path(folder, name)
  )
}

test_that("a card reads next month's file like the first one", {
  folder <- withr::local_tempdir()
  at <- function(...) file.path(folder, ...)
  said <- function(...) run_vetusta("import", ..., folder = folder)
  # the first file shows that days come first, the second one does not
  write_month(
    folder, "march.csv", c("13.03.2026", "16.03.2026", "Total"),
    c("1.234,50", "1.250,25", "2.484,75")
  )
  write_month(
    folder, "april.csv", c("01/04/2026", "02/04/2026"), c("1.234", "1.250")
  )
  first <- said(
    "march.csv", "--interval", "1 day", "--symbol", "KELD", "--map",
    "time=Day,close=Last", "--source", "broker", "--save-card", "broker.yml",
    "--archive", "a.sqlite"
  )
  expect_identical(first$status, 1L)
  expect_match(first$stdout, "march.csv +3 +2 +0 +0 +1 +stored")
  expect_match(first$stderr, "wrote the card broker.yml")
  card <- import_card(at("broker.yml"))
  expect_identical(
    unclass(card)[c("decimal", "thousands", "dates", "separator", "symbol")],
    list(
      decimal = ",", thousands = ".", dates = "dmy", separator = ";",
      symbol = "KELD"
    )
  )
  second <- said("april.csv", "--card", "broker.yml", "--archive", "a.sqlite")
  expect_identical(second$status, 0L, label = second$stderr)
  archive <- archive_open(at("a.sqlite"))
  withr::defer(archive_close(archive))
  bars <- archive_bars(archive, "KELD", "1 day")
  expect_identical(bars$close, c(1234.5, 1250.25, 1234, 1250))
  expect_identical(
    as.Date(bars$time), as.Date(c(
      "2026-03-13", "2026-03-16", "2026-04-01",
      "2026-04-02"
    ))
  )
  # the same files again change nothing, and a row is rejected once
  again <- said(
    "march.csv", "april.csv", "--card", "broker.yml", "--archive", "a.sqlite"
  )
  expect_match(again$stdout, "march.csv +3 +0 +0 +2 +1 +stored")
  expect_identical(nrow(archive_rejected(archive)), 1L)
})

test_that("symbols are the names of files or of sheets", {
  folder <- withr::local_tempdir()
  sub <- file.path(folder, "lists")
  dir.create(sub)
  for (name in c("KELD", "TAMX")) {
    write_month(sub, paste0(name, ".csv"), "13.03.2026", nchar(name) + 0.5)
  }
  writeLines("not a table", file.path(sub, "readme.md"))
  archive <- new_archive()
  card <- list(
    interval = "1 day", symbol_from = "file", decimal = ".",
    columns = c(time = "Day", close = "Last")
  )
  result <- import_files(archive, sub, card)
  expect_identical(basename(result$file), c("KELD.csv", "TAMX.csv"))
  expect_identical(result$new, c(1, 1))
  expect_identical(archive_series(archive)$key, c("KELD", "TAMX"))
  card$files <- "TAM*.csv"
  expect_identical(nrow(import_files(archive, sub, card)), 1L)
  skip_if_not_installed("openxlsx2")
  book <- openxlsx2::wb_workbook()
  for (sheet in c("lower", "upper")) {
    book <- openxlsx2::wb_add_worksheet(book, sheet)
    book <- openxlsx2::wb_add_data(
      book, sheet,
      data.frame(day = as.Date("2026-03-12") + 0:1, level = c(1, 2))
    )
  }
  file <- file.path(folder, "levels.xlsx")
  openxlsx2::wb_save(book, file)
  sheets <- import_files(
    archive, file,
    list(
      shape = "observations", symbol_from = "sheet", dataset = "levels",
      columns = list(period = "day", value = "level")
    )
  )
  expect_identical(sheets$sheet, c("lower", "upper"))
  levels <- archive_read(archive, "files/levels")[[1]]
  expect_identical(levels$series, rep(c("lower", "upper"), each = 2))
  expect_identical(levels$value, c(1, 2, 1, 2))
})

test_that("a file that fails is reported, and the others are stored", {
  folder <- withr::local_tempdir()
  write_month(folder, "a.csv", "13.03.2026", "1,5")
  writeLines(c("Day;Price", "13.03.2026;2,5"), file.path(folder, "b.csv"))
  write_month(folder, "c.csv", "03.04.2026", "2,5")
  archive <- new_archive()
  card <- list(
    interval = "1 day", symbol_from = "file", dates = "dmy",
    columns = list(time = "Day", close = "Last")
  )
  result <- import_files(archive, folder, card)
  expect_identical(result$outcome, c("stored", "failed", "stored"))
  expect_match(result$message[2], "no column \"Last\"")
  expect_output(print(result), "b.csv: The file has no column")
  # a doubt that the card leaves open is an error of the file
  writeLines(c("Day;Last", "03/04/2026;2,5"), file.path(folder, "d.csv"))
  card$dates <- NULL
  doubt <- import_files(archive, file.path(folder, "d.csv"), card)
  expect_match(doubt$message, "day first or month first.*add dates:")
  out <- run_vetusta(
    "import", "d.csv", "c.csv", "--interval", "1 day", "--symbol-from", "file",
    "--map", "time=Day,close=Last", "--yes", "--archive", "x.sqlite",
    folder = folder
  )
  expect_identical(out$status, 0L, label = out$stdout)
})

test_that("a damaged workbook fails alone", {
  skip_if_not_installed("openxlsx2")
  folder <- withr::local_tempdir()
  writeBin(
    c(as.raw(c(0x50, 0x4b, 3, 4)), as.raw(1:200)),
    file.path(folder, "bad.xlsx")
  )
  writeLines("day,level\n2026-03-12,1", file.path(folder, "good.csv"))
  result <- import_files(
    new_archive(), folder,
    list(
      shape = "observations", symbol_from = "sheet",
      columns = list(period = "day", value = "level")
    )
  )
  expect_identical(result$outcome, c("failed", "stored"))
  expect_match(result$message[1], "not a workbook")
})

test_that("wrong cards and paths say what to do", {
  archive <- new_archive()
  folder <- withr::local_tempdir()
  file <- file.path(folder, "card.yml")
  writeLines(c("interval: 1 day", "decimel: ','"), file)
  error <- expect_error_kind(import_card(file), "import", "Unknown word")
  expect_match(error$where, "line 2")
  expect_match(error$todo, "decimal")
  writeLines(c("dates: ddmmyy"), file)
  expect_error_kind(import_card(file), "import", "cannot be \"ddmmyy\"")
  expect_error_kind(import_card("none.yml"), "import", "no such import card")
  expect_error_kind(import_card(7), "import", "path or a list")
  expect_error_kind(import_files(archive, "none.csv"), "import", "no such file")
  expect_error_kind(import_files(archive, folder), "import", "no files")
  writeLines(c("time,close", "2026-03-12,1"), file.path(folder, "a.csv"))
  neither <- import_files(archive, file.path(folder, "a.csv"))
  expect_match(neither$message, "neither an interval nor a shape")
  bars <- import_files(
    archive, file.path(folder, "a.csv"), list(shape = "bars", symbol = "K")
  )
  expect_match(bars$message, "no interval")
  expect_match(
    run_vetusta("import", "a.csv", "b.csv", folder = folder)$stderr,
    "need --interval"
  )
  expect_match(
    run_vetusta(
      "import", "a.csv", "--card", "none.yml",
      folder = folder
    )$stderr,
    "no such import card"
  )
})

test_that("a function reads files that no words describe", {
  folder <- withr::local_tempdir()
  file <- file.path(folder, "fixed.txt")
  writeLines(c("20260312KELD   41.20", "20260313KELD   41.30"), file)
  read <- function(file) {
    lines <- readLines(file)
    data.frame(
      symbol = trimws(substr(lines, 9, 15)),
      time = as.POSIXct(substr(lines, 1, 8), "%Y%m%d", tz = "UTC"),
      close = as.numeric(substr(lines, 16, 20))
    )
  }
  archive <- new_archive()
  done <- archive_import(archive, file, interval = "1 day", read = read)
  expect_identical(done$new, 2)
  expect_identical(archive_bars(archive, "KELD", "1 day")$close, c(41.2, 41.3))
  levels <- function(file) {
    data.frame(period = as.Date("2026-03-12") + 0:1, value = c(1, 2))
  }
  archive_import_rows(archive, file, dataset = "levels", read = levels)
  expect_identical(archive_read(archive, "files/levels")[[1]]$value, c(1, 2))
  refused <- function(read, pattern, ...) {
    expect_error_kind(
      archive_import(archive, file, interval = "1 day", read = read, ...),
      "import", pattern
    )
  }
  refused(function(file) 7, "must return a data frame")
  refused(function(file) stop("no such line"), "failed: no such line")
  refused("read.csv", "must be a function")
  refused(read, "either `read` or `form`", form = list())
})

test_that("a card is a list, or the lines of a draft", {
  words <- list(
    source = "mill", url = "http://data.example.org", open_http = TRUE,
    limits = list("5 per second"),
    datasets = list(
      bars = list(
        shape = "bars", request = "/days/{symbol}", rows = "/items",
        columns = list(time = list(at = "/day", as = "day"), close = "/last")
      )
    )
  )
  card <- source_card(words)
  expect_s3_class(card, "vetusta_source")
  expect_identical(names(card$datasets), "bars")
  words$datasets$bars$rowz <- "/x"
  error <- expect_error_kind(source_card(words), "card", "Unknown word")
  expect_match(error$where, "the card, line")
  sample <- withr::local_tempfile(
    lines = '{"items":[{"day":"2026-03-12","close":41.2}]}'
  )
  drafted <- source_card(source_draft(sample, "mill"))
  expect_identical(drafted$datasets$bars$rows, "/items")
  expect_error_kind(source_card(list(1, 2)), "card", "named list")
})

test_that("on a terminal a file is stored after questions", {
  folder <- withr::local_tempdir()
  writeLines(
    c(
      "Account report;;", "", "Date;Price", "03/04/2026;61,70",
      "07/04/2026;62,37"
    ),
    file.path(folder, "march.csv")
  )
  said <- typed(
    c("mdy", "LUDR", "y"), "import", "march.csv", "--archive", "a.sqlite",
    folder = folder
  )
  expect_match(said, "day first or month first")
  expect_match(said, "2 new", fixed = TRUE)
  archive <- archive_open(file.path(folder, "a.sqlite"))
  rows <- archive_read(archive, "LUDR")[[1]]
  expect_identical(as.Date(rows$time), as.Date(c("2026-03-04", "2026-07-04")))
  expect_identical(rows$close, c(61.7, 62.37))
  # a wrong answer and a no store nothing
  expect_match(
    typed(
      "ydm", "import", "march.csv", "--archive", "b.sqlite",
      folder = folder
    ),
    "cannot be \"ydm\""
  )
  expect_match(
    typed(
      c("", "", "n"), "import", "march.csv", "--archive", "b.sqlite",
      folder = folder
    ),
    "nothing was stored"
  )
  expect_false(file.exists(file.path(folder, "b.sqlite")))
  # without a terminal nothing is asked, and --yes stores the likelier reading
  shown <- run_vetusta(
    "import", "march.csv", "--archive", "c.sqlite",
    folder = folder
  )
  expect_match(shown$stderr, "nothing is stored yet")
  stored <- run_vetusta(
    "import", "march.csv", "--archive", "c.sqlite", "--symbol", "LUDR", "--yes",
    folder = folder
  )
  expect_match(stored$stdout, "2 new")
  archive <- archive_open(file.path(folder, "c.sqlite"))
  expect_identical(
    as.Date(archive_read(archive, "LUDR")[[1]]$time),
    as.Date(c("2026-04-03", "2026-04-07"))
  )
})

test_that("common names of columns are read as those of bars", {
  archive <- new_archive()
  file <- withr::local_tempfile(fileext = ".csv")
  writeLines(
    c("Ticker,Timestamp,Price,Vol", "LUDR,2026-03-12,61.7,1200"), file
  )
  archive_import(archive, file, interval = "1 day")
  row <- archive_read(archive, "LUDR")[[1]]
  expect_identical(row$close, 61.7)
  expect_identical(row$volume, 1200)
  # two candidates are not chosen between
  writeLines(c("symbol,date,price,last", "LUDR,2026-03-12,61.7,61.8"), file)
  expect_error_kind(
    archive_import(archive, file, interval = "1 day"), "import",
    "no column for `close`"
  )
})
