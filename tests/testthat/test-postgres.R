# An archive on a server: access rights, a server that stops, several machines.

put_levels <- function(archive, key, days, value, ...) {
  vetusta:::store_put(
    archive,
    list(
      source = "river",
      dataset = "levels",
      shape = "observations",
      rows = vetusta:::parcel_series(
        data.frame(
          key = key,
          frequency = "D",
          dimensions = sprintf("{\"series\":\"%s\"}", key)
        ),
        list(
          time = vetusta:::utc(86400 * days),
          known = vetusta:::utc(rep(NA_real_, length(days))),
          value = rep_len(value + 0, length(days))
        )
      ),
      ...
    )
  )
}
level_entry <- function(url) {
  list(
    run = "r",
    source = "river",
    dataset = "levels",
    asked = as.numeric(Sys.time()),
    rows = 1L,
    outcome = "stored",
    url = url
  )
}
levels_of <- function(archive, key) {
  series <- vetusta:::store_series(archive)
  as.numeric(
    vetusta:::store_read(archive, series$id[series$key == key])$columns$value
  )
}

test_that("a refused login is explained without the password", {
  server <- postgres_shared()
  uri <- postgres_database()
  at <- function(path) sub("[a-z0-9]+@[^/]*/.*$", path, uri)
  port <- server$port
  expect_said <- function(path, pattern, ...) {
    error <- expect_error_kind(archive_open(path, ...), "archive", pattern)
    expect_no_match(
      conditionMessage(error), "secretword|pass word", info = path
    )
    error
  }
  expect_said(sub("tester@", "tester:secretword@", uri), "contains a password")
  expect_said(paste0(uri, "?sslpassword=secretword"), "contains a password")
  expect_said(sub("tester", "nobody", uri), "has no role \"nobody\"")
  expect_said(sub("/d[0-9]+$", "/none", uri), "has no database \"none\"")
  expect_said(sub("/d[0-9]+$", "", uri), "names no database")
  expect_said(sub(port, 1, uri), "cannot be reached")
  expect_said("postgresql://tester@no.host.invalid/x", "name is not known")
  expect_said(
    sub("postgresql", "postgrsql", uri), "no URLs with postgrsql"
  )
  expect_said("http://127.0.0.1/x", "no URLs with http")
  expect_match(
    expect_said(paste0(uri, "?sslmod=require"), "option sslmod")$todo, "sslmode"
  )
  expect_said(paste0(uri, "?sslmode"), "has no value")
  expect_said(paste0(uri, "?sslmode=requir"), "value that is not known")
  expect_said(paste0(uri, "?sslmode=require"), "made secret")
  expect_said(sub(port, "port", uri), "no number")
  withr::local_envvar(PGPASSWORD = NA)
  mine <- sub("tester", "keeper", uri)
  expect_said(mine, "refuses the role or its password")
  expect_said(mine, "refuses the role or its password", password = "secretword")
  server$sql("GRANT CREATE ON DATABASE postgres TO keeper")
  server$sql(paste0("GRANT CREATE ON DATABASE ", basename(uri), " TO keeper"))
  archive <- archive_open(mine, password = "pass word:1")
  expect_identical(nrow(archive_series(archive)), 0L)
  expect_no_match(
    paste(
      c(utils::capture.output(print(archive)), archive$path), collapse = " "
    ),
    "pass word"
  )
  archive_close(archive)
  withr::local_envvar(PGPASSWORD = "pass word:1")
  archive_close(archive_open(mine, create = FALSE))
})

