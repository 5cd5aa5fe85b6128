# Lints all files side by side, and checks the installed package for unknown
# names and for functions with too many branches. Prints findings, and ends with
# status 1 if there is any.
files <- list.files(
  c("R", "tests/testthat", "tools"), "[.]R$", full.names = TRUE
)
files <- setdiff(files, "R/RcppExports.R")
linters <- eval(
  parse(text = read.dcf(".lintr", fields = "linters")), asNamespace("lintr")
)
folder <- tempfile("lint")
dir.create(folder)
# Each linter runs on each expression: a file that is a single expression takes
# half the time.
lint_file <- function(file) {
  copy <- file.path(folder, gsub("/", "-", file, fixed = TRUE))
  lines <- readLines(file, encoding = "UTF-8")
  writeLines(c("local({", lines, "})"), copy, useBytes = TRUE)
  found <- lintr::lint(
    copy, linters = linters, cache = FALSE, parse_settings = FALSE
  )
  c(
    vapply(
      found,
      function(one) {
        paste0(
          file, ":", one$line_number - 1, ":", one$column_number, ": ",
          one$message
        )
      },
      ""
    ),
    line_faults(file, lines)
  )
}
# Line checks take a hundredth of the time.
line_faults <- function(file, lines) {
  n <- length(lines)
  faults <- list(
    "more than 80 columns" = nchar(lines) > 80,
    "a tab" = grepl("^ *\t", lines),
    "space at the end" = grepl("[[:space:]]$", lines),
    "an empty line at the end" = seq_len(n) == n & !nzchar(lines)
  )
  unlist(lapply(names(faults), function(what) {
    at <- which(faults[[what]])
    if (length(at)) paste0(file, ":", at, ": ", what)
  }))
}

library(vetusta)
inside <- asNamespace("vetusta")
functions <- Filter(
  function(name) is.function(inside[[name]]), ls(inside, all.names = TRUE)
)
# codetools notes every variable in a data frame and uses the first row: that
# takes more than half of its time
nowhere <- data.frame(
  srcfile = NA_character_, frow = NA_integer_, lrow = NA_integer_
)
first_place <- function(vn, w) {
  entry <- environment(codetools::checkUsage)$getLocalUsageEntry(vn, w)
  if (is.null(entry$srcinfo)) entry$srcinfo <- nowhere
}
if (!is.null(asNamespace("codetools")$incLocalSrcInfo)) {
  utils::assignInNamespace("incLocalSrcInfo", first_place, "codetools")
}
check_usage <- function(name) {
  told <- character()
  codetools::checkUsage(
    inside[[name]],
    name,
    suppressLocalUnused = FALSE,
    suppressParamUnused = TRUE,
    report = function(text) told <<- c(told, sub("\n$", "", text))
  )
  told
}
cores <- max(1L, parallel::detectCores())
# each core has its share of every kind of work
spread <- function(x) {
  split(x, rep_len(c(seq_len(cores), rev(seq_len(cores))), length(x)))
}
files <- spread(files[order(file.size(files), decreasing = TRUE)])
functions <- spread(functions)
found <- parallel::mclapply(
  seq_len(cores),
  function(i) {
    list(
      files = unlist(lapply(files[[i]], lint_file)),
      usage = unlist(lapply(functions[[i]], check_usage))
    )
  },
  mc.cores = cores
)
failed <- vapply(found, inherits, TRUE, "try-error")
if (any(failed)) stop(found[failed][[1]])
usage <- unlist(lapply(found, `[[`, "usage"))
found <- unlist(lapply(found, `[[`, "files"))
# declared names, and environments written to by inner functions
known <- c(utils::globalVariables(package = "vetusta"), "claims", "state")
named <- Reduce(
  `|`, lapply(sprintf("\u2018%s\u2019", known), grepl, x = usage, fixed = TRUE)
)
found <- c(sort(found), sort(usage[!named]))
# names are words with underscores; methods have a class after a dot
names <- setdiff(ls(inside), getNamespaceInfo(inside, "S3methods")[, 3])
# callers of compiled code are named by Rcpp
odd <- grep(
  "^([a-z][a-z0-9_]*(<-)?|%.+%|_vetusta_.*)$", names, value = TRUE,
  invert = TRUE
)
if (length(odd)) found <- c(found, paste("not a name in our style:", odd))
# paths through a function: one, plus one per branch (McCabe, A complexity
# measure, 1976); inner functions are counted separately
branches <- function(code) {
  if (is.call(code)) {
    own <- if (is.name(code[[1]])) as.character(code[[1]]) else ""
    here <- if (own == "switch") {
      length(code) - 2
    } else {
      as.numeric(own %in% c("if", "for", "while", "repeat"))
    }
    return(here + sum(vapply(as.list(code), branches, 0)))
  }
  if (is.pairlist(code)) sum(vapply(as.list(code), branches, 0)) else 0
}
for (name in ls(inside, all.names = TRUE)) {
  f <- get(name, envir = inside)
  ways <- if (is.function(f) && !is.primitive(f)) 1 + branches(body(f)) else 0
  if (ways > 50) {
    found <- c(
      found, paste0(name, "() has ", ways, " ways through it, 50 at most")
    )
  }
}
if (length(found)) cat(found, sep = "\n")
quit(status = as.integer(length(found) > 0))
