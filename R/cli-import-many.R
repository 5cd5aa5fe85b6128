# Import of several files, of folders, and by an import card.

cli_imports_many <- function(options) {
  length(options$words) > 1 ||
    any(dir.exists(options$words)) ||
    !is.null(options$card) ||
    !is.null(options$save_card) ||
    !is.null(options$symbol_from)
}

cli_import_many <- function(options) {
  card <- utils::modifyList(
    if (is.null(options$card)) list() else unclass(import_card(options$card)),
    cli_import_words(options)
  )
  attr(card, "file") <- NULL
  if (options$yes) card <- cli_import_decided(options, card)
  if (is.null(card$shape) && is.null(card$interval)) {
    cli_usage_error(
      "several files, and import cards, need --interval for bars or --shape ",
      "for other rows"
    )
  }
  archive <- cli_archive(options, create = TRUE)
  result <- import_files(archive, options$words, card)
  if (options$json) cli_print_json(as.list(unclass(result))) else print(result)
  if (!is.null(options$save_card) && all(result$outcome == "stored")) {
    cli_save_card(options, card, result)
  }
  if (any(result$outcome == "failed") || sum(result$rejected)) 1L else 0L
}

# The words of an import card from options.
cli_import_words <- function(options) {
  words <- options[lengths(options) > 0]
  words <- words[intersect(
    c(
      "shape", "dataset", "interval", "symbol", "symbol_from", "form", "zone",
      "time_as", "calendar", "decimal", "dates", "encoding", "sheet",
      "separator", "thousands", "source"
    ),
    names(words)
  )]
  # options with a default are words only if they differ from it
  usual <- c(
    form = "long", zone = "UTC", time_as = "rfc3339", source = "files"
  )
  for (name in names(usual)) {
    if (identical(words[[name]], usual[[name]])) words[[name]] <- NULL
  }
  if (!is.null(options$skip)) words$skip <- cli_number(options, "skip", 0)
  if (!is.null(options$missing)) words$missing <- cli_list_of(options$missing)
  columns <- cli_by_name(options$map, "map", "time=When,close=Last")
  types <- cli_import_types(options)
  unit <- cli_import_units(options)
  c(
    words,
    if (length(columns)) list(columns = as.list(columns)),
    if (length(types)) list(types = as.list(types)),
    if (length(unit)) {
      list(unit = if (is.null(names(unit))) unit else as.list(unit))
    }
  )
}

# With --yes, what the first file leaves open is decided as it seems.
cli_import_decided <- function(options, card) {
  file <- import_paths(options$words, import_card(card))[1]
  form <- cli_import_form(utils::modifyList(options, list(words = file)))
  for (name in setdiff(unique(names(form$doubts)), names(card))) {
    card[[name]] <- form[[name]]
  }
  card
}

# Writes the card with everything that was read from the first file, so that
# later files are read in the same way.
cli_save_card <- function(options, card, result) {
  file <- result$file[1]
  if (grepl("[.](csv|tsv|txt|xlsx)$", file, ignore.case = TRUE)) {
    form <- import_card_form(file, card$sheet, card)
    if (is_workbook(file)) form$separator <- form$encoding <- NULL
    for (name in setdiff(cli_form_names, c("sheet", names(card)))) {
      card[[name]] <- form[[name]]
    }
    if (identical(card$separator, "\t")) card$separator <- "tab"
    if (identical(card$thousands, "")) card$thousands <- "none"
  }
  if (!is.null(card$skip)) card$skip <- as.integer(card$skip)
  text <- yaml::as.yaml(card, indent.mapping.sequence = TRUE)
  write_lines_whole(
    c(
      "# How files of this kind are written. Import the next one with:",
      paste0("#   vetusta import FILE --card ", basename(options$save_card)),
      strsplit(sub("\n$", "", text), "\n", fixed = TRUE)[[1]]
    ),
    options$save_card, "import"
  )
  cli_say("wrote the card ", options$save_card)
}
