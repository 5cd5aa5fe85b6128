# Commands as people type them, and their output.
own_desk <- function(env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  csv <- file.path(folder, "days.csv")
  days <- as.Date("2026-03-02") + c(0:4, 7:11)
  writeLines(
    c(
      "symbol,time,open,high,low,close,volume",
      paste0(
        rep(c("KELD", "TAMX"), each = 10), ",", days, ",1,30,1,", 1:20, ",10"
      )
    ),
    csv
  )
  run_vetusta(
    "import", csv, "--interval", "1 day", "--archive", "own.sqlite",
    folder = folder
  )
  function(...) run_vetusta(..., "--archive", "own.sqlite", folder = folder)
}

test_that("a failed write is reported, a closed reader is no failure", {
  vetusta <- own_desk()
  here <- environment(vetusta)$folder
  shell <- function(line) {
    processx::run(
      "sh",
      c("-c", line),
      wd = here,
      env = c("current", R_LIBS = r_libs(), R_DEFAULT_PACKAGES = "NULL"),
      error_on_status = FALSE
    )
  }
  command <- "Rscript --no-init-file -e 'vetusta::cli_main()'"
  for (what in c(
    "list --archive own.sqlite", "export KELD --archive own.sqlite", "help",
    "--help", "gaps KELD --archive own.sqlite --json"
  )) {
    full <- shell(paste(command, what, "> /dev/full"))
    expect_identical(full$status, 1L, label = what)
    expect_match(full$stderr, "standard output cannot be written", label = what)
    expect_identical(
      shell(paste(command, what, ">&-"))$status, 1L, label = what
    )
  }
  long <- file.path(here, "long.csv")
  writeLines(
    c(
      "symbol,time,close",
      sprintf("LONG,%s,%d", as.Date("1900-01-01") + 1:30000, 1:30000)
    ),
    long
  )
  vetusta("import", "long.csv", "--interval", "1 day")
  left <- shell(paste0(command, " export LONG --archive own.sqlite | head -1"))
  expect_false(grepl("rror", left$stderr), label = left$stderr)
  expect_identical(
    shell(
      paste0(command, " export KELD --archive own.sqlite | head -1")
    )$stdout,
    "symbol,time,open,high,low,close,volume,session,side,status\n"
  )
})

test_that("symbols with commas, and errors in words of the command line", {
  vetusta <- own_desk()
  expect_identical(
    utils::read.csv(text = vetusta("export", "KELD,TAMX")$stdout)$symbol,
    rep(c("KELD", "TAMX"), each = 10)
  )
  wrong <- list(
    c("gaps", "KELD", "--from", "2027-01-01"),
    c("fill", "KELD", "--from", "2027-01-01"),
    c("align", "KELD", "--take", "linear"),
    c("resample", "KELD", "--into", "1 hour"),
    c("change", "KELD", "--change", "mean"),
    c("fill", "KELD", "--rule", "constant"), c("export", "KELD@1 minute"),
    c("gaps", "KELD", "--interval", "1 day")
  )
  for (words in wrong) {
    run <- do.call(vetusta, as.list(words))
    expect_identical(run$status, 2L, label = paste(words, collapse = " "))
    expect_false(
      grepl(
        paste0(
          "[a-z]+_[a-z]+\\(\\)|`(from|to|interval|window|constant|rule|",
          "at_most)`|c\\(\""
        ),
        run$stderr
      ),
      label = run$stderr
    )
    expect_match(run$stderr, "to do: ", label = paste(words, collapse = " "))
  }
  expect_match(
    vetusta("fill", "KELD", "--from", "2027-01-01")$stderr,
    "is after the last value"
  )
})

