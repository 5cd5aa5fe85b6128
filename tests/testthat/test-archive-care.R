# Care of the archive: check, copy, restore, and recovery of a damaged file.
filled_archive <- function(env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".sqlite", .local_envir = env)
  archive <- archive_open(file)
  withr::defer(try(archive_close(archive), silent = TRUE), envir = env)
  for (symbol in c("KELD", "TAMX", "BROM")) {
    put_rows(
      archive,
      "quay",
      "bars",
      "bars",
      minute_bars(symbol),
      frequency = "PT1M",
      journal = list(
        run = "r", source = "quay", dataset = "bars", asked = 1,
        outcome = "stored"
      )
    )
  }
  put_rows(
    archive, "quay", "directory", "instruments",
    data.frame(symbol = c("A", "B"))
  )
  put_rows(
    archive, "quay", "market", "snapshot",
    data.frame(symbol = c("A", "B"), last = 1:2)
  )
  archive
}
sql <- function(archive, ...) vetusta:::sql_do(archive, ...)

test_that("an intact archive has no findings, each damage has one", {
  archive <- filled_archive()
  expect_identical(nrow(archive_check(archive)), 0L)
  finds <- function(statement, what, pattern, lost) {
    DBI::dbExecute(archive$connection, "PRAGMA foreign_keys = OFF")
    DBI::dbBegin(archive$connection)
    on.exit(DBI::dbRollback(archive$connection))
    sql(archive, statement)
    found <- archive_check(archive)
    expect_true(
      any(
        found$what == what & grepl(pattern, found$finding) & found$lost == lost
      ),
      info = statement
    )
  }
  finds(
    "UPDATE segments SET body = zeroblob(100) WHERE id = 1", "segment",
    "damaged", TRUE
  )
  finds(
    "UPDATE segments SET rows = rows + 1 WHERE id = 2", "segment",
    "other rows", TRUE
  )
  finds(
    "UPDATE segments SET first = first + 1 WHERE id = 2", "segment",
    "other rows", TRUE
  )
  finds(
    "INSERT INTO segments (series, first, last, rows, times, level,
    body) SELECT series, first, last, rows, times, level,
    body FROM segments WHERE id = 1",
    "segment", "two segments", FALSE
  )
  finds("DELETE FROM segments WHERE id = 1", "series", "no rows", FALSE)
  finds("DELETE FROM series WHERE id = 1", "series", "not there", TRUE)
  finds(
    "INSERT INTO coverage VALUES ('quay', 'bars', 'K', 10, 5)", "coverage",
    "cannot be", FALSE
  )
  finds(
    "INSERT INTO coverage VALUES ('no', 'bars', 'K', 1, 5)", "coverage",
    "never requested", FALSE
  )
  finds("UPDATE frames SET body = zeroblob(9)", "frame", "damaged", TRUE)
  finds("UPDATE records SET body = '{' WHERE id = 1", "record", "damaged", TRUE)
  finds(
    "INSERT INTO raw VALUES (99, 'a', 'b', 'c', 'd', zeroblob(1))", "note",
    "no request", FALSE
  )
  expect_identical(nrow(archive_check(archive)), 0L)
})

test_that("a copy is of one moment and is restored unchanged", {
  archive <- filled_archive()
  code <- sprintf(
    paste(
      "library(vetusta); a <- archive_open('%s'); end <- Sys.time() +",
      "60; i <- 0;",
      "while (Sys.time() < end) { i <- i + 1; b <- data.frame(symbol =",
      "c('X', 'Y'), time =",
      paste0(
        "as.POSIXct(60 * i, origin = '1970-01-01', tz = 'UTC'), open = ",
        "NA_real_, high = ", "NA_real_, low ="
      ),
      "NA_real_, close = i, volume = NA_real_, session =",
      "NA_character_, side = NA_character_,",
      paste0(
        "status = 'observed'); vetusta:::store_put(a, list(source = ",
        "'s', dataset = 'd', shape ", "= 'bars',"
      ),
      "rows = vetusta:::archive_parcel('bars', b, frequency = 'PT1M'))) }"
    ),
    archive$path
  )
  writer <- processx::process$new(
    "Rscript",
    c("--no-init-file", "-e", code),
    env = c("current", R_LIBS = r_libs())
  )
  withr::defer(writer$kill())
  folder <- withr::local_tempdir()
  end <- Sys.time() + 60
  while (Sys.time() < end && !"s" %in% archive_series(archive)$source) {
    Sys.sleep(0.1)
  }
  for (i in 1:6) {
    file <- file.path(folder, paste0("copy", i, ".sqlite"))
    archive_backup(archive, file)
    copy <- archive_open(file, read_only = TRUE)
    expect_identical(nrow(archive_check(copy)), 0L)
    # two symbols of a page are stored together
    bars <- archive_bars(copy, c("X", "Y"), "1 minute")
    expect_identical(sum(bars$symbol == "X"), sum(bars$symbol == "Y"))
    archive_close(copy)
  }
  writer$kill()
  read <- function(file) {
    a <- archive_open(file, read_only = TRUE)
    on.exit(archive_close(a))
    archive_read(a)
  }
  kept <- read(file)
  archive_close(archive)
  writeBin(raw(5000), archive$path)
  unlink(paste0(archive$path, c("-wal", "-shm")))
  archive_restore(file, archive$path)
  expect_identical(read(archive$path), kept)
  expect_identical(file.size(paste0(archive$path, ".before")), 5000)
})

