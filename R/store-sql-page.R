# Pages that one statement writes: newer than all stored rows of their series.

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
    origin_values(page, rows, all)
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

# The usual page of a series: rows after all stored ones, nothing rejected. NULL
# for other pages.
sql_put_quick <- function(store, page) {
  segment <- sql_quick_segment(store, page)
  if (is.null(segment)) {
    return(NULL)
  }
  if (sql_wrote_new(sql_put_page(store, page, segment))) {
    allowInterrupts(sql_page_gathered(store, page))
    c(new = segment$row_count, changed = 0, unchanged = 0)
  }
}

# Whether a statement wrote its pages: not where rows of these times are stored.
sql_wrote_new <- function(write) {
  tryCatch(
    {
      write
      TRUE
    },
    vetusta_error_archive = function(e) {
      if (grepl("times are stored", e$what, fixed = TRUE)) FALSE else stop(e)
    }
  )
}

sql_page_gathered <- function(store, page) {
  series <- page$rows$series
  name <- sql_series_names(page, series)
  sql_gathered(store, name, sql_series_ids(store, page, series, name))
}

# The segment of such a page; NULL for other pages.
sql_quick_segment <- function(store, page) {
  parcel <- page$rows
  if (!is_plain_page(page) || isTRUE(store$inside)) {
    return(NULL)
  }
  rows <- sql_stamped(parcel$rows)
  n <- length(rows$time)
  if (!n || n > segment_rows || !is_plain_history(rows)) {
    return(NULL)
  }
  segment <- page_segment(
    sql_known_ids(store, sql_series_names(page, parcel$series)), rows, page,
    all = TRUE
  )
  # the series is created or found with its page
  if (is.na(segment$series)) {
    segment <- c(
      segment,
      list(
        shape = page$shape,
        key = parcel$series$key,
        frequency = parcel$series$frequency,
        dimensions = parcel$series$dimensions
      )
    )
  }
  segment
}

# A page that begins with stored rows, as a refresh requests it: if all of those
# are unchanged, only later rows are written, in one statement. NULL otherwise.
sql_put_behind <- function(store, page) {
  parcel <- page$rows
  if (!is_plain_page(page) || isTRUE(store$inside)) {
    return(NULL)
  }
  rows <- unique_history(sql_stamped(parcel$rows))
  time <- as.numeric(rows$time)
  n <- length(time)
  # its number, its segments of these times, and whether rows are stored
  # elsewhere, in one statement
  segments <- sql_get(
    store,
    "SELECT g.id, s.id AS series, g.first, g.body,
      (SELECT 1 FROM moved m WHERE m.series = s.id LIMIT 1) AS away
    FROM series s LEFT JOIN segments g ON g.series = s.id AND g.first <= ? AND
    g.last >= ? WHERE s.source = ? AND s.dataset = ? AND s.key = ? AND
    s.frequency = ? ORDER BY g.first",
    list(
      time[n], time[1], page$source, page$dataset, parcel$series$key,
      parcel$series$frequency
    ),
    often = TRUE
  )
  id <- segments$series[1]
  if (!nrow(segments) ||
    is.na(segments$id[1]) ||
    (!is.na(segments$away[1]) &&
      !is.null(sql_moved_rows(store, id, time[1], time[n])))) {
    return(NULL)
  }
  old <- sql_open_segments(store, segments, newest = FALSE)$columns
  fresh <- time > max(as.numeric(old$time))
  counts <- counts_behind(old, rows, fresh) %||%
    merge_history(old, rows, page$now, parcel$finishes)$counts
  if (counts[["changed"]] > 0 || counts[["new"]] != sum(fresh) || !any(fresh)) {
    return(NULL)
  }
  segment <- page_segment(id, lapply(rows, `[`, which(fresh)), page)
  # another process may have written later rows meanwhile
  if (sql_wrote_new(sql_put_page(store, page, segment))) {
    allowInterrupts(
      sql_gathered(store, sql_series_names(page, parcel$series), id)
    )
    counts
  }
}

# Gathered pages: up to a number of pages, or a fifth of a second, are written
# in one transaction. Nothing of them is stored before, so a killed process
# requests them again.

later_rows <- 1000L
later_seconds <- 0.2

# Whether a page may wait: FALSE where it must be written at once.
sql_put_later <- function(store, page) {
  if (isTRUE(page$again) || length(page$rows$rows$time) > later_rows) {
    return(FALSE)
  }
  segment <- sql_quick_segment(store, page)
  if (is.null(segment)) {
    return(FALSE)
  }
  later <- store$later
  if (!length(later$pages)) later$since <- as.numeric(Sys.time())
  later$pages[[length(later$pages) + 1L]] <-
    list(page = page, values = page_places(page, segment))
  later$claims <- c(later$claims, page$claims)
  TRUE
}

# Seconds until waiting pages must be written; Inf without any.
later_due <- function(store) {
  if (!length(store$later$pages)) {
    return(Inf)
  }
  max(0, store$later$since + later_seconds - as.numeric(Sys.time()))
}

# Writes the waiting pages. Where rows of a page are stored already, each page
# is written alone, and the correction of its counts is added to `wrong`.
store_gathered <- function(store) {
  pages <- store$later$pages
  if (!length(pages)) {
    return(invisible())
  }
  store$later$pages <- list()
  store$later$claims <- character()
  together <- length(pages) > 1 &&
    sql_wrote_new(suspendInterrupts(store_transaction(store, function() {
      places <- lapply(seq_along(page_names), function(i) {
        parts <- lapply(pages, function(entry) entry$values[[i]])
        if (page_names[i] == "body") {
          unlist(parts, recursive = FALSE)
        } else {
          unlist(parts)
        }
      })
      sql_page_in(store, places)
    })))
  for (entry in pages) {
    if (together) {
      sql_page_gathered(store, entry$page)
    } else {
      counts <- sql_put_now(store, entry$page)
      counts[["new"]] <- counts[["new"]] - length(entry$page$rows$rows$time)
      of <- paste(entry$page$source, entry$page$dataset, sep = "\r")
      wrong <- store$later$wrong[[of]] %||% no_counts
      store$later$wrong[[of]] <- wrong + counts[names(no_counts)]
    }
  }
  # overlapping rows will come again, so gathering is of no use
  if (!together && length(pages) > 1) store$gathers <- FALSE
  invisible()
}

# The correction of the counts of a dataset's gathered pages since the last
# call.
later_wrong <- function(store, source, dataset) {
  of <- paste(source, dataset, sep = "\r")
  wrong <- store$later$wrong[[of]] %||% no_counts
  store$later$wrong[[of]] <- NULL
  wrong
}
