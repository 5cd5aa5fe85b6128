cli_export <- function(arguments) {
  options <- cli_arguments(arguments, "export", "[SYMBOL...]",
    c(cli_bars_options(), list(cli_option("file", "where to write the CSV; by default standard output", metavar = "FILE"))),
    "vetusta export KELD --interval \"1 minute\" --regroup \"1 day\" --file keld.csv")
  read <- cli_bars(options, options$words)
  export_csv(read$bars, options$file %||% "")
  cli_say(if (is.null(options$file)) "wrote " else paste0("wrote ", options$file, ": "), format(nrow(read$bars), big.mark = ","), " bars")
}
