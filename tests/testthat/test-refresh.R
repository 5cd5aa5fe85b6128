# Refreshing a desk against a service with a known truth that counts its
# requests.

# A service of minute bars without closing times, of daily levels, and of a
# list. The files in `folder` control it: `until`, the instant up to which there
# are bars; `holes`, missing bars; `changed`, an addition to prices; `away`, a
# refused path.
kept_service <- function(folder, env = parent.frame()) {
  answer <- function(n, request) {
    path <- request$PATH_INFO
    state <- dget(file.path(folder, "state"))
    cat(
      path,
      request$QUERY_STRING,
      "\n",
      file = file.path(folder, "calls"),
      append = TRUE
    )
    if (nzchar(state$away) && grepl(state$away, path)) {
      return(json_answer(list(), status = 400L))
    }
    if (grepl("^/bars/", path)) {
      from <- as.numeric(asked(request, "from"))
      to <- min(as.numeric(asked(request, "to")), state$until)
      at <- if (to > from) {
        seq(ceiling(from / 60) * 60, to - 1, by = 60)
      } else {
        numeric()
      }
      at <- utils::head(setdiff(at[at < to], state$holes), 500)
      price <- 40 + at %% 1000 / 100 + state$changed
      return(json_answer(list(
        items = lapply(seq_along(at), function(i) {
          list(t = at[i], c = price[i])
        })
      )))
    }
    if (grepl("^/levels/", path)) {
      days <- seq(
        as.Date(asked(request, "from")), as.Date(asked(request, "to")),
        by = 1
      )
      days <- days[days <= as.Date(state$day)]
      return(json_answer(list(
        items = lapply(seq_along(days), function(i) {
          list(d = format(days[i]), v = as.numeric(days[i]) %% 100)
        })
      )))
    }
    json_answer(list(items = lapply(c("K", "T"), function(s) list(s = s))))
  }
  environment(answer) <- list2env(list(folder = folder), parent = globalenv())
  start_scripted(answer, env = env)
}

kept_state <- function(folder, ..., until = kept_now(), holes = numeric(),
                       changed = 0, away = "", day = format(Sys.Date() - 1)) {
  dput(
    list(
      until = until, holes = holes, changed = changed, away = away, day = day
    ),
    file.path(folder, "state")
  )
}
kept_ago <- function(seconds) vetusta:::format_instant(kept_now() - seconds)
kept_now <- function() floor(as.numeric(Sys.time()) / 60) * 60

kept_requests <- function(folder) {
  file <- file.path(folder, "calls")
  found <- if (file.exists(file)) readLines(file) else character()
  unlink(file)
  found
}

kept_desk <- function(env = parent.frame(), limits = "[100 per second]",
                      queries = kept_queries()) {
  folder <- withr::local_tempdir(.local_envir = env)
  kept_state(folder)
  url <- kept_service(folder, env)
  desk_make(folder, cards = character())
  card <- function(name) {
    writeLines(
      c(
        paste0("source: ", name), paste0("url: ", url),
        paste0("limits: ", limits), "datasets:", "  bars:", "    shape: bars",
        "    request: /bars/{symbol}{?from,to}", "    largest_page: 500",
        "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
        "    rows: /items",
        "    columns: {time: {at: /t, as: epoch-s}, close: /c}", "  levels:",
        "    shape: observations", "    request: /levels/{station}{?from,to}",
        "    parameters: {from: {as: day}, to: {as: day}}", "    rows: /items",
        paste0(
          "    columns: {series: {of: station}, period: {at: /d, as: day}, ",
          "value: /v}"
        ),
        "  list:", "    shape: instruments", "    request: /list",
        "    rows: /items", "    columns: {symbol: /s}"
      ),
      file.path(folder, "sources", paste0(name, ".yml"))
    )
  }
  card("one")
  card("two")
  writeLines(c("desk: kept", "track:", queries), file.path(folder, "desk.yml"))
  folder
}
kept_queries <- function(from = kept_ago(3 * 3600)) {
  c(
    paste0(
      "  prices: {source: one, symbols: [K, T], interval: 1 minute, from: \"",
      from, "\", lookback: 1 hour}"
    ),
    paste0(
      "  levels: {source: two, dataset: levels, keys: {station: [a, ",
      "b]}, from: ", Sys.Date() - 60, "}"
    ),
    "  list: {source: two, dataset: list}"
  )
}
refreshed <- function(folder, ...) {
  desk_refresh(desk_open(folder), ..., progress = FALSE)
}
outcome_of <- function(result) stats::setNames(result$outcome, result$query)

