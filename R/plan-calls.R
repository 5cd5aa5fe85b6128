#' Cut a want into calls
#'
#' Says what a want takes before the first call is made. What the archive already holds is not asked for again.
#'
#' @param want A want, see [want_bars()].
#' @param archive An archive, or `NULL` to plan as if nothing were held.
#' @return A `vetusta_plan`: a list with `want`, `calls` (a data frame with one row a range to page through: `symbol`, `from`, `to`
#'   (`POSIXct`, UTC), `rows` and `pages` expected at most), `pages` (all of them, each one HTTP request), `rows`, `seconds` (the
#'   least time that the source's limits allow) and `held` (symbols that need nothing).
#' @section Errors: `vetusta_error_want` for something that is no want.
#' @export
#' @examples
#' want <- want_bars(source_card("quay"), c("KELD", "TAMX"), interval = "1 minute", from = "2026-03-12", to = "2026-03-26")
#' plan_calls(want)
plan_calls <- function(want, archive = NULL) {
  if (!inherits(want, "vetusta_want")) {
    vetusta_stop("want", "A plan is made from a want.", todo = "make one with want_bars()")
  }
  if (!is.null(archive)) check_archive(archive)
  pieces <- lapply(want$symbols, function(symbol) missing_ranges(want, symbol, archive))
  calls <- data.frame(
    symbol = rep(want$symbols, vapply(pieces, nrow, 0L)),
    from = utc(unlist(lapply(pieces, function(piece) piece$start))), to = utc(unlist(lapply(pieces, function(piece) piece$end)))
  )
  calls$rows <- expected_rows(want, calls)
  most <- want$offer$most %||% Inf
  calls$pages <- pmax(1, ceiling(calls$rows / most))
  structure(
    list(want = want, calls = calls, pages = sum(calls$pages), rows = sum(calls$rows),
      seconds = limit_least_seconds(sum(calls$pages), want$source$limits), held = setdiff(want$symbols, calls$symbol)),
    class = "vetusta_plan"
  )
}

# The want's window less what the archive covers.
missing_ranges <- function(want, symbol, archive) {
  left <- data.frame(start = as.numeric(want$from), end = as.numeric(want$to))
  if (is.null(archive)) {
    return(left)
  }
  covered <- archive_covered(archive, want$source$source, symbol, want$interval$iso, want$session)
  for (i in seq_len(nrow(covered))) left <- cut_out(left, covered$start[i], covered$end[i])
  left
}

cut_out <- function(ranges, start, end) {
  before <- data.frame(start = ranges$start, end = pmin(ranges$end, start))
  after <- data.frame(start = pmax(ranges$start, end), end = ranges$end)
  both <- rbind(before, after)
  both <- both[both$start < both$end, , drop = FALSE]
  both[order(both$start), , drop = FALSE]
}

# At most as many rows as the calendar expects; a source without a calendar is open at all hours.
expected_rows <- function(want, calls) {
  calendar <- source_calendar(want$source)
  seconds <- want$interval$seconds
  windows <- unique(calls[c("from", "to")])
  counts <- vapply(seq_len(nrow(windows)), function(i) {
    from <- windows$from[i]
    to <- windows$to[i]
    if (!is.null(calendar)) {
      session <- if (want$session == "all") NULL else "regular"
      return(length(calendar_times(calendar, want$interval, from, to, session)))
    }
    length_of <- as.numeric(to) - as.numeric(from)
    as.integer(ceiling(length_of / if (is.na(seconds)) c(month = 28, year = 365)[[want$interval$unit]] * 86400 * want$interval$count else seconds))
  }, 0L)
  counts[match(paste(calls$from, calls$to), paste(windows$from, windows$to))]
}

#' @export
print.vetusta_plan <- function(x, ...) {
  cat(format_plan(x), sep = "\n")
  invisible(x)
}

format_plan <- function(plan) {
  want <- plan$want
  count <- function(n) format(n, big.mark = ",", scientific = FALSE)
  limits <- want$source$limits
  lines <- c(
    paste0("plan: bars of ", format(want$interval), " from ", want$source$title),
    paste0("  window    ", format_instant(want$from), " to ", format_instant(want$to), ", session ", want$session),
    paste0("  requests  ", count(plan$pages), " for ", counted(length(unique(plan$calls$symbol)), "symbol"), ", at most ", count(plan$rows), " bars"),
    paste0("  time      ", plan_time(plan), if (length(limits)) paste0(" at ", paste(vapply(limits, format_limit, ""), collapse = ", ")) else ", no limit is known"),
    if (length(plan$held)) paste0("  held      ", paste(plan$held, collapse = ", "), ": nothing to ask for"),
    if (length(want$notes)) paste0("  note      ", want$notes)
  )
  if (!nrow(plan$calls)) {
    return(c(lines[1:2], "  requests  none: the archive holds all of it", if (length(want$notes)) paste0("  note      ", want$notes)))
  }
  shown <- utils::head(plan$calls, 12)
  rows <- text_table(data.frame(symbol = shown$symbol, from = format_instant(shown$from), to = format_instant(shown$to), bars = shown$rows, requests = shown$pages))
  c(lines, "", paste0("  ", rows), if (nrow(plan$calls) > 12) paste0("  and ", count(nrow(plan$calls) - 12), " more"))
}

plan_time <- function(plan) if (plan$seconds < 1) "as fast as the service answers" else paste("at least", format_seconds(plan$seconds))

format_seconds <- function(seconds) {
  if (seconds < 120) paste(round(seconds), "s")
  else if (seconds < 7200) paste(round(seconds / 60), "minutes")
  else if (seconds < 172800) paste(round(seconds / 3600, 1), "hours")
  else paste(round(seconds / 86400, 1), "days")
}
