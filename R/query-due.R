# What is due of a query by now, and which stored series belong to it.

# The stored series of a query's dataset with their sizes, for query_series().
query_catalogue <- function(query, archive) UseMethod("query_catalogue")

#' @export
query_catalogue.default <- function(query, archive) {
  store_series(
    archive, query$source$source, query$dataset$name,
    sizes = TRUE, bytes = FALSE
  )
}

# Keys tell which are asked for: dimensions and an order would only take time.
#' @export
query_catalogue.vetusta_query_bars <- function(query, archive) {
  store_spans(
    archive, query$source$source, query$dataset$name, query$interval$iso
  )
}

# The stored series of a query with their sizes; without `each` it may be one
# row for all of them: their number (`series`), the sum of their rows, and their
# first and last time.
query_stored <- function(query, archive, catalogue, each) {
  UseMethod("query_stored")
}

#' @export
query_stored.default <- function(query, archive, catalogue, each) {
  series <- catalogue$series(query)
  at <- which(query_series(query, series))
  if (length(at) < nrow(series)) series[at, ] else series
}

# Keys are read first: they tell whether all series of the interval are asked
# for, or a few.
#' @export
query_stored.vetusta_query_bars <- function(query, archive, catalogue, each) {
  keys <- catalogue$keys(query)
  if (!any(grepl(":", keys, fixed = TRUE))) {
    asked <- bars_key(query$symbols, NA_character_)
    place <- list(
      archive, query$source$source, query$dataset$name, query$interval$iso
    )
    if (4 * length(asked) < length(keys)) {
      return(do.call(store_spans, c(place, list(asked))))
    }
    if (!each && length(keys) <= length(asked) && all(keys %in% asked)) {
      return(do.call(store_spans_total, place))
    }
  }
  NextMethod()
}

# The rows of a catalogue that belong to a query.
query_series <- function(query, series) UseMethod("query_series")

#' @export
query_series.vetusta_query_bars <- function(query, series) {
  kept <- of_dataset(query, series) & series$frequency == query$interval$iso
  at <- which(kept)
  key <- series$key[at]
  kept[at] <- key %in% bars_key(query$symbols, NA_character_)
  sided <- grepl(":", key, fixed = TRUE)
  kept[at[sided]] <- kept[at[sided]] |
    without_side(key[sided]) %in% query$symbols
  kept
}

# Keys of bars without the side of the price.
without_side <- function(key) {
  sided <- grepl(":", key, fixed = TRUE)
  key[sided] <- sub(":[^:]*$", "", key[sided])
  key
}

# By the values of keys that name series.
#' @export
query_series.vetusta_query_rows <- function(query, series) {
  here <- of_dataset(query, series)
  named <- here & series$key %in% unlist(query$keys)
  if (any(named)) named else here
}

#' @export
query_series.vetusta_query_observations <- function(query, series) {
  here <- of_dataset(query, series)
  asked <- Filter(length, query$selection)
  if (!any(here) || !length(asked)) {
    return(here)
  }
  dimensions <- series_dimensions(series[here, ])
  fits <- Reduce(
    `&`,
    lapply(names(asked), function(id) {
      if (is.null(dimensions[[id]])) {
        rep(TRUE, sum(here))
      } else {
        dimensions[[id]] %in% asked[[id]]
      }
    })
  )
  here[here] <- fits
  here
}

of_dataset <- function(query, series) {
  series$source == query$source$source & series$dataset == query$dataset$name
}

# list(expected, allowed, end_of, coverage): the instant up to which values are
# due, the allowed delay, the end of a value's period, and the covered share;
# `expected` is NULL where rows have no time.
query_due <- function(query, series) UseMethod("query_due")

