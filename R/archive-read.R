# Reading: series by their addresses, and what the archive holds.

#' What an archive holds
#'
#' @param archive An archive, see [archive_open()].
#' @return `archive_series()`: a tibble with one row a series: `address`, `source`, `dataset`,
#'   `key` (a symbol, a station, the
#'   codes of a statistic), `frequency` (of bars their interval, ISO 8601; of others a code as `M`,
#'   or nothing where nobody
#'   says), `shape`, `rows` (how many times have a value), `first`, `last` (`POSIXct`, UTC),
#'   `bytes` (as stored).
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' archive_series(archive)
#' archive_journal(archive)
#' archive_faults(archive)
archive_series <- function(archive) {
  check_archive(archive)
  found <- store_series(archive, sizes = TRUE)
  for (name in c("rows", "bytes")) found[[name]] <- as.numeric(found[[name]])
  for (name in c("first", "last")) found[[name]] <- utc(found[[name]])
  rows <- as_rows(c(list(address = series_address(found)),
    as.list(found)[c("source", "dataset", "key", "frequency", "shape",
    "rows", "first", "last", "bytes")]))
  attr(rows, "id") <- found$id
  rows
}

#' @rdname archive_series
#' @return `archive_datasets()`: one row a dataset: `source`, `dataset`, `shape`, `series`,
#'   `rows` (values, or rows by key),
#'   `changed` (how often rows that are no series were replaced), `first`, `last` (`POSIXct`, UTC;
#'   of series), `seen`
#'   (`POSIXct`, when the newest row without a series came).
#' @export
archive_datasets <- function(archive) {
  check_archive(archive)
  series <- archive_series(archive)
  name <- paste(series$source, series$dataset)
  first <- which(!duplicated(name))
  groups <- factor(name, name[first])
  edge <- function(column, f) utc(as.numeric(tapply(as.numeric(series[[column]]), groups, f)))
  n <- length(first)
  of_series <- list(source = series$source[first], dataset = series$dataset[first],
    shape = series$shape[first],
    series = as.integer(table(groups)), rows = as.numeric(tapply(series$rows, groups, sum)),
    changed = rep(NA_real_, n),
    first = edge("first", min), last = edge("last", max), seen = utc(rep(NA_real_, n)))
  others <- store_datasets(archive)
  m <- nrow(others)
  of_rows <- list(source = others$source, dataset = others$dataset, shape = others$shape,
    series = rep(NA_integer_, m),
    rows = as.numeric(others$rows), changed = as.numeric(others$changed),
    first = utc(rep(NA_real_, m)),
    last = utc(rep(NA_real_, m)), seen = utc(as.numeric(others$seen)))
  all <- Map(c, of_series, of_rows)
  as_rows(lapply(all, `[`, order(all$source, all$dataset, method = "radix")))
}

#' @rdname archive_series
#' @return `archive_journal()`: one row a call, oldest first: `run`, `source`, `dataset`,
#'   `symbol`, `asked` (`POSIXct`, UTC),
#'   `seconds`, `status` (HTTP), `bytes`, `rows`, `outcome`, `address` (without any secret),
#'   `message`.
#' @export
archive_journal <- function(archive) {
  check_archive(archive)
  found <- store_journal(archive)
  found$asked <- utc(found$asked)
  as_rows(found)
}

#' @rdname archive_series
#' @return `archive_faults()`: rows that were set aside and other faults of what came: `symbol`,
#'   `time`, `place` (JSON Pointer
#'   or line), `fault`, `detail`, `found` (`POSIXct`, UTC).
#' @export
archive_faults <- function(archive) {
  check_archive(archive)
  found <- store_faults(archive)
  found$time <- utc(found$time)
  found$found <- utc(found$found)
  as_rows(found)
}