test_that("a database with other tables is left alone", {
  server <- postgres_shared()
  uri <- postgres_database()
  name <- basename(uri)
  expect_error_kind(
    archive_open(uri, create = FALSE), "archive",
    "no archive in the database yet"
  )
  expect_error_kind(
    archive_open(uri, read_only = TRUE), "archive", "no archive in the database"
  )
  server$sql("CREATE TABLE takings (day date)", name)
  expect_error_kind(archive_open(uri), "archive", "public.takings")
  expect_identical(
    server$sql(
      "SELECT count(*) AS n FROM pg_namespace WHERE nspname = 'vetusta'", name
    )$n,
    0
  )
  server$sql("CREATE SCHEMA vetusta", name)
  archive <- archive_open(uri)
  put_levels(archive, "a", 1:3, 1)
  archive_close(archive)
  other <- postgres_database()
  server$sql("CREATE SCHEMA vetusta", basename(other))
  server$sql("CREATE TABLE vetusta.takings (day date)", basename(other))
  expect_error_kind(
    archive_open(other), "archive", "is not an archive: it has takings"
  )
  # a newer form, and a server that is too old
  server$sql("UPDATE vetusta.meta SET value = '99'", name)
  expect_error_kind(archive_open(uri), "archive", "form 99")
  server$sql("UPDATE vetusta.meta SET name = 'form'", name)
  expect_error_kind(archive_open(uri), "archive", "before its first release")
  local_instead("postgres_least", 99)
  expect_error_kind(archive_open(uri), "archive", "too old")
})

test_that("several that make an archive in one database at once find it made", {
  postgres_shared()
  uri <- postgres_database()
  opened <- lapply(1:6, function(i) {
    processx::process$new(
      "Rscript",
      c(
        "--no-init-file", "-e",
        sprintf(
          paste0(
            "a <- vetusta::archive_open('%s'); ",
            "cat(nrow(vetusta::archive_collectors(a)))"
          ),
          uri
        )
      ),
      stdout = "|",
      stderr = "|",
      env = c("current", R_LIBS = r_libs())
    )
  })
  for (process in opened) {
    process$wait(60000)
    expect_identical(
      process$read_all_output(),
      "0",
      info = process$read_all_error()
    )
  }
  # a reader that opened it before it existed does not confuse its tables later
  archive <- archive_open(uri)
  expect_no_error(vetusta:::postgres_check_empty(archive))
})

test_that("a read-only role is enough for every reading command", {
  server <- postgres_shared()
  uri <- postgres_database()
  folder <- withr::local_tempdir()
  desk <- desk_make(folder)
  lines <- readLines(file.path(folder, "desk.yml"))
  put <- function(user) {
    writeLines(
      c(
        sub(
          "^archive:.*", paste0("archive: ", sub("tester", user, uri)), lines
        ),
        "track:", "  shares:", "    source: quay", "    dataset: bars",
        "    symbols: [KELD]", "    interval: 1 minute",
        "    from: 2026-03-12", "    to: 2026-03-12"
      ),
      file.path(folder, "desk.yml")
    )
  }
  put("tester")
  archive <- vetusta:::desk_reach(desk_open(folder))
  put_rows(
    archive, "quay", "bars", "bars", minute_bars("KELD"), frequency = "PT1M"
  )
  put_rows(
    archive, "quay", "directory", "instruments",
    data.frame(symbol = "KELD", name = "K")
  )
  name <- basename(uri)
  server$sql("GRANT USAGE ON SCHEMA vetusta TO reader", name)
  server$sql("GRANT SELECT ON ALL TABLES IN SCHEMA vetusta TO reader", name)
  put("reader")
  fine <- list(
    "list", "status", c("status", "--collectors"), c("list", "journal"),
    c("gaps", "KELD@1 minute"),
    c("figure", "KELD@1 minute", "--file", "k.png"),
    c("export", "KELD@1 minute", "--file", "k.csv"), c("report", "r.html"),
    c("rows", "quay/directory"), c("archive", "check"),
    c("revisions", "KELD@1 minute"), c("find", "KELD"), c("refresh", "--plan"),
    c("archive", "backup", "b.sqlite")
  )
  for (words in fine) {
    got <- do.call(
      run_vetusta,
      c(
        as.list(words),
        list(folder = folder, env = c(QUAY_KEY = "quay-demo-7f3a91"))
      )
    )
    expect_true(
      got$status %in% c(0L, 3L),
      info = paste(c(words, got$stderr, got$stdout), collapse = " ")
    )
  }
  backup <- archive_open(file.path(folder, "b.sqlite"))
  withr::defer(archive_close(backup))
  expect_identical(nrow(archive_bars(backup, "KELD", "1 minute")), 390L)
  reader <- archive_open(sub("tester", "reader", uri))
  withr::defer(archive_close(reader))
  expect_error_kind(
    put_levels(reader, "z", 1, 1), "archive", "no rights for the table"
  )
  expect_error_kind(
    vetusta:::store_claim(reader, "c", 0), "archive", "no rights"
  )
  got <- run_vetusta(
    "refresh",
    folder = folder,
    env = c(QUAY_KEY = "quay-demo-7f3a91")
  )
  expect_match(got$stderr, "has no rights for the table")
  expect_identical(nrow(archive_bars(archive, "KELD", "1 minute")), 390L)
})

