#' Change, windows and comparison
#'
#' @param x Bars, observations, or a table with `series`, `time` and `value`.
#' @param change The computation for each value: `"simple"` (the change relative
#'   to the previous value), `"log"` (the difference of logarithms),
#'   `"difference"`; each from the previous value, or from the value `over`
#'   earlier; `"index"` (scaled so that the value at `base` is 100); `"mean"`,
#'   `"sum"`, `"sd"`, `"min"`, `"max"` of the time window that ends with the
#'   value; `"cumulative"` (the running sum); `"drawdown"` (the relative
#'   distance below the largest value so far).
#' @param over A length of time, as `"1 year"`: the change from the value at the
#'   same time that much earlier; the last day of a month is compared with that
#'   of the earlier month. Without a value at that time there is no change,
#'   unless `or_before` allows an older one.
#' @param or_before With `over`: the greatest additional age of the earlier
#'   value, a length of time, as `"7 days"` over weekends; the latest such value
#'   counts.
#' @param window For windows: their length in time, not a number of values;
#'   months and years are calendar months and years. A window excludes its
#'   start: `"7 days"` of daily values are seven.
#' @param minimum_count For windows: the least number of values.
#' @param base For the index: an instant or a day; the latest value up to then
#'   is 100. By default the first value of each series.
#' @param value,interval,calendar As in [series_align()].
#' @param zone The IANA zone of days and of lengths of time; by default that of
#'   the table.
#' @return A tibble of `series`, `time` (`POSIXct`, UTC: the start of a bar, the
#'   first day of a period), `value`, `through` and `known` (`POSIXct`, UTC), a
#'   row per value of `x`, in order. `through` and `known` are no earlier than
#'   those of every input, so no result looks ahead. If `x` has several releases
#'   of a time, the result has too, each computed from what was known by then;
#'   results without inputs are `NA`. Shares are fractions: 0.01 is one per
#'   cent. In a window, missing values are left out, and an infinite value makes
#'   mean, sum and sd missing.
#' @section Errors: `vetusta_error_argument` for an unknown change, and for a
#'   missing or invalid window or base.
#' @export
#' @examples
#' days <- data.frame(
#'   series = "salt", time = as.POSIXct("2026-03-01", tz = "UTC") + 86400 * 0:9,
#'   value = 100 + 0:9
#' )
#' series_change(days, "log")
#' series_change(days, "mean", window = "3 days")
series_change <- function(x, change = "simple", over = NULL, window = NULL,
                          minimum_count = 1, base = NULL, value = NULL,
                          interval = NULL, zone = NULL, calendar = NULL,
                          or_before = NULL) {
  asked <- lineage_asked()
  windows <- c("mean", "sum", "sd", "min", "max")
  check_choice(
    change, "change",
    c("simple", "log", "difference", "index", windows, "cumulative", "drawdown")
  )
  if (!is.null(zone)) check_zone(zone)
  check_calendar(calendar)
  if (change %in% windows && is.null(window)) {
    vetusta_stop(
      "argument", paste0("The ", change, " of a window needs its length."),
      todo = "give `window`, such as \"30 days\""
    )
  }
  x <- as_series(x)
  facts <- frame_facts(x, interval, zone, calendar)
  zone <- facts$zone
  how <- list(
    change = change,
    windowed = change %in% windows,
    over = if (!is.null(over)) time_interval(over, "over"),
    window = if (!is.null(window)) time_interval(window, "window"),
    minimum_count = check_count(minimum_count, "minimum_count"),
    base = change_base(base, zone),
    zone = if (is.null(x[["period"]])) zone else "UTC",
    or_before = if (!is.null(or_before)) time_interval(or_before, "or_before")
  )
  points <- series_points(
    x, value_asked(x, value), interval,
    zone = zone, calendar = calendar
  )
  # an index counts from the end of its base day
  if (change == "index" && !is.null(how$base)) {
    points$known <- pmax(points$known, how$base)
  }
  if (!is.null(over)) {
    how$step <- smallest_step(points$time, text_groups(points$series)$id)
  }
  changed <- if (has_vintages(points)) {
    change_by_release(points, how)
  } else {
    change_once(newest_points(x, points), how, attr(points, "groups"))
  }
  result <- derived_points(
    x, changed, changed$value, changed$through, changed$known
  )
  if (keeps_unit(change)) {
    units <- series_units(x, value %||% value_column(x))
    result <- with_series_units(result, units)
  }
  lineage_step(result, "series_change", asked)
}

keeps_unit <- function(change) {
  change %in% c("difference", "mean", "sum", "sd", "min", "max", "cumulative")
}
unit_of_value <- function(unit) if (length(unit)) stats::setNames(unit, "value")

change_once <- function(points, how, groups) {
  if (NROW(groups$id) == nrow(points) || length(groups$levels) == 1) {
    attr(points, "groups") <- groups
  }
  points[
    c("value", "through", "known")
  ] <- changed_points(
    points, point_groups(points), how
  )[c("value", "through", "known")]
  points
}

