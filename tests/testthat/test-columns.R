# Rows in a column store beside the catalogue: kills, unreachable servers, valid
# names.

put_bars <- function(archive, symbol, day = "2026-03-12", ...) {
  put_rows(
    archive, "quay", "bars", "bars", minute_bars(symbol, day),
    frequency = "PT1M", ...
  )
}
rows_there <- function(archive, shape = "bars") {
  columns <- archive$columns
  vetusta:::columns_get(
    columns, "SELECT count() AS n FROM ",
    vetusta:::columns_table(columns, shape)
  )$n
}

test_that("an unusable column store is refused without its password", {
  server <- columns_shared()
  uri <- columns_database()
  archive_at <- function(columns) {
    archive_open(
      withr::local_tempfile(fileext = ".sqlite", .local_envir = parent.frame()),
      columns = columns
    )
  }
  expect_said <- function(uri, pattern) {
    error <- expect_error_kind(archive_at(uri), "archive", pattern)
    expect_no_match(conditionMessage(error), "secretword|pass word")
    error
  }
  expect_said(sub("//", "//keeper:secretword@", uri), "contains a password")
  expect_said("http://127.0.0.1:1/x", "cannot be reached")
  expect_said(sub("/d[0-9]+$", "/none", uri), "has no database")
  expect_said(sub("/d[0-9]+$", "", uri), "needs a database")
  expect_said(paste0(uri, "; DROP TABLE x"), "needs a database|cannot be read")
  expect_said(paste0(uri, "?cluster=pairs"), "no cluster \"pairs\"")
  expect_match(
    expect_said(paste0(uri, "?cluster=pairs"), "pairs")$todo, "pair\""
  )
  expect_said(paste0(uri, "?clster=pair"), "option clster")
  expect_said("ftp://x/y", "cannot be read")
  expect_said(sub("//", "//keeper@", uri), "refuses the user")
  withr::local_envvar(COLUMNS_PASSWORD = "pass word:1")
  archive <- archive_at(sub("//", "//keeper@", uri))
  put_bars(archive, "KELD")
  vetusta:::columns_shift(archive)
  expect_identical(nrow(archive_bars(archive, "KELD", "1 minute")), 390L)
  # a read-only user
  path <- archive$path
  archive_close(archive)
  local_instead("columns_oldest", c(99, 0))
  expect_error_kind(archive_open(path), "archive", "too old")
})

test_that("the archive records its column store and needs it", {
  archive <- columns_archive(eager = FALSE)
  put_bars(archive, "KELD")
  vetusta:::columns_shift(archive)
  path <- archive$path
  archive_close(archive)
  again <- archive_open(path, read_only = TRUE)
  withr::defer(archive_close(again))
  expect_identical(nrow(archive_bars(again, "KELD", "1 minute")), 390L)
  expect_error_kind(
    archive_open(path, columns = columns_database()), "archive",
    "another column store"
  )
})

test_that("an archive opened before rows moved returns no part of them", {
  path <- withr::local_tempfile(fileext = ".sqlite")
  plain <- archive_open(path)
  withr::defer(archive_close(plain))
  put_bars(plain, "KELD")
  archive <- columns_archive(eager = FALSE, path = path)
  vetusta:::columns_shift(archive)
  expect_error_kind(
    archive_bars(plain, "KELD", "1 minute"), "archive", "archive was opened"
  )
  expect_error_kind(put_bars(plain, "KELD"), "archive", "archive was opened")
  again <- archive_open(path)
  withr::defer(archive_close(again))
  expect_identical(nrow(archive_bars(again, "KELD", "1 minute")), 390L)
})

