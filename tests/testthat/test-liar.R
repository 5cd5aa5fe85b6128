# A service that lies at random: totals, ends, cursors, statuses, truncated
# bodies, empty pages, other symbols, parts. After any number of runs the
# archive has the true rows, or reports what is incomplete. A lie that no answer
# contradicts, such as an end without a total, cannot be detected and is not
# told here. VETUSTA_LIES sets the number of services.

liar_symbols <- c("AA", "BB", "CC")

liar_truth <- function(seed) {
  set.seed(seed)
  sizes <- sample(c(0:11, 15), length(liar_symbols), replace = TRUE)
  stats::setNames(
    lapply(sizes, function(n) if (n) 1:n else integer()), liar_symbols
  )
}

liar_lines <- function(manner) {
  c(
    "problem: /error", "datasets:", "  bars:", "    shape: bars",
    "    request: /b/{symbol}{?from,to}", "    rows: /items",
    "    largest_page: 5",
    paste(
      "    next_page:",
      switch(manner,
        url = "{by: url, at: /more, total: /total}",
        cursor = "{by: cursor, at: /more, send: after, total: /total}",
        page = "{by: page, send: page, pages: /pages, total: /total}",
        offset = "{by: offset, send: skip, total: /total}"
      )
    ),
    "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
    paste0(
      "    columns: {symbol: /s, time: {at: /t, as: epoch-s}, close: ",
      "{at: /c, as: number}}"
    )
  )
}

# The answer of an honest service: list(status, items, more, total, pages).
liar_honest <- function(manner, truth, url) {
  query <- list(QUERY_STRING = sub("^[^?]*", "", url))
  value <- function(name, default) as.numeric(asked(query, name) %||% default)
  symbol <- sub("^.*/b/([A-Z]+).*$", "\\1", url)
  skip <- switch(manner,
    page = (value("page", 1) - 1) * 5,
    offset = value("skip", 0),
    value("after", 0)
  )
  # the requested window
  from <- (value("from", 0) - 1773300600) / 60
  to <- (value("to", 1e12) - 1773300600) / 60
  all <- truth[[symbol]]
  all <- all[all >= from & all < to]
  rows <- all[seq_along(all) > skip & seq_along(all) <= skip + 5]
  more <- if (skip + 5 < length(all)) skip + 5
  list(
    status = 200L,
    symbol = symbol,
    rows = rows,
    total = length(all),
    pages = max(1, ceiling(length(all) / 5)),
    headers = list(),
    more = if (!is.null(more)) {
      if (manner == "cursor") {
        more
      } else {
        sub(
          "[?].*",
          paste0(
            "?after=", more, "&from=", value("from", 0), "&to=",
            value("to", 1e12)
          ),
          url
        )
      }
    }
  )
}

liar_lies <- list(
  total = function(x) {
    utils::modifyList(
      x, list(total = max(0, x$total + sample(c(-4, -1, 3), 1)))
    )
  },
  pages = function(x) utils::modifyList(x, list(pages = x$pages + 1)),
  no_next = function(x) {
    x["more"] <- list(NULL)
    x
  },
  empty = function(x) utils::modifyList(x, list(rows = integer(), more = NULL)),
  absent = function(x) {
    utils::modifyList(x, list(status = sample(c(404L, 410L), 1)))
  },
  busy = function(x) {
    utils::modifyList(x, list(status = sample(c(500L, 503L, 429L), 1)))
  },
  cut = function(x) c(x, list(cut = TRUE)),
  other = function(x) utils::modifyList(x, list(symbol = "ZZ")),
  elsewhere = function(x) {
    if (length(x$more) && is.character(x$more)) {
      x$more <- "http://elsewhere.invalid/b"
    }
    x
  },
  part = function(x) {
    utils::modifyList(
      x,
      list(
        status = 206L,
        headers = list(
          `content-range` = paste0(
            "items 0-", max(0, length(x$rows) - 1), "/", x$total + 5
          )
        )
      )
    )
  },
  unread = function(x) c(x, list(unread = TRUE)),
  problem = function(x) c(x, list(problem = TRUE))
)

