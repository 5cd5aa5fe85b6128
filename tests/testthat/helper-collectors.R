# A server of paged bars that logs each request; and a collector.
bars_server <- function(folder, env = parent.frame(), pause = 0.03) {
  answer <- function(n, request) {
    # the arrival time, by the server's clock
    cat(
      sprintf("%.6f", as.numeric(Sys.time())),
      "\n",
      file = file.path(folder, "times"),
      append = TRUE
    )
    after <- as.numeric(
      asked(request, "after") %||%
        max(
          0, ceiling((as.numeric(asked(request, "from")) - 1773300600) / 60) - 1
        )
    )
    cat(
      paste0(request$PATH_INFO, "?", after),
      "\n",
      file = file.path(folder, "calls"),
      append = TRUE
    )
    Sys.sleep(pause)
    rows <- after + seq_len(10)
    to <- as.numeric(asked(request, "to"))
    last <- min(50, floor((to - 1773300600) / 60))
    rows <- rows[rows <= last]
    json_answer(list(
      items = lapply(rows, function(i) list(t = 1773300600 + 60 * i, c = i)),
      more = if (after + 10 < last) {
        paste0(request$PATH_INFO, "?after=", after + 10, "&to=", to)
      }
    ))
  }
  environment(
    answer
  ) <- list2env(list(folder = folder, pause = pause), parent = globalenv())
  start_scripted(answer, env = env)
}
bars_of <- function(url, env = parent.frame(), limits = "100 per second") {
  file <- withr::local_tempfile(fileext = ".yml", .local_envir = env)
  writeLines(
    c(
      "source: test", paste0("url: ", url), paste0("limits: [", limits, "]"),
      "datasets:", "  bars:", "    shape: bars",
      "    request: /b/{symbol}{?from,to}", "    rows: /items",
      "    next_page: {by: url, at: /more}",
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
      "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
    ),
    file
  )
  file
}
# `host` is the host name that the collector reports; `first` runs before
# everything else.
bars_collector <- function(card, archive, symbols = 12, host = "", lease = "",
                           first = "") {
  code <- sprintf(
    "library(vetusta); %s
    a <- archive_open('%s');
    w <- query_bars(source_card('%s'), sprintf('S%%02d', 1:%d), '1 minute',
    from = '2026-03-12',
      to = '2026-03-12')
    r <- collect_run(plan_requests(w, a), a, progress = FALSE);
    cat(r$pages, r$new, r$left, nrow(r$failed))",
    first, archive$path, card, symbols
  )
  processx::process$new(
    "Rscript",
    c("--no-init-file", "-e", code),
    stdout = "|",
    stderr = "|",
    env = c(
      "current", R_LIBS = r_libs(), VETUSTA_HOST = host,
      VETUSTA_LEASE_SECONDS = lease
    )
  )
}

# The result of a collector: pages, new rows, remaining requests, failures. It
# must have ended well.
bars_came <- function(process, seconds = 240) {
  process$wait(seconds * 1000)
  testthat::expect_identical(
    process$get_exit_status(),
    0L,
    info = process$read_all_error()
  )
  as.numeric(strsplit(process$read_all_output(), " ")[[1]])
}

# The largest number of requests in any window of this many seconds.
most_within <- function(times, seconds) {
  times <- sort(times)
  max(
    vapply(
      seq_along(times),
      function(i) sum(times >= times[i] & times < times[i] + seconds), 1L
    )
  )
}
