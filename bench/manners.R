# What the manners of APIs cost: decoding against the bare parse, a directory in
# 26 requests, many symbols of which some fail, and memory over ten million
# rows; run from the project's folder with `make bench`. Every number is of this
# run; the ratios are what counts.

source("bench/parts.R")
arguments <- commandArgs(TRUE)
most_rows <- if (length(arguments)) as.numeric(arguments[1]) else 1e7
count <- function(x) format(x, big.mark = ",", scientific = FALSE)
timed <- function(code, times = 9, each = 20) {
  expression <- substitute(code)
  where <- parent.frame()
  stats::median(vapply(
      seq_len(times),
      function(i) {
        system.time(
          for (k in seq_len(each)) eval(expression, where), gcFirst = FALSE
        )[[3]]
      },
      0
    )) /
    each
}

# --- decoding
# ---
quay <- source_card("quay")
bars <- data.frame(
  at = 1.6e12 + 60000 * 1:5000,
  fst = round(40 + stats::rnorm(5000), 3),
  lst = 40,
  qty = 1:5000
)
bars$top <- pmax(bars$fst, bars$lst) + 0.1
bars$low <- pmin(bars$fst, bars$lst) - 0.1
page <- charToRaw(
  as.character(jsonlite::toJSON(list(items = bars), digits = 6))
)
codes <- make.unique(rep(paste0("S", 1:1000), 15), sep = "x")
snapshot <- charToRaw(as.character(jsonlite::toJSON(
  list(
    lines = stats::setNames(
      lapply(seq_along(codes), function(i) {
        list(lst = 5 + i / 7, moved = -0.25, share = "+1.25%", qty = i)
      }),
      codes
    )
  ),
  auto_unbox = TRUE
)))
minute <- time_interval("1 minute")
read <- function(dataset, body) {
  decoded <- vetusta:::decode_body(
    quay$datasets[[dataset]], body, quay, list(symbol = "KELD")
  )
  rows <- vetusta:::list_frame(decoded$columns)
  if (dataset == "bars") {
    rows <- vetusta:::complete_bars(
      c(rows, list(symbol = rep("KELD", nrow(rows)))) |> vetusta:::list_frame(),
      NULL, minute
    )
    vetusta:::bars_check(rows)
  }
  rows
}
parse <- function(body, query) {
  RcppSimdJson::fparse(body, query = query, int64_policy = "double")
}
for (what in list(
  list("bars", page, "/items", "a page of 5,000 bars"),
  list("market", snapshot, "/lines", "a snapshot of 15,000 rows")
)) {
  decoding <- timed(
    vetusta:::decode_body(
      quay$datasets[[what[[1]]]], what[[2]], quay, list(symbol = "KELD")
    )
  )
  ours <- timed(rows <- read(what[[1]], what[[2]]))
  bare <- timed(parse(what[[2]], what[[3]]))
  cat(
    sprintf(
      paste0(
        "%-42s %.1f ms decoded, %.1f ms decoded and checked (%s rows a ",
        "second), ",
        "bare parse %.1f ms, ratios %.2f and %.2f   aim for decoding the ",
        "page: at most 2\n"
      ),
      what[[4]], 1000 * decoding, 1000 * ours, count(round(nrow(rows) / ours)),
      1000 * bare, decoding / bare, ours / bare
    )
  )
}

