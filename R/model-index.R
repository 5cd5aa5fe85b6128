# An index of a season.

#' Index of a season
#'
#' The index is the sum, over the days of a season, of the shortfall below a
#' level or the excess above one; high-water days and degree days are examples.
#' Observed and simulated days are treated alike.
#'
#' @param x A daily table of one series; or [model_paths()].
#' @param below,above The level; exactly one of the two.
#' @param season The first and last day of the season, as `c("02-15", "05-31")`;
#'   a season that begins later in the year than it ends crosses the end of the
#'   year. In years without 29 February, it is 1 March as a first day and 28
#'   February as a last day.
#' @param most The largest contribution of a day.
#' @param cap The largest index of a season.
#' @param observed For paths: the observed days, so that a season in progress
#'   counts observed days and simulates the rest; by default those of the paths.
#' @param trend For a table: a [model_season()]; past values are moved by its
#'   trend to the level at the end of the series.
#' @param value The number of bars to use.
#' @return A `vetusta_index`, a tibble with a row per season: `season` (the year
#'   in which it begins), `from`, `to` (`Date`), `days`, `counted` (days beyond
#'   the level; for paths their mean), `missing` (days without a value: the
#'   index is too low, or `NA` without any value), `index` (for paths their
#'   mean). For paths the attribute `simulated` is a matrix with a row per
#'   season and a column per path. Seasons without any value are left out.
#' @section Errors: `vetusta_error_model` without a level or with two, and for
#'   an invalid season.
#' @export
#' @examples
#' days <- as.Date("2016-01-01") + 0:3652
#' level <- data.frame(
#'   series = "lock", period = days,
#'   value = 200 + 40 * cos(2 * pi * (as.POSIXlt(days)$yday - 100) / 365.25)
#' )
#' index_sum(level, below = 180, season = c("05-01", "10-31"))
index_sum <- function(x, below = NULL, above = NULL,
                      season = c("01-01", "12-31"), most = Inf, cap = Inf,
                      observed = NULL, trend = NULL, value = NULL) {
  if (is.null(below) == is.null(above)) {
    vetusta_stop(
      "model",
      "An index counts values below a level or above a level, not both.",
      todo = "give `below` or `above`"
    )
  }
  check_number(
    below %||% above, if (is.null(above)) "below" else "above",
    kind = "model"
  )
  check_number(most, "most", 0, "model")
  check_number(cap, "cap", 0, "model")
  rule <- list(
    level = below %||% above, below = is.null(above), most = most, cap = cap,
    season = season_days(season)
  )
  if (inherits(given(x, "x", "model"), "vetusta_paths")) {
    paths_kept(x)
    return(index_of_paths(x, rule, observed %||% x$observed, value))
  }
  data <- model_input(x, value, holes = "count")
  if (!is.null(trend)) {
    check_model(trend, "vetusta_season", "trend", "model_season()")
    parts <- season_at(trend, data$days)
    data$value <- data$value - parts$trend + parts$trend[length(parts$trend)]
  }
  index_of_days(data, rule)
}

# list(from, to): months and days.
season_days <- function(season) {
  good <- is.character(season) &&
    length(season) == 2 &&
    !anyNA(season) &&
    all(grepl("^[0-9]{2}-[0-9]{2}$", season)) &&
    !anyNA(as.Date(paste0("2024-", season), optional = TRUE))
  if (!good) {
    vetusta_stop(
      "model",
      paste0(
        "A season must have a first and a last day, not ",
        shown_value(season), "."
      ),
      todo = "give them as months and days: 05-01 and 10-31"
    )
  }
  list(from = season[1], to = season[2])
}

# The season of each day: the year in which it begins, NA between seasons.
season_of <- function(days, season) {
  date <- epoch_days(floor(days))
  year <- as.integer(format(date, "%Y"))
  day <- format(date, "%m-%d")
  if (season$from <= season$to) {
    return(ifelse(day >= season$from & day <= season$to, year, NA_integer_))
  }
  ifelse(
    day >= season$from, year, ifelse(day <= season$to, year - 1L, NA_integer_)
  )
}

season_bounds <- function(year, season) {
  day <- function(year, at, instead) {
    as.Date(
      paste0(
        year, "-", ifelse(at == "02-29" & !year_is_leap(year), instead, at)
      )
    )
  }
  over <- season$from > season$to
  list(
    from = day(year, season$from, "03-01"),
    to = day(year + over, season$to, "02-28")
  )
}

