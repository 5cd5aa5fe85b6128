# Runs all tests of the installed package and ends with one line of counts.
Sys.setenv(NOT_CRAN = "true")
results <- testthat::test_dir("tests/testthat", package = "vetusta", load_package = "installed", reporter = testthat::ProgressReporter$new(show_praise = FALSE, max_failures = Inf),
  stop_on_failure = FALSE)
frame <- as.data.frame(results)
failed <- sum(frame$failed) + sum(frame$error)
skipped <- sum(frame$skipped)
passed <- sum(frame$passed)
cat("\n", passed, " passed, ", failed, " failed, ", skipped, " skipped\n", sep = "")
quit(status = as.integer(failed > 0 || passed == 0), save = "no")
