#' Find what is missing
#'
#' Sets the times that a calendar expects against those that are there. Closed days and hours are not expected, so they
#' are no gaps.
#'
#' @param x A table of bars of one interval, of any number of symbols.
#' @param calendar A calendar. `NULL` expects a value at every interval of every day of UTC.
#' @param interval The interval of `x`; by default the smallest step between two values.
#' @param from,to The window, days or instants; by default from the first to the last value of all symbols together.
#' @param session Names of the sessions in which values are expected; `NULL` for all.
#' @param outage For how many times in a row all symbols must be missing before it is taken for an outage and not for a quiet
#'   market; by default 5 within the day and 1 for days and longer.
#' @return A `vetusta_gaps` table with one row a run of missing times: `symbol`, `first` and `last` (the run's first and
#'   last missing time, `POSIXct` in UTC), `missing` (how many), `reason`: `no trade` where other symbols have a value at
#'   these times, or nearly so, `outage` where of several symbols none has one for a while, `unknown` where there is but one
#'   symbol to judge by. Times that follow each other in the calendar are one run, also across a night. The attribute
#'   `summary` has a row a symbol: `symbol`, `expected`, `present`, `missing`, `share` (present of expected),
#'   `runs`, `longest`.
#' @section Errors: `vetusta_error_want` for a window or interval that is none, or an interval that cannot be told from one value.
#' @export
#' @examples
#' minutes <- bars_frame(data.frame(
#'   symbol = "KELD", time = as.POSIXct("2026-03-12 07:30", tz = "UTC") + 60 * (0:389)[-(20:25)],
#'   open = 41, high = 42, low = 40, close = 41, volume = 100
#' ))
#' series_gaps(minutes, source_calendar("quay"))
series_gaps <- function(x, calendar = NULL, interval = NULL, from = NULL, to = NULL, session = "regular", outage = NULL) {
  x <- ordered_bars(x)
  if (is.null(calendar)) {
    calendar <- calendar_make(list(calendar = "every day", zone = "UTC"))
    session <- NULL
  }
  interval <- gaps_interval(x, interval)
  window <- gaps_window(x, from, to, calendar, interval)
  expected <- as.numeric(calendar_times(calendar, interval, window$from, window$to, session))
  times <- split(as.numeric(x$time), factor(x$symbol, unique(x$symbol)))
  present <- lapply(times, function(time) times_present_cpp(expected, time))
  outage <- check_count(outage %||% if (is_intraday(interval)) 5 else 1, "outage")
  reason <- missing_reasons(present, length(expected), outage)
  runs <- Map(function(symbol, here) {
    run <- missing_runs_cpp(here, reason)
    data.frame(
      symbol = rep(symbol, length(run$first)), first = utc(expected[run$first]), last = utc(expected[run$last]),
      missing = run$last - run$first + 1L, reason = gap_reasons[run$reason]
    )
  }, names(present), present)
  structure(
    as_rows(do.call(rbind, c(list(no_gaps()), unname(runs)))),
    summary = gaps_summary(present, runs, length(expected)), interval = interval$iso, calendar = calendar$name,
    class = c("vetusta_gaps", "tbl_df", "tbl", "data.frame")
  )
}

gap_reasons <- c("no trade", "outage", "unknown")

no_gaps <- function() {
  data.frame(symbol = character(), first = utc(numeric()), last = utc(numeric()), missing = integer(), reason = character())
}

gaps_interval <- function(x, interval) {
  if (!is.null(interval)) {
    return(time_interval(interval))
  }
  step <- smallest_step(x)
  if (is.na(step)) {
    vetusta_stop("want", "The interval cannot be told from fewer than two values of one symbol.", todo = "give `interval`, such as \"1 minute\"")
  }
  interval_of(if (step >= 72000 && step <= 86400 * 1.2) 86400 else step, "second")
}

gaps_window <- function(x, from, to, calendar, interval) {
  if ((is.null(from) || is.null(to)) && !nrow(x)) {
    vetusta_stop("want", "There are no values, so the window cannot be told from them.", todo = "give `from` and `to`")
  }
  from <- if (is.null(from)) min(x$time) else time_instant(from, calendar$zone, name = "from")
  to <- if (is.null(to)) max(x$time) + 1 else time_instant(to, calendar$zone, end = TRUE, name = "to")
  if (to <= from) {
    vetusta_stop("want", "The window ends before it begins.", where = paste(format_instant(from), "to", format_instant(to)), todo = "swap `from` and `to`")
  }
  list(from = from, to = to)
}

# For each expected time: do others trade, does nobody for a while, or is there only one to judge by?
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

gaps_summary <- function(present, runs, expected) {
  found <- vapply(present, sum, 0L)
  data.frame(
    symbol = names(present), expected = rep(expected, length(present)), present = unname(found),
    missing = unname(expected - found), share = if (expected > 0) unname(found / expected) else rep(NA_real_, length(present)),
    runs = unname(vapply(runs, nrow, 0L)), longest = unname(vapply(runs, function(run) max(0L, run$missing), 0L))
  )
}