#' Read series from an archive
#'
#' The one reading function: bars, observations and facts alike, by their addresses.
#'
#' @param archive An archive.
#' @param addresses Addresses, see [archive_find()]; `NULL` for every series.
#' @param from,to The window, days, periods or instants; open where not given, `to` included whole.
#' @param as_of An instant or a day: the series as they were known then (a day: by its end).
#'   `NULL` gives what is known now.
#' @param zone The IANA zone of days in `from` and `to` of bars; all else is told by days of its
#'   own.
#' @param releases Whether every release of observations is given, each with its `released`, and not
#'   only the newest: [series_align()] needs them to know what was known at each time of its grid.
#' @param labels,language,multiplier Of statistics, as for [archive_observations()].
#' @return A list of tables, one for each dataset (of bars one for each interval), named
#'   `source/dataset`: bars, see
#'   [bars_frame()]; observations, see [archive_observations()]; or facts. Series that are deleted
#'   at `as_of`, or not known yet,
#'   have no rows. The attribute `interval` of a table of bars is their interval.
#' @section Errors: as of [archive_find()].
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
#' archive_import(archive, csv, symbol = "KELD", interval = "1 day")
#' archive_read(archive, "KELD", from = "2026-03-12")
archive_read <- function(archive, addresses = NULL, from = NULL, to = NULL, as_of = NULL,
  zone = "UTC", labels = "codes",
  language = "en", multiplier = "keep", releases = FALSE) {
  check_archive(archive)
  check_flag(releases, "releases")
  check_zone(zone)
  check_choice(labels, "labels", c("codes", "labels", "both"))
  check_choice(multiplier, "multiplier", c("keep", "apply"))
  check_text(language, "language")
  at <- known_at(as_of)
  store_snapshot(archive, function() {
    found <- archive_find(archive, addresses)
    all <- store_series(archive)
    held <- all[match(found$address, series_address(all)), ]
    if (!nrow(held)) {
      return(list())
    }
    # of intervals, which are ISO durations, each is a table of its own
    interval <- ifelse(startsWith(held$frequency, "P"), paste0("@", held$frequency), "")
    group <- paste0(held$source, "/", held$dataset, interval)
    tables <- lapply(split(seq_len(nrow(held)), factor(group, unique(group))), function(rows) {
      read_table(archive, held[rows, ], from, to, at, zone, labels = labels, language = language,
        multiplier = multiplier, newest = !releases || held$shape[rows[1]] != "observations")
    })
    names(tables) <- sub("@.*", "", names(tables))
    tables
  })
}

# The instant up to which rows count: a day means its end.
known_at <- function(as_of) {
  if (is.null(as_of)) {
    return(Inf)
  }
  end <- as.numeric(time_instant(as_of, end = TRUE, name = "as_of"))
  if (end > as.numeric(time_instant(as_of, name = "as_of"))) end - 1e-6 else end
}

# Series of one dataset as the table of their shape.
read_table <- function(archive, held, from, to, at, zone, ...) {
  shape_tables()[[held$shape[1]]](archive, held, from, to, at, zone, ...)
}

# Rows of series in a window: list(columns, owner), where `owner` is the series' place in `held`.
read_rows <- function(archive, held, start, end, at, newest = TRUE) {
  read <- store_read(archive, held$id, start, end, at, newest)
  owner <- rep(seq_len(nrow(held)), read$rows)
  # what is deleted is not there
  gone <- if (newest) which(read$columns[["status"]] %in% "deleted")
  if (length(gone)) {
    read$columns <- lapply(read$columns, `[`, -gone)
    owner <- owner[-gone]
  }
  list(columns = read$columns, owner = owner)
}

# The dimensions of series as columns.
held_dimensions <- function(held) words_frame(held$dimensions)

table_of_bars <- function(archive, held, from, to, at, zone, ...) {
  start <- if (is.null(from)) -Inf else as.numeric(time_instant(from, zone, name = "from"))
  end <- if (is.null(to)) Inf else as.numeric(time_instant(to, zone, end = TRUE, name = "to"))
  # series in the order of their symbols stand in the order of bars
  dimensions <- held_dimensions(held)
  order <- order(as.character(dimensions$symbol), method = "radix")
  held <- held[order, ]
  dimensions <- dimensions[order, , drop = FALSE]
  read <- read_rows(archive, held, start, end, at)
  columns <- read$columns
  n <- length(read$owner)
  rows <- list(symbol = dimensions$symbol[read$owner], time = columns$time)
  for (name in c("open", "high", "low", "close", "volume")) {
    rows[[name]] <- columns[[name]] %||% rep(NA_real_, n)
  }
  rows$session <- columns[["session"]] %||% rep(NA_character_, n)
  rows$side <- (dimensions[["side"]] %||% rep(NA_character_, nrow(held)))[read$owner]
  rows$status <- columns[["status"]] %||% rep("observed", n)
  if (anyNA(rows$status)) rows$status[is.na(rows$status)] <- "observed"
  extra <- setdiff(names(columns), c(names(rows), "since"))
  rows <- c(rows, columns[extra])
  # what was checked when it came is not judged again; the sides of a symbol are laid into each
  # other
  table <- if (anyDuplicated(dimensions$symbol)) without_notes(bars_frame(list_frame(rows)))
  else with_shape(as_rows(rows), "vetusta_bars")
  attr(table, "interval") <- if (nrow(held)) time_interval(held$frequency[1])
  table
}

# Days, years or other periods between which a period begins, both included, in seconds.
period_window <- function(from, to) {
  c(if (is.null(from)) -Inf
  else as.numeric(time_instant(period_bound(from, "from"), name = "from")),
    if (is.null(to)) Inf
    else as.numeric(time_instant(period_bound(to, "to"), end = TRUE, name = "to")))
}

