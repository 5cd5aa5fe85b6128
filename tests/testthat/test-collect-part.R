# Partial answers (HTTP 206), and other ends that prove nothing.

part_card <- function(url, lines = character(), env = parent.frame()) {
  bars_card(
    url,
    c(
      "datasets:", "  bars:", "    shape: bars",
      "    request: /b/{symbol}{?from,to}", "    rows: /items", lines,
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
      "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
    ),
    env = env
  )
}

# A service that sends at most 60 bytes of its answer.
part_server <- function(ranges, env = parent.frame()) {
  answer <- function(n, request) {
    from <- as.numeric(asked(request, "from"))
    to <- as.numeric(asked(request, "to"))
    all <- 1773300600 + 3600 * 0:5
    rows <- all[all >= from & all < to]
    body <- paste0(
      "{\"items\":[",
      paste0("{\"t\":", rows, ",\"c\":", seq_along(rows), "}", collapse = ","),
      "]}"
    )
    if (!length(rows)) body <- "{\"items\":[]}"
    size <- nchar(body)
    asked_for <- if (ranges) request$HTTP_RANGE
    start <- if (length(asked_for)) {
      as.numeric(gsub("[^0-9]", "", asked_for))
    } else {
      0
    }
    if (size <= 60) return(list(status = 200L, headers = list(), body = body))
    end <- min(size, start + 60)
    list(
      status = 206L,
      headers = list(
        ETag = "\"one\"",
        `Content-Range` = paste0("bytes ", start, "-", end - 1, "/", size)
      ),
      body = substr(body, start + 1, end)
    )
  }
  environment(answer) <- list2env(list(ranges = ranges), parent = globalenv())
  start_scripted(answer, env = env)
}

test_that("the rest of an answer by Range, or by smaller requests", {
  for (ranges in c(TRUE, FALSE)) {
    got <- collect_bars(
      part_card(part_server(ranges)), "AA", "1 hour", "2026-03-12", "2026-03-12"
    )
    expect_identical(nrow(got$run$failed), 0L, label = ranges)
    expect_identical(as.numeric(got$bars$time), 1773300600 + 3600 * 0:5)
    expect_true((if (ranges) "part" else "cut") %in% got$journal$outcome)
    expect_identical(nrow(archive_incomplete(got$archive)), 0L)
  }
})

test_that("a range of rows below the total leaves the window open", {
  answer <- function(n, request) {
    json_answer(
      list(items = list(list(t = 1773300660, c = 1))),
      list(`Content-Range` = "items 0-0/5"), 206L
    )
  }
  got <- collect_bars(
    part_card(start_scripted(answer)), "AA", "1 minute", "2026-03-12",
    "2026-03-12"
  )
  expect_match(
    archive_incomplete(got$archive)$reason, "total is 5 rows, and 1 came"
  )
  whole <- function(n, request) {
    json_answer(
      list(items = list(list(t = 1773300660, c = 1))),
      list(`Content-Range` = "items 0-0/1"), 206L
    )
  }
  got <- collect_bars(
    part_card(start_scripted(whole)), "AA", "1 minute", "2026-03-12",
    "2026-03-12"
  )
  expect_identical(nrow(got$run$failed), 0L)
})

test_that("an error of our own fails one request, and the others are stored", {
  answer <- function(n, request) {
    json_answer(list(items = list(list(t = 1773300660, c = 1))))
  }
  source <- part_card(start_scripted(answer))
  original <- local_instead("bars_check", function(bars) {
    if (any(bars$symbol == "BB")) base::stop("a fault of the product")
    original(bars)
  })
  archive <- new_archive()
  got <- collect_bars(
    source, c("AA", "BB", "CC"), "1 minute", "2026-03-12", "2026-03-12", archive
  )
  expect_identical(got$run$failed$symbol, "BB")
  expect_match(got$run$failed$what, "internal error: a fault of the product")
  expect_identical(got$run$new, 2)
  expect_identical(archive_incomplete(archive)$label, "BB")
  local_instead("bars_check", original)
  got <- collect_bars(
    source, c("AA", "BB", "CC"), "1 minute", "2026-03-12", "2026-03-12", archive
  )
  expect_identical(c(got$run$pages, nrow(archive_incomplete(archive))), c(1, 0))
})

