# What differs by the kind of query is a method of these generics: queries of
# bars, of rows of any other shape, and of observations by name. The rest is the
# same for all.
#
# A request is a row of a plan's requests; a chain is a request with its further
# pages.

# The requests of a query without what is covered: a data frame of symbol,
# label, symbols, from, to, rows, pages, keys.
query_requests <- function(query, archive) UseMethod("query_requests")

# The start of a request's chain of pages; `noted` returns notes of an earlier
# run, by kind and key.
query_chain <- function(query, planned, noted = function(kind, key) NULL) {
  UseMethod("query_chain")
}

# The claim of a request: list(name, shows), where `shows` says that coverage
# tells what is left.
query_claim <- function(query, chain) UseMethod("query_claim")

# What is left of a request, given the coverage; NULL where nothing is.
query_rest <- function(query, chain, covered) UseMethod("query_rest")

# Of which requests nothing is left.
query_answered <- function(query, requests, covered) UseMethod("query_answered")

# The keys of that coverage.
query_cover_keys <- function(query, chain) UseMethod("query_cover_keys")

# An answer as a page, and an empty page.
query_page <- function(query, chain, response, where, calendar, largest) {
  UseMethod("query_page")
}
query_empty_page <- function(query, chain, calendar) {
  UseMethod("query_empty_page")
}

# Decoded rows, tidied and checked: list(rows, rejected).
query_tidy <- function(query, calendar, symbols, decoded) {
  UseMethod("query_tidy")
}

# The meaning of a refusal for this kind of query, or NULL for the general one;
# see collect_verdict().
query_refused <- function(query, chain, response) UseMethod("query_refused")

# What is stored: a parcel of good rows, newly covered ranges, notes at a
# request's end.
query_parcel <- function(query, chain, page, good) UseMethod("query_parcel")
query_covered <- function(query, chain, good, whole) UseMethod("query_covered")
query_notes <- function(query, chain) UseMethod("query_notes")

# The place of a chain's window, see incomplete_book().
query_place <- function(query, chain) UseMethod("query_place")

#' @export
query_place.default <- function(query, chain) {
  list(
    keys = chain$key, settles = chain$key, start = chain$start,
    from = chain$from, to = chain$to
  )
}

# The rows of a page as they are returned.
query_table <- function(query, page, rows) UseMethod("query_table")

# The key of a round of requests without a window, which a restarted run
# continues; NULL without one.
query_round <- function(query) UseMethod("query_round")

# The name of a failed request; the symbols for which nothing came; of those
# without rows, the ones that had data before.
query_failed <- function(query, chain) UseMethod("query_failed")
query_without <- function(query, chain) UseMethod("query_without")
query_empty <- function(query, tally, sink) UseMethod("query_empty")

# The words that request the failed part again, after the source's name.
query_again <- function(query, tally) UseMethod("query_again")

# The plan as text, and the name of its rows.
query_plan_text <- function(query, plan) UseMethod("query_plan_text")
query_noun <- function(query) UseMethod("query_noun")

new_query <- function(kind, ...) {
  structure(
    list(...),
    class = c(paste0("vetusta_query_", kind), "vetusta_query")
  )
}

# Common to most kinds of query.

#' @export
query_refused.default <- function(query, chain, response) NULL

#' @export
query_without.default <- function(query, chain) character()

#' @export
query_failed.default <- function(query, chain) chain$label

#' @export
query_empty.default <- function(query, tally, sink) tally$empty

#' @export
query_rest.default <- function(query, chain, covered) chain$planned

#' @export
query_answered.default <- function(query, requests, covered) {
  logical(nrow(requests))
}

#' @export
query_cover_keys.default <- function(query, chain) NULL

#' @export
query_covered.default <- function(query, chain, good, whole) NULL

#' @export
query_table.default <- function(query, page, rows) as_rows(rows)

#' @export
query_noun.default <- function(query) "rows"

# A chain of a source other than SDMX: its request, and the place to continue
# after a stop between pages.
ordinary_chain <- function(query, planned, known, windowed, noted) {
  dataset <- query$dataset
  request <- wire_request(
    query$source, dataset, dataset_values(dataset, known, query$source$zone)
  )
  from <- as.numeric(planned$from)
  chain <- list(
    planned = planned,
    known = known,
    symbols = planned$symbols[[1]],
    label = planned$label,
    key = planned_key(planned),
    from = if (!is.na(from)) from,
    to = as.numeric(planned$to),
    request = request,
    start = request_key(request),
    windowed = windowed,
    asked = now_seconds(),
    attempt = 1,
    page = 1,
    before = 0,
    not_before = 0,
    seen = character(),
    resumed = FALSE,
    direction = NA_character_,
    ends = NULL,
    renewed = FALSE,
    proof = proof_make()
  )
  place <- if (!windowed && !is.null(dataset$next_page)) {
    noted("reached", chain$start)
  }
  if (is.null(place)) {
    return(chain)
  }
  place <- jsonlite::fromJSON(place$value)
  chain$resumed <- TRUE
  chain$request$url <- place$following
  chain$page <- place$page
  chain$before <- place$before
  chain$announced <- place$announced
  chain$rejected <- place$rejected
  chain$proof[c("came", "total", "pages", "against")] <- list(
    place$came %||% 0, place$total, place$pages,
    Filter(nzchar, place$against %||% "")
  )
  chain
}

# Keys as text in a fixed order, for lookup.
key_text <- function(keys) {
  if (!length(keys)) {
    return("{}")
  }
  as.character(jsonlite::toJSON(lapply(keys[order(names(keys))], as.character)))
}

planned_key <- function(planned) key_text(planned$keys[[1]])

#' @export
print.vetusta_query <- function(x, ...) {
  cat(
    "query: ", if (is.null(x$interval)) x$dataset$name else query_noun(x),
    if (!is.null(x$interval)) paste0(" of ", format(x$interval)), " from ",
    x$source$source, "\n",
    sep = ""
  )
  keys <- x$keys %||% x$selection
  for (name in names(keys)) {
    cat(
      "  ", name, "  ",
      if (length(keys[[name]])) {
        paste(utils::head(keys[[name]], 8), collapse = ", ")
      } else {
        "all"
      },
      "\n",
      sep = ""
    )
  }
  if (length(x$symbols) && is.null(x$keys)) {
    more <- if (length(x$symbols) > 8) {
      paste(" and", length(x$symbols) - 8, "more")
    }
    cat(
      "  symbols  ", paste(utils::head(x$symbols, 8), collapse = ", "), more,
      "\n",
      sep = ""
    )
  }
  if (!is.null(x$from)) {
    cat(
      "  window   ", format_instant(x$from), " to ", format_instant(x$to),
      "\n",
      sep = ""
    )
  }
  if (!is.null(x$session)) cat("  session  ", x$session, "\n", sep = "")
  for (note in x$notes) cat("  note     ", note, "\n", sep = "")
  invisible(x)
}
