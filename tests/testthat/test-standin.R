services <- local({
  made <- NULL
  function(...) {
    if (is.null(made)) {
      made <<- start_services(
        "--rate",
        "100000",
        env = testthat::teardown_env()
      )
    }
    made
  }
})
with_keys <- function(env = parent.frame()) {
  withr::local_envvar(vetusta:::standin_keys, .local_envir = env)
}
source_at <- function(name, root = services()$root) {
  card <- source_card(name, url = paste0(root, "/", name))
  card$limits <- list()
  card
}
collect_from <- function(source, archive, query) {
  collect_run(plan_requests(query, archive), archive, progress = FALSE)
}

test_that("every ready card collects from its service", {
  with_keys()
  archive <- new_archive()
  quay <- source_at("quay")
  run <- collect_from(quay, archive, query_rows(quay, "directory"))
  # fourteen sectors, the largest of several pages; some instruments are in two
  # of them
  expect_gte(run$pages, 14)
  directory <- archive_rows(archive, "quay", "directory")
  expect_identical(
    c(nrow(directory), length(unique(directory$sector))), c(1203L, 14L)
  )
  expect_gt(run$unchanged + run$changed, 20)
  collect_from(quay, archive, query_rows(quay, "market"))
  market <- archive_rows(archive, "quay", "market")
  expect_true(
    is.numeric(market$change_percent) &&
      any(market$change_percent < 0) &&
      any(market$change_percent > 0)
  )
  river <- source_at("river")
  collect_from(
    river, archive,
    query_rows(
      river, "levels", station = "kelder-lock", from = "1981-01-01",
      to = "2026-03-31"
    )
  )
  levels <- archive_rows(archive, "river", "levels")
  expect_identical(
    as.integer(as.Date("2026-03-31") - as.Date("1981-01-01") + 1) -
      nrow(levels),
    63L
  )
  expect_s3_class(levels$period, "Date")
  register <- source_at("register")
  run <- collect_from(
    register, archive,
    query_rows(register, "facts", symbol = c("KELD", "LUDX", "TAMX"))
  )
  expect_identical(run$failed$symbol, "LUDX")
  # two companies, 35 items, ten years of three quarters and the whole
  expect_identical(nrow(archive_rows(archive, "register", "facts")), 2800L)
  fixing <- source_at("fixing")
  run <- collect_from(
    fixing, archive,
    query_bars(
      fixing, "ORV-TSK", "1 hour", from = "2025-01-01", to = "2025-12-31"
    )
  )
  expect_identical(nrow(run$failed), 0L)
  expect_identical(
    as.numeric(table(archive_bars(archive, "ORV-TSK", "1 hour")$side)),
    rep(8760, 2)
  )
  collect_from(fixing, archive, query_rows(fixing, "rates", day = "2026-03-12"))
  expect_setequal(
    archive_rows(archive, "fixing", "rates")$series, c("TSK", "MIR", "LUD")
  )
})

test_that("a job is polled, downloaded, stored, and resumed", {
  with_keys()
  hall <- source_at("hall")
  archive <- new_archive()
  query <- query_bars(
    hall, "SALT", "1 day", from = "2010-01-01", to = "2025-12-31"
  )
  plan <- plan_requests(query, archive)
  # as after a kill: the ticket is stored, and half of the file is there
  run <- vetusta:::run_make(
    query, vetusta:::archive_sink(archive, query), planned = TRUE
  )
  queue <- vetusta:::queue_make(plan$requests)
  chain <- vetusta:::next_chain(run, queue)
  job <- vetusta:::job_make(run, queue, chain)
  job$tally <- vetusta:::tally_make()
  asked <- vetusta:::job_ask(job)
  while (is.null(note <- vetusta:::job_look(job, asked))) {
    expect_identical(queue$job, job)
    Sys.sleep(max(0, job$look_at - as.numeric(Sys.time())))
  }
  file <- vetusta:::job_file(job)
  expect_null(vetusta:::job_download_rest(run, note$link, file))
  whole <- readBin(file, "raw", file.size(file))
  writeBin(whole[seq_len(length(whole) %/% 2)], file)
  asked <- sum(archive_journal(archive)$message == "the export", na.rm = TRUE)
  run <- collect_run(plan, archive, progress = FALSE)
  expect_identical(run$new, 4106)
  expect_identical(
    sum(archive_journal(archive)$message == "the export", na.rm = TRUE), asked
  )
  expect_false(file.exists(file))
  expect_identical(
    as.Date(archive_bars(archive, "SALT", "1 day")$time[1], tz = "Europe/Riga"),
    as.Date("2010-01-04")
  )
})

