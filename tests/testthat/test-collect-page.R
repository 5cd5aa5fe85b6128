minute_row <- function(i) {
  list(t = 1773300600 + 60 * i, o = 41, h = 42, l = 40, c = 41 + i / 10, v = 10)
}
bars_lines <- function(extra = character(),
                       columns = paste0(
                         "{time: {at: /t, as: epoch-s}, open: /o, high: ",
                         "/h, low: /l, close: /c}"
                       )) {
  c(
    "datasets:", "  bars:", "    shape: bars",
    "    request: /bars/{symbol}{?from,to}",
    "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
    paste0("    ", extra), paste0("    columns: ", columns)
  )
}

test_that("several Link headers are read as one", {
  url <- start_scripted(function(n, request) {
    at <- as.numeric(asked(request, "page") %||% 1)
    rows <- lapply(1:3 + (at - 1) * 3, function(i) list(id = i))
    answer <- json_answer(rows)
    links <- list(Link = paste0("</rows?page=1>; rel=\"first\""))
    if (at < 3) {
      links <- c(
        links, list(Link = paste0("</rows?page=", at + 1, ">; rel=\"next\""))
      )
    }
    answer$headers <- c(answer$headers, links)
    answer
  })
  got <- collect_rows(
    write_card(
      url,
      c(
        "request: /rows", "rows: \"\"", "next_page: {by: link}",
        "columns: {id: /id}"
      )
    )
  )
  expect_identical(nrow(got$rows), 9L)
})

test_that("empty pages in the middle and short pages lose no rows", {
  empty <- start_scripted(function(n, request) {
    at <- as.numeric(asked(request, "page") %||% 1)
    rows <- if (at == 3) {
      list()
    } else {
      lapply(1:100 + (at - 1) * 100, function(i) list(id = i))
    }
    json_answer(list(items = rows, pages = 10))
  })
  got <- collect_rows(
    write_card(
      empty,
      c(
        "request: /rows", "rows: /items",
        "next_page: {by: page, send: page, pages: /pages}", "columns: {id: /id}"
      )
    )
  )
  expect_identical(nrow(got$rows), 900L)
  expect_match(
    archive_incomplete(got$archive)$reason,
    "page 3, which the source announced, has no rows"
  )
  for (paging in c("{by: page, send: page}", "{by: offset, send: offset}")) {
    capped <- start_scripted(function(n, request) {
      start <- if (!is.null(asked(request, "page"))) {
        (as.numeric(asked(request, "page")) - 1) * 100
      } else {
        as.numeric(asked(request, "offset") %||% 0)
      }
      json_answer(
        list(
          items = lapply(
            seq_len(max(0, min(100, 1000 - start))) + start,
            function(i) list(id = i)
          )
        )
      )
    })
    got <- collect_rows(
      write_card(
        capped,
        c(
          "request: /rows", "rows: /items", "largest_page: 500",
          paste("next_page:", paging), "columns: {id: /id}"
        )
      )
    )
    expect_identical(nrow(got$rows), 1000L, label = paging)
  }
  told <- start_scripted(function(n, request) {
    json_answer(list(
      items = if (n < 3) {
        lapply(1:10 + n * 10, function(i) list(id = i))
      } else {
        list()
      },
      total = 500
    ))
  })
  got <- collect_rows(
    write_card(
      told,
      c(
        "request: /rows", "rows: /items",
        "next_page: {by: offset, send: offset, total: /total}",
        "columns: {id: /id}"
      )
    )
  )
  expect_match(
    archive_incomplete(got$archive)$reason,
    "the source's total is 500 rows, and 20 came"
  )
})

test_that("HTTP 202 without rows is asked again, after as long as it says", {
  url <- start_scripted(function(n, request) {
    if (n < 3) {
      return(
        list(
          status = 202L,
          headers = list(
            "Content-Type" = "application/json", "Retry-After" = "1"
          ),
          body = if (n == 1) "" else "{\"items\":[]}"
        )
      )
    }
    json_answer(list(items = list(list(id = 1))))
  })
  began <- Sys.time()
  got <- collect_rows(
    write_card(url, c("request: /rows", "rows: /items", "columns: {id: /id}"))
  )
  expect_identical(nrow(got$rows), 1L)
  expect_identical(got$journal$outcome, c("retried", "retried", "stored"))
  expect_gte(as.numeric(Sys.time() - began, units = "secs"), 2)
})

