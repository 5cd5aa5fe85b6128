# A market in figures: 12,000 symbols of minutes, collected by 1 to 16
# collectors under 50, 500 and 5,000 requests a second. What a request costs the
# collector's processor and the catalogue is measured here; the rest is a
# simulation, one event a step, without a clock. Run from the project's folder:
#
#   Rscript bench/market.R [postgres]
source("bench/parts.R")
for (file in c("postgres", "services", "cards", "collectors")) {
  source(file.path("tests", "testthat", paste0("helper-", file, ".R")))
}
here <- environment()
symbols <- 12000
late <- 0.1
at_once <- 8
alone <- !"postgres" %in% commandArgs(TRUE)
database <- if ("postgres" %in% commandArgs(TRUE)) {
  server <- postgres_server(here, safe = TRUE)
  made <- 0
  function() {
    made <<- made + 1
    server$sql(paste0("CREATE DATABASE m", made))
    server$uri(paste0("m", made))
  }
} else {
  function() tempfile(fileext = ".sqlite")
}

# Seconds a request: of the collector's processor, of the catalogue for the
# limit, and for a page, alone and gathered.
measured <- function(rows, count) {
  at <- (1.6e9 + 60 * seq_len(rows)) * 1000
  set.seed(1)
  close <- round(40 * exp(cumsum(rnorm(rows, sd = 2e-4))), 3)
  items <- data.frame(
    at = at, fst = close, top = close, low = close, lst = close, qty = 700
  )
  body <- jsonlite::toJSON(list(items = items), auto_unbox = TRUE, digits = 6)
  folder <- tempfile("body")
  dir.create(folder)
  writeLines(body, file.path(folder, "body.json"))
  web <- start_nginx(
    httpuv::randomPort(host = "127.0.0.1"), paste0(
      "root ", folder, "; location / { default_type application/json; ",
      "try_files /body.json =404; }"
    )
  )
  on.exit(web$process$kill())
  card <- tempfile(fileext = ".yml")
  writeLines(c(
    "source: bench", paste0("url: ", web$url), "datasets:", "  bars:",
    "    shape: bars", "    request: /bars/{symbol}{?from,to}",
    "    rows: /items", "    parameters:", "      from: {as: epoch-s}",
    "      to: {as: epoch-s}", "    columns:",
    "      time: {at: /at, as: epoch-ms}", "      open: /fst",
    "      high: /top", "      low: /low", "      close: /lst",
    "      volume: /qty"
  ), card)
  collected <- function(gather) {
    archive <- vetusta::archive_open(database())
    on.exit(vetusta::archive_close(archive))
    query <- vetusta::query_bars(
      vetusta::source_card(card), sprintf("S%05d", seq_len(count)), "1 minute",
      from = "2020-09-13", to = "2020-09-17"
    )
    plan <- vetusta::plan_requests(query, archive)
    put <- spent <- 0
    real <- vetusta:::sql_put_now
    later <- vetusta:::store_gathered
    timed <- function(work) {
      function(...) {
        from <- now()
        on.exit({
          put <<- put + now()[1] - from[1]
          spent <<- spent + now()[2] - from[2]
        })
        work(...)
      }
    }
    now <- function() {
      time <- proc.time()
      c(time[["elapsed"]], time[["user.self"]] + time[["sys.self"]])
    }
    utils::assignInNamespace("sql_put_now", timed(real), "vetusta")
    utils::assignInNamespace("store_gathered", timed(later), "vetusta")
    time <- system.time(
      vetusta::collect_run(plan, archive, progress = FALSE, gather = gather)
    )
    utils::assignInNamespace("sql_put_now", real, "vetusta")
    utils::assignInNamespace("store_gathered", later, "vetusta")
    # the catalogue's part is counted apart
    c(cpu = (sum(time[1:2]) - spent) / count, put = put / count)
  }
  archive <- vetusta::archive_open(database())
  on.exit(vetusta::archive_close(archive), add = TRUE)
  limit <- list(list(count = 1e6, seconds = 1, weighs = FALSE))
  each <- function(work) {
    system.time(for (i in 1:200) work())[["elapsed"]] / 200
  }
  token <- each(function() {
    one <- vetusta:::store_token_take(archive, "s", limit, 16)
    vetusta:::store_token_made(archive, one$id, vetusta:::store_now(archive))
  })
  # others wait only until it is counted, and not for the disk
  held <- if (alone) {
    token
  } else {
    each(function() {
      vetusta:::sql_get(
        archive, "SELECT token_take(?, ?, ?, ?::json) AS id @lazily",
        list("s", 16, 1, "[{\"count\":1e6,\"seconds\":1,\"weighs\":false}]")
      )
    })
  }
  alone <- collected(1)
  many <- collected(50)
  list(
    cpu = many[["cpu"]], token = token, held = held,
    put = c(alone = alone[["put"]], gathered = many[["put"]])
  )
}

