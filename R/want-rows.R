#' Say what is wanted: rows of any dataset
#'
#' For everything that is no series of bars: directories, snapshots, reports, stations, statistics.
#'
#' @param source A source, see [source_card()].
#' @param dataset The dataset's name.
#' @param ... What the dataset's request asks for, by the names in its card, each a vector:
#'   `station = c("kelder-lock", "tamm")`.
#'   Several values make a call each, unless the card joins them. What the card lists itself with
#'   `each:` may be left out.
#' @param span,from,to The window, as in [want_bars()], for a dataset that takes one.
#' @param now The present.
#' @return A `vetusta_want`, as of [want_bars()], with `keys` in place of the interval and the
#'   session.
#' @section Errors: `vetusta_error_want` for a dataset the source does not have, a key that the
#'   dataset does not take or that is
#'   missing, or a window that is none.
#' @export
#' @examples
#' want_rows(source_card("quay"), "directory", letters = c("K", "T"))
want_rows <- function(source, dataset, ..., span = NULL, from = NULL, to = NULL, now = Sys.time()) {
  check_source(source)
  check_text(dataset, "dataset")
  if (is.null(source$datasets[[dataset]])) {
    vetusta_stop("want", paste0("The source ", source$source, " has no dataset \"", dataset, "\"."),
      where = source$file, todo = suggest_word(dataset, names(source$datasets)))
  }
  dataset <- source$datasets[[dataset]]
  if (gives_bars(dataset)) {
    vetusta_stop("want", paste0("The dataset ", dataset$name, " gives bars."),
      todo = "ask for them with want_bars()")
  }
  keys <- want_keys(dataset, list(...))
  window <- list(from = NULL, to = NULL, notes = character())
  if (has_window(dataset) || !is.null(span) || !is.null(from)) {
    window <- want_window(source, span, from, to, now)
  }
  new_want("rows", source = source, dataset = dataset, symbols = as.character(keys$symbol),
    keys = keys, from = window$from,
    to = window$to, notes = window$notes)
}

want_keys <- function(dataset, given) {
  # a key that is named several times has all of its values
  if (length(given) &&
    !is.null(names(given))) given <- lapply(split(given,
      factor(names(given), unique(names(given)))),
      function(parts) if (length(parts) == 1) parts[[1]] else unlist(parts))
  known <- setdiff(dataset_gives(dataset), c("from", "to", "largest_page", "session", "interval"))
  fixed <- Filter(function(name) !is.null(dataset$parameters[[name]]$value),
    names(dataset$parameters))
  known <- setdiff(known, fixed)
  paging <- dataset$next_page$send
  for (name in if (length(given)) names(given) %||% "") {
    if (!name %in% known) {
      vetusta_stop("want",
        paste0("The dataset ", dataset$name, " does not ask for \"", name, "\"."),
        todo = if (length(known)) suggest_word(name, known) else "leave it out")
    }
  }
  for (name in setdiff(known, c(names(given), paging))) {
    each <- dataset$parameters[[name]]$each
    if (!is.null(each)) given[[name]] <- each
    else if (grepl(paste0("\\{[^?&}]*\\b", name, "\\b"), dataset$request)) {
      vetusta_stop("want", paste0("The dataset ", dataset$name, " needs ", name, "."),
        todo = paste0("give ", name, " = ..., one value or several"))
    }
  }
  lapply(given, function(value) {
    if (!is.atomic(value)) {
      vetusta_stop("want",
        paste0("A key is one or more values, and cannot be ", shown_value(value), "."),
        todo = "give texts or numbers")
    }
    check_symbols(as.character(value))
  })
}

#' @export
want_calls.vetusta_want_rows <- function(want, archive) plan_rows(want, archive)

#' @export
want_chain.vetusta_want_rows <- function(want, call, noted = function(kind, key) NULL) {
  symbols <- call$symbols[[1]]
  times <- if (is.na(call$from)) list()
  else aligned_window(call$from, call$to, want$dataset, want$source$zone)
  known <- c(call$keys[[1]], times,
    list(symbol = if (length(symbols)) symbols[1], symbols = symbols,
    largest_page = want$dataset$largest_page))
  ordinary_chain(want, call, known, windowed = FALSE, noted)
}

#' @export
want_claim.vetusta_want_rows <- function(want, chain) {
  ranged <- !is.null(chain$from)
  list(name = claim_name(want$source$source, want$dataset$name, if (ranged) chain$key
  else chain$start), shows = ranged)
}

