# Desk benchmarks, each against its minimum in the same run: deciding that
# series are current against a bare SELECT of their last times, a refresh
# against the minimum of the limit, the status of many series, and exports
# against the bare writers of the same table. Run with `make bench`.
source("bench/parts.R")
inside <- asNamespace("vetusta")
# a service of daily bars, one request per symbol
port <- httpuv::randomPort(host = "127.0.0.1")
code <- sprintf(
  paste0(
    "app <- list(call = function(request) { q <- request$QUERY_STRING; v <- ",
    "function(n) as.numeric(sub(paste0('.*', n, '=([0-9]+).*'), ",
    "'\\\\1', q)); at <- seq(ceiling(v(",
    paste0(
      "'from') / 86400) * 86400, max(v('to') - 1, v('from')), by = ",
      "86400); list(status = 200L,", " headers "
    ),
    "= list('Content-Type' = 'application/json'), body = ",
    "paste0('{\"items\":[', paste0('{\"t\":', ",
    "format(at, scientific = FALSE), ',\"c\":40.5}', collapse = ','), ",
    "']}')) }); s <- ",
    "httpuv::startServer('127.0.0.1', %d, app); cat('ready\\n'); ",
    "flush(stdout()); while (TRUE) ", "httpuv::service(1000)"
  ),
  port
)
process <- processx::process$new(
  "Rscript", c("--no-init-file", "-e", code), stdout = "|"
)
process$poll_io(20000)
folder <- tempfile("desk")
invisible(desk_make(folder, cards = character()))
writeLines(
  c(
    "source: bench", paste0("url: http://127.0.0.1:", port),
    "limits: [50 per second]", "at_once: 4", "datasets:", "  bars:",
    "    shape: bars", "    request: /bars/{symbol}{?from,to}",
    "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
    "    rows: /items", "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
  ),
  file.path(folder, "sources", "bench.yml")
)
card <- file.path(folder, "sources", "bench.yml")
today <- as.numeric(Sys.Date()) * 86400
# stored: a year of days per symbol, up to yesterday or the day before
hold <- function(archive, symbols, until, days = 30) {
  for (part in split(symbols, (seq_along(symbols) - 1) %/% 500)) {
    at <- rep(
      seq(until - 86400 * days, until - 86400, by = 86400), length(part)
    )
    rows <- data.frame(
      symbol = rep(part, each = days),
      time = .POSIXct(at, "UTC"),
      open = NA_real_,
      high = NA_real_,
      low = NA_real_,
      close = 40.5,
      volume = NA_real_,
      session = NA_character_,
      side = NA_character_,
      status = "observed"
    )
    inside$store_put(
      archive,
      list(
        source = "bench",
        dataset = "bars",
        shape = "bars",
        rows = inside$archive_parcel("bars", rows, frequency = "P1D"),
        covered = data.frame(
          key = inside$bars_cover_key(part, "P1D", "regular"),
          start = until - 86400 * days,
          end = until
        )
      )
    )
  }
}
desk_of <- function(symbols, days = 30) {
  writeLines(
    c(
      "desk: bench", "track:",
      paste0(
        "  all: {source: bench, symbols: {file: s.txt}, ",
        "interval: 1 day, from: ", format(Sys.Date() - days), "}"
      )
    ),
    file.path(folder, "desk.yml")
  )
  writeLines(symbols, file.path(folder, "s.txt"))
  unlink(list.files(folder, "archive", full.names = TRUE))
  desk_open(folder)
}

desk <- desk_of(sprintf("S%05d", 1:12000))
archive <- archive_open(desk$archive)
hold(archive, readLines(file.path(folder, "s.txt")), today)
query <- inside$desk_query(desk, "all", archive)
decide <- cpu(
  function() stopifnot(nrow(plan_requests(query, archive)$requests) == 0)
)
bare <- cpu(function() {
  DBI::dbGetQuery(
    archive$connection,
    paste0(
      "SELECT s.key, max(g.last) FROM ",
      "series s JOIN segments g ON g.series = s.id WHERE s.source = 'bench'
        GROUP BY s.id"
    )
  )
})
say(
  "deciding for 12,000 series up to date, to a SELECT of their last times",
  "%.2f    (%.3f s, %.3f s)   aim: at most 5", decide / bare, decide, bare
)
archive_close(archive)

