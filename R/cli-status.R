cli_status <- function(arguments) {
  options <- cli_arguments(arguments, "status", "[NAME...]",
    c(list(cli_option("series", "a line a series, instead of one a want", flag = TRUE),
      cli_option("desk", "the desk's folder; by default the one this is called in",
        metavar = "FOLDER")), cli_json_option()),
    c("vetusta status", "vetusta status shares --series", "vetusta status --json"))
  desk <- cli_desk(options)
  names <- desk_names(desk, if (length(options$words)) options$words)
  desk$wants <- desk$wants[names]
  status <- desk_status(desk, series = options$series)
  if (options$json) {
    cli_print_json(list(stale = any(status$stale),
      series = if (options$series) as.data.frame(status),
      wants = if (!options$series) as.data.frame(status), quotas = attr(status, "quotas")))
  } else {
    cat(cli_words(format_status(status, if (isatty(stdout())) cli_width() else 80)), sep = "\n")
  }
  # a monitor looks at the exit status
  if (any(status$stale)) 3L else 0L
}