test_that("a connection cut at any moment loses and doubles nothing", {
  server <- postgres_shared()
  uri <- postgres_database()
  archive <- archive_open(uri)
  withr::defer(archive_close(archive))
  # another process ends all connections, again and again
  code <- sprintf(
    "con <- DBI::dbConnect(RPostgres::Postgres(), host = '127.0.0.1',
        port = %d,
    user = 'tester', dbname = 'postgres', timezone = 'UTC'); cat('ready\\n')
    repeat { Sys.sleep(runif(1, 0.02, 0.2)); DBI::dbGetQuery(con,
    \"SELECT count(
      pg_terminate_backend(pid)) FROM pg_stat_activity WHERE datname = '%s'\")
      }",
    server$port, basename(uri)
  )
  cutter <- processx::process$new(
    "Rscript",
    c("--no-init-file", "-e", code),
    stdout = "|",
    stderr = "|",
    env = c("current", R_LIBS = r_libs())
  )
  withr::defer(cutter$kill())
  cutter$poll_io(30000)
  plain <- new_archive()
  set.seed(31)
  for (i in 1:150) {
    key <- sample(c("a", "b"), 1)
    days <- if (runif(1) < 0.5) i * 3 + 1:3 else sort(sample(i * 3 + 3, 3))
    value <- sample(5, 1)
    now <- 1e9 + i
    entry <- if (runif(1) < 0.8) level_entry(paste("page", i))
    for (one in list(archive, plain)) {
      put_levels(
        one,
        key,
        days,
        value,
        now = now,
        journal = entry,
        covered = data.frame(key = key, start = i, end = i + 1),
        notes = list(list(kind = "reached", key = key, value = paste(i)))
      )
    }
  }
  cutter$kill()
  for (key in c("a", "b")) {
    series <- function(store) {
      held <- vetusta:::store_series(store)
      read <- vetusta:::store_read(
        store, held$id[held$key == key], newest = FALSE
      )$columns
      lapply(read[c("time", "known", "value")], as.numeric)
    }
    expect_identical(series(archive), series(plain))
  }
  expect_identical(
    vetusta:::store_journal(archive)$url, vetusta:::store_journal(plain)$url
  )
  expect_identical(
    vetusta:::store_covered(archive, "river", "levels"),
    vetusta:::store_covered(plain, "river", "levels")
  )
  expect_identical(
    vetusta:::store_notes(archive, "reached", "river", "levels")$value,
    vetusta:::store_notes(plain, "reached", "river", "levels")$value
  )
  expect_identical(nrow(archive_check(archive)), 0L)
})

test_that("a page with an unknown commit is stored exactly once", {
  server <- postgres_shared()
  uri <- postgres_database()
  archive <- archive_open(uri)
  withr::defer(archive_close(archive))
  end_all <- function() {
    server$sql(
      paste0(
        "SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity
            WHERE ",
        "datname = '", basename(uri), "'"
      )
    )
  }
  original <- vetusta:::postgres_send
  ends <- asked <- 0
  local_instead("postgres_send", function(store, send, statement, params) {
    if (identical(statement, "COMMIT") && ends == 0) {
      # the page was written, and the answer is lost
      ends <<- 1
      original(store, send, statement, params)
      end_all()
      return(original(store, send, "SELECT 1", NULL))
    }
    if (grepl("txid_status", statement) && asked < 3) {
      asked <<- asked + 1
      end_all()
    }
    original(store, send, statement, params)
  })
  vetusta:::store_transaction(archive, function() {
    put_levels(archive, "a", 1:3, 1, now = 1e9, journal = level_entry("page 1"))
  })
  expect_identical(c(ends, asked), c(1, 3))
  expect_identical(vetusta:::store_journal(archive)$url, "page 1")
  expect_identical(levels_of(archive, "a"), rep(1, 3))
})

