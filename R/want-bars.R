#' Say what is wanted: bars
#'
#' @param source A source, see [source_card()].
#' @param symbols The symbols, one or more.
#' @param interval The bars' interval, see [time_interval()].
#' @param span A length of history back from `to` (`"10 days"`, `"6 months"`).
#' @param from,to The window, days or instants, see [time_instant()]; days are local to the source's zone, and a day as `to`
#'   is included whole. Either `span` or `from` is given, never both; `to` is now by default.
#' @param session `"regular"`, or `"all"` for early and late trading too.
#' @param offer The offer's name, where a source has several that give bars.
#' @param now The present; it is an argument so that a want can be repeated.
#' @return A `vetusta_want`: a list with `source`, `offer`, `shape`, `symbols`, `interval`, `from`, `to` (`POSIXct` in UTC, `to`
#'   excluded), `session` and `notes`: what was changed, such as an end that was clipped because it lies in the future or
#'   because the source withholds its newest data.
#' @section Errors: `vetusta_error_want` for an empty list of symbols, an unknown interval, a date that is none, from after
#'   to, span together with from, or a session the source does not know.
#' @export
#' @examples
#' want_bars(source_card("quay"), c("KELD", "TAMX"), interval = "1 minute", from = "2026-03-12", to = "2026-03-26")
want_bars <- function(source, symbols, interval, span = NULL, from = NULL, to = NULL, session = "regular", offer = NULL, now = Sys.time()) {
  check_source(source)
  symbols <- check_symbols(symbols)
  interval <- time_interval(interval)
  check_choice(session, "session", c("regular", "all"))
  offer <- pick_offer(source, "bars", offer)
  check_offered_interval(offer, interval)
  window <- want_window(source, span, from, to, now)
  structure(
    list(source = source, offer = offer, shape = "bars", symbols = symbols, interval = interval, from = window$from, to = window$to,
      session = session, notes = window$notes),
    class = "vetusta_want"
  )
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
    vetusta_stop("want", "There are no symbols in the want.", todo = "name at least one, as in c(\"KELD\", \"TAMX\")")
  }
  symbols <- trimws(symbols)
  if (anyNA(symbols) || any(!nzchar(symbols))) {
    vetusta_stop("want", "One of the symbols is empty.", todo = "leave it out")
  }
  # such a name would be a step in a path, and lead to another place
  if (any(symbols %in% c(".", ".."))) vetusta_stop("want", paste0("\"", symbols[symbols %in% c(".", "..")][1], "\" is no symbol and no key."), todo = "leave it out")
  unique(symbols)
}

pick_offer <- function(source, shape, name) {
  fitting <- Filter(function(offer) offer$shape == shape, source$offers)
  if (!length(fitting)) {
    vetusta_stop("want", paste0("The source ", source$source, " offers no ", shape, "."), where = source$file, todo = "add an offer to its card, or ask another source")
  }
  if (is.null(name)) {
    if (length(fitting) > 1) {
      vetusta_stop("want", paste0("The source ", source$source, " has several offers of ", shape, "."), todo = paste0("name one: ", paste(names(fitting), collapse = ", ")))
    }
    return(fitting[[1]])
  }
  fitting[[check_choice(name, "offer", names(fitting))]]
}

# An offer that lists its intervals has no others; the list is refused before any call is spent.
check_offered_interval <- function(offer, interval) {
  rules <- Filter(function(name) (offer$parameters[[name]]$gives %||% name) == "interval", names(offer$parameters))
  words <- unlist(lapply(rules, function(name) names(offer$parameters[[name]]$words)))
  words <- vapply(words, function(word) tryCatch(time_interval(word)$iso, vetusta_error = function(e) word), "")
  if (length(words) && !interval$iso %in% words) {
    vetusta_stop("want", paste0("The offer ", offer$name, " has no bars of ", format(interval), "."),
      todo = paste0("choose one of: ", paste(vapply(words, function(iso) tryCatch(format(time_interval(iso)), vetusta_error = function(e) iso), ""), collapse = ", "),
        "; longer ones are made with bars_regroup()"))
  }
}

want_window <- function(source, span, from, to, now) {
  if (!is.null(span) && !is.null(from)) {
    vetusta_stop("want", "A want has a span or a from, never both.", todo = "leave out `span` or `from`")
  }
  if (is.null(span) && is.null(from)) {
    vetusta_stop("want", "A want needs a span or a from.", todo = "give span = \"10 days\", or from = \"2026-03-12\"")
  }
  # a second is fine enough for now
  now <- utc(floor(as.numeric(now)))
  end <- if (is.null(to)) now else time_instant(to, source$zone, end = TRUE, name = "to")
  clipped <- clip_end(source, end, now, said = !is.null(to))
  start <- if (is.null(span)) time_instant(from, source$zone, name = "from") else shift_instant(clipped$to, time_interval(span, "span"), -1, source$zone)
  if (start >= end) {
    vetusta_stop("want", paste0("The want begins (", format_instant(start), ") at or after its end (", format_instant(end), ")."), todo = "swap `from` and `to`, or correct one")
  }
  if (start >= clipped$to) {
    vetusta_stop("want", paste0("The want begins (", format_instant(start), ") after the newest data there is (", format_instant(clipped$to), ")."), todo = "choose an earlier `from`")
  }
  list(from = start, to = clipped$to, notes = clipped$notes)
}

clip_end <- function(source, end, now, said) {
  notes <- character()
  if (end > now) {
    notes <- c(notes, "the end lies in the future: clipped to now")
    end <- utc(now)
  }
  newest <- if (is.null(source$withheld)) now else utc(as.numeric(now) - source$withheld$seconds)
  if (end > newest) {
    notes <- c(notes, paste0("the source withholds the newest ", format(source$withheld), ": clipped to ", format_instant(floor(as.numeric(newest)))))
    end <- utc(floor(as.numeric(newest)))
  }
  list(to = end, notes = notes)
}

#' @export
print.vetusta_want <- function(x, ...) {
  cat("want: ", x$shape, if (!is.null(x$interval)) paste0(" of ", format(x$interval)), " from ", x$source$source, "\n", sep = "")
  for (name in names(x$keys)) cat("  ", name, "  ", paste(utils::head(x$keys[[name]], 8), collapse = ", "), "\n", sep = "")
  if (length(x$symbols) && is.null(x$keys)) cat("  symbols  ", paste(utils::head(x$symbols, 8), collapse = ", "), if (length(x$symbols) > 8) paste(" and",
    length(x$symbols) - 8, "more"), "\n", sep = "")
  if (!is.null(x$from)) cat("  window   ", format_instant(x$from), " to ", format_instant(x$to), "\n", sep = "")
  if (!is.null(x$session)) cat("  session  ", x$session, "\n", sep = "")
  for (note in x$notes) cat("  note     ", note, "\n", sep = "")
  invisible(x)
}
