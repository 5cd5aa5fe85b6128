# Status of queries over many series: what is read at once for all of them
# against what each series says.

status_desk <- function(env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  desk_make(folder, cards = character())
  writeLines(
    c(
      "source: bench", "url: http://127.0.0.1:9", "datasets:", "  bars:",
      "    shape: bars", "    request: /bars/{symbol}{?from,to}",
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
      "    rows: /items",
      "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
    ),
    file.path(folder, "sources", "bench.yml")
  )
  folder
}

# Days of some symbols, with the coverage that a collector notes.
status_store <- function(archive, symbols, days, side = NA_character_,
                         end = 86400 * 19000, covered = TRUE) {
  for (i in seq_along(symbols)) {
    time <- end - 86400 * (days[i]:1)
    rows <- data.frame(
      symbol = symbols[i], time = .POSIXct(time, "UTC"), open = NA_real_,
      high = NA_real_, low = NA_real_, close = 40 + seq_along(time),
      volume = NA_real_, session = NA_character_, side = side,
      status = "observed"
    )
    vetusta:::store_put(
      archive,
      list(
        source = "bench", dataset = "bars", shape = "bars",
        rows = vetusta:::archive_parcel("bars", rows, frequency = "P1D"),
        covered = if (covered) {
          data.frame(
            key = vetusta:::bars_cover_key(symbols[i], "P1D", "regular"),
            start = end - 86400 * 60, end = end - 86400 * (i %% 3)
          )
        }
      )
    )
  }
}

status_of <- function(folder, queries) {
  writeLines(
    c(
      "desk: bench", "track:",
      paste0(
        "  ", names(queries), ": {source: bench, symbols: [",
        vapply(queries, paste, "", collapse = ", "),
        "], interval: 1 day, from: 2021-11-20, to: 2022-01-08}"
      )
    ),
    file.path(folder, "desk.yml")
  )
  desk <- desk_open(folder)
  list(
    whole = desk_status(desk), each = desk_status(desk, series = TRUE),
    desk = desk
  )
}

expect_same_status <- function(status, archive, queries) {
  for (name in names(queries)) {
    whole <- status$whole[status$whole$query == name, ]
    each <- status$each[status$each$query == name, ]
    series <- archive_series(archive)
    # by its definition: the series of the asked symbols
    mine <- series[sub(":[^:]*$", "", series$key) %in% queries[[name]], ]
    expect_identical(whole$series, as.numeric(nrow(mine)))
    expect_identical(each$id, mine$id)
    expect_identical(
      whole$rows, if (nrow(mine)) sum(mine$rows) else whole$rows
    )
    if (nrow(mine)) {
      expect_identical(whole$last, max(mine$last))
      expect_identical(whole$behind, max(0, min(each$behind)))
      expect_identical(as.numeric(whole$known), as.numeric(whole$last) + 86400)
    } else {
      expect_true(is.na(whole$last))
    }
  }
}

test_that("status is the same however many series a query has", {
  folder <- status_desk()
  symbols <- sprintf("S%02d", 1:24)
  desk_open(folder)
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  withr::defer(archive_close(archive))
  queries <- list(
    all = symbols, few = symbols[3:5], most = symbols[1:20],
    more = c(symbols, "ABSENT"), none = "ABSENT"
  )
  set.seed(3)
  status_store(archive, symbols, sample(1:40, 24, TRUE))
  status <- status_of(folder, queries)
  expect_same_status(status, archive, queries)
  # the earliest end of what is covered, and none where a symbol lacks it
  until <- as.numeric(status$whole$complete_until)
  expect_identical(
    until, c(86400 * 18998, 86400 * 18998, 86400 * 18998, NA, NA)
  )
  # a newer day of one series, a price with two sides, a series without rows
  status_store(archive, "S04", 3, end = 86400 * 19001)
  status <- status_of(folder, queries)
  expect_same_status(status, archive, queries)
  vetusta:::sql_do(
    archive,
    "INSERT INTO series (source, dataset, shape, key, frequency, dimensions)
    VALUES ('bench', 'bars', 'bars', 'ABSENT', 'P1D', '{}')"
  )
  expect_same_status(status_of(folder, queries), archive, queries)
  status_store(archive, c("S01", "S07"), c(5, 9), side = "bid")
  expect_same_status(status_of(folder, queries), archive, queries)
})

test_that("only series without rows are no series", {
  folder <- status_desk()
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  withr::defer(archive_close(archive))
  vetusta:::sql_do(
    archive,
    "INSERT INTO series (source, dataset, shape, key, frequency, dimensions)
    VALUES ('bench', 'bars', 'bars', 'KELD', 'P1D', '{}')"
  )
  status <- status_of(folder, list(all = c("KELD", "TAMX")))
  expect_identical(status$whole$series, 0)
  expect_true(is.na(status$whole$last))
  expect_identical(nrow(status$each), 0L)
})

test_that("covered ranges of many symbols are looked up or read alike", {
  archive <- archive_open(withr::local_tempfile(fileext = ".sqlite"))
  withr::defer(archive_close(archive))
  symbols <- c(
    sprintf("S%04d", 1:1500), "A@P1D regular", "B:x", "\u00c9t\u00e9"
  )
  set.seed(5)
  n <- 4000
  at <- sample(symbols, n, TRUE)
  rows <- data.frame(
    key = vetusta:::bars_cover_key(
      at, sample(c("P1D", "PT1M"), n, TRUE),
      sample(c("regular", "all"), n, TRUE)
    ),
    start = 86400 * sample(18000:18050, n, TRUE)
  )
  rows$end <- rows$start + 86400 * sample(1:30, n, TRUE)
  vetusta:::store_transaction(archive, function() {
    vetusta:::sql_do(
      archive, "INSERT INTO coverage VALUES ('quay', 'bars', ?, ?, ?)",
      unname(as.list(rows))
    )
  })
  quay <- source_card("quay")
  for (asked in list(symbols, symbols[1:150], symbols[c(1:300, 1501:1503)])) {
    query <- query_bars(
      quay, asked, "1 day", from = "2019-04-24", to = "2019-05-23",
      now = .POSIXct(86400 * 20000, "UTC")
    )
    covered <- vetusta:::covered_symbols(query, archive)
    covered <- covered[covered$symbol %in% asked, ]
    # by the definition: the keys of these symbols
    keys <- c(paste0(asked, "@P1D regular"), paste0(asked, "@P1D all"))
    mine <- rows[rows$key %in% keys, ]
    mine$symbol <- rep(asked, 2)[match(mine$key, keys)]
    sorted <- function(x) {
      x <- x[order(x$symbol, x$start, x$end), c("symbol", "start", "end")]
      as.list(x)
    }
    expect_equal(sorted(covered), sorted(mine))
    # what is missing: hours of the window that no range covers
    missing <- vetusta:::missing_bars(query, archive)
    hour <- seq(as.numeric(query$from), as.numeric(query$to) - 1, by = 3600)
    lacks <- function(symbol) {
      part <- mine[mine$symbol == symbol, ]
      sum(!vapply(hour, function(h) any(part$start <= h & part$end > h), TRUE))
    }
    some <- sample(asked, 40)
    expect_equal(
      vapply(some, lacks, 0L, USE.NAMES = FALSE),
      vapply(
        some,
        function(symbol) {
          part <- missing[missing$symbol == symbol, ]
          as.integer(round(sum(part$to - part$from) / 3600))
        },
        0L,
        USE.NAMES = FALSE
      )
    )
  }
})
