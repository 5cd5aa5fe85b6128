cli_change <- function(arguments) {
  options <- cli_arguments(arguments, "change", "[SYMBOL...|SERIES...]",
    c(list(
      cli_option("change", "simple, log, difference, index, mean, sum, sd, min, max, cumulative, drawdown [simple]", default = "simple", metavar = "WORD"),
      cli_option("over", "from the value so much earlier, as \"1 year\", instead of the one before", metavar = "LENGTH"),
      cli_option("or-before", "with --over: how much older that value may be, as \"7 days\" over weekends", metavar = "LENGTH"),
      cli_option("window", "windows: their length in time, as \"30 days\"", metavar = "LENGTH"),
      cli_option("least", "windows: how many values there must be in one [1]", metavar = "N"),
      cli_option("base", "index: the day whose value is 100; by default the first", metavar = "DAY"),
      cli_option("rates", "convert by the rates in this CSV or Parquet file of one series, before anything else", metavar = "FILE"),
      cli_option("correlation", "the correlation of the changes, for every pair of series", flag = TRUE),
      cli_option("session", "regular, early, late, or all [regular]", default = "regular", metavar = "NAME")
    ), cli_series_options(), cli_window_options(), cli_place_options(), cli_result_options()),
    c("vetusta change KELD TAMX --interval \"1 day\" --change log", "vetusta change --input level.csv --change mean --window \"30 days\"",
      "vetusta change KELD TAMX BROM --interval \"1 day\" --change log --correlation"))
  read <- cli_series(options)
  tables <- read$tables
  if (!is.null(options$rates)) {
    rates <- read_series_file(options$rates, options["time_as"], read$zone, read$calendar)
    tables <- lapply(tables, function(x) series_convert(x, rates, value = options$value, interval = read$interval, zone = read$zone, calendar = read$calendar)[c("series", "time", "value",
      "released")])
  }
  if (options$correlation) {
    return(cli_put(do.call(series_correlation, c(tables, list(change = options$change, value = options$value, interval = read$interval, zone = read$zone))), options))
  }
  read$tables <- tables
  x <- cli_one_table(read)
  cli_put(series_change(x, options$change, over = options$over, window = options$window, least = cli_number(options, "least", 1) %||% 1, base = options$base,
    value = if (series_kind(x) == "bars") options$value, interval = read$interval, zone = read$zone, calendar = read$calendar, or_before = options$or_before), options)
}
