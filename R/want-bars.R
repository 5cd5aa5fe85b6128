#' Say what is wanted: bars
#'
#' @param source A source, see [source_card()].
#' @param symbols The symbols, one or more.
#' @param interval The bars' interval, see [time_interval()].
#' @param span A length of history back from `to` (`"10 days"`, `"6 months"`).
#' @param from,to The window, days or instants, see [time_instant()]; days are local to the
#'   source's zone, and a day as `to`
#'   is included whole. Either `span` or `from` is given, never both; `to` is now by default.
#' @param session `"regular"`, or `"all"` for early and late trading too.
#' @param dataset The dataset's name, where a source has several that give bars.
#' @param now The present; it is an argument so that a want can be repeated.
#' @return A `vetusta_want`: a list with `source`, `dataset`, `symbols`, `interval`, `from`, `to`
#'   (`POSIXct` in UTC, `to`
#'   excluded), `session` and `notes`: what was changed, such as an end that was clipped because it
#'   lies in the future or
#'   because the source withholds its newest data.
#' @section Errors: `vetusta_error_want` for an empty list of symbols, an unknown interval, a
#'   date that is none, from after
#'   to, span together with from, or a session the source does not know.
#' @export
#' @examples
#' want_bars(source_card("quay"), c("KELD", "TAMX"), interval = "1 minute", from = "2026-03-12", to
#' = "2026-03-26")
want_bars <- function(source, symbols, interval, span = NULL, from = NULL, to = NULL,
  session = "regular", dataset = NULL, now = Sys.time()) {
  check_source(source)
  symbols <- check_symbols(symbols)
  interval <- time_interval(interval)
  check_choice(session, "session", c("regular", "all"))
  dataset <- pick_dataset(source, dataset)
  check_dataset_interval(dataset, interval)
  window <- want_window(source, span, from, to, now)
  new_want("bars", source = source, dataset = dataset, symbols = symbols, interval = interval,
    from = window$from,
    to = window$to, session = session, notes = window$notes)
}

check_source <- function(source) {
  source <- given(source, "source")
  if (!inherits(source, "vetusta_source")) {
    vetusta_stop("want", "`source` must be a source.", todo = "read one with source_card()")
  }
}

check_symbols <- function(symbols) {
  symbols <- given(symbols, "symbols")
  if (!is.character(symbols) || !length(symbols)) {
    vetusta_stop("want", "There are no symbols in the want.",
      todo = "name at least one, as in c(\"KELD\", \"TAMX\")")
  }
  symbols <- trimws(symbols)
  if (anyNA(symbols) || any(!nzchar(symbols))) {
    vetusta_stop("want", "One of the symbols is empty.", todo = "leave it out")
  }
  # such a name would be a step in a path, and lead to another place
  if (any(symbols %in% c(".", ".."))) {
    vetusta_stop("want",
      paste0("\"", symbols[symbols %in% c(".", "..")][1], "\" is no symbol and no key."),
      todo = "leave it out")
  }
  unique(symbols)
}

# The dataset of bars that is named, or the only one that the source has.
pick_dataset <- function(source, name) {
  fitting <- Filter(gives_bars, source$datasets)
  if (!length(fitting)) {
    vetusta_stop("want", paste0("The source ", source$source, " has no dataset of bars."),
      where = source$file,
      todo = "add a dataset to its card, or ask another source")
  }
  if (is.null(name) && length(fitting) > 1) {
    vetusta_stop("want", paste0("The source ", source$source, " has several datasets of bars."),
      todo = paste0("name one: ", paste(names(fitting), collapse = ", ")))
  }
  if (is.null(name)) fitting[[1]] else fitting[[check_choice(name, "dataset", names(fitting))]]
}

# A dataset that lists its intervals has no others; the list is refused before any call is spent.
check_dataset_interval <- function(dataset, interval) {
  rules <- Filter(function(name) (dataset$parameters[[name]]$gives %||% name) == "interval",
    names(dataset$parameters))
  words <- unlist(lapply(rules, function(name) names(dataset$parameters[[name]]$words)))
  words <- vapply(words,
    function(word) tryCatch(time_interval(word)$iso, vetusta_error = function(e) word), "")
  if (length(words) && !interval$iso %in% words) {
    vetusta_stop("want",
      paste0("The dataset ", dataset$name, " has no bars of ", format(interval), "."),
      todo = paste0("choose one of: ",
        paste(vapply(words,
          function(iso) tryCatch(format(time_interval(iso)), vetusta_error = function(e) iso), ""),
          collapse = ", "),
        "; longer ones are made with bars_resample()"))
  }
}

