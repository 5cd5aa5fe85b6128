# Splits a selection into requests that the service accepts: along dimensions
# and time, as few as possible.

plan_observations <- function(query, archive) {
  source <- query$source
  about <- query$about
  available <- if (any(lengths(query$selection) > 0)) {
    availability_of(source, about$flow, query$selection, archive)
  } else if (!is.null(about$available)) {
    list(
      codes = about$available, start = about$start, end = about$end,
      cells = about$cells
    )
  }
  whole <- whole_selection(query, available)
  pieces <- cut_selection(whole, source$sdmx$most_cells %||% Inf)
  requests <- data.frame(
    symbol = vapply(pieces, function(piece) sdmx_key(piece$selection), "")
  )
  requests$label <- vapply(pieces, piece_label, "")
  requests$symbols <- rep(list(character()), length(pieces))
  requests$from <- requests$to <- utc(rep(NA_real_, length(pieces)))
  requests$rows <- vapply(pieces, piece_cells, 1)
  requests$pages <- rep(1, length(pieces))
  requests$keys <- lapply(
    pieces, function(piece) piece[c("selection", "start", "end")]
  )
  # the number of values, where the service counts exactly the selection
  if (length(pieces) == 1 &&
    !length(unlist(query$window)) &&
    !length(unlist(query$parameters))) {
    requests$keys[[1]]$count <- available$cells
  }
  cut_as_before(query, requests, archive)
}

piece_label <- function(piece) {
  paste0(
    sdmx_key(piece$selection),
    if (!is.null(piece$start) || !is.null(piece$end)) {
      paste0(" ", piece$start %||% "", "/", piece$end %||% "")
    }
  )
}

# What can be split: the codes of each dimension (only those with data, where
# known), the periods, and the share of values that exist.
whole_selection <- function(query, available) {
  about <- query$about
  codes <- lapply(stats::setNames(nm = names(query$selection)), function(id) {
    asked <- query$selection[[id]]
    known <- available$codes[[id]] %||% about$codes[[id]]$id
    if (!length(asked)) {
      known
    } else if (is.null(available$codes[[id]])) {
      asked
    } else {
      intersect(asked, available$codes[[id]])
    }
  })
  codes[lengths(codes) == 0] <- lapply(
    names(codes)[lengths(codes) == 0], function(id) query$selection[[id]]
  )
  # without one frequency the longest period counts: all but weeks end with the
  # year
  frequency <- if (length(codes$FREQ) == 1) codes$FREQ else "A"
  first <- query$window$from$first %||%
    as.Date(time_periods(available$start %||% NA_character_)$first)
  last <- query$window$to$last %||%
    as.Date(time_periods(available$end %||% NA_character_)$last)
  if (!is.na(time_periods(available$start %||% NA_character_)$first)) {
    first <- max(first, time_periods(available$start)$first)
  }
  if (!is.na(time_periods(available$end %||% NA_character_)$last)) {
    last <- min(last, time_periods(available$end)$last)
  }
  periods <- if (!is.na(first) && !is.na(last) && frequency %in% periodic) {
    period_sequence(first, last, frequency)
  } else {
    as.Date(character())
  }
  # the greatest possible number of values; each frequency has its own number of
  # periods
  counted <- function(from, to) {
    if (is.na(from) || is.na(to)) {
      return(1)
    }
    each <- vapply(
      if (length(codes$FREQ)) codes$FREQ else "M",
      function(code) {
        if (code %in% periodic) {
          max(1L, length(period_sequence(from, to, code)))
        } else {
          1L
        }
      },
      1L
    )
    mean(each)
  }
  # few cubes are full: availability tells the share
  fill <- if (!is.null(available$cells) &&
    !is.na(available$cells) &&
    !is.na(available$start %||% NA)) {
    span <- counted(
      time_periods(available$start)$first, time_periods(available$end)$last
    )
    min(
      1, available$cells / max(1, prod(pmax(1, lengths(codes))) * max(1, span))
    )
  } else {
    1
  }
  list(
    selection = query$selection,
    codes = codes,
    periods = periods,
    frequency = frequency,
    start = query$window$from$text,
    end = query$window$to$text,
    fill = fill,
    bounds = c(first, last),
    each = counted(first, last)
  )
}

piece_cells <- function(piece) {
  periods <- if (length(piece$codes$FREQ) != 1) {
    piece$each
  } else {
    max(1, length(piece$periods))
  }
  ceiling(prod(pmax(1, lengths(piece$codes))) * periods * piece$fill)
}

