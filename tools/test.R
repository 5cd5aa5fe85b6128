# Runs all tests of the installed package, the files side by side on the
# machine's cores. At the end it repeats each failure with the command that runs
# its file again, and prints the counts in one line. With words, only the files
# whose names contain one of them.

# Writes the names of the package's functions that this process has called to a
# file when it ends, and how long it took.
note_calls <- function(into) {
  package <- asNamespace("vetusta")
  methods <- package$.__S3MethodsTable__.
  noted <- new.env()
  for (name in ls(package, all.names = TRUE)) {
    f <- package[[name]]
    if (!is.function(f) || is.primitive(f)) next
    note <- bquote(assign(.(name), TRUE, envir = .(noted)))
    body(f) <- call("{", note, body(f))
    unlockBinding(name, package)
    assign(name, f, package)
    if (exists(name, methods, inherits = FALSE)) assign(name, f, methods)
  }
  reg.finalizer(
    globalenv(),
    function(e) {
      saveRDS(
        list(names = ls(noted, all.names = TRUE), took = proc.time()[[3]]), into
      )
    },
    onexit = TRUE
  )
}

run_file <- function(file, into) {
  Sys.setenv(NOT_CRAN = "true")
  # a planted fault, see tools/mutants.R
  planted <- Sys.getenv("VETUSTA_MUTANT")
  if (nzchar(planted)) {
    own <- new.env(parent = asNamespace("vetusta"))
    sys.source(planted, own)
    for (name in ls(own, all.names = TRUE)) {
      changed <- own[[name]]
      environment(changed) <- asNamespace("vetusta")
      utils::assignInNamespace(name, changed, "vetusta")
    }
  }
  # the functions that each file calls, for tools/mutants.R
  called <- Sys.getenv("VETUSTA_CALLED")
  if (nzchar(called)) note_calls(file.path(called, paste0(file, ".rds")))
  results <- testthat::test_dir(
    "tests/testthat",
    filter = paste0("^", sub("^test-(.*)[.]R$", "\\1", file), "$"),
    package = "vetusta",
    load_package = "installed",
    reporter = "silent",
    stop_on_failure = FALSE
  )
  again <- paste0(
    "run it again: make test FILES=", sub("^test-(.*)[.]R$", "\\1", file)
  )
  messages <- unlist(lapply(results, function(test) {
    lapply(test$results, function(result) {
      if (inherits(result, c("expectation_success", "expectation_warning"))) {
        return(NULL)
      }
      fails <- inherits(result, c("expectation_failure", "expectation_error"))
      paste0(
        test$file, ": ", test$test, "\n", conditionMessage(result),
        if (fails) paste0("\n  ", again)
      )
    })
  }))
  # an error counts wherever it is: a warning may follow it
  is <- function(...) {
    sum(
      vapply(
        unlist(lapply(results, `[[`, "results"), recursive = FALSE),
        inherits,
        TRUE,
        what = paste0("expectation_", c(...))
      )
    )
  }
  counts <- c(
    passed = is("success"),
    failed = is("failure", "error"),
    skipped = is("skip")
  )
  saveRDS(
    list(
      counts = counts,
      messages = as.character(messages),
      processor = sum(proc.time()[c(1, 2, 4, 5)])
    ),
    into
  )
}

words <- commandArgs(TRUE)
if (length(words) == 3 && words[1] == "--file") {
  run_file(words[2], words[3])
  quit(save = "no")
}

files <- list.files("tests/testthat", "^test-.*[.]R$")
words <- unlist(strsplit(words, "[ ,]+"))
if (length(words)) {
  files <- files[Reduce(`|`, lapply(words, grepl, x = files, fixed = TRUE))]
}
if (!length(files)) {
  stop("no test file has a name with ", paste(words, collapse = ", "))
}
# the longest files begin first
ahead <- paste0(
  "test-",
  c(
    "kills", "postgres", "readme", "cli", "refresh", "fuzz", "limits",
    "faults", "series-releases", "page-app", "jobs", "resample-store",
    "cli-model", "store", "manners", "secrets", "wrong-arguments", "windows",
    "cli-options", "vignettes"
  ),
  ".R"
)
files <- c(intersect(ahead, files), setdiff(files, ahead))
# one more than there are cores, because many files wait
at_once <- 1L + max(1L, parallel::detectCores())
folder <- tempfile("results")
dir.create(folder)
started <- as.numeric(Sys.time())
running <- list()
done <- list()
finish <- function(name) {
  result <- file.path(folder, paste0(name, ".rds"))
  log <- file.path(folder, paste0(name, ".log"))
  record <- if (file.exists(result)) readRDS(result)
  if (is.null(record)) {
    record <- list(
      counts = c(passed = 0, failed = 1, skipped = 0),
      processor = NA,
      messages = paste0(
        name, ": the file did not run to its end\n",
        paste(utils::tail(readLines(log, warn = FALSE), 20), collapse = "\n")
      )
    )
  }
  seconds <- as.numeric(Sys.time()) - running[[name]]$began
  cat(
    sprintf(
      "%-32s %5d passed %3d failed %3d skipped %5.0f s, processor %5.0f s\n",
      name, record$counts[["passed"]], record$counts[["failed"]],
      record$counts[["skipped"]], seconds, record$processor
    )
  )
  if (length(record$messages)) cat(record$messages, sep = "\n")
  done[[name]] <<- record
  running[[name]] <<- NULL
}
while (length(files) || length(running)) {
  while (length(files) && length(running) < at_once) {
    name <- files[1]
    files <- files[-1]
    log <- file.path(folder, paste0(name, ".log"))
    process <- processx::process$new(
      "Rscript",
      c(
        "tools/test.R", "--file", name, file.path(folder, paste0(name, ".rds"))
      ),
      stdout = log, stderr = "2>&1"
    )
    running[[name]] <- list(process = process, began = as.numeric(Sys.time()))
  }
  for (name in names(running)) {
    if (!running[[name]]$process$is_alive()) finish(name)
  }
  Sys.sleep(0.2)
}
messages <- unlist(lapply(done, `[[`, "messages"))
if (length(messages)) {
  cat("\n", paste(messages, collapse = "\n\n"), "\n", sep = "")
}
totals <- Reduce(`+`, lapply(done, `[[`, "counts"))
cat(
  sprintf(
    "\n%.1f minutes, of the processor %.1f\n",
    (as.numeric(Sys.time()) - started) / 60,
    sum(vapply(done, `[[`, 0, "processor"), na.rm = TRUE) / 60
  )
)
cat(
  "\n", totals[["passed"]], " passed, ", totals[["failed"]], " failed, ",
  totals[["skipped"]], " skipped\n",
  sep = ""
)
quit(
  status = as.integer(totals[["failed"]] > 0 || totals[["passed"]] == 0),
  save = "no"
)
