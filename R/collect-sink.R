# A sink is the destination of pages and decides whether a request may be made.
# The archive's sink claims and counts requests, writes the journal and stores
# each page in one transaction; the memory's sink returns pages. No other code
# asks which one it is.
#
# counter      counts requests within the limits, see limit_counter()
# claim        makes a claim: "ours", "taken", "done"
# ending       the claim that ends with this request
# noted        notes of earlier runs about a request, by kind and key
# forget       removes such a note
# covered      covered ranges of keys
# incomplete   open windows, see incomplete_book(); NULL without an archive
# catalogue    the series of the dataset
# stored       the newest rows of some series
# journal      a row of the journal without a page
# put          stores a page: returns c(new, changed, unchanged)
# note         a single note
# ended        ends a request without a page: its claim, notes and coverage
# round_begin  begins a round of requests without a window; round_end ends it
# settle       joins small segments at the end of a run
# release      releases the claims of a run
# now          the clock of the destination
# beat         a sign that the run is alive
# rank         the number of running collectors of the dataset that began before
# listed       the number of entries that all requests list, and of different
#              ones
# due          seconds until waiting pages are written; 0 writes them
# wrong        the error in the counts of such pages
archive_sink <- function(archive, query, keep_raw = FALSE, gather = 1) {
  source <- query$source$source
  dataset <- query$dataset$name
  claims <- new.env(parent = emptyenv())
  # a second is far below any lease
  beats <- new.env(parent = emptyenv())
  beats$due <- -Inf
  ending <- function(name) {
    if (is.null(name)) {
      return(NULL)
    }
    claims[[name]] <- (claims[[name]] %||% 1) - 1
    if (claims[[name]] <= 0) name
  }
  types <- dataset_types(query$dataset)
  clock <- archive$now
  # waiting pages are written before anything else is read or written
  settled <- function() {
    store_gathered(archive)
    archive
  }
  whole <- function(page) {
    c(
      list(
        source = source, dataset = dataset, shape = query$dataset$shape,
        types = types
      ),
      page
    )
  }
  incomplete <- incomplete_book(archive, source, dataset, reading_hash(query))
  list(
    counter = source_counter(
      query$source, archive, request_weight(query$dataset)
    ),
    keep_raw = keep_raw,
    folder = store_folder(archive),
    claim = function(name, since, keys = NULL) {
      if (name %in% archive$later$claims) store_gathered(archive)
      verdict <- store_claim(
        archive, name, since,
        if (length(keys)) list(source = source, dataset = dataset, keys = keys)
      )
      if (verdict == "ours") claims[[name]] <- (claims[[name]] %||% 0) + 1
      verdict
    },
    ending = ending,
    noted = function(kind, key) {
      notes <- store_notes(settled(), kind, source, dataset, key)
      if (nrow(notes)) list(at = notes$at, value = notes$value)
    },
    now = clock,
    beat = function() {
      if (as.numeric(Sys.time()) < beats$due) {
        return(invisible())
      }
      store_beat(archive, paste(source, dataset))
      beats$due <- as.numeric(Sys.time()) + 1
    },
    rank = function() store_rank(archive, paste(source, dataset)),
    note = function(kind, key, value = NA_character_, at = clock()) {
      store_note(settled(), kind, source, dataset, key, value, at)
    },
    forget = function(kind, key) {
      store_forget(settled(), kind, source, dataset, key)
    },
    covered = function(keys) {
      covered_less(
        store_covered(archive, source, dataset, keys), incomplete$now()
      )
    },
    incomplete = incomplete,
    catalogue = function() store_series(settled(), source, dataset),
    stored = function(ids) store_read(settled(), ids),
    journal = function(entry) {
      store_journal_add(
        settled(), c(entry, list(source = source, dataset = dataset))
      )
    },
    put = function(page, came) {
      page$journal[c("source", "dataset")] <- list(source, dataset)
      store_put(archive, whole(page), gather)
    },
    ended = function(page) store_put(archive, whole(page)),
    has_bars = function(symbols, interval) {
      series <- store_series(settled(), source, dataset, sizes = TRUE)
      symbols %in%
        series_dimensions(series[series$frequency == interval, ])[["symbol"]]
    },
    round_begin = function(round) {
      begun <- !is.null(round) &&
        nrow(store_notes(settled(), "round", source, dataset, round))
      if (!is.null(round) && !begun) {
        store_note(archive, "round", source, dataset, round)
      }
    },
    round_end = function(round) {
      if (!is.null(round)) {
        store_forget(settled(), "round", source, dataset, round)
      }
    },
    settle = function() store_settle(settled(), NULL),
    release = function() {
      store_claims_release(settled(), ls(claims, all.names = TRUE))
    },
    listed = function() listing_counts(settled(), source, dataset),
    due = function() {
      due <- later_due(archive)
      if (due > 0) {
        return(due)
      }
      store_gathered(archive)
      Inf
    },
    wrong = function() {
      if (length(archive$later$wrong)) later_wrong(archive, source, dataset)
    }
  )
}

# Returns pages as they come and knows nothing of earlier runs.
memory_sink <- function(query) {
  out <- list()
  nothing <- function(...) NULL
  list(
    counter = source_counter(
      query$source,
      weight = request_weight(query$dataset)
    ),
    keep_raw = FALSE,
    folder = tempfile("parts"),
    now = now_seconds,
    beat = nothing,
    rank = function() 0,
    claim = function(...) "ours",
    ending = nothing,
    noted = nothing,
    note = nothing,
    forget = nothing,
    covered = function(keys) no_coverage,
    journal = nothing,
    put = function(page, came) {
      out[[length(out) + 1]] <<- came
      no_counts
    },
    ended = nothing,
    has_bars = function(symbols, interval) rep(FALSE, length(symbols)),
    round_begin = nothing,
    round_end = nothing,
    settle = nothing,
    release = nothing,
    listed = nothing,
    due = function() Inf,
    wrong = nothing,
    waiting = function() length(out),
    take = function() {
      page <- out[[1]]
      out <<- out[-1]
      page
    }
  )
}

no_coverage <- data.frame(key = character(), start = numeric(), end = numeric())

# Counts requests in the archive where there is one, for all its processes.
source_counter <- function(source, archive = NULL, weight = 1) {
  limit_counter(
    source$limits,
    if (is.null(archive)) {
      limit_memory()
    } else {
      list(
        take = function(windows, under_way, weight) {
          store_token_take(archive, source$source, windows, under_way, weight)
        },
        made = function(id, at) store_token_made(archive, id, at),
        now = archive$now,
        travel = function(...) store_travel(archive, source$source, ...),
        requests = function(since) store_tokens(archive, source$source, since),
        forget = function(before) {
          store_tokens_forget(archive, source$source, before)
        }
      )
    },
    weight
  )
}
