#' Cut a want into calls
#'
#' Says what a want takes before the first call is made. What the archive already holds is not asked for again.
#'
#' @param want A want, see [want_bars()].
#' @param archive An archive, or `NULL` to plan as if nothing were held.
#' @return A `vetusta_plan`: a list with `want`, `calls` (a data frame with one row a range to page through: `symbol`, `from`, `to`
#'   (`POSIXct`, UTC), `rows` and `pages` expected at most; for rows that are no bars the pages are at least so many), `pages`
#'   (all of them, each one HTTP request), `rows`, `seconds` (the least time that the source's limits allow), `bytes` (about, by what
#'   this offer's pages took before; `NA` before the first), `quotas` (a row for
#'   each quota of a day or a month: used, left, the share this takes, the day it ends) and `held` (symbols that need nothing).
#' @section Errors: `vetusta_error_want` for something that is no want.
#' @export
#' @examples
#' want <- want_bars(source_card("quay"), c("KELD", "TAMX"), interval = "1 minute", from = "2026-03-12", to = "2026-03-26")
#' plan_calls(want)
plan_calls <- function(want, archive = NULL) {
  if (missing(want) || !inherits(want, "vetusta_want")) {
    vetusta_stop("want", "A plan is made from a want.", todo = "make one with want_bars() or want_rows()")
  }
  if (!is.null(archive)) check_archive(archive)
  calls <- if (!is.null(want$sdmx)) plan_observations(want, archive) else if (want$shape == "bars") plan_bars(want, archive) else plan_rows(want, archive)
  calls <- still_to_ask(want, calls, archive)
  limits <- want$source$limits
  taken <- if (is.null(archive)) numeric() else archive_tokens(archive, want$source$source)
  structure(
    list(want = want, calls = calls, pages = sum(calls$pages), rows = sum(calls$rows), seconds = limit_least_seconds(sum(calls$pages), limits),
      bytes = plan_bytes(archive, want, sum(calls$pages)), quotas = limit_quotas(sum(calls$pages), limits, taken,
        as.numeric(Sys.time())), held = setdiff(want$symbols, unlist(calls$symbols)), with_archive = !is.null(archive)),
    class = "vetusta_plan"
  )
}

# From what the pages of this offer took before; unknown before the first.
plan_bytes <- function(archive, want, pages) {
  if (is.null(archive)) {
    return(NA_real_)
  }
  archive_page_bytes(archive, want$source$source, want$offer$name) * pages
}

# One call a symbol and stretch that is missing; symbols that miss the same stretch share a call where the API takes several;
# stretches are cut to the widest that it takes, along local midnights.
plan_bars <- function(want, archive) {
  ranges <- missing_ranges(want, want$symbols, archive)
  calendar <- source_calendar(want$source)
  pieces <- data.frame(symbol = rep(want$symbols, vapply(ranges, nrow, 0L)), from = as.numeric(unlist(lapply(ranges, `[[`, "start"))), to = as.numeric(unlist(lapply(ranges, `[[`, "end"))))
  # a call that knows no window is one and the same for all that is missing
  if (!has_window(want$offer)) pieces <- data.frame(symbol = unique(pieces$symbol), from = unname(tapply(pieces$from, pieces$symbol, min)[unique(pieces$symbol)]),
    to = unname(tapply(pieces$to, pieces$symbol, max)[unique(pieces$symbol)]))
  else for (cut in list(cut_widest, cut_rows)) pieces <- cut_pieces(pieces, cut, want, calendar)
  pieces <- pieces[longest_first(pieces$symbol, pieces$from), ]
  size <- if (any(c("symbols") %in% offer_gives(want$offer))) want$offer$symbols_a_call %||% Inf else 1
  groups <- group_symbols(pieces, size)
  calls <- data.frame(symbol = vapply(groups, function(group) paste(pieces$symbol[group], collapse = ","), ""))
  calls$label <- vapply(groups, function(group) if (length(group) > 3) paste0(pieces$symbol[group[1]], " and ", length(group) - 1,
    " more") else paste(pieces$symbol[group], collapse = ","), "")
  calls$symbols <- lapply(groups, function(group) pieces$symbol[group])
  calls$from <- utc(pieces$from[vapply(groups, `[`, 0L, 1)])
  calls$to <- utc(pieces$to[vapply(groups, `[`, 0L, 1)])
  asked <- expected_rows(want, calls, calendar) * lengths(calls$symbols)
  calls$rows <- asked * max(1, length(want$offer$sides))
  calls$pages <- pmax(1, ceiling(asked / (want$offer$most %||% Inf)))
  calls$keys <- rep(list(list()), nrow(calls))
  calls
}

