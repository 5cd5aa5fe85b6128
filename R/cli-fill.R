cli_fill <- function(arguments) {
  options <- cli_arguments(
    arguments, "fill", "ID...",
    c(
      list(
        cli_option(
          "rule",
          paste0(
            "last, next, linear, spline, monotone, seasonal, neighbour, ",
            "constant; several ", "with commas are tried in order [last]"
          ),
          default = "last", metavar = "RULES"
        ),
        cli_option(
          "at-most", "the longest run that is filled, in values",
          metavar = "N"
        ),
        cli_option("across", "fill across sessions too", flag = TRUE),
        cli_option(
          "ends", "fill before the first and after the last value too",
          flag = TRUE
        ),
        cli_option(
          "neighbour",
          "for the rule neighbour: a CSV or Parquet file of a single series",
          metavar = "FILE"
        ),
        cli_option(
          "constant", "for the rule constant: the value",
          metavar = "NUMBER"
        ),
        cli_session_option()
      ),
      cli_series_options(), cli_window_options(), cli_place_options(),
      cli_result_options()
    ),
    c(
      "vetusta fill \"KELD@1 minute\" --rule last --at-most 5",
      paste0(
        "vetusta fill kelder-lock --rule linear,seasonal --at-most 30 ",
        "--file level.csv"
      )
    )
  )
  # values before the window fill gaps at its start
  window <- options[c("from", "to")]
  options["from"] <- list(NULL)
  read <- cli_series(options)
  options[c("from", "to")] <- window
  neighbour <- if (!is.null(options$neighbour)) {
    read_series_file(
      options$neighbour, options[c("time_as", "zone")], read$zone, read$calendar
    )
  }
  left <- NULL
  rows <- cli_each(read, options, function(x, interval, read) {
    full <- series_fill(
      x,
      read$calendar,
      rule = cli_list_of(options$rule),
      at_most = cli_number(options, "at_most", 1) %||% Inf,
      across = if (options$across) TRUE,
      ends = options$ends,
      neighbour = neighbour,
      constant = cli_number(options, "constant"),
      interval = interval,
      from = options$from,
      to = options$to,
      session = cli_sessions(read, options)
    )
    left <<- rbind(
      left, as.data.frame(attr(full, "left"))[c("missing", "reason")]
    )
    cli_window(full, window["from"], read$zone)
  })
  cli_put(rows, options)
  open <- if (nrow(left)) {
    paste0(
      "; ", counted(sum(left$missing), "value"), " left open in ",
      counted(nrow(left), "run"), ": ",
      paste(unique(left$reason), collapse = ", ")
    )
  }
  cli_say("filled ", counted(sum(rows$status == "filled"), "value"), open)
}