test_that("a restarted server is awaited during a collection", {
  server <- postgres_server()
  uri <- postgres_database(server)
  archive <- archive_open(uri)
  folder <- withr::local_tempdir()
  card <- bars_of(bars_server(folder, pause = 0.1))
  going <- bars_collector(card, archive)
  withr::defer(going$kill())
  requests <- function() {
    length(suppressWarnings(readLines(file.path(folder, "calls"))))
  }
  end <- Sys.time() + 60
  while (Sys.time() < end &&
    (!file.exists(file.path(folder, "calls")) || requests() < 15)) {
    Sys.sleep(0.1)
  }
  server$stop("immediate")
  Sys.sleep(2)
  expect_identical(server$start(), 0L)
  came <- bars_came(going)
  expect_identical(came[3:4], c(0, 0))
  bars <- archive_bars(archive, interval = "1 minute")
  expect_identical(as.vector(table(bars$symbol)), rep(50L, 12))
  expect_identical(sum(archive_journal(archive)$outcome == "stored"), 60L)
  expect_identical(requests(), 60L)
  expect_identical(nrow(archive_check(archive)), 0L)
  # a server that stays away gives a message
  withr::local_envvar(VETUSTA_SERVER_PATIENCE_SECONDS = "1")
  server$stop()
  expect_error_kind(archive_bars(archive), "archive", "cut|cannot be reached")
})

