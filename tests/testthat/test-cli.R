# A desk with two days collected, made once; every test reads it.
desk <- local({
  made <- NULL
  function() {
    if (is.null(made)) {
      folder <- withr::local_tempdir(.local_envir = testthat::teardown_env())
      services <- start_services(env = testthat::teardown_env())
      desk_make(folder, title = "A test desk", addresses = list(quay = services$address), secrets = list(QUAY_KEY = "quay-demo-7f3a91"))
      run <- run_vetusta("collect", "quay", "KELD", "TAMX", "--interval", "1 minute", "--from", "2026-03-16", "--to", "2026-03-18", folder = folder)
      made <<- list(folder = folder, run = run)
    }
    made
  }
})
vetusta <- function(..., env = character()) run_vetusta(..., folder = desk()$folder, env = env)

test_that("collect tells what it does on standard error and its result on standard output", {
  run <- desk()$run
  expect_identical(run$status, 0L)
  expect_match(run$stdout, "^collected [0-9,]+ new bars in [0-9]+ pages")
  expect_match(run$stderr, "requests  10 for 2 symbols, at most 2,340 bars")
})

test_that("list shows the series, for people and for programs", {
  expect_match(vetusta("list")$stdout, "quay    KELD    1 minute  1,1[0-9]{2}  2026-03-16 07:30  2026-03-18 13:59")
  listed <- jsonlite::fromJSON(vetusta("list", "--json")$stdout)
  expect_identical(listed$symbol, c("KELD", "TAMX"))
  expect_match(listed$first[1], "^2026-03-16T07:3[0-9]:00Z$")
  journal <- jsonlite::fromJSON(vetusta("list", "journal", "--json")$stdout)
  expect_true(all(journal$status == 200))
  expect_identical(vetusta("list", "findings")$status, 0L)
})

test_that("gaps shows the halt", {
  gaps <- vetusta("gaps", "KELD", "TAMX", "--interval", "1 minute", "--from", "2026-03-16", "--to", "2026-03-18")
  expect_match(gaps$stdout, "TAMX    2026-03-17 09:30  2026-03-18 15:59      780  no trade")
  read <- jsonlite::fromJSON(vetusta("gaps", "KELD", "TAMX", "--interval", "1 minute", "--json", "--to", "2026-03-18")$stdout)
  expect_identical(max(read$gaps$missing), 780L)
})

test_that("export writes nothing but data to standard output", {
  out <- vetusta("export", "KELD", "--interval", "1 minute", "--regroup", "1 day")
  rows <- utils::read.csv(text = out$stdout)
  expect_identical(rows$symbol, rep("KELD", 3))
  expect_identical(rows$expected, rep(390L, 3))
  expect_match(out$stderr, "wrote 3 bars")
})

test_that("figure writes the kind of file that its name says", {
  expect_identical(vetusta("figure", "candles", "KELD", "--interval", "1 minute", "--regroup", "1 hour", "--file", "c.png")$status, 0L)
  expect_identical(readBin(file.path(desk()$folder, "c.png"), "raw", 4), as.raw(c(0x89, 0x50, 0x4e, 0x47)))
  expect_identical(vetusta("figure", "lines", "KELD", "TAMX", "--interval", "1 minute", "--base", "100", "--file", "l.svg")$status, 0L)
  expect_match(readLines(file.path(desk()$folder, "l.svg"), n = 1), "xml")
})

test_that("import and list work with an archive of one's own, without a desk", {
  folder <- withr::local_tempdir()
  csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
  imported <- run_vetusta("import", csv, "--symbol", "KELD", "--interval", "1 day", "--archive", "my.sqlite", folder = folder)
  expect_identical(imported$status, 0L)
  expect_match(imported$stdout, "4 new, 0 changed")
  expect_match(run_vetusta("list", "--archive", "my.sqlite", folder = folder)$stdout, "own     KELD    1 day")
  expect_match(run_vetusta("list", folder = folder)$stderr, "no desk here")
})

test_that("every command helps, with an example, and ends with 0", {
  for (command in names(vetusta:::cli_commands)) {
    out <- run_vetusta(if (command == "help") character() else "help", command)
    if (command == "help") next
    expect_identical(out$status, 0L, label = command)
    expect_match(out$stdout, "example:", label = command)
  }
  expect_identical(run_vetusta()$status, 2L)
  expect_match(run_vetusta("version")$stdout, "^vetusta [0-9.]+\n$")
})

test_that("what people read of the command line stays as it is", {
  expect_snapshot(cat(run_vetusta("help")$stdout))
  expect_snapshot(cat(run_vetusta("plan", "--help")$stdout))
  expect_snapshot(cat(run_vetusta("import", "--help")$stdout))
})