test_that("words for success decide whether a body is an error", {
  card <- function(problem, answer) {
    url <- start_scripted(
      eval(bquote(function(n, request) {
        list(
          status = 200L,
          headers = list("Content-Type" = "application/json"),
          body = .(answer)
        )
      })),
      env = parent.frame()
    )
    file <- write_card(
      url,
      c("request: /rows", "rows: /items", "columns: {id: /id}"),
      extra = paste("problem:", problem),
      env = parent.frame()
    )
    collect_rows(file)
  }
  for (said in c("false", "0", "\"\"", "\"no\"")) {
    got <- card(
      "{at: /ok, fine: [\"true\"]}", paste0("{\"ok\":", said, ",\"items\":[]}")
    )
    expect_identical(nrow(got$run$failed), 1L, label = said)
    # an answer that stays the same is requested once
    expect_identical(nrow(got$journal), 1L, label = said)
  }
  for (fine in c("[true]", "[\"true\"]", "[\"TRUE\", 1]")) {
    expect_identical(
      nrow(
        card(
          paste0("{at: /ok, fine: ", fine, "}"),
          "{\"ok\":true,\"items\":[{\"id\":1}]}"
        )$rows
      ),
      1L, label = fine
    )
  }
  expect_identical(
    nrow(
      card(
        "{at: /code, fine: [0, 200]}", "{\"code\":0,\"items\":[{\"id\":1}]}"
      )$rows
    ),
    1L
  )
  for (none in c("[]", "{}", "null", "\"\"")) {
    expect_identical(
      nrow(
        card(
          "/errors", paste0("{\"errors\":", none, ",\"items\":[{\"id\":1}]}")
        )$rows
      ),
      1L, label = none
    )
  }
  expect_identical(
    nrow(card("/errors", "{\"errors\":[\"bad\"],\"items\":[]}")$run$failed), 1L
  )
})

test_that("paging ends at a self link, a 404, or a foreign link", {
  self <- start_scripted(function(n, request) {
    at <- asked(request, "after") %||% "0"
    json_answer(
      list(
        items = lapply(1:2, function(i) list(id = paste0(at, i))),
        after = if (at == "0") "a" else "a"
      )
    )
  })
  got <- collect_rows(
    write_card(
      self,
      c(
        "request: /rows", "rows: /items",
        "next_page: {by: cursor, at: /after, send: after}", "columns: {id: /id}"
      )
    )
  )
  expect_identical(sort(got$rows$id), c("01", "02", "a1", "a2"))
  expect_identical(nrow(got$run$failed), 0L)
  beyond <- start_scripted(function(n, request) {
    at <- as.numeric(asked(request, "page") %||% 1)
    if (at > 3) {
      json_answer(list(error = "no such page"), status = 404L)
    } else {
      json_answer(list(items = lapply(1:2, function(i) list(id = at * 10 + i))))
    }
  })
  got <- collect_rows(
    write_card(
      beyond,
      c(
        "request: /rows", "rows: /items", "next_page: {by: page, send: page}",
        "columns: {id: /id}"
      )
    )
  )
  expect_identical(nrow(got$rows), 6L)
  expect_identical(nrow(got$run$failed), 0L)
  # a missing page is requested once more
  expect_identical(
    archive_journal(got$archive)$outcome, c(rep("stored", 3), "retried", "end")
  )
  elsewhere <- start_scripted(function(n, request) {
    json_answer(
      list(items = list(list(id = 1)), more = "http://127.0.0.1:9/rows")
    )
  })
  got <- collect_rows(
    write_card(
      elsewhere,
      c(
        "request: /rows", "rows: /items", "next_page: {by: url, at: /more}",
        "columns: {id: /id}"
      )
    )
  )
  expect_identical(nrow(got$rows), 1L)
  expect_match(got$run$failed$what, "another place")
})

