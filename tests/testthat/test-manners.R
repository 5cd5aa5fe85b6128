# Services with their own habits, each covered by a card alone.
number_column <- "columns: {n: {at: /n, as: number}}"

test_that("cursor, page number and offset in a request's body", {
  sent <- function(request) {
    paste(request$rook.input$read_lines(), collapse = "")
  }
  rows <- function(from) {
    lapply(
      seq_len(7)[seq_len(7) > from & seq_len(7) <= from + 3],
      function(i) list(n = i)
    )
  }
  given <- function(body, pattern) as.numeric(sub(pattern, "\\1", body))
  rules <- list(
    cursor = list(
      c(
        "body: '{\"after\": \"{after}\", \"kind\": \"x\"}'",
        "next_page: {by: cursor, at: /after, send: after}"
      ),
      function(n, request) {
        body <- sent(request)
        from <- if (grepl("\"after\": null", body)) {
          0
        } else {
          given(body, ".*\"c([0-9]+)\".*")
        }
        json_answer(
          list(items = rows(from), after = if (from < 6) paste0("c", from + 3))
        )
      }
    ),
    page = list(
      c(
        "body: '{\"page\": {page}}'",
        "next_page: {by: page, send: page, pages: /pages}"
      ),
      function(n, request) {
        json_answer(
          list(
            items = rows((given(sent(request), ".*: ([0-9]+).*") - 1) * 3),
            pages = 3
          )
        )
      }
    ),
    offset = list(
      c(
        "body: '{\"skip\": {skip}}'",
        "next_page: {by: offset, send: skip, total: /total}"
      ),
      function(n, request) {
        json_answer(
          list(items = rows(given(sent(request), ".*: ([0-9]+).*")), total = 7)
        )
      }
    )
  )
  for (name in names(rules)) {
    environment(
      rules[[name]][[2]]
    ) <- list2env(
      list(sent = sent, rows = rows, given = given), parent = globalenv()
    )
    url <- start_scripted(rules[[name]][[2]], env = environment())
    got <- collect_rows(
      write_card(
        url,
        c(
          "method: POST", "request: /search", rules[[name]][[1]],
          "rows: /items", number_column
        ),
        env = environment()
      )
    )
    expect_identical(got$rows$n, as.numeric(1:7), label = name)
    expect_identical(got$run$pages, 3, label = name)
  }
})

test_that("what tells of pages may stand in headers", {
  slice <- function(from) {
    lapply(
      seq_len(7)[seq_len(7) > from & seq_len(7) <= from + 3],
      function(i) list(n = i)
    )
  }
  cursor <- start_scripted(function(n, request) {
    from <- as.numeric(asked(request, "after") %||% 0)
    json_answer(
      list(items = slice(from)),
      if (from < 6) list("X-Next-Cursor" = as.character(from + 3))
    )
  })
  got <- collect_rows(
    write_card(
      cursor,
      c(
        "request: /rows", "rows: /items",
        "next_page: {by: cursor, at: {header: X-Next-Cursor}, send: after}",
        number_column
      )
    )
  )
  expect_identical(got$rows$n, as.numeric(1:7))
  total <- start_scripted(function(n, request) {
    json_answer(
      list(items = slice(as.numeric(asked(request, "skip") %||% 0))),
      list("X-Total-Count" = "7")
    )
  })
  got <- collect_rows(
    write_card(
      total,
      c(
        "request: /rows", "rows: /items",
        "next_page: {by: offset, send: skip, total: {header: x-total-count}}",
        number_column
      )
    )
  )
  expect_identical(got$rows$n, as.numeric(1:7))
  expect_identical(got$run$pages, 3)
  following <- start_scripted(function(n, request) {
    from <- as.numeric(asked(request, "after") %||% 0)
    json_answer(
      list(items = slice(from)),
      if (from < 6) list("X-Next" = paste0("/rows?after=", from + 3))
    )
  })
  got <- collect_rows(
    write_card(
      following,
      c(
        "request: /rows", "rows: /items",
        "next_page: {by: url, at: {header: X-Next}}", number_column
      )
    )
  )
  expect_identical(got$rows$n, as.numeric(1:7))
})

