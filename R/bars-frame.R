# The shape `bars`: its columns, and the check of every row at its entrance.

bars_columns <- c(
  "symbol", "time", "open", "high", "low", "close", "volume", "session",
  "side", "status"
)
status_words <- c("observed", "provisional", "filled")

#' Make a table of bars
#'
#' @param rows A data frame with at least `symbol`, `time` and `close`. Missing
#'   `open`, `high`, `low` and `volume` become `NA`; `session`, `side` and
#'   `status` default to `NA`, `NA` and `"observed"`.
#' @return A tibble with the columns `symbol` (text), `time` (`POSIXct` in UTC,
#'   the start of the bar), `open`, `high`, `low`, `close` (prices), `volume`
#'   (units traded), `session`, `side` (text), `status` (`observed`,
#'   `provisional` or `filled`), and then the further columns of `rows`; ordered
#'   by symbol and time. `through` and `known`, if present, are instants
#'   (`POSIXct`, UTC): the end of the latest input of a bar, and the instant
#'   from which it counts. Without them a bar ends, and counts, by its interval,
#'   zone and calendar (see [series_about()]). Unordered rows are sorted, with a
#'   message of the class `vetusta_note`.
#' @section Errors: `vetusta_error_shape` for a missing column or a wrong type.
#'   Values are not checked here, see [bars_check()].
#' @export
#' @examples
#' bars_frame(data.frame(
#'   symbol = "KELD", time = as.POSIXct("2026-03-12 07:30", tz = "UTC"),
#'   close = 41.2
#' ))
bars_frame <- function(rows) {
  if (missing(rows) || !is.data.frame(rows)) {
    vetusta_stop(
      "shape", "Bars must be a data frame.",
      todo = "give a data frame with symbol, time and close"
    )
  }
  missing <- setdiff(c("symbol", "time", "close"), names(rows))
  if (length(missing)) {
    vetusta_stop(
      "shape",
      paste0("Bars need the column `", missing[1], "`."),
      todo = paste("add or rename a column to", missing[1])
    )
  }
  if (!inherits(rows$time, "POSIXct")) {
    vetusta_stop(
      "shape",
      paste0(
        "The column `time` of bars must be instants (POSIXct), and is ",
        class(rows$time)[1], "."
      ),
      where = "column time",
      todo = "convert it, for example with time_instant()"
    )
  }
  n <- nrow(rows)
  # bars_check() rejects rows without a time; a column that is no time is an
  # error
  columns <- list(
    symbol = as.character(rows$symbol),
    time = read_instants(rows$time, "time", na = TRUE)
  )
  for (name in c("open", "high", "low", "close", "volume")) {
    columns[[name]] <- number_column(rows, name, n)
  }
  columns$session <- as.character(rows[["session"]] %||% rep(NA_character_, n))
  columns$side <- as.character(rows[["side"]] %||% rep(NA_character_, n))
  columns$status <- as.character(rows[["status"]] %||% rep("observed", n))
  unknown <- columns$status[
    first_outside_cpp(columns$status, c(status_words, "deleted"))
  ]
  if (length(unknown)) {
    vetusta_stop(
      "shape",
      paste0("A bar cannot have the status \"", unknown, "\"."),
      where = "column status",
      todo = suggest_word(unknown, status_words)
    )
  }
  columns[setdiff(names(rows), bars_columns)] <-
    unclass(rows)[setdiff(names(rows), bars_columns)]
  for (name in intersect(c("through", "known"), names(columns))) {
    columns[[name]] <- read_instants(columns[[name]], name, na = TRUE)
  }
  order <- order_of(columns$symbol, columns$time)
  if (!is.null(order)) {
    say_sorted_rows(columns$symbol, columns$time)
    columns <- lapply(columns, `[`, order)
  }
  with_facts(with_shape(as_rows(columns), "vetusta_bars"), facts_of(rows))
}

list_frame <- function(columns) {
  attr(columns, "row.names") <- .set_row_names(length(columns[[1]]))
  class(columns) <- "data.frame"
  columns
}

# One row of a data frame, faster than `[`.
frame_row <- function(frame, i) {
  row <- lapply(unclass(frame), `[`, i)
  attributes(row) <- list(
    names = names(frame), row.names = 1L, class = class(frame)
  )
  row
}

# A tibble made without loading the tibble package.
as_rows <- function(columns) {
  rows <- list_frame(as.list(columns))
  class(rows) <- c("tbl_df", "tbl", "data.frame")
  rows
}

number_column <- function(rows, name, n) {
  value <- rows[[name]]
  if (is.null(value)) {
    return(rep(NA_real_, n))
  }
  check_numbers(value, name)
}

