# Observations with their vintages: a row a series, period and release. What is the same as the release before it is not kept again.

observation_tables <- c(
  "CREATE TABLE IF NOT EXISTS observations (series INTEGER NOT NULL REFERENCES series (id), period REAL NOT NULL, released REAL NOT NULL, value REAL, status TEXT NOT NULL, words TEXT,
     told INTEGER NOT NULL, journal INTEGER, PRIMARY KEY (series, period, released)) WITHOUT ROWID",
  "CREATE TABLE IF NOT EXISTS series_words (series INTEGER PRIMARY KEY REFERENCES series (id), dataset TEXT NOT NULL, dimensions TEXT NOT NULL, attributes TEXT NOT NULL)",
  "CREATE TABLE IF NOT EXISTS structures (source TEXT NOT NULL, address TEXT NOT NULL, etag TEXT, modified TEXT, fetched REAL NOT NULL, body BLOB NOT NULL, PRIMARY KEY (source, address))",
  "CREATE TABLE IF NOT EXISTS refreshed (source TEXT NOT NULL, start TEXT NOT NULL, asked REAL NOT NULL, PRIMARY KEY (source, start))"
)

# Inside a transaction. `series` is a data frame of dimensions (by their names) and attributes; `obs` has columns series (row number),
# period (days), value, status, words (JSON or NA), released
# (seconds, NA where nobody says: then it is the instant of its coming). Returns how many were new, changed and equal.
archive_put_observations <- function(archive, source, dataset, series, dimensions, frequency, obs, journal = NA_integer_, now = as.numeric(Sys.time())) {
  if (!length(obs$series)) {
    return(c(new = 0, changed = 0, equal = 0))
  }
  id <- observation_series(archive, source, dataset, series, dimensions, frequency)
  told <- !is.na(obs$released)
  archive_do(archive, "CREATE TEMP TABLE IF NOT EXISTS incoming_obs (series INTEGER, period REAL, released REAL, value REAL, status TEXT, words TEXT, told INTEGER, PRIMARY KEY (series, period, released)) WITHOUT ROWID") # nolint
  archive_do(archive, "DELETE FROM incoming_obs")
  archive_do(archive, "INSERT OR REPLACE INTO incoming_obs VALUES (?, ?, ?, ?, ?, ?, ?)", list(id[obs$series], obs$period, ifelse(told, obs$released, now),
    obs$value, obs$status, obs$words, as.integer(told)))
  # releases are laid down oldest first, each compared with the one before it
  counts <- c(new = 0, changed = 0, equal = 0)
  for (released in archive_get(archive, "SELECT DISTINCT released FROM incoming_obs ORDER BY released")$released) {
    before <- "SELECT o.value, o.status, o.words FROM observations o WHERE o.series = i.series AND o.period = i.period AND o.released <= i.released ORDER BY o.released DESC LIMIT 1"
    held <- archive_get(archive, paste0("SELECT count(*) AS total, coalesce(sum(EXISTS (SELECT 1 FROM observations o WHERE o.series = i.series AND o.period = i.period)), 0) AS known,
      coalesce(sum(EXISTS (SELECT 1 FROM (", before, ") b WHERE b.value IS i.value AND b.status = i.status AND b.words IS i.words)),
        0) AS equal FROM incoming_obs i WHERE i.released = ?"), list(released))
    archive_do(archive, paste0("INSERT OR REPLACE INTO observations SELECT i.series, i.period, i.released, i.value, i.status, i.words, i.told, ? FROM incoming_obs i
      WHERE i.released = ? AND NOT EXISTS (SELECT 1 FROM (", before, ") b WHERE b.value IS i.value AND b.status = i.status AND b.words IS i.words)"), list(journal, released))
    counts <- counts + c(held$total - held$known, held$known - held$equal, held$equal)
  }
  counts
}

# The numbers of the series, made where they are not there yet, and what is said of each.
observation_series <- function(archive, source, dataset, series, dimensions, frequency) {
  key <- do.call(paste, c(unname(lapply(series[dimensions], function(x) ifelse(is.na(x), "", x))), sep = "."))
  words <- function(columns) if (length(columns)) record_texts(lapply(stats::setNames(nm = columns), function(name) as.character(series[[name]]))) else rep("{}", nrow(series))
  archive_do(archive, "INSERT OR IGNORE INTO series (source, shape, symbol, interval, side) VALUES (?, 'observations', ?, ?, ?)", list(rep(source, length(key)),
    key, frequency, rep(dataset, length(key))))
  held <- archive_get(archive, "SELECT id, symbol, interval FROM series WHERE source = ? AND shape = 'observations' AND side = ?", list(source, dataset))
  id <- held$id[match(paste(key, frequency), paste(held$symbol, held$interval))]
  archive_do(archive, "INSERT INTO series_words VALUES (?, ?, ?, ?) ON CONFLICT (series) DO UPDATE SET attributes = excluded.attributes",
    list(id, rep(dataset, length(id)), words(dimensions), words(setdiff(names(series), dimensions))))
  id
}

#' Read observations from an archive
#'
#' @param archive An archive.
#' @param source,dataset The names of the source and of its dataset.
#' @param ... Dimensions by name: the codes wanted, as `STATE = c("ORV", "TSK")`; a dimension that is not named is not limited.
#' @param as_of An instant or day: the values as they were known then. `NULL` gives the newest.
#' @param from,to Days between which a period begins.
#' @param labels `"codes"`, `"labels"` or `"both"` (`"ORV Orvane"`) in the dimension columns and the names.
#' @param language The labels' language.
#' @param columns Whether the dimensions are columns of their own; else they are in the series' key alone.
#' @param multiplier `"keep"` leaves the unit's power of ten as a column, `"apply"` multiplies the values by it.
#' @return Observations, see [series_frame()]: `series` is the key, the codes in the structure's order with points between; after the shape's own columns come `name` (made from what
#'   varies among the series), the dimensions, and the attributes of series and values. `released` is when the value was released, or, where the service does not say, when it came.
#' @section Errors: `vetusta_error_want` for a source, dataset, dimension or code that the archive does not hold, with the nearest that it does.
#' @export
#' @examples
#' \dontrun{
#' archive_observations(archive, "basin", "LOCK_TRAFFIC", STATE = "ORV", as_of = "2026-02-01", labels = "labels")
#' }
archive_observations <- function(archive, source, dataset, ..., as_of = NULL, from = NULL, to = NULL, labels = "codes", language = "en", columns = TRUE, multiplier = "keep") {
  check_choice(labels, "labels", c("codes", "labels", "both"))
  check_choice(multiplier, "multiplier", c("keep", "apply"))
  held <- held_series(archive, source, dataset, list(...))
  at <- if (is.null(as_of)) Inf else as.numeric(time_instant(as_of, end = TRUE, name = "as_of"))
  bounds <- c(if (is.null(from)) -1e9 else as.numeric(as.Date(time_instant(from))), if (is.null(to)) 1e9 else as.numeric(as.Date(time_instant(to))))
  rows <- archive_get(archive, "SELECT o.series, o.period, o.released, o.value, o.status, o.words FROM observations o JOIN series s ON s.id =
      o.series WHERE s.source = ? AND s.shape = 'observations' AND s.side = ?
    AND o.period >= ? AND o.period <= ? AND o.released < ? ORDER BY o.series, o.period, o.released", list(source, dataset, bounds[1], bounds[2], if (is.finite(at)) at else 1e18))
  rows <- rows[rows$series %in% held$id, ]
  rows <- rows[!duplicated(rows[c("series", "period")], fromLast = TRUE), ]
  observation_rows(rows, held, archive_labels(archive, source, dataset), labels, language, columns, multiplier)
}

held_series <- function(archive, source, dataset, wanted) {
  check_archive(archive)
  known <- archive_get(archive, "SELECT DISTINCT source, side AS dataset FROM series WHERE shape = 'observations'")
  check_known(source, unique(known$source), "source")
  check_known(dataset, known$dataset[known$source == source], "dataset")
  held <- archive_get(archive, "SELECT s.id, s.symbol, s.interval, w.dimensions, w.attributes FROM series s JOIN series_words w ON w.series = s.id WHERE s.source = ? AND s.shape = 'observations' AND s.side = ? ORDER BY s.id", list(source, dataset)) # nolint
  dims <- words_frame(held$dimensions)
  for (name in names(wanted)) {
    check_choice(name, "dimension", names(dims))
    for (code in wanted[[name]]) check_known(code, unique(dims[[name]]), paste("dimension", name, "code"))
    keep <- dims[[name]] %in% wanted[[name]]
    held <- held[keep, ]
    dims <- dims[keep, , drop = FALSE]
  }
  list(id = held$id, key = held$symbol, frequency = held$interval, dimensions = dims, attributes = words_frame(held$attributes))
}

# JSON objects of texts as a data frame.
words_frame <- function(texts) {
  n <- length(texts)
  texts[is.na(texts)] <- "{}"
  levels <- unique(texts)
  parsed <- if (n) RcppSimdJson::fparse(paste0("[", paste(levels, collapse = ","), "]"), max_simplify_lvl = "list") else list()
  names <- unique(unlist(lapply(parsed, names)))
  columns <- lapply(stats::setNames(nm = names), function(name) vapply(parsed, function(one) as.character(one[[name]] %||% NA), "")[match(texts, levels)])
  structure(columns, row.names = .set_row_names(n), class = "data.frame", names = as.character(names))
}

observation_rows <- function(rows, held, known, labels, language, columns, multiplier) {
  at <- match(rows$series, held$id)
  dims <- lapply(stats::setNames(nm = names(held$dimensions)), function(name) labelled(held$dimensions[[name]], known[[name]], labels, language))
  attributes <- held$attributes
  unit <- attributes[["UNIT_MEASURE"]] %||% attributes[["UNIT"]] %||% dims[["UNIT_MEASURE"]] %||% dims[["UNIT"]] %||% rep(NA_character_, length(held$id))
  value <- rows$value
  words <- words_frame(rows$words)
  if (multiplier == "apply") {
    # said of the series, or, in forms that cannot tell, of each value
    power <- suppressWarnings(as.numeric(words[["UNIT_MULT"]] %||% attributes[["UNIT_MULT"]][at] %||% rep(NA, nrow(rows))))
    value <- value * 10^ifelse(is.na(power), 0, power)
    attributes$UNIT_MULT <- words$UNIT_MULT <- NULL
  }
  frame <- list(series = held$key[at], period = as.Date(rows$period, origin = "1970-01-01"), frequency = held$frequency[at], value = as.double(value),
    unit = unit[at], status = rows$status, released = utc(rows$released),
    name = series_names(held$dimensions, known, language)[at])
  if (columns) frame <- c(frame, lapply(dims, `[`, at))
  extra <- lapply(attributes[setdiff(names(attributes), names(frame))], `[`, at)
  without_notes(series_frame(list_frame(c(frame, extra, as.list(words[setdiff(names(words), c(names(frame), names(extra)))])))))
}

labelled <- function(codes, known, labels, language) {
  if (labels == "codes" || is.null(known)) {
    return(codes)
  }
  text <- known$labels[[language]] %||% known$labels[[1]]
  label <- text[match(codes, known$id)]
  ifelse(is.na(label), codes, if (labels == "labels") label else paste(codes, label))
}

# A readable name: the labels of the dimensions in which the series differ.
series_names <- function(dimensions, known, language) {
  varies <- names(dimensions)[vapply(dimensions, function(codes) length(unique(codes)) > 1, TRUE)]
  if (!length(varies)) varies <- setdiff(names(dimensions), "FREQ")
  if (!length(varies)) {
    return(rep("", nrow(dimensions)))
  }
  do.call(paste, c(unname(lapply(varies, function(name) labelled(dimensions[[name]], known[[name]], "labels", language))), sep = ", "))
}

# The code lists of a dataset by dimension, from the structures that are kept; empty where there are none.
archive_labels <- function(archive, source, dataset) {
  found <- archive_get(archive, "SELECT body FROM structures WHERE source = ? AND address LIKE ? ORDER BY fetched DESC LIMIT 1", list(source, paste0("labels:", dataset)))
  if (!nrow(found)) list() else unserialize(memDecompress(found$body[[1]], "gzip"))
}

#' The history of figures
#'
#' @param archive,source,dataset,... As for [archive_observations()].
#' @return `archive_revisions()`: a tibble with one row a series and period: `series`, `period`, `releases` (how many), `first`, `first_released`, `latest`, `latest_released`, `revision`
#'   (latest less first). The attribute `summary` has a row a series: `series`, `periods`, `revised`, `mean_revision`, `mean_absolute_revision` (of the periods with more than one release).
#'   With `all = TRUE` a row a release instead: `series`, `period`, `released`, `value`, `status`.
#' @param all Whether every release is given.
#' @export
#' @examples
#' \dontrun{
#' archive_revisions(archive, "basin", "LOCK_TRAFFIC", STATE = "ORV")
#' }
archive_revisions <- function(archive, source, dataset, ..., all = FALSE) {
  held <- held_series(archive, source, dataset, list(...))
  rows <- archive_get(archive, "SELECT o.series, o.period, o.released, o.value, o.status FROM observations o JOIN series s ON s.id = o.series WHERE s.source = ? AND s.shape = 'observations' AND s.side = ? ORDER BY o.series, o.period, o.released", list(source, dataset)) # nolint
  rows <- rows[rows$series %in% held$id, ]
  series <- held$key[match(rows$series, held$id)]
  period <- as.Date(rows$period, origin = "1970-01-01")
  if (all) {
    return(as_rows(list(series = series, period = period, released = utc(rows$released), value = rows$value, status = rows$status)))
  }
  valued <- which(!is.na(rows$value))
  rows <- rows[valued, ]
  series <- series[valued]
  period <- period[valued]
  key <- paste(rows$series, rows$period)
  first <- !duplicated(key)
  latest <- !duplicated(key, fromLast = TRUE)
  table <- as_rows(list(series = series[first], period = period[first], releases = as.integer(table(factor(key, unique(key)))), first = rows$value[first],
    first_released = utc(rows$released[first]), latest = rows$value[latest],
    latest_released = utc(rows$released[latest]), revision = rows$value[latest] - rows$value[first]))
  revised <- table[table$releases > 1, ]
  groups <- factor(revised$series, unique(table$series))
  attr(table, "summary") <- data.frame(series = levels(groups), periods = as.integer(table(factor(table$series, levels(groups)))), revised = as.integer(table(groups)),
    mean_revision = as.numeric(tapply(revised$revision, groups, mean)), mean_absolute_revision = as.numeric(tapply(abs(revised$revision), groups, mean)))
  table
}

#' @rdname archive_series
#' @return `archive_datasets()`: one row a dataset of observations: `source`, `dataset`, `series`, `values`, `first`, `last` (`Date`),
#'   `revised` (periods with more than one release), `newest` (`POSIXct`, the newest
#'   release).
#' @export
archive_datasets <- function(archive) {
  check_archive(archive)
  found <- archive_get(archive, "SELECT s.source, s.side AS dataset, count(DISTINCT s.id) AS series, count(*) AS \"values\", min(o.period) AS first, max(o.period) AS last,
    count(*) - count(DISTINCT o.series || ' ' || o.period) AS revised, max(o.released) AS newest FROM observations o JOIN series s ON s.id = o.series GROUP BY s.source, s.side ORDER BY s.source, s.side") # nolint
  for (name in c("first", "last")) found[[name]] <- as.Date(as.numeric(found[[name]]), origin = "1970-01-01")
  found$newest <- utc(as.numeric(found$newest))
  as_rows(found)
}
