# Two writers, clocks, shells, and the facts handed from one step to the next.

in_processes <- function(code, count, ...) {
  all <- lapply(seq_len(count), function(i) {
    processx::process$new(
      "Rscript",
      c("--no-init-file", "-e", sprintf(code, ..., i)),
      stdout = NULL,
      stderr = "|",
      env = c("current", R_LIBS = r_libs())
    )
  })
  for (process in all) {
    process$wait(120000)
    expect_identical(
      process$get_exit_status(),
      0L,
      info = process$read_all_error()
    )
  }
}

test_that("what is read, changed and written again loses nobody's lines", {
  folder <- withr::local_tempdir()
  desk_make(folder)
  in_processes(
    "library(vetusta); d <- desk_open('%s'); i <- %d
    desk_track(d, paste0('w', i), 'quay', 'bars', symbols = 'KELD',
    interval = '1 day',
      span = '1 year'); desk_secret(d, paste0('S_', i), 'value-of-mine')",
    5, folder
  )
  expect_true(all(paste0("w", 1:5) %in% names(desk_open(folder)$track)))
  expect_length(grep("^S_[1-5]=", readLines(file.path(folder, "desk.env"))), 5)
  file <- file.path(folder, "grown.csv")
  in_processes(
    "library(vetusta); file <- '%s'; i <- %d
    for (k in 0:4) export_append(data.frame(period = as.Date('2026-01-01') +
    0:(10 * i + k),
      v = 0:(10 * i + k)), file)",
    4, file
  )
  rows <- utils::read.csv(file)
  expect_identical(anyDuplicated(rows$period), 0L)
  expect_identical(nrow(rows), 45L)
})

test_that("what a killed export has left is cleared by the next", {
  folder <- withr::local_tempdir()
  file <- file.path(folder, "x.csv")
  beside <- vetusta:::beside_file(file)
  left <- sub(
    paste0("-", Sys.getpid(), "-"), "-999999999-", beside, fixed = TRUE
  )
  file.create(left, beside, file.path(folder, ".x.csv.notes"))
  export_csv(data.frame(a = 1), file)
  expect_setequal(
    list.files(folder, all.files = TRUE, no.. = TRUE),
    c("x.csv", ".x.csv.notes", basename(beside))
  )
})

test_that("restore leaves no log behind", {
  folder <- withr::local_tempdir()
  path <- file.path(folder, "a.sqlite")
  archive <- archive_open(path)
  put_rows(archive, "test", "bars", "bars", minute_bars(), frequency = "PT1M")
  archive_backup(archive, file.path(folder, "b.sqlite"))
  archive_close(archive)
  archive_restore(file.path(folder, "b.sqlite"), path)
  expect_length(list.files(folder, "-wal$|-shm$", all.files = TRUE), 0)
})

test_that("a page that is read again is known from when it came", {
  answer <- function(n, request) {
    json_answer(list(items = list(list(t = 1773300660, c = "1,5"))))
  }
  lines <- function(more) {
    c(
      "datasets:", "  bars:", "    shape: bars",
      "    request: /b/{symbol}{?from,to}", "    rows: /items",
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
      paste0(
        "    columns: {time: {at: /t, as: epoch-s}, close: {at: /c", more, "}}"
      )
    )
  }
  url <- start_scripted(answer)
  archive <- new_archive()
  first <- bars_card(
    url, lines(", scale: 1, decimal: \".\", missing: [\"1,5\"], default: 9")
  )
  collect_bars(
    first, "AA", "1 minute", "2026-03-12", "2026-03-12", archive, raw = TRUE
  )
  before <- Sys.time()
  Sys.sleep(1.1)
  expect_identical(archive_bars(archive, "AA", "1 minute")$close, 9)
  collect_reparse(bars_card(url, lines(", decimal: \",\"")), "bars", archive)
  expect_identical(archive_bars(archive, "AA", "1 minute")$close, 1.5)
  expect_identical(
    archive_bars(archive, "AA", "1 minute", as_of = before)$close, 1.5
  )
})

