# Filled values as rows of their table, and the remaining gaps.

# The original rows, with missing values filled in place, and new rows for
# missing times.
fill_rows <- function(table, frame, how, parts, fills) {
  x <- as.list(table)
  n <- length(x$status)
  column <- how$column
  if (is.null(x[[column]])) x[[column]] <- rep(NA_character_, n)
  value <- value_column(table)
  fresh <- Map(
    function(part, fill, i) {
      new <- fill_fresh(part, fill, frame)
      new$part <- rep(i, length(new$row))
      new
    },
    parts, fills, seq_along(parts)
  )
  all <- data.table::rbindlist(unname(fresh))
  # filled values have both instants; others keep theirs
  if (nrow(all)) {
    for (name in c("through", "known")) {
      x[[name]] <- x[[name]] %||% utc(rep(NA_real_, n))
    }
  }
  inside <- all[all$row > 0, ]
  if (nrow(inside)) {
    rows <- inside$row
    x$was <- x[["was"]] %||% rep(NA_character_, n)
    x$was[rows] <- x$status[rows]
    x[[value]][rows] <- inside$value
    prices <- price_columns(table)
    if (length(prices)) {
      # an empty bar becomes flat; values it has stay
      empty <- Reduce(
        `&`, lapply(x[prices], function(column) is.na(column[rows]))
      )
      x$was[rows[empty]] <- "empty"
      for (name in prices) x[[name]][rows[empty]] <- inside$value[empty]
    }
    x$status[rows] <- "filled"
    x[[column]][rows] <- inside$rule
    for (name in c("through", "known")) {
      before <- paste0(name, "_before")
      if (any(!is.na(x[[name]][rows]))) {
        x[[before]] <- x[[before]] %||% utc(rep(NA_real_, n))
        x[[before]][rows] <- x[[name]][rows]
      }
      x[[name]][rows] <- utc(inside[[name]])
    }
  }
  added <- all[all$row == 0, ]
  if (!nrow(added)) {
    return(with_facts(as_series(as_rows(x)), facts_of(table)))
  }
  owner <- added$owner
  fresh <- filled_rows(table, owner, added)
  made <- c(
    "status", "rule", column, "was",
    paste0(rep(c("through", "known"), each = 2), c("", "_before"))
  )
  others <- setdiff(names(table), c(names(fresh), made))
  fresh[others] <- series_constants(x[others], parts, added)
  # with several releases a filled value may end
  fresh$status <- ifelse(is.na(added$value), "deleted", "filled")
  fresh[[column]] <- added$rule
  for (name in c("through", "known")) fresh[[name]] <- utc(added[[name]])
  whole <- as.data.frame(
    data.table::rbindlist(list(x, fresh), use.names = TRUE, fill = TRUE)
  )
  series <- c(
    rep(seq_along(parts), lengths(lapply(parts, `[[`, "rows"))), added$part
  )
  periods <- as.numeric(whole[["period"]] %||% whole$time)
  release <- if (is.null(whole[["known"]])) {
    rep(0, length(periods))
  } else {
    ifelse(is.na(whole$known), -Inf, as.numeric(whole$known))
  }
  whole <- as_series(
    as_rows(whole[order(series, periods, release, method = "radix"), ])
  )
  with_facts(whole, facts_of(table))
}

# The values of columns that do not change within a series, as a unit or the
# label of a code, for the rows `added`. Only rows that were known before an
# added row count for it: NA where they differ.
series_constants <- function(columns, parts, added) {
  row <- unlist(lapply(parts, `[[`, "rows"))
  known <- unlist(lapply(parts, `[[`, "known"))
  part <- rep(seq_along(parts), lengths(lapply(parts, `[[`, "rows")))
  order <- order(part, known, method = "radix")
  row <- row[order]
  known <- known[order]
  part <- part[order]
  earliest <- row[!duplicated(part)]
  lapply(columns, function(column) {
    new <- column[earliest[added$part]]
    if (!is.atomic(column)) {
      new[] <- list(NULL)
      return(new)
    }
    value <- column[row]
    of_earliest <- column[earliest[part]]
    same <- value == of_earliest
    empty <- is.na(same)
    same[empty] <- is.na(value[empty]) & is.na(of_earliest[empty])
    # the instant from which a series has a second value
    until <- rep(Inf, length(parts))
    second <- which(!same)
    second <- second[!duplicated(part[second])]
    until[part[second]] <- known[second]
    new[added$known >= until[added$part]] <- NA
    new
  })
}

