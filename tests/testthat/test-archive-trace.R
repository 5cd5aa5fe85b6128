# Every stored row is traced to the page that brought it. In these pages a
# value says which page and row it is: page * 1000 + row.
traced <- function(store, key) {
  series <- vetusta:::store_series(store)
  series <- series[series$key == key, ]
  read <- vetusta:::store_read(store, series$id, newest = FALSE)$columns
  came <- vetusta:::origins_of_rows(
    store, series, as.numeric(read$time), vetusta:::known_order(read$known)
  )
  journal <- vetusta:::sql_get(store, "SELECT id, url FROM journal")
  data.frame(
    value = as.numeric(read$value),
    page = as.numeric(journal$url[match(came$journal, journal$id)]),
    place = came$place, hash = came$hash
  )
}
trace_page <- function(number, keys, rows, now, again = FALSE, at = NULL) {
  series <- data.frame(
    key = keys, frequency = "D",
    dimensions = sprintf("{\"series\":\"%s\"}", keys)
  )
  list(
    source = "river", dataset = "levels", shape = "observations",
    rows = vetusta:::parcel_series(series, rows), now = now, again = again,
    journal = list(
      run = "r", source = "river", dataset = "levels", asked = now,
      rows = length(rows$time), outcome = "stored", url = as.character(number)
    ),
    origin = list(
      base = "/data/", at = at, rows = length(rows$time),
      hash = sprintf("hash-%d", number)
    )
  )
}

stores <- list(
  sqlite = function(env = parent.frame()) new_archive(env = env),
  postgres = function(env = parent.frame()) postgres_archive(env),
  columns = function(env = parent.frame()) columns_archive(env)
)
for (kind in names(stores)) {
  open_store <- stores[[kind]]
  test_that(paste(kind, "knows of each row the page and the place"), {
    turns <- if (kind == "sqlite") 30 else 4
    placed <- 0
    withr::with_seed(5, for (turn in seq_len(turns)) {
      store <- open_store()
      sent <- list()
      dated <- turn %% 2 == 0
      for (number in 1:12) {
        keys <- if (runif(1) < 0.4) c("a", "b", "c") else sample(c("a", "b"), 1)
        n <- sample(8, 1)
        of <- sort(sample(length(keys), n, TRUE))
        from <- if (runif(1) < 0.5) number * 4 else 0
        time <- (from + ave(of, of, FUN = seq_along)) * 86400
        order <- if (runif(1) < 0.3) rev(seq_len(n)) else seq_len(n)
        value <- number * 1000 + seq_len(n)
        # some rows come again as they were, where no releases are stated
        again <- which(runif(n) < 0.3 & !dated)
        for (i in again) {
          key <- paste(keys[of[order[i]]], time[order[i]])
          value[i] <- sent[[key]] %||% value[i]
        }
        stated <- if (dated && runif(1) < 0.5) sample(1e6, 1) + 0 else NA_real_
        known <- rep(stated, n)
        for (i in seq_len(n)) {
          sent[[paste(keys[of[order[i]]], time[order[i]])]] <- value[i]
        }
        rows <- list(
          time = vetusta:::utc(time[order]), known = vetusta:::utc(known),
          value = value + 0
        )
        if (length(keys) > 1) rows <- c(list(series = of[order]), rows)
        # rows with faults between them have left numbers out
        skipped <- sort(sample(20, n))
        vetusta:::store_put(
          store,
          trace_page(
            number, keys, rows, 1e6 + number,
            again = runif(1) < 0.5, at = skipped
          ),
          gather = if (runif(1) < 0.3) 50 else 1
        )
        sent[[paste("at", number)]] <- skipped
      }
      vetusta:::store_settle(store)
      for (key in vetusta:::store_series(store)$key) {
        found <- traced(store, key)
        label <- paste(kind, "turn", turn, "series", key)
        expect_identical(found$page, found$value %/% 1000, label = label)
        expect_identical(
          found$hash, sprintf("hash-%d", as.integer(found$page)),
          label = label
        )
        # a place is the right one, or none
        there <- which(!is.na(found$place))
        numbers <- vapply(there, function(i) {
          sent[[paste("at", found$page[i])]][found$value[i] %% 1000]
        }, 1L)
        expect_identical(
          found$place[there], sprintf("/data/%d", numbers - 1L),
          label = label
        )
        placed <- placed + length(there) / nrow(found)
      }
    })
    expect_gt(placed, turns)
  })
}

