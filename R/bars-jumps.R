# Jumps in raw prices that no listed action explains.

#' Find price jumps of unreported corporate actions
#'
#' @param bars A table of bars of one day or longer.
#' @param actions Known actions, see [bars_adjust()]; `NULL` for none.
#' @param tolerance The largest relative deviation from a simple ratio.
#' @param zone The IANA zone of ex-days.
#' @return A tibble with a row per jump: `symbol`, `time`, `before` (the close),
#'   `after` (the open, or the close), `ratio` (shares per share that would
#'   explain it: 2, 3, 1.5, 0.1 ...). A jump is a change of more than a quarter
#'   and more than ten times the median change of the symbol, within `tolerance`
#'   of a simple ratio, on a day without a reported change of the number of
#'   shares.
#' @section Errors: Those of [bars_adjust()].
#' @export
#' @examples
#' days <- bars_frame(data.frame(
#'   symbol = "KELD", close = c(80, 82, 81, 40.4, 41), time =
#'     as.POSIXct("2025-09-11", tz = "UTC") + 86400 * 0:4
#' ))
#' bars_jumps(days)
bars_jumps <- function(bars, actions = NULL, tolerance = 0.06, zone = "UTC") {
  bars <- bars_frame(given(bars, "bars"))
  check_number(tolerance, "tolerance", 0)
  check_zone(zone)
  listed <- if (!is.null(actions)) actions_frame(actions, zone)
  listed <- listed[is.na(listed$amount), ]
  ratios <- c(2, 3, 4, 5, 6, 8, 10, 15, 20, 25, 50, 100, 1.5, 1.25)
  ratios <- c(ratios, 1 / ratios)
  jumps <- lapply(unname(symbol_runs(bars$symbol)), function(run) {
    rows <- run[1]:run[2]
    close <- bars$close[rows]
    first <- ifelse(is.na(bars$open[rows]), close, bars$open[rows])
    n <- length(rows)
    if (n < 3) {
      return(NULL)
    }
    change <- c(NA, log(first[-1] / close[-n]))
    usual <- stats::median(abs(change), na.rm = TRUE)
    large <- which(abs(change) > pmax(log(1.25), 10 * usual))
    near <- vapply(
      large, function(i) ratios[which.min(abs(log(ratios) + change[i]))], 0
    )
    keep <- abs(log(near) + change[large]) <= log(1 + tolerance)
    day <- local_day(bars$time[rows], zone)
    before <- c(day[1], day[-n])
    keep <- keep &
      !vapply(
        large,
        function(i) {
          any(
            listed$symbol == bars$symbol[run[1]] &
              listed$ex_day > before[i] &
              listed$ex_day <= day[i]
          )
        },
        TRUE
      )
    at <- large[keep]
    list_frame(
      list(
        symbol = bars$symbol[rows][at],
        time = bars$time[rows][at],
        before = close[at - 1],
        after = first[at],
        ratio = near[keep]
      )
    )
  })
  none <- list_frame(
    list(
      symbol = character(), time = utc(numeric()), before = numeric(),
      after = numeric(), ratio = numeric()
    )
  )
  as_rows(as.list(do.call(rbind, c(list(none), jumps))))
}
