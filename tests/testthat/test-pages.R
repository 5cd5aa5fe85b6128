columns <- c("rows: /items", "columns: {n: {at: /n, as: number}}")
# rows 1 to 7 in pages of three
slice <- function(from) {
  lapply(
    seq_len(7)[seq_len(7) > from & seq_len(7) <= from + 3],
    function(i) list(n = i)
  )
}

test_that("each way in which pages follow gives all rows once", {
  rules <- list(
    url = list("next_page: {by: url, at: /more}", function(n, request) {
      from <- as.numeric(asked(request, "from") %||% 0)
      json_answer(
        c(
          list(items = slice(from)),
          if (from < 6) list(more = paste0("rows?from=", from + 3))
        )
      )
    }),
    link = list("next_page: {by: link}", function(n, request) {
      from <- as.numeric(asked(request, "from") %||% 0)
      json_answer(
        list(items = slice(from)),
        if (from < 6) {
          list(
            Link = paste0(
              "</rows?from=0>; rel=\"first\", </rows?from=", from + 3,
              ">; rel=\"next\""
            )
          )
        }
      )
    }),
    cursor = list(
      "next_page: {by: cursor, at: /meta/after, send: after}",
      function(n, request) {
        from <- as.numeric(sub("c", "", asked(request, "after") %||% "c0"))
        json_answer(
          list(
            items = slice(from),
            meta = list(after = if (from < 6) paste0("c", from + 3))
          )
        )
      }
    ),
    page_pages = list(
      "next_page: {by: page, send: page, pages: /pages}",
      function(n, request) {
        page <- as.numeric(asked(request, "page") %||% 1)
        json_answer(list(items = slice((page - 1) * 3), pages = 3))
      }
    ),
    page_short = list(
      c("next_page: {by: page, send: page, first: 0}", "largest_page: 3"),
      function(n, request) {
        json_answer(
          list(items = slice(as.numeric(asked(request, "page") %||% 0) * 3))
        )
      }
    ),
    offset_total = list(
      "next_page: {by: offset, send: skip, total: /total}",
      function(n, request) {
        json_answer(
          list(
            items = slice(as.numeric(asked(request, "skip") %||% 0)),
            total = "7"
          )
        )
      }
    ),
    offset_empty = list(
      "next_page: {by: offset, send: skip}",
      function(n, request) {
        json_answer(
          list(items = slice(as.numeric(asked(request, "skip") %||% 0)))
        )
      }
    )
  )
  for (name in names(rules)) {
    url <- start_scripted(rules[[name]][[2]], env = environment())
    got <- collect_rows(
      write_card(
        url, c("request: /rows", rules[[name]][[1]], columns),
        env = environment()
      )
    )
    expect_identical(got$rows$n, as.numeric(1:7), label = name)
    expect_identical(nrow(got$run$failed), 0L, label = name)
    expect_lte(got$run$pages, 4)
  }
})

test_that("a page that repeats ends, and a total that lies is told", {
  again <- start_scripted(
    function(n, request) json_answer(list(items = slice(0), after = n)),
    env = environment()
  )
  got <- collect_rows(
    write_card(
      again, c("request: /rows", "next_page: {by: offset, send: skip}", columns)
    )
  )
  expect_identical(got$rows$n, as.numeric(1:3))
  same <- start_scripted(
    function(n, request) json_answer(list(items = slice(0))),
    env = environment()
  )
  got <- collect_rows(
    write_card(
      same, c("request: /rows", "next_page: {by: page, send: page}", columns)
    )
  )
  expect_identical(got$run$pages, 2)
  expect_match(archive_rejected(got$archive)$reason, "was repeated")
  lies <- start_scripted(
    function(n, request) {
      json_answer(
        list(
          items = slice(as.numeric(asked(request, "skip") %||% 0)),
          total = 100
        )
      )
    },
    env = environment()
  )
  got <- collect_rows(
    write_card(
      lies,
      c(
        "request: /rows", "next_page: {by: offset, send: skip, total: /total}",
        columns
      )
    )
  )
  expect_identical(nrow(got$rows), 7L)
  expect_match(
    archive_incomplete(got$archive)$reason,
    "the source's total is 100 rows, and 7 came"
  )
})

