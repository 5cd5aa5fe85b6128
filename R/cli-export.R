cli_export <- function(arguments) {
  options <- cli_arguments(arguments, "export", "[SYMBOL...]",
    c(cli_bars_options(), list(
      cli_option("offer", "rows of this offer of --source instead of bars", metavar = "NAME"),
      cli_option("file", "where to write: .csv or .parquet; by default CSV on standard output", metavar = "FILE")
    )),
    c("vetusta export KELD --interval \"1 minute\" --regroup \"1 day\" --file keld.csv", "vetusta export --source river --offer levels"))
  if (!is.null(options$offer)) {
    rows <- archive_rows(cli_archive(options), cli_needs(options, "source"), options$offer)
    if (is.null(options$file)) export_csv(rows, "") else export_table(rows, options$file)
    return(cli_say(if (is.null(options$file)) "wrote " else paste0("wrote ", options$file, ": "), counted(nrow(rows), "row")))
  }
  read <- cli_bars(options, options$words)
  if (is.null(options$file)) export_csv(read$bars, "") else export_table(read$bars, options$file)
  cli_say(if (is.null(options$file)) "wrote " else paste0("wrote ", options$file, ": "), format(nrow(read$bars), big.mark = ","), " bars")
}
