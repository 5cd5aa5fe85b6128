# Requests for rows: one for each combination of keys and missing range.

# One request for each combination of key values and missing range; values that
# the card joins share a request. A request that stopped between pages keeps its
# window, so that it can continue.
plan_rows <- function(query, archive = NULL) {
  dataset <- query$dataset
  # the values of each key that one request takes
  groups <- lapply(
    stats::setNames(nm = names(query$keys)),
    function(name) key_groups(query$keys[[name]], name, dataset)
  )
  grid <- if (length(groups)) {
    expand.grid(lapply(rev(groups), seq_along))[names(groups)]
  } else {
    data.frame(row.names = 1L)
  }
  keys <- lapply(seq_len(nrow(grid)), function(i) {
    Map(function(values, at) values[[at]], groups, as.list(grid[i, ]))
  })
  label <- vapply(
    keys,
    function(key) {
      paste(
        unlist(
          lapply(
            key,
            function(value) {
              if (length(value) > 3) paste0(value[1], "...") else value
            }
          )
        ),
        collapse = " "
      )
    },
    ""
  )
  label[!nzchar(label)] <- dataset$name
  windows <- row_windows(query, keys, archive)
  place <- rep(seq_along(keys), vapply(windows, nrow, 0L))
  all <- do.call(rbind, windows)
  keys <- keys[place]
  requests <- data.frame(symbol = label[place], label = label[place])
  requests$symbols <- lapply(keys, function(key) as.character(key$symbol))
  requests$from <- utc(all$from)
  requests$to <- utc(all$to)
  requests$rows <- rep(NA_real_, nrow(requests))
  requests$pages <- rep(1, nrow(requests))
  requests$keys <- keys
  if (is.null(query$from) || !nrow(requests)) {
    requests
  } else {
    requests[
      longest_first(vapply(keys, key_text, ""), all$from), ,
      drop = FALSE
    ]
  }
}

# A request takes one value of a key; all, or `a_request` of them, where the
# card joins them or its body lists them.
key_groups <- function(values, name, dataset) {
  rule <- dataset$parameters[[name]]
  listed <- grepl(
    paste0("\\[\\s*\"?\\{", name, "\\}\"?\\s*\\]"), dataset$body %||% "",
    perl = TRUE
  )
  size <- rule$a_request %||%
    if (listed || !is.null(rule$join)) length(values) else 1L
  unname(split(values, (seq_along(values) - 1L) %/% size))
}

# The missing ranges of each request's keys.
row_windows <- function(query, keys, archive) {
  if (is.null(query$from)) {
    return(rep(list(data.frame(from = NA_real_, to = NA_real_)), length(keys)))
  }
  covered <- if (is.null(archive)) no_coverage else covered_now(archive, query)
  reached <- reached_windows(query, archive)
  covered <- split(covered, covered$key)
  reached <- split(reached, reached$key)
  lapply(keys, function(key) {
    name <- key_text(key)
    ranges <- covered[[name]]
    begun <- reached[[name]]
    begun <- begun[
      begun$from < as.numeric(query$to) & begun$to > as.numeric(query$from),
      c("from", "to")
    ]
    left <- missing_of(
      query, NULL,
      list(start = c(ranges$start, begun$from), end = c(ranges$end, begun$to))
    )
    left$start <- kept_pieces(
      data.frame(from = left$start, to = left$end),
      left$start > as.numeric(query$from), query, NULL
    )$from
    rest <- lapply(seq_len(nrow(left)), function(i) {
      cut_widest(
        data.frame(symbol = "", from = left$start[i], to = left$end[i]), query
      )[c("from", "to")]
    })
    do.call(
      rbind,
      c(
        list(data.frame(from = numeric(), to = numeric())),
        if (NROW(begun)) list(begun), rest
      )
    )
  })
}

# The windows of requests that stopped between pages, by keys.
reached_windows <- function(query, archive) {
  none <- data.frame(key = character(), from = numeric(), to = numeric())
  notes <- if (!is.null(archive)) {
    store_notes(archive, "reached", query$source$source, query$dataset$name)
  }
  if (!NROW(notes)) {
    return(none)
  }
  places <- lapply(notes$value, jsonlite::fromJSON)
  places <- Filter(function(place) !is.null(place$from), places)
  if (!length(places)) {
    return(none)
  }
  data.frame(
    key = vapply(places, `[[`, "", "key"),
    from = vapply(places, `[[`, 0, "from"),
    to = vapply(places, `[[`, 0, "to")
  )
}