test_that("a clock that is set back hides no newer value and no newer record", {
  archive <- new_archive()
  bar <- function(close) {
    data.frame(
      symbol = "AA",
      time = as.POSIXct("2026-03-12 07:31", tz = "UTC"),
      open = NA_real_,
      high = NA_real_,
      low = NA_real_,
      close = close,
      volume = NA_real_
    )
  }
  now <- as.numeric(Sys.time())
  put_rows(archive, "t", "b", "bars", bar(1), frequency = "PT1M", now = now)
  put_rows(
    archive, "t", "b", "bars", bar(2), frequency = "PT1M", now = now - 3600
  )
  expect_identical(archive_bars(archive, "AA", "1 minute")$close, 2)
  put_rows(
    archive, "t", "p", "places", data.frame(place = "x", name = "one"),
    now = now
  )
  put_rows(
    archive, "t", "p", "places", data.frame(place = "x", name = "two"),
    now = now - 3600
  )
  expect_identical(archive_rows(archive, "t", "p")$name, "two")
})

test_that("a window that moves with the clock is no change of what is kept", {
  desk <- desk_open(desk_make(withr::local_tempdir())$folder)
  entry <- list(source = "quay", span = "10 days", every = "1 week")
  source <- source_card("quay")
  words <- function(now) {
    vetusta:::entry_words(
      query_bars(source, "KELD", "1 day", span = "10 days", now = now), entry
    )
  }
  expect_identical(
    words(as.POSIXct("2026-03-12", tz = "UTC")),
    words(as.POSIXct("2026-03-13", tz = "UTC"))
  )
  expect_false(
    identical(
      words(Sys.time()),
      vetusta:::entry_words(
        query_bars(source, "KELD", "1 day", span = "10 days"),
        list(span = "11 days")
      )
    )
  )
})

test_that("a limit that never resets, and many requests, cost no time", {
  for (reset in c("inf", "Infinity", "1e999", "nan")) {
    expect_identical(
      vetusta:::rate_limit_wait(
        list(`x-ratelimit-remaining` = "0", `x-ratelimit-reset` = reset)
      ),
      NA_real_
    )
  }
  book <- vetusta:::limit_memory()
  for (i in 1:300) {
    book$take(list(list(count = 1e6, weighs = FALSE, seconds = 1)), 0)
  }
  book$forget(as.numeric(Sys.time()) + 10)
  expect_identical(nrow(book$requests(-Inf)), 0L)
  taken <- book$take(list(list(count = 1e6, weighs = FALSE, seconds = 1)), 0)
  book$made(taken$id, 5)
  expect_identical(book$requests(-Inf)$time, 5)
})

test_that("a saved source, plan or secret holds no value", {
  withr::local_envvar(QUAY_KEY = "very-secret-4711")
  source <- source_card("quay")
  plan <- plan_requests(
    query_bars(source, "KELD", "1 day", from = "2026-03-01", to = "2026-03-05")
  )
  secret <- source_secret(source, "QUAY_KEY")
  for (what in list(source, plan, secret)) {
    bytes <- serialize(what, NULL, ascii = TRUE)
    expect_length(grepRaw("very-secret-4711", bytes, fixed = TRUE), 0)
  }
  expect_identical(
    vetusta:::secret_value(unclass(secret), secret$name), "very-secret-4711"
  )
})

test_that("a key is known in any spelling of a link", {
  coded <- "http://h/x?k=%76ery%2Dsecret%2d4711"
  expect_true(vetusta:::has_secret(coded, "very-secret-4711"))
  expect_identical(
    vetusta:::redact(coded, "very-secret-4711"), "http://h/x?k=<secret>"
  )
  expect_identical(
    vetusta:::without_parameter(
      "http://h/x?a=1&%6bey=z&b=2", list(by = "query", name = "key")
    ),
    "http://h/x?a=1&b=2"
  )
})

