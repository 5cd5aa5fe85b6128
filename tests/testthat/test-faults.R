# Every fault of the invented services, met by a complete collection.
with_keys <- function(env = parent.frame()) {
  withr::local_envvar(as.list(vetusta:::standin_keys), .local_envir = env)
}

impatient <- function(name, root, env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".yml", .local_envir = env)
  writeLines(
    c(
      readLines(
        system.file("cards", paste0(name, ".yml"), package = "vetusta")
      ),
      "patience: PT2S"
    ),
    file
  )
  source_card(file, url = paste0(root, "/", name))
}

collect_all <- function(source, archive, query) {
  collect_run(plan_requests(query(source), archive), archive, progress = FALSE)
}
quay_query <- function(source) {
  query_bars(
    source, c("KELD", "TAMX"), "1 minute", from = "2026-03-12",
    to = "2026-03-13"
  )
}

test_that("broken and slow connections lose and double no row", {
  with_keys()
  clean <- start_services("--rate", "100000")
  first <- new_archive()
  collect_all(impatient("quay", clean$root), first, quay_query)
  whole <- archive_bars(first, c("KELD", "TAMX"), "1 minute")
  expect_gt(nrow(whole), 1500)
  for (fault in c("closed", "reset", "broken", "silent", "trickle", "away")) {
    services <- start_services(
      "--rate", "100000", "--fault", fault, "--fault-every", "5",
      env = environment()
    )
    archive <- new_archive(environment())
    run <- collect_all(impatient("quay", services$root), archive, quay_query)
    expect_identical(nrow(run$failed), 0L, label = fault)
    expect_identical(
      archive_bars(archive, c("KELD", "TAMX"), "1 minute"), whole, label = fault
    )
    expect_identical(
      sum(archive_journal(archive)$outcome == "stored"),
      sum(archive_journal(first)$outcome == "stored"), label = fault
    )
    services$process$kill()
  }
})

test_that("a dead connection ends in a named error", {
  with_keys()
  reasons <- c(
    closed = "empty reply|closed", reset = "reset",
    broken = "transfer closed|partial", tls = "handshake", dns = "resolv"
  )
  for (fault in names(reasons)) {
    services <- start_services(
      "--fault", fault, "--fault-every", "1", env = environment()
    )
    archive <- new_archive(environment())
    error <- expect_error_kind(
      collect_all(impatient("quay", services$root), archive, quay_query),
      "network"
    )
    expect_match(
      conditionMessage(error), reasons[[fault]], ignore.case = TRUE,
      label = fault
    )
    expect_true(
      all(archive_journal(archive)$outcome == "retried"), label = fault
    )
    services$process$kill()
  }
})

test_that("faults of tokens, pages and jobs are survived", {
  with_keys()
  facts <- function(source) {
    query_rows(source, "facts", symbol = c("KELD", "TAMX", "BROM"))
  }
  export <- function(source) {
    query_bars(source, "SALT", "1 day", from = "2020-01-01", to = "2025-12-31")
  }
  clean <- start_services()
  first <- new_archive()
  collect_all(impatient("register", clean$root), first, facts)
  expected <- archive_rows(first, "register", "facts")
  collect_all(impatient("hall", clean$root), first, export)
  for (fault in c("status-503", "broken", "closed", "cut", "html")) {
    services <- start_services(
      "--fault", fault, "--fault-every", "3", env = environment()
    )
    archive <- new_archive(environment())
    run <- collect_all(impatient("register", services$root), archive, facts)
    expect_identical(
      as.data.frame(archive_rows(archive, "register", "facts"))[
        names(expected)
      ],
      as.data.frame(expected), label = fault
    )
    if (!fault %in% c("cut", "html")) {
      run <- collect_all(impatient("hall", services$root), archive, export)
      expect_identical(
        archive_bars(archive, "SALT", "1 day"),
        archive_bars(first, "SALT", "1 day"), label = fault
      )
    }
    services$process$kill()
  }
})

test_that("a fault on the command line has advice and no secret", {
  folder <- withr::local_tempdir()
  desk_make(
    folder,
    cards = "quay",
    secrets = list(QUAY_KEY = "quay-demo-7f3a91")
  )
  collect <- function() {
    run_vetusta(
      "collect", "quay", "KELD", "--interval", "1 minute", "--from",
      "2026-03-12", "--to", "2026-03-12", "--quiet", folder = folder
    )
  }
  for (fault in c("dns", "refused", "html", "status-500")) {
    services <- start_services(
      "--fault", fault, "--fault-every", "1", "--desk", folder,
      env = environment()
    )
    result <- collect()
    expect_identical(result$status, 1L, label = fault)
    expect_match(
      result$stderr,
      c(
        dns = "[Rr]esolv", refused = "refuses access", html = "",
        "status-500" = ""
      )[[fault]],
      label = fault
    )
    expect_match(paste(result$stdout, result$stderr), "to do", label = fault)
    expect_false(
      grepl(
        "quay-demo-7f3a91", paste(result$stdout, result$stderr), fixed = TRUE
      ),
      label = fault
    )
    services$process$kill()
  }
  services <- start_services("--desk", folder)
  expect_identical(collect()$status, 0L)
  files <- list.files(
    folder, recursive = TRUE, full.names = TRUE, all.files = TRUE
  )
  holding <- files[vapply(
    files,
    function(file) {
      length(
          grepRaw(
            "quay-demo-7f3a91", readBin(file, "raw", file.size(file)),
            fixed = TRUE
          )
        ) >
        0
    },
    TRUE
  )]
  expect_identical(basename(holding), "desk.env")
  wrong <- run_vetusta("services", "--fault", "conection")
  expect_identical(wrong$status, 2L)
  expect_match(wrong$stderr, "use one of|did you mean")
})

test_that("a certificate that nobody vouches for ends the run at once", {
  openssl <- Sys.which("openssl")
  skip_if(!nzchar(openssl), "there is no openssl")
  folder <- withr::local_tempdir()
  made <- processx::run(
    openssl,
    c(
      "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "key.pem",
      "-out", "own.pem", "-days", "2", "-subj", "/CN=127.0.0.1", "-addext",
      "subjectAltName=IP:127.0.0.1"
    ),
    wd = folder
  )
  port <- httpuv::randomPort(host = "127.0.0.1")
  server <- processx::process$new(
    openssl,
    c(
      "s_server", "-accept", paste0("127.0.0.1:", port), "-cert", "own.pem",
      "-key", "key.pem", "-WWW"
    ),
    wd = folder, stdout = "|", stderr = "|"
  )
  withr::defer(server$kill())
  end <- Sys.time() + 20
  while (Sys.time() < end &&
    !any(grepl("ACCEPT", server$read_output_lines()))) {
    server$poll_io(200)
  }
  card <- write_card(
    paste0("https://127.0.0.1:", port),
    c(
      "request: /rows{?k}", "rows: /items", "columns: {n: {at: /n, as: number}}"
    )
  )
  archive <- new_archive()
  plan <- plan_requests(
    query_rows(source_card(card), "rows", k = c("a", "b", "c")), archive
  )
  error <- expect_error_kind(
    collect_run(plan, archive, progress = FALSE), "network", "certificate"
  )
  expect_lte(nrow(archive_journal(archive)), 1L)
  expect_false(grepl("tries", conditionMessage(error)))
})
