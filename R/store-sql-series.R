# Series: segments of rows, each a block (docs/blocks.md). A page after all
# stored rows is a new segment, written in one statement with everything else of
# the page; neighbours are joined later.

segment_rows <- 60000L
# Segments of this size compress as well as larger ones, so they are never
# joined.
segment_whole <- 4000L
segment_fan <- 12L

# A page: its rows, its journal row, the rejected rows, and the place reached,
# all or nothing. A page is a list of
#   source, dataset, shape   where its rows belong
#   rows        a parcel of rows, see parcel_series(), parcel_frame(),
#               parcel_records(), or NULL
#   journal     the journal's row, or NULL
#   rejected    a data frame of rejected rows, see no_rejected_rows
#   covered     a data frame of key, start, end: newly covered ranges
#   notes       notes to write, each list(kind, key, value), with value NULL to
#               remove one
#   raw         the page as it came: a list of hash, about and body
#   listing     with request, page and last: the page is part of a full list,
#               see listing_put()
#   again       whether it begins with stored rows, mostly unchanged
#   claims      names of claims that end
#   origin      where its rows came from: `base` of their places, `at` (their
#               numbers in the answer; NULL: consecutive), `rows` (how many)
#               and `hash` of the body
#   reread      the journal's row of a kept page that is read again
#   now         its instant of arrival
# Returns c(new, changed, unchanged), and `gone`, the number of entries that are
# no longer listed.
#
# With `gather` a small page of rows after all stored ones may wait for others,
# and is written with them by store_gathered(); until then it counts as new.
store_put <- function(store, page, gather = 1) {
  page$now <- whole_micros(page$now %||% store_now(store))
  if (!is.null(page$rows)) {
    page$rows$rows <- sql_fitted(store, page, page$rows$rows)
  }
  if (gather > 1 && (store$gathers %||% FALSE) && sql_put_later(store, page)) {
    if (length(store$later$pages) >= gather) store_gathered(store)
    return(c(new = length(page$rows$rows$time), changed = 0, unchanged = 0))
  }
  store_gathered(store)
  sql_put_now(store, page)
}

sql_put_now <- function(store, page) {
  # an interrupt waits for the end of the page
  put <- suspendInterrupts(
    (if (isTRUE(page$again)) sql_put_behind(store, page)) %||%
      sql_put_quick(store, page)
  )
  if (!is.null(put)) {
    return(put)
  }
  store_transaction(store, function() {
    sql_hold(store, page)
    journal <- sql_put_page(store, page)
    page$number <- page$reread %||% journal
    counts <- sql_put_rows(page$rows, store, page)
    gone <- listing_put(store, page)
    if (NROW(page$rejected)) {
      sql_put_rejected(store, page$rejected, journal, page$now)
    }
    if (!is.null(page$raw)) sql_put_raw(store, page, journal)
    for (note in page$notes) sql_set_note(store, page, note)
    for (claim in page$claims) store_claim_done(store, claim)
    if (gone > 0) c(counts, gone = gone) else counts
  })
}

sql_set_note <- function(store, page, note) {
  if (is.null(note$value)) {
    store_forget(store, note$kind, page$source, page$dataset, note$key)
  } else {
    store_note(
      store, note$kind, page$source, page$dataset, note$key, note$value,
      note$at %||% page$now
    )
  }
}

# Writes a page except rows that need a lookup first. Returns the number of its
# journal row.
sql_put_page <- function(store, page, segment = NULL) {
  covered <- page$covered
  alone <- !is.null(segment)
  if (is.null(page$journal)) {
    for (i in seq_len(NROW(covered))) sql_cover(store, page, covered[i, ])
    return(NA_integer_)
  }
  sql_page_in(store, page_places(page, segment))
  for (i in seq_len(NROW(covered))[-1]) sql_cover(store, page, covered[i, ])
  if (alone) {
    NA_integer_
  } else {
    sql_last_journal(store)
  }
}

sql_put_rows <- function(parcel, store, page) UseMethod("sql_put_rows")

#' @export
sql_put_rows.NULL <- function(parcel, store, page) no_counts

