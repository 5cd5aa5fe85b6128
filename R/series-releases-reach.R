# The rows that a result depends on.

# A result depends on its row and the one before it.
reach_rows <- function(table) {
  late <- table$late
  index <- table$of[late]
  at <- table$known[late]
  # the next row in order, where it came after an earlier row had changed
  ordered <- which(table$in_order & table$usable[table$begins])
  soonest <- at[!duplicated(index)]
  behind <- unique(index)
  following <- ordered[findInterval(behind, ordered) + 1L]
  dirty <- which(!is.na(following) & table$known_first[following] >= soonest)
  dirty <- unique(following[dirty])
  index <- c(index, dirty)
  at <- c(at, table$known_first[dirty])
  beside <- release_neighbours(table, index, at)
  instants <- sort(unique(at))
  group <- match(at, instants)
  lo <- ifelse(beside$before > 0, beside$before, index)
  hi <- ifelse(beside$after > 0, beside$after, index)
  ranges <- ranges_joined(group, lo, hi)
  changed <- rep(FALSE, length(table$time))
  changed[dirty] <- TRUE
  list(
    changed = changed,
    parts = list(
      c(
        ranges,
        list(
          at = instants[ranges$group],
          strict = FALSE,
          results = ranges_joined(group, index, hi)
        )
      )
    )
  )
}

# A result depends on the rows from `edge` on, or after it where it is `open`:
# one instant a time, increasing. Returns a reach.
reach_time <- function(edge_of, open) {
  function(table) {
    time <- table$time
    edge <- rev(cummin(rev(edge_of(time))))
    reach_between(
      table, findInterval(edge, time, left.open = !open) + 1L,
      pmax(findInterval(time, edge, left.open = open), seq_along(time))
    )
  }
}

# A result depends on all rows up to it.
reach_all <- function(table) {
  n <- length(table$time)
  reach_between(table, rep(1L, n), rep(n, n))
}

# The same, and on the rows before `base`, even later ones.
reach_base <- function(base) {
  function(table) {
    n <- length(table$time)
    leads <- table$time < base
    # an unreleased row that comes when the base day is over changes all results
    table$late <- sort(
      union(
        table$late,
        table$begins[leads & table$in_order & table$known_first > base]
      )
    )
    table$in_order <- table$in_order & !(leads & table$known_first > base)
    from <- ifelse(leads, 1L, seq_len(n))
    near <- reach_between(table, rep(1L, n), ifelse(leads, n, seq_len(n)), from)
    c(near, list(table = table))
  }
}

# A result depends on its row and those between two earlier instants, `from` and
# `to`, which increase with the time.
reach_earlier <- function(from_of, to_of) {
  function(table) {
    time <- table$time
    n <- length(time)
    from <- rev(cummin(rev(from_of(time))))
    to <- cummax(to_of(time))
    lo <- findInterval(from, time, left.open = TRUE) + 1L
    hi <- pmin(findInterval(to, time), seq_len(n) - 1L)
    # the results that depend on each time
    first <- pmax(
      findInterval(time, to, left.open = TRUE) + 1L, seq_len(n) + 1L
    )
    last <- findInterval(time, from)
    late <- table$late
    index <- table$of[late]
    at <- table$known[late]
    ordered <- which(table$in_order & table$usable[table$begins])
    came <- table$known_first[ordered]
    soonest <- at[!duplicated(index)]
    behind <- unique(index)
    # rows in order whose inputs had changed
    begins <- ordered[
      pmax(
        findInterval(first[behind], ordered, left.open = TRUE),
        findInterval(soonest, came, left.open = TRUE)
      ) +
        1L
    ]
    changed <- marked(begins, last[behind], n) & table$in_order
    dirty <- which(changed)
    made <- c(index, dirty)
    instants <- sort(unique(c(at, table$known_first[dirty])))
    group <- match(c(at, table$known_first[dirty]), instants)
    # and results that depend on late rows
    after <- which(first[index] <= last[index])
    results <- ranges_joined(
      c(group, group[after]), c(made, first[index[after]]),
      c(made, last[index[after]])
    )
    earlier <- which(lo[results$lo] <= hi[results$hi])
    ranges <- ranges_joined(
      c(results$group, results$group[earlier]),
      c(results$lo, lo[results$lo[earlier]]),
      c(results$hi, hi[results$hi[earlier]])
    )
    list(
      changed = changed,
      joined = TRUE,
      parts = release_pieces(
        c(ranges, list(at = instants[ranges$group], strict = FALSE)), results
      )
    )
  }
}

# Which of `n` numbers lie in one of some ranges.
marked <- function(lo, hi, n) {
  hit <- which(!is.na(lo) & !is.na(hi) & lo <= hi)
  cumsum(tabulate(lo[hit], n + 1) - tabulate(hi[hit] + 1, n + 1))[seq_len(n)] >
    0
}

