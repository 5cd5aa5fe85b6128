# A refresh over every kind of dataset, killed at random moments, and readers
# beside a writer. VETUSTA_KILLS is the least number of kills (12); use 200
# before a release.

kills_desk <- function(services, env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  names <- c("quay", "fixing", "river", "register", "hall", "basin")
  desk <- desk_make(
    folder,
    cards = names,
    urls = stats::setNames(as.list(paste0(services$root, "/", names)), names),
    secrets = as.list(vetusta:::standin_keys)
  )
  cat(
    c(
      "track:",
      paste0(
        "  minutes: {source: quay, symbols: [KELD, TAMX, SALT], interval: ",
        "1 minute,"
      ),
      "    from: 2026-03-12, to: 2026-03-20}",
      paste0(
        "  sectors: {source: quay, dataset: directory, keys: {sector: ",
        "[barges, ports, mills, grain]}}"
      ),
      "  market: {source: quay, dataset: market}",
      paste0(
        "  sides: {source: fixing, dataset: candles, symbols: [ORV-TSK, ",
        "ORV-MIR], interval: 1 hour,"
      ),
      "    from: 2026-01-05, to: 2026-03-20}",
      paste0(
        "  levels: {source: river, dataset: levels, keys: {station: ",
        "[kelder-lock, tamm-weir]},"
      ),
      "    from: 2022-01-01, to: 2026-03-20}",
      "  stations: {source: river, dataset: stations}",
      paste0(
        "  facts: {source: register, dataset: facts, keys: {symbol: ",
        "[KELD, BROM, TAMX]}}"
      ),
      paste0(
        "  filings: {source: register, dataset: filings, keys: {symbol: ",
        "[KELD, BROM]}}"
      ),
      paste0(
        "  export: {source: hall, dataset: history, symbols: [SALT], ",
        "interval: 1 day,"
      ),
      "    from: 2019-01-01, to: 2025-12-31}",
      paste0(
        "  prices: {source: basin, dataset: FREIGHT_PRICES, keys: {STATE: ",
        "ORV}, from: 2015,"
      ),
      "    history: true}"
    ),
    sep = "\n", file = desk$file, append = TRUE
  )
  folder
}

# The content of the archive without the times of arrival.
kills_rows <- function(file) {
  archive <- archive_open(file)
  on.exit(archive_close(archive))
  expect_identical(nrow(archive_check(archive)), 0L)
  plain <- function(x) {
    as.data.frame(x)[setdiff(names(x), c("known", "since", "at"))]
  }
  others <- list(
    c("quay", "directory"), c("quay", "market"), c("river", "stations"),
    c("register", "filings")
  )
  c(
    lapply(archive_read(archive), plain),
    lapply(others, function(one) plain(archive_rows(archive, one[1], one[2])))
  )
}

test_that("a refresh killed at random moments ends like an undisturbed one", {
  services <- start_services("--seconds", "3000")
  folder <- kills_desk(services)
  file <- file.path(folder, "archive.sqlite")
  # the market at another moment is another snapshot
  code <- sprintf(
    "library(vetusta); options(digits = 15);
    r <- desk_refresh(desk_open('%s'), progress = FALSE, outputs = FALSE);
    quit(status = sum(!r$outcome %%in%% c('done', 'complete')))",
    folder
  )
  run <- function() {
    processx::process$new(
      "Rscript",
      c("--no-init-file", "-e", code),
      stderr = "|",
      env = c("current", R_LIBS = r_libs())
    )
  }
  began <- Sys.time()
  process <- run()
  process$wait(120000)
  took <- as.numeric(Sys.time() - began, units = "secs")
  expect_identical(process$get_exit_status(), 0L)
  alone <- kills_rows(file)
  expect_identical(length(alone), 10L)
  wanted <- as.numeric(Sys.getenv("VETUSTA_KILLS", "12"))
  kills <- 0
  set.seed(4)
  while (kills < wanted) {
    unlink(paste0(file, c("", "-wal", "-shm")))
    repeat {
      process <- run()
      process$wait(
        if (kills < wanted) {
          round(stats::runif(1, 300, 1000 * took))
        } else {
          120000
        }
      )
      if (!process$is_alive()) break
      process$kill()
      kills <- kills + 1
      if (file.exists(file)) {
        archive <- archive_open(file)
        expect_identical(nrow(archive_check(archive)), 0L)
        archive_close(archive)
      }
    }
    expect_identical(process$get_exit_status(), 0L)
    expect_equal(kills_rows(file), alone)
  }
})

test_that("eight readers beside a writer see whole pages or nothing", {
  archive <- new_archive()
  # each page has ten bars with one close, and later pages have later times
  writer <- "library(vetusta); a <- archive_open('%s');
    for (i in seq_len(400)) {
      t <- vetusta:::utc(1.7e9 + 600 * i + 60 * (0:9))
      b <- data.frame(symbol = 'X', time = t, open = NA_real_, high = NA_real_,
      low = NA_real_,
        close = i, volume = NA_real_, session = NA_character_,
        side = NA_character_,
        status = 'observed')
      vetusta:::store_put(a, list(source = 's', dataset = 'd', shape = 'bars',
        rows = vetusta:::archive_parcel('bars', b, frequency = 'PT1M')))
    }"
  reader <- "library(vetusta); a <- archive_open('%s',
    read_only = TRUE); seen <- 0; n <- 0
    end <- Sys.time() + 120
    while (seen < 400 && Sys.time() < end) {
      x <- tryCatch(archive_bars(a, 'X', '1 minute'),
      vetusta_error_argument = function(e) NULL)
      if (is.null(x)) next
      pages <- table(x$close); n <- n + 1
      if (any(pages != 10) || max(x$close) < seen || length(pages) !=
      max(x$close)) {
        cat('torn'); quit(status = 1)
      }
      seen <- max(x$close)
    }
    cat(seen, n > 1)"
  start <- function(code) {
    processx::process$new(
      "Rscript",
      c("--no-init-file", "-e", sprintf(code, archive$path)),
      stdout = "|",
      stderr = "|",
      env = c("current", R_LIBS = r_libs())
    )
  }
  readers <- lapply(1:8, function(i) start(reader))
  writing <- start(writer)
  withr::defer(for (one in c(readers, list(writing))) one$kill())
  for (one in readers) one$wait(150000)
  expect_identical(
    vapply(readers, function(one) one$read_all_output(), ""), rep("400 TRUE", 8)
  )
})

