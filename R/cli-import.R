cli_import <- function(arguments) {
  options <- cli_arguments(
    arguments, "import", "FILE...",
    c(
      list(
        cli_option(
          "shape",
          paste0(
            "what the rows are: bars, observations, facts, instruments, ",
            paste0(
              "places, documents, snapshot, table; without --shape and ",
              "--interval the shape is ", "guessed and nothing "
            ),
            "stored"
          ),
          metavar = "SHAPE"
        ),
        cli_option("symbol"),
        cli_option(
          "symbol-from", "the symbol is the name of the file, or of the sheet",
          metavar = "WORD"
        ),
        cli_option("interval"),
        cli_option(
          "source", "the archive's name for this source [files]",
          default = "files", metavar = "NAME"
        ),
        cli_option(
          "dataset", "rows that are no bars: the dataset's name [the file's]",
          metavar = "NAME"
        ),
        cli_option("map"),
        cli_option("unit", "; of columns as value=cm,flow=m3/s"),
        cli_option(
          "types",
          paste0(
            "types of further columns, as cusip=text,lots=number: text, ",
            "number, whole number, flag, day, instant"
          ),
          metavar = "PAIRS"
        ),
        cli_form_option("long"),
        cli_option("time-as", "[rfc3339]", default = "rfc3339"),
        cli_option("zone", "[UTC]"),
        cli_option("calendar", "; days then stand for its opening")
      ),
      cli_form_options(),
      list(
        cli_option(
          "card", "a file that states all of this, for files of one kind"
        ),
        cli_option(
          "save-card", "write such a file, for the next import",
          metavar = "CARD"
        )
      ),
      cli_place_options(), cli_json_option()
    ),
    c(
      paste0(
        "vetusta import keld.csv --symbol KELD --interval \"1 day\" ",
        "--archive my.sqlite"
      ),
      "vetusta import levels.xlsx",
      paste0(
        "vetusta import levels.xlsx --shape observations ",
        "--map period=Day,value=Level --dataset levels"
      ),
      paste0(
        "vetusta import march.csv --interval \"1 day\" --dates dmy ",
        "--save-card broker.yml"
      ),
      "vetusta import april.csv may.csv --card broker.yml"
    ),
    least = 1, most = Inf
  )
  if (cli_imports_many(options)) {
    return(cli_import_many(options))
  }
  form <- cli_import_form(options)
  columns <- cli_by_name(options$map, "map", "time=When,close=Last")
  options <- cli_import_about(options)
  shape <- options$shape %||% if (!is.null(options$interval)) "bars"
  if (is.null(shape)) {
    return(cli_import_guessed(options, form))
  }
  check_choice(shape, "--shape", setdiff(names(shape_columns), "datasets"))
  options <- cli_import_doubts(form, options)
  form <- cli_import_form(options)
  cli_import_stored(options, shape, columns, form)
}

cli_import_stored <- function(options, shape, columns, form) {
  result <- if (gives_bars_shape(shape)) {
    cli_import_bars(options, columns, form)
  } else {
    for (name in c("symbol", "interval", "calendar")) {
      if (!is.null(options[[name]])) cli_usage_error("--", name, " is for bars")
    }
    archive_import_rows(
      cli_archive(options, create = TRUE), options$words, shape,
      options$dataset, options$source, columns, options$form == "wide",
      cli_import_units(options), cli_import_types(options), form
    )
  }
  if (options$json) cli_print_json(unclass(result)) else print(result)
  if (nrow(result$rejected)) 1L else 0L
}

gives_bars_shape <- function(shape) {
  identical(shape_columns[[shape]], shape_columns$bars)
}

# Values by name, as in a=b,c=d.
cli_by_name <- function(text, option, example) {
  if (is.null(text)) {
    return(NULL)
  }
  pairs <- strsplit(strsplit(text, ",", fixed = TRUE)[[1]], "=", fixed = TRUE)
  if (any(lengths(pairs) != 2)) {
    cli_usage_error("--", option, " must look like ", example)
  }
  stats::setNames(vapply(pairs, `[`, "", 2), vapply(pairs, `[`, "", 1))
}

