#' Resample bars to a longer interval
#'
#' @param bars A table of bars, see [bars_frame()]; rows in any order.
#' @param interval The longer interval, see [time_interval()]; or `"session"`
#'   for one bar per session of the calendar.
#' @param calendar A calendar; by default that of the table. Without one, or
#'   with only `zone` or `day_start`, every day counts, midnight to midnight.
#' @param session Names of the sessions whose bars count; `NULL` for all. The
#'   default leaves out early and late trading.
#' @param base The interval of `bars`; by default that of the table, or the
#'   smallest step between bars.
#' @param zone The IANA zone of the days, without a calendar; by default that of
#'   the table.
#' @param anchor The origin of intervals within the day: the `"opening"` of the
#'   session, or local midnight by the `"clock"`, so that hours begin at full
#'   hours. Buckets by the clock take bars from all sessions that they overlap.
#' @param day_start The local time at which days begin, such as `"17:00"`,
#'   without a calendar.
#' @param week_start The first weekday of a week.
#' @param stamp Whether `time` is the `"start"` or the `"end"` of the bucket.
#' @param need The share of expected bars below which a bucket is provisional.
#'   By default an ended bucket is final, and `count` and `expected` show how
#'   many bars it has.
#' @return A table of bars with the further columns `vwap` (the price weighted
#'   by volume: of the closes, or of the bars' own `vwap`), `count` (the number
#'   of bars) and `expected` (the number expected by the calendar). `open` is
#'   the first, `high` the largest, `low` the smallest, `close` the last,
#'   `volume` the sum. `time` is the start of the bucket; for a day, week, month
#'   or year it is the opening of the first session. `status` is `provisional`
#'   if a bar of the bucket is provisional, if the bucket ends after the end of
#'   all data, or if it has fewer than `need` of its expected bars. `through`
#'   and `known` (`POSIXct`, UTC) are columns if they differ from the end of the
#'   bucket; they are never earlier than those of its bars. Bars of a day and
#'   longer belong to their trading days, however the source labels them. The
#'   attribute `outside` is the number of rows outside the chosen sessions; a
#'   message of the class `vetusta_note` reports rows outside all sessions. The
#'   result does not depend on the order or the splitting of the input;
#'   unordered rows are sorted, with a message. No rows give no rows, and
#'   infinite prices stay infinite.
#' @section Errors: `vetusta_error_argument` if `interval` is not a multiple of
#'   the bars' interval, or for an invalid argument; `vetusta_error_calendar`
#'   for bars outside the years of the calendar.
#' @export
#' @examples
#' minutes <- bars_frame(
#'   data.frame(
#'     symbol = "KELD",
#'     time = as.POSIXct("2026-03-12 07:30", tz = "UTC") + 60 * (0:389),
#'     open = 41,
#'     high = 42,
#'     low = 40,
#'     close = 41,
#'     volume = 100
#'   )
#' )
#' bars_resample(minutes, "1 day", source_calendar("quay"))
bars_resample <- function(bars, interval, calendar = NULL, session = "regular",
                          base = NULL, zone = NULL, anchor = "opening",
                          day_start = NULL, week_start = "monday",
                          stamp = "start", need = 0) {
  asked <- lineage_asked()
  bars <- given(bars, "bars")
  facts <- facts_of(bars)
  if (is.null(calendar) && is.null(zone) && is.null(day_start)) {
    calendar <- facts$calendar
  }
  zone <- zone %||% facts$zone %||% "UTC"
  terms <- resample_terms(
    interval, calendar, session, zone, anchor, day_start, week_start, stamp,
    need
  )
  bars <- ordered_bars(bars)
  groups <- bar_groups(bars)
  base <- if (!is.null(base)) {
    time_interval(base, "base")
  } else {
    facts$interval %||% guess_interval(bars$time, groups$id)
  }
  check_divides(terms$interval, base)
  if (!nrow(bars)) {
    return(with_facts(resampled_none(), resampled_facts(facts, terms)))
  }
  calendar <- terms$calendar
  check_covers(calendar, min(bars$time), utc(as.numeric(max(bars$time)) + 1))
  # a daily bar belongs to its trading day, whatever instant its source gives
  time <- if (is.null(base) || is_intraday(base)) {
    bars$time
  } else {
    trading_times(bars$time, base, calendar)
  }
  grid <- resample_grid(terms, min(time), max(time))
  times <- if (any(c("through", "known") %in% names(bars))) {
    row_times(
      bars,
      end_times(
        bars,
        list(
          interval = base,
          zone = facts$zone %||% calendar$zone,
          calendar = facts$calendar %||% calendar
        )
      ),
      facts
    )
  }
  rows <- resample_rows(bars, groups, time, grid, times)
  if (rows$outside > 0) {
    say_outside(sum(find_sessions(time, calendar)$at == 0L), nrow(bars))
  }
  longer <- resampled_frame(
    bars[c("symbol", "side")], groups$first, rows, grid, terms, base,
    max(time), facts
  )
  lineage_step(longer, "bars_resample", asked)
}