test_that("rows in both places after a kill are read once", {
  archive <- columns_archive(eager = FALSE)
  put_bars(archive, "KELD")
  put_bars(archive, "TAMX")
  local({
    local_instead(
      "moved_note", function(...) stop("the machine is switched off")
    )
    expect_error(vetusta:::columns_shift(archive), "switched off")
  })
  expect_identical(rows_there(archive), 780)
  expect_identical(
    nrow(vetusta:::sql_get(archive, "SELECT id FROM segments")), 2L
  )
  expect_identical(
    archive_bars(archive, "KELD", "1 minute"), minute_bars("KELD"),
    ignore_attr = TRUE
  )
  # a correction that arrives in between is kept
  late <- minute_bars("KELD")[5, ]
  late$close <- 99
  put_rows(archive, "quay", "bars", "bars", late, frequency = "PT1M")
  vetusta:::columns_shift(archive)
  expect_identical(
    nrow(vetusta:::sql_get(archive, "SELECT id FROM segments")), 0L
  )
  bars <- archive_bars(archive, "KELD", "1 minute")
  expect_identical(nrow(bars), 390L)
  expect_identical(bars$close[5], 99)
  expect_identical(
    as.numeric(vetusta:::store_series(archive, sizes = TRUE)$rows), c(390, 390)
  )
  expect_identical(nrow(archive_check(archive)), 0L)
  # lost rows are detected, and no other rows are read in their place
  table <- vetusta:::columns_table(archive$columns, "bars")
  vetusta:::columns_do(
    archive$columns, paste0("CREATE TABLE ", table, "_kept AS ", table)
  )
  vetusta:::columns_do(
    archive$columns,
    paste0(
      "INSERT INTO ", table, "_kept SELECT * FROM ", table,
      " WHERE time % 7 != 0"
    )
  )
  for (words in c("DROP TABLE %s", "RENAME TABLE %s_kept TO %s")) {
    vetusta:::columns_do(
      archive$columns, gsub("%s", table, words, fixed = TRUE)
    )
  }
  expect_error_kind(
    archive_bars(archive, "KELD", "1 minute"), "archive",
    "fewer rows than went there"
  )
  expect_match(archive_check(archive)$finding, "were removed")
  vetusta:::columns_do(
    archive$columns,
    paste("DROP TABLE", vetusta:::columns_table(archive$columns, "bars"))
  )
  expect_error_kind(
    archive_bars(archive, "KELD", "1 minute"), "archive", "is not there"
  )
})

test_that("column names of any kind, none of them part of a statement", {
  archive <- columns_archive()
  odd <- data.frame(
    series = "lock",
    period = as.Date("1931-05-01") + 0:2,
    value = c(0.1 + 0.2, NA, -0),
    "a b;--" = c("x", NA, "\u017eluna \"q\" 'r'\\"),
    live = c(TRUE, NA, FALSE),
    seen = as.POSIXct(c("1899-12-31 23:59:59", NA, "2262-01-01"), tz = "UTC"),
    day = as.Date(c("1850-01-01", NA, "2999-12-31")),
    "x41__x" = c(1, 2, 3),
    check.names = FALSE
  )
  put_rows(archive, "river", "levels", "observations", odd, frequency = "D")
  plain <- new_archive()
  put_rows(plain, "river", "levels", "observations", odd, frequency = "D")
  expect_identical(
    as.data.frame(archive_rows(archive, "river", "levels")),
    as.data.frame(archive_rows(plain, "river", "levels"))
  )
  # text in a former number column
  more <- data.frame(
    series = "lock", period = as.Date("1931-06-01"), value = 1, live = "perhaps"
  )
  for (one in list(archive, plain)) {
    put_rows(one, "river", "levels", "observations", more, frequency = "D")
  }
  expect_identical(
    archive_rows(archive, "river", "levels")$live,
    archive_rows(plain, "river", "levels")$live
  )
})

test_that("a stopped shard is reported, and new rows wait", {
  server <- columns_server()
  uri <- columns_database(TRUE, server)
  archive <- archive_open(
    withr::local_tempfile(fileext = ".sqlite"), columns = uri
  )
  withr::defer(archive_close(archive))
  symbols <- sprintf("S%02d", 1:8)
  for (symbol in symbols) put_bars(archive, symbol)
  vetusta:::columns_shift(archive)
  table <- paste0(vetusta:::columns_table(archive$columns, "bars", FALSE))
  on_each <- vapply(
    1:2,
    function(i) {
      as.numeric(server$sql(paste("SELECT count() FROM", table), i))
    },
    1
  )
  expect_identical(sum(on_each), 8 * 390)
  expect_true(all(on_each > 0))
  server$shards[[2]]$process$kill()
  expect_error_kind(
    archive_bars(archive, interval = "1 minute"), "archive", "cannot be reached"
  )
  # a new day is collected all the same, and moves when the server is back
  put_bars(archive, "S01", "2026-03-13")
  local_instead("columns_gather", 1)
  expect_warning(vetusta:::store_settle(archive), "cannot be reached")
  expect_identical(
    nrow(vetusta:::sql_get(archive, "SELECT id FROM segments")), 1L
  )
  expect_true(server$shards[[2]]$start())
  vetusta:::store_settle(archive)
  expect_identical(
    nrow(vetusta:::sql_get(archive, "SELECT id FROM segments")), 0L
  )
  expect_identical(
    nrow(archive_bars(archive, interval = "1 minute")), 9L * 390L
  )
  expect_identical(nrow(archive_check(archive)), 0L)
})

