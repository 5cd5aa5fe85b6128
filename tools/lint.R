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
# exported in some releases of codetools, and in others not
check_usage <- utils::getFromNamespace("checkUsageNamespace", "codetools")
check_usage("vetusta", suppressLocalUnused = FALSE, suppressParamUnused = TRUE,
  report = function(text) usage <<- c(usage, text))
if (length(usage)) cat(usage, sep = "")
quit(status = as.integer(any(lengths(found) > 0) || length(usage) > 0))
