cli_align <- function(arguments) {
  options <- cli_arguments(
    arguments, "align", "ID...",
    c(
      list(
        cli_option(
          "with",
          "further CSV or Parquet files to align with, with commas between",
          metavar = "FILES"
        ),
        cli_option("grid", "[union]", default = "union"),
        cli_option(
          "take",
          paste0(
            "last, exact, mean, sum, or linear with --look-ahead; a rule ",
            "for all series, or ", "NAME=RULE pairs [last]"
          ),
          default = "last", metavar = "RULE"
        ),
        cli_option(
          "lag",
          paste0(
            "how long after its period a value is known, as \"45 days\"; ",
            "a length for all ", "series, or NAME=LENGTH pairs"
          ),
          metavar = "LENGTH"
        ),
        cli_option(
          "max-age",
          paste0(
            "greatest age at which a value counts, as \"90 days\"; a ",
            "length for all series,", " or NAME=LENGTH pairs"
          ),
          metavar = "LENGTH"
        ),
        cli_option(
          "ages", "give the age of every value too, in days",
          flag = TRUE
        ),
        cli_form_option("wide"),
        cli_option(
          "look-ahead",
          "use values from their own time on, before they were known",
          flag = TRUE
        ),
        cli_session_option()
      ),
      cli_series_options(), cli_window_options(), cli_place_options(),
      cli_result_options()
    ),
    c(
      paste0(
        "vetusta align \"KELD@1 day\" kelder-lock ",
        "basin/FREIGHT_PRICES/Q.Orvane.LOWER.N.ORV_T --grid KELD --ages"
      ),
      paste0(
        "vetusta align --input prices.csv,harvest.csv --lag \"45 days\" ",
        "--file grid.csv"
      )
    )
  )
  # values before the window count in it
  window <- options[c("from", "to")]
  options["from"] <- list(NULL)
  # a member's first day may use the value of the day before
  options$members_later <- TRUE
  # with revisions, each time of the grid has the release known by then
  options$releases <- !options$look_ahead
  read <- cli_series(options)
  options[c("from", "to")] <- window
  more <- lapply(
    cli_list_of(options$with), read_series_file,
    options = options[c("time_as", "zone")],
    zone = read$zone, calendar = read$calendar
  )
  calendars <- c(read$calendars, rep(list(read$calendar), length(more)))
  tables <- c(unname(read$tables), more)
  if (!sum(vapply(tables, nrow, 1L))) {
    vetusta_stop(
      "argument", "No series has a value before the end of this window.",
      todo = paste0(
        "check --to; `vetusta list` shows the first value of each series"
      )
    )
  }
  names <- unique(unlist(lapply(tables, series_names_of)))
  arguments <- list(
    grid = cli_grid(options, read, names, tables, calendars),
    rule = cli_by_series(options$take),
    point_in_time = !options$look_ahead,
    lag = cli_by_series(options$lag),
    max_age = cli_by_series(options$max_age),
    ages = options$ages,
    form = options$form,
    value = options$value,
    zone = read$zone,
    calendar = calendars
  )
  rows <- do.call(series_align, c(tables, arguments))
  if (!is.null(options$members)) {
    rows <- series_members(rows, cli_members(options), read$zone)
  }
  cli_put(cli_window(rows, options, read$zone), options)
}

cli_grid <- function(options, read, names, tables, calendars) {
  if (options$grid %in% c("union", "intersection", names)) {
    return(options$grid)
  }
  length <- tryCatch(
    time_interval(options$grid),
    vetusta_error_argument = function(e) {
      cli_usage_error(
        "--grid \"", options$grid, "\" is no series and no length of time; ",
        suggest_word(options$grid, c("union", "intersection", names))
      )
    }
  )
  points <- do.call(
    rbind,
    Map(
      function(x, calendar) {
        series_points(x, zone = read$zone, calendar = calendar)[
          c("time", "known")
        ]
      },
      tables, calendars
    )
  )
  list(
    calendar = read$calendar %||% day_calendar(read$zone),
    interval = length,
    from = options$from %||% utc(min(points$time)),
    to = options$to %||% utc(max(points$known) + 1),
    session = if (is.null(read$calendar)) NULL else main_session(read$calendar)
  )
}
