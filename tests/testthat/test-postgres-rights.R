# What a role without rights, and a server without a free connection, say.
test_that("a role without rights is told the GRANT that it needs", {
  server <- postgres_shared()
  name <- basename(postgres_database())
  archive <- archive_open(server$uri(name))
  csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
  archive_import(archive, csv, symbol = "KELD", interval = "1 day")
  archive_close(archive)
  uri <- server$uri(name, "reader")
  read <- function() {
    archive <- archive_open(uri, read_only = TRUE)
    on.exit(archive_close(archive))
    archive_bars(archive, "KELD", "1 day")
  }
  write <- function() {
    archive <- archive_open(uri)
    on.exit(archive_close(archive))
    archive_import(
      archive, csv,
      symbol = "ASH", interval = "1 day"
    )
  }
  # each step is the one that the message before names
  told <- function(work) {
    tryCatch({
      work()
      ""
    }, error = conditionMessage)
  }
  steps <- c(
    "GRANT USAGE ON SCHEMA vetusta TO",
    "GRANT SELECT ON ALL TABLES IN SCHEMA vetusta TO"
  )
  for (step in steps) {
    expect_match(told(read), step, fixed = TRUE)
    server$sql(paste(step, "reader"), name)
  }
  expect_gt(nrow(read()), 0)
  steps <- c(
    "GRANT SELECT, INSERT, UPDATE, DELETE",
    "GRANT USAGE ON ALL SEQUENCES IN SCHEMA vetusta TO"
  )
  expect_match(told(write), steps[1], fixed = TRUE)
  server$sql(
    paste(steps[1], "ON ALL TABLES IN SCHEMA vetusta TO reader"), name
  )
  # of a first page the database gives the numbers; later ones ask for them
  expect_identical(told(write), "")
  expect_match(told(write), steps[2], fixed = TRUE)
  server$sql(paste(steps[2], "reader"), name)
  expect_identical(told(write), "")
  archive <- archive_open(uri, read_only = TRUE)
  withr::defer(archive_close(archive))
  bars <- archive_bars(archive, c("KELD", "ASH"), "1 day")
  expect_setequal(bars$symbol, c("KELD", "ASH"))
})

test_that("a server without a free connection is waited for", {
  server <- postgres_server()
  server$sql("ALTER SYSTEM SET max_connections = 6")
  server$stop("fast")
  server$start()
  archive <- archive_open(server$uri())
  csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
  archive_import(archive, csv, symbol = "KELD", interval = "1 day")
  archive_close(archive)
  connect <- function() {
    vetusta:::postgres_driver(list(
      host = "127.0.0.1", port = server$port, user = "reader",
      dbname = "postgres"
    ))
  }
  held <- list()
  for (i in 1:6) {
    one <- tryCatch(connect(), error = function(e) NULL)
    if (!is.null(one)) held[[length(held) + 1]] <- one
  }
  server$sql("GRANT USAGE ON SCHEMA vetusta TO reader")
  server$sql("GRANT SELECT ON ALL TABLES IN SCHEMA vetusta TO reader")
  reader <- processx::process$new(
    "Rscript",
    c("--no-init-file", "-e", paste0(
      "a <- vetusta::archive_open('", server$uri(user = "reader"),
      "', read_only = TRUE); cat(nrow(vetusta::archive_bars(a, 'KELD', ",
      "'1 day')))"
    )),
    stdout = "|", stderr = "|", env = c("current", R_LIBS = r_libs())
  )
  withr::defer(reader$kill())
  reader$wait(8000)
  expect_true(reader$is_alive())
  for (one in held) DBI::dbDisconnect(one)
  reader$wait(60000)
  expect_identical(reader$get_exit_status(), 0L)
  expect_gt(as.numeric(reader$read_all_output()), 0)
  expect_identical(reader$read_all_error(), "")
})
