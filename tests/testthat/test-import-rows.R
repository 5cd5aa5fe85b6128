# Import: files of every kind, by description and by guess.
levels_file <- function(ending, rows, env = parent.frame()) {
  file <- file.path(
    withr::local_tempdir(.local_envir = env), paste0("levels.", ending)
  )
  export_table(rows, file)
  file
}

test_that("each format reads back, and a second import changes nothing", {
  rows <- data.frame(
    series = c("a", "a", "b"),
    period = as.Date("2026-03-12") + c(0, 1, 0),
    value = c(0.1 + 0.2, NA, -5e-9),
    unit = "cm"
  )
  for (ending in c(
    "csv", "tsv", "parquet", "jsonl",
    if (requireNamespace("openxlsx2", quietly = TRUE)) "xlsx"
  )) {
    archive <- new_archive()
    file <- levels_file(ending, rows)
    done <- archive_import_rows(archive, file)
    expect_identical(
      c(done$read, done$new, nrow(done$rejected)), c(3, 3, 0), info = ending
    )
    held <- archive_rows(archive, "files", "levels")
    expect_identical(held$value, rows$value, info = ending)
    expect_identical(as.Date(held$period), rows$period, info = ending)
    again <- archive_import_rows(archive, file)
    expect_identical(
      c(again$new, again$changed, again$unchanged), c(0, 0, 3), info = ending
    )
  }
})

test_that("bars come from Parquet, workbooks and JSON lines as from CSV", {
  bars <- as.data.frame(
    minute_bars("KELD")[
      c("symbol", "time", "open", "high", "low", "close", "volume")
    ]
  )
  read <- lapply(
    c(
      "csv", "parquet", "jsonl",
      if (requireNamespace("openxlsx2", quietly = TRUE)) "xlsx"
    ),
    function(ending) {
      archive <- new_archive()
      archive_import(archive, levels_file(ending, bars), interval = "1 minute")
      archive_bars(archive, "KELD", "1 minute")
    }
  )
  expect_identical(nrow(read[[1]]), 390L)
  for (one in read[-1]) expect_equal(one, read[[1]])
})

test_that("a wide table is a series a column; bad rows by line", {
  file <- withr::local_tempfile(fileext = ".csv")
  writeLines(
    c(
      "Day,Kelder,Tamm", "2026-03-12,250.1,99", "2026-03-13,,98.5", "soon,1,2",
      "2026-03-14,high,3"
    ),
    file
  )
  archive <- new_archive()
  done <- archive_import_rows(
    archive, file, columns = c(period = "Day"), wide = TRUE, dataset = "levels"
  )
  expect_identical(sort(unique(done$rejected$line)), c(4L, 5L))
  held <- archive_rows(archive, "files", "levels")
  expect_identical(held$value[held$series == "Kelder"], 250.1)
  expect_identical(held$value[held$series == "Tamm"], c(99, 98.5, 3))
  expect_match(archive_rejected(archive)$place, "line [45]")
})

test_that("a guess says what a file is, and stores nothing", {
  guess <- function(lines) {
    file <- withr::local_tempfile(fileext = ".csv")
    writeLines(lines, file)
    archive_import_guess(file)
  }
  bars <- guess(
    c("When;Code;Last", paste0("2026-03-12T09:", 30:50, ":00Z;K;", 1:21))
  )
  expect_identical(bars$shape, "bars")
  expect_identical(bars$interval, "1 minute")
  expect_identical(
    bars$columns, c(time = "When", close = "Last", symbol = "Code")
  )
  wide <- guess(c("Month,A,B", "2026-01,1,2", "2026-02,3,4"))
  expect_identical(list(wide$shape, wide$wide), list("observations", TRUE))
  expect_identical(wide$columns, c(period = "Month"))
  expect_identical(
    guess(c("day,level", "2026-01-01,5"))$columns,
    c(period = "day", value = "level")
  )
  expect_identical(guess(c("ticker,name", "A,x"))$shape, "instruments")
  expect_identical(
    guess(c("symbol,item,period_end,value", "K,sales,2025-12-31,5"))$shape,
    "facts"
  )
  expect_identical(guess(c("a,b", "x,y"))$shape, "table")
})

test_that("what cannot come in is refused, and nothing is stored", {
  archive <- new_archive()
  folder <- withr::local_tempdir()
  file <- file.path(folder, "x.csv")
  writeLines(c("a,b", "1,2"), file)
  expect_error_kind(archive_import_rows(archive, file), "import", "period")
  expect_error_kind(
    archive_import_rows(archive, file, columns = c(period = "c")), "import",
    "\"c\""
  )
  expect_error_kind(
    archive_import_rows(archive, file, shape = "bars"), "import", "bars"
  )
  expect_error_kind(
    archive_import_rows(archive, file.path(folder, "none")), "import",
    "no such file"
  )
  for (ending in c(
    "parquet", "jsonl",
    if (requireNamespace("openxlsx2", quietly = TRUE)) "xlsx"
  )) {
    bad <- file.path(folder, paste0("bad.", ending))
    writeLines("nothing of the kind {", bad)
    expect_error_kind(
      archive_import_rows(archive, bad, shape = "table"), "import"
    )
    expect_error_kind(archive_import_guess(bad), "import")
  }
  expect_identical(nrow(archive_datasets(archive)), 0L)
})

