# Results from several releases of a series. A result is recomputed only where
# one of its input rows is revised. Computations for different instants are
# arranged like separate series, so that one call computes all of them.
#
# Most rows come in order of time, each after all earlier ones: their results
# are computed once, from the first releases. Other rows are `late`: revisions,
# and first releases of times before ones already known.

# The releases of one series, in order of time and release. `time` are the
# distinct times, `first` the start of each time's rows, `row` the number of
# each row in `points`. Releases that equal the one before in all `columns` are
# left out.
release_table <- function(points, columns = "value") {
  n <- length(points$time)
  order <- order(points$time, points$known, method = "radix")
  time <- points$time[order]
  deleted <- if (is.null(points[["status"]])) {
    rep(FALSE, n)
  } else {
    points$status[order] %in% "deleted"
  }
  # of two rows with one time and instant the later one counts
  kept <- c(
    time[-1] != time[-n] | points$known[order][-1] != points$known[order][-n],
    TRUE
  )
  again <- c(FALSE, time[-1] == time[-n] & deleted[-1] == deleted[-n])
  for (name in columns) {
    value <- points[[name]][order]
    same <- value[-1] == value[-n]
    again <- again &
      c(FALSE, same %in% TRUE | (is.na(value[-1]) & is.na(value[-n])))
  }
  # where the last of two rows of one instant counts, the next release is
  # compared with that one
  again[c(FALSE, !kept[-n])] <- FALSE
  keep <- kept[seq_len(n)] & !again
  order <- order[keep]
  time <- time[keep]
  known <- points$known[order]
  begins <- which(!duplicated(time))
  first <- known[begins]
  later <- rev(cummin(rev(first)))
  in_order <- first == later
  late <- rep(TRUE, length(order))
  late[begins[in_order]] <- FALSE
  list(
    row = order,
    time = time[begins],
    begins = begins,
    first = c(begins, length(order) + 1L),
    of = cumsum(!duplicated(time)),
    known = known,
    usable = !deleted[keep],
    known_first = first,
    sooner = cummin(first),
    later = later,
    in_order = in_order,
    late = which(late)
  )
}

# The rows of `points` that count at each instant, within each range of times:
# list(row, question, index), where `index` is the number of the time.
release_rows <- function(table, lo, hi, at, strict = FALSE) {
  releases <- release_rows_cpp(
    table$first, table$known, table$usable, as.integer(lo), as.integer(hi), at,
    strict
  )
  list(
    row = table$row[releases$row],
    question = releases$question,
    index = table$of[releases$row]
  )
}

# The nearest times before and after each one at which a row counts.
release_neighbours <- function(table, index, at, count = 1L,
                               usable = table$usable) {
  release_neighbours_cpp(
    table$first, table$known, usable, table$sooner, table$later,
    as.integer(index), at, count
  )
}

# Rows of a frame as a list, without row names.
frame_rows <- function(frame, rows) {
  list_frame(lapply(as.list(frame), `[`, rows))
}

# Joins adjacent or overlapping ranges of one group: list(group, lo, hi).
ranges_joined <- function(group, lo, hi) {
  order <- order(group, lo, method = "radix")
  group <- group[order]
  lo <- lo[order]
  hi <- hi[order]
  n <- length(lo)
  if (!n) {
    return(list(group = group, lo = lo, hi = hi))
  }
  # numbers that increase from group to group
  wide <- max(hi) + 2
  reach <- cummax(hi + group * wide)
  begins <- c(TRUE, (lo + group * wide)[-1] > reach[-n])
  ends <- c(which(begins)[-1] - 1L, n)
  list(
    group = group[begins],
    lo = lo[begins],
    hi = (reach - group * wide)[ends]
  )
}

