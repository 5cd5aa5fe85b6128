#' Change the frequency of single values
#'
#' `series_aggregate()` makes fewer values: each longer period has a mean, sum
#' or other summary of its parts. `series_disaggregate()` makes more: each part
#' of a period gets a share of the period's value, or an interpolated value.
#'
#' @param x Observations, see [series_frame()]; or a table with `series`, `time`
#'   and `value`, or bars: their times belong to days of `zone`, and all values
#'   of a day count.
#' @param to The frequency: `"A"`, `"S"`, `"T"`, `"Q"`, `"M"`, `"W"` or `"D"`;
#'   or in words (`"monthly"`, `"1 month"`).
#' @param rule For `series_aggregate()`: `"mean"`, `"sum"`, `"first"`, `"last"`,
#'   `"min"`, `"max"`, `"median"` of the values present, or `"end"`, the value
#'   of the last part of the period, missing if that part is missing. For
#'   `series_disaggregate()`: `"last"` (the last known value is carried, from
#'   the first day of its period, or with `known = "end"` from the day after its
#'   end), `"linear"` and `"spline"` (a natural cubic spline) through the values
#'   at the middles of periods, `"even"` (a total split evenly by days; the
#'   parts add up to the total), `"indicator"` (a total split in proportion to
#'   an indicator series; the parts add up).
#' @param need The least share of parts with a value; a period with less has
#'   `NA`. Parts are days, weeks or months, as in `x`; with a calendar only its
#'   open days count.
#' @param calendar For `series_aggregate()`: the calendar of expected days.
#' @param zone The IANA zone of the days of values with a time; by default that
#'   of the table.
#' @param known For the rule `"last"`: `"start"` or `"end"`.
#' @param indicator For the rule `"indicator"`: observations of one series of
#'   the frequency `to`.
#' @return Observations of the frequency `to`. `series_aggregate()` adds
#'   `coverage`, the share of the period's parts with a value: months, weeks,
#'   days, or hours of a series of hours; a day of other instants counts once.
#'   Disaggregated values have the status `filled` and the column `rule`;
#'   infinite values are kept. `known`, and `through` if it differs, are the
#'   latest of the inputs, and for an aggregated value not before the end of its
#'   period. If `x` has several releases of a period, the result has too, each
#'   from what was known by then.
#' @details A week belongs to the longer period of its Thursday, as ISO 8601
#'   assigns weeks to years. Pro rata distribution to an indicator follows
#'   Bloem, Dippelsman and Maehle, *Quarterly National Accounts Manual* (IMF,
#'   2001), section 6.2: a total times the indicator's share in its period.
#' @section Errors: `vetusta_error_argument` for an unknown frequency or rule,
#'   for a frequency that is not lower (or not higher) than that of `x`, and for
#'   a missing indicator.
#' @export
#' @examples
#' days <- data.frame(
#'   series = "level",
#'   period = as.Date("2026-01-01") + 0:89,
#'   value = 1:90
#' )
#' months <- series_aggregate(days, "M", "mean")
#' series_disaggregate(months, "W", "linear")
series_aggregate <- function(x, to, rule = "mean", need = 0, calendar = NULL,
                             zone = NULL) {
  asked <- lineage_asked()
  to <- check_frequency(if (missing(to)) NULL else to)
  check_choice(rule, "rule", aggregate_rules)
  check_calendar(calendar)
  if (!is.null(zone)) check_zone(zone)
  if (!is.numeric(need) ||
    length(need) != 1 ||
    is.na(need) ||
    need < 0 ||
    need > 1) {
    vetusta_stop(
      "argument", "`need` must be a share of a period's days.",
      todo = "give a number from 0 to 1"
    )
  }
  table <- as_series(x)
  zone <- frame_facts(table, zone = zone)$zone
  calendar <- calendar %||% attr(table, "calendar", exact = TRUE)
  x <- parts_of(table, zone)
  check_direction(x, to, down = TRUE)
  # a week belongs to the month of its Thursday
  x$bucket <- period_first(
    epoch_days(
      ifelse(
        x$frequency == "W" & to != "W", as.numeric(x$period) + 3,
        as.numeric(x$period)
      )
    ),
    to
  )
  x$weight <- as.numeric(period_last(x$period, x$frequency) - x$period) + 1
  out <- aggregated_releases(x, to, rule, need, calendar, zone)
  frame <- data.frame(
    series = out$series,
    period = epoch_days(out$time / 86400),
    frequency = rep(to, length(out$time)),
    value = out$value,
    unit = out$measure,
    status = out$status,
    coverage = out$coverage,
    known = utc(out$known),
    through = utc(out$through)
  )
  lineage_step(
    derived_observations(table, frame, zone), "series_aggregate", asked
  )
}