test_that("a service with the newest rows first is read backwards", {
  times <- 1773266400 + 3600 * 0:19
  url <- start_scripted(function(n, request) {
    from <- as.numeric(asked(request, "from"))
    until <- as.numeric(asked(request, "until"))
    inside <- times[times >= from & times < until]
    json_answer(
      list(
        items = lapply(
          utils::tail(inside, 6), function(t) list(t = t, c = t %% 1000)
        )
      )
    )
  })
  card <- bars_card(
    url,
    c(
      "datasets:", "  bars:", "    shape: bars",
      "    request: /b/{symbol}{?from,until}", "    largest_page: 6",
      "    rows: /items",
      paste0(
        "    parameters: {from: {as: epoch-s}, until: {gives: to, as: ",
        "epoch-s}}"
      ),
      "    next_page: {by: time, send: until}",
      "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
    )
  )
  got <- collect_bars(
    card, "KELD", "1 hour", "2026-03-11T22:00:00Z", "2026-03-12T18:00:00Z"
  )
  expect_identical(as.numeric(got$bars$time), times)
  expect_identical(c(got$run$new, got$run$unchanged), c(20, 0))
  expect_lte(got$run$pages, 5)
  expect_identical(
    nrow(
      plan_requests(
        query_bars(
          card, "KELD", "1 hour", from = "2026-03-11T22:00:00Z",
          to = "2026-03-12T18:00:00Z"
        ),
        got$archive
      )$requests
    ),
    0L
  )
})

test_that("without pages a window is cut to the size of an answer", {
  url <- start_scripted(function(n, request) {
    from <- as.numeric(asked(request, "from"))
    t <- seq(
      ceiling(from / 3600) * 3600, as.numeric(asked(request, "to")) - 1,
      by = 3600
    )
    json_answer(
      list(items = lapply(utils::head(t, 5), function(t) list(t = t, c = 1)))
    )
  })
  lines <- function(most) {
    c(
      "datasets:", "  bars:", "    shape: bars",
      "    request: /b/{symbol}{?from,to}", paste0("    largest_page: ", most),
      "    rows: /items",
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
      "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
    )
  }
  whole <- bars_card(url, lines(5))
  expect_identical(
    nrow(
      plan_requests(
        query_bars(
          whole, "KELD", "1 hour", from = "2026-03-12", to = "2026-03-12"
        )
      )$requests
    ),
    5L
  )
  expect_identical(
    nrow(
      collect_bars(whole, "KELD", "1 hour", "2026-03-12", "2026-03-12")$bars
    ),
    24L
  )
  # half-hour bars are requested, but hourly bars arrive: nothing is missing,
  # and the plan cannot know
  full <- collect_bars(whole, "KELD", "4 hours", "2026-03-12", "2026-03-12")
  expect_match(
    archive_incomplete(full$archive)$reason, "some may be missing", all = FALSE
  )
  for (i in 1:6) {
    again <- collect_bars(
      whole, "KELD", "4 hours", "2026-03-12", "2026-03-12", full$archive
    )
  }
  expect_identical(nrow(again$bars), 24L)
  expect_identical(again$run$pages, 0)
})

test_that("the widest window may depend on the interval", {
  url <- start_scripted(function(n, request) {
    json_answer(
      list(items = list(list(t = as.numeric(asked(request, "from")), c = 1)))
    )
  })
  card <- bars_card(
    url,
    c(
      "datasets:", "  bars:", "    shape: bars",
      "    request: /b/{symbol}{?from,to}", "    rows: /items",
      "    widest: {1 hour: P2D, P1D: P30D}",
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
      "    columns: {time: {at: /t, as: epoch-s}, close: /c}", "  levels:",
      "    shape: table", "    request: /l/{station}{?from,to}",
      "    rows: /items", "    widest: P10D",
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
      "    columns: {t: {at: /t, as: number}}"
    )
  )
  requests <- function(interval) {
    nrow(
      plan_requests(
        query_bars(
          card, "KELD", interval, from = "2026-03-01", to = "2026-03-30"
        )
      )$requests
    )
  }
  expect_identical(
    c(requests("1 hour"), requests("1 day"), requests("5 minutes")),
    c(15L, 1L, 1L)
  )
  archive <- new_archive()
  plan <- plan_requests(
    query_rows(
      card, "levels", station = c("a", "b"), from = "2026-03-01",
      to = "2026-03-30"
    ),
    archive
  )
  expect_identical(nrow(plan$requests), 6L)
  expect_identical(collect_run(plan, archive, progress = FALSE)$new, 3)
  expect_identical(nrow(archive_rows(archive, "test", "levels")), 3L)
  expect_error_kind(
    bars_card(
      url,
      c(
        "datasets:", "  bars:", "    shape: table", "    request: /b",
        "    rows: \"\"", "    widest: {hourly bars: P2D}",
        "    columns: {a: /a}"
      )
    ),
    "card", "hourly bars"
  )
})

