# Series from a local file: a wide or a tidy table.

# Bars, observations or values from a file, by its columns. A file with a time
# and several numbers has one series a column. What the file says of itself
# holds where no option says otherwise; `zone` is that of a file without one.
read_series_file <- function(file, options, zone = NULL, calendar = NULL) {
  about <- if (file != "-") about_import(file)
  if (!is.null(about$zone)) check_zone(about$zone, "import")
  calendar <- calendar %||% about$calendar
  zone <- options$zone %||% about$zone %||% zone %||% calendar$zone %||% "UTC"
  say_calendar_unknown(about, calendar, file)
  raw <- read_any_table(file)
  texts <- c(
    attr(raw, "quoted"), names(about$types)[about$types == "text"]
  )
  renamed <- rename_columns(raw, options$map, file)
  texts <- names(renamed)[names(raw) %in% texts]
  raw <- renamed
  lower <- tolower(names(raw))
  known <- c(
    "symbol", "series", "time", "period", "open", "high", "low", "close",
    "volume", "value", "frequency", "unit", "status", "known", "session",
    "side", "date"
  )
  names(
    raw
  ) <- ifelse(
    lower %in% known & !lower %in% names(raw)[lower != names(raw)], lower,
    names(raw)
  )
  if (!any(c("time", "period") %in% names(raw))) {
    names(raw)[names(raw) == "date"] <- "time"
  }
  if (!is.null(options$symbol)) raw$symbol <- options$symbol
  name <- if (file == "-") {
    "series"
  } else {
    tools::file_path_sans_ext(basename(file))
  }
  if (all(c("time", "close") %in% names(raw))) {
    raw$symbol <- raw[["symbol"]] %||% rep(name, nrow(raw))
  } else {
    if ("symbol" %in% names(raw) && !"series" %in% names(raw)) {
      names(raw)[names(raw) == "symbol"] <- "series"
    }
    raw <- wide_to_tidy(raw, name)
  }
  raw <- about_typed(about, numbers_of(raw, file, texts), file_words)
  if (!is.null(raw[["time"]])) {
    raw$time <- read_file_times(raw$time, options$time_as, zone, calendar, file)
  }
  if (!is.null(raw[["known"]])) raw$known <- read_known(raw$known, nrow(raw))
  raw <- tryCatch(as_series(raw), vetusta_error_shape = function(e) {
    vetusta_stop(
      "import",
      "The file is neither bars nor series.",
      where = paste0(file, ": ", paste(names(raw), collapse = ", ")),
      todo = "name its columns with --map, as time=When,value=Level"
    )
  })
  raw <- series_table(raw)
  facts <- list(
    interval = if (is_bars(raw) && length(about$interval)) {
      time_interval(about$interval)
    },
    zone = if (!is.null(about)) zone, calendar = about$calendar,
    delay = if (length(about$delay)) time_interval(about$delay, "delay"),
    unit = about$unit, title = about$titles, source = about$source,
    licence = about$licence
  )
  raw <- with_facts(raw, facts[lengths(facts) > 0])
  # units of the columns of a wide file are those of its series
  wide <- intersect(names(about$unit), unique(series_names_of(raw)))
  if (length(wide)) with_series_units(raw, about$unit) else raw
}

