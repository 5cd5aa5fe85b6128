# A model of several collectors of one query: the real queue and steps, with a
# clock, a service and an archive of the test, whose statements take time.
# Seeded, so each schedule can be repeated.

# A world: claims, tokens and stored pages that all collectors share.
model_world <- function(seed, cost, latency) {
  set.seed(seed)
  world <- new.env()
  world$now <- 1e6
  world$claims <- new.env()
  world$tokens <- numeric()
  world$requests <- world$stored <- character()
  world$stored_at <- numeric()
  world$in_step <- 0
  world$spend <- function() {
    world$now <- world$now + stats::rexp(1, 1 / cost)
    world$in_step <- world$in_step + 1
    if (world$in_step > 400) stop("a step does not come to its end")
  }
  world$latency <- function() stats::runif(1, 0.5, 1.5) * latency
  world
}

model_sink <- function(world, who, limit) {
  claims <- new.env()
  nothing <- function(...) NULL
  list(
    counter = list(
      take = function(...) {
        world$spend()
        recent <- world$tokens[world$tokens > world$now - 1]
        if (length(recent) >= limit) return(min(recent) + 1 - world$now + 0.001)
        world$tokens <- c(world$tokens, world$now)
        structure(0, token = length(world$tokens), hold = 0)
      },
      waits_sent = function() 0, watch = function() Inf,
      answered = nothing
    ),
    keep_raw = FALSE,
    now = function() world$now,
    beat = nothing,
    rank = function() who - 1,
    claim = function(name, since, ...) {
      world$spend()
      held <- world$claims[[name]]
      if (!is.null(held) && held$done) return("done")
      if (!is.null(held) && held$who != who) return("taken")
      assign(name, list(who = who, done = FALSE), envir = world$claims)
      claims[[name]] <- (claims[[name]] %||% 0) + 1
      "ours"
    },
    ending = function(name) {
      if (!is.null(name)) {
        assign(name, list(who = who, done = TRUE), envir = world$claims)
        name
      }
    },
    noted = nothing,
    note = nothing,
    forget = nothing,
    journal = nothing,
    covered = function(keys) vetusta:::no_coverage,
    put = function(page, came) {
      world$spend()
      world$stored <- c(world$stored, page$journal$url)
      world$stored_at <- c(world$stored_at, world$now)
      c(new = nrow(came$rows), changed = 0, unchanged = 0)
    },
    ended = function(...) world$spend(),
    settle = nothing,
    release = nothing,
    listed = nothing,
    has_bars = function(symbols, interval) rep(FALSE, length(symbols)),
    round_begin = nothing,
    round_end = nothing,
    due = function() Inf,
    wrong = function() vetusta:::no_counts
  )
}

# The steps of a collector, as in collect_begin().
model_collector <- function(world, who, query, limit) {
  going <- new.env()
  plan <- plan_requests(query)
  going$run <- vetusta:::run_make(
    query, model_sink(world, who, limit), planned = FALSE
  )
  going$queue <- vetusta:::queue_make(plan$requests)
  vetusta:::collect_share(going$run, going$queue)
  going$tally <- vetusta:::tally_make()
  going$show <- function(...) NULL
  going$clock <- world$now
  going
}