index_of_days <- function(data, rule) {
  year <- season_of(data$days, rule$season)
  years <- sort(unique(year[!is.na(year)]))
  if (!length(years)) {
    vetusta_stop(
      "model", "No day is within the season.",
      todo = "give another season, or more days"
    )
  }
  run <- match(year, years, nomatch = 0L)
  sums <- model_shortfall_cpp(
    matrix(data$value), run, length(years), rule$level, rule$below, rule$most
  )
  index_rows(
    years, rule, pmin(rule$cap, sums[, 1]), tabulate(run, length(years)), data,
    days_beyond(matrix(data$value), run, length(years), rule)[, 1]
  )
}

# The number of days beyond the level, by season and path.
days_beyond <- function(values, run, runs, rule) {
  beyond <- if (rule$below) values < rule$level else values > rule$level
  beyond[is.na(beyond)] <- FALSE
  counts <- rowsum(beyond + 0, run)
  out <- matrix(0, runs, ncol(values))
  seasons <- as.integer(rownames(counts))
  out[seasons[seasons > 0], ] <- counts[seasons > 0, , drop = FALSE]
  out
}

index_rows <- function(years, rule, index, count, data, beyond) {
  bounds <- season_bounds(years, rule$season)
  days <- as.integer(bounds$to - bounds$from) + 1L
  rows <- as_rows(
    list(
      season = years,
      from = bounds$from,
      to = bounds$to,
      days = days,
      counted = beyond,
      missing = pmax(0L, days - as.integer(count)),
      index = index
    )
  )
  attr(rows, "name") <- data$name
  attr(rows, "unit") <- data$unit
  attr(rows, "rule") <- rule
  class(rows) <- c("vetusta_index", class(rows))
  rows
}

index_of_paths <- function(paths, rule, observed, value) {
  days <- days_of(paths$time)
  past <- if (NROW(observed)) model_input(observed, value, holes = "count")
  before <- if (!is.null(past)) past$days < min(days) else logical()
  year <- season_of(days, rule$season)
  years <- sort(unique(year[!is.na(year)]))
  if (!length(years)) {
    vetusta_stop(
      "model", "No simulated day is within the season.",
      todo = "give another season, or a longer horizon"
    )
  }
  run <- match(year, years, nomatch = 0L)
  sums <- model_shortfall_cpp(
    paths$paths, run, length(years), rule$level, rule$below, rule$most
  )
  beyond <- days_beyond(paths$paths, run, length(years), rule)
  count <- tabulate(run, length(years))
  if (any(before)) {
    place <- match(
      season_of(past$days[before], rule$season), years,
      nomatch = 0L
    )
    there <- model_shortfall_cpp(
      matrix(past$value[before]), place, length(years), rule$level, rule$below,
      rule$most
    )
    sums <- sums + there[, 1]
    beyond <- beyond +
      days_beyond(matrix(past$value[before]), place, length(years), rule)[, 1]
    count <- count + tabulate(place, length(years))
  }
  sums <- pmin(sums, rule$cap)
  dim(sums) <- c(length(years), ncol(paths$paths))
  rows <- index_rows(
    years, rule, rowMeans(sums), count, paths, rowMeans(beyond)
  )
  attr(rows, "simulated") <- sums
  attr(rows, "seed") <- paths$seed
  rows
}

#' @export
print.vetusta_index <- function(x, ...) {
  rule <- attr(x, "rule")
  simulated <- attr(x, "simulated")
  cat(
    "index of ", attr(x, "name"), ": days ",
    if (rule$below) "below " else "above ", format_exact(rule$level),
    " and the sum of their ", if (rule$below) "shortfall" else "excess", ", ",
    rule$season$from, " to ", rule$season$to,
    if (!is.null(simulated)) {
      paste0(", the mean of ", counted(ncol(simulated), "path"))
    },
    "\n",
    sep = ""
  )
  shown <- as.data.frame(x)
  shown$index <- round(shown$index, 1)
  shown$counted <- round(shown$counted, 1)
  shown$missing[shown$missing == 0] <- NA
  shown$season <- as.character(shown$season)
  if (all(is.na(shown$missing))) shown$missing <- NULL
  cat(text_table(utils::tail(shown, 20), getOption("width", 80)), sep = "\n")
  if (nrow(x) > 20) cat("the last 20 of ", nrow(x), " seasons\n", sep = "")
  invisible(x)
}
