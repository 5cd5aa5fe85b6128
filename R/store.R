# What a store of an archive can do. Each function here has a method for every kind of store, and
# one specification of tests
# (tests/testthat/test-store.R) that all of them pass. A store is handed keys and rows, and knows
# of no source, want or call.
#
# Times are seconds since 1970, by the store's clock. Rows of series are lists of columns with
# `time`, `since` and
# values, in order of time and since.

# A page: its rows, its row in the journal, the faults, and the place that was reached, all of it
# or nothing. A page is a list of
#   source, dataset, shape   where its rows belong
#   rows                     a parcel of rows, see parcel_series(), parcel_frame(),
#                            parcel_records(), or NULL
#   journal                  the journal's row, or NULL
#   faults                   a data frame of rows that were set aside, see no_page_faults
#   covered                  a data frame of key, start, end: stretches that are held whole now
#   notes                    a list of notes to set, each list(kind, key, value) with NULL as
#                            value for one to forget
#   raw                      the page as it came: a list of hash, about and body
#   listing                  list(call, page, last): the page lists what there is; see where
#                            listing_put() is made
#   again                    whether it begins with what is held, and most of it is as it was
#   claims                   names of claims that have come to their end
#   now                      when it came
# Gives c(new, changed, unchanged), and `gone` where some are not listed any more: how many rows.
store_put <- function(store, page) UseMethod("store_put")

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

# Then the rows but those within the stretch `without`, by series (their place) and bucket. `cells`
# has the number and the bucket of cells of `unit` microseconds, counted from `origin`, and which of
# them are the lowest and the highest of all (the one after the last). Gives columns: series,
# bucket, count, first, last (times), open, high, low, close, volume, value and weight (of the
# closes, by volume), own_value, own_weight and own_count (of the bars' own means), provisional.
store_regroup <- function(store, series, from, to, at, cells, without, sessions = NULL) {
  UseMethod("store_regroup")
}

# The catalogue of series: id, source, dataset, shape, key, frequency, dimensions (JSON), and with
# `sizes` also rows, first, last
# (times), bytes.
store_series <- function(store, source = NULL, dataset = NULL, sizes = FALSE, shape = NULL) {
  UseMethod("store_series")
}

# What is said of series as known at an instant: a JSON object of texts each, or NA.
store_attributes <- function(store, series, at = Inf) UseMethod("store_attributes")

# Neighbouring segments of fewer than `whole` rows become one, where there are many; of the series
# that were written since, where none are named.
store_settle <- function(store, series = NULL, whole = segment_whole) UseMethod("store_settle")

# Rows without time: list of texts (JSON objects), in the order in which their keys first came, as
# known at an instant; and the
# types of their columns.
store_records <- function(store, source, dataset, at = Inf) UseMethod("store_records")

# Records of some keys get a day in a column that does not have one yet: they stay, and are no more.
store_records_close <- function(store, source, dataset, keys, column, day, now) {
  UseMethod("store_records_close")
}

# The frames of a dataset as known at an instant: the newest of each place, or with `all` every
# one: data frame of at, body.
store_frames <- function(store, source, dataset, at = Inf, all = FALSE) UseMethod("store_frames")

# Which datasets have rows without a series: source, dataset, shape, rows, changed, seen.
store_datasets <- function(store) UseMethod("store_datasets")

# Which stretches are held whole: key, start, end; of some keys or of all of a dataset.
store_covered <- function(store, source, dataset, keys = NULL) UseMethod("store_covered")

# Notes: what is known of calls by their kind ("reached", "job", "round", "asked", "refreshed") and
# key: key, at, value; of several kinds with `kind`, and without a source of all sources, with
# `source` and `dataset`.
store_notes <- function(store, kind, source = NULL, dataset = NULL, key = NULL) {
  UseMethod("store_notes")
}
store_note <- function(store, kind, source, dataset, key, value = NA_character_,
  at = store_now(store)) {
  UseMethod("store_note")
}
store_forget <- function(store, kind, source, dataset, key) UseMethod("store_forget")

# The store's own clock: that of the server, where there is one.
store_now <- function(store) UseMethod("store_now")

# A collector says that it goes on, and what it is at; and who all of them are: host, process,
# began, started, seen, lease, doing, calls (which it claims), gone.
store_beat <- function(store, doing) UseMethod("store_beat")
store_collectors <- function(store) UseMethod("store_collectors")

# Who is at a call: "ours", "taken" by another process, or "done" by one since an instant.
store_claim <- function(store, call, since) UseMethod("store_claim")
store_claim_done <- function(store, call) UseMethod("store_claim_done")
store_claims_release <- function(store, calls) UseMethod("store_claims_release")

# A token from limits, counted for all processes on the store by its own clock: list(id), or an
# empty list where there is no
# room; see limit_counter().
store_token_take <- function(store, source, limits, under_way, weight = 1) {
  UseMethod("store_token_take")
}
store_token_made <- function(store, id, at) UseMethod("store_token_made")
store_tokens <- function(store, source, since = -1e18) UseMethod("store_tokens")
store_tokens_forget <- function(store, source, before) UseMethod("store_tokens_forget")

# The journal and the faults, oldest first.
store_journal <- function(store) UseMethod("store_journal")
store_journal_add <- function(store, entry) UseMethod("store_journal_add")
store_faults <- function(store) UseMethod("store_faults")
# How many bytes the newest stored pages of a dataset had.
store_page_bytes <- function(store, source, dataset) UseMethod("store_page_bytes")

# Pages as they came: which there are, and one of them.
store_raw <- function(store, source, dataset) UseMethod("store_raw")
store_raw_body <- function(store, journal) UseMethod("store_raw_body")

# Structures of statistics with their validators.
store_structure <- function(store, source, address) UseMethod("store_structure")
store_structure_put <- function(store, source, address, etag, modified,
  body) {
  UseMethod("store_structure_put")
}
store_structure_touch <- function(store, source, address) UseMethod("store_structure_touch")

# Series (rows of the catalogue) and rows of whole datasets without series are taken out.
store_drop <- function(store, series, datasets) UseMethod("store_drop")

# Work as of one moment, and work that is done whole or not at all.
store_snapshot <- function(store, work) UseMethod("store_snapshot")
store_transaction <- function(store, work) UseMethod("store_transaction")
store_close <- function(store) UseMethod("store_close")

# The store's own care: findings (a data frame of what, where, finding, lost); small segments joined
# and room given back; a copy as of one moment; whether a collector is at it.
store_check <- function(store) UseMethod("store_check")
store_compact <- function(store) UseMethod("store_compact")
store_copy <- function(store, file) UseMethod("store_copy")
store_in_use <- function(store) UseMethod("store_in_use")

# What differs when something was written.
store_sign <- function(store) UseMethod("store_sign")

# The same store, opened anew for another process, to be read.
store_again <- function(store) UseMethod("store_again")

# How many bytes it takes; and a folder of this machine's for what comes in parts.
store_bytes <- function(store) UseMethod("store_bytes")
store_folder <- function(store) UseMethod("store_folder")

now_seconds <- function() as.numeric(Sys.time())

no_counts <- c(new = 0, changed = 0, unchanged = 0)
