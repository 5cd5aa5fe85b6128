# More answers of services: long names, marks for missing values, totals in
# headers, selections refused because of one symbol.
test_that("long cursors and ids keep all digits", {
  base <- "12345678901234567"
  answer <- function(n, request) {
    after <- asked(request, "after")
    known <- c("", "123456789012345671", "123456789012345673")
    at <- match(after %||% "", known)
    if (is.na(at)) {
      return(json_answer("{\"error\": \"no such place\"}", status = 400L))
    }
    list(
      status = 200L,
      headers = list("Content-Type" = "application/json"),
      body = paste0(
        "{\"items\": [{\"id\": 9007199254740", c("993", "995", "997")[at],
        ", \"v\": ", at, "}], \"after\": ",
        if (at < 3) known[at + 1] else "null", "}"
      )
    )
  }
  got <- collect_rows(
    write_card(
      start_scripted(answer),
      c(
        "request: /rows", "rows: /items",
        "next_page: {by: cursor, at: /after, send: after}",
        "columns: {id: /id, v: {at: /v, as: number}}"
      )
    )
  )
  expect_identical(
    got$rows$id, c("9007199254740993", "9007199254740995", "9007199254740997")
  )
  expect_identical(nrow(got$run$failed), 0L)
})

test_that("words for missing, whole numbers as ids, days at midnight", {
  # nolint
  body <- paste0(
    '[{"id":100000,"v":"-","level":-999,"d":"2026-03-12T00:00:00.000Z",',
    paste0(
      '"t":20260312093000},{"id":1e5,"v":"n/a","level":12,',
      '"d":"2026-03-13T00:00:00",',
      '"t":20260313093000},{"id":7,"v":"3","level":-999.0,',
      '"d":"2026-03-14","t":20260314093000}]'
    )
  )
  answer <- function(n, request) {
    list(status = 200L, headers = list(), body = body)
  }
  environment(answer) <- list2env(list(body = body), parent = globalenv())
  url <- start_scripted(answer)
  card <- write_card(
    url,
    c(
      "request: /rows", "rows: \"\"", "columns:", "  id: /id",
      "  v: {at: /v, as: number, need: optional, missing: [\"-\", n/a]}",
      "  level: {at: /level, as: number, need: optional, missing: [-999]}",
      "  d: {at: /d, as: day}",
      "  t: {at: /t, as: local, written: \"%Y%m%d%H%M%S\"}"
    )
  )
  decoded <- vetusta:::decode_body(
    source_card(card)$datasets$rows, charToRaw(body), source_card(card)
  )
  expect_identical(decoded$columns$id, c("100000", "100000", "7"))
  expect_identical(decoded$columns$v, c(NA, NA, 3))
  expect_identical(decoded$columns$level, c(NA, 12, NA))
  expect_identical(decoded$columns$d, as.Date("2026-03-12") + 0:2)
  expect_identical(
    format(decoded$columns$t, "%H:%M", tz = "UTC"), rep("09:30", 3)
  )
  expect_identical(nrow(decoded$rejected), 0L)
  # without this word they are unreadable values, or numbers
  plain <- vetusta:::decode_body(
    source_card(
      write_card(
        url,
        c(
          "request: /rows", "rows: \"\"",
          paste0(
            "columns: {v: {at: /v, as: number, need: optional}, level: ",
            "{at: /level, as: number}}"
          )
        )
      )
    )$datasets$rows,
    charToRaw(body), source_card(card)
  )
  expect_identical(plain$rejected$row, c(1L, 2L))
  expect_identical(plain$columns$level, c(-999, 12, -999))
})

test_that("a row with several faults is set aside once", {
  url <- start_scripted(function(n, request) {
    json_answer(list(items = list(list(a = "x", b = "y"), list(a = 1, b = 2))))
  })
  got <- collect_rows(
    write_card(
      url,
      c(
        "request: /rows", "rows: /items",
        "columns: {a: {at: /a, as: number}, b: {at: /b, as: number}}"
      )
    )
  )
  expect_identical(got$run$rejected, 1)
  expect_identical(nrow(got$rows), 1L)
})

test_that("a refused selection is split until the bad symbol is alone", {
  answer <- function(n, request) {
    symbols <- strsplit(asked(request, "codes"), ",")[[1]]
    if ("BAD" %in% symbols) {
      return(json_answer(list(error = "BAD is not known"), status = status))
    }
    json_answer(
      list(
        items = lapply(symbols, function(s) list(s = s, t = 1773300600, c = 1))
      )
    )
  }
  for (status in c(400L, 404L, 422L)) {
    environment(answer) <- list2env(list(status = status), parent = globalenv())
    card <- bars_card(
      start_scripted(answer, env = environment()),
      c(
        "datasets:", "  bars:", "    shape: bars", "    request: /b{?codes}",
        "    rows: /items", paste0(
          "    parameters: ",
          "{codes: {gives: symbols, join: \",\", a_request: 8}}"
        ),
        "    columns: {symbol: /s, time: {at: /t, as: epoch-s}, close: /c}"
      ),
      env = environment()
    )
    symbols <- c("A", "B", "BAD", "C", "D", "E", "F")
    archive <- new_archive(environment())
    run <- collect_run(
      plan_requests(
        query_bars(
          card, symbols, "1 minute", from = "2026-03-12", to = "2026-03-12"
        ),
        archive
      ),
      archive, progress = FALSE
    )
    expect_identical(run$failed$symbol, "BAD", label = paste("HTTP", status))
    expect_identical(run$new, 6)
    expect_identical(sort(archive_series(archive)$key), setdiff(symbols, "BAD"))
    # one selection, split three times at largest_page: 7 symbols need at most 2
    # * 3 further requests
    expect_lte(nrow(archive_journal(archive)), 7L)
  }
})