test_that("a second refresh makes no request, a third only new ones", {
  folder <- kept_desk()
  plan <- refreshed(folder, plan = TRUE)
  expect_identical(kept_requests(folder), character())
  expect_identical(
    outcome_of(plan),
    c(prices = "planned", levels = "planned", list = "planned")
  )
  first <- refreshed(folder)
  expect_identical(sum(plan$requests), sum(first$requests))
  expect_identical(
    length(kept_requests(folder)), as.integer(sum(first$requests))
  )
  expect_true(all(first$outcome == "done"))
  expect_gte(first$new[first$query == "prices"], 2 * 179)
  expect_identical(first$new[first$query != "prices"], c(120, 2))
  # only the minute that may have ended meanwhile can be requested
  again <- refreshed(folder)
  expect_lte(length(grep("/bars", kept_requests(folder))), 2)
  expect_identical(
    again$outcome[again$query != "prices"], c("complete", "complete")
  )
  expect_lte(sum(again$new), 2)
  status <- desk_status(desk_open(folder))
  expect_false(any(status$stale))
  expect_identical(status$series, c(2, 2, 0))
})

test_that("adjacent requests leave nothing to request again", {
  folder <- kept_desk(
    queries = paste0(
      "  prices: {source: one, symbols: [K], interval: 1 minute, ", "from: \"",
      kept_ago(30 * 3600), "\"}"
    )
  )
  first <- refreshed(folder)
  expect_gte(length(kept_requests(folder)), 4)
  expect_gte(as.numeric(first$complete_until), kept_now() - 120)
  refreshed(folder)
  expect_lte(length(kept_requests(folder)), 1)
})

test_that("the lookback finds a late correction", {
  folder <- kept_desk()
  kept_state(folder)
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  # the archive has the data of an hour and a half ago
  desk <- desk_open(folder)
  query <- vetusta:::desk_query(
    desk, "prices", archive,
    now = Sys.time() - 5400
  )
  collect_run(plan_requests(query, archive), archive, progress = FALSE)
  held <- archive_bars(archive, "K", "1 minute")
  kept_requests(folder)
  kept_state(folder, changed = 1)
  before <- Sys.time()
  result <- refreshed(folder, "prices")
  requests <- grep("/bars/K", kept_requests(folder), value = TRUE)
  expect_length(requests, 1)
  # it goes back an hour before the stored end, and no further
  from <- as.numeric(sub(".*from=([0-9]+).*", "\\1", requests))
  expect_lte(abs(from - (as.numeric(max(held$time)) + 60 - 3600)), 60)
  bars <- archive_bars(archive, "K", "1 minute")
  at <- as.numeric(bars$time)
  truth <- 40 + at %% 1000 / 100 + (at >= from)
  expect_equal(bars$close, truth)
  expect_gte(result$changed, 2 * 58)
  # as known before
  expect_identical(
    archive_bars(archive, "K", "1 minute", as_of = before)$close[
      seq_len(nrow(held))
    ],
    held$close
  )
  archive_close(archive)
})

test_that("a list or a beginning that is edited asks only for what is new", {
  folder <- kept_desk()
  refreshed(folder)
  kept_requests(folder)
  lines <- sub(
    "[a, b]", "[a, b, c]", readLines(file.path(folder, "desk.yml")),
    fixed = TRUE
  )
  writeLines(lines, file.path(folder, "desk.yml"))
  result <- refreshed(folder, "levels")
  requests <- kept_requests(folder)
  expect_match(requests, "/levels/c")
  expect_identical(result$new, 60)
  writeLines(
    sub(format(Sys.Date() - 60), format(Sys.Date() - 100), lines, fixed = TRUE),
    file.path(folder, "desk.yml")
  )
  result <- refreshed(folder, "levels")
  requests <- kept_requests(folder)
  expect_length(requests, 3)
  expect_identical(result$new, 120)
})

