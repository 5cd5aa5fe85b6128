#' Cut a want into calls
#'
#' Says what a want takes before the first call is made. What the archive already holds is not
#' asked for again.
#'
#' @param want A want, see [want_bars()].
#' @param archive An archive, or `NULL` to plan as if nothing were held.
#' @param again Whether to ask for all of the window, whatever is stored of it.
#' @return A `vetusta_plan`: a list with `want`, `calls` (a data frame with one row a range to
#'   page through: `symbol`, `from`, `to`
#'   (`POSIXct`, UTC), `rows` and `pages` expected at most; for rows that are no bars the pages are
#'   at least so many), `pages`
#'   (all of them, each one HTTP request), `rows`, `seconds` (the least time that the source's
#'   limits allow), `bytes` (about, by what
#'   this dataset's pages took before; `NA` before the first), `quotas` (a row for
#'   each quota of a day or a month: used, left, the part that this takes, the day it ends),
#'   `held` (symbols that need nothing) and `open` (what is asked for again because an earlier run
#'   could not prove it complete, as of [archive_incomplete()]).
#' @section Errors: `vetusta_error_want` for something that is no want.
#' @export
#' @examples
#' want <- want_bars(source_card("quay"), c("KELD", "TAMX"), interval = "1 minute", from =
#' "2026-03-12", to = "2026-03-26")
#' plan_calls(want)
plan_calls <- function(want, archive = NULL, again = FALSE) {
  if (missing(want) || !inherits(want, "vetusta_want")) {
    vetusta_stop("want", "A plan is made from a want.",
      todo = "make one with want_bars() or want_rows()")
  }
  if (!is.null(archive)) check_archive(archive)
  want$again <- if (check_flag(again, "again")) TRUE
  asked <- want
  if (!is.null(archive)) asked$open <- open_of(archive, want)
  calls <- want_calls(asked, archive)
  if (!again) calls <- kept_calls(asked, still_to_ask(asked, calls, archive), archive)
  limits <- want$source$limits
  taken <- if (is.null(archive)) no_calls_made else store_tokens(archive, want$source$source)
  weight <- call_weight(want$dataset)
  pages <- sum(calls$pages)
  structure(
    list(want = want, calls = calls, pages = pages, rows = sum(calls$rows),
      seconds = limit_least_seconds(pages, limits, weight),
      bytes = plan_bytes(archive, want, pages),
      quotas = limit_quotas(pages, limits, taken, if (is.null(archive)) now_seconds()
      else store_now(archive), weight),
      held = setdiff(want$symbols, unlist(calls$symbols)),
      open = open_of_calls(archive, asked, calls), with_archive = !is.null(archive) && !again),
    class = "vetusta_plan"
  )
}

# What a call of a dataset counts for, where limits go by weight.
call_weight <- function(dataset) dataset$weight %||% 1

# From what the pages of this dataset took before; unknown before the first.
plan_bytes <- function(archive, want, pages) {
  bytes <- if (!is.null(archive)) store_page_bytes(archive, want$source$source, want$dataset$name)
  if (length(bytes)) stats::median(bytes) * pages else NA_real_
}

# Less the calls that were made since a round began that is not at its end, and those whose rows
# are kept for a while.
still_to_ask <- function(want, calls, archive) {
  round <- want_round(want)
  if (is.null(round) || is.null(archive) || !nrow(calls)) {
    return(calls)
  }
  source <- want$source$source
  began <- store_notes(archive, "round", source, want$dataset$name, round)$at
  keep <- want$every %||% if (!is.null(want$dataset$keep)) {
    interval_seconds(time_interval(want$dataset$keep, "keep"))
  }
  fresh <- c(began, if (!is.null(keep)) now_seconds() - keep)
  if (!length(fresh)) {
    return(calls)
  }
  asked <- store_notes(archive, "asked", source, want$dataset$name)
  made <- setdiff(asked$key[asked$at >= min(fresh)], open_of(archive, want)$start)
  if (!length(made)) {
    return(calls)
  }
  start <- vapply(seq_len(nrow(calls)), function(i) want_chain(want, calls[i, ])$start, "")
  calls[!start %in% made, , drop = FALSE]
}

#' @export
print.vetusta_plan <- function(x, ...) {
  cat(format_plan(x), sep = "\n")
  invisible(x)
}

format_plan <- function(plan) want_plan_text(plan$want, plan)

# A plan of calls to an ordinary source: head, what it takes, and its first calls.
plan_text <- function(plan, head, requests, table) {
  notes <- if (length(plan$want$notes)) paste0("  note      ", plan$want$notes)
  count <- nrow(plan$calls)
  if (!count) {
    return(c(head, "  requests  none: the archive holds all of it", notes))
  }
  held <- if (length(plan$held)) {
    paste0("  held      ", paste(utils::head(plan$held, 8), collapse = ", "),
      if (length(plan$held) > 8) " and more",
      ": nothing to ask for")
  }
  size <- if (!is.na(plan$bytes)) paste0("  size      about ", format_bytes(plan$bytes),
    ", as the pages before it were")
  costs <- plan_costs(plan)
  c(head, requests, costs[1], size, costs[-1], held, plan_open(plan), notes, "",
    paste0("  ", text_table(utils::head(table, 12))),
    if (count > 12) paste0("  and ", thousands(count - 12), " more"))
}

# What an earlier run could not prove complete.
plan_open <- function(plan) {
  open <- plan$open
  if (!NROW(open)) {
    return(NULL)
  }
  c(paste0("  open      ", utils::head(paste0(open$label, ": ", open$reason), 3)),
    if (nrow(open) > 3) paste0("            and ", nrow(open) - 3,
      " more: vetusta list incomplete"))
}

# The least time that the limits allow, and what the quotas are.
plan_costs <- function(plan) {
  limits <- plan$want$source$limits
  time <- if (plan$seconds < 1) "as fast as the service answers"
  else paste("at least", format_seconds(plan$seconds))
  bound <- if (length(limits)) paste0(" at ",
    paste(vapply(limits, format_limit, ""), collapse = ", ")) else ", no limit is known"
  c(paste0("  time      ", time, bound), plan_quotas(plan))
}

plan_quotas <- function(plan) {
  quotas <- plan$quotas
  if (is.null(quotas)) {
    return(NULL)
  }
  paste0("  quota     ", quotas$quota, ": ", quotas$used, " used, takes ", round(100 * quotas$part),
    "% of it",
    ifelse(quotas$ends > Sys.Date(), paste0(", ends on ", quotas$ends), ""))
}

format_bytes <- function(bytes) {
  if (bytes < 1e6) paste(format(ceiling(bytes / 1e3), big.mark = ","), "kB")
  else if (bytes < 1e9) paste(round(bytes / 1e6, 1), "MB") else paste(round(bytes / 1e9, 1), "GB")
}