test_that("two processes that write and move lose nothing", {
  archive <- columns_archive(eager = FALSE)
  code <- function(symbol, seed) {
    sprintf(
      "library(vetusta); set.seed(%d); a <- archive_open('%s')
      assignInNamespace('columns_gather', 1, 'vetusta')
      for (i in sample(40)) { vetusta:::store_put(a, list(source = 's',
      dataset = 'd',
        shape = 'observations', rows = vetusta:::parcel_series(data.frame(key =
        c('%s', 'both'),
          frequency = 'D', dimensions = '{}'), list(series = c(1L, 2L), time =
          vetusta:::utc(86400 * c(i, i)), value = c(i,
          i + 0))))); vetusta:::store_settle(a) }",
      seed, archive$path, symbol
    )
  }
  both <- lapply(1:2, function(i) {
    processx::process$new(
      "Rscript",
      c("--no-init-file", "-e", code(c("a", "b")[i], i)),
      stdout = "|",
      stderr = "|",
      env = c("current", R_LIBS = r_libs())
    )
  })
  for (process in both) {
    process$wait(120000)
    expect_identical(
      process$get_exit_status(),
      0L,
      info = process$read_all_error()
    )
  }
  vetusta:::columns_shift(archive)
  series <- vetusta:::store_series(archive, sizes = TRUE)
  expect_identical(as.numeric(series$rows), c(40, 40, 40))
  for (id in series$id) {
    read <- vetusta:::store_read(archive, id)$columns
    expect_identical(as.numeric(read$time), 86400 * (1:40 + 0))
    expect_identical(as.numeric(read$value), 1:40 + 0)
  }
  expect_identical(nrow(archive_check(archive)), 0L)
})

test_that("an archive with a column store is copied whole into a file", {
  archive <- columns_archive(eager = FALSE)
  put_bars(archive, "KELD")
  put_bars(archive, "TAMX")
  vetusta:::columns_shift(archive)
  put_bars(archive, "KELD", "2026-03-13")
  late <- minute_bars("TAMX")[7, ]
  late$close <- 77
  put_rows(archive, "quay", "bars", "bars", late, frequency = "PT1M")
  file <- withr::local_tempfile(fileext = ".sqlite")
  archive_copy(archive$path, file, progress = FALSE)
  copy <- archive_open(file)
  withr::defer(archive_close(copy))
  expect_null(copy$columns)
  expect_identical(
    archive_bars(copy, interval = "1 minute"),
    archive_bars(archive, interval = "1 minute")
  )
  expect_identical(
    archive_revisions(copy, "TAMX", all = TRUE),
    archive_revisions(archive, "TAMX", all = TRUE)
  )
  expect_identical(nrow(archive_check(copy)), 0L)
  # a backup has all rows too
  backup <- withr::local_tempfile(fileext = ".sqlite")
  archive_backup(archive, backup)
  saved <- archive_open(backup)
  withr::defer(archive_close(saved))
  expect_identical(
    archive_bars(saved, interval = "1 minute"),
    archive_bars(archive, interval = "1 minute")
  )
})

test_that("a desk names the column store, and a refresh fills it", {
  services <- start_services()
  uri <- columns_database()
  folder <- withr::local_tempdir()
  desk_make(
    folder,
    urls = list(quay = services$url),
    secrets = list(
      QUAY_KEY = "quay-demo-7f3a91", COLUMNS_PASSWORD = "pass word:1"
    )
  )
  write(
    c(
      paste("columns:", sub("//", "//keeper@", uri)), "track:", "  shares:",
      "    source: quay", "    dataset: bars", "    symbols: [KELD, TAMX]",
      "    interval: 1 minute", "    from: 2026-03-12", "    to: 2026-03-13"
    ),
    file.path(folder, "desk.yml"), append = TRUE
  )
  got <- run_vetusta("refresh", folder = folder)
  expect_identical(got$status, 0L, info = got$stderr)
  before <- run_vetusta("list", folder = folder)$stdout
  got <- run_vetusta("archive", "compact", folder = folder)
  expect_identical(got$status, 0L, info = got$stderr)
  archive <- vetusta:::desk_reach(desk_open(folder))
  withr::defer(archive_close(archive))
  expect_gt(rows_there(archive), 1000)
  expect_identical(
    nrow(vetusta:::sql_get(archive, "SELECT id FROM segments")), 0L
  )
  again <- run_vetusta("refresh", folder = folder)
  expect_match(again$stdout, "nothing to request")
  got <- run_vetusta(
    "export", "KELD@1 minute", "--file", "k.csv", folder = folder
  )
  expect_identical(got$status, 0L, info = got$stderr)
  expect_identical(
    nrow(utils::read.csv(file.path(folder, "k.csv"))),
    nrow(archive_bars(archive, "KELD", "1 minute"))
  )
  expect_match(
    run_vetusta("archive", "check", folder = folder)$stderr, "no damage"
  )
})