test_that("bars named by their end, and days named by midnight", {
  url <- start_scripted(function(n, request) {
    t <- seq(
      ceiling(as.numeric(asked(request, "from")) / 3600) * 3600,
      as.numeric(asked(request, "to")), by = 3600
    )
    json_answer(
      list(items = lapply(t, function(t) list(t = t, c = t %% 86400)))
    )
  })
  card <- bars_card(
    url,
    c(
      "datasets:", "  bars:", "    shape: bars",
      "    request: /b/{symbol}{?from,to}", "    rows: /items",
      "    bar_time: end",
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
      "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
    )
  )
  bars <- collect_bars(
    card, "KELD", "1 hour", "2026-03-12T08:00:00Z", "2026-03-12T12:00:00Z"
  )$bars
  expect_true(all(c(8:11) %in% as.POSIXlt(bars$time, tz = "UTC")$hour))
  expect_identical(
    bars$close[bars$time == as.POSIXct("2026-03-12 11:00", tz = "UTC")],
    12 * 3600
  )
  for (zone in c("UTC", "Europe/Riga")) {
    midnight <- as.numeric(
          as.POSIXct(
            c(
              "2026-03-12", "2026-03-13", "2026-03-16", "2026-03-30",
              "2026-03-31"
            ),
            tz = zone
          )
        ) *
        1000
    days <- start_scripted(
      function(n, request) {
        json_answer(
          list(items = lapply(midnight, function(t) list(t = t, c = 1)))
        )
      },
      env = environment()
    )
    card <- bars_card(
      days,
      c(
        "calendar: quay", "zone: Europe/Riga", "datasets:", "  bars:",
        "    shape: bars", "    request: /b/{symbol}{?from,to}",
        "    rows: /items",
        "    columns: {time: {at: /t, as: epoch-ms}, close: /c}"
      ),
      env = environment()
    )
    bars <- collect_bars(
      card, "KELD", "1 day", "2026-03-12", "2026-03-31", env = environment()
    )$bars
    expect_identical(
      format(bars$time, "%Y-%m-%d %H:%M", tz = "Europe/Riga"),
      paste(
        c("2026-03-12", "2026-03-13", "2026-03-16", "2026-03-30", "2026-03-31"),
        "09:30"
      ),
      label = zone
    )
    gaps <- attr(
      series_gaps(bars, source_calendar("quay"), interval = "1 day"), "summary"
    )
    expect_identical(gaps$present, 5L, label = zone)
  }
})

test_that("rows of several sides count once for an offset", {
  url <- start_scripted(function(n, request) {
    skip <- as.numeric(asked(request, "skip") %||% 0)
    at <- seq_len(5)[seq_len(5) > skip & seq_len(5) <= skip + 2]
    json_answer(list(
      items = lapply(at, function(i) {
        list(
          t = 1773300000 + 3600 * i, mid = list(c = i), ask = list(c = i + 0.5)
        )
      }),
      total = 5
    ))
  })
  card <- bars_card(
    url,
    c(
      "datasets:", "  bars:", "    shape: bars",
      "    request: /b/{symbol}{?from,to}", "    rows: /items",
      "    sides: [mid, ask]", "    largest_page: 2",
      "    next_page: {by: offset, send: skip, total: /total}",
      "    columns: {time: {at: /t, as: epoch-s}, close: \"/{side}/c\"}"
    )
  )
  got <- collect_bars(card, "KELD", "1 hour", "2026-03-12", "2026-03-12")
  expect_identical(sum(got$bars$side == "mid"), 5L)
  expect_identical(got$run$pages, 3)
})

