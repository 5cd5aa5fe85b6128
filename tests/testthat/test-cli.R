# A desk with two collected days, made once; every test reads it.
desk <- local({
  made <- NULL
  function() {
    if (is.null(made)) {
      folder <- withr::local_tempdir(.local_envir = testthat::teardown_env())
      services <- start_services(env = testthat::teardown_env())
      desk_make(
        folder,
        title = "A test desk",
        urls = list(quay = services$url),
        secrets = list(QUAY_KEY = "quay-demo-7f3a91")
      )
      run <- run_vetusta(
        "collect", "quay", "KELD", "TAMX", "--interval", "1 minute", "--from",
        "2026-03-16", "--to", "2026-03-18", folder = folder
      )
      made <<- list(folder = folder, run = run)
    }
    made
  }
})
vetusta <- function(..., env = character()) {
  run_vetusta(..., folder = desk()$folder, env = env)
}

test_that("collect writes progress to stderr and its result to stdout", {
  run <- desk()$run
  expect_identical(run$status, 0L)
  expect_match(run$stdout, "^collected [0-9,]+ new bars in [0-9]+ pages")
  expect_match(run$stderr, "requests  10 for 2 symbols, at most 2,340 bars")
})

test_that("list shows the series, for people and for programs", {
  expect_match(
    vetusta("list", "series")$stdout,
    "quay/bars/KELD@1 minute  1,1[0-9]{2}  2026-03-16 07:30  2026-03-18 13:59"
  )
  listed <- jsonlite::fromJSON(vetusta("list", "series", "--json")$stdout)
  expect_identical(listed$key, c("KELD", "TAMX"))
  expect_match(listed$first[1], "^2026-03-16T07:3[0-9]:00Z$")
  journal <- jsonlite::fromJSON(vetusta("list", "journal", "--json")$stdout)
  expect_true(all(journal$status == 200))
  expect_identical(vetusta("list", "rejected")$status, 0L)
})

test_that("gaps shows the halt", {
  gaps <- vetusta(
    "gaps", "KELD", "TAMX", "--from", "2026-03-16", "--to", "2026-03-18"
  )
  expect_match(
    gaps$stdout, "TAMX    2026-03-17 09:30  2026-03-18 15:59      780  no trade"
  )
  read <- jsonlite::fromJSON(
    vetusta("gaps", "KELD", "TAMX", "--json", "--to", "2026-03-18")$stdout
  )
  expect_identical(max(read$gaps$missing), 780L)
})

test_that("export writes nothing but data to standard output", {
  out <- vetusta("export", "KELD", "--resample", "1 day")
  rows <- utils::read.csv(text = out$stdout)
  expect_identical(rows$symbol, rep("KELD", 3))
  expect_identical(rows$expected, rep(390L, 3))
  expect_match(out$stderr, "wrote 3 bars")
})

test_that("figure writes the kind of file that its name says", {
  expect_identical(
    vetusta(
      "figure", "candles", "KELD", "--resample", "1 hour", "--file", "c.png"
    )$status,
    0L
  )
  expect_identical(
    readBin(file.path(desk()$folder, "c.png"), "raw", 4),
    as.raw(c(0x89, 0x50, 0x4e, 0x47))
  )
  expect_identical(
    vetusta(
      "figure", "lines", "KELD", "TAMX", "--index", "--file", "l.svg"
    )$status,
    0L
  )
  expect_match(readLines(file.path(desk()$folder, "l.svg"), n = 1), "xml")
})

