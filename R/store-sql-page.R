# Pages that one statement writes, and its values.

# Rows of one series with their journal row, and at most one of everything else.
is_plain_page <- function(page) {
  parcel <- page$rows
  inherits(parcel, "vetusta_parcel_series") &&
    nrow(parcel$series) == 1 &&
    is.null(parcel$series$attributes) &&
    !is.null(page$journal) &&
    !NROW(page$rejected) &&
    is.null(page$raw) &&
    max(NROW(page$covered), length(page$notes), length(page$claims)) < 2
}

# Rows of one series as a block; each has a time of its own. `all`: these are
# all rows that came, in their order.
page_segment <- function(series, rows, page, all = FALSE) {
  n <- length(rows$time)
  ends <- as.numeric(rows$time[c(1, n)])
  c(
    list(
      series = series,
      first = ends[1],
      last = ends[2],
      row_count = n,
      times = n,
      body = list(block_write(rows, FALSE))
    ),
    if (all &&
      is.null(page$origin$at) &&
      !is.null(page$origin$base) &&
      isTRUE(page$origin$rows == n)) {
      # in order from the first, which is number 0 of an array
      first <- if (endsWith(page$origin$base, "/")) 0 else 1
      list(
        rows_at = paste0(page$origin$base, "|", first, "-", n - 1 + first),
        hash = page$origin$hash %||% NA_character_
      )
    } else {
      origin_values(page, rows)
    }
  )
}

# The values of the statement, in order; missing ones are NA.
page_names <- c(
  "run", "source", "dataset", "symbol", "asked", "seconds", "status", "bytes",
  "rows", "outcome", "url", "message", "series", "first", "last", "row_count",
  "times", "body", "cover", "start", "end", "kind", "place", "value",
  "request", "now", "shape", "key", "frequency", "dimensions", "rows_at", "hash"
)
page_absent <- c(
  lapply(stats::setNames(nm = setdiff(page_names, "body")), function(name) NA),
  list(body = list(NULL))
)

page_places <- function(page, segment) {
  covered <- page$covered
  # one statement writes at most one note and one claim
  alone <- !is.null(segment)
  note <- if (alone && length(page$notes)) page$notes[[1]]
  claim <- if (alone && length(page$claims)) page$claims[[1]]
  values <- c(
    page$journal[journal_columns], segment,
    list(
      cover = covered$key[1], start = covered$start[1], end = covered$end[1],
      kind = note$kind, place = note$key, value = note$value, request = claim,
      now = page$now
    )
  )
  values <- values[lengths(values) > 0]
  places <- page_absent
  places[names(values)] <- values
  unname(places[page_names])
}