# Observations derived from those of a table, with its facts and new instants.
derived_observations <- function(x, frame, zone) {
  facts <- facts_of(x)[c("title", "source", "licence", "unit", "calendar")]
  facts$zone <- if (!identical(zone, "UTC")) zone
  facts$unit <- unit_of_value(facts$unit[value_column(x)])
  rows <- with_facts(without_notes(series_frame(frame)), facts)
  end <- end_times(rows, frame_facts(rows))
  if (isTRUE(all.equal(as.numeric(rows$through), end, tolerance = 0))) {
    rows$through <- NULL
  }
  rows
}

# Values of any kind with their period, frequency and the time within it, in the
# order of series_points().
parts_of <- function(x, zone) {
  x <- as.data.frame(periods_of(as_series(x), zone))
  # a repeated row of one release counts once
  x[!duplicated(x[c("series", "time", "known")], fromLast = TRUE), ]
}

# Values by period: instants by their day.
periods_of <- function(x, zone) UseMethod("periods_of")

#' @export
periods_of.vetusta_observations <- function(x, zone) {
  x <- series_frame(x)
  x$time <- start_times(x)
  facts <- frame_facts(x, zone = zone)
  times <- row_times(x, end_times(x, facts), facts)
  x$through <- times$through
  x$known <- times$known
  x
}

#' @export
periods_of.default <- function(x, zone) {
  points <- series_points(x, zone = zone)
  n <- length(points$time)
  beside <- beside_points(x, c("frequency", "unit"))
  # hours and minutes count by their length, other times by their day
  code <- beside$frequency
  code[!startsWith(code, "PT") %in% TRUE] <- "D"
  list_frame(
    list(
      series = points$series,
      period = local_day(utc(points$time), zone),
      frequency = code,
      value = points$value,
      unit = beside$unit,
      status = points$status %||%
        ifelse(is.na(points$value), "missing", "observed"),
      through = points$through,
      known = points$known,
      time = points$time
    )
  )
}

# Columns of a table with times, in the order of its points.
beside_points <- function(x, names) {
  series <- as.character(x[["series"]])
  order <- if (length(series)) {
    order_of(series, as.numeric(read_instants(x$time, "time")))
  }
  lapply(stats::setNames(nm = names), function(name) {
    column <- as.character(x[[name]] %||% rep(NA, nrow(x)))
    if (is.null(order)) column else column[order]
  })
}

# Longer periods, release by release. A period counts when it is over, and again
# at every later instant at which one of its rows is revised; each of these
# states is summarised like a period. Rows are in order of series, time and
# release.
aggregated_releases <- function(x, to, rule, need, calendar, zone) {
  n <- nrow(x)
  bucket <- as.numeric(x$bucket)
  unit <- cumsum(
    c(TRUE, x$series[-1] != x$series[-n] | bucket[-1] != bucket[-n])
  )[seq_len(n)]
  again <- c(FALSE, unit[-1] == unit[-n] & x$time[-1] == x$time[-n])[seq_len(n)]
  deleted <- x$status %in% "deleted"
  end <- period_ends(x$bucket, rep(to, n), zone)
  # rows of a series with revisions that come after the end of a period are
  # releases of it
  late <- x$known > end & x$series %in% x$series[again]
  several <- unit %in% unit[again | deleted | late]
  once <- aggregated(
    frame_rows(x, which(!several)), unit[!several], to, rule, need, calendar,
    zone
  )
  if (!any(several)) {
    return(once)
  }
  once <- c(once, list(unit = once$group, at = once$known))
  rows <- which(several)
  units_here <- unit[rows]
  known <- pmax(x$known[rows], end[rows])
  begins <- which(!again[rows])
  time <- cumsum(!again[rows])
  starts <- which(!duplicated(units_here))
  ends <- c(starts[-1] - 1L, length(rows))
  asked <- which(!duplicated(data.table::data.table(units_here, known)))
  place <- match(units_here[asked], units_here[starts])
  state <- release_rows_cpp(
    c(begins, length(rows) + 1L), known, !deleted[rows],
    as.integer(time[starts][place]), as.integer(time[ends][place]),
    known[asked], FALSE
  )
  periods <- aggregated(
    frame_rows(x, rows[state$row]), state$question, to, rule, need, calendar,
    zone
  )
  periods <- c(
    periods,
    list(
      unit = units_here[asked][periods$group],
      at = known[asked][periods$group]
    )
  )
  none <- setdiff(seq_along(asked), periods$group)
  row <- rows[asked][none]
  gone <- list(
    series = x$series[row],
    time = bucket[row] * 86400,
    value = rep(NA_real_, length(none)),
    through = known[asked][none],
    known = known[asked][none],
    status = rep("deleted", length(none)),
    unit = units_here[asked][none],
    at = known[asked][none],
    gone = rep(TRUE, length(none))
  )
  all <- data.table::rbindlist(
    list(once, periods, gone),
    use.names = TRUE, fill = TRUE
  )
  releases_kept(all, c("value", "coverage", "status", "measure"), by = "unit")
}

