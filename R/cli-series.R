# Shared parts of commands on series: input from the archive, a file or standard
# input, and output.

cli_series_options <- function() {
  list(
    cli_option("input"), cli_option("map"),
    cli_option("time-as", "[rfc3339]", default = "rfc3339"),
    cli_option("symbol"), cli_option("interval"), cli_option("as-of"),
    cli_option("value", "[close]"), cli_option("members"),
    cli_option("zone", "; by default the calendar's, else UTC"),
    cli_option("calendar", "; by default that of the series' source")
  )
}

# Options for input from a file.
cli_file_options <- function() {
  import_only <- c(
    "--input", "--map", "--time-as", "--symbol", "--interval", "--value",
    "--zone"
  )
  Filter(
    function(option) option@long_flag %in% import_only, cli_series_options()
  )
}

cli_result_options <- function() {
  c(
    list(cli_option("file", ": .csv or .parquet; by default standard output")),
    cli_json_option()
  )
}

# list(tables, calendars, calendar, zone): the series that IDs and options name,
# as bars, observations or points. Each table has the calendar of its source;
# `calendar` is the common one, if there is one. Bars are resampled as `longer`
# says, see cli_longer().
cli_series <- function(options, longer = cli_longer(options)) {
  given <- if (!is.null(options$calendar)) source_calendar(options$calendar)
  if (!is.null(options$input)) {
    files <- strsplit(options$input, ",", fixed = TRUE)[[1]]
    tables <- lapply(
      files, read_series_file,
      options = options, calendar = given
    )
    calendars <- lapply(tables, function(x) given %||% attr(x, "calendar"))
    zones <- unique(unlist(lapply(tables, attr, "zone")))
    zone <- options$zone %||% given$zone %||%
      (if (length(zones) == 1) zones) %||% "UTC"
    given <- if (length(unique(calendars)) == 1) calendars[[1]]
    tables <- lapply(tables, cli_window, options = options, zone = zone)
    tables <- lapply(tables, cli_named, words = options$words)
    tables <- lapply(tables, with_interval, interval = options$interval)
    if (!is.null(longer)) {
      tables <- lapply(tables, cli_longer_bars, longer(given, zone), options)
    }
    return(
      list(
        tables = tables,
        calendars = calendars,
        calendar = given,
        zone = zone
      )
    )
  }
  for (name in c("interval", "symbol", "map")) {
    if (!is.null(options[[name]])) {
      cli_usage_error(
        "--", name,
        paste0(
          " is for files named by --input; the interval of a series is ",
          "part of its ID, as ", "in \"KELD@1 day\""
        )
      )
    }
  }
  if (!length(options$words)) {
    cli_usage_error(
      "name series by ID, or give --input; `vetusta list` shows series IDs"
    )
  }
  archive <- cli_archive(options)
  ids <- cli_ids(options$words)
  if (!is.null(options$members)) {
    ids <- cli_ids_of_members(archive, ids, options)
  }
  short <- longer_ids(archive, ids)
  stored <- c(setdiff(ids, short$id), short$stored)
  series <- archive_find(archive, stored)
  known <- cli_calendars(options, series)
  zone <- options$zone %||% known$calendar$zone %||% "UTC"
  tables <- cli_read_longer(
    archive, setdiff(ids, short$id), short, options, series, known, zone, longer
  )
  sources <- sub("/.*", "", names(tables))
  if (!isTRUE(options$members_later)) {
    tables <- cli_only_members(tables, options, zone)
  }
  list(
    tables = cli_distinct(tables, series),
    calendars = unname(known$calendars[sources]),
    calendar = known$calendar,
    zone = zone,
    sources = sources
  )
}

# list(calendars, calendar): the calendar of each source, and their common one.
# A calendar given as an option is used for all; else that of the source's card
# in the desk, or the one with which the series were stored.
cli_calendars <- function(options, series) {
  given <- if (!is.null(options$calendar)) source_calendar(options$calendar)
  sources <- unique(series$source)
  calendars <- lapply(stats::setNames(nm = sources), function(source) {
    given %||% cli_calendar(options, source) %||%
      dataset_facts(
        cli_archive(options), source,
        series$dataset[match(source, series$source)]
      )$calendar
  })
  alike <- vapply(calendars, identical, TRUE, calendars[[1]])
  list(calendars = calendars, calendar = if (all(alike)) calendars[[1]])
}