#' @export
query_due.vetusta_query_bars <- function(query, series) {
  calendar <- source_calendar(query$source)
  interval <- query$interval
  session <- if (query$session != "all" && !is.null(calendar)) {
    main_session(calendar)
  }
  ends <- function(times) {
    # of many series most end at one time
    time <- utc(unique(as.numeric(times)))
    end <- if (is.null(calendar) || is_intraday(interval)) {
      as.numeric(shift_instant(time, interval, 1, query$source$zone))
    } else {
      trading_ends(time, interval, calendar)
    }
    end[match(as.numeric(times), as.numeric(time))]
  }
  to <- as.numeric(kept_window(query, calendar)$to)
  expected <- to
  if (!is.null(calendar)) {
    back <- max(20 * 86400, 2 * interval_seconds(interval))
    times <- calendar_times(
      calendar, interval, utc(to - back), utc(to), session
    )
    if (length(times)) expected <- max(ends(times[length(times)]))
  }
  list(
    expected = expected,
    allowed = if (is_intraday(interval)) 86400 else 3 * 86400,
    end_of = ends,
    coverage = function(matching, until) {
      if (is.na(until)) until <- max(ends(max(matching$last)))
      window <- data.frame(from = query$from, to = utc(until))
      # each side of a price is a series; a total has none
      sides <- max(
        1, nrow(matching) / length(unique(without_side(matching$key))),
        na.rm = TRUE
      )
      count <- expected_rows(query, window, calendar) * length(query$symbols) *
        sides
      if (!length(count) || count == 0) {
        NA_real_
      } else {
        min(1, sum(matching$rows) / count)
      }
    }
  )
}

#' @export
query_due.default <- function(query, series) {
  allowed <- max(86400, 2 * query$every)
  if (!NROW(series)) {
    return(list(allowed = allowed))
  }
  periods <- period_seconds[series$frequency]
  period <- min(c(periods[!is.na(periods)], Inf))
  if (!is.finite(period)) period <- 86400
  to <- min(
    now_seconds(), as.numeric(query$to %||% Inf),
    if (!is.null(query$window$to$last)) {
      (as.numeric(query$window$to$last) + 1) * 86400
    } else {
      Inf
    }
  )
  list(
    expected = to - to %% 86400,
    allowed = period * if (period <= 7 * 86400) 3 else 2,
    end_of = function(time) as.numeric(time) + period,
    coverage = function(matching, until) {
      each <- ifelse(
        is.na(period_seconds[matching$frequency]), period,
        period_seconds[matching$frequency]
      )
      count <- sum(round((matching$last - matching$first) / each) + 1)
      min(1, sum(matching$rows) / count)
    }
  )
}

# The length of periods by code; for months and longer the mean.
period_seconds <- 86400 *
  c(
    D = 1, W = 7, M = 30.436875, Q = 91.310625, T = 121.7475, S = 182.62125,
    A = 365.2425
  )

# How complete a query is.

# A query with its covered ranges, which a plan and its state are made from.
query_looked <- function(query, archive) UseMethod("query_looked")

#' @export
query_looked.default <- function(query, archive) query

#' @export
query_looked.vetusta_query_bars <- function(query, archive) {
  query$covered <- covered_symbols(query, archive)
  query
}

# The instant up to which the whole query is covered: the earliest end of ranges
# from its start, or the last request of what has no window; NA where a part is
# missing.
query_complete <- function(query, archive) UseMethod("query_complete")

#' @export
query_complete.vetusta_query_bars <- function(query, archive) {
  covered <- query$covered %||% covered_symbols(query, archive)
  covered$key <- covered$symbol
  complete_until(covered, query$symbols, query$from)
}

#' @export
query_complete.vetusta_query_rows <- function(query, archive) {
  if (is.null(query$from)) {
    return(asked_since(query, archive))
  }
  covered <- covered_now(archive, query)
  keys <- unique(vapply(query_requests(query, NULL)$keys, key_text, ""))
  complete_until(covered, keys, query$from)
}

#' @export
query_complete.vetusta_query_observations <- function(query, archive) {
  asked_since(query, archive)
}

complete_until <- function(covered, keys, from) {
  from <- as.numeric(from)
  at <- match(covered$key, keys)
  first <- which(covered$start <= from & covered$end > from & !is.na(at))
  ends <- rep(NA_real_, length(keys))
  # of several ranges of a key the last one written is the longest
  if (anyDuplicated(at[first])) first <- first[order(covered$end[first])]
  ends[at[first]] <- covered$end[first]
  if (!length(ends) || anyNA(ends)) NA_real_ else min(ends)
}

asked_since <- function(query, archive) {
  asked <- store_notes(
    archive, "asked", query$source$source, query$dataset$name
  )
  starts <- query_starts(query, archive)
  at <- asked$at[match(starts, asked$key)]
  at[starts %in% open_of(archive, query)$start] <- NA
  if (!length(at) || anyNA(at)) NA_real_ else min(at)
}

query_starts <- function(query, archive) {
  requests <- query_requests(query, archive)
  vapply(
    seq_len(nrow(requests)),
    function(i) query_chain(query, requests[i, ])$start, ""
  )
}