test_that("an older archive is read, and gets origins when it is written", {
  path <- withr::local_tempfile(fileext = ".sqlite")
  store <- vetusta:::sqlite_store(path)
  # the form before
  for (statement in c(
    "DROP TRIGGER page_in_put", "DROP VIEW page_in", "DROP TABLE origins",
    "UPDATE meta SET value = '2' WHERE name = 'version'"
  )) {
    vetusta:::sql_do(store, statement)
  }
  vetusta:::store_close(store)
  archive <- archive_open(path, read_only = TRUE)
  expect_identical(nrow(archive_series(archive)), 0L)
  archive_close(archive)
  archive <- archive_open(path)
  csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
  archive_import(archive, csv, symbol = "KELD", interval = "1 day")
  expect_identical(archive_trace(archive, "KELD", "2026-03-12")$run, "import")
  expect_identical(vetusta:::sql_meta(archive, "version"), "4")
})

test_that("the rows of an import have the line and the hash of the file", {
  archive <- new_archive()
  file <- withr::local_tempfile(
    lines = c(
      "time,symbol,close", "2026-03-12,AA,3", "2026-03-10,AA,1",
      "2026-03-11,AA,x", "2026-03-09,AA,9"
    ),
    fileext = ".csv"
  )
  archive_import(archive, file, interval = "1 day")
  expect_identical(
    archive_trace(archive, "AA", "2026-03-12")$place, "line 2"
  )
  expect_identical(
    archive_trace(archive, "AA", "2026-03-09")$place, "line 5"
  )
  trace <- archive_trace(archive, "AA", "2026-03-10")
  expect_identical(trace$place, "line 3")
  expect_identical(trace$url, basename(file))
  expect_identical(
    trace$hash, digest::digest(file, "xxhash64", file = TRUE)
  )
  expect_error_kind(
    archive_trace(archive, "AA", "2026-03-11"), "argument", "no value"
  )
})