# A task in a process, killed at random moments and then run to its end:
# `state()` then equals the state after an undisturbed run, and no hidden file
# is left.
kills_work <- function(code, state, folder, prepare = function() NULL,
                       kills = 4) {
  start <- function() {
    processx::process$new(
      "Rscript",
      c("--no-init-file", "-e", code),
      wd = folder,
      stderr = "|",
      env = c("current", R_LIBS = r_libs())
    )
  }
  prepare()
  began <- Sys.time()
  process <- start()
  process$wait(120000)
  expect_identical(
    process$get_exit_status(),
    0L,
    info = process$read_all_error()
  )
  took <- as.numeric(Sys.time() - began, units = "secs")
  alone <- state()
  prepare()
  for (i in seq_len(kills)) {
    process <- start()
    process$wait(round(stats::runif(1, 0.3, 1) * 1000 * took))
    process$kill()
  }
  process <- start()
  process$wait(120000)
  expect_identical(
    process$get_exit_status(),
    0L,
    info = process$read_all_error()
  )
  expect_equal(state(), alone)
  left <- list.files(folder, all.files = TRUE, recursive = TRUE)
  expect_identical(
    left[grepl("^[.]|/[.]", left) & !grepl("gitignore", left)], character()
  )
}

test_that("imports, workbooks and databases are complete after kills", {
  set.seed(7)
  folder <- withr::local_tempdir()
  there <- function(name) file.path(folder, name)
  days <- as.Date("1900-01-01") + 0:39999
  utils::write.csv(
    data.frame(series = "a", period = days, value = seq_along(days)),
    there("in.csv"), row.names = FALSE, quote = FALSE
  )
  clear <- function(...) function() unlink(there(c(...)))
  database <- function(file, query) {
    connection <- DBI::dbConnect(RSQLite::SQLite(), file)
    on.exit(DBI::dbDisconnect(connection))
    DBI::dbGetQuery(connection, query)
  }
  kills_work(
    "library(vetusta); a <- archive_open('a.sqlite')
    archive_import_rows(a, 'in.csv', 'observations', dataset = 'o')",
    function() {
      archive <- archive_open(there("a.sqlite"))
      on.exit(archive_close(archive))
      list(
        nrow(archive_check(archive)),
        as.data.frame(archive_read(archive)[[1]])$value
      )
    },
    folder, clear("a.sqlite", "a.sqlite-wal", "a.sqlite-shm")
  )
  kills_work(
    "library(vetusta); a <- archive_open('a.sqlite')
    export_database(a, 'out.sqlite')",
    function() {
      database(
        there("out.sqlite"), "SELECT count(*), sum(value) FROM observations"
      )
    },
    folder, clear("out.sqlite", "out.sqlite-journal")
  )
  kills_work(
    "library(vetusta); a <- archive_open('a.sqlite', read_only = TRUE)
    x <- archive_read(a)[[1]][c('period', 'value')]
    for (n in c(100, 20000, 40000)) export_append(x[seq_len(n), ], 'grown.csv')
    export_table(x[1:20000, ], 'book.xlsx')",
    function() {
      list(
        readLines(there("grown.csv")),
        nrow(vetusta:::read_sheet(there("book.xlsx")))
      )
    },
    folder, clear("grown.csv", "book.xlsx")
  )
  desk <- there("desk")
  kills_work(
    "library(vetusta); for (i in 1:12) {
      d <- desk_open('desk'); name <- paste0('w', i)
      if (!name %in% names(d$track)) desk_track(d, name, 'quay', 'bars',
      symbols = 'KELD',
        interval = '1 day', span = '1 year')
    }",
    function() {
      names(desk_open(desk)$track)
    },
    folder,
    function() {
      unlink(desk, recursive = TRUE)
      desk_make(desk)
    }
  )
  answer <- function(n, request) {
    Sys.sleep(0.05)
    list(
      status = 200L,
      headers = list("Content-Type" = "text/html"),
      body = paste0(request$PATH_INFO, strrep("x", 50000))
    )
  }
  card <- write_card(
    start_scripted(answer), c("request: /rows", "rows: /d", "columns: {n: /n}")
  )
  kills_work(
    sprintf(
      "library(vetusta); a <- archive_open('docs.sqlite')
    r <- collect_documents(source_card('%s'), data.frame(link = paste0('/d',
    1:12, '.html')),
      'docs', a, progress = FALSE)
    quit(status = sum(!r$outcome %%in%% c('fetched', 'stored')))",
      card
    ),
    function() {
      tools::md5sum(sort(list.files(there("docs"), full.names = TRUE)))
    },
    folder,
    function() {
      unlink(
        there(c("docs", "docs.sqlite", "docs.sqlite-wal", "docs.sqlite-shm")),
        recursive = TRUE
      )
    }
  )
})
