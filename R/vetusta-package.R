#' Vetusta: collect, align and mend market prices and economic statistics
#'
#' The functions follow the order of the work: describe an API once
#' ([source_card()]), make a query ([query_bars()]), plan its requests
#' ([plan_requests()]), collect ([collect_run()]) into an archive
#' ([archive_open()]), read ([archive_read()]), resample ([bars_resample()]),
#' find gaps ([series_gaps()]) and draw ([figure_candles()]).
#'
#' The vignettes show the work from end to end, offline, on invented services:
#' `vignette("morning-round", "vetusta")`, `vignette("new-api", "vetusta")` (a
#' new API in ten minutes), `vignette("basin-statistics", "vetusta")` (by name,
#' and as known), `vignette("complete-series", "vetusta")` (from gaps to a
#' complete series), `vignette("one-axis", "vetusta")` (prices, statistics and
#' rivers on one axis) and `vignette("high-water-payoff", "vetusta")` (season,
#' noise, paths, and the value of a payoff).
#'
#' Every error is a condition of the class `vetusta_error` and of its own kind,
#' such as `vetusta_error_argument`; its fields `what`, `where` and `todo` state
#' the problem, its place, and the next step.
#'
#' @keywords internal
#' @useDynLib vetusta, .registration = TRUE
"_PACKAGE"

# Other packages are loaded on first use, so that short commands start fast.
.datatable.aware <- TRUE

# Compiled code needs Rcpp, which loads slowly: it is loaded with the first
# compiled function.
.onLoad <- function(libname, pkgname) {
  here <- parent.env(environment())
  for (name in grep("^_vetusta_", ls(here, all.names = TRUE), value = TRUE)) {
    on_first_request(name, get(name, here), here)
  }
}

on_first_request <- function(name, routine, where) {
  force(routine)
  delayedAssign(
    name,
    {
      # naming a function of it loads it
      Rcpp::evalCpp
      routine
    },
    assign.env = where
  )
}

# Users who attach the package look at tables, and tibbles print as such once
# their package is loaded.
.onAttach <- function(libname, pkgname) {
  tibble::is_tibble(NULL)
}

.onUnload <- function(libpath) {
  library.dynam.unload("vetusta", libpath)
}

# data.table's own way of reading brackets
utils::globalVariables(c(".SD", ".N"))
