# Rules that watch series: what a reader would want to be told of.

#' Watch series by rules
#'
#' Finds what is wrong, or would surprise, in series: gaps, jumps, spikes, runs
#' of equal values, days with few rows, unadjusted splits, large revisions,
#' values out of range. Each rule compares a series with its own past.
#'
#' @param x Bars of one interval, observations, or a table with `series`, `time`
#'   and `value`.
#' @param calendar The calendar of expected times, as in [series_gaps()].
#' @param rules A named list of rules with their settings, `FALSE` for a rule
#'   that is off. By default: `gap = list(at_least = 1)` (missing values in a
#'   row; 15 within the day), `jump = list(spread = 12)` (a change of so many
#'   robust standard deviations), `spike = list(spread = 8)` (a change that the
#'   next value takes back), `repeated = list(at_least = 5)` (equal values in a
#'   row, where the series rarely repeats), `few = list(share = 0.5)` (rows of a
#'   day against the usual number, within the day), `split = TRUE` (see
#'   [bars_jumps()]), `revision = list(percent = 10)`. `range = list(low = ,
#'   high = )` is off by default.
#' @param since Only findings that reach to this day or instant or later.
#' @param zone The IANA zone of days.
#' @return A tibble with a row per finding: `rule`, `series`, `first` and `last`
#'   (`POSIXct`, UTC), `severity` (`"serious"`: a value is likely wrong or
#'   missing; `"note"`: worth a look), `detail` (a text).
#' @details The robust standard deviation of the changes is 1.4826 times their
#'   median absolute deviation (Hampel, *Journal of the American Statistical
#'   Association* 69, 1974), of the whole series or of the 60 changes before and
#'   after, whichever is larger, so that a lively time is no finding.
#' @section Errors: `vetusta_error_argument` for unknown rules or settings.
#' @export
#' @examples
#' days <- data.frame(
#'   series = "level", period = as.Date("2026-01-01") + 0:99,
#'   value = 200 + sin(1:100)
#' )
#' days$value[60] <- 900
#' series_watch(days)
series_watch <- function(x, calendar = NULL, rules = list(), since = NULL,
                         zone = NULL) {
  check_calendar(calendar)
  if (!is.null(zone)) check_zone(zone)
  rules <- watch_settings(rules)
  x <- series_table(as_series(given(x, "x")))
  zone <- frame_facts(x, NULL, zone, calendar)$zone
  since <- if (!is.null(since)) as.numeric(time_instant(since, name = "since"))
  found <- lapply(names(rules), function(name) {
    without_notes(watch_rules[[name]](x, rules[[name]], calendar, zone, since))
  })
  found <- do.call(rbind, c(list(watch_none()), found))
  if (!is.null(since)) found <- found[as.numeric(found$last) >= since, ]
  found <- found[order(found$series, found$first), , drop = FALSE]
  as_rows(as.list(found))
}

watch_defaults <- list(
  gap = list(at_least = 1), jump = list(spread = 12), spike = list(spread = 8),
  repeated = list(at_least = 5), few = list(share = 0.5), split = list(),
  revision = list(percent = 10)
)
# Settings of rules that are off by default.
watch_more <- list(range = list(low = -Inf, high = Inf))

watch_none <- function() {
  watch_row(
    character(), character(), numeric(), numeric(), character(), character()
  )
}

# The defaults with the user's settings; rules that are FALSE are left out.
watch_settings <- function(rules) {
  known <- c(watch_defaults, watch_more)
  if (!is.list(rules) || (length(rules) && is.null(names(rules)))) {
    vetusta_stop(
      "argument", "`rules` must be a list, named by rules.",
      todo = "write it as list(jump = list(spread = 15), repeated = FALSE)"
    )
  }
  out <- watch_defaults
  for (name in names(rules)) {
    check_choice(name, "rules", names(known))
    given <- rules[[name]]
    if (identical(given, FALSE)) {
      out[name] <- list(NULL)
      next
    }
    settings <- known[[name]]
    if (is.list(given)) {
      for (word in names(given)) {
        check_choice(word, paste0("rules$", name), names(settings))
        check_number(given[[word]], paste0(name, "$", word), -Inf)
        settings[[word]] <- given[[word]]
      }
    }
    out[[name]] <- settings
  }
  out[!vapply(out, is.null, TRUE)]
}

watch_row <- function(rule, series, first, last, severity, detail) {
  n <- length(first)
  data.frame(
    rule = rep_len(rule, n), series = rep_len(series, n),
    first = utc(as.numeric(first)), last = utc(as.numeric(last)),
    severity = rep_len(severity, n), detail = rep_len(detail, n)
  )
}

