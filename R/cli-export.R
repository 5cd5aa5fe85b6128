cli_export <- function(arguments) {
  options <- cli_arguments(arguments, "export", "[SYMBOL...|NAME...|COLUMN=VALUE...|DIMENSION=CODES...]",
    c(cli_bars_options(), list(
      cli_option("offer", "rows of this offer of --source instead of bars", metavar = "NAME"),
      cli_option("dataset", "observations of this dataset of --source instead of bars; words are then DIMENSION=CODES", metavar = "ID"),
      cli_option("as-of", "observations: as they were known on this day", metavar = "DAY"),
      cli_option("labels", "observations: codes, labels or both [codes]", default = "codes", metavar = "WORD"),
      cli_option("language", "observations: the language of labels [en]", default = "en", metavar = "TAG"),
      cli_option("multiplier", "observations: keep the unit's power of ten, or apply it [keep]", default = "keep", metavar = "WORD"),
      cli_option("file", "where to write: .csv or .parquet; by default CSV on standard output", metavar = "FILE")
    ), cli_json_option()),
    c("vetusta export KELD --interval \"1 minute\" --regroup \"1 day\" --file keld.csv", "vetusta export --source river --offer levels",
      "vetusta export --source basin --dataset LOCK_TRAFFIC STATE=ORV --labels both"))
  if (!is.null(options$file)) whole_target(options$file, "export")
  what <- if (!is.null(options$dataset)) "value" else if (!is.null(options$offer)) "row" else "bar"
  rows <- if (!is.null(options$dataset)) {
    keys <- cli_pairs(options$words, split = FALSE)
    archive_observations(cli_archive(options), cli_needs(options, "source"), options$dataset, as_of = options$as_of, from = options$from, to = options$to, labels = options$labels,
      language = options$language, multiplier = options$multiplier, keys = keys)
  } else {
    if (!is.null(options$as_of)) cli_usage_error("--as-of is for --dataset")
    if (!is.null(options$offer)) cli_rows(options) else cli_bars(options, options$words)$bars
  }
  if (!is.null(options$file)) export_table(rows, options$file) else if (options$json) cli_print_json(rows) else export_csv(rows, "")
  cli_say(if (is.null(options$file)) "wrote " else paste0("wrote ", options$file, ": "), counted(nrow(rows), what))
}

# Rows of an offer: those that the words name, by their series, symbol or place, or as column=value; and of the window, where they have a time.
cli_rows <- function(options) {
  rows <- archive_rows(cli_archive(options), cli_needs(options, "source"), options$offer)
  words <- options$words
  pairs <- cli_pairs(words[grepl("=", words, fixed = TRUE)])
  for (name in names(pairs)) {
    if (!name %in% names(rows)) cli_usage_error("the rows have no column \"", name, "\"; ", suggest_word(name, names(rows)))
    rows <- rows[as.character(rows[[name]]) %in% pairs[[name]], ]
  }
  named <- words[!grepl("=", words, fixed = TRUE)]
  if (length(named)) {
    column <- intersect(c("series", "symbol", "place", "entity", "dataset"), names(rows))
    if (!length(column)) cli_usage_error("these rows are named by no word; ask for them as column=value: ", paste(names(rows), collapse = ", "))
    for (word in named) check_choice(word, "row", unique(as.character(rows[[column[1]]])))
    rows <- rows[rows[[column[1]]] %in% named, ]
  }
  if (is.null(options$from) && is.null(options$to)) {
    return(rows)
  }
  if (!any(c("time", "period") %in% names(rows))) cli_usage_error("these rows have no time, so that --from and --to say nothing of them")
  cli_window(rows, options, "UTC")
}