# What lacks most comes first: of a want that is stopped and run again what was not reached yet is asked for before the newest of what is held.
longest_first <- function(name, from) {
  since <- tapply(from, name, min)
  order(since[name], seq_along(name))
}

# Pieces of one window are cut alike: each window once.
cut_pieces <- function(pieces, cut, want, calendar) {
  window <- paste(pieces$from, pieces$to)
  first <- which(!duplicated(window))
  cuts <- lapply(first, function(i) cut(pieces[i, ], want, calendar))
  at <- match(window, window[first])
  count <- vapply(cuts, nrow, 0L)[at]
  data.frame(symbol = rep(pieces$symbol, count), from = as.numeric(unlist(lapply(cuts[at], `[[`, "from"))), to = as.numeric(unlist(lapply(cuts[at], `[[`, "to"))))
}

# Whether a call can say where its window begins or ends.
has_window <- function(offer) any(c("from", "to") %in% offer_gives(offer))

group_symbols <- function(pieces, size) {
  if (!nrow(pieces)) {
    return(list())
  }
  if (size == 1) {
    return(as.list(seq_len(nrow(pieces))))
  }
  same <- split(seq_len(nrow(pieces)), paste(pieces$from, pieces$to))
  same <- same[order(vapply(same, min, 0L))]
  unlist(lapply(unname(same), function(rows) unname(split(rows, (seq_along(rows) - 1) %/% min(size, length(rows))))), recursive = FALSE)
}

# The widest window that one call takes, for all intervals or for each.
widest_window <- function(want) {
  widest <- want$offer$widest
  if (is.list(widest)) {
    own <- vapply(names(widest), function(name) time_interval(name)$iso == want$interval$iso %||% "", TRUE)
    widest <- if (any(own)) widest[[which(own)[1]]]
  }
  widest %|else|% time_interval
}

# Where no page follows another, a call asks for no more bars than it can give: cut by the times that the calendar expects.
cut_rows <- function(piece, want, calendar) {
  offer <- want$offer
  if (want$shape != "bars" || is.null(offer$most) || !is.null(offer$job) || (offer$next_page$by %||% "none") != "none") {
    return(piece)
  }
  calendar <- calendar %||% calendar_make(list(calendar = "every day", zone = want$source$zone))
  times <- as.numeric(calendar_times(calendar, want$interval, utc(piece$from), utc(piece$to), if (want$session != "all") main_session(calendar)))
  # symbols that share a call share its rows
  most <- max(1, offer$most %/% min(offer$symbols_a_call %||% 1, length(want$symbols)))
  cuts <- times[seq_along(times) > 1 & (seq_along(times) - 1) %% most == 0]
  data.frame(symbol = piece$symbol, from = c(piece$from, cuts), to = c(cuts, piece$to))
}