#' @export
sql_put_rows.vetusta_parcel_series <- function(parcel, store, page) {
  series <- parcel$series
  if (!nrow(series)) {
    return(no_counts)
  }
  names <- sql_series_names(page, series)
  ids <- sql_series_ids(store, page, series, names)
  sql_put_attributes(store, ids, series, page$now)
  rows <- sql_stamped(parcel$rows)
  of <- rows$series %||% rep(1L, length(rows$time))
  rows$series <- NULL
  rows <- sql_whole_series(store, rows, of, ids)
  groups <- if (nrow(series) == 1) {
    list(seq_along(rows$rows$time))
  } else {
    split(seq_along(rows$of), factor(rows$of, seq_len(nrow(series))))
  }
  total <- no_counts
  came <- list()
  numbers <- origin_numbers(page, length(rows$of))
  numbered <- function(i, part, group) {
    if (!is.null(part)) {
      at <- numbers[group]
      if (!is.null(part$of)) {
        came <- lapply(rows$rows[time_columns], `[`, group)
        at <- origin_rows(part$of, came, at)
      }
      part$at <- lapply(part$rows, function(k) at[k])
      part$series <- ids[i]
      part[c("rows", "of")] <- NULL
    }
    part
  }
  if (length(groups) > 1) {
    done <- sql_put_fresh(store, ids, names, rows$rows, groups, page$now)
    total <- done$counts
    came <- Map(numbered, done$groups, done$parts, groups[done$groups])
    groups[done$groups] <- list(integer())
  }
  for (i in seq_along(groups)) {
    at <- groups[[i]]
    if (length(at)) {
      put <- sql_put_one(
        store, ids[i], names[i], lapply(rows$rows, `[`, at), page$now,
        parcel$finishes, isTRUE(page$as_came)
      )
      total <- total + put$counts
      came[[length(came) + 1L]] <- numbered(i, put$part, at)
    }
  }
  sql_put_origin(store, page, page$number, came[lengths(came) > 0])
  total
}

# Instants are stored in whole microseconds.
sql_stamped <- function(rows) {
  rows$time <- .POSIXct(whole_micros(as.numeric(rows$time)), "UTC")
  known <- rep(NA_real_, length(rows$time))
  if (!is.null(rows$known)) known <- whole_micros(as.numeric(rows$known))
  rows$known <- .POSIXct(known, "UTC")
  rows
}

# Deletes a whole series: a row for each of its times.
sql_whole_series <- function(store, rows, of, ids) {
  whole <- which(is.na(as.numeric(rows$time)))
  if (!length(whole)) {
    return(list(rows = rows, of = of))
  }
  stored <- store_read(store, unique(ids[of[whole]]), newest = TRUE)
  owner <- rep(unique(ids[of[whole]]), stored$rows)
  parts <- lapply(whole, function(i) {
    time <- stored$columns$time[owner == ids[of[i]]]
    list(
      time = time,
      known = rep(rows$known[i], length(time)),
      value = rep(NA_real_, length(time)),
      status = rep("deleted", length(time))
    )
  })
  count <- vapply(parts, function(part) length(part$time), 1L)
  kept <- lapply(rows, `[`, -whole)
  list(
    rows = as.list(
      data.table::rbindlist(c(list(kept), parts), use.names = TRUE, fill = TRUE)
    ),
    of = c(of[-whole], rep(of[whole], count))
  )
}

# The first rows of many series, in one statement: list(groups, counts), with
# those that are written. Nothing is stored of these series yet.
sql_put_fresh <- function(store, ids, names, rows, groups, now) {
  segments <- sql_get(
    store,
    "SELECT series FROM segments WHERE series IN @numbers
    UNION SELECT series FROM moved WHERE series IN @numbers",
    list(json_numbers(unique(ids)), json_numbers(unique(ids)))
  )$series
  sizes <- lengths(groups)
  fresh <- which(
    !ids %in% segments & !duplicated(ids) & sizes > 0 & sizes <= segment_rows
  )
  counts <- no_counts
  plain <- groups_rise_cpp(rows$time, groups[fresh]) &
    !"deleted" %in% rows$status
  kept <- rows_of_groups(rows, groups[fresh])
  counts[["new"]] <- sum(sizes[fresh[plain]])
  for (i in which(!plain)) {
    merged <- merge_history(NULL, unique_history(kept[[i]]), now)
    counts <- counts + merged$counts
    kept[[i]] <- merged$rows
  }
  some <- vapply(kept, function(part) length(part$time) > 0, TRUE)
  sql_insert_segments(store, ids[fresh][some], kept[some])
  sql_gathered(store, names[fresh][some], ids[fresh][some])
  parts <- Map(
    function(rows, whole) {
      n <- length(rows$time)
      if (!whole) {
        return(came_part(rows, TRUE))
      }
      # all rows that came, in their order
      list(
        time = as.numeric(rows$time[1]), last = as.numeric(rows$time[n]),
        known = NA_real_, last_known = NA_real_, rows = list(seq_len(n))
      )
    },
    kept, plain
  )
  list(groups = fresh, counts = counts, parts = parts)
}

# The ranges of a history that came with a page, with the rows themselves.
came_part <- function(rows, came) {
  part <- origin_ranges(rows, rep_len(came, length(rows$time)))
  if (!is.null(part)) part$of <- rows[time_columns]
  part
}

# The columns of each group's rows; classes are removed and restored, because
# splitting classed vectors is slow.
rows_of_groups <- function(rows, groups) {
  rows <- lapply(rows, unname)
  classed <- names(which(vapply(rows, is.object, TRUE)))
  plain <- lapply(rows, function(x) {
    attributes(x) <- NULL
    x
  })
  lapply(groups, function(at) {
    part <- lapply(plain, `[`, at)
    for (name in classed) attributes(part[[name]]) <- attributes(rows[[name]])
    part
  })
}

