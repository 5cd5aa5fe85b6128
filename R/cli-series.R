# What the commands on series share: where the series come from (the archive, a file, standard input), and where the result goes.

cli_series_options <- function() {
  list(
    cli_option("input", "a CSV or Parquet file instead of the archive, - for standard input; several with commas between", metavar = "FILES"),
    cli_option("columns", "the file's names for columns, as time=When,value=Level", metavar = "PAIRS"),
    cli_option("time-as", "how the file writes times: rfc3339 (days too), epoch-s, epoch-ms, epoch-us, epoch-ns [rfc3339]", default = "rfc3339", metavar = "FORM"),
    cli_option("symbol", "the symbol of a file of bars that does not name it", metavar = "SYMBOL"),
    cli_option("interval", "length of the archived bars, as \"1 minute\"", metavar = "LENGTH"),
    cli_option("offer", "rows of this offer of --source, instead of bars", metavar = "NAME"),
    cli_option("dataset", "observations of this dataset of --source, instead of bars; words are then DIMENSION=CODES", metavar = "ID"),
    cli_option("source", "the source, where several have the symbol", metavar = "NAME"),
    cli_option("value", "the number of bars that is meant [close]", metavar = "COLUMN"),
    cli_option("zone", "zone of days and local times; by default the calendar's, else UTC", metavar = "ZONE"),
    cli_option("calendar", "a calendar's name or file; by default that of the series' source", metavar = "NAME")
  )
}

cli_result_options <- function() {
  c(list(cli_option("file", "where to write the result: .csv or .parquet; by default standard output", metavar = "FILE")), cli_json_option())
}

# list(tables, calendar, zone): bars, observations or points, as the words and options name them.
cli_series <- function(options) {
  given <- if (!is.null(options$calendar)) source_calendar(options$calendar)
  if (!is.null(options$input)) {
    zone <- options$zone %||% given$zone %||% "UTC"
    tables <- lapply(strsplit(options$input, ",", fixed = TRUE)[[1]], read_series_file, options = options, zone = zone, calendar = given)
    tables <- lapply(tables, cli_window, options = options, zone = zone)
    return(list(tables = lapply(tables, cli_named, words = options$words), calendar = given, zone = zone))
  }
  archive <- cli_archive(options)
  if (!is.null(options$offer)) {
    rows <- archive_rows(archive, cli_needs(options, "source"), options$offer)
    zone <- options$zone %||% given$zone %||% "UTC"
    return(list(tables = list(cli_named(cli_window(rows, options, zone), options$words)), calendar = given, zone = zone))
  }
  if (!is.null(options$dataset)) {
    rows <- archive_observations(archive, cli_needs(options, "source"), options$dataset, from = options$from, to = options$to, keys = cli_pairs(options$words, split = FALSE))
    return(list(tables = list(rows), calendar = given, zone = options$zone %||% given$zone %||% "UTC"))
  }
  interval <- cli_needs(options, "interval")
  options$words <- cli_symbols(options$words)
  calendar <- given %||% cli_calendar(options, archive, options$words, interval)
  zone <- options$zone %||% calendar$zone %||% "UTC"
  bars <- archive_bars(archive, if (length(options$words)) options$words, interval, from = options$from, to = options$to, source = options$source, zone = zone)
  session <- if (is.null(options$session) || options$session == "all") NULL else options$session
  if (!is.null(session) && !all(is.na(bars$session))) bars <- bars[bars$session %in% session, ]
  list(tables = list(bars), calendar = calendar, zone = zone, interval = interval)
}

# The series that the words name, all where there are none.
cli_named <- function(x, words) {
  if (!length(words)) {
    return(x)
  }
  names <- as.character(x[["series"]] %||% x[["symbol"]])
  for (word in words) check_choice(word, "series", unique(names))
  x[names %in% words, ]
}

cli_window <- function(x, options, zone) {
  time <- if (!is.null(x[["period"]])) as.numeric(read_periods(x$period, nrow(x))$first) * 86400 else as.numeric(x$time)
  zone <- if (is.null(x[["period"]])) zone else "UTC"
  if (!is.null(options$from)) x <- x[time >= as.numeric(time_instant(options$from, zone, name = "from")), ]
  time <- if (!is.null(x[["period"]])) as.numeric(read_periods(x$period, nrow(x))$first) * 86400 else as.numeric(x$time)
  if (!is.null(options$to)) x <- x[time < as.numeric(time_instant(options$to, zone, end = TRUE, name = "to")), ]
  x
}

