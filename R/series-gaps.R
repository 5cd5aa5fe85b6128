#' Find gaps
#'
#' Compares the times that a calendar expects with those present. Closed days
#' and hours are not expected, so they are not gaps.
#'
#' @param x A table of bars of one interval, of any number of symbols; or
#'   observations, or a table with `series`, `time` and `value`. A row with a
#'   missing value counts as missing.
#' @param calendar A calendar; by default that of the table. Without one a value
#'   is expected at every interval of every day in the table's zone; for daily
#'   series without any weekend value in three weeks or more, on every weekday.
#'   Observations of months and other periods are expected in every period from
#'   the first one on, daily observations on every day of the calendar.
#' @param interval The interval of `x`; by default that of the table, or the
#'   smallest step between values; steps of two to six days mean daily values.
#'   Without a calendar, values are expected at the times of the series, such as
#'   Fridays, or, if these differ, at midnights and whole hours (UTC).
#' @param from,to The window, days or instants; by default from the first to the
#'   last value of all series.
#' @param session Names of the sessions with expected values; `NULL` for all.
#' @param outage The number of consecutive times at which all series must be
#'   missing to count as an outage rather than a quiet market; by default 5
#'   within the day and 1 for days and longer.
#' @param listed A data frame of instruments with `symbol`, `listed` and
#'   `delisted` (`Date`); gaps outside get this as their reason.
#' @param delayed_from The instant from which the source withholds its newest
#'   values.
#' @param published How long after its end a value is published, a length of
#'   time; one for all or a named vector by series. With `now`, younger gaps get
#'   this as their reason.
#' @param now The present time, for `published`.
#' @return A `vetusta_gaps` table with a row per run of missing times: `symbol`
#'   (or `series`), `first` and `last` (the first and last missing time,
#'   `POSIXct` in UTC), `missing` (their number), and `reason`, the first of
#'   these that holds: `before listing`, `after the last day`, `delayed`, `not
#'   yet published`, `no trade` (for values other than bars: `others have one`)
#'   if other series have a value at or near these times, `outage` if none of
#'   several series has one for some time, `unknown` if there is only one
#'   series. Consecutive times of the calendar form one run, also across a
#'   night. The attribute `summary` has a row per series: `expected`, `present`,
#'   `missing`, `coverage` (present divided by expected), `runs`, `longest`.
#' @section Errors: `vetusta_error_argument` for an invalid window or interval,
#'   or an interval that a single value cannot give; `vetusta_error_calendar`
#'   for a window outside the years of the calendar.
#' @export
#' @examples
#' minutes <- bars_frame(
#'   data.frame(
#'     symbol = "KELD",
#'     time = as.POSIXct("2026-03-12 07:30", tz = "UTC") +
#'       60 * (0:389)[-(20:25)],
#'     open = 41,
#'     high = 42,
#'     low = 40,
#'     close = 41,
#'     volume = 100
#'   )
#' )
#' series_gaps(minutes, source_calendar("quay"))
series_gaps <- function(x, calendar = NULL, interval = NULL, from = NULL,
                        to = NULL, session = "regular", outage = NULL,
                        listed = NULL, delayed_from = NULL, published = NULL,
                        now = NULL) {
  check_calendar(calendar)
  if (!is.null(listed) &&
    (!is.data.frame(listed) ||
      !any(c("symbol", "series") %in% names(listed)))) {
    vetusta_stop(
      "argument", "`listed` must be a table of instruments.",
      todo = "give a data frame with symbol, listed and delisted"
    )
  }
  x <- as_series(x)
  name <- if (is.null(x[["series"]])) "symbol" else "series"
  plain <- gaps_input(x)
  facts <- frame_facts(x, interval, calendar = calendar)
  calendar <- facts$calendar
  frame <- gaps_frame(x, plain, facts, from, to, session)
  expected <- frame$expected
  shift <- frame$shift
  say_outside_of(x, frame, calendar)
  times <- lapply(series_split(plain$series), function(rows) {
    time <- if (length(rows) == length(frame$time)) {
      frame$time
    } else {
      frame$time[rows]
    }
    if (is.unsorted(time)) sort(time) else time
  })
  present <- lapply(times, function(time) times_present_cpp(expected, time))
  outage <- check_count(outage %||% if (frame$intraday) 5 else 1, "outage")
  reasons <- gap_reasons_of(x)
  common <- missing_reasons(present, length(expected), outage)
  runs <- Map(
    function(series, here) {
      reason <- series_reasons(
        series, common, frame, listed, delayed_from, published, now
      )
      run <- missing_runs_cpp(here, reason)
      offset <- if (is.null(shift)) 0 else shift[[series]]
      list(
        symbol = rep(series, length(run$first)),
        first = expected[run$first] + offset,
        last = expected[run$last] + offset,
        missing = run$last - run$first + 1L,
        reason = reasons[run$reason]
      )
    },
    names(present), present
  )
  gaps <- as.data.frame(data.table::rbindlist(c(list(no_gaps()), unname(runs))))
  for (bound in c("first", "last")) gaps[[bound]] <- utc(gaps[[bound]])
  summary <- gaps_summary(present, runs, length(expected))
  names(gaps)[1] <- names(summary)[1] <- name
  structure(
    as_rows(gaps),
    summary = summary,
    interval = frame$iso,
    calendar = frame$calendar,
    class = c("vetusta_gaps", "tbl_df", "tbl", "data.frame")
  )
}

