# An archive on a server against one in a file, and many collectors under one
# limit. Run from the project's folder: Rscript bench/scale.R [bars]. The server
# is Debian's PostgreSQL, started in a folder of its own. All numbers are of one
# run; the ratios matter.

source("bench/parts.R")
arguments <- commandArgs(TRUE)
rows <- if (length(arguments)) as.numeric(arguments[1]) else 1e6
for (file in c("postgres", "services", "cards", "collectors")) {
  source(file.path("tests", "testthat", paste0("helper-", file, ".R")))
}
here <- environment()
server <- postgres_server(here, safe = TRUE)
database <- function(name) {
  server$sql(paste("CREATE DATABASE", name))
  server$uri(name)
}
middle <- function(x) stats::median(x)

# --- one collector, one series of many bars
folder <- tempfile("pages")
pages <- write_pages(folder, rows)
web <- serve_pages(folder)
collect_all <- quote({
  archive <- archive_open(arguments[2])
  card <- bench_card(arguments[1], tempfile(fileext = ".yml"))
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
  stopifnot(run$new == as.numeric(arguments[3]))
})
read_all <- quote({
  archive <- archive_open(arguments[2])
  bars <- archive_bars(archive, "KELD", "1 minute")
  stopifnot(nrow(bars) == as.numeric(arguments[3]))
})
spent <- list(file = NULL, server = NULL, read_file = NULL, read_server = NULL)
for (i in 1:3) {
  file <- tempfile(fileext = ".sqlite")
  uri <- database(paste0("one", i))
  told <- c(web$url, file, format(rows, scientific = FALSE))
  spent$file <- c(spent$file, measure(collect_all, told)[1])
  spent$server <- c(
    spent$server, measure(collect_all, replace(told, 2, uri))[1]
  )
  spent$read_file <- c(spent$read_file, measure(read_all, told)[1])
  spent$read_server <- c(
    spent$read_server, measure(read_all, replace(told, 2, uri))[1]
  )
}
invisible(web$process$kill())
say(
  paste("collecting", rows, "bars, server / file, elapsed"),
  "%.2f (%.2f s, %.2f s); aim 1.5", middle(spent$server) / middle(spent$file),
  middle(spent$server), middle(spent$file)
)
say(
  "reading them, server / file, elapsed", "%.2f (%.2f s, %.2f s); aim 2",
  middle(spent$read_server) / middle(spent$read_file),
  middle(spent$read_server), middle(spent$read_file)
)

# --- eight collectors with four host names; three are killed during the run
told <- tempfile("collectors")
dir.create(told)
symbols <- 400
card <- bars_of(
  bars_server(told, here, pause = 0.002), here, "50 per second, 5000 per day"
)
archive <- list(path = database("many"))
running <- lapply(1:8, function(i) {
  bars_collector(
    card,
    archive,
    symbols,
    host = paste0("host", i %% 4),
    lease = "10"
  )
})
requests <- function() {
  if (file.exists(file.path(told, "times"))) {
    as.numeric(readLines(file.path(told, "times")))
  } else {
    numeric()
  }
}
killed <- 0
while (any(vapply(running, function(one) one$is_alive(), TRUE))) {
  if (killed < 3 && length(requests()) > 400 * (killed + 1)) {
    killed <- killed + 1
    running[[killed]]$kill()
  }
  Sys.sleep(0.2)
}
times <- sort(requests())
asked <- readLines(file.path(told, "calls"))
held <- archive_open(archive$path)
bars <- archive_bars(held, interval = "1 minute")
stopifnot(identical(as.vector(table(bars$symbol)), rep(50L, symbols)))
stored <- archive_journal(held)
stored <- stored$url[stored$outcome == "stored"]
# during the run, while there was still data to request
steady <- times[times > times[1] + 5 & times < times[1] + 25]
say(
  "eight collectors on four machines, three killed: requests",
  "%d of %d asked, %d stored twice", length(times), symbols * 5,
  sum(duplicated(stored))
)
say(
  "the most requests in any second; aim 50 at most", "%d", most_within(times, 1)
)
say(
  "of the limit used; aim 95 %% at least", "%.1f %%",
  100 * length(steady) / (20 * 50)
)
say(
  "requests that were asked for twice (under way when one was killed)", "%d",
  sum(duplicated(asked))
)
for (one in running) invisible(one$kill())
invisible(server$stop())

