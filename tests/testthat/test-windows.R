# Windows and their pages: the window that a page covers, services without a
# parameter for one end of the window, and paging by the last row. A service of
# daily bars from `first` to `last`, in pages of ten, forward or backward in
# time, with the parameters that it knows.
day_server <- function(first, last, backward = FALSE, knows = c("from", "to"),
                       shuffled = FALSE, env = parent.frame()) {
  answer <- function(n, request) {
    days <- seq(as.Date(first), as.Date(last), by = 1)
    bound <- function(name, otherwise) {
      if (name %in% knows && !is.null(asked(request, name))) {
        as.Date(asked(request, name))
      } else {
        otherwise
      }
    }
    days <- days[
      days >= bound("from", as.Date(first)) & days <= bound("to", as.Date(last))
    ]
    if (backward) days <- rev(days)
    if (shuffled) days <- days[order((as.numeric(days) * 7919) %% 101)]
    at <- as.numeric(asked(request, "skip") %||% 0)
    page <- days[seq_along(days) > at & seq_along(days) <= at + 10]
    made <<- c(made, request$QUERY_STRING)
    if (request$PATH_INFO == "/made") {
      return(json_answer(list(made = made[-length(made)])))
    }
    json_answer(
      list(
        items = lapply(as.character(page), function(day) list(d = day, c = 40)),
        skip = if (at + 10 < length(days)) at + 10
      )
    )
  }
  environment(
    answer
  ) <- list2env(
    list(
      first = first, last = last, backward = backward, knows = knows,
      shuffled = shuffled, made = character()
    ),
    parent = globalenv()
  )
  start_scripted(answer, env = env)
}
day_card <- function(url, request = "/days{?from,to}",
                     pages = "{by: cursor, at: /skip, send: skip}",
                     extra = character()) {
  bars_card(
    url,
    c(
      extra, "datasets:", "  days:", "    shape: bars",
      paste0("    request: ", request), "    rows: /items",
      "    largest_page: 10", paste0("    next_page: ", pages),
      "    parameters: {from: {as: day}, to: {as: day}}",
      "    columns: {time: {at: /d, as: day}, close: /c}"
    )
  )
}
collect_days <- function(card, archive, ..., from = "2025-01-01",
                         to = "2025-12-31") {
  collect_run(
    plan_requests(
      query_bars(card, "KELD", "1 day", from = from, to = to), archive
    ),
    archive, progress = FALSE, ...
  )
}
days_of <- function(archive) {
  as.character(as.Date(archive_bars(archive, "KELD", "1 day")$time, tz = "UTC"))
}
made_by <- function(url) jsonlite::fromJSON(paste0(url, "/made"))$made

test_that("a stopped collection loses nothing, in any direction", {
  stretches <- list(
    c("2025-10-01", "2025-12-31"), c("2025-01-01", "2025-03-15"),
    c("2025-05-01", "2025-07-20"), c("2024-11-01", "2026-02-10"),
    c("2025-11-20", "2025-12-05")
  )
  for (stretch in stretches) {
    for (backward in c(FALSE, TRUE)) {
      label <- paste(c(stretch, if (backward) "backward"), collapse = " ")
      card <- day_card(
        day_server(stretch[1], stretch[2], backward, env = environment())
      )
      whole <- seq(
        max(as.Date(stretch[1]), as.Date("2025-01-01")),
        min(as.Date(stretch[2]), as.Date("2025-12-31")), by = 1
      )
      archive <- new_archive(environment())
      for (round in 1:60) {
        if (collect_days(card, archive, requests = 1)$left == 0) break
      }
      expect_lt(round, 60)
      expect_identical(days_of(archive), as.character(whole), label = label)
      # no row was received twice
      expect_identical(
        sum(archive_journal(archive)$rows), length(whole), label = label
      )
      expect_identical(
        nrow(
          plan_requests(
            query_bars(
              card, "KELD", "1 day", from = "2025-01-01", to = "2025-12-31"
            ),
            archive
          )$requests
        ),
        0L, label = label
      )
    }
  }
})

