# Limits, quotas and tokens with many concurrent requests and many processes on
# one archive.
counting_server <- function(folder, env = parent.frame()) {
  answer <- function(n, request) {
    cat(
      format(as.numeric(Sys.time()), digits = 15),
      asked(request, "k"),
      "\n",
      file = file.path(folder, "calls"),
      append = TRUE
    )
    json_answer(list(items = list(list(n = as.numeric(asked(request, "k"))))))
  }
  environment(answer) <- list2env(list(folder = folder), parent = globalenv())
  start_scripted(answer, env = env)
}
collector <- function(card, archive, keys) {
  code <- sprintf(
    "library(vetusta); a <- archive_open('%s'); r <- collect_run(
    plan_requests(query_rows(source_card('%s'), 'rows', k = as.character(%s)),
    a), a,
      progress = FALSE, wait = 30); cat(r$pages, r$left, nrow(r$failed))",
    archive$path, card, keys
  )  # nolint
  processx::process$new(
    "Rscript",
    c("--no-init-file", "-e", code),
    stdout = "|",
    stderr = "|",
    env = c("current", R_LIBS = r_libs())
  )
}
# The largest number of instants in any window of this many seconds.
busiest <- function(times, seconds) {
  max(vapply(times, function(t) sum(times >= t & times < t + seconds), 0L))
}

test_that("four collectors share a rate and a quota", {
  folder <- withr::local_tempdir()
  url <- counting_server(folder)
  card <- write_card(
    url,
    c(
      "request: /rows{?k}", "rows: /items", "columns: {n: {at: /n, as: number}}"
    ),
    c("limits: [20 per second, 110 per day]", "at_once: 4")
  )
  archive <- new_archive()
  keys <- sprintf("%d:%d", c(1, 41, 81, 121), c(40, 80, 120, 160))
  running <- lapply(keys, collector, card = card, archive = archive)
  came <- do.call(
    rbind,
    lapply(running, function(process) {
      process$wait(120000)
      expect_identical(
        process$get_exit_status(),
        0L,
        info = process$read_all_error()
      )
      as.numeric(strsplit(process$read_all_output(), " ")[[1]])
    })
  )
  expect_identical(sum(came[, 1]), 110)
  expect_identical(sum(came[, 2]), 50)
  expect_identical(sum(came[, 3]), 0)
  expect_identical(nrow(archive_rows(archive, "test", "rows")), 110L)
  requests <- read.table(file.path(folder, "calls"))
  expect_identical(nrow(requests), 110L)
  expect_identical(anyDuplicated(requests$V2), 0L)
  expect_lte(
    busiest(vetusta:::sql_get(archive, "SELECT taken FROM tokens")$taken, 1),
    20L
  )
  expect_identical(nrow(archive_journal(archive)), 110L)
})

test_that("a killed collector returns no tokens and blocks nobody", {
  folder <- withr::local_tempdir()
  url <- counting_server(folder)
  card <- write_card(
    url,
    c(
      "request: /rows{?k}", "rows: /items", "columns: {n: {at: /n, as: number}}"
    ),
    c("limits: [15 per second, 60 per day]")
  )
  archive <- new_archive()
  victim <- collector(card, archive, "1:100")
  end <- Sys.time() + 30
  while (Sys.time() < end && nrow(archive_journal(archive)) < 10) {
    Sys.sleep(0.05)
  }
  victim$kill()
  run <- collect_run(
    plan_requests(
      query_rows(source_card(card), "rows", k = as.character(1:100)), archive
    ),
    archive, progress = FALSE, wait = 30
  )
  requests <- nrow(read.table(file.path(folder, "calls")))
  expect_lte(requests, 60L)
  # at most the request in progress at the kill was spent in vain
  expect_gte(requests, 59L)
  expect_gt(run$left, 0)
  expect_identical(nrow(archive_rows(archive, "test", "rows")) <= 60L, TRUE)
})