# A file of bars, observations or values: by its columns. One with a time and several numbers is taken as a series a column.
read_series_file <- function(file, options, zone, calendar) {
  raw <- read_any_table(file)
  raw <- rename_columns(raw, options$columns, file)
  lower <- tolower(names(raw))
  known <- c("symbol", "series", "time", "period", "open", "high", "low", "close", "volume", "value", "frequency", "unit", "status", "released", "session", "side", "date")
  names(raw) <- ifelse(lower %in% known & !lower %in% names(raw)[lower != names(raw)], lower, names(raw))
  if (!any(c("time", "period") %in% names(raw))) names(raw)[names(raw) == "date"] <- "time"
  if (!is.null(options$symbol)) raw$symbol <- options$symbol
  name <- if (file == "-") "series" else tools::file_path_sans_ext(basename(file))
  if (all(c("time", "close") %in% names(raw))) {
    raw$symbol <- raw[["symbol"]] %||% rep(name, nrow(raw))
  } else {
    if ("symbol" %in% names(raw) && !"series" %in% names(raw)) names(raw)[names(raw) == "symbol"] <- "series"
    raw <- wide_to_tidy(raw, name)
  }
  raw <- numbers_of(raw, file)
  if (!is.null(raw[["time"]])) raw$time <- read_file_times(raw$time, options$time_as, zone, calendar, file)
  if (!is.null(raw[["released"]])) raw$released <- read_released(raw$released, nrow(raw))
  kind <- tryCatch(series_kind(raw), vetusta_error_shape = function(e) vetusta_stop("import", "The file is neither bars nor series.", where = paste0(file, ": ",
    paste(names(raw), collapse = ", ")),
    todo = "name its columns with --columns, as time=When,value=Level"))
  switch(kind, bars = bars_frame(raw), observations = series_frame(raw), points = as_rows(raw))
}

read_any_table <- function(file) {
  if (file == "-") {
    path <- tempfile()
    on.exit(unlink(path))
    input <- file("stdin", "rb")
    writeBin(readBin(input, "raw", 2e9), path)
    close(input)
  } else {
    if (!file.exists(file) || dir.exists(file)) vetusta_stop("import", "There is no such file.", where = file, todo = "look at the path")
    path <- file
  }
  if (file.size(path) == 0) vetusta_stop("import", "The file is empty.", where = file, todo = "look at what wrote it")
  if (identical(readBin(path, "raw", 4), charToRaw("PAR1"))) {
    return(tryCatch(as.data.frame(nanoparquet::read_parquet(path)), error = function(e) {
      vetusta_stop("import", "The Parquet file is damaged.", where = file, todo = "look at what wrote it, or fetch it again")
    }))
  }
  check_plain_text(path)
  rows <- tryCatch(suppressWarnings(data.table::fread(file = path, data.table = FALSE, na.strings = table_absent, colClasses = "character", showProgress = FALSE,
    strip.white = TRUE)), error = function(e) NULL)
  if (is.null(rows) || ncol(rows) < 2) vetusta_stop("import", "The file is no table.", where = file, todo = "give a CSV with a line of names, or a Parquet file")
  plain_texts(rows, file)
}

rename_columns <- function(raw, columns, file) {
  if (is.null(columns)) {
    return(raw)
  }
  pairs <- strsplit(strsplit(columns, ",", fixed = TRUE)[[1]], "=", fixed = TRUE)
  if (any(lengths(pairs) != 2)) cli_usage_error("--columns must look like time=When,value=Level")
  for (pair in pairs) {
    if (!pair[2] %in% names(raw)) vetusta_stop("import", paste0("The file has no column \"", pair[2], "\"."), where = file, todo = suggest_word(pair[2], names(raw)))
    names(raw)[names(raw) == pair[2]] <- pair[1]
  }
  raw
}

wide_to_tidy <- function(raw, name) {
  clock <- intersect(c("time", "period"), names(raw))
  if ("value" %in% names(raw) || length(clock) != 1) {
    raw$series <- raw[["series"]] %||% rep(name, nrow(raw))
    return(raw)
  }
  columns <- setdiff(names(raw), c(clock, "series"))
  list_frame(stats::setNames(list(rep(columns, each = nrow(raw)), rep(raw[[clock]], length(columns)), unlist(raw[columns], use.names = FALSE)), c("series", clock, "value")))
}

