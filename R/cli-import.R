cli_import <- function(arguments) {
  options <- cli_arguments(arguments, "import", "FILE",
    c(list(
      cli_option("symbol", "the symbol, for a file without a column of that name",
        metavar = "SYMBOL"),
      cli_option("interval", "length of the bars, as \"1 day\"", metavar = "LENGTH"),
      cli_option("source", "the name to keep them under [own]", default = "own", metavar = "NAME"),
      cli_option("columns", "the file's names for columns, as time=When,close=Last",
        metavar = "PAIRS"),
      cli_option("time-as",
        paste0("how times are written: rfc3339 (days too), epoch-s, epoch-ms, epoch-us, epoch-ns ",
          "[rfc3339]"), default = "rfc3339", metavar = "FORM"),
      cli_option("zone", "zone of days and local times [UTC]", default = "UTC", metavar = "ZONE"),
      cli_option("calendar", "a calendar: days then stand for its opening", metavar = "NAME")
    ), cli_place_options(), cli_json_option()),
    "vetusta import keld.csv --symbol KELD --interval \"1 day\" --archive my.sqlite", least = 1,
    most = 1)
  columns <- NULL
  if (!is.null(options$columns)) {
    pairs <- strsplit(strsplit(options$columns, ",", fixed = TRUE)[[1]], "=", fixed = TRUE)
    if (any(lengths(pairs) != 2)) cli_usage_error("--columns must look like time=When,close=Last")
    columns <- stats::setNames(vapply(pairs, `[`, "", 2), vapply(pairs, `[`, "", 1))
  }
  cli_needs(options, "interval")
  calendar <- if (!is.null(options$calendar)) source_calendar(options$calendar)
  archive <- cli_archive(options, create = TRUE)
  result <- archive_import(archive, options$words, symbol = options$symbol,
    interval = options$interval, source = options$source, columns = columns,
    time_as = options$time_as, zone = options$zone, calendar = calendar)
  if (options$json) cli_print_json(unclass(result)) else print(result)
  if (nrow(result$rejected)) 1L else 0L
}
