# Two rows with the same time in one answer or file: equal rows are one; a row
# without a value yields to one with a value; of different values the last
# counts, and the others are rejected as conflicts, with their places.

# `key` is the series and time of each row (NA for rows to ignore), `values` the
# compared columns, of which the first is the value; `at` are the rows' numbers
# in the input, from 1. Returns a data frame of `row`, `reason` and `detail`, a
# row for each rejected row; equal rows are not listed.
doubled_rows <- function(key, values, at = NULL) {
  twice <- which(
    !is.na(key) & (duplicated(key) | duplicated(key, fromLast = TRUE))
  )
  none <- data.frame(
    row = integer(), reason = character(), detail = character()
  )
  if (!length(twice)) {
    return(none)
  }
  at <- at %||% seq_along(key)
  has <- !is.na(values[[1]][twice])
  # the last row with a value; without one the last row
  order <- order(has, seq_along(twice))
  key <- key[twice]
  last <- twice[order][length(twice) + 1L - match(key, rev(key[order]))]
  yields <- !has & !is.na(values[[1]][last])
  differ <- logical(length(twice))
  for (column in as.list(values)) {
    x <- column[twice]
    y <- column[last]
    differ <- differ | ifelse(is.na(x) | is.na(y), is.na(x) != is.na(y), x != y)
  }
  conflict <- differ & !yields
  row <- twice[yields | conflict]
  taken <- last[yields | conflict]
  if (!length(row)) {
    return(none)
  }
  words <- function(row) {
    parts <- lapply(as.list(values), function(column) as.character(column[row]))
    text <- do.call(
      paste,
      c(
        Map(
          function(name, part) ifelse(is.na(part), "", paste(name, part)),
          names(parts), parts
        ),
        sep = ", "
      )
    )
    gsub("(, )+$", "", gsub("(, ){2,}", ", ", gsub("^(, )+", "", text)))
  }
  list_frame(
    list(
      row = row,
      reason = ifelse(
        yields[yields | conflict],
        "no value, and another row of this time has a value",
        "conflict: another row of this time differs"
      ),
      detail = paste0(
        words(row), " in row ", at[row], "; taken: ", words(taken), " in row ",
        at[taken]
      )
    )
  )
}

# The series and time of bars, for doubled_rows(): only of times that a series
# repeats.
bar_keys <- function(bars, without) {
  time <- as.numeric(bars$time)
  if (!anyDuplicated(time)) {
    return(character())
  }
  key <- rep(NA_character_, length(time))
  twice <- seq_along(time)
  if (length(time) > 10000) {
    series <- data.table::data.table(
      symbol = bars$symbol, side = bars$side, time = time
    )
    twice <- if (anyDuplicated(series)) {
      which(duplicated(series) | duplicated(series, fromLast = TRUE))
    }
    if (!length(twice)) {
      return(character())
    }
  }
  key[twice] <-
    paste(bars$symbol[twice], bars$side[twice], time[twice], sep = "\r")
  key[without] <- NA
  key
}

# Superseded rows as rejected rows of a page.
doubled_rejected <- function(rows, doubles) {
  symbol <- rows[["symbol"]] %||% rows[["series"]]
  time <- if (inherits(rows[["time"]], "POSIXct")) {
    rows$time
  } else {
    utc(rep(NA_real_, nrow(rows)))
  }
  data.frame(
    row = doubles$row,
    symbol = as.character(symbol)[doubles$row],
    time = time[doubles$row],
    reason = doubles$reason,
    detail = doubles$detail
  )
}

# Repeated values of one time and series, by the rule of rows-doubled.R.
doubled_values <- function(rows, shape, without, at = NULL) {
  key <- value_keys(as.list(rows), shape)
  if (is.null(key) || anyDuplicated(key) == 0L) {
    return(no_wrong_bars)
  }
  key[without] <- NA
  doubled_rejected(rows, doubled_rows(key, list(value = rows[["value"]]), at))
}

# The series, time and release of each row of values; NULL for other shapes.
value_keys <- function(rows, shape) {
  columns <- value_key_columns[[shape]]
  if (is.null(columns) || is.null(rows[["value"]])) {
    return(NULL)
  }
  do.call(
    paste,
    c(lapply(unname(rows[columns(names(rows))]), as.character), sep = "\r")
  )
}

value_key_columns <- list(
  observations = function(names) {
    intersect(c("series", "period", "frequency", "known"), names)
  },
  facts = function(names) setdiff(names, c("value", "decimals", "status"))
)
