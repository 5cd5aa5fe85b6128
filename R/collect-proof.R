# When a window, a key or a selection is complete: the one rule for pages,
# exports, statistics and documents. `docs/faults.md` has it as a table.
#
# A chain of requests that has ended proves its window complete if nothing in
# its answers contradicts that. A contradiction is kept as a reason in words;
# the window then stays open, with its reasons, until a later run settles it
# (archive-incomplete.R).

# What the answers of a chain stated so far: the largest `total` and number of
# `pages`, the rows that `came`, and contradictions.
proof_make <- function() {
  list(total = NULL, pages = NULL, came = 0, against = character())
}

# Adds what another page states.
proof_add <- function(proof, page, number) {
  for (name in c("total", "pages")) {
    said <- c(proof[[name]], page$says[[name]])
    if (length(said)) proof[[name]] <- max(said)
  }
  if (!isTRUE(page$says$repeated)) proof$came <- proof$came + page$count
  against <- if (nrow(page$rejected)) {
    page_against(page, number)
  } else {
    page$says$against
  }
  if (length(against)) proof$against <- unique(c(proof$against, against))
  proof
}

# Contradictions within one page.
page_against <- function(page, number) {
  rows <- NROW(page$rows)
  rejected <- if (rows > 0 && length(unique(page$rejected$row)) == rows) {
    paste0(
      if (rows == 1) "the only row" else paste("all", thousands(rows), "rows"),
      " of page ", number, if (rows == 1) " was" else " were", " rejected: ",
      page$rejected$reason[1]
    )
  }
  c(page$says$against, rejected)
}

# Contradictions of a chain that ended with page `number`; empty where it is
# proven complete.
proof_against <- function(proof, number) {
  c(
    proof$against,
    if (length(proof$total) && proof$came < proof$total) {
      paste0(
        "the source's total is ", counted(proof$total, "row"), ", and ",
        thousands(proof$came), " came"
      )
    },
    if (length(proof$pages) && number < proof$pages) {
      paste0(
        "the source has ", counted(proof$pages, "page"), ", and page ",
        thousands(number), " was the last page"
      )
    }
  )
}

# Whether the source stated that the next page exists.
is_announced <- function(dataset, said) {
  by <- dataset$next_page$by %||% "none"
  if (by %in% c("url", "link", "cursor") || !is.null(said$more)) {
    return(TRUE)
  }
  if (!is.null(said$pages)) {
    said$number < said$pages
  } else {
    !is.null(said$total) && said$before + said$rows < said$total
  }
}

# Whether the source's count made the previous page the last.
is_beyond <- function(dataset, said) {
  if (!is.null(said$pages)) {
    said$number >= said$pages
  } else {
    !is.null(said$total) && said$before + said$rows >= said$total
  }
}

# Attempts for an announced page that is missing.
announced_tries <- 3

# An announced page without rows is requested again.
is_unlikely_empty <- function(chain, page) {
  counted <- length(page$says$pages) > 0
  (is.null(page$following) || counted) &&
    is.null(page$halt) &&
    chain$attempt < announced_tries &&
    (isTRUE(chain$announced) || isTRUE(page$says$total > chain$proof$came))
}

# The end of a chain whose window stays open: rows are stored and the reasons
# are noted.
collect_incomplete <- function(run, tally, chain, reasons, todo = NULL) {
  tally_failed(
    tally, query_failed(run$query, chain),
    paste0(
      "incomplete: ", redact(paste(reasons, collapse = "; "), run$secrets())
    ),
    todo %||% incomplete_todo, "incomplete", chain$planned$keys
  )
}

incomplete_todo <- "run it again: incomplete windows are requested again"

# An announced page that was refused: the chain ends here and its window stays
# open.
collect_cut_short <- function(run, tally, chain, response, reason) {
  journal_alone(run, chain, response, "incomplete", reason)
  notes <- incomplete_notes(
    run,
    chain,
    c(chain$proof$against, reason),
    cause = if (length(chain$proof$against)) "open" else "failed"
  )
  claim_over(run, chain, notes = notes)
  collect_incomplete(run, tally, chain, c(chain$proof$against, reason))
}

# The notes at the end of a chain: its window is open for `reasons`, or proven
# complete, which settles earlier notes.
incomplete_notes <- function(run, chain, reasons, rejected = 0,
                             cause = "open") {
  book <- run$sink$incomplete
  if (is.null(book)) {
    return(NULL)
  }
  if (length(reasons)) {
    book$open(
      query_place(run$query, chain), chain$label,
      redact(paste(reasons, collapse = "; "), run$secrets()), cause
    )
  } else {
    book$settle(query_place(run$query, chain), chain$label, rejected)
  }
}

# A hash of how the card reads rows. When it changes, rejected rows are
# requested again.
reading_hash <- function(query) {
  parts <- unclass(query$dataset)[reading_words]
  parts <- c(parts[lengths(parts) > 0], list(zone = query$source$zone))
  content_hash(
    charToRaw(
      as.character(jsonlite::toJSON(parts, auto_unbox = TRUE, digits = NA))
    )
  )
}

reading_words <- c(
  "shape", "rows", "columns", "form", "format", "table", "within", "unpack",
  "sides", "lookup", "only", "wrapped", "bar_time", "nothing"
)

