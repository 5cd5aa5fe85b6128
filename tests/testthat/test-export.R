# Export: every format read back, long and wide tables, growing tables,
# databases.
mixed_rows <- function() {
  data.frame(
    symbol = c("KELD", "=cmd", "T,\"x\"", NA),
    time = as.POSIXct(
      c(1773300600, 1773300600.25, NA, 0), origin = "1970-01-01", tz = "UTC"
    ),
    day = as.Date(c("2026-03-12", NA, "1970-01-01", "2100-02-28")),
    value = c(0.1 + 0.2, -1e-300, NA, 123456789.123),
    count = 1:4,
    flag = c(TRUE, NA, FALSE, TRUE)
  )
}

test_that("each format gives back what went in, with all digits", {
  rows <- mixed_rows()
  folder <- withr::local_tempdir()
  file <- function(ending) file.path(folder, paste0("rows.", ending))
  for (ending in names(vetusta:::export_endings)) {
    export_table(rows, file(ending))
  }
  expect_identical(as.data.frame(readRDS(file("rds"))), rows)
  parquet <- as.data.frame(nanoparquet::read_parquet(file("parquet")))
  for (name in setdiff(names(rows), "count")) {
    expect_equal(parquet[[name]], rows[[name]])
  }
  lines <- lapply(readLines(file("jsonl")), jsonlite::fromJSON)
  expect_identical(lengths(lines), rep(6L, 4))
  expect_identical(
    vapply(lines, function(x) x$value %||% NA_real_, 0), rows$value
  )
  expect_identical(lines[[2]]$symbol, "=cmd")
  expect_identical(lines[[2]]$time, "2026-03-12T07:30:00.250Z")
  for (ending in c("csv", "tsv")) {
    text <- data.table::fread(
      file(ending), colClasses = "character", na.strings = "",
      data.table = FALSE
    )
    expect_identical(as.numeric(text$value), rows$value)
    expect_identical(text$time[2], "2026-03-12T07:30:00.250Z")
    # a spreadsheet formula in a value stays text
    expect_identical(text$symbol[2], "'=cmd")
  }
  skip_if_not_installed("openxlsx2")
  sheet <- openxlsx2::read_xlsx(file("xlsx"))
  expect_identical(sheet$value, rows$value)
  expect_identical(sheet$symbol[1:2], rows$symbol[1:2])
  expect_identical(as.Date(sheet$day), rows$day)
  expect_equal(as.numeric(sheet$time)[1], as.numeric(rows$time)[1])
})

test_that("zones of instants, and the dictionary of columns", {
  rows <- data.frame(
    time = as.POSIXct(
      c("2026-03-28 12:00", "2026-03-29 12:00", NA), tz = "UTC"
    ),
    value = 1:3,
    unit = "cm"
  )
  folder <- withr::local_tempdir()
  file <- file.path(folder, "z.csv")
  export_table(rows, file, zone = "Europe/Riga", dictionary = TRUE)
  expect_identical(
    sub(",.*", "", readLines(file)[-1]),
    c("2026-03-28T14:00:00+02:00", "2026-03-29T15:00:00+03:00", "")
  )
  export_table(rows, file, zone = "America/St_Johns")
  expect_match(readLines(file)[2], "^2026-03-28T09:30:00-02:30")
  words <- read.csv(file.path(folder, "z.columns.csv"))
  expect_identical(words$column, names(rows))
  expect_identical(words$type, c("instant", "number", "text"))
  expect_identical(words$unit[2], "cm")
  expect_identical(words$missing, c(1L, 0L, 0L))
  expect_error_kind(export_table(rows, file, zone = "Mars/Base"), "export")
})

