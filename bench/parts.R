# Shared parts of the benchmarks: prepared pages, a server for them, and
# processes with their time and peak memory.

library(vetusta)

page_rows <- 5000L

# One-minute bars in JSON files, each with the URL of the next page. Times are
# milliseconds since 1970, or RFC 3339.
write_pages <- function(folder, rows, written = FALSE) {
  dir.create(folder, showWarnings = FALSE, recursive = TRUE)
  set.seed(7)
  pages <- ceiling(rows / page_rows)
  last <- 40
  for (page in seq_len(pages)) {
    n <- min(page_rows, rows - (page - 1) * page_rows)
    at <- 1.6e9 + 60 * ((page - 1) * page_rows + seq_len(n) - 1)
    close <- round(last * exp(cumsum(rnorm(n, sd = 2e-4))), 3)
    open <- c(last, close[-n])
    reach <- abs(rnorm(n, sd = 0.01))
    last <- close[n]
    items <- data.frame(
      at = at * 1000,
      fst = open,
      top = round(pmax(open, close) + reach, 3),
      low = round(pmin(open, close) - reach, 3),
      lst = close,
      qty = round(rexp(n, 1 / 900)) + 1
    )
    if (written) {
      items$at <- format(
        as.POSIXct(at, origin = "1970-01-01", tz = "UTC"), "%Y-%m-%dT%H:%M:%SZ"
      )
    }
    body <- list(code = "KELD", items = items)
    if (page < pages) body$more <- sprintf("/pages/%05d.json", page + 1L)
    writeLines(
      jsonlite::toJSON(body, auto_unbox = TRUE, digits = 6),
      file.path(folder, sprintf("%05d.json", page)), useBytes = TRUE
    )
  }
  pages
}

# A server in a process of its own, as fast as a local server can be: nginx if
# it is installed, because an R server waits some 40 ms for the client's delayed
# acknowledgement on pages of several segments; else httpuv, whose thread sends
# the files.
serve_pages <- function(folder) {
  port <- httpuv::randomPort(host = "127.0.0.1")
  if (nzchar(Sys.which("nginx"))) {
    return(serve_with_nginx(folder, port))
  }
  code <- sprintf(
    paste0(
      "s <- httpuv::startServer('127.0.0.1', %d, list(staticPaths = ",
      "list('/pages' = ",
      paste0(
        "httpuv::staticPath('%s', indexhtml = FALSE)))); cat('ready\\n'); ",
        "flush(stdout()); Sys.sleep(3000)"
      )
    ),
    port, folder
  )
  process <- processx::process$new(
    "Rscript",
    c("--no-init-file", "-e", code),
    stdout = "|",
    stderr = "|",
    env = c("current", R_LIBS = paste(.libPaths(), collapse = ":"))
  )
  process$poll_io(20000)
  list(process = process, url = paste0("http://127.0.0.1:", port))
}

serve_with_nginx <- function(folder, port) {
  Sys.chmod(c(folder, dirname(folder)), "755")
  start_nginx(port, paste0("location /pages/ { alias ", folder, "/; }"))
}

# The same answer to every request.
serve_answer <- function(body, port) {
  start_nginx(
    port,
    paste0(
      "location / { default_type application/json; return 200 '", body, "'; }"
    )
  )
}

start_nginx <- function(port, location) {
  home <- tempfile("nginx")
  dir.create(home)
  site <- paste0(
    "server { listen 127.0.0.1:", port, "; types { application/json json; } ",
    location, " }"
  )
  paths <- paste0(
    c("client_body", "proxy", "fastcgi", "uwsgi", "scgi"), "_temp_path ", home,
    "/t;", collapse = " "
  )
  user <- if (identical(Sys.info()[["effective_user"]], "root")) "user root;"
  writeLines(
    c(
      user, "daemon off; worker_processes 1; error_log stderr;",
      paste0("pid ", home, "/pid;"), "events {}",
      paste0(
        "http { access_log off; sendfile on; keepalive_requests 1000000; ",
        paths, " ", site, " }"
      )
    ),
    file.path(home, "nginx.conf")
  )
  process <- processx::process$new(
    "nginx", c("-p", home, "-c", file.path(home, "nginx.conf")), stderr = NULL
  )
  for (i in 1:100) {
    up <- tryCatch(
      is.list(curl::curl_fetch_memory(paste0("http://127.0.0.1:", port, "/"))),
      error = function(e) FALSE
    )
    if (up) break
    Sys.sleep(0.1)
  }
  list(process = process, url = paste0("http://127.0.0.1:", port))
}

bench_card <- function(url, file, time_as = "epoch-ms") {
  writeLines(
    c(
      "source: bench", paste0("url: ", url), "datasets:", "  bars:",
      "    shape: bars", "    request: /pages/00001.json",
      "    largest_page: 5000", "    rows: /items",
      "    next_page: {by: url, at: /more}", "    columns:",
      paste0("      time: {at: /at, as: ", time_as, "}"), "      open: /fst",
      "      high: /top", "      low: /low", "      close: /lst",
      "      volume: /qty"
    ),
    file
  )
  file
}

# Runs an expression in a new process: seconds of the expression, the peak
# memory of the process in MB, and its processor seconds.
measure <- function(expression, arguments = character()) {
  code <- paste0(
    "source('bench/parts.R'); arguments <- commandArgs(TRUE); spent ",
    "<- system.time({", paste(deparse(expression), collapse = "\n"),
    paste0(
      "}, gcFirst = FALSE); peak <- as.numeric(gsub('[^0-9]', '', ",
      "grep('VmHWM', ",
      paste0(
        "readLines('/proc/self/status'), value = TRUE))) / 1024; ",
        "cat(spent[[3]], peak,", " spent[[1]] + spent[[2]])"
      )
    )
  )
  out <- processx::run(
    "Rscript",
    c("--no-init-file", "-e", code, arguments),
    env = c("current", R_LIBS = paste(.libPaths(), collapse = ":"))
  )
  as.numeric(strsplit(trimws(sub(".*\n", "", out$stdout)), " ")[[1]])
}

# Processor seconds of this process, the median of several runs.
cpu <- function(work, times = 3) {
  stats::median(vapply(
    seq_len(times),
    function(i) {
      gc(FALSE)
      sum(system.time(work(), gcFirst = FALSE)[1:2])
    },
    0
  ))
}
say <- function(what, value, ...) {
  cat(sprintf("%-64s %s\n", what, sprintf(value, ...)))
}
