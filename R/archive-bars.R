# Reading bars from an archive as tables.

table_of_bars <- function(archive, series, from, to, at, zone, newest = TRUE,
                          ...) {
  window <- bars_window(from, to, zone)
  bars_within(archive, series, window[1], window[2], at, newest)
}

# The start and end of a window of bars as instants.
bars_window <- function(from, to, zone) {
  c(
    if (is.null(from)) {
      -Inf
    } else {
      as.numeric(time_instant(from, zone, name = "from"))
    },
    if (is.null(to)) {
      Inf
    } else {
      as.numeric(time_instant(to, zone, end = TRUE, name = "to"))
    }
  )
}

# Sort series by symbol and side, the order of a table of bars.
series_by_symbol <- function(series) {
  dimensions <- series_dimensions(series)
  series[
    order(
      as.character(dimensions$symbol),
      as.character(dimensions[["side"]] %||% rep("", nrow(series))),
      method = "radix"
    ),
  ]
}

bars_within <- function(archive, series, start, end, at, newest = TRUE) {
  series <- series_by_symbol(series)
  renamed <- if (nrow(series)) series_renamed(archive, series, at)
  if (!is.null(renamed)) series <- renamed
  dimensions <- series_dimensions(series)
  if (!is.null(renamed)) dimensions$symbol <- renamed$shown
  read <- read_rows(archive, series, start, end, at, newest)
  # each name has the days on which it was the name
  if (!is.null(renamed)) {
    time <- as.numeric(read$columns$time)
    read <- without_rows(read, rows_unnamed(renamed, read$owner, time))
  }
  columns <- read$columns
  n <- length(read$owner)
  rows <- list(
    symbol = as.character(dimensions$symbol)[read$owner],
    time = columns$time
  )
  former <- if (n) archive_former_of(archive, series, dimensions$symbol, at)
  if (!is.null(former)) {
    former <- former_names(rows$symbol, as.numeric(rows$time), former)
    rows$symbol <- former$symbol
  }
  for (name in c("open", "high", "low", "close", "volume")) {
    rows[[name]] <- columns[[name]] %||% rep(NA_real_, n)
  }
  rows$session <- columns[["session"]] %||% rep(NA_character_, n)
  rows$side <- (dimensions[["side"]] %||% rep(NA_character_, nrow(series)))[
    read$owner
  ]
  rows$status <- columns[["status"]] %||% rep("observed", n)
  if (anyNA(rows$status)) rows$status[is.na(rows$status)] <- "observed"
  extra <- setdiff(names(columns), c(names(rows), "known"))
  rows <- c(rows, columns[extra])
  if (!all(is.na(as.numeric(columns$known)))) rows$known <- columns$known
  # Rows were checked when they were stored, so they are not checked again.
  # Sides of one symbol are interleaved by time.
  table <- if (anyDuplicated(dimensions$symbol) || !is.null(former)) {
    without_notes(bars_frame(list_frame(rows)))
  } else {
    with_shape(as_rows(rows), "vetusta_bars")
  }
  if (nrow(series)) {
    table <- with_dataset_facts(table, archive, series)
    if (length(former$titles)) {
      attr(table, "title") <- c(attr(table, "title"), former$titles)
    }
    vintage_at(table, at)
  } else {
    table
  }
}