gap_reasons <- c(
  "no trade", "outage", "unknown", "before listing", "after the last day",
  "delayed", "not yet published"
)

no_gaps <- function() {
  data.frame(
    symbol = character(), first = numeric(), last = numeric(),
    missing = integer(), reason = character()
  )
}

# Only bars are traded, so other values have no trading reasons.
gap_reasons_of <- function(x) UseMethod("gap_reasons_of")
#' @export
gap_reasons_of.default <- function(x) {
  sub("no trade", "other series have a value", gap_reasons, fixed = TRUE)
}
#' @export
gap_reasons_of.vetusta_bars <- function(x) gap_reasons

# Reports times at which the calendar is closed; a period belongs to no session.
say_outside_of <- function(x, frame, calendar) UseMethod("say_outside_of")
#' @export
say_outside_of.default <- function(x, frame, calendar) {
  if (!is.null(calendar)) {
    say_outside(
      sum(find_sessions(frame$time, calendar)$at == 0L), length(frame$time)
    )
  }
}
#' @export
say_outside_of.vetusta_observations <- function(x, frame, calendar) invisible()

# The series and times that have a value.
gaps_input <- function(x) UseMethod("gaps_input")

#' @export
gaps_input.vetusta_bars <- function(x) {
  x <- ordered_bars(x)
  plain <- list(series = x$symbol, time = seconds_of(x$time))
  if (anyNA(x$close)) lapply(plain, `[`, !is.na(x$close)) else plain
}

#' @export
gaps_input.vetusta_observations <- function(x) {
  x <- newest_rows(series_frame(x))
  there <- !is.na(x$value)
  list(
    series = x$series[there],
    time = as.numeric(x$period)[there] * 86400,
    frequency = unique(x$frequency)
  )
}

#' @export
gaps_input.vetusta_points <- function(x) {
  points <- newest_points(x, series_points(x, times_only = TRUE))
  there <- !is.na(points$value)
  list(series = points$series[there], time = points$time[there])
}

# For each expected time: whether others trade, nobody does for a while, or
# there is one series only.
missing_reasons <- function(present, n, outage) {
  if (length(present) < 2) {
    return(rep(3L, n))
  }
  silent <- missing_runs_cpp(Reduce(`|`, present), integer(n))
  long <- silent$last - silent$first + 1L >= outage
  reason <- rep(1L, n)
  reason[unlist(Map(seq, silent$first[long], silent$last[long]))] <- 2L
  reason
}

# The end of the period of each expected value, and its local day.
frame_ends <- function(frame) {
  if (is.null(frame$interval)) {
    (as.numeric(period_last(frame_days(frame), frame$frequency)) + 1) * 86400
  } else {
    as.numeric(
      shift_instant(utc(frame$expected), frame$interval, 1, frame$zone)
    )
  }
}

frame_days <- function(frame) {
  if (is.null(frame$interval)) {
    epoch_days(frame$expected / 86400)
  } else {
    local_day(utc(frame$expected), frame$zone)
  }
}

# Reasons of a single series come first.
series_reasons <- function(series, reason, frame, listed, delayed_from,
                           published, now) {
  if (!is.null(published)) {
    lag <- by_series(
      published,
      if (is.null(names(published))) {
        series
      } else {
        unique(c(series, names(published)))
      },
      "published"
    )[[series]]
    if (is.null(now)) {
      vetusta_stop(
        "argument", "`published` needs the present time.",
        todo = "give `now`, such as Sys.time()"
      )
    }
    if (!is.null(lag)) {
      reason[
        as.numeric(
          shift_instant(
            utc(frame_ends(frame)), time_interval(lag, "published"), 1,
            frame$zone
          )
        ) >
          as.numeric(now)
      ] <-
        7L
    }
  }
  if (!is.null(delayed_from)) {
    reason[
      frame_ends(frame) >
        as.numeric(
          time_instant(delayed_from, frame$zone, name = "delayed_from")
        )
    ] <-
      6L
  }
  if (!is.null(listed)) {
    row <- match(series, as.character(listed$symbol %||% listed$series))
    after <- as.Date(listed[["delisted"]][row] %||% NA)
    before <- as.Date(listed[["listed"]][row] %||% NA)
    if (length(after) && !is.na(after)) reason[frame_days(frame) > after] <- 5L
    if (length(before) && !is.na(before)) {
      reason[frame_days(frame) < before] <- 4L
    }
  }
  reason
}

gaps_summary <- function(present, runs, expected) {
  counts <- vapply(present, sum, 0L)
  data.frame(
    symbol = names(present),
    expected = rep(expected, length(present)),
    present = unname(counts),
    missing = unname(expected - counts),
    coverage = if (expected > 0) {
      unname(counts / expected)
    } else {
      rep(NA_real_, length(present))
    },
    runs = unname(vapply(runs, function(run) length(run$missing), 0L)),
    longest = unname(vapply(runs, function(run) max(0L, run$missing), 0L))
  )
}