test_that("an export of which every row is rejected is not complete", {
  answer <- function(n, request) {
    path <- request$PATH_INFO
    if (grepl("^/ask", path)) {
      json_answer(list(ticket = "t1"))
    } else if (grepl("^/look", path)) {
      json_answer(list(state = "ready", link = "/file.csv"))
    } else {
      list(
        status = 200L, headers = list(),
        body = "day;close\n12/03/2026;1,5\n13/03/2026;2\n"
      )
    }
  }
  url <- start_scripted(answer)
  card <- function(column) {
    bars_card(
      url,
      c(
        "datasets:", "  bars:", "    shape: bars",
        "    request: /ask/{symbol}", "    method: POST", "    format: csv",
        "    table: {separator: \";\"}",
        paste(
          "    job: {ticket: /ticket, look: \"/look/{ticket}\", state: /state,",
          "ready: ready, link: /link}"
        ),
        paste0(
          "    columns: {time: {at: /day, as: day, written: ",
          "\"%d/%m/%Y\"}, close: {at: /close", column, "}}"
        )
      )
    )
  }
  archive <- new_archive()
  collect <- function(column) {
    collect_bars(
      card(column), "AA", "1 day", "2026-03-12", "2026-03-13", archive
    )
  }
  got <- collect(", scale: 1, missing: [\"1,5\", \"2\"]")
  expect_match(got$run$failed$what, "all 2 rows of page 1 were rejected")
  got <- collect(", decimal: \",\"")
  expect_identical(got$bars$close, c(1.5, 2))
  expect_identical(nrow(archive_incomplete(archive)), 0L)
})

test_that("a partial document is fetched to its end", {
  body <- paste(rep("abcdefghij", 20), collapse = "")
  answer <- function(n, request) {
    start <- as.numeric(gsub("[^0-9]", "", request$HTTP_RANGE %||% "0"))
    end <- min(200, start + 90)
    list(
      status = 206L,
      headers = list(
        ETag = "\"one\"",
        `Content-Range` = paste0("bytes ", start, "-", end - 1, "/200")
      ),
      body = substr(body, start + 1, end)
    )
  }
  environment(answer) <- list2env(list(body = body), parent = globalenv())
  card <- source_card(
    write_card(
      start_scripted(answer), c("request: /r", "rows: /d", "columns: {n: /n}")
    )
  )
  archive <- new_archive()
  folder <- withr::local_tempdir()
  fetch <- function(into) {
    collect_documents(
      card, data.frame(link = "/x.txt"), file.path(folder, into), archive,
      progress = FALSE
    )
  }
  expect_identical(fetch("a")$outcome, "fetched")
  expect_identical(
    readLines(
      list.files(file.path(folder, "a"), full.names = TRUE), warn = FALSE
    ),
    body
  )
  expect_identical(
    nrow(archive_documents(archive, "test", "filings", file.path(folder, "b"))),
    0L
  )
  expect_identical(fetch("b")$outcome, "fetched")
  for (into in c("a", "b")) {
    expect_identical(
      archive_documents(
        archive, "test", "filings", file.path(folder, into)
      )$state,
      "whole"
    )
  }
})

test_that("a plan says at least where the pages are unknown", {
  paged <- "    next_page: {by: offset, send: skip}"
  shown <- function(lines) {
    source <- part_card("http://127.0.0.1:1", lines)
    paste(
      capture.output(
        print(
          plan_requests(
            query_bars(
              source, "AA", "1 minute", from = "2026-03-12", to = "2026-03-12"
            )
          )
        )
      ),
      collapse = "\n"
    )
  }
  expect_match(shown(paged), "requests  at least 1 for 1 symbol")
  expect_match(
    shown(c(paged, "    largest_page: 100")), "requests  15 for 1 symbol"
  )
})
