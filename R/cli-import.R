cli_import <- function(arguments) {
  options <- cli_arguments(arguments, "import", "FILE",
    c(list(
      cli_option("shape", paste0("what the rows are: bars, observations, facts, instruments, ",
        paste0("places, documents, snapshot, table; without --shape and --interval the shape is ",
          "guessed and nothing "),
        "stored"), metavar = "SHAPE"),
      cli_option("symbol"),
      cli_option("interval"),
      cli_option("source", "the archive's name for this source [own]", default = "own",
        metavar = "NAME"),
      cli_option("dataset", "rows that are no bars: the dataset's name [the file's]",
        metavar = "NAME"),
      cli_option("map"),
      cli_option("unit", "; of columns as value=cm,flow=m3/s"),
      cli_option("types", paste0("types of further columns, as cusip=text,lots=number: text, ",
        "number, whole number, flag, day, instant"), metavar = "PAIRS"),
      cli_form_option("long"),
      cli_option("time-as", "[rfc3339]", default = "rfc3339"),
      cli_option("zone", "[UTC]", default = "UTC"),
      cli_option("calendar", "; days then stand for its opening")
    ), cli_place_options(), cli_json_option()),
    c("vetusta import keld.csv --symbol KELD --interval \"1 day\" --archive my.sqlite",
      "vetusta import levels.xlsx", paste0("vetusta import levels.xlsx --shape observations ",
        "--columns period=Day,value=Level --dataset levels")), least = 1, most = 1)
  columns <- cli_by_name(options$map, "map", "time=When,close=Last")
  shape <- options$shape %||% if (!is.null(options$interval)) "bars"
  if (is.null(shape)) {
    return(cli_import_guessed(options))
  }
  check_choice(shape, "--shape", setdiff(names(shape_columns), "datasets"))
  result <- if (gives_bars_shape(shape)) {
    cli_import_bars(options, columns)
  } else {
    for (name in c("symbol", "interval", "calendar")) {
      if (!is.null(options[[name]])) cli_usage_error("--", name, " is for bars")
    }
    archive_import_rows(cli_archive(options, create = TRUE), options$words, shape, options$dataset,
      options$source, columns, options$form == "wide", cli_import_units(options),
      cli_import_types(options))
  }
  if (options$json) cli_print_json(unclass(result)) else print(result)
  if (nrow(result$rejected)) 1L else 0L
}

gives_bars_shape <- function(shape) identical(shape_columns[[shape]], shape_columns$bars)

# Words by name, as in a=b,c=d.
cli_by_name <- function(text, option, example) {
  if (is.null(text)) {
    return(NULL)
  }
  pairs <- strsplit(strsplit(text, ",", fixed = TRUE)[[1]], "=", fixed = TRUE)
  if (any(lengths(pairs) != 2)) cli_usage_error("--", option, " must look like ", example)
  stats::setNames(vapply(pairs, `[`, "", 2), vapply(pairs, `[`, "", 1))
}

cli_import_types <- function(options) {
  cli_by_name(options$types, "types", "cusip=text,day=day")
}

cli_import_bars <- function(options, columns) {
  cli_needs(options, "interval")
  if (options$form == "wide" || !is.null(options$dataset)) {
    cli_usage_error("--form wide and --dataset are for rows that are no bars")
  }
  calendar <- if (!is.null(options$calendar)) source_calendar(options$calendar)
  archive_import(cli_archive(options, create = TRUE), options$words, symbol = options$symbol,
    interval = options$interval, source = options$source, columns = columns,
    time_as = options$time_as, zone = options$zone, calendar = calendar,
    unit = cli_import_units(options), types = cli_import_types(options))
}

# One unit, or units by column.
cli_import_units <- function(options) {
  if (is.null(options$unit) || !grepl("=", options$unit, fixed = TRUE)) {
    return(options$unit)
  }
  cli_by_name(options$unit, "unit", "cm, or value=cm,flow=m3/s")
}

# What the file seems to be, and the command that would store it so.
cli_import_guessed <- function(options) {
  guess <- archive_import_guess(options$words)
  if (options$json) {
    return(cli_print_json(list(shape = guess$shape, columns = as.list(guess$columns),
      interval = guess$interval, wide = guess$wide, rows = guess$rows)))
  }
  cat(format_guess(guess), sep = "\n")
  bars <- gives_bars_shape(guess$shape)
  columns <- guess$columns
  words <- c(if (bars) c("--interval", shQuote(guess$interval %||% "LENGTH"))
  else c("--shape", guess$shape), if (guess$wide) c("--form", "wide"),
    if (length(columns)) c("--map", shQuote(paste0(names(columns), "=", columns,
      collapse = ","))),
      if (bars && !any(c("symbol") %in% c(names(columns), tolower(names(guess$kinds)))))
      "--symbol SYMBOL",
    if (!is.null(options$archive)) c("--archive", shQuote(options$archive)))
  cli_say("\nnothing is stored yet; if that is right:\n  vetusta import ", shQuote(options$words),
    " ",
    paste(words, collapse = " "))
}
