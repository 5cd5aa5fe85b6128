# Observations with their vintages: a row a series, period and release. What is the same as the release before it is not kept again.

observation_tables <- c(
  "CREATE TABLE IF NOT EXISTS observations (series INTEGER NOT NULL REFERENCES series (id), period REAL NOT NULL, released REAL NOT NULL, value REAL, status TEXT NOT NULL, words TEXT,
     told INTEGER NOT NULL, journal INTEGER, PRIMARY KEY (series, period, released)) WITHOUT ROWID",
  "CREATE TABLE IF NOT EXISTS series_words (series INTEGER PRIMARY KEY REFERENCES series (id), dataset TEXT NOT NULL, dimensions TEXT NOT NULL, attributes TEXT NOT NULL)",
  "CREATE TABLE IF NOT EXISTS structures (source TEXT NOT NULL, address TEXT NOT NULL, etag TEXT, modified TEXT, fetched REAL NOT NULL, body BLOB NOT NULL, PRIMARY KEY (source, address))",
  "CREATE TABLE IF NOT EXISTS refreshed (source TEXT NOT NULL, start TEXT NOT NULL, asked REAL NOT NULL, PRIMARY KEY (source, start))"
)

# Inside a transaction. `series` is a data frame of dimensions (by their names) and attributes; `obs` has columns series (row number),
# period (days, with a part of one for an instant within it; NA for all of a series, where it is deleted), value, status, words (JSON or NA), released
# (seconds, NA where nobody says: then it is the instant of its coming). Returns how many were new, changed and equal.
archive_put_observations <- function(archive, source, dataset, series, dimensions, frequency, obs, journal = NA_integer_, now = as.numeric(Sys.time())) {
  if (!length(obs$series)) {
    return(c(new = 0, changed = 0, equal = 0))
  }
  id <- observation_series(archive, source, dataset, series, dimensions, frequency, tapply(ifelse(is.na(obs$released), now, obs$released), factor(obs$series, seq_len(nrow(series))), max))
  obs <- with_whole_series(archive, obs, id)
  told <- !is.na(obs$released)
  archive_do(archive, "CREATE TEMP TABLE IF NOT EXISTS incoming_obs (series INTEGER, period REAL, released REAL, value REAL, status TEXT, words TEXT, told INTEGER, PRIMARY KEY (series, period, released)) WITHOUT ROWID") # nolint
  archive_do(archive, "DELETE FROM incoming_obs")
  archive_do(archive, "INSERT OR REPLACE INTO incoming_obs VALUES (?, ?, ?, ?, ?, ?, ?)", list(id[obs$series], obs$period, ifelse(told, obs$released, now),
    obs$value, obs$status, obs$words, as.integer(told)))
  # what is deleted and was never there is nothing
  archive_do(archive, "DELETE FROM incoming_obs WHERE status = 'deleted' AND NOT EXISTS (SELECT 1 FROM observations o WHERE o.series = incoming_obs.series AND o.period = incoming_obs.period)
    AND NOT EXISTS (SELECT 1 FROM incoming_obs i WHERE i.series = incoming_obs.series AND i.period = incoming_obs.period AND i.status <> 'deleted')")
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

# A series that is deleted as a whole: a row for each of its periods.
with_whole_series <- function(archive, obs, id) {
  whole <- which(is.na(obs$period))
  if (!length(whole)) {
    return(obs)
  }
  held <- archive_get(archive, "SELECT DISTINCT series, period FROM observations WHERE series IN (SELECT value FROM json_each(?))", list(json_numbers(unique(id[obs$series[whole]]))))
  parts <- lapply(whole, function(i) {
    period <- held$period[held$series == id[obs$series[i]]]
    n <- length(period)
    list(series = rep(obs$series[i], n), period = period, value = rep(NA_real_, n), status = rep("deleted", n), words = rep(NA_character_, n), released = rep(obs$released[i], n))
  })
  kept <- lapply(obs[c("series", "period", "value", "status", "words", "released")], `[`, -whole)
  as.list(data.table::rbindlist(c(list(kept), parts)))
}

# The numbers of the series, made where they are not there yet, and what is said of each, with the instant from which it is said.
observation_series <- function(archive, source, dataset, series, dimensions, frequency, since) {
  key <- do.call(paste, c(unname(lapply(series[dimensions], function(x) ifelse(is.na(x), "", x))), sep = "."))
  words <- function(columns) if (length(columns)) record_texts(lapply(stats::setNames(nm = columns), function(name) as.character(series[[name]]))) else rep("{}", nrow(series))
  archive_do(archive, "INSERT OR IGNORE INTO series (source, shape, symbol, interval, side) VALUES (?, 'observations', ?, ?, ?)", list(rep(source, length(key)),
    key, frequency, rep(dataset, length(key))))
  held <- archive_get(archive, "SELECT id, symbol, interval FROM series WHERE source = ? AND shape = 'observations' AND side = ?", list(source, dataset))
  id <- held$id[match(paste(key, frequency), paste(held$symbol, held$interval))]
  told <- words(setdiff(names(series), dimensions))
  archive_do(archive, "INSERT INTO series_words VALUES (?, ?, ?, ?) ON CONFLICT (series) DO UPDATE SET attributes = excluded.attributes",
    list(id, rep(dataset, length(id)), words(dimensions), told))
  there <- which(!is.na(since))
  archive_do(archive, "INSERT OR REPLACE INTO series_attributes SELECT ?, ?, ? WHERE ? IS NOT (SELECT attributes FROM series_attributes WHERE series = ? AND since <= ? ORDER BY since DESC LIMIT 1)",
    list(id[there], as.numeric(since[there]), told[there], told[there], id[there], as.numeric(since[there])))
  id
}

#' Read observations from an archive
#'
#' @param archive An archive.
#' @param source,dataset The names of the source and of its dataset.
#' @param ... Dimensions by name: the codes or labels wanted, as `STATE = c("ORV", "Teskland")`, or patterns; a dimension that is not named is not limited.
#' @param as_of An instant or day: the values as they were known then. `NULL` gives the newest.
#' @param from,to Days, years or other periods between which a period begins, both included.
#' @param labels `"codes"`, `"labels"` or `"both"` (`"ORV Orvane"`) in the dimension columns and the names.
#' @param language The labels' language.
#' @param keys A named list of further dimensions and their codes, for a dimension whose name is also that of an argument, as `list(from = "ORV")`.
#' @param columns Whether the dimensions are columns of their own; else they are in the series' key alone.
#' @param multiplier `"keep"` leaves the unit's power of ten as a column, `"apply"` multiplies the values by it.
#' @return Observations, see [series_frame()]: `series` is the key, the codes in the structure's order with points between; after the shape's own columns come `name` (made from what
#'   varies among the series), the dimensions, and the attributes of series and values; a dimension or attribute that is called as one of the columns before it has `dim_` before its
#'   name. Where values speak of instants, hours say, all have a `time` (`POSIXct`) in place of a `period`. What was deleted is not there, and the
#'   attributes are those that held at `as_of`. `released` is when the value was released, or, where the service does not say, when it came.
#' @section Errors: `vetusta_error_want` for a source, dataset, dimension or code that the archive does not hold, with the nearest that it does.
#' @export
#' @examples
#' \dontrun{
#' archive_observations(archive, "basin", "LOCK_TRAFFIC", STATE = "ORV", as_of = "2026-02-01", labels = "labels")
#' }
archive_observations <- function(archive, source, dataset, ..., as_of = NULL, from = NULL, to = NULL, labels = "codes", language = "en", columns = TRUE, multiplier = "keep", keys = list()) {
  check_archive(archive)
  check_choice(labels, "labels", c("codes", "labels", "both"))
  check_choice(multiplier, "multiplier", c("keep", "apply"))
  check_text(language, "language")
  check_flag(columns, "columns")
  at <- if (is.null(as_of)) 1e18 else as.numeric(time_instant(as_of, end = TRUE, name = "as_of"))
  bounds <- c(if (is.null(from)) -1e9 else as.numeric(time_instant(period_bound(from, "from"))) / 86400, if (is.null(to)) 1e9 else as.numeric(time_instant(period_bound(to, "to"), end = TRUE)) / 86400)
  in_snapshot(archive, function() {
    held <- held_series(archive, source, dataset, c(list(...), keys), language, at)
    rows <- archive_get(archive, "SELECT o.series, o.period, o.released, o.value, o.status, o.words FROM observations o WHERE o.series IN (SELECT value FROM json_each(?))
      AND o.period >= ? AND o.period < ? AND o.released < ? ORDER BY o.series, o.period, o.released", list(json_numbers(held$id), bounds[1], bounds[2], at))
    rows <- rows[!duplicated(rows[c("series", "period")], fromLast = TRUE) & !rows$status %in% "deleted", ]
    observation_rows(rows, held, archive_labels(archive, source, dataset), labels, language, columns, multiplier)
  })
}

# A year, a month or another period as the first or last of its days.
period_bound <- function(x, name) {
  if (!is.character(x) || length(x) != 1 || is.na(x) || !is.na(read_day(x))) {
    return(x)
  }
  period <- time_periods(x)
  if (is.na(period$first) || period$frequency == "I") x else if (name == "from") period$first else period$last
}

# The series of a dataset that have the codes or labels asked for, with what is said of each as of an instant.
held_series <- function(archive, source, dataset, wanted, language = "en", at = 1e18) {
  known <- archive_get(archive, "SELECT DISTINCT source, side AS dataset FROM series WHERE shape = 'observations'")
  check_known(source, unique(known$source), "source")
  check_known(dataset, known$dataset[known$source == source], "dataset")
  held <- archive_get(archive, "SELECT s.id, s.symbol, s.interval, w.dimensions FROM series s JOIN series_words w ON w.series = s.id
    WHERE s.source = ? AND s.shape = 'observations' AND s.side = ? ORDER BY s.id", list(source, dataset))
  dims <- words_frame(held$dimensions)
  lists <- if (length(wanted)) archive_labels(archive, source, dataset)
  if (length(wanted) && (is.null(names(wanted)) || any(!nzchar(names(wanted))))) vetusta_stop("want", "Codes are asked for by the name of their dimension.", todo = "write them as STATE = \"ORV\"")
  for (name in unique(names(wanted))) {
    dimension <- names(dims)[match(tolower(name), tolower(names(dims)))]
    if (is.na(dimension)) check_choice(name, "dimension", names(dims))
    codes <- held_codes(unlist(wanted[names(wanted) == name]), unique(dims[[dimension]]), lists[[dimension]], dimension)
    keep <- dims[[dimension]] %in% codes
    held <- held[keep, ]
    dims <- dims[keep, , drop = FALSE]
  }
  told <- archive_get(archive, "SELECT a.series, a.attributes FROM series_attributes a WHERE a.series IN (SELECT value FROM json_each(?)) AND a.since =
    coalesce((SELECT max(since) FROM series_attributes b WHERE b.series = a.series AND b.since < ?), (SELECT min(since) FROM series_attributes b WHERE b.series = a.series))",
    list(json_numbers(held$id), at))
  list(id = held$id, key = held$symbol, frequency = held$interval, dimensions = dims, attributes = words_frame(told$attributes[match(held$id, told$series)]))
}

# Codes, labels or patterns of a dimension, as the codes that are held.
held_codes <- function(values, codes, list, dimension) {
  labels <- lapply(list$labels, function(text) text[match(codes, list$id)])
  all <- unlist(labels, use.names = FALSE)
  find <- function(value, strict) {
    if (value %in% codes) {
      return(value)
    }
    fits <- function(texts) if (grepl("[*?]", value)) grepl(utils::glob2rx(tolower(value)), tolower(texts)) else tolower(texts) == tolower(value)
    hit <- fits(codes)
    for (text in labels) hit <- hit | (!is.na(text) & fits(text))
    if (!any(hit) && strict) check_known(value, c(codes, unique(all[!is.na(all)])), paste("dimension", dimension, "code"))
    codes[hit]
  }
  unique(unlist(lapply(split_codes(values, function(text) length(find(text, FALSE)) > 0), find, strict = TRUE)))
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
  frame <- list(series = held$key[at], period = as.Date(floor(rows$period), origin = "1970-01-01"), frequency = held$frequency[at], value = as.double(value),
    unit = unit[at], status = rows$status, released = utc(rows$released),
    name = series_names(held$dimensions, known, language)[at])
  if (columns) frame <- c(frame, free_names(lapply(dims, `[`, at), names(frame)))
  extra <- lapply(attributes, `[`, at)
  frame <- c(frame, free_names(extra[setdiff(names(extra), names(dims))], names(frame)))
  frame <- c(frame, free_names(as.list(words)[setdiff(names(words), names(frame))], names(frame)))
  if (!any(frame$frequency %in% "I")) {
    return(without_notes(series_frame(list_frame(frame))))
  }
  # values of instants are told by them, and all others by the first instant of their period
  frame$period <- utc(whole_micros(rows$period * 86400))
  names(frame)[2] <- "time"
  as_rows(lapply(frame, `[`, order(frame$series, as.numeric(frame$time), method = "radix")))
}

# Columns that would be taken for others bear another name.
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
  found <- archive_get(archive, "SELECT body FROM structures WHERE source = ? AND address = ?", list(source, paste0("labels:", dataset)))
  if (!nrow(found)) list() else unserialize(memDecompress(found$body[[1]], "gzip"))
}

#' The history of figures
#'
#' @param archive,source,dataset,...,keys As for [archive_observations()].
#' @return `archive_revisions()`: a tibble with one row a series and period: `series`, `period`, `releases` (how many), `first`, `first_released`, `latest`, `latest_released`, `revision`
#'   (latest less first). The attribute `summary` has a row a series: `series`, `periods`, `revised`, `mean_revision`, `mean_absolute_revision` (of the periods with more than one release).
#'   With `all = TRUE` a row a release instead: `series`, `period`, `released`, `value`, `status`.
#' @param all Whether every release is given.
#' @export
#' @examples
#' \dontrun{
#' archive_revisions(archive, "basin", "LOCK_TRAFFIC", STATE = "ORV")
#' }
archive_revisions <- function(archive, source, dataset, ..., all = FALSE, keys = list()) {
  check_archive(archive)
  check_flag(all, "all")
  held <- held_series(archive, source, dataset, c(list(...), keys))
  rows <- archive_get(archive, "SELECT o.series, o.period, o.released, o.value, o.status FROM observations o WHERE o.series IN (SELECT value FROM json_each(?))
    ORDER BY o.series, o.period, o.released", list(json_numbers(held$id)))
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
    count(*) - count(DISTINCT o.series || ' ' || o.period) AS revised, max(o.released) AS newest FROM observations o JOIN series s ON s.id = o.series GROUP BY s.source,
      s.side ORDER BY s.source, s.side") # nolint
  for (name in c("first", "last")) found[[name]] <- as.Date(as.numeric(found[[name]]), origin = "1970-01-01")
  found$newest <- utc(as.numeric(found$newest))
  as_rows(found)
}