refresh <- function(what) {
  desk <- desk_of(sprintf("S%05d", 1:2000))
  archive <- archive_open(desk$archive)
  hold(archive, readLines(file.path(folder, "s.txt")), today - 86400)
  least <- plan_requests(
    inside$desk_query(desk, "all", archive), archive
  )$seconds
  archive_close(archive)
  spent <- system.time(done <- desk_refresh(desk, progress = FALSE))
  stopifnot(done$outcome == "done", done$new == 2000)
  say(
    what,
    paste0(
      "%.3f    (%.1f s, %.1f s; %.1f ms of the processor a request)   ",
      "aim: at most 1.05"
    ),
    spent[[3]] / least, spent[[3]], least, sum(spent[1:2]) / 2
  )
  again <- system.time(held <- desk_refresh(desk, progress = FALSE))[[3]]
  say("the same again", "%.0f requests, %.2f s", sum(held$requests), again)
  desk
}
desk <- refresh(
  paste0(
    "a refresh of 2,000 symbols that lack one day, 50 calls a second, ",
    "from an R ", "server (some 44 ms an answer), to the least"
  )
)
if (nzchar(Sys.which("nginx"))) {
  archive <- archive_open(desk$archive)
  asked <- inside$store_journal(archive)$url[1]
  archive_close(archive)
  body <- rawToChar(curl::curl_fetch_memory(asked)$content)
  port <- httpuv::randomPort(host = "127.0.0.1")
  fast <- serve_answer(body, port)
  writeLines(
    sub("^url: .*", paste0("url: http://127.0.0.1:", port), readLines(card)),
    card
  )
  invisible(refresh("the same from nginx, to the least"))
  fast$process$kill()
}

desk <- desk_of(sprintf("S%05d", 1:50000), 2)
archive <- archive_open(desk$archive)
hold(archive, readLines(file.path(folder, "s.txt")), today, 2)
archive_close(archive)
code <- sprintf("setwd('%s'); vetusta::cli_main('status')", folder)
status <- stats::median(vapply(
  1:3,
  function(i) {
    system.time(
      system2(
        "Rscript", c("--no-init-file", "-e", shQuote(code)), stdout = FALSE
      )
    )[[3]]
  },
  0
))
parts <- c(
  list = system.time(inside$desk_query(desk, "all", NULL))[[3]],
  all = system.time(desk_status(desk))[[3]]
)
say(
  "opening a desk with 50,000 series and printing its status, as a process",
  "%.2f s, of which its list %.2f s, all of status %.2f s   aim: under 3 s",
  status, parts[["list"]], parts[["all"]]
)
process$kill()

set.seed(7)
n <- 1e6
bars <- data.frame(
  symbol = "KELD",
  time = .POSIXct(1.6e9 + 60 * seq_len(n), "UTC"),
  open = round(40 + rnorm(n), 3),
  high = round(42 + rnorm(n), 3),
  low = round(38 + rnorm(n), 3),
  close = round(40 + rnorm(n), 3),
  volume = round(rexp(n, 1 / 900)) + 1
)
file <- function(ending) tempfile(fileext = paste0(".", ending))
writers <- list(
  csv = function(path) data.table::fwrite(bars, path, dateTimeAs = "ISO"),
  parquet = function(path) nanoparquet::write_parquet(bars, path),
  xlsx = function(path) {
    book <- openxlsx2::wb_workbook()
    book$add_worksheet("rows")
    book$add_data_table(x = bars[1:1e5, ], na = NULL)
    book$save(path)
  }
)
aims <- c(csv = 1.5, parquet = 1.5, xlsx = 1.2)
for (ending in names(writers)) {
  if (ending == "xlsx" && !requireNamespace("openxlsx2", quietly = TRUE)) next
  rows <- if (ending == "xlsx") bars[1:1e5, ] else bars
  # the first run of each is not counted
  both <- vapply(
    1:4,
    function(i) {
      c(
        cpu(function() export_table(rows, file(ending)), 1),
        cpu(function() writers[[ending]](file(ending)), 1)
      )
    },
    c(0, 0)
  )
  ours <- stats::median(both[1, -1])
  bare <- stats::median(both[2, -1])
  say(
    paste0(
      "export of ", format(nrow(rows), big.mark = ","), " bars to .", ending,
      ", to the bare writer"
    ),
    "%.2f    (%.2f s, %.2f s)   aim: at most %.1f", ours / bare, ours, bare,
    aims[[ending]]
  )
}

if (requireNamespace("openxlsx2", quietly = TRUE)) {
  path <- file("xlsx")
  book <- openxlsx2::wb_workbook()
  for (i in 1:50) {
    book$add_worksheet(paste0("S", i))
    book$add_data_table(
      x = data.frame(
        period = as.Date("2000-01-01") + 1:2000,
        value = rnorm(2000)
      ),
      table_name = paste0("Table_", i),
      na = NULL
    )
  }
  book$save(path)
  day <- 0
  ours <- cpu(
    function() {
      day <<- day + 1
      export_append(
        data.frame(period = as.Date("2020-01-01") + day, value = 1), path,
        "Table_7"
      )
    },
    3
  )
  bare <- cpu(function() openxlsx2::wb_load(path)$save(file("xlsx")), 3)
  say(
    paste0(
      "a row appended in a workbook of 50 sheets, 100,000 rows, to ",
      "loading and saving it"
    ),
    "%.2f    (%.2f s, %.2f s)   aim: at most 1.3", ours / bare, ours, bare
  )
}