# Whether each (group, index) lies in one of some ranges.
in_ranges <- function(ranges, group, index) {
  if (!length(ranges$lo)) {
    return(rep(FALSE, length(index)))
  }
  wide <- max(ranges$hi, index, 0) + 2
  at <- findInterval(index + group * wide, ranges$lo + ranges$group * wide)
  at > 0 &
    index + group * wide <= c(-Inf, ranges$hi + ranges$group * wide)[at + 1L]
}

# All releases of a function whose result at a row depends on rows up to it.
# `work(rows, groups)` takes row numbers of `points` and series numbers, and
# returns `value`, `through` and `known` a row. `reach` describes the input rows
# of a result, see reach_rows(), reach_time() and reach_all(). Returns `time`,
# `value`, `through` and `known`.
by_release <- function(points, work, reach) {
  table <- release_table(points)
  near <- reach(table)
  table <- near$table %||% table
  once <- table$begins[table$in_order & table$usable[table$begins]]
  parts <- list()
  add <- function(rows, groups, index, at, flagged) {
    if (!length(rows)) {
      return(invisible())
    }
    computed <- c(
      work(rows, groups)[c("value", "through", "known")],
      list(index = index, at = at)
    )
    kept <- which(flagged)
    parts[[length(parts) + 1]] <<- lapply(computed, `[`, kept)
  }
  # rows in order, before which nothing had changed
  add(
    table$row[once], rep(1L, length(once)), table$of[once],
    table$known_first[table$of[once]], !near$changed[table$of[once]]
  )
  for (part in near$parts) {
    state <- release_rows(table, part$lo, part$hi, part$at, part$strict)
    if (!length(state$row)) next
    group <- part$group[state$question]
    flagged <- in_ranges(part$results, group, state$index)
    at <- if (part$strict) {
      table$known_first[state$index]
    } else {
      part$at[state$question]
    }
    add(
      state$row, if (isTRUE(near$joined)) group else state$question,
      state$index, at, flagged
    )
  }
  gone <- table$late[!table$usable[table$late]]
  parts <- c(
    parts,
    list(
      list(
        value = rep(NA_real_, length(gone)),
        through = table$known[gone],
        known = table$known[gone],
        index = table$of[gone],
        at = table$known[gone],
        gone = rep(TRUE, length(gone))
      )
    )
  )
  all <- data.table::rbindlist(parts, use.names = TRUE, fill = TRUE)
  all$time <- table$time[all$index]
  releases_kept(all)
}

# Results sorted by what they are of (`by`) and the instant they were computed
# for, without repetitions. A result that is `gone` ends the one before it.
releases_kept <- function(all, columns = "value", by = "time") {
  all <- as.list(all)
  all$gone <- all$gone %in% TRUE
  order <- order(all[[by]], all$at, all$gone, method = "radix")
  all <- lapply(all, `[`, order)
  n <- length(order)
  again <- c(FALSE, all[[by]][-1] == all[[by]][-n])[seq_len(n)]
  same <- again & c(FALSE, all$gone[-1] == all$gone[-n])[seq_len(n)]
  for (name in columns) {
    value <- all[[name]]
    same <- same &
      c(
        FALSE,
        (value[-1] == value[-n]) %in% TRUE |
          (is.na(value[-1]) & is.na(value[-n]))
      )[seq_len(n)]
  }
  all <- lapply(all, `[`, which(!same))
  # a result that is replaced before it counts never counts
  all$known <- greatest_so_far_cpp(
    as.double(all[[by]]), pmax(all$known, all$at, na.rm = TRUE)
  )
  n <- length(all$known)
  last <- c(
    all[[by]][-1] != all[[by]][-n] | all$known[-1] != all$known[-n], TRUE
  )[seq_len(n)]
  all <- lapply(all, `[`, which(last))
  n <- length(all$known)
  again <- c(FALSE, all[[by]][-1] == all[[by]][-n])[seq_len(n)]
  # without an earlier result nothing is gone
  list_frame(lapply(all, `[`, which(again | !all$gone)))
}
