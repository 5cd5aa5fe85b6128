#' Query bars
#'
#' @param source A source, see [source_card()].
#' @param symbols The symbols, one or more.
#' @param interval The bars' interval, see [time_interval()].
#' @param span A length of history back from `to` (`"10 days"`, `"6 months"`),
#'   or `"year to date"`, `"quarter to date"`, `"month to date"`, `"week to
#'   date"`.
#' @param from,to The window, days or instants, see [time_instant()]; days are
#'   local to the source's zone, and a day as `to` is included. Give either
#'   `span` or `from`; `to` is now by default.
#' @param session `"regular"`, or `"all"` for early and late trading too.
#' @param dataset The name of the dataset, if several of the source have bars.
#' @param now The present time, so that a query can be repeated.
#' @return A `vetusta_query`: a list with `source`, `dataset`, `symbols`,
#'   `interval`, `from`, `to` (`POSIXct` in UTC, `to` excluded), `session` and
#'   `notes`: changes, such as an end moved because it is in the future or
#'   because the source publishes with a delay.
#' @section Errors: `vetusta_error_argument` for no symbols, an unknown
#'   interval, an invalid date, a `from` after `to`, `span` together with
#'   `from`, or an unknown session.
#' @export
#' @examples
#' query_bars(source_card("quay"), c("KELD", "TAMX"),
#'   interval = "1 minute", from = "2026-03-12",
#'   to = "2026-03-26"
#' )
query_bars <- function(source, symbols, interval, span = NULL, from = NULL,
                       to = NULL, session = "regular", dataset = NULL,
                       now = NULL) {
  now <- now %||% now_time()
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
  symbols <- trimmed(symbols)
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
