# Bars cut into requests.

# One request a symbol and stretch that is missing; symbols that miss the same stretch share a
# request
# where the API takes several;
# stretches are cut to the widest that it takes, along local midnights.
plan_bars <- function(query, archive) {
  calendar <- source_calendar(query$source)
  query <- kept_window(query, calendar)
  pieces <- missing_bars(query, archive, calendar)
  # a request that knows no window is one and the same for all that is missing
  if (!has_window(query$dataset)) pieces <- data.frame(symbol = unique(pieces$symbol),
    from = unname(tapply(pieces$from, pieces$symbol, min)[unique(pieces$symbol)]),
    to = unname(tapply(pieces$to, pieces$symbol, max)[unique(pieces$symbol)]))
  else for (cut in list(cut_widest, cut_rows)) pieces <- cut_pieces(pieces, cut, query, calendar)
  pieces <- pieces[longest_first(pieces$symbol, pieces$from), ]
  pieces <- with_holes(pieces, query, archive, calendar)
  size <- if (any(c("symbols") %in%
    dataset_gives(query$dataset))) query$dataset$symbols_a_request %||%
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
  requests <- data.frame(symbol = symbol, label = label)
  requests$symbols <- lapply(groups, function(group) pieces$symbol[group])
  requests$from <- utc(pieces$from[first])
  requests$to <- utc(pieces$to[first])
  requests$again <- pieces$again[first]
  asked <- expected_rows(query, requests, calendar) * lengths(requests$symbols)
  requests$rows <- asked * max(1, length(query$dataset$sides))
  requests$pages <- pmax(1, ceiling(asked / (query$dataset$largest_page %||% Inf)))
  requests$keys <- rep(list(list()), nrow(requests))
  requests
}

# What lacks most comes first: of a query that is stopped and run again what was not reached yet is
# asked for before the newest of what is held.
longest_first <- function(name, from) {
  since <- tapply(from, name, min)
  order(since[name], seq_along(name))
}

# Behind what is missing come holes that are asked for again, but those that are asked with it.
with_holes <- function(pieces, query, archive, calendar) {
  pieces$again <- rep(FALSE, nrow(pieces))
  holes <- hole_pieces(query, archive, calendar)
  since <- tapply(c(pieces$from, Inf), c(pieces$symbol, "none at all"), min)
  covered <- since[holes$symbol] <= holes$from
  holes <- holes[!covered %in% TRUE, , drop = FALSE]
  if (!nrow(holes)) {
    return(pieces)
  }
  for (cut in list(cut_widest, cut_rows)) holes <- cut_pieces(holes, cut, query, calendar)
  holes$again <- rep(TRUE, nrow(holes))
  rbind(pieces, holes)
}

# Pieces of one window are cut alike: each window once.
cut_pieces <- function(pieces, cut, query, calendar) {
  window <- window_numbers(pieces$from, pieces$to)
  first <- which(!duplicated(window))
  cuts <- lapply(first, function(i) as.list(cut(pieces[i, ], query, calendar)))
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

# Whether a request can say where its window begins or ends.
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
