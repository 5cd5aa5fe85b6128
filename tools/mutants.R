# Plants faults in the package's functions, one at a time, and counts how many
# the tests find.
#
#   Rscript tools/mutants.R [how many] [seed] [words of file names]
#
# First, once, the functions that each file of tests calls:
#
#   mkdir called; VETUSTA_CALLED=$PWD/called Rscript tools/test.R
#
# A fault is another comparison, `or` in place of `and`, another sign or number,
# a line left out, or two arguments swapped. The function is replaced in the
# test's process, and the files that call it are run until one fails, at most
# fifteen: those of its name first, then the shortest. Without the folder
# `called` these are at most six files: those of its file, those that name it,
# and those about everything. Prints each fault with the file that found it, and
# the share found: a lower bound for all tests, because processes that a test
# starts have no fault.
arguments <- commandArgs(TRUE)
count <- if (length(arguments)) as.integer(arguments[1]) else 40L
seed <- if (length(arguments) > 1) as.integer(arguments[2]) else 1L
words <- arguments[-(1:2)]
set.seed(seed)

others <- c(
  "<" = "<=", "<=" = "<", ">" = ">=", ">=" = ">", "==" = "!=", "!=" = "==",
  "&&" = "||", "||" = "&&", "&" = "|", "|" = "&", "+" = "-", "-" = "+"
)

# All places of a file for a fault: a data frame of line, from, to (columns),
# new text, and function.
places <- function(file) {
  lines <- readLines(file)
  parsed <- parse(text = lines, keep.source = TRUE)
  data <- utils::getParseData(parsed)
  tops <- which(data$parent == 0 & !data$token %in% "COMMENT")
  made <- list()
  add <- function(row, text) {
    made[[length(made) + 1]] <<- data.frame(
      file = file, line = row$line1, from = row$col1, until = row$line2,
      to = row$col2, text = text
    )
  }
  for (i in which(data$terminal)) {
    row <- data[i, ]
    if (row$text %in% names(others) &&
      !row$token %in% c("SPECIAL", "STR_CONST")) {
      add(row, others[[row$text]])
    }
    if (row$token == "NUM_CONST" && grepl("^[0-9]{1,8}L?$", row$text)) {
      add(
        row,
        paste0(
          as.integer(sub("L", "", row$text)) + 1L, if (grepl("L", row$text)) "L"
        )
      )
    }
    if (row$text %in% c("TRUE", "FALSE")) {
      add(row, if (row$text == "TRUE") "FALSE" else "TRUE")
    }
  }
  # a one-line statement within braces that is not the last of its block
  for (id in data$parent[data$token == "'{'"]) {
    inside <- data[
      data$parent == id & data$token %in% c("expr", "expr_or_assign_or_help"),
    ]
    for (k in seq_len(max(0, nrow(inside) - 1))) {
      if (inside$line1[k] == inside$line2[k]) add(inside[k, ], "NULL")
    }
  }
  # the first two arguments of a call
  for (id in unique(data$parent[data$token == "'('"])) {
    own <- data[data$parent == id, ]
    own <- own[order(own$line1, own$col1), ]
    if (!any(own$token == "','") ||
      any(own$token %in% c("EQ_SUB", "FUNCTION"))) {
      next
    }
    parts <- own[own$token == "expr", ][-1, ]
    if (nrow(parts) < 2 || parts$line1[1] != parts$line2[2]) next
    line <- lines[parts$line1[1]]
    first <- substr(line, parts$col1[1], parts$col2[1])
    second <- substr(line, parts$col1[2], parts$col2[2])
    if (first == second) next
    row <- parts[1, ]
    row$col2 <- parts$col2[2]
    add(row, paste0(second, ", ", first))
  }
  if (!length(made)) {
    return(NULL)
  }
  all <- do.call(rbind, made)
  # the top-level expression of each place: only functions are replaced
  all$top <- vapply(
    seq_len(nrow(all)),
    function(i) {
      hit <- tops[
        data$line1[tops] <= all$line[i] & data$line2[tops] >= all$until[i]
      ]
      if (length(hit)) hit[1] else NA_integer_
    },
    1L
  )
  all <- all[!is.na(all$top), ]
  all$begins <- data$line1[all$top]
  all$ends <- data$line2[all$top]
  head <- lines[all$begins]
  all$name <- sub(" *<- *function.*", "", head)
  all[grepl("^[A-Za-z_.0-9]+ *<- *function", head), setdiff(names(all), "top")]
}

