# Wants that are kept up to date, see desk_refresh(): how far a window goes, how far back it is
# asked
# again, and what is not asked again yet. A want is kept where it says by how much it overlaps what
# is held.

is_kept <- function(want) !is.null(want$overlap)

# By how many seconds what is held is asked again, and how long what came whole is not asked again,
# where nobody says.
want_overlap <- function(want) UseMethod("want_overlap")
want_every <- function(want) UseMethod("want_every")

#' @export
want_overlap.default <- function(want) 0

#' @export
want_every.default <- function(want) 3600

# Late corrections of bars come within a day, those of days and longer within a fortnight.
#' @export
want_overlap.vetusta_want_bars <- function(want) {
  if (is_intraday(want$interval)) 86400 else max(14 * 86400, interval_seconds(want$interval))
}

#' @export
want_every.vetusta_want_bars <- function(want) 0

#' @export
want_overlap.vetusta_want_rows <- function(want) if (is.null(want$from)) 0 else settled_days * 86400

#' @export
want_every.vetusta_want_rows <- function(want) {
  seldom <- seldom_shapes[want$dataset$shape]
  if (!is.null(want$from)) 0 else if (is.na(seldom)) 3600 else seldom[[1]]
}

# What changes seldom is asked once a day, everything else once an hour.
seldom_shapes <- c(instruments = 86400, places = 86400, documents = 86400, datasets = 86400,
  actions = 86400, contracts = 86400)

# A kept want goes as far as bars are complete: one that has not ended yet comes with the next
# refresh.
kept_window <- function(want, calendar) {
  if (!is_kept(want)) {
    return(want)
  }
  to <- as.numeric(want$to)
  interval <- want$interval
  if (is.null(calendar)) {
    zone <- want$source$zone
    day <- local_day(want$to, zone)
    to <- if (is_intraday(interval)) to - to %% interval$seconds
    else as.numeric(time_local(bucket_start(bucket_of_day(day, interval), interval), 0, zone))
  } else {
    back <- max(10 * 86400, 2 * interval_seconds(interval))
    times <- calendar_times(calendar, interval, utc(to - back), want$to,
      if (want$session != "all") main_session(calendar))
    ends <- if (is_intraday(interval)) as.numeric(times) + interval$seconds
    else trading_ends(times, interval, calendar)
    open <- as.numeric(times)[ends > to]
    if (length(open)) to <- min(open)
  }
  want$to <- utc(max(to, as.numeric(want$from)))
  want
}

# What lies behind what is held is asked for where the calendar expects something in it, and some
# way back: pieces of symbol, from, to, `behind` whether they follow on something held.
kept_pieces <- function(pieces, behind, want, calendar) {
  if (!is_kept(want) || !nrow(pieces)) {
    return(pieces)
  }
  if (!is.null(want$interval) && !is.null(calendar)) {
    windows <- data.frame(from = utc(pieces$from), to = utc(pieces$to))
    due <- expected_rows(want, windows, calendar) > 0
    pieces <- pieces[due, , drop = FALSE]
    behind <- behind[due]
  }
  back <- pieces$from - want$overlap
  pieces$from <- ifelse(behind, pmax(as.numeric(want$from), back), pieces$from)
  pieces
}

# What is left of a call where others have collected meanwhile: with what it overlaps.
kept_rest <- function(left, want, chain) {
  if (is_kept(want) && nrow(left)) {
    behind <- left$start > chain$from
    left$start[behind] <- pmax(chain$from, left$start[behind] - want$overlap)
  }
  left
}

# Calls for what may still be published, less those that were asked so lately that it would be of no
# use: the longer a value is missing, the more seldom it is asked for.
kept_calls <- function(want, calls, archive) {
  if (!is_kept(want) || is.null(archive) || is.null(want$from) || !nrow(calls)) {
    return(calls)
  }
  looked <- store_notes(archive, "looked", want$source$source, want$dataset$name)
  if (!nrow(looked)) {
    return(calls)
  }
  at <- looked$at[match(vapply(calls$keys, key_text, ""), looked$key)]
  value <- suppressWarnings(as.numeric(looked$value[match(vapply(calls$keys, key_text, ""),
    looked$key)]))
  # what lies before the window that was looked at then, or behind it at its beginning, is new
  seen <- !is.na(at) & !is.na(value) & as.numeric(calls$from) >= value - want$overlap &
    as.numeric(calls$to) >= as.numeric(want$to)
  # what is open is asked for at once
  open <- open_of(archive, want)$key
  seen <- seen & !vapply(calls$keys, key_text, "") %in% open
  calls[!(seen & now_seconds() - at < kept_wait(at - value, want)), , drop = FALSE]
}

# An eighth of how long it has been missing, a minute at least, and a day at most.
kept_wait <- function(age, want) pmin(86400, pmax(want$every, 60, age / 8))
