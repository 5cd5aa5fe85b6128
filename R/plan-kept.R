# Queries that are kept current, see desk_refresh(): the end of their window,
# the lookback, and the least pause. A query with a lookback is kept current.

is_kept <- function(query) !is.null(query$lookback)

# The default lookback in seconds, and the default pause after a complete
# answer.
query_lookback <- function(query) UseMethod("query_lookback")
query_every <- function(query) UseMethod("query_every")

#' @export
query_lookback.default <- function(query) 0

#' @export
query_every.default <- function(query) 3600

# Corrections of bars come within a day, those of daily and longer bars within
# two weeks.
#' @export
query_lookback.vetusta_query_bars <- function(query) {
  if (is_intraday(query$interval)) {
    86400
  } else {
    max(14 * 86400, interval_seconds(query$interval))
  }
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

# Directories are requested once a day, everything else once an hour.
seldom_shapes <- c(
  instruments = 86400, members = 86400, places = 86400, documents = 86400,
  datasets = 86400, actions = 86400, contracts = 86400
)

# The window ends with the last complete bar; an unfinished one comes with the
# next refresh.
kept_window <- function(query, calendar) {
  if (!is_kept(query)) {
    return(query)
  }
  to <- as.numeric(query$to)
  interval <- query$interval
  if (is.null(calendar)) {
    zone <- query$source$zone
    day <- local_day(query$to, zone)
    to <- if (is_intraday(interval)) {
      to - to %% interval$seconds
    } else {
      as.numeric(
        time_local(
          bucket_start(bucket_of_day(day, interval), interval), 0, zone
        )
      )
    }
  } else {
    back <- max(10 * 86400, 2 * interval_seconds(interval))
    times <- calendar_times(
      calendar, interval, utc(to - back), query$to,
      if (query$session != "all") main_session(calendar)
    )
    ends <- if (is_intraday(interval)) {
      as.numeric(times) + interval$seconds
    } else {
      trading_ends(times, interval, calendar)
    }
    open <- as.numeric(times)[ends > to]
    if (length(open)) to <- min(open)
  }
  query$to <- utc(max(to, as.numeric(query$from)))
  query
}

# New ranges in which the calendar expects bars, extended by the lookback: a
# data frame of symbol, from, to, and `behind`, whether the range follows stored
# rows.
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

# The rest of a request after others have collected part of it, with its
# lookback.
kept_rest <- function(left, query, chain) {
  if (is_kept(query) && nrow(left)) {
    behind <- left$start > chain$from
    left$start[behind] <- pmax(chain$from, left$start[behind] - query$lookback)
  }
  left
}

# Requests for values that may still be published, without those made recently:
# the longer a value is missing, the less often it is requested.
kept_requests <- function(query, requests, archive) {
  if (!is_kept(query) ||
    is.null(archive) ||
    is.null(query$from) ||
    !nrow(requests)) {
    return(requests)
  }
  looked <- store_notes(
    archive, "looked", query$source$source, query$dataset$name
  )
  if (!nrow(looked)) {
    return(requests)
  }
  note <- match(vapply(requests$keys, key_text, ""), looked$key)
  at <- looked$at[note]
  number <- function(text) suppressWarnings(as.numeric(text))
  value <- number(sub(" .*", "", looked$value[note]))
  end <- number(sub("^[^ ]* ?", "", looked$value[note]))
  # ranges before or after the window of that attempt are new
  seen <- !is.na(at) &
    !is.na(value) &
    !is.na(end) &
    end >= pmin(at - 86400, as.numeric(requests$to)) &
    as.numeric(requests$from) >= value - query$lookback &
    as.numeric(requests$to) >= as.numeric(query$to)
  # open windows are requested at once
  open <- open_of(archive, query)$key
  seen <- seen & !vapply(requests$keys, key_text, "") %in% open
  requests[
    !(seen & now_seconds() - at < kept_wait(at - value, query)), ,
    drop = FALSE
  ]
}

# An eighth of the time it has been missing, at least a minute and at most a
# day.
kept_wait <- function(age, query) pmin(86400, pmax(query$every, 60, age / 8))
