# vetusta trace: where a stored value came from.
cli_trace <- function(arguments) {
  options <- cli_arguments(
    arguments, "trace", "ID",
    c(
      list(
        cli_option(
          "at", "the day, period or instant of the value, as 2026-03-12",
          metavar = "TIME"
        )
      ),
      cli_place_options(), cli_json_option()
    ),
    c(
      "vetusta trace \"KELD@1 day\" --at 2026-03-12",
      "vetusta trace kelder-lock --at 2026-03-12 --json"
    )
  )
  ids <- if (length(options$words)) cli_ids(options$words)
  if (length(ids) != 1) {
    cli_usage_error("name one series; `vetusta list series` shows them")
  }
  if (is.null(options$at)) {
    cli_usage_error("say which value: --at, as --at 2026-03-12")
  }
  trace <- archive_trace(cli_archive(options), ids, options$at)
  if (options$json) {
    cli_print_json(list(trace = trace_json(trace)))
  } else {
    cat(format(trace, min(100, cli_width())), sep = "\n")
  }
}

# A trace as columns of texts and numbers.
trace_json <- function(trace) {
  columns <- as.data.frame(trace)
  instants <- vapply(columns, inherits, TRUE, "POSIXct")
  columns[instants] <- lapply(columns[instants], format_instant)
  columns
}