# A column of numbers. Texts, factors, days and 64-bit integers are refused,
# because their bits would be read as doubles.
check_numbers <- function(value, name, kind = "shape") {
  if ((is.numeric(value) && !is.object(value)) ||
    (is.logical(value) && all(is.na(value)))) {
    return(as.double(value))
  }
  vetusta_stop(
    kind,
    paste0(
      "The column `", name, "` must be numbers, and is ", class(value)[1], "."
    ),
    where = paste("column", name),
    todo = if (is.factor(value)) {
      "convert it with as.numeric(as.character())"
    } else {
      "convert it with as.numeric()"
    }
  )
}

# A data.table as a data frame, because its brackets behave differently.
plain_table <- function(x) {
  if (inherits(x, "data.table")) {
    with_facts(as.data.frame(x), facts_of(x))
  } else {
    x
  }
}

# The order by symbol and time; NULL where the rows are in that order already.
order_of <- function(symbol, time, groups = NULL) {
  if (stands_ordered_cpp(symbol, time)) {
    return(NULL)
  }
  if (is.null(groups$id)) groups <- text_groups(symbol)
  symbol <- group_ranks(groups)
  if (is_ordered_cpp(symbol, time)) {
    NULL
  } else {
    order(symbol, as.numeric(time), method = "radix")
  }
}

# Texts as numbers: `id` from 1, and the `levels` they stand for, in order of
# first appearance. With times, `ordered` says whether rows are sorted by both;
# it is NULL where that would take a second pass. With `lone` and a single text
# `id` is NULL, because numbering takes as long as much of the work on it.
text_groups <- function(text, time = NULL, lone = FALSE) {
  groups <- groups_cpp(text, time, lone)
  list(
    id = groups$id, levels = text[groups$first], first = groups$first,
    ordered = groups$ordered
  )
}

# The ids of groups, in alphabetical order of the texts.
group_ranks <- function(groups) {
  place <- order(groups$levels, method = "radix", na.last = TRUE)
  if (!is.unsorted(place)) {
    return(groups$id)
  }
  order(place)[groups$id]
}

no_wrong_bars <- data.frame(
  row = integer(),
  symbol = character(),
  time = as.POSIXct(character(), tz = "UTC"),
  reason = character(),
  detail = character()
)

#' Find impossible bars
#'
#' @param bars A table of bars.
#' @return A data frame with a row per impossible bar: `row` (its number in
#'   `bars`), `symbol`, `time`, `reason` and `detail`. Reasons are `no time`,
#'   `no symbol`, `high below low`, `open or close outside high and low`,
#'   `negative volume`, `not finite`, `no close`. Impossible bars are never
#'   dropped or corrected silently: [collect_run()] lists them among the
#'   rejected rows of the archive.
#' @export
#' @examples
#' bars <- bars_frame(data.frame(
#'   symbol = "KELD", time = as.POSIXct("2026-03-12 07:30", tz = "UTC"),
#'   open = 41, high = 40, low = 42, close = 41
#' ))
#' bars_check(bars)
bars_check <- function(bars) {
  if (missing(bars) ||
    !is.data.frame(bars) ||
    !all(
      c("symbol", "time", "open", "high", "low", "close", "volume") %in%
        names(bars)
    )) {
    vetusta_stop(
      "shape",
      paste0(
        "Bars must be a data frame with symbol, time, open, high, low, ",
        "close and volume."
      ),
      todo = "make a table of bars with bars_frame()"
    )
  }
  code <- bar_faults_cpp(
    bars$open, bars$high, bars$low, bars$close, bars$volume,
    as.numeric(bars$time)
  )
  if (anyNA(bars$symbol) || !all(nzchar(bars$symbol))) {
    code[code == 0L & (is.na(bars$symbol) | !nzchar(bars$symbol))] <- 7L
  }
  row <- which(code != 0L)
  if (!length(row)) {
    return(no_wrong_bars)
  }
  rejected <- c(
    "no time", "high below low", "open or close outside high and low",
    "negative volume", "not finite", "no close", "no symbol"
  )
  data.frame(
    row = row,
    symbol = bars$symbol[row],
    time = bars$time[row],
    reason = rejected[code[row]],
    detail = sprintf(
      "open %s, high %s, low %s, close %s, volume %s", bars$open[row],
      bars$high[row], bars$low[row], bars$close[row], bars$volume[row]
    )
  )
}

# The shortest text of a number that reads back the same.
format_exact <- function(x) format_exact_cpp(as.double(x))
