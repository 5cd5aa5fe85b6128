cli_list <- function(arguments) {
  options <- cli_arguments(arguments, "list", "[series|rows|statistics|journal|findings]", c(cli_place_options(), cli_json_option()),
    c("vetusta list", "vetusta list journal --json"), most = 1)
  what <- if (length(options$words)) options$words else "series"
  if (!what %in% c("series", "rows", "statistics", "journal", "findings")) cli_usage_error("\"", what, "\" cannot be listed; ", suggest_word(what, c("series",
    "rows", "statistics", "journal", "findings")))
  archive <- cli_archive(options)
  rows <- switch(what, series = archive_series(archive), rows = archive_offers(archive), statistics = archive_datasets(archive),
    journal = archive_journal(archive), findings = archive_findings(archive))
  if (options$json) {
    return(cli_print_json(rows))
  }
  if (what == "series") {
    rows$interval <- vapply(rows$interval, function(iso) format(time_interval(iso)), "")
    if (all(!nzchar(rows$side))) rows$side <- NULL
  } else if (what == "journal") {
    rows <- rows[c("asked", "source", "symbol", "status", "rows", "bytes", "outcome", "message")]
    rows$message <- substr(rows$message, 1, 60)
  }
  cli_print_table(rows, paste0("the archive has no ", what, " yet"))
}
