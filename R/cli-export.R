cli_export <- function(arguments) {
  options <- cli_arguments(
    arguments, "export", "ID...|SOURCE/DATASET [CONDITION...]",
    c(
      cli_read_options(),
      list(
        cli_form_option(
          "long", "; sides: bars, a column a side; sdmx: statistics as SDMX-CSV"
        ),
        cli_option("value", "[close]"), cli_option("zone", "[UTC]"),
        cli_option(
          "labels", "statistics: codes, labels or both [codes]",
          default = "codes", metavar = "WORD"
        ),
        cli_option("language", "[en]", default = "en"),
        cli_option(
          "multiplier",
          "statistics: keep the unit's power of ten, or apply it [keep]",
          default = "keep", metavar = "WORD"
        ),
        cli_option(
          "file",
          paste0(
            ": .csv, .tsv, .jsonl, .parquet, .xlsx, .rds, or a folder ",
            "of Parquet ", "that ends in /; by default CSV on standard output"
          )
        ),
        cli_option(
          "part-by",
          paste0(
            "a folder: the column by whose values it is parted [series ",
            "or symbol]"
          ),
          metavar = "COLUMN"
        ),
        cli_option(
          "instants",
          "bars of a day or longer: the instant of the opening, not the day",
          flag = TRUE
        ),
        cli_option("columns"), cli_option("span"), cli_option("members"),
        cli_option(
          "dictionary", "write beside the file what its columns are",
          flag = TRUE
        ),
        cli_option("append", "; new times become rows"),
        cli_option("table"),
        cli_option(
          "new-only",
          "--append: do not change values that the file has already",
          flag = TRUE
        ),
        cli_option(
          "database",
          paste0(
            "a database that gets plain tables: an SQLite file, or ",
            "postgresql://user@host/name"
          ),
          metavar = "DATABASE"
        )
      ),
      cli_json_option()
    ),
    c(
      "vetusta export \"KELD@1 minute\" --resample \"1 day\" --file keld.csv",
      paste0(
        "vetusta export \"KELD@1 minute\" kelder-lock --form wide --file ",
        "both.xlsx"
      ),
      "vetusta export \"basin/LOCK_TRAFFIC/M.ORV.*\" --labels both",
      "vetusta export quay/directory type=share",
      "vetusta export --database desk.sqlite"
    )
  )
  targets <- intersect(
    c("file", "append", "database"), names(options)[lengths(options) > 0]
  )
  if (length(targets) > 1) {
    cli_usage_error(
      "--", targets[1], " and --", targets[2], " are two places to write to"
    )
  }
  if (!is.null(options$database)) {
    return(cli_export_into(options))
  }
  if (!length(options$words)) {
    cli_usage_error("it needs ID...|SOURCE/DATASET [CONDITION...]")
  }
  cli_export_alone(options)
  if (!is.null(options$file) && !grepl("/$", options$file)) {
    whole_target(options$file, "export")
  }
  parted <- cli_export_parted(options)
  if (!is.null(parted)) {
    return(cli_say("wrote ", options$file, ": ", parted))
  }
  rows <- cli_export_wanted(options)
  zone <- options$zone %||% "UTC"
  what <- counted(nrow(rows), cli_unit(rows))
  if (!is.null(options$append)) {
    done <- export_append(
      rows, options$append, options$table, !options$new_only, zone
    )
    return(
      if (options$json) {
        cli_print_json(unclass(done))
      } else {
        cli_say(format_append(done))
      }
    )
  }
  if (!is.null(options$file)) {
    export_table(rows, options$file, zone, options$part_by, options$dictionary)
    return(cli_say("wrote ", options$file, ": ", what))
  }
  if (options$json) cli_print_json(rows) else export_csv(rows, "", zone)
  cli_say("wrote ", what)
}

# Refuses options that have no effect on an export.
cli_export_alone <- function(options) {
  refuse <- function(names, without, why) {
    for (name in names) {
      given <- options[[gsub("-", "_", name)]]
      if (length(given) && !isFALSE(given) && is.null(options[[without]])) {
        cli_usage_error("--", name, " is for ", why)
      }
    }
  }
  refuse(c("table", "new-only"), "append", "--append")
  refuse(c("part-by", "dictionary"), "file", "--file")
  if (!is.null(options$part_by) && !grepl("/$", options$file)) {
    cli_usage_error("--part-by is for a folder, whose name ends in /")
  }
}