test_that("a folder of Parquet by column replaces only its own kind", {
  rows <- data.frame(
    symbol = rep(c("K/1", "T"), 3),
    time = as.POSIXct("2025-12-31", tz = "UTC") + 86400 * 0:5,
    close = 1:6 + 0.5
  )
  folder <- file.path(withr::local_tempdir(), "bars")
  export_table(rows, paste0(folder, "/"))
  expect_setequal(list.files(folder), c("symbol=K%2F1", "symbol=T"))
  part <- nanoparquet::read_parquet(
    file.path(folder, "symbol=T", "rows.parquet")
  )
  expect_equal(part$close, c(2.5, 4.5, 6.5))
  export_table(rows, paste0(folder, "/"), by = "time")
  expect_setequal(list.files(folder), c("year=2025", "year=2026"))
  writeLines("mine", file.path(folder, "notes.txt"))
  expect_error_kind(
    export_table(rows, paste0(folder, "/")), "export", "not replaced"
  )
  expect_true(file.exists(file.path(folder, "notes.txt")))
  expect_error_kind(
    export_table(rows, paste0(folder, "2/"), by = "tim"), "export", "tim"
  )
  expect_error_kind(
    export_table(rows, paste0(folder, ".csv"), by = "time"), "export", "folder"
  )
})

test_that("series of any kind become one long or one wide table", {
  bars <- minute_bars("KELD")[1:3, ]
  days <- data.frame(
    series = "level",
    period = as.Date("2026-03-12") + 0:1,
    value = c(250, NA),
    frequency = "D"
  )
  long <- export_rows(list(bars, days), zone = "Europe/Riga")
  expect_identical(names(long), c("series", "time", "value", "status", "known"))
  expect_identical(long$value, c(bars$close, 250, NA))
  expect_identical(long$time[4], as.POSIXct("2026-03-11 22:00", tz = "UTC"))
  wide <- export_rows(list(bars, days), form = "wide")
  expect_identical(names(wide), c("time", "KELD", "level"))
  expect_identical(wide$KELD, c(NA, bars$close, NA))
  more <- days
  more$series <- "other"
  wide <- export_rows(list(days, more[1, ]), form = "wide")
  expect_identical(wide$period, days$period)
  expect_identical(wide$other, c(250, NA))
  expect_error_kind(
    export_rows(list(rbind(days, days)), form = "wide"), "argument",
    "two values"
  )
  expect_error_kind(
    export_rows(list(bars), form = "wide", value = "closed"), "argument",
    "closed"
  )
  expect_error_kind(
    export_rows(list(bars), form = "broad"), "argument", "broad"
  )
  expect_error_kind(export_rows(list()), "argument")
})

test_that("a CSV table grows by new times, and none is doubled", {
  folder <- withr::local_tempdir()
  file <- file.path(folder, "t.csv")
  rows <- data.frame(
    period = as.Date("2026-03-12") + 0:2,
    level = c(250.1, NA, 251),
    note = c("a", "=b", "c,d")
  )
  expect_identical(export_append(rows, file)$new, 3L)
  first <- readLines(file)
  expect_identical(
    unlist(export_append(rows, file)[c("new", "changed", "unchanged")]),
    c(new = 0L, changed = 0L, unchanged = 3L)
  )
  expect_identical(readLines(file), first)
  more <- rbind(
    rows, data.frame(period = as.Date("2026-03-16"), level = 1e-7, note = NA)
  )
  export_append(more, file)
  # existing rows stay byte for byte
  expect_identical(readLines(file)[1:4], first)
  expect_identical(readLines(file)[5], "2026-03-16,1e-07,")
  more$level[2] <- 7
  expect_identical(export_append(more, file, update = FALSE)$changed, 0)
  expect_identical(export_append(more, file)$changed, 1L)
  expect_identical(readLines(file)[3], "2026-03-13,7,'=b")
  # columns in another order, headers in other case, and a data column that the
  # table lacks
  writeLines(c("NOTE,Level,Period", "x,1,2026-03-11"), file)
  more$extra <- 1
  done <- export_append(more, file)
  expect_identical(done$left_out, "extra")
  expect_identical(
    readLines(file)[2:3], c("x,1,2026-03-11", "a,250.1,2026-03-12")
  )
  before <- readLines(file)
  expect_error_kind(export_append(more[-2], file), "export", "Level")
  expect_error_kind(
    export_append(more[-1], file), "export", "no column of times"
  )
  expect_error_kind(
    export_append(rbind(more, more), file), "export", "same time"
  )
  expect_error_kind(
    export_append(more, file, table = "T"), "export", "a single table"
  )
  expect_error_kind(
    export_append(more, file.path(folder, "t.pdf")), "export", "pdf"
  )
  expect_identical(readLines(file), before)
  writeLines(c("period,level,note", "soon,1,x"), file)
  expect_error_kind(export_append(more, file), "export", "soon")
})