# Puts rows that are sorted by group and time into buckets.
resample_rows <- function(bars, groups, time, grid, times = NULL) {
  resample_cpp(
    groups$id, time, bars$open, bars$high, bars$low, bars$close, bars$volume,
    if (is.numeric(bars[["vwap"]])) bars[["vwap"]] else numeric(), bars$status,
    times$through %||% numeric(), times$known %||% numeric(), grid$open,
    grid$close, grid$open, grid$time, grid$step
  )
}

ordered_bars <- function(bars) {
  bars <- plain_table(bars)
  good <- is.data.frame(bars) &&
    all(bars_columns %in% names(bars)) &&
    inherits(bars$time, "POSIXct") &&
    is.double(bars$time) &&
    is.character(bars$symbol) &&
    is.character(bars$status) &&
    all(
      vapply(
        bars[c("open", "high", "low", "close", "volume")], is.double, TRUE
      )
    )
  if (!good) bars <- bars_frame(bars)
  if (anyNA(bars$time)) {
    row <- which(is.na(bars$time))[1]
    vetusta_stop(
      "shape",
      paste0("The column `time` is missing in row ", row, "."),
      where = paste0("column time, row ", row),
      todo = "leave the row out, or give its time"
    )
  }
  sides <- text_groups(bars$side, lone = TRUE)$levels
  order <- if (length(sides) > 1) {
    order(bars$symbol, bars$side, bars$time, method = "radix")
  } else {
    order_of(bars$symbol, bars$time)
  }
  if (is.null(order)) {
    return(bars)
  }
  say_sorted_rows(
    if (length(sides) > 1) paste(bars$symbol, bars$side) else bars$symbol,
    bars$time
  )
  bars[order, ]
}

# A number for each series, symbol and side, and the first row of each.
bar_groups <- function(bars) {
  symbol <- text_groups(bars$symbol)
  side <- text_groups(bars$side, lone = TRUE)
  if (length(side$levels) <= 1) {
    return(symbol[c("id", "first")])
  }
  key <- symbol$id * (length(side$levels) + 1) + side$id
  list(id = match(key, unique(key)), first = which(!duplicated(key)))
}

# The smallest step between two times of one series; `groups` numbers the
# series.
smallest_step <- function(time, groups) {
  smallest_step_cpp(as.numeric(time), as.integer(groups))
}

check_divides <- function(interval, base) {
  if (is.null(base) || is.na(interval$seconds) || is.na(base$seconds)) {
    return(invisible())
  }
  if (interval$seconds < base$seconds ||
    (is_intraday(interval) && interval$seconds %% base$seconds != 0)) {
    vetusta_stop(
      "argument",
      paste0(
        "Bars of ", format(base), " cannot be resampled to ", format(interval),
        "."
      ),
      todo = paste0(
        "choose a multiple of ", format(base)
      )
    )
  }
}

# Buckets as bars. `series` has the symbol and side of rows, by the first row of
# each group; `newest` is the time of the last bar.
resampled_frame <- function(series, firsts, rows, grid, terms, base, newest,
                            facts = list()) {
  expected <- as.integer(expected_bars(rows, grid, base))
  ends <- bucket_ends(rows, grid)
  over <- if (is.null(base)) {
    NA
  } else {
    max(
      as.numeric(
        if (is_intraday(base)) {
          shift_instant(newest, base)
        } else {
          trading_ends(newest, base, terms$calendar)
        }
      )
    )
  }
  open <- rows$provisional |
    (!is.na(over) & ends > over) |
    (!is.na(expected) & rows$count < terms$need * expected)
  first <- firsts[rows$group]
  result <- as_rows(
    list(
      symbol = series$symbol[first],
      time = utc(if (terms$stamp == "end") ends else rows$time),
      open = rows$open,
      high = rows$high,
      low = rows$low,
      close = rows$close,
      volume = rows$volume,
      session = as.character(bucket_sessions(grid)[rows$frame]),
      side = series$side[first],
      status = ifelse(open, "provisional", "observed"),
      vwap = rows$vwap,
      count = rows$count,
      expected = expected
    )
  )
  attr(result, "outside") <- rows$outside
  result <- with_facts(
    with_shape(result, "vetusta_bars"), resampled_facts(facts, terms)
  )
  # a late input makes the result late
  through <- if (length(rows$through)) pmax(ends, rows$through) else ends
  with_times(result, through, if (length(rows$known)) pmax(through, rows$known))
}

# Facts of resampled bars: a bar a session has no fixed length.
resampled_facts <- function(facts, terms) {
  facts$interval <- if (!terms$by_session) terms$interval
  facts$calendar <- if (terms$stated) terms$calendar
  facts$zone <- terms$calendar$zone
  facts
}

# An empty table with the columns of resampled bars.
resampled_none <- function() {
  none <- numeric()
  with_shape(
    as_rows(
      structure(
        list(
          symbol = character(), time = utc(none), open = none, high = none,
          low = none, close = none, volume = none, session = character(),
          side = character(), status = character(), vwap = none,
          count = integer(), expected = integer()
        ),
        outside = 0
      )
    ),
    "vetusta_bars"
  )
}
