# A window is complete only where the answers prove it, see docs/faults.md.

proof_columns <- c("rows: /items", "columns: {n: {at: /n, as: number}}")
proof_slice <- function(from, last = 7, size = 3) {
  all <- seq_len(last)
  lapply(all[all > from & all <= from + size], function(i) list(n = i))
}
skip_of <- function(request) as.numeric(asked(request, "skip") %||% 0)

# A server that answers with `lie(request)` until the file `honest` exists, and
# then with `truth(request)`; returns the results before and after.
collect_twice <- function(lie, truth, lines, env = parent.frame()) {
  honest <- withr::local_tempfile(.local_envir = env)
  answer <- function(n, request) {
    if (file.exists(honest)) truth(request) else lie(request)
  }
  environment(
    answer
  ) <- list2env(
    list(honest = honest, lie = lie, truth = truth), parent = globalenv()
  )
  for (name in c("asked", "json_answer", "proof_slice", "skip_of")) {
    assign(name, get(name), envir = environment(answer))
  }
  for (f in c("lie", "truth")) {
    environment(environment(answer)[[f]]) <- environment(answer)
  }
  card <- write_card(
    start_scripted(answer, env = env), c("request: /rows", lines), env = env
  )
  archive <- new_archive(env)
  first <- collect_rows(card, archive, env = env)
  open <- archive_incomplete(archive)
  plan <- capture.output(
    print(plan_requests(query_rows(source_card(card), "rows"), archive))
  )
  file.create(honest)
  second <- collect_rows(card, archive, env = env)
  list(
    first = first,
    open = open,
    plan = plan,
    second = second,
    still = archive_incomplete(archive),
    card = card,
    archive = archive
  )
}

expect_settled <- function(got, reason, rows = 7) {
  expect_identical(nrow(got$open), 1L)
  expect_match(got$open$reason, reason)
  expect_match(got$first$run$failed$what, reason)
  expect_identical(got$first$run$failed$outcome, "incomplete")
  expect_length(got$first$run$empty, 0)
  expect_match(paste(got$plan, collapse = "\n"), "open ")
  expect_identical(nrow(got$second$run$failed), 0L)
  expect_identical(got$second$rows$n, as.numeric(seq_len(rows)))
  expect_identical(nrow(got$still), 0L)
  done <- capture.output(
    print(plan_requests(query_rows(source_card(got$card), "rows"), got$archive))
  )
  invisible(done)
}

offset_total <- c(
  "next_page: {by: offset, send: skip, total: /total}", proof_columns
)
tell <- function(request, total = 7) {
  json_answer(list(items = proof_slice(skip_of(request)), total = total))
}
truth <- function(request) {
  json_answer(list(items = proof_slice(skip_of(request)), total = 7))
}

test_that("fewer rows than the total leave the window open", {
  got <- collect_twice(
    function(request) {
      json_answer(list(items = proof_slice(skip_of(request)), total = 100))
    },
    truth, offset_total
  )
  expect_settled(got, "the source's total is 100 rows, and 7 came")
})

test_that("an empty page below the total is retried, then left open", {
  got <- collect_twice(
    function(request) {
      json_answer(list(
        items = if (skip_of(request) == 3) {
          list()
        } else {
          proof_slice(skip_of(request))
        },
        total = 7
      ))
    },
    truth, offset_total
  )
  expect_settled(got, "the source's total is 7 rows, and 3 came")
  expect_identical(sum(got$first$journal$outcome == "retried"), 2L)
})

test_that("an announced page that is answered 404 leaves the window open", {
  got <- collect_twice(
    function(request) {
      if (skip_of(request) == 3) {
        json_answer("gone", status = 404L)
      } else {
        json_answer(list(items = proof_slice(skip_of(request)), total = 7))
      }
    },
    truth, offset_total
  )
  expect_settled(
    got, "page 2, which the source announced, is not there: HTTP 404"
  )
  cursor <- c("next_page: {by: cursor, at: /after, send: skip}", proof_columns)
  by_cursor <- function(request) {
    from <- skip_of(request)
    json_answer(
      c(list(items = proof_slice(from)), if (from < 6) list(after = from + 3))
    )
  }
  got <- collect_twice(
    function(request) {
      from <- skip_of(request)
      if (from == 6) {
        json_answer("gone", status = 410L)
      } else {
        json_answer(
          c(
            list(items = proof_slice(from)),
            if (from < 6) list(after = from + 3)
          )
        )
      }
    },
    by_cursor, cursor
  )
  expect_settled(
    got, "page 3, which the source announced, is not there: HTTP 410"
  )
})

