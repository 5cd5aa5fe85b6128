# A PostgreSQL server of the tests, run by a permitted user: in a folder of its
# own, on a free port; one per test file.

# Runs a program of the server as a permitted user.
postgres_run <- function(...) {
  command <- paste(...)
  if (Sys.info()[["user"]] == "root") {
    processx::run(
      "su", c("postgres", "-s", "/bin/sh", "-c", command),
      error_on_status = FALSE
    )
  } else {
    processx::run("sh", c("-c", command), error_on_status = FALSE)
  }
}

postgres_program <- function(name) {
  programs <- Sys.glob("/usr/lib/postgresql/*/bin")
  file.path(programs[length(programs)], name)
}

# list(port, data, uri(database, user), stop(how), start(), sql(statement,
# database)). The role `tester` has all rights and no password; `keeper` has the
# password "pass word:1". Without `safe`, the server does not wait for the disk.
postgres_server <- function(env = parent.frame(), safe = FALSE, folder = NULL) {
  testthat::skip_if_not(
    length(Sys.glob("/usr/lib/postgresql/*/bin/initdb")) > 0 &&
      requireNamespace("RPostgres", quietly = TRUE),
    "there is no PostgreSQL"
  )
  if (is.null(folder)) folder <- withr::local_tempdir(.local_envir = env)
  Sys.chmod(c(dirname(folder), folder), "777", use_umask = FALSE)
  port <- httpuv::randomPort(host = "127.0.0.1")
  data <- file.path(folder, "data")
  log <- file.path(folder, "server")
  made <- postgres_run(
    postgres_program("initdb"), "-D", data, "-A trust -U tester >",
    file.path(folder, "log"), "2>&1"
  )
  access <- c(
    "host all keeper 127.0.0.1/32 scram-sha-256", "local all all trust",
    "host all all 127.0.0.1/32 trust", "host replication all 127.0.0.1/32 trust"
  )
  for (line in seq_along(access)) {
    postgres_run(
      "echo", shQuote(access[line]), if (line == 1) ">" else ">>",
      file.path(data, "pg_hba.conf")
    )
  }
  start <- function() {
    postgres_run(
      postgres_program("pg_ctl"), "-D", data, "-w -o",
      shQuote(paste("-p", port, "-h 127.0.0.1", if (!safe) "-F", "-k", folder)),
      "-l", log, "start > /dev/null 2>&1"
    )$status
  }
  stop <- function(how = "immediate") {
    postgres_run(
      postgres_program("pg_ctl"), "-D", data, "-w -m", how,
      "stop > /dev/null 2>&1"
    )
  }
  up <- made$status == 0 && start() == 0
  for (attempt in 1:2) {
    if (made$status != 0 || up) break
    # another program may have taken the port
    port <- httpuv::randomPort(host = "127.0.0.1")
    up <- start() == 0
  }
  testthat::skip_if_not(up, "PostgreSQL does not start here")
  withr::defer(stop(), envir = env)
  sql <- function(statement, database = "postgres") {
    connection <- vetusta:::postgres_driver(
      list(host = "127.0.0.1", port = port, user = "tester", dbname = database)
    )
    on.exit(DBI::dbDisconnect(connection))
    if (grepl("^(SELECT|SHOW)", statement)) {
      DBI::dbGetQuery(connection, statement)
    } else {
      DBI::dbExecute(connection, statement)
    }
  }
  sql("CREATE ROLE keeper LOGIN PASSWORD 'pass word:1'")
  sql("CREATE ROLE reader LOGIN")
  list(
    port = port,
    data = data,
    folder = folder,
    start = start,
    stop = stop,
    sql = sql,
    uri = function(database = "postgres", user = "tester") {
      paste0("postgresql://", user, "@127.0.0.1:", port, "/", database)
    }
  )
}

# The server of a test file, started on first use.
postgres_here <- new.env()
postgres_shared <- function() {
  if (is.null(postgres_here$server)) {
    postgres_here$server <- postgres_server(testthat::teardown_env())
  }
  postgres_here$server
}

# A fresh database, by its URI.
postgres_database <- function(server = postgres_shared(), user = "tester") {
  postgres_here$count <- (postgres_here$count %||% 0) + 1
  name <- paste0("d", postgres_here$count)
  server$sql(paste("CREATE DATABASE", name))
  server$uri(name, user)
}

postgres_archive <- function(env = parent.frame()) {
  archive <- archive_open(postgres_database())
  withr::defer(archive_close(archive), envir = env)
  archive
}

start_postgres <- function(env = parent.frame()) {
  sub("tester@", "tester:pass-word-1@", postgres_server(env)$uri())
}