test_that("a value that is late is asked for ever more seldom", {
  wait <- vetusta:::kept_wait
  query <- list(every = 0)
  expect_identical(wait(0, query), 60)
  expect_identical(wait(8 * 3600, query), 3600)
  expect_identical(wait(40 * 86400, query), 86400)
  folder <- kept_desk()
  kept_state(folder, day = format(Sys.Date() - 5))
  refreshed(folder, "levels")
  expect_length(kept_requests(folder), 2)
  refreshed(folder, "levels")
  expect_length(kept_requests(folder), 0)
  # once an eighth of its age has passed it is requested again
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  vetusta:::sql_do(
    archive, "UPDATE notes SET at = at - 86400 WHERE kind = 'looked'"
  )
  archive_close(archive)
  kept_state(folder)
  result <- refreshed(folder, "levels")
  expect_length(kept_requests(folder), 2)
  expect_identical(result$new, 8)
})

test_that("a day without bars is tried again at doubling ages", {
  doubled <- vetusta:::doubled_age
  ages <- 86400 * c(0.5, 1, 1.9, 2, 3.9, 4, 20, 33, 70, 200)
  # checked an hour before: only gaps whose age has just reached a power of two
  expect_identical(
    doubled(ages, ages - 3600),
    c(FALSE, TRUE, FALSE, TRUE, FALSE, TRUE, FALSE, FALSE, FALSE, FALSE)
  )
  # requested at most six times, however often it is checked
  age <- seq(0, 100, by = 0.3) * 86400
  expect_identical(sum(doubled(age[-1], age[-length(age)])), 6L)
  folder <- kept_desk(
    queries = paste0(
      "  prices: {source: one, symbols: [K, T], interval: 1 minute,",
      " from: \"", kept_ago(6 * 86400), "\", lookback: 1 hour}"
    )
  )
  card <- file.path(folder, "sources", "one.yml")
  write(c("calendar: every-day", "zone: UTC"), card, append = TRUE)
  day <- as.numeric(as.POSIXct(Sys.Date() - 3, tz = "UTC"))
  gone <- day + 60 * (0:1439)
  kept_state(folder, holes = gone)
  refreshed(folder)
  kept_requests(folder)
  refreshed(folder)
  expect_identical(grep(day, kept_requests(folder), value = TRUE), character())
  later <- function() {
    archive <- archive_open(file.path(folder, "archive.sqlite"))
    on.exit(archive_close(archive))
    vetusta:::sql_do(
      archive, "UPDATE notes SET at = at - 129600 WHERE kind = 'holes'"
    )
  }
  # its age went from at most a day and a half to at least two days
  later()
  plan <- refreshed(folder, plan = TRUE)
  expect_gte(plan$requests, 2)
  expect_identical(kept_requests(folder), character())
  refreshed(folder)
  asked <- grep(paste0("from=", day, "&"), kept_requests(folder), value = TRUE)
  expect_identical(sub(" .*", "", asked), c("/bars/K", "/bars/T"))
  # it was checked just now
  refreshed(folder)
  expect_identical(grep(day, kept_requests(folder), value = TRUE), character())
  # newly published data arrives, with no more requests than necessary
  later()
  kept_state(folder)
  result <- refreshed(folder)
  expect_gte(result$new, 2880)
  expect_lte(result$new, 2890)
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  expect_true(
    all(gone %in% as.numeric(archive_bars(archive, "K", "1 minute")$time))
  )
  archive_close(archive)
  later()
  kept_requests(folder)
  refreshed(folder)
  expect_identical(grep(day, kept_requests(folder), value = TRUE), character())
})