# --- a directory by first letters
# ---
folder <- tempfile("letters")
dir.create(folder)
for (letter in LETTERS) {
  n <- 1800
  # most instruments have one letter, some have every letter
  rows <- data.frame(
    code = c(
      paste0(letter, sprintf("%04d", seq_len(n - 260))),
      sprintf("COMMON%03d", 1:260)
    ),
    title = "Invented Barges",
    kind = "share",
    money = "ORV"
  )
  writeLines(
    jsonlite::toJSON(list(found = rows)),
    file.path(folder, paste0(letter, ".json"))
  )
}
server <- serve_pages(folder)
card <- tempfile(fileext = ".yml")
writeLines(
  c(
    "source: bench", paste0("url: ", server$url), "datasets:", "  directory:",
    "    shape: instruments", "    request: /pages/{letters}.json",
    paste0(
      "    parameters: {letters: {each: [", paste(LETTERS, collapse = ", "),
      "]}}"
    ),
    "    rows: /found",
    "    columns: {symbol: /code, name: /title, type: /kind, currency: /money}"
  ),
  card
)
archive <- archive_open(tempfile(fileext = ".sqlite"))
ours <- system.time(
  run <- collect_run(
    plan_requests(query_rows(source_card(card), "directory"), archive),
    archive, progress = FALSE
  )
)[[3]]
handle <- curl::new_handle()
bare <- system.time(
  all <- do.call(
    rbind,
    lapply(LETTERS, function(letter) {
      parse(
        curl::curl_fetch_memory(
          paste0(server$url, "/pages/", letter, ".json"), handle
        )$content,
        "/found"
      )
    })
  )
)[[3]]
stopifnot(run$new == length(unique(all$code)))
cat(
  sprintf(
    paste0(
      "%-42s %.2f s for %s rows, %s of them once, bare fetch and parse ",
      "%.2f s, ratio %.1f\n"
    ),
    "a directory over 26 requests", ours, count(nrow(all)), count(run$new),
    bare, ours / bare
  )
)
server$process$kill()

# --- 2,000 symbols, one in twenty failing, 50 calls a second
# ---
port <- httpuv::randomPort(host = "127.0.0.1")
code <- sprintf(
  "app <- list(call = function(request) { k <- as.numeric(sub('.*/S', '',
    request$PATH_INFO)); if (k %%%% 20 == 0) list(status = 404L,
    headers = list(), body = '{}') else
  list(status = 200L, headers = list('Content-Type' = 'application/json'),
  body = sprintf('{\"rows\":[{\"n\":%%d}]}', k)) }); s <-
  httpuv::startServer('127.0.0.1', %d, app); cat('ready\\n'); flush(stdout());
  while (TRUE) httpuv::service(1000)",
  port
)
process <- processx::process$new(
  "Rscript", c("--no-init-file", "-e", code), stdout = "|"
)
process$poll_io(20000)
writeLines(
  c(
    "source: bench", paste0("url: http://127.0.0.1:", port),
    "limits: [50 per second]", "at_once: 4", "datasets:", "  one:",
    "    shape: table", "    request: /s/{symbol}", "    rows: /rows",
    "    columns: {symbol: {of: symbol}, n: {at: /n, as: number}}"
  ),
  card
)
archive <- archive_open(tempfile(fileext = ".sqlite"))
plan <- plan_requests(
  query_rows(source_card(card), "one", symbol = paste0("S", 1:2000)), archive
)
spent <- system.time(run <- collect_run(plan, archive, progress = FALSE))[[3]]
stopifnot(run$new == 1900, nrow(run$failed) == 100)
cat(
  sprintf(
    paste0(
      "%-42s %.2f s, the limit's own minimum %.2f s, ratio %.3f   aim: ",
      "at most 1.05\n"
    ),
    "2,000 symbols, one in twenty failing", spent, plan$seconds,
    spent / plan$seconds
  )
)
process$kill()

# --- memory
# ---
collect_all <- quote({
  archive <- archive_open(tempfile(fileext = ".sqlite"))
  card <- bench_card(arguments[1], tempfile(fileext = ".yml"))
  run <- collect_run(
    plan_requests(
      query_bars(
        source_card(card),
        "KELD",
        "1 minute",
        from = "2020-09-13",
        to = "2041-01-01",
        now = as.POSIXct("2042-01-01", tz = "UTC")
      ),
      archive
    ),
    archive, progress = FALSE
  )
  stopifnot(run$new == as.numeric(arguments[2]))
})
peaks <- vapply(
  c(most_rows / 10, most_rows),
  function(rows) {
    folder <- tempfile("pages")
    write_pages(folder, rows)
    server <- serve_pages(folder)
    on.exit({
      server$process$kill()
      unlink(folder, recursive = TRUE)
    })
    measure(collect_all, c(server$url, format(rows, scientific = FALSE)))[2]
  },
  0
)
cat(
  sprintf(
    paste0(
      "%-42s %.0f MB at %s rows, %.0f MB at %s rows, ratio %.2f   aim: ",
      "at most 1.3\n"
    ),
    "peak memory of a collection", peaks[1], count(most_rows / 10), peaks[2],
    count(most_rows), peaks[2] / peaks[1]
  )
)
