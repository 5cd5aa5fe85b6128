# The largest moves of a market, without instruments that hardly trade.

#' Largest moves
#'
#' Returns exactly the requested number of instruments that trade at all.
#' Changes are computed from prices, not taken from the service.
#'
#' @param rows A data frame with a row per instrument: `symbol`, `last` (its
#'   price), `before` (the price to compare with), `volume`; and, for the
#'   rankings that need them, `high`, `low`, `highest` and `lowest` (of the time
#'   before). [rank_days()] makes it from bars.
#' @param by The ranking: `"up"`, `"down"` (change in percent), `"traded"`
#'   (volume), `"range"` (high minus low, relative to the price before),
#'   `"high"`, `"low"` (new highs and lows, by their distance from the earlier
#'   ones).
#' @param limit The number of rows.
#' @param min_volume,min_price The least volume and price of a ranked
#'   instrument.
#' @param where Further conditions, see [rows_filter()]: `type=share`.
#' @return A tibble with `rank`, the columns of `rows`, `change`, `percent`, and
#'   `score` (the ranked number); `tied` marks equal scores (they have one rank
#'   and are ordered by symbol). The attribute `left_out` counts instruments
#'   below the minimum values (`volume`, `price`), excluded by conditions
#'   (`where`), and without a price to compare with (`unknown`); `tied_out` are
#'   symbols that tie with the last row and did not fit.
#' @section Errors: `vetusta_error_argument` for a ranking without its columns.
#' @export
#' @examples
#' rows <- data.frame(
#'   symbol = c("KELD", "TAMX", "WQRT"), last = c(42, 18, 0.4),
#'   before = c(41, 18.6, 0.2), volume = c(12000, 8000, 4)
#' )
#' rank_moves(rows, "up")
rank_moves <- function(rows, by = "up", limit = 12, min_volume = 1000,
                       min_price = 1, where = NULL) {
  check_rows(rows)
  check_choice(by, "by", names(rank_scores))
  limit <- check_count(limit, "limit")
  check_number(min_volume, "min_volume", 0)
  check_number(min_price, "min_price", 0)
  rule <- rank_scores[[by]]
  for (name in c("symbol", "last", rule$needs)) {
    if (is.null(rows[[name]])) {
      vetusta_stop(
        "argument",
        paste0("A ranking by \"", by, "\" needs the column `", name, "`."),
        where = paste("the rows have:", paste(names(rows), collapse = ", ")),
        todo = "choose another ranking, or give such a column"
      )
    }
  }
  chosen <- rows_filter(rows, where)
  left <- c(where = nrow(rows) - nrow(chosen))
  drop <- function(rows, keep, name) {
    left[[name]] <<- sum(!keep)
    rows[keep, , drop = FALSE]
  }
  if (!is.null(chosen[["volume"]])) {
    chosen <- drop(chosen, (chosen$volume >= min_volume) %in% TRUE, "volume")
  }
  chosen <- drop(chosen, (chosen$last >= min_price) %in% TRUE, "price")
  if (!is.null(chosen[["before"]])) {
    chosen$change <- signif(chosen$last - chosen$before, 12)
    chosen$percent <- signif(100 * (chosen$last / chosen$before - 1), 12)
  }
  score <- rule$score(chosen)
  chosen$score <- score
  known <- is.finite(score) & rule$counts(score)
  chosen <- drop(chosen, known, "unknown")
  key <- rule$sign * chosen$score
  chosen <- chosen[
    order(-key, as.character(chosen$symbol), method = "radix"), ,
    drop = FALSE
  ]
  rank <- match(chosen$score, chosen$score)
  tied <- chosen$score %in% chosen$score[duplicated(chosen$score)]
  kept <- seq_len(min(limit, nrow(chosen)))
  out <- setdiff(
    which(chosen$score %in% utils::tail(chosen$score[kept], 1)), kept
  )
  result <- as_rows(
    c(
      list(rank = rank[kept]), as.list(chosen[kept, , drop = FALSE]),
      list(tied = tied[kept])
    )
  )
  attr(result, "left_out") <- left
  attr(result, "tied_out") <- as.character(chosen$symbol[out])
  result
}