want_window <- function(source, span, from, to, now) {
  if (!is.null(span) && !is.null(from)) {
    vetusta_stop("want", "A want has a span or a from, never both.",
      todo = "leave out `span` or `from`")
  }
  if (is.null(span) && is.null(from)) {
    vetusta_stop("want", "A want needs a span or a from.",
      todo = "give span = \"10 days\", or from = \"2026-03-12\"")
  }
  # a second is fine enough for now
  now <- utc(floor(as.numeric(now)))
  end <- if (is.null(to)) now else time_instant(to, source$zone, end = TRUE, name = "to")
  clipped <- clip_end(source, end, now, said = !is.null(to))
  start <- if (is.null(span)) time_instant(from, source$zone, name = "from")
  else shift_instant(clipped$to, time_interval(span, "span"), -1, source$zone)
  if (start >= end) {
    vetusta_stop("want",
      paste0("The want begins (", format_instant(start), ") at or after its end (",
        format_instant(end), ")."), todo = "swap `from` and `to`, or correct one")
  }
  if (start >= clipped$to) {
    vetusta_stop("want",
      paste0("The want begins (", format_instant(start), ") after the newest data there is (",
        format_instant(clipped$to), ")."), todo = "choose an earlier `from`")
  }
  list(from = start, to = clipped$to, notes = clipped$notes)
}

clip_end <- function(source, end, now, said) {
  notes <- character()
  if (end > now) {
    notes <- c(notes, "the end lies in the future: clipped to now")
    end <- utc(now)
  }
  newest <- if (is.null(source$delay)) now else utc(as.numeric(now) - source$delay$seconds)
  if (end > newest) {
    notes <- c(notes,
      paste0("the source withholds the newest ", format(source$delay), ": clipped to ",
        format_instant(floor(as.numeric(newest)))))
    end <- utc(floor(as.numeric(newest)))
  }
  list(to = end, notes = notes)
}

#' @export
want_calls.vetusta_want_bars <- function(want, archive) plan_bars(want, archive)

#' @export
want_chain.vetusta_want_bars <- function(want, call, noted = function(kind, key) NULL) {
  symbols <- call$symbols[[1]]
  to <- call$to
  # the last bar of the window bears its end, which lies on the window's
  if (identical(want$dataset$bar_time, "end")) {
    to <- shift_instant(to, want$interval, 1, want$source$zone)
  }
  asked <- aligned_window(call$from, to, want$dataset, want$source$zone)
  known <- c(call$keys[[1]], asked, list(symbol = symbols[1], symbols = symbols,
    interval = want$interval$iso, session = want$session, largest_page = want$dataset$largest_page))
  ordinary_chain(want, call, known, windowed = has_window(want$dataset), noted)
}

# A stretch of bars shrinks while somebody collects it: what is claimed there are the series, of
# all sessions, and what is left
# shows afterwards.
#' @export
want_claim.vetusta_want_bars <- function(want, chain) {
  source <- want$source$source
  # a hole that is asked for again does not shrink: who asked since has seen what is there
  if (isTRUE(chain$call$again)) {
    return(list(name = claim_name(source, want$dataset$name, "again", chain$start), shows = FALSE))
  }
  name <- if (chain$windowed) claim_name(source, want$dataset$name, want$interval$iso,
    chain$symbols)
  else claim_name(source, want$dataset$name, chain$start)
  list(name = name, shows = chain$windowed)
}

#' @export
want_rest.vetusta_want_bars <- function(want, chain, covered) {
  held <- covered(want_cover_keys(want, chain))
  left <- missing_of(list(from = chain$from, to = chain$to),
    bars_cover_keys(chain$symbols[1], want), held)
  for (symbol in chain$symbols[-1]) {
    left <- rbind(left,
      missing_of(list(from = chain$from, to = chain$to), bars_cover_keys(symbol, want), held))
  }
  call_rest(chain$call, kept_rest(left, want, chain))
}

#' @export
want_cover_keys.vetusta_want_bars <- function(want, chain) bars_cover_keys(chain$symbols, want)

# The keys under which a symbol's stretches are held: all sessions cover the regular one too.
bars_cover_keys <- function(symbols, want) {
  unlist(lapply(unique(c(want$session, "all")),
    function(session) bars_cover_key(symbols, want$interval$iso, session)))
}

#' @export
want_empty_page.vetusta_want_bars <- function(want, chain, calendar) {
  nothing <- list(columns = empty_columns(want$dataset), rows = 0L, faults = no_faults)
  page_make(want_tidy(want, calendar, chain$symbols, nothing)$rows)
}

