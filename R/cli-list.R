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
  # what grows with each request is not kept
  rows <- if (what %in% c("series", "datasets")) archive_listed(options$archive %||%
    cli_desk(options)$archive, what, open, read)
  else read(open())
  if (options$json) {
    return(cli_print_json(rows))
  }
  shorten <- cli_shortened[[what]] %||% identity
  status <- cli_print_table(shorten(rows), cli_lists_empty[[what]] %||%
    paste0("the archive has no ", what, " yet"))
  open <- attr(rows, "incomplete") %||% 0
  if (open > 0) {
    cli_say("\n", counted(open, "window"), if (open == 1) " is" else " are",
      " incomplete: `vetusta list incomplete` says why")
  }
  status
}

cli_lists_empty <- list(incomplete = "nothing is incomplete")

# A list with the number of windows that are incomplete.
with_incomplete <- function(read) {
  function(archive) structure(read(archive), incomplete = nrow(archive_incomplete(archive)))
}

cli_lists <- list(series = with_incomplete(function(archive) archive_series(archive)),
  datasets = with_incomplete(function(archive) archive_datasets(archive)),
  journal = function(archive) archive_journal(archive),
  rejected = function(archive) archive_rejected(archive),
  columns = function(archive) archive_schema(archive),
  incomplete = function(archive) archive_incomplete(archive))

# What a table on a terminal leaves out.
cli_shortened <- list(
  series = function(rows) {
    titled <- !is.null(rows[["title"]]) && !all(is.na(rows$title))
    if (titled) rows$title <- short_names(ifelse(is.na(rows$title), "", rows$title), 28)
    rows[c("id", if (titled) "title", "rows", "first", "last", "bytes")]
  },
  datasets = function(rows) {
    empty <- vapply(rows, function(column) all(is.na(column)), TRUE)
    rows[!empty]
  },
  journal = function(rows) {
    rows <- rows[c("asked", "source", "symbol", "status", "rows", "bytes", "outcome", "message")]
    rows$message <- substr(rows$message, 1, 60)
    rows
  },
  incomplete = function(rows) {
    rows$from <- format(rows$from, "%Y-%m-%d")
    rows$to <- format(rows$to, "%Y-%m-%d")
    windows <- !all(is.na(rows$from))
    rows[c("source", "dataset", "label", if (windows) c("from", "to"), "reason")]
  }
)
