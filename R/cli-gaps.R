cli_gaps <- function(arguments) {
  options <- cli_arguments(
    arguments, "gaps", "ID...",
    c(
      list(
        cli_option("limit", "runs, the longest [10]", default = "10"),
        cli_option(
          "check",
          "show wrong values instead of gaps: doubled times, jumps, stale runs",
          flag = TRUE
        ),
        cli_option(
          "published",
          paste0(
            "how long after its period a value is published, as \"45 ",
            "days\"; younger gaps get ", "this as their reason"
          ),
          metavar = "LENGTH"
        ),
        cli_session_option()
      ),
      cli_series_options(), cli_window_options(), cli_place_options(),
      cli_result_options()
    ),
    c(
      paste0(
        "vetusta gaps \"KELD@1 minute\" \"TAMX@1 minute\" --from ",
        "2026-03-12 --to 2026-03-26"
      ),
      "vetusta gaps kelder-lock", "vetusta gaps --input level.csv --check"
    )
  )
  longest <- suppressWarnings(as.integer(options$limit))
  if (is.na(longest) || longest < 0) {
    cli_usage_error("--limit must be a whole number")
  }
  read <- cli_series(options)
  if (options$check) {
    rejected <- cli_each(read, options, function(x, interval, read) {
      series_check(x, value = cli_value(x, options))
    })
    if (!nrow(rejected)) cli_say("no wrong values found")
    return(cli_put(rejected, options, "finding"))
  }
  gaps <- cli_find_gaps(read, options)
  if (!is.null(options$file)) {
    return(cli_put(gaps, options, "run"))
  }
  if (options$json) {
    return(
      cli_print_json(
        list(summary = attr(gaps, "summary"), gaps = as.data.frame(gaps))
      )
    )
  }
  cli_print_gaps(gaps, longest, read$zone)
}

# Gaps of all tables, with the summary of each series.
cli_find_gaps <- function(read, options) {
  summaries <- list()
  gaps <- cli_each(read, options, function(x, interval, read) {
    missing <- series_gaps(
      x,
      read$calendar,
      interval = interval,
      from = options$from,
      to = options$to,
      session = cli_sessions(read, options),
      published = options$published,
      now = if (!is.null(options$published)) now_time(),
      delayed_from = cli_delayed_from(options, read$sources),
      listed = cli_listed(options, x, read$sources)
    )
    summaries[[length(summaries) + 1]] <<- attr(missing, "summary")
    missing
  })
  attr(
    gaps, "summary"
  ) <- if (length(summaries) == 1) {
    summaries[[1]]
  } else {
    as.data.frame(cli_bind(summaries))
  }
  gaps
}

cli_print_gaps <- function(gaps, longest, zone = "UTC") {
  summary <- attr(gaps, "summary")
  summary$coverage <- sprintf("%.2f%%", 100 * summary$coverage)
  cli_print_table(summary)
  if (!nrow(gaps)) {
    cli_say("no gaps")
    return(invisible())
  }
  shown <- utils::head(gaps[order(-gaps$missing, gaps$first), ], longest)
  shown <- as.data.frame(shown)
  # days and longer periods are shown as dates
  midnight <- function(zone) {
    at <- as.numeric(gaps$first)
    nrow(shown) > 0 && all((at + zone_offset(at, zone)) %% 86400 == 0)
  }
  whole <- midnight("UTC") || midnight(zone)
  if (midnight("UTC")) zone <- "UTC"
  for (name in c("first", "last")) {
    shown[[name]] <- format(
      shown[[name]], if (whole) "%Y-%m-%d" else "%Y-%m-%d %H:%M",
      tz = zone
    )
  }
  if (nrow(shown)) {
    cat(
      "\nthe longest of ", format(nrow(gaps), big.mark = ","), " runs",
      if (!whole) paste0("; times in ", zone), "\n",
      sep = ""
    )
    cat(text_table(shown), sep = "\n")
  }
}

# When the series' instruments or stations were listed, where the archive has a
# directory of their source.
cli_listed <- function(options, x, sources) {
  if (!is.null(options$input)) {
    return(NULL)
  }
  archive <- cli_archive(options)
  datasets <- named_datasets(archive)
  names <- unique(series_names_of(x))
  datasets <- datasets[datasets$source %in% sources, ]
  for (i in seq_len(nrow(datasets))) {
    rows <- archive_rows(archive, datasets$source[i], datasets$dataset[i])
    name <- as.character(rows[[datasets$column[i]]])
    days <- list_days(as.list(rows), datasets$shape[i])
    former <- former_parts(names)
    at <- match(former$symbol, name)
    if (all(is.na(at)) || is.null(days)) next
    day <- function(x) as.Date(x, origin = "1970-01-01")
    # of a symbol that another company had before, the entry with its last day
    for (k in which(!is.na(former$last))) {
      own <- which(name == former$symbol[k] & days$last == former$last[k])
      at[k] <- own[1]
    }
    for (k in which(is.na(former$last) & !is.na(at))) {
      own <- which(name == former$symbol[k])
      at[k] <- own[length(own)]
    }
    return(
      data.frame(
        series = names, symbol = names, listed = day(days$first[at]),
        delisted = day(days$last[at])
      )
    )
  }
  NULL
}

# The instant from which the source of the desk withholds its newest values, if
# it does.
cli_delayed_from <- function(options, sources) {
  source <- if (is.null(options$input)) cli_desk_source(options, sources)
  if (is.null(source$delay)) NULL else now_time() - source$delay$seconds
}
