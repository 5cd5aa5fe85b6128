# Rows of a dataset as a table, for every shape.

#' Read rows of any shape from an archive
#'
#' @param archive An archive.
#' @param source,dataset The names of the source and of its dataset.
#' @param as_of An instant or a day: the rows as known then. For `instruments`
#'   with first and last days the list of that day: also entries that were
#'   collected later, without those that had left before and without what came
#'   later.
#' @param all For a dataset of snapshots: every snapshot; by default the latest
#'   row of each key. The column `at` is the instant of the snapshot.
#' @return A data frame with the columns of the shape and the further columns of
#'   the source: a row per key (for series, per time), ordered by the key
#'   columns (for a `table`, by all columns). Days are `Date`, instants
#'   `POSIXct` in UTC.
#' @section Errors: `vetusta_error_argument` if the archive has no rows of this
#'   source and dataset.
#' @export
#' @examples
#' \dontrun{
#' archive_rows(archive, "quay", "directory")
#' }
archive_rows <- function(archive, source, dataset, as_of = NULL, all = FALSE) {
  check_archive(archive)
  check_text(source, "source")
  check_text(dataset, "dataset")
  check_flag(all, "all")
  at <- known_at(as_of)
  store_snapshot(archive, function() {
    series <- store_series(archive, source, dataset)
    if (nrow(series)) {
      return(rows_of_series(archive, series, at))
    }
    datasets <- store_datasets(archive)
    known <- rbind(
      datasets[c("source", "dataset")],
      unique(store_series(archive)[c("source", "dataset")])
    )
    check_known(source, unique(known$source), "source")
    check_known(
      dataset, unique(known$dataset[known$source == source]), "dataset"
    )
    shape <- datasets$shape[
      datasets$source == source & datasets$dataset == dataset
    ]
    frames <- store_frames(archive, source, dataset, at, all)
    if (!nrow(frames) && identical(shape[1], "snapshot")) {
      # before the first known row there are no rows and no later columns
      return(
        rows_of_frames(
          archive, source, dataset, store_frames(archive, source, dataset),
          shape[1], all
        )[0, ]
      )
    }
    if (nrow(frames)) {
      rows_of_frames(archive, source, dataset, frames, shape[1], all)
    } else {
      rows_of_records(archive, source, dataset, shape[1], at)
    }
  })
}

# Series as plain rows, without columns that are empty.
rows_of_series <- function(archive, series, at) {
  if (series$shape[1] == "observations" && is_plain(series)) {
    return(
      as_rows(
        ordered_rows(
          plain_observations(series, read_rows(archive, series, -Inf, Inf, at)),
          c("series", "period", "time")
        )
      )
    )
  }
  read_table(archive, series, NULL, NULL, at, "UTC")
}

rows_of_frames <- function(archive, source, dataset, frames, shape, all) {
  read <- blocks_read(frames$body)
  rows <- store_typed(archive, source, dataset, read$columns)
  rows$at <- utc(rep(frames$at, read$rows))
  if (!all) {
    # of two rows with one key the later one counts
    key <- record_key_texts(shape, rows)
    rows <- lapply(rows, `[`, !duplicated(key, fromLast = TRUE))
  }
  as_rows(ordered_rows(rows, c(if (all) "at", record_keys[[shape]])))
}

rows_of_records <- function(archive, source, dataset, shape, at) {
  if (is.finite(at) && !is.null(list_day_columns[shape][[1]])) {
    return(rows_listed(archive, source, dataset, shape, at))
  }
  rows_of_records_at(archive, source, dataset, shape, at)
}

