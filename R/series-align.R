#' Align series without look-ahead
#'
#' By default a value counts from the instant at which it was known: its release
#' if the table has one, else the end of its period or bar, and no earlier than
#' `lag` after that end. At each grid time a series has the latest value known
#' by then.
#'
#' @param ... Tables of series: bars, observations, or tables with `series`,
#'   `time` and `value`; any number of series of any frequency.
#' @param grid The times: a vector of `POSIXct` or `Date`; a list of calendar,
#'   interval, from and to, as in [calendar_times()]; the name of a series, for
#'   the instants at which its values became known; or `"union"` or
#'   `"intersection"` of the times of all series.
#' @param rule The value at a grid time: `"last"`, the latest value known by
#'   then; `"exact"`, only a value that became known at exactly that time;
#'   `"mean"` or `"sum"`, of the values that became known since the previous
#'   grid time. One for all, or a named vector by series.
#' @param point_in_time Whether values count from the instant at which they were
#'   known. With `FALSE` a value counts from its own time (a bar from its start,
#'   a period from its first day). This looks ahead, so it is for purposes
#'   without trading; the rule `"linear"` is then allowed too.
#' @param lag The least time between the end of a period and the instant at
#'   which its value is known, a length of time; one for all, or a named vector
#'   by series.
#' @param max_age The greatest age of a value, a length of time; older values
#'   are missing. One for all, or a named vector.
#' @param ages Whether to return the age of every value too, in days since it
#'   was known.
#' @param form `"wide"`, a column per series; or `"long"`, a row per time and
#'   series.
#' @param value The number of bars to use.
#' @param interval The interval of bars, if it is not their smallest step.
#' @param zone The zone of days in `grid`, and of the days of tables without a
#'   zone.
#' @param calendar The calendar of bars of a day or longer: they are known from
#'   the end of their session, and without a calendar from a day after their
#'   start. One for all, or a list of one, or `NULL`, per table; by default that
#'   of the table.
#' @return Wide: a tibble of `time` (`POSIXct`, UTC) and a column per series,
#'   and with `ages` a column `<series>_age_days` beside each. Long: `time`,
#'   `series`, `value`, `through` and `known` (`POSIXct`, UTC: the end of the
#'   latest input of the value, and the instant from which it counts, which is
#'   not before `time`) and, with `ages`, `age_days`. Ages are days since the
#'   value was known. The times are those of the grid, ordered and unique. A
#'   value is `NA` if nothing was known yet, or if the known value is too old.
#'   Observations without a stated release count from the end of their period,
#'   with a message of the class `vetusta_note`. Units and titles are those of
#'   the series; where units differ, the long form has a column `unit`.
#' @section Errors: `vetusta_error_argument` for an unknown rule or grid, a rule
#'   or lag for an unknown series, and for the rule `"linear"` with
#'   `point_in_time = TRUE`. Series without any overlap give a grid without
#'   times (`"intersection"`) or columns of `NA`.
#' @export
#' @examples
#' days <- bars_frame(
#'   data.frame(
#'     symbol = "KELD",
#'     time = as.POSIXct("2026-03-02", tz = "UTC") + 86400 * 0:9,
#'     close = 41 + 0:9
#'   )
#' )
#' traffic <- data.frame(
#'   series = "traffic",
#'   period = c("2026-01", "2026-02"),
#'   value = c(310, 280),
#'   released = as.Date(c("2026-02-20", "2026-03-06"))
#' )
#' series_align(days, traffic, grid = "KELD", ages = TRUE)
series_align <- function(..., grid = "union", rule = "last",
                         point_in_time = TRUE, lag = NULL, max_age = NULL,
                         ages = FALSE, form = "wide", value = NULL,
                         interval = NULL, zone = NULL, calendar = NULL) {
  asked <- lineage_asked()
  check_choice(form, "form", c("wide", "long"))
  for (flag in c("point_in_time", "ages")) check_flag(get(flag), flag)
  if (!is.null(zone)) check_zone(zone)
  tables <- list(...)
  if (!length(tables)) {
    vetusta_stop(
      "argument", "There are no series to align.",
      todo = "give a table or several"
    )
  }
  check_tables(tables)
  calendars <- align_calendars(calendar, length(tables))
  series <- align_series(
    tables, value, interval, lag, zone, point_in_time, calendars
  )
  if (point_in_time && is.null(lag)) say_no_release(tables)
  names <- names(series)
  rules <- by_series(rule, names, "rule")
  for (flag in rules) {
    check_choice(flag, "rule", c("last", "exact", "mean", "sum", "linear"))
  }
  if (point_in_time && any(rules == "linear")) {
    vetusta_stop(
      "argument", "The rule linear takes from values that are not known yet.",
      todo = "choose another rule, or use point_in_time = FALSE"
    )
  }
  limits <- lapply(
    by_series(max_age, names, "max_age"),
    function(x) if (!is.null(x) && !is.na(x)) time_interval(x, "max_age")
  )
  times <- align_grid(grid, series, zone %||% "UTC", calendars[[1]])
  aligned <- Map(
    function(points, rule, limit) {
      align_one(points, times, rule, limit, zone %||% "UTC")
    },
    series, rules, limits
  )
  if (point_in_time) say_none_known(series, aligned, times)
  form_of <- if (form == "wide") align_wide else align_tidy
  result <- form_of(aligned, times, ages, align_facts(tables, names, value))
  lineage_step(result, "series_align", asked)
}