test_that("a claim holds while its process runs, not for ever", {
  archive <- new_archive()
  claim <- function(call, ...) vetusta:::store_claim(archive, call, ...)
  now <- as.numeric(Sys.time())
  expect_identical(claim("a", now), "ours")
  expect_identical(claim("a", now), "ours")
  own <- vetusta:::this_process()
  other <- function(call, process, since,
                    began = as.numeric(
                      ps::ps_create_time(ps::ps_handle(process))
                    ),
                    host = own$host) {
    vetusta:::sql_do(
      archive,
      "INSERT INTO claims (request, host, process, began, since) VALUES (?,
          ?, ?, ?, ?)",
      list(call, host, process, began, since)
    )
  }
  # another living process: the parent of this one
  living <- processx::process$new("sleep", "30")
  withr::defer(living$kill())
  other("b", living$get_pid(), now)
  expect_identical(claim("b", now), "taken")
  # its process id may belong to another program: there was no sign of life for
  # long
  other("c", living$get_pid(), now - 3600)
  expect_identical(claim("c", now), "ours")
  gone <- processx::process$new("true")
  gone$wait()
  other("d", gone$get_pid(), now, began = now)
  expect_identical(claim("d", now), "ours")
  vetusta:::store_claim_done(archive, "d")
  expect_identical(claim("d", now - 10), "done")
  expect_identical(claim("d", now + 3600), "ours")
  # its process id belongs to another program, which started at another time
  other("e", living$get_pid(), now, began = now - 86400)
  expect_identical(claim("e", now), "ours")
  # whether a process of another machine lives cannot be seen
  other("f", gone$get_pid(), now, began = now, host = "another")
  expect_identical(claim("f", now), "taken")
  # a killed collector is dead, whether or not anybody asks
  zombie <- processx::process$new("sh", c("-c", "sleep 0.2 & exec sleep 30"))
  withr::defer(zombie$kill())
  end <- Sys.time() + 20
  children <- list()
  while (!length(children) && Sys.time() < end) {
    Sys.sleep(0.1)
    children <- Filter(
      function(child) ps::ps_status(child) == "zombie",
      ps::ps_children(ps::ps_handle(zombie$get_pid()))
    )
  }
  expect_length(children, 1)
  other(
    "g",
    ps::ps_pid(children[[1]]),
    now,
    began = as.numeric(ps::ps_create_time(children[[1]]))
  )
  expect_identical(claim("g", now), "ours")
  # a run that ends releases its own claims, not those of another run of this
  # process
  expect_identical(claim("h", now), "ours")
  vetusta:::store_claims_release(archive, c("a", "c", "d", "e", "g", "b"))
  expect_identical(
    sort(vetusta:::sql_get(archive, "SELECT request FROM claims")$request),
    c("b", "f", "h")
  )
})

test_that("collectors with one query make each request once", {
  folder <- withr::local_tempdir()
  card <- bars_of(bars_server(folder))
  archive <- new_archive()
  running <- lapply(1:3, function(i) bars_collector(card, archive))
  came <- do.call(
    rbind,
    lapply(running, function(process) {
      process$wait(120000)
      expect_identical(
        process$get_exit_status(),
        0L,
        info = process$read_all_error()
      )
      as.numeric(strsplit(process$read_all_output(), " ")[[1]])
    })
  )
  expect_identical(colSums(came), c(60, 600, 0, 0))
  requests <- readLines(file.path(folder, "calls"))
  expect_identical(length(requests), 60L)
  expect_identical(anyDuplicated(requests), 0L)
  bars <- archive_bars(archive, interval = "1 minute")
  expect_identical(as.vector(table(bars$symbol)), rep(50L, 12))
})

