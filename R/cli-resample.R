cli_resample <- function(arguments) {
  options <- cli_arguments(
    arguments, "resample", "ID...",
    c(
      list(
        cli_option(
          "into",
          paste0(
            "bars: a longer length, as \"1 day\", or session; other ",
            "values: a frequency (A, ", "S, Q, M, W, D)"
          ),
          metavar = "LENGTH"
        ),
        cli_option(
          "using",
          paste0(
            "values: mean, sum, first, last, min, max, median, end to go ",
            "down; last, linear, ", "spline, even to go up [mean, last]"
          ),
          metavar = "RULE"
        ),
        cli_option(
          "anchor",
          "bars: hours counted from the opening or by the clock [opening]",
          default = "opening", metavar = "WORD"
        ),
        cli_option(
          "day-start",
          "bars without a calendar: the hour at which days begin, as 17:00",
          metavar = "HH:MM"
        ),
        cli_option(
          "week-start", "the weekday with which weeks begin [monday]",
          default = "monday", metavar = "DAY"
        ),
        cli_option(
          "stamp", "time stamp of a bar: start or end [start]",
          default = "start", metavar = "WORD"
        ),
        cli_option(
          "need",
          paste0(
            "the part of expected bars, or of a period's days, below ",
            "which a result is ", "provisional, or missing [0]"
          ),
          metavar = "PART"
        ),
        cli_session_option()
      ),
      cli_series_options(), cli_window_options(), cli_place_options(),
      cli_result_options()
    ),
    c(
      "vetusta resample \"KELD@1 minute\" --into \"1 day\"",
      "vetusta resample kelder-lock --into M --using mean",
      paste(
        "cat minutes.csv | vetusta resample --input - --symbol KELD",
        "--into \"1 hour\"", "--anchor clock"
      )
    )
  )
  to <- cli_needs(options, "into")
  read <- cli_series(options, function(calendar, zone) {
    cli_resample_words(to, options, calendar, zone)
  })
  say_jumps(read$tables, read$zone)
  what <- "row"
  rows <- cli_each(read, options, function(x, interval, read) {
    if (is_bars(x)) what <<- "bar"
    if (is_bars(x)) {
      x
    } else {
      cli_resample_one(as_series(x), to, options, read, interval)
    }
  })
  cli_put(rows, options, what)
}

# Bars become longer bars; other values change their frequency.
cli_resample_one <- function(x, to, options, read, interval) {
  UseMethod("cli_resample_one")
}

#' @export
cli_resample_one.vetusta_bars <- function(x, to, options, read, interval) {
  do.call(
    bars_resample,
    c(
      list(x, base = interval),
      cli_resample_words(to, options, read$calendar, read$zone)
    )
  )
}

# The arguments of resampling bars, from options.
cli_resample_words <- function(to, options, calendar, zone) {
  list(
    interval = to,
    calendar = calendar,
    session = cli_sessions(list(calendar = calendar), options),
    zone = zone,
    anchor = options$anchor,
    day_start = options$day_start,
    week_start = options$week_start,
    stamp = options$stamp,
    need = cli_number(options, "need", 0) %||% 0
  )
}

#' @export
cli_resample_one.default <- function(x, to, options, read, interval) {
  to <- check_frequency(to)
  now <- unique(parts_of(x, "UTC")$frequency)
  rank <- c(D = 1, W = 2, M = 3, Q = 4, T = 5, S = 6, A = 7)
  if (!all(rank[now] <= rank[to])) {
    return(series_disaggregate(x, to, options$using %||% "last"))
  }
  series_aggregate(
    x,
    to,
    options$using %||% "mean",
    need = cli_number(options, "need", 0) %||% 0,
    calendar = read$calendar,
    zone = read$zone
  )
}
