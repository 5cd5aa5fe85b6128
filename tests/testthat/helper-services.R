# The invented services in a process of their own, on a free port.
r_libs <- function() paste(.libPaths(), collapse = .Platform$path.sep)

start_services <- function(..., env = parent.frame()) {
  process <- processx::process$new(
    "Rscript",
    c(
      "--no-init-file", "-e", "vetusta::cli_main()", "services", "--port", "0",
      "--seconds", "300", ...
    ),
    stdout = "|",
    stderr = "|",
    env = c("current", R_LIBS = r_libs()),
    cleanup_tree = TRUE
  )
  withr::defer(process$kill(), envir = env)
  text <- character()
  end <- Sys.time() + 30
  while (Sys.time() < end && process$is_alive()) {
    process$poll_io(200)
    text <- c(text, process$read_output_lines())
    found <- regmatches(
      text, regexpr("https?://[a-z0-9.]+:[0-9]+(?=/quay)", text, perl = TRUE)
    )
    if (length(found)) {
      return(
        list(
          process = process,
          url = paste0(found[1], "/quay"),
          root = found[1]
        )
      )
    }
  }
  stop(
    "the services did not start: ",
    paste(process$read_all_error_lines(), collapse = " ")
  )
}

# A scripted server: `answer` is a function of the number of the request and the
# request.
start_scripted <- function(answer, env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".rds", .local_envir = env)
  saveRDS(list(answer = answer, json_answer = json_answer, asked = asked), file)
  port <- start_listening(
    env,
    "list2env(readRDS('%1$s'), globalenv()); `%%||%%` <- function(x,
      y) if (is.null(x)) y else x;
      n <- 0
     app <- list(call = function(request) { n <<- n + 1; answer(n, request) })
     server <- httpuv::startServer('127.0.0.1', %2$d,
     app); cat('ready\\n'); flush(stdout())
     end <- Sys.time() + 300; while (Sys.time() < end) httpuv::service(200)",
    file
  )
  paste0("http://127.0.0.1:", port)
}

# Runs code that listens on a port, inserted as the last value, and reports when
# it is ready; if the port is taken meanwhile, another one is used.
start_listening <- function(env, code, ...) {
  for (attempt in 1:3) {
    port <- httpuv::randomPort(10000L, host = "127.0.0.1")
    process <- processx::process$new(
      "Rscript",
      c("--no-init-file", "-e", sprintf(code, ..., port)),
      stdout = "|",
      stderr = "|",
      env = c("current", R_LIBS = r_libs())
    )
    end <- Sys.time() + 60
    while (Sys.time() < end &&
      (process$is_alive() || process$is_incomplete_output())) {
      if ("ready" %in% process$read_output_lines()) {
        withr::defer(process$kill(), envir = env)
        return(port)
      }
      process$poll_io(200)
    }
    process$kill()
  }
  stop("the server did not start: ", process$read_all_error())
}

quay_key <- function(env = parent.frame()) {
  withr::local_envvar(QUAY_KEY = "quay-demo-7f3a91", .local_envir = env)
}

# With VETUSTA_TEST_STORE=postgres all archives are in PostgreSQL, to run a
# whole test file on it.
new_archive <- function(env = parent.frame()) {
  if (Sys.getenv("VETUSTA_TEST_STORE") == "postgres") {
    return(postgres_archive(env))
  }
  archive <- archive_open(
    withr::local_tempfile(fileext = ".sqlite", .local_envir = env)
  )
  withr::defer(archive_close(archive), envir = env)
  archive
}

# A card for a scripted server: one page of bars at /items, the next URL at
# /more.
plain_card <- function(url, extra = character(), env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".yml", .local_envir = env)
  writeLines(
    c(
      "source: test", paste0("url: ", url), extra, "datasets:", "  bars:",
      "    shape: bars", "    request: /bars/{symbol}{?from,to}",
      "    largest_page: 2",
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
      "    rows: /items", "    next_page: {by: url, at: /more}",
      paste0(
        "    columns: {time: {at: /t, as: epoch-s}, open: /o, high: /h, ",
        "low: /l, close: /c, ", "volume: {at: /v, need: optional}}"
      )
    ),
    file
  )
  file
}

collect_plain <- function(url, archive, symbols = "KELD", ...) {
  query <- query_bars(
    source_card(plain_card(url, ...)), symbols, "1 minute",
    from = "2026-03-12", to = "2026-03-12"
  )
  collect_run(plan_requests(query, archive), archive, progress = FALSE)
}

# The command line: in this process, which takes a fifth of the time, or, with
# `process`, in a process of its own, for example with another locale or zone.
run_vetusta <- function(..., folder = tempdir(), env = character(),
                        process = any(grepl("^(LC_|LANG|R_|TZ)", names(env)))) {
  if (process) {
    return(
      processx::run(
        "Rscript",
        c("--no-init-file", "--no-restore", "-e", "vetusta::cli_main()", ...),
        wd = folder,
        error_on_status = FALSE,
        env = c("current", R_LIBS = r_libs(), R_DEFAULT_PACKAGES = "NULL", env)
      )
    )
  }
  withr::local_dir(folder)
  withr::local_envvar(env)
  run_inside(c(...))
}

