# Pages that one statement writes, with their journal, what is covered, the place and the claim.

# The usual page of a series: rows after all that is held, nothing set aside. NULL where that cannot
# be.
sql_put_quick <- function(store, page) {
  parcel <- page$rows
  if (!is_plain_page(page) || isTRUE(store$inside)) {
    return(NULL)
  }
  rows <- sql_stamped(parcel$rows)
  n <- length(rows$time)
  if (!n || n > segment_rows || !is_plain_history(rows)) {
    return(NULL)
  }
  segment <- page_segment(NA, rows)
  put <- function() {
    segment$series <<- sql_series_ids(store, page, parcel$series)
    sql_put_page(store, page, segment)
  }
  held <- tryCatch({
    # a series that is made with this page is there with its rows or not at all
    if (sql_is_known(store, page, parcel$series)) put() else store_transaction(store, put)
    FALSE
  }, vetusta_error_archive = function(e) {
    if (grepl("times are held", e$what, fixed = TRUE)) TRUE
    else stop(e)
  })
  if (held) {
    return(NULL)
  }
  allowInterrupts(sql_gathered(store, segment$series))
  c(new = n, changed = 0, unchanged = 0)
}

# A page that begins with what is held, as a refresh asks for it: where all of that is as it was,
# only
# what lies behind it is written, in one statement. NULL where anything is otherwise.
sql_put_behind <- function(store, page) {
  parcel <- page$rows
  if (!is_plain_page(page) || isTRUE(store$inside)) {
    return(NULL)
  }
  rows <- unique_history(sql_stamped(parcel$rows))
  time <- as.numeric(rows$time)
  n <- length(time)
  # its number, its segments of these times, and whether rows of it are elsewhere, in one statement
  held <- sql_get(store, "SELECT g.id, s.id AS series, g.first, g.body,
      (SELECT 1 FROM moved m WHERE m.series = s.id LIMIT 1) AS away
    FROM series s LEFT JOIN segments g ON g.series = s.id AND g.first <= ? AND g.last >= ?
    WHERE s.source = ? AND s.dataset = ? AND s.key = ? AND s.frequency = ? ORDER BY g.first",
    list(time[n], time[1], page$source, page$dataset, parcel$series$key,
      parcel$series$frequency), often = TRUE)
  id <- held$series[1]
  if (!nrow(held) || is.na(held$id[1]) ||
    (!is.na(held$away[1]) && !is.null(sql_moved_rows(store, id, time[1], time[n])))) {
    return(NULL)
  }
  old <- sql_open_segments(store, held, newest = FALSE)$columns
  fresh <- time > max(as.numeric(old$time))
  counts <- counts_behind(old, rows, fresh) %||% merge_history(old, rows, page$now,
    parcel$finishes)$counts
  if (counts[["changed"]] > 0 || counts[["new"]] != sum(fresh) || !any(fresh)) {
    return(NULL)
  }
  segment <- page_segment(id, lapply(rows, `[`, which(fresh)))
  # another process may have written behind it meanwhile
  written <- tryCatch({
    sql_put_page(store, page, segment)
    TRUE
  }, vetusta_error_archive = function(e) {
    if (grepl("times are held", e$what, fixed = TRUE)) FALSE else stop(e)
  })
  if (written) {
    allowInterrupts(sql_gathered(store, id))
    counts
  }
}

# Rows of one series with their journal, and at most one of everything else.
is_plain_page <- function(page) {
  parcel <- page$rows
  inherits(parcel, "vetusta_parcel_series") && nrow(parcel$series) == 1 &&
    is.null(parcel$series$attributes) && !is.null(page$journal) && !NROW(page$faults) &&
    is.null(page$raw) && max(NROW(page$covered), length(page$notes), length(page$claims)) < 2
}

# A run of one series' rows as a block; each row has a time of its own.
page_segment <- function(series, rows) {
  n <- length(rows$time)
  ends <- as.numeric(rows$time[c(1, n)])
  list(series = series, first = ends[1], last = ends[2], held = n, times = n,
    body = list(block_write(rows, FALSE)))
}

# What a page is written from, in the order of the statement's places; what is not named is missing.
page_names <- c("run", "source", "dataset", "symbol", "asked", "seconds", "status", "bytes", "rows",
  "outcome", "address", "message", "series", "first", "last", "held", "times", "body", "cover",
  "start", "end", "kind", "place", "value", "call", "now")
page_absent <- c(lapply(stats::setNames(nm = setdiff(page_names, "body")), function(name) NA),
  list(body = list(NULL)))

page_places <- function(values) {
  places <- page_absent
  values <- values[lengths(values) > 0]
  places[names(values)] <- values
  unname(places[page_names])
}
