# The methods of queries of bars, see query-kinds.R.

#' @export
query_requests.vetusta_query_bars <- function(query, archive) {
  plan_bars(query, archive)
}

#' @export
query_chain.vetusta_query_bars <- function(query, planned,
                                           noted = function(kind, key) NULL) {
  symbols <- planned$symbols[[1]]
  to <- planned$to
  # bars are named by their end, and the last one's end is that of the window
  if (identical(query$dataset$bar_time, "end")) {
    to <- shift_instant(to, query$interval, 1, query$source$zone)
  }
  asked <- aligned_window(planned$from, to, query$dataset, query$source$zone)
  known <- c(
    planned$keys[[1]], asked,
    list(
      symbol = symbols[1],
      symbols = symbols,
      interval = query$interval$iso,
      session = query$session,
      largest_page = query$dataset$largest_page
    )
  )
  ordinary_chain(
    query,
    planned,
    known,
    windowed = has_window(query$dataset),
    noted
  )
}

# Coverage of bars grows while others collect: series are claimed, and the rest
# is computed afterwards.
#' @export
query_claim.vetusta_query_bars <- function(query, chain) {
  source <- query$source$source
  # a gap that is tried again never shrinks
  if (isTRUE(chain$planned$again)) {
    return(
      list(
        name = claim_name(source, query$dataset$name, "again", chain$start),
        shows = FALSE
      )
    )
  }
  name <- if (chain$windowed) {
    claim_name(source, query$dataset$name, query$interval$iso, chain$symbols)
  } else {
    claim_name(source, query$dataset$name, chain$start)
  }
  list(name = name, shows = chain$windowed)
}

#' @export
query_rest.vetusta_query_bars <- function(query, chain, covered) {
  ranges <- covered(query_cover_keys(query, chain))
  left <- missing_of(
    list(from = chain$from, to = chain$to),
    bars_cover_keys(chain$symbols[1], query), ranges
  )
  for (symbol in chain$symbols[-1]) {
    left <- rbind(
      left,
      missing_of(
        list(from = chain$from, to = chain$to), bars_cover_keys(symbol, query),
        ranges
      )
    )
  }
  planned_rest(chain$planned, kept_rest(left, query, chain))
}

#' @export
query_cover_keys.vetusta_query_bars <- function(query, chain) {
  bars_cover_keys(chain$symbols, query)
}

#' @export
query_answered.vetusta_query_bars <- function(query, requests, covered) {
  out <- logical(nrow(requests))
  symbols <- vapply(requests$symbols, function(x) {
    if (length(x) == 1) as.character(x) else NA_character_
  }, "")
  alone <- which(!is.na(symbols) & !is.na(requests$from))
  if ("again" %in% names(requests)) {
    alone <- alone[!requests$again[alone] %in% TRUE]
  }
  ranges <- covered(bars_cover_keys(symbols[alone], query))
  ranges <- ranges[!duplicated(ranges$key), ]
  for (session in unique(c(query$session, "all"))) {
    key <- bars_cover_key(symbols[alone], query$interval$iso, session)
    at <- match(key, ranges$key)
    whole <- ranges$start[at] <= as.numeric(requests$from[alone]) &
      ranges$end[at] >= as.numeric(requests$to[alone])
    out[alone[which(whole)]] <- TRUE
  }
  out
}

# The keys under which a symbol's coverage is stored: coverage of all sessions
# includes the regular one.
bars_cover_keys <- function(symbols, query) {
  unlist(
    lapply(
      unique(c(query$session, "all")),
      function(session) bars_cover_key(symbols, query$interval$iso, session)
    )
  )
}

#' @export
query_empty_page.vetusta_query_bars <- function(query, chain, calendar) {
  nothing <- list(
    columns = empty_columns(query$dataset),
    rows = 0L,
    rejected = no_wrong_values
  )
  page_make(query_tidy(query, calendar, chain$symbols, nothing)$rows)
}

#' @export
query_tidy.vetusta_query_bars <- function(query, calendar, symbols, decoded) {
  rows <- decoded_rows(query, symbols, decoded)
  if (!is.null(rows[["ends"]])) {
    rows <- unfinished_bars(rows, decoded$came %||% now_seconds())
  }
  notes <- if (!is.null(attr(rows, "apart"))) apart_note(attr(rows, "apart"))
  rows <- complete_bars(
    rows, calendar, query$interval, query$source$zone, query$dataset$bar_time
  )
  others <- if (!is.null(decoded$columns$symbol)) {
    other_symbols(rows$symbol, symbols)
  }
  judged <- bars_check(rows)
  # a missing time leaves the order open
  if (!isFALSE(is.unsorted(as.numeric(rows$time), strictly = TRUE))) {
    judged <- faults_joined(
      judged,
      doubled_bars(rows, c(judged$row, decoded$rejected$row), decoded$at)
    )
  }
  if (length(others)) judged <- faults_joined(other_rows(rows, symbols), judged)
  list(
    rows = rows,
    rejected = if (nrow(judged) || nrow(decoded$rejected)) {
      page_rejected(rows, decoded, query$dataset, judged)
    } else {
      no_rejected_rows
    },
    others = others,
    notes = notes
  )
}

