# Bars at a longer interval than they are stored at: computed by the store where
# it gives the same answer, otherwise in R.

# Shapes that can be read at a longer interval, and their functions.
longer_shapes <- function() list(bars = resample_stored)

# The `resample` argument of archive_read() as a function of a source that
# returns arguments of resample_terms(). A function leaves other shapes
# unchanged.
resample_asked <- function(resample, series) {
  if (is.null(resample) || is.function(resample)) {
    return(resample)
  }
  if (!is.list(resample) ||
    is.null(names(resample)) ||
    !"interval" %in% names(resample)) {
    vetusta_stop(
      "argument", "`resample` must be a list of arguments of bars_resample().",
      todo = "give it as list(interval = \"1 day\", calendar = ...)"
    )
  }
  for (name in names(resample)) {
    check_choice(name, "resample", names(formals(resample_terms)))
  }
  other <- setdiff(series$shape, names(longer_shapes()))
  if (length(other)) {
    vetusta_stop(
      "argument",
      "Only bars can be resampled, and a series has other values.",
      where = series$id[match(other[1], series$shape)],
      todo = paste0(
        "read it without `resample`, and give it to series_aggregate() or ",
        "series_disaggregate()"
      )
    )
  }
  function(source) resample
}

# Bars of the requested sessions; all bars where no row states its session.
bars_of_sessions <- function(table, sessions) {
  if (is.null(table[["session"]]) ||
    is.null(sessions) ||
    all(is.na(table$session))) {
    return(table)
  }
  table[table$session %in% sessions, ]
}

# Series of bars of one interval and dataset; `sessions` are the sessions that
# rows may have.
resample_stored <- function(archive, series, from, to, at, zone, asked) {
  sessions <- asked$sessions
  asked$sessions <- NULL
  base <- time_interval(series$frequency[1])
  terms <- do.call(resample_terms, asked)
  check_divides(terms$interval, base)
  window <- bars_window(from, to, zone)
  made <- resample_by_store(
    archive, series_by_symbol(series), window, at, terms, base, sessions
  )
  if (is.null(made)) {
    bars <- bars_of_sessions(
      bars_within(archive, series, window[1], window[2], at), sessions
    )
    made <- do.call(bars_resample, c(list(bars, base = base), asked))
  }
  made
}

# NULL where the store cannot compute it.
resample_by_store <- function(archive, catalogue, window, at, terms, base,
                              sessions) {
  dimensions <- series_dimensions(catalogue)
  series <- list_frame(
    list(
      symbol = dimensions$symbol,
      side = dimensions[["side"]] %||% rep(NA_character_, nrow(catalogue))
    )
  )
  facts <- facts_of(with_dataset_facts(list(), archive, catalogue))
  if (!is_intraday(base) || anyDuplicated(series) ||
    !is.null(series_renamed(archive, catalogue, at)) ||
    !is.null(archive_former_of(archive, catalogue, series$symbol, at))) {
    return(NULL)
  }
  if (is.finite(at)) {
    # longer bars are known from their end, which a calendar decides
    if (!is.null(facts$calendar) && base$seconds > 60) {
      return(NULL)
    }
    window[2] <- min(
      window[2],
      at - base$seconds -
        (if (is.null(facts$delay)) 0 else interval_seconds(facts$delay)) + 1e-6
    )
  }
  seen <- store_outline(archive, catalogue$id, window[1], window[2], at)
  if (is.null(seen)) {
    return(NULL)
  }
  grid <- resample_grid(terms, utc(seen$first), utc(seen$last))
  cells <- resample_cells(terms, grid, seen$first, seen$last, base)
  if (is.null(cells)) {
    return(NULL)
  }
  span <- bucket_span(cells, seen$here)
  near <- if (!is.null(span)) {
    without_notes(
      ordered_bars(
        bars_within(
          archive, catalogue, max(span[1], window[1]), min(span[2], window[2]),
          at
        )
      )
    )
  }
  # where no row states its session, all rows count
  if (!seen$sessions && all(is.na(near$session))) sessions <- NULL
  if (!is.null(sessions) && !is.null(near)) {
    near <- near[near$session %in% sessions, ]
  }
  far <- store_resample(
    archive, catalogue$id, window[1], window[2], at, cells,
    span %||% c(Inf, Inf), sessions
  )
  resample_together(far, near, series, grid, cells, terms, base, facts)
}