numbers_of <- function(raw, file) {
  for (column in intersect(c("open", "high", "low", "close", "volume", "value"), names(raw))) {
    if (is.numeric(raw[[column]])) next
    text <- as.character(raw[[column]])
    number <- read_number(text)
    bad <- which(is.na(number) & !is.na(text))
    if (length(bad)) vetusta_stop("import", paste0("\"", text[bad[1]], "\" is no number."), where = paste0(file, ", column ", column, ", row ", bad[1]),
      todo = "mend the file, or leave the value out")
    raw[[column]] <- number
  }
  # a further column is numbers where all of it is
  words <- c("open", "high", "low", "close", "volume", "value", "symbol", "series", "time", "period", "frequency", "unit", "status", "released", "session", "side", "rule")
  raw <- as.list(raw)
  for (i in which(vapply(raw, is.character, TRUE) & !names(raw) %in% words)) {
    number <- read_number(raw[[i]])
    if (any(!is.na(number)) && !any(is.na(number) & !is.na(raw[[i]]))) raw[[i]] <- number
  }
  list_frame(raw)
}

read_file_times <- function(time, as, zone, calendar, file) {
  if (inherits(time, "POSIXct")) {
    return(utc(time))
  }
  if (inherits(time, "Date")) {
    return(day_times(time, zone, calendar))
  }
  check_choice(as, "time-as", c("rfc3339", "epoch-s", "epoch-ms", "epoch-us", "epoch-ns"))
  read <- if (as == "rfc3339") second_passes(text_times(as.character(time), zone, calendar), zone) else read_column(time, as, zone)$value
  bad <- which(is.na(read))
  if (length(bad)) vetusta_stop("import", paste0("\"", time[bad[1]], "\" is no time."), where = paste0(file, ", row ", bad[1]),
    todo = "write it as 2026-03-12 or 2026-03-12T09:30:00Z, or say --time-as")
  read
}

# A file, JSON, a table of a screenful on a terminal, or CSV.
cli_put <- function(rows, options, what = "row") {
  if (!is.null(options$file)) {
    export_table(rows, options$file)
    return(cli_say("wrote ", options$file, ": ", counted(nrow(rows), what)))
  }
  if (options$json) {
    return(cli_print_json(as.data.frame(rows)))
  }
  if (!isatty(stdout())) {
    return(export_csv(rows, ""))
  }
  shown <- as.data.frame(utils::head(rows, 40))
  empty <- vapply(shown, function(column) all(is.na(column)), TRUE)
  cat(text_table(shown[!empty], cli_width()), sep = "\n")
  if (nrow(rows) > 40) cli_say("and ", counted(nrow(rows) - 40, what), " more; --file writes them all")
}

cli_number <- function(options, name, least = -Inf) {
  if (is.null(options[[name]])) {
    return(NULL)
  }
  value <- suppressWarnings(as.numeric(options[[name]]))
  if (length(value) != 1 || is.na(value) || value < least) cli_usage_error("--", gsub("_", "-", name), " must be a number", if (is.finite(least)) paste0(", ", least, " or more"))
  value
}

cli_list_of <- function(text) if (is.null(text)) NULL else strsplit(text, ",", fixed = TRUE)[[1]]

# "last", or "KELD=exact,level=last"
cli_by_series <- function(text) {
  parts <- cli_list_of(text)
  if (is.null(parts) || !any(grepl("=", parts))) {
    return(text)
  }
  pairs <- strsplit(parts, "=", fixed = TRUE)
  if (any(lengths(pairs) != 2)) cli_usage_error("\"", text, "\" must be one word, or name=word pairs with commas between")
  stats::setNames(vapply(pairs, `[`, "", 2), vapply(pairs, `[`, "", 1))
}

cli_one_table <- function(read) {
  if (length(read$tables) != 1) cli_usage_error("it takes one --input")
  if (!nrow(read$tables[[1]])) vetusta_stop("want", "There are no rows in this window.", todo = "look at --from and --to, and at `vetusta list`")
  read$tables[[1]]
}