workbook_with_table <- function(file) {
  book <- openxlsx2::wb_workbook()
  book$add_worksheet("Rates")
  book$add_data(x = "Rates of the fixing", dims = "A1")
  days <- data.frame(period = as.Date("2026-03-10") + 0:1, ORV = c(1.1, 1.2))
  book$add_data_table(x = days, dims = "B3", table_name = "Daily")
  book$add_data(x = "twice", dims = "D3")
  book$add_formula(x = c("C4*2", "C5*2"), dims = "D4:D5")
  book$update_table(sheet = "Rates", dims = "B3:D5", tabname = "Daily")
  book$add_numfmt(dims = "C4:C5", numfmt = "0.0000")
  book$add_formula(x = "SUM(C4:C5)", dims = "H1")
  book$add_worksheet("Other")
  book$add_data(x = data.frame(a = 1:3))
  book$save(file)
}

test_that("a table in a workbook grows, and what stands around it stays", {
  skip_if_not_installed("openxlsx2")
  folder <- withr::local_tempdir()
  file <- file.path(folder, "book.xlsx")
  workbook_with_table(file)
  rows <- data.frame(
    period = as.Date("2026-03-11") + 0:2,
    ORV = c(1.25, 1.3, NA)
  )
  done <- export_append(rows, file, table = "daily")
  expect_identical(
    unlist(done[c("new", "changed", "unchanged")]),
    c(new = 2L, changed = 1L, unchanged = 0L)
  )
  expect_identical(
    unlist(export_append(rows, file, "Daily")[c("new", "changed")]),
    c(new = 0L, changed = 0L)
  )
  book <- openxlsx2::wb_load(file)
  expect_identical(book$tables$tab_ref, "B3:D7")
  read <- openxlsx2::wb_to_df(book, sheet = "Rates", dims = "B3:D7")
  expect_identical(as.Date(read$period), as.Date("2026-03-10") + 0:3)
  expect_identical(read$ORV, c(1.1, 1.25, 1.3, NA))
  formulas <- openxlsx2::wb_to_df(
    book, sheet = "Rates", dims = "B3:D7", show_formula = TRUE
  )
  expect_identical(
    as.character(unclass(formulas$twice)), paste0("C", 4:7, "*2")
  )
  style <- function(cell) {
    unname(book$get_cell_style(sheet = "Rates", dims = cell))
  }
  expect_identical(style("C7"), style("C5"))
  expect_identical(openxlsx2::wb_to_df(book, sheet = "Other")$a, c(1, 2, 3))
  refused <- function(pattern, ...) {
    before <- tools::md5sum(file)
    expect_error_kind(export_append(rows, file, ...), "export", pattern)
    expect_identical(tools::md5sum(file), before)
  }
  refused("no table", "Weekly")
  refused("several tables")
  file.create(file.path(folder, "~$book.xlsx"))
  refused("open in another program", "Daily")
  unlink(file.path(folder, "~$book.xlsx"))
  book$add_data(sheet = "Rates", x = "below", dims = "C8")
  book$save(file)
  rows <- data.frame(period = as.Date("2026-04-01"), ORV = 2)
  refused("Below the table", "Daily")
  writeLines("no book", file)
  refused("not a workbook", "Daily")
})

test_that("a spreadsheet program opens the file without repair", {
  skip_if_not_installed("openxlsx2")
  skip_if_not(nzchar(Sys.which("soffice")), "there is no office program")
  folder <- withr::local_tempdir()
  file <- file.path(folder, "book.xlsx")
  workbook_with_table(file)
  export_append(
    data.frame(period = as.Date("2026-03-12") + 0:1, ORV = c(1.3, 1.4)), file,
    "Daily"
  )
  export_table(mixed_rows(), file.path(folder, "rows.xlsx"))
  run <- processx::run(
    "soffice",
    c(
      "--headless",
      paste0("-env:UserInstallation=file://", folder, "/profile"),
      "--convert-to", "csv", "--outdir", folder, file,
      file.path(folder, "rows.xlsx")
    ),
    error_on_status = FALSE,
    timeout = 240,
    env = c("current", LD_LIBRARY_PATH = "")
  )
  expect_identical(run$status, 0L, info = run$stderr)
  book <- readLines(file.path(folder, "book.csv"))
  # the sum is over the cells that it names; the table's own formulas are
  # extended to new rows
  expect_match(book[7], "1[.]4(000)?,2[.]8")
  expect_match(book[4], "1[.]1(000)?,2[.]2")
  rows <- read.csv(file.path(folder, "rows.csv"))
  expect_identical(rows$symbol[1:2], c("KELD", "=cmd"))
  expect_equal(rows$value[c(1, 4)], c(0.3, 123456789.123))
})

