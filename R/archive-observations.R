# Observations of statistics offices and other sources as tables, and their
# revisions.

#' Read observations from an archive
#'
#' @param archive An archive.
#' @param source,dataset The names of the source and of its dataset.
#' @param ... Dimensions by name, with codes, labels or patterns, as `STATE =
#'   c("ORV", "Teskland")`. Other dimensions are not restricted.
#' @param as_of An instant or a day: the values as known then. `NULL` gives the
#'   latest.
#' @param from,to Days, years or other periods; periods that begin between them,
#'   both included, are read.
#' @param labels `"codes"`, `"labels"` or `"both"` (`"ORV Orvane"`) in dimension
#'   columns and names.
#' @param language The language of the labels.
#' @param keys A named list of further dimensions and their codes, for a
#'   dimension with the name of an argument, as `list(from = "ORV")`.
#' @param columns Whether each dimension is a column; otherwise dimensions are
#'   only in the key of the series.
#' @param multiplier `"keep"` keeps the unit's power of ten as a column,
#'   `"apply"` multiplies the values by it.
#' @return Observations, see [series_frame()]. `series` is the key: the codes in
#'   the order of the structure, with points between. Further columns are `name`
#'   (from the dimensions that vary), the dimensions, and the attributes of
#'   series and values; a dimension or attribute with the name of an earlier
#'   column gets the prefix `dim_`. If values belong to instants, such as hours,
#'   all rows have a `time` (`POSIXct`) in place of a `period`. Deleted values
#'   are left out, and the attributes are those at `as_of`. `known` is the
#'   release of the value; if the service states none, a first value has `NA`
#'   and counts from the end of its period, and a changed value counts from its
#'   arrival.
#' @section Errors: `vetusta_error_argument` for a source, dataset, dimension or
#'   code that the archive lacks, with the nearest stored one.
#' @export
#' @examples
#' \dontrun{
#' archive_observations(archive, "basin", "LOCK_TRAFFIC",
#'   STATE = "ORV", as_of = "2026-02-01",
#'   labels = "labels"
#' )
#' }
archive_observations <- function(archive, source, dataset, ..., as_of = NULL,
                                 from = NULL, to = NULL, labels = "codes",
                                 language = "en", columns = TRUE,
                                 multiplier = "keep", keys = list()) {
  check_archive(archive)
  check_choice(labels, "labels", c("codes", "labels", "both"))
  check_choice(multiplier, "multiplier", c("keep", "apply"))
  check_text(language, "language")
  check_flag(columns, "columns")
  at <- known_at(as_of)
  store_snapshot(archive, function() {
    series <- stored_series(archive, source, dataset, c(list(...), keys))
    read_table(
      archive, series, from, to, at, "UTC",
      labels = labels,
      language = language, with = columns, multiplier = multiplier
    )
  })
}

# Observations with the dimensions and attributes of a statistics office, or
# those of another source.
table_of_observations <- function(archive, series, from, to, at, zone,
                                  labels = "codes", language = "en",
                                  with = TRUE, multiplier = "keep",
                                  newest = TRUE) {
  window <- period_window(from, to)
  read <- read_rows(archive, series, window[1], window[2], at, newest)
  ends <- table_ends(archive, series, read)
  if (is_plain(series)) {
    rows <- plain_observations(series, read)
    # the frequency that was stored, and the end of each value in a table of
    # times
    frequency <- series$frequency[read$owner]
    frequency[frequency %in% unknown_frequency(frequency)] <- NA
    if (!is.null(ends) || !is.null(rows$period)) rows$frequency <- frequency
    # a stated end counts where it is later
    if (!is.null(ends)) {
      stated <- stated_instants(rows, "through", as.numeric(ends))
      rows$through <- utc(pmax(as.numeric(ends), stated))
    }
    table <- plain_table_of(rows)
    return(vintage_at(with_dataset_facts(table, archive, series), at))
  }
  said <- store_attributes(archive, series$id, at)
  known <- archive_labels(archive, series$source[1], series$dataset[1])
  table <- observation_rows(
    read, series, words_frame(said), known, labels, language, with, multiplier,
    ends
  )
  vintage_at(with_dataset_facts(table, archive, series, language), at)
}