test_that("rows in no order of time cover nothing before the last page is in", {
  card <- day_card(day_server("2025-03-01", "2025-04-30", shuffled = TRUE))
  archive <- new_archive()
  collect_days(card, archive, requests = 2)
  expect_identical(nrow(vetusta:::store_covered(archive, "test", "days")), 0L)
  expect_identical(collect_days(card, archive)$left, 0)
  expect_identical(
    days_of(archive),
    as.character(seq(as.Date("2025-03-01"), as.Date("2025-04-30"), by = 1))
  )
})

test_that("a service without one end of the window is not overrun", {
  whole <- as.character(
    seq(as.Date("2025-06-01"), as.Date("2025-06-30"), by = 1)
  )
  cases <- list(
    list("no end", request = "/days{?from}", knows = "from", backward = FALSE),
    list("no beginning", request = "/days{?to}", knows = "to", backward = TRUE),
    list(
      "neither, newest first", request = "/days", knows = character(),
      backward = TRUE
    ),
    list(
      "neither, oldest first", request = "/days", knows = character(),
      backward = FALSE
    )
  )
  for (case in cases) {
    url <- day_server(
      "2025-01-01", "2025-12-31", case$backward, case$knows, env = environment()
    )
    card <- day_card(url, case$request)
    archive <- new_archive(environment())
    expect_identical(
      collect_days(card, archive, from = "2025-06-01", to = "2025-06-30")$left,
      0, label = case[[1]]
    )
    expect_true(all(whole %in% days_of(archive)), label = case[[1]])
    expect_lte(
      nrow(archive_journal(archive)), if (length(case$knows)) 4L else 23L
    )
    expect_identical(
      nrow(
        plan_requests(
          query_bars(
            card, "KELD", "1 day", from = "2025-06-01", to = "2025-06-30"
          ),
          archive
        )$requests
      ),
      0L, label = case[[1]]
    )
    # stopping after each page gives the same result
    archive <- new_archive(environment())
    for (round in 1:60) {
      if (collect_days(
          card, archive, from = "2025-06-01", to = "2025-06-30", requests = 1
        )$left ==
        0) {
        break
      }
    }
    expect_true(
      all(whole %in% days_of(archive)),
      label = paste(case[[1]], "in parts")
    )
    expect_identical(anyDuplicated(days_of(archive)), 0L)
  }
})

test_that("pages by time end with the window", {
  minutes_server <- function(env) {
    answer <- function(n, request) {
      at <- 1773300600 + 60 * (-500:900)
      since <- asked(request, "since")
      until <- asked(request, "until")
      # both are exclusive here
      at <- if (!is.null(since)) {
        utils::head(at[at > as.numeric(since)], 50)
      } else {
        rev(utils::tail(at[at < as.numeric(until)], 50))
      }
      json_answer(list(items = lapply(at, function(t) list(t = t, c = 1))))
    }
    environment(answer) <- globalenv()
    start_scripted(answer, env = env)
  }
  for (way in c("since", "until")) {
    url <- minutes_server(environment())
    card <- bars_card(
      url,
      c(
        "zone: UTC", "datasets:", "  minutes:", "    shape: bars",
        paste0("    request: /m{?", way, "}"), "    rows: /items",
        "    largest_page: 50",
        paste0("    next_page: {by: time, send: ", way, "}"),
        paste0(
          "    parameters: {", way, ": {gives: ",
          if (way == "since") "from" else "to",
          ", as: epoch-s, exclusive: true}}"
        ),
        "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
      ),
      env = environment()
    )
    got <- collect_bars(
      card, "KELD", "1 minute", "2026-03-12T07:30:00Z", "2026-03-12T12:30:00Z",
      env = environment()
    )
    inside <- got$bars$time >= as.POSIXct("2026-03-12 07:30", tz = "UTC") &
        got$bars$time < as.POSIXct("2026-03-12 12:30", tz = "UTC")
    expect_identical(sum(inside), 300L, label = way)
    expect_lte(nrow(got$journal), 8L)
    expect_identical(got$run$left, 0)
  }
})