cli_import_types <- function(options) {
  cli_by_name(options$types, "types", "cusip=text,day=day")
}

cli_import_bars <- function(options, columns, form) {
  cli_needs(options, "interval")
  if (options$form == "wide" || !is.null(options$dataset)) {
    cli_usage_error("--form wide and --dataset are for rows that are no bars")
  }
  calendar <- if (!is.null(options$calendar)) source_calendar(options$calendar)
  archive_import(
    cli_archive(options, create = TRUE),
    options$words,
    symbol = options$symbol,
    interval = options$interval,
    source = options$source,
    columns = columns,
    time_as = options$time_as,
    zone = options$zone,
    calendar = calendar,
    unit = cli_import_units(options),
    types = cli_import_types(options),
    form = form
  )
}

# A file that says what it is needs no shape or interval.
cli_import_about <- function(options) {
  given <- c(options$shape, options$interval, options$map)
  if (length(given) || options$form == "wide" ||
    !isTRUE(file.exists(options$words[1]))) {
    return(options)
  }
  about <- about_import(options$words[1])
  if (all(c("symbol", "time", "close") %in% about$columns)) {
    options$interval <- about$interval
  } else if (all(c("series", "period", "value") %in% about$columns)) {
    options$shape <- "observations"
  }
  options
}

# One unit, or units by column.
cli_import_units <- function(options) {
  if (is.null(options$unit) || !grepl("=", options$unit, fixed = TRUE)) {
    return(options$unit)
  }
  cli_by_name(options$unit, "unit", "cm, or value=cm,flow=m3/s")
}

# The guessed shape of the file. It is stored with --yes, or after a question on
# a terminal; elsewhere the command that would store it is shown.
cli_import_guessed <- function(options, form) {
  guess <- archive_import_guess(options$words, form)
  if (options$json) {
    return(
      cli_print_json(
        list(
          shape = guess$shape,
          columns = as.list(guess$columns),
          interval = guess$interval,
          wide = guess$wide,
          rows = guess$rows
        )
      )
    )
  }
  cat(
    c(format_guess(guess), if (!is.null(form)) c("", format_import_form(form))),
    sep = "\n"
  )
  asks <- cli_can_ask()
  if (!options$yes && !asks) {
    return(cli_import_command(options, guess, form))
  }
  if (asks && !options$yes) cli_say("")
  options <- cli_import_doubts(form, options)
  form <- cli_import_form(options)
  if (gives_bars_shape(guess$shape)) {
    if (is.null(guess$interval)) {
      guess$interval <- cli_import_answer(
        options, "interval", "the interval of the bars", "1 day"
      )
    }
    if (guess_needs_symbol(guess)) {
      options$symbol <- cli_import_answer(
        options, "symbol", "the symbol of the rows",
        toupper(import_name(options$words))
      )
    }
    options$interval <- guess$interval
  }
  columns <- c(cli_by_name(options$map, "map", "time=When"), guess$columns)
  columns <- columns[!duplicated(names(columns))]
  options$form <- if (guess$wide) "wide" else options$form
  right <- options$yes ||
    tolower(cli_question("store the rows as shown?", "y")) %in% c("y", "yes")
  if (!right) {
    cli_say("nothing was stored")
    return(0L)
  }
  cli_import_stored(options, guess$shape, columns, form)
}

guess_needs_symbol <- function(guess) {
  names <- c(names(guess$columns), tolower(names(guess$kinds)))
  !any(c("symbol", bars_other_names$symbol) %in% names)
}

# The value of an option, or the answer of a terminal.
cli_import_answer <- function(options, name, question, usual) {
  if (!is.null(options[[name]])) {
    return(options[[name]])
  }
  if (options$yes) cli_usage_error("--yes also needs --", name)
  cli_question(question, usual)
}