test_that("a page count that is not reached leaves the window open", {
  got <- collect_twice(
    function(request) {
      page <- as.numeric(asked(request, "page") %||% 1)
      json_answer(
        list(
          items = if (page < 3) proof_slice((page - 1) * 3) else list(),
          pages = 3
        )
      )
    },
    function(request) {
      page <- as.numeric(asked(request, "page") %||% 1)
      json_answer(list(items = proof_slice((page - 1) * 3), pages = 3))
    },
    c(
      "next_page: {by: page, send: page, pages: /pages}", "largest_page: 3",
      proof_columns
    )
  )
  expect_match(
    got$open$reason, "page 3, which the source announced, has no rows"
  )
  expect_identical(got$second$rows$n, as.numeric(1:7))
})

test_that("a next URL that may not be followed leaves the window open", {
  lines <- c("next_page: {by: url, at: /more}", proof_columns)
  got <- collect_twice(
    function(request) {
      json_answer(
        list(
          items = proof_slice(0), more = "http://elsewhere.invalid/rows?skip=3"
        )
      )
    },
    function(request) {
      from <- skip_of(request)
      json_answer(
        c(
          list(items = proof_slice(from)),
          if (from < 6) list(more = paste0("rows?skip=", from + 3))
        )
      )
    },
    lines
  )
  expect_settled(got, "leads to another place")
  got <- collect_twice(
    function(request) {
      json_answer(list(items = proof_slice(0), more = "file:///etc/hostname"))
    },
    function(request) json_answer(list(items = proof_slice(0, 7, 7))), lines
  )
  expect_settled(got, "cannot be read")
})

test_that("a total that is too low ends nothing", {
  for (lines in list(c(offset_total, "largest_page: 3"), offset_total)) {
    url <- start_scripted(function(n, request) {
      from <- as.numeric(asked(request, "skip") %||% 0)
      all <- seq_len(7)
      json_answer(
        list(
          items = lapply(
            all[all > from & all <= from + 3], function(i) list(n = i)
          ),
          total = 2
        )
      )
    })
    got <- collect_rows(write_card(url, c("request: /rows", lines)))
    expect_identical(got$rows$n, as.numeric(1:7))
    expect_identical(nrow(got$run$failed), 0L)
  }
})

test_that(
  "a page of which every row is rejected leaves the window open,
 and a card that reads it settles it",
  {
    url <- start_scripted(function(n, request) {
      json_answer(list(items = list(list(n = "one"), list(n = "two"))))
    })
    lines <- function(as) {
      c(
        "request: /rows", "rows: /items",
        paste0("columns: {n: {at: /n, as: ", as, "}}")
      )
    }
    archive <- new_archive()
    wrong <- write_card(url, lines("number"))
    got <- collect_rows(wrong, archive)
    expect_match(
      archive_incomplete(archive)$reason, "all 2 rows of page 1 were rejected"
    )
    expect_identical(got$run$failed$outcome, "incomplete")
    expect_length(got$run$empty, 0)
    expect_identical(collect_rows(wrong, archive)$run$pages, 1)
    got <- collect_rows(write_card(url, lines("text")), archive)
    expect_identical(got$rows$n, c("one", "two"))
    expect_identical(nrow(archive_incomplete(archive)), 0L)
  }
)