# Requests a second, and the share of time that the catalogue is busy: each of
# `at_once` requests of each collector waits for the limit, for its answer, for
# the collector's processor and for the catalogue. A collector does one thing at
# a time, also while it waits for the catalogue. A file is written by one
# collector at a time; PostgreSQL only counts the limit for one at a time.
simulated <- function(n, limit, cost, put, requests = 4000) {
  slots <- n * at_once
  time <- seq(0, 0.01, length.out = slots)
  phase <- rep(0L, slots)
  of <- rep(seq_len(n), each = at_once)
  collector <- rep(0, n)
  catalogue <- busy <- 0
  begun <- numeric(requests + slots)
  started <- done <- 0
  while (done < requests) {
    i <- which.min(time)
    k <- of[i]
    at <- time[i]
    # an answer under way needs no collector
    if (phase[i] != 1 && collector[k] > at) {
      time[i] <- collector[k]
      next
    }
    if (phase[i] == 0) {
      catalogue <- max(at, catalogue) + cost$held
      collector[k] <- at <- catalogue + cost$token - cost$held
      busy <- busy + cost$held
    } else if (phase[i] == 1) {
      started <- started + 1
      if (started > limit) at <- max(at, begun[started - limit] + 1)
      begun[started] <- at
      at <- at + late
    } else if (phase[i] == 2) {
      collector[k] <- at <- at + cost$cpu
    } else {
      at <- (if (alone) max(at, catalogue) else at) + put
      collector[k] <- at
      if (alone) {
        catalogue <- at
        busy <- busy + put
      }
      done <- done + 1
    }
    time[i] <- at
    phase[i] <- (phase[i] + 1L) %% 4L
  }
  c(rate = done / max(time), busy = busy / max(time))
}

for (work in list(
  list(name = "a day of each symbol (780 bars)", rows = 780, pages = symbols),
  list(
    name = "ten years of each symbol (5,000 bars a page)", rows = 5000,
    pages = symbols * 390
  )
)) {
  cost <- measured(work$rows, if (work$rows > 1000) 60 else 300)
  say(work$name, paste0(
    "measured: %.1f ms of the processor a request, %.2f ms for the limit ",
    "(%.2f ms one at a time), %.2f ms a page in the catalogue, %.2f ms gathered"
  ), 1000 * cost$cpu, 1000 * cost$token, 1000 * cost$held,
  1000 * cost$put[["alone"]],
  1000 * cost$put[["gathered"]])
  for (limit in c(50, 500, 5000)) {
    for (n in c(1, 2, 4, 8, 16)) {
      out <- vapply(cost$put, function(put) {
        simulated(n, limit, cost, put)
      }, c(0, 0))
      say(
        paste0(limit, " a second, ", n, " collectors"), paste0(
          "%.0f requests a second, %.2f hours, catalogue busy %.0f%%; ",
          "gathered %.0f, %.2f hours, %.0f%%"
        ), out["rate", 1], work$pages / out["rate", 1] / 3600,
        100 * out["busy", 1], out["rate", 2],
        work$pages / out["rate", 2] / 3600, 100 * out["busy", 2]
      )
    }
  }
}
