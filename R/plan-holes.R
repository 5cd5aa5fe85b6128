# Gaps in bars that are kept current: a service may publish late what it lacked
# before. Once a day the trading days without bars are listed, and each is
# requested again when its age has doubled: after 1, 2, 4, ... up to 32 days.

hole_every <- 86400
hole_oldest <- 64 * 86400

# The first note is made when a query is complete; gaps of a new history are not
# tried again at once.
hole_note <- function(query) {
  words <- vapply(
    list(query$symbols, query$interval$iso, query$session), json_array, ""
  )
  content_hash(charToRaw(paste0("[", paste(words, collapse = ","), "]")))
}

hole_looked <- function(query, archive) {
  store_notes(
    archive, "holes", query$source$source, query$dataset$name, hole_note(query)
  )$at
}

# The query is complete: ages count from now on.
holes_seen <- function(query, archive) UseMethod("holes_seen")

#' @export
holes_seen.default <- function(query, archive) invisible()

#' @export
holes_seen.vetusta_query_bars <- function(query, archive) {
  looked <- hole_looked(query, archive)
  if (!length(looked) || now_seconds() - looked >= hole_every) {
    store_note(
      archive, "holes", query$source$source, query$dataset$name,
      hole_note(query), ""
    )
  }
}

# Ranges of bars to request again: a data frame of symbol, from, to.
hole_pieces <- function(query, archive, calendar) {
  none <- data.frame(symbol = character(), from = numeric(), to = numeric())
  if (!is_kept(query) ||
    is.null(archive) ||
    is.null(calendar) ||
    !has_window(query$dataset)) {
    return(none)
  }
  looked <- hole_looked(query, archive)
  now <- as.numeric(query$to)
  if (!length(looked) || now_seconds() - looked < hole_every) {
    return(none)
  }
  from <- max(as.numeric(query$from), now - hole_oldest)
  due <- hole_times(query, calendar, from, now)
  series <- store_series(
    archive, query$source$source, query$dataset$name, shape = "bars"
  )
  series <- series[query_series(query, series), , drop = FALSE]
  if (!nrow(due) || !nrow(series)) {
    return(none)
  }
  read <- read_rows(archive, series, from, now, Inf)
  symbol <- as.character(series_dimensions(series)[["symbol"]])
  pieces <- lapply(intersect(query$symbols, symbol), function(name) {
    matching <- which(symbol == name)
    times <- unique(read$columns$time[read$owner %in% matching])
    stretch <- hole_stretches(due, times)
    age <- now_seconds() - stretch$to
    again <- doubled_age(age, looked - stretch$to)
    data.frame(
      symbol = rep(name, sum(again)),
      from = stretch$from[again],
      to = stretch$to[again]
    )
  })
  do.call(rbind, c(list(none), pieces))
}

# Whether an age has passed 1, 2, 4, ... days since the last attempt, when it
# was `before`.
doubled_age <- function(age, before, base = 86400, most = 33 * 86400) {
  passed <- function(age) {
    ifelse(age < base, -1, floor(log2(pmax(age, base) / base)))
  }
  age < most + hole_every * 7 &
    passed(age) > passed(before) &
    passed(age) <= log2(most / base)
}

# The times that the calendar expects: a row a bar, or a trading day for bars
# within the day.
hole_times <- function(query, calendar, from, to) {
  interval <- query$interval
  session <- if (query$session != "all") main_session(calendar)
  times <- calendar_times(calendar, interval, utc(from), utc(to), session)
  at <- as.numeric(times)
  if (!is_intraday(interval)) {
    return(
      data.frame(
        time = at,
        end = as.numeric(trading_ends(times, interval, calendar)),
        day = seq_along(at)
      )
    )
  }
  day <- local_day(times, calendar$zone)
  data.frame(
    time = at,
    end = at + interval$seconds,
    day = match(day, unique(day))
  )
}

# Trading days with missing bars, adjacent ones joined: days without bars, or
# for bars within the day with less than half of the symbol's median share. Days
# before the first bar or after the last are no gaps.
hole_stretches <- function(due, times) {
  due <- due[due$time >= min(times, Inf), , drop = FALSE]
  days <- unique(due$day)
  day <- factor(due$day, days)
  there <- as.numeric(tapply(due$time %in% times, day, mean))
  some <- there > 0
  if (!any(some)) {
    return(data.frame(from = numeric(), to = numeric()))
  }
  lacks <- there < stats::median(there[some]) / 2
  lacks[seq_along(lacks) > max(which(some))] <- FALSE
  runs <- rle(lacks)
  ends <- cumsum(runs$lengths)
  begins <- ends - runs$lengths + 1
  from <- as.numeric(tapply(due$time, day, min))
  to <- as.numeric(tapply(due$end, day, max))
  data.frame(from = from[begins[runs$values]], to = to[ends[runs$values]])
}