#' @export
want_tidy.vetusta_want_bars <- function(want, calendar, symbols, decoded) {
  rows <- decoded_rows(want, symbols, decoded)
  notes <- apart_note(attr(rows, "apart"))
  rows <- complete_bars(rows, calendar, want$interval, want$source$zone, want$dataset$bar_time)
  others <- other_symbols(rows$symbol, symbols)
  judged <- bars_faults(rows)
  judged <- faults_joined(judged, doubled_bars(rows, c(judged$row, decoded$faults$row),
    decoded$at))
  if (length(others)) judged <- faults_joined(other_rows(rows, symbols), judged)
  list(rows = rows, faults = page_faults(rows, decoded, want$dataset, judged), others = others,
    notes = notes)
}

apart_note <- function(count) {
  if (isTRUE(count > 0)) {
    paste0(counted(count, "time"), if (count == 1) " differs" else " differ",
      " by less than a microsecond from the one before: kept a microsecond apart, in order")
  }
}

# Symbols that came where none of those came that were asked for.
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
  data.frame(row = seq_len(n), symbol = as.character(rows$symbol), time = rows$time,
    fault = rep("another symbol than was asked for", n),
    detail = rep(paste("asked for", few_words(symbols)), n))
}

# The usual page has none of either.
faults_joined <- function(a, b) if (!nrow(a)) b else if (!nrow(b)) a else rbind(a, b)

#' @export
want_parcel.vetusta_want_bars <- function(want, chain, page, good) {
  if (!nrow(good)) {
    return(NULL)
  }
  archive_parcel("bars", good, frequency = want$interval$iso)
}

# What is covered is told of the symbols asked for, also where one has no rows. A bar that has not
# ended is not covered: it is
# asked for again the next time.
#' @export
want_covered.vetusta_want_bars <- function(want, chain, good, whole) {
  if (is.null(chain$from)) {
    return(NULL)
  }
  open <- !is.na(good$status) & good$status == "provisional"
  cover <- if (length(chain$symbols) == 1) chain$cover
  else if (isTRUE(chain$last)) c(chain$from, chain$to)
  if (!length(cover)) {
    return(NULL)
  }
  ends <- rep(cover[2], length(chain$symbols))
  if (any(open)) {
    ends <- vapply(chain$symbols, function(symbol) {
      min(cover[2], as.numeric(good$time)[open & good$symbol == symbol])
    }, 0)
  }
  key <- bars_cover_key(chain$symbols, want$interval$iso, want$session)
  held <- ends > cover[1]
  list_frame(list(key = key[held], start = rep(cover[1], sum(held)), end = ends[held]))
}

#' @export
want_place.vetusta_want_bars <- function(want, chain) {
  key <- function(sessions) {
    unlist(lapply(sessions, function(name) {
      bars_cover_key(chain$symbols, want$interval$iso, name)
    }))
  }
  # all sessions have the regular one in them
  list(keys = key(want$session), settles = key(if (want$session == "all") c("all", "regular")
  else want$session), start = chain$start, from = chain$from, to = chain$to)
}

#' @export
want_notes.vetusta_want_bars <- function(want, chain) NULL

#' @export
want_table.vetusta_want_bars <- function(want, page, rows) without_notes(bars_frame(rows))

#' @export
want_round.vetusta_want_bars <- function(want) NULL

#' @export
want_failed.vetusta_want_bars <- function(want, chain) chain$symbols

#' @export
want_without.vetusta_want_bars <- function(want, chain) chain$symbols

# The symbols for which nothing came, now or ever.
#' @export
want_empty.vetusta_want_bars <- function(want, tally, sink) {
  empty <- unique(tally_without(tally, tally$empty))
  if (length(empty)) empty[!sink$has_bars(empty, want$interval$iso)] else empty
}

#' @export
want_again.vetusta_want_bars <- function(want, tally) {
  c(want$dataset$name,
  unique(tally$failed$symbol))
}

#' @export
want_noun.vetusta_want_bars <- function(want) "bars"

#' @export
want_plan_text.vetusta_want_bars <- function(want, plan) {
  head <- c(paste0("plan: bars of ", format(want$interval), " from ", want$source$title),
    paste0("  window    ", format_instant(want$from), " to ", format_instant(want$to), ", session ",
      want$session))
  calls <- plan$calls
  # where the card does not say how long pages are, nobody knows how many there will be
  open <- (want$dataset$next_page$by %||% "none") != "none" && is.null(want$dataset$largest_page)
  requests <- paste0("  requests  ", if (open) "at least ", thousands(plan$pages), " for ",
    counted(length(unique(unlist(calls$symbols))), "symbol"),
    ", at most ", thousands(plan$rows), " bars")
  table <- data.frame(symbol = calls$label, from = format_instant(calls$from),
    to = format_instant(calls$to),
    bars = calls$rows, requests = calls$pages)
  plan_text(plan, head, requests, table)
}
