cli_gaps <- function(arguments) {
  options <- cli_arguments(arguments, "gaps", "[SYMBOL...]",
    c(cli_bars_options(), list(cli_option("longest", "how many of the longest runs to show [10]", default = "10", metavar = "N")), cli_json_option()),
    "vetusta gaps KELD TAMX --interval \"1 minute\" --from 2026-03-12 --to 2026-03-26")
  longest <- suppressWarnings(as.integer(options$longest))
  if (is.na(longest) || longest < 0) cli_usage_error("--longest must be a whole number")
  read <- cli_bars(options, options$words)
  gaps <- series_gaps(read$bars, read$calendar, interval = read$interval, from = options$from, to = options$to, session = read$session)
  if (options$json) {
    return(cli_print_json(list(summary = attr(gaps, "summary"), gaps = as.data.frame(gaps))))
  }
  cli_print_gaps(gaps, longest, read$zone)
}

cli_print_gaps <- function(gaps, longest, zone = "UTC") {
  summary <- attr(gaps, "summary")
  summary$share <- sprintf("%.2f%%", 100 * summary$share)
  cli_print_table(summary)
  if (!nrow(gaps)) {
    cli_say("nothing is missing")
    return(invisible())
  }
  shown <- utils::head(gaps[order(-gaps$missing, gaps$first), ], longest)
  shown <- as.data.frame(shown)
  for (name in c("first", "last")) shown[[name]] <- format(shown[[name]], "%Y-%m-%d %H:%M", tz = zone)
  if (nrow(shown)) {
    cat("\nthe longest of", format(nrow(gaps), big.mark = ","), "runs, in the time of", zone, "\n")
    cat(text_table(shown), sep = "\n")
  }
}