# The ends of values in a table with times of the day. NULL in a table of
# periods, and in one of instants alone, which end as they begin.
table_ends <- function(archive, series, read) {
  if (!any(within_day(series$frequency)) || all(series$frequency == "I")) {
    return(NULL)
  }
  facts <- dataset_facts(archive, series$source[1], series$dataset[1])
  zone <- frame_facts(with_facts(list(), facts))$zone
  utc(
    observation_ends(
      read$columns$time, series$frequency[read$owner], zone, read$owner
    )
  )
}

# Whether the only dimension of series is their name.
is_plain <- function(series) {
  identical(names(series_dimensions(series)), "series")
}

# Observations of other sources: name, period or instant, value, and further
# columns.
plain_observations <- function(series, read) {
  columns <- read$columns
  times <- any(within_day(series$frequency))
  period <- columns[["period"]] %||%
    epoch_days(floor(as.numeric(columns$time) / 86400))
  clock <- if (times) list(time = columns$time) else list(period = period)
  rest <- columns[setdiff(names(columns), c("time", "known", "period"))]
  # the column exists where at least one series has it
  if (!all(is.na(as.numeric(columns$known)))) rest$known <- columns$known
  c(
    list(series = series$key[read$owner]), clock,
    rest[c("value", setdiff(names(rest), "value"))]
  )
}

plain_table_of <- function(rows) {
  if (is.null(rows$value)) rows$value <- rep(NA_real_, length(rows$series))
  if (!is.null(rows[["period"]])) {
    without_notes(series_frame(list_frame(rows)))
  } else {
    as_rows(ordered_rows(rows, c("series", "time")))
  }
}

# Series of a dataset with the requested codes or labels.
stored_series <- function(archive, source, dataset, wanted) {
  all <- store_series(archive, shape = "observations")
  check_known(source, unique(all$source), "source")
  check_known(dataset, unique(all$dataset[all$source == source]), "dataset")
  series <- all[all$source == source & all$dataset == dataset, ]
  series <- series[order(series$id), ]
  dims <- series_dimensions(series)
  lists <- if (length(wanted)) archive_labels(archive, source, dataset)
  if (length(wanted) &&
    (is.null(names(wanted)) || any(!nzchar(names(wanted))))) {
    vetusta_stop(
      "argument", "Codes need the name of their dimension.",
      todo = "write them as STATE = \"ORV\""
    )
  }
  for (name in unique(names(wanted))) {
    dimension <- names(dims)[match(tolower(name), tolower(names(dims)))]
    if (is.na(dimension)) check_choice(name, "dimension", names(dims))
    codes <- stored_codes(
      unlist(wanted[names(wanted) == name]), unique(dims[[dimension]]),
      lists[[dimension]], dimension
    )
    keep <- dims[[dimension]] %in% codes
    series <- series[keep, ]
    dims <- dims[keep, , drop = FALSE]
  }
  series
}

# Stored codes that match the given codes, labels or patterns of a dimension.
stored_codes <- function(values, codes, list, dimension) {
  labels <- lapply(list$labels, function(text) text[match(codes, list$id)])
  all <- unlist(labels, use.names = FALSE)
  find <- function(value, strict) {
    if (value %in% codes) {
      return(value)
    }
    fits <- function(texts) {
      if (grepl("[*?]", value)) {
        grepl(utils::glob2rx(tolower(value)), tolower(texts))
      } else {
        tolower(texts) == tolower(value)
      }
    }
    hit <- fits(codes)
    for (text in labels) hit <- hit | (!is.na(text) & fits(text))
    if (!any(hit) && strict) {
      check_known(
        value, c(codes, unique(all[!is.na(all)])),
        paste("dimension", dimension, "code")
      )
    }
    codes[hit]
  }
  unique(
    unlist(
      lapply(
        split_codes(values, function(text) length(find(text, FALSE)) > 0),
        find,
        strict = TRUE
      )
    )
  )
}

# JSON objects of texts as a data frame.
words_frame <- function(texts) {
  n <- length(texts)
  texts[is.na(texts)] <- "{}"
  levels <- unique(texts)
  parsed <- json_objects(levels)
  names <- unique(unlist(lapply(parsed, names)))
  columns <- lapply(stats::setNames(nm = names), function(name) {
    vapply(parsed, function(item) as.character(item[[name]] %||% NA), "")[
      match(texts, levels)
    ]
  })
  structure(
    columns,
    row.names = .set_row_names(n), class = "data.frame",
    names = as.character(names)
  )
}