# Covered and not open ranges of a dataset, under the current card.
covered_now <- function(archive, query, keys = NULL) {
  if (isTRUE(query$again)) {
    return(no_coverage)
  }
  covered_less(
    store_covered(archive, query$source$source, query$dataset$name, keys),
    open_of(archive, query)
  )
}

# Covered ranges of bars: symbol, start, end, of a query's interval and of its
# session or all sessions. They may be of symbols that it does not ask for.
covered_symbols <- function(query, archive) {
  sessions <- unique(c(query$session, "all"))
  endings <- bars_cover_key("", query$interval$iso, sessions)
  few <- store_covered_few(
    archive, query$source$source, query$dataset$name,
    length(sessions) * length(query$symbols)
  )
  covered <- covered_now(
    archive, query, if (few) bars_cover_keys(query$symbols, query)
  )
  covered$symbol <- rep(NA_character_, nrow(covered))
  for (ending in endings) {
    at <- which(endsWith(covered$key, ending))
    key <- covered$key[at]
    covered$symbol[at] <- substr(key, 1, nchar(key) - nchar(ending))
  }
  other <- is.na(covered$symbol)
  if (any(other)) covered[!other, , drop = FALSE] else covered
}

# Open windows of a query's dataset, read once while planning.
open_of <- function(archive, query) {
  if (!is.null(query$open)) {
    return(query$open)
  }
  incomplete_read(
    archive, query$source$source, query$dataset$name, reading_hash(query)
  )
}

# Open windows of a query, with the requests of its plan.
open_of_requests <- function(archive, query, requests) {
  open <- if (!is.null(archive)) open_of(archive, query)
  if (!NROW(open) || !nrow(requests)) {
    return(no_open)
  }
  chains <- lapply(
    seq_len(nrow(requests)), function(i) query_chain(query, requests[i, ])
  )
  hit <- lapply(
    chains, function(chain) incomplete_touches(open, query_place(query, chain))
  )
  open[Reduce(`|`, hit), , drop = FALSE]
}

no_open <- incomplete_parse(
  data.frame(key = character(), value = character(), at = numeric()),
  character(), character()
)

# Contradictions between a page and what the service announced.

# The largest number of rows that an answer states, in its body or as a range of
# items.
page_total <- function(reported, response) {
  most <- c(reported$total, items_total(response))
  if (length(most)) max(most)
}

# HTTP 206 means that more follows, unless its range ends at the total.
partial_against <- function(response, following) {
  if (length(following)) {
    return(NULL)
  }
  range <- content_range(response)
  if (is.null(range$total) || range$to + 1 < range$total) {
    paste0(
      "HTTP 206: the answer is partial",
      if (!is.null(range$total)) {
        paste0(
          ", which ends at ", range$to, " of ", range$total, " ", range$unit
        )
      }
    )
  }
}

# A full answer without pages, whose window may contain more rows.
full_against <- function(chain, page, run) {
  if (isTRUE(page$full) &&
    !window_full(chain, page, run) &&
    !window_dense(chain, page, run)) {
    paste0(
      "the answer has ", counted(page$count, "row"),
      ", the most that an answer can have: some may be missing"
    )
  }
}

# A page that the source counted is empty, or did not come.
empty_against <- function(chain, reported, bare) {
  if (isTRUE(chain$announced) && (bare || length(reported$pages))) {
    paste0("page ", chain$page, ", which the source announced, has no rows")
  }
}

# A repeated page may be the last one, where a service sends that for any higher
# number. A repeated first page means that the service ignores the page
# parameter.
repeated_against <- function(chain, hash, reported, dataset) {
  last_again <- chain$page > 2 &&
    identical(hash, chain$hashes[length(chain$hashes)])
  counted <- (dataset$next_page$by %||% "none") %in% c("page", "offset", "time")
  if (counted &&
    (last_again || reported$rows < (dataset$largest_page %||% 0))) {
    return(NULL)
  }
  paste0("page ", chain$page, " has the rows of a page before it")
}

others_against <- function(symbols, others) {
  paste0("asked for ", few_words(symbols), ", and ", few_words(others), " came")
}

few_words <- function(words, most = 3) {
  paste0(
    paste(utils::head(words, most), collapse = ", "),
    if (length(words) > most) paste(" and", length(words) - most, "more")
  )
}

# An answer without pages that has as many rows as an answer can have.
answer_is_full <- function(dataset, page) {
  is.null(dataset$job) &&
    (dataset$next_page$by %||% "none") == "none" &&
    !is.null(dataset$largest_page) &&
    page$rows >= dataset$largest_page
}

# Identifies a page by its number of rows and its first and last ones.
page_hash <- function(decoded) {
  few <- min(3, decoded$rows)
  ends <- unique(
    c(seq_len(few), seq(max(1, decoded$rows - 2), length.out = few))
  )
  if (decoded$rows > 0) {
    cli::hash_raw_md5(
      serialize(c(decoded$rows, lapply(decoded$columns, `[`, ends)), NULL)
    )
  }
}

# The oldest and newest time of a page; NULL without rows.
time_edges <- function(time) {
  seconds <- finite_seconds(
    if (inherits(time, "POSIXct")) {
      time
    } else if (inherits(time, "Date")) {
      as.numeric(time) * 86400
    }
  )
  if (length(seconds)) utc(ends_of(seconds))
}

finite_seconds <- function(time) {
  time <- as.numeric(time)
  known <- is.finite(time)
  if (all(known)) time else time[known]
}