# An independent reader: the body of each kept page, by jsonlite alone.
test_that("200 values of the services are found in the kept pages", {
  services <- start_services()
  archive <- new_archive()
  source <- source_card("quay", url = services$url)
  withr::local_envvar(QUAY_KEY = "quay-demo-7f3a91")
  collect <- function(...) {
    plan <- plan_requests(query_bars(source, ...), archive)
    collect_run(plan, archive, progress = FALSE, raw = TRUE)
  }
  for (interval in c("1 minute", "1 day")) {
    collect(
      c("KELD", "ASH", "TAMX"), interval,
      from = "2026-03-02", to = "2026-03-20"
    )
  }
  collect("KELD", "1 minute", from = "2026-03-01", to = "2026-03-26")
  raw <- vetusta:::sql_get(archive, "SELECT journal, body, hash FROM raw")
  bodies <- lapply(raw$body, memDecompress, "gzip")
  journal <- vetusta:::sql_get(archive, "SELECT * FROM journal")
  listed <- archive_series(archive)
  # the number as a reader finds it: in an exported file, in a figure, or in a
  # report
  file <- withr::local_tempfile(fileext = ".csv")
  report <- report_make(archive)$tables[["Newest values"]]
  shown <- list(
    export = function(bars) {
      export_table(bars, file, instants = TRUE)
      rows <- utils::read.csv(file)
      row <- rows[sample(nrow(rows), 1), ]
      at <- as.POSIXct(row$time, "UTC", format = "%Y-%m-%dT%H:%M:%SZ")
      list(time = at, close = row$close)
    },
    figure = function(bars) {
      points <- figure_lines(bars, columns = 1e5)$data
      row <- points[sample(which(!is.na(points$value)), 1), ]
      list(time = vetusta:::utc(as.numeric(row$time)), close = row$value)
    },
    report = function(bars) {
      last <- bars[which.max(bars$time), ]
      expect_true(last$close %in% report$value)
      list(time = last$time, close = last$close)
    }
  )
  wrong <- 0
  withr::with_seed(3, for (i in 1:200) {
    id <- sample(listed$id, 1)
    bars <- archive_read(archive, id)[[1]]
    bar <- shown[[sample(c(1, 2, 2, 1, 3), 1)]](bars)
    trace <- archive_trace(archive, id, bar$time)
    trace <- trace[nrow(trace), ]
    page <- which(raw$hash == vetusta:::content_hash(
      bodies[[match(
        journal$id[match(trace$url, journal$url)], raw$journal
      )]]
    ))[1]
    content <- jsonlite::fromJSON(rawToChar(bodies[[page]]), FALSE)
    row <- content$items[[as.numeric(sub(".*/", "", trace$place)) + 1]]
    fine <- identical(as.numeric(row$lst), bar$close) &&
      identical(
        digest::digest(bodies[[page]], "xxhash64", serialize = FALSE),
        trace$hash
      ) &&
      jsonlite::fromJSON(trace$sent)$lst == bar$close && trace$http == 200L &&
      trace$card == source$card$hash
    wrong <- wrong + !isTRUE(fine)
  })
  expect_identical(wrong, 0)
})

test_that("the action of a message of statistics stands with the place", {
  action <- function(...) vetusta:::message_action(list(action = c(...)))
  expect_null(action("insert", "insert"))
  expect_null(action())
  expect_identical(action("merge", "merge"), "merge, ")
  expect_identical(action("insert", "delete", "merge"), "delete and merge, ")
})

test_that("numbers as ranges come back as they were", {
  ranges <- vetusta:::number_ranges
  expect_identical(ranges(c(0, 1, 3, 4)), "0-1,3-4")
  expect_identical(ranges(c(0, 10, 20)), "0-20:10")
  expect_identical(ranges(c(9, 7, 5)), "9-5:2")
  expect_identical(ranges(c(2, NA)), NA_character_)
  expect_identical(vetusta:::ranges_numbers("+3 1 -2"), c(3, 4, 2))
  set.seed(1)
  for (i in 1:500) {
    n <- sample(1:60, 1)
    numbers <- if (i %% 2) {
      sample(0:70, n, replace = i %% 3 == 0)
    } else {
      20 + cumsum(sample(c(1, 1, 1, 5, 5, -1), n, replace = TRUE))
    }
    expect_identical(
      vetusta:::ranges_numbers(ranges(numbers)), as.numeric(numbers)
    )
  }
  many <- sample(2e5)
  expect_identical(vetusta:::ranges_numbers(ranges(many)), as.numeric(many))
})

test_that("rows of several series in turn have their places", {
  archive <- new_archive()
  # three series in turn, ten times each
  rows <- data.frame(
    series = rep(c("a", "b", "c"), 10),
    period = rep(as.Date("2026-01-01") + 0:9, each = 3), value = 1:30 + 0
  )
  vetusta:::store_put(archive, list(
    source = "s", dataset = "d", shape = "observations", now = 1e9,
    rows = vetusta:::archive_parcel("observations", rows),
    journal = list(
      run = "r", source = "s", dataset = "d", symbol = "all", asked = 1e9,
      seconds = 1, status = 200L, bytes = 10, rows = 30, outcome = "stored",
      url = "https://x"
    ),
    origin = list(base = "/rows/", rows = 30, hash = "0123456789abcdef")
  ))
  places <- vapply(0:9, function(i) {
    archive_trace(archive, "s/d/b", as.Date("2026-01-01") + i)$place
  }, "")
  expect_identical(places, paste0("/rows/", 3 * 0:9 + 1))
})