test_that("import and list work with an archive of one's own, without a desk", {
  folder <- withr::local_tempdir()
  csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
  imported <- run_vetusta(
    "import", csv, "--symbol", "KELD", "--interval", "1 day", "--archive",
    "my.sqlite", folder = folder
  )
  expect_identical(imported$status, 0L)
  expect_match(imported$stdout, "4 new, 0 changed")
  expect_match(
    run_vetusta(
      "list", "series", "--archive", "my.sqlite", folder = folder
    )$stdout,
    "files/import/KELD@1 day +4 "
  )
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

test_that("wrong usage exits 2, a failure exits 1, with advice", {
  wrong <- list(
    c("colect"), c("list", "--jsno"), c("list", "everything"),
    c("list", "a", "b"), c("collect"),
    c("collect", "quay", "KELD", "--interval"),
    c("collect", "quay", "KELD", "--span", "1 day"),
    c("plan", "quay", "KELD", "--interval", "1 minut", "--span", "1 day"),
    c(
      "plan", "quay", "KELD", "--interval", "1 minute", "--from", "2026-03-20",
      "--to", "2026-03-12"
    ),
    c("gaps"), c("gaps", "KELLD"), c("figure", "candles"),
    c("figure", "pie", "KELD"), c("figure"),
    c("figure", "lines", "KELD", "--panels", "four"),
    c("figure", "linse", "KELD"), c("figure", "KELD", "--width", "9"),
    c("export"), c("export", "KELLD"), c("import"),
    c("import", "x.csv", "--shape", "bars"), c("services", "--port", "many"),
    c("demo", "a", "b"), c("help", "demmo"), c("version", "please"), c("new"),
    c("track", "quay"), c("track", "--drop", "none"), c("track", "kway", "x"),
    c("refresh", "none"), c("refresh", "--wait", "soon"),
    c("refresh", "--busy", "never"), c("status", "none"),
    c("schedule", "--install", "--remove"), c("schedule", "--install"),
    c("archive"), c("archive", "chek"), c("archive", "backup"),
    c("archive", "check", "x"), c("completion"), c("completion", "fish"),
    c("import", "x.csv", "--shape", "bar"),
    c("export", "--database", "a", "--file", "b.csv")
  )
  for (words in wrong) {
    out <- vetusta(words)
    expect_identical(out$status, 2L, label = paste(words, collapse = " "))
    expect_identical(out$stdout, "", label = paste(words, collapse = " "))
    expect_match(
      out$stderr,
      "to do|use one of|did you mean",
      label = paste(words, collapse = " ")
    )
  }
  expect_identical(
    vetusta(
      c("collect", "kway", "KELD", "--interval", "1 minute", "--span", "1 day")
    )$status,
    2L
  )
  failing <- list(
    c("figure", "candles", "KELD", "--file", "x.gif"),
    c("import", "none.csv", "--interval", "1 day", "--symbol", "KELD"),
    c("list", "--archive", "none.sqlite"),
    c("gaps", "KELD", "--calendar", "none"), c("new", "."),
    c("archive", "restore", "none.sqlite"), c("import", "none.csv")
  )
  for (words in failing) {
    out <- vetusta(words)
    expect_identical(out$status, 1L, label = paste(words, collapse = " "))
    expect_match(out$stderr, "to do: ", label = paste(words, collapse = " "))
  }
})

test_that("kill -9 during a collection loses nothing and repeats no page", {
  services <- start_services("--page-size", "20", "--rate", "100000")
  words <- c(
    "collect", "quay", "KELD", "TAMX", "--interval", "1 minute", "--from",
    "2026-03-12", "--to", "2026-03-13", "--quiet"
  )
  fresh <- function() {
    folder <- withr::local_tempdir(.local_envir = parent.frame(2))
    desk_make(
      folder,
      urls = list(quay = services$url),
      secrets = list(QUAY_KEY = "quay-demo-7f3a91")
    )
    card <- file.path(folder, "sources", "quay.yml")
    writeLines(
      sub("^limits:.*", "limits: [1000 per second]", readLines(card)), card
    )
    folder
  }
  undisturbed <- fresh()
  expect_identical(run_vetusta(words, folder = undisturbed)$status, 0L)
  killed <- fresh()
  for (i in 1:3) {
    process <- processx::process$new(
      "Rscript",
      c("--no-init-file", "-e", "vetusta::cli_main()", words),
      wd = killed,
      stdout = NULL,
      stderr = NULL,
      env = c("current", R_LIBS = r_libs())
    )
    pages <- function() {
      tryCatch(
        {
          archive <- archive_open(
            file.path(killed, "archive.sqlite"), create = FALSE
          )
          on.exit(archive_close(archive))
          sum(archive_journal(archive)$outcome == "stored")
        },
        error = function(e) 0
      )
    }
    end <- Sys.time() + 30
    while (Sys.time() < end && process$is_alive() && pages() < 12 * i) {
      Sys.sleep(0.01)
    }
    process$signal(9)
    process$wait(5000)
  }
  expect_identical(run_vetusta(words, folder = killed)$status, 0L)
  read <- function(folder) {
    archive <- archive_open(file.path(folder, "archive.sqlite"))
    on.exit(archive_close(archive))
    list(
      bars = archive_bars(archive, c("KELD", "TAMX"), "1 minute"),
      journal = archive_journal(archive)
    )
  }
  whole <- read(undisturbed)
  after <- read(killed)
  expect_identical(after$bars, whole$bars)
  expect_gt(length(unique(after$journal$run)), 1)
  # each page has rows of its own: no row was received twice
  expect_identical(sum(after$journal$rows), nrow(whole$bars))
})

test_that("the key is in no output, log, archive or file but the env file", {
  folder <- desk()$folder
  outputs <- list(
    desk()$run, vetusta("list", "journal", "--json"),
    vetusta(
      "plan", "quay", "KELD", "--interval", "1 minute", "--span", "1 day"
    ),
    vetusta(
      "collect", "quay", "NONE", "--interval", "1 minute", "--from",
      "2026-03-16", "--to", "2026-03-16", "--quiet"
    )
  )
  for (out in outputs) {
    expect_false(
      grepl("quay-demo-7f3a91", paste(out$stdout, out$stderr), fixed = TRUE)
    )
  }
  for (file in setdiff(
    list.files(folder, recursive = TRUE, full.names = TRUE, all.files = TRUE),
    file.path(folder, "desk.env")
  )) {
    expect_length(
      grepRaw(
        "quay-demo-7f3a91", readBin(file, "raw", file.size(file)), fixed = TRUE
      ),
      0
    )
  }
})

test_that("the demo runs from nothing to figures, and again", {
  folder <- withr::local_tempdir()
  first <- run_vetusta("demo", "tried", folder = folder)
  expect_identical(first$status, 0L)
  expect_true(
    all(
      file.exists(
        file.path(
          folder, "tried",
          c("candles.png", "lines.png", "days.csv", "archive.sqlite")
        )
      )
    )
  )
  expect_match(first$stdout, "collected 14,[0-9]{3} new bars in [0-9]+ pages")
  expect_match(
    first$stdout,
    "TAMX    2026-03-17 09:30  2026-03-18 15:59      780  no trade"
  )
  # counts and times move with the day on which the demo runs
  expect_snapshot(
    cat(first$stdout),
    transform = function(lines) {
      gsub(" +", " ", gsub("[0-9]+([.,:][0-9]+)*", "N", plain_words(lines)))
    }
  )
  second <- run_vetusta("demo", "tried", folder = folder)
  expect_identical(second$status, 0L)
  expect_match(second$stdout, "requests  none")
})

test_that("series commands work on the archive, on files, and in a pipe", {
  clock <- vetusta("resample", "KELD", "--into", "1 hour", "--anchor", "clock")
  expect_identical(
    utils::read.csv(text = clock$stdout)$expected[1:2], c(30L, 60L)
  )
  hours <- vetusta("resample", "KELD", "--into", "1 hour")
  writeLines(hours$stdout, file.path(desk()$folder, "hours.csv"))
  days <- vetusta(
    "resample", "--input", "hours.csv", "--into", "1 day", "--calendar",
    "quay", "--need", "0"
  )
  direct <- vetusta("resample", "KELD", "--into", "1 day", "--need", "0")
  same <- c("symbol", "time", "open", "high", "low", "close", "volume")
  expect_identical(
    utils::read.csv(text = days$stdout)[
      c("open", "high", "low", "close", "volume")
    ],
    utils::read.csv(text = direct$stdout)[
      c("open", "high", "low", "close", "volume")
    ]
  )
  filled <- vetusta("fill", "KELD", "--at-most", "5", "--file", "full.parquet")
  expect_match(filled$stderr, "filled [0-9]+ values")
  gaps <- vetusta(
    "gaps", "--input", "full.parquet", "--calendar", "quay", "--interval",
    "1 minute", "--json"
  )
  expect_identical(jsonlite::fromJSON(gaps$stdout)$summary$missing, 0L)
  piped <- processx::run(
    "sh",
    c(
      "-c",
      paste(
        paste0(
          "cat hours.csv | Rscript --no-init-file -e ",
          "'vetusta::cli_main()' change ", "--input - --change log"
        )
      )
    ),
    wd = desk()$folder,
    env = c("current", R_LIBS = r_libs()),
    error_on_status = FALSE
  )
  expect_identical(
    names(utils::read.csv(text = piped$stdout)),
    c("series", "time", "value", "through", "known")
  )
  grid <- vetusta(
    "align", "KELD", "TAMX", "--grid", "1 day", "--ages", "--json"
  )
  expect_identical(
    names(jsonlite::fromJSON(grid$stdout)),
    c("time", "KELD", "KELD_age_days", "TAMX", "TAMX_age_days")
  )
  pair <- vetusta("change", "KELD", "TAMX", "--change", "log", "--correlation")
  expect_gt(utils::read.csv(text = pair$stdout)$pairs, 300)
  expect_match(
    vetusta("gaps", "KELD", "--check")$stderr, "no wrong values found"
  )
  wide <- file.path(desk()$folder, "wide.csv")
  writeLines(
    c("date,north,south", "2026-03-01,1,10", "2026-03-02,,20", "2026-03-04,4,"),
    wide
  )
  months <- vetusta(
    "resample", "--input", "wide.csv", "--into", "M", "--using", "sum"
  )
  expect_identical(utils::read.csv(text = months$stdout)$value, c(5L, 30L))
})

test_that("series commands used wrongly say what to do", {
  wrong <- list(
    list(c("resample", "KELD"), 2L, "needs --into"),
    list(
      c("resample", "--input", "none.csv", "--into", "1 day"), 1L,
      "no such file"
    ),
    list(
      c("resample", "KELD", "--into", "7 seconds"), 2L, "a multiple of"
    ),
    list(c("fill", "KELD", "--rule", "liner"), 2L, "linear"),
    list(c("fill", "KELD", "--at-most", "some"), 2L, "number"),
    list(c("fill", "KELD", "--rule", "neighbour"), 2L, "another series"),
    list(c("align", "KELD", "--grid", "KELT"), 2L, "KELD"),
    list(c("align", "KELD", "--take", "linear"), 2L, "not known yet"),
    list(
      c("align", "--input", "wide.csv", "--lag", "soon"), 2L,
      "not a length of time"
    ),
    list(c("change", "KELD", "--change", "mean"), 2L, "length"),
    list(c("change", "KELD", "--change", "logs"), 2L, "log"),
    list(c("change", "KELD", "--interval", "1 day"), 2L, "part of its ID"),
    list(c("calendar", "show"), 2L, "needs the name"),
    list(c("calendar", "show", "quai"), 1L, "quay"),
    list(c("calendar", "times", "quay"), 2L, "needs --from"),
    list(c("find", "quay", "--tree"), 2L, "SDMX"),
    list(c("describe", "quay", "bar"), 2L, "bars"),
    list(c("revisions", "quay/X"), 2L, "no series"),
    list(c("export", "KELD", "colour=red"), 2L, "no column")
  )
  for (one in wrong) {
    out <- do.call(vetusta, as.list(one[[1]]))
    expect_identical(
      out$status,
      one[[2]],
      label = paste(one[[1]], collapse = " ")
    )
    expect_match(out$stderr, one[[3]], label = paste(one[[1]], collapse = " "))
    expect_match(out$stderr, "to do: ")
  }
})

test_that("calendars are shown, and their times", {
  shown <- vetusta("calendar", "show", "quay", "--year", "2026")
  expect_match(shown$stdout, "2026: 25[0-9] open days")
  expect_match(shown$stdout, "2026-03-20  friday    closed  Thaw Day")
  times <- vetusta(
    "calendar", "times", "quay", "--interval", "1 hour", "--from",
    "2026-03-19", "--to", "2026-03-23"
  )
  expect_identical(nrow(utils::read.csv(text = times$stdout)), 14L)
})

test_that("statistics on the command line: find, describe, collect, export", {
  services <- start_services()
  folder <- withr::local_tempdir()
  desk_make(
    folder,
    cards = "basin",
    urls = list(basin = paste0(services$root, "/basin"))
  )
  run <- function(...) run_vetusta(..., folder = folder)
  expect_match(
    run("find", "basin", "lock", "traffic")$stdout,
    "LOCK_TRAFFIC  Lock traffic by cargo and direction"
  )
  expect_match(
    run("find", "basin", "--tree")$stdout,
    "  TRANSPORT.WATER  Traffic on the water  \\(1\\)"
  )
  expect_match(
    run("describe", "basin", "HARVEST")$stdout,
    "example: vetusta collect basin HARVEST"
  )
  # the example works
  example <- sub(
    ".*example: vetusta ", "", run("describe", "basin", "HARVEST")$stdout
  )
  expect_match(
    do.call(run, as.list(strsplit(trimws(example), " ")[[1]]))$stdout,
    "collected [0-9]+ new values"
  )
  plan <- run(
    "plan", "basin", "FREIGHT_PRICES", "STATE=Orvane", "--from", "2020",
    "--json"
  )
  expect_identical(jsonlite::fromJSON(plan$stdout)$requests, 1L)
  expect_identical(
    run(
      "collect", "basin", "FREIGHT_PRICES", "STATE=Orvane", "UNIT=IX",
      "--from", "2020", "--history"
    )$status,
    0L
  )
  expect_match(run("list", "datasets")$stdout, "FREIGHT_PRICES")
  out <- utils::read.csv(
    text = run(
      "export", "basin/FREIGHT_PRICES/*.UPPER.N.*", "--as-of", "2026-02-25",
      "--labels", "labels"
    )$stdout
  )
  expect_identical(unique(out$LEG), "Upper river")
  expect_identical(unique(substr(out$known, 1, 10)), "2026-02-20")
  expect_match(
    run("revisions", "basin/FREIGHT_PRICES")$stderr, "revised: [1-9]"
  )
  expect_match(
    run("collect", "basin", "FREIGHT_PRICES", "STATES=ORV")$stderr,
    "did you mean \"STATE\""
  )
  expect_match(run("collect", "basin")$stderr, "name a dataset")
})