test_that("plain tables in SQLite, where only changes are written", {
  archive <- new_archive()
  put_rows(
    archive, "quay", "bars", "bars", minute_bars("KELD"), frequency = "PT1M"
  )
  days <- data.frame(
    series = "lock",
    period = as.Date("2026-03-12") + 0:2,
    value = c(1, 2, 3)
  )
  put_rows(archive, "river", "levels", "observations", days, frequency = "D")
  put_rows(
    archive, "quay", "directory", "instruments",
    data.frame(symbol = c("A", "B"), name = "x")
  )
  put_rows(
    archive, "quay", "odd", "table",
    data.frame(a = c(1, 1, 2), b = c(NA, "x", "y"))
  )
  file <- withr::local_tempfile(fileext = ".sqlite")
  done <- export_database(archive, file)
  expect_identical(
    sort(done$table),
    c("bars", "dictionary", "instruments", "observations", "table")
  )
  expect_identical(sum(done$new), 410)
  connection <- DBI::dbConnect(RSQLite::SQLite(), file)
  withr::defer(DBI::dbDisconnect(connection))
  ask <- function(...) DBI::dbGetQuery(connection, paste0(...))
  expect_identical(
    ask("SELECT close FROM bars ORDER BY time")$close, minute_bars("KELD")$close
  )
  expect_identical(
    ask("SELECT time FROM bars LIMIT 1")$time, "2026-03-12T07:30:00Z"
  )
  DBI::dbExecute(connection, "CREATE TABLE mine (a)")
  days$value[2] <- 20
  put_rows(
    archive, "river", "levels", "observations",
    rbind(
      days,
      data.frame(series = "lock", period = as.Date("2026-03-15"), value = 4)
    ),
    frequency = "D"
  )
  again <- export_database(archive, file)
  row <- again[again$table == "observations", ]
  expect_identical(c(row$new, row$changed, row$unchanged), c(1, 1, 2))
  expect_identical(sum(again$new) + sum(again$changed), 2)
  expect_identical(
    ask("SELECT value FROM observations ORDER BY period")$value, c(1, 20, 3, 4)
  )
  expect_true("mine" %in% DBI::dbListTables(connection))
  expect_identical(
    export_database(archive, file, "quay/directory")$table,
    c("instruments", "dictionary")
  )
  expect_error_kind(export_database(archive, archive$path), "export", "itself")
  expect_error_kind(export_database(archive, "mysql://x/y"), "export", "kind")
  expect_error_kind(
    export_database(archive, "/none/x.sqlite"), "export", "folder"
  )
  DBI::dbExecute(connection, "DROP TABLE bars")
  DBI::dbExecute(connection, "CREATE TABLE bars (mine INTEGER)")
  expect_error_kind(export_database(archive, file), "export", "not ours")
  expect_identical(ask("SELECT count(*) AS n FROM observations")$n, 4L)
})