test_that("rows scattered over an answer have their places", {
  archive <- new_archive()
  withr::with_seed(6, {
    order <- sample(60)
    rows <- data.frame(
      series = rep(c("a", "b"), 30)[order],
      period = (rep(as.Date("2026-01-01") + 0:29, each = 2))[order],
      value = order + 0
    )
  })
  put <- function(rows, asked) {
    vetusta:::store_put(archive, list(
      source = "s", dataset = "d", shape = "observations", now = asked,
      rows = vetusta:::archive_parcel("observations", rows),
      journal = list(
        run = "r", source = "s", dataset = "d", symbol = "all", asked = asked,
        seconds = 1, status = 200L, bytes = 10, rows = nrow(rows),
        outcome = "stored", url = paste0("https://x/", asked)
      ),
      origin = list(
        base = "/rows/", rows = nrow(rows), hash = "0123456789abcdef"
      )
    ))
  }
  put(rows, 1e9)
  # one of them is corrected by a later answer
  later <- rows[rows$series == "a", ][7, ]
  later$value <- -1
  put(later, 1e9 + 10)
  for (i in seq_len(nrow(rows))) {
    id <- paste0("s/d/", rows$series[i])
    trace <- archive_trace(archive, id, rows$period[i])
    expect_identical(trace$place[1], paste0("/rows/", i - 1))
    if (nrow(trace) > 1) expect_identical(trace$place[2], "/rows/0")
  }
  # and as a pack takes them along
  taken <- vetusta:::pack_origins(archive, vetusta:::store_series(archive))
  vetusta:::sql_do(archive, "DELETE FROM origins")
  vetusta:::pack_read_origins(
    archive, taken, vetusta:::store_series(archive)$id
  )
  again <- archive_trace(archive, "s/d/b", "2026-01-05")
  number <- which(rows$series == "b" & rows$period == as.Date("2026-01-05"))
  expect_identical(again$place, paste0("/rows/", number - 1))
})

test_that("a day of bars is that by which they are shown", {
  archive <- new_archive()
  # from 17:00 to 17:00: the day on which it ends
  put_rows(archive, "s", "d", "bars", data.frame(
    symbol = "A", time = as.POSIXct("2026-03-01 15:00", "UTC") + 86400 * 0:4,
    close = 1:5 + 0
  ), "P1D")
  vetusta:::dataset_facts_put(archive, "s", "d", list(zone = "Europe/Riga"))
  file <- withr::local_tempfile(fileext = ".csv")
  export_table(archive_read(archive)[[1]], file)
  back <- utils::read.csv(file)
  for (i in seq_len(nrow(back))) {
    trace <- archive_trace(archive, "A", back$time[i])
    expect_identical(trace$value, as.numeric(back$close[i]))
    expect_match(format(trace)[1], back$time[i], fixed = TRUE)
  }
})

test_that("values of statistics are found in the rows as they were sent", {
  services <- start_services()
  url <- sub("quay$", "basin", services$url)
  # in the format of each card the row holds the value and its period
  for (format in c("csv", "xml", "json")) {
    archive <- new_archive()
    source <- source_card("basin", url = url)
    source$sdmx$formats <- format
    query <- query_observations(
      source, "FREIGHT_PRICES", from = "2024-01-01"
    )
    collect_run(
      plan_requests(query, archive), archive, progress = FALSE, raw = TRUE
    )
    listed <- archive_series(archive)
    withr::with_seed(4, for (i in 1:25) {
      id <- sample(listed$id, 1)
      rows <- archive_read(archive, id)[[1]]
      row <- sample(nrow(rows), 1)
      trace <- archive_trace(archive, id, rows$period[row])
      sent <- trace$sent[nrow(trace)]
      numbers <- regmatches(sent, gregexpr("[0-9]+[.]?[0-9]*", sent))[[1]]
      if (!is.na(rows$value[row])) {
        expect_true(rows$value[row] %in% as.numeric(numbers))
      }
      # JSON has the numbers of its lists in place of the period
      if (format != "json") {
        period <- rows$period[row]
        quarter <- paste0(format(period, "%Y-"), quarters(period))
        expect_match(sent, quarter, fixed = TRUE)
      }
    })
  }
})

