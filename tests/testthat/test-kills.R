# A refresh over every kind of dataset, killed at random moments, and readers beside a writer.
# VETUSTA_KILLS is how often at least (12); 200 are tried before a release.

kills_desk <- function(services, env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  names <- c("quay", "fixing", "river", "register", "hall", "basin")
  desk <- desk_make(folder, cards = names,
    addresses = stats::setNames(as.list(paste0(services$root, "/", names)), names),
    secrets = as.list(vetusta:::standin_keys))
  cat(c("wants:",
    "  minutes: {source: quay, symbols: [KELD, TAMX, SALT], interval: 1 minute,",
    "    from: 2026-03-12, to: 2026-03-20}",
    "  letters: {source: quay, dataset: directory, keys: {letters: [A, B, K, T]}}",
    "  market: {source: quay, dataset: market}",
    "  sides: {source: fixing, dataset: candles, symbols: [ORV-TSK, ORV-MIR], interval: 1 hour,",
    "    from: 2025-06-02, to: 2026-03-20}",
    "  levels: {source: river, dataset: levels, keys: {station: [kelder-lock, tamm-weir]},",
    "    from: 2000-01-01, to: 2026-03-20}",
    "  stations: {source: river, dataset: stations}",
    "  facts: {source: register, dataset: facts, keys: {company: [KELD, BROM, TAMX]}}",
    "  filings: {source: register, dataset: filings, keys: {company: [KELD, BROM]}}",
    "  export: {source: hall, dataset: history, symbols: [SALT], interval: 1 day,",
    "    from: 2010-01-01, to: 2025-12-31}",
    "  prices: {source: basin, dataset: FREIGHT_PRICES, keys: {STATE: ORV}, from: 2015,",
    "    history: true}"), sep = "\n", file = desk$file, append = TRUE)
  folder
}

# All that the archive holds, but for when it came.
kills_rows <- function(file) {
  archive <- archive_open(file)
  on.exit(archive_close(archive))
  expect_identical(nrow(archive_check(archive)), 0L)
  plain <- function(x) as.data.frame(x)[setdiff(names(x), c("released", "since"))]
  others <- list(c("quay", "directory"), c("quay", "market"), c("river", "stations"),
    c("register", "filings"))
  c(lapply(archive_read(archive), plain),
    lapply(others, function(one) plain(archive_rows(archive, one[1], one[2]))))
}

test_that("killed at random moments of a refresh over all kinds, it ends as one undisturbed", {
  services <- start_services("--seconds", "3000")
  folder <- kills_desk(services)
  file <- file.path(folder, "archive.sqlite")
  # a market of another moment is another snapshot
  code <- sprintf("library(vetusta); options(digits = 15);
    r <- desk_refresh(desk_open('%s'), progress = FALSE, outputs = FALSE);
    quit(status = sum(!r$outcome %%in%% c('done', 'held')))", folder)
  run <- function() {
    processx::process$new("Rscript", c("--no-init-file", "-e", code), stderr = "|",
      env = c("current", R_LIBS = r_libs()))
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
      process$wait(if (kills < wanted) round(stats::runif(1, 300, 1000 * took)) else 120000)
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
  # each page has ten bars of one close, and each is of a later time than the ones before
  writer <- "library(vetusta); a <- archive_open('%s');
    for (i in seq_len(400)) {
      t <- vetusta:::utc(1.7e9 + 600 * i + 60 * (0:9))
      b <- data.frame(symbol = 'X', time = t, open = NA_real_, high = NA_real_, low = NA_real_,
        close = i, volume = NA_real_, session = NA_character_, side = NA_character_,
        status = 'observed')
      vetusta:::store_put(a, list(source = 's', dataset = 'd', shape = 'bars',
        rows = vetusta:::archive_parcel('bars', b, frequency = 'PT1M')))
    }"
  reader <- "library(vetusta); a <- archive_open('%s', read_only = TRUE); seen <- 0; n <- 0
    end <- Sys.time() + 120
    while (seen < 400 && Sys.time() < end) {
      x <- tryCatch(archive_bars(a, 'X', '1 minute'), vetusta_error_want = function(e) NULL)
      if (is.null(x)) next
      pages <- table(x$close); n <- n + 1
      if (any(pages != 10) || max(x$close) < seen || length(pages) != max(x$close)) {
        cat('torn'); quit(status = 1)
      }
      seen <- max(x$close)
    }
    cat(seen, n > 1)"
  start <- function(code) {
    processx::process$new("Rscript", c("--no-init-file", "-e", sprintf(code, archive$path)),
      stdout = "|", stderr = "|", env = c("current", R_LIBS = r_libs()))
  }
  readers <- lapply(1:8, function(i) start(reader))
  writing <- start(writer)
  withr::defer(for (one in c(readers, list(writing))) one$kill())
  for (one in readers) one$wait(150000)
  expect_identical(vapply(readers, function(one) one$read_all_output(), ""), rep("400 TRUE", 8))
})