test_that("the same tables stand in PostgreSQL, with its own types", {
  uri <- start_postgres()
  archive <- new_archive()
  put_rows(
    archive, "quay", "bars", "bars", minute_bars("KELD"), frequency = "PT1M"
  )
  put_rows(
    archive, "river", "levels", "observations",
    data.frame(
      series = "lock",
      period = as.Date("2026-03-12") + 0:2,
      value = c(0.1 + 0.2, NA, 3)
    ),
    frequency = "D"
  )
  expect_identical(sum(export_database(archive, uri)$new), 401)
  again <- export_database(archive, uri)
  expect_identical(
    c(sum(again$new), sum(again$changed), sum(again$unchanged)), c(0, 0, 401)
  )
  connection <- do.call(
    DBI::dbConnect,
    c(
      list(RPostgres::Postgres(), timezone = "UTC"),
      vetusta:::server_uri(uri, "export")
    )
  )
  withr::defer(DBI::dbDisconnect(connection))
  bars <- DBI::dbGetQuery(
    connection, "SELECT time, close FROM bars ORDER BY time"
  )
  expect_identical(bars$close, minute_bars("KELD")$close)
  expect_equal(as.numeric(bars$time), as.numeric(minute_bars("KELD")$time))
  level <- DBI::dbGetQuery(
    connection, "SELECT period, value FROM observations ORDER BY period"
  )
  expect_identical(level$period, as.Date("2026-03-12") + 0:2)
  expect_identical(level$value, c(0.1 + 0.2, NA, 3))
  # no password is shown
  error <- expect_error_kind(
    export_database(archive, sub("/postgres$", "/none", uri)), "export"
  )
  expect_no_match(conditionMessage(error), "pass-word-1")
})

test_that("deleted rows leave a table, unrelated rows stay", {
  archive <- new_archive()
  market <- function(symbols) {
    put_rows(
      archive, "quay", "market", "snapshot",
      data.frame(symbol = symbols, last = 1)
    )
  }
  market(c("A", "B"))
  for (symbol in c("KELD", "TAMX")) {
    put_rows(
      archive, "quay", "bars", "bars", minute_bars(symbol)[1:3, ],
      frequency = "PT1M"
    )
  }
  file <- withr::local_tempfile(fileext = ".sqlite")
  export_database(archive, file)
  market("A")
  again <- export_database(archive, file, c("quay/market", "KELD@1 minute"))
  expect_identical(again$deleted[again$table == "snapshot"], 1)
  expect_identical(again$deleted[again$table == "bars"], 0)
  connection <- DBI::dbConnect(RSQLite::SQLite(), file)
  withr::defer(DBI::dbDisconnect(connection))
  expect_identical(
    DBI::dbGetQuery(connection, "SELECT symbol FROM snapshot")$symbol, "A"
  )
  expect_identical(
    DBI::dbGetQuery(connection, "SELECT count(*) AS n FROM bars")$n, 6L
  )
})

test_that("laying many rows beside many is no loop within a loop", {
  archive <- new_archive()
  days <- data.frame(
    series = "lock",
    period = as.Date("1900-01-01") + 0:39999,
    value = 1
  )
  put_rows(archive, "river", "levels", "observations", days, frequency = "D")
  file <- withr::local_tempfile(fileext = ".sqlite")
  export_database(archive, file)
  # without an index this took minutes
  expect_identical(export_database(archive, file)$unchanged[1], 40000)
})

test_that("the command exports an ID and refuses useless words", {
  folder <- withr::local_tempdir()
  archive <- archive_open(file.path(folder, "a.sqlite"))
  put_rows(
    archive, "quay", "bars", "bars", minute_bars("KELD"), frequency = "PT1M"
  )
  put_rows(
    archive, "river", "levels", "observations",
    data.frame(
      series = "lock",
      period = as.Date("2026-03-12") + 0:2,
      value = c(1, 2, 3)
    ),
    frequency = "D"
  )
  put_rows(
    archive, "quay", "directory", "instruments",
    data.frame(symbol = c("A", "B"), type = c("share", "fund"))
  )
  archive_close(archive)
  export <- function(...) {
    run_vetusta("export", ..., "--archive", "a.sqlite", folder = folder)
  }
  wide <- export("KELD", "lock", "--form", "wide", "--file", "both.csv")
  expect_identical(wide$status, 0L)
  expect_identical(
    readLines(file.path(folder, "both.csv"))[1], "time,KELD,lock"
  )
  expect_identical(
    export("quay/directory", "type=share")$stdout, "symbol,type\nA,share\n"
  )
  expect_match(
    export(
      "KELD", "--from", "2026-03-12", "close>=41", "--resample", "1 hour"
    )$stdout,
    "symbol,time,open"
  )
  expect_identical(export("--database", "t.sqlite")$status, 0L)
  export("lock", "--append", "grow.csv")
  expect_length(readLines(file.path(folder, "grow.csv")), 4)
  wrong <- list(
    c("KELD", "--table", "x"), c("KELD", "--part-by", "time"),
    c("KELD", "--file", "x.csv", "--database", "y.sqlite"),
    c("quay/directory", "--from", "2026-03-12"),
    c("quay/directory", "--form", "wide"),
    c("--database", "t.sqlite", "--form", "wide"), c("KELD", "--form", "sdmx"),
    c("KELD", "closed>1"), c("KELD", "--file", "x.xls"), character()
  )
  for (words in wrong) {
    run <- export(words)
    expect_true(run$status %in% 1:2, info = paste(words, collapse = " "))
    expect_match(run$stderr, "to do: ", info = paste(words, collapse = " "))
    expect_no_match(run$stderr, "internal error")
  }
  expect_setequal(list.files(folder, "x[.]|y[.]"), character())
})

