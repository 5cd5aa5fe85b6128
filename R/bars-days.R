# Bars of a day or longer belong to a trading day and are shown by its date.

# The trading day of each bar, by the calendar's sessions. Without a calendar it
# is the local day of the bar's middle, so that a day from 17:00 to 17:00 has
# the date on which it ends.
bar_trading_days <- function(time, calendar, zone) {
  if (is.null(calendar)) {
    local_day(utc(as.numeric(time) + 43200), zone)
  } else {
    trading_days(time, calendar)
  }
}

# Whether a table has bars of a day or longer.
has_day_bars <- function(x) {
  interval <- attr(x, "interval", exact = TRUE)
  is_bars(x) &&
    !is.null(interval) &&
    inherits(x[["time"]], "POSIXct") &&
    !is_intraday(time_interval(interval))
}

# Bars of a day or longer with dates in the column `time`; other tables
# unchanged.
bars_dated <- function(x) {
  if (!has_day_bars(x)) {
    return(x)
  }
  columns <- as.list(x)
  columns$time <- bar_table_days(x)
  with_facts(as_rows(columns), facts_of(x))
}

bar_table_days <- function(x) {
  facts <- frame_facts(x)
  bar_trading_days(x$time, facts$calendar, facts$zone)
}

# Bars of a day or longer at midnight UTC of their trading day, for joins by
# date.
bars_at_dates <- function(x) {
  days <- bar_table_days(x)
  x$time <- utc(as.numeric(days) * 86400)
  attr(x, "calendar") <- NULL
  attr(x, "zone") <- "UTC"
  x
}