# A year, a month or another period as the first or last of its days.
period_bound <- function(x, name) {
  if (!is.character(x) || length(x) != 1 || is.na(x) || !is.na(read_day(x))) {
    return(x)
  }
  period <- time_periods(x)
  if (is.na(period$first) || period$frequency == "I") x else if (name == "from") period$first
  else period$last
}

# Facts: the columns that make their series, then those of each value.
table_of_facts <- function(archive, held, from, to, at, ..., newest = TRUE) {
  window <- period_window(from, to)
  read <- read_rows(archive, held, window[1], window[2], at, newest)
  columns <- read$columns
  dimensions <- lapply(held_dimensions(held), `[`, read$owner)
  day <- as.Date(as.numeric(columns$time) / 86400, origin = "1970-01-01")
  rows <- c(dimensions[intersect(c("entity", "item"), names(dimensions))],
    columns[intersect("period_start", names(columns))], list(period_end = day))
  rest <- c(dimensions[setdiff(names(dimensions), names(rows))],
    columns[setdiff(names(columns), c("time", "since", names(rows)))])
  lead <- intersect(c("basis", "unit", "value", "filed"), names(rest))
  as_rows(ordered_rows(c(rows, rest[c(lead, setdiff(names(rest), lead))]),
    c("entity", "item", "period_start", "period_end")))
}

ordered_rows <- function(rows, by) {
  by <- intersect(by, names(rows))
  if (!length(by) || !length(rows[[1]])) {
    return(rows)
  }
  lapply(rows, `[`, do.call(order, c(unname(rows[by]), list(method = "radix"))))
}

#' Read bars from an archive
#'
#' @param archive An archive.
#' @param symbols Symbols; `NULL` for all of this interval.
#' @param interval The bars' interval, see [time_interval()].
#' @param from,to The window, days or instants, see [time_instant()]; open where not given.
#' @param source The source's name, needed where two sources have the same symbol.
#' @param session Names of the sessions wanted; `NULL` for all that is held.
#' @param zone The IANA zone of days in `from` and `to`.
#' @param as_of An instant or day: the bars as they were known then.
#' @return A table of bars, see [bars_frame()], in order of symbol and time.
#' @section Errors: `vetusta_error_want` for a symbol that the archive does not hold, with the
#'   nearest one it does; or one held
#'   from several sources.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
#' archive_import(archive, csv, symbol = "KELD", interval = "1 day")
#' archive_bars(archive, "KELD", interval = "1 day", from = "2026-03-12")
archive_bars <- function(archive, symbols = NULL, interval = "1 day", from = NULL, to = NULL,
  source = NULL, session = NULL,
                         zone = "UTC", as_of = NULL) {
  check_archive(archive)
  interval <- time_interval(interval)
  held <- store_series(archive, shape = "bars")
  held$symbol <- as.character(held_dimensions(held)[["symbol"]])
  if (!is.null(source)) {
    held <- held[held$source == check_known(source, unique(held$source), "source"), ]
  }
  here <- held[held$frequency == interval$iso, ]
  if (is.null(symbols)) symbols <- unique(here$symbol)
  for (symbol in symbols) check_held(symbol, here, held, interval)
  here <- here[here$symbol %in% symbols, ]
  wanted <- check_sessions(session)
  all <- store_snapshot(archive,
    function() table_of_bars(archive, here, from, to, known_at(as_of), zone))
  if (is.null(wanted)) all else all[all$session %in% wanted, , drop = FALSE]
}

check_known <- function(word, known, name) {
  check_text(word, name)
  if (!word %in% known) {
    vetusta_stop("want", paste0("The archive holds nothing of the ", name, " \"", word, "\"."),
      todo = suggest_word(word, known))
  }
  word
}

check_held <- function(symbol, here, held, interval) {
  own <- here[here$symbol == symbol, ]
  places <- if (nrow(own)) unique(paste0(own$source, "/", own$dataset))
  if (length(places) == 1) {
    return(invisible())
  }
  if (length(places) > 1) {
    several <- length(unique(own$source)) > 1
    vetusta_stop("want",
      paste0("The archive holds ", symbol, " of ", format(interval), " from several ",
      if (several) "sources." else "datasets."),
      todo = if (several) paste0("name one as the source: ",
      paste(unique(own$source), collapse = ", "))
      else paste0("read one with archive_read(): ", paste(places, collapse = ", ")))
  }
  others <- unique(held$frequency[held$symbol == symbol])
  if (length(others)) {
    vetusta_stop("want", paste0("The archive holds no ", symbol, " of ", format(interval), "."),
      todo = paste0("it has the interval ", paste(frequency_text(others), collapse = ", "),
        "; regroup those, or collect"))
  }
  near <- nearest_word(symbol, unique(held$symbol))
  vetusta_stop("want", paste0("The archive holds no series of the symbol \"", symbol, "\"."),
    todo = if (is.null(near)) "collect or import it first; `vetusta list` shows what is held"
    else paste0("did you mean \"", near, "\"?"))
}