test_that("columns of empty arrays are an answer without rows", {
  one <- start_scripted(function(n, request) json_answer("{\"t\":[],\"c\":[]}"))
  source <- bars_card(
    one,
    bars_lines(
      c("rows: \"\"", "form: columns"),
      "{time: {at: /t, as: epoch-s}, close: /c}"
    )
  )
  got <- collect_bars(source, "KELD", "1 minute", "2026-03-12", "2026-03-12")
  expect_identical(c(nrow(got$run$failed), length(got$run$empty)), c(0L, 1L))
  four <- start_scripted(function(n, request) {
    json_answer(
      paste0(
        "{\"A\":{\"t\":[1773300600],\"c\":[1]},\"B\":{\"t\":[],\"c\":[]},",
        "\"C\":{\"t\":[1773300600],\"c\":[3]},\"D\":{\"t\":[1773300600,",
        "1773300660],\"c\":[4,5]}}"
      )
    )
  })
  lines <- c(
    "datasets:", "  bars:", "    shape: bars",
    "    request: /bars{?symbols,from,to}",
    paste0(
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}, ",
      "symbols: {join: \",\", a_request: 10}}"
    ),
    "    rows: \"\"", "    form: map", "    within: {at: \"\", form: columns}",
    "    columns: {symbol: {of: key}, time: {at: /t, as: epoch-s}, close: /c}"
  )
  got <- collect_bars(
    bars_card(four, lines), c("A", "B", "C", "D"), "1 minute", "2026-03-12",
    "2026-03-12"
  )
  expect_identical(nrow(got$run$failed), 0L)
  expect_identical(got$run$new, 4)
  expect_identical(got$run$empty, "B")
})

test_that("raw pages are read again in the way in which they were collected", {
  url <- start_scripted(
    function(n, request) json_answer(list(items = lapply(1:5, minute_row)))
  )
  source <- bars_card(url, bars_lines(c("rows: /items", "bar_time: end")))
  got <- collect_bars(
    source, "KELD", "1 minute", "2026-03-12", "2026-03-12", raw = TRUE
  )
  run <- collect_reparse(source, "bars", got$archive)
  expect_identical(c(run$new, run$changed, run$unchanged), c(0, 0, 5))
  expect_identical(archive_bars(got$archive, "KELD", "1 minute"), got$bars)
})

test_that("monthly files are requested by month", {
  url <- start_scripted(function(n, request) {
    month <- sub("^/([0-9]{4})/([0-9]{2})/.*", "\\1-\\2-01", request$PATH_INFO)
    days <- seq(as.Date(month), by = "day", length.out = 28)
    list(
      status = 200L,
      headers = list("Content-Type" = "text/csv"),
      body = paste(
        c("day,close", paste0(days, ",", seq_along(days))), collapse = "\n"
      )
    )
  })
  source <- bars_card(
    url,
    c(
      "datasets:", "  bars:", "    shape: bars",
      "    request: /{year}/{month}/{symbol}.csv", "    format: csv",
      "    widest: P1M",
      paste0(
        "    parameters: {year: {gives: from, written: \"%Y\"}, month: ",
        "{gives: from, written: \"%m\"}}"
      ),
      "    columns: {time: {at: /day, as: day}, close: /close}"
    )
  )
  got <- collect_bars(source, "KELD", "1 day", "2026-01-25", "2026-03-10")
  expect_identical(
    sub(".*/2026/([0-9]+)/.*", "\\1", got$journal$url), c("01", "02", "03")
  )
  expect_true(as.POSIXct("2026-03-10", tz = "UTC") %in% got$bars$time)
})

test_that("repeated hours, and two different rows with one time", {
  local <- function(at) format(at, "%Y-%m-%dT%H:%M:%S", tz = "Europe/Riga")
  at <- as.POSIXct("2026-10-24 23:00", tz = "UTC") + 600 * 0:29
  for (order in list(seq_along(at), rev(seq_along(at)))) {
    url <- start_scripted(
      eval(bquote(function(n, request) {
        json_answer(
          list(
            items = Map(
              function(t, c) list(t = t, c = c), .(local(at)[order]), .(order)
            ) |>
              unname()
          )
        )
      })),
      env = environment()
    )
    source <- bars_card(
      url,
      c(
        "zone: Europe/Riga",
        bars_lines("rows: /items", "{time: {at: /t, as: local}, close: /c}")
      )
    )
    got <- collect_bars(
      source, "KELD", "10 minutes", "2026-10-24", "2026-10-26"
    )
    expect_identical(got$bars$time, at)
    expect_identical(got$bars$close, as.double(seq_along(at)))
  }
  twice <- start_scripted(function(n, request) {
    json_answer(
      list(
        items = list(
          list(t = 1773300600, c = 1), list(t = 1773300600, c = 2),
          list(t = 1773300660, c = 3), list(t = 1773300660, c = 3)
        )
      )
    )
  })
  got <- collect_bars(
    bars_card(
      twice,
      bars_lines("rows: /items", "{time: {at: /t, as: epoch-s}, close: /c}")
    ),
    "KELD", "1 minute", "2026-03-12", "2026-03-12"
  )
  expect_identical(got$bars$close, c(2, 3))
  expect_match(
    archive_rejected(got$archive)$reason, "another row of this time differs"
  )
})