# The members of the list that an option names.
cli_members <- function(options, on = NULL) {
  archive_members(cli_archive(options), options$members, on)
}

# Tables of the archive on the days on which their series were members.
cli_only_members <- function(tables, options, zone) {
  if (is.null(options$members)) {
    return(tables)
  }
  lapply(tables, series_members, cli_members(options), zone)
}

# Series of symbols that were members at any time.
cli_ids_of_members <- function(archive, ids, options) {
  members <- archive_members(archive, options$members)
  series <- archive_find(archive, ids)
  ids <- series$id[sub(":.*", "", series$key) %in% members$symbol]
  if (!length(ids)) {
    vetusta_stop(
      "argument",
      paste0("None of these series is a member of ", options$members, "."),
      todo = paste0(
        "its members are ",
        paste(utils::head(unique(members$symbol), 5), collapse = ", ")
      )
    )
  }
  ids
}

# KELD,TAMX are two series IDs, as KELD TAMX are.
cli_ids <- function(words) cli_symbols(words)

# Adds the interval of bars, which a table of one bar does not show.
with_interval <- function(table, interval) {
  if (!is.null(interval)) attr(table, "interval") <- time_interval(interval)
  table
}

# Stored series, and bars resampled from shorter ones where the requested
# interval is not stored.
cli_read_longer <- function(archive, ids, short, options, series, known, zone,
                            longer) {
  tables <- if (length(ids)) {
    cli_read(archive, ids, options, series, known, zone, longer)
  }
  for (interval in unique(short$interval)) {
    group <- short[short$interval == interval, ]
    cli_say(
      paste0(group$id, ": resampled from ", group$stored, collapse = "\n")
    )
    asked <- options
    asked$resample <- format(time_interval(interval))
    tables <- c(
      tables,
      cli_read(
        archive, group$stored, asked, series, known, zone, cli_longer(asked)
      )
    )
  }
  tables
}

# Series of the archive as tables of their shapes, with bars of the requested
# session.
cli_read <- function(archive, ids, options, series, known, zone,
                     longer = cli_longer(options)) {
  others <- setdiff(series$shape, names(longer_shapes()))
  if (!is.null(options$resample) && length(others)) cli_refuse_resample()
  resample <- if (!is.null(longer)) {
    function(source) {
      calendar <- known$calendars[[source]]
      c(
        longer(calendar, options$zone %||% calendar$zone %||% zone),
        list(sessions = cli_bar_sessions(options))
      )
    }
  }
  tables <- archive_read(
    archive,
    ids,
    options$from,
    options$to,
    options$as_of,
    zone,
    labels = options$labels %||% "codes",
    language = options$language %||% "en",
    multiplier = options$multiplier %||% "keep",
    releases = isTRUE(options$releases),
    resample = resample
  )
  lapply(tables, function(table) {
    if (is_bars(table) && is.null(longer)) {
      bars_of_sessions(table, cli_bar_sessions(options))
    } else {
      table
    }
  })
}

cli_refuse_resample <- function() {
  cli_usage_error(
    paste0(
      "--resample is for bars; `vetusta resample` changes the frequency ",
      "of other "
    ),
    "values"
  )
}

# The sessions that bars may have; NULL for all.
cli_bar_sessions <- function(options) {
  if (!identical(options$session, "all")) options$session
}

# Resamples the bars of a file.
cli_longer_bars <- function(table, asked, options) {
  if (!is_bars(table)) {
    if (is.null(options$resample)) {
      return(table)
    }
    cli_refuse_resample()
  }
  do.call(bars_resample, c(list(table, base = attr(table, "interval")), asked))
}

# Series of equal names from several datasets are named by their series IDs.
cli_distinct <- function(tables, series) {
  names <- unlist(
    lapply(tables, function(table) unique(series_names_of(table)))
  )
  twice <- names[duplicated(names)]
  if (!length(twice)) {
    return(tables)
  }
  Map(
    function(table, place) {
      name <- series_names_of(table)
      # facts are named by company and item
      if (!length(name)) {
        return(table)
      }
      id <- paste0(place, "/", name)
      interval <- attr(table, "interval")
      if (!is.null(interval)) id <- paste0(id, "@", format(interval))
      series_names_of(table) <- ifelse(name %in% twice, id, name)
      with_interval(table, interval)
    },
    tables, names(tables)
  )
}

