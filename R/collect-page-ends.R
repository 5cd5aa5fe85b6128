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
