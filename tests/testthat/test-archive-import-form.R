# Files of analysts: lines above the header, decimal commas, days first, other
# encodings.
messy <- c(
  "Export of my broker;;;", "Account 12345;;;", "",
  "Datum;Schluss;Umsatz;Bemerkung", "13.03.2026;1.234,50;12.000;ok",
  "16.03.2026;1.250,25;8.500;", "Datum;Schluss;Umsatz;Bemerkung", "",
  "17.03.2026;(1.240,00);7.100;\"a; b\"", "Summe;;27.600;"
)

test_that("a messy file is read with the line numbers of the file", {
  file <- withr::local_tempfile(lines = messy, fileext = ".csv")
  form <- archive_import_form(file)
  expect_identical(
    unclass(form)[c("skip", "separator", "decimal", "thousands", "dates")],
    list(
      skip = 3, separator = ";", decimal = ",", thousands = ".", dates = "dmy"
    )
  )
  expect_length(form$doubts, 0)
  archive <- new_archive()
  columns <- c(time = "Datum", close = "Schluss", volume = "Umsatz")
  done <- archive_import(
    archive, file, "ASH", "1 day", columns = columns, form = form
  )
  expect_identical(
    c(done$new, nrow(done$rejected), done$rejected$line), c(3, 1, 10)
  )
  bars <- archive_bars(archive, "ASH", "1 day")
  expect_identical(bars$close, c(1234.5, 1250.25, -1240))
  expect_identical(bars$volume, c(12000, 8500, 7100))
  expect_identical(bars$Bemerkung[3], "a; b")
  # the same file again changes nothing
  again <- archive_import(
    archive, file, "ASH", "1 day", columns = columns, form = form
  )
  expect_identical(c(again$new, again$changed), c(0, 0))
})

test_that("encodings, currencies, missing marks, columns without a name", {
  text <- c(
    "Tag;Wert;Bem;", "01.02.2026;12,5 \u20ac;M\u00fchle;",
    "02.02.2026;-;\u00d6l;", "28.02.2026;- 3,25;x;"
  )
  for (encoding in c("latin1", "UTF-16LE", "UTF-8")) {
    file <- withr::local_tempfile(fileext = ".csv")
    bytes <- iconv(
      paste(text, collapse = "\r\n"), "UTF-8",
      if (encoding == "latin1") "CP1252" else encoding, toRaw = TRUE
    )[[1]]
    writeBin(c(if (encoding == "UTF-16LE") as.raw(c(0xff, 0xfe)), bytes), file)
    form <- archive_import_form(file, missing = "-")
    expect_identical(form$encoding, encoding)
    archive <- new_archive()
    archive_import_rows(
      archive,
      file,
      columns = c(period = "Tag", value = "Wert"),
      dataset = "levels",
      form = form
    )
    rows <- archive_read(archive, "files/levels")[[1]]
    expect_identical(
      rows$period, as.Date(c("2026-02-01", "2026-02-02", "2026-02-28")),
      label = encoding
    )
    expect_identical(rows$value, c(12.5, NA, -3.25), label = encoding)
    expect_identical(rows$Bem[1], "M\u00fchle", label = encoding)
  }
})

test_that("an argument settles what the file leaves open", {
  doubtful <- c("Day,Level", "03/04/2026,\"1,234\"", "05/04/2026,\"1,240\"")
  file <- withr::local_tempfile(lines = doubtful, fileext = ".csv")
  form <- archive_import_form(file)
  expect_setequal(names(form$doubts), c("decimal", "dates"))
  expect_length(
    archive_import_form(file, decimal = ".", dates = "mdy")$doubts, 0
  )
  days <- function(...) {
    archive <- new_archive()
    archive_import_rows(
      archive,
      file,
      columns = c(period = "Day", value = "Level"),
      dataset = "d",
      form = archive_import_form(file, ...)
    )
    archive_read(archive, "files/d")[[1]]
  }
  expect_identical(
    days(decimal = ".", dates = "mdy")$period,
    as.Date(c("2026-03-04", "2026-05-04"))
  )
  expect_identical(days(decimal = ",", dates = "dmy")$value, c(1.234, 1.24))
  # a later line decides
  writeLines(c(doubtful, "25/04/2026,\"1,5\""), file)
  form <- archive_import_form(file)
  expect_identical(
    unclass(form)[c("dates", "decimal")], list(dates = "dmy", decimal = ",")
  )
  expect_length(form$doubts, 0)
  expect_error_kind(
    archive_import_form(file, dates = "dym"), "import", "did you mean"
  )
  expect_error_kind(archive_import_form(file, skip = -1), "import")
  expect_error_kind(
    archive_import(new_archive(), file, "A", "1 day", form = list()), "import",
    "archive_import_form"
  )
})

test_that("texts, codes and plain files stay as they are", {
  file <- withr::local_tempfile(
    lines = c("day,code,n", "2026-03-12,007,1.5", "2026-03-13,008,2"),
    fileext = ".csv"
  )
  form <- archive_import_form(file)
  expect_identical(
    c(form$dates, form$decimal, form$thousands), c("ymd", ".", "")
  )
  archive <- new_archive()
  archive_import_rows(archive, file, "table", form = form, dataset = "t")
  rows <- archive_rows(archive, "files", "t")
  expect_identical(rows$code, c("007", "008"))
})

test_that("a workbook with lines above its header is read", {
  skip_if_not_installed("openxlsx2")
  folder <- withr::local_tempdir()
  book <- openxlsx2::wb_workbook()
  book$add_worksheet("Levels")
  book$add_data("Levels", "Levels of the survey", dims = "A1")
  book$add_data(
    "Levels",
    data.frame(Day = as.Date("2026-03-12") + 0:2, Level = c(250.1, 251, 249)),
    start_row = 3
  )
  book$save(file.path(folder, "levels.xlsx"))
  said <- function(...) {
    run_vetusta("import", ..., "--archive", "a.sqlite", folder = folder)
  }
  done <- said(
    "levels.xlsx", "--shape", "observations", "--map", "period=Day,value=Level"
  )
  expect_identical(done$status, 0L, label = done$stderr)
  expect_match(done$stdout, "3 new")
  writeLines(
    c("Day,Level", "03/04/2026,2.5", "05/04/2026,2.6"),
    file.path(folder, "d.csv")
  )
  words <- c(
    "d.csv", "--shape", "observations", "--map", "period=Day,value=Level"
  )
  asked <- do.call(said, as.list(words))
  expect_identical(asked$status, 2L)
  expect_match(
    asked$stderr, "day first or month first.*give --dates, or --yes for dmy"
  )
  expect_match(
    do.call(said, as.list(c(words, "--dates", "mdy")))$stdout, "2 new"
  )
  expect_match(said("d.csv")$stdout, "doubt: is 03/04/2026")
  expect_match(said("d.csv", "--decimal", ";")$stderr, "decimal")
  expect_match(
    said("none.csv", "--skip", "1")$stderr, "--skip is for CSV files"
  )
})