test_that("lines of a body are found by their number", {
  sent <- function(text, places) {
    vetusta:::rows_as_sent(charToRaw(text), places)
  }
  expect_identical(
    sent("a,b\n1,2\n3,4\n", c("line 3", "observation 1", "/0", "row 1")),
    c("3,4", "1,2", NA, NA)
  )
  # a break within a field
  expect_identical(
    sent("a,b\n\"1\n\",2\n\n3,4", c("line 2", "line 3", "observation 2")),
    c("\"1\n\",2", NA, "3,4")
  )
  # formats without lines
  expect_identical(sent("{\"a\":1}", "observation 1"), NA_character_)
  expect_identical(sent("<a><x/>", "observation 1"), NA_character_)
  expect_match(
    sent("<a><Obs v='1'/><Obs v='2'/></a>", "merge, observation 2"), "v=\"2\""
  )
})

test_that("rows of a table have their lines, whatever lies between", {
  withr::with_seed(9, for (turn in 1:200) {
    lines <- "id,text"
    starts <- integer()
    if (turn %% 2) lines <- c("a note", "and \"another\"", lines)
    for (row in seq_len(sample(0:12, 1))) {
      before <- sample(c("", "  ", "# a, remark"), sample(0:2, 1), TRUE)
      starts <- c(starts, length(lines) + length(before) + 1L)
      text <- sample(c("x", "\"a \"\"b\"\"\"", "\"a\nb\n\nc\"", ""), 1)
      cells <- paste0(row, ",", text)
      lines <- c(lines, before, strsplit(cells, "\n", fixed = TRUE)[[1]])
    }
    end <- sample(c("", "\n", "\n\n"), 1)
    body <- charToRaw(paste0(paste(lines, collapse = "\n"), end))
    if (turn %% 3 == 0) {
      body <- charToRaw(gsub("\n", "\r\n", rawToChar(body)))
    }
    rows <- vetusta:::decode_table(body, "csv", "a test", list(
      skip = if (turn %% 2) 2, remark = "#"
    ))
    expect_identical(as.integer(attr(rows, "lines")), starts)
    expect_identical(as.integer(rows$id), seq_along(starts))
  })
})

test_that("times a microsecond apart are two times", {
  at <- as.POSIXct("2026-03-02 08:00", "UTC") + c(1, 4, 7) * 1e-6
  expect_false(anyDuplicated(as.numeric(at)) > 0)
  archive <- new_archive()
  put_rows(archive, "s", "d", "observations", data.frame(
    series = "a", period = at, value = 1:3 + 0
  ), "I")
  rows <- archive_read(archive, "a", releases = TRUE)[[1]]
  expect_identical(rows$value, 1:3 + 0)
  expect_false("doubled time" %in% series_check(rows)$finding)
  expect_identical(vetusta:::match_pairs(
    c(as.numeric(at), NA), c(NA, NA, 2, NA), rev(as.numeric(at)), c(2, NA, NA)
  ), c(3L, 2L, 1L, NA))
  # one of them is deleted
  put_rows(archive, "s", "d", "observations", data.frame(
    series = "a", period = at[2], value = NA_real_, status = "deleted"
  ), "I")
  rows <- archive_read(archive, "a")[[1]]
  expect_identical(rows$value, c(1, 3))
  rows <- data.frame(series = "a", time = at, value = 1:3)
  expect_identical(nrow(vetusta:::wide_rows(rows, "time")), 3L)
})
