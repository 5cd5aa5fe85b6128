# From a lower frequency to a higher one.

#' @rdname series_aggregate
#' @export
series_disaggregate <- function(x, to, rule = "last", known = "start",
                                indicator = NULL) {
  asked <- lineage_asked()
  to <- check_frequency(if (missing(to)) NULL else to)
  check_choice(rule, "rule", c("last", "linear", "spline", "even", "indicator"))
  check_choice(known, "known", c("start", "end"))
  table <- as_series(x)
  zone <- frame_facts(table)$zone
  x <- parts_of(table, zone)
  x$time <- as.numeric(x$period) * 86400
  check_direction(x, to, down = FALSE)
  if (rule == "indicator") indicator <- check_indicator(indicator, to)
  if (!nrow(x)) {
    return(
      series_frame(
        data.frame(
          series = character(),
          period = as.Date(character()),
          frequency = character(),
          value = numeric(),
          status = character(),
          rule = character()
        )
      )
    )
  }
  out <- disaggregated_releases(x, to, rule, known, indicator, zone)
  frame <- data.frame(
    series = out$series,
    period = epoch_days(out$time / 86400),
    frequency = rep(to, nrow(out)),
    value = out$value,
    unit = out$unit,
    status = ifelse(is.na(out$value), "deleted", "filled"),
    rule = rep(rule, nrow(out)),
    known = utc(out$known),
    through = utc(out$through)
  )
  lineage_step(
    derived_observations(table, frame, zone), "series_disaggregate", asked
  )
}

# The parts of each series' periods, release by release where there are several.
# A part that no longer exists becomes a row without a value.
disaggregated_releases <- function(x, to, rule, known, indicator, zone) {
  disaggregate <- function(rows, group) {
    disaggregated(frame_rows(x, rows), group, to, rule, known, indicator, zone)
  }
  parts <- lapply(unname(series_split(x$series)), function(rows) {
    deleted <- x$status[rows] %in% "deleted"
    result <- if (!anyDuplicated(x$time[rows])) {
      once <- rows[!deleted]
      disaggregate(once, rep(1L, length(once)))
    } else if (rule == "spline") {
      by_instant(frame_rows(x, rows), function(at, ...) {
        disaggregate(rows[at], rep(1L, length(at)))
      })
    } else {
      disaggregated_one(
        frame_rows(x, rows), to,
        function(at, group) disaggregate(rows[at], group)
      )
    }
    result <- list_frame(result[c("time", "value", "through", "known")])
    result$series <- rep(x$series[rows[1]], nrow(result))
    result$unit <- rep(x$unit[rows[1]], nrow(result))
    again <- c(
      FALSE, result$time[-1] == result$time[-nrow(result)]
    )[seq_len(nrow(result))]
    result[!is.na(result$value) | again, , drop = FALSE]
  })
  as.data.frame(data.table::rbindlist(parts))
}

# The parts of one series with several releases of a period.
disaggregated_one <- function(x, to, disaggregate) {
  table <- release_table(x)
  near <- reach_values(table, !is.na(x$value[table$row]))
  once <- which(table$in_order & table$usable[table$begins])
  first <- disaggregate(table$row[table$begins[once]], rep(1L, length(once)))
  maker <- once[first$maker]
  first <- c(
    first[c("time", "value", "through", "known")],
    list(at = table$known_first[maker])
  )
  state <- release_rows(
    table, near$rows$lo, near$rows$hi, near$at[near$rows$group]
  )
  refined <- disaggregate(state$row, state$question)
  group <- near$rows$group[refined$group]
  days <- table$time
  place <- function(time) {
    findInterval(time + if (to == "W") 3 * 86400 else 0, days)
  }
  flagged <- in_ranges(near$cells, group, place(refined$time))
  refined <- c(
    refined[c("time", "value", "through", "known")], list(at = near$at[group])
  )
  # parts of these periods that no longer exist
  last <- as.numeric(period_last(x$period, x$frequency)) * 86400
  fine <- as.numeric(
    period_sequence(min(x$period), epoch_days(max(last) / 86400), to)
  ) *
    86400
  of <- place(fine)
  cells <- near$cells
  lo <- findInterval(cells$lo, of, left.open = TRUE) + 1L
  hi <- findInterval(cells$hi, of)
  count <- pmax(0L, hi - lo + 1L)
  cell <- sequence(count, lo)
  at <- rep(near$at[cells$group], count)
  there <- data.table::data.table(
    time = refined$time[flagged],
    at = refined$at[flagged]
  )
  wanted <- data.table::data.table(time = fine[cell], at = at)
  none <- is.na(
    there[wanted, on = c("time", "at"), which = TRUE, mult = "first"]
  )
  gone <- list(
    time = fine[cell][none],
    value = rep(NA_real_, sum(none)),
    through = at[none],
    known = at[none],
    at = at[none],
    gone = rep(TRUE, sum(none))
  )
  releases_kept(
    data.table::rbindlist(
      list(
        lapply(first, `[`, !near$changed[maker]),
        lapply(refined, `[`, flagged), gone
      ),
      use.names = TRUE, fill = TRUE
    )
  )
}