test_that("an archive in use or an existing file is not replaced", {
  archive <- filled_archive()
  folder <- withr::local_tempdir()
  file <- file.path(folder, "copy.sqlite")
  archive_backup(archive, file)
  expect_error_kind(archive_backup(archive, file), "archive", "exists already")
  expect_error_kind(archive_backup(archive, archive$path), "archive", "itself")
  expect_error_kind(
    archive_backup(archive, file.path(folder, "no", "x.sqlite")), "archive",
    "folder"
  )
  expect_error_kind(archive_restore(file, file), "archive", "itself")
  expect_error_kind(
    archive_restore(file.path(folder, "none"), archive$path), "archive", "copy"
  )
  writeLines("no archive", file.path(folder, "text"))
  expect_error_kind(
    archive_restore(file.path(folder, "text"), archive$path), "archive"
  )
  other <- processx::process$new("sleep", "60")
  withr::defer(other$kill())
  own <- vetusta:::this_process()
  sql(
    archive,
    "INSERT INTO claims (request, host, process, began, since) VALUES ('x',
        ?, ?, ?, ?)",
    list(
      own$host, other$get_pid(),
      as.numeric(ps::ps_create_time(ps::ps_handle(other$get_pid()))),
      as.numeric(Sys.time())
    )
  )
  expect_error_kind(archive_restore(file, archive$path), "archive", "collector")
  other$kill()
  expect_identical(nrow(archive_check(archive)), 0L)
})

test_that("of a damaged archive every segment that can be read is saved", {
  archive <- filled_archive()
  before <- archive_bars(archive, interval = "1 minute")
  sql(archive, "UPDATE segments SET body = zeroblob(100) WHERE id = 1")
  path <- archive$path
  archive_close(archive)
  folder <- withr::local_tempdir()
  done <- archive_rescue(path, file.path(folder, "saved.sqlite"))
  expect_identical(done$lost[done$what == "segments"], 1)
  saved <- archive_open(file.path(folder, "saved.sqlite"))
  expect_identical(
    archive_bars(saved, interval = "1 minute"),
    before[before$symbol != "KELD", ], ignore_attr = TRUE
  )
  expect_identical(nrow(archive_rows(saved, "quay", "directory")), 2L)
  archive_close(saved)
  # overwritten pages: the rows beside them are recovered
  bytes <- readBin(path, "raw", file.size(path))
  set.seed(5)
  for (trial in 1:8) {
    at <- 4096 * sample(2:(length(bytes) / 4096 - 1), 1)
    broken <- bytes
    broken[at + 1:2000] <- as.raw(sample(0:255, 2000, TRUE))
    file <- file.path(folder, paste0("broken", trial, ".sqlite"))
    writeBin(broken, file)
    saved <- file.path(folder, paste0("saved", trial, ".sqlite"))
    result <- tryCatch(
      archive_rescue(file, saved),
      vetusta_error_archive = function(e) NULL
    )
    if (is.null(result)) next
    opened <- archive_open(saved)
    found <- archive_check(opened)
    expect_false(any(found$lost))
    archive_close(opened)
  }
  writeLines("nothing", file.path(folder, "text"))
  expect_error_kind(
    archive_rescue(file.path(folder, "text"), file.path(folder, "x")),
    "archive", "Nothing can be recovered"
  )
})

test_that("read-only access changes nothing and needs no write permission", {
  archive <- filled_archive()
  archive_compact(archive)
  archive_close(archive)
  before <- tools::md5sum(archive$path)
  open <- archive_open(archive$path, read_only = TRUE)
  expect_identical(nrow(archive_bars(open, "KELD", "1 minute")), 390L)
  expect_error_kind(
    archive_import(
      open, system.file("extdata", "keld-days.csv", package = "vetusta"),
      symbol = "KELD", interval = "1 day"
    ),
    "archive", "cannot be written"
  )
  archive_close(open)
  expect_identical(tools::md5sum(archive$path), before)
  expect_error_kind(
    archive_open(tempfile(), read_only = TRUE), "archive", "no archive yet"
  )
})

