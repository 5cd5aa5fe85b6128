#' What an archive holds
#'
#' @param archive An archive, see [archive_open()].
#' @return `archive_series()`: a data frame with one row a series: `source`, `symbol`, `interval` (ISO 8601), `side`, `rows`,
#'   `first`, `last` (`POSIXct`, UTC), `bytes` (as stored).
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' archive_series(archive)
#' archive_journal(archive)
#' archive_findings(archive)
archive_series <- function(archive) {
  check_archive(archive)
  found <- archive_get(archive, "SELECT s.source, s.symbol, s.interval, s.side, coalesce(sum(g.rows), 0) AS rows, min(g.first) AS first,
    max(g.last) AS last, coalesce(sum(length(g.body)), 0) AS bytes FROM series s LEFT JOIN segments g ON g.series = s.id
    WHERE s.shape = 'bars' GROUP BY s.id HAVING rows > 0 ORDER BY s.source, s.symbol, s.interval, s.side")
  for (name in c("rows", "bytes")) found[[name]] <- as.numeric(found[[name]])
  found$first <- utc(found$first)
  found$last <- utc(found$last)
  as_rows(found)
}

# Whether any bar of a symbol is held, of whatever side.
archive_has_bars <- function(archive, source, symbol, interval) {
  nrow(archive_get(archive, "SELECT 1 AS held FROM series s JOIN segments g ON g.series = s.id WHERE s.source = ? AND s.symbol = ? AND s.interval = ? LIMIT 1",
    list(source, symbol, interval$iso))) > 0
}

#' @rdname archive_series
#' @return `archive_journal()`: one row a call, oldest first: `run`, `source`, `offer`, `symbol`, `asked` (`POSIXct`, UTC),
#'   `seconds`, `status` (HTTP), `bytes`, `rows`, `outcome`, `address` (without any secret), `message`.
#' @export
archive_journal <- function(archive) {
  check_archive(archive)
  found <- archive_get(archive, "SELECT run, source, offer, symbol, asked, seconds, status, bytes, rows, outcome, address, message FROM journal ORDER BY id")
  found$asked <- utc(found$asked)
  as_rows(found)
}

#' @rdname archive_series
#' @return `archive_findings()`: rows that were set aside and other faults of what came: `symbol`, `time`, `place` (JSON Pointer
#'   or line), `fault`, `detail`, `found` (`POSIXct`, UTC).
#' @export
archive_findings <- function(archive) {
  check_archive(archive)
  found <- archive_get(archive, "SELECT symbol, time, place, fault, detail, found FROM findings ORDER BY id")
  found$time <- utc(found$time)
  found$found <- utc(found$found)
  as_rows(found)
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
#' @return A table of bars, see [bars_frame()], in order of symbol and time.
#' @section Errors: `vetusta_error_want` for a symbol that the archive does not hold, with the nearest one it does; or one held
#'   from several sources.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
#' archive_import(archive, csv, symbol = "KELD", interval = "1 day")
#' archive_bars(archive, "KELD", interval = "1 day", from = "2026-03-12")
archive_bars <- function(archive, symbols = NULL, interval = "1 day", from = NULL, to = NULL, source = NULL, session = NULL, zone = "UTC") {
  check_archive(archive)
  interval <- time_interval(interval)
  held <- archive_get(archive, "SELECT id, source, symbol, interval, side FROM series WHERE shape = 'bars' ORDER BY symbol, side, source")
  if (!is.null(source)) held <- held[held$source == check_known(source, unique(held$source), "source"), ]
  here <- held[held$interval == interval$iso, ]
  if (is.null(symbols)) symbols <- unique(here$symbol)
  for (symbol in symbols) check_held(symbol, here, held, interval)
  start <- if (is.null(from)) -Inf else as.numeric(time_instant(from, zone, name = "from"))
  end <- if (is.null(to)) Inf else as.numeric(time_instant(to, zone, end = TRUE, name = "to"))
  here <- here[here$symbol %in% symbols, ]
  wanted <- check_sessions(session)
  # as of one moment, whoever writes meanwhile
  parts <- in_snapshot(archive, function() lapply(seq_len(nrow(here)), function(i) series_rows(archive, here[i, ], start, end)))
  all <- as.data.frame(data.table::rbindlist(parts, use.names = TRUE, fill = TRUE))
  if (!nrow(all)) {
    return(bars_frame(data.frame(symbol = character(), time = utc(numeric()), close = numeric())))
  }
  if (!is.null(wanted)) all <- all[all$session %in% wanted, , drop = FALSE]
  without_notes(bars_frame(all))
}

check_known <- function(word, known, name) {
  check_text(word, name)
  if (!word %in% known) {
    vetusta_stop("want", paste0("The archive holds nothing of the ", name, " \"", word, "\"."), todo = suggest_word(word, known))
  }
  word
}

check_held <- function(symbol, here, held, interval) {
  sources <- unique(here$source[here$symbol == symbol])
  if (length(sources) == 1) {
    return(invisible())
  }
  if (length(sources) > 1) {
    vetusta_stop("want", paste0("The archive holds ", symbol, " of ", format(interval), " from several sources."),
      todo = paste0("name one as the source: ", paste(sources, collapse = ", ")))
  }
  others <- unique(held$interval[held$symbol == symbol])
  if (length(others)) {
    vetusta_stop("want", paste0("The archive holds no ", symbol, " of ", format(interval), "."),
      todo = paste0("it has the interval ", paste(vapply(others, function(iso) format(time_interval(iso)), ""), collapse = ", "), "; regroup those, or collect"))
  }
  near <- nearest_word(symbol, unique(held$symbol))
  vetusta_stop("want", paste0("The archive holds no series of the symbol \"", symbol, "\"."),
    todo = if (is.null(near)) "collect or import it first; `vetusta list` shows what is held" else paste0("did you mean \"", near, "\"?"))
}

series_rows <- function(archive, series, start, end) {
  segments <- archive_get(archive, "SELECT id, series, first, hash, body FROM segments WHERE series = ? AND first < ? AND last >= ? ORDER BY first", list(series$id, end, start))
  if (!nrow(segments)) {
    return(NULL)
  }
  rows <- join_rows(lapply(seq_len(nrow(segments)), function(i) segment_open(archive, segments[i, ])))
  time <- as.numeric(rows$time)
  if (time[1] < start || time[length(time)] >= end) rows <- rows[time >= start & time < end, , drop = FALSE]
  rows$symbol <- rep(series$symbol, nrow(rows))
  if (nzchar(series$side)) rows$side <- rep(series$side, nrow(rows))
  rows
}
