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
  ends <- as.numeric(rows$time[c(1, n)])
  body <- list(block_write(rows, FALSE))
  id <- NULL
  put <- function() {
    id <<- sql_series_ids(store, page, parcel$series)
    sql_put_page(store, page, list(id, ends[1], ends[2], n, n, body))
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
  allowInterrupts(sql_gathered(store, id))
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
  fresh <- which(fresh)
  n <- length(fresh)
  segment <- list(id, time[fresh[1]], time[fresh[n]], n, n, list(block_write(lapply(rows, `[`,
    fresh), FALSE)))
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

no_segment <- list(NA_integer_, NA_real_, NA_real_, NA_integer_, NA_integer_, list(NULL))
