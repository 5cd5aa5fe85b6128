# An archive on a server beside one in a file, and many collectors under one limit; run from the
# project's folder: Rscript bench/scale.R [bars]. The server is PostgreSQL as Debian sets it up,
# started here in a folder of its own. Every number is of this run; the ratios are what counts.

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
  run <- collect_run(plan_calls(want_bars(source_card(card), "KELD", "1 minute",
    from = "2020-09-13", to = "2026-01-01"), archive), archive, progress = FALSE)
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
  told <- c(web$address, file, format(rows, scientific = FALSE))
  spent$file <- c(spent$file, measure(collect_all, told)[1])
  spent$server <- c(spent$server, measure(collect_all, replace(told, 2, uri))[1])
  spent$read_file <- c(spent$read_file, measure(read_all, told)[1])
  spent$read_server <- c(spent$read_server, measure(read_all, replace(told, 2, uri))[1])
}
invisible(web$process$kill())
say("collecting 1,000,000 bars, server / file, elapsed", "%.2f (%.2f s, %.2f s); aim 1.5",
  middle(spent$server) / middle(spent$file), middle(spent$server), middle(spent$file))
say("reading them, server / file, elapsed", "%.2f (%.2f s, %.2f s); aim 2",
  middle(spent$read_server) / middle(spent$read_file), middle(spent$read_server),
  middle(spent$read_file))

# --- eight collectors that take themselves to be on four machines; three are killed on the way
told <- tempfile("collectors")
dir.create(told)
symbols <- 400
card <- bars_of(bars_server(told, here, pause = 0.002), here, "50 per second, 5000 per day")
archive <- list(path = database("many"))
running <- lapply(1:8, function(i) {
  bars_collector(card, archive, symbols, host = paste0("host", i %% 4), lease = "10")
})
calls <- function() {
  if (file.exists(file.path(told, "times")))
  as.numeric(readLines(file.path(told, "times"))) else numeric()
}
killed <- 0
while (any(vapply(running, function(one) one$is_alive(), TRUE))) {
  if (killed < 3 && length(calls()) > 400 * (killed + 1)) {
    killed <- killed + 1
    running[[killed]]$kill()
  }
  Sys.sleep(0.2)
}
times <- sort(calls())
asked <- readLines(file.path(told, "calls"))
held <- archive_open(archive$path)
bars <- archive_bars(held, interval = "1 minute")
stopifnot(identical(as.vector(table(bars$symbol)), rep(50L, symbols)))
stored <- archive_journal(held)
stored <- stored$address[stored$outcome == "stored"]
# in the middle of the run, while all of it was there to be asked
steady <- times[times > times[1] + 5 & times < times[1] + 25]
say("eight collectors on four machines, three killed: calls", "%d of %d asked, %d stored twice",
  length(times), symbols * 5, sum(duplicated(stored)))
say("the most calls in any second; aim 50 at most", "%d", most_within(times, 1))
say("of the limit used; aim 95 %% at least", "%.1f %%", 100 * length(steady) / (20 * 50))
say("calls that were asked for twice (under way when one was killed)", "%d",
  sum(duplicated(asked)))
for (one in running) one$kill()
invisible(server$stop())