test_that("a wrong source, dataset or year is wrong usage", {
  folder <- withr::local_tempdir()
  desk_make(folder, cards = "quay")
  vetusta <- function(...) run_vetusta(..., folder = folder)
  unknown <- vetusta(
    "collect", "quai", "KELD", "--interval", "1 day", "--span", "5 days"
  )
  expect_identical(unknown$status, 2L)
  expect_match(unknown$stderr, "quay")
  expect_identical(
    vetusta("calendar", "show", "quay", "--year", "26")$status, 2L
  )
  for (pages in c("-1", "0", "1.5", "x")) {
    run <- vetusta(
      "collect", "quay", "KELD", "--interval", "1 day", "--span", "5 days",
      paste0("--requests=", pages)
    )
    expect_identical(run$status, 2L, label = pages)
    expect_match(run$stderr, "--requests", label = pages)
  }
  checked <- vetusta("sources", "check", "quay")
  expect_match(checked$stdout, "source quay")
  writeLines(
    c(
      "source: quay", "url: http://127.0.0.1:9", "title: Changed here",
      paste0(
        "datasets: {rows: {shape: table, request: /rows, rows: /items, ",
        "columns: {id: /id}}}"
      )
    ),
    file.path(folder, "sources", "quay.yml")
  )
  expect_match(vetusta("sources", "check", "quay")$stdout, "Changed here")
  listed <- jsonlite::fromJSON(
    vetusta("sources", "--json")$stdout, simplifyVector = FALSE
  )
  expect_identical(listed[[1]]$datasets, list("rows"))
  writeLines("desk: [", file.path(folder, "desk.yml"))
  for (words in list(
    c("list"),
    c("plan", "quay", "KELD", "--interval", "1 day", "--span", "5 days"),
    c("sources")
  )) {
    run <- do.call(vetusta, as.list(words))
    expect_match(run$stderr, "desk.yml", label = words[1])
    expect_identical(run$status, 1L, label = words[1])
  }
})

test_that("export uses every option or refuses it", {
  url <- start_scripted(function(n, request) {
    station <- sub(".*/", "", request$PATH_INFO)
    json_answer(list(
      items = lapply(1:20, function(i) {
        list(day = format(as.Date("2026-01-01") + i - 1), level = i)
      })
    ))
  })
  card <- write_card(
    url,
    c(
      "request: /levels/{station}", "rows: /items",
      paste0(
        "columns: {series: {of: station}, period: {at: /day, as: day}, ",
        "value: {at: /level, ", "as: number}}"
      )
    )
  )
  writeLines(sub("shape: table", "shape: observations", readLines(card)), card)
  archive <- new_archive()
  collect_run(
    plan_requests(
      query_rows(source_card(card), "rows", station = c("a", "b")), archive
    ),
    archive, progress = FALSE
  )
  export <- function(...) {
    run_vetusta("export", ..., "--archive", archive$path)
  }
  read <- function(run) utils::read.csv(text = run$stdout)
  expect_identical(nrow(read(export("test/rows"))), 40L)
  expect_identical(unique(read(export("test/rows/b"))$series), "b")
  expect_identical(nrow(read(export("test/rows", "series=a"))), 20L)
  windowed <- read(export("a", "--from", "2026-01-05", "--to", "2026-01-07"))
  expect_identical(windowed$value, 5:7)
  expect_identical(export("c")$status, 1L + 1L)
  expect_identical(export("test/rows", "colour=red")$status, 2L)
  expect_identical(export()$status, 2L)
  expect_identical(export("a", "--file", "x.xls")$status, 1L)
})

test_that("an absent symbol is not retried, and plurals are right", {
  url <- start_scripted(function(n, request) {
    if (grepl("GONE", request$PATH_INFO)) {
      json_answer(list(error = "no such symbol"), status = 404L)
    } else {
      json_answer(
        list(items = list(list(t = 1773300600, o = 1, h = 1, l = 1, c = 1)))
      )
    }
  })
  folder <- withr::local_tempdir()
  file.copy(plain_card(url), file.path(folder, "test.yml"))
  run <- run_vetusta(
    "collect", "test.yml", "KELD,GONE", "--interval", "1 minute", "--from",
    "2026-03-12", "--to", "2026-03-12", "--archive", "a.sqlite", folder = folder
  )
  expect_identical(run$status, 1L)
  expect_match(run$stdout, "in 1 page and")
  expect_match(run$stderr, "once the source has the data")
  json <- jsonlite::fromJSON(
    run_vetusta(
      "collect", "test.yml", "NONE", "--interval", "1 minute", "--from",
      "2026-03-13", "--to", "2026-03-13", "--archive", "a.sqlite", "--json",
      folder = folder
    )$stdout,
    simplifyVector = FALSE
  )
  expect_true(is.list(json$empty))
})