files <- list.files("R", "[.]R$", full.names = TRUE)
files <- files[!grepl("RcppExports|standin-|^R/vetusta", files)]
if (length(words)) {
  files <- files[Reduce(`|`, lapply(words, grepl, x = files, fixed = TRUE))]
}
all <- do.call(rbind, lapply(files, places))
chosen <- all[sort(sample(nrow(all), min(count, nrow(all)))), ]

tests <- list.files("tests/testthat", "^test-.*[.]R$")
texts <- lapply(file.path("tests/testthat", tests), function(file) {
  paste(readLines(file, warn = FALSE), collapse = "\n")
})
called <- lapply(
  file.path("called", paste0(tests, ".rds")),
  function(file) if (file.exists(file)) readRDS(file)
)
tests_of <- function(mutant) {
  base <- sub("[.]R$", "", basename(mutant$file))
  own <- sub("^test-(.*)[.]R$", "\\1", tests)
  shared <- vapply(
    own,
    function(name) {
      a <- strsplit(base, "-", fixed = TRUE)[[1]]
      b <- strsplit(name, "-", fixed = TRUE)[[1]]
      k <- min(length(a), length(b))
      sum(cumprod(a[seq_len(k)] == b[seq_len(k)])) -
        abs(length(a) - length(b)) / 10
    },
    0
  )
  named <- grepl(
    paste0("\\b", gsub(".", "[.]", mutant$name, fixed = TRUE), "\\b"), texts
  )
  laws <- own %in% c("series-law", "seams", "cli-which", "collect", "store")
  score <- shared + named + 0.5 * laws -
      0.7 * own %in% c("kills", "postgres", "fuzz", "readme")
  if (all(lengths(called) == 0)) {
    return(tests[order(-score)][seq_len(min(6, sum(score > 0.4)))])
  }
  runs <- vapply(called, function(one) mutant$name %in% one$names, TRUE)
  took <- vapply(called, function(one) if (is.null(one)) Inf else one$took, 0)
  near <- pmin(2, round(score))
  utils::head(tests[order(!runs, -near, took)], min(15, sum(runs)))
}

result <- rep(NA_character_, nrow(chosen))
for (i in seq_len(nrow(chosen))) {
  mutant <- chosen[i, ]
  lines <- readLines(mutant$file)
  was <- lines[mutant$line]
  lines[mutant$line] <- paste0(
    substr(was, 1, mutant$from - 1), mutant$text, substring(was, mutant$to + 1)
  )
  file <- tempfile(fileext = ".R")
  writeLines(lines[mutant$begins:mutant$ends], file)
  for (test in tests_of(mutant)) {
    out <- tempfile(fileext = ".rds")
    done <- processx::run(
      "Rscript",
      c("tools/test.R", "--file", test, out),
      env = c("current", VETUSTA_MUTANT = file),
      error_on_status = FALSE,
      timeout = 600,
      cleanup_tree = TRUE
    )
    record <- if (file.exists(out)) readRDS(out)
    if (is.null(record) || record$counts[["failed"]] > 0) {
      result[i] <- test
      break
    }
  }
  cat(
    sprintf(
      "%s:%d %s\n  %s\n  %s\n", mutant$file, mutant$line,
      if (is.na(result[i])) "NOT FOUND" else paste("found by", result[i]),
      trimws(was), trimws(lines[mutant$line])
    )
  )
}
cat(
  sprintf(
    "\n%d of %d faults found (%.0f%%)\n", sum(!is.na(result)), length(result),
    100 * mean(!is.na(result))
  )
)
