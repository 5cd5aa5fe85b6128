# Requests for bars.

# One request a symbol and missing range; symbols with equal ranges share a
# request where the API allows it; ranges are cut to its widest window, at local
# midnights.
plan_bars <- function(query, archive) {
  calendar <- source_calendar(query$source)
  query <- kept_window(query, calendar)
  pieces <- missing_bars(query, archive, calendar)
  # without a window in the request, one covers all missing ranges
  if (!has_window(query$dataset)) {
    pieces <- data.frame(
      symbol = unique(pieces$symbol),
      from = unname(
        tapply(pieces$from, pieces$symbol, min)[unique(pieces$symbol)]
      ),
      to = unname(tapply(pieces$to, pieces$symbol, max)[unique(pieces$symbol)])
    )
  } else {
    for (cut in list(cut_widest, cut_rows)) {
      pieces <- cut_pieces(pieces, cut, query, calendar)
    }
  }
  pieces <- pieces[longest_first(pieces$symbol, pieces$from), ]
  pieces <- with_holes(pieces, query, archive, calendar)
  size <- if (any(c("symbols") %in% dataset_gives(query$dataset))) {
    query$dataset$symbols_a_request %||% Inf
  } else {
    1
  }
  groups <- group_symbols(pieces, size)
  first <- vapply(groups, `[`, 0L, 1)
  symbol <- label <- pieces$symbol[first]
  for (i in which(lengths(groups) > 1)) {
    group <- groups[[i]]
    symbol[i] <- label[i] <- paste(pieces$symbol[group], collapse = ",")
    if (length(group) > 3) {
      label[i] <-
        paste0(pieces$symbol[group[1]], " and ", length(group) - 1, " more")
    }
  }
  requests <- data.frame(symbol = symbol, label = label)
  requests$symbols <- lapply(groups, function(group) pieces$symbol[group])
  requests$from <- utc(pieces$from[first])
  requests$to <- utc(pieces$to[first])
  requests$again <- pieces$again[first]
  asked <- expected_rows(query, requests, calendar) * lengths(requests$symbols)
  requests$rows <- asked * max(1, length(query$dataset$sides))
  requests$pages <- pmax(
    1, ceiling(asked / (query$dataset$largest_page %||% Inf))
  )
  requests$keys <- rep(list(list()), nrow(requests))
  requests
}

# The largest missing range comes first, so that a restarted query requests new
# ranges before updates.
longest_first <- function(name, from) {
  since <- tapply(from, name, min)
  order(since[name], seq_along(name))
}

# After missing ranges come gaps to try again, unless a request covers them
# already.
with_holes <- function(pieces, query, archive, calendar) {
  pieces$again <- rep(FALSE, nrow(pieces))
  holes <- hole_pieces(query, archive, calendar)
  since <- tapply(c(pieces$from, Inf), c(pieces$symbol, "none at all"), min)
  covered <- since[holes$symbol] <= holes$from
  holes <- holes[!covered %in% TRUE, , drop = FALSE]
  if (!nrow(holes)) {
    return(pieces)
  }
  for (cut in list(cut_widest, cut_rows)) {
    holes <- cut_pieces(holes, cut, query, calendar)
  }
  holes$again <- rep(TRUE, nrow(holes))
  rbind(pieces, holes)
}

# Cuts each distinct window once.
cut_pieces <- function(pieces, cut, query, calendar) {
  window <- window_numbers(pieces$from, pieces$to)
  first <- which(!duplicated(window))
  cuts <- lapply(first, function(i) as.list(cut(pieces[i, ], query, calendar)))
  at <- match(window, window[first])
  edges <- function(name) as.numeric(unlist(lapply(cuts, `[[`, name)[at]))
  count <- lengths(lapply(cuts, `[[`, "from"))[at]
  data.frame(
    symbol = rep(pieces$symbol, count),
    from = edges("from"),
    to = edges("to")
  )
}

# Numbers distinct windows.
window_numbers <- function(from, to) {
  ends <- unique(to)
  match(from, unique(from)) * (length(ends) + 1) + match(to, ends)
}

# Whether a request can state the start or end of its window.
has_window <- function(dataset) any(c("from", "to") %in% dataset_gives(dataset))

group_symbols <- function(pieces, size) {
  if (!nrow(pieces)) {
    return(list())
  }
  if (size == 1) {
    return(as.list(seq_len(nrow(pieces))))
  }
  same <- split(
    seq_len(nrow(pieces)), paste(pieces$from, pieces$to, pieces$again)
  )
  same <- same[order(vapply(same, min, 0L))]
  unlist(
    lapply(
      unname(same),
      function(rows) {
        unname(split(rows, (seq_along(rows) - 1) %/% min(size, length(rows))))
      }
    ),
    recursive = FALSE
  )
}