# --- a market's minutes in a column store: one server, and two shards
arguments <- commandArgs(TRUE)
market <- if (length(arguments) > 1) as.numeric(arguments[2]) else 1e8
source(file.path("tests", "testthat", "helper-columns.R"))
pair <- columns_server(here)
# each symbol has this many minutes of trading days
symbols <- 2000
each <- market / symbols
bars_of_symbol <- function(each, seed) {
  set.seed(seed)
  close <- round(40 * exp(cumsum(rnorm(each, sd = 2e-4))), 2)
  open <- c(40, close[-each])
  day <- (seq_len(each) - 1) %/% 390
  time <- 1.5e9 %/% 86400 * 86400 + 86400 * (day %/% 5 * 7 + day %% 5) +
      27000 + 60 * ((seq_len(each) - 1) %% 390)
  list(
    time = time,
    known = rep(2e9, each),
    close = close,
    open = open,
    high = pmax(open, close) + 0.01,
    low = pmin(open, close) - 0.01,
    volume = round(rexp(each, 1 / 900)) + 1
  )
}
fill <- function(columns, market, symbols) {
  each <- market / symbols
  ids <- split(
    seq_len(symbols), (seq_len(symbols) - 1) %/% max(1, floor(1e6 / each))
  )
  spent <- 0
  for (some in ids) {
    parts <- lapply(some, function(id) bars_of_symbol(each, id))
    rows <- as.list(data.table::rbindlist(parts))
    of <- rep(some, each = each)
    spent <- spent +
        system.time(
          vetusta:::columns_insert(columns, "bars", of, rows, 1),
          gcFirst = FALSE
        )[3]
  }
  spent[[1]]
}
# the same bytes through curl
bare <- function(columns, rows, of, times) {
  all <- c(
    list(
      as.double(of), rows$time, rows$known, rep(1, length(of)),
      rep(0, length(of))
    ),
    unname(rows[-(1:2)])
  )
  names <- c("series", "time", "known", "stamp", "wide", names(rows)[-(1:2)])
  types <- c("UInt32", "Int64", "Int64", "UInt64", "UInt8", rep("Float64", 5))
  body <- vetusta:::native_write_cpp(all, names, types)
  url <- paste0(
    columns$servers[1], "/?query=",
    curl::curl_escape(
      paste0(
        "INSERT INTO ", vetusta:::columns_table(columns, "bars"), " (",
        paste(names, collapse = ", "), ") FORMAT Native"
      )
    )
  )
  system.time(
      for (i in seq_len(times)) {
        curl::curl_fetch_memory(url, curl::new_handle(postfields = body))
      },
      gcFirst = FALSE
    )[[3]] /
    times
}
database <- function(name, cluster = FALSE) {
  for (i in 1:2) pair$sql(paste("CREATE DATABASE", name), i)
  archive_open(
    tempfile(fileext = ".sqlite"),
    columns = pair$uri(name, cluster)
  )$columns
}
one <- database("one")
rows <- as.list(
  data.table::rbindlist(lapply(1:20, function(id) bars_of_symbol(5e4, id)))
)
of <- rep(1:20, each = 5e4)
trial <- database("trial")
vetusta:::columns_insert(trial, "bars", of, rows, 1)
ours <- stats::median(
  replicate(
    5,
    system.time(
      vetusta:::columns_insert(trial, "bars", of, rows, 1), gcFirst = FALSE
    )[[3]]
  )
)
floor_time <- stats::median(replicate(5, bare(trial, rows, of, 1)))
say(
  "storing 1,000,000 bars, to sending the same bytes by curl",
  "%.2f (%.2f s); aim 2", ours / floor_time, ours
)
spent <- fill(one, market, symbols)
say(
  sprintf(
    "%s bars of %d symbols stored, a second", format(market, big.mark = ","),
    symbols
  ),
  "%.0f (%.0f s)", market / spent, spent
)
bytes <- function(server, name) {
  as.numeric(
    pair$sql(
      paste0(
        "SELECT sum(bytes_on_disk) FROM ",
        "system.parts WHERE active AND database = '", name, "'"
      ),
      server
    )
  )
}
say("bytes a bar", "%.1f", bytes(1, "one") / market)
small <- database("small")
invisible(fill(small, 1e6, 20))
query <- function(columns, id) {
  paste0(
    "SELECT * FROM ", vetusta:::columns_table(columns, "bars"),
    " WHERE series = ", id, " FORMAT Native"
  )
}
timed <- function(work, times = 7) {
  stats::median(replicate(times, system.time(work(), gcFirst = FALSE)[[3]]))
}
read_one <- timed(function() vetusta:::columns_read(one, "bars", 7))
bare_one <- timed(function() {
  curl::curl_fetch_memory(
    one$servers[1], curl::new_handle(postfields = query(one, 7))
  )
})
read_small <- timed(function() vetusta:::columns_read(small, "bars", 7))
say(
  "one symbol of all, to the bare query", "%.2f (%.3f s); aim 3",
  read_one / bare_one, read_one
)
say(
  "the same, to one symbol of 1,000,000 bars", "%.2f; aim 1.3",
  read_one / read_small
)