# Writes series of one dataset into a folder a few at a time; NULL where a
# single file was asked for. Returns the amount written, in words.
cli_export_parted <- function(options) {
  other <- options$form != "long" ||
    options$labels != "codes" ||
    options$multiplier != "keep" ||
    !is.null(options$resample) ||
    isTRUE(options$dictionary) ||
    !is.null(options$append) ||
    !is.null(options$columns) ||
    !is.null(options$span) ||
    !is.null(options$members) ||
    options$instants
  if (is.null(options$file) || !grepl("/$", options$file) || other) {
    return(NULL)
  }
  archive <- cli_archive(options)
  conditions <- grepl("[=<>~]", options$words)
  words <- cli_ids(options$words[!conditions])
  datasets <- store_datasets(archive)
  if (length(words) == 1 &&
    words %in% paste0(datasets$source, "/", datasets$dataset)) {
    return(NULL)
  }
  series <- archive_find(archive, words)
  if (series_tables(series) != 1) {
    return(NULL)
  }
  unit <- "row"
  written <- export_series(
    archive,
    options$file,
    words,
    options$from,
    options$to,
    options$as_of,
    cli_calendars(options, series)$calendar$zone %||% "UTC",
    options$part_by,
    change = function(table) {
      unit <<- cli_unit(table)
      rows_filter(
        bars_of_sessions(table, cli_bar_sessions(options)),
        options$words[conditions]
      )
    },
    progress = !isTRUE(options$json)
  )
  counted(written, unit)
}

# Rows of a dataset without series, or series as one table.
cli_export_wanted <- function(options) {
  archive <- cli_archive(options)
  conditions <- grepl("[=<>~]", options$words)
  words <- join_stored_dataset(archive, cli_ids(options$words[!conditions]))
  check <- options$words[conditions]
  options$words <- words
  datasets <- store_datasets(archive)
  plain <- length(words) == 1 &&
    words %in% paste0(datasets$source, "/", datasets$dataset)
  rows <- if (plain) {
    cli_export_rows(archive, words, options)
  } else {
    cli_export_series(archive, options)
  }
  cli_chosen_columns(rows_filter(rows, check), options)
}

cli_chosen_columns <- function(rows, options) {
  rows_columns(rows, cli_list_of(options$columns))
}

cli_export_into <- function(options) {
  for (name in c(
    "resample", "value", "zone", "part_by", "table", "calendar", "dictionary",
    "new_only", "columns", "span", "instants"
  )) {
    if (length(options[[name]]) && !isFALSE(options[[name]])) {
      cli_usage_error(
        "--", gsub("_", "-", name), " is not for a database's tables"
      )
    }
  }
  if (options$form != "long") {
    cli_usage_error("--form is not for a database's tables")
  }
  if (any(grepl("[=<>~]", options$words))) {
    cli_usage_error("conditions are not for a database's tables; use SQL there")
  }
  done <- export_database(
    cli_archive(options), options$database,
    if (length(options$words)) cli_ids(options$words), options$from,
    options$to, options$as_of
  )
  if (options$json) {
    cli_print_json(done)
  } else {
    cli_print_table(done, "the archive is empty")
  }
}

cli_unit <- function(rows) {
  if (is_bars(rows)) {
    "bar"
  } else if (!is.null(rows[["value"]])) {
    "value"
  } else {
    "row"
  }
}

# Rows of a dataset without series.
cli_export_rows <- function(archive, id, options) {
  parts <- strsplit(id, "/", fixed = TRUE)[[1]]
  given <- names(options)[lengths(options) > 0]
  for (name in intersect(
    c("from", "to", "span", "resample", "value", "calendar"), given
  )) {
    cli_usage_error(
      "these rows have no time, so that --", name, " is not for rows"
    )
  }
  for (name in c("form", "labels", "multiplier")) {
    if (!options[[name]] %in% c("long", "codes", "keep")) {
      cli_usage_error(
        "these rows are no series, so that --", name, " is not for rows"
      )
    }
  }
  archive_rows(archive, parts[1], parts[2], as_of = options$as_of)
}

cli_export_series <- function(archive, options) {
  if (!is.null(options$members)) {
    options$words <- cli_ids_of_members(archive, options$words, options)
  }
  short <- longer_ids(archive, options$words)
  series <- archive_find(
    archive, c(setdiff(options$words, short$id), short$stored)
  )
  known <- cli_calendars(options, series)
  zone <- known$calendar$zone %||% "UTC"
  tables <- cli_read_longer(
    archive, setdiff(options$words, short$id), short, options, series, known,
    zone, cli_longer(options)
  )
  tables <- cli_distinct(cli_only_members(tables, options, zone), series)
  if (!is.null(options$span)) {
    tables <- lapply(tables, cli_last_span, options$span, zone)
  }
  if (options$form == "sdmx") {
    return(cli_export_sdmx(archive, tables, options))
  }
  check_choice(options$form, "--form", c("long", "wide", "sides", "sdmx"))
  export_rows(
    tables, options$form, options$value %||% "close", zone, options$instants
  )
}

# Statistics as SDMX-CSV, with the dataflow's official name.
cli_export_sdmx <- function(archive, tables, options) {
  if (length(tables) != 1 || is_bars(tables[[1]])) {
    cli_usage_error("--form sdmx is for statistics of one dataset")
  }
  parts <- strsplit(names(tables), "/", fixed = TRUE)[[1]]
  source <- cli_desk_source(options, parts[1])
  dimensions <- names(
    series_dimensions(store_series(archive, parts[1], parts[2]))
  )
  sdmx_rows(
    tables[[1]],
    paste0(source$sdmx$agency %||% toupper(parts[1]), ":", parts[2], "(1.0)"),
    dimensions
  )
}
