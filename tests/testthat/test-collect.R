window <- function(source, symbols = c("KELD", "TAMX"), from = "2026-03-12",
                   to = "2026-03-13", ...) {
  query_bars(source, symbols, "1 minute", from = from, to = to, ...)
}

test_that("collected bars equal the exchange's, for any page size", {
  quay_key()
  collected <- lapply(c("240", "7"), function(page) {
    services <- start_services("--page-size", page, "--rate", "100000")
    archive <- new_archive()
    quay <- source_card("quay", url = services$url)
    quay$limits <- list()
    run <- collect_run(
      plan_requests(window(quay, "KELD", to = "2026-03-12"), archive), archive,
      progress = FALSE
    )
    list(bars = archive_bars(archive, "KELD", "1 minute"), pages = run$pages)
  })
  expect_identical(collected[[1]]$bars, collected[[2]]$bars)
  expect_identical(collected[[1]]$pages, 2)
  expect_gt(collected[[2]]$pages, 50)
  expect_gt(nrow(collected[[1]]$bars), 370)
  expect_identical(nrow(bars_check(collected[[1]]$bars)), 0L)
  expect_identical(unique(collected[[1]]$bars$session), "regular")
})

test_that("stored bars are not requested again; other sessions on request", {
  quay_key()
  services <- start_services()
  archive <- new_archive()
  quay <- source_card("quay", url = services$url)
  collect_run(plan_requests(window(quay), archive), archive, progress = FALSE)
  again <- plan_requests(window(quay), archive)
  expect_identical(c(again$pages, nrow(again$requests)), c(0, 0))
  expect_identical(again$stored, c("KELD", "TAMX"))
  longer <- plan_requests(window(quay, to = "2026-03-16"), archive)
  expect_equal(
    as.Date(longer$requests$from, tz = "Europe/Riga"),
    as.Date(c("2026-03-14", "2026-03-14"))
  )
  all <- window(quay, "KELD", to = "2026-03-12", session = "all")
  run <- collect_run(plan_requests(all, archive), archive, progress = FALSE)
  expect_gt(run$unchanged, 370)
  expect_setequal(
    unique(archive_bars(archive, "KELD", "1 minute")$session),
    c("early", "regular", "late")
  )
})

test_that("limits, refusals and unknown symbols of the exchange", {
  quay_key()
  services <- start_services("--rate", "3")
  archive <- new_archive()
  quay <- source_card("quay", url = services$url)
  ask <- function(path) curl::curl_fetch_memory(paste0(services$url, path))
  expect_identical(ask("/bars/KELD/m1?from=1&until=2")$status_code, 401L)
  problem <- ask("/bars/KELD/m7?from=1&until=2&key=quay-demo-7f3a91")
  expect_identical(problem$status_code, 400L)
  expect_match(rawToChar(problem$content), "m1, m5")
  expect_identical(
    ask("/bars/KELD/m1?from=9&until=2&key=quay-demo-7f3a91")$status_code, 400L
  )
  last <- ask(
    paste0(
      "/bars/KELD/d1?from=1773266400000&until=1773352800000&",
      "key=quay-demo-7f3a91"
    )
  )
  expect_false(grepl("more", rawToChar(last$content)))
  refused <- ask("/bars/KELD/m1?from=1&until=2&key=quay-demo-7f3a91")
  expect_identical(refused$status_code, 429L)
  expect_match(rawToChar(refused$headers), "Retry-After: [0-9]+")
})

test_that("a symbol that is not known is recorded, and the rest goes on", {
  quay_key()
  services <- start_services()
  archive <- new_archive()
  run <- collect_run(
    plan_requests(
      window(
        source_card("quay", url = services$url), c("NONE", "KELD"),
        to = "2026-03-12"
      ),
      archive
    ),
    archive, progress = FALSE
  )
  expect_identical(run$failed$symbol, "NONE")
  expect_match(run$failed$what, "No instrument has this code")
  expect_gt(run$new, 370)
  expect_identical(
    archive_journal(archive)$outcome, c("absent", "stored", "stored")
  )
})

