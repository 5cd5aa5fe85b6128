# What it costs that every row knows where it came from: the share of reading
# that makes the lineage of a table, and the share of an archive that is origins.
library(vetusta)
archive <- archive_open(tempfile(fileext = ".sqlite"))
set.seed(1)
rows <- 50000
for (symbol in paste0("S", 1:20)) {
  vetusta:::store_put(archive, list(
    source = "q", dataset = "b", shape = "bars", now = 1e9,
    rows = vetusta:::archive_parcel("bars", data.frame(
      symbol = symbol, time = vetusta:::utc(60 * seq_len(rows)),
      open = rnorm(rows), high = rnorm(rows), low = rnorm(rows),
      close = rnorm(rows), volume = rpois(rows, 100)
    ), frequency = "PT1M")
  ))
}
ids <- archive_series(archive)$id
seconds <- function(work) {
  min(vapply(1:9, function(i) system.time(work())[["elapsed"]], 0))
}
# in turn, ten times each: the clock counts milliseconds
tables <- archive_read(archive)
turns <- vapply(1:9, function(i) {
  c(
    system.time(for (k in 1:3) archive_read(archive))[["elapsed"]] / 3,
    system.time(for (k in 1:20) {
      vetusta:::read_lineages(tables, NULL, list(ids), list())
    })[["elapsed"]] / 20
  )
}, c(0, 0))
whole <- stats::median(turns[1, ])
share <- stats::median(turns[2, ]) / whole
cat("a million bars read in", round(whole, 3), "s, of which lineage",
  round(100 * share, 1), "%\n")

# pages of a collection: 240 bars each
file <- tempfile(fileext = ".sqlite")
pages <- archive_open(file)
for (i in 1:2000) {
  n <- 240
  vetusta:::store_put(pages, list(
    source = "q", dataset = "b", shape = "bars", now = 1e9 + i,
    rows = vetusta:::archive_parcel("bars", data.frame(
      symbol = paste0("S", i %% 50),
      time = vetusta:::utc((i %/% 50) * n * 60 + 60 * seq_len(n)),
      open = rnorm(n), high = rnorm(n), low = rnorm(n), close = rnorm(n),
      volume = rpois(n, 100)
    ), frequency = "PT1M"),
    journal = list(
      run = "r", source = "q", dataset = "b", symbol = paste0("S", i %% 50),
      asked = 1e9 + i, seconds = 0.1, status = 200L, bytes = 22000, rows = n,
      outcome = "stored",
      url = paste0("https://x/quay/bars/S", i %% 50, "/m1?from=17732664&rows=n")
    ),
    origin = list(base = "/items/", rows = n, hash = "0123456789abcdef")
  ), gather = 50)
}
vetusta:::store_settle(pages, NULL)
size <- function(table) {
  vetusta:::sql_get(pages, paste0(
    "SELECT sum(pgsize) AS bytes FROM dbstat WHERE name LIKE '", table, "%'"
  ))$bytes
}
bytes <- tryCatch(size("origins"), error = function(e) {
  # without the table of page sizes: the bytes of the values
  vetusta:::sql_get(pages, "SELECT sum(40 + length(place) + length(hash)) AS
    bytes FROM origins")$bytes
})
archive_close(pages)
cat("origins are", round(100 * bytes / file.size(file), 1),
  "% of an archive of", round(file.size(file) / 1e6, 1), "MB\n")
hash <- charToRaw(strrep("x", 22000))
cat("the hash of a body of 22 kB:", signif(seconds(function() {
  for (i in 1:1000) vetusta:::origin_hash(hash)
}) / 1000 * 1e6, 2), "microseconds\n")