# The facts that the tables share, and units and titles by series.
align_facts <- function(tables, names, value) {
  tables <- lapply(unname(tables), as_series)
  units <- unlist(lapply(tables, function(x) {
    series_units(x, value_asked(x, value) %||% value_column(x))
  }))
  facts <- facts_together(lapply(tables, facts_of))
  facts <- facts[names(facts) %in% c("zone", "calendar", "source", "licence")]
  titles <- unlist(lapply(tables, attr, "title", exact = TRUE))
  facts$title <- titles[intersect(names, names(titles))]
  facts$unit <- units[intersect(names, names(units))]
  facts[lengths(facts) > 0]
}

# One calendar, or none, for each table.
align_calendars <- function(calendar, count) {
  if (is.null(calendar) || inherits(calendar, "vetusta_calendar")) {
    return(rep(list(calendar), count))
  }
  if (!is.list(calendar) || length(calendar) != count) {
    vetusta_stop(
      "argument",
      paste0(
        "`calendar` must be a calendar, or a list with a calendar for ",
        "each table."
      ),
      todo = paste0(
        "make a calendar with calendar_make(), or read it with ",
        "source_calendar()"
      )
    )
  }
  for (entry in calendar) check_calendar(entry)
  calendar
}

# Each series as columns in order of the instant from which its values count.
align_series <- function(tables, value, interval, lag, zone, point_in_time,
                         calendars = vector("list", length(tables))) {
  tables <- with_one_note(Map(
    function(x, calendar) {
      x <- as_series(x)
      # the days of a table are those of its zone
      table_zone <- attr(x, "zone", exact = TRUE) %||%
        attr(x, "calendar", exact = TRUE)$zone %||% zone
      points <- function(x, lag) {
        series_points(
          x, value_asked(x, value), interval, lag, table_zone, calendar
        )
      }
      if (is.null(names(lag))) {
        return(points(x, lag))
      }
      of <- series_names_of(x)
      lag_here <- by_series(lag, unique(of), "lag", strict = FALSE)
      # series with equal lag are read together
      waits <- vapply(
        lag_here,
        function(delay) if (is.null(delay)) "" else as.character(delay), ""
      )
      do.call(
        rbind,
        lapply(
          unique(waits),
          function(wait) {
            points(
              x[of %in% names(waits)[waits == wait], ], if (nzchar(wait)) wait
            )
          }
        )
      )
    },
    tables, calendars
  ))
  all <- if (length(tables) == 1) {
    tables[[1]]
  } else {
    as.data.frame(data.table::rbindlist(tables, use.names = TRUE, fill = TRUE))
  }
  rows <- series_split(
    all$series,
    if (length(tables) == 1 && is.null(names(lag))) attr(all, "groups")
  )
  for (name in setdiff(names(lag), c("", names(rows)))) {
    check_choice(name, "lag", names(rows))
  }
  deleted <- all[["status"]] %in% "deleted"
  all <- as.list(all)[c("time", "known", "through", "value")]
  # `counts` is the instant from which a value is used on the grid
  all$counts <- if (point_in_time) all$known else all$time
  if (any(deleted)) all$deleted <- deleted
  lapply(rows, function(i) {
    part <- if (length(rows) == 1) all else lapply(all, `[`, i)
    # a release without a value ends the one before it
    if (anyNA(part$value) && anyDuplicated(part$time)) {
      again <- part$time %in% part$time[duplicated(part$time)]
      part$deleted <- (part$deleted %||% FALSE) | (is.na(part$value) & again)
    }
    # a missing value does not count, and a deleted one ends the one before it
    if (anyNA(part$value)) {
      kept <- !is.na(part$value) |
        part$deleted %||% rep(FALSE, length(part$value))
      empty <- if (!point_in_time) {
        lapply(part[c("counts", "known", "through")], `[`, !kept)
      }
      part <- lapply(part, `[`, kept)
      attr(part, "empty") <- empty
    }
    # times are sorted already
    if (!identical(part$counts, part$time) && is.unsorted(part$counts)) {
      order <- order(part$counts, part$time, method = "radix")
      part <- with_empty(lapply(part, `[`, order), attr(part, "empty"))
    }
    if (!point_in_time && !is.null(part$deleted)) part <- undeleted(part)
    part
  })
}

