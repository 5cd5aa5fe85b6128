# Reading series by ID, and the contents of an archive.

#' Contents of an archive
#'
#' @param archive An archive, see [archive_open()].
#' @return `archive_series()`: a tibble with a row per series: `id`, `source`,
#'   `dataset`, `key` (a symbol, a station, the codes of a statistic),
#'   `frequency` (of bars the interval in ISO 8601; else a code such as `M`, or
#'   empty if unknown), `shape`, `rows` (times with a value), `first`, `last`
#'   (`POSIXct`, UTC), `bytes` (stored), `title` (if the source states one).
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' archive_series(archive)
#' archive_journal(archive)
#' archive_rejected(archive)
archive_series <- function(archive) {
  check_archive(archive)
  series_listed(archive, store_series(archive, sizes = TRUE))
}

# The first series of a dataset that have rows, as archive_series() lists them;
# of one frequency if it is given.
archive_first <- function(archive, source, dataset, most, frequency = NULL) {
  numbers <- store_first(archive, source, dataset, most, frequency)
  series_listed(archive, store_series(archive, sizes = TRUE, ids = numbers))
}

# Series of the catalogue as a table.
series_listed <- function(archive, listed) {
  for (name in c("rows", "bytes")) listed[[name]] <- as.numeric(listed[[name]])
  for (name in c("first", "last")) listed[[name]] <- utc(listed[[name]])
  rows <- as_rows(
    c(
      list(id = series_id(listed)),
      as.list(listed)[
        c(
          "source", "dataset", "key", "frequency", "shape", "rows", "first",
          "last", "bytes"
        )
      ]
    )
  )
  rows$title <- archive_titles(archive, listed)
  attr(rows, "numbers") <- listed$id
  rows
}

#' @rdname archive_series
#' @return `archive_datasets()`: a row per dataset: `source`, `dataset`,
#'   `shape`, `series`, `rows` (values, or rows by key), `changed` (how often
#'   rows without series were replaced), `first`, `last` (`POSIXct`, UTC; of
#'   series), `seen` (`POSIXct`, arrival of the latest row without a series).
#' @export
archive_datasets <- function(archive) {
  check_archive(archive)
  series <- store_series_datasets(archive)
  n <- nrow(series)
  of_series <- list(
    source = series$source,
    dataset = series$dataset,
    shape = series$shape,
    series = as.integer(series$series),
    rows = as.numeric(series$rows),
    changed = rep(NA_real_, n),
    first = utc(series$first),
    last = utc(series$last),
    seen = utc(rep(NA_real_, n))
  )
  others <- store_datasets(archive)
  m <- nrow(others)
  of_rows <- list(
    source = others$source,
    dataset = others$dataset,
    shape = others$shape,
    series = rep(NA_integer_, m),
    rows = as.numeric(others$rows),
    changed = as.numeric(others$changed),
    first = utc(rep(NA_real_, m)),
    last = utc(rep(NA_real_, m)),
    seen = utc(as.numeric(others$seen))
  )
  all <- Map(c, of_series, of_rows)
  as_rows(lapply(all, `[`, order(all$source, all$dataset, method = "radix")))
}

#' @rdname archive_series
#' @return `archive_journal()`: a row per request, oldest first: `run`,
#'   `source`, `dataset`, `symbol`, `asked` (`POSIXct`, UTC), `seconds` (until
#'   the answer), `status` (HTTP), `bytes`, `rows`, `outcome`, `url` (without
#'   secrets), `message`.
#' @export
archive_journal <- function(archive) {
  check_archive(archive)
  journal <- store_journal(archive)
  journal$asked <- utc(journal$asked)
  as_rows(journal)
}

#' @rdname archive_series
#' @return `archive_rejected()`: rejected rows: `symbol`, `time`, `place` (JSON
#'   Pointer or line), `reason`, `detail`, `found` (`POSIXct`, UTC). A row that
#'   was rejected several times is listed once.
#' @export
archive_rejected <- function(archive) {
  check_archive(archive)
  rejected <- store_rejected(archive)
  rejected$time <- utc(rejected$time)
  rejected$found <- utc(rejected$found)
  # a row that was rejected again is listed once, as last found
  same <- rejected[setdiff(names(rejected), c("found", "journal", "id"))]
  as_rows(rejected[!duplicated(same, fromLast = TRUE), , drop = FALSE])
}

