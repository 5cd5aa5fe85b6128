# Filling series with several releases.

# Gaps between values, by release: gaps beside a revised row are filled again,
# from the values on either side.
fill_releases <- function(points, part, frame, how) {
  grid <- frame$expected
  table <- release_table(points, c("value", "empty"))
  slot <- times_match_cpp(table$time, grid)
  # the row at an expected time, with or without a value: a new one is filled
  # anew
  standing <- function(cell, at) {
    index <- match(cell, slot)
    there <- which(!is.na(index))
    releases <- release_rows_cpp(
      table$first, table$known, rep(TRUE, length(table$known)), index[there],
      index[there], at[there], FALSE
    )
    replace(integer(length(cell)), there[releases$question], releases$row)
  }
  # a row beside the expected times fills nothing
  near <- reach_values(
    table, is.finite(points$value[table$row]) & slot[table$of] > 0
  )
  once <- table$begins[table$in_order & table$usable[table$begins]]
  first <- fill_known_rows(part, table$row[once], frame, how)
  filled <- which(!is.na(first$new))
  # a gap is filled when the value after it comes
  values <- once[
    is.finite(points$value[table$row[once]]) & slot[table$of[once]] > 0
  ]
  maker <- table$of[values][findInterval(filled, slot[table$of[values]]) + 1L]
  first <- list(
    time = grid[filled],
    value = first$new[filled],
    through = first$through[filled],
    known = first$known[filled],
    rule = first$by[filled],
    at = table$known_first[maker]
  )
  first$row <- standing(filled, first$at)
  first <- lapply(first, `[`, which(!near$changed[maker]))
  ranges <- near$rows
  state <- release_rows(table, ranges$lo, ranges$hi, near$at[ranges$group])
  # the expected times from the first to the last row of each range
  from <- slot_near(slot, ranges$lo, 1L)
  to <- slot_near(slot, ranges$hi, -1L)
  count <- pmax(0L, to - from + 1L)
  cell <- sequence(count, from)
  question <- rep(seq_along(from), count)
  width <- length(grid) + 1
  stands <- match(
    question * width + cell, state$question * width + slot[state$index]
  )
  at <- ifelse(is.na(stands), 0L, state$row[stands])
  computed <- fill_cells(part, at, cell, question, frame, how)
  instant <- near$at[ranges$group[question]]
  # gaps between the nearest values on either side are examined
  inside <- in_ranges(
    list(
      group = near$cells$group,
      lo = slot_near(slot, near$cells$lo, 1L),
      hi = slot_near(slot, near$cells$hi, -1L)
    ),
    ranges$group[question], cell
  )
  gone <- is.na(computed$new)
  records <- list(
    time = grid[cell],
    value = computed$new,
    through = ifelse(gone, instant, computed$through),
    known = ifelse(gone, instant, computed$known),
    rule = computed$by,
    row = standing(cell, instant),
    at = instant,
    gone = gone
  )
  all <- data.table::rbindlist(
    list(first, lapply(records, `[`, which(inside))),
    use.names = TRUE,
    fill = TRUE
  )
  releases_kept(all, c("value", "rule", "row"))
}

# The expected time of each row; for a row without one, that of the next row
# with one in the given direction.
slot_near <- function(slot, index, step) {
  there <- ifelse(slot > 0, slot, NA)
  carried <- if (step > 0) {
    rev(carry_cpp(rev(as.double(there)), integer(), Inf, TRUE))
  } else {
    carry_cpp(as.double(there), integer(), Inf, TRUE)
  }
  place <- carried[index]
  as.integer(ifelse(is.na(place), if (step > 0) max(slot) + 1L else 0L, place))
}

fill_known_rows <- function(part, rows, frame, how) {
  at <- times_match_cpp(frame$expected, part$time[rows])
  at[at > 0] <- rows[at[at > 0]]
  fill_cells(part, at, NULL, NULL, frame, how)
}

# Values for expected times without one: `at` are their rows, 0 for none. With
# `cell`, only these expected times, in ranges numbered by `question`.
fill_cells <- function(part, at, cell, question, frame, how) {
  grid <- frame$expected
  if (!is.null(cell)) {
    grid <- grid[cell]
    how$slot_ends <- how$slot_ends[cell]
    blocks <- if (length(how$blocks)) {
      how$blocks[cell]
    } else {
      rep(0L, length(cell))
    }
    begins <- c(TRUE, diff(question) != 0 | diff(blocks) != 0)[seq_along(cell)]
    how$blocks <- cumsum(begins)
  }
  on_grid <- c(NA, part$value)[at + 1L]
  runs <- hole_runs_cpp(on_grid, how$blocks)
  open <- is.na(on_grid)
  allowed <- open & runs$length <= how$at_most & (runs$inner | how$ends)
  new <- through <- known <- rep(NA_real_, length(grid))
  by <- rep(NA_character_, length(grid))
  if (any(allowed)) {
    sources <- list(
      through = c(-Inf, part$through)[at + 1L],
      known = c(-Inf, part$known)[at + 1L]
    )
    for (rule in how$rule) {
      still <- allowed & is.na(new)
      if (!any(still)) break
      got <- fill_by(rule, on_grid, grid, how$blocks, how)
      take <- which(still & !is.na(got))
      if (!length(take)) next
      new[take] <- got[take]
      by[take] <- rule
      latest <- fill_latest(rule, on_grid, sources, how)
      # instants before the end of the period do not count
      through[take] <- pmax(latest$through[take], how$slot_ends[take])
      known[take] <- pmax(latest$known[take], how$slot_ends[take])
    }
  }
  list(
    at = at, new = new, by = by, through = through, known = known,
    open = open & is.na(new), runs = runs
  )
}

# The latest instants of the values that a rule uses: those around a gap, with
# the empty rows in it, or all.
fill_latest <- function(rule, on_grid, sources, how) {
  if (rule == "constant") {
    return(sources)
  }
  if (rule %in% c("last", "next", "linear")) {
    # a gap has two ends, unless open ends are filled too
    open_end <- how$ends && is.infinite(how$at_most)
    return(
      hole_latest_cpp(
        on_grid, how$blocks, sources$through, sources$known,
        rule != "next" || !open_end, rule != "last" || !open_end
      )
    )
  }
  Map(
    function(instants, name) {
      rep(
        max(instants, if (rule == "neighbour") max(how$neighbour[[name]])),
        length(on_grid)
      )
    },
    sources, names(sources)
  )
}