# Buckets computed by the store and in R, as bars.
resample_together <- function(far, near, series, grid, cells, terms, base,
                              facts) {
  n <- NROW(near)
  total <- sum(far$count) + n
  if (total == 0) {
    return(with_facts(resampled_none(), resampled_facts(facts, terms)))
  }
  times <- range(far$first, far$last, as.numeric(near$time))
  check_covers(terms$calendar, utc(times[1]), utc(times[2] + 1))
  has_vwap <- sum(far$own_count) > 0 || is.numeric(near[["vwap"]])
  outside <- sum(far$count[far$bucket < 2])
  nowhere <- sum(far$count[far$bucket == 0])
  far <- lapply(far, `[`, far$bucket > 1)
  weight <- if (has_vwap) far$own_weight else far$weight
  mean <- ifelse(
    weight > 0, (if (has_vwap) far$own_value else far$value) / weight, NA_real_
  )
  rows <- c(
    list(group = far$series, time = cells$time[far$bucket]),
    far[c("open", "high", "low", "close", "volume")],
    list(
      vwap = mean,
      count = far$count,
      frame = cells$frame[far$bucket],
      provisional = far$provisional > 0,
      known = ifelse(far$known == before_all, -Inf, far$known)
    )
  )
  if (n) {
    if (has_vwap && is.null(near[["vwap"]])) near$vwap <- rep(NA_real_, n)
    groups <- bar_groups(near)
    id <- match(
      do.call(paste, near[groups$first, c("symbol", "side")]),
      do.call(paste, series)
    )
    groups$id <- id[groups$id]
    instants <- list(
      through = as.numeric(near$time),
      known = known_order(near$known %||% rep(NA_real_, n))
    )
    more <- resample_rows(near, groups, near$time, grid, instants)
    rows <- Map(c, rows, more[names(rows)])
    outside <- outside + more$outside
    nowhere <- nowhere + sum(find_sessions(near$time, terms$calendar)$at == 0L)
  }
  order <- order(rows$group, rows$time, method = "radix")
  rows <- lapply(rows, `[`, order)
  rows$outside <- outside
  rows$count <- as.integer(rows$count)
  if (!any(rows$known > -Inf)) rows$known <- NULL
  if (outside > 0) say_outside(nowhere, total)
  resampled_frame(
    series, seq_len(nrow(series)), rows, grid, terms, base, utc(times[2]), facts
  )
}

# The buckets of a grid as whole numbers of equal cells: `unit` (microseconds),
# `origin`, `cell` and `bucket` (cells by number from the origin; bucket 1 is
# for sessions that were not requested), `time` and `frame` of each bucket,
# `lowest` and `highest` (the cells around all rows). NULL where cells would be
# hardly longer than the bars.
resample_cells <- function(terms, grid, first, last, base) {
  count <- if (grid$step > 0) {
    pmax(1, ceiling((grid$close - grid$open) / grid$step))
  } else {
    rep(1, length(grid$open))
  }
  frame <- rep(seq_along(grid$open), count)
  at <- grid$step * (sequence(count) - 1)
  open <- grid$open[frame] + at
  close <- pmin(
    if (grid$step > 0) open + grid$step else Inf, grid$close[frame],
    c(grid$open[-1], Inf)[frame]
  )
  time <- if (grid$step > 0) open else grid$time[frame]
  others <- if (!is.null(terms$session)) {
    all <- sessions_around(terms$calendar, utc(first), utc(last))
    all[!all$session %in% terms$session, ]
  }
  bucket <- c(match(time, unique(time)) + 1, rep(1, NROW(others)))
  if (!length(time) || is.unsorted(time)) {
    return(NULL)
  }
  opens <- round(c(open, as.numeric(others$open)) * 1e6)
  closes <- round(c(close, as.numeric(others$close)) * 1e6)
  unit <- Reduce(greatest_divisor, unique(c(opens, closes) - min(opens)))
  if (unit < 2e6 * base$seconds) {
    return(NULL)
  }
  origin <- min(opens) - unit * ceiling(max(0, min(opens) - first * 1e6) / unit)
  lengths <- (closes - opens) / unit
  cell <- rep((opens - origin) / unit, lengths) + sequence(lengths) - 1
  list(
    unit = unit,
    origin = origin,
    cell = cell[!duplicated(cell)],
    bucket = rep(bucket, lengths)[!duplicated(cell)],
    time = c(NA, unique(time)),
    frame = c(NA, frame[!duplicated(time)]),
    lowest = 0,
    highest = max(cell, floor((last * 1e6 - origin) / unit)) + 1
  )
}

# Greatest common divisor of whole numbers stored as doubles.
greatest_divisor <- function(a, b) {
  while (b > 0) {
    rest <- a %% b
    a <- b
    b <- rest
  }
  a
}

# The whole buckets around a range.
bucket_span <- function(cells, stretch) {
  if (is.null(stretch)) {
    return(NULL)
  }
  starts <- (cells$origin +
    cells$unit *
      cells$cell[match(seq_along(cells$time)[-1], cells$bucket)]) /
    1e6
  c(
    max(starts[starts <= stretch[1]], -Inf),
    min(starts[starts > stretch[2]], Inf)
  )
}