test_that("wrong usage ends with 2, a failure with 1, and both say what to do", {
  wrong <- list(
    c("colect"), c("list", "--jsno"), c("list", "everything"), c("list", "a", "b"), c("collect"), c("collect", "quay", "KELD", "--interval"),
    c("collect", "quay", "KELD", "--span", "1 day"), c("plan", "quay", "KELD", "--interval", "1 minut", "--span", "1 day"),
    c("plan", "quay", "KELD", "--interval", "1 minute", "--from", "2026-03-20", "--to", "2026-03-12"), c("gaps", "KELD"), c("gaps", "KELLD", "--interval", "1 minute"),
    c("figure", "candles"), c("figure", "pie", "KELD", "--interval", "1 minute"), c("figure", "lines", "KELD", "--interval", "1 minute", "--base", "none"),
    c("export", "KELD", "--interval", "1 year"), c("import"), c("import", "x.csv"), c("services", "--port", "many"), c("demo", "a", "b"), c("help", "demmo"), c("version", "please")
  )
  for (words in wrong) {
    out <- vetusta(words)
    expect_identical(out$status, 2L, label = paste(words, collapse = " "))
    expect_identical(out$stdout, "", label = paste(words, collapse = " "))
    expect_match(out$stderr, "to do|use one of|did you mean", label = paste(words, collapse = " "))
  }
  failing <- list(c("collect", "kway", "KELD", "--interval", "1 minute", "--span", "1 day"), c("figure", "candles", "KELD", "--interval", "1 minute", "--file", "x.gif"),
    c("import", "none.csv", "--interval", "1 day", "--symbol", "KELD"), c("list", "--archive", "none.sqlite"), c("gaps", "KELD", "--interval", "1 minute", "--calendar", "none"))
  for (words in failing) {
    out <- vetusta(words)
    expect_identical(out$status, 1L, label = paste(words, collapse = " "))
    expect_match(out$stderr, "to do: ", label = paste(words, collapse = " "))
  }
})

test_that("kill -9 in the middle of a collection loses nothing and asks for no stored page again", {
  services <- start_services("--page", "20", "--calls", "100000")
  words <- c("collect", "quay", "KELD", "TAMX", "--interval", "1 minute", "--from", "2026-03-12", "--to", "2026-03-13", "--quiet")
  fresh <- function() {
    folder <- withr::local_tempdir(.local_envir = parent.frame(2))
    desk_make(folder, addresses = list(quay = services$address), secrets = list(QUAY_KEY = "quay-demo-7f3a91"))
    card <- file.path(folder, "sources", "quay.yml")
    writeLines(sub("^limits:.*", "limits: [1000 per second]", readLines(card)), card)
    folder
  }
  undisturbed <- fresh()
  expect_identical(run_vetusta(words, folder = undisturbed)$status, 0L)
  killed <- fresh()
  for (i in 1:3) {
    process <- processx::process$new("Rscript", c("--no-init-file", "-e", "vetusta::cli_main()", words), wd = killed, stdout = NULL, stderr = NULL,
      env = c("current", R_LIBS = r_libs()))
    pages <- function() tryCatch({
      archive <- archive_open(file.path(killed, "archive.sqlite"), create = FALSE)
      on.exit(archive_close(archive))
      sum(archive_journal(archive)$outcome == "stored")
    }, error = function(e) 0)
    end <- Sys.time() + 30
    while (Sys.time() < end && process$is_alive() && pages() < 12 * i) Sys.sleep(0.01)
    process$signal(9)
    process$wait(5000)
  }
  expect_identical(run_vetusta(words, folder = killed)$status, 0L)
  read <- function(folder) {
    archive <- archive_open(file.path(folder, "archive.sqlite"))
    on.exit(archive_close(archive))
    list(bars = archive_bars(archive, c("KELD", "TAMX"), "1 minute"), journal = archive_journal(archive))
  }
  whole <- read(undisturbed)
  after <- read(killed)
  expect_identical(after$bars, whole$bars)
  expect_gt(length(unique(after$journal$run)), 1)
  # each stored page brought rows of its own: no row came twice
  expect_identical(sum(after$journal$rows), nrow(whole$bars))
})

test_that("the key is in no output, log, archive or file but the env file", {
  folder <- desk()$folder
  outputs <- list(desk()$run, vetusta("list", "journal", "--json"), vetusta("plan", "quay", "KELD", "--interval", "1 minute", "--span", "1 day"),
    vetusta("collect", "quay", "NONE", "--interval", "1 minute", "--from", "2026-03-16", "--to", "2026-03-16", "--quiet"))
  for (out in outputs) expect_false(grepl("quay-demo-7f3a91", paste(out$stdout, out$stderr), fixed = TRUE))
  for (file in setdiff(list.files(folder, recursive = TRUE, full.names = TRUE, all.files = TRUE), file.path(folder, "desk.env"))) {
    expect_length(grepRaw("quay-demo-7f3a91", readBin(file, "raw", file.size(file)), fixed = TRUE), 0)
  }
})

test_that("the demo runs from nothing to figures, and again", {
  folder <- withr::local_tempdir()
  first <- run_vetusta("demo", "tried", folder = folder)
  expect_identical(first$status, 0L)
  expect_true(all(file.exists(file.path(folder, "tried", c("candles.png", "lines.png", "days.csv", "archive.sqlite")))))
  expect_match(first$stdout, "collected 14,[0-9]{3} new bars in [0-9]+ pages")
  expect_match(first$stdout, "TAMX    2026-03-17 09:30  2026-03-18 15:59      780  no trade")
  second <- run_vetusta("demo", "tried", folder = folder)
  expect_identical(second$status, 0L)
  expect_match(second$stdout, "requests  none")
})