test_that("completion of commands, options, sources, symbols and queries", {
  folder <- withr::local_tempdir()
  desk <- desk_make(folder, cards = c("quay", "river"))
  desk_track(
    desk, "shares", "quay", symbols = "KELD", interval = "1 day",
    span = "1 year"
  )
  archive <- archive_open(desk$archive)
  put_rows(
    archive, "quay", "bars", "bars", minute_bars("KELD"), frequency = "PT1M"
  )
  archive_close(archive)
  withr::local_dir(folder)
  offered <- function(...) vetusta:::complete_words(c(...))
  expect_true(all(c("collect", "refresh") %in% offered("")))
  expect_identical(offered("collect", "ri"), "river")
  expect_identical(offered("collect", "quay", "ba"), "bars")
  expect_identical(offered("collect", "quay", "bars", "K"), "KELD")
  expect_identical(offered("collect", "river", "levels", ""), "station=")
  expect_setequal(
    offered("gaps", ""),
    c("KELD@1 minute", "quay/bars/KELD@1 minute", "quay/bars")
  )
  expect_identical(offered("refresh", ""), "shares")
  expect_identical(offered("track", "--drop", ""), "shares")
  expect_true(all(c("--form", "--file") %in% offered("export", "--f")))
  expect_identical(offered("nothing", "x"), character())
  script <- run_vetusta("completion", "bash", folder = folder)$stdout
  line <- paste0(
    script, "\nvetusta() { Rscript --no-init-file -e 'vetusta::cli_main()' ",
    "\"$@\"; }\n",
    "COMP_WORDS=(vetusta gaps KEL); COMP_CWORD=2; _vetusta; printf ",
    "'%s\\n' \"${COMPREPLY[@]}\""
  )
  run <- processx::run(
    "bash",
    c("-c", line),
    wd = folder,
    env = c("current", R_LIBS = r_libs())
  )
  expect_identical(run$stdout, "KELD@1\\ minute\n")
})

test_that("withdrawn and later filed facts in statements", {
  archive <- archive_open(tempfile(fileext = ".sqlite"))
  on.exit(archive_close(archive))
  file <- function(...) {
    path <- tempfile(fileext = ".csv")
    writeLines(
      c("symbol,item,period_start,period_end,value,unit,filed,status", ...),
      path
    )
    path
  }
  revenue <- "ORV1,revenue,2024-01-01,2024-12-31,"
  come <- function(...) {
    archive_import_rows(archive, file(...), "facts", dataset = "facts")
  }
  statement <- function(as_of = NULL, ...) {
    facts <- cli_facts(
      archive, "files/facts", list(words = "ORV1", as_of = as_of)
    )
    facts_statement(facts, "ORV1", form = "long", ...)
  }
  come(
    paste0(revenue, "100,ORV,2025-02-01,observed"),
    paste0(revenue, "110,ORV,2025-03-01,observed"),
    "ORV1,assets,,2024-12-31,500,ORV,2025-02-01,observed"
  )
  expect_equal(statement()$value, c(110, 500))
  gone <- paste0(revenue, ",ORV,2025-04-01,deleted")
  expect_equal(come(gone)$rejected$reason, character())
  expect_equal(come(gone)$unchanged, 1)
  expect_equal(statement()$item, "assets")
  expect_equal(statement(filed = "first")$item, "assets")
  expect_equal(statement(as_of = "2025-03-15")$value, c(110, 500))
  come(paste0(revenue, "120,ORV,2025-05-01,observed"))
  expect_equal(statement(filed = "first")$value, c(120, 500))
  expect_match(
    come(paste0(revenue, ",ORV,2025-06-01,delted"))$rejected$reason, "no value"
  )
  bare <- tempfile(fileext = ".csv")
  writeLines(
    c(
      "symbol,item,period_start,period_end,value", "ORV2,assets,,2024-12-31,",
      "ORV2,assets,,2025-12-31,4"
    ),
    bare
  )
  expect_match(
    archive_import_rows(
      archive, bare, "facts", dataset = "bare"
    )$rejected$reason,
    "no value"
  )
  # a status in the source's own words separates facts
  come(paste0(revenue, "7,ORV,2025-05-01,audited"))
  expect_setequal(
    archive_read(archive, "files/facts/*")[[1]]$value, c(7, 120, 500)
  )
})

test_that("imported rows have no window that was asked for", {
  archive <- new_archive()
  file <- tempfile(fileext = ".csv")
  export_csv(
    data.frame(series = "a", period = as.Date("2026-01-01"), value = 1), file
  )
  archive_import_rows(archive, file, shape = "observations", dataset = "levels")
  out <- run_vetusta("list", "--archive", archive$path)
  expect_identical(out$status, 0L)
  expect_match(out$stdout, "levels")
  expect_no_match(out$stdout, "windows|complete")
})

test_that("in a table of any rows the column value is one like others", {
  file <- withr::local_tempfile(fileext = ".csv")
  writeLines(c("key,value", "a,00123", "b,some text"), file)
  archive <- new_archive()
  import <- archive_import_rows(archive, file, "table", "t", source = "s")
  expect_identical(nrow(import$rejected), 0L)
  expect_identical(
    archive_rows(archive, "s", "t")$value, c("00123", "some text")
  )
})
