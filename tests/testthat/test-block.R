# Blocks: every table comes back bit by bit, and changed bytes are detected.
block_of <- function(columns, thorough = TRUE) {
  vetusta:::block_write(columns, thorough)
}
read_block <- function(...) vetusta:::blocks_read(list(...))

random_column <- function(n) {
  kind <- sample(11, 1)
  value <- switch(kind,
    round(cumsum(rnorm(n)), sample(0:6, 1)),
    rnorm(n),
    round(rexp(n, 0.001)),
    rep(round(rnorm(1), 2), n),
    sample(c(1e300, -1e-300, 0, -0, 2^53, 2^60, 0.1, 1 / 3), n, TRUE),
    sample(c("a", "\u00e4", "", "b c"), n, TRUE),
    as.character(round(rnorm(n), 3)),
    sample(c(TRUE, FALSE), n, TRUE),
    as.Date("2026-01-01") + sample(1e4, n, TRUE),
    .POSIXct(1.7e9 + round(cumsum(rexp(n)), 6), "UTC"),
    round(rnorm(n) * 1e9, 0) * 1000
  )
  if (runif(1) < 0.4) value[sample(n, n %/% 3)] <- NA
  if (is.double(value) && !is.object(value) && runif(1) < 0.1) {
    value[sample(n, 1)] <- sample(c(Inf, -Inf), 1)
  }
  value
}

test_that("columns of any kind and size are read back unchanged", {
  withr::with_seed(
    11,
    for (i in 1:150) {
      n <- sample(c(1, 2, 7, 127, 128, 129, 1000), 1)
      columns <- lapply(
        stats::setNames(nm = c("time", letters[1:6])),
        function(name) random_column(n)
      )
      columns$time <- .POSIXct(1.7e9 + sort(sample(1e6, n)), "UTC")
      back <- read_block(block_of(columns, runif(1) < 0.5))$columns
      for (name in names(columns)) {
        if (all(is.na(columns[[name]])) && is.null(back[[name]])) next
        expect_identical(
          back[[name]],
          columns[[name]],
          label = paste("turn", i, name)
        )
      }
    }
  )
})

test_that("a block may have two thousand columns", {
  withr::with_seed(
    21,
    for (width in c(1, 2, 255, 256, 257, 300, 1000, 2000)) {
      n <- sample(c(3, 40, 129), 1)
      columns <- lapply(seq_len(width), function(i) {
        # few of the first values are whole multiples of one power of ten, so
        # later values decide
        round(cumsum(rnorm(n, sd = 50)) + 1e5, (i * 7) %% 6) +
          if (i %% 3) 0 else pi
      })
      # the last value predicts the next one
      if (width > 1) columns[[width]] <- columns[[width - 1]] + 3
      columns <- c(
        list(time = .POSIXct(1.7e9 + seq_len(n), "UTC")),
        stats::setNames(columns, paste0("c", seq_len(width)))
      )
      expect_identical(
        read_block(block_of(columns))$columns,
        columns,
        label = paste("width", width)
      )
    }
  )
  wide <- c(
    list(time = .POSIXct(c(1, 2, 3), "UTC")),
    stats::setNames(
      lapply(1:299, function(i) c(i, 2 * i, 5 * i) + i / 7), paste0("c", 1:299)
    ),
    list(
      lead = c(753932000, 753932001, 753932004),
      last = c(753932002, 753932003, 753932006)
    )
  )
  expect_identical(read_block(block_of(wide))$columns, wide)
})

test_that("several blocks with different columns and types are one table", {
  a <- block_of(
    list(time = .POSIXct(1:3, "UTC"), x = c(1, 2, 3), note = c("a", NA, "b"))
  )
  b <- block_of(list(time = .POSIXct(4:5, "UTC"), y = c(0.5, NA), x = c(4, 5)))
  both <- read_block(a, b)
  expect_identical(both$rows, c(3L, 2L))
  expect_identical(both$columns$x, c(1, 2, 3, 4, 5))
  expect_identical(both$columns$y, c(NA, NA, NA, 0.5, NA))
  expect_identical(both$columns$note, c("a", NA, "b", NA, NA))
  mixed <- read_block(
    a, block_of(list(time = .POSIXct(6, "UTC"), x = "six"))
  )$columns$x
  expect_identical(mixed, c("1", "2", "3", "six"))
})

test_that("windows, instants and newest releases equal a plain scan", {
  withr::with_seed(
    12,
    for (i in 1:60) {
      n <- sample(300, 1)
      rows <- data.frame(
        time = sort(sample(100, n, TRUE)) + 0,
        known = sample(50, n, TRUE) + 0,
        value = seq_len(n) + 0
      )
      rows <- rows[order(rows$time, rows$known), ]
      rows <- rows[!duplicated(rows[c("time", "known")]), ]
      body <- block_of(
        list(
          time = .POSIXct(rows$time, "UTC"),
          known = .POSIXct(rows$known, "UTC"),
          value = rows$value
        )
      )
      from <- sample(c(-Inf, 1:100), 1)
      to <- sample(c(Inf, 1:100), 1)
      at <- sample(c(Inf, 0:51), 1)
      newest <- runif(1) < 0.5
      got <- vetusta:::blocks_read(
        list(body), from, to, at, newest
      )$columns$value
      query <- rows[rows$time >= from & rows$time < to & rows$known <= at, ]
      if (newest) query <- query[!duplicated(query$time, fromLast = TRUE), ]
      expect_identical(as.numeric(got), query$value, label = paste("turn", i))
    }
  )
})

test_that("any byte that is changed or cut off is found", {
  columns <- list(
    time = .POSIXct(1.7e9 + 60 * 1:200, "UTC"),
    close = round(40 + cumsum(rnorm(200) / 50), 2),
    note = rep(c("a", "b"), 100)
  )
  body <- block_of(columns)
  withr::with_seed(
    13,
    for (at in sample(length(body), 60)) {
      spoilt <- body
      spoilt[at] <- xor(spoilt[at], as.raw(sample(255, 1)))
      expect_error(read_block(spoilt), "block|bytes")
      expect_error(read_block(body[seq_len(at - 1)]), "block|bytes")
    }
  )
})

test_that("bars are small: minutes take a few bytes each", {
  withr::with_seed(14, {
    close <- round(40 * exp(cumsum(rnorm(5000, sd = 2e-4))), 2)
    open <- c(40, close[-5000])
    reach <- round(abs(rnorm(5000, sd = 0.01)), 2)
    bars <- list(
      time = .POSIXct(1.7e9 + 60 * 1:5000, "UTC"),
      known = .POSIXct(rep(1.8e9, 5000), "UTC"),
      open = open,
      high = pmax(open, close) + reach,
      low = pmin(open, close) - reach,
      close = close,
      volume = round(rexp(5000, 1 / 900))
    )
  })
  bars[c("high", "low")] <- lapply(bars[c("high", "low")], round, 2)
  expect_lt(length(block_of(bars)) / 5000, 5)
})
