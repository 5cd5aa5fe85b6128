# vetusta trace: where a stored value came from, or what a file was made from.
cli_trace <- function(arguments) {
  options <- cli_arguments(
    arguments, "trace", "ID|FILE",
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
      "vetusta trace kelder-lock --at 2026-03-12 --json",
      "vetusta trace level.csv"
    )
  )
  ids <- if (length(options$words)) cli_ids(options$words)
  if (length(ids) != 1) {
    cli_usage_error("name one series; `vetusta list series` shows them")
  }
  if (is.null(options$at) && file.exists(ids) && !dir.exists(ids)) {
    return(cli_trace_file(ids, options))
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

# What a written file is, and what it was made from.
cli_trace_file <- function(file, options) {
  about <- export_about(file)
  if (is.null(about)) {
    vetusta_stop(
      "import", "The file does not say what it was made from.",
      where = file,
      todo = paste0(
        "write it again with vetusta; of a CSV the file ",
        basename(about_file(file)), " is needed too"
      ),
      usage = TRUE
    )
  }
  if (options$json) {
    cli_print_json(unclass(about))
  } else {
    cat(format(about), sep = "\n")
  }
}

# A trace as columns of texts and numbers.
trace_json <- function(trace) {
  columns <- as.data.frame(trace)
  instants <- vapply(columns, inherits, TRUE, "POSIXct")
  columns[instants] <- lapply(columns[instants], format_instant)
  columns
}