# Times and values of each series in order, the newest release of each.
watch_parts <- function(x) {
  x <- series_latest_rows(x)
  column <- value_column(x)
  if (!column %in% names(x) || !is.numeric(x[[column]])) {
    return(list())
  }
  rows <- data.frame(
    series = series_of_rows(x), time = start_times(x),
    value = as.double(x[[column]]),
    status = as.character(x[["status"]] %||% "observed")
  )
  rows <- rows[is.finite(rows$value) & !rows$status %in% "filled", ]
  rows <- rows[order(rows$series, rows$time), , drop = FALSE]
  split(rows, rows$series)
}

# Changes in robust standard deviations: of logarithms where all values are
# positive and vary by their size, else of the values.
watch_changes <- function(part, near = 60) {
  value <- part$value
  positive <- all(value > 0) && max(value) / min(value) > 3
  change <- diff(if (positive) log(value) else value)
  spread <- 1.4826 * stats::median(abs(change))
  local <- 1.4826 * as.numeric(
    stats::runmed(abs(change), 2 * min(near, (length(change) - 1) %/% 2) + 1)
  )
  # a series that hardly moves has the spread of its steps
  least <- stats::quantile(abs(change[change != 0]), 0.25, names = FALSE)
  scale <- pmax(spread, local, if (is.finite(least)) least else 0)
  # steps over a gap are no change from one value to the next
  step <- diff(part$time)
  change[step > 5.5 * stats::median(step)] <- 0
  list(size = ifelse(scale > 0, change / scale, 0), change = change)
}

watch_rules <- list(
  gap = function(x, settings, calendar, zone, since) {
    within <- is_bars(x) && is_within_days(start_times(x))
    # nights and closed days are no gaps, and only a calendar knows them
    if (within && is.null(calendar)) {
      return(NULL)
    }
    gaps <- tryCatch(
      series_gaps(x, calendar, session = watch_session(calendar)),
      vetusta_error = function(e) NULL
    )
    least <- max(settings$at_least, if (within) 15 else 1)
    rows <- as.data.frame(gaps)
    if (!nrow(rows)) {
      return(NULL)
    }
    rows <- rows[rows$missing >= least & !rows$reason %in% "no trade", ]
    # before its first value and after its last one a series has no gap
    name <- as.character(rows[["symbol"]] %||% rows[["series"]])
    time <- split(start_times(x), series_of_rows(x))
    ends <- vapply(time[name], range, c(0, 0))
    inside <- as.numeric(rows$first) > ends[1, ] &
      as.numeric(rows$last) < ends[2, ]
    rows <- rows[inside, , drop = FALSE]
    name <- name[inside]
    if (!NROW(rows)) {
      return(NULL)
    }
    watch_row(
      "gap", name, rows$first, rows$last,
      "serious", paste0(
        vapply(rows$missing, counted, "", "value"), " missing: ", rows$reason
      )
    )
  },
  jump = function(x, settings, calendar, zone, since) {
    watch_each(x, 60, function(part, changes) {
      far <- abs(changes$size) > settings$spread
      spiky <- watch_spikes(changes$size, settings$spread / 2)
      at <- setdiff(which(far), c(spiky, spiky - 1, spiky + 1))
      watch_row(
        "jump", part$series[1], part$time[at + 1], part$time[at + 1], "note",
        watch_moved(part, at, changes$size)
      )
    })
  },
  spike = function(x, settings, calendar, zone, since) {
    watch_each(x, 60, function(part, changes) {
      at <- watch_spikes(changes$size, settings$spread)
      watch_row(
        "spike", part$series[1], part$time[at + 1], part$time[at + 1],
        "serious", paste0(
          watch_moved(part, at, changes$size), ", and back to ",
          signif(part$value[at + 2], 6)
        )
      )
    })
  },
  repeated = function(x, settings, calendar, zone, since) {
    watch_each(x, 60, function(part, changes) {
      watch_repeated(part, settings$at_least)
    })
  },
  few = function(x, settings, calendar, zone, since) {
    if (!is_bars(x) || !is_within_days(start_times(x))) {
      return(NULL)
    }
    parts <- watch_parts(x)
    do.call(rbind, unname(lapply(parts, watch_few, settings, calendar, zone)))
  },
  split = function(x, settings, calendar, zone, since) {
    interval <- attr(x, "interval", exact = TRUE)
    if (!is_bars(x) || (!is.null(interval) && is_intraday(interval))) {
      return(NULL)
    }
    jumps <- tryCatch(
      bars_jumps(x, zone = zone),
      vetusta_error = function(e) NULL
    )
    if (NROW(jumps)) {
      watch_row(
        "split", jumps$symbol, jumps$time, jumps$time, "serious",
        paste0(
          "from ", signif(jumps$before, 6), " to ", signif(jumps$after, 6),
          " as at a split, which no action explains"
        )
      )
    }
  },
  revision = function(x, settings, calendar, zone, since) {
    watch_revisions(x, settings$percent, since)
  },
  range = function(x, settings, calendar, zone, since) {
    parts <- watch_parts(x)
    do.call(rbind, unname(lapply(parts, function(part) {
      at <- which(part$value < settings$low | part$value > settings$high)
      watch_row(
        "range", part$series[1], part$time[at], part$time[at], "serious",
        paste0(
          signif(part$value[at], 8), " is not between ", settings$low, " and ",
          settings$high
        )
      )
    })))
  }
)