test_that("a window's days are told as a service counts them", {
  told <- function(rule, from = "2026-03-28", to = "2026-03-29",
                   zone = "Europe/Riga") {
    card <- bars_card(
      "http://127.0.0.1:1",
      c(
        paste("zone:", zone), "datasets:", "  days:", "    shape: bars",
        "    request: /d{?from,to}", "    rows: /items",
        paste0("    parameters: {from: ", rule, ", to: ", rule, "}"),
        "    columns: {time: {at: /d, as: day}, close: /c}"
      )
    )
    query <- query_bars(card, "KELD", "1 day", from = from, to = to)
    values <- vetusta:::dataset_values(
      query$dataset,
      vetusta:::query_chain(query, plan_requests(query)$requests[1, ])$known,
      zone
    )
    c(values$from, values$to)
  }
  # the clocks of Riga change on 29 March
  expect_identical(told("{as: day}"), c("2026-03-28", "2026-03-29"))
  expect_identical(
    told("{as: day, exclusive: true}"), c("2026-03-27", "2026-03-30")
  )
  expect_identical(
    told("{as: day, exclusive: true, written: '%Y%m%d'}"),
    c("20260327", "20260330")
  )
  expect_identical(told("{as: epoch-s}"), c("1774648800", "1774818000"))
  expect_identical(
    told("{as: epoch-s, exclusive: true}"), c("1774648799", "1774818000")
  )
  expect_identical(
    told("{as: epoch-ms, exclusive: true}"), c("1774648799999", "1774818000000")
  )
  expect_identical(
    told("{as: epoch-ns, exclusive: true}"),
    c("1774648799999000000", "1774818000000000000")
  )
  expect_identical(
    told("{exclusive: true}"), c("2026-03-27T21:59:59Z", "2026-03-29T21:00:00Z")
  )
})

test_that("pages by a member of the last row, of any length", {
  answer <- function(n, request) {
    after <- asked(request, "after")
    at <- if (is.null(after)) 0 else as.numeric(substring(after, 17))
    rows <- setdiff(at + 1:3, 8:20)
    items <- paste0(
      '{"id":9007199254740993', rows, ',"n":', rows, "}", collapse = ","
    )
    list(
      status = 200L,
      headers = list(),
      body = paste0(
        '{"items":[', if (length(rows)) items, '], "more": ',
        tolower(length(rows) == 3), "}"
      )
    )
  }
  columns <- "columns: {n: {at: /n, as: number}, id: {at: /id, as: text}}"
  for (rule in c(
    "{by: last, at: /id, send: after}",
    "{by: last, at: /id, send: after, more: /more}"
  )) {
    got <- collect_rows(
      write_card(
        start_scripted(answer, env = environment()),
        c("request: /rows", "rows: /items", paste("next_page:", rule), columns),
        env = environment()
      ),
      env = environment()
    )
    expect_identical(sort(got$rows$n), as.numeric(1:7), label = rule)
    expect_identical(
      nrow(got$journal), if (grepl("more", rule)) 3L else 4L, label = rule
    )
  }
  lacking <- start_scripted(
    function(n, request) json_answer(list(items = list(list(n = 1))))
  )
  got <- collect_rows(
    write_card(
      lacking,
      c(
        "request: /rows{?k}", "rows: /items",
        "next_page: {by: last, at: /id, send: after}",
        "columns: {n: {at: /n, as: number}}"
      )
    ),
    k = "a"
  )
  expect_match(got$run$failed$what, "last row has no member /id")
  expect_error_kind(
    source_card(
      write_card(
        "http://127.0.0.1:1",
        c(
          "request: /rows", "rows: /items",
          "next_page: {by: last, at: {header: X-Id}, send: after}", columns
        )
      )
    ),
    "card", "cannot be in a header"
  )
  expect_error_kind(
    source_card(
      write_card(
        "http://127.0.0.1:1",
        c(
          "request: /rows", "rows: /items",
          "next_page: {by: last, send: after}", columns
        )
      )
    ),
    "card", "lack \"at\""
  )
})