test_that("compacting joins segments and changes no value", {
  archive <- new_archive()
  for (i in 1:30) {
    put_rows(
      archive, "quay", "bars", "bars",
      minute_bars("KELD", format(as.Date("2026-01-01") + i)), frequency = "PT1M"
    )
  }
  before <- archive_bars(archive, "KELD", "1 minute")
  sql(archive, "INSERT INTO tokens VALUES ('quay', 5, 1)")
  sizes <- archive_compact(archive)
  expect_identical(archive_bars(archive, "KELD", "1 minute"), before)
  expect_identical(nrow(vetusta:::store_tokens(archive, "quay")), 0L)
  expect_lte(
    vetusta:::sql_get(archive, "SELECT count(*) AS n FROM segments")$n, 2
  )
})

test_that("large pages stay segments, small ones are joined", {
  archive <- new_archive()
  put <- function(first, n) {
    time <- first + seq_len(n) - 1
    rows <- list(
      time = vetusta:::utc(time),
      known = vetusta:::utc(rep(1, n)),
      value = time %% 97
    )
    vetusta:::store_put(
      archive,
      list(
        source = "files",
        dataset = "d",
        shape = "observations",
        journal = list(
          run = "r", asked = 1, rows = n, outcome = "stored", source = "files",
          dataset = "d"
        ),
        rows = vetusta:::parcel_series(
          data.frame(
            key = "a", frequency = "irregular",
            dimensions = "{\"series\":\"a\"}"
          ),
          rows
        )
      )
    )
  }
  held <- function() {
    vetusta:::sql_get(archive, "SELECT rows FROM segments ORDER BY first")$rows
  }
  sizes <- c(rep(5000, 14), rep(100, 7), 4000, rep(10, 3))
  first <- 1e9 + c(0, cumsum(sizes)[-length(sizes)])
  for (i in seq_along(sizes)) put(first[i], sizes[i])
  all <- archive_observations(archive, "files", "d")$value
  vetusta:::store_settle(archive)
  expect_identical(as.numeric(held()), c(rep(5000, 14), 700, 4000, 30))
  archive_compact(archive)
  expect_identical(as.numeric(sum(held())), sum(sizes))
  expect_lte(length(held()), 3)
  expect_identical(archive_observations(archive, "files", "d")$value, all)
  expect_identical(all, (1e9 + seq_len(sum(sizes)) - 1) %% 97)
})

test_that("no frequent statement scans a growing table", {
  archive <- filled_archive()
  grows <- c(
    "segments", "coverage", "journal", "tokens", "notes", "records", "frames",
    "raw"
  )
  plans <- list()
  watched <- c("sql_get", "sql_do")
  original <- lapply(
    stats::setNames(nm = watched),
    get,
    envir = asNamespace("vetusta")
  )
  note <- function(name) {
    force(name)
    function(store, statement, params = NULL, ...) {
      if (grepl("^(SELECT|INSERT|UPDATE|DELETE)", statement)) {
        worded <- vetusta:::sql_worded(
          statement, vetusta:::sqlite_words, new.env()
        )
        plan <- DBI::dbGetQuery(
          store$connection,
          paste("EXPLAIN QUERY PLAN", worded),
          params = if (!is.null(params)) unname(lapply(params, `[`, 1))
        )$detail
        plans[[statement]] <<- plan
      }
      original[[name]](store, statement, params, ...)
    }
  }
  for (name in watched) utils::assignInNamespace(name, note(name), "vetusta")
  withr::defer(
    for (name in watched) {
      utils::assignInNamespace(name, original[[name]], "vetusta")
    }
  )
  quay <- source_card("quay")
  query <- query_bars(
    quay, c("KELD", "NONE"), "1 minute", from = "2026-03-12", to = "2026-03-13"
  )
  plan_requests(query, archive)
  archive_bars(archive, "KELD", "1 minute")
  archive_read(
    archive, "KELD@1 minute", from = "2026-03-12", as_of = "2026-03-13"
  )
  archive_rows(archive, "quay", "directory")
  archive_rows(archive, "quay", "market")
  put_rows(
    archive, "quay", "bars", "bars", minute_bars("KELD", "2026-03-13"),
    frequency = "PT1M"
  )
  put_rows(
    archive, "quay", "directory", "instruments", data.frame(symbol = "C")
  )
  vetusta:::store_claim(archive, "x", 0)
  vetusta:::store_token_take(
    archive, "quay", list(list(count = 5, seconds = 60)), 2
  )
  expect_gt(length(plans), 10)
  scans <- unlist(lapply(names(plans), function(statement) {
    hit <- grepl(
        paste0("^SCAN (", paste(grows, collapse = "|"), ")( |$)"),
        plans[[statement]]
      ) &
        !grepl("USING .*INDEX", plans[[statement]])
    if (any(hit)) paste(statement, plans[[statement]][hit])
  }))
  expect_identical(scans, NULL)
})
