# Generics with a method for each kind of store. All else that a store does is a
# plain function over SQL (store-sql*.R). One specification of tests
# (tests/testthat/test-store.R) covers all of it. A store is given keys and
# rows, and knows no source, query or request.
#
# Times are seconds since 1970, by the store's clock. Rows of series are lists
# of columns with `time`, `known` and values, in order of both.

# The rows of series by number, within a window, as they were known at an
# instant; `newest` leaves older releases out. Returns list(columns, rows): the
# columns of all of them, and the number of rows of each series.
store_read <- function(store, series, from = -Inf, to = Inf, at = Inf,
                       newest = TRUE) {
  UseMethod("store_read")
}

# Bars resampled by the store, where it gives the same answer; otherwise NULL.
# First the contents of a window: first, last (times), `sessions` (whether rows
# state their session), `here`: the range that has rows outside the store's main
# place, which the caller reads, or NULL.
store_outline <- function(store, series, from = -Inf, to = Inf, at = Inf) {
  UseMethod("store_outline")
}

#' @export
store_outline.default <- function(store, series, from = -Inf, to = Inf,
                                  at = Inf) {
  NULL
}

# Joins neighbouring segments with fewer than `whole` rows, where there are
# many; by default of the series written since the last settling.
store_settle <- function(store, series = NULL, whole = segment_whole) {
  UseMethod("store_settle")
}

# The store's clock: the server's, if there is one.
store_now <- function(store) store$now()

# A token from limits, counted for all processes on the store by its clock:
# list(id, at), `at` when it was taken, or an empty list where the limit is
# reached; see limit_counter().
store_token_take <- function(store, source, limits, under_way, weight = 1) {
  UseMethod("store_token_take")
}

# Removes series (rows of the catalogue) and rows of whole datasets without
# series.
store_drop <- function(store, series, datasets) UseMethod("store_drop")

# Work at one moment, and work that is done as a whole or not at all.
store_snapshot <- function(store, work) UseMethod("store_snapshot")
store_transaction <- function(store, work) UseMethod("store_transaction")
store_close <- function(store) UseMethod("store_close")

# Joins small segments and frees space; copies the archive as of one moment.
store_compact <- function(store) UseMethod("store_compact")
store_copy <- function(store, file) UseMethod("store_copy")

# A value that changes with every write.
store_sign <- function(store) UseMethod("store_sign")

# The same store opened again for another process, to read.
store_again <- function(store) UseMethod("store_again")

# The store's size in bytes; and a folder of this machine for partial downloads.
store_bytes <- function(store) UseMethod("store_bytes")
store_folder <- function(store) UseMethod("store_folder")

# The present in seconds. For a rehearsal VETUSTA_TODAY is another one: a day
# (at this hour) or an instant (when the process first asks).
now_seconds <- function() {
  today <- Sys.getenv("VETUSTA_TODAY")
  now <- as.numeric(Sys.time())
  if (nzchar(today)) now + clock_shift(today, now) else now
}

now_time <- function() utc(now_seconds())

clock_shifts <- new.env(parent = emptyenv())

clock_shift <- function(today, now) {
  shift <- clock_shifts[[today]]
  if (is.null(shift)) {
    day <- read_day(today)
    shift <- if (!is.na(day)) {
      (as.numeric(day) - floor(now / 86400)) * 86400
    } else {
      as.numeric(read_rfc3339(today)) - now
    }
    if (is.na(shift)) {
      vetusta_stop(
        "argument",
        paste0("VETUSTA_TODAY cannot be \"", today, "\"."),
        todo = "set it to a day or an instant, as 2026-03-27, or unset it"
      )
    }
    assign(today, shift, envir = clock_shifts)
  }
  shift
}

no_counts <- c(new = 0, changed = 0, unchanged = 0)