#' @export
want_rest.vetusta_want_rows <- function(want, chain, covered) {
  left <- missing_of(list(from = chain$from, to = chain$to), chain$key,
    covered(want_cover_keys(want, chain)))
  call_rest(chain$call, kept_rest(left, want, chain))
}

#' @export
want_cover_keys.vetusta_want_rows <- function(want, chain) chain$key

#' @export
want_empty_page.vetusta_want_rows <- function(want, chain, calendar) {
  page_make(decoded_rows(want, chain$symbols,
    list(columns = empty_columns(want$dataset), rows = 0L)))
}

#' @export
want_tidy.vetusta_want_rows <- function(want, calendar, symbols, decoded) {
  rows <- decoded_rows(want, symbols, decoded)
  judge <- shape_judges[[want$dataset$shape]] %||% function(rows) no_bars_faults
  judged <- judge(rows)
  judged <- faults_joined(judged, doubled_values(rows, want$dataset$shape,
    c(judged$row, decoded$faults$row), decoded$at))
  list(rows = rows, faults = page_faults(rows, decoded, want$dataset, judged),
    notes = apart_note(attr(rows, "apart")))
}

# What rows of a shape cannot be without to be a series.
shape_judges <- list(
  observations = function(rows) {
    unreadable(rows, "period",
    is.na(observation_times(rows$period)$time))
  },
  facts = function(rows) unreadable(rows, "period_end", is.na(as_days(rows$period_end)))
)

unreadable <- function(rows, column, bad) {
  row <- which(bad)
  if (!length(row)) {
    return(no_bars_faults)
  }
  data.frame(row = row, symbol = as.character(rows[["series"]] %||% rows[["entity"]])[row],
    time = utc(rep(NA_real_, length(row))),
    fault = paste(column, "cannot be read"),
    detail = paste("value", as.character(rows[[column]])[row]))
}

#' @export
want_parcel.vetusta_want_rows <- function(want, chain, page, good) {
  if (!nrow(good)) {
    return(NULL)
  }
  archive_parcel(want$dataset$shape, good, at = chain$came %||% now_seconds(),
    place = paste(chain$start, chain$page))
}

# A call that was answered whole: its window is held, up to where values may still come.
#' @export
want_covered.vetusta_want_rows <- function(want, chain, good, whole) {
  if (is.null(chain$from) || !whole) {
    return(NULL)
  }
  until <- min(chain$to, max(chain$newest %||% -Inf, chain$asked - settled_days * 86400))
  if (until > chain$from) data.frame(key = chain$key, start = chain$from, end = until)
}

# For so long after its time a value that is missing may still be published.
settled_days <- 14

# Without a window it is done for this round; with one, up to where something has come.
#' @export
want_notes.vetusta_want_rows <- function(want, chain) {
  if (is.null(chain$from)) {
    return(list(list(kind = "asked", key = chain$start, value = "")))
  }
  newest <- max(chain$from, chain$newest %||% -Inf)
  list(list(kind = "looked", key = chain$key, value = format_exact(min(newest, chain$to))))
}

#' @export
want_round.vetusta_want_rows <-
  function(want) if (is.null(want$from)) key_text(want$keys[lengths(want$keys) > 0])

#' @export
want_again.vetusta_want_rows <- function(want, tally) {
  if (length(tally$failed_keys)) c(want$dataset$name, keys_again(tally$failed_keys))
}

# Keys of calls that failed, as words: each key once, with all of its values.
keys_again <- function(keys) {
  names <- unique(unlist(lapply(keys, names)))
  vapply(names, function(name) {
    paste0(name, "=", paste(unique(unlist(lapply(keys, `[[`, name))), collapse = ","))
  }, "", USE.NAMES = FALSE)
}

#' @export
want_plan_text.vetusta_want_rows <- function(want, plan) {
  windowed <- !is.null(want$from)
  head <- c(paste0("plan: ", want$dataset$shape, " from ", want$source$title),
    if (windowed) paste0("  window    ", format_instant(want$from), " to ",
      format_instant(want$to)))
  calls <- plan$calls
  table <- data.frame(call = calls$label, from = format_instant(calls$from),
    to = format_instant(calls$to),
    requests = calls$pages)
  if (!windowed) table <- table[c("call", "requests")]
  plan_text(plan, head, paste0("  requests  at least ", thousands(plan$pages)), table)
}
