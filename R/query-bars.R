#' Query bars
#'
#' @param source A source, see [source_card()].
#' @param symbols The symbols, one or more.
#' @param interval The bars' interval, see [time_interval()].
#' @param span A length of history back from `to` (`"10 days"`, `"6 months"`),
#'   or `"year to date"`, `"quarter to date"`, `"month to date"`, `"week to
#'   date"`.
#' @param from,to The window, days or instants, see [time_instant()]; days are
#'   local to the source's zone, and a day as `to` is included whole. Either
#'   `span` or `from` is given, never both; `to` is now by default.
#' @param session `"regular"`, or `"all"` for early and late trading too.
#' @param dataset The dataset's name, where a source has several that give bars.
#' @param now The present; it is an argument so that a query can be repeated.
#' @return A `vetusta_query`: a list with `source`, `dataset`, `symbols`,
#'   `interval`, `from`, `to` (`POSIXct` in UTC, `to` excluded), `session` and
#'   `notes`: what was changed, such as an end that was clipped because it lies
#'   in the future or because the source withholds its newest data.
#' @section Errors: `vetusta_error_argument` for an empty list of symbols, an
#'   unknown interval, a date that is none, from after to, span together with
#'   from, or a session the source does not know.
#' @export
#' @examples
#' query_bars(source_card("quay"), c("KELD", "TAMX"),
#'   interval = "1 minute", from = "2026-03-12",
#'   to = "2026-03-26"
#' )
query_bars <- function(source, symbols, interval, span = NULL, from = NULL,
                       to = NULL, session = "regular", dataset = NULL,
                       now = Sys.time()) {
  check_source(source)
  symbols <- check_symbols(symbols)
  interval <- time_interval(interval)
  check_choice(session, "session", c("regular", "all"))
  dataset <- pick_dataset(source, dataset)
  check_dataset_interval(dataset, interval)
  window <- query_window(source, span, from, to, now)
  new_query(
    "bars",
    source = source, dataset = dataset, symbols = symbols,
    interval = interval, from = window$from, to = window$to, session = session,
    notes = window$notes
  )
}

check_source <- function(source) {
  source <- given(source, "source")
  if (!inherits(source, "vetusta_source")) {
    vetusta_stop(
      "argument", "`source` must be a source.",
      todo = "read a source with source_card()"
    )
  }
}

check_symbols <- function(symbols) {
  symbols <- given(symbols, "symbols")
  if (!is.character(symbols) || !length(symbols)) {
    vetusta_stop(
      "argument", "There are no symbols in the query.",
      todo = "name at least one symbol, as in c(\"KELD\", \"TAMX\")"
    )
  }
  symbols <- trimws(symbols)
  if (anyNA(symbols) || any(!nzchar(symbols))) {
    vetusta_stop(
      "argument", "One of the symbols is empty.",
      todo = "leave it out"
    )
  }
  # such a name would be a path step and lead elsewhere
  if (any(symbols %in% c(".", ".."))) {
    vetusta_stop(
      "argument",
      paste0(
        "\"", symbols[symbols %in% c(".", "..")][1],
        "\" is neither a symbol nor a key."
      ),
      todo = "leave it out"
    )
  }
  unique(symbols)
}

# The named dataset of bars, or the only one of the source.
pick_dataset <- function(source, name) {
  fitting <- Filter(gives_bars, source$datasets)
  if (!length(fitting)) {
    vetusta_stop(
      "argument",
      paste0("The source ", source$source, " has no dataset of bars."),
      where = source$file,
      todo = "add a dataset to its card, or use another source"
    )
  }
  if (is.null(name) && length(fitting) > 1) {
    vetusta_stop(
      "argument",
      paste0("The source ", source$source, " has several datasets of bars."),
      todo = paste0("name one: ", paste(names(fitting), collapse = ", "))
    )
  }
  if (is.null(name)) {
    fitting[[1]]
  } else {
    fitting[[check_choice(name, "dataset", names(fitting))]]
  }
}