cli_import_command <- function(options, guess, form) {
  bars <- gives_bars_shape(guess$shape)
  columns <- guess$columns
  words <- c(
    if (bars) {
      c("--interval", shQuote(guess$interval %||% "LENGTH"))
    } else {
      c("--shape", guess$shape)
    },
    if (guess$wide) c("--form", "wide"),
    if (length(columns)) {
      c("--map", shQuote(paste0(names(columns), "=", columns, collapse = ",")))
    },
    if (bars && is.null(options$symbol) && guess_needs_symbol(guess)) {
      "--symbol SYMBOL"
    },
    if (!is.null(options$symbol)) c("--symbol", shQuote(options$symbol)),
    cli_form_words(options), if (length(form$doubts)) "--yes",
    if (!is.null(options$archive)) c("--archive", shQuote(options$archive))
  )
  cli_say(
    "\nnothing is stored yet; if this is right, store it with:\n",
    "  vetusta import ", shQuote(options$words), " ",
    paste(words, collapse = " ")
  )
}

# Options for files that are no plain tables.
cli_form_options <- function() {
  list(
    cli_option("skip", "lines above the names of the columns", metavar = "N"),
    cli_option(
      "separator", "separator of the columns: , ; | or tab",
      metavar = "MARK"
    ),
    cli_option("decimal", "decimal mark: . or ,", metavar = "MARK"),
    cli_option(
      "thousands", "mark between thousands: , . ' or none",
      metavar = "MARK"
    ),
    cli_option("dates", "order of dates: ymd, dmy or mdy", metavar = "ORDER"),
    cli_option(
      "encoding", "UTF-8, latin1, UTF-16LE or UTF-16BE",
      metavar = "NAME"
    ),
    cli_option(
      "missing", "texts that stand for a missing value, with commas",
      metavar = "TEXTS"
    ),
    cli_option("sheet", "sheet of a workbook", metavar = "NAME"),
    cli_option("yes")
  )
}

cli_form_names <- c(
  "skip", "separator", "decimal", "thousands", "dates", "encoding", "missing",
  "sheet"
)

# The form of a CSV or a workbook; options that are not given are read from the
# file. NULL for other files and for a plain table.
cli_import_form <- function(options) {
  file <- options$words
  given <- options[
    intersect(cli_form_names, names(options)[lengths(options) > 0])
  ]
  readable <- file.exists(file) &&
    !dir.exists(file) &&
    grepl("[.](csv|tsv|txt|xlsx)$", file, ignore.case = TRUE)
  if (!readable) {
    if (length(given)) {
      cli_usage_error("--", names(given)[1], " is for CSV files and workbooks")
    }
    return(NULL)
  }
  if (!is.null(given$skip)) given$skip <- cli_number(options, "skip", 0)
  if (identical(given$separator, "tab")) given$separator <- "\t"
  if (identical(given$thousands, "none")) given$thousands <- ""
  if (!is.null(given$missing)) given$missing <- cli_list_of(given$missing)
  form <- do.call(archive_import_form, c(list(file), unclass(given)))
  plain <- !length(given) &&
    form$skip == 0 &&
    form$decimal == "." &&
    form$thousands == "" &&
    form$dates == "ymd" &&
    form$encoding == "UTF-8" &&
    !length(form$doubts) &&
    (is.null(form$separator) || form$separator %in% c(",", ";", "\t"))
  if (plain) NULL else form
}

cli_form_words <- function(options) {
  given <- intersect(cli_form_names, names(options)[lengths(options) > 0])
  unlist(
    lapply(
      given, function(name) c(paste0("--", name), shQuote(options[[name]]))
    )
  )
}

# Settles what the file leaves open, before anything is stored: by a question
# on a terminal, by the likelier reading with --yes.
cli_import_doubts <- function(form, options) {
  names <- unique(names(form$doubts))
  if (!length(names) || options$yes) {
    return(options)
  }
  if (!cli_can_ask()) {
    cli_usage_error(
      paste(form$doubts, collapse = "; "), "; give --",
      paste(names, collapse = " and --"), ", or --yes for ",
      paste(vapply(names, function(name) form[[name]], ""), collapse = " and ")
    )
  }
  for (name in names) {
    options[[name]] <- cli_question(
      paste(form$doubts[names(form$doubts) == name], collapse = "; "),
      form[[name]]
    )
  }
  options
}