test_that("a refused key stops early, a missing one before any request", {
  services <- start_services()
  archive <- new_archive()
  plan <- plan_requests(
    window(source_card("quay", url = services$url)), archive
  )
  withr::local_envvar(QUAY_KEY = "a-wrong-key-1234")
  error <- expect_error_kind(
    collect_run(plan, archive, progress = FALSE), "access", "refuses access"
  )
  expect_false(grepl("a-wrong-key-1234", conditionMessage(error)))
  expect_identical(nrow(archive_journal(archive)), 1L)
  withr::local_envvar(QUAY_KEY = NA)
  expect_error_kind(
    collect_run(plan, archive, progress = FALSE), "secret", "QUAY_KEY"
  )
})

page <- function(items, more = NULL, status = 200L, headers = list()) {
  list(
    status = status,
    headers = c(list("Content-Type" = "application/json"), headers),
    body = as.character(
      jsonlite::toJSON(
        c(list(items = items), if (!is.null(more)) list(more = more)),
        auto_unbox = TRUE, digits = 10
      )
    )
  )
}
# 2026-03-12 07:30 UTC and the minutes after it
minute <- function(i, ...) {
  utils::modifyList(
    list(t = 1773300600 + 60 * i, o = 2, h = 3, l = 1, c = 2, v = 5), list(...)
  )
}

test_that("a service that stumbles is asked again, as it says", {
  url <- start_scripted(
    function(n, request) {
      if (n == 1) {
        return(page(list(), status = 503L, headers = list("Retry-After" = "0")))
      }
      if (n == 2) {
        return(
          list(status = 200L, headers = list(), body = '{"items":[{"t":17733')
        )
      }
      if (n == 3) {
        return(page(list(minute(0), minute(1)), more = "/bars/KELD?from=x"))
      }
      if (n == 4) {
        return(page(list(), status = 429L, headers = list("Retry-After" = "1")))
      }
      page(list(minute(2)))
    },
    env = environment()
  )
  environment(page) <- environment(minute) <- globalenv()
  archive <- new_archive()
  started <- Sys.time()
  run <- collect_plain(url, archive)
  expect_gt(as.numeric(Sys.time() - started, units = "secs"), 1)
  expect_identical(c(run$pages, run$new, run$retried), c(2, 3, 3))
  expect_identical(
    archive_journal(archive)$outcome,
    c("retried", "retried", "stored", "retried", "stored")
  )
})

test_that("a row with high below low is rejected with its place", {
  url <- start_scripted(
    function(n, request) {
      page(list(minute(0), minute(1, h = 0.5), minute(2, c = "much")))
    },
    env = environment()
  )
  archive <- new_archive()
  run <- collect_plain(url, archive)
  expect_identical(c(run$new, run$rejected), c(1, 2))
  faults <- archive_rejected(archive)
  expect_setequal(faults$reason, c("high below low", "close cannot be read"))
  expect_setequal(faults$place, c("/items/1", "/items/2/c"))
})

test_that("circular, foreign and overlapping pages end without doubles", {
  round <- start_scripted(
    function(n, request) {
      page(list(minute(n)), more = paste0("/bars/KELD?page=", n %% 2))
    },
    env = environment()
  )
  archive <- new_archive()
  run <- collect_plain(round, archive)
  expect_match(run$failed$what, "in a circle")
  elsewhere <- start_scripted(
    function(n, request) {
      page(list(minute(n)), more = "http://127.0.0.1:9/bars")
    },
    env = environment()
  )
  expect_match(
    collect_plain(elsewhere, new_archive())$failed$what,
    "leads to another place"
  )
  overlap <- start_scripted(
    function(n, request) {
      page(
        list(minute(n), minute(n + 1)),
        more = if (n < 5) paste0("/bars/KELD?page=", n)
      )
    },
    env = environment()
  )
  archive <- new_archive()
  expect_identical(collect_plain(overlap, archive)$new, 6)
  expect_false(any(duplicated(archive_bars(archive, "KELD", "1 minute")$time)))
})

test_that("no answer is reported after retries, stored rows stay", {
  archive <- new_archive()
  url <- start_scripted(
    function(n, request) page(list(minute(0))), env = environment()
  )
  collect_plain(url, archive)
  free <- paste0("http://127.0.0.1:", httpuv::randomPort(host = "127.0.0.1"))
  expect_error_kind(
    collect_plain(free, archive, symbols = "TAMX"), "network", "Nothing answers"
  )
  expect_identical(nrow(archive_bars(archive, "KELD", "1 minute")), 1L)
})