test_that("a body may ask for a retry or refuse", {
  url <- start_scripted(function(n, request) {
    if (n == 1) {
      json_answer(list(state = "busy", words = "too many readers"))
    } else if (grepl("k=b", request$QUERY_STRING)) {
      json_answer(list(state = "unknown", words = "no such shelf"))
    } else {
      json_answer(list(state = "fine", items = list(list(n = 1))))
    }
  })
  got <- collect_rows(
    write_card(
      url, c("request: /rows{?k}", "rows: /items", number_column),
      "problem: {at: /state, fine: fine, again: [busy], text: /words}"
    ),
    k = c("a", "b")
  )
  expect_identical(got$rows$n, 1)
  expect_match(got$run$failed$what, "no such shelf")
  expect_match(got$journal$message[1], "too many readers")
})

test_that("a place that the service has forgotten is begun anew", {
  url <- start_scripted(function(n, request) {
    cursor <- asked(request, "after")
    if (n == 2) {
      return(
        list(status = 400L, headers = list(), body = "this cursor has run out")
      )
    }
    from <- as.numeric(cursor %||% 0)
    json_answer(
      list(
        items = lapply(from + 1:2, function(i) list(n = i)),
        after = if (from < 4) as.character(from + 2)
      )
    )
  })
  card <- write_card(
    url,
    c(
      "request: /rows", "rows: /items",
      "next_page: {by: cursor, at: /after, send: after}", number_column
    )
  )
  archive <- new_archive()
  plan <- plan_requests(query_rows(source_card(card), "rows"), archive)
  expect_identical(
    collect_run(plan, archive, progress = FALSE, requests = 1)$left, 1
  )
  run <- collect_run(plan, archive, progress = FALSE)
  expect_identical(nrow(run$failed), 0L)
  expect_identical(archive_rows(archive, "test", "rows")$n, as.numeric(1:6))
  expect_match(
    archive_journal(archive)$message, "not known any more", all = FALSE
  )
})

test_that("a service with nothing but errors ends the run early", {
  url <- start_scripted(function(n, request) {
    if (n <= 3) {
      json_answer(list(items = list(list(n = n))))
    } else {
      list(
        status = 503L,
        headers = list("Retry-After" = "0"),
        body = "closed for repairs"
      )
    }
  })
  archive <- new_archive()
  plan <- plan_requests(
    query_rows(
      source_card(
        write_card(url, c("request: /rows{?k}", "rows: /items", number_column))
      ),
      "rows", k = as.character(1:200)
    ),
    archive
  )
  expect_error_kind(
    collect_run(plan, archive, progress = FALSE), "network", "no usable answer"
  )
  expect_identical(nrow(archive_rows(archive, "test", "rows")), 3L)
  expect_lt(nrow(archive_journal(archive)), 40)
})

test_that("a changed answer ends the run, earlier rows stay", {
  url <- start_scripted(function(n, request) {
    json_answer(list(items = list(if (n <= 3) list(n = n) else list(m = n))))
  })
  archive <- new_archive()
  plan <- plan_requests(
    query_rows(
      source_card(
        write_card(url, c("request: /rows{?k}", "rows: /items", number_column))
      ),
      "rows", k = as.character(1:60)
    ),
    archive
  )
  expect_error_kind(
    collect_run(plan, archive, progress = FALSE), "payload", "/n"
  )
  expect_identical(nrow(archive_rows(archive, "test", "rows")), 3L)
  expect_lt(nrow(archive_journal(archive)), 40)
})

test_that("no data by status, empty body or missing member", {
  url <- start_scripted(function(n, request) {
    symbol <- basename(request$PATH_INFO)
    switch(symbol,
      NONE = json_answer(list(error = "no such"), status = 404L),
      BARE = list(
        status = 200L,
        headers = list("Content-Type" = "text/plain"),
        body = "\n"
      ),
      NULLS = json_answer('{"items": null}'),
      LESS = json_answer('{"ok": true}'),
      json_answer(list(items = list(list(t = 1773300600, c = 41.2))))
    )
  })
  lines <- c(
    "datasets:", "  bars:", "    shape: bars",
    "    request: /bars/{symbol}{?from,to}",
    "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
    "    rows: /items", "    nothing: [404, empty, absent]",
    "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
  )
  symbols <- c("NONE", "BARE", "NULLS", "LESS", "KELD")
  got <- collect_bars(
    bars_card(url, lines), symbols, "1 minute", "2026-03-12", "2026-03-13"
  )
  expect_identical(nrow(got$run$failed), 0L)
  expect_setequal(got$run$empty, symbols[1:4])
  # requested data that does not exist is not requested again
  again <- collect_bars(
    bars_card(url, lines), symbols, "1 minute", "2026-03-12", "2026-03-13",
    got$archive
  )
  expect_identical(again$run$pages, 0)
  plain <- collect_bars(
    bars_card(url, setdiff(lines, "    nothing: [404, empty, absent]")),
    symbols, "1 minute", "2026-03-12", "2026-03-13"
  )
  expect_setequal(plain$run$failed$symbol, symbols[1:4])
  expect_error_kind(
    bars_card(url, sub("\\[404.*", "[401]", lines)), "card",
    "cannot take \"401\" as .nothing"
  )
})