# The rankings: needed columns, direction, and the rows that count.
rank_any <- function(score) rep(TRUE, length(score))
rank_scores <- list(
  up = list(
    needs = "before",
    sign = 1,
    counts = rank_any,
    score = function(x) 100 * (x$last / x$before - 1)
  ),
  down = list(
    needs = "before",
    sign = -1,
    counts = rank_any,
    score = function(x) 100 * (x$last / x$before - 1)
  ),
  traded = list(
    needs = "volume",
    sign = 1,
    counts = rank_any,
    score = function(x) x$volume
  ),
  range = list(
    needs = c("high", "low", "before"),
    sign = 1,
    counts = rank_any,
    score = function(x) 100 * (x$high - x$low) / x$before
  ),
  high = list(
    needs = c("high", "highest"),
    sign = 1,
    counts = function(score) score > 0,
    score = function(x) 100 * (x$high / x$highest - 1)
  ),
  low = list(
    needs = c("low", "lowest"),
    sign = -1,
    counts = function(score) score < 0,
    score = function(x) 100 * (x$low / x$lowest - 1)
  )
)

#' @rdname rank_moves
#' @param bars Daily bars, see [bars_frame()].
#' @param on The day; by default the latest one. Later bars are ignored.
#' @param window The time before the day for `highest` and `lowest`.
#' @param zone The IANA zone of days.
#' @return `rank_days()`: a tibble with a row per symbol with a bar on the day:
#'   `symbol`, `time`, `open`, `high`, `low`, `last`, `volume`, `before` (the
#'   close of the previous bar), `highest` and `lowest` (of the window before
#'   the day). The attribute `without` has the symbols without a bar on the day.
#' @export
rank_days <- function(bars, on = NULL, window = "1 year", zone = NULL) {
  bars <- bars_frame(given(bars, "bars"))
  if (!is.null(zone)) check_zone(zone)
  zone <- frame_facts(bars, zone = zone)$zone
  window <- time_interval(window, "window")
  if (!nrow(bars)) {
    vetusta_stop(
      "argument", "There are no bars to rank.",
      todo = "collect days first"
    )
  }
  time <- as.numeric(bars$time)
  newest <- local_day(utc(max(time)), zone)
  day <- if (is.null(on)) {
    newest
  } else {
    local_day(time_instant(on, zone, name = "on"), zone)
  }
  from <- as.numeric(time_local(day, 0, zone))
  to <- as.numeric(time_local(day + 1, 0, zone))
  last <- which(time >= from & time < to)
  if (!length(last)) {
    vetusta_stop(
      "argument",
      paste0("There are no bars of ", day, "."),
      todo = paste0("choose a trading day; the newest is ", newest)
    )
  }
  last <- last[!duplicated(bars$symbol[last], fromLast = TRUE)]
  symbols <- bars$symbol[last]
  start <- as.numeric(shift_instant(utc(from), window, -1, zone))
  here <- time >= start & time < from
  parts <- list_frame(
    list(
      symbol = bars$symbol[here],
      close = bars$close[here],
      high = ifelse(is.na(bars$high[here]), bars$close[here], bars$high[here]),
      low = ifelse(is.na(bars$low[here]), bars$close[here], bars$low[here])
    )
  )
  earlier <- rank_before(parts, symbols)
  bar <- bars[last, ]
  result <- as_rows(
    list(
      symbol = symbols,
      time = bar$time,
      open = bar$open,
      high = ifelse(is.na(bar$high), bar$close, bar$high),
      low = ifelse(is.na(bar$low), bar$close, bar$low),
      last = bar$close,
      volume = bar$volume,
      before = earlier$before,
      highest = earlier$highest,
      lowest = earlier$lowest
    )
  )
  attr(result, "without") <- setdiff(unique(bars$symbol), symbols)
  result
}

# The last, highest and lowest close of each symbol before the window.
rank_before <- function(parts, last_symbols) {
  none <- rep(NA_real_, length(last_symbols))
  if (!nrow(parts)) {
    return(list(before = none, highest = none, lowest = none))
  }
  ends <- which(!duplicated(parts$symbol, fromLast = TRUE))
  symbols <- parts$symbol[ends]
  group <- match(parts$symbol, symbols)
  # sorted, so that the last of each group is its peak
  peak <- function(x, sign) {
    order <- order(group, sign * x, na.last = FALSE, method = "radix")
    x[order][!duplicated(group[order], fromLast = TRUE)]
  }
  at <- match(last_symbols, symbols)
  list(
    before = parts$close[ends][at],
    highest = peak(parts$high, 1)[at],
    lowest = peak(parts$low, -1)[at]
  )
}