cut_widest <- function(piece, want, calendar = NULL) {
  length <- widest_window(want)
  if (is.null(length)) {
    return(piece)
  }
  whole <- asks_for_whole(want$offer, length)
  cuts <- piece$from
  repeat {
    last <- utc(cuts[length(cuts)])
    after <- as.numeric(shift_instant(last, length, 1, want$source$zone))
    if (whole) {
      # a file of a month holds the month, wherever in it the window begins
      after <- as.numeric(time_local(bucket_start(bucket_of_day(local_day(last, want$source$zone), length) + 1, length), 0, want$source$zone))
    } else if (!is_intraday(length)) {
      midnight <- as.numeric(time_local(local_day(utc(after), want$source$zone), 0, want$source$zone))
      if (midnight > cuts[length(cuts)]) after <- midnight
    }
    if (after >= piece$to) break
    cuts <- c(cuts, after)
  }
  data.frame(symbol = piece$symbol, from = cuts, to = c(cuts[-1], piece$to))
}

# Whether a call asks for a whole month or year: what it says of the window's beginning names no day.
asks_for_whole <- function(offer, length) {
  rules <- Filter(function(name) (offer$parameters[[name]]$gives %||% name) == "from", unique(template_variables(paste0(offer$request, offer$body))))
  written <- lapply(rules, function(name) offer$parameters[[name]]$written)
  length$unit %in% c("month", "year") && length(written) > 0 && !any(vapply(written, is.null, TRUE)) && !any(grepl("%[dejDFsxcU]", unlist(written)))
}

# One call for each combination of the keys' values and stretch that is missing; values that the card joins go together. A call that was stopped in the middle of
# its pages is asked for with its own window again, so that it goes on.
plan_rows <- function(want, archive = NULL) {
  offer <- want$offer
  joined <- Filter(function(name) !is.null(offer$parameters[[name]]$join), names(want$keys))
  single <- want$keys[setdiff(names(want$keys), joined)]
  grid <- if (length(single)) expand.grid(rev(single), stringsAsFactors = FALSE)[names(single)] else data.frame(row.names = 1L)
  keys <- lapply(seq_len(nrow(grid)), function(i) c(as.list(grid[i, , drop = FALSE]), want$keys[joined]))
  label <- vapply(keys, function(key) paste(unlist(lapply(key, function(value) if (length(value) > 3) paste0(value[1], "...") else value)), collapse = " "), "")
  label[!nzchar(label)] <- offer$name
  windows <- row_windows(want, keys, archive)
  place <- rep(seq_along(keys), vapply(windows, nrow, 0L))
  all <- do.call(rbind, windows)
  keys <- keys[place]
  calls <- data.frame(symbol = label[place], label = label[place])
  calls$symbols <- lapply(keys, function(key) as.character(key$symbol))
  calls$from <- utc(all$from)
  calls$to <- utc(all$to)
  calls$rows <- rep(NA_real_, nrow(calls))
  calls$pages <- rep(1, nrow(calls))
  calls$keys <- keys
  if (is.null(want$from) || !nrow(calls)) calls else calls[longest_first(vapply(keys, key_text, ""), all$from), , drop = FALSE]
}

# For each call's keys the stretches to ask for.
row_windows <- function(want, keys, archive) {
  if (is.null(want$from)) {
    return(rep(list(data.frame(from = NA_real_, to = NA_real_)), length(keys)))
  }
  source <- want$source$source
  covered <- if (!is.null(archive)) archive_covered_rows(archive, source, want$offer$name)
  reached <- if (!is.null(archive)) archive_reached_windows(archive, source, want$offer$name)
  covered <- split(covered, covered$key)
  reached <- split(reached, reached$key)
  lapply(keys, function(key) {
    name <- key_text(key)
    left <- data.frame(start = as.numeric(want$from), end = as.numeric(want$to))
    held <- covered[[name]]
    for (i in seq_len(NROW(held))) left <- cut_out(left, held$start[i], held$end[i])
    begun <- reached[[name]]
    begun <- begun[begun$from < as.numeric(want$to) & begun$to > as.numeric(want$from), c("from", "to")]
    for (i in seq_len(NROW(begun))) left <- cut_out(left, begun$from[i], begun$to[i])
    rest <- lapply(seq_len(nrow(left)), function(i) cut_widest(data.frame(symbol = "", from = left$start[i], to = left$end[i]), want)[c("from", "to")])
    do.call(rbind, c(list(data.frame(from = numeric(), to = numeric())), if (NROW(begun)) list(begun), rest))
  })
}

