cli_rows <- function(arguments) {
  options <- cli_arguments(
    arguments, "rows", "SOURCE/DATASET [CONDITION...]",
    c(
      list(
        cli_option(
          "join",
          "another dataset whose columns are put beside, by what both have",
          metavar = "SOURCE/DATASET"
        ),
        cli_option(
          "compute",
          "new columns from others, as \"spread=ask-bid\", with ; between",
          metavar = "FORMULAS"
        ),
        cli_option(
          "sort",
          paste0(
            "columns to sort by, with commas; a hyphen after a column: ",
            "largest first"
          ),
          metavar = "COLUMNS"
        ),
        cli_option("limit", "rows"), cli_option("columns"),
        cli_option(
          "distinct", "the first row of each combination of these",
          metavar = "COLUMNS"
        ),
        cli_option(
          "count", "how many rows there are of each combination of these",
          metavar = "COLUMNS"
        ),
        cli_option("complete"),
        cli_option(
          "open-list", "write them with links that open, as .html or .xlsx",
          metavar = "FILE"
        ),
        cli_option("list", "; the first column shown"), cli_option("as-of")
      ),
      cli_place_options(), cli_result_options()
    ),
    c(
      "vetusta rows quay/directory type=share name~barge --sort symbol",
      paste0(
        "vetusta rows quay/market \"volume>=10000\" --join quay/directory ",
        "--sort volume- --limit 10"
      ),
      paste0(
        "vetusta rows quay/market \"last>open\" --compute ",
        "\"gain=100*(last/open-1)\" --sort gain-"
      ),
      "vetusta rows quay/directory --count type",
      "vetusta rows basin/LOCK_TRAFFIC/codes dimension=CARGO",
      "vetusta rows river/stations --columns place --list stations.txt"
    ),
    least = 1
  )
  archive <- cli_archive(options)
  rows <- cli_rows_of(archive, options$words[1], options$as_of)
  at <- rows[["at"]]
  if (!is.null(options$join)) {
    other <- cli_rows_of(archive, options$join, options$as_of)
    rows <- rows_join(rows, list_current(other))
  }
  rows <- rows_compute(rows, cli_formulas(options$compute))
  rows <- rows_filter(rows, options$words[-1])
  if (!is.null(options$sort)) rows <- rows_sort(rows, cli_list_of(options$sort))
  if (!is.null(options$distinct)) {
    rows <- rows_distinct(rows, cli_list_of(options$distinct))
  }
  if (!is.null(options$count)) {
    rows <- rows_count(rows, cli_list_of(options$count))
  }
  most <- cli_number(options, "limit", 1)
  if (!is.null(most)) rows <- utils::head(rows, most)
  rows <- cli_chosen_columns(rows, options)
  if (options$complete) rows <- cli_complete(rows)
  if (!is.null(options$open_list)) {
    export_links(
      cli_whole_links(rows, options), options$open_list, options$words[1]
    )
    return(
      cli_say("wrote ", options$open_list, ": ", counted(nrow(rows), "row"))
    )
  }
  if (!is.null(options$list)) {
    return(cli_write_list(rows[[1]], options$list))
  }
  cli_put(rows, options)
  if (length(at)) cli_say("snapshot of ", format_instant(max(at)))
  cli_say_rows(archive, options, names(rows))
}

cli_formulas <- function(text) {
  if (is.null(text)) {
    character()
  } else {
    trimws(strsplit(text, ";", fixed = TRUE)[[1]])
  }
}

# Writes values as a list file for a desk, one a line.
cli_write_list <- function(column, file) {
  values <- unique(condition_texts(column))
  write_lines_whole(values[!is.na(values)], file, "export")
  cli_say(
    "wrote ", file, ": ", counted(length(values), "value"),
    "; in a desk: {file: ", basename(file), "}"
  )
}

# The units of a dataset's columns, and the title of its only series.
cli_say_rows <- function(archive, options, shown) {
  if (options$json || !is.null(options$file)) {
    return(invisible())
  }
  parts <- strsplit(options$words[1], "/", fixed = TRUE)[[1]]
  facts <- dataset_facts(archive, parts[1], parts[2])
  units <- facts$unit[names(facts$unit) %in% shown]
  if (length(units)) {
    cli_say("units: ", paste0(names(units), " in ", units, collapse = ", "))
  }
  series <- store_series(archive, parts[1], parts[2])
  titles <- archive_titles(archive, series)
  known <- which(!is.na(titles) & !duplicated(series$key))
  if (length(known) && length(known) <= 10) {
    cli_say(paste0(series$key[known], ": ", titles[known], collapse = "\n"))
  }
}

# Rows without missing values.
cli_complete <- function(rows) {
  whole <- Reduce(
    `&`, lapply(as.list(rows), function(column) !is.na(column)), TRUE
  )
  if (!all(whole)) {
    cli_say(counted(sum(!whole), "row"), " with something missing left out")
  }
  rows[whole, , drop = FALSE]
}

