# Tidies decoded rows: bars get times, sessions and columns, and bad rows a
# reason.

# A decoded body as rows, before checks.
decoded_rows <- function(query, symbols, decoded) {
  dataset <- query$dataset
  rows <- list_frame(decoded$columns)
  if (is.null(rows$symbol) && length(symbols) == 1) {
    rows$symbol <- rep(symbols, decoded$rows)
  } else if (length(symbols)) {
    rows$symbol <- symbols_as_asked(rows$symbol, symbols)
  }
  # times that differ only by nanoseconds are kept distinct
  if (length(decoded$finer) == nrow(rows) && inherits(rows$time, "POSIXct")) {
    apart <- kept_apart(
      rows$time, decoded$finer,
      paste(rows$symbol, rows[["series"]], rows[["side"]])
    )
    rows$time <- apart$time
    attr(rows, "apart") <- apart$count
  }
  # where local times of rows go back, the second pass of a repeated hour is
  # meant
  if (inherits(rows$time, "POSIXct") && decoded$rows && dataset$reading$local) {
    series <- if (!is.null(rows$symbol)) paste(rows$symbol, rows[["side"]])
    zone <- decoded$zone %||% query$source$zone
    if (length(zone) == 1) {
      rows$time <- second_passes(rows$time, zone, series)
    }
  }
  rows
}

# Times of one series that are equal in microseconds and differ in nanoseconds:
# each later one becomes a microsecond later than the one before. Returns
# list(time, count).
kept_apart <- function(time, finer, series) {
  series <- rep_len(series, length(time))
  micros <- round(as.numeric(time) * 1e6)
  # a time just before a full second is rounded up to it
  ahead <- micros %% 1e6 == 0 & finer > 5e8
  finer[which(ahead)] <- finer[which(ahead)] - 1e9
  key <- paste(series, micros)
  hit <- which(
    !is.na(micros) & series %in% series[duplicated(key) & !is.na(micros)]
  )
  count <- 0
  if (length(hit)) {
    order <- hit[order(series[hit], micros[hit], finer[hit], hit)]
    moved <- micros
    for (i in seq_along(order)[-1]) {
      now <- order[i]
      before <- order[i - 1]
      same <- micros[now] == micros[before] && finer[now] == finer[before]
      if (series[now] == series[before] &&
        !same &&
        moved[now] <= moved[before]) {
        moved[now] <- moved[before] + 1
        count <- count + 1
      } else if (series[now] == series[before] && same) {
        moved[now] <- moved[before]
      }
    }
    time <- utc(moved / 1e6)
  }
  list(time = time, count = count)
}

# Symbols that came in another case, in the case of the request, where exactly
# one requested symbol matches.
symbols_as_asked <- function(came, asked) {
  if (is.null(came)) {
    return(came)
  }
  came <- as.character(came)
  other <- which(!came %in% asked & !is.na(came))
  if (length(other)) {
    meant <- lapply(
      unique(came[other]), function(word) asked[tolower(asked) == tolower(word)]
    )
    names(meant) <- unique(came[other])
    lone <- unlist(meant[lengths(meant) == 1])
    hit <- other[came[other] %in% names(lone)]
    came[hit] <- unname(lone[came[hit]])
  }
  came
}

complete_bars <- function(rows, calendar, interval, zone = "UTC",
                          bar_time = NULL) {
  # plain columns, because assignment into a data frame is slow
  n <- nrow(rows)
  rows <- as.list(rows)
  if (identical(bar_time, "end") && n && inherits(rows$time, "POSIXct")) {
    rows$time <- bar_starts(rows$time, interval, zone)
  }
  # a daily bar belongs to its day, whatever instant the source gives: its time
  # is the opening of its first regular session
  short <- is_intraday(interval)
  if (!short && inherits(rows$time, "POSIXct")) {
    rows$time <- if (is.null(calendar)) {
      midnight_days(rows$time, zone, calendar)
    } else {
      trading_days(rows$time, calendar)
    }
  }
  if (inherits(rows$time, "Date")) {
    rows$time <- bar_days(rows$time, zone, calendar)
  }
  for (name in c("open", "high", "low", "close", "volume")) {
    rows[[name]] <- rows[[name]] %||% rep(NA_real_, n)
  }
  if (is.null(rows$session)) {
    rows$session <- if (!is.null(calendar) && short) {
      session_of(rows$time, calendar)
    } else {
      rep(NA_character_, n)
    }
  }
  rows$side <- rows$side %||% rep(NA_character_, n)
  rows$status <- rows$status %||% rep("observed", n)
  list_frame(rows)
}

# The start of bars that the source names by their end. A day that ends at its
# session's close rather than at midnight is the day of its last second.
bar_starts <- function(time, interval, zone) {
  known <- as.numeric(time[is.finite(time)])
  midnights <- all(known %% 86400 == 0) ||
    all(known == as.numeric(time_local(local_day(utc(known), zone), 0, zone)))
  if (identical(interval$iso, "P1D") && !midnights) {
    time - 1
  } else {
    shift_instant(time, interval, -1, zone)
  }
}

# Daily and longer bars whose instants are all midnight, local or UTC, are
# dates; unless trading days begin then.
midnight_days <- function(time, zone, calendar) {
  known <- time[is.finite(time)]
  if (!length(known) ||
    (!is.null(calendar) &&
      all(
        known %in% sessions_around(calendar, min(known), max(known))$open
      ))) {
    return(time)
  }
  if (all(as.numeric(known) %% 86400 == 0)) {
    as.Date(time, tz = "UTC")
  } else if (all(
    as.numeric(known) == as.numeric(time_local(local_day(known, zone), 0, zone))
  )) {
    local_day(time, zone)
  } else {
    time
  }
}

bar_days <- function(day, zone, calendar) {
  time <- utc(rep(NA_real_, length(day)))
  known <- !is.na(day)
  time[known] <- day_times(day[known], zone, calendar)
  time
}

# Rows that could not be decoded, and bars that fail a check; a row is rejected
# once, for its first reason.
page_rejected <- function(rows, body, dataset, judged) {
  decoded <- body$rejected
  if (!nrow(judged) && !nrow(decoded)) {
    return(no_rejected_rows)
  }
  judged <- judged[!judged$row %in% decoded$row & !duplicated(judged$row), ]
  row <- c(decoded$row, judged$row)
  at <- if (is.null(body$at)) judged$row else body$at[judged$row]
  data.frame(
    row = row,
    symbol = rows$symbol[row] %||% rep(NA_character_, length(row)),
    time = if (is.null(rows$time)) {
      rep(NA_real_, length(row))
    } else {
      as.numeric(rows$time)[row]
    },
    place = c(
      decoded$pointer,
      sprintf("%s/%d", dataset$rows %||% "", as.integer(at) - 1L)
    ),
    reason = c(decoded$reason, judged$reason),
    detail = c(decoded$detail, judged$detail)
  )
}

# Bars with equal time, side and symbol, by the rule of rows-doubled.R;
# `without` are rows rejected for other reasons, and `at` is the number of each
# row in the answer.
doubled_bars <- function(rows, without, at) {
  if (nrow(rows) < 2) {
    return(no_wrong_bars)
  }
  key <- bar_keys(rows, c(without, which(is.na(rows$time))))
  values <- rows[
    intersect(c("close", "open", "high", "low", "volume"), names(rows))
  ]
  doubled_rejected(rows, doubled_rows(key, values, at))
}