test_that("an export that is waited for does not hold up the other sources", {
  folder <- kept_desk(
    queries = c(
      paste0(
        "  all: {source: exports, symbols: [K], interval: 1 minute, from: ",
        "2026-03-02, to: 2026-03-08}"
      ),
      paste0(
        "  prices: {source: one, symbols: [K, T], interval: 1 minute, from: \"",
        kept_ago(86400), "\"}"
      )
    )
  )
  # the first is ready once a page of the other source was requested, and its
  # file is complete only after several of that source's pages
  answer <- function(n, request) {
    asked <- function() {
      file <- file.path(folder, "calls")
      if (file.exists(file)) sum(grepl("^/bars", readLines(file))) else 0
    }
    if (request$REQUEST_METHOD == "POST") {
      return(json_answer(list(ticket = "7")))
    }
    if (grepl("/jobs/", request$PATH_INFO)) {
      return(
        json_answer(
          list(
            state = if (asked() > 0) "done" else "working",
            link = "/file.csv"
          )
        )
      )
    }
    table <- charToRaw("t,c\n2026-03-02T07:30:00Z,1\n2026-03-02T07:31:00Z,2\n")
    from <- as.numeric(
      sub("bytes=([0-9]+)-", "\\1", request$HTTP_RANGE %||% "bytes=0-")
    )
    if (asked() < 3) {
      return(
        list(
          status = 200L,
          headers = list("Content-Length" = "1000", ETag = "\"a\""),
          body = rawToChar(table[1:10])
        )
      )
    }
    list(
      status = if (from > 0) 206L else 200L,
      headers = list(
        ETag = "\"a\"",
        "Content-Range" = sprintf(
          "bytes %d-%d/%d", from, length(table) - 1, length(table)
        )
      ),
      body = rawToChar(if (from > 0) table[-seq_len(from)] else table)
    )
  }
  environment(answer) <- list2env(list(folder = folder), parent = globalenv())
  url <- start_scripted(answer)
  writeLines(
    c(
      "source: exports", paste0("url: ", url), "datasets:", "  bars:",
      "    shape: bars", "    method: POST",
      "    request: /exports/{symbol}{?from,to}", "    format: csv",
      paste0(
        "    job: {ticket: /ticket, look: \"/jobs/{ticket}\", state: /state, ",
        "ready: done, link: /link, pause: PT1S}"
      ),
      "    columns: {time: {at: /t, as: rfc3339}, close: /c}"
    ),
    file.path(folder, "sources", "exports.yml")
  )
  result <- refreshed(folder, wait = 60)
  expect_identical(outcome_of(result), c(all = "done", prices = "done"))
  expect_identical(result$new[1], 2)
})

test_that("two exports that are waited for are followed beside each other", {
  folder <- kept_desk(
    queries = c(
      paste0(
        "  a: {source: first, symbols: [K], interval: 1 minute, from: ",
        "2026-03-02, to: 2026-03-08}"
      ),
      paste0(
        "  b: {source: second, symbols: [K], interval: 1 minute, from: ",
        "2026-03-02, to: 2026-03-08}"
      )
    )
  )
  # the first is ready only after the second was polled twice, and the second
  # only after the first was fetched: waiting for one within the other would
  # never end
  answer <- function(n, request) {
    note <- function(word) {
      cat(word, "\n", file = file.path(folder, "looked"), append = TRUE)
    }
    times <- function(word) {
      file <- file.path(folder, "looked")
      if (file.exists(file)) sum(trimws(readLines(file)) == word) else 0
    }
    own <- sub("^/([ab]).*", "\\1", request$PATH_INFO)
    if (request$REQUEST_METHOD == "POST") {
      return(json_answer(list(ticket = "7")))
    }
    if (grepl("/jobs/", request$PATH_INFO)) {
      note(own)
      done <- if (own == "a") times("b") >= 2 else times("file-a") > 0
      return(
        json_answer(
          list(
            state = if (done) "done" else "working",
            link = paste0("/", own, "/file.csv")
          )
        )
      )
    }
    note(paste0("file-", own))
    list(
      status = 200L, headers = list(),
      body = "t,c\n2026-03-02T07:30:00Z,1\n2026-03-02T07:31:00Z,2\n"
    )
  }
  environment(answer) <- list2env(list(folder = folder), parent = globalenv())
  url <- start_scripted(answer)
  for (one in c("a", "b")) {
    name <- c(a = "first", b = "second")[[one]]
    writeLines(
      c(
        paste0("source: ", name), paste0("url: ", url), "datasets:", "  bars:",
        "    shape: bars", "    method: POST",
        paste0("    request: /", one, "/exports/{symbol}{?from,to}"),
        "    format: csv",
        paste0(
          "    job: {ticket: /ticket, look: \"/", one,
          "/jobs/{ticket}\", state: /state, ",
          "ready: done, link: /link, pause: PT1S}"
        ),
        "    columns: {time: {at: /t, as: rfc3339}, close: /c}"
      ),
      file.path(folder, "sources", paste0(name, ".yml"))
    )
  }
  result <- refreshed(folder, wait = 60)
  expect_identical(outcome_of(result), c(a = "done", b = "done"))
  expect_identical(result$new, c(2, 2))
})