test_that("progress is for terminals: a log file gets no bars", {
  url <- start_scripted(function(n, request) {
    at <- as.numeric(asked(request, "page") %||% 1)
    json_answer(
      list(
        items = list(
          list(t = 1773300600 + 60 * at, o = 1, h = 1, l = 1, c = 1)
        ),
        more = if (at < 12) paste0("/bars/KELD?page=", at + 1)
      )
    )
  })
  folder <- withr::local_tempdir()
  file.copy(plain_card(url), file.path(folder, "test.yml"))
  run <- run_vetusta(
    "collect", "test.yml", "KELD", "--interval", "1 minute", "--from",
    "2026-03-12", "--to", "2026-03-12", "--archive", "a.sqlite", folder = folder
  )
  expect_identical(run$status, 0L)
  expect_false(grepl("pages \\|", run$stderr))
  # on a terminal, with more pages than planned, and slow enough to be drawn
  skip_if_not(nzchar(Sys.which("script")), "no terminal can be played here")
  line <- sprintf(
    paste0(
      "cd %s && R_LIBS=%s Rscript --no-init-file -e ",
      "'vetusta::cli_main()' collect ",
      "test.yml KELD --interval '1 minute' --from 2026-03-12 --to ",
      "2026-03-12 --archive b.sqlite"
    ),
    shQuote(folder), shQuote(r_libs())
  )
  drawn <- processx::run(
    "script", c("-qec", line, "/dev/null"), error_on_status = FALSE,
    timeout = 120
  )
  expect_identical(drawn$status, 0L)
  expect_match(drawn$stdout, "collected 12 new bars")
  expect_false(grepl("rror", drawn$stdout))
})

test_that("a station's days before its first one are told as such", {
  vetusta <- own_desk()
  archive <- archive_open(file.path(environment(vetusta)$folder, "own.sqlite"))
  withr::defer(archive_close(archive))
  put_rows(
    archive, "river", "stations", "places",
    data.frame(
      place = c("old", "new"),
      first = as.Date(c("1981-01-01", "2026-01-04"))
    )
  )
  put_rows(
    archive, "river", "levels", "observations",
    data.frame(
      series = c(rep("old", 6), rep("new", 3)),
      period = as.Date("2026-01-01") + c(0:5, 3:5),
      value = 1
    )
  )
  out <- vetusta("gaps", "river/levels")
  expect_match(out$stdout, "new +2026-01-01 +2026-01-03 +3 +before listing")
})

test_that("the first screen is short, and each command stands in one group", {
  lines <- strsplit(run_vetusta("help")$stdout, "\n")[[1]]
  expect_lte(length(lines), 24)
  expect_lte(max(nchar(lines)), 80)
  expect_setequal(unlist(vetusta:::cli_groups), names(vetusta:::cli_commands))
  expect_identical(anyDuplicated(unlist(vetusta:::cli_groups)), 0L)
  for (group in setdiff(names(vetusta:::cli_groups), "collect")) {
    out <- run_vetusta("help", group)
    expect_identical(out$status, 0L)
    shown <- sub(
      "^  ([a-z]+) .*", "\\1",
      grep("^  [a-z]", strsplit(out$stdout, "\n")[[1]], value = TRUE)
    )
    expect_identical(shown, vetusta:::cli_groups[[group]])
  }
  expect_match(
    run_vetusta("help", "collect")$stdout,
    "others of its group: plan, track, refresh"
  )
})

test_that("what is called otherwise elsewhere gets a hint, and is no command", {
  expect_true(all(vetusta:::cli_meanings %in% names(vetusta:::cli_commands)))
  expect_false(
    any(names(vetusta:::cli_meanings) %in% names(vetusta:::cli_commands))
  )
  out <- run_vetusta("chart", "KELD")
  expect_identical(out$status, 2L)
  expect_match(
    out$stderr, "there is no command \"chart\"; `vetusta figure` does that"
  )
  expect_match(
    run_vetusta("help", "update")$stderr, "`vetusta refresh` does that"
  )
  expect_match(run_vetusta("colect")$stderr, "did you mean \"collect\"")
})

test_that("a desk or an archive may be named before the command", {
  folder <- withr::local_tempdir()
  csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
  run_vetusta(
    "--archive", "own.sqlite", "import", csv, "--symbol", "KELD", "--interval",
    "1 day", folder = folder
  )
  expect_match(
    run_vetusta(
      "--archive=own.sqlite", "list", "series", folder = folder
    )$stdout,
    "KELD@1 day"
  )
  expect_identical(
    run_vetusta("--archive", "own.sqlite", folder = folder)$status, 2L
  )
  expect_identical(run_vetusta("--desk", folder = folder)$status, 2L)
})

test_that("a plain locale gets dots that it can write", {
  code <- "cat(vetusta:::short_names(c('abcdefgh', 'abc', NA), 6))"
  said <- function(locale) {
    processx::run(
      "Rscript",
      c("--no-init-file", "-e", code),
      env = c("current", LC_ALL = locale, R_LIBS = r_libs())
    )$stdout
  }
  expect_identical(said("C"), "abc... abc NA")
  expect_identical(said("C.UTF-8"), "abcde\u2026 abc NA")
})
