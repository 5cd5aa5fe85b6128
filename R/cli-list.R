cli_list <- function(arguments) {
  options <- cli_arguments(arguments, "list",
    paste0("[", paste(names(cli_lists), collapse = "|"), "]"),
    c(cli_place_options(), cli_json_option()), c("vetusta list", "vetusta list journal --json"),
    most = 1)
  what <- if (length(options$words)) options$words else "series"
  read <- cli_lists[[what]]
  if (is.null(read)) {
    cli_usage_error("\"", what, "\" cannot be listed; ", suggest_word(what, names(cli_lists)))
  }
  open <- function() cli_archive(options)
  # what grows with each call is not kept
  rows <- if (what %in% c("series", "datasets")) archive_listed(options$archive %||%
    cli_desk(options)$archive, what, open, read)
  else read(open())
  if (options$json) {
    return(cli_print_json(rows))
  }
  shorten <- cli_shortened[[what]] %||% identity
  cli_print_table(shorten(rows), paste0("the archive has no ", what, " yet"))
}

cli_lists <- list(series = function(archive) archive_series(archive),
  datasets = function(archive) archive_datasets(archive),
  journal = function(archive) archive_journal(archive),
  faults = function(archive) archive_faults(archive))

# What a table on a terminal leaves out.
cli_shortened <- list(
  series = function(rows) rows[c("address", "rows", "first", "last", "bytes")],
  datasets = function(rows) {
    empty <- vapply(rows, function(column) all(is.na(column)), TRUE)
    rows[!empty]
  },
  journal = function(rows) {
    rows <- rows[c("asked", "source", "symbol", "status", "rows", "bytes", "outcome", "message")]
    rows$message <- substr(rows$message, 1, 60)
    rows
  }
)