test_that("windows are widened to whole months where a service gives no less", {
  url <- start_scripted(function(n, request) {
    from <- asked(request, "from")
    to <- asked(request, "to")
    whole <- grepl("-01$", from) && format(as.Date(to) + 1, "%d") == "01"
    if (!whole) {
      return(json_answer(list(error = "whole months alone"), status = 400L))
    }
    days <- as.character(seq(as.Date(from), as.Date(to), by = 1))
    json_answer(list(items = lapply(days, function(day) list(d = day, c = 1))))
  })
  lines <- c(
    "datasets:", "  bars:", "    shape: bars",
    "    request: /bars/{symbol}{?from,to}", "    aligned: P1M",
    "    widest: P2M", "    parameters: {from: {as: day}, to: {as: day}}",
    "    rows: /items", "    columns: {time: {at: /d, as: day}, close: /c}"
  )
  got <- collect_bars(
    bars_card(url, lines), "KELD", "1 day", "2025-11-17", "2026-03-12"
  )
  expect_identical(nrow(got$run$failed), 0L)
  expect_identical(
    format(range(got$bars$time), "%Y-%m-%d"), c("2025-11-01", "2026-03-31")
  )
  asked <- sub(".*from=([0-9-]+)&to=([0-9-]+).*", "\\1 \\2", got$journal$url)
  expect_identical(
    sort(asked),
    c("2025-11-01 2025-12-31", "2026-01-01 2026-02-28", "2026-03-01 2026-03-31")
  )
  expect_error_kind(
    bars_card(url, sub("P1M", "PT1H", lines)), "card", "aligned"
  )
})

test_that("a file for each quarter is asked for by year and quarter, once", {
  url <- start_scripted(function(n, request) {
    json_answer(list(items = list(list(d = "2025-05-01", c = 1))))
  })
  lines <- c(
    "datasets:", "  bars:", "    shape: bars",
    "    request: /{year}/q{quarter}/{symbol}", "    widest: P3M",
    paste(
      "    parameters: {year: {gives: from, written: \"%Y\"},",
      "quarter: {gives: from, written: \"%q\"}}"
    ),
    "    rows: /items", "    columns: {time: {at: /d, as: day}, close: /c}"
  )
  got <- collect_bars(
    bars_card(url, lines), "KELD", "1 day", "2025-02-17", "2025-11-12"
  )
  expect_identical(
    sort(sub("^https?://[^/]*", "", got$journal$url)),
    paste0("/2025/q", 1:4, "/KELD")
  )
})

test_that("several Link headers, and limits with resets in any unit", {
  slice <- function(from) lapply(from + 1:2, function(i) list(n = i))
  url <- start_scripted(function(n, request) {
    from <- as.numeric(asked(request, "after") %||% 0)
    answer <- json_answer(list(items = slice(from)))
    answer$headers <- c(
      answer$headers, list(Link = "</about>; rel=\"describedby\""),
      if (from < 4) {
        list(Link = paste0("</rows?after=", from + 2, ">; rel=\"next\""))
      }
    )
    answer
  })
  got <- collect_rows(
    write_card(
      url,
      c(
        "request: /rows", "rows: /items", "next_page: {by: link}", number_column
      )
    )
  )
  expect_identical(got$rows$n, as.numeric(1:6))
  now <- 1773300600
  wait <- function(reset) {
    vetusta:::rate_limit_wait(
      list("x-ratelimit-remaining" = "0", "x-ratelimit-reset" = reset), now
    )
  }
  expect_identical(
    c(
      wait("30"), wait("1773300630"), wait("1773300630000"),
      wait("2026-03-12T07:30:30Z")
    ),
    rep(30, 4)
  )
})