test_that("symbols in one request share its rows", {
  card <- function(symbols) {
    bars_card(
      "https://data.example.org",
      c(
        "datasets:", "  bars:", "    shape: bars",
        "    request: /b{?codes,from,to}",
        "    largest_page: 100", "    rows: /items",
        paste0(
          "    parameters: {codes: {gives: symbols, join: \",\", a_request: ",
          symbols, "}, ",
          "from: {as: epoch-s}, to: {as: ", "epoch-s}}"
        ),
        "    columns: {symbol: /s, time: {at: /t, as: epoch-s}, close: /c}"
      )
    )
  }
  requests <- function(card, symbols) {
    nrow(
      plan_requests(
        query_bars(
          card, symbols, "1 hour", from = "2026-03-01", to = "2026-03-10"
        )
      )$requests
    )
  }
  expect_identical(requests(card(1), c("A", "B")), 6L)
  expect_identical(requests(card(2), c("A", "B")), 5L)
  expect_identical(requests(card(5), c("A", "B", "C", "D", "E")), 12L)
})

test_that("a total in a header as a range, and keys with a prefix", {
  answer <- function(n, request) {
    if (!identical(request$HTTP_AUTHORIZATION, "Token abc-123")) {
      return(json_answer(list(error = "who are you"), status = 401L))
    }
    from <- as.numeric(asked(request, "skip") %||% 0)
    json_answer(
      list(
        items = lapply(
          seq_len(min(3, 7 - from)) + from, function(i) list(n = i)
        )
      ),
      list("Content-Range" = paste0("items ", from, "-", from + 2, "/7"))
    )
  }
  withr::local_envvar(A_KEY = "abc-123")
  card <- write_card(
    start_scripted(answer),
    c(
      "request: /rows", "rows: /items",
      "next_page: {by: offset, send: skip, total: {header: Content-Range}}",
      "columns: {n: {at: /n, as: number}}"
    ),
    paste0(
      "access: {by: header, name: Authorization, prefix: \"Token \", ",
      "secret: A_KEY}"
    )
  )
  got <- collect_rows(card)
  expect_identical(got$rows$n, as.numeric(1:7))
  expect_identical(got$run$pages, 3)
})

test_that("symbols without rows are named if none are stored either", {
  answer <- function(n, request) {
    symbol <- basename(request$PATH_INFO)
    json_answer(list(
      items = if (symbol != "NONE" && n < 4) {
        list(list(t = 1773300600 + n, c = n))
      } else {
        list()
      }
    ))
  }
  card <- bars_card(
    start_scripted(answer),
    c(
      "datasets:", "  bars:", "    shape: bars", "    request: /b/{symbol}",
      "    rows: /items",
      "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
    )
  )
  archive <- new_archive()
  run <- function(symbols) {
    collect_run(
      plan_requests(
        query_bars(
          card, symbols, "1 minute", from = "2026-03-12", to = "2026-03-12"
        ),
        archive
      ),
      archive, progress = FALSE
    )
  }
  first <- run(c("KELD", "NONE"))
  expect_identical(first$empty, "NONE")
  expect_output(print(first), "no data for NONE")
  # KELD is stored, though this answer has no rows
  later <- run(c("KELD", "TAMX", "KELD2"))
  expect_identical(later$empty, "KELD2")
})

test_that("the command to retry names the keys of failed requests only", {
  answer <- function(n, request) {
    if (asked(request, "station") %in% c("b", "d")) {
      json_answer(list(error = "closed"), status = 404L)
    } else {
      json_answer(list(items = list(list(n = n))))
    }
  }
  folder <- withr::local_tempdir()
  desk_make(folder)
  writeLines(
    c(
      "source: gauge", paste0("url: ", start_scripted(answer)), "datasets:",
      "  levels:", "    shape: table", "    request: /l{?station}",
      "    rows: /items", "    columns: {n: {at: /n, as: number}}"
    ),
    file.path(folder, "sources", "gauge.yml")
  )
  out <- run_vetusta(
    "collect", "gauge", "levels", "station=a,b,c,d", folder = folder
  )
  expect_identical(out$status, 1L)
  expect_match(
    out$stderr, "vetusta collect gauge 'levels' 'station=b,d'", fixed = TRUE
  )
  wait <- run_vetusta(
    "collect", "gauge", "levels", "station=a", "--wait", "a while",
    folder = folder
  )
  expect_identical(wait$status, 2L)
  expect_match(wait$stderr, "length of time")
})