test_that("pasted keys are never written", {
  key <- "sk1aB9xQ7zLm3Rt5Vw8YpK"
  answer <- function(n, request) {
    json_answer(
      list(
        items = list(
          list(time = "2026-03-12T07:31:00Z", close = 1.5, symbol = "KELD")
        )
      )
    )
  }
  url <- start_scripted(answer)
  drafts <- list(
    list(paste0(url, "/market?key=", key, "&part=all")),
    list(paste0(url, "/market"), c("X-Token" = key)),
    list(
      paste0(
        "curl -s '", url, "/market' -H 'Authorization: Bearer ", key,
        "' \\\n  -H ", "'User-Agent: x'"
      )
    )
  )
  for (arguments in drafts) {
    expect_message(
      lines <- do.call(collect_draft, arguments), "looks like a key",
      class = "vetusta_note"
    )
    expect_no_match(paste(lines, collapse = "\n"), key, fixed = TRUE)
    expect_match(paste(lines, collapse = "\n"), "secret: NEW_")
  }
  withr::local_envvar(MY_API_KEY = "plainwords")
  expect_message(
    lines <- collect_draft(paste0(url, "/market?who=plainwords")), "MY_API_KEY"
  )
  expect_error_kind(
    collect_draft(
      paste0(url, "/market"),
      body = paste0("{\"api_key\": \"", key, "\"}")
    ),
    "draft", "body"
  )
  expect_error_kind(
    collect_draft(paste0(url, "/", key, "/market")), "draft", "path"
  )
  card <- withr::local_tempfile(fileext = ".yml")
  writeLines(
    c(
      "source: test", "url: http://127.0.0.1:1", "datasets:", "  rows:",
      "    shape: table", paste0("    request: /m?key=", key), "    rows: /d",
      "    columns: {n: /n}"
    ),
    card
  )
  checked <- run_vetusta("sources", "check", card)
  expect_identical(checked$status, 1L)
  expect_match(checked$stderr, "contains a value that looks like a key.*line 6")
  expect_no_match(paste(checked$stderr, checked$stdout), key, fixed = TRUE)
})

test_that("appending keeps the file's form; empty is a change", {
  file <- withr::local_tempfile(fileext = ".csv")
  writeLines(
    c("period;v;who;ok", "2026-01-01;1,5;a;TRUE", "2026-01-02;2,5;b;FALSE"),
    file
  )
  rows <- data.frame(
    period = as.Date("2026-01-01") + 0:2,
    v = c(1.5, 3.25, 4),
    who = c("a", NA, "c"),
    ok = c(FALSE, FALSE, TRUE)
  )
  done <- export_append(rows, file)
  expect_equal(c(done$new, done$changed), c(1, 2))
  expect_identical(
    readLines(file),
    c(
      "period;v;who;ok", "2026-01-01;1,5;a;FALSE", "2026-01-02;3,25;;FALSE",
      "2026-01-03;4;c;TRUE"
    )
  )
})

test_that("a database loses deleted rows, in a window and as a series", {
  archive <- new_archive()
  rows <- function(status) {
    data.frame(
      series = c("a", "a", "b"),
      period = as.Date("2026-01-01") + c(0, 1, 0),
      value = c(1, 2, 3),
      status = status
    )
  }
  put_rows(archive, "t", "o", "observations", rows("observed"))
  file <- withr::local_tempfile(fileext = ".sqlite")
  export_database(archive, file)
  put_rows(
    archive, "t", "o", "observations", rows(c("observed", "deleted", "deleted"))
  )
  done <- export_database(archive, file, from = "2026-01-02")
  expect_identical(sum(done$deleted), 1)
  done <- export_database(archive, file)
  expect_identical(sum(done$deleted), 1)
  connection <- DBI::dbConnect(RSQLite::SQLite(), file)
  withr::defer(DBI::dbDisconnect(connection))
  expect_identical(
    DBI::dbGetQuery(connection, "SELECT value FROM observations")$value, 1
  )
})

