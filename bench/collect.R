# Collects 1,000,000 one-minute bars, 5,000 a page, against the bare steps and
# against a plain script, with times as milliseconds since 1970 and as RFC 3339
# texts. Run with `make bench` from the project's folder. All numbers are of one
# run; the ratios of processor time matter.

source("bench/parts.R")
arguments <- commandArgs(TRUE)
rows <- if (length(arguments)) as.numeric(arguments[1]) else 1e6
folder <- tempfile("pages")
pages <- write_pages(folder, rows)
texts <- tempfile("texts")
invisible(write_pages(texts, rows, written = TRUE))
small <- tempfile("few")
invisible(write_pages(small, rows / 10))
server <- serve_pages(folder)
server_texts <- serve_pages(texts)
server_small <- serve_pages(small)

collect_all <- quote({
  archive <- archive_open(tempfile(fileext = ".sqlite"))
  card <- bench_card(arguments[1], tempfile(fileext = ".yml"), arguments[3])
  run <- collect_run(
    plan_requests(
      query_bars(
        source_card(card), "KELD", "1 minute", from = "2020-09-13",
        to = "2026-01-01"
      ),
      archive
    ),
    archive, progress = FALSE
  )
  stopifnot(run$new == as.numeric(arguments[2]))
})

bare <- quote({
  handle <- curl::new_handle()
  bodies <- NULL
  spent <- c(fetch = 0, parse = 0, insert = 0)
  connection <- DBI::dbConnect(RSQLite::SQLite(), tempfile())
  DBI::dbExecute(connection, "PRAGMA journal_mode = WAL")
  DBI::dbExecute(connection, "PRAGMA synchronous = NORMAL")
  DBI::dbExecute(
    connection,
    paste0(
      "CREATE TABLE bars (at REAL, open REAL, high REAL, low REAL, ",
      "close REAL, volume REAL)"
    )
  )
  for (page in seq_len(ceiling(as.numeric(arguments[2]) / 5000))) {
    spent["fetch"] <- spent["fetch"] +
        system.time(
          body <- curl::curl_fetch_memory(
            sprintf("%s/pages/%05d.json", arguments[1], page), handle
          )$content,
          gcFirst = FALSE
        )[[3]]
    spent["parse"] <- spent["parse"] +
        system.time(
          items <- RcppSimdJson::fparse(
            body, query = "/items", int64_policy = "double"
          ),
          gcFirst = FALSE
        )[[3]]
    spent["insert"] <- spent["insert"] +
        system.time(
          {
            DBI::dbBegin(connection)
            statement <- DBI::dbSendStatement(
              connection, "INSERT INTO bars VALUES (?, ?, ?, ?, ?, ?)"
            )
            DBI::dbBind(statement, unname(as.list(items)))
            DBI::dbClearResult(statement)
            DBI::dbCommit(connection)
          },
          gcFirst = FALSE
        )[[3]]
  }
  cat(spent, file = arguments[3])
})

plain <- quote({
  url <- "/pages/00001.json"
  all <- NULL
  while (!is.null(url)) {
    body <- jsonlite::fromJSON(
      httr2::resp_body_string(
        httr2::req_perform(httr2::request(paste0(arguments[1], url)))
      )
    )
    all <- rbind(all, body$items)
    url <- body$more
  }
  all$at <- as.POSIXct(all$at / 1000, origin = "1970-01-01", tz = "UTC")
  connection <- DBI::dbConnect(RSQLite::SQLite(), tempfile())
  DBI::dbWriteTable(connection, "bars", all)
})

# Both in one process, in turn, after everything is loaded: the cost of a page
# without the cost of a process.
in_turn <- function() {
  once <- function(what, values) {
    where <- list2env(list(arguments = values), parent = globalenv())
    gc(FALSE)
    spent <- sum(system.time(eval(what, where), gcFirst = FALSE)[1:2])
    if (!is.null(where$archive)) {
      archive_close(where$archive)
    } else {
      DBI::dbDisconnect(where$connection)
    }
    spent
  }
  warm_file <- tempfile()
  times <- vapply(
    1:8,
    function(i) {
      c(
        once(collect_all, c(server$url, rows, "epoch-ms")),
        once(bare, c(server$url, rows, warm_file))
      )
    },
    numeric(2)
  )
  apply(times[, -1], 1, median)
}

spent_file <- tempfile()
# five runs each, in turn, so that a slow moment does not affect only one of
# them; the median counts
collected <- collected_small <- collected_texts <- NULL
bares <- spents <- NULL
for (i in 1:5) {
  collected <- rbind(
    collected, measure(collect_all, c(server$url, rows, "epoch-ms"))
  )
  bares <- rbind(bares, measure(bare, c(server$url, rows, spent_file)))
  spents <- rbind(spents, scan(spent_file, quiet = TRUE))
  collected_texts <- rbind(
    collected_texts, measure(collect_all, c(server_texts$url, rows, "rfc3339"))
  )
  collected_small <- rbind(
    collected_small,
    measure(collect_all, c(server_small$url, rows / 10, "epoch-ms"))
  )
}
script <- measure(plain, server$url)
warm <- in_turn()
middle <- function(x) apply(x, 2, median)
spent <- middle(spents)
for (one in list(server, server_texts, server_small)) one$process$kill()

count <- function(x) format(x, big.mark = ",", scientific = FALSE)
ours <- middle(collected)
floor <- middle(bares)[3]
cat(count(rows), "bars in", count(pages), "pages; processor seconds\n")
cat(
  sprintf(
    "collect_run            %6.2f s   (elapsed %.2f s)\n", ours[3], ours[1]
  )
)
cat(
  sprintf(
    paste0(
      "bare steps             %6.2f s   (elapsed: fetch %.2f, parse ",
      "%.2f, insert %.2f)\n"
    ),
    floor, spent[1], spent[2], spent[3]
  )
)
cat(sprintf("plain script           %6.2f s\n", script[3]))
cat(
  sprintf("collect / bare steps   %6.2f    aim: at most 1.1\n", ours[3] / floor)
)
cat(
  sprintf(
    "  packages loaded      %6.2f    (%.2f s, %.2f s)   aim: at most 1.1\n",
    warm[1] / warm[2], warm[1], warm[2]
  )
)
cat(
  sprintf(
    "RFC 3339 / epoch       %6.2f    aim: at most 1.15\n",
    middle(collected_texts)[3] / ours[3]
  )
)
cat(
  sprintf(
    "plain script / collect %6.2f    aim: at least 6\n", script[3] / ours[3]
  )
)
cat(
  sprintf(
    paste0(
      "peak memory            %6.0f MB at %s rows, %.0f MB at %s rows: ",
      "ratio %.2f\n"
    ),
    middle(collected_small)[2], count(rows / 10), ours[2], count(rows),
    ours[2] / middle(collected_small)[2]
  )
)
