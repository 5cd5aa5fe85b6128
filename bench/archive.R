# Archive benchmarks, each against its minimum in the same run: reading bars
# against reading the same columns from one Parquet file, one symbol and one day
# of many, a million daily values collected, stored, read and requested again,
# planning for many symbols, and importing against the bare reading of the file.
# Seconds are CPU seconds of this process. Run with `make bench`.
source("bench/parts.R")
inside <- asNamespace("vetusta")

minutes <- function(n, from = 1.6e9) {
  close <- round(40 * exp(cumsum(rnorm(n, sd = 2e-4))), 3)
  open <- c(40, close[-n])
  reach <- round(abs(rnorm(n, sd = 0.01)), 3)
  data.frame(
    symbol = "KELD",
    time = .POSIXct(from + 60 * seq_len(n), "UTC"),
    open = open,
    high = round(pmax(open, close) + reach, 3),
    low = round(pmin(open, close) - reach, 3),
    close = close,
    volume = round(rexp(n, 1 / 900)) + 1,
    session = NA_character_,
    side = NA_character_,
    status = "observed"
  )
}
put_bars <- function(archive, rows, interval = "PT1M") {
  inside$store_put(
    archive,
    list(
      source = "bench",
      dataset = "bars",
      shape = "bars",
      rows = inside$archive_parcel("bars", rows, frequency = interval)
    )
  )
}

set.seed(7)
archive <- archive_open(tempfile(fileext = ".sqlite"))
bars <- minutes(1e6)
for (at in split(seq_len(1e6), (seq_len(1e6) - 1) %/% 60000)) {
  put_bars(archive, bars[at, ])
}
say(
  "bytes a bar, 1,000,000 of them", "%.2f", archive_series(archive)$bytes / 1e6
)
file <- tempfile(fileext = ".parquet")
nanoparquet::write_parquet(bars, file)
parquet <- cpu(function() nanoparquet::read_parquet(file))
read <- cpu(function() archive_bars(archive, "KELD", "1 minute"))
say(
  "reading 1,000,000 bars / reading them from Parquet",
  "%.2f    (%.2f s, %.2f s)", read / parquet, read, parquet
)
day <- cpu(function() {
  for (i in 1:20) {
    archive_bars(
      archive, "KELD", "1 minute", from = "2021-03-12", to = "2021-03-12"
    )
  }
})
say("a day out of two years of minutes", "%.4f s", day / 20)

many <- archive_open(tempfile(fileext = ".sqlite"))
for (i in 1:200) {
  rows <- bars[1:5000, ]
  rows$symbol <- sprintf("S%03d", i)
  put_bars(many, rows)
}
one <- cpu(function() for (i in 1:20) archive_bars(many, "S077", "1 minute"))
say("one symbol of 200 with 5,000 bars each", "%.4f s", one / 20)

# a service of daily values, 100 stations, 10,000 days each, in pages of 2,000
folder <- tempfile("levels")
dir.create(folder)
days <- format(as.Date("1990-01-01") + 0:9999)
stations <- sprintf("s%03d", 1:100)
for (station in stations) {
  level <- round(200 + cumsum(rnorm(10000)), 1)
  for (page in 1:5) {
    rows <- (page - 1) * 2000 + 1:2000
    body <- list(rows = data.frame(day = days[rows], level = level[rows]))
    if (page < 5) body$more <- sprintf("/pages/%s-%d.json", station, page + 1)
    writeLines(
      jsonlite::toJSON(body, auto_unbox = TRUE, digits = 3),
      file.path(folder, sprintf("%s-%d.json", station, page))
    )
  }
}
server <- serve_pages(folder)
card <- tempfile(fileext = ".yml")
writeLines(
  c(
    "source: river", paste0("url: ", server$url), "datasets:", "  levels:",
    "    shape: observations",
    "    request: \"/pages/{station}-1.json{?from}\"",
    "    parameters: {from: {as: day}}", "    rows: /rows",
    "    next_page: {by: url, at: /more}", "    columns:",
    "      series: {of: station}", "      period: {at: /day, as: day}",
    "      value: {at: /level, as: number}"
  ),
  card
)
river <- source_card(card)
levels <- archive_open(tempfile(fileext = ".sqlite"))
query <- function() {
  query_rows(
    river, "levels", station = stations, from = "1990-01-01", to = "2017-05-18"
  )
}
run <- NULL
collected <- cpu(
  function() {
    run <<- collect_run(
      plan_requests(query(), levels), levels, progress = FALSE
    )
  },
  1
)
stopifnot(run$new == 1e6)
say("1,000,000 daily values collected", "%.2f s", collected)
say("bytes a value, stored", "%.2f", sum(archive_series(levels)$bytes) / 1e6)
say(
  "read", "%.2f s", cpu(function() archive_rows(levels, "river", "levels"), 1)
)
again <- NULL
second <- cpu(
  function() again <<- nrow(plan_requests(query(), levels)$requests), 1
)
say("a second run", "%d requests, %.2f s", again, second)
one <- cpu(function() for (i in 1:10) archive_read(levels, "s042"))
say("one series of 100 read by its URL", "%.4f s", one / 10)
server$process$kill()

# planning for many symbols
planned <- archive_open(tempfile(fileext = ".sqlite"))
symbols <- sprintf("S%05d", 1:12000)
ends <- as.numeric(as.POSIXct(c("2020-01-01", "2026-11-01"), tz = "UTC"))
inside$store_put(
  planned,
  list(
    source = "quay",
    dataset = "bars",
    covered = data.frame(
      key = inside$bars_cover_key(symbols, "P1D", "regular"),
      start = ends[1],
      end = ends[2]
    )
  )
)
quay <- source_card("quay")
plan <- function(to) {
  plan_requests(
    query_bars(
      quay,
      symbols,
      "1 day",
      from = "2026-01-05",
      to = to,
      now = as.POSIXct("2027-06-01", tz = "UTC")
    ),
    planned
  )
}
say(
  "planning for 12,000 symbols, up to date", "%.2f s",
  cpu(function() plan("2026-10-30"))
)
say(
  "planning for 12,000 symbols, one day behind", "%.2f s",
  cpu(function() plan("2026-11-02"), 1)
)

# importing
csv <- tempfile(fileext = ".csv")
data.table::fwrite(
  bars[c("symbol", "time", "open", "high", "low", "close", "volume")], csv
)
bare <- cpu(function() data.table::fread(csv, showProgress = FALSE))
imported <- cpu(function() {
  archive_import(
    archive_open(tempfile(fileext = ".sqlite")), csv, interval = "1 minute"
  )
})
say(
  "importing 1,000,000 bars / reading the file", "%.1f    (%.2f s, %.2f s)",
  imported / bare, imported, bare
)