#' Read bars from an archive
#'
#' @param archive An archive.
#' @param symbols Symbols; `NULL` for all of this interval.
#' @param interval The bars' interval, see [time_interval()].
#' @param from,to The window, days or instants, see [time_instant()]; open where
#'   not given.
#' @param source The source's name, needed where two sources have the same
#'   symbol.
#' @param session The sessions to read; `NULL` for all.
#' @param zone The IANA zone of days in `from` and `to`.
#' @param as_of An instant or a day: the bars as known then.
#' @return A table of bars, see [bars_frame()], in order of symbol and time.
#' @section Errors: `vetusta_error_argument` for a symbol that the archive
#'   lacks, with the nearest stored one, or that several sources have.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
#' archive_import(archive, csv, symbol = "KELD", interval = "1 day")
#' archive_bars(archive, "KELD", interval = "1 day", from = "2026-03-12")
archive_bars <- function(archive, symbols = NULL, interval = "1 day",
                         from = NULL, to = NULL, source = NULL, session = NULL,
                         zone = "UTC", as_of = NULL) {
  check_archive(archive)
  interval <- time_interval(interval)
  if (!is.null(symbols)) check_text(symbols, "symbols", several = TRUE)
  if (!is.null(source)) check_text(source, "source")
  here <- if (!is.null(symbols)) {
    bars_alone(bar_series(archive, symbols), interval, symbols, source)
  }
  if (is.null(here)) {
    series <- bar_series(archive)
    if (!is.null(source)) {
      series <- series[
        series$source == check_known(source, unique(series$source), "source"),
      ]
    }
    if (is.null(symbols)) {
      symbols <- unique(series$symbol[series$frequency == interval$iso])
    }
    here <- bars_alone(series, interval, symbols) %||%
      check_alone(series, interval, symbols)
  }
  wanted <- check_sessions(session)
  at <- known_at(as_of)
  all <- store_snapshot(
    archive, function() table_of_bars(archive, here, from, to, at, zone)
  )
  if (is.null(wanted)) {
    return(all)
  }
  if (is_intraday(interval)) say_no_session(sum(is.na(all$session)))
  all[all$session %in% wanted, , drop = FALSE]
}

# All series of bars with their symbols, or only those that the given symbols
# may mean.
bar_series <- function(archive, symbols = NULL) {
  series <- store_series(
    archive,
    shape = "bars",
    keys = if (!is.null(symbols)) unique(as.character(symbols))
  )
  series$symbol <- bars_symbols(series)
  series
}

# The series of symbols at an interval, one a symbol. NULL where a symbol has no
# series or several.
bars_alone <- function(series, interval, symbols, source = NULL) {
  here <- series[
    series$frequency == interval$iso &
      (is.null(source) | series$source %in% source),
  ]
  here <- here[here$symbol %in% symbols, ]
  places <- unique(list_frame(as.list(here)[c("symbol", "source", "dataset")]))
  if (!anyDuplicated(places$symbol) && all(symbols %in% places$symbol)) here
}

# The same as bars_alone(), with an error for a symbol that has no series or
# several.
check_alone <- function(series, interval, symbols) {
  here <- series[series$frequency == interval$iso, ]
  for (symbol in symbols) check_stored(symbol, here, series, interval)
  here[here$symbol %in% symbols, ]
}

# The symbols of series of bars: their keys, without a side and with encoded
# characters decoded.
bars_symbols <- function(series) {
  symbol <- as.character(series$key)
  odd <- grep("[:%]", symbol)
  if (length(odd)) {
    symbol[odd] <- as.character(series_dimensions(series[odd, ])[["symbol"]])
  }
  symbol
}

check_known <- function(word, known, name) {
  check_text(word, name)
  if (!word %in% known) {
    vetusta_stop(
      "argument",
      paste0("The archive has no rows of the ", name, " \"", word, "\"."),
      todo = suggest_word(word, known)
    )
  }
  word
}

check_stored <- function(symbol, here, series, interval) {
  matching <- here[here$symbol == symbol, ]
  places <- if (nrow(matching)) {
    unique(paste0(matching$source, "/", matching$dataset))
  }
  if (length(places) == 1) {
    return(invisible())
  }
  if (length(places) > 1) {
    several <- length(unique(matching$source)) > 1
    vetusta_stop(
      "argument",
      paste0(
        "The archive has ", symbol, " of ", format(interval),
        " from several ", if (several) "sources." else "datasets."
      ),
      todo = if (several) {
        paste0(
          "name it as the source: ",
          paste(unique(matching$source), collapse = ", ")
        )
      } else {
        paste0("read one with archive_read(): ", paste(places, collapse = ", "))
      }
    )
  }
  others <- unique(series$frequency[series$symbol == symbol])
  if (length(others)) {
    vetusta_stop(
      "argument",
      paste0("The archive has no ", symbol, " of ", format(interval), "."),
      todo = paste0(
        "it has the interval ", paste(frequency_text(others), collapse = ", "),
        "; resample those, or collect"
      )
    )
  }
  near <- nearest_word(symbol, unique(series$symbol))
  vetusta_stop(
    "argument",
    paste0("The archive has no series of the symbol \"", symbol, "\"."),
    todo = if (is.null(near)) {
      "collect or import it first; `vetusta list` shows the stored series"
    } else {
      paste0("did you mean \"", near, "\"?")
    }
  )
}
