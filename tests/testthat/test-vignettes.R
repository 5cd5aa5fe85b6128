# Every vignette runs offline from its first line to its last, and shows what
# its text says.
vignette_of <- function(name) {
  testthat::skip_if_not_installed("knitr")
  file <- testthat::test_path("..", "..", "vignettes", paste0(name, ".Rmd"))
  testthat::skip_if_not(
    file.exists(file), "the vignettes are not beside the tests"
  )
  folder <- withr::local_tempdir()
  lines <- readLines(file, encoding = "UTF-8")
  # errors are not caught here
  lines <- sub(
    "knitr::opts_chunk$set(", "knitr::opts_chunk$set(error = FALSE, ", lines,
    fixed = TRUE
  )
  writeLines(lines, file.path(folder, "in.Rmd"))
  code <- "knitr::knit('in.Rmd', 'out.md', quiet = TRUE, envir = new.env())"
  done <- processx::run(
    "Rscript",
    c("--no-init-file", "-e", code),
    wd = folder,
    env = c("current", R_LIBS = r_libs()),
    error_on_status = FALSE
  )
  expect_identical(done$status, 0L, info = done$stderr)
  list(
    lines = readLines(file.path(folder, "out.md"), encoding = "UTF-8"),
    drawn = list.files(file.path(folder, "figure"))
  )
}

test_that("the morning round asks once, and tells how it stands", {
  told <- vignette_of("morning-round")
  expect_true(
    any(
      grepl(
        paste(
          "fixings: nothing to request: the archive is complete for",
          "this window"
        ),
        told$lines,
        fixed = TRUE
      )
    )
  )
  expect_true(any(grepl("^#> salt +[0-9]+ +[1-9][0-9,]* .*done", told$lines)))
  expect_length(told$drawn, 1)
})

test_that("a new API is drafted, tried, collected once and proved", {
  told <- vignette_of("new-api")
  expect_true(any(grepl("did you mean \"datasets\"", told$lines, fixed = TRUE)))
  expect_true(
    any(
      grepl(
        "requests  none: the archive is complete for this window", told$lines,
        fixed = TRUE
      )
    )
  )
  expect_true(any(grepl(" same ", told$lines, fixed = TRUE)))
  expect_false(
    any(grepl(standin_keys[["SURVEY_TOKEN"]], told$lines, fixed = TRUE))
  )
})

test_that("statistics are read as they were known", {
  told <- vignette_of("basin-statistics")
  expect_true(any(grepl("^#> +47 +48", told$lines)))
})

test_that("a series is made complete, and can be taken back", {
  told <- vignette_of("complete-series")
  expect_true("#> [1] TRUE" %in% told$lines)
  expect_length(told$drawn, 2)
})

test_that("what was known and what came later differ on one axis", {
  told <- vignette_of("one-axis")
  expect_true(any(grepl("2026-03-10 714.7 771.7", told$lines, fixed = TRUE)))
})

test_that("a payoff is priced from the first request to its value", {
  told <- vignette_of("high-water-payoff")
  expect_true(any(grepl("20 holes", told$lines, fixed = TRUE)))
  expect_true(
    any(
      grepl(
        "the model is better than the plain benchmarks", told$lines,
        fixed = TRUE
      )
    )
  )
  expect_true(any(grepl("^#> +60 +900 +simulation +2,500", told$lines)))
  expect_length(told$drawn, 5)
})