# The list of a day: entries known then, and those that the source states were
# listed then, without what came later; not those that had left before.
rows_listed <- function(archive, source, dataset, shape, at) {
  now <- rows_of_records_at(archive, source, dataset, shape, Inf)
  then <- rows_of_records_at(archive, source, dataset, shape, at)
  # a symbol that two companies had names each by its first day too
  shared <- record_key_texts(shape, now)
  shared <- unique(shared[duplicated(shared)])
  keys <- function(rows) {
    key <- record_key_texts(shape, rows)
    first <- list_days(as.list(rows), shape)$first
    ifelse(key %in% shared, paste(key, first), key)
  }
  day <- as.Date(utc(at), tz = "UTC")
  columns <- list_day_columns[[shape]]
  named <- intersect(columns[[1]], names(now))
  first <- if (length(named)) now[[named[1]]]
  early <- now[0, , drop = FALSE]
  if (inherits(first, "Date")) {
    begun <- which(first <= day & !keys(now) %in% keys(then))
    early <- now[begun, , drop = FALSE]
  }
  all <- data.table::rbindlist(
    list(then, early),
    use.names = TRUE, fill = TRUE
  )
  all <- as_rows(as.list(all)[union(names(now), names(all))])
  for (name in intersect(columns[[2]], names(all))) {
    left <- all[[name]]
    if (!inherits(left, "Date")) next
    all <- all[is.na(left) | left >= day, , drop = FALSE]
    # what is known later is not known on this day
    all[[name]][all[[name]] > day] <- NA
  }
  as_rows(ordered_rows(as.list(all), list_order(shape, all)))
}

rows_of_records_at <- function(archive, source, dataset, shape, at) {
  records <- store_records(archive, source, dataset, at)
  if (!length(records$bodies)) {
    empty <- lapply(records$types, function(type) rep(NA_character_, 0))
    return(as_rows(typed_rows(empty, records$types)))
  }
  parsed <- tryCatch(
    json_objects(records$bodies, table = TRUE),
    error = function(e) stop_damaged_records(archive, source, dataset)
  )
  rows <- typed_rows(as.list(parsed), records$types)
  # sorted by key, so that the order of requests does not matter
  by <- list_order(shape, rows)
  as_rows(ordered_rows(rows, by[vapply(rows[by], is.atomic, TRUE)]))
}

# The columns that order rows of a shape.
list_order <- function(shape, rows) {
  by <- c(record_keys[[shape]], list_day_columns[shape][[1]][[1]])
  intersect(by %||% names(rows), names(rows))
}

# Columns converted to their stored types.
typed_rows <- function(rows, types) {
  for (name in names(rows)) {
    rows[[name]] <- switch(types[name] %||% "",
      instant = read_rfc3339(as.character(rows[[name]])),
      day = read_day(as.character(rows[[name]])),
      number = as.double(rows[[name]]),
      flag = as.logical(rows[[name]]),
      text = as_text(rows[[name]]),
      rows[[name]]
    )
  }
  rows
}

stop_damaged_records <- function(archive, source, dataset) {
  vetusta_stop(
    "archive", paste0("A row of ", source, " ", dataset, " is damaged."),
    where = archive$path,
    todo = "restore a backup of the archive, or collect the rows into a new one"
  )
}

# Stored datasets or series of one shape.
datasets_of_shape <- function(datasets, shape) {
  split(as.data.frame(datasets), datasets$shape)[[shape]] %||%
    as.data.frame(datasets)[0, ]
}

# Stored names of instruments, places and series of some sources, by symbol,
# place and key. A symbol's name includes the symbol. Without `codes` the series
# of codes are left out: their titles come with the tables that are read.
archive_names <- function(archive, sources, codes = TRUE) {
  keys <- c(instruments = "symbol", places = "place")
  datasets <- archive_datasets(archive)
  lists <- lapply(names(keys), function(shape) {
    matching <- datasets_of_shape(datasets, shape)
    matching <- matching[matching$source %in% sources, ]
    lapply(seq_len(nrow(matching)), function(i) {
      rows <- list_current(
        archive_rows(archive, matching$source[i], matching$dataset[i])
      )
      if (is.null(rows[["name"]])) {
        return(NULL)
      }
      name <- as.character(rows$name)
      key <- as.character(rows[[keys[[shape]]]])
      symbol <- identical(shape, "instruments")
      stats::setNames(if (symbol) paste0(name, " (", key, ")") else name, key)[
        !is.na(name)
      ]
    })
  })
  lists <- unlist(lists)
  if (!codes) {
    return(lists)
  }
  # series of codes are named by the labels of their codes
  series <- store_series(archive)
  series <- series[
    series$source %in% sources & !series$key %in% names(lists), ,
    drop = FALSE
  ]
  titles <- archive_titles(archive, series)
  c(
    lists,
    stats::setNames(titles, series$key)[
      !is.na(titles) & !duplicated(series$key)
    ]
  )
}