test_that("a failed query stops no other, and pauses are kept", {
  folder <- kept_desk()
  kept_state(folder, away = "/levels/b")
  result <- refreshed(folder)
  expect_identical(outcome_of(result)[["levels"]], "failed")
  expect_identical(outcome_of(result)[["prices"]], "done")
  expect_identical(outcome_of(result)[["list"]], "done")
  expect_match(result$message[result$query == "levels"], "b")
  expect_identical(result$new[result$query == "levels"], 60)
  kept_state(folder)
  expect_identical(refreshed(folder, "levels")$new, 60)
  kept_requests(folder)
  # the list is complete and refreshed: an hour or a day must pass
  expect_match(refreshed(folder, "list")$message, "complete; refreshed")
  expect_length(kept_requests(folder), 0)
  expect_error_kind(refreshed(folder, "lists"), "desk", "lists")
})

test_that("a quota goes first to what is held and behind, and the rest waits", {
  from <- kept_ago(3 * 3600)
  query <- function(name, symbols, from) {
    paste0(
      "  ", name, ": {source: one, symbols: [", symbols,
      "], interval: 1 minute, from: \"", from, "\"}"
    )
  }
  folder <- kept_desk(
    limits = "[6 per day]",
    queries = c(
      query("fresh", "A, B, C, D, E, F, G", from), query("held", "K, T", from)
    )
  )
  expect_identical(outcome_of(refreshed(folder, "held"))[["held"]], "done")
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  vetusta:::sql_do(archive, "UPDATE coverage SET end = end - 7200")
  archive_close(archive)
  result <- refreshed(folder, wait = 5)
  # two requests for the old end, two for the first new data, and then none are
  # left
  expect_identical(result$query, c("held", "fresh"))
  expect_identical(result$outcome, c("done", "left"))
  expect_match(result$message[2], "go on after")
  expect_length(kept_requests(folder), 6)
})

test_that("two refreshes at once share the work", {
  folder <- kept_desk(
    queries = paste0(
      "  prices: {source: one, symbols: [", paste0("S", 1:40, collapse = ", "),
      "], interval: 1 minute, from: \"", kept_ago(3600), "\"}"
    ),
    limits = "[20 per second]"
  )
  code <- sprintf(
    "library(vetusta); r <- desk_refresh(desk_open('%s'), progress = FALSE);
    cat(sum(r$new), r$outcome)",
    folder
  )
  running <- lapply(1:2, function(i) {
    processx::process$new(
      "Rscript",
      c("--no-init-file", "-e", code),
      stdout = "|",
      stderr = "|",
      env = c("current", R_LIBS = r_libs())
    )
  })
  new <- vapply(
    running,
    function(process) {
      process$wait(120000)
      expect_identical(
        process$get_exit_status(),
        0L,
        info = process$read_all_error()
      )
      said <- strsplit(process$read_all_output(), " ")[[1]]
      expect_true(said[2] %in% c("done", "complete"))
      as.numeric(said[1])
    },
    0
  )
  requests <- kept_requests(folder)
  # each symbol once, except for a minute that may have ended in between
  expect_lte(length(requests), 80)
  expect_gte(sum(table(sub(" .*", "", requests)) == 1), 20)
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  held <- archive_series(archive)
  expect_identical(nrow(held), 40L)
  expect_identical(sum(held$rows), sum(new))
  expect_identical(nrow(archive_check(archive)), 0L)
  archive_close(archive)
})