test_that("writers that wait for each other, and a conflict, are no failures", {
  uri <- postgres_database()
  archive <- archive_open(uri)
  withr::defer(archive_close(archive))
  code <- function(first, second) {
    sprintf(
      "library(vetusta); a <- archive_open('%s')
      put <- function(dataset, i) vetusta:::store_put(a, list(source = 's',
      dataset = dataset,
        shape = 'instruments', rows = vetusta:::parcel_records(paste0('%s', i),
          c(symbol = 'text'))))
      for (i in 1:15) vetusta:::store_transaction(a, function() {
        put('%s', i); Sys.sleep(0.05); put('%s', i) })",
      uri, first, first, second
    )
  }
  both <- lapply(list(code("x", "y"), code("y", "x")), function(text) {
    processx::process$new(
      "Rscript",
      c("--no-init-file", "-e", text),
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
  expect_identical(archive_datasets(archive)$rows + 0, c(30, 30))
  tried <- 0
  vetusta:::store_transaction(archive, function() {
    tried <<- tried + 1
    put_levels(archive, "a", tried, 7)
    if (tried < 3) {
      vetusta:::sql_get(archive, "SELECT fail() FROM meta")
    }
  }) |>
    expect_error_kind("archive", "damaged")
  vetusta:::sql_do(
    archive,
    "CREATE FUNCTION fail() RETURNS void LANGUAGE plpgsql AS $$ BEGIN
    RAISE EXCEPTION 'could not serialize access' USING ERRCODE = '40001'; END
    $$"
  )
  tried <- 0
  vetusta:::store_transaction(archive, function() {
    tried <<- tried + 1
    put_levels(archive, "a", tried, 7)
    if (tried < 3) vetusta:::sql_get(archive, "SELECT fail()")
  })
  expect_identical(tried, 3)
  # text inserted earlier appears nowhere
  expect_identical(length(levels_of(archive, "a")), 1L)
})

test_that("a standby can be read, and is not written to", {
  server <- postgres_server()
  uri <- postgres_database(server)
  archive <- archive_open(uri)
  put_levels(archive, "a", 1:5, 2)
  archive_close(archive)
  copy <- file.path(server$folder, "standby")
  port <- httpuv::randomPort(host = "127.0.0.1")
  made <- postgres_run(
    postgres_program("pg_basebackup"), "-h 127.0.0.1 -p", server$port,
    "-U tester -R -D", copy, "> /dev/null 2>&1"
  )
  expect_identical(made$status, 0L)
  postgres_run(
    postgres_program("pg_ctl"), "-D", copy, "-w -o",
    shQuote(paste("-p", port, "-h 127.0.0.1 -k", server$folder)), "-l",
    file.path(server$folder, "second"), "start > /dev/null 2>&1"
  )
  withr::defer(
    postgres_run(
      postgres_program("pg_ctl"), "-D", copy,
      "-m immediate stop > /dev/null 2>&1"
    )
  )
  standby <- archive_open(sub(server$port, port, uri))
  withr::defer(archive_close(standby))
  expect_identical(levels_of(standby, "a"), rep(2, 5))
  expect_identical(nrow(archive_check(standby)), 0L)
  expect_error_kind(
    put_levels(standby, "a", 6, 2), "archive", "can only be read here"
  )
})

test_that("a wrong machine clock changes neither order nor limits", {
  uri <- postgres_database()
  archive <- archive_open(uri)
  withr::defer(archive_close(archive))
  wrong <- function(code) {
    got <- processx::run(
      "Rscript",
      c(
        "--no-init-file", "-e",
        paste(
          paste0(
            "library(vetusta); utils::assignInNamespace('now_seconds', ",
            "function()"
          ),
          "as.numeric(Sys.time()) + 90, 'vetusta')",
          sprintf("a <- archive_open('%s')", uri), code, sep = "\n"
        )
      ),
      error_on_status = FALSE,
      env = c("current", R_LIBS = r_libs())
    )
    expect_identical(got$status, 0L, info = got$stderr)
    got$stdout
  }
  put <- paste(
    "vetusta:::store_put(a, list(source = 'river', dataset =",
    "'levels', shape =",
    "'observations', rows = vetusta:::parcel_series(data.frame(key =",
    "'a', frequency = 'D',",
    "dimensions = '{}'), list(time = vetusta:::utc(86400), value = 1))))"
  )
  wrong(put)
  # a later option takes precedence
  put_levels(archive, "a", 1, 2)
  expect_identical(levels_of(archive, "a"), 2)
  limit <- list(list(count = 5, seconds = 30, weighs = FALSE))
  expect_length(vetusta:::store_token_take(archive, "s", limit, 2)$id, 1)
  code <- "limit <- list(list(count = 5, seconds = 30,
      weighs = FALSE)); n <- 0
    for (i in 1:9) { one <- vetusta:::store_token_take(a, 's', limit, 2)
      if (length(one)) { n <- n + 1; vetusta:::store_token_made(a, one$id,
        vetusta:::store_now(a)) } }; cat(n)"
  expect_identical(wrong(code), "4")
  expect_length(vetusta:::store_token_take(archive, "s", limit, 2), 0)
  # data that another process stored since this run began is not requested again
  claimed <- wrong(
    "began <- vetusta:::store_now(a); cat(vetusta:::store_claim(a, 'x',
        began));
    invisible(vetusta:::store_claim_done(a, 'x')); cat('',
    vetusta:::store_claim(a, 'x', began))"
  )
  expect_identical(claimed, "ours done")
})

test_that("collectors on several machines share work and failures", {
  folder <- withr::local_tempdir()
  card <- bars_of(
    bars_server(folder, pause = 0.02), limits = "30 per second, 500 per day"
  )
  archive <- postgres_archive()
  running <- lapply(1:4, function(i) {
    bars_collector(
      card,
      archive,
      symbols = 24,
      host = paste0("host", i %% 4),
      lease = "10"
    )
  })
  withr::defer(for (one in running) one$kill())
  end <- Sys.time() + 60
  while (Sys.time() < end && nrow(vetusta:::store_journal(archive)) < 20) {
    Sys.sleep(0.1)
  }
  seen <- archive_collectors(archive)
  expect_gt(nrow(seen), 1)
  expect_true(all(grepl("^host[0-3]$", seen$host)))
  expect_identical(unique(seen$doing), "test bars")
  for (one in running[1:2]) one$kill()
  for (one in running[3:4]) expect_identical(bars_came(one)[3:4], c(0, 0))
  bars <- archive_bars(archive, interval = "1 minute")
  expect_identical(as.vector(table(bars$symbol)), rep(50L, 24))
  # requests in progress at the kill are made again, and no others
  requests <- readLines(file.path(folder, "calls"))
  expect_lte(length(requests), 120 + 2 * 12)
  stored <- archive_journal(archive)
  again <- stored$url[stored$outcome == "stored"]
  expect_gt(length(again), 100)
  expect_identical(again[duplicated(again)], character())
  times <- as.numeric(readLines(file.path(folder, "times")))
  expect_lte(most_within(times, 1), 30)
  expect_identical(nrow(archive_check(archive)), 0L)
})

