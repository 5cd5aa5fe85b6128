# A lineage is a script that makes the table again.
lineage_archive <- function(env = parent.frame()) {
  archive <- new_archive(env = env)
  withr::with_seed(2, {
    for (symbol in c("AA", "BB")) {
      time <- as.POSIXct("2026-01-05 08:00", tz = "UTC") +
        60 * sort(sample(3000, 1200))
      close <- 50 + cumsum(rnorm(1200)) / 10
      vetusta:::store_put(archive, list(
        source = "quay", dataset = "bars", shape = "bars", now = 1,
        rows = vetusta:::archive_parcel("bars", data.frame(
          symbol = symbol, time = time, open = close, high = close + 1,
          low = close - 1, close = close, volume = 10
        ), frequency = "PT1M")
      ))
    }
    vetusta:::store_put(archive, list(
      source = "river", dataset = "levels", shape = "observations", now = 1,
      rows = vetusta:::archive_parcel("observations", data.frame(
        series = "lock", period = as.Date("2025-12-01") + 0:60,
        value = rnorm(61)
      ))
    ))
  })
  archive
}

# Runs the script of a lineage against an archive.
run_script <- function(lineage, archive) {
  lines <- sub(
    "archive_open(\"archive.sqlite\")", "the_archive", lineage$script,
    fixed = TRUE
  )
  eval(
    parse(text = lines),
    list2env(list(the_archive = archive), parent = globalenv())
  )
}

lineage_steps <- list(
  fill = function(x) series_fill(x, rule = "linear", at_most = 5),
  change = function(x) series_change(x, "log"),
  mean = function(x) series_change(x, "mean", window = "3 days"),
  aggregate = function(x) series_aggregate(x, "M", rule = "mean"),
  unfill = function(x) series_unfill(x),
  align = function(x) series_align(x, grid = "1 day", form = "long"),
  rows = function(x) x
)

test_that("scripts of random chains make the same table", {
  archive <- lineage_archive()
  read <- list(
    bars = function() {
      bars_resample(archive_read(archive, "AA")[[1]], "1 day")
    },
    levels = function() archive_read(archive, "lock", from = "2025-12-05")[[1]]
  )
  made <- 0
  withr::with_seed(8, for (turn in 1:25) {
    x <- read[[sample(2, 1)]]()
    for (step in sample(names(lineage_steps), sample(3, 1))) {
      y <- tryCatch(
        suppressMessages(lineage_steps[[step]](x)),
        vetusta_error = function(e) NULL
      )
      if (is.data.frame(y) && nrow(y)) x <- y
    }
    lineage <- series_lineage(x)
    again <- suppressMessages(run_script(lineage, archive))
    expect_identical(
      vetusta:::table_hash(again), vetusta:::table_hash(x),
      label = paste(lineage$script, collapse = "\n")
    )
    expect_identical(lapply(again, identity), lapply(x, identity))
    made <- made + 1
  })
  expect_identical(made, 25)
})

test_that("a later value does not change what the script makes", {
  archive <- lineage_archive()
  levels <- archive_read(archive, "lock")[[1]]
  lineage <- series_lineage(series_change(levels))
  vetusta:::store_put(archive, list(
    source = "river", dataset = "levels", shape = "observations",
    now = as.numeric(as.POSIXct("2026-06-01", tz = "UTC")),
    rows = vetusta:::archive_parcel("observations", data.frame(
      series = "lock", period = as.Date("2025-12-01") + 60:70, value = 9
    ))
  ))
  expect_identical(
    run_script(lineage, archive)$value, series_change(levels)$value
  )
})

test_that("what other code changes shows, and tables made by hand", {
  archive <- lineage_archive()
  x <- archive_read(archive, "lock")[[1]]
  x$value <- x$value * 100
  lineage <- series_lineage(series_change(x))
  expect_identical(
    lineage$steps$step, c("archive_read", "changed", "series_change")
  )
  expect_match(
    format(lineage), "changed by other code",
    all = FALSE, fixed = TRUE
  )
  hand <- series_frame(data.frame(
    series = "h", period = as.Date("2025-12-01") + 0:60, value = 1:61 + 0
  ))
  expect_null(series_lineage(hand))
  expect_null(series_lineage(series_change(hand)))
  both <- series_lineage(
    series_align(archive_read(archive, "lock")[[1]], hand, grid = "union")
  )
  expect_identical(
    both$steps$step, c("archive_read", "input", "series_align")
  )
  expect_match(both$script, "made by hand", all = FALSE, fixed = TRUE)
  # rows and columns chosen by R's own functions
  some <- archive_read(archive, "lock")[[1]]
  expect_identical(
    series_lineage(some[1:5, ])$steps$step, c("archive_read", "changed")
  )
  parts <- archive_read(archive, c("AA", "BB"))[[1]]
  expect_identical(series_lineage(parts)$steps$rows, nrow(parts))
  expect_error_kind(series_lineage(1), "argument")
})

test_that("a hash is xxHash, and differs where a column does", {
  # the reference implementation: hashes of names and columns, hashed again
  bytes_of <- function(hash) {
    at <- seq(15, 1, by = -2)
    as.raw(strtoi(substring(hash, at, at + 1), 16L))
  }
  reference <- function(bytes) {
    bytes_of(digest::digest(bytes, "xxhash64", serialize = FALSE))
  }
  hash_of <- function(columns) {
    parts <- unlist(lapply(names(columns), function(name) {
      c(
        reference(charToRaw(name)),
        reference(writeBin(as.double(columns[[name]]), raw()))
      )
    }))
    digest::digest(parts, "xxhash64", serialize = FALSE)
  }
  x <- c(1, NA, 3.5, -0)
  # below and above the four lanes, with and without the second thread
  for (n in c(0, 1, 3, 4, 5, 1001, 60000)) {
    columns <- list(
      value = stats::rnorm(n), a_name_that_is_longer_than_a_lane = seq_len(n),
      flag = rep(c(TRUE, NA), length.out = n)
    )
    expect_identical(
      vetusta:::columns_hash_cpp(unname(columns), names(columns)),
      hash_of(columns)
    )
  }
  table <- data.frame(a = x, b = c("x", NA, "y", "x"))
  hash <- vetusta:::table_hash(table)
  other <- table
  other$b[2] <- "NA"
  expect_false(vetusta:::table_hash(other) == hash)
  expect_false(vetusta:::table_hash(table[4:1, ]) == hash)
  expect_identical(vetusta:::table_hash(tibble::as_tibble(table)), hash)
  # the last rows of runs
  for (i in 1:50) {
    n <- sample(1:40, sample(1:6, 1))
    text <- rep(as.character(seq_along(n)), n)
    expect_identical(vetusta:::run_ends_cpp(text), as.integer(cumsum(n)))
  }
  expect_identical(vetusta:::run_ends_cpp(character()), integer())
})

test_that("models and their figures have the lineage of their series", {
  archive <- lineage_archive()
  levels <- archive_read(archive, "lock")[[1]]
  noise <- model_noise(model_season(levels, trend = "none", periods = 30))
  expect_identical(
    series_lineage(noise)$steps$step,
    c("archive_read", "model_season", "model_noise")
  )
  paths <- model_paths(noise, n = 20, horizon = "1 month")
  figure <- figure_fan(paths)
  lineage <- series_lineage(figure)
  expect_identical(lineage$steps$step[5], "figure_fan")
  again <- run_script(series_lineage(paths), archive)
  expect_identical(again$series, paths$series)
})