# The newest release of each time, without deleted values.
undeleted <- function(part) {
  newest <- !duplicated(part$time, fromLast = TRUE)
  with_empty(
    lapply(part[setdiff(names(part), "deleted")], `[`, newest & !part$deleted),
    attr(part, "empty")
  )
}

# Rows without a value, whose instants count because they were looked at.
with_empty <- function(part, empty) {
  attr(part, "empty") <- empty
  part
}

# The latest instant of rows without a value between each counting row and its
# grid time.
empty_latest <- function(empty, counts, times, name) {
  if (is.null(empty) || !length(empty$counts)) {
    return(-Inf)
  }
  order <- order(empty$counts, method = "radix")
  at <- empty$counts[order]
  vapply(
    seq_along(times),
    function(i) {
      last <- findInterval(times[i], at)
      first <- if (is.na(counts[i])) {
        1L
      } else {
        findInterval(counts[i], at, left.open = TRUE) + 1L
      }
      if (first > last) -Inf else max(empty[[name]][order][first:last])
    },
    0
  )
}

align_one <- function(points, times, rule, limit, zone) {
  if (rule == "linear") {
    return(align_linear(points, times))
  }
  if (rule %in% c("mean", "sum")) {
    # of several releases of one time only the first brings a new time
    first <- !duplicated(points$time) & !is.na(points$value)
    counts <- points$counts[first]
    between <- align_between_cpp(times, counts, points$value[first])
    value <- ifelse(
      between$count == 0, NA_real_,
      if (rule == "mean") between$sum / between$count else between$sum
    )
    last <- findInterval(times, counts)
    latest <- function(x) c(NA, cummax(x[first]))[last + 1]
    none <- is.na(value)
    return(
      list(
        value = value,
        counts = ifelse(none, NA, times),
        known = ifelse(none, NA, pmax(times, latest(points$known))),
        through = ifelse(none, NA, latest(points$through))
      )
    )
  }
  at <- if (rule == "exact") {
    times_match_cpp(times, points$counts)
  } else if (is.null(points$deleted)) {
    align_cpp(times, points$counts, points$time)
  } else {
    align_deleted_cpp(times, points$counts, points$time, points$deleted)
  }
  at[at == 0L] <- NA
  counts <- points$counts[at]
  value <- points$value[at]
  if (!is.null(limit)) {
    until <- if (is.na(limit$seconds)) {
      as.numeric(shift_instant(utc(counts), limit, 1, zone))
    } else {
      counts + limit$seconds
    }
    at[!is.na(counts) & times > until] <- NA
    value <- points$value[at]
  }
  empty <- attr(points, "empty")
  passed <- function(name) empty_latest(empty, points$counts[at], times, name)
  list(
    value = value,
    counts = points$counts[at],
    known = pmax(points$known[at], times, passed("known")),
    through = pmax(points$through[at], passed("through"))
  )
}

# Linear interpolation: known once both neighbours are.
align_linear <- function(points, times) {
  good <- which(is.finite(points$value))
  if (length(good) < 2) {
    none <- rep(NA_real_, length(times))
    return(list(value = none, counts = none, known = none, through = none))
  }
  at <- points$counts[good]
  value <- stats::approx(at, points$value[good], times, ties = "ordered")$y
  before <- good[pmax(1, findInterval(times, at))]
  after <- good[
    pmin(length(good), findInterval(times, at, left.open = TRUE) + 1)
  ]
  empty <- attr(points, "empty")
  latest <- function(name) {
    x <- points[[name]]
    passed <- empty_latest(
      empty, points$counts[before], points$counts[after], name
    )
    ifelse(is.na(value), NA, pmax(x[before], x[after], passed))
  }
  list(
    value = value,
    counts = ifelse(is.na(value), NA, times),
    known = pmax(times, latest("known")),
    through = latest("through")
  )
}

align_wide <- function(aligned, times, ages, facts) {
  columns <- lapply(aligned, `[[`, "value")
  if (ages) {
    old <- stats::setNames(
      lapply(aligned, function(column) (times - column$counts) / 86400),
      paste0(names(aligned), "_age_days")
    )
    columns <- c(columns, old)[
      as.vector(rbind(seq_along(aligned), seq_along(aligned) + length(aligned)))
    ]
  }
  with_facts(as_rows(c(list(time = utc(times)), columns)), facts)
}

align_tidy <- function(aligned, times, ages, facts) {
  n <- length(times)
  column <- function(name) {
    unlist(lapply(aligned, `[[`, name), use.names = FALSE)
  }
  at <- rep(times, length(aligned))
  columns <- list(
    time = utc(at),
    series = rep(names(aligned), each = n),
    value = column("value"),
    through = utc(column("through")),
    known = utc(column("known"))
  )
  if (ages) columns$age_days <- (at - column("counts")) / 86400
  rows <- with_facts(as_rows(columns), facts[names(facts) != "unit"])
  with_series_units(rows, facts$unit)
}