test_that("a run stops after some pages, and the next continues", {
  url <- start_scripted(
    function(n, request) {
      json_answer(
        list(
          items = slice(as.numeric(asked(request, "skip") %||% 0)),
          total = 7
        )
      )
    },
    env = environment()
  )
  card <- write_card(
    url,
    c(
      "request: /rows", "next_page: {by: offset, send: skip, total: /total}",
      columns
    )
  )
  archive <- new_archive()
  plan <- plan_requests(query_rows(source_card(card), "rows"), archive)
  expect_identical(
    collect_run(plan, archive, progress = FALSE, requests = 1)[
      c("pages", "left")
    ],
    list(pages = 1, left = 1)
  )
  rest <- collect_run(plan, archive, progress = FALSE)
  expect_identical(c(rest$pages, rest$new, rest$unchanged), c(2, 4, 0))
  expect_identical(archive_rows(archive, "test", "rows")$n, as.numeric(1:7))
})

test_that("pages are taken one by one, on demand", {
  url <- start_scripted(
    function(n, request) {
      json_answer(
        list(
          items = slice(as.numeric(asked(request, "skip") %||% 0)),
          total = 7,
          requests = n
        )
      )
    },
    env = environment()
  )
  card <- write_card(
    url,
    c(
      "request: /rows", "next_page: {by: offset, send: skip, total: /total}",
      "rows: /items", "columns: {n: {at: /n, as: number}}"
    )
  )
  following <- collect_pages(
    plan_requests(query_rows(source_card(card), "rows"))
  )
  expect_identical(following()$n, c(1, 2, 3))
  expect_identical(following()$n, c(4, 5, 6))
  expect_identical(following()$n, 7)
  expect_null(following())
  expect_null(following())
})

test_that("rows are decoded in each way in which APIs write them", {
  forms <- list(
    arrays = list(
      c(
        "rows: /d", "form: arrays",
        "columns: {t: {at: /0, as: epoch-s}, v: {at: /1, as: number}}"
      ),
      '{"d":[[10,"1.5"],[20,null]]}'
    ),
    columns = list(
      c(
        "rows: \"\"", "form: columns",
        paste0(
          "columns: {t: {at: /t, as: epoch-s}, v: {at: /v, as: number, ",
          "need: optional}}"
        )
      ),
      '{"t":[10,20],"v":[1.5,null],"note":"x"}'
    ),
    map = list(
      c(
        "rows: /m", "form: map",
        "columns: {t: {of: key, as: epoch-s}, v: {at: /v, as: number}}"
      ),
      '{"m":{"10":{"v":1.5},"20":{"v":null}}}'
    ),
    pairs = list(
      c(
        "rows: /m", "form: pairs",
        paste0(
          "columns: {t: {of: key, as: epoch-s}, v: {of: value, as: number, ",
          "need: optional}}"
        )
      ),
      '{"m":{"10":1.5,"20":null}}'
    ),
    csv = list(
      c(
        "format: csv",
        paste0(
          "columns: {t: {at: /T, as: epoch-s}, v: {at: /The Value, as: ",
          "number, need: optional}}"
        )
      ),
      "\ufeffT;The Value\r\n10;1.5\r\n\r\n20;N/A\r\n"
    ),
    percent = list(
      c(
        "rows: /d",
        paste0(
          "columns: {t: {at: /t, as: epoch-ms}, v: {at: /v, as: percent, ",
          "need: optional}}"
        )
      ),
      '{"d":[{"t":"10000","v":"+1.5%"},{"t":20000}]}'
    )
  )
  for (name in names(forms)) {
    body <- forms[[name]][[2]]
    url <- start_scripted(
      function(n, request) {
        list(status = 200L, headers = list(), body = body)
      },
      env = environment()
    )
    got <- collect_rows(
      write_card(
        url, c("request: /rows", forms[[name]][[1]]), env = environment()
      )
    )
    optional <- !name %in% c("arrays", "map")
    expect_identical(as.numeric(got$rows$t)[1], 10, label = name)
    expect_equal(got$rows$v, if (optional) c(1.5, NA) else 1.5, label = name)
    expect_identical(got$run$rejected, if (optional) 0 else 1, label = name)
  }
})

