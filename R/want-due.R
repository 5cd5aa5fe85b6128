# What may be expected of a want by now, and which of the series that are held are its own.

# Which rows of a catalogue of series are a want's.
want_series <- function(want, held) UseMethod("want_series")

#' @export
want_series.vetusta_want_bars <- function(want, held) {
  of_dataset(want, held) & held$frequency == want$interval$iso &
    (held$key %in% bars_key(want$symbols, NA_character_) |
    sub(":[^:]*$", "", held$key) %in% want$symbols)
}

# By the values of keys that name series, where they do.
#' @export
want_series.vetusta_want_rows <- function(want, held) {
  here <- of_dataset(want, held)
  named <- here & held$key %in% unlist(want$keys)
  if (any(named)) named else here
}

#' @export
want_series.vetusta_want_observations <- function(want, held) {
  here <- of_dataset(want, held)
  asked <- Filter(length, want$selection)
  if (!any(here) || !length(asked)) {
    return(here)
  }
  dimensions <- held_dimensions(held[here, ])
  fits <- Reduce(`&`, lapply(names(asked), function(id) {
    if (is.null(dimensions[[id]])) rep(TRUE, sum(here)) else dimensions[[id]] %in% asked[[id]]
  }))
  here[here] <- fits
  here
}

of_dataset <- function(want, held) {
  held$source == want$source$source & held$dataset == want$dataset$name
}

# list(expected, allowed, end_of, coverage): up to when values may be expected by now, how far a
# want may be behind that, when a value's time ends, and the part that is held; `expected` is NULL
# where rows have no time.
want_due <- function(want, own) UseMethod("want_due")

#' @export
want_due.vetusta_want_bars <- function(want, own) {
  calendar <- source_calendar(want$source)
  interval <- want$interval
  session <- if (want$session != "all" && !is.null(calendar)) main_session(calendar)
  ends <- function(time) {
    time <- utc(as.numeric(time))
    if (is.null(calendar) || is_intraday(interval)) {
      as.numeric(shift_instant(time, interval, 1, want$source$zone))
    } else {
      trading_ends(time, interval, calendar)
    }
  }
  to <- as.numeric(kept_window(want, calendar)$to)
  expected <- to
  if (!is.null(calendar)) {
    back <- max(20 * 86400, 2 * interval_seconds(interval))
    times <- calendar_times(calendar, interval, utc(to - back), utc(to), session)
    if (length(times)) expected <- max(ends(times[length(times)]))
  }
  list(expected = expected, allowed = if (is_intraday(interval)) 86400 else 3 * 86400,
    end_of = ends, coverage = function(own, until) {
      if (is.na(until)) until <- max(ends(max(own$last)))
      window <- data.frame(from = want$from, to = utc(until))
      # each side of a price is a series of its own
      sides <- max(1, nrow(own) / length(unique(sub(":[^:]*$", "", own$key))), na.rm = TRUE)
      count <- expected_rows(want, window, calendar) * length(want$symbols) * sides
      if (!length(count) || count == 0) NA_real_ else min(1, sum(own$rows) / count)
    })
}

#' @export
want_due.default <- function(want, own) {
  allowed <- max(86400, 2 * want$every)
  if (!NROW(own)) {
    return(list(allowed = allowed))
  }
  periods <- period_seconds[own$frequency]
  period <- min(c(periods[!is.na(periods)], Inf))
  if (!is.finite(period)) period <- 86400
  to <- min(now_seconds(), as.numeric(want$to %||% Inf),
    if (!is.null(want$window$to$last)) (as.numeric(want$window$to$last) + 1) * 86400 else Inf)
  list(expected = to - to %% 86400, allowed = period * if (period <= 7 * 86400) 3 else 2,
    end_of = function(time) as.numeric(time) + period,
    coverage = function(own, until) {
      each <- ifelse(is.na(period_seconds[own$frequency]), period, period_seconds[own$frequency])
      count <- sum(round((own$last - own$first) / each) + 1)
      min(1, sum(own$rows) / count)
    })
}

# How long periods are, by their codes; of months and longer the mean.
period_seconds <- 86400 * c(D = 1, W = 7, M = 30.436875, Q = 91.310625, T = 121.7475, S = 182.62125,
  A = 365.2425)

# How far a query has come.

# Up to where all of a want is held: the earliest end of the stretches that begin with it, or when
# what has no window was asked for last; NA where a part of it is not held at all.
want_complete <- function(want, archive) UseMethod("want_complete")

#' @export
want_complete.vetusta_want_bars <- function(want, archive) {
  keys <- bars_cover_keys(want$symbols, want)
  covered <- covered_now(archive, want, keys)
  covered$key <- rep(want$symbols, length.out = length(keys))[match(covered$key, keys)]
  complete_until(covered, want$symbols, want$from)
}

#' @export
want_complete.vetusta_want_rows <- function(want, archive) {
  if (is.null(want$from)) {
    return(asked_since(want, archive))
  }
  covered <- covered_now(archive, want)
  keys <- unique(vapply(want_calls(want, NULL)$keys, key_text, ""))
  complete_until(covered, keys, want$from)
}

#' @export
want_complete.vetusta_want_observations <- function(want, archive) asked_since(want, archive)

complete_until <- function(covered, keys, from) {
  from <- as.numeric(from)
  first <- covered[covered$start <= from & covered$end > from, ]
  ends <- tapply(first$end, factor(first$key, unique(keys)), max)
  if (anyNA(ends)) NA_real_ else min(ends)
}

asked_since <- function(want, archive) {
  asked <- store_notes(archive, "asked", want$source$source, want$dataset$name)
  starts <- want_starts(want, archive)
  at <- asked$at[match(starts, asked$key)]
  at[starts %in% open_of(archive, want)$start] <- NA
  if (!length(at) || anyNA(at)) NA_real_ else min(at)
}

want_starts <- function(want, archive) {
  calls <- want_calls(want, archive)
  vapply(seq_len(nrow(calls)), function(i) want_chain(want, calls[i, ])$start, "")
}