# `lo` is the first time that each result depends on; `from` and `hi` are the
# first and last result that depend on each time.
reach_between <- function(table, lo, hi, from = seq_along(lo)) {
  late <- table$late
  index <- table$of[late]
  instants <- sort(unique(table$known[late]))
  group <- match(table$known[late], instants)
  changes <- ranges_joined(group, lo[from[index]], hi[index])
  # results of rows in order, when earlier rows had changed: all rows between
  # two changes together
  ordered <- which(table$in_order)
  came <- table$known_first[ordered]
  soonest <- table$known[late][!duplicated(index)]
  behind <- unique(index)
  begins <- pmax(
    from[behind], ordered[findInterval(soonest, came, left.open = TRUE) + 1L]
  )
  changed <- marked(begins, hi[behind], length(lo)) & table$in_order
  dirty <- which(changed)
  between <- findInterval(table$known_first[dirty], instants)
  fresh <- ranges_joined(between, lo[dirty], dirty)
  list(
    changed = changed,
    parts = c(
      release_pieces(
        c(changes, list(at = instants[changes$group], strict = FALSE)),
        ranges_joined(group, from[index], hi[index])
      ),
      release_pieces(
        c(fresh, list(at = c(instants, Inf)[fresh$group + 1L], strict = TRUE)),
        ranges_joined(between, dirty, dirty)
      )
    )
  )
}

# Ranges are split into parts of at most this many rows, so that memory is
# bounded.
release_most <- 2e6

release_pieces <- function(ranges, results) {
  size <- cumsum(ranges$hi - ranges$lo + 1)
  piece <- if (length(size)) floor(size / release_most) else integer()
  lapply(split(seq_along(piece), piece), function(at) {
    c(
      lapply(ranges[c("group", "lo", "hi", "at")], `[`, at),
      list(strict = ranges$strict, results = results)
    )
  })
}

# Results between values: parts of periods, and filled gaps. After a revision
# everything changes up to the next value on either side. `good` marks rows with
# values. Returns `changed`, the times in order after a change; and, by `group`
# (the number of the instant in `at`), the ranges of times to recompute
# (`cells`) and their input rows (`rows`).
reach_values <- function(table, good) {
  late <- table$late
  index <- table$of[late]
  at <- table$known[late]
  n <- length(table$time)
  usable <- table$usable & good
  ordered <- which(table$in_order)
  values <- which(table$in_order & usable[table$begins])
  soonest <- at[!duplicated(index)]
  behind <- unique(index)
  came <- findInterval(soonest, table$known_first[ordered], left.open = TRUE)
  following <- values[findInterval(behind, values) + 1L]
  following[is.na(following)] <- n
  changed <- marked(pmax(behind + 1L, ordered[came + 1L]), following, n) &
    table$in_order
  dirty <- which(changed)
  index <- c(index, dirty)
  at <- c(at, table$known_first[dirty])
  instants <- sort(unique(at))
  group <- match(at, instants)
  beside <- function(count, among, which = seq_along(index)) {
    release_neighbours(table, index[which], at[which], count, among)
  }
  single <- beside(1L, usable)
  two <- beside(2L, usable)
  # with fewer values the range goes to the first or last row, which may have
  # none
  few <- which(single$before == two$before | single$after == two$after)
  edge <- beside(n, table$usable, few)
  ranges <- function(results, short) {
    for (side in names(results)) {
      last <- replace(
        index, few, ifelse(edge[[side]] > 0, edge[[side]], index[few])
      )
      results[[side]] <- ifelse(short(side), last, results[[side]])
    }
    ranges_joined(group, results$before, results$after)
  }
  list(
    changed = changed,
    at = instants,
    cells = ranges(single, function(side) single[[side]] == 0),
    rows = ranges(two, function(side) two[[side]] == single[[side]])
  )
}

# Results of one series for every instant at which a row became known, each from
# all rows that count by then, for rules whose every value depends on all.
# `work` takes row numbers and the instant, and returns `time`, `value`,
# `through`, `known` and more, an entry a result. Results are equal if they
# agree in `columns`, rows if they agree in `distinct`.
by_instant <- function(points, work, columns = "value", distinct = "value") {
  table <- release_table(points, distinct)
  n <- length(table$time)
  before <- numeric()
  parts <- lapply(sort(unique(table$known)), function(at) {
    state <- release_rows(table, 1L, n, at)
    now <- work(state$row, at)
    gone <- setdiff(before, now$time)
    before <<- union(before, now$time)
    m <- length(gone)
    data.table::rbindlist(
      list(
        c(now, list(at = rep(at, length(now$time)))),
        list(
          time = gone, value = rep(NA_real_, m), through = rep(at, m),
          known = rep(at, m), at = rep(at, m), gone = rep(TRUE, m)
        )
      ),
      use.names = TRUE, fill = TRUE
    )
  })
  releases_kept(
    data.table::rbindlist(parts, use.names = TRUE, fill = TRUE), columns
  )
}
