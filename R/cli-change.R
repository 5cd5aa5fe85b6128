cli_change <- function(arguments) {
  options <- cli_arguments(
    arguments, "change", "ID...",
    c(
      list(
        cli_option(
          "change",
          paste0(
            ": simple, log, difference, index, mean, sum, sd, min, max, ",
            "cumulative or ", "drawdown [simple]"
          ),
          default = "simple"
        ),
        cli_option("over"),
        cli_option(
          "or-before",
          paste0(
            "with --over: how much older that value may be, as \"7 days\" ",
            "over weekends"
          ),
          metavar = "LENGTH"
        ),
        cli_option("window"),
        cli_option(
          "minimum-count", "least number of values in a window [1]",
          metavar = "N"
        ),
        cli_option("base", "; by default the first"),
        cli_option(
          "rates",
          paste0(
            "first convert by the rates of this CSV or Parquet file, a ",
            "single series"
          ),
          metavar = "FILE"
        ),
        cli_option(
          "correlation",
          "the correlation of the changes, for every pair of series",
          flag = TRUE
        ),
        cli_session_option()
      ),
      cli_series_options(), cli_window_options(), cli_place_options(),
      cli_result_options()
    ),
    c(
      "vetusta change \"KELD@1 day\" \"TAMX@1 day\" --change log",
      "vetusta change --input level.csv --change mean --window \"30 days\"",
      "vetusta change \"quay/bars/*@1 day\" --change log --correlation"
    )
  )
  # values before the window count in it; changes that begin with it do not
  window <- options[c("from", "to")]
  reaches <- !options$correlation &&
    !options$change %in% c("cumulative", "drawdown") &&
    !(options$change == "index" && is.null(options$base))
  if (reaches) options["from"] <- list(NULL)
  read <- cli_series(options)
  options[c("from", "to")] <- window
  say_jumps(read$tables, read$zone)
  if (!is.null(options$rates)) {
    read$tables <- lapply(seq_along(read$tables), function(i) {
      cli_converted(read$tables[[i]], options, cli_single(read, options, i))
    })
  }
  if (options$correlation) {
    arguments <- list(
      change = options$change, value = options$value, zone = read$zone
    )
    return(
      cli_put(
        do.call(series_correlation, c(unname(read$tables), arguments)), options
      )
    )
  }
  cli_put(
    cli_each(read, options, function(x, interval, read) {
      changed <- series_change(
        x,
        options$change,
        over = options$over,
        window = options$window,
        minimum_count = cli_number(options, "minimum_count", 1) %||% 1,
        base = options$base,
        value = cli_value(x, options),
        interval = interval,
        zone = read$zone,
        calendar = read$calendar,
        or_before = options$or_before
      )
      if (reaches) cli_window(changed, window, read$zone) else changed
    }),
    options
  )
}

cli_converted <- function(x, options, read) {
  rates <- read_series_file(
    options$rates, options[c("time_as", "zone")], read$zone, read$calendar
  )
  converted <- series_convert(
    x, rates,
    value = options$value, zone = read$zone, calendar = read$calendar
  )
  converted[c("series", "time", "value", "through", "known")]
}

# --value is for bars; other series have one value.
cli_value <- function(x, options) if (is_bars(x)) options$value
