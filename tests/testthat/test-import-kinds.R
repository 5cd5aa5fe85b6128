# Files as people have them: each is imported by its guess, exactly.
imported <- function(text, ..., ending = ".csv") {
  folder <- withr::local_tempdir()
  file <- file.path(folder, paste0("sheet", ending))
  writeBin(if (is.raw(text)) text else charToRaw(enc2utf8(text)), file)
  said <- run_vetusta(
    "import", file, "--yes", "--archive", "a.sqlite", ..., folder = folder
  )
  archive <- archive_open(file.path(folder, "a.sqlite"))
  withr::defer(archive_close(archive))
  ids <- archive_series(archive)$id
  rows <- lapply(ids, function(id) {
    as.data.frame(archive_read(archive, id)[[1]])
  })
  list(
    status = said$status, said = said$stdout,
    ids = sub("[@ ].*", "", sub(".*/", "", ids)),
    rows = rows[[1]],
    values = unlist(lapply(rows, function(x) x[["close"]] %||% x[["value"]]))
  )
}

test_that("times of many forms", {
  joined <- imported(paste0(
    "Date,Time,Open,High,Low,Last\n2026-03-12,09:30,41.2,41.3,41.1,41.25\n",
    "2026-03-12,09:31,41.25,41.4,41.2,41.35\n",
    "2026-03-12,09:32,41.25,41.4,41.2,41.3\n"
  ), "--symbol", "KELD", "--zone", "Europe/Riga")
  expect_match(joined$said, "bars of 1 minute")
  expect_identical(joined$values, c(41.25, 41.35, 41.3))
  expect_identical(
    joined$rows$time[1], as.POSIXct("2026-03-12 07:30", tz = "UTC")
  )
  digits <- imported(
    "Date,Time,Close\n20260312,930,1\n20260312,931,2\n20260312,1000,3\n",
    "--symbol", "KELD", "--interval", "1 minute", "--map",
    "time=Date+Time"
  )
  expect_identical(
    format(digits$rows$time, "%H:%M"), c("09:30", "09:31", "10:00")
  )
  epochs <- imported(
    "timestamp,close\n1773300600000,41.25\n1773300660000,41.35\n",
    "--symbol", "KELD"
  )
  expect_identical(
    format(epochs$rows$time), c("2026-03-12 07:30:00", "2026-03-12 07:31:00")
  )
  compact <- imported(paste0(
    "<TICKER>,<DATE>,<OPEN>,<CLOSE>\nKELD,20260312,41.2,41.5\n",
    "KELD,20260313,41.5,41.6\n"
  ))
  expect_identical(compact$values, c(41.5, 41.6))
  expect_identical(compact$rows$symbol, c("KELD", "KELD"))
  named <- imported(
    "Date,Price\n12 Mar 2026,41.20\n13 Mar 2026,41.35\n", "--symbol", "KELD"
  )
  expect_identical(
    as.Date(named$rows$time), as.Date(c("2026-03-12", "2026-03-13"))
  )
  quarters <- imported("Quarter,GDP\n2025 Q1,812.1\n2025 Q2,815.9\n")
  expect_identical(quarters$values, c(812.1, 815.9))
  weeks <- imported("week,price\n2026-W10,41.2\n2026-W11,41.3\n")
  expect_identical(weeks$values, c(41.2, 41.3))
  months <- imported("Year,Month,Value\n2025,12,1.6\n2026,1,1.7\n")
  expect_identical(months$values, c(1.6, 1.7))
  expect_identical(
    as.Date(months$rows$period %||% months$rows$time),
    as.Date(c("2025-12-01", "2026-01-01"))
  )
})