test_that("only the missing rest of another collector's request is made", {
  folder <- withr::local_tempdir()
  card <- bars_of(bars_server(folder))
  archive <- new_archive()
  query <- query_bars(
    source_card(card), "S05", "1 minute", from = "2026-03-12", to = "2026-03-12"
  )
  # planned before the other run's first page arrived
  plan <- plan_requests(query, archive)
  collect_run(
    plan_requests(query, archive), archive, progress = FALSE, requests = 1
  )
  collect_run(plan, archive, progress = FALSE)
  expect_identical(nrow(archive_bars(archive, "S05", "1 minute")), 50L)
  requests <- readLines(file.path(folder, "calls"))
  expect_identical(anyDuplicated(archive_journal(archive)$url), 0L)
  # before the first value, and after the last
  expect_length(requests, 1 + 1 + 4)
})

test_that("a killed collector's request is taken over at once", {
  folder <- withr::local_tempdir()
  card <- bars_of(bars_server(folder))
  archive <- new_archive()
  victim <- bars_collector(card, archive)
  other <- bars_collector(card, archive)
  end <- Sys.time() + 30
  while (Sys.time() < end && nrow(archive_journal(archive)) < 15) {
    Sys.sleep(0.05)
  }
  victim$kill()
  stored <- nrow(archive_journal(archive))
  calls <- length(readLines(file.path(folder, "calls")))
  other$wait(60000)
  came <- as.numeric(strsplit(other$read_all_output(), " ")[[1]])
  expect_identical(came[3:4], c(0, 0))
  bars <- archive_bars(archive, interval = "1 minute")
  expect_identical(as.vector(table(bars$symbol)), rep(50L, 12))
  # no stored page is requested again, only pages that waited to be written
  # together
  made <- table(sub("[?].*", "", readLines(file.path(folder, "calls"))))
  expect_identical(length(made), 12L)
  expect_true(all(made >= 5 & made <= 10))
  # a symbol that is continued begins elsewhere, and ends one page later
  continued <- sum(made > 5)
  expect_lte(sum(made), 60 + max(0, calls - stored) + continued)
  # with only the first page stored, the direction of the pages is unknown, and
  # that page is requested again; no later page ever is
  journal <- archive_journal(archive)
  again <- journal$url[duplicated(journal$url)]
  expect_lte(length(again), 1L)
  expect_false(any(grepl("after=", again)))
  expect_lte(
    sum(journal$rows, na.rm = TRUE), 600 + max(1, continued) + 9 * length(again)
  )
  # and no claim is left
  expect_identical(
    nrow(
      vetusta:::sql_get(
        archive, "SELECT request FROM claims WHERE done IS NULL"
      )
    ),
    0L
  )
})

token_server <- function(lasts = 3600, refuse_after = Inf, stumble = FALSE,
                         env = parent.frame()) {
  answer <- function(n, request) {
    if (request$PATH_INFO == "/token") {
      grants <<- grants + 1
      if (stumble && grants == 1) {
        return(json_answer(list(error = "busy"), status = 503L))
      }
      known <<- c(
        known,
        stats::setNames(
          as.numeric(Sys.time()) + lasts + 5, paste0("tok-", grants)
        )
      )
      return(
        json_answer(
          list(access_token = paste0("tok-", grants), expires_in = lasts)
        )
      )
    }
    if (request$PATH_INFO == "/grants") {
      return(json_answer(list(items = list(list(n = grants)))))
    }
    served <<- served + 1
    bearer <- sub("Bearer ", "", request$HTTP_AUTHORIZATION)
    # like real services: a token before the newest one stays valid until its
    # own expiry, with some seconds of grace
    if (served > refuse_after && grants == 1) {
      known <<- known[names(known) != bearer]
    }
    if (!isTRUE(known[bearer] > as.numeric(Sys.time()))) {
      return(json_answer(list(error = "token is not known"), status = 401L))
    }
    Sys.sleep(0.05)
    json_answer(list(items = list(list(n = as.numeric(asked(request, "k"))))))
  }
  environment(
    answer
  ) <- list2env(
    list(
      grants = 0, served = 0, known = numeric(), lasts = lasts,
      refuse_after = refuse_after, stumble = stumble
    ),
    parent = globalenv()
  )
  start_scripted(answer, env = env)
}
collect_with_token <- function(url, keys = 30, env = parent.frame()) {
  withr::local_envvar(
    A_CLIENT = "desk-seven", A_SECRET = "grant-secret-55", .local_envir = env
  )
  card <- write_card(
    url,
    c(
      "request: /rows{?k}", "rows: /items", "columns: {n: {at: /n, as: number}}"
    ),
    c(
      "at_once: 6",
      paste0(
        "access: {by: token, url: /token, grant: client_credentials, ",
        "client: A_CLIENT, ", "client_secret: A_SECRET}"
      )
    ),
    env = env
  )
  got <- collect_rows(card, k = as.character(seq_len(keys)), env = env)
  got$grants <- jsonlite::fromJSON(paste0(url, "/grants"))$items$n
  got
}

