# Small requests of ten bars each, for many symbols, against the bare steps
# (fetch, parse, one insert in a transaction) in the same process, in turn. Run
# from the project's folder:
#
#   Rscript bench/small.R [requests]
source("bench/parts.R")
arguments <- commandArgs(TRUE)
count <- if (length(arguments)) as.integer(arguments[1]) else 2000L
pairs <- 5
at <- (1.6e9 + 60 * 0:9) * 1000
items <- data.frame(
  at = at, fst = 40.1, top = 40.5, low = 39.9, lst = 40.2, qty = 700
)
body <- jsonlite::toJSON(list(items = items), auto_unbox = TRUE, digits = 6)
server <- serve_answer(body, httpuv::randomPort(host = "127.0.0.1"))
symbols <- sprintf("S%05d", seq_len(count))
card <- tempfile(fileext = ".yml")
writeLines(
  c(
    "source: bench", paste0("url: ", server$url), "datasets:", "  bars:",
    "    shape: bars", "    request: /bars/{symbol}{?from,to}",
    "    rows: /items", "    parameters:", "      from: {as: epoch-s}",
    "      to: {as: epoch-s}", "    columns:",
    "      time: {at: /at, as: epoch-ms}", "      open: /fst",
    "      high: /top", "      low: /low", "      close: /lst",
    "      volume: /qty"
  ),
  card
)

ours <- function() {
  archive <- archive_open(tempfile(fileext = ".sqlite"))
  on.exit(archive_close(archive))
  query <- query_bars(
    source_card(card), symbols, "1 minute", from = "2020-09-13",
    to = "2020-09-13"
  )
  run <- collect_run(plan_requests(query, archive), archive, progress = FALSE)
  stopifnot(run$new == 10 * count)
}

bare <- function() {
  connection <- DBI::dbConnect(RSQLite::SQLite(), tempfile())
  on.exit(DBI::dbDisconnect(connection))
  DBI::dbExecute(connection, "PRAGMA journal_mode = WAL")
  DBI::dbExecute(connection, "PRAGMA synchronous = NORMAL")
  DBI::dbExecute(
    connection,
    paste0(
      "CREATE TABLE bars (symbol TEXT, at REAL, open REAL, ",
      "high REAL, low REAL, close REAL, volume REAL)"
    )
  )
  handle <- curl::new_handle()
  for (symbol in symbols) {
    content <- curl::curl_fetch_memory(
      paste0(server$url, "/bars/", symbol, "?from=1599955200&to=1600041600"),
      handle
    )$content
    items <- RcppSimdJson::fparse(
      content, query = "/items", int64_policy = "double"
    )
    DBI::dbBegin(connection)
    statement <- DBI::dbSendStatement(
      connection, "INSERT INTO bars VALUES (?, ?, ?, ?, ?, ?, ?)"
    )
    DBI::dbBind(
      statement, c(list(rep(symbol, nrow(items))), unname(as.list(items)))
    )
    DBI::dbClearResult(statement)
    DBI::dbCommit(connection)
  }
}

spent <- function(work) {
  gc(FALSE)
  sum(system.time(work(), gcFirst = FALSE)[1:2])
}
invisible(spent(ours))
invisible(spent(bare))
times <- vapply(
  seq_len(pairs), function(i) c(spent(ours), spent(bare)), c(0, 0)
)
server$process$kill()
ratio <- times[1, ] / times[2, ]
cat(
  sprintf(
    paste0(
      "%d requests of ten bars, %d pairs: %.1f ms a request (%.1f to ",
      "%.1f), bare %.1f ms; "
    ),
    count, pairs, median(times[1, ]) / count * 1e3,
    min(times[1, ]) / count * 1e3, max(times[1, ]) / count * 1e3,
    median(times[2, ]) / count * 1e3
  )
)
cat(
  sprintf(
    "ratio %.1f (%.1f to %.1f)   aim: at most 2.5\n", median(ratio),
    min(ratio), max(ratio)
  )
)