liar_body <- function(x, manner) {
  rows <- lapply(x$rows, function(i) {
    list(
      s = x$symbol,
      t = 1773300600 + 60 * i,
      c = if (isTRUE(x$unread)) "one" else i
    )
  })
  content <- list(items = rows, total = x$total, more = x$more)
  if (manner == "page") content$pages <- x$pages
  if (isTRUE(x$problem)) content$error <- "come again later"
  body <- as.character(
    jsonlite::toJSON(content, auto_unbox = TRUE, null = "null")
  )
  charToRaw(if (isTRUE(x$cut)) substr(body, 1, nchar(body) %/% 2) else body)
}

# One service and several runs; after each run the stored rows are compared with
# the truth.
liar_run <- function(seed, manner, runs = 6, lies = 0.25) {
  truth <- liar_truth(seed)
  clock <- 1773900000 + seed
  local_instead("now_seconds", function() clock)
  local_instead("line_start", function(line, request, done, failed, ...) {
    force(done)
    line$active <- line$active + 1L
    x <- liar_honest(manner, truth, request$url)
    if (honest < runs && stats::runif(1) < lies) {
      x <- liar_lies[[sample(length(liar_lies), 1)]](x)
    }
    answer <- list(
      status = x$status, headers = x$headers, body = liar_body(x, manner),
      url = request$url, seconds = 0.01, waited = 0.01
    )
    line$pending <- append(line$pending, list(function() done(answer)))
  })
  local_instead("line_run", function(line, seconds) {
    force(seconds)
    ready <- line$pending
    line$pending <- list()
    if (!length(ready)) clock <<- clock + max(0, seconds)
    for (one in ready) {
      line$active <- line$active - 1L
      one()
    }
    invisible(line)
  })
  source <- bars_card("http://127.0.0.1:1", liar_lines(manner))
  archive <- new_archive()
  query <- query_bars(
    source, liar_symbols, "1 minute", from = "2026-03-12T07:30:00Z",
    to = "2026-03-12T08:30:00Z"
  )
  faults <- character()
  for (honest in seq_len(runs)) {
    plan <- plan_requests(query, archive)
    run <- tryCatch(
      collect_run(plan, archive, progress = FALSE), vetusta_error = identity
    )
    left <- plan_requests(query, archive)
    complete <- setdiff(liar_symbols, unlist(left$requests$symbols))
    held <- tryCatch(
      archive_bars(archive, interval = "1 minute"),
      vetusta_error = function(e) NULL
    )
    for (symbol in liar_symbols) {
      own <- held[held$symbol %in% symbol, ]
      at <- (as.numeric(own$time) - 1773300600) / 60
      if (!all(at %in% truth[[symbol]]) ||
        any(own$close != at) ||
        anyDuplicated(at)) {
        faults <- c(
          faults, paste(seed, manner, honest, symbol, "holds what is not true")
        )
      }
      if (symbol %in% complete && !setequal(at, truth[[symbol]])) {
        faults <- c(
          faults,
          paste(
            seed, manner, honest, symbol, "is called complete, and has",
            length(at), "of", length(truth[[symbol]])
          )
        )
      }
    }
    # an incomplete window has a reason, or the run reported a failure
    told <- inherits(run, "vetusta_error") ||
        nrow(run$failed) > 0 ||
        run$left > 0
    if (nrow(left$requests) && !told) {
      faults <- c(
        faults,
        paste(seed, manner, honest, "is open, and the run did not say so")
      )
    }
  }
  # the last run was honest
  if (nrow(left$requests) || nrow(archive_incomplete(archive))) {
    faults <- c(faults, paste(seed, manner, "an honest run settles not all"))
  }
  archive_close(archive)
  faults
}

test_that("whatever a service says, what is called complete is the truth", {
  count <- as.numeric(Sys.getenv("VETUSTA_LIES", "32"))
  faults <- unlist(lapply(seq_len(count), function(seed) {
    liar_run(seed, c("url", "cursor", "page", "offset")[1 + seed %% 4])
  }))
  expect_identical(as.character(faults), character())
})