test_that("simulated faults: complete in the end, nothing doubled", {
  with_keys()
  quay <- source_at("quay")
  query <- function(source) {
    query_bars(
      source, c("KELD", "TAMX"), "1 minute", from = "2026-03-12",
      to = "2026-03-13"
    )
  }
  clean <- new_archive()
  collect_from(quay, clean, query(quay))
  whole <- archive_bars(clean, c("KELD", "TAMX"), "1 minute")
  for (fault in c(
    "status-408", "status-429", "status-503", "cut", "html", "empty", "gzip",
    "rate-header"
  )) {
    spoilt <- start_services(
      "--rate", "100000", "--fault", fault, "--fault-every", "3",
      env = environment()
    )
    archive <- new_archive(environment())
    run <- collect_from(NULL, archive, query(source_at("quay", spoilt$root)))
    expect_identical(nrow(run$failed), 0L, label = fault)
    expect_identical(
      archive_bars(archive, c("KELD", "TAMX"), "1 minute"), whole, label = fault
    )
    spoilt$process$kill()
  }
})

test_that("permanent faults are recorded; the next run completes", {
  with_keys()
  for (fault in c("schema", "elsewhere")) {
    spoilt <- start_services(
      "--rate", "100000", "--fault", fault, "--fault-every", "1",
      env = environment()
    )
    archive <- new_archive(environment())
    source <- source_at("quay", spoilt$root)
    run <- tryCatch(
      collect_from(
        source, archive,
        query_bars(
          source, "KELD", "1 minute", from = "2026-03-12", to = "2026-03-12"
        )
      ),
      vetusta_error_network = identity
    )
    expect_match(
      run$failed$what, if (fault == "schema") "/lst" else "another place"
    )
    whole <- source_at("quay")
    again <- collect_from(
      whole, archive,
      query_bars(
        whole, "KELD", "1 minute", from = "2026-03-12", to = "2026-03-12"
      )
    )
    expect_gt(again$new, 370)
    spoilt$process$kill()
  }
})

test_that("raw pages are reparsed with a corrected card, offline", {
  with_keys()
  archive <- new_archive()
  file <- withr::local_tempfile(fileext = ".yml")
  good <- readLines(system.file("cards", "quay.yml", package = "vetusta"))
  writeLines(sub("close: /lst", "close: /fst", good), file)
  wrong <- source_card(file, url = services()$url)
  collect_run(
    plan_requests(
      query_bars(
        wrong, "KELD", "1 minute", from = "2026-03-12", to = "2026-03-12"
      ),
      archive
    ),
    archive, progress = FALSE, raw = TRUE
  )
  bars <- archive_bars(archive, "KELD", "1 minute")
  expect_identical(bars$close, bars$open)
  requests <- nrow(archive_journal(archive))
  run <- collect_reparse(source_at("quay"), "bars", archive)
  expect_gt(run$changed, 300)
  expect_identical(nrow(archive_journal(archive)), requests)
  expect_false(
    identical(archive_bars(archive, "KELD", "1 minute")$close, bars$close)
  )
  expect_error_kind(
    collect_reparse(source_at("river"), "levels", archive), "argument",
    "no raw page"
  )
  expect_length(
    grepRaw(
      "quay-demo-7f3a91",
      readBin(archive$path, "raw", file.size(archive$path)), fixed = TRUE
    ),
    0
  )
})