test_that("a database loses bars of a symbol that are all deleted", {
  archive <- new_archive()
  bars <- function(symbol, status) {
    data.frame(
      symbol = symbol,
      status = status,
      time = as.POSIXct("2026-03-12 07:31", tz = "UTC"),
      open = NA_real_,
      high = NA_real_,
      low = NA_real_,
      close = 1,
      volume = NA_real_
    )
  }
  for (symbol in c("A", "B")) {
    put_rows(
      archive, "t", "b", "bars", bars(symbol, "observed"), frequency = "PT1M"
    )
  }
  file <- withr::local_tempfile(fileext = ".sqlite")
  export_database(archive, file)
  left <- function() {
    connection <- DBI::dbConnect(RSQLite::SQLite(), file)
    on.exit(DBI::dbDisconnect(connection))
    DBI::dbGetQuery(
      connection, "SELECT symbol FROM bars ORDER BY symbol"
    )$symbol
  }
  put_rows(archive, "t", "b", "bars", bars("A", "deleted"), frequency = "PT1M")
  expect_identical(sum(export_database(archive, file)$deleted), 1)
  expect_identical(left(), "B")
  # rows outside the request stay
  put_rows(archive, "t", "b", "bars", bars("B", "deleted"), frequency = "PT1M")
  export_database(archive, file, "A")
  expect_identical(left(), "B")
  export_database(archive, file)
  expect_identical(left(), character())
})

test_that("--from limits the output of a window, and not its input", {
  file <- withr::local_tempfile(fileext = ".csv")
  days <- as.Date("2025-11-01") + 0:90
  writeLines(
    c("series,time,value", paste0("a,", days, ",", seq_along(days))), file
  )
  run <- function(...) {
    utils::read.csv(
      text = run_vetusta(
        "change", "--input", file, "--change", "mean", "--window", "30 days",
        ...
      )$stdout
    )
  }
  all <- run()
  late <- run("--from", "2026-01-01")
  expect_identical(
    late$value[1], all$value[as.Date(substr(all$time, 1, 10)) == "2026-01-01"]
  )
  expect_identical(substr(late$time[1], 1, 10), "2026-01-01")
})

test_that("keys whose parts hold the signs between parts stay apart", {
  archive <- new_archive()
  put_rows(
    archive, "t", "f", "facts",
    data.frame(
      symbol = c("BRK", "BRK.B"), item = c("B.EPS", "EPS"),
      period_end = as.Date("2025-12-31"), value = c(1, 2)
    )
  )
  expect_identical(nrow(archive_rows(archive, "t", "f")), 2L)
  bars <- data.frame(
    symbol = c("A:bid", "A", "A:BID", "A"),
    side = c(NA, "bid", NA, "BID"),
    time = as.POSIXct("2026-03-12 07:31", tz = "UTC"),
    close = 1:4 + 0
  )
  put_rows(archive, "t", "b", "bars", bars, frequency = "PT1M")
  expect_setequal(archive_bars(archive, interval = "1 minute")$close, 1:4)
})

test_that("no rows before the first known one; all series in one export", {
  archive <- new_archive()
  put_rows(archive, "t", "s", "snapshot", data.frame(symbol = "A", last = 1))
  put_rows(archive, "t", "p", "places", data.frame(place = "x", name = "one"))
  for (dataset in c("s", "p")) {
    expect_identical(
      nrow(archive_rows(archive, "t", dataset, as_of = "2020-01-01")), 0L
    )
  }
  put_rows(
    archive, "t", "f", "facts",
    data.frame(
      symbol = "A", item = "x", period_end = as.Date("2025-12-31"), value = 1
    )
  )
  put_rows(archive, "t", "b", "bars", minute_bars(), frequency = "PT1M")
  put_rows(archive, "t", "c", "bars", minute_bars(), frequency = "PT5M")
  all <- export_rows(archive_read(archive))
  expect_identical(nrow(all), 781L)
  folder <- withr::local_tempdir()
  out <- run_vetusta(
    "export", "*", "--archive", archive$path, "--file", "all.csv",
    folder = folder
  )
  expect_identical(out$status, 0L, info = out$stderr)
})

test_that("an archive without bars gives a table of bars without rows", {
  none <- archive_bars(new_archive())
  expect_identical(dim(none[none$symbol %in% "A", ]), c(0L, 10L))
})

