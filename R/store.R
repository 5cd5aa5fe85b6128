# What differs between the kinds of stores: each function here has a method for each of them. All
# else that a store does is a plain function over SQL (store-sql*.R). One specification of tests
# (tests/testthat/test-store.R) holds all of it. A store is handed keys and rows, and knows of no
# source, query or request.
#
# Times are seconds since 1970, by the store's clock. Rows of series are lists of columns with
# `time`, `known` and values, in order of both.

# The rows of series by their numbers, within a window, as they were known at an instant; `newest`
# leaves older releases out.
# Gives list(columns, rows): the columns of all of them, and how many rows each series has.
store_read <- function(store, series, from = -Inf, to = Inf, at = Inf,
  newest = TRUE) {
  UseMethod("store_read")
}

# Bars brought together to longer ones by the store itself, where it gives the same answer: NULL
# where it does not. First what there is in a window: first, last (times), `sessions` (whether rows
# say which they are of), `here`: the stretch whose rows are not all in the store's own place, and
# are read by whoever asks, or NULL.
store_outline <- function(store, series, from = -Inf, to = Inf, at = Inf) {
  UseMethod("store_outline")
}

#' @export
store_outline.default <- function(store, series, from = -Inf, to = Inf, at = Inf) NULL

# Neighbouring segments of fewer than `whole` rows become one, where there are many; of the series
# that were written since, where none are named.
store_settle <- function(store, series = NULL, whole = segment_whole) UseMethod("store_settle")

# The store's own clock, as a function: that of the server, where there is one.
store_clock <- function(store) UseMethod("store_clock")
store_now <- function(store) store_clock(store)()

# A token from limits, counted for all processes on the store by its own clock: list(id), or an
# empty list where there is no
# room; see limit_counter().
store_token_take <- function(store, source, limits, under_way, weight = 1) {
  UseMethod("store_token_take")
}

# Series (rows of the catalogue) and rows of whole datasets without series are taken out.
store_drop <- function(store, series, datasets) UseMethod("store_drop")

# Work as of one moment, and work that is done whole or not at all.
store_snapshot <- function(store, work) UseMethod("store_snapshot")
store_transaction <- function(store, work) UseMethod("store_transaction")
store_close <- function(store) UseMethod("store_close")

# Small segments are joined and room is given back; a copy as of one moment.
store_compact <- function(store) UseMethod("store_compact")
store_copy <- function(store, file) UseMethod("store_copy")

# What differs when something was written.
store_sign <- function(store) UseMethod("store_sign")

# The same store, opened anew for another process, to be read.
store_again <- function(store) UseMethod("store_again")

# How many bytes it takes; and a folder of this machine's for what comes in parts.
store_bytes <- function(store) UseMethod("store_bytes")
store_folder <- function(store) UseMethod("store_folder")

now_seconds <- function() as.numeric(Sys.time())

no_counts <- c(new = 0, changed = 0, unchanged = 0)