# The parts of the periods of several series, numbered by `group`: `group`,
# `time`, `value`, `through`, `known`, and `maker`, the last row that each
# depends on.
disaggregated <- function(x, group, to, rule, known, indicator, zone) {
  n <- length(group)
  if (!n) {
    none <- numeric()
    return(
      list(
        group = integer(), time = none, value = none, through = none,
        known = none, maker = integer()
      )
    )
  }
  last <- period_last(x$period, x$frequency)
  begins <- which(!duplicated(group))
  ends <- c(begins[-1] - 1L, n)
  all <- period_sequence(min(x$period), max(last), to)
  # a week belongs to the month of its Thursday
  middle <- as.numeric(if (to == "W") all + 3 else all)
  # days that increase with groups too
  wide <- as.numeric(max(last) - min(x$period)) + 1000
  rising <- function(day, group) as.numeric(day) + group * wide
  lo <- findInterval(as.numeric(x$period[begins]), middle, left.open = TRUE) +
    1L
  hi <- findInterval(as.numeric(last[ends]), middle)
  count <- pmax(0L, hi - lo + 1L)
  part <- sequence(count, lo)
  of <- rep(group[begins], count)
  fine <- all[part]
  middle <- middle[part]
  row_before <- function(day, days) {
    row <- c(
      NA, seq_len(n)
    )[findInterval(rising(day, of), rising(days, group)) + 1L]
    row[!is.na(row) & group[row] != of] <- NA
    row
  }
  owner <- row_before(middle, x$period)
  gap <- middle > as.numeric(last)[owner]
  # a part between two periods exists once the later one does
  reached <- owner + gap
  owner[which(gap)] <- NA
  fine_last <- period_last(fine, to)
  days <- as.numeric(fine_last - fine) + 1
  rows <- seq_len(n)
  there <- carry_cpp(
    as.double(ifelse(is.na(x$value), NA, rows)), as.integer(group), Inf, TRUE
  )
  # the row of each part, and the rows it depends on: that one, the next one
  # too, or all
  from <- looked <- owner
  if (rule == "last" && known == "start") {
    from <- carry_cpp(as.double(there[owner]), as.integer(of), Inf, TRUE)
  } else if (rule == "last") {
    looked <- row_before(fine, as.numeric(last) + 1)
    from <- there[looked]
  }
  parts <- list(
    x = x,
    group = group,
    of = of,
    owner = owner,
    from = from,
    looked = looked,
    last = last,
    place = (as.numeric(fine) + as.numeric(fine_last)) / 2,
    rising = rising
  )
  if (rule == "linear") parts <- c(parts, parts_between(parts))
  value <- switch(rule,
    last = x$value[from],
    linear = parts$value,
    spline = parts_spline(parts),
    even = shares_of(x$value, owner, days),
    indicator = shares_of(
      x$value, owner, indicator$value[match(fine, indicator$period)]
    )
  )
  times <- parts_times(parts, rule, indicator, match(fine, indicator$period))
  # no value counts before the end of its period
  end <- period_ends(fine, rep(to, length(fine)), zone)
  list(
    group = of,
    time = as.numeric(fine) * 86400,
    value = as.double(value),
    through = pmax(times$through, end),
    known = pmax(times$known, end),
    maker = as.integer(
      pmax(reached, from, looked, parts$after %||% owner, na.rm = TRUE)
    )
  )
}