# The form of a filled row: that of the row before it, with its own time and
# value.
filled_rows <- function(x, owner, added) UseMethod("filled_rows")

#' @export
filled_rows.vetusta_bars <- function(x, owner, added) {
  value <- added$value
  list(
    symbol = x$symbol[owner],
    time = utc(added$time),
    open = value,
    high = value,
    low = value,
    close = value,
    volume = rep(0, length(value)),
    session = x$session[owner],
    side = x$side[owner]
  )
}

#' @export
filled_rows.vetusta_observations <- function(x, owner, added) {
  list(
    series = x$series[owner],
    period = epoch_days(added$time / 86400),
    frequency = x$frequency[owner],
    value = added$value,
    unit = x$unit[owner]
  )
}

#' @export
filled_rows.vetusta_points <- function(x, owner, added) {
  list(series = x$series[owner], time = utc(added$time), value = added$value)
}

# The filled values of one series: their times (with the same offset from the
# expected times as the values before them), the row they fill or 0, and the row
# before them.
fill_fresh <- function(part, fill, frame) {
  if (!is.null(fill$results)) {
    k <- nrow(fill$results)
    return(
      list(
        row = integer(k),
        time = fill$results$time,
        value = fill$results$value,
        rule = fill$results$rule,
        through = fill$results$through,
        known = fill$results$known,
        owner = rep(part$rows[1], k)
      )
    )
  }
  filled <- which(!is.na(fill$new))
  at <- fill$at[filled]
  off <- part$raw - part$time
  away <- if (any(off != 0) && length(filled)) {
    place <- replace(as.double(fill$at), fill$at == 0, NA)
    there <- carry_cpp(place, integer(), Inf, TRUE)
    ahead <- carry_cpp(place, integer(), Inf, FALSE)
    off[ifelse(is.na(there), ahead, there)[filled]]
  } else {
    0
  }
  list(
    row = ifelse(at > 0, part$rows[pmax(1, at)], 0L),
    time = frame$expected[filled] + away,
    value = fill$new[filled],
    rule = fill$by[filled],
    through = fill$through[filled],
    known = fill$known[filled],
    owner = rep(part$rows[1], length(filled))
  )
}

fill_left <- function(frame, how, parts, fills) {
  rows <- Map(
    function(part, fill) {
      if (!any(fill$open)) {
        return(NULL)
      }
      left <- which(fill$open)
      reason <- integer(length(fill$open))
      reason[left] <- ifelse(
        !fill$runs$inner[left] & !how$ends, 2L,
        ifelse(fill$runs$length[left] > how$at_most, 1L, 3L)
      )
      run <- missing_runs_cpp(!fill$open, reason)
      list(
        series = rep(part$series, length(run$first)),
        first = frame$expected[run$first],
        last = frame$expected[run$last],
        missing = run$last - run$first + 1L,
        reason = c("too long", "at an end", "not enough values")[run$reason]
      )
    },
    parts, fills
  )
  rows <- Filter(Negate(is.null), unname(rows))
  all <- as.data.frame(
    data.table::rbindlist(
      c(
        list(
          data.frame(
            series = character(), first = numeric(), last = numeric(),
            missing = integer(), reason = character()
          )
        ),
        rows
      )
    )
  )
  for (bound in c("first", "last")) all[[bound]] <- utc(all[[bound]])
  all
}