# Series with revisions are computed release by release, others at once.
change_by_release <- function(points, how) {
  series <- series_split(points$series)
  vintages <- vapply(
    series, function(rows) anyDuplicated(points$time[rows]) > 0, TRUE
  )
  once <- unlist(series[!vintages], use.names = FALSE)
  once <- once[!points$status[once] %in% "deleted"]
  parts <- lapply(series[vintages], function(rows) {
    part <- frame_rows(points, rows)
    changed <- by_release(
      part,
      function(at, groups) {
        changed_points(frame_rows(part, at), groups, how)
      },
      change_reach(how)
    )
    changed$series <- rep(points$series[rows[1]], nrow(changed))
    changed
  })
  if (length(once)) {
    plain <- frame_rows(points, once)
    plain[
      c("value", "through", "known")
    ] <- changed_points(
      plain, text_groups(plain$series)$id, how
    )[c("value", "through", "known")]
    parts <- c(
      parts, list(plain[c("series", "time", "value", "through", "known")])
    )
  }
  all <- as.list(
    data.table::rbindlist(unname(parts), use.names = TRUE, fill = TRUE)
  )
  # series keep their order
  order <- order(match(all$series, names(series)), method = "radix")
  list_frame(lapply(all, `[`, order))
}

# The input rows of a change.
change_reach <- function(how) {
  if (how$windowed) {
    return(reach_time(
      function(time) {
        if (is.na(how$window$seconds)) {
          as.numeric(shift_instant(utc(time), how$window, -1, how$zone))
        } else {
          time - how$window$seconds
        }
      },
      open = TRUE
    ))
  }
  if (!how$change %in% c("simple", "log", "difference")) {
    return(if (is.null(how$base)) reach_all else reach_base(how$base))
  }
  if (is.null(how$over)) {
    return(reach_rows)
  }
  # ends of months, and hours at clock changes, may be some days apart
  earlier <- function(time, days) {
    edge <- shift_instant(utc(time), how$over, -1, how$zone)
    if (days < 0 && !is.null(how$or_before)) {
      edge <- shift_instant(edge, how$or_before, -1, how$zone)
    }
    as.numeric(edge) + days * 86400
  }
  reach_earlier(
    function(time) earlier(time, -4), function(time) earlier(time, 4)
  )
}

# The computed values, with the latest `through` and `known` of their inputs.
changed_points <- function(points, groups, how) {
  value <- points$value
  if (how$windowed) {
    seconds <- as.double(how$window$seconds)
    edge <- if (is.na(seconds)) {
      as.numeric(shift_instant(utc(points$time), how$window, -1, how$zone))
    }
    out <- if (how$change %in% c("min", "max")) {
      roll_extremes_cpp(
        groups, points$time, value, edge, seconds, how$change == "max",
        as.integer(how$minimum_count)
      )
    } else {
      roll_sums_cpp(
        groups, points$time, value, edge, seconds,
        match(how$change, c("mean", "sum", "sd")) - 1L,
        as.integer(how$minimum_count)
      )
    }
    # sorted instants need no running maximum
    latest <- function(x) {
      if (identical(x, points$time) || is_ordered_cpp(groups, x)) {
        x
      } else {
        roll_extremes_cpp(groups, points$time, x, edge, seconds, TRUE, 1L)
      }
    }
    return(
      list(
        value = out,
        through = latest(points$through),
        known = latest(points$known)
      )
    )
  }
  if (!length(groups)) groups <- rep(1L, length(value))
  if (how$change %in% c("simple", "log", "difference")) {
    before <- if (is.null(how$over)) {
      row_before(groups)
    } else {
      row_earlier(points, groups, how)
    }
    looked <- attr(before, "looked") %||% before
    return(
      c(
        list(value = change_from(value, value[before], how$change)),
        latest_of(points, before, looked)
      )
    )
  }
  out <- list(value = value, through = points$through, known = points$known)
  for (rows in split(seq_along(value), groups)) {
    changed <- switch(how$change,
      index = change_index(lapply(as.list(points), `[`, rows), how$base),
      cumulative = list(value = running_sum(value[rows])),
      drawdown = list(value = drawdown(value[rows]))
    )
    out$value[rows] <- changed$value
    for (name in c("through", "known")) {
      out[[name]][rows] <- changed[[name]] %||% cummax(points[[name]][rows])
    }
  }
  out
}

# The latest instants of each row and the given other rows.
latest_of <- function(points, ...) {
  lapply(points[c("through", "known")], function(x) {
    do.call(
      pmax,
      c(list(x), lapply(list(...), function(at) x[at]), list(na.rm = TRUE))
    )
  })
}

row_before <- function(groups) {
  n <- length(groups)
  if (!n) {
    return(integer())
  }
  before <- c(NA, seq_len(n - 1))
  before[c(TRUE, groups[-1] != groups[-n])] <- NA
  before
}