test_that("a folder's name in a timer, and line breaks", {
  desk <- desk_make(file.path(withr::local_tempdir(), "d$HOME"))
  desk_track(
    desk, "w", "quay", "bars", symbols = "KELD", interval = "1 day",
    span = "1 year", times = "at 18:30 Europe/Riga"
  )
  unit <- desk_units(desk_open(desk$folder))[[1]]
  expect_match(unit, "d$$HOME", fixed = TRUE, all = FALSE)
  desk <- desk_open(desk$folder)
  desk$folder <- paste0(desk$folder, "\nx")
  expect_error_kind(desk_units(desk), "desk", "line break")
  expect_error_kind(desk_crontab(desk), "desk", "line break")
})

test_that("a report of text is text", {
  folder <- withr::local_tempdir()
  archive <- archive_open(file.path(folder, "a.sqlite"))
  put_rows(archive, "test", "bars", "bars", minute_bars(), frequency = "PT1M")
  archive_close(archive)
  expect_identical(
    run_vetusta(
      "report", "--plain", "r.html", "--archive", "a.sqlite", folder = folder
    )$status,
    2L
  )
  out <- run_vetusta(
    "report", "--plain", "r.txt", "--archive", "a.sqlite", folder = folder
  )
  expect_identical(out$status, 0L, info = out$stderr)
  expect_no_match(
    paste(readLines(file.path(folder, "r.txt")), collapse = " "), "<html"
  )
})

test_that("a written table is the same table for the commands that read it", {
  folder <- withr::local_tempdir()
  withr::local_dir(folder)
  bars <- series_about(
    bars_frame(
      data.frame(
        symbol = "KELD",
        time = time_local(
          as.Date("2026-03-27") + c(0, 1, 2, 4, 7), 0, "Europe/Riga"
        ),
        close = c(41.2, 41.5, 41, 42.25, 42), cusip = "00123"
      )
    ),
    interval = "1 day", zone = "Europe/Riga", unit = "crowns",
    title = c(KELD = "Keldan Copper"), delay = "2 hours"
  )
  months <- series_about(
    series_frame(
      data.frame(
        series = "level", period = as.Date(c("2026-01-01", "2026-02-01")),
        frequency = "M", value = c(250.5, 251), code = c("007", "NA")
      )
    ),
    unit = "cm"
  )
  facts <- c("interval", "zone", "delay", "unit", "title")
  for (ending in c("csv", "tsv", "parquet", "xlsx")) {
    if (ending == "xlsx" && !requireNamespace("openxlsx2", quietly = TRUE)) next
    for (table in list(bars, months)) {
      file <- paste0("t.", ending)
      export_table(table, file)
      back <- vetusta:::read_series_file(file, list(time_as = "rfc3339"))
      expect_equal(
        as.data.frame(back), as.data.frame(table), ignore_attr = TRUE,
        label = ending
      )
      for (name in facts) {
        if (name == "zone" && is.null(attr(table, name))) next
        expect_identical(
          attr(back, name), attr(table, name), label = paste(ending, name)
        )
      }
    }
  }
  # a command says what the function says, also when each value is known
  here <- function(...) run_vetusta(..., folder = folder)
  export_table(bars, "bars.csv")
  here("fill", "--input", "bars.csv", "--rule", "last", "--file", "full.csv")
  full <- series_fill(bars)
  wrote <- vetusta:::read_series_file("full.csv", list(time_as = "rfc3339"))
  for (name in c("time", "close", "through", "known", "rule", "cusip")) {
    expect_equal(wrote[[name]], full[[name]], ignore_attr = TRUE, label = name)
  }
  said <- here("change", "--input", "full.csv")$stdout
  change <- series_change(full)
  read <- utils::read.csv(text = said)
  expect_equal(read$value, change$value)
  expect_identical(read$known, vetusta:::format_instant(change$known))
  # columns of a wide table are series with their units
  export_table(suppressMessages(series_align(bars, months)), "wide.parquet")
  wide <- vetusta:::read_series_file("wide.parquet", list(time_as = "rfc3339"))
  expect_identical(
    unique(as.data.frame(wide)[c("series", "unit")]),
    data.frame(series = c("KELD", "level"), unit = c("crowns", "cm")),
    ignore_attr = TRUE
  )
  # a calendar that only the writer has is named
  mill <- calendar_make(
    list(
      calendar = "mill", zone = "Europe/Riga",
      sessions = list(regular = "09:30-16:00")
    )
  )
  export_table(series_about(bars, calendar = mill), "mill.csv")
  expect_message(
    vetusta:::read_series_file("mill.csv", list(time_as = "rfc3339")),
    "calendar mill of mill.csv is not known here", class = "vetusta_note"
  )
  expect_message(
    archive_import(new_archive(), "mill.csv"), "calendar mill",
    class = "vetusta_note"
  )
  expect_silent(
    vetusta:::read_series_file(
      "mill.csv", list(time_as = "rfc3339"), calendar = mill
    )
  )
  # an option says otherwise
  said <- here("gaps", "--input", "bars.csv", "--zone", "Europe/Riga")$stdout
  expect_match(said, "2026-04-01 +2026-04-02", all = FALSE)
})

