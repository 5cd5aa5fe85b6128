# Lints all files side by side on the machine's cores, and looks at the installed package for names
# that are not there; prints
# what it finds, and ends with 1 where there is any.
files <- list.files(c("R", "tests/testthat", "tools"), "[.]R$", full.names = TRUE)
files <- setdiff(files, "R/RcppExports.R")
# what was looked at before and is as it was is not looked at again
found <- parallel::mclapply(files, lintr::lint, cache = ".lint",
  mc.cores = max(1L, parallel::detectCores()), mc.preschedule = FALSE)
for (one in found) if (length(one)) print(one)
usage <- character()
library(vetusta)
codetools::checkUsagePackage("vetusta", suppressLocalUnused = FALSE, suppressParamUnused = TRUE,
  report = function(text) usage <<- c(usage, text))
# names that are declared, and environments that are written to from functions within
known <- c(utils::globalVariables(package = "vetusta"), "claims", "state")
named <- Reduce(`|`, lapply(sprintf("\u2018%s\u2019", known), grepl, x = usage, fixed = TRUE))
usage <- usage[!named]
if (length(usage)) cat(usage, sep = "")
# names are words with lines between; methods bear their class behind a point
inside <- asNamespace("vetusta")
names <- setdiff(ls(inside), getNamespaceInfo(inside, "S3methods")[, 3])
# what calls the compiled code is named by the tool that writes it
odd <- grep("^([a-z][a-z0-9_]*(<-)?|%.+%|_vetusta_.*)$", names, value = TRUE, invert = TRUE)
if (length(odd)) cat("not a name in our style: ", paste(odd, collapse = ", "), "\n", sep = "")
quit(status = as.integer(any(lengths(found) > 0) || length(usage) > 0 || length(odd) > 0))