test_that("sides become rows, and unfinished bars are provisional", {
  answer <- paste0(
    '{"c":[{"t":"2026-03-12T10:00:00Z","end":true,"mid":{"x":"1.5"},',
    '"ask":{"x":"1.6"}},',
    '{"t":"2026-03-12T11:00:00Z","end":false,"mid":{"x":"1.7"},',
    '"ask":{"x":"1.8"}}]}'
  )
  url <- start_scripted(
    function(n, request) {
      list(
        status = 200L,
        headers = list(),
        body = if (n == 1) {
          answer
        } else {
          gsub("false", "true", gsub("1.7", "1.9", answer))
        }
      )
    },
    env = environment()
  )
  file <- withr::local_tempfile(fileext = ".yml")
  writeLines(
    c(
      "source: test", paste0("url: ", url), "datasets:", "  bars:",
      "    shape: bars", "    request: /c/{symbol}{?from,to}", "    rows: /c",
      "    sides: [mid, ask]",
      paste0(
        "    columns: {time: {at: /t, as: rfc3339}, close: ",
        "\"/{side}/x\", status: {at: /end, ",
        "words: {\"true\": observed, \"false\": provisional}}}"
      )
    ),
    file
  )
  archive <- new_archive()
  query <- query_bars(
    source_card(file), "KELD", "1 hour", from = "2026-03-12T10:00:00Z",
    to = "2026-03-12T12:00:00Z"
  )
  collect_run(plan_requests(query, archive), archive, progress = FALSE)
  bars <- archive_bars(archive, "KELD", "1 hour")
  expect_identical(bars$close[bars$side == "mid"], c(1.5, 1.7))
  expect_identical(
    bars$status[bars$side == "ask"], c("observed", "provisional")
  )
  again <- plan_requests(query, archive)
  expect_equal(again$requests$from, as.POSIXct("2026-03-12 11:00", tz = "UTC"))
  expect_identical(collect_run(again, archive, progress = FALSE)$changed, 2)
  expect_identical(archive_bars(archive, "KELD", "1 hour")$close[4], 1.9)
  expect_identical(nrow(plan_requests(query, archive)$requests), 0L)
})

test_that("an error body with status 200 fails with its message", {
  url <- start_scripted(
    function(n, request) {
      json_answer(
        list(
          fault = list(text = "quota of the moon is used up"),
          items = list()
        )
      )
    },
    env = environment()
  )
  got <- collect_rows(
    write_card(
      url, c("request: /rows", columns), extra = "problem: /fault/text"
    )
  )
  expect_match(got$run$failed$what, "quota of the moon")
})

test_that("shared requests for symbols, and windows cut at midnight", {
  file <- withr::local_tempfile(fileext = ".yml")
  url <- start_scripted(
    function(n, request) {
      symbols <- strsplit(asked(request, "codes"), ",")[[1]]
      json_answer(list(
        items = lapply(symbols, function(symbol) {
          list(
            s = symbol,
            t = as.numeric(asked(request, "from")),
            c = nchar(symbol)
          )
        })
      ))
    },
    env = environment()
  )
  writeLines(
    c(
      "source: test", paste0("url: ", url), "zone: Europe/Riga", "datasets:",
      "  bars:", "    shape: bars", "    request: /b{?codes,from,to}",
      "    rows: /items", "    widest: P2D",
      paste0(
        "    parameters: ",
        "{codes: {gives: symbols, join: \",\", a_request: 2}, from: ",
        "{as: epoch-s}, to: {as: ", "epoch-s}}"
      ),
      "    columns: {symbol: /s, time: {at: /t, as: epoch-s}, close: /c}"
    ),
    file
  )
  archive <- new_archive()
  plan <- plan_requests(
    query_bars(
      source_card(file), c("KELD", "TAMX", "OR"), "1 hour",
      from = "2026-03-28", to = "2026-03-31"
    ),
    archive
  )
  expect_identical(nrow(plan$requests), 4L)
  expect_identical(lengths(plan$requests$symbols), c(2L, 1L, 2L, 1L))
  expect_identical(
    format(plan$requests$from[3], "%Y-%m-%d %H:%M", tz = "Europe/Riga"),
    "2026-03-30 00:00"
  )
  run <- collect_run(plan, archive, progress = FALSE)
  expect_identical(c(run$pages, run$new), c(4, 6))
  expect_identical(archive_bars(archive, "OR", "1 hour")$close, c(2, 2))
  expect_identical(nrow(plan_requests(plan$query, archive)$requests), 0L)
})

