# Thinning keeps what is visible: against a slow reference from the definition.
thin_slowly <- function(time, value, columns) {
  at <- pmin(
    floor((time - time[1]) / (time[length(time)] - time[1]) * columns), columns
  )
  runs <- cumsum(c(TRUE, diff(at) != 0 | diff(is.na(value)) != 0))
  kept <- lapply(split(seq_along(time), runs), function(rows) {
    if (is.na(value[rows[1]])) return(rows[1])
    sort(
      unique(
        c(
          rows[1], rows[which.min(value[rows])], rows[which.max(value[rows])],
          rows[length(rows)]
        )
      )
    )
  })
  unlist(kept, use.names = FALSE)
}

test_that("each column keeps its first, last, lowest and highest value", {
  for (seed in 1:20) {
    withr::local_seed(seed)
    n <- sample(c(500, 3000, 20000), 1)
    time <- sort(runif(n, 0, 1e6))
    value <- cumsum(rnorm(n))
    if (seed %% 2) value[sample(n, n / 50)] <- NA
    columns <- sample(c(10, 37, 100), 1)
    kept <- series_thin(time, value, columns)
    expect_false(is.unsorted(kept, strictly = TRUE))
    expect_identical(
      range(value[kept], na.rm = TRUE), range(value, na.rm = TRUE)
    )
    # points on the edge of two columns may fall into either
    own <- thin_slowly(time, value, columns)
    expect_lt(
      length(setdiff(own, kept)) + length(setdiff(kept, own)),
      0.02 * length(own) + 9
    )
    column <- floor((time - time[1]) / diff(range(time)) * columns)
    for (one in c(1, columns %/% 2, columns - 2)) {
      all <- range(value[column == one], na.rm = TRUE)
      expect_true(all(all %in% value[kept]))
    }
  }
})

test_that("few points, one value, one time and nothing stay as they are", {
  expect_identical(series_thin(1:10, 1:10, 100), 1:10)
  expect_identical(series_thin(numeric(), numeric()), integer())
  flat <- series_thin(1:100000, rep(1, 100000), 100)
  expect_lte(length(flat), 300)
  expect_identical(range(flat), c(1L, 100000L))
  expect_identical(length(series_thin(rep(1, 1e5), 1:1e5, 10)), 2L)
  expect_error_kind(series_thin(5:1, 1:5, 1), "figure", "increase")
  expect_error_kind(series_thin(1:5, 1:4), "figure", "lengths")
  expect_error_kind(series_thin(1:5, letters[1:5]), "figure", "numbers")
})