# Compares rows of one series with the stored ones.
sql_put_one <- function(store, id, name, rows, now, finishes = FALSE,
                        anew = FALSE) {
  rows <- unique_history(rows)
  n <- length(rows$time)
  time <- as.numeric(rows$time)
  sql_hold_series(store, id)
  touched <- sql_get(
    store,
    "SELECT id, level FROM segments WHERE series = ? AND first <= ? AND last
      >= ? ORDER BY first",
    list(id, time[n], time[1])
  )
  old <- if (nrow(touched)) sql_segments(store, touched$id)
  away <- sql_moved_rows(store, id, time[1], time[n])
  merged <- merge_history(with_moved(old, away), rows, now, finishes, anew)
  if (merged$counts[["new"]] + merged$counts[["changed"]] == 0) {
    return(list(counts = merged$counts))
  }
  part <- came_part(merged$rows, merged$came)
  sql_drop_segments(store, touched$id)
  merged$rows <- without_moved(merged$rows)
  for (at in segment_pieces(merged$rows$time)) {
    sql_insert_segment(
      store, id, lapply(merged$rows, `[`, at), max(0L, touched$level),
      nrow(touched) > 0
    )
  }
  if (!nrow(touched)) sql_gathered(store, name, id)
  list(counts = merged$counts, part = part)
}

#' @export
store_read.vetusta_store_sql <- function(store, series, from = -Inf, to = Inf,
                                         at = Inf, newest = TRUE) {
  if (length(series)) sql_none_moved(store, series)
  segments <- sql_get(
    store,
    "SELECT s.id, s.series, s.first, s.body FROM segments s
    WHERE s.series IN @numbers AND s.first < ? AND s.last >= ? ORDER BY
      s.series, s.first",
    list(json_numbers(series), to, from)
  )
  if (!nrow(segments)) {
    return(
      list(
        columns = list(time = utc(numeric()), known = utc(numeric())),
        rows = integer(length(series))
      )
    )
  }
  # in the order of the request
  segments <- segments[order(match(segments$series, series)), ]
  read <- sql_open_segments(store, segments, from, to, at, newest)
  rows <- tabulate(
    rep(match(segments$series, series), read$rows), length(series)
  )
  read$columns$known <- read$columns[["known"]] %||%
    utc(rep(NA_real_, sum(rows)))
  list(columns = read$columns, rows = rows)
}

sql_series_names <- function(page, series) {
  paste(page$source, page$dataset, series$key, series$frequency, sep = "\r")
}

# Cached numbers of series, NA where unknown.
sql_known_ids <- function(store, names) {
  vapply(
    names, function(name) as.numeric(store$ids[[name]] %||% NA), 0,
    USE.NAMES = FALSE
  )
}

# Numbers of series, which are created if needed.
sql_series_ids <- function(store, page, series,
                           name = sql_series_names(page, series)) {
  id <- sql_known_ids(store, name)
  away <- which(is.na(id))
  if (!length(away)) {
    return(id)
  }
  if (length(name) == 1) {
    # created or found in one statement
    id <- sql_get(
      store,
      "INSERT INTO series (source, dataset, shape, key, frequency, dimensions)
      VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (source, dataset, key, frequency)
      DO UPDATE SET shape = series.shape RETURNING id",
      list(
        page$source, page$dataset, page$shape, series$key, series$frequency,
        series$dimensions
      )
    )$id
    assign(name, id, envir = store$ids)
    return(id)
  }
  # most exist already
  looked_up <- function() {
    catalogue <- sql_get(
      store,
      "SELECT id, key, frequency FROM series WHERE source = ? AND dataset = ?
      AND key IN @texts",
      list(page$source, page$dataset, json_array(unique(series$key[away])))
    )
    catalogue$id[
      match(
        paste(series$key[away], series$frequency[away], sep = "\r"),
        paste(catalogue$key, catalogue$frequency, sep = "\r")
      )
    ]
  }
  id[away] <- looked_up()
  known <- away[!is.na(id[away])]
  for (i in known) assign(name[i], id[i], envir = store$ids)
  away <- which(is.na(id))
  if (!length(away)) {
    return(id)
  }
  n <- length(away)
  sql_do(
    store,
    "INSERT INTO series (source, dataset, shape, key, frequency,
      dimensions) VALUES (?, ?, ?, ?, ?, ?)
    ON CONFLICT (source, dataset, key, frequency) DO NOTHING",
    list(
      rep(page$source, n), rep(page$dataset, n), rep(page$shape, n),
      series$key[away], series$frequency[away], series$dimensions[away]
    )
  )
  id[away] <- looked_up()
  for (i in away) assign(name[i], id[i], envir = store$ids)
  id
}

