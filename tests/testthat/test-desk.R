# A desk's file: reading, checking and editing it, and the origins of lists.
desk_of <- function(lines, cards = c("quay", "river"), env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  desk_make(folder, cards = cards)
  writeLines(c("desk: A desk", lines), file.path(folder, "desk.yml"))
  folder
}
shares <- c(
  "track:", "  # two of them", "  shares:",
  "    source: quay    # the exchange", "    symbols: [KELD, TAMX]",
  "    interval: 1 minute", "    from: 2026-03-12", "", "# what is written",
  "outputs:", "  days: {series: KELD, file: days.csv}"
)

test_that("every word of a desk is checked, with its line", {
  wrong <- function(lines, pattern, place = "line [0-9]+") {
    error <- expect_error_kind(desk_open(desk_of(lines)), "desk", pattern)
    expect_match(error$where, place)
  }
  wrong("wnats: {}", "wnats", "line 2")
  wrong(c("track:", "  a:", "    sorce: quay"), "sorce", "line 4")
  wrong(
    c("track:", "  a:", "    source: quay", "    interval: 1 minit"), "minit",
    "line 5"
  )
  wrong(c("track:", "  a: {source: quay, span: 1 day, from: 2020}"), "span")
  wrong(
    c("track:", "  a: {source: quay, symbols: [K], keys: {a: b}}"), "symbols"
  )
  wrong(c("track:", "  a: {source: quay, from: soon}"), "soon")
  wrong(c("track:", "  a: {source: quay, times: at 25:00}"), "never occurs")
  wrong(
    c("track:", "  a: {source: quay, times: at 9:00 Europe/Rigga}"),
    "Europe/Rigga"
  )
  wrong(
    c("track:", "  a: {source: quay, times: at 9:00 on mondai}"), "never occurs"
  )
  wrong(c("track:", "  A b: {source: quay}"), "A b")
  wrong(
    c("track:", "  a: {source: quay}", "  a: {source: river}"),
    "is written twice", "line 4"
  )
  wrong(c("outputs:", "  a: {series: x, rows: y, file: z.csv}"), "series")
  wrong(
    c("outputs:", "  a: {series: x, file: z.csv, append: b.csv, table: t}"),
    "append"
  )
  wrong(c("outputs:", "  a: {series: x, file: z.csv, rule: mean}"), "rule")
  wrong(c("outputs:", "  a: {rows: x/y, file: z.csv, fill: last}"), "fill")
  wrong(
    c(
      "outputs:",
      "  a: {series: x, file: z.png, figure: lines, columns: [time]}"
    ),
    "columns"
  )
  expect_error_kind(desk_open(withr::local_tempdir()), "desk", "no desk")
})

test_that("what a query names and is not there is told with file and line", {
  wrong <- function(lines, pattern) {
    desk <- desk_open(desk_of(c("track:", "  a:", paste0("    ", lines))))
    error <- expect_error_kind(
      vetusta:::desk_query(desk, "a", NULL), "desk", pattern
    )
    expect_match(paste(error$where, collapse = " "), "desk[.]yml, line [0-9]+")
    # in a table of findings it is a problem, not an error
    expect_match(desk_tracked(desk)$problem, pattern)
  }
  wrong("source: quai", "quai")
  wrong(c("source: quay", "dataset: bras"), "bras")
  wrong(c("source: quay", "dataset: bars"), "symbols")
  wrong(c("source: quay", "symbols: [K]", "from: 2026-03-01"), "interval")
  wrong(
    c(
      "source: quay", "symbols: {file: none.txt}", "interval: 1 day",
      "span: 1 year"
    ),
    "file"
  )
  wrong(
    c(
      "source: quay", "symbols: {rows: quay}", "interval: 1 day", "span: 1 year"
    ),
    "dataset"
  )
  wrong(
    c("source: river", "dataset: levels", "symbols: [a]", "from: 2020"),
    "symbols"
  )
  wrong(
    c("source: river", "dataset: levels", "keys: {statio: a}", "from: 2020"),
    "statio"
  )
})

