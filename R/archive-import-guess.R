# The shape, columns and interval that a file seems to have, guessed before
# anything is stored.

#' @rdname archive_import_rows
#' @return `archive_import_guess()`: a `vetusta_import_guess`, a list of `file`,
#'   `shape` (also `bars`), `columns` (the file's names, named by the shape's
#'   columns), `interval` (of bars), `wide`, `rows` (the first rows). Nothing is
#'   stored.
#' @export
archive_import_guess <- function(file, form = NULL) {
  check_import_file(file)
  cleaned <- import_cleaned(file, form)
  if (!is.null(form)) on.exit(unlink(cleaned$path))
  parts <- import_parts(cleaned$path, function(rows, line) rows)
  rows <- list_frame(
    as.list(data.table::rbindlist(parts, use.names = TRUE, fill = TRUE))
  )
  if (!nrow(rows)) {
    vetusta_stop(
      "import", "The file has no rows below its names.",
      where = file, todo = "check whether it is the right file"
    )
  }
  some <- utils::head(rows, 2000)
  looks <- vapply(as.list(some), import_kind, "")
  lower <- plain_names(names(rows))
  pick <- function(words, kinds) {
    at <- c(match(words, lower), which(looks %in% kinds))
    at <- at[!is.na(at) & looks[at] %in% kinds]
    if (length(at)) names(rows)[at[1]]
  }
  named <- function(words) {
    at <- stats::na.omit(match(words, lower))
    if (length(at)) names(rows)[at[1]]
  }
  time <- pick(
    c("time", "period", "date", "day", "month", "when", "timestamp", "year"),
    c("day", "instant", "period")
  )
  clock <- if (identical(unname(looks[time]), "day")) {
    import_clock_column(some, time)
  }
  series <- named(c("series", "station", "key", "id"))
  symbol <- named(c("symbol", "ticker", "instrument", "code"))
  closes <- names(rows)[
    import_said(names(rows)) %in% c("close", bars_other_names$close)
  ]
  close <- named(c("close", "last", "price", "settle")) %||%
    if (length(closes)) closes[1]
  periods <- names(rows)[looks == "number" & period_columns(names(rows))]
  numbers <- setdiff(names(rows)[looks == "number"], time)
  columns <- character()
  interval <- NULL
  wide <- FALSE
  if (is.null(time)) time <- import_year_column(some)
  if (!is.null(time) && !is.null(close) &&
    unname(looks[time]) %in% c("day", "instant")) {
    shape <- "bars"
    times <- import_joined_columns(some, paste(c(time, clock), collapse = "+"))
    time <- names(times)[match(time, names(some))]
    columns <- c(time = time, close = close, symbol = symbol)
    interval <- import_step(times[[time]], if (!is.null(symbol)) some[[symbol]])
  } else if (all(c("symbol", "item", "period_end", "value") %in% lower)) {
    shape <- "facts"
  } else if (is.null(time) && length(periods) > 1) {
    # a column per period, and texts that name the series
    shape <- "observations"
    wide <- TRUE
  } else if (!is.null(time) && length(numbers)) {
    shape <- "observations"
    if (!is.null(clock)) {
      time <- paste(time, clock, sep = "+")
      numbers <- setdiff(numbers, clock)
    }
    value <- named("value") %||% close
    wide <- is.null(value) && length(numbers) > 1 && is.null(series)
    columns <- c(
      period = time,
      series = series,
      value = if (!wide) value %||% numbers[1]
    )
  } else if (!is.null(symbol)) {
    shape <- "instruments"
    columns <- c(symbol = symbol)
  } else if (!is.null(named(c("place", "station", "latitude")))) {
    shape <- "places"
    columns <- c(place = named(c("place", "station", "id")) %||% names(rows)[1])
  } else {
    shape <- "table"
  }
  columns <- columns[plain_names(columns) != names(columns)]
  structure(
    list(
      file = file,
      shape = shape,
      columns = columns,
      interval = interval,
      wide = wide,
      kinds = stats::setNames(looks, names(rows)),
      rows = as_rows(as.list(utils::head(rows, 5)))
    ),
    class = "vetusta_import_guess"
  )
}

# The kind of nearly all values of a column: number, day, instant, period, text.
import_kind <- function(column) {
  if (inherits(column, "POSIXct")) {
    return("instant")
  }
  if (inherits(column, "Date")) {
    return("day")
  }
  if (is.numeric(column)) {
    return("number")
  }
  text <- as.character(column)
  text <- import_times(text[!is.na(text)])
  if (!length(text)) {
    return("text")
  }
  most <- function(good) mean(good) >= 0.6
  if (most(!is.na(read_day(text)))) {
    "day"
  } else if (most(!is.na(read_rfc3339(sub(" ", "T", text, fixed = TRUE))))) {
    "instant"
  } else if (most(!is.na(plain_number(text)))) {
    "number"
  } else if (most(!is.na(time_periods(text)$first))) {
    "period"
  } else {
    "text"
  }
}

# The commonest step between times of one symbol.
import_step <- function(time, symbol) {
  at <- if (inherits(time, "Date")) {
    as.numeric(time) * 86400
  } else if (inherits(time, "POSIXct")) {
    as.numeric(time)
  } else {
    as.numeric(text_times(import_times(as.character(time)), "UTC", NULL))
  }
  symbol <- if (is.null(symbol)) rep("", length(at)) else as.character(symbol)
  order <- order(symbol, at)
  steps <- diff(at[order])[symbol[order][-1] == symbol[order][-length(order)]]
  steps <- steps[is.finite(steps) & steps > 0]
  if (!length(steps)) {
    return(NULL)
  }
  step <- as.numeric(names(which.max(table(steps))))
  # days with gaps, as weekends leave them
  if (all(at %% 86400 == 0, na.rm = TRUE) && min(steps) <= 4 * 86400) {
    return("1 day")
  }
  known <- c(
    "1 minute" = 60, "5 minutes" = 300, "15 minutes" = 900,
    "30 minutes" = 1800, "1 hour" = 3600, "1 day" = 86400, "1 week" = 604800
  )
  hit <- names(known)[known == step]
  if (length(hit)) {
    hit
  } else if (step > 27 * 86400 && step < 32 * 86400) {
    "1 month"
  }
}

#' @export
print.vetusta_import_guess <- function(x, ...) {
  cat(format_guess(x), sep = "\n")
  invisible(x)
}

format_guess <- function(x) {
  c(
    paste0(
      basename(x$file), " looks like ", x$shape,
      if (!is.null(x$interval)) paste(" of", x$interval),
      if (x$wide && length(x$columns)) {
        ", a column per series"
      } else if (x$wide) {
        ", a column per period"
      }
    ),
    paste0("  ", names(x$columns), " is the column ", x$columns)[
      seq_along(x$columns)
    ],
    "", paste0("  ", text_table(as.data.frame(x$rows)))
  )
}