test_that("an archive is copied to a server and back", {
  from <- new_archive()
  put_rows(
    from, "quay", "bars", "bars", minute_bars("KELD"), frequency = "PT1M",
    journal = level_entry("p")
  )
  put_rows(
    from, "quay", "directory", "instruments",
    data.frame(symbol = "KELD", name = "K")
  )
  put_rows(
    from, "quay", "market", "snapshot",
    data.frame(symbol = c("A", "B"), last = c(1, 2))
  )
  put_levels(from, "a", 1:9, 1:9, now = 1000)
  put_levels(
    from,
    "a",
    1:4,
    5,
    now = 2000,
    covered = data.frame(key = "a", start = 1, end = 9),
    notes = list(list(kind = "asked", key = "a", value = "v"))
  )
  vetusta:::store_token_take(
    from, "quay", list(list(count = 9, seconds = 60)), 1
  )
  uri <- postgres_database()
  moved <- archive_copy(from$path, uri, progress = FALSE)
  expect_identical(
    moved$rows[moved$table %in% c("segments", "tokens")], c(2, 1)
  )
  server <- archive_open(uri)
  withr::defer(archive_close(server))
  expect_same_archive <- function(a, b) {
    expect_identical(
      archive_bars(a, "KELD", "1 minute"), archive_bars(b, "KELD", "1 minute")
    )
    expect_identical(
      archive_revisions(a, "a", all = TRUE),
      archive_revisions(b, "a", all = TRUE)
    )
    expect_identical(
      archive_rows(a, "quay", "directory"), archive_rows(b, "quay", "directory")
    )
    expect_identical(
      archive_rows(a, "quay", "market"), archive_rows(b, "quay", "market")
    )
    expect_equal(archive_journal(a), archive_journal(b))
    expect_identical(
      vetusta:::store_covered(a, "river", "levels"),
      vetusta:::store_covered(b, "river", "levels")
    )
  }
  expect_same_archive(from, server)
  # ids continue after the copied ones
  put_levels(server, "b", 1:3, 4, journal = level_entry("q"))
  put_rows(
    server, "quay", "directory", "instruments",
    data.frame(symbol = "TAMX", name = "T")
  )
  expect_identical(nrow(archive_check(server)), 0L)
  expect_error_kind(
    archive_copy(from$path, uri, progress = FALSE), "archive", "is not empty"
  )
  expect_error_kind(archive_copy(uri, uri), "archive", "archive itself")
  # and back
  file <- withr::local_tempfile(fileext = ".sqlite")
  archive_copy(uri, file, progress = FALSE)
  back <- archive_open(file)
  withr::defer(archive_close(back))
  expect_same_archive(back, server)
  expect_identical(levels_of(back, "b"), rep(4, 3))
  # a copy that is stopped midway is not an archive yet, and continues
  second <- postgres_database()
  counts <- 0
  local({
    original <- local_instead(
      "copy_table",
      function(from, to, table, state, show) {
        if (table == "records") stop("the machine is switched off")
        original(from, to, table, state, show)
      }
    )
    expect_error(archive_copy(file, second, progress = FALSE), "switched off")
  })
  expect_error_kind(archive_open(second), "archive", "incomplete copy")
  pieces <- character()
  local({
    original <- local_instead("sql_append", function(store, table, rows) {
      pieces <<- c(pieces, table)
      original(store, table, rows)
    })
    archive_copy(file, second, progress = FALSE)
  })
  expect_false("segments" %in% pieces)
  expect_true("records" %in% pieces)
  copied <- archive_open(second)
  withr::defer(archive_close(copied))
  expect_same_archive(copied, back)
})

test_that("a stopped copy restarts if the archive has changed", {
  from <- new_archive()
  put_levels(from, "a", 1:9, 1)
  uri <- postgres_database()
  local({
    local_instead(
      "store_check", function(store) stop("the machine is switched off")
    )
    expect_error(archive_copy(from$path, uri, progress = FALSE), "switched off")
  })
  put_levels(from, "a", 1:9, 2)
  archive_copy(from$path, uri, progress = FALSE)
  copy <- archive_open(uri)
  withr::defer(archive_close(copy))
  expect_identical(levels_of(copy, "a"), rep(2, 9))
})

