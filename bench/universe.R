# Universe and corporate actions: ratios to the bare work, in one run.
#
#   Rscript bench/universe.R
suppressMessages({
  library(vetusta)
  library(data.table)
})
options(digits = 4)
cpu <- function(work) {
  gc()
  sum(system.time(work)[c("user.self", "sys.self")])
}
best <- function(work, n = 3) {
  min(vapply(seq_len(n), function(i) cpu(work()), 0))
}
say <- function(...) cat(..., "\n", sep = "")

# --- adjusting 10,000,000 bars of 200 symbols, five actions each
n <- 50000
symbols <- sprintf("S%03d", 1:200)
time <- as.POSIXct("2015-01-05", tz = "UTC") + 3600 * seq_len(n)
bars <- bars_frame(
  data.frame(
    symbol = rep(symbols, each = n),
    time = rep(time, 200),
    open = runif(200 * n, 40, 60),
    high = 61,
    low = 39,
    close = runif(200 * n, 40, 60),
    volume = 1000
  )
)
ex <- as.Date(time[seq(5000, n - 5000, length.out = 5)])
actions <- data.frame(
  symbol = rep(symbols, each = 5),
  ex_day = rep(ex, 200),
  kind = "split",
  ratio = 2
)
ours <- best(function() bars_adjust(bars, actions))
plain <- as.data.table(as.list(bars))
factors <- as.data.table(actions)[
  ,
  .(
    symbol,
    time = as.POSIXct(ex_day, tz = "UTC"),
    factor = rev(cumprod(rev(1 / ratio)))
  ),
  by = .(s = symbol)
]
factors[, time := time - 1e-6]
setkey(factors, symbol, time)
setkey(plain, symbol, time)
bare <- best(function() {
  f <- factors[plain, .(factor), on = .(symbol, time), roll = -Inf]$factor
  f[is.na(f)] <- 1
  list(
    plain$open * f, plain$high * f, plain$low * f, plain$close * f,
    plain$volume / f
  )
})
say(
  "adjusting 10,000,000 bars to data.table's rolling join of factors: ",
  ours / bare, " (", ours, " s)"
)
rm(bars, plain)

# --- ranking 12,000 symbols of 250 days
folder <- tempfile()
dir.create(folder)
archive <- archive_open(file.path(folder, "a.sqlite"))
symbols <- sprintf("S%05d", 1:12000)
days <- as.POSIXct("2025-01-06", tz = "UTC") + 86400 * 0:249
for (part in split(symbols, rep(1:12, each = 1000))) {
  rows <- data.frame(
    symbol = rep(part, each = 250),
    time = rep(days, 1000),
    open = 40,
    high = 61,
    low = 39,
    close = runif(250000, 40, 60),
    volume = 5000,
    session = NA_character_,
    side = NA_character_,
    status = "observed"
  )
  vetusta:::store_put(
    archive,
    list(
      source = "s",
      dataset = "bars",
      shape = "bars",
      rows = vetusta:::archive_parcel("bars", rows, frequency = "P1D")
    )
  )
}
reading <- best(function() archive_bars(archive, interval = "1 day"), 2)
ranking <- best(
  function() {
    rank_moves(rank_days(archive_bars(archive, interval = "1 day")), "high")
  },
  2
)
say(
  "ranking 12,000 symbols of 250 days, to reading them: ", ranking / reading,
  " (", ranking, " s)"
)

# --- statements of 500 companies, 40 quarters, 35 items
ends <- seq(as.Date("2016-01-01"), by = "3 months", length.out = 41)
facts <- as.data.frame(
  CJ(
    entity = sprintf("C%03d", 1:500),
    item = sprintf("item_%02d", 1:35),
    q = 1:40
  )
)
facts$period_start <- ends[facts$q]
facts$period_end <- ends[facts$q + 1] - 1
facts$value <- round(runif(nrow(facts), 1, 1e6))
facts$unit <- "ORV"
facts$filed <- facts$period_end + 40
facts$q <- NULL
storing <- 0
for (part in split(facts, facts$entity)) {
  storing <- storing +
      cpu(
        vetusta:::store_put(
          archive,
          list(
            source = "r",
            dataset = "facts",
            shape = "facts",
            rows = vetusta:::archive_parcel("facts", part)
          )
        )
      )
}
say("facts stored a second: ", format(nrow(facts) / storing, big.mark = ","))
table <- best(function() {
  facts <- vetusta:::cli_facts(archive, "r/facts", list(words = "C250"))
  facts_statement(facts, "C250", period = "quarterly")
})
say("one company's table: ", table, " s")
archive_close(archive)

