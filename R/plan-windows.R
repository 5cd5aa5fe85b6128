# Windows: cutting to the size of a request, and what remains missing.

# The widest window of one request, for all intervals or for each.
widest_window <- function(query) {
  widest <- query$dataset$widest
  if (is.list(widest)) {
    matching <- vapply(
      names(widest),
      function(name) time_interval(name)$iso == query$interval$iso %||% "", TRUE
    )
    widest <- if (any(matching)) widest[[which(matching)[1]]]
  }
  widest %|else|% time_interval
}

# Without pages a request is cut so that its bars fit into one answer, by the
# times that the calendar expects.
cut_rows <- function(piece, query, calendar) {
  dataset <- query$dataset
  if (is.null(dataset$largest_page) ||
    !is.null(dataset$job) ||
    (dataset$next_page$by %||% "none") != "none") {
    return(piece)
  }
  calendar <- calendar %||%
    calendar_make(list(calendar = "every day", zone = query$source$zone))
  times <- as.numeric(
    calendar_times(
      calendar, query$interval, utc(piece$from), utc(piece$to),
      if (query$session != "all") main_session(calendar)
    )
  )
  # symbols in one request share its rows
  most <- max(
    1,
    dataset$largest_page %/%
      min(dataset$symbols_a_request %||% 1, length(query$symbols))
  )
  cuts <- times[seq_along(times) > 1 & (seq_along(times) - 1) %% most == 0]
  data.frame(
    symbol = piece$symbol,
    from = c(piece$from, cuts),
    to = c(cuts, piece$to)
  )
}

cut_widest <- function(piece, query, calendar = NULL) {
  length <- widest_window(query)
  if (is.null(length)) {
    return(piece)
  }
  whole <- asks_for_whole(query$dataset, length) ||
    !is.null(query$dataset$aligned)
  cuts <- piece$from
  repeat {
    last <- utc(cuts[length(cuts)])
    after <- as.numeric(shift_instant(last, length, 1, query$source$zone))
    if (whole) {
      # a monthly file has the whole month, wherever the window begins
      after <- as.numeric(
        time_local(
          bucket_start(
            bucket_of_day(local_day(last, query$source$zone), length) + 1,
            length
          ),
          0, query$source$zone
        )
      )
    } else if (!is_intraday(length)) {
      midnight <- as.numeric(
        time_local(
          local_day(utc(after), query$source$zone), 0, query$source$zone
        )
      )
      if (midnight > cuts[length(cuts)]) after <- midnight
    }
    if (after >= piece$to) break
    cuts <- c(cuts, after)
  }
  data.frame(symbol = piece$symbol, from = cuts, to = c(cuts[-1], piece$to))
}

# The window in a request for whole months or years: extended to them.
aligned_window <- function(from, to, dataset, zone) {
  if (is.null(dataset$aligned)) {
    return(list(from = from, to = to))
  }
  length <- time_interval(dataset$aligned, "aligned")
  edge <- function(instant, further) {
    bucket <- bucket_of_day(local_day(instant, zone), length) + further
    time_local(bucket_start(bucket, length), 0, zone)
  }
  list(from = edge(from, 0), to = edge(utc(as.numeric(to) - 1e-6), 1))
}

# Whether a request is for a whole month or year: its window has no day.
asks_for_whole <- function(dataset, length) {
  rules <- Filter(
    function(name) (dataset$parameters[[name]]$gives %||% name) == "from",
    unique(template_variables(paste0(dataset$request, dataset$body)))
  )
  written <- lapply(rules, function(name) dataset$parameters[[name]]$written)
  length$unit %in% c("month", "year") &&
    length(written) > 0 &&
    !any(vapply(written, is.null, TRUE)) &&
    !any(grepl("%[dejDFsxcU]", unlist(written)))
}