#' Read series from an archive
#'
#' Reads bars, observations and facts by their series IDs.
#'
#' @param archive An archive.
#' @param ids Series IDs, see [archive_find()]; `NULL` for every series.
#' @param from,to The window: days, periods or instants; `to` is included.
#'   Without them the window is open.
#' @param as_of An instant, or a day (its end): the series as known then. `NULL`
#'   gives the current state.
#' @param zone The IANA zone of days in `from` and `to` for bars; other series
#'   have their own days.
#' @param releases Whether to read every release of observations and bars with
#'   its `known`, including deletions (`status` `deleted`), not only the latest.
#'   [series_align()] needs them to know what was known at each time of its
#'   grid.
#' @param labels,language,multiplier For statistics, as in
#'   [archive_observations()].
#' @param resample Bars at a longer interval: a list of arguments of
#'   [bars_resample()], as `list(interval = "1 day", calendar =
#'   source_calendar("quay"))`. A column store computes them itself, so few rows
#'   travel; `volume` and `vwap` are sums and may then differ in the last digits
#'   of fractions.
#' @return A list of tables, one per dataset (for bars, one per interval), named
#'   `source/dataset`: bars, see [bars_frame()]; observations, see
#'   [archive_observations()]; or facts. Series that are deleted or unknown at
#'   `as_of` have no rows. The attribute `interval` of a table of bars is their
#'   interval.
#' @section Errors: Those of [archive_find()]; with `resample` those of
#'   [bars_resample()], and `vetusta_error_argument` for a series that is not
#'   bars.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
#' archive_import(archive, csv, symbol = "KELD", interval = "1 day")
#' archive_read(archive, "KELD", from = "2026-03-12")
#' archive_read(archive, "KELD", resample = list(interval = "1 week"))
archive_read <- function(archive, ids = NULL, from = NULL, to = NULL,
                         as_of = NULL, zone = "UTC", labels = "codes",
                         language = "en", multiplier = "keep",
                         releases = FALSE, resample = NULL) {
  check_archive(archive)
  check_flag(releases, "releases")
  check_zone(zone)
  check_choice(labels, "labels", c("codes", "labels", "both"))
  check_choice(multiplier, "multiplier", c("keep", "apply"))
  check_text(language, "language")
  at <- known_at(as_of)
  asked <- list(
    from = from, to = to, as_of = as_of, zone = if (zone != "UTC") zone,
    labels = if (labels != "codes") labels,
    language = if (language != "en") language,
    multiplier = if (multiplier != "keep") multiplier,
    releases = if (releases) releases, resample = resample
  )
  store_snapshot(archive, function() {
    listed <- archive_find(archive, ids)
    resample <- resample_asked(resample, listed)
    numbers <- attr(listed, "numbers")
    series <- if (is.null(ids)) {
      store_series(archive)
    } else {
      store_series(archive, ids = numbers)
    }
    series <- series[match(numbers, series$id), ]
    if (!nrow(series)) {
      return(list())
    }
    # each interval (an ISO duration) is a table of its own
    interval <- ifelse(
      startsWith(series$frequency, "P"), paste0("@", series$frequency), ""
    )
    group <- paste0(series$source, "/", series$dataset, interval)
    tables <- lapply(
      split(seq_len(nrow(series)), factor(group, unique(group))),
      function(rows) {
        longer <- if (!is.null(resample)) {
          longer_shapes()[[series$shape[rows[1]]]]
        }
        if (!is.null(longer)) {
          return(
            longer(
              archive, series[rows, ], from, to, at, zone,
              resample(series$source[rows[1]])
            )
          )
        }
        read_table(
          archive,
          series[rows, ],
          from,
          to,
          at,
          zone,
          labels = labels,
          language = language,
          multiplier = multiplier,
          newest = !(releases && series$shape[rows[1]] %in% released_shapes)
        )
      }
    )
    names(tables) <- sub("@.*", "", names(tables))
    read_lineages(
      tables, ids, split(listed$id, factor(group, unique(group))), asked
    )
  })
}

# Adds the lineage of a reading to each of its tables: that of reading its own
# series alone. Of many series the IDs are as they were given.
read_lineages <- function(tables, ids, own, asked) {
  asked <- asked[!vapply(asked, is.null, TRUE)]
  places <- names(tables)
  for (i in seq_along(tables)) {
    known <- last_known(tables[[i]])
    given <- asked
    if (is.null(given$as_of) && !is.na(known)) given$as_of <- known
    few <- length(own[[i]]) <= 50 || length(ids) > 50
    node <- lineage_node(
      "archive_read",
      lapply(c(list(ids = if (few) own[[i]] else ids), given), lineage_text),
      tables[[i]],
      table = if (few || !anyDuplicated(places)) places[i] else i,
      known = known
    )
    readings_add(node)
    attr(tables[[i]], "lineage") <- node
  }
  tables
}

# The last instant at which a value of a table counts, as text; NA without any.
last_known <- function(x) {
  stated <- as.numeric(x[["known"]] %||% x[["filed"]])
  if (inherits(x[["filed"]], "Date")) stated <- (stated + 1) * 86400
  if (inherits(x, "vetusta_series") && nrow(x)) {
    # rows are in order of series and time, so the last row of each decides
    at <- run_ends_cpp(series_names_of(x))
    # without the class, whose subsetting costs more than all of this
    last <- list_frame(lapply(unclass(x)[names(x)], `[`, at))
    last <- with_facts(with_shape(last, class(x)[1]), facts_of(x))
    facts <- frame_facts(last)
    stated <- c(stated, row_times(last, end_times(last, facts), facts)$known)
  }
  last <- max(c(stated, -Inf), na.rm = TRUE)
  if (is.finite(last)) format_instant(utc(last)) else NA_character_
}