watch_session <- function(calendar) {
  if (!is.null(calendar)) main_session(calendar)
}

watch_each <- function(x, least, work) {
  parts <- watch_parts(x)
  do.call(rbind, unname(lapply(parts, function(part) {
    if (nrow(part) < least) {
      return(NULL)
    }
    work(part, watch_changes(part))
  })))
}

# Changes that the next one takes back, by their number.
watch_spikes <- function(size, spread) {
  n <- length(size)
  if (n < 2) {
    return(integer())
  }
  there <- size[-n]
  back <- size[-1]
  which(
    abs(there) > spread & abs(back) > spread & sign(there) != sign(back) &
      abs(there + back) < 0.35 * pmin(abs(there), abs(back))
  )
}

watch_moved <- function(part, at, size) {
  paste0(
    "from ", signif(part$value[at], 6), " to ", signif(part$value[at + 1], 6),
    ", ", round(abs(size[at])), " times the usual change"
  )
}

# Runs of equal values that a series with so few repetitions would have less
# than once in a thousand times.
watch_repeated <- function(part, at_least) {
  runs <- rle(part$value)
  ends <- cumsum(runs$lengths)
  n <- nrow(part)
  equal <- sum(runs$lengths - 1)
  # a series that mostly stands still is none that got stuck
  long <- which(runs$lengths >= at_least & runs$lengths < n / 2)
  rows <- lapply(long, function(i) {
    others <- max(equal - (runs$lengths[i] - 1), 0.5) / n
    chance <- n * others^(runs$lengths[i] - 1)
    if (chance > 1e-3) {
      return(NULL)
    }
    first <- ends[i] - runs$lengths[i] + 1
    watch_row(
      "repeated", part$series[1], part$time[first], part$time[ends[i]],
      "serious", paste0(
        signif(runs$values[i], 8), " is repeated ", runs$lengths[i], " times"
      )
    )
  })
  do.call(rbind, rows)
}

# Days with fewer rows than usual; the first and the last day may be cut.
watch_few <- function(part, settings, calendar, zone) {
  day <- local_day(utc(part$time), zone)
  counts <- table(format(day))
  if (length(counts) < 5) {
    return(NULL)
  }
  days <- as.Date(names(counts))
  usual <- as.numeric(stats::median(counts))
  expected <- rep(usual, length(counts))
  if (!is.null(calendar)) {
    lengths <- watch_day_lengths(calendar, days)
    expected <- usual * lengths / max(lengths, 1)
  }
  low <- which(as.numeric(counts) < settings$share * expected)
  low <- setdiff(low, c(1, length(counts)))
  start <- vapply(low, function(i) min(part$time[day == days[i]]), 0)
  end <- vapply(low, function(i) max(part$time[day == days[i]]), 0)
  watch_row(
    "few", part$series[1], start, end, "serious",
    paste0(
      as.numeric(counts)[low], " rows on ", days[low], " instead of about ",
      round(expected[low])
    )
  )
}

# Hours of the main session on each day.
watch_day_lengths <- function(calendar, days) {
  times <- tryCatch(
    calendar_times(
      calendar, "PT30M",
      as.POSIXct(format(min(days)), tz = calendar$zone),
      as.POSIXct(format(max(days) + 1), tz = calendar$zone),
      main_session(calendar)
    ),
    vetusta_error = function(e) NULL
  )
  if (is.null(times)) {
    return(rep(1, length(days)))
  }
  counts <- table(format(local_day(times, calendar$zone)))
  found <- as.numeric(counts[format(days)])
  ifelse(is.na(found), max(counts), found)
}

# Values whose newest release differs much from their first one.
watch_revisions <- function(x, percent, since) {
  if (!has_releases(x)) {
    return(NULL)
  }
  column <- value_column(x)
  rows <- data.frame(
    series = series_of_rows(x), time = start_times(x),
    known = as.numeric(x$known), value = as.double(x[[column]])
  )
  rows <- rows[is.finite(rows$value), , drop = FALSE]
  rows <- rows[order(rows$series, rows$time, rows$known), , drop = FALSE]
  key <- paste(rows$series, format_exact(rows$time))
  first <- rows[!duplicated(key), , drop = FALSE]
  last <- rows[!duplicated(key, fromLast = TRUE), , drop = FALSE]
  by <- 100 * abs(last$value - first$value) / abs(first$value)
  at <- which(by > percent & is.finite(by))
  watch_row(
    "revision", last$series[at], last$time[at], last$known[at], "note",
    paste0(
      "from ", signif(first$value[at], 6), " to ", signif(last$value[at], 6),
      ", by ", round(by[at], 1), "%"
    )
  )
}