test_that("a draft finds rows, types and paging, and collects", {
  with_keys()
  folder <- withr::local_tempdir()
  file <- function(name) file.path(folder, name)
  save <- function(path, name) {
    writeBin(
      curl::curl_fetch_memory(
        paste0(services()$url, path, "&key=quay-demo-7f3a91")
      )$content,
      file(name)
    )
  }
  save("/bars/KELD/m1?from=1773266400000&until=1773352800000", "first.json")
  save("/bars/KELD/m1?from=1773320000000&until=1773352800000", "last.json")
  draft <- source_draft(c(file("first.json"), file("last.json")), "quay")
  expect_match(
    draft, "next_page: {by: url, at: /more}", fixed = TRUE, all = FALSE
  )
  expect_match(draft, "absent on the last page", all = FALSE)
  expect_match(
    draft, "time: {at: \"/at\", as: epoch-ms}", fixed = TRUE, all = FALSE
  )
  draft <- sub(
    "^access: .*", "access: {by: query, name: key, secret: QUAY_KEY}",
    sub("^url: .*", paste0("url: ", services()$url), draft)
  )
  draft <- sub(
    "request: .*",
    "request: \"/bars/{symbol}/m1?from=1773266400000&until=1773352800000\"",
    draft
  )
  writeLines(draft, file("quay.yml"))
  archive <- new_archive()
  run <- collect_run(
    plan_requests(
      query_bars(
        source_card(file("quay.yml")), "KELD", "1 minute", from = "2026-03-12",
        to = "2026-03-12"
      ),
      archive
    ),
    archive, progress = FALSE
  )
  expect_gt(run$new, 370)
  writeLines(
    paste0(
      '{"data":{"list":[{"a":"2026-03-12","b":"1,5"},',
      '{"a":"2026-03-13"}],"total":2}}'
    ),
    file("two.json")
  )
  second <- source_draft(file("two.json"))
  expect_match(second, "need: optional", all = FALSE)
  expect_match(second, "total: /data/total", all = FALSE)
  expect_error_kind(source_draft(file("none.json")), "draft", "no such sample")
  writeLines("{\"a\": [1", file("cut.json"))
  expect_error_kind(source_draft(file("cut.json")), "draft", "not valid JSON")
})

test_that("sources and secrets on the command line, without values", {
  folder <- withr::local_tempdir()
  desk_make(
    folder,
    cards = c("quay", "river"),
    secrets = list(QUAY_KEY = "hidden-value-1")
  )
  expect_match(
    run_vetusta("sources", folder = folder)$stdout,
    "river   Sarn River Survey   header  not set"
  )
  expect_identical(run_vetusta("secrets", "check", folder = folder)$status, 1L)
  set <- processx::run(
    "Rscript",
    c(
      "--no-init-file", "-e", "vetusta::cli_main()", "secrets", "set",
      "SURVEY_TOKEN"
    ),
    stdin = local({
      file <- withr::local_tempfile(.local_envir = parent.frame(2))
      writeLines("hidden-value-2", file)
      file
    }),
    wd = folder,
    env = c("current", R_LIBS = r_libs()),
    error_on_status = FALSE
  )
  expect_identical(set$status, 0L)
  listed <- run_vetusta("secrets", "list", folder = folder)
  expect_match(listed$stdout, "SURVEY_TOKEN  env file")
  expect_identical(run_vetusta("secrets", "check", folder = folder)$status, 0L)
  expect_false(
    grepl(
      "hidden-value",
      paste(set$stdout, set$stderr, listed$stdout, listed$stderr)
    )
  )
  expect_identical(file.mode(file.path(folder, "desk.env")), as.octmode("600"))
  expect_identical(
    run_vetusta(
      "sources", "check", file.path("sources", "quay.yml"), folder = folder
    )$status,
    0L
  )
  writeLines(
    sub(
      "shape: bars", "shape: bras",
      readLines(file.path(folder, "sources", "quay.yml"))
    ),
    file.path(folder, "wrong.yml")
  )
  wrong <- run_vetusta("sources", "check", "wrong.yml", folder = folder)
  expect_identical(wrong$status, 1L)
  expect_match(wrong$stderr, "did you mean \"bars\"")
  for (words in list(
    c("sources", "chek"), c("sources", "check"), c("sources", "draft"),
    c("secrets"), c("secrets", "set"), c("reparse", "quay"),
    c("collect", "river", "kelder", "levels")
  )) {
    expect_identical(
      run_vetusta(words, folder = folder)$status,
      2L,
      label = paste(words, collapse = " ")
    )
  }
})

test_that("a free port that is taken meanwhile is left for another", {
  tried <- integer()
  listening <- vetusta:::standin_listen(0, function(port) {
    tried <<- c(tried, port)
    if (length(tried) < 3) stop("address already in use")
    "open"
  })
  expect_identical(listening, list(open = "open", port = tried[3]))
  expect_error_kind(
    vetusta:::standin_listen(8471, function(port) stop("in use")), "service",
    "The port 8471 is taken"
  )
})