# --- daily bars of minutes, computed by the store and computed in R
resample_all <- function(columns, by_store) {
  archive <- archive_open(tempfile(fileext = ".sqlite"), columns = columns$uri)
  on.exit(archive_close(archive))
  archive$columns$key <- columns$key
  archive$columns$noted <- TRUE
  last <- max(bars_of_symbol(each, 1)$time)
  for (id in seq_len(symbols)) {
    vetusta:::sql_do(
      archive,
      "INSERT INTO series (id, source, dataset, shape, key, frequency,
      dimensions) VALUES (?, 'bench', 'bars', 'bars', ?, 'PT1M', ?)",
      list(id, paste0("S", id), sprintf("{\"symbol\":\"S%d\"}", id))
    )
    vetusta:::sql_do(
      archive, "INSERT INTO moved VALUES (?, ?, ?, ?)",
      list(id, bars_of_symbol(1, 1)$time, last, each)
    )
  }
  asked <- list(interval = "1 day", zone = "UTC")
  if (by_store) {
    return(
      system.time(archive_read(archive, resample = asked), gcFirst = FALSE)[[3]]
    )
  }
  # as many series at a time as fit into memory
  system.time(
    archive_scan(
      archive, NULL,
      function(bars) {
        do.call(bars_resample, c(list(bars, base = "1 minute"), asked))
      },
      progress = FALSE
    ),
    gcFirst = FALSE
  )[[3]]
}
by_store <- stats::median(
  c(resample_all(one, TRUE), resample_all(one, TRUE), resample_all(one, TRUE))
)
made_here <- resample_all(one, FALSE)
say(
  sprintf(
    "days of %s bars, made here to made by the store; aim 5",
    format(market, big.mark = ",")
  ),
  "%.1f (%.1f s, %.1f s)", made_here / by_store, made_here, by_store
)

two <- database("two", TRUE)
spent_two <- fill(two, market / 10, symbols / 10)
alone <- database("alone")
spent_alone <- fill(alone, market / 10, symbols / 10)
say(
  "storing into two shards, to one, on this machine", "%.2f",
  spent_two / spent_alone
)
all_of <- function(columns) {
  timed(
    function() {
      vetusta:::columns_get(
        columns, "SELECT series, max(high) AS high FROM ",
        vetusta:::columns_table(columns, "bars"), " GROUP BY series"
      )
    },
    3
  )
}
say(
  "a maximum of each series, two shards, to one", "%.2f",
  all_of(two) / all_of(alone)
)

# --- series of a file into a folder of Parquet, a few at a time
fill_file <- quote({
  archive <- archive_open(arguments[1])
  for (i in seq_len(as.numeric(arguments[2]))) {
    close <- round(40 * exp(cumsum(rnorm(1e5, sd = 2e-4))), 2)
    bars <- list(
      time = vetusta:::utc(1.5e9 + 60 * seq_len(1e5)),
      open = close,
      high = close + 1,
      low = close - 1,
      close = close,
      volume = round(close * 10)
    )
    vetusta:::store_put(
      archive,
      list(
        source = "bench",
        dataset = "bars",
        shape = "bars",
        rows = vetusta:::parcel_series(
          data.frame(
            key = paste0("S", i),
            frequency = "PT1M",
            dimensions = sprintf("{\"symbol\":\"S%d\"}", i)
          ),
          bars
        )
      )
    )
  }
})
to_parquet <- quote({
  archive <- archive_open(arguments[1])
  rows <- export_series(
    archive, tempfile("parts"), "bench/bars/*", progress = FALSE
  )
  stopifnot(rows == 1e5 * as.numeric(arguments[2]))
})
peaks <- vapply(
  c(20, 100),
  function(symbols) {
    file <- tempfile(fileext = ".sqlite")
    told <- c(file, symbols)
    invisible(measure(fill_file, told))
    measure(to_parquet, told)[2]
  },
  0
)
say(
  "peak memory of 10,000,000 bars into Parquet, to 2,000,000; flat",
  "%.2f (%.0f MB)", peaks[2] / peaks[1], peaks[2]
)
