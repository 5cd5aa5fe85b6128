# Runs all tests of the installed package, the files side by side on the machine's cores, says
# again at the end which ones failed,
# and ends with one line of counts. With words, only the files whose names have one of them.
run_file <- function(file, into) {
  Sys.setenv(NOT_CRAN = "true")
  results <- testthat::test_dir("tests/testthat",
    filter = paste0("^", sub("^test-(.*)[.]R$", "\\1", file), "$"), package = "vetusta",
    load_package = "installed", reporter = "silent", stop_on_failure = FALSE
  )
  frame <- as.data.frame(results)
  told <- unlist(lapply(results, function(test) {
    lapply(test$results, function(result) {
      if (inherits(result, c("expectation_success", "expectation_warning"))) return(NULL)
      paste0(test$file, ": ", test$test, "\n", conditionMessage(result))
    })
  }))
  # an error counts wherever it stands: a warning may have come behind it
  is <- function(...) {
    sum(vapply(unlist(lapply(results, `[[`, "results"), recursive = FALSE), inherits, TRUE,
      what = paste0("expectation_", c(...))))
  }
  counts <- c(passed = is("success"), failed = is("failure", "error"), skipped = is("skip"))
  saveRDS(list(counts = counts, told = as.character(told),
    slowest = frame[order(-frame$real)[1], c("test", "real")]), into)
}

words <- commandArgs(TRUE)
if (length(words) == 3 && words[1] == "--file") {
  run_file(words[2], words[3])
  quit(save = "no")
}

files <- list.files("tests/testthat", "^test-.*[.]R$")
if (length(words)) files <- files[Reduce(`|`, lapply(words, grepl, x = files, fixed = TRUE))]
# the files that take longest begin first
ahead <- c("test-postgres.R", "test-fuzz.R", "test-limits.R", "test-jobs.R",
  "test-wrong-arguments.R", "test-manners.R", "test-cli.R", "test-faults.R", "test-secrets.R",
  "test-cli-options.R")
files <- c(intersect(ahead, files), setdiff(files, ahead))
at_once <- max(1L, parallel::detectCores())
folder <- tempfile("results")
dir.create(folder)
running <- list()
done <- list()
finish <- function(name) {
  result <- file.path(folder, paste0(name, ".rds"))
  log <- file.path(folder, paste0(name, ".log"))
  found <- if (file.exists(result)) readRDS(result)
  if (is.null(found)) found <- list(counts = c(passed = 0, failed = 1, skipped = 0),
    told = paste0(name, ": the file did not run to its end\n",
      paste(utils::tail(readLines(log, warn = FALSE), 20), collapse = "\n")))
  seconds <- round(as.numeric(Sys.time()) - running[[name]]$began)
  cat(sprintf("%-32s %5d passed %3d failed %3d skipped %5d s\n", name, found$counts[["passed"]],
    found$counts[["failed"]], found$counts[["skipped"]], seconds))
  done[[name]] <<- found
  running[[name]] <<- NULL
}
while (length(files) || length(running)) {
  while (length(files) && length(running) < at_once) {
    name <- files[1]
    files <- files[-1]
    log <- file.path(folder, paste0(name, ".log"))
    process <- processx::process$new("Rscript",
      c("tools/test.R", "--file", name, file.path(folder, paste0(name, ".rds"))), stdout = log,
      stderr = "2>&1")
    running[[name]] <- list(process = process, began = as.numeric(Sys.time()))
  }
  for (name in names(running)) if (!running[[name]]$process$is_alive()) finish(name)
  Sys.sleep(0.2)
}
told <- unlist(lapply(done, `[[`, "told"))
if (length(told)) cat("\n", paste(told, collapse = "\n\n"), "\n", sep = "")
totals <- Reduce(`+`, lapply(done, `[[`, "counts"))
cat("\n", totals[["passed"]], " passed, ", totals[["failed"]], " failed, ", totals[["skipped"]],
  " skipped\n", sep = "")
quit(status = as.integer(totals[["failed"]] > 0 || totals[["passed"]] == 0), save = "no")