# Keys as text, in one order, so that they can be looked up.
key_text <- function(keys) if (length(keys)) as.character(jsonlite::toJSON(lapply(keys[order(names(keys))], as.character))) else "{}"

call_key <- function(call) key_text(call$keys[[1]])

# What is asked for as one without a window: rows and statistics. A run of it that was stopped is a round that the next run goes on with.
want_round <- function(want) {
  if (want$shape == "bars" || (is.null(want$sdmx) && !is.null(want$from))) {
    return(NULL)
  }
  asked <- if (is.null(want$sdmx)) want$keys else c(want$selection, want$query, list(from = want$window$from$text, to = want$window$to$text))
  key_text(asked[lengths(asked) > 0])
}

# Less the calls that were made since a round began that is not at its end.
still_to_ask <- function(want, calls, archive) {
  round <- want_round(want)
  began <- if (!is.null(round) && !is.null(archive)) archive_round(archive, want$source$source, want$offer$name, round)
  if (!length(began)) {
    return(calls)
  }
  made <- archive_asked(archive, want$source$source, want$offer$name, began)
  if (!length(made)) {
    return(calls)
  }
  start <- vapply(seq_len(nrow(calls)), function(i) collect_chain(want, calls[i, ])$start, "")
  calls[!start %in% made, , drop = FALSE]
}

# What a call's request is made from.
call_known <- function(want, call) {
  symbols <- call$symbols[[1]]
  times <- if (is.na(call$from)) list() else list(from = call$from, to = call$to)
  # the last bar of the window bears its end, which lies on the window's
  if (identical(want$offer$bar_time, "end") && length(times)) times$to <- shift_instant(times$to, want$interval, 1, want$source$zone)
  c(call$keys[[1]], times, list(symbol = if (length(symbols)) symbols[1], symbols = symbols, interval = want$interval$iso, session = want$session, most = want$offer$most))
}

# For each symbol the want's window less what the archive covers, which is asked once for all.
missing_ranges <- function(want, symbols, archive) {
  whole <- data.frame(start = as.numeric(want$from), end = as.numeric(want$to))
  if (is.null(archive)) {
    return(rep(list(whole), length(symbols)))
  }
  covered <- archive_covered(archive, want$source$source, want$interval$iso, want$session, symbols)
  rows <- split(seq_len(nrow(covered)), covered$symbol)
  place <- match(symbols, names(rows))
  # most symbols have one stretch, and many the same: what is left of the window is worked out once for each
  held <- lapply(place, function(at) if (is.na(at)) integer() else rows[[at]])
  kind <- vapply(held, function(at) paste(covered$start[at], covered$end[at], collapse = ";"), "")
  first <- which(!duplicated(kind))
  left <- lapply(first, function(i) {
    rest <- whole
    for (at in held[[i]]) rest <- cut_out(rest, covered$start[at], covered$end[at])
    rest
  })
  left[match(kind, kind[first])]
}

cut_out <- function(ranges, start, end) {
  before <- data.frame(start = ranges$start, end = pmin(ranges$end, start))
  after <- data.frame(start = pmax(ranges$start, end), end = ranges$end)
  both <- rbind(before, after)
  both <- both[both$start < both$end, , drop = FALSE]
  both[order(both$start), , drop = FALSE]
}

