cli_align <- function(arguments) {
  options <- cli_arguments(arguments, "align", "[SYMBOL...|SERIES...]",
    c(list(
      cli_option("with", "further CSV or Parquet files to align with, with commas between", metavar = "FILES"),
      cli_option("grid", "the times: union, intersection, a series' name, or a length such as \"1 day\" by the calendar [union]", default = "union", metavar = "GRID"),
      cli_option("rule", "last, exact, mean, sum, or linear with --own-time; one, or NAME=RULE pairs [last]", default = "last", metavar = "RULE"),
      cli_option("lag", "how long after its end a value is known, as \"45 days\"; one, or NAME=LENGTH pairs", metavar = "LENGTH"),
      cli_option("oldest", "the greatest age at which a value counts, as \"90 days\"; one, or NAME=LENGTH pairs", metavar = "LENGTH"),
      cli_option("ages", "give the age of every value too, in days", flag = TRUE),
      cli_option("tidy", "a row a time and series, instead of a column a series", flag = TRUE),
      cli_option("own-time", "let values count from their own time, which looks ahead", flag = TRUE),
      cli_option("session", "regular, early, late, or all [regular]", default = "regular", metavar = "NAME")
    ), cli_series_options(), cli_window_options(), cli_place_options(), cli_result_options()),
    c("vetusta align KELD TAMX --interval \"1 day\" --with traffic.csv --grid KELD --ages", "vetusta align --input prices.csv,harvest.csv --lag \"45 days\" --file grid.csv"))
  read <- cli_series(options)
  more <- if (!is.null(options$with)) lapply(cli_list_of(options$with), read_series_file, options = options[c("time_as")], zone = read$zone, calendar = read$calendar)
  names <- unique(unlist(lapply(c(read$tables, more), function(x) as.character(x[["series"]] %||% x[["symbol"]]))))
  grid <- cli_grid(options, read, names, c(read$tables, more))
  rows <- do.call(series_align, c(read$tables, more, list(grid = grid, rule = cli_by_series(options$rule), as_of = !options$own_time, lag = cli_by_series(options$lag),
    oldest = cli_by_series(options$oldest), ages = options$ages, form = if (options$tidy) "tidy" else "wide", value = options$value, interval = read$interval, zone = read$zone,
      calendar = read$calendar)))
  cli_put(rows, options)
}

cli_grid <- function(options, read, names, tables) {
  if (options$grid %in% c("union", "intersection", names)) {
    return(options$grid)
  }
  length <- tryCatch(time_interval(options$grid), vetusta_error_want = function(e) cli_usage_error("--grid \"", options$grid,
    "\" is no series and no length of time; ", suggest_word(options$grid, c("union", "intersection", names))))
  points <- do.call(rbind, lapply(tables, function(x) series_points(x, interval = if (series_kind(x) == "bars") read$interval, zone = read$zone, calendar = read$calendar)[c("time", "known")]))
  list(calendar = read$calendar %||% day_calendar(read$zone), interval = length, from = options$from %||% utc(min(points$time)), to = options$to %||% utc(max(points$known) + 1),
    session = if (is.null(read$calendar)) NULL else main_session(read$calendar))
}
