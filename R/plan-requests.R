#' Cut a query into requests
#'
#' Shows what a query needs before the first request. Stored data is not
#' requested again.
#'
#' @param query A query, see [query_bars()].
#' @param archive An archive, or `NULL` to plan without one.
#' @param again Whether to request the complete window, whatever is stored.
#' @return A `vetusta_plan`: a list with `query`, `requests` (a data frame with
#'   a row per range to page through: `symbol`, `from`, `to` (`POSIXct`, UTC),
#'   the largest expected `rows` and `pages`; for rows other than bars at least
#'   this many pages), `pages` (their total, one HTTP request each), `rows`,
#'   `seconds` (the minimum under the source's limits), `bytes` (estimated from
#'   earlier pages of the dataset; `NA` without any), `quotas` (a row per quota
#'   of a day or month: used, left, the part of this plan, the day it ends),
#'   `stored` (symbols that need no request) and `open` (windows requested again
#'   because they are not proved complete, see [archive_incomplete()]).
#' @section Errors: `vetusta_error_argument` for an object that is not a query.
#' @export
#' @examples
#' query <- query_bars(source_card("quay"), c("KELD", "TAMX"),
#'   interval = "1 minute", from =
#'     "2026-03-12", to = "2026-03-26"
#' )
#' plan_requests(query)
plan_requests <- function(query, archive = NULL, again = FALSE) {
  if (missing(query) || !inherits(query, "vetusta_query")) {
    vetusta_stop(
      "argument", "A plan is made from a query.",
      todo = "make a query with query_bars() or query_rows()"
    )
  }
  if (!is.null(archive)) check_archive(archive)
  query$again <- if (check_flag(again, "again")) TRUE
  asked <- query
  if (!is.null(archive)) asked$open <- open_of(archive, query)
  requests <- query_requests(asked, archive)
  if (!again) {
    requests <- kept_requests(
      asked, still_to_ask(asked, requests, archive), archive
    )
  }
  limits <- query$source$limits
  taken <- if (is.null(archive)) {
    no_requests_made
  } else {
    store_tokens(archive, query$source$source)
  }
  weight <- request_weight(query$dataset)
  pages <- sum(requests$pages)
  structure(
    list(
      query = query,
      requests = requests,
      pages = pages,
      rows = sum(requests$rows),
      seconds = limit_least_seconds(pages, limits, weight),
      bytes = plan_bytes(archive, query, pages),
      quotas = limit_quotas(
        pages, limits, taken,
        if (is.null(archive)) now_seconds() else store_now(archive), weight
      ),
      stored = setdiff(query$symbols, unlist(requests$symbols)),
      open = open_of_requests(archive, asked, requests),
      with_archive = !is.null(archive) && !again
    ),
    class = "vetusta_plan"
  )
}

# The weight of a request, for limits by weight.
request_weight <- function(dataset) dataset$weight %||% 1

# The bytes of earlier pages of this dataset; unknown before the first.
plan_bytes <- function(archive, query, pages) {
  bytes <- if (!is.null(archive)) {
    store_page_bytes(archive, query$source$source, query$dataset$name)
  }
  if (length(bytes)) stats::median(bytes) * pages else NA_real_
}

# Leaves out requests made since an unfinished round began, and those whose rows
# are recent enough.
still_to_ask <- function(query, requests, archive) {
  round <- query_round(query)
  if (is.null(round) || is.null(archive) || !nrow(requests)) {
    return(requests)
  }
  source <- query$source$source
  began <- store_notes(archive, "round", source, query$dataset$name, round)$at
  keep <- query$every %||%
    if (!is.null(query$dataset$keep)) {
      interval_seconds(time_interval(query$dataset$keep, "keep"))
    }
  fresh <- c(began, if (!is.null(keep)) now_seconds() - keep)
  if (!length(fresh)) {
    return(requests)
  }
  asked <- store_notes(archive, "asked", source, query$dataset$name)
  made <- setdiff(
    asked$key[asked$at >= min(fresh)], open_of(archive, query)$start
  )
  if (!length(made)) {
    return(requests)
  }
  start <- vapply(
    seq_len(nrow(requests)),
    function(i) query_chain(query, requests[i, ])$start, ""
  )
  requests[!start %in% made, , drop = FALSE]
}

#' @export
print.vetusta_plan <- function(x, ...) {
  cat(format_plan(x), sep = "\n")
  invisible(x)
}

format_plan <- function(plan) query_plan_text(plan$query, plan)

# A plan of requests as text: head, costs, and its first requests.
plan_text <- function(plan, head, takes, table) {
  notes <- if (length(plan$query$notes)) {
    paste0("  note      ", plan$query$notes)
  }
  count <- nrow(plan$requests)
  if (!count) {
    return(
      c(
        head, "  requests  none: the archive is complete for this window", notes
      )
    )
  }
  stored <- if (length(plan$stored)) {
    paste0(
      "  stored    ", paste(utils::head(plan$stored, 8), collapse = ", "),
      if (length(plan$stored) > 8) " and more", ": nothing to request"
    )
  }
  size <- if (!is.na(plan$bytes)) {
    paste0(
      "  size      about ", format_bytes(plan$bytes),
      ", estimated from earlier pages"
    )
  }
  costs <- plan_costs(plan)
  c(
    head, takes, costs[1], size, costs[-1], stored, plan_open(plan), notes, "",
    paste0("  ", text_table(utils::head(table, 12))),
    if (count > 12) paste0("  and ", thousands(count - 12), " more")
  )
}

# Windows that an earlier run left open.
plan_open <- function(plan) {
  open <- plan$open
  if (!NROW(open)) {
    return(NULL)
  }
  c(
    paste0(
      "  open      ", utils::head(paste0(open$label, ": ", open$reason), 3)
    ),
    if (nrow(open) > 3) {
      paste0(
        "            and ", nrow(open) - 3, " more: vetusta list incomplete"
      )
    }
  )
}

# The least time that the limits allow, and the quotas.
plan_costs <- function(plan) {
  limits <- plan$query$source$limits
  time <- if (plan$seconds < 1) {
    "as fast as the service answers"
  } else {
    paste("at least", format_seconds(plan$seconds))
  }
  bound <- if (length(limits)) {
    paste0(" at ", paste(vapply(limits, format_limit, ""), collapse = ", "))
  } else {
    ", no limit is known"
  }
  c(paste0("  time      ", time, bound), plan_quotas(plan))
}

plan_quotas <- function(plan) {
  quotas <- plan$quotas
  if (is.null(quotas)) {
    return(NULL)
  }
  paste0(
    "  quota     ", quotas$quota, ": ", quotas$used, " used, takes ",
    round(100 * quotas$part), "% of it",
    ifelse(
      quotas$ends > as.Date(now_time()), paste0(", ends on ", quotas$ends), ""
    )
  )
}

format_bytes <- function(bytes) {
  if (bytes < 1e6) {
    paste(format(ceiling(bytes / 1e3), big.mark = ","), "kB")
  } else if (bytes < 1e9) {
    paste(round(bytes / 1e6, 1), "MB")
  } else {
    paste(round(bytes / 1e9, 1), "GB")
  }
}
