# Pages newer than all stored rows of their series, in one statement.

# The usual page of a series: rows after all stored ones, nothing rejected. NULL
# for other pages.
sql_put_quick <- function(store, page) {
  segment <- sql_quick_segment(store, page)
  if (is.null(segment)) {
    return(NULL)
  }
  written <- tryCatch(
    {
      sql_put_page(store, page, segment)
      FALSE
    },
    vetusta_error_archive = function(e) {
      if (grepl("times are stored", e$what, fixed = TRUE)) TRUE else stop(e)
    }
  )
  if (written) {
    return(NULL)
  }
  allowInterrupts(sql_page_gathered(store, page))
  c(new = segment$row_count, changed = 0, unchanged = 0)
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
  written <- tryCatch(
    {
      sql_put_page(store, page, segment)
      TRUE
    },
    vetusta_error_archive = function(e) {
      if (grepl("times are stored", e$what, fixed = TRUE)) FALSE else stop(e)
    }
  )
  if (written) {
    allowInterrupts(
      sql_gathered(store, sql_series_names(page, parcel$series), id)
    )
    counts
  }
}
