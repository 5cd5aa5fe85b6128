# What differs by the kind of want stands in methods of these generics: wants of bars, of rows of
# any other shape, and of
# observations by name. What goes through the machine is the same for all of them.
#
# A call is a row of a plan's calls; a chain is one call with the pages that follow from it.

# A want cut into calls, less what is held: a data frame of symbol, label, symbols, from, to, rows,
# pages, keys.
want_calls <- function(want, archive) UseMethod("want_calls")

# The beginning of a call's chain of pages; `noted` gives what an earlier run noted of it, by kind
# and key.
want_chain <- function(want, call, noted = function(kind, key) NULL) UseMethod("want_chain")

# What is claimed for a call: list(name, shows), where `shows` says that what is left of it shows
# in what is covered.
want_claim <- function(want, chain) UseMethod("want_claim")

# What is left of a call, given what is covered by now; NULL where nothing is.
want_rest <- function(want, chain, covered) UseMethod("want_rest")

# The keys of coverage that say what is left of it.
want_cover_keys <- function(want, chain) UseMethod("want_cover_keys")

# An answer read into a page, and a page of nothing.
want_page <- function(want, chain, response, where, calendar, largest) UseMethod("want_page")
want_empty_page <- function(want, chain, calendar) UseMethod("want_empty_page")

# Decoded rows, tidied and judged: list(rows, faults).
want_tidy <- function(want, calendar, symbols, decoded) UseMethod("want_tidy")

# What a refusal means for this kind of want, or NULL where it means what it always does; see
# collect_own().
want_refused <- function(want, chain, response) UseMethod("want_refused")

# What is put into the archive: a parcel of the good rows, stretches that are held now, notes at a
# call's end.
want_parcel <- function(want, chain, page, good) UseMethod("want_parcel")
want_covered <- function(want, chain, good, whole) UseMethod("want_covered")
want_notes <- function(want, chain) UseMethod("want_notes")

# Where a chain's window lies, see incomplete_book().
want_place <- function(want, chain) UseMethod("want_place")

#' @export
want_place.default <- function(want, chain) {
  list(keys = chain$key, settles = chain$key, start = chain$start, from = chain$from,
    to = chain$to)
}

# The rows of a page as they are handed out.
want_table <- function(want, page, rows) UseMethod("want_table")

# The key of a round of calls without a window, which a run that was stopped goes on with; NULL
# where there is none.
want_round <- function(want) UseMethod("want_round")

# By what a failed call is told; for which symbols nothing may have come; of those without any,
# which had data before.
want_failed <- function(want, chain) UseMethod("want_failed")
want_without <- function(want, chain) UseMethod("want_without")
want_empty <- function(want, tally, sink) UseMethod("want_empty")

# The words that ask for what failed again, behind the source's name.
want_again <- function(want, tally) UseMethod("want_again")

# The plan in words, and what its rows are called.
want_plan_text <- function(want, plan) UseMethod("want_plan_text")
want_noun <- function(want) UseMethod("want_noun")

new_want <- function(kind, ...) {
  structure(list(...),
  class = c(paste0("vetusta_want_", kind), "vetusta_want"))
}

# What most kinds of want have in common.

#' @export
want_refused.default <- function(want, chain, response) NULL

#' @export
want_without.default <- function(want, chain) character()

#' @export
want_failed.default <- function(want, chain) chain$label

#' @export
want_empty.default <- function(want, tally, sink) tally$empty

#' @export
want_rest.default <- function(want, chain, covered) chain$call

#' @export
want_cover_keys.default <- function(want, chain) NULL

#' @export
want_covered.default <- function(want, chain, good, whole) NULL

#' @export
want_table.default <- function(want, page, rows) as_rows(rows)

#' @export
want_noun.default <- function(want) "rows"

# A chain of an ordinary source: its request, and where it goes on if it was stopped in the middle
# of its pages.
ordinary_chain <- function(want, call, known, windowed, noted) {
  dataset <- want$dataset
  request <- wire_request(want$source, dataset, dataset_values(dataset, known, want$source$zone))
  from <- as.numeric(call$from)
  chain <- list(
    call = call, known = known, symbols = call$symbols[[1]], label = call$label,
    key = call_key(call),
    from = if (!is.na(from)) from, to = as.numeric(call$to), request = request,
    start = request_key(request),
    windowed = windowed, asked = now_seconds(), attempt = 1, page = 1, before = 0, not_before = 0,
    seen = character(),
    resumed = FALSE, direction = NA_character_, ends = NULL, renewed = FALSE,
    proof = proof_make()
  )
  place <- if (!windowed && !is.null(dataset$next_page)) noted("reached", chain$start)
  if (is.null(place)) {
    return(chain)
  }
  place <- jsonlite::fromJSON(place$value)
  chain$resumed <- TRUE
  chain$request$address <- place$following
  chain$page <- place$page
  chain$before <- place$before
  chain$announced <- place$announced
  chain$rejected <- place$rejected
  chain$proof[c("came", "total", "pages", "against")] <- list(place$came %||% 0, place$total,
    place$pages, Filter(nzchar, place$against %||% ""))
  chain
}

# Keys as text, in one order, so that they can be looked up.
key_text <- function(keys) {
  if (!length(keys)) {
    return("{}")
  }
  as.character(jsonlite::toJSON(lapply(keys[order(names(keys))], as.character)))
}

call_key <- function(call) key_text(call$keys[[1]])

#' @export
print.vetusta_want <- function(x, ...) {
  cat("want: ", want_noun(x), if (!is.null(x$interval)) paste0(" of ", format(x$interval)),
    " from ", x$source$source, "\n",
    sep = "")
  keys <- x$keys %||% x$selection
  for (name in names(keys)) {
    cat("  ", name, "  ",
      if (length(keys[[name]])) paste(utils::head(keys[[name]], 8), collapse = ", ")
      else "all", "\n",
      sep = "")
  }
  if (length(x$symbols) && is.null(x$keys)) {
    more <- if (length(x$symbols) > 8) paste(" and", length(x$symbols) - 8, "more")
    cat("  symbols  ", paste(utils::head(x$symbols, 8), collapse = ", "), more, "\n", sep = "")
  }
  if (!is.null(x$from)) {
    cat("  window   ", format_instant(x$from), " to ", format_instant(x$to), "\n", sep = "")
  }
  if (!is.null(x$session)) cat("  session  ", x$session, "\n", sep = "")
  for (note in x$notes) cat("  note     ", note, "\n", sep = "")
  invisible(x)
}