test_that("a column per period, units, marks and currencies", {
  wide <- imported(paste0(
    "Item;Jan 2026;Feb 2026;Mar 2026\nGrain;101,2;101,9;n/a\n",
    "Timber;98,4;98,1;98,0\n"
  ))
  expect_match(wide$said, "a column per period")
  expect_setequal(wide$ids, c("Grain", "Timber"))
  expect_setequal(wide$values, c(101.2, 101.9, 98.4, 98.1, 98))
  money <- imported(paste0(
    "Date;Balance\n13/03/2026;EUR 1\u00a0234,50\n14/03/2026;EUR -20,00\n"
  ))
  expect_identical(money$values, c(1234.5, -20))
  french <- imported(paste0(
    "Date;Ouverture;Plus haut;Plus bas;Cl\u00f4ture;Volume\n",
    "12/03/2026;41,00;41,50;40,90;41,20;1 200\n",
    "13/03/2026;41,20;41,60;41,10;41,30;980\n"
  ), "--symbol", "KELD")
  expect_identical(french$values, c(41.2, 41.3))
  expect_identical(french$rows$high, c(41.5, 41.6))
  expect_identical(french$rows$volume, c(1200, 980))
})

test_that("bytes and lines that are no plain text", {
  # UTF-16 without a mark
  wide <- imported(
    iconv(
      "Datum\tKELD\tTAMX\n12.03.2026\t41,20\t7,50\n13.03.2026\t41,30\t7,55\n",
      "UTF-8", "UTF-16LE",
      toRaw = TRUE
    )[[1]],
    ending = ".txt"
  )
  expect_setequal(wide$values, c(41.2, 41.3, 7.5, 7.55))
  broken <- imported(paste0(
    "date,close,note\n2026-03-12,41.2,\"half\nday\"\n2026-03-13,41.3,\n"
  ), "--symbol", "KELD")
  expect_identical(broken$values, c(41.2, 41.3))
  # the same in a form of its own, with line numbers of the file
  formed <- imported(paste0(
    "Date;Close;Note\n12.03.2026;41,2;\"half\nday\"\n13.03.2026;none;x\n",
    "16.03.2026;41,3;x\n17.03.2026;41,4;x\n18.03.2026;abc;x\n"
  ), "--symbol", "KELD")
  expect_identical(formed$values, c(41.2, 41.3, 41.4))
  expect_match(formed$said, "line 7: close cannot be read", fixed = TRUE)
  # a mark of inches is no quotation mark
  inches <- imported(paste0(
    "Date;Close;Pipe\n12.03.2026;41,2;5\"\n13.03.2026;41,3;6\n",
    "14.03.2026;41,4;7\n"
  ), "--symbol", "KELD")
  expect_identical(inches$values, c(41.2, 41.3, 41.4))
})

test_that("a name with a plus is a name", {
  folder <- withr::local_tempdir()
  file <- file.path(folder, "a.csv")
  writeLines(c("Day,Level+Sea", "2026-03-12,5", "2026-03-13,6"), file)
  archive <- new_archive()
  archive_import_rows(
    archive, file,
    columns = c(period = "Day", value = "Level+Sea")
  )
  expect_identical(archive_observations(archive, "files", "a")$value, c(5, 6))
  expect_error_kind(
    archive_import_rows(
      archive, file, columns = c(period = "Day+Hour", value = "Level+Sea")
    ),
    "import", "no column \"Day\\+Hour\""
  )
})

test_that("a file without rows is no table", {
  file <- withr::local_tempfile(lines = "just a word", fileext = ".txt")
  expect_error_kind(archive_import_guess(file), "import", "no rows")
})

test_that("a table's separator is that of its header", {
  separator <- vetusta:::header_separator
  expect_identical(separator("a, b, c\n1, 2, 3\n"), ",")
  expect_identical(separator("\n\n\"a, b\";c\n"), ";")
  expect_identical(separator("a\tb c\n"), "\t")
  expect_identical(separator("title\nThe mill of Orvane\n"), ",")
  expect_identical(separator("DAY LEVEL\n2026-03-12 5\n"), "auto")
  expect_identical(separator(""), "auto")
  expect_identical(separator("\xe9;b\n1;2\n"), ";")
  blanks <- vetusta:::decode_table(
    charToRaw("DAY  LEVEL\n2026-03-12  5\n2026-03-13  6\n"), "csv", "here"
  )
  expect_identical(blanks$LEVEL, c("5", "6"))
  titles <- vetusta:::decode_table(
    charToRaw("title\nThe mill of Orvane\nThe lock\n"), "csv", "here"
  )
  expect_identical(titles$title, c("The mill of Orvane", "The lock"))
})