# The row of the same time a given length earlier: for values of days and longer
# the same day, for a month's last day that of the earlier month; where allowed,
# the newest one before. The attribute `looked` is a row whose missing value
# made an older one be used.
row_earlier <- function(points, groups, how) {
  n <- length(groups)
  monthly <- how$over$unit %in% c("month", "year")
  dated <- (!is_intraday(how$over) && how$step >= 72000) %in% TRUE
  # compute each distinct time once
  times <- sort(unique(points$time))
  at <- match(points$time, times)
  keys <- groups * (length(times) + 1) + at
  row_of <- function(place) {
    match(groups * (length(times) + 1) + place[at], keys)
  }
  wanted <- as.numeric(shift_instant(utc(times), how$over, -1, how$zone))
  out <- row_of(match(wanted, times))
  if ((dated || monthly) && anyNA(out)) {
    day <- local_day(utc(times), how$zone)
    earlier <- if (dated) {
      shift_day(day, how$over, -1)
    } else {
      local_day(utc(wanted), how$zone)
    }
    # days with a clock change
    by_day <- function(place) {
      days <- groups * 1e7 + as.numeric(day)[at] + 5e6
      match(groups * 1e7 + as.numeric(place)[at] + 5e6, days)
    }
    open <- is.na(out)
    if (dated) out[open] <- by_day(earlier)[open]
    open <- which(is.na(out))
    ends <- unique(at[open])
    ends <- ends[day[ends] + 1 == shift_months_first(day[ends], 1)]
    if (monthly && length(ends)) {
      last <- open[at[open] %in% ends]
      month_end <- rep(as.Date(NA), length(times))
      month_end[ends] <- shift_months_first(earlier[ends], 1) - 1
      places <- if (dated) {
        by_day(month_end)
      } else {
        row_of(
          match(
            as.numeric(
              time_local(
                month_end, times - as.numeric(time_local(day, 0, how$zone)),
                how$zone
              )
            ),
            times
          )
        )
      }
      out[last] <- places[last]
    }
  }
  if (is.null(how$or_before)) {
    return(out)
  }
  # numbers that increase with series and time
  wide <- diff(range(times)) + 2 * max(0, times - wanted) + 1
  rising <- function(time) groups * wide + (time - min(times))
  all <- rising(points$time)
  there <- which(!is.na(points$value))
  near <- c(NA, there)[findInterval(rising(wanted[at]), all[there]) + 1L]
  oldest <- as.numeric(
    shift_instant(utc(wanted), how$or_before, -1, how$zone)
  )[at]
  near[!is.na(near) & (groups[near] != groups | points$time[near] < oldest)] <-
    NA
  open <- which(is.na(out))
  looked <- rep(NA_integer_, n)
  seen <- c(NA, seq_len(n))[findInterval(rising(wanted[at]), all) + 1L]
  seen[!is.na(seen) & groups[seen] != groups] <- NA
  looked[open] <- seen[open]
  out[open] <- near[open]
  attr(out, "looked") <- looked
  out
}

# The first day of the month some months after each day's month.
shift_months_first <- function(day, months) {
  shift_months(period_first(day, "M"), rep(months, length(day)))
}

change_from <- function(value, before, change) {
  out <- switch(change,
    simple = value / before - 1,
    log = suppressWarnings(log(value / before)),
    difference = value - before
  )
  out[is.nan(out) | (change != "difference" & before %in% 0)] <- NA
  out
}

# The instant up to which the base value of an index is looked for; a day counts
# as a whole.
change_base <- function(base, zone) {
  if (is.null(base)) {
    return(NULL)
  }
  is_day <- inherits(base, "Date") ||
    (is.character(base) && length(base) == 1 && !is.na(read_day(base)))
  as.numeric(time_instant(base, zone, end = TRUE, name = "base")) +
    if (is_day) 0 else 1e-6
}

# No index before the end of its base day.
change_index <- function(points, base) {
  value <- points$value
  in_reach <- if (is.null(base)) {
    rep(TRUE, length(value))
  } else {
    points$time < base
  }
  usable <- which(is.finite(value) & value != 0 & in_reach)
  if (!length(usable)) {
    return(list(value = rep(NA_real_, length(value))))
  }
  if (is.null(base)) {
    # from the first value; the rows up to it were looked at
    at <- usable[1]
    after <- seq_along(value) >= at
    latest <- function(x) ifelse(after, pmax(x, max(x[seq_len(at)])), x)
    return(
      list(
        value = ifelse(after, 100 * value / value[at], NA_real_),
        through = latest(points$through),
        known = latest(points$known)
      )
    )
  }
  latest <- function(x) pmax(x, max(x[in_reach]), base)
  list(
    value = 100 * value / value[usable[length(usable)]],
    through = latest(points$through),
    known = latest(points$known)
  )
}

running_sum <- function(value) {
  out <- cumsum(ifelse(is.na(value), 0, value))
  out[is.na(value)] <- NA
  out
}

# A drawdown needs a top above zero.
drawdown <- function(value) {
  top <- cummax(ifelse(is.na(value), -Inf, value))
  ifelse(top > 0, value / top - 1, NA_real_)
}
