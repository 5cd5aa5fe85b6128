about_bars <- function() {
  archive <- new_archive()
  csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
  archive_import(
    archive, csv,
    symbol = "KELD", interval = "1 day", calendar = source_calendar("quay"),
    unit = c(close = "crowns", volume = "shares")
  )
  archive_read(archive, "KELD")[[1]]
}

test_that("a table that left comes home with its meaning", {
  skip_if_not_installed("openxlsx2")
  bars <- about_bars()
  bars$lots <- sprintf("%05d", seq_len(nrow(bars)))
  folder <- withr::local_tempdir()
  for (ending in c("csv", "tsv", "parquet", "xlsx")) {
    file <- file.path(folder, paste0("keld.", ending))
    export_table(bars, file)
    about <- export_about(file)
    expect_identical(about$interval, "P1D")
    expect_identical(about$source, "files/import")
    expect_identical(about$calendar, "quay")
    columns <- about$columns
    expect_identical(columns$unit[columns$column == "close"], "crowns")
    expect_identical(columns$type[columns$column == "lots"], "text")
    home <- new_archive()
    archive_import(home, file)
    back <- archive_read(home, "KELD")[[1]]
    expect_identical(back$time, bars$time, label = ending)
    expect_identical(back$close, bars$close, label = ending)
    # text that looks like numbers stays text
    expect_identical(back$lots, bars$lots, label = ending)
    facts <- series_about(back)
    expect_identical(facts$unit, series_about(bars)$unit, label = ending)
    expect_identical(facts$interval, series_about(bars)$interval)
    expect_identical(facts$calendar$name, "quay")
  }
  expect_error_kind(
    archive_import(new_archive(), withr::local_tempfile(
      lines = c("symbol,time,close", "A,2026-01-01,1"), fileext = ".csv"
    )),
    "import", "interval"
  )
})

test_that("the file beside a CSV is CSV on the Web", {
  bars <- about_bars()
  file <- withr::local_tempfile(fileext = ".csv")
  export_table(bars, file)
  beside <- paste0(file, "-metadata.json")
  meta <- jsonlite::fromJSON(beside, simplifyVector = FALSE)
  expect_identical(meta[["@context"]], "http://www.w3.org/ns/csvw")
  expect_identical(meta$url, basename(file))
  head <- strsplit(readLines(file, 1), ",")[[1]]
  columns <- meta$tableSchema$columns
  expect_identical(vapply(columns, function(x) x$titles[[1]], ""), head)
  types <- vapply(columns, `[[`, "", "datatype")
  expect_true(all(
    types %in% c("string", "number", "date", "dateTime", "boolean")
  ))
  # names of columns in CSV on the Web have no spaces
  odd <- data.frame(1, 2)
  names(odd) <- c("_a b", "c/d")
  export_table(odd, file)
  meta <- jsonlite::fromJSON(beside, simplifyVector = FALSE)
  expect_identical(
    vapply(meta$tableSchema$columns, `[[`, "", "name"),
    c("%5Fa%20b", "c%2Fd")
  )
  expect_identical(export_about(file)$columns$column, names(odd))
  unlink(beside)
  export_table(odd, file, about = FALSE)
  expect_false(file.exists(beside))
  expect_null(export_about(file))
  writeLines("{", beside)
  expect_error_kind(export_about(file), "import", "not JSON")
})

test_that("figures and pages have their lineage, and stay what they are", {
  bars <- about_bars()
  figure <- figure_lines(bars)
  folder <- withr::local_tempdir()
  for (ending in c("png", "svg", "html")) {
    file <- file.path(folder, paste0("f.", ending))
    figure_save(figure, file)
    lineage <- export_about(file)$lineage
    expect_identical(lineage$step, "figure_lines", label = ending)
    expect_identical(
      lineage$arguments$x$hash, vetusta:::table_hash(bars)
    )
    # the same bytes again
    before <- readBin(file, "raw", 1e8)
    figure_save(figure, file)
    if (ending != "html") {
      expect_identical(readBin(file, "raw", 1e8), before, label = ending)
    }
  }
  # a PNG is a signature and chunks, each with a checksum
  bytes <- readBin(file.path(folder, "f.png"), "raw", 1e8)
  big <- function(at) sum(as.integer(bytes[at + 0:3]) * 256^(3:0))
  at <- 9
  kinds <- character()
  while (at < length(bytes)) {
    body <- bytes[at + 4 + seq_len(4 + big(at)) - 1]
    kinds <- c(kinds, rawToChar(body[1:4]))
    crc <- paste(format(bytes[at + 8 + big(at) + 0:3]), collapse = "")
    expect_identical(
      sprintf("%08s", digest::digest(body, "crc32", serialize = FALSE)),
      sub("^0+", strrep(" ", attr(regexpr("^0*", crc), "match.length")), crc)
    )
    at <- at + 12 + big(at)
  }
  expect_identical(kinds[c(1, length(kinds) - 1:0)], c("IHDR", "iTXt", "IEND"))
})

test_that("a file that a command wrote has the command and its readings", {
  desk <- withr::local_tempdir()
  archive <- archive_open(file.path(desk, "archive.sqlite"))
  csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
  archive_import(archive, csv, symbol = "KELD", interval = "1 day")
  archive_close(archive)
  at <- c("--archive", file.path(desk, "archive.sqlite"))
  file <- file.path(desk, "k.csv")
  expect_identical(
    run_vetusta("export", "KELD@1 day", "--file", file, at)$status, 0L
  )
  lineage <- export_about(file)$lineage
  expect_identical(lineage$step, "command")
  expect_match(lineage$command, "vetusta export 'KELD@1 day'", fixed = TRUE)
  expect_identical(lineage$arguments[[1]]$step, "archive_read")
  shown <- run_vetusta("trace", file)
  expect_match(shown$stdout, "made from these by the command", fixed = TRUE)
  first <- readBin(file, "raw", 1e6)
  run_vetusta("export", "KELD@1 day", "--file", file, at)
  expect_identical(readBin(file, "raw", 1e6), first)
  # the password of a database is not written
  expect_identical(
    vetusta:::cli_written(
      "export", c("K", "--archive", "postgresql://me:pw@host/db")
    ),
    "vetusta export K --archive postgresql://me@host/db"
  )
})

test_that("metadata that cannot be read is refused, and not left out", {
  file <- withr::local_tempfile(fileext = ".csv")
  export_table(
    data.frame(series = "level", time = as.Date("2026-03-12"), value = 1), file
  )
  beside <- paste0(file, "-metadata.json")
  withr::defer(unlink(beside))
  broken <- c(
    "{broken" = "not JSON", "\"text\"" = "CSV on the Web",
    "{\"tableSchema\":5}" = "CSV on the Web"
  )
  for (text in names(broken)) {
    writeLines(text, beside)
    error <- expect_error_kind(
      vetusta:::read_series_file(file, list(time_as = "rfc3339")), "import",
      broken[[text]]
    )
    expect_identical(error$where, beside)
    expect_error_kind(
      archive_import_rows(new_archive(), file), "import", broken[[text]]
    )
  }
  # a file of another program may say little
  writeLines("{}", beside)
  expect_identical(
    vetusta:::read_series_file(file, list(time_as = "rfc3339"))$value, 1
  )
})