test_that("lists in place, from a file, a column, and the archive", {
  folder <- desk_of(
    c(
      "track:", "  a: {source: quay, symbols: {file: s.txt}, interval: 1 day,",
      "      span: 1 year}"
    )
  )
  writeLines(
    c("KELD   # first", "", "# none", "TAMX", "KELD"),
    file.path(folder, "s.txt")
  )
  writeLines(
    c(
      "code,kind,volume", "KELD,share,12000", "TAMX,share,9",
      "WARR,warrant,50000"
    ),
    file.path(folder, "s.csv")
  )
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  withr::defer(archive_close(archive))
  put_rows(
    archive, "quay", "directory", "instruments",
    data.frame(symbol = c("A", "B", "C"), type = c("share", "share", "fund"))
  )
  put_rows(
    archive, "quay", "market", "snapshot",
    data.frame(symbol = c("A", "B"), volume = c(5, 20000))
  )
  put_rows(
    archive, "river", "levels", "observations",
    data.frame(
      series = rep(c("old", "young"), c(3, 2)),
      period = as.Date(
        c("1990-01-01", "2000-01-01", "2020-01-01", "2019-01-01", "2020-01-01")
      ),
      value = 1:5
    ),
    frequency = "D"
  )
  desk <- desk_open(folder)
  list_of <- function(...) {
    vetusta:::desk_list(desk, list(...), "symbols", archive, "here")
  }
  expect_identical(
    vetusta:::desk_list(desk, c("a", "b"), "symbols", archive, ""), c("a", "b")
  )
  expect_identical(list_of(file = "s.txt"), c("KELD", "TAMX"))
  expect_identical(
    list_of(file = "s.csv", column = "code", where = "kind=share"),
    c("KELD", "TAMX")
  )
  expect_identical(
    list_of(
      file = "s.csv",
      column = "code",
      where = c("kind=share", "volume>100")
    ),
    "KELD"
  )
  expect_identical(
    list_of(rows = "quay/directory", where = "type=share"), c("A", "B")
  )
  expect_identical(
    list_of(
      rows = "quay/directory",
      with = "quay/market",
      where = c("type=share", "volume>=10000")
    ),
    "B"
  )
  expect_identical(
    list_of(series = "river/levels/*", where = "years>=20"), "old"
  )
  expect_error_kind(list_of(file = "s.csv", column = "cod"), "desk", "cod")
  expect_error_kind(
    list_of(file = "s.txt", rows = "quay/directory"), "desk", "two places"
  )
  expect_error_kind(
    list_of(rows = "quay/directory", where = "type=none"), "desk", "empty"
  )
  expect_error_kind(list_of(rows = "quay/nothing"), "desk", "nothing")
  expect_error_kind(
    list_of(file = "s.csv", with = "quay/market"), "desk", "cannot be used with"
  )
  expect_error_kind(
    list_of(rows = "quay/directory", where = "typ=share"), "desk", "typ"
  )
  # three lists give every combination of their values
  query <- vetusta:::desk_query(desk, "a", archive)
  expect_identical(query$symbols, c("KELD", "TAMX"))
})