test_that("a desk with a server archive and its password is refreshed", {
  server <- postgres_shared()
  uri <- postgres_database()
  server$sql(paste0("GRANT CREATE ON DATABASE ", basename(uri), " TO keeper"))
  services <- start_services()
  folder <- withr::local_tempdir()
  desk_make(
    folder,
    urls = list(quay = services$url),
    secrets = list(
      QUAY_KEY = "quay-demo-7f3a91", ARCHIVE_PASSWORD = "pass word:1"
    )
  )
  lines <- readLines(file.path(folder, "desk.yml"))
  writeLines(
    c(
      sub(
        "^archive:.*", paste0("archive: ", sub("tester", "keeper", uri)), lines
      ),
      "track:", "  shares:", "    source: quay", "    dataset: bars",
      "    symbols: [KELD, TAMX]", "    interval: 1 minute",
      "    from: 2026-03-12", "    to: 2026-03-13"
    ),
    file.path(folder, "desk.yml")
  )
  env <- c(PGPASSWORD = "")
  both <- lapply(1:2, function(i) {
    processx::process$new(
      "Rscript",
      c("--no-init-file", "-e", "vetusta::cli_main()", "refresh"),
      wd = folder,
      stdout = "|",
      stderr = "2>&1",
      env = c(
        "current", R_LIBS = r_libs(), VETUSTA_HOST = paste0("host", i), env
      )
    )
  })
  said <- vapply(
    both,
    function(process) {
      process$wait(120000)
      out <- process$read_all_output()
      expect_identical(process$get_exit_status(), 0L, info = out)
      out
    },
    ""
  )
  status <- run_vetusta("status", "--json", folder = folder, env = env)
  collectors <- run_vetusta(
    "status", "--collectors", folder = folder, env = env
  )
  expect_match(collectors$stderr, "no collector is running")
  expect_no_match(
    paste(said, status$stdout, status$stderr, collapse = " "), "pass word"
  )
  told <- jsonlite::fromJSON(status$stdout)
  expect_identical(told$queries$outcome, "done")
  archive <- vetusta:::desk_reach(desk_open(folder))
  withr::defer(archive_close(archive))
  stored <- archive_journal(archive)
  expect_identical(anyDuplicated(stored$id[stored$outcome == "stored"]), 0L)
  # the password is only among the secrets
  expect_length(grep("pass word", readLines(file.path(folder, "desk.yml"))), 0)
})

test_that("on the server's full disk nothing is lost", {
  disk <- small_disk(160)
  server <- postgres_server(folder = disk$folder)
  withr::local_envvar(VETUSTA_SERVER_PATIENCE_SECONDS = "2")
  server$sql("CREATE DATABASE full_one")
  archive <- archive_open(server$uri("full_one"))
  withr::defer(archive_close(archive))
  put_levels(archive, "a", 1:2000, 1)
  disk$fill()
  # the server's log settings may show it
  set.seed(1)
  failed <- NULL
  for (i in 1:400) {
    failed <- tryCatch(
      {
        put_levels(archive, paste0("b", i), 1:20000, runif(20000))
        NULL
      },
      error = identity
    )
    if (!is.null(failed)) break
  }
  expect_s3_class(failed, "vetusta_error_archive")
  expect_match(
    conditionMessage(failed), "disk .* is full|cannot be reached|went away"
  )
  disk$free()
  server$stop()
  expect_identical(server$start(), 0L)
  expect_identical(levels_of(archive, "a"), rep(1, 2000))
  before <- nrow(archive_series(archive))
  put_levels(archive, paste0("b", i), 1:20000, runif(20000))
  expect_identical(length(levels_of(archive, paste0("b", i))), 20000L)
  expect_identical(
    sort(archive_series(archive)$rows),
    sort(c(2000, rep(20000, nrow(archive_series(archive)) - 1)))
  )
  expect_identical(nrow(archive_check(archive)), 0L)
})
