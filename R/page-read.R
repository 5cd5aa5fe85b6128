# The content of the page for one series: tables and lines to copy.

# Series that match the search: every word occurs in their facts.
browse_chosen <- function(series, search, source, shape, sort) {
  words <- strsplit(tolower(trimws(search %||% "")), "[[:space:]]+")[[1]]
  text <- tolower(paste(series$id, series$name))
  kept <- rep(TRUE, nrow(series))
  for (word in words[nzchar(words)]) {
    kept <- kept & grepl(word, text, fixed = TRUE)
  }
  if (nzchar(source %||% "")) kept <- kept & series$source == source
  series <- series[kept, , drop = FALSE]
  if (nzchar(shape %||% "")) series <- datasets_of_shape(series, shape)
  by <- list(
    id = seq_len(nrow(series)),
    values = -series$rows,
    newest = -as.numeric(series$last),
    oldest = as.numeric(series$first)
  )[[sort %||% "id"]]
  series[order(by), , drop = FALSE]
}

browse_window <- function(from, to) {
  day <- function(x) {
    if (length(x) == 1 && grepl("^[0-9]{4}-[0-9]{2}-[0-9]{2}$", x)) x
  }
  list(from = day(from), to = day(to))
}

# One series in a window, with bars resampled on request; the interval is an
# attribute.
browse_table <- function(place, series, window, resample = "", as_of = NULL) {
  zone <- browse_zone(place, series$source)
  longer <- if (nzchar(resample %||% "")) {
    calendar <- browse_calendar(place, series$source)
    list(
      interval = resample,
      calendar = calendar,
      session = if (!is.null(calendar)) main_session(calendar),
      zone = zone,
      need = 0
    )
  }
  tables <- without_notes(
    archive_read(
      place$reader(), series$id, window$from, window$to,
      as_of = as_of,
      zone = zone, resample = longer
    )
  )
  if (length(tables)) tables[[1]]
}

browse_figure <- function(place, series, table, kind) {
  zone <- browse_zone(place, series$source)
  calendar <- browse_calendar(place, series$source)
  names <- stats::setNames(series$name, series$key)[nzchar(series$name)]
  draw <- list(
    auto = function() {
      if (is_bars(table)) {
        figure_candles(table, zone = zone, calendar = calendar, names = names)
      } else {
        figure_lines(table, zone = zone, names = names)
      }
    },
    lines = function() figure_lines(table, zone = zone, names = names),
    gaps = function() figure_gaps(table, calendar, zone = zone, names = names),
    season = function() figure_season(table, zone = zone, names = names),
    spread = function() figure_spread(table, zone = zone, names = names)
  )[[kind %||% "auto"]]
  without_notes(draw())
}

browse_gaps <- function(place, series, table) {
  calendar <- browse_calendar(place, series$source)
  gaps <- without_notes(
    series_gaps(
      table,
      calendar,
      attr(table, "interval"),
      session = if (!is.null(calendar)) main_session(calendar)
    )
  )
  as.data.frame(gaps)[
    order(-gaps$missing, gaps$first), c("first", "last", "missing", "reason")
  ]
}

# Revised values of a series, release by release.
browse_versions <- function(place, series) {
  rows <- as.data.frame(
    archive_revisions(place$reader(), series$id, all = TRUE)
  )
  time <- as.numeric(rows[[2]])
  rows[time %in% time[duplicated(time)], -1]
}

# The requests for a series, the newest first.
browse_journal <- function(place, series) {
  journal <- as.data.frame(archive_journal(place$reader()))
  matching <- journal$source == series$source &
    journal$dataset %in% series$dataset
  symbol <- sub(":.*", "", series$key)
  of_it <- journal$symbol %in% c(NA, "", symbol, series$key)
  # where the journal has no symbols, all requests of the dataset are shown
  if (any(matching & of_it)) matching <- matching & of_it
  rows <- journal[
    matching,
    intersect(
      c("asked", "symbol", "status", "rows", "bytes", "outcome", "message"),
      names(journal)
    )
  ]
  rows[rev(seq_len(nrow(rows))), , drop = FALSE]
}

# The same data by series ID, from R and from the command line.
browse_lines <- function(place, series, window, resample = "", as_of = NULL) {
  text <- function(x) encodeString(x, quote = "\"")
  bounds <- c(
    if (!is.null(window$from)) paste0("from = ", text(window$from)),
    if (!is.null(window$to)) paste0("to = ", text(window$to)),
    if (!is.null(as_of)) paste0("as_of = ", text(as_of))
  )
  options <- c(
    if (!is.null(window$from)) paste("--from", window$from),
    if (!is.null(window$to)) paste("--to", window$to),
    if (nzchar(resample %||% "")) paste("--resample", shQuote(resample)),
    if (!is.null(as_of)) paste("--as-of", as_of), place$command
  )
  c(
    id = series$id,
    "in R" = paste0(
      "archive_read(archive_open(", text(place$path), "), ",
      paste(c(text(series$id), bounds), collapse = ", "), ")"
    ),
    "on the command line" = paste(
      "vetusta export", shQuote(series$id), paste(options, collapse = " ")
    ),
    "its figure" = paste(
      "vetusta figure", shQuote(series$id), paste(options, collapse = " ")
    )
  )
}
