cli_export <- function(arguments) {
  options <- cli_arguments(arguments, "export", "[SYMBOL...]",
    c(cli_bars_options(), list(
      cli_option("offer", "rows of this offer of --source instead of bars", metavar = "NAME"),
      cli_option("dataset", "observations of this dataset of --source instead of bars; words are then DIMENSION=CODES", metavar = "ID"),
      cli_option("as-of", "observations: as they were known on this day", metavar = "DAY"),
      cli_option("labels", "observations: codes, labels or both [codes]", default = "codes", metavar = "WORD"),
      cli_option("language", "observations: the language of labels [en]", default = "en", metavar = "TAG"),
      cli_option("multiplier", "observations: keep the unit's power of ten, or apply it [keep]", default = "keep", metavar = "WORD"),
      cli_option("file", "where to write: .csv or .parquet; by default CSV on standard output", metavar = "FILE")
    )),
    c("vetusta export KELD --interval \"1 minute\" --regroup \"1 day\" --file keld.csv", "vetusta export --source river --offer levels",
      "vetusta export --source basin --dataset LOCK_TRAFFIC STATE=ORV --labels both"))
  if (!is.null(options$dataset)) {
    rows <- do.call(archive_observations, c(list(cli_archive(options), cli_needs(options, "source"), options$dataset), cli_pairs(options$words),
      list(as_of = options$as_of, from = options$from, to = options$to, labels = options$labels,
      language = options$language, multiplier = options$multiplier)))
    if (is.null(options$file)) export_csv(rows, "") else export_table(rows, options$file)
    return(cli_say(if (is.null(options$file)) "wrote " else paste0("wrote ", options$file, ": "), counted(nrow(rows), "value")))
  }
  if (!is.null(options$offer)) {
    rows <- archive_rows(cli_archive(options), cli_needs(options, "source"), options$offer)
    if (is.null(options$file)) export_csv(rows, "") else export_table(rows, options$file)
    return(cli_say(if (is.null(options$file)) "wrote " else paste0("wrote ", options$file, ": "), counted(nrow(rows), "row")))
  }
  read <- cli_bars(options, options$words)
  if (is.null(options$file)) export_csv(read$bars, "") else export_table(read$bars, options$file)
  cli_say(if (is.null(options$file)) "wrote " else paste0("wrote ", options$file, ": "), format(nrow(read$bars), big.mark = ","), " bars")
}