# One result a run of equal groups: the summary of one period's rows.
aggregated <- function(x, group, to, rule, need, calendar, zone) {
  last <- as.numeric(period_last(x$bucket, to))
  period <- as.numeric(x$period)
  ends <- period + x$weight > last |
    (x$weight == 7 & period + x$weight + 3 > last)
  parts <- ifelse(startsWith(x$frequency, "PT"), as.numeric(x$time), period)
  out <- group_summary_cpp(
    as.integer(group), as.double(x$value), as.double(x$weight), parts, ends,
    x$status == "provisional", x$through, x$known,
    match(rule, aggregate_rules) - 1L
  )
  at <- out$at
  bucket <- x$bucket[at]
  coverage <- pmin(
    1,
    out$parts /
      pmax(1, expected_parts(bucket, to, x$frequency[at], calendar, zone))
  )
  value <- out$value
  value[coverage < need - 1e-9] <- NA
  end <- period_ends(bucket, rep(to, length(bucket)), zone)
  list(
    group = group[at],
    series = x$series[at],
    time = as.numeric(bucket) * 86400,
    value = value,
    measure = x$unit[at],
    coverage = coverage,
    through = pmax(out$through, end),
    known = pmax(out$known, end),
    status = ifelse(
      is.na(value), "missing",
      ifelse(out$provisional, "provisional", "observed")
    )
  )
}

aggregate_rules <- c(
  "mean", "sum", "first", "last", "min", "max", "median", "end"
)

# The number of hours, days, weeks or months in each longer period.
expected_parts <- function(bucket, to, frequency, calendar, zone) {
  out <- rep(NA_real_, length(bucket))
  for (name in unique(frequency)) {
    at <- which(frequency == name)
    first <- bucket[at]
    last <- period_last(first, rep(to, length(at)))
    out[at] <- if (name == "D" && !is.null(calendar)) {
      days <- calendar_days(calendar, min(first), max(last))
      findInterval(as.numeric(last), as.numeric(days)) -
        findInterval(as.numeric(first) - 1, as.numeric(days))
    } else if (name == "D") {
      as.numeric(last - first) + 1
    } else if (name == "W") {
      # Thursdays
      thursday <- function(day) floor((as.numeric(day)) / 7)
      thursday(last) - thursday(first - 1)
    } else if (startsWith(name, "PT")) {
      # a day of a clock change has 23 or 25 hours
      (period_ends(last, "D", zone) - period_ends(first - 1, "D", zone)) /
        time_interval(name)$seconds
    } else if (startsWith(name, "P")) {
      (as.numeric(last - first) + 1) /
        (interval_seconds(time_interval(name)) / 86400)
    } else if (to %in% names(frequency_months)) {
      frequency_months[[to]] / frequency_months[[name]]
    } else {
      1
    }
  }
  out
}

check_frequency <- function(to) {
  if (is.character(to) && length(to) == 1 && !is.na(to)) {
    lengths <- c(
      P1Y = "A", P6M = "S", P4M = "T", P3M = "Q", P1M = "M", P1W = "W",
      P1D = "D"
    )
    iso <- tryCatch(time_interval(to)$iso, vetusta_error = function(e) "")
    known <- which(
      tolower(to) == tolower(names(frequency_words)) |
        tolower(to) == frequency_words
    )
    if (length(known)) {
      to <- names(frequency_words)[known[1]]
    } else if (iso %in% names(lengths)) {
      to <- lengths[[iso]]
    }
  }
  check_choice(to, "to", setdiff(names(frequency_words), "I"))
}

check_direction <- function(x, to, down) {
  rank <- c(D = 1, W = 7, M = 30, Q = 91, T = 122, S = 182, A = 365)
  frequencies <- unique(x$frequency)
  length <- vapply(
    frequencies,
    function(name) {
      if (startsWith(name, "P")) {
        interval_seconds(time_interval(name)) / 86400
      } else {
        rank[[name]]
      }
    },
    0
  )
  wrong <- frequencies[if (down) length > rank[[to]] else length < rank[[to]]]
  if (length(wrong)) {
    vetusta_stop(
      "argument",
      paste0(
        frequency_word(wrong[1]), " values cannot be made ",
        frequency_words[to], " this way."
      ),
      todo = if (down) {
        "use series_disaggregate() to go up"
      } else {
        "use series_aggregate() to go down"
      }
    )
  }
}

frequency_word <- function(name) {
  if (startsWith(name, "P")) {
    format(time_interval(name))
  } else {
    frequency_words[[name]]
  }
}

# The newest release of each period, without deleted values.
newest_rows <- function(x) {
  newest <- !duplicated(
    paste(x$series, format_exact(x$period), sep = "\r"),
    fromLast = TRUE
  )
  x[newest & !x$status %in% "deleted", ]
}