test_that("paging by the newest time, ended by a flag", {
  days <- format(as.Date("2026-03-01") + 0:9)
  url <- start_scripted(
    function(n, request) {
      from <- asked(request, "since")
      json_answer(
        list(
          rows = lapply(
            utils::head(days[days >= from], 4),
            function(day) list(d = day, v = 1)
          )
        )
      )
    },
    env = environment()
  )
  card <- write_card(
    url,
    c(
      "request: /rows{?since}", "largest_page: 4", "rows: /rows",
      "parameters: {since: {gives: from, as: day}}",
      "next_page: {by: time, send: since}",
      paste0(
        "columns: {time: {at: /d, as: rfc3339, need: optional}, ",
        "period: {at: /d, as: day}, v: ", "{at: /v, as: number}}"
      )
    )
  )
  card_text <- sub(
    "time: [{]at: /d, as: rfc3339, need: optional[}], ", "", readLines(card)
  )
  writeLines(card_text, card)
  got <- collect_rows(card, from = "2026-03-01")
  expect_identical(nrow(got$rows), 10L)
  expect_lte(got$run$pages, 4)
  flagged <- start_scripted(function(n, request) {
    json_answer(
      list(items = list(list(n = n)), after = paste0("c", n), more = n < 3)
    )
  })
  got <- collect_rows(
    write_card(
      flagged,
      c(
        "request: /rows", "rows: /items",
        "next_page: {by: cursor, at: /after, send: after, more: /more}",
        "columns: {n: {at: /n, as: number}}"
      )
    )
  )
  expect_identical(got$rows$n, c(1, 2, 3))
})

test_that("columns from body members, joined members, dates, scales", {
  body <- paste0(
    '{"unit":"ORV","rows":[{"d":"12/03/2026","h":"09:30","p":"1.234,',
    '50","c":250}]}'
  )
  url <- start_scripted(
    function(n, request) list(status = 200L, headers = list(), body = body),
    env = environment()
  )
  got <- collect_rows(
    write_card(
      url,
      c(
        "request: /rows", "rows: /rows", "columns:",
        "  at: {at: [/d, /h], as: local, written: \"%d/%m/%Y %H:%M\"}",
        "  day: {at: /d, as: day, written: \"%d/%m/%Y\"}",
        "  price: {at: /p, as: number, decimal: \",\"}",
        "  cents: {at: /c, as: number, scale: 0.01}",
        "  unit: {at: /unit, of: body}"
      ) |>
        (\(x) ifelse(startsWith(x, "  "), paste0("    ", x), x))(),
      "zone: Europe/Riga"
    )
  )
  expect_identical(got$rows$at, as.POSIXct("2026-03-12 07:30", tz = "UTC"))
  expect_identical(as.character(got$rows$day), "2026-03-12")
  expect_identical(c(got$rows$price, got$rows$cents), c(1234.5, 2.5))
  expect_identical(got$rows$unit, "ORV")
})

test_that("a table with a bad line is refused, none is lost", {
  url <- start_scripted(function(n, request) {
    list(status = 200L, headers = list(), body = "t,v\n1,2\n3\n5,6\n")
  })
  got <- collect_rows(
    write_card(
      url,
      c(
        "request: /rows", "format: csv",
        "columns: {t: {at: /t, as: number}, v: {at: /v, as: number}}"
      )
    )
  )
  expect_identical(got$rows$t, c(1, 5))
  expect_identical(archive_rejected(got$archive)$place, "/1/v")
})
