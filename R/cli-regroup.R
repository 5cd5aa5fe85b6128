cli_regroup <- function(arguments) {
  options <- cli_arguments(arguments, "regroup", "[SYMBOL...|SERIES...]",
    c(list(
      cli_option("into", "bars: a longer length, as \"1 day\", or session; other values: a frequency (A, S, Q, M, W, D)", metavar = "LENGTH"),
      cli_option("rule", "values: mean, sum, first, last, min, max, median, end to go down; last, linear, spline, even to go up [mean, last]", metavar = "RULE"),
      cli_option("anchor", "bars: hours counted from the opening or by the clock [opening]", default = "opening", metavar = "WORD"),
      cli_option("day-start", "bars without a calendar: the hour at which days begin, as 17:00", metavar = "HH:MM"),
      cli_option("week-start", "the weekday with which weeks begin [monday]", default = "monday", metavar = "DAY"),
      cli_option("label", "whether a bar bears its start or its end [start]", default = "start", metavar = "WORD"),
      cli_option("need", "the share of expected bars, or of a period's days, below which a result is provisional, or missing [1, 0]", metavar = "SHARE"),
      cli_option("session", "regular, early, late, or all [regular]", default = "regular", metavar = "NAME")
    ), cli_series_options(), cli_window_options(), cli_place_options(), cli_result_options()),
    c("vetusta regroup KELD --interval \"1 minute\" --into \"1 day\"", "vetusta regroup --source river --offer levels kelder-lock --into M --rule mean",
      "cat minutes.csv | vetusta regroup --input - --symbol KELD --into \"1 hour\" --anchor clock"))
  to <- cli_needs(options, "into")
  read <- cli_series(options)
  x <- cli_one_table(read)
  if (series_kind(x) != "bars") {
    return(cli_put(regroup_values(x, to, options, read), options))
  }
  session <- if (is.null(read$calendar) || options$session == "all") NULL else options$session
  rows <- bars_regroup(x, to, read$calendar, session = session, base = read$interval, zone = read$zone, anchor = options$anchor, day_start = options$day_start,
    week_start = options$week_start, label = options$label, need = cli_number(options, "need", 0) %||% 1)
  cli_put(rows, options, "bar")
}

regroup_values <- function(x, to, options, read) {
  to <- check_frequency(to)
  now <- unique(parts_of(x, "UTC")$frequency)
  rank <- c(D = 1, W = 2, M = 3, Q = 4, T = 5, S = 6, A = 7)
  if (all(rank[now] <= rank[to])) series_condense(x, to, options$rule %||% "mean", need = cli_number(options, "need", 0) %||% 0, calendar = read$calendar,
    zone = read$zone) else series_refine(x, to, options$rule %||% "last")
}