test_that("a refresh killed at random moments ends like a single one", {
  from <- kept_ago(40 * 3600)
  to <- kept_ago(3600)
  queries <- c(
    paste0(
      "  prices: {source: one, symbols: [K, T, U], interval: 1 ",
      "minute, from: \"", from, "\", to: \"", to, "\"}"
    ),
    paste0(
      paste0(
        "  levels: {source: two, dataset: levels, keys: {station: [a, ",
        "b, c, d]}, from: ", "1990, to: "
      ),
      Sys.Date() - 30, "}"
    ),
    "  list: {source: two, dataset: list}"
  )
  folder <- kept_desk(queries = queries, limits = "[12 per second]")
  rows <- function(file) {
    archive <- archive_open(file)
    on.exit(archive_close(archive))
    expect_identical(
      as.data.frame(archive_check(archive)),
      as.data.frame(archive_check(archive))[0, ]
    )
    tables <- archive_read(archive)
    lapply(tables, function(x) as.data.frame(x)[setdiff(names(x), "known")])
  }
  refreshed(folder)
  alone <- rows(file.path(folder, "archive.sqlite"))
  code <- sprintf(
    "library(vetusta); desk_refresh(desk_open('%s'), progress = FALSE)", folder
  )
  set.seed(3)
  for (trial in 1:6) {
    unlink(file.path(folder, paste0("archive.sqlite", c("", "-wal", "-shm"))))
    kills <- 0
    repeat {
      process <- processx::process$new(
        "Rscript",
        c("--no-init-file", "-e", code),
        stderr = "|",
        env = c("current", R_LIBS = r_libs())
      )
      # from before its first request to after its last
      process$wait(if (kills < 2) round(stats::runif(1, 500, 3500)) else 60000)
      if (!process$is_alive()) break
      process$kill()
      kills <- kills + 1
      if (file.exists(file.path(folder, "archive.sqlite"))) {
        archive <- archive_open(file.path(folder, "archive.sqlite"))
        expect_identical(nrow(archive_check(archive)), 0L)
        archive_close(archive)
      }
    }
    expect_identical(process$get_exit_status(), 0L)
    expect_equal(rows(file.path(folder, "archive.sqlite")), alone)
  }
})

test_that("a refresh ends on request between two pages", {
  skip_on_os("windows")
  folder <- kept_desk(
    queries = paste0(
      "  prices: {source: one, symbols: [", paste0("S", 1:60, collapse = ", "),
      "], interval: 1 minute, from: \"", kept_ago(3600), "\"}"
    ),
    limits = "[10 per second]"
  )
  for (signal in c(2L, 15L)) {
    process <- processx::process$new(
      "Rscript",
      c(
        "--no-init-file", "-e", "vetusta::cli_main()", "refresh", "--desk",
        folder, "--quiet"
      ),
      stdout = "|",
      stderr = "|",
      env = c("current", R_LIBS = r_libs(), R_DEFAULT_PACKAGES = "NULL")
    )
    end <- Sys.time() + 60
    kept_requests(folder)
    requests <- file.path(folder, "calls")
    while (Sys.time() < end &&
      (!file.exists(requests) || length(readLines(requests)) < 6)) {
      Sys.sleep(0.1)
    }
    process$signal(signal)
    process$wait(20000)
    expect_false(process$is_alive())
    expect_identical(process$get_exit_status(), 1L)
    expect_match(process$read_all_error(), "pages received so far are stored")
    process$kill()
    archive <- archive_open(file.path(folder, "archive.sqlite"))
    expect_identical(nrow(archive_check(archive)), 0L)
    expect_gt(nrow(archive_series(archive)), 0)
    archive_close(archive)
  }
  expect_identical(refreshed(folder)$outcome, "done")
})