# A command in this process: list(status, stdout, stderr).
run_inside <- function(words) {
  withr::local_options(width = 80, warn = 0)
  files <- c(stdout = withr::local_tempfile(), stderr = withr::local_tempfile())
  out <- file(files[["stdout"]], "wb")
  err <- file(files[["stderr"]], "wb")
  sink(out)
  sink(err, type = "message")
  status <- tryCatch(vetusta:::cli_run(as.character(words)), finally = {
    sink(type = "message")
    sink()
    close(out)
    close(err)
  })
  # close what the command opened, as the end of its process would
  gc(FALSE, full = FALSE)
  text <- function(file) {
    bytes <- readBin(file, "raw", file.size(file))
    text <- rawToChar(bytes)
    Encoding(text) <- "UTF-8"
    text
  }
  list(
    status = status,
    stdout = text(files[["stdout"]]),
    stderr = text(files[["stderr"]])
  )
}

# 390 minute bars of one regular day of the exchange, without the left out ones.
minute_bars <- function(symbol = "KELD", day = "2026-03-12",
                        without = integer()) {
  at <- as.POSIXct(paste(day, "07:30:00"), tz = "UTC") +
      60 * setdiff(0:389, without)
  n <- length(at)
  price <- 40 + sin(seq_len(n) / 20)
  bars_frame(
    data.frame(
      symbol = symbol, time = at, open = price, high = price + 0.2,
      low = price - 0.2, close = price + 0.1, volume = 100 + seq_len(n),
      session = "regular"
    )
  )
}

# Replaces a function of the package until the test ends.
local_instead <- function(name, value, env = parent.frame()) {
  original <- get(name, envir = asNamespace("vetusta"))
  utils::assignInNamespace(name, value, "vetusta")
  withr::defer(utils::assignInNamespace(name, original, "vetusta"), envir = env)
  invisible(original)
}

expect_error_kind <- function(object, kind, pattern = NULL) {
  error <- testthat::expect_error(
    object,
    class = paste0("vetusta_error_", kind)
  )
  testthat::expect_true(length(error$todo) == 1 && nzchar(error$todo))
  if (!is.null(pattern)) {
    testthat::expect_match(conditionMessage(error), pattern)
  }
  invisible(error)
}

# A server below HTTP, for what no web server does. `script` is a list with the
# text for each connection in turn, NULL for a connection that is closed at
# once. After the text the connection stays open for `hold` seconds, one number
# or one per connection.
start_socket <- function(script, hold = 0, env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".rds", .local_envir = env)
  saveRDS(list(script, hold), file)
  port <- start_listening(
    env,
    "told <- readRDS('%1$s'); script <- told[[1]];
      hold <- rep_len(told[[2]], length(script));
        server <- serverSocket(%2$d); cat('ready\\n'); flush(stdout()); i <- 0
     end <- Sys.time() + 120;
       while (Sys.time() < end) { client <- tryCatch(socketAccept(server,
       open = 'r+b',
         timeout = 60), error = function(e) NULL)
     if (is.null(client)) next; i <- min(i + 1, length(script)); part <-
     script[[i]]
     if (!is.null(part)) {
       while (nzchar(gsub('[[:space:]]', '', paste(readLines(client, 1),
         collapse = '')))) {}; writeBin(charToRaw(part),
       client); flush(client); Sys.sleep(hold[i]) }; close(client) }",
    file
  )
  paste0("http://127.0.0.1:", port)
}

# The project's folder, if the sources are beside the tests.
project_root_of_readme <- function() {
  here <- normalizePath(testthat::test_path("..", ".."), mustWork = FALSE)
  testthat::skip_if_not(
    file.exists(file.path(here, "README.md")) &&
      file.exists(file.path(here, "R", "cli-main.R")),
    "the sources are not beside the tests"
  )
  here
}

# A folder on a disk of its own of this many megabytes, if this process may
# mount one; fill() fills it up to some kilobytes, and free() empties it.
small_disk <- function(megabytes, env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  mounted <- Sys.info()[["user"]] == "root" &&
      identical(
        0L,
        suppressWarnings(
          system2(
            "mount",
            c(
              "-t", "tmpfs", "-o", paste0("size=", megabytes, "m"), "tmpfs",
              folder
            ),
            stdout = FALSE, stderr = FALSE
          )
        )
      )
  testthat::skip_if_not(mounted, "no disk can be made here")
  withr::defer(system2("umount", c("-l", folder)), envir = env)
  filler <- file.path(folder, "filler")
  list(
    folder = folder,
    fill = function(left = 0) {
      system2(
        "dd", c("if=/dev/zero", paste0("of=", filler), "bs=64k"),
        stdout = FALSE, stderr = FALSE
      )
      if (left > 0) {
        size <- file.size(filler)
        system2(
          "truncate",
          c("-s", format(size - left * 1024, scientific = FALSE), filler)
        )
      }
    },
    free = function() unlink(filler)
  )
}