test_that("rows rejected under another card are asked for again", {
  url <- start_scripted(function(n, request) {
    json_answer(
      list(
        items = list(
          list(t = 1773300660, c = 1), list(t = 1773300720, c = "2,5")
        )
      )
    )
  })
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
  archive <- new_archive()
  collect <- function(more) {
    collect_bars(
      bars_card(url, lines(more)), "AA", "1 minute", "2026-03-12",
      "2026-03-12", archive
    )
  }
  first <- collect("")
  expect_identical(c(first$run$rejected, first$run$new), c(1, 1))
  expect_identical(collect("")$run$pages, 0)
  again <- collect(", decimal: \",\"")
  expect_identical(again$run$pages, 1)
  expect_identical(again$bars$close, c(1, 2.5))
  expect_identical(collect(", decimal: \",\"")$run$pages, 0)
})

test_that(
  "an answer for other symbols alone covers nothing,
 and a symbol in another case is the one asked for",
  {
    answered <- withr::local_tempfile()
    writeLines("ZZ", answered)
    answer <- function(n, request) {
      json_answer(
        list(items = list(list(s = readLines(answered), t = 1773300660, c = 1)))
      )
    }
    environment(
      answer
    ) <- list2env(list(answered = answered), parent = globalenv())
    source <- bars_card(
      start_scripted(answer),
      c(
        "datasets:", "  bars:", "    shape: bars",
        "    request: /b/{symbol}{?from,to}", "    rows: /items",
        "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
        "    columns: {symbol: /s, time: {at: /t, as: epoch-s}, close: /c}"
      )
    )
    archive <- new_archive()
    collect <- function() {
      collect_bars(
        source, "AbC", "1 minute", "2026-03-12", "2026-03-12", archive
      )
    }
    got <- collect()
    expect_match(got$run$failed$what, "asked for AbC, and ZZ came")
    expect_identical(nrow(archive_series(archive)), 0L)
    writeLines("ABC", answered)
    got <- collect()
    expect_identical(nrow(got$run$failed), 0L)
    expect_identical(as.character(got$bars$symbol), "AbC")
    expect_identical(nrow(archive_incomplete(archive)), 0L)
  }
)

test_that("open windows in plan, list and run; collect --again", {
  answer <- function(n, request) {
    rows <- lapply(1:3, function(i) list(t = 1773300600 + 60 * i, c = i))
    if (asked(request, "skip") %||% "0" != "0") rows <- list()
    json_answer(list(items = rows, total = if (file.exists(honest)) 3 else 9))
  }
  honest <- withr::local_tempfile()
  environment(answer) <- list2env(list(honest = honest), parent = globalenv())
  desk <- withr::local_tempdir()
  dir.create(file.path(desk, "sources"))
  writeLines(
    c(
      "source: test", paste0("url: ", start_scripted(answer)), "datasets:",
      "  bars:", "    shape: bars", "    request: /b/{symbol}{?from,to}",
      "    rows: /items",
      "    next_page: {by: offset, send: skip, total: /total}",
      "    largest_page: 3",
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
      "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
    ),
    file.path(desk, "sources", "test.yml")
  )
  writeLines("desk: test", file.path(desk, "desk.yml"))
  words <- c(
    "test", "bars", "AA", "--interval", "1 minute", "--from", "2026-03-12",
    "--to", "2026-03-12", "--desk", desk
  )
  ran <- run_vetusta("collect", words, "--quiet")
  expect_identical(ran$status, 1L)
  expect_match(
    ran$stdout, "incomplete: the source's total is 9 rows, and 3 came"
  )
  expect_match(
    run_vetusta("plan", words)$stdout,
    "open      AA: the source's total is 9 rows"
  )
  listed <- run_vetusta(c("list", "incomplete", "--desk", desk))
  expect_match(listed$stdout, "AA")
  expect_match(
    run_vetusta("list", "--desk", desk)$stderr, "1 window is incomplete"
  )
  file.create(honest)
  expect_identical(run_vetusta("collect", words, "--quiet")$status, 0L)
  expect_match(
    run_vetusta("plan", words)$stdout,
    "nothing to request|is complete for this window"
  )
  ran <- run_vetusta(c("collect", words, "--again"))
  expect_match(ran$stdout, "3 already stored")
})