# Where the service states the end of a bar, a bar that ends after the answer's
# arrival is provisional.
unfinished_bars <- function(rows, came) {
  ends <- rows[["ends"]]
  if (is.null(rows[["status"]])) rows$status <- rep("observed", nrow(rows))
  rows$status[as.numeric(ends) > came] <- "provisional"
  rows$ends <- NULL
  rows
}

apart_note <- function(count) {
  if (isTRUE(count > 0)) {
    paste0(
      counted(count, "time"), if (count == 1) " differs" else " differ",
      " by less than a microsecond from the time before: stored a ",
      "microsecond apart, in order"
    )
  }
}

# Symbols in an answer that has none of the requested ones.
other_symbols <- function(came, asked) {
  if (!length(asked) || !length(came)) {
    return(character())
  }
  came <- text_groups(as.character(came), lone = TRUE)$levels
  came <- came[!is.na(came)]
  if (any(came %in% asked)) character() else came
}

other_rows <- function(rows, symbols) {
  n <- nrow(rows)
  data.frame(
    row = seq_len(n),
    symbol = as.character(rows$symbol),
    time = rows$time,
    reason = rep("another symbol than requested", n),
    detail = rep(paste("requested", few_words(symbols)), n)
  )
}

# The usual page has neither.
faults_joined <- function(a, b) {
  if (!nrow(a)) b else if (!nrow(b)) a else rbind(a, b)
}

#' @export
query_parcel.vetusta_query_bars <- function(query, chain, page, good) {
  if (!nrow(good)) {
    return(NULL)
  }
  archive_parcel("bars", good, frequency = query$interval$iso)
}

# Coverage is recorded for the requested symbols, including those without rows.
# An unfinished bar is not covered and is requested again.
#' @export
query_covered.vetusta_query_bars <- function(query, chain, good, whole) {
  if (is.null(chain$from)) {
    return(NULL)
  }
  open <- !is.na(good$status) & good$status == "provisional"
  cover <- if (length(chain$symbols) == 1) {
    chain$cover
  } else if (isTRUE(chain$last)) {
    c(chain$from, chain$to)
  }
  if (!length(cover)) {
    return(NULL)
  }
  ends <- rep(cover[2], length(chain$symbols))
  if (any(open)) {
    ends <- vapply(
      chain$symbols,
      function(symbol) {
        min(cover[2], as.numeric(good$time)[open & good$symbol == symbol])
      },
      0
    )
  }
  key <- bars_cover_key(chain$symbols, query$interval$iso, query$session)
  later <- ends > cover[1]
  list_frame(
    list(key = key[later], start = rep(cover[1], sum(later)), end = ends[later])
  )
}

#' @export
query_place.vetusta_query_bars <- function(query, chain) {
  key <- function(sessions) {
    unlist(lapply(sessions, function(name) {
      bars_cover_key(chain$symbols, query$interval$iso, name)
    }))
  }
  # all sessions include the regular one
  list(
    keys = key(query$session),
    settles = key(
      if (query$session == "all") c("all", "regular") else query$session
    ),
    start = chain$start,
    from = chain$from,
    to = chain$to
  )
}

#' @export
query_notes.vetusta_query_bars <- function(query, chain) NULL

#' @export
query_table.vetusta_query_bars <- function(query, page, rows) {
  without_notes(bars_frame(rows))
}

#' @export
query_round.vetusta_query_bars <- function(query) NULL

#' @export
query_failed.vetusta_query_bars <- function(query, chain) chain$symbols

#' @export
query_without.vetusta_query_bars <- function(query, chain) chain$symbols

# The symbols for which nothing has ever come.
#' @export
query_empty.vetusta_query_bars <- function(query, tally, sink) {
  empty <- unique(tally_without(tally, tally$empty))
  if (length(empty)) empty[!sink$has_bars(empty, query$interval$iso)] else empty
}

#' @export
query_again.vetusta_query_bars <- function(query, tally) {
  c(query$dataset$name, unique(tally$failed$symbol))
}

#' @export
query_noun.vetusta_query_bars <- function(query) "bars"

#' @export
query_plan_text.vetusta_query_bars <- function(query, plan) {
  head <- c(
    paste0(
      "plan: bars of ", format(query$interval), " from ", query$source$title
    ),
    paste0(
      "  window    ", format_instant(query$from), " to ",
      format_instant(query$to), ", session ", query$session
    )
  )
  requests <- plan$requests
  # where the card does not state the page length, the number of pages is
  # unknown
  open <- (query$dataset$next_page$by %||% "none") != "none" &&
    is.null(query$dataset$largest_page)
  takes <- paste0(
    "  requests  ", if (open) "at least ", thousands(plan$pages), " for ",
    counted(length(unique(unlist(requests$symbols))), "symbol"), ", at most ",
    thousands(plan$rows), " bars"
  )
  table <- data.frame(
    symbol = requests$label,
    from = format_instant(requests$from),
    to = format_instant(requests$to),
    bars = requests$rows,
    requests = requests$pages
  )
  plan_text(plan, head, takes, table)
}
