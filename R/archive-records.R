# Rows of every shape but bars: small, asked for by key, so they live in rows. A row is kept as JSON under its key; writing it
# again changes nothing, and what a later answer changes is kept as a vintage.

record_keys <- list(
  observations = c("series", "period"), instruments = "symbol", snapshot = c("symbol", "time"),
  facts = c("entity", "item", "period_start", "period_end", "basis", "unit"), documents = c("entity", "link"), places = "place", datasets = "dataset"
)
record_days <- c("period", "period_start", "period_end", "filed", "listed", "delisted", "first", "last_day", "updated", "released")

record_texts <- function(rows) {
  fragments <- lapply(names(rows), function(name) {
    column <- rows[[name]]
    value <- if (is.numeric(column) && !inherits(column, c("POSIXct", "Date"))) format_exact(column)
    else if (is.logical(column)) tolower(as.character(column))
    else json_text(if (inherits(column, "POSIXct")) format_instant(column) else as.character(column))
    # JSON has no word for what is not finite
    absent <- if (is.numeric(column)) !is.finite(column) else is.na(column)
    ifelse(absent, "", paste0(json_text(name), ":", value, ","))
  })
  sub(",$", "", do.call(paste0, fragments)) |> sub(pattern = "^(.*)$", replacement = "{\\1}")
}


json_text <- function(x) {
  x <- gsub("\"", "\\\"", gsub("\\", "\\\\", enc2utf8(x), fixed = TRUE), fixed = TRUE)
  odd <- grepl("[\001-\037]", x)
  x[odd] <- vapply(x[odd], function(text) {
    signs <- strsplit(text, "")[[1]]
    control <- grepl("[\001-\037]", signs)
    signs[control] <- sprintf("\\u%04x", vapply(signs[control], utf8ToInt, 1L))
    paste(signs, collapse = "")
  }, "")
  paste0("\"", x, "\"")
}

record_key_texts <- function(shape, rows) {
  columns <- intersect(record_keys[[shape]] %||% names(rows), names(rows))
  # a fact of a segment is another fact: what is no value of it is part of its key
  if (shape == "facts") columns <- c(columns, setdiff(names(rows), c(columns, "value", "filed", "decimals")))
  texts <- lapply(rows[columns], function(column) {
    text <- if (inherits(column, "POSIXct")) format_instant(column) else as.character(column)
    ifelse(is.na(text), "", text)
  })
  do.call(paste, c(unname(texts), sep = "\x1f"))
}

# Inside a transaction; of two rows with one key the later counts. Returns how many were new, changed and equal.
archive_put_records <- function(archive, source, offer, shape, rows, journal = NA_integer_, now = as.numeric(Sys.time())) {
  if (!nrow(rows)) {
    return(c(new = 0, changed = 0, equal = 0))
  }
  key <- record_key_texts(shape, rows)
  last <- !duplicated(key, fromLast = TRUE)
  place <- list(source, offer)
  # the rows travel as one JSON text, which the database takes apart again: one statement, however many they are
  texts <- record_texts(lapply(as.list(rows), `[`, last))
  incoming <- list(paste0("[", paste0("[", json_text(key[last]), ",", json_text(texts), "]", collapse = ","), "]"))
  with <- "WITH incoming AS MATERIALIZED (SELECT value ->> 0 AS key, value ->> 1 AS body FROM json_each(?))"
  held <- archive_get(archive, paste(with, "SELECT count(*) AS known, coalesce(sum(r.body <> i.body), 0) AS changed FROM incoming i
    CROSS JOIN records r WHERE r.key = i.key AND r.source = ? AND r.offer = ?"), c(incoming, place))
  if (held$changed > 0) {
    archive_do(archive, paste(with, "INSERT INTO record_vintages (record, was, replaced, journal) SELECT r.id, r.body, ?, ? FROM incoming i
      CROSS JOIN records r WHERE r.key = i.key AND r.source = ? AND r.offer = ? AND r.body <> i.body"), c(incoming, list(now, journal), place))
  }
  if (held$known < sum(last) || held$changed > 0) {
    archive_do(archive, paste(with, "INSERT INTO records (source, offer, shape, key, body, seen) SELECT ?, ?, ?, key, body, ? FROM incoming WHERE true
      ON CONFLICT (source, offer, key) DO UPDATE SET body = excluded.body, seen = excluded.seen WHERE body <> excluded.body"), c(incoming, place, list(shape, now)))
  }
  c(new = sum(last) - held$known, changed = held$changed, equal = held$known - held$changed) + 0
}

#' Read rows of any shape from an archive
#'
#' @param archive An archive.
#' @param source,offer The names of the source and of its offer.
#' @return A data frame with the columns of the shape and whatever else the source gives, one row a key, in order of
#'   the columns that make the key (of a `table`, of all columns). Days are `Date`, instants `POSIXct` in UTC.
#' @section Errors: `vetusta_error_want` when the archive holds nothing of that source and offer.
#' @export
#' @examples
#' \dontrun{
#' archive_rows(archive, "quay", "directory")
#' }
archive_rows <- function(archive, source, offer) {
  check_archive(archive)
  known <- archive_get(archive, "SELECT DISTINCT source, offer FROM records")
  check_known(source, unique(known$source), "source")
  check_known(offer, unique(known$offer[known$source == source]), "offer")
  bodies <- archive_get(archive, "SELECT body FROM records WHERE source = ? AND offer = ? ORDER BY id", list(source, offer))$body
  rows <- tryCatch(RcppSimdJson::fparse(paste0("[", paste(bodies, collapse = ","), "]"), int64_policy = "double"), error = function(e) stop_damaged_records(archive, source, offer))
  for (name in names(rows)) {
    if (is.integer(rows[[name]])) rows[[name]] <- as.double(rows[[name]])
    if (name == "time" && is.character(rows[[name]])) rows[[name]] <- read_rfc3339(rows[[name]])
    if (name %in% record_days && is.character(rows[[name]])) {
      day <- read_day(rows[[name]])
      if (!anyNA(day[!is.na(rows[[name]])])) rows[[name]] <- day
    }
  }
  # in order of what tells the rows apart, so that it does not matter in which order calls were answered
  shape <- archive_get(archive, "SELECT shape FROM records WHERE source = ? AND offer = ? LIMIT 1", list(source, offer))$shape
  by <- rows[intersect(record_keys[[shape]] %||% names(rows), names(rows))]
  by <- by[vapply(by, is.atomic, TRUE)]
  if (length(by)) rows <- rows[do.call(order, c(unname(as.list(by)), list(method = "radix"))), , drop = FALSE]
  as_rows(as.list(rows))
}

stop_damaged_records <- function(archive, source, offer) {
  vetusta_stop("archive", paste0("A row of ", source, " ", offer, " is damaged."), where = archive$path, todo = "bring back a copy of the archive, or collect the rows into another one")
}

#' @rdname archive_rows
#' @return `archive_offers()`: what rows there are, one line an offer: `source`, `offer`, `shape`, `rows`, `changed` (how often a
#'   row was replaced by another), `seen` (`POSIXct`, when the newest came).
#' @export
archive_offers <- function(archive) {
  check_archive(archive)
  found <- archive_get(archive, "SELECT r.source, r.offer, r.shape, count(*) AS rows, (SELECT count(*) FROM record_vintages v JOIN records o ON o.id = v.record
    WHERE o.source = r.source AND o.offer = r.offer) AS changed, max(r.seen) AS seen FROM records r GROUP BY r.source, r.offer, r.shape ORDER BY r.source, r.offer")
  found$seen <- utc(found$seen)
  as_rows(found)
}
