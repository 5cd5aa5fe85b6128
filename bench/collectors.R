# Several collectors over one query under one limit: the time from the first
# request to the last, against the least time that the limit and the requests
# under way allow, and the longest silence. Run from the project's folder:
#
#   Rscript bench/collectors.R [symbols] [postgres]
#
# The service answers after a set time, and any number of requests at once.
source("bench/parts.R")
for (file in c("postgres", "services", "cards", "collectors")) {
  source(file.path("tests", "testthat", paste0("helper-", file, ".R")))
}
arguments <- commandArgs(TRUE)
symbols <- if (length(arguments)) as.integer(arguments[1]) else 48L
here <- environment()
database <- if ("postgres" %in% arguments) {
  server <- postgres_server(here, safe = TRUE)
  made <- 0
  function() {
    made <<- made + 1
    server$sql(paste0("CREATE DATABASE c", made))
    server$uri(paste0("c", made))
  }
} else {
  function() tempfile(fileext = ".sqlite")
}

# A service that answers each request after `seconds`, and notes when it came
# and which symbol it was for.
late_server <- function(seconds, folder) {
  port <- httpuv::randomPort(host = "127.0.0.1")
  code <- sprintf("
    # notes of a service that waits for the processor would be late
    suppressWarnings(try(tools::psnice(value = -15L), TRUE))
    note <- file('%s', 'a')
    bars <- paste0('{\"t\":', 1773300600 + 60 * 1:10, ',\"c\":1}')
    body <- paste0('{\"items\":[', paste(bars, collapse = ','), ']}')
    answer <- list(status = 200L, body = body,
      headers = list('Content-Type' = 'application/json'))
    httpuv::startServer('127.0.0.1', %d, list(call = function(request) {
      writeLines(sprintf('%%.6f %%s', as.numeric(Sys.time()),
        sub('^/b/', '', request$PATH_INFO)), note)
      flush(note)
      promises::promise(function(resolve, reject) {
        later::later(function() resolve(answer), %f)
      })
    }))
    repeat later::run_now(1)
  ", file.path(folder, "came"), port, seconds)
  process <- processx::process$new(
    "Rscript", c("--no-init-file", "-e", code),
    env = c("current", R_LIBS = r_libs()), stderr = file.path(folder, "err")
  )
  url <- paste0("http://127.0.0.1:", port)
  for (i in 1:100) {
    Sys.sleep(0.1)
    up <- tryCatch(
      {
        curl::curl_fetch_memory(paste0(url, "/up"))
        TRUE
      },
      error = function(e) FALSE
    )
    if (up) break
  }
  list(url = url, process = process)
}

# The time, the longest silence and the doubled requests of n collectors.
together <- function(n, seconds, at_once, limit) {
  folder <- tempfile("late")
  dir.create(folder)
  web <- late_server(seconds, folder)
  on.exit(web$process$kill())
  card <- bars_of(web$url, here, limit)
  writeLines(c(readLines(card), paste("at_once:", at_once)), card)
  archive <- list(path = database())
  vetusta::archive_close(vetusta::archive_open(archive$path))
  go <- file.path(folder, "go")
  running <- lapply(seq_len(n), function(i) {
    bars_collector(
      card, archive, symbols, paste0("host", 1 + (i - 1) %% 4),
      first = sprintf(
        "cat('', file = '%s'); while (!file.exists('%s')) Sys.sleep(0.01);",
        file.path(folder, paste0("ready", i)), go
      )
    )
  })
  while (length(list.files(folder, "^ready")) < n) Sys.sleep(0.05)
  file.create(go)
  for (process in running) {
    process$wait(600000)
    if (process$get_exit_status() != 0) stop(process$read_all_error())
  }
  came <- utils::read.table(file.path(folder, "came"))
  came <- came[came$V2 != "/up", ]
  time <- sort(came$V1)
  c(
    seconds = max(time) - min(time), silence = max(diff(time)),
    doubled = sum(duplicated(came$V2)), requests = length(time),
    most = most_within(time, 1)
  )
}

limits <- list("0.05" = "40 per second", "2" = "4 per second")
count <- c("0.05" = 40, "2" = 4)
for (late in c(0.05, 2)) {
  limit <- count[[as.character(late)]]
  for (at_once in c(1, 3, 8)) {
    for (n in c(1, 2, 4, 8)) {
      out <- together(n, late, at_once, limits[[as.character(late)]])
      # a limit lets its whole count go at once; requests under way end
      by_limit <- floor((symbols - 1) / limit)
      by_requests <- (ceiling(symbols / (n * at_once)) - 1) * late
      least <- max(by_limit, by_requests)
      say(
        paste0(
          "answers after ", late, " s, ", at_once, " at once, ", n,
          " collectors"
        ),
        paste0(
          "%.2f s, least %.2f s, ratio %.2f; silence %.2f s; ",
          "%.0f doubled of %.0f; at most %.0f a second"
        ),
        out[["seconds"]], least, out[["seconds"]] / max(least, 0.001),
        out[["silence"]], out[["doubled"]], out[["requests"]], out[["most"]]
      )
    }
  }
}
