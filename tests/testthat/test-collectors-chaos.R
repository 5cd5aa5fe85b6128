# Eight collectors over one query in PostgreSQL, two of them with a clock 90 s
# off, on four machines by name: some are killed, connections are cut, the
# server is restarted at once. Nothing is lost or stored twice, and the limit
# holds.
test_that("eight collectors go on through kills, cuts and a restart", {
  server <- postgres_server(safe = TRUE)
  folder <- withr::local_tempdir()
  web <- bars_server(folder, pause = 0.005)
  card <- bars_of(web, limits = "20 per second")
  uri <- server$uri()
  archive <- archive_open(uri)
  withr::defer(archive_close(archive))
  symbols <- 40
  begin <- function(i) {
    bars_collector(
      card, list(path = uri), symbols, paste0("host", 1 + i %% 4),
      lease = "6",
      first = if (i > 6) {
        paste(
          "utils::assignInNamespace('now_seconds', function()",
          "as.numeric(Sys.time()) + 90, 'vetusta');"
        )
      } else {
        ""
      }
    )
  }
  running <- lapply(1:8, begin)
  withr::defer(for (process in running) process$kill())
  requests <- function() {
    file <- file.path(folder, "calls")
    if (file.exists(file)) length(suppressWarnings(readLines(file))) else 0
  }
  came_to <- function(count) {
    end <- Sys.time() + 120
    while (requests() < count && Sys.time() < end) Sys.sleep(0.05)
  }
  came_to(20)
  killed <- c(2, 7)
  for (i in killed) running[[i]]$kill()
  came_to(60)
  server$sql(paste(
    "SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity",
    "WHERE application_name = 'vetusta'"
  ))
  came_to(100)
  server$stop("immediate")
  Sys.sleep(1)
  expect_identical(server$start(), 0L)
  came_to(130)
  running[[1]]$kill()
  killed <- c(killed, 1)
  running <- c(running, list(begin(1)))
  for (i in setdiff(seq_along(running), killed)) {
    result <- bars_came(running[[i]])
    expect_identical(result[4], 0)
  }
  # what the killed ones had begun is collected by a last one
  last <- bars_came(begin(3))
  expect_identical(last[3:4], c(0, 0))
  bars <- archive_bars(archive, interval = "1 minute")
  expect_identical(as.vector(table(bars$symbol)), rep(50L, symbols))
  expect_identical(bars$close, rep(as.numeric(1:50), symbols))
  journal <- archive_journal(archive)
  stored <- journal[journal$outcome == "stored", ]
  expect_identical(anyDuplicated(stored$url), 0L)
  # a request may be made twice where its collector was killed or cut off
  expect_lte(requests(), 5 * symbols + 3 + 2 * 8)
  times <- scan(file.path(folder, "times"), quiet = TRUE)
  expect_lte(most_within(times, 0.95), 20)
  expect_identical(nrow(archive_check(archive)), 0L)
})
