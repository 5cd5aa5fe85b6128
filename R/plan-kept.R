# Queries that are kept up to date, see desk_refresh(): how far a window goes, how far back it is
# asked
# again, and what is not asked again yet. A query is kept where it says by how much it overlaps what
# is held.

is_kept <- function(query) !is.null(query$lookback)

# By how many seconds what is held is asked again, and how long what came whole is not asked again,
# where nobody says.
query_lookback <- function(query) UseMethod("query_lookback")
query_every <- function(query) UseMethod("query_every")

#' @export
query_lookback.default <- function(query) 0

#' @export
query_every.default <- function(query) 3600

# Late corrections of bars come within a day, those of days and longer within a fortnight.
#' @export
query_lookback.vetusta_query_bars <- function(query) {
  if (is_intraday(query$interval)) 86400 else max(14 * 86400, interval_seconds(query$interval))
}

#' @export
query_every.vetusta_query_bars <- function(query) 0

#' @export
query_lookback.vetusta_query_rows <- function(query) {
  if (is.null(query$from)) 0 else settled_days * 86400
}

#' @export
query_every.vetusta_query_rows <- function(query) {
  seldom <- seldom_shapes[query$dataset$shape]
  if (!is.null(query$from)) 0 else if (is.na(seldom)) 3600 else seldom[[1]]
}

# What changes seldom is asked once a day, everything else once an hour.
seldom_shapes <- c(instruments = 86400, places = 86400, documents = 86400, datasets = 86400,
  actions = 86400, contracts = 86400)

# A kept query goes as far as bars are complete: one that has not ended yet comes with the next
# refresh.
kept_window <- function(query, calendar) {
  if (!is_kept(query)) {
    return(query)
  }
  to <- as.numeric(query$to)
  interval <- query$interval
  if (is.null(calendar)) {
    zone <- query$source$zone
    day <- local_day(query$to, zone)
    to <- if (is_intraday(interval)) to - to %% interval$seconds
    else as.numeric(time_local(bucket_start(bucket_of_day(day, interval), interval), 0, zone))
  } else {
    back <- max(10 * 86400, 2 * interval_seconds(interval))
    times <- calendar_times(calendar, interval, utc(to - back), query$to,
      if (query$session != "all") main_session(calendar))
    ends <- if (is_intraday(interval)) as.numeric(times) + interval$seconds
    else trading_ends(times, interval, calendar)
    open <- as.numeric(times)[ends > to]
    if (length(open)) to <- min(open)
  }
  query$to <- utc(max(to, as.numeric(query$from)))
  query
}

# What lies behind what is held is asked for where the calendar expects something in it, and some
# way back: pieces of symbol, from, to, `behind` whether they follow on something held.
kept_pieces <- function(pieces, behind, query, calendar) {
  if (!is_kept(query) || !nrow(pieces)) {
    return(pieces)
  }
  if (!is.null(query$interval) && !is.null(calendar)) {
    windows <- data.frame(from = utc(pieces$from), to = utc(pieces$to))
    due <- expected_rows(query, windows, calendar) > 0
    pieces <- pieces[due, , drop = FALSE]
    behind <- behind[due]
  }
  back <- pieces$from - query$lookback
  pieces$from <- ifelse(behind, pmax(as.numeric(query$from), back), pieces$from)
  pieces
}

# What is left of a request where others have collected meanwhile: with what it overlaps.
kept_rest <- function(left, query, chain) {
  if (is_kept(query) && nrow(left)) {
    behind <- left$start > chain$from
    left$start[behind] <- pmax(chain$from, left$start[behind] - query$lookback)
  }
  left
}

# Requests for what may still be published, less those that were asked so lately that it would be
# of no
# use: the longer a value is missing, the more seldom it is asked for.
kept_requests <- function(query, requests, archive) {
  if (!is_kept(query) || is.null(archive) || is.null(query$from) || !nrow(requests)) {
    return(requests)
  }
  looked <- store_notes(archive, "looked", query$source$source, query$dataset$name)
  if (!nrow(looked)) {
    return(requests)
  }
  at <- looked$at[match(vapply(requests$keys, key_text, ""), looked$key)]
  value <- suppressWarnings(as.numeric(looked$value[match(vapply(requests$keys, key_text, ""),
    looked$key)]))
  # what lies before the window that was looked at then, or behind it at its beginning, is new
  seen <- !is.na(at) & !is.na(value) & as.numeric(requests$from) >= value - query$lookback &
    as.numeric(requests$to) >= as.numeric(query$to)
  # what is open is asked for at once
  open <- open_of(archive, query)$key
  seen <- seen & !vapply(requests$keys, key_text, "") %in% open
  requests[!(seen & now_seconds() - at < kept_wait(at - value, query)), , drop = FALSE]
}

# An eighth of how long it has been missing, a minute at least, and a day at most.
kept_wait <- function(age, query) pmin(86400, pmax(query$every, 60, age / 8))