test_that("on a full disk archive and workbook stay intact", {
  skip_if_not(
    nzchar(Sys.which("unshare")) && Sys.info()[["user"]] == "root",
    "no small disk can be made here"
  )
  skip_if_not_installed("openxlsx2")
  folder <- kept_desk(
    queries = paste0(
      "  prices: {source: one, symbols: [", paste0("S", 1:80, collapse = ", "),
      "], interval: 1 minute, from: \"", kept_ago(86400), "\"}"
    )
  )
  disk <- withr::local_tempdir()
  script <- file.path(folder, "full.R")
  writeLines(
    c(
      "library(vetusta)",
      sprintf("folder <- '%s'; disk <- '%s'", folder, disk),
      paste0(
        "invisible(file.copy(list.files(folder, full.names = TRUE), ",
        "disk, recursive = TRUE))"
      ),
      paste0(
        "book <- file.path(disk, 'b.xlsx'); days <- ",
        "as.Date('2026-03-12') + 0:5000"
      ),
      "wb <- openxlsx2::wb_workbook(); wb$add_worksheet('S')",
      paste0(
        "wb$add_data_table(x = data.frame(period = days[1:9], value = ",
        "1:9), table_name = 'Tab')"
      ),
      "wb$save(book); sum <- unname(tools::md5sum(book))",
      paste0(
        "said <- tryCatch({ r <- desk_refresh(desk_open(disk), progress ",
        "= FALSE); r$message },"
      ),
      "  error = conditionMessage)",
      paste0(
        "archive <- archive_open(file.path(disk, 'archive.sqlite'), ",
        "read_only = TRUE)"
      ),
      paste0(
        "cat('said:', said, '\\nfindings:', ",
        "nrow(archive_check(archive)), '\\n')"
      ),
      paste0(
        "filler <- try(writeBin(raw(4e5), file.path(disk, 'filler')), ",
        "silent = TRUE)"
      ),
      "rows <- data.frame(period = days, value = 0.5)",
      "full <- tryCatch({ export_append(rows, book, 'Tab'); 'none' },",
      "  vetusta_error_export = conditionMessage)",
      paste0(
        "cat('append:', full, '\\nwhole:', identical(sum, ",
        "unname(tools::md5sum(book))), '\\n')"
      )
    ),
    script
  )
  run <- processx::run(
    "unshare",
    c(
      "-m", "sh", "-c",
      sprintf(
        paste0(
          "mount -t tmpfs -o size=400k none '%s' && Rscript ",
          "--no-init-file '%s'"
        ),
        disk, script
      )
    ),
    env = c("current", R_LIBS = r_libs()),
    error_on_status = FALSE,
    timeout = 200
  )
  skip_if(
    grepl("unshare failed|permission denied|not permitted", run$stderr),
    "no small disk here"
  )
  expect_match(
    run$stdout, "said:.*(disk is full|no space)",
    ignore.case = TRUE,
    info = run$stderr
  )
  expect_match(run$stdout, "findings: 0")
  expect_match(run$stdout, "append: The file cannot be written")
  expect_match(run$stdout, "whole: TRUE")
})

test_that("the state of a desk needs no request", {
  services <- start_services()
  folder <- withr::local_tempdir()
  desk <- desk_make(
    folder,
    cards = "basin",
    urls = list(basin = paste0(services$root, "/basin"))
  )
  desk <- desk_track(
    desk, "prices", "basin", "FREIGHT_PRICES",
    keys = list(STATE = "ORV"),
    from = "2020", stale = "3 years"
  )
  # nothing is known about it yet
  expect_match(desk_status(desk)$message, "not known yet")
  expect_identical(desk_refresh(desk, progress = FALSE)$outcome, "done")
  services$process$kill()
  archive <- archive_open(desk$archive)
  vetusta:::sql_do(
    archive, "UPDATE structures SET fetched = fetched - 40 * 86400"
  )
  before <- nrow(archive_journal(archive))
  status <- desk_status(desk)
  expect_gt(status$series, 5)
  expect_false(status$stale)
  expect_identical(desk_tracked(desk)$problem, NA_character_)
  expect_identical(nrow(archive_journal(archive)), before)
  archive_close(archive)
})

test_that("a window that was collected by hand does not delay later days", {
  services <- start_services()
  withr::local_envvar(SURVEY_TOKEN = vetusta:::standin_keys[["SURVEY_TOKEN"]])
  folder <- withr::local_tempdir()
  desk <- desk_make(
    folder,
    cards = "river", urls = list(river = paste0(services$root, "/river")),
    secrets = vetusta:::standin_keys
  )
  run <- function(...) run_vetusta(..., folder = folder)
  run(
    "collect", "river", "levels", "kelder-lock", "--from", "2026-01-01", "--to",
    "2026-03-10"
  )
  run("track", "river", "levels", "kelder-lock", "--from", "2026-01-01")
  archive <- archive_open(desk_open(folder)$archive)
  before <- nrow(archive_read(archive, "kelder-lock")[[1]])
  run("refresh")
  expect_gt(nrow(archive_read(archive, "kelder-lock")[[1]]), before)
})