test_that("units, titles, source and licence come through every function", {
  quiet <- function(work) suppressMessages(work)
  bars <- series_about(
    bars_frame(
      data.frame(
        symbol = "KELD",
        time = time_local(as.Date("2026-03-27") + 0:19, 0, "Europe/Riga"),
        close = 41 + sin(0:19)
      )
    ),
    interval = "1 day", zone = "Europe/Riga", unit = "crowns",
    title = c(KELD = "Keldan Copper"), source = "quay"
  )
  attr(bars, "licence") <- "free with the name of the exchange"
  levels <- series_about(
    series_frame(
      data.frame(
        series = rep(c("flow", "level"), each = 3),
        period = seq(as.Date("2026-01-01"), by = "month", length.out = 3),
        frequency = "M", value = c(3, 4, 5, 250, 251, 252),
        unit = rep(c("m3/s", "cm"), each = 3)
      )
    ),
    title = c(level = "Level at the lock"), source = "hall"
  )
  attr(levels, "licence") <- "public"
  kept <- list(
    series_change(bars, "difference"), series_change(bars, "index"),
    series_fill(bars), series_aggregate(bars, "W"),
    bars_resample(bars, "1 week"),
    series_align(bars), series_align(bars, form = "long"),
    series_join(a = bars, b = bars)
  )
  for (table in quiet(kept)) {
    expect_identical(attr(table, "licence"), attr(bars, "licence"))
    expect_identical(attr(table, "source"), "quay")
    expect_identical(attr(table, "title"), c(KELD = "Keldan Copper"))
    expect_identical(attr(table, "zone"), "Europe/Riga")
  }
  expect_identical(attr(kept[[1]], "unit"), c(value = "crowns"))
  expect_null(attr(kept[[2]], "unit"))
  expect_identical(attr(kept[[6]], "unit"), c(KELD = "crowns"))
  expect_identical(attr(kept[[7]], "unit"), c(value = "crowns"))
  # several units are the columns' own, or a column
  wide <- quiet(series_align(bars, levels))
  expect_identical(
    attr(wide, "unit")[c("KELD", "flow", "level")],
    c(KELD = "crowns", flow = "m3/s", level = "cm")
  )
  expect_identical(
    attr(wide, "title"),
    c(KELD = "Keldan Copper", level = "Level at the lock")
  )
  expect_identical(
    attr(wide, "licence"), "free with the name of the exchange; public"
  )
  dictionary <- export_dictionary(wide)
  expect_identical(
    dictionary$unit[match(c("time", "level"), dictionary$column)], c(NA, "cm")
  )
  long <- quiet(series_align(bars, levels, form = "long"))
  expect_identical(unique(long$unit[long$series == "flow"]), "m3/s")
  change <- series_change(levels, "difference")
  expect_identical(change$unit, rep(c("m3/s", "cm"), each = 3))
  expect_null(series_change(levels)[["unit"]])
  # values of two units are not one series, except by a ratio
  other <- bars
  attr(other, "unit") <- c(close = "marks")
  expect_error_kind(
    series_join(bars, other), "argument", "crowns, marks"
  )
  expect_identical(
    attr(series_join(bars, other, adjust = "ratio"), "unit"),
    c(value = "crowns")
  )
})