for (kind in c("sqlite", "columns", "postgres")) {
  test_that(
    paste(
      "a scan goes through any number of series in parts, alone or",
      "several at once:", kind
    ),
    {
      archive <- switch(kind,
        sqlite = new_archive(),
        columns = columns_archive(),
        postgres = postgres_archive()
      )
      symbols <- sprintf("S%02d", 1:7)
      for (symbol in symbols) put_bars(archive, symbol)
      put_rows(
        archive, "river", "levels", "observations",
        data.frame(
          series = "lock",
          period = as.Date("2026-03-12") + 0:4,
          value = 1:5
        ),
        frequency = "D"
      )
      seen <- integer()
      count <- function(bars) {
        seen <<- c(seen, nrow(bars))
        stats::aggregate(
          list(highest = bars$high), list(symbol = bars$symbol), max
        )
      }
      whole <- archive_bars(archive, interval = "1 minute")
      query <- stats::aggregate(
        list(highest = whole$high), list(symbol = whole$symbol), max
      )
      got <- archive_scan(archive, "quay/bars/*", count, by = 800)
      expect_identical(as.data.frame(got), query)
      expect_identical(max(seen), 1170L)
      expect_identical(
        archive_scan(archive, "quay/bars/*", count, by = 1, workers = 2), got
      )
      parts <- archive_scan(archive, NULL, nrow, by = 1000)
      expect_identical(sum(unlist(parts)), 7L * 390L + 5L)
      expect_error_kind(
        archive_scan(archive, NULL, function(x) stop("no")), "argument",
        "failed: no"
      )
      # afterwards the archive is complete
      expect_identical(nrow(archive_bars(archive, "S03", "1 minute")), 390L)
    }
  )
}

test_that("rows are on every replica, and one may stop", {
  server <- columns_server(keeper = keeper_server())
  archive <- columns_archive(cluster = TRUE, eager = FALSE, server = server)
  put_bars(archive, "KELD")
  put_bars(archive, "TAMX")
  vetusta:::columns_shift(archive)
  table <- vetusta:::columns_table(archive$columns, "bars", FALSE)
  expect_match(
    server$sql(paste("SHOW CREATE TABLE", table)),
    "ReplicatedReplacingMergeTree"
  )
  on_each <- function() {
    query <- paste("SELECT count() FROM", table, "FINAL")
    trimws(c(server$sql(query, 1), server$sql(query, 2)))
  }
  expect_identical(on_each(), c("780", "780"))
  read <- function(archive) {
    nrow(archive_bars(archive, c("KELD", "TAMX"), "1 minute"))
  }
  expect_identical(read(archive), 780L)
  # the first server stops: rows are read from the other one, and new rows wait
  # for both
  server$shards[[1]]$process$kill()
  expect_identical(read(archive), 780L)
  put_bars(archive, "KELD", "2026-03-13")
  expect_error_kind(
    vetusta:::columns_shift(archive), "archive", "cannot be reached"
  )
  expect_identical(
    vetusta:::sql_get(archive, "SELECT count(*) AS n FROM segments")$n, 1L
  )
  expect_identical(read(archive), 1170L)
  again <- archive_open(archive$path)
  withr::defer(archive_close(again))
  expect_identical(read(again), 1170L)
  # it comes back and receives the rows it lacks, before the catalogue deletes
  # them
  expect_true(server$shards[[1]]$start())
  for (try in 1:300) {
    done <- tryCatch(
      {
        vetusta:::columns_shift(archive)
        TRUE
      },
      vetusta_error_archive = function(e) FALSE
    )
    if (done) break
    Sys.sleep(0.3)
  }
  expect_identical(
    vetusta:::sql_get(archive, "SELECT count(*) AS n FROM segments")$n, 0L
  )
  expect_identical(on_each(), c("1170", "1170"))
  for (i in 2:1) {
    archive$columns$servers <- union(
      server$shards[[i]]$url, archive$columns$servers
    )
    expect_identical(read(archive), 1170L)
  }
})

test_that("on a full disk of a shard nothing is lost", {
  disk <- small_disk(80)
  server <- columns_server(folder = disk$folder)
  archive <- columns_archive(cluster = TRUE, eager = FALSE, server = server)
  for (symbol in c("KELD", "TAMX")) put_bars(archive, symbol)
  vetusta:::columns_shift(archive)
  disk$fill()
  for (symbol in c("KELD", "TAMX")) put_bars(archive, symbol, "2026-03-13")
  error <- expect_error_kind(
    vetusta:::columns_shift(archive), "archive", "disk .* is full"
  )
  expect_match(error$todo, "stays in the archive")
  expect_identical(
    vetusta:::sql_get(archive, "SELECT count(*) AS n FROM segments")$n, 2L
  )
  read <- function() {
    table(archive_bars(archive, interval = "1 minute")$symbol)
  }
  expect_identical(as.vector(read()), c(780L, 780L))
  disk$free()
  vetusta:::columns_shift(archive)
  expect_identical(
    vetusta:::sql_get(archive, "SELECT count(*) AS n FROM segments")$n, 0L
  )
  expect_identical(as.vector(read()), c(780L, 780L))
  expect_identical(nrow(archive_check(archive)), 0L)
})
