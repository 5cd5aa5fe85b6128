cli_export <- function(arguments) {
  options <- cli_arguments(arguments, "export", "ADDRESS...|SOURCE/DATASET [COLUMN=VALUE...]",
    c(cli_read_options(), list(
      cli_option("labels", "statistics: codes, labels or both [codes]", default = "codes",
        metavar = "WORD"),
      cli_option("language", "statistics: the language of labels [en]", default = "en",
        metavar = "TAG"),
      cli_option("multiplier", "statistics: keep the unit's power of ten, or apply it [keep]",
        default = "keep", metavar = "WORD"),
      cli_option("file", "where to write: .csv or .parquet; by default CSV on standard output",
        metavar = "FILE")
    ), cli_json_option()),
    c("vetusta export \"KELD@1 minute\" --regroup \"1 day\" --file keld.csv",
      "vetusta export river/levels",
      "vetusta export \"basin/LOCK_TRAFFIC/M.ORV.*\" --labels both",
      "vetusta export quay/directory type=share"), least = 1)
  if (!is.null(options$file)) whole_target(options$file, "export")
  archive <- cli_archive(options)
  pairs <- grepl("=", options$words, fixed = TRUE)
  filter <- cli_pairs(options$words[pairs])
  words <- cli_addresses(options$words[!pairs])
  options$words <- words
  held <- store_datasets(archive)
  plain <- length(words) == 1 && words %in% paste0(held$source, "/", held$dataset)
  rows <- if (plain) cli_export_rows(archive, words, options)
  else cli_export_series(archive, options)
  rows <- cli_filtered(rows, filter)
  if (!is.null(options$file)) export_table(rows, options$file)
  else if (options$json) cli_print_json(rows) else export_csv(rows, "")
  cli_say(if (is.null(options$file)) "wrote "
  else paste0("wrote ", options$file, ": "), counted(nrow(rows), cli_unit(rows)))
}

cli_unit <- function(rows) {
  if (is_bars(rows)) "bar" else if (!is.null(rows[["value"]])) "value" else "row"
}

# Rows of a dataset without series.
cli_export_rows <- function(archive, address, options) {
  parts <- strsplit(address, "/", fixed = TRUE)[[1]]
  if (!is.null(options$from) || !is.null(options$to)) {
    cli_usage_error("these rows have no time, so that --from and --to say nothing of them")
  }
  archive_rows(archive, parts[1], parts[2], as_of = options$as_of)
}

cli_export_series <- function(archive, options) {
  found <- archive_find(archive, options$words)
  known <- cli_calendars(options, found)
  zone <- known$calendar$zone %||% "UTC"
  tables <- archive_read(archive, options$words, options$from, options$to, options$as_of, zone,
    labels = options$labels,
    language = options$language, multiplier = options$multiplier)
  read <- list(tables = lapply(tables, cli_session, session = options$session),
    calendars = unname(known$calendars[sub("/.*", "", names(tables))]))
  tables <- cli_regrouped(read, options)
  if (length(tables) == 1) {
    return(tables[[1]])
  }
  if (length(unique(vapply(tables, is_bars, TRUE))) > 1) {
    cli_usage_error(
      paste0("these series are of several kinds: export each kind by itself, or put them onto ",
        "one grid with align"))
  }
  as_rows(data.table::rbindlist(unname(tables), use.names = TRUE, fill = TRUE))
}

# Rows in whose columns the values stand that the words ask for.
cli_filtered <- function(rows, pairs) {
  for (name in names(pairs)) {
    if (!name %in% names(rows)) {
      cli_usage_error("the rows have no column \"", name, "\"; ", suggest_word(name, names(rows)))
    }
    rows <- rows[as.character(rows[[name]]) %in% pairs[[name]], ]
  }
  rows
}