# Shapes of which every release of a value is read.
released_shapes <- c("observations", "bars")

# The instant up to which rows count: a day means its end.
known_at <- function(as_of) {
  if (is.null(as_of)) {
    return(Inf)
  }
  end <- as.numeric(time_instant(as_of, end = TRUE, name = "as_of"))
  if (is.na(end)) {
    vetusta_stop(
      "argument", "`as_of` is missing.",
      todo = "give an instant or a day, or NULL for now"
    )
  }
  if (end > as.numeric(time_instant(as_of, name = "as_of"))) end - 1e-6 else end
}

# Series of one dataset as a table of their shape.
read_table <- function(archive, series, from, to, at, zone, ...) {
  shape_tables()[[series$shape[1]]](archive, series, from, to, at, zone, ...)
}

# Rows of series in a window: list(columns, owner), where `owner` is the place
# of a row's series in `series`.
read_rows <- function(archive, series, start, end, at, newest = TRUE) {
  read <- store_read(archive, series$id, start, end, at, newest)
  owner <- rep(seq_len(nrow(series)), read$rows)
  read$columns <- store_typed(
    archive, series$source[1], series$dataset[1], read$columns
  )
  without_rows(
    list(columns = read$columns, owner = owner),
    if (newest) which(read$columns[["status"]] %in% "deleted")
  )
}

# Removes deleted rows.
without_rows <- function(read, gone) {
  if (!length(gone)) {
    return(read)
  }
  list(columns = lapply(read$columns, `[`, -gone), owner = read$owner[-gone])
}

# Removes the releases of a value that precede its deletion.
without_withdrawn <- function(read) {
  dead <- which(read$columns[["status"]] %in% "deleted")
  if (!length(dead)) {
    return(read)
  }
  value <- paste(read$owner, format_exact(read$columns$time))
  last <- rev(dead)[match(value, value[rev(dead)])]
  without_rows(read, which(seq_along(value) <= last))
}

# The dimensions of series as columns.
series_dimensions <- function(series) words_frame(series$dimensions)

# Days, years or other periods within which a period begins, both included, in
# seconds.
period_window <- function(from, to) {
  c(
    if (is.null(from)) {
      -Inf
    } else {
      as.numeric(time_instant(period_bound(from, "from"), name = "from"))
    },
    if (is.null(to)) {
      Inf
    } else {
      as.numeric(time_instant(period_bound(to, "to"), end = TRUE, name = "to"))
    }
  )
}

# The first or last day of a year, month or other period.
period_bound <- function(x, name) {
  if (!is.character(x) || length(x) != 1 || is.na(x) || !is.na(read_day(x))) {
    return(x)
  }
  period <- time_periods(x)
  if (is.na(period$first) || within_day(period$frequency)) {
    x
  } else if (name == "from") {
    period$first
  } else {
    period$last
  }
}

# Facts: the columns of their series, then those of each value.
table_of_facts <- function(archive, series, from, to, at, ..., newest = TRUE) {
  window <- period_window(from, to)
  read <- read_rows(archive, series, window[1], window[2], at, newest)
  if (!newest) read <- without_withdrawn(read)
  # a figure without a filing counts from the end of its period
  end <- as.numeric(read$columns$time) + 86400
  read <- without_rows(
    read, which(is.na(as.numeric(read$columns$known)) & end > at)
  )
  columns <- read$columns
  dimensions <- lapply(series_dimensions(series), `[`, read$owner)
  day <- epoch_days(as.numeric(columns$time) / 86400)
  rows <- c(
    dimensions[intersect(c("symbol", "item"), names(dimensions))],
    columns[intersect("period_start", names(columns))], list(period_end = day)
  )
  rest <- c(
    dimensions[setdiff(names(dimensions), names(rows))],
    columns[setdiff(names(columns), c("time", "known", names(rows)))]
  )
  lead <- intersect(c("basis", "unit", "value", "filed"), names(rest))
  table <- as_rows(
    ordered_rows(
      c(rows, rest[c(lead, setdiff(names(rest), lead))]),
      c("symbol", "item", "period_start", "period_end")
    )
  )
  with_facts(
    table, dataset_facts(archive, series$source[1], series$dataset[1])["unit"]
  )
}

ordered_rows <- function(rows, by) {
  by <- intersect(by, names(rows))
  if (!length(by) || !length(rows[[1]])) {
    return(rows)
  }
  lapply(rows, `[`, do.call(order, c(unname(rows[by]), list(method = "radix"))))
}