test_that("concurrent requests share one token and one renewal", {
  shared <- collect_with_token(token_server())
  expect_identical(sort(shared$rows$n), as.numeric(1:30))
  expect_identical(shared$grants, 1L)
  renewed <- collect_with_token(token_server(refuse_after = 10))
  expect_identical(sort(renewed$rows$n), as.numeric(1:30))
  expect_identical(renewed$grants, 2L)
  expect_identical(nrow(renewed$run$failed), 0L)
})

test_that("a short-lived token is renewed in time, with retries", {
  short <- collect_with_token(token_server(lasts = 1), keys = 50)
  expect_identical(sort(short$rows$n), as.numeric(1:50))
  expect_identical(sum(short$journal$status == 401), 0L)
  expect_gt(short$grants, 1)
  stumbling <- collect_with_token(token_server(stumble = TRUE))
  expect_identical(sort(stumbling$rows$n), as.numeric(1:30))
  expect_identical(stumbling$grants, 2L)
})

test_that("no file of a run contains the client's secret or a token", {
  folder <- withr::local_tempdir()
  url <- token_server()
  withr::local_envvar(A_CLIENT = "desk-seven", A_SECRET = "grant-secret-55")
  card <- write_card(
    url,
    c(
      "request: /rows{?k}", "rows: /items", "columns: {n: {at: /n, as: number}}"
    ),
    paste0(
      "access: {by: token, url: /token, grant: client_credentials, ",
      "client: A_CLIENT, ", "client_secret: A_SECRET, send_client: basic}"
    )
  )
  archive <- archive_open(file.path(folder, "a.sqlite"))
  said <- capture.output(
    print(
      collect_run(
        plan_requests(
          query_rows(source_card(card), "rows", k = c("1", "2", "x")), archive
        ),
        archive, progress = FALSE, raw = TRUE
      )
    ),
    type = "output"
  )
  archive_close(archive)
  expect_gt(length(said), 0)
  for (file in list.files(folder, full.names = TRUE)) {
    bytes <- readBin(file, "raw", 1e8)
    for (secret in c(
      "grant-secret-55", "tok-1",
      jsonlite::base64_enc(charToRaw("desk-seven:grant-secret-55"))
    )) {
      expect_false(
        length(grepRaw(secret, bytes, fixed = TRUE)) > 0,
        label = paste(secret, "in", basename(file))
      )
    }
  }
  expect_false(any(grepl("grant-secret-55|tok-1", said)))
})

test_that("a server's pause holds all requests, in seconds or as a date", {
  for (form in c("seconds", "date")) {
    answer <- function(n, request) {
      times <<- c(times, as.numeric(Sys.time()))
      if (request$PATH_INFO == "/times") {
        return(json_answer(list(times = times)))
      }
      if (n == 3) {
        return(json_answer(
          list(error = "slow down"),
          list(
            "Retry-After" = if (form == "seconds") {
              "2"
            } else {
              format(
                as.POSIXct(
                  ceiling(as.numeric(Sys.time())) + 2, origin = "1970-01-01"
                ),
                "%a, %d %b %Y %H:%M:%S GMT", tz = "UTC"
              )
            }
          ),
          429L
        ))
      }
      json_answer(list(items = list(list(n = as.numeric(asked(request, "k"))))))
    }
    environment(
      answer
    ) <- list2env(list(times = numeric(), form = form), parent = globalenv())
    url <- start_scripted(answer, env = environment())
    card <- write_card(
      url,
      c(
        "request: /rows{?k}", "rows: /items",
        "columns: {n: {at: /n, as: number}}"
      ),
      env = environment()
    )
    got <- collect_rows(card, k = as.character(1:6), env = environment())
    expect_identical(sort(got$rows$n), as.numeric(1:6), label = form)
    times <- jsonlite::fromJSON(paste0(url, "/times"))$times
    expect_gte(times[4] - times[3], 1.95)
    expect_identical(sum(got$journal$status == 429), 1L)
  }
})