test_that("maps within maps, and bodies that are forms", {
  body <- list(
    r = list(
      KELD = list(`2026-03-12` = list(n = 1), `2026-03-13` = list(n = 2)),
      TAMX = list(`2026-03-12` = list(n = 3))
    )
  )
  url <- start_scripted(
    function(n, request) json_answer(body), env = environment()
  )
  rows <- collect_rows(
    write_card(
      url,
      c(
        "request: /x", "rows: /r", "form: map", "within: {at: '', form: map}",
        paste0(
          "columns: {n: {at: /n, as: number}, day: {of: key}, who: {of: ",
          "outer-key}}"
        )
      )
    )
  )$rows
  expect_identical(rows[order(rows$n), ]$who, c("KELD", "KELD", "TAMX"))
  expect_identical(
    rows[order(rows$n), ]$day, c("2026-03-12", "2026-03-13", "2026-03-12")
  )
  body <- list(r = list(KELD = list(`2026-03-12` = 1.5, `2026-03-13` = 2.5)))
  url <- start_scripted(
    function(n, request) json_answer(body), env = environment()
  )
  rows <- collect_rows(
    write_card(
      url,
      c(
        "request: /x", "rows: /r", "form: map",
        "within: {at: '', form: pairs}",
        paste0(
          "columns: {n: {of: value, as: number}, day: {of: key}, who: {of: ",
          "outer-key}}"
        )
      )
    )
  )$rows
  expect_identical(sort(rows$n), c(1.5, 2.5))
  expect_identical(unique(rows$who), "KELD")
  echo <- start_scripted(function(n, request) {
    json_answer(
      list(
        items = list(
          list(
            said = rawToChar(request$rook.input$read()),
            as = request$CONTENT_TYPE
          )
        )
      )
    )
  })
  said <- function(extra) {
    collect_rows(
      write_card(
        echo,
        c(
          "method: POST", "request: /x", "body: 'k={k}'", "rows: /items",
          "columns: {said: /said, as: /as}"
        ),
        extra
      ),
      k = "a b&\"c"
    )$rows
  }
  expect_identical(
    said("headers: {content-type: application/x-www-form-urlencoded}")$said,
    "k=a%20b%26%22c"
  )
  expect_identical(said(character())$said, "k=a b&\\\"c")
})

test_that("an empty object in place of rows is no rows", {
  for (form in c("map", "columns", "pairs", "objects", "arrays")) {
    url <- start_scripted(function(n, request) {
      list(
        status = 200L,
        headers = list(),
        body = if (n == 1) '{"items": {}}' else '{"items": []}'
      )
    })
    columns <- if (form == "pairs") {
      "columns: {n: {of: value}}"
    } else {
      paste0("columns: {n: /", if (form == "arrays") "0" else "n", "}")
    }
    got <- collect_rows(
      write_card(
        url,
        c("request: /x{?k}", "rows: /items", paste("form:", form), columns),
        env = environment()
      ),
      k = c("a", "b"), env = environment()
    )
    expect_identical(
      c(nrow(got$run$failed), nrow(got$journal), sum(got$journal$rows)),
      c(0L, 2L, 0L), label = form
    )
  }
})

test_that("requests without a window are made once", {
  url <- day_server(
    "2025-04-01", "2025-06-15", backward = TRUE, knows = character()
  )
  card <- day_card(url, "/days")
  archive <- new_archive()
  collect_days(
    card, archive, from = "2025-03-01", to = "2025-07-31", requests = 1
  )
  plan <- plan_requests(
    query_bars(card, "KELD", "1 day", from = "2025-03-01", to = "2025-07-31"),
    archive
  )
  expect_identical(nrow(plan$requests), 1L)
  expect_identical(collect_run(plan, archive, progress = FALSE)$left, 0)
  expect_identical(nrow(archive_journal(archive)), 8L)
  expect_identical(nrow(plan_requests(plan$query, archive)$requests), 0L)
  # a service that returns its newest rows, whatever is requested: one request,
  # and a message about the missing rows
  latest <- bars_card(
    url,
    c(
      "datasets:", "  days:", "    shape: bars",
      "    request: /latest/{symbol}", "    rows: /items",
      "    largest_page: 10",
      "    columns: {time: {at: /d, as: day}, close: /c}"
    )
  )
  archive <- new_archive()
  plan <- plan_requests(
    query_bars(latest, "KELD", "1 day", from = "2025-03-01", to = "2025-07-31"),
    archive
  )
  expect_identical(nrow(plan$requests), 1L)
  collect_run(plan, archive, progress = FALSE)
  expect_identical(nrow(archive_journal(archive)), 1L)
  expect_match(
    archive_incomplete(archive)$reason, "the most that an answer can have",
    all = FALSE
  )
})