# The units of series of statistics: an attribute or a dimension.
unit_codes <- function(attributes, dimensions) {
  attributes[["UNIT_MEASURE"]] %||% attributes[["UNIT"]] %||%
    dimensions[["UNIT_MEASURE"]] %||% dimensions[["UNIT"]]
}

observation_rows <- function(read, series, attributes, known, labels, language,
                             with, multiplier, ends) {
  at <- read$owner
  rows <- read$columns
  dimensions <- series_dimensions(series)
  dims <- lapply(
    stats::setNames(nm = names(dimensions)),
    function(name) labelled(dimensions[[name]], known[[name]], labels, language)
  )
  unit <- unit_codes(attributes, dims) %||% rep(NA_character_, nrow(series))
  value <- rows[["value"]] %||% rep(NA_real_, length(at))
  words <- words_frame(rows[["words"]] %||% rep(NA_character_, length(at)))
  if (multiplier == "apply") {
    # an attribute of the series, or of each value in formats without series
    # attributes
    power <- words[["UNIT_MULT"]] %||% attributes[["UNIT_MULT"]][at] %||%
      rep(NA, length(at))
    power <- suppressWarnings(as.numeric(power))
    value <- value * 10^ifelse(is.na(power), 0, power)
    attributes$UNIT_MULT <- words$UNIT_MULT <- NULL
  }
  status <- rows[["status"]] %||% rep("observed", length(at))
  status[is.na(status)] <- "observed"
  frame <- list(
    series = series$key[at],
    period = epoch_days(floor(as.numeric(rows$time) / 86400)),
    frequency = series$frequency[at],
    value = as.double(value),
    unit = unit[at],
    status = status,
    known = rows$known,
    name = series_names(dimensions, known, language)[at]
  )
  if (with) frame <- c(frame, free_names(lapply(dims, `[`, at), names(frame)))
  extra <- lapply(attributes, `[`, at)
  frame <- c(
    frame, free_names(extra[setdiff(names(extra), names(dims))], names(frame))
  )
  frame <- c(
    frame,
    free_names(
      as.list(words)[setdiff(names(words), names(frame))], names(frame)
    )
  )
  if (!any(within_day(frame$frequency))) {
    return(without_notes(series_frame(list_frame(frame))))
  }
  # values within a day keep their time; others have the first instant of their
  # period
  frame$through <- ends
  frame$period <- rows$time
  names(frame)[2] <- "time"
  as_rows(ordered_rows(frame, c("series", "time")))
}

# Renames columns whose names are already used.
free_names <- function(columns, taken) {
  clash <- names(columns) %in% taken
  names(columns)[clash] <- paste0("dim_", names(columns)[clash])
  columns
}

labelled <- function(codes, known, labels, language) {
  if (labels == "codes" || is.null(known)) {
    return(codes)
  }
  label <- code_labels(known, language)[match(codes, known$id)]
  ifelse(
    is.na(label), codes, if (labels == "labels") label else paste(codes, label)
  )
}

# A readable name: labels of the dimensions in which the series differ.
series_names <- function(dimensions, known, language) {
  varies <- names(
    dimensions
  )[vapply(dimensions, function(codes) length(unique(codes)) > 1, TRUE)]
  if (!length(varies)) varies <- setdiff(names(dimensions), "FREQ")
  if (!length(varies)) {
    return(rep("", nrow(dimensions)))
  }
  do.call(
    paste,
    c(
      unname(
        lapply(
          varies,
          function(name) {
            labelled(dimensions[[name]], known[[name]], "labels", language)
          }
        )
      ),
      sep = ", "
    )
  )
}

# Stored code lists of a dataset by dimension; empty where none are stored.
archive_labels <- function(archive, source, dataset) {
  document <- store_structure(archive, source, paste0("labels:", dataset))
  if (is.null(document)) list() else unserialize(document$body)
}

# The reading function of each shape.
shape_tables <- function() {
  list(
    bars = table_of_bars, observations = table_of_observations,
    facts = table_of_facts
  )
}