test_that("two sessions of a symbol, collected by two processes", {
  services <- start_services("--rate", "2000")
  folder <- withr::local_tempdir()
  desk_make(
    folder,
    urls = list(quay = services$url),
    secrets = list(QUAY_KEY = "quay-demo-7f3a91")
  )
  collect <- function(session) {
    processx::process$new(
      "Rscript",
      c(
        "--no-init-file", "-e", "vetusta::cli_main()", "collect", "quay",
        "KELD", "--interval", "1 minute", "--from", "2026-03-12", "--to",
        "2026-03-17", "--session", session, "--quiet"
      ),
      wd = folder,
      stdout = file.path(folder, paste0(session, ".out")),
      stderr = "2>&1",
      env = c("current", R_LIBS = r_libs(), R_DEFAULT_PACKAGES = "NULL")
    )
  }
  both <- lapply(c("all", "regular"), collect)
  for (process in both) process$wait(120000)
  expect_identical(
    vapply(both, function(process) process$get_exit_status(), 1L), c(0L, 0L)
  )
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  withr::defer(archive_close(archive))
  got <- archive_bars(archive, "KELD", "1 minute")
  alone <- new_archive()
  quay_key()
  source <- source_card("quay", url = services$url)
  collect_run(
    plan_requests(
      query_bars(
        source, "KELD", "1 minute", from = "2026-03-12", to = "2026-03-17",
        session = "all"
      ),
      alone
    ),
    alone, progress = FALSE
  )
  expect_identical(got$time, archive_bars(alone, "KELD", "1 minute")$time)
  expect_identical(got$close, archive_bars(alone, "KELD", "1 minute")$close)
})

test_that("weighted requests are counted by weight, by all processes", {
  folder <- withr::local_tempdir()
  url <- counting_server(folder)
  card <- write_card(
    url,
    c(
      "request: /rows{?k}", "rows: /items", "weight: 4",
      "columns: {n: {at: /n, as: number}}"
    ),
    c(
      "limits: [50 weight per second, 100 per second, 120 weight per day]",
      "at_once: 4"
    )
  )
  archive <- new_archive()
  running <- lapply(
    c("1:20", "21:40"), collector, card = card, archive = archive
  )
  for (process in running) process$wait(120000)
  # a weight of 120 is 30 requests
  requests <- read.table(file.path(folder, "calls"))
  expect_identical(nrow(requests), 30L)
  taken <- vetusta:::sql_get(archive, "SELECT taken, weight FROM tokens")
  expect_identical(unique(taken$weight), 4)
  expect_lte(busiest(taken$taken, 1), 12L)
  plan <- plan_requests(
    query_rows(source_card(card), "rows", k = as.character(41:100)), archive
  )
  expect_identical(plan$quotas$left, 0)
  expect_identical(plan$quotas$used, 120)
  expect_identical(plan$seconds, 4)
})

test_that("a weight without a limit by weight, or above one, is refused", {
  card <- function(weight, limit) {
    source_card(
      write_card(
        "http://127.0.0.1:9",
        c(
          "request: /r", "rows: /r", paste("weight:", weight),
          "columns: {n: /n}"
        ),
        paste0("limits: [", limit, "]")
      )
    )
  }
  expect_error_kind(
    card(5, "20 per second"), "card", "no limit counts weight"
  )
  expect_error_kind(
    card(50, "20 weight per second"), "card", "more than 20 weight per second"
  )
  expect_error_kind(card(-1, "20 weight per second"), "card", "weighs -1")
  expect_identical(card(5, "20 weight per second")$limits[[1]]$weighs, TRUE)
})