# The query's window minus coverage, by symbol: a data frame of symbol, from,
# to. Coverage is read once for all.
missing_bars <- function(query, archive, calendar = NULL) {
  symbols <- query$symbols
  window <- list(from = as.numeric(query$from), to = as.numeric(query$to))
  whole <- function(symbols) {
    data.frame(
      symbol = symbols,
      from = rep(window$from, length(symbols)),
      to = rep(window$to, length(symbols))
    )
  }
  if (is.null(archive)) {
    return(whole(symbols))
  }
  covered <- query$covered %||% covered_symbols(query, archive)
  # most symbols are covered by one range, or by none
  number <- match(covered$symbol, symbols)
  over <- covered$start <= window$from & covered$end >= window$to
  done <- logical(length(symbols))
  done[number[which(over)]] <- TRUE
  symbols <- symbols[!done]
  # ignore coverage outside the window and of other symbols
  there <- which(
    !done[number] & covered$end > window$from & covered$start < window$to
  )
  covered <- covered[there, c("symbol", "start", "end")]
  number <- match(covered$symbol, symbols)
  count <- tabulate(number, length(symbols))
  at <- match(symbols, covered$symbol)
  single <- which(count == 1)
  before <- data.frame(
    symbol = symbols[single],
    from = rep(window$from, length(single)),
    to = covered$start[at[single]]
  )
  after <- data.frame(
    symbol = symbols[single],
    from = covered$end[at[single]],
    to = rep(window$to, length(single))
  )
  after <- after[after$from < after$to, ]
  several <- which(count[number] > 1)
  groups <- split(several, number[several])
  left <- lapply(unname(groups), function(at) {
    missing_of(
      window, NULL, list(start = covered$start[at], end = covered$end[at])
    )
  })
  rest <- data.frame(
    symbol = rep(symbols[as.integer(names(groups))], vapply(left, nrow, 0L)),
    from = as.numeric(unlist(lapply(left, `[[`, "start"))),
    to = as.numeric(unlist(lapply(left, `[[`, "end")))
  )
  all <- rbind(whole(symbols[count == 0]), before, after, rest)
  all <- all[all$from < all$to, ]
  all <- kept_pieces(all, all$from > window$from, query, calendar)
  all[order(match(all$symbol, symbols), all$from), ]
}

# A window minus the covered ranges of some keys: a data frame of start, end.
missing_of <- function(window, keys, ranges) {
  # nothing is covered
  start <- as.numeric(ranges$start)
  end <- as.numeric(ranges$end)
  if (!is.null(keys)) {
    matching <- ranges$key %in% keys
    start <- start[matching]
    end <- end[matching]
  }
  at <- as.numeric(window$from)
  to <- as.numeric(window$to)
  from <- until <- numeric()
  for (i in order(start)) {
    if (end[i] <= max(at, start[i]) || start[i] >= to) next
    if (start[i] > at) {
      from <- c(from, at)
      until <- c(until, start[i])
    }
    at <- end[i]
  }
  if (at < to) {
    from <- c(from, at)
    until <- c(until, to)
  }
  list_frame(list(start = from, end = until))
}

# The greatest number of rows that the calendar expects; without a calendar all
# hours count.
expected_rows <- function(query, requests, calendar) {
  if (!nrow(requests)) {
    return(numeric())
  }
  seconds <- query$interval$seconds
  window <- window_numbers(as.numeric(requests$from), as.numeric(requests$to))
  windows <- requests[!duplicated(window), c("from", "to")]
  counts <- vapply(
    seq_len(nrow(windows)),
    function(i) {
      from <- windows$from[i]
      to <- windows$to[i]
      if (!is.null(calendar)) {
        session <- if (query$session == "all") NULL else "regular"
        return(
          length(calendar_times(calendar, query$interval, from, to, session))
        )
      }
      length_of <- as.numeric(to) - as.numeric(from)
      as.integer(
        ceiling(
          length_of /
            if (is.na(seconds)) {
              c(month = 28, year = 365)[[query$interval$unit]] * 86400 *
                query$interval$count
            } else {
              seconds
            }
        )
      )
    },
    0L
  )
  counts[match(window, unique(window))]
}
