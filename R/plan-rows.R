# Rows cut into calls: one for each combination of keys and stretch that is missing.

# One call for each combination of the keys' values and stretch that is missing; values that the
# card joins go together. A call that was stopped in the middle of
# its pages is asked for with its own window again, so that it goes on.
plan_rows <- function(want, archive = NULL) {
  dataset <- want$dataset
  joined <- Filter(function(name) !is.null(dataset$parameters[[name]]$join), names(want$keys))
  single <- want$keys[setdiff(names(want$keys), joined)]
  grid <- if (length(single)) expand.grid(rev(single), stringsAsFactors = FALSE)[names(single)]
  else data.frame(row.names = 1L)
  keys <- lapply(seq_len(nrow(grid)),
    function(i) c(as.list(grid[i, , drop = FALSE]), want$keys[joined]))
  label <- vapply(keys,
    function(key) {
      paste(unlist(lapply(key,
      function(value) if (length(value) > 3) paste0(value[1], "...") else value)), collapse = " ")
    },
      "")
  label[!nzchar(label)] <- dataset$name
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
  if (is.null(want$from) || !nrow(calls)) calls
  else calls[longest_first(vapply(keys, key_text, ""), all$from), , drop = FALSE]
}

# For each call's keys the stretches to ask for.
row_windows <- function(want, keys, archive) {
  if (is.null(want$from)) {
    return(rep(list(data.frame(from = NA_real_, to = NA_real_)), length(keys)))
  }
  covered <- if (is.null(archive)) no_coverage else covered_now(archive, want)
  reached <- reached_windows(want, archive)
  covered <- split(covered, covered$key)
  reached <- split(reached, reached$key)
  lapply(keys, function(key) {
    name <- key_text(key)
    held <- covered[[name]]
    begun <- reached[[name]]
    begun <- begun[begun$from < as.numeric(want$to) & begun$to > as.numeric(want$from),
      c("from", "to")]
    left <- missing_of(want, NULL, list(start = c(held$start, begun$from),
      end = c(held$end, begun$to)))
    left$start <- kept_pieces(data.frame(from = left$start, to = left$end),
      left$start > as.numeric(want$from), want, NULL)$from
    rest <- lapply(seq_len(nrow(left)),
      function(i) {
        cut_widest(data.frame(symbol = "", from = left$start[i], to = left$end[i]),
        want)[c("from", "to")]
      })
    do.call(rbind,
      c(list(data.frame(from = numeric(), to = numeric())), if (NROW(begun)) list(begun), rest))
  })
}

# The windows in which calls stopped in the middle of their pages, by their keys.
reached_windows <- function(want, archive) {
  none <- data.frame(key = character(), from = numeric(), to = numeric())
  notes <- if (!is.null(archive)) store_notes(archive, "reached", want$source$source,
    want$dataset$name)
  if (!NROW(notes)) {
    return(none)
  }
  places <- lapply(notes$value, jsonlite::fromJSON)
  places <- Filter(function(place) !is.null(place$from), places)
  if (!length(places)) {
    return(none)
  }
  data.frame(key = vapply(places, `[[`, "", "key"), from = vapply(places, `[[`, 0, "from"),
    to = vapply(places, `[[`, 0, "to"))
}