# --- a directory of 40,000 instruments over 26 requests, and a snapshot of
# 15,000 rows, against the bare fetch and parse of the same bodies
pages <- file.path(folder, "pages")
dir.create(pages)
for (letter in LETTERS) {
  n <- 1539
  rows <- data.frame(
    code = sprintf("%s%05d", letter, seq_len(n)),
    title = paste("Barges of", letter, seq_len(n)),
    kind = "share",
    money = "ORV"
  )
  writeLines(
    jsonlite::toJSON(list(found = rows), auto_unbox = TRUE),
    file.path(pages, letter)
  )
}
market <- lapply(seq_len(15000), function(i) {
  list(lst = round(40 + i / 1000, 3), moved = 0.5, share = "+1.25%", qty = i)
})
writeLines(
  jsonlite::toJSON(
    list(lines = setNames(market, sprintf("S%05d", seq_along(market)))),
    auto_unbox = TRUE, digits = NA
  ),
  file.path(pages, "market")
)
port <- httpuv::randomPort(host = "127.0.0.1")
code <- sprintf(
  paste0(
    "s <- httpuv::startServer('127.0.0.1', %d, list(staticPaths = list('/p' = ",
    "httpuv::staticPath('%s')))); cat('ready\\n'); flush(stdout()); ",
    "while (TRUE) ", "httpuv::service(1000)"
  ),
  port, pages
)
server <- processx::process$new(
  "Rscript", c("--no-init-file", "-e", code), stdout = "|"
)
server$poll_io(10000)
url <- paste0("http://127.0.0.1:", port, "/p")
card <- file.path(folder, "bench.yml")
writeLines(
  c(
    "source: bench", paste0("url: ", url), "datasets:", "  directory:",
    "    shape: instruments", "    request: /{letters}",
    paste0(
      "    parameters: {letters: {each: [", paste(LETTERS, collapse = ", "),
      "]}}"
    ),
    "    rows: /found",
    "    columns: {symbol: /code, name: /title, type: /kind, currency: /money}",
    "  market:", "    shape: snapshot", "    request: /market",
    "    rows: /lines", "    form: map",
    paste0(
      "    columns: {symbol: {of: key}, last: /lst, change: /moved, ",
      "change_percent: /share,"
    ),
    "      volume: /qty}"
  ),
  card
)
# each time into a new archive, created before the clock starts
collect <- function(dataset) {
  archives <- lapply(
    1:3, function(i) archive_open(tempfile(fileext = ".sqlite"))
  )
  function() {
    archive <- archives[[1]]
    archives <<- archives[-1]
    collect_run(
      plan_requests(query_rows(source_card(card), dataset), archive), archive,
      progress = FALSE
    )
  }
}
fetch <- function(names) {
  handle <- curl::new_handle()
  lapply(names, function(name) {
    jsonlite::fromJSON(
      rawToChar(curl::curl_fetch_memory(file.path(url, name), handle)$content)
    )
  })
}
ours <- best(collect("directory"))
bare <- best(function() fetch(LETTERS))
say(
  "a directory of ", 26 * n,
  " instruments over 26 requests, to jsonlite's bare fetch and parse: ",
  ours / bare, " (", ours, " s)"
)
ours <- best(collect("market"))
bare <- best(function() fetch("market"))
say(
  "a snapshot of 15,000 rows, to jsonlite's bare fetch and parse: ",
  ours / bare, " (", ours, " s)"
)
if (requireNamespace("RcppSimdJson", quietly = TRUE)) {
  quick <- function(names) {
    lapply(names, function(name) {
      RcppSimdJson::fparse(
        curl::curl_fetch_memory(file.path(url, name))$content
      )
    })
  }
  say(
    "the same two against RcppSimdJson's: ",
    best(collect("directory")) / best(function() quick(LETTERS)), ", ",
    ours / best(function() quick("market"))
  )
}
server$kill()
