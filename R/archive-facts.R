# Facts of a dataset that travel with its tables: zone, calendar and delay of
# its source, its title, and the type and unit of each column.

dataset_facts <- function(archive, source, dataset) {
  document <- store_structure(archive, source, paste0("facts:", dataset))
  if (is.null(document)) list() else unserialize(document$body)
}

# Writes facts where they differ from the stored ones.
dataset_facts_put <- function(archive, source, dataset, facts) {
  facts <- facts[!vapply(facts, is.null, TRUE)]
  old <- dataset_facts(archive, source, dataset)
  new <- old
  new[names(facts)] <- facts
  if (!identical(old, new)) {
    store_structure_put(
      archive, source, paste0("facts:", dataset), NA, NA, serialize(new, NULL)
    )
  }
  invisible(new)
}

# Adds the facts of its dataset to a table; bars get the interval of their
# series too.
with_dataset_facts <- function(table, archive, series, language = "en") {
  facts <- dataset_facts(archive, series$source[1], series$dataset[1])
  titles <- archive_titles(archive, series, language)
  names <- as.character(series_dimensions(series)[["symbol"]] %||% series$key)
  known <- !is.na(titles) & !duplicated(names)
  # a dataset with one series has that series' title
  facts$title <- if (any(known)) {
    stats::setNames(titles[known], names[known])
  } else if (length(unique(names)) == 1 &&
    length(facts$title) &&
    series$shape[1] != "bars") {
    stats::setNames(facts$title[[1]], names[1])
  }
  frequency <- unique(series$frequency)
  if (length(frequency) == 1 && startsWith(frequency, "P")) {
    facts$interval <- time_interval(frequency)
  }
  facts$source <- paste0(series$source[1], "/", series$dataset[1])
  with_facts(table, facts)
}

# Titles of series: the labels of their codes, or the name of their instrument
# or place in a directory of their source. NA where none is stored.
archive_titles <- function(archive, series, language = "en") {
  out <- rep(NA_character_, nrow(series))
  groups <- split(
    seq_len(nrow(series)), paste(series$source, series$dataset, sep = "\r")
  )
  for (rows in groups) {
    part <- series[rows, ]
    labels <- archive_labels(archive, part$source[1], part$dataset[1])
    if (length(labels)) {
      out[rows] <- series_names(series_dimensions(part), labels, language)
      next
    }
    key <- as.character(series_dimensions(part)[["symbol"]] %||% part$key)
    names <- store_named(archive, part$source[1], unique(key))
    out[rows] <- unname(names[key])
  }
  out[!nzchar(out)] <- NA
  out
}

# Names of instruments and places by key, from the directories of a source.
store_named <- function(store, source, keys) {
  datasets <- sql_get(
    store,
    "SELECT DISTINCT dataset FROM types WHERE source = ?
    AND name = 'name'",
    list(source)
  )$dataset
  records <- lapply(datasets, function(dataset) {
    sql_get(
      store,
      "SELECT key, body FROM (SELECT key, body, row_number() OVER (PARTITION
      BY key ORDER BY known DESC) AS nth FROM records WHERE source = ? AND
      dataset = ? AND shape IN ('instruments', 'places') AND key IN @texts) r
      WHERE nth = 1",
      list(source, dataset, json_array(keys))
    )
  })
  records <- do.call(rbind, records)
  if (!NROW(records)) {
    return(character())
  }
  name <- words_frame(records$body)[["name"]]
  stats::setNames(name, records$key)[!duplicated(records$key)]
}

#' Schema of a dataset
#'
#' @param archive An archive.
#' @param source,dataset The names of a source and of its dataset; `NULL` for
#'   all.
#' @return A tibble with a row per column of a dataset: `source`, `dataset`,
#'   `column`, `type` (`text`, `number`, `flag`, `day`, `instant`), `unit` (`NA`
#'   if none is stated) and `changed` (`number to text` if later values turned
#'   the column into text; earlier values are then read as text).
#' @details The type of a column is decided once, by the card, by the shape or
#'   by the first values, and every later value is read as that type. A text is
#'   a number only if the number, written again, gives the same text: `00123`,
#'   `0E12`, `+1` and numbers of more than 15 digits stay text, and so do quoted
#'   values. Trailing zeros after a decimal point do not count.
#' @section Errors: `vetusta_error_argument` for a source or dataset that the
#'   archive lacks.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
#' archive_import(archive, csv, symbol = "KELD", interval = "1 day")
#' archive_schema(archive)
archive_schema <- function(archive, source = NULL, dataset = NULL) {
  check_archive(archive)
  types <- sql_get(
    archive,
    "SELECT source, dataset, name, type FROM types
    ORDER BY source, dataset, name"
  )
  if (!is.null(source)) {
    types <- types[
      types$source == check_known(source, unique(types$source), "source"),
    ]
  }
  if (!is.null(dataset)) {
    types <- types[
      types$dataset == check_known(dataset, unique(types$dataset), "dataset"),
    ]
  }
  changed <- store_notes(archive, "widened")
  key <- function(x, name) paste(x$source, x$dataset, name, sep = "\r")
  unit <- rep(NA_character_, nrow(types))
  for (place in split(
    seq_len(nrow(types)), paste(types$source, types$dataset, sep = "\r")
  )) {
    known <- dataset_facts(
      archive, types$source[place[1]], types$dataset[place[1]]
    )$unit
    if (length(known)) unit[place] <- unname(known[types$name[place]])
  }
  as_rows(
    list(
      source = as.character(types$source),
      dataset = as.character(types$dataset),
      column = as.character(types$name),
      type = as.character(types$type),
      unit = unit,
      changed = as.character(changed$value)[
        match(key(types, types$name), key(changed, changed$key))
      ]
    )
  )
}

# The rows of a table that were known at an instant. The store has left out
# later rows; rows without a stated instant count from the end of their period.
vintage_at <- function(table, at) {
  if (!is.finite(at) || !nrow(table)) {
    return(table)
  }
  series <- as_series(table)
  facts <- frame_facts(series)
  known <- row_times(series, end_times(series, facts), facts)$known
  if (all(known <= at)) table else table[known <= at, , drop = FALSE]
}

# When the periods of a series end, by shape: values without a stated instant
# count from then.
shape_ends <- list(
  bars = function(time, frequency, facts) {
    facts$interval <- time_interval(frequency)
    end_times(with_shape(list_frame(list(time = time)), "vetusta_bars"), facts)
  },
  observations = function(time, frequency, facts) {
    n <- length(time)
    observation_ends(time, rep(frequency, n), facts$zone, rep(1L, n))
  },
  facts = function(time, frequency, facts) as.numeric(time) + 86400
)

# The instants from which rows of series count; NA where none is stated.
rows_known <- function(archive, series, read) {
  known <- as.numeric(read$columns$known)
  for (i in unique(read$owner[is.na(known)])) {
    at <- which(read$owner == i & is.na(known))
    facts <- dataset_facts(archive, series$source[i], series$dataset[i])
    facts <- frame_facts(with_facts(list(), facts))
    end <- shape_ends[[series$shape[i]]](
      read$columns$time[at], series$frequency[i], facts
    )
    known[at] <- if (is.null(facts$delay)) {
      end
    } else {
      as.numeric(shift_instant(utc(end), facts$delay, 1, facts$zone))
    }
  }
  utc(known)
}