test_that("a time pattern must match the whole text", {
  read <- function(value, written, type = "local") {
    vetusta:::read_written(value, type, "UTC", written)
  }
  expect_true(is.na(read("2026-03-12 02:15 PM", "%Y-%m-%d %H:%M")))
  expect_true(is.na(read("2026-03-12T02:15:00+05:00", "%Y-%m-%dT%H:%M:%S")))
  expect_true(is.na(read("20260312 130", "%Y%m%d %H%M")))
  expect_true(is.na(read(2026312, "%Y%m%d", "day")))
  expect_identical(read("3/2/2026", "%d/%m/%Y", "day"), as.Date("2026-02-03"))
  expect_identical(
    read("20260312 0130", "%Y%m%d %H%M"),
    as.POSIXct("2026-03-12 01:30", tz = "UTC")
  )
  expect_identical(
    read("12 Mar 2026", "%d %b %Y", "day"), as.Date("2026-03-12")
  )
})

test_that("requests of many symbols or sessions are made once", {
  url <- start_scripted(function(n, request) json_answer(list(items = list())))
  source <- bars_card(
    url,
    c(
      "datasets:", "  bars:", "    shape: bars",
      "    request: /bars{?symbols,from,to}",
      paste0(
        "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}, ",
        "symbols: {join: \",\", a_request: 2000}}"
      ),
      "    rows: /items",
      "    columns: {symbol: /s, time: {at: /t, as: epoch-s}, close: /c}"
    )
  )
  symbols <- sprintf("SYMBOL%04d", 1:1500)
  got <- collect_bars(source, symbols, "1 minute", "2026-03-12", "2026-03-12")
  expect_identical(length(got$run$empty), 1500L)
  expect_identical(nrow(got$journal), 1L)
})

test_that("a daily bar belongs to its trading day", {
  for (stamp in c(
    "16:00:00+02:00", "00:00:00Z", "00:00:00+02:00", "18:30:00+02:00"
  )) {
    url <- start_scripted(
      eval(bquote(function(n, request) {
        json_answer(list(
          items = lapply(11:13, function(d) {
            list(t = paste0("2026-03-", d, "T", .(stamp)), c = d)
          })
        ))
      })),
      env = environment()
    )
    source <- bars_card(
      url,
      c(
        "zone: Europe/Riga", "calendar: quay",
        bars_lines("rows: /items", "{time: {at: /t, as: rfc3339}, close: /c}")
      )
    )
    got <- collect_bars(source, "KELD", "1 day", "2026-03-11", "2026-03-13")
    expect_identical(
      got$bars$time,
      calendar_times(
        source_calendar("quay"), "1 day", "2026-03-11", "2026-03-13"
      ),
      label = stamp
    )
  }
  closes <- start_scripted(function(n, request) {
    json_answer(list(
      items = lapply(11:13, function(d) {
        list(t = paste0("2026-03-", d, "T16:00:00+02:00"), c = d)
      })
    ))
  })
  source <- bars_card(
    closes,
    c(
      "zone: Europe/Riga", "calendar: quay",
      bars_lines(
        c("rows: /items", "bar_time: end"),
        "{time: {at: /t, as: rfc3339}, close: /c}"
      )
    )
  )
  expect_identical(
    collect_bars(
      source, "KELD", "1 day", "2026-03-11", "2026-03-13"
    )$bars$close,
    c(11, 12, 13)
  )
})

test_that("a bar without a time is rejected, others are stored", {
  url <- start_scripted(function(n, request) {
    json_answer(
      list(
        items = list(
          list(t = 1773300600, c = 1), list(t = NULL, c = 2),
          list(t = 1773300720, c = 3)
        )
      )
    )
  })
  card <- bars_card(
    url,
    c(
      "datasets:", "  bars:", "    shape: bars",
      "    request: /bars/{symbol}{?from,to}", "    rows: /items",
      "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
    )
  )
  got <- collect_bars(card, "KELD", "1 minute", "2026-03-12", "2026-03-13")
  expect_identical(got$bars$close, c(1, 3))
  expect_identical(got$run$rejected, 1)
  expect_identical(archive_rejected(got$archive)$place, "/items/1/t")
})
