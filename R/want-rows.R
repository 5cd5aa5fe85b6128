#' Say what is wanted: rows of any offer
#'
#' For everything that is no series of bars: directories, snapshots, reports, stations, statistics.
#'
#' @param source A source, see [source_card()].
#' @param offer The offer's name.
#' @param ... What the offer's request asks for, by the names in its card, each a vector: `station = c("kelder-lock", "tamm")`.
#'   Several values make a call each, unless the card joins them. What the card lists itself with `each:` may be left out.
#' @param span,from,to The window, as in [want_bars()], for an offer that takes one.
#' @param now The present.
#' @return A `vetusta_want`, as of [want_bars()], with `keys` in place of the interval and the session.
#' @section Errors: `vetusta_error_want` for an offer the source does not have, a key that the offer does not take or that is
#'   missing, or a window that is none.
#' @export
#' @examples
#' want_rows(source_card("quay"), "directory", letters = c("K", "T"))
want_rows <- function(source, offer, ..., span = NULL, from = NULL, to = NULL, now = Sys.time()) {
  check_source(source)
  check_text(offer, "offer")
  if (is.null(source$offers[[offer]])) {
    vetusta_stop("want", paste0("The source ", source$source, " has no offer \"", offer, "\"."), where = source$file, todo = suggest_word(offer, names(source$offers)))
  }
  offer <- source$offers[[offer]]
  if (offer$shape == "bars") {
    vetusta_stop("want", paste0("The offer ", offer$name, " gives bars."), todo = "ask for them with want_bars()")
  }
  keys <- want_keys(offer, list(...))
  window <- list(from = NULL, to = NULL, notes = character())
  if (has_window(offer) || !is.null(span) || !is.null(from)) window <- want_window(source, span, from, to, now)
  structure(
    list(source = source, offer = offer, shape = offer$shape, symbols = as.character(keys$symbol), keys = keys, interval = NULL, from = window$from, to = window$to,
      session = NULL, notes = window$notes),
    class = "vetusta_want"
  )
}

want_keys <- function(offer, given) {
  # a key that is named several times has all of its values
  if (length(given) && !is.null(names(given))) given <- lapply(split(given, factor(names(given), unique(names(given)))), function(parts) if (length(parts) == 1) parts[[1]] else unlist(parts))
  known <- setdiff(offer_gives(offer), c("from", "to", "most", "session", "interval"))
  fixed <- Filter(function(name) !is.null(offer$parameters[[name]]$value), names(offer$parameters))
  known <- setdiff(known, fixed)
  paging <- offer$next_page$send
  for (name in if (length(given)) names(given) %||% "") {
    if (!name %in% known) {
      vetusta_stop("want", paste0("The offer ", offer$name, " does not ask for \"", name, "\"."), todo = if (length(known)) suggest_word(name, known) else "leave it out")
    }
  }
  for (name in setdiff(known, c(names(given), paging))) {
    each <- offer$parameters[[name]]$each
    if (!is.null(each)) given[[name]] <- each
    else if (grepl(paste0("\\{[^?&}]*\\b", name, "\\b"), offer$request)) {
      vetusta_stop("want", paste0("The offer ", offer$name, " needs ", name, "."), todo = paste0("give ", name, " = ..., one value or several"))
    }
  }
  lapply(given, function(value) {
    if (!is.atomic(value)) vetusta_stop("want", paste0("A key is one or more values, and cannot be ", shown_value(value), "."), todo = "give texts or numbers")
    check_symbols(as.character(value))
  })
}
