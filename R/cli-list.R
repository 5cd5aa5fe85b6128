cli_list <- function(arguments) {
  options <- cli_arguments(
    arguments, "list",
    paste0("[", paste(names(cli_lists), collapse = "|"), "|PATTERN...]"),
    c(cli_place_options(), cli_json_option()),
    c(
      "vetusta list", "vetusta list \"quay/bars/K*\"", "vetusta list series",
      "vetusta list journal --json"
    )
  )
  words <- options$words
  what <- if (length(words)) words[1] else "datasets"
  if (!what %in% names(cli_lists)) {
    return(cli_list_matches(words, options))
  }
  if (length(words) > 1) {
    cli_usage_error("\"", words[2], "\" is an unexpected word")
  }
  read <- cli_lists[[what]]
  open <- function() cli_archive(options)
  # lists that grow with each request are not cached
  rows <- if (what %in% c("series", "datasets")) {
    archive_listed(
      options$archive %||% cli_desk(options)$archive, what, open, read
    )
  } else {
    read(open())
  }
  cli_list_shown(rows, what, options)
}

# In a terminal so many series have their last values beside them.
cli_courses_most <- 40

# Series by ID or pattern.
cli_list_matches <- function(words, options) {
  near <- nearest_word(words[1], names(cli_lists), most = 1)
  if (length(words) == 1 && !is.null(near)) {
    cli_usage_error(
      "\"", words[1], "\" cannot be listed; did you mean \"", near, "\"?"
    )
  }
  archive <- cli_archive(options)
  words <- join_stored_dataset(archive, words)
  rows <- with_units(archive, archive_find(archive, cli_ids(words)))
  if (isatty(stdout()) && !options$json && nrow(rows) <= cli_courses_most) {
    rows$course <- archive_courses(archive, rows)
  }
  cli_list_shown(rows, "series", options)
}

# Series with the unit of their values, where it is stated.
with_units <- function(archive, rows) {
  unit <- rep(NA_character_, nrow(rows))
  groups <- split(
    seq_len(nrow(rows)), paste(rows$source, rows$dataset, sep = "\r")
  )
  for (group in groups) {
    known <- dataset_facts(
      archive, rows$source[group[1]], rows$dataset[group[1]]
    )$unit
    value <- known[intersect(c("value", "close"), names(known))]
    if (length(value)) unit[group] <- value[[1]]
  }
  rows$unit <- unit
  rows
}

cli_list_shown <- function(rows, what, options) {
  if (options$json) {
    return(cli_print_json(rows))
  }
  shorten <- cli_shortened[[what]] %||% identity
  status <- cli_print_table(
    shorten(rows),
    cli_lists_empty[[what]] %||% paste0("the archive has no ", what, " yet")
  )
  open <- attr(rows, "incomplete") %||% 0
  if (open > 0) {
    cli_say(
      "\n", counted(open, "window"), if (open == 1) " is" else " are",
      " incomplete: see `vetusta list incomplete`"
    )
  }
  status
}

cli_lists_empty <- list(incomplete = "every window is complete")

# Datasets with their titles, and whether all of their windows are complete.
listed_datasets <- function(archive) {
  rows <- archive_datasets(archive)
  rows$title <- vapply(
    seq_len(nrow(rows)),
    function(i) {
      dataset_facts(archive, rows$source[i], rows$dataset[i])$title %||%
        NA_character_
    },
    ""
  )
  open <- archive_incomplete(archive)
  count <- vapply(
    seq_len(nrow(rows)),
    function(i) {
      sum(open$source == rows$source[i] & open$dataset == rows$dataset[i])
    },
    1
  )
  rows$windows <- ifelse(count == 0, "complete", paste(count, "incomplete"))
  # rows of a file have no window that was asked for
  asked <- vapply(
    seq_len(nrow(rows)),
    function(i) store_was_requested(archive, rows$source[i], rows$dataset[i]),
    TRUE
  )
  rows$windows[!asked & count == 0] <- NA
  rows
}

# Times of series: dates for days and longer, else minutes in UTC.
listed_times <- function(time, frequency) {
  within <- grepl("^PT", frequency)
  text <- to_minute(time, "")
  ifelse(within, text, substr(text, 1, 10))
}

# A list with the number of incomplete windows.
with_incomplete <- function(read) {
  function(archive) {
    structure(read(archive), incomplete = nrow(archive_incomplete(archive)))
  }
}

cli_lists <- list(
  datasets = with_incomplete(function(archive) listed_datasets(archive)),
  series = with_incomplete(function(archive) archive_series(archive)),
  journal = function(archive) archive_journal(archive),
  rejected = function(archive) archive_rejected(archive),
  columns = function(archive) archive_schema(archive),
  incomplete = function(archive) archive_incomplete(archive)
)

# Columns and rows that a terminal does not show.
cli_shortened <- list(
  series = function(rows) {
    titled <- !is.null(rows[["title"]]) && !all(is.na(rows$title))
    if (titled) {
      rows$title <- short_names(ifelse(is.na(rows$title), "", rows$title), 28)
    }
    for (name in c("first", "last")) {
      rows[[name]] <- listed_times(rows[[name]], rows$frequency)
    }
    unit <- if (!is.null(rows[["unit"]]) && any(!is.na(rows$unit))) "unit"
    course <- if (!is.null(rows[["course"]])) "course"
    rows[c(
      "id", if (titled) "title", course, unit, "rows", "first", "last", "bytes"
    )]
  },
  datasets = function(rows) {
    for (name in c("first", "last")) {
      rows[[name]] <- substr(to_minute(rows[[name]], ""), 1, 10)
    }
    rows$title <- short_names(ifelse(is.na(rows$title), "", rows$title), 32)
    rows <- rows[
      c(
        "source", "dataset", "title", "series", "rows", "first", "last",
        "windows"
      )
    ]
    empty <- vapply(
      rows, function(column) all(is.na(column) | column %in% ""), TRUE
    )
    rows[!empty]
  },
  journal = function(rows) {
    rows <- rows[
      c(
        "asked", "source", "symbol", "status", "rows", "bytes", "outcome",
        "message"
      )
    ]
    rows$message <- substr(rows$message, 1, 60)
    rows
  },
  incomplete = function(rows) {
    rows$from <- format(rows$from, "%Y-%m-%d")
    rows$to <- format(rows$to, "%Y-%m-%d")
    windows <- !all(is.na(rows$from))
    rows[
      c("source", "dataset", "label", if (windows) c("from", "to"), "reason")
    ]
  }
)