test_that("adding and removing a query keeps the rest of the file", {
  folder <- desk_of(shares)
  file <- file.path(folder, "desk.yml")
  before <- readLines(file)
  desk <- desk_track(
    desk_open(folder),
    "lock",
    "river",
    "levels",
    keys = list(station = c("kelder-lock", "tamm-weir")),
    from = "1981-01-01",
    every = "6 hours"
  )
  lines <- readLines(file)
  expect_identical(lines[!lines %in% setdiff(lines, before)], before)
  expect_identical(names(desk$track), c("shares", "lock"))
  expect_identical(
    desk$track$lock,
    list(
      source = "river",
      dataset = "levels",
      keys = list(station = c("kelder-lock", "tamm-weir")),
      from = "1981-01-01",
      every = "6 hours"
    )
  )
  expect_identical(
    desk_tracked(desk)$asked, c("2 symbols", "station kelder-lock, tamm-weir")
  )
  expect_error_kind(desk_track(desk, "lock", "river", "levels"), "desk", "lock")
  expect_error_kind(
    desk_track(desk, "x", "river", "levels", evry = "1 day"), "desk", "evry"
  )
  expect_error_kind(
    desk_track(desk, "x", "river", "levels", every = "often"), "desk", "often"
  )
  expect_identical(readLines(file), lines)
  desk_drop(desk, "lock")
  expect_identical(readLines(file), before)
  # flags and numbers are written as such
  desk <- desk_track(
    desk, "prices", "quay", "bars", symbols = "K", interval = "1 day",
    from = 2020, history = TRUE
  )
  expect_identical(desk$track$prices$history, TRUE)
  expect_true("    history: true" %in% readLines(file))
  desk_drop(desk, "prices")
  desk_drop(desk, "shares")
  expect_identical(desk_open(folder)$track, list())
  expect_true(all(c("# what is written", "outputs:") %in% readLines(file)))
  expect_error_kind(desk_drop(desk, "shares"), "desk", "shares")
  # values that YAML would read as another type come back unchanged
  odd <- list(
    symbols = c("NO", "1E5", "007", "a: b", "x#y", "[z]", "K,L"),
    interval = "1 day",
    span = "1 year",
    title = "it's \"quoted\": yes"
  )
  desk <- do.call(desk_track, c(list(desk_open(folder), "odd", "quay"), odd))
  expect_identical(desk$track$odd[names(odd)], odd)
  # a file with another layout is left alone
  writeLines("track: {a: {source: quay}}", file)
  expect_error_kind(
    desk_track(
      desk_open(folder), "b", "quay", symbols = "K", interval = "1 day",
      span = "1 year"
    ),
    "desk", "layout"
  )
  expect_identical(readLines(file), "track: {a: {source: quay}}")
})

test_that("services that tell a desk where they are leave its queries alone", {
  folder <- desk_of(shares)
  desk_make(
    folder,
    cards = character(),
    urls = list(quay = "http://127.0.0.1:9/quay")
  )
  desk <- desk_open(folder)
  expect_identical(names(desk$track), "shares")
  expect_identical(desk$urls$quay, "http://127.0.0.1:9/quay")
  expect_true("  # two of them" %in% readLines(file.path(folder, "desk.yml")))
})

test_that("a new desk's fixings go into its workbook", {
  services <- start_services()
  folder <- file.path(withr::local_tempdir(), "new")
  desk <- desk_new(folder)
  lines <- sub(
    "^archive:",
    paste0("urls: {fixing: \"", services$root, "/fixing\"}\narchive:"),
    readLines(desk$file)
  )
  writeLines(lines, desk$file)
  done <- desk_refresh(
    desk_open(folder), "fixings", progress = FALSE, outputs = FALSE
  )
  expect_identical(done$outcome, "done")
  skip_if_not_installed("openxlsx2")
  archive <- archive_open(desk$archive)
  bars <- archive_read(archive, "fixing/candles/*@1 day")[[1]]
  archive_close(archive)
  days <- length(unique(bars$time))
  for (turn in 1:2) {
    written <- desk_write(desk_open(folder), "fixings-table")
    expect_identical(written$outcome, "written")
    book <- openxlsx2::wb_load(file.path(folder, "fixings.xlsx"))
    expect_identical(
      openxlsx2::wb_get_tables(book, "Fixings")$tab_ref,
      paste0("A1:E", 6 * days + 1)
    )
  }
  sheet <- openxlsx2::wb_to_df(book, sheet = "Fixings")
  expect_identical(names(sheet), c("time", "leg", "bid", "ask", "mid"))
  lower <- bars[bars$symbol == "LOWER" & bars$side == "bid", ]
  expect_equal(sheet$bid[sheet$leg == "LOWER"], lower$close)
  # a day from 17:00 to 17:00 has the date of its end
  expect_identical(
    as.Date(sheet$time[sheet$leg == "LOWER"][1]), as.Date("2026-03-03")
  )
  formulas <- openxlsx2::wb_to_df(
    book, sheet = "Fixings", show_formula = TRUE
  )$mid
  expect_identical(formulas[10], "(C11+D11)/2")
})
