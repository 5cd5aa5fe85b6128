# Runs all tests of the installed package, says again at the end which ones failed, and ends with one line of counts.
Sys.setenv(NOT_CRAN = "true")
results <- testthat::test_dir("tests/testthat", package = "vetusta", load_package = "installed", reporter = testthat::ProgressReporter$new(show_praise = FALSE, max_failures = Inf),
  stop_on_failure = FALSE)
frame <- as.data.frame(results)
failed <- sum(frame$failed) + sum(frame$error)
skipped <- sum(frame$skipped)
passed <- sum(frame$passed)
for (test in results) for (result in test$results) {
  if (!inherits(result, c("expectation_success", "expectation_warning"))) {
    cat("\n", test$file, ": ", test$test, "\n", conditionMessage(result), "\n", sep = "")
  }
}
cat("\n", passed, " passed, ", failed, " failed, ", skipped, " skipped\n", sep = "")
quit(status = as.integer(failed > 0 || passed == 0), save = "no")