# As few requests as possible: the axis that needs the fewest cuts alone; if
# none is enough, the longest axis is cut to single values and each is cut
# further.
cut_selection <- function(piece, most) {
  cells <- piece_cells(piece)
  if (cells <= most) {
    return(list(piece))
  }
  # periods of several frequencies have no common end, so each frequency is
  # requested alone
  if (length(piece$codes$FREQ) > 1) {
    return(
      unlist(
        lapply(
          piece$codes$FREQ,
          function(code) cut_selection(one_frequency(piece, code), most)
        ),
        recursive = FALSE
      )
    )
  }
  axes <- c(lengths(piece$codes), TIME = length(piece$periods))
  axes <- axes[axes > 1]
  if (!length(axes)) {
    return(list(piece))
  }
  fits <- floor(axes * most / cells)
  whole <- axes[fits >= 1]
  if (length(whole)) {
    pieces <- ceiling(whole / fits[fits >= 1])
    # at equal cost time is cut last
    axis <- names(whole)[order(pieces, names(whole) == "TIME")][1]
    return(split_axis(piece, axis, min(pieces)))
  }
  axis <- names(axes)[which.max(axes)]
  unlist(
    lapply(split_axis(piece, axis, axes[[axis]]), cut_selection, most = most),
    recursive = FALSE
  )
}

one_frequency <- function(piece, code) {
  piece$codes$FREQ <- piece$selection$FREQ <- code
  piece$frequency <- code
  bounds <- piece$bounds
  piece$periods <- if (code %in% periodic && !anyNA(bounds)) {
    period_sequence(bounds[1], bounds[2], code)
  } else {
    as.Date(character())
  }
  piece
}

# Frequencies whose periods are counted by days; others are not cut by time.
periodic <- c("A", "S", "T", "Q", "M", "W", "D")

split_axis <- function(piece, axis, parts) {
  values <- if (axis == "TIME") piece$periods else piece$codes[[axis]]
  group <- ceiling(seq_along(values) * parts / length(values))
  lapply(unname(split(seq_along(values), group)), function(at) {
    if (axis == "TIME") {
      piece$periods <- values[at]
      piece$each <- piece$each * length(at) / length(values)
      # an open end stays open, so that later values come too; without a known
      # frequency a week may straddle the cut and is requested on both sides
      if (at[1] > 1) {
        piece$start <- if (length(piece$codes$FREQ)) {
          time_spelling(values[at[1]], piece$frequency, "sdmx")
        } else {
          format(values[at[1]] - 7)
        }
      }
      if (at[length(at)] < length(values)) {
        piece$end <- time_spelling(
          values[at[length(at)]], piece$frequency, "sdmx"
        )
      }
    } else {
      piece$codes[[axis]] <- piece$selection[[axis]] <- values[at]
    }
    piece
  })
}

# Splits a refused request in two along its longest axis; where its URL is too
# long, along the axis with the longest codes. NULL where nothing is left to
# split.
halve_planned <- function(query, keys, long = FALSE) {
  query$selection <- keys$selection
  query$window <- observation_window(keys$start, keys$end)
  whole <- whole_selection(
    query,
    if (!is.null(query$about$available)) {
      list(
        codes = query$about$available,
        start = query$about$start,
        end = query$about$end
      )
    }
  )
  if (!long && length(whole$codes$FREQ) > 1) {
    return(
      lapply(
        whole$codes$FREQ,
        function(code) {
          one_frequency(whole, code)[c("selection", "start", "end")]
        }
      )
    )
  }
  axes <- if (long) {
    vapply(
      keys$selection,
      function(codes) {
        if (length(codes) > 1) sum(nchar(codes) + 1) else 0
      },
      0
    )
  } else {
    c(lengths(whole$codes), TIME = length(whole$periods))
  }
  if (!length(axes) || max(axes) < 2) {
    return(NULL)
  }
  axis <- names(axes)[which.max(axes)]
  if (long) whole$codes[[axis]] <- keys$selection[[axis]]
  lapply(
    split_axis(whole, axis, 2),
    function(piece) piece[c("selection", "start", "end")]
  )
}

# Requests that were too large in an earlier run are split at once.
cut_as_before <- function(query, requests, archive) {
  known <- if (!is.null(archive)) {
    store_notes(archive, "large", query$source$source, query$dataset$name)
  }
  if (!NROW(known)) {
    return(requests)
  }
  repeat {
    start <- vapply(
      seq_len(nrow(requests)),
      function(i) query_chain(query, requests[i, ])$start, ""
    )
    large <- match(start, known$key)
    cut <- lapply(seq_along(start), function(i) {
      if (!is.na(large[i])) {
        halve_planned(query, requests$keys[[i]], known$value[large[i]] == "url")
      }
    })
    if (!any(lengths(cut))) {
      return(requests)
    }
    requests <- do.call(
      rbind,
      lapply(seq_along(start), function(i) {
        if (!length(cut[[i]])) {
          return(requests[i, ])
        }
        rows <- requests[rep(i, length(cut[[i]])), ]
        rows$keys <- cut[[i]]
        rows$symbol <- vapply(
          cut[[i]], function(piece) sdmx_key(piece$selection), ""
        )
        rows$label <- vapply(cut[[i]], piece_label, "")
        rows$rows <- ceiling(rows$rows / length(cut[[i]]))
        rows
      })
    )
  }
}