test_that("a large folder of Parquet equals one read at once", {
  archive <- new_archive()
  for (symbol in sprintf("S%d", 1:5)) {
    put_rows(
      archive, "quay", "bars", "bars", minute_bars(symbol), frequency = "PT1M"
    )
  }
  folder <- file.path(withr::local_tempdir(), "bars")
  whole <- paste0(folder, "-whole")
  bars <- archive_bars(archive, interval = "1 minute")
  export_table(bars, paste0(whole, "/"))
  seen <- 0
  count <- export_series(
    archive,
    folder,
    "quay/bars/*",
    at_once = 500,
    progress = FALSE,
    change = function(table) {
      seen <<- max(seen, nrow(table))
      table
    }
  )
  expect_identical(count, 1950L)
  expect_lte(seen, 780)
  read <- function(folder) {
    files <- list.files(folder, recursive = TRUE)
    stats::setNames(
      lapply(file.path(folder, files), nanoparquet::read_parquet), files
    )
  }
  expect_identical(read(folder), read(whole))
  # parts of one value are consecutive, also with a partition by another column
  export_series(
    archive, folder, "quay/bars/*", at_once = 500, by = "time", progress = FALSE
  )
  expect_identical(sum(vapply(read(folder), nrow, 1L)), 1950L)
  expect_identical(
    dirname(list.files(folder, recursive = TRUE))[1], "year=2026"
  )
  # a failed export leaves the old file
  before <- list.files(folder, recursive = TRUE)
  expect_error_kind(
    export_series(
      archive,
      folder,
      "quay/bars/*",
      at_once = 500,
      progress = FALSE,
      change = function(table) {
        if (table$symbol[1] == "S3") stop("no") else table
      }
    ),
    "argument", "no"
  )
  expect_identical(list.files(folder, recursive = TRUE), before)
  expect_identical(
    list.files(dirname(folder), all.files = TRUE, no.. = TRUE),
    c("bars", "bars-whole")
  )
  put_rows(
    archive, "river", "levels", "observations",
    data.frame(series = "lock", period = as.Date("2026-03-12"), value = 1),
    frequency = "D"
  )
  expect_error_kind(
    export_series(archive, folder), "argument", "several datasets"
  )
})

morning <- as.POSIXct("2026-03-12 09:30:00", tz = "UTC")

test_that("types and texts come back as they went, through every format", {
  skip_if_not_installed("openxlsx2")
  stored <- function(file) {
    archive <- new_archive()
    archive_import_rows(archive, file, "table", "t", source = "s")
    as.data.frame(archive_rows(archive, "s", "t"))
  }
  rows <- data.frame(
    key = c("a", "b", "c", "d"),
    country = c("NA", "LV", "null", NA),
    text = c(" lead", "trail ", "a,\"b\"", "line\nbreak"),
    mark = c("#N/A", "-", "N/A", "x"),
    open = c(TRUE, FALSE, NA, TRUE),
    day = as.Date(c("1850-01-01", "1899-12-31", "1900-02-28", "2026-03-12")),
    since = as.Date(c("1950-01-01", NA, "1900-03-01", "2026-03-12")),
    at = morning + c(0, 0.25, 0.356, 1.5),
    fine = morning + c(0, 1e-6, 0.999999, 0.123457),
    old = as.POSIXct("1850-03-12 09:30:00", tz = "UTC") + c(0, NA, 2, 3),
    share = c(0.1, 1 / 3, NA, 1e-300)
  )
  micro <- function(rows) {
    times <- vapply(rows, inherits, TRUE, "POSIXct")
    rows[times] <- lapply(rows[times], function(x) {
      round(as.numeric(x) * 1e6)
    })
    rows
  }
  for (ending in c("csv", "tsv", "parquet", "xlsx")) {
    file <- withr::local_tempfile(fileext = paste0(".", ending))
    export_table(rows, file)
    back <- stored(file)
    expect_identical(
      micro(back[names(rows)]), micro(rows), ignore_attr = TRUE,
      label = ending
    )
    # and once more
    export_table(back, file)
    expect_identical(
      micro(stored(file)[names(rows)]), micro(rows), ignore_attr = TRUE,
      label = paste(ending, "again")
    )
  }
  # without metadata a column is text unless each value reads back
  file <- withr::local_tempfile(fileext = ".csv")
  export_table(rows, file, about = FALSE)
  expect_type(stored(file)$open, "character")
})