# A dataset that lists its intervals has no others; this is checked before any
# request.
check_dataset_interval <- function(dataset, interval) {
  rules <- Filter(
    function(name) (dataset$parameters[[name]]$gives %||% name) == "interval",
    names(dataset$parameters)
  )
  words <- unlist(
    lapply(rules, function(name) names(dataset$parameters[[name]]$words))
  )
  words <- vapply(
    words,
    function(word) {
      tryCatch(time_interval(word)$iso, vetusta_error = function(e) word)
    },
    ""
  )
  if (length(words) && !interval$iso %in% words) {
    vetusta_stop(
      "argument",
      paste0(
        "The dataset ", dataset$name, " has no bars of ", format(interval), "."
      ),
      todo = paste0(
        "choose one of: ",
        paste(
          vapply(
            words,
            function(iso) {
              tryCatch(
                format(time_interval(iso)),
                vetusta_error = function(e) iso
              )
            },
            ""
          ),
          collapse = ", "
        ),
        "; make longer bars with bars_resample()"
      )
    )
  }
}

query_window <- function(source, span, from, to, now) {
  if (!is.null(span) && !is.null(from)) {
    vetusta_stop(
      "argument", "Give either `span` or `from`, not both.",
      todo = "leave out `span` or `from`"
    )
  }
  if (is.null(span) && is.null(from)) {
    vetusta_stop(
      "argument", "A query needs `span` or `from`.",
      todo = "give span = \"10 days\", or from = \"2026-03-12\""
    )
  }
  # whole seconds are precise enough
  now <- utc(floor(as.numeric(now)))
  end <- if (is.null(to)) {
    now
  } else {
    time_instant(to, source$zone, end = TRUE, name = "to")
  }
  clipped <- clip_end(source, end, now, said = !is.null(to))
  start <- if (is.null(span)) {
    time_instant(from, source$zone, name = "from")
  } else {
    span_start(check_text(span, "span"), clipped$to, source$zone)
  }
  if (start >= now) {
    vetusta_stop(
      "argument",
      paste0("The query begins in the future (", format_instant(start), ")."),
      todo = "choose an earlier `from`"
    )
  }
  if (start >= end) {
    vetusta_stop(
      "argument",
      paste0(
        "The query begins (", format_instant(start), ") at or after its end (",
        format_instant(end), ")."
      ),
      todo = "swap `from` and `to`, or correct one of them"
    )
  }
  if (start >= clipped$to) {
    vetusta_stop(
      "argument",
      paste0(
        "The query begins (", format_instant(start),
        ") after the latest available data (", format_instant(clipped$to), ")."
      ),
      todo = "choose an earlier `from`"
    )
  }
  list(from = start, to = clipped$to, notes = clipped$notes)
}

clip_end <- function(source, end, now, said) {
  notes <- character()
  if (end > now) {
    notes <- c(notes, "the end is in the future: cut to now")
    end <- utc(now)
  }
  newest <- if (is.null(source$delay)) {
    now
  } else {
    utc(as.numeric(now) - source$delay$seconds)
  }
  if (end > newest) {
    notes <- c(
      notes,
      paste0(
        "the source withholds the newest ", format(source$delay),
        ": clipped to ", format_instant(floor(as.numeric(newest)))
      )
    )
    end <- utc(floor(as.numeric(newest)))
  }
  list(to = end, notes = notes)
}

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
  rows <- unfinished_bars(
    decoded_rows(query, symbols, decoded), decoded$came %||% now_seconds()
  )
  notes <- apart_note(attr(rows, "apart"))
  rows <- complete_bars(
    rows, calendar, query$interval, query$source$zone, query$dataset$bar_time
  )
  others <- other_symbols(rows$symbol, symbols)
  judged <- bars_check(rows)
  judged <- faults_joined(
    judged, doubled_bars(rows, c(judged$row, decoded$rejected$row), decoded$at)
  )
  if (length(others)) judged <- faults_joined(other_rows(rows, symbols), judged)
  list(
    rows = rows,
    rejected = page_rejected(rows, decoded, query$dataset, judged),
    others = others,
    notes = notes
  )
}

# Where the service states the end of a bar, a bar that ends after the answer's
# arrival is provisional.
unfinished_bars <- function(rows, came) {
  ends <- rows[["ends"]]
  if (is.null(ends)) {
    return(rows)
  }
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