# At most as many rows as the calendar expects; a source without a calendar is open at all hours.
expected_rows <- function(want, calls, calendar) {
  if (!nrow(calls)) {
    return(numeric())
  }
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
  if (!is.null(want$sdmx)) {
    return(format_observation_plan(plan))
  }
  count <- function(n) format(n, big.mark = ",", scientific = FALSE)
  limits <- want$source$limits
  bars <- want$shape == "bars"
  head <- c(
    paste0("plan: ", want$shape, if (bars) paste0(" of ", format(want$interval)), " from ", want$source$title),
    if (!is.null(want$from)) paste0("  window    ", format_instant(want$from), " to ", format_instant(want$to), if (bars) paste0(", session ", want$session))
  )
  notes <- if (length(want$notes)) paste0("  note      ", want$notes)
  if (!nrow(plan$calls)) {
    return(c(head, "  requests  none: the archive holds all of it", notes))
  }
  lines <- c(
    head,
    if (bars) paste0("  requests  ", count(plan$pages), " for ", counted(length(unique(unlist(plan$calls$symbols))), "symbol"), ", at most ", count(plan$rows), " bars")
    else paste0("  requests  at least ", count(plan$pages)),
    paste0("  time      ", plan_time(plan), if (length(limits)) paste0(" at ", paste(vapply(limits, format_limit, ""), collapse = ", ")) else ", no limit is known"),
    if (!is.na(plan$bytes)) paste0("  size      about ", format_bytes(plan$bytes), ", as the pages before it were"),
    plan_quotas(plan),
    if (length(plan$held)) paste0("  held      ", paste(utils::head(plan$held, 8), collapse = ", "), if (length(plan$held) > 8) " and more", ": nothing to ask for"),
    notes
  )
  shown <- utils::head(plan$calls, 12)
  table <- data.frame(symbol = shown$label, from = format_instant(shown$from), to = format_instant(shown$to), bars = shown$rows, requests = shown$pages)
  if (!bars) table <- table[c("symbol", if (!is.null(want$from)) c("from", "to"), "requests")]
  if (!bars) names(table)[1] <- "call"
  c(lines, "", paste0("  ", text_table(table)), if (nrow(plan$calls) > 12) paste0("  and ", count(nrow(plan$calls) - 12), " more"))
}

format_observation_plan <- function(plan) {
  want <- plan$want
  count <- function(n) format(n, big.mark = ",", scientific = FALSE)
  limits <- want$source$limits
  address <- vapply(seq_len(nrow(plan$calls)), function(i) observation_chain(want, plan$calls[i, ], NULL)$request$address, "")
  shown <- utils::head(seq_along(address), 8)
  c(
    paste0("plan: ", want$dataset$id, " from ", want$source$title, ": ", want$dataset$title),
    if (length(unlist(want$window))) paste0("  window    ", want$window$from$text %||% "the beginning", " to ", want$window$to$text %||% "the end"),
    paste0("  key       ", sdmx_key(want$selection), "   (", paste(names(want$selection), collapse = "."), ")"),
    paste0("  requests  ", count(plan$pages), ", about ", count(plan$rows), " values", if (plan$pages > 1) paste0("; cut so that none has more than ", count(want$source$sdmx$most_cells))),
    paste0("  time      ", plan_time(plan), if (length(limits)) paste0(" at ", paste(vapply(limits, format_limit, ""), collapse = ", "))), plan_quotas(plan),
    if (length(want$notes)) paste0("  note      ", want$notes), "", paste0("  ", address[shown]), if (length(address) > 8) paste0("  and ", count(length(address) - 8), " more")
  )
}

plan_quotas <- function(plan) {
  quotas <- plan$quotas
  if (is.null(quotas)) {
    return(NULL)
  }
  paste0("  quota     ", quotas$quota, ": ", quotas$used, " used, takes ", round(100 * quotas$share), "% of it",
    ifelse(quotas$ends > Sys.Date(), paste0(", ends on ", quotas$ends), ""))
}

plan_time <- function(plan) if (plan$seconds < 1) "as fast as the service answers" else paste("at least", format_seconds(plan$seconds))

format_bytes <- function(bytes) {
  if (bytes < 1e6) paste(format(ceiling(bytes / 1e3), big.mark = ","), "kB")
  else if (bytes < 1e9) paste(round(bytes / 1e6, 1), "MB") else paste(round(bytes / 1e9, 1), "GB")
}