read_any_table <- function(file) {
  if (file == "-") {
    path <- tempfile()
    on.exit(unlink(path))
    input <- file("stdin", "rb")
    writeBin(readBin(input, "raw", 2e9), path)
    close(input)
  } else {
    if (!file.exists(file) || dir.exists(file)) {
      vetusta_stop(
        "import", "There is no such file.",
        where = file,
        todo = "check the path"
      )
    }
    path <- file
  }
  if (file.size(path) == 0) {
    vetusta_stop(
      "import", "The file is empty.",
      where = file,
      todo = "check the program that wrote it"
    )
  }
  ending <- tolower(tools::file_ext(file))
  if (ending %in% c("xlsx", "jsonl")) {
    return(marked_texts(import_readers[[ending]](path)))
  }
  if (identical(readBin(path, "raw", 4), charToRaw("PAR1"))) {
    return(
      tryCatch(
        marked_texts(
          list_frame(parquet_instants(nanoparquet::read_parquet(path), FALSE))
        ),
        error = function(e) {
          vetusta_stop(
            "import", "The Parquet file is damaged.",
            where = file,
            todo = "write or download it again"
          )
        }
      )
    )
  }
  quoted <- character()
  rows <- read_table_file(
    path,
    function(rows, line) {
      quoted <<- union(quoted, attr(rows, "quoted"))
      rows
    },
    absent = import_absent, where = file
  )
  rows <- list_frame(as.list(data.table::rbindlist(rows, use.names = TRUE)))
  attr(rows, "quoted") <- quoted
  if (ncol(rows) < 2) {
    vetusta_stop(
      "import", "The file is not a table.",
      where = file,
      todo = "give a CSV with a line of names, or a Parquet file"
    )
  }
  rows
}

rename_columns <- function(raw, columns, file) {
  if (is.null(columns)) {
    return(raw)
  }
  pairs <- strsplit(
    strsplit(columns, ",", fixed = TRUE)[[1]], "=",
    fixed = TRUE
  )
  if (any(lengths(pairs) != 2)) {
    cli_usage_error("--columns must look like time=When,value=Level")
  }
  for (pair in pairs) {
    if (!pair[2] %in% names(raw)) {
      vetusta_stop(
        "import",
        paste0("The file has no column \"", pair[2], "\"."),
        where = file,
        todo = suggest_word(pair[2], names(raw))
      )
    }
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
  list_frame(
    stats::setNames(
      list(
        rep(columns, each = nrow(raw)), rep(raw[[clock]], length(columns)),
        unlist(raw[columns], use.names = FALSE)
      ),
      c("series", clock, "value")
    )
  )
}

# Columns with a meaning of their own.
file_words <- c(
  "open", "high", "low", "close", "volume", "value", "symbol", "series",
  "time", "period", "frequency", "unit", "status", "known", "session", "side",
  "rule"
)

# Columns of numbers: those of the shape, and others of which every value reads
# back as it is written, except those in `texts`.
numbers_of <- function(raw, file, texts = character()) {
  for (column in intersect(
    c("open", "high", "low", "close", "volume", "value"), names(raw)
  )) {
    if (is.numeric(raw[[column]])) next
    text <- as.character(raw[[column]])
    text[text %in% table_absent] <- NA
    number <- read_number(text)
    bad <- which(is.na(number) & !is.na(text))
    if (length(bad)) {
      vetusta_stop(
        "import",
        paste0("\"", text[bad[1]], "\" is not a number."),
        where = paste0(file, ", column ", column, ", row ", bad[1]),
        todo = "correct the file, or leave the value out"
      )
    }
    raw[[column]] <- number
  }
  raw <- as.list(raw)
  for (i in which(!names(raw) %in% c(file_words, texts))) {
    text <- raw[[i]]
    if (!is.character(text)) next
    text[text %in% table_absent] <- NA
    if (!all(is.na(text))) raw[[i]] <- texts_as$number(text) %||% raw[[i]]
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
  check_choice(
    as, "time-as", c("rfc3339", "epoch-s", "epoch-ms", "epoch-us", "epoch-ns")
  )
  read <- if (as == "rfc3339") {
    second_passes(text_times(as.character(time), zone, calendar), zone)
  } else {
    read_column(time, as, zone)$value
  }
  bad <- which(is.na(read))
  if (length(bad)) {
    vetusta_stop(
      "import",
      paste0("\"", time[bad[1]], "\" is not a time."),
      where = paste0(file, ", row ", bad[1]),
      todo = "write it as 2026-03-12 or 2026-03-12T09:30:00Z, or use --time-as"
    )
  }
  read
}
