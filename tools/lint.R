# Lints all files side by side on the machine's cores, and looks at the
# installed package for names that are not there and for functions that branch
# too often; prints what it finds, and ends with 1 where there is any.
files <- list.files(
  c("R", "tests/testthat", "tools"), "[.]R$", full.names = TRUE
)
files <- setdiff(files, "R/RcppExports.R")
linters <- eval(
  parse(text = read.dcf(".lintr", fields = "linters")), asNamespace("lintr")
)
folder <- tempfile("lint")
dir.create(folder)
# Each linter goes over each expression by itself: a file that is one expression
# takes half the time.
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
# What a line shows by itself is seen in a hundredth of the time.
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
# codetools notes every place of a variable in a data frame, and reads the
# first: that takes more than half of its time
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
# names that are declared, and environments that are written to from functions
# within
known <- c(utils::globalVariables(package = "vetusta"), "claims", "state")
named <- Reduce(
  `|`, lapply(sprintf("\u2018%s\u2019", known), grepl, x = usage, fixed = TRUE)
)
found <- c(sort(found), sort(usage[!named]))
# names are words with lines between; methods bear their class behind a point
names <- setdiff(ls(inside), getNamespaceInfo(inside, "S3methods")[, 3])
# what calls the compiled code is named by the tool that writes it
odd <- grep(
  "^([a-z][a-z0-9_]*(<-)?|%.+%|_vetusta_.*)$", names, value = TRUE,
  invert = TRUE
)
if (length(odd)) found <- c(found, paste("not a name in our style:", odd))
# ways through a function: one, and one more for each place where it branches
# (McCabe, A complexity measure, 1976); functions within it are its own
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