test_that("a fast service is not requested ahead without bound", {
  url <- counting_server(withr::local_tempdir())
  card <- write_card(
    url,
    c(
      "request: /rows{?k}", "rows: /items", "columns: {n: {at: /n, as: number}}"
    ),
    "at_once: 3"
  )
  archive <- new_archive()
  plan <- plan_requests(
    query_rows(source_card(card), "rows", k = as.character(1:40)), archive
  )
  going <- vetusta:::collect_begin(plan, archive)
  withr::defer(vetusta:::collect_release(going))
  most <- under_way <- 0
  while (vetusta:::collect_goes_on(going)) {
    vetusta:::collect_begun(going)
    # all answers are there before any of them is handled
    under_way <- max(under_way, going$run$line$active)
    while (going$run$line$active > 0) vetusta:::line_run(going$run$line, 1)
    most <- max(most, length(going$queue$finished))
    vetusta:::collect_came_in(going)
  }
  expect_lte(under_way, 3)
  # twice the number of concurrent requests, and the one begun last
  expect_lte(most, 6)
  expect_identical(vetusta:::collect_end(going)$pages, 40)
})

test_that("an answer that asks to wait is handled first", {
  for (told in list(
    list(429L, list("Retry-After" = "30")),
    list(200L, list("RateLimit-Remaining" = "0", "RateLimit-Reset" = "30"))
  )) {
    answer <- function(n, request) {
      k <- asked(request, "k")
      if (k == "3") {
        return(
          json_answer(list(items = list(list(n = 3))), told[[2]], told[[1]])
        )
      }
      json_answer(list(items = list(list(n = as.numeric(k)))))
    }
    environment(answer) <- list2env(list(told = told), parent = globalenv())
    url <- start_scripted(answer, env = environment())
    card <- write_card(
      url,
      c(
        "request: /rows{?k}", "rows: /items",
        "columns: {n: {at: /n, as: number}}"
      ),
      "at_once: 3", env = environment()
    )
    archive <- new_archive()
    plan <- plan_requests(
      query_rows(source_card(card), "rows", k = as.character(1:8)), archive
    )
    going <- vetusta:::collect_begin(plan, archive)
    vetusta:::collect_begun(going)
    while (going$run$line$active > 0) vetusta:::line_run(going$run$line, 1)
    expect_length(going$queue$finished, 3)
    # it has arrived and is not handled yet
    vetusta:::collect_begun(going)
    expect_identical(going$run$line$active, 0L)
    vetusta:::collect_came_in(going)
    expect_gt(going$queue$hold, as.numeric(Sys.time()) + 25)
    vetusta:::collect_begun(going)
    expect_identical(going$run$line$active, 0L)
    # the others are handled all the same
    for (i in 1:2) vetusta:::collect_came_in(going)
    expect_length(going$queue$finished, 0)
    expect_gte(going$tally$pages, 2)
    vetusta:::collect_release(going)
  }
})

test_that("no more requests than pages, however many are in flight", {
  folder <- withr::local_tempdir()
  url <- counting_server(folder)
  for (at_once in c(1, 4)) {
    card <- write_card(
      url,
      c(
        "request: /rows{?k}", "rows: /items",
        "columns: {n: {at: /n, as: number}}"
      ),
      paste("at_once:", at_once)
    )
    archive <- new_archive()
    for (pages in c(1, 3, 6)) {
      unlink(file.path(folder, "calls"))
      plan <- plan_requests(
        query_rows(source_card(card), "rows", k = as.character(1:20)), archive
      )
      run <- collect_run(plan, archive, progress = FALSE, requests = pages)
      expect_identical(run$pages, pages)
      expect_identical(
        nrow(read.table(file.path(folder, "calls"))), as.integer(pages)
      )
    }
  }
})
