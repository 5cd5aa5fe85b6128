# Lints all files side by side on the machine's cores; prints what it finds, and ends with 1 where there is any.
files <- setdiff(list.files(c("R", "tests/testthat"), "[.]R$", full.names = TRUE), "R/RcppExports.R")
found <- parallel::mclapply(files, lintr::lint, mc.cores = max(1L, parallel::detectCores()), mc.preschedule = FALSE)
for (one in found) if (length(one)) print(one)
quit(status = as.integer(any(lengths(found) > 0)))