# Parts on the straight line between the middles of two periods with values:
# `before` and `after` are their rows.
parts_between <- function(parts) {
  x <- parts$x
  at <- (as.numeric(x$period) + as.numeric(parts$last)) / 2
  good <- which(is.finite(x$value))
  key <- parts$rising(at[good], parts$group[good])
  rising <- parts$rising(parts$place, parts$of)
  near <- function(k) {
    row <- good[pmin(pmax(k, 1L), length(good))]
    if (!length(good)) row <- rep(NA_integer_, length(rising))
    row[!is.na(row) & parts$group[row] != parts$of] <- NA
    row
  }
  k <- findInterval(rising, key)
  before <- near(k)
  after <- near(findInterval(rising, key, left.open = TRUE) + 1L)
  share <- (parts$place - at[before]) / (at[after] - at[before])
  value <- ifelse(
    parts$place == at[before], x$value[before],
    x$value[before] + (x$value[after] - x$value[before]) * share
  )
  # nothing beyond the first and last value
  value[is.na(before) | is.na(after)] <- NA
  list(value = value, before = before, after = after)
}

# A natural cubic spline through the middles of each group's periods.
parts_spline <- function(parts) {
  x <- parts$x
  at <- (as.numeric(x$period) + as.numeric(parts$last)) / 2
  out <- rep(NA_real_, length(parts$of))
  for (rows in split(seq_along(parts$of), parts$of)) {
    good <- which(parts$group == parts$of[rows[1]] & is.finite(x$value))
    if (length(good) < 3) next
    inside <- rows[
      parts$place[rows] >= min(at[good]) & parts$place[rows] <= max(at[good])
    ]
    out[inside] <- stats::spline(
      at[good], x$value[good],
      xout = parts$place[inside], method = "natural"
    )$y
  }
  out
}

# The latest `through` and `known` of each part's inputs.
parts_times <- function(parts, rule, indicator, share) {
  x <- parts$x
  latest <- switch(rule,
    spline = function(values, shares) {
      as.numeric(
        tapply(values, factor(parts$group, unique(parts$group)), max)[
          match(parts$of, unique(parts$group))
        ]
      )
    },
    # a missing value between them was looked at too
    linear = function(values, shares) {
      range_latest(values, parts$before, parts$after)
    },
    last = function(values, shares) {
      range_latest(
        values, parts$from, pmax(parts$from, parts$looked, na.rm = TRUE)
      )
    },
    indicator = function(values, shares) {
      of_period <- tapply(
        shares[share], factor(parts$owner, seq_along(x$value)), max
      )
      pmax(values[parts$from], as.numeric(of_period)[parts$owner])
    },
    function(values, shares) values[parts$from]
  )
  list(
    through = latest(x$through, indicator$through),
    known = latest(x$known, indicator$known)
  )
}

# The maximum of values between pairs of positions.
range_latest <- function(values, first, last) {
  out <- pmax(values[last], values[first], na.rm = TRUE)
  wide <- which(last > first + 1)
  out[wide] <- vapply(wide, function(i) max(values[first[i]:last[i]]), 0)
  out
}

# A total split by weights.
shares_of <- function(total, owner, weight) {
  known <- which(!is.na(owner))
  whole <- rowsum(weight[known], owner[known], reorder = FALSE)
  whole <- whole[match(owner, as.integer(rownames(whole)))]
  value <- total[owner] * weight / whole
  ifelse(is.finite(value), value, NA_real_)
}

check_indicator <- function(indicator, to) {
  if (is.null(indicator)) {
    vetusta_stop(
      "argument", "The rule indicator needs an indicator series.",
      todo = "give `indicator`"
    )
  }
  indicator <- newest_rows(
    parts_of(indicator, frame_facts(as_series(indicator))$zone)
  )
  if (length(unique(indicator$series)) != 1 ||
    !all(indicator$frequency == to)) {
    vetusta_stop(
      "argument",
      paste0(
        "The indicator must be a single series of the frequency ", to, "."
      ),
      todo = "choose one series, or change its frequency first"
    )
  }
  indicator
}