test_that("words for missing values are missing among numbers and times only", {
  file <- withr::local_tempfile(fileext = ".parquet")
  nanoparquet::write_parquet(
    data.frame(
      series = "level", period = c("2026-01", "2026-02", "2026-03"),
      value = c("1.5", "NA", "2"), region = c("NA", "LV", "NA"),
      since = c("2026-01-02", "N/A", "2026-03-02")
    ),
    file
  )
  archive <- new_archive()
  import <- archive_import_rows(archive, file, dataset = "t")
  expect_identical(nrow(import$rejected), 0L)
  rows <- archive_observations(archive, "files", "t")
  expect_identical(rows$value, c(1.5, NA, 2))
  expect_identical(rows$region, c("NA", "LV", "NA"))
  expect_identical(rows$since, c("2026-01-02", NA, "2026-03-02"))
})

test_that("a workbook's errors are missing, its instants have milliseconds", {
  skip_if_not_installed("openxlsx2")
  file <- withr::local_tempfile(fileext = ".xlsx")
  at <- morning + c(0.356, 0, 59.999)
  book <- openxlsx2::wb_workbook()
  book$add_worksheet("t")
  book$add_data(
    x = data.frame(key = c("a", "b", "c"), at = at, ratio = c(1.5, 2, NA))
  )
  book$add_formula(x = "1/0", dims = "C4")
  cells <- book$worksheets[[1]]$sheet_data$cc
  cells$v[cells$r == "C4"] <- "#DIV/0!"
  cells$c_t[cells$r == "C4"] <- "e"
  book$worksheets[[1]]$sheet_data$cc <- cells
  book$save(file)
  archive <- new_archive()
  archive_import_rows(archive, file, "table", "t", source = "s")
  rows <- archive_rows(archive, "s", "t")
  expect_identical(rows$ratio, c(1.5, 2, NA))
  expect_equal(as.numeric(rows$at), as.numeric(at), tolerance = 1e-13)
  # days before March 1900 cannot be added to a sheet
  table <- withr::local_tempfile(fileext = ".xlsx")
  days <- data.frame(period = as.Date("2026-03-12"), level = 1)
  export_table(days, table)
  days$period <- as.Date("1899-12-31")
  expect_error_kind(
    export_append(days, table, table = "rows"), "export",
    "before March 1900"
  )
})

test_that("adding to a file keeps its quotation marks around words", {
  file <- withr::local_tempfile(fileext = ".csv")
  day <- as.Date("2026-01-01")
  rows <- data.frame(
    period = day + 0:2, country = c("NA", "LV", NA), text = c(" a", "b", "c ")
  )
  export_table(rows, file, about = FALSE)
  rows <- data.frame(
    period = day + 1:3, country = c("NA", "EE", "NA"), text = c(" b", "b", "d ")
  )
  export_append(rows, file)
  expect_identical(
    readLines(file),
    c(
      "period,country,text", "2026-01-01,\"NA\",\" a\"",
      "2026-01-02,\"NA\",\" b\"", "2026-01-03,EE,b", "2026-01-04,\"NA\",\"d \""
    )
  )
  # a word that the file has without them stays so
  writeLines(c("period,level", "2026-01-01,NA", "2026-01-02,2"), file)
  export_append(data.frame(period = day + 1, level = 3), file)
  expect_identical(
    readLines(file), c("period,level", "2026-01-01,NA", "2026-01-02,3")
  )
})