model_run <- function(seed, collectors, cost, latency, symbols = 12,
                      limit = 50, at_once = 8) {
  world <- model_world(seed, cost, latency)
  local_instead("now_seconds", function() world$now)
  local_instead("line_start", function(line, request, done, failed, ...) {
    line$active <- line$active + 1L
    world$requests <- c(world$requests, request$url)
    skip <- as.numeric(
      asked(list(QUERY_STRING = sub("^[^?]*", "", request$url)), "skip") %||% 0
    )
    rows <- seq_len(7)
    rows <- rows[rows > skip & rows <= skip + 3]
    body <- as.character(jsonlite::toJSON(
      list(
        items = lapply(rows, function(i) {
          list(t = 1773300600 + 60 * i, c = i)
        }),
        total = 7
      ),
      auto_unbox = TRUE
    ))
    force(done)
    answer <- list(
      status = 200L, headers = list(), body = charToRaw(body),
      url = request$url, seconds = 0.05, waited = 0.05
    )
    coming <- list(
      at = world$now + world$latency(),
      done = function() done(answer)
    )
    line$pending <- append(line$pending, list(coming))
  })
  local_instead("line_run", function(line, seconds) {
    # asking how long a wait is may start a request
    force(seconds)
    at <- vapply(line$pending, `[[`, 0, "at")
    world$now <- if (length(at)) {
      max(world$now, min(min(at), world$now + seconds))
    } else {
      world$now + max(0, seconds)
    }
    due <- at <= world$now
    ready <- line$pending[due]
    line$pending <- line$pending[!due]
    for (one in ready) {
      line$active <- line$active - 1L
      one$done()
    }
    invisible(line)
  })
  card <- bars_card(
    "http://127.0.0.1:1",
    c(
      paste0("at_once: ", at_once), "datasets:", "  bars:", "    shape: bars",
      "    request: /b/{symbol}{?from,to}", "    rows: /items",
      "    largest_page: 3",
      "    next_page: {by: offset, send: skip, total: /total}",
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
      "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
    )
  )
  query <- query_bars(
    card,
    sprintf("S%02d", seq_len(symbols)),
    "1 minute",
    from = "2026-03-12",
    to = "2026-03-12",
    now = as.POSIXct("2026-04-01", tz = "UTC")
  )
  all <- lapply(
    seq_len(collectors), function(who) model_collector(world, who, query, limit)
  )
  began <- world$now
  goes_on <- function(going) vetusta:::collect_goes_on(going)
  steps <- 0
  while (any(vapply(all, goes_on, TRUE))) {
    steps <- steps + 1
    if (steps > 20000) stop("no end is reached")
    left <- Filter(goes_on, all)
    going <- left[[which.min(vapply(left, `[[`, 0, "clock"))]]
    world$now <- going$clock
    world$in_step <- 0
    vetusta:::collect_step(going)
    going$clock <- world$now
  }
  list(
    world = world,
    seconds = max(world$stored_at) - began,
    silence = max(diff(sort(c(began, world$stored_at))))
  )
}

test_that("collectors neither stall, nor repeat, nor exceed the limit", {
  for (seed in 1:12) {
    collectors <- 1 + seed %% 6
    # statements on a quiet machine, and on one with ten other processes
    cost <- c(0.002, 0.03, 0.15)[1 + seed %% 3]
    got <- model_run(seed, collectors, cost, latency = 0.05)
    label <- paste("seed", seed)
    expect_identical(anyDuplicated(got$world$requests), 0L, label = label)
    expect_identical(length(got$world$stored), 36L, label = label)
    expect_setequal(got$world$stored, got$world$requests)
    # a page is stored before anything else begins
    expect_lt(got$silence, 8 * cost + 6)
    worst <- vapply(
      got$world$tokens,
      function(at) {
        sum(got$world$tokens >= at & got$world$tokens < at + 1)
      },
      1L
    )
    expect_lte(max(worst), 50L)
  }
})

test_that("slow claims hold nothing up", {
  # a round over all others' requests takes three seconds
  got <- model_run(2, 6, cost = 0.1, latency = 0.05, symbols = 30)
  expect_identical(anyDuplicated(got$world$requests), 0L)
  expect_identical(length(got$world$stored), 90L)
  expect_lt(got$silence, 3)
})

test_that("what came is stored when a run is stopped", {
  answer <- function(n, request) {
    json_answer(list(items = list(list(t = 1773300660, c = 1))))
  }
  source <- bars_card(
    start_scripted(answer),
    c(
      "at_once: 8", "datasets:", "  bars:", "    shape: bars",
      "    request: /b/{symbol}{?from,to}", "    rows: /items",
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
      "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
    )
  )
  archive <- new_archive()
  plan <- plan_requests(
    query_bars(
      source, sprintf("S%02d", 1:20), "1 minute", from = "2026-03-12",
      to = "2026-03-12"
    ),
    archive
  )
  sent <- 0
  original <- local_instead("collect_came_in", function(going) {
    # several answers have arrived, and none has been handled
    for (i in 1:40) {
      if (length(going$queue$finished) < 6) {
        vetusta:::line_run(going$run$line, 0.05)
      }
    }
    sent <<- length(going$queue$finished)
    stop(structure(class = c("interrupt", "condition"), list()))
  })
  tryCatch(
    collect_run(plan, archive, progress = FALSE),
    interrupt = function(e) NULL
  )
  expect_gte(sent, 1)
  expect_gte(sum(archive_journal(archive)$outcome == "stored"), sent)
})