test_that("a truncated body among good ones is retried like no answer", {
  # the second page is complete at the fifth request
  answer <- function(n, request) {
    k <- asked(request, "k")
    tries[[k]] <<- (tries[[k]] %||% 0) + 1
    whole <- json_answer(list(items = list(list(n = as.numeric(k)))))
    spoilt <- if (k == "2") tries[[k]] < fifth else k == "1" && !first
    if (spoilt) whole$body <- body
    whole
  }
  pages <- function(fifth, body, first = TRUE) {
    environment(
      answer
    ) <- list2env(
      list(tries = list(), fifth = fifth, body = body, first = first),
      parent = globalenv()
    )
    url <- start_scripted(answer, env = parent.frame())
    card <- write_card(
      url,
      c(
        "request: /rows{?k}", "rows: /items",
        "columns: {n: {at: /n, as: number}}"
      ),
      "at_once: 1", env = parent.frame()
    )
    collect_rows(card, k = c("1", "2"), env = parent.frame())
  }
  got <- pages(5, "{\"items\":[{\"n\":")
  expect_identical(got$rows$n, c(1, 2))
  expect_identical(sum(got$journal$outcome == "retried"), 4L)
  # a complete body of the wrong form stays wrong: it is requested three times
  got <- pages(9, "{\"other\": 1}")
  expect_identical(got$rows$n, 1)
  expect_identical(sum(got$journal$outcome == "retried"), 2L)
  # so does a body that is never readable
  got <- pages(9, "<html>", first = FALSE)
  expect_identical(sum(got$journal$outcome == "retried"), 4L)
})

test_that("queries that cannot be are refused before any request", {
  quay <- source_card("quay")
  query <- function(...) {
    query_bars(
      quay,
      "KELD",
      ...,
      now = as.POSIXct("2026-03-26 12:00", tz = "UTC")
    )
  }
  expect_error_kind(
    query("1 minute", from = "2026-03-20", to = "2026-03-12"), "argument",
    "swap"
  )
  expect_error_kind(
    query("1 minute", from = "2026-02-30"), "argument", "neither a day"
  )
  expect_error_kind(
    query("1 minute", from = "2026-03-12", span = "2 days"), "argument",
    "not both"
  )
  expect_error_kind(query("1 minute"), "argument", "`span` or `from`")
  expect_error_kind(
    query("7 minutes", span = "2 days"), "argument", "5 minutes"
  )
  expect_error_kind(
    query("1 minute", from = "2026-03-26T11:50:00Z"), "argument",
    "latest available data"
  )
  expect_error_kind(
    query_bars(quay, character(), "1 minute", span = "1 day"), "argument",
    "no symbols"
  )
  expect_error_kind(
    query_bars(quay, c("KELD", ""), "1 minute", span = "1 day"), "argument",
    "empty"
  )
  clipped <- query("1 minute", from = "2026-03-12", to = "2026-12-31")
  expect_equal(clipped$to, as.POSIXct("2026-03-26 11:40", tz = "UTC"))
  expect_length(clipped$notes, 2)
  spanned <- query("1 minute", span = "10 days")
  expect_equal(spanned$from, as.POSIXct("2026-03-16 11:40", tz = "UTC"))
})

test_that("a plan says what people read", {
  plan <- plan_requests(window(source_card("quay"), to = "2026-03-26"))
  expect_snapshot(print(plan))
  expect_snapshot(print(plan$query))
  withr::local_envvar(QUAY_KEY = NA)
  expect_snapshot(
    print(source_card("quay")),
    transform = function(lines) sub("[(](not )?set[)]", "(?)", lines)
  )
})

test_that("failed and repeated requests count in the displayed rate", {
  query <- query_rows(source_card("register"), "facts", symbol = "KELD")
  query$source$limits <- list(
    list(count = 90, seconds = 60, words = "90 per minute")
  )
  run <- run_make(query, memory_sink(query))
  tally <- tally_make()
  tally$pages <- 40
  tally$retried <- 5
  tally$failed <- data.frame(
    symbol = rep("X", 45), what = "", todo = "", outcome = "failed"
  )
  expect_identical(progress_rate(run, tally, 60), "90 of 90 per minute")
  # half of 170 requests fit into the first minute; the other half takes one
  # more
  text <- progress_text(run, tally, queue_make(NULL), 170, now_seconds() - 60)
  expect_match(
    text, "40 of 170 pages, .* about (6[0-9] s|[12] minutes?) left, 45 failed"
  )
})