# Relative links are completed with the source's URL, where its card is
# available.
cli_whole_links <- function(rows, options) {
  source <- tryCatch(
    cli_source(options, sub("/.*", "", options$words[1])),
    vetusta_error = function(e) NULL
  )
  if (!is.null(source) && is.character(rows[["link"]])) {
    known <- !is.na(rows$link)
    rows$link[known] <-
      vapply(rows$link[known], link_whole, "", base = source$url)
  }
  rows
}

# Rows of any stored dataset, including series and their values.
cli_rows_of <- function(archive, id, as_of = NULL) {
  parts <- strsplit(id, "/", fixed = TRUE)[[1]]
  if (length(parts) == 3 && parts[3] == "codes") {
    return(archive_codes(archive, parts[1], parts[2], as_of))
  }
  if (length(parts) != 2) {
    cli_usage_error(
      "\"", id,
      "\" must be a source and a dataset, as quay/directory; `vetusta ",
      "list datasets` shows the stored datasets"
    )
  }
  archive_rows(archive, parts[1], parts[2], as_of = as_of)
}

# The dataset of a shape: the named one, else the only stored one, of one source
# if given.
cli_dataset_of_shape <- function(archive, shape, named = NULL, source = NULL,
                                 why = "") {
  if (!is.null(named)) {
    return(named)
  }
  datasets <- datasets_of_shape(archive_datasets(archive), shape)
  if (!is.null(source)) datasets <- datasets[datasets$source %in% source, ]
  if (nrow(datasets) == 1) {
    return(paste0(datasets$source, "/", datasets$dataset))
  }
  vetusta_stop(
    "argument",
    paste0(
      "The archive has ",
      if (nrow(datasets)) "several datasets of " else "no ", shape,
      if (!is.null(source)) paste0(" of ", paste(source, collapse = ", ")),
      why, "."
    ),
    todo = if (nrow(datasets)) {
      paste0(
        "name one: ",
        paste0(datasets$source, "/", datasets$dataset, collapse = ", ")
      )
    } else {
      "collect them first; `vetusta find` shows which datasets there are"
    }
  )
}

cli_near <- function(arguments) {
  options <- cli_arguments(
    arguments, "near", "LATITUDE,LONGITUDE [SOURCE/DATASET] [CONDITION...]",
    c(
      list(
        cli_option(
          "within", "the greatest distance, along the great circle [50 km]",
          default = "50 km", metavar = "LENGTH"
        ),
        cli_option("limit", "places")
      ),
      cli_place_options(), cli_result_options()
    ),
    c(
      "vetusta near 57.1,24.3 --within \"30 km\"",
      "vetusta near 57.1,24.3 river/stations \"years>=20\" --limit 3"
    ),
    least = 1
  )
  point <- suppressWarnings(
    as.numeric(strsplit(options$words[1], ",", fixed = TRUE)[[1]])
  )
  if (length(point) != 2 || anyNA(point)) {
    cli_usage_error(
      "\"", options$words[1],
      "\" must be a latitude and a longitude in degrees, ", "as 57.1,24.3"
    )
  }
  archive <- cli_archive(options)
  more <- options$words[-1]
  conditions <- grepl("[=<>~]", more)
  named <- join_dataset(more[!conditions])
  if (length(named) > 1) {
    cli_usage_error("\"", named[2], "\" is an unexpected word")
  }
  id <- cli_dataset_of_shape(archive, "places", if (length(named)) named)
  places <- cli_records(archive, cli_rows_of(archive, id), sub("/.*", "", id))
  places <- rows_filter(places, more[conditions])
  near <- places_near(
    places, point[1], point[2], options$within,
    cli_number(options, "limit", 1) %||% Inf
  )
  cli_put(near, options, "place")
  if (!nrow(near)) {
    return(cli_say("no place within this distance; try a larger --within"))
  }
  cli_near_next(archive, id, near)
}

# Stored values of each place: first, last, number, and share of days.
cli_records <- function(archive, places, source) {
  series <- archive_series(archive)
  series <- series[series$source == source & series$key %in% places$place, ]
  first <- match(places$place, series$key)
  if (all(is.na(first))) {
    return(places)
  }
  days <- as.numeric(difftime(series$last, series$first, units = "days")) + 1
  places$first_value <- as.Date(series$first)[first]
  places$last_value <- as.Date(series$last)[first]
  places$years <- round(days / 365.25, 1)[first]
  places$rows <- series$rows[first]
  places$coverage <- round(pmin(1, series$rows / days), 4)[first]
  places$rows[is.na(places$rows)] <- 0
  places
}

cli_near_next <- function(archive, id, near) {
  source <- sub("/.*", "", id)
  cli_say(
    "\nnext: vetusta describe ", source, "; then collect the series of ",
    paste(utils::head(near$place, 3), collapse = ",")
  )
}