# The series that the words name; all of them without words.
cli_named <- function(x, words) {
  if (!length(words)) {
    return(x)
  }
  names <- series_names_of(x)
  for (word in words) check_choice(word, "series", unique(names))
  x[names %in% words, ]
}

cli_window <- function(x, options, zone) {
  time <- if (!is.null(x[["period"]])) {
    as.numeric(read_periods(x$period, nrow(x))$first) * 86400
  } else {
    as.numeric(x$time)
  }
  zone <- if (is.null(x[["period"]])) zone else "UTC"
  if (!is.null(options$from)) {
    x <- x[
      time >= as.numeric(time_instant(options$from, zone, name = "from")), ,
      drop = FALSE
    ]
  }
  time <- if (!is.null(x[["period"]])) {
    as.numeric(read_periods(x$period, nrow(x))$first) * 86400
  } else {
    as.numeric(x$time)
  }
  if (!is.null(options$to)) {
    x <- x[
      time <
        as.numeric(time_instant(options$to, zone, end = TRUE, name = "to")), ,
      drop = FALSE
    ]
  }
  x
}

# Writes a file or JSON; prints a table of a screenful on a terminal, CSV
# elsewhere.
cli_put <- function(rows, options, what = "row") {
  rows <- bars_dated(rows)
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
  if (nrow(rows) > 40) {
    cli_say(
      "and ", counted(nrow(rows) - 40, what), " more; --file writes them all"
    )
  }
}

cli_number <- function(options, name, least = -Inf) {
  if (is.null(options[[name]])) {
    return(NULL)
  }
  value <- suppressWarnings(as.numeric(options[[name]]))
  if (length(value) != 1 || is.na(value) || value < least) {
    cli_usage_error(
      "--", gsub("_", "-", name), " must be a number",
      if (is.finite(least)) paste0(", ", least, " or more")
    )
  }
  value
}

cli_list_of <- function(text) {
  if (is.null(text)) NULL else strsplit(text, ",", fixed = TRUE)[[1]]
}

# "last", or "KELD=exact,level=last"
cli_by_series <- function(text) {
  parts <- cli_list_of(text)
  if (is.null(parts) || !any(grepl("=", parts))) {
    return(text)
  }
  pairs <- strsplit(parts, "=", fixed = TRUE)
  if (any(lengths(pairs) != 2)) {
    cli_usage_error(
      "\"", text,
      "\" must be a single word, or name=word pairs with commas between"
    )
  }
  stats::setNames(vapply(pairs, `[`, "", 2), vapply(pairs, `[`, "", 1))
}

# The results of a command for each table, as one table. `work` gets the table,
# the interval of its bars, and the input reduced to this table: its calendar,
# zone and source.
cli_each <- function(read, options, work) {
  filled <- which(vapply(read$tables, nrow, 1L) > 0)
  if (!length(filled)) {
    vetusta_stop(
      "argument", "There are no rows in this window.",
      todo = paste0(
        "check --from and --to; `vetusta list` shows the first and last ",
        "times"
      )
    )
  }
  done <- lapply(filled, function(i) {
    table <- read$tables[[i]]
    work(table, attr(table, "interval"), cli_single(read, options, i))
  })
  if (length(done) == 1) done[[1]] else cli_bind(done)
}

cli_single <- function(read, options, i) {
  calendar <- read$calendars[[i]]
  list(
    tables = read$tables[i],
    calendars = list(calendar),
    calendar = calendar,
    zone = options$zone %||% calendar$zone %||% read$zone,
    sources = read$sources[i]
  )
}

# Binds results of several tables; their name columns get one name.
cli_bind <- function(tables) {
  tables <- lapply(tables, function(table) {
    table <- as.list(table)
    if (!any(c("series") %in% names(table))) {
      names(table)[names(table) == "symbol"] <- "series"
    }
    if (inherits(table[["period"]], "Date")) {
      names(table)[names(table) == "period"] <- "time"
      table$time <- utc(as.numeric(table$time) * 86400)
    }
    table
  })
  as_rows(data.table::rbindlist(tables, use.names = TRUE, fill = TRUE))
}
