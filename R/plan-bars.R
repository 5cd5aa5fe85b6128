# Bars cut into calls.

# One call a symbol and stretch that is missing; symbols that miss the same stretch share a call
# where the API takes several;
# stretches are cut to the widest that it takes, along local midnights.
plan_bars <- function(want, archive) {
  calendar <- source_calendar(want$source)
  want <- kept_window(want, calendar)
  pieces <- missing_bars(want, archive, calendar)
  # a call that knows no window is one and the same for all that is missing
  if (!has_window(want$dataset)) pieces <- data.frame(symbol = unique(pieces$symbol),
    from = unname(tapply(pieces$from, pieces$symbol, min)[unique(pieces$symbol)]),
    to = unname(tapply(pieces$to, pieces$symbol, max)[unique(pieces$symbol)]))
  else for (cut in list(cut_widest, cut_rows)) pieces <- cut_pieces(pieces, cut, want, calendar)
  pieces <- pieces[longest_first(pieces$symbol, pieces$from), ]
  pieces <- with_holes(pieces, want, archive, calendar)
  size <- if (any(c("symbols") %in% dataset_gives(want$dataset))) want$dataset$symbols_a_call %||%
    Inf else 1
  groups <- group_symbols(pieces, size)
  first <- vapply(groups, `[`, 0L, 1)
  symbol <- label <- pieces$symbol[first]
  for (i in which(lengths(groups) > 1)) {
    group <- groups[[i]]
    symbol[i] <- label[i] <- paste(pieces$symbol[group], collapse = ",")
    if (length(group) > 3) {
      label[i] <- paste0(pieces$symbol[group[1]], " and ", length(group) - 1, " more")
    }
  }
  calls <- data.frame(symbol = symbol, label = label)
  calls$symbols <- lapply(groups, function(group) pieces$symbol[group])
  calls$from <- utc(pieces$from[first])
  calls$to <- utc(pieces$to[first])
  calls$again <- pieces$again[first]
  asked <- expected_rows(want, calls, calendar) * lengths(calls$symbols)
  calls$rows <- asked * max(1, length(want$dataset$sides))
  calls$pages <- pmax(1, ceiling(asked / (want$dataset$largest_page %||% Inf)))
  calls$keys <- rep(list(list()), nrow(calls))
  calls
}

# What lacks most comes first: of a want that is stopped and run again what was not reached yet is
# asked for before the newest of what is held.
longest_first <- function(name, from) {
  since <- tapply(from, name, min)
  order(since[name], seq_along(name))
}

# Behind what is missing come holes that are asked for again, but those that are asked with it.
with_holes <- function(pieces, want, archive, calendar) {
  pieces$again <- rep(FALSE, nrow(pieces))
  holes <- hole_pieces(want, archive, calendar)
  since <- tapply(c(pieces$from, Inf), c(pieces$symbol, "none at all"), min)
  covered <- since[holes$symbol] <= holes$from
  holes <- holes[!covered %in% TRUE, , drop = FALSE]
  if (!nrow(holes)) {
    return(pieces)
  }
  for (cut in list(cut_widest, cut_rows)) holes <- cut_pieces(holes, cut, want, calendar)
  holes$again <- rep(TRUE, nrow(holes))
  rbind(pieces, holes)
}

# Pieces of one window are cut alike: each window once.
cut_pieces <- function(pieces, cut, want, calendar) {
  window <- window_numbers(pieces$from, pieces$to)
  first <- which(!duplicated(window))
  cuts <- lapply(first, function(i) as.list(cut(pieces[i, ], want, calendar)))
  at <- match(window, window[first])
  edges <- function(name) as.numeric(unlist(lapply(cuts, `[[`, name)[at]))
  count <- lengths(lapply(cuts, `[[`, "from"))[at]
  data.frame(symbol = rep(pieces$symbol, count), from = edges("from"), to = edges("to"))
}

# A number for each window, the same where both ends are.
window_numbers <- function(from, to) {
  ends <- unique(to)
  match(from, unique(from)) * (length(ends) + 1) + match(to, ends)
}

# Whether a call can say where its window begins or ends.
has_window <- function(dataset) any(c("from", "to") %in% dataset_gives(dataset))

group_symbols <- function(pieces, size) {
  if (!nrow(pieces)) {
    return(list())
  }
  if (size == 1) {
    return(as.list(seq_len(nrow(pieces))))
  }
  same <- split(seq_len(nrow(pieces)), paste(pieces$from, pieces$to, pieces$again))
  same <- same[order(vapply(same, min, 0L))]
  unlist(lapply(unname(same),
    function(rows) unname(split(rows, (seq_along(rows) - 1) %/% min(size, length(rows))))),
    recursive = FALSE)
}
