# Trend and season by least squares, with standard errors for autocorrelated
# noise.

#' Trend and season of a series
#'
#' Least squares on a level, a trend and a season, with standard errors for
#' autocorrelated noise: Newey and West (*Econometrica* 55, 1987), after
#' prewhitening (Andrews and Monahan, *Econometrica* 60, 1992) and with the
#' bandwidth of Newey and West (*Review of Economic Studies* 61, 1994).
#'
#' @param x A table of one series: bars, observations or points, without missing
#'   values.
#' @param trend `"linear"`, `"none"`, or days at which a linear trend breaks, as
#'   `"2001-01-01"`.
#' @param periods Periods of the season: numbers of days, or lengths such as `"1
#'   year"`. `NULL` chooses among harmonics of a year (and, for daily values, of
#'   a week) by the Bayesian information criterion, after removing the
#'   autocorrelation of the noise.
#' @param harmonics The number of harmonics; one for all periods, or one each.
#' @param effects `"month"` or `"weekday"`: effects of months or weekdays in
#'   place of harmonics.
#' @param filled The weight of filled values: 1 like observed ones, 0 not at
#'   all, or between.
#' @param value The number of bars to use [`close`].
#' @param as_of An instant or a day: only what was known then.
#' @param calendar For daily bars, the calendar by which they were known.
#' @param level The confidence level of the intervals.
#' @return A `vetusta_season`: a list of `coefficients` (a tibble of `term`,
#'   `estimate`, `error`, `low`, `high`, `unit`), `series` (a tibble of `period`
#'   or `time`, `observed`, `fitted`, `season`, `trend`, `rest`), `explained`
#'   (the share of the variance), `name`, `unit`, `spec` and `data`.
#'   `as.data.frame()` gives the series.
#' @section Errors: `vetusta_error_model` for missing values, a series too short
#'   for a period, fewer than ten values, or several series.
#' @export
#' @examples
#' days <- as.Date("2016-01-01") + 0:3652
#' level <- data.frame(
#'   series = "lock",
#'   period = days,
#'   value = 200 - 0.001 * 0:3652 +
#'     40 * cos(2 * pi * (as.POSIXlt(days)$yday - 100) / 365.25)
#' )
#' model_season(level)
model_season <- function(x, trend = "linear", periods = NULL, harmonics = NULL,
                         effects = NULL, filled = 1, value = NULL,
                         as_of = NULL, calendar = NULL, level = 0.95) {
  asked <- lineage_asked()
  data <- model_input(given(x, "x", "model"), value, as_of, calendar)
  spec <- season_spec(data, trend, periods, harmonics, effects)
  check_number(filled, "filled", 0, "model")
  check_level(level)
  weight <- ifelse(data$filled, filled, 1)
  if (sum(weight > 0) < 10) {
    vetusta_stop(
      "model", "Fewer than ten of the values are observed.",
      todo = "let filled values count, or give more"
    )
  }
  if (is.null(spec$cycles)) spec$cycles <- season_chosen(data, spec, weight)
  lineage_step(
    season_fitted(data, spec, weight, level), "model_season", asked
  )
}

check_level <- function(level) {
  check_number(level, "level", 0, "model")
  if (level <= 0 || level >= 1) {
    vetusta_stop(
      "model", "`level` must be between 0 and 1.",
      todo = "give a number such as 0.95"
    )
  }
}

# list(trend, breaks, cycles, effects, origin): `cycles` is a data frame of
# period (days) and harmonics, or NULL to be chosen.
season_spec <- function(data, trend, periods, harmonics, effects) {
  if (!length(trend) ||
    !(is.character(trend) || inherits(trend, c("Date", "POSIXct"))) ||
    anyNA(trend)) {
    vetusta_stop(
      "model", paste0("`trend` cannot be ", shown_value(trend), "."),
      todo = "give \"linear\", \"none\", or days at which it breaks"
    )
  }
  breaks <- if (!identical(trend, "linear") && !identical(trend, "none")) {
    model_dates(trend, "trend")
  }
  range <- range(data$days)
  outside <- breaks <= range[1] | breaks >= range[2]
  if (any(outside)) {
    vetusta_stop(
      "model",
      paste0(
        "The trend cannot break at ", format(trend[outside][1]),
        ", where the series has not begun or has ended."
      ),
      todo = paste(
        "give days between", data$time[1], "and", data$time[length(data$time)]
      )
    )
  }
  spec <- list(
    trend = if (length(breaks)) "broken" else trend,
    breaks = breaks,
    origin = range[1],
    effects = effects
  )
  if (!is.null(effects)) {
    check_choice(effects, "effects", c("month", "weekday"), "model")
    if (!is.null(periods)) {
      vetusta_stop(
        "model", "Give either `effects` or `periods`.",
        todo = "leave out one of the two"
      )
    }
    spec$cycles <- no_cycles
  } else if (!is.null(periods)) {
    spec$cycles <- season_cycles(data, periods, harmonics)
  } else if (!is.null(harmonics)) {
    spec$cycles <- season_cycles(data, "1 year", harmonics)
  }
  spec
}

no_cycles <- data.frame(period = numeric(), harmonics = integer())

season_cycles <- function(data, periods, harmonics) {
  if (!length(periods)) {
    return(no_cycles)
  }
  if (!is.numeric(periods) && !is.character(periods) && !is.list(periods)) {
    vetusta_stop(
      "model", paste0("`periods` cannot be ", shown_value(periods), "."),
      todo = "give numbers of days, or lengths such as \"1 year\""
    )
  }
  days <- vapply(as.list(periods), model_days, 0, name = "periods")
  harmonics <- harmonics %||% 1
  if (!is.numeric(harmonics)) check_whole(harmonics, "harmonics")
  for (harmonic in harmonics) check_whole(harmonic, "harmonics", most = 1000)
  if (!length(harmonics) %in% c(1, length(days))) {
    vetusta_stop(
      "model",
      "Give a number of harmonics for all periods, or a number for each.",
      todo = "correct harmonics"
    )
  }
  span <- diff(range(data$days))
  step <- stats::median(diff(data$days))
  for (day in days) {
    if (day > span) {
      vetusta_stop(
        "model",
        paste0(
          "A period of ", period_words(day), " is longer than the series,",
          " which has ", period_words(span), "."
        ),
        todo = "give a shorter period, or more values"
      )
    }
    if (day > span / 2) {
      vetusta_stop(
        "model",
        paste0(
          "The series, of ", period_words(span), ", is too short for a ",
          "season of ", period_words(day),
          ": the series is shorter than two periods."
        ),
        todo = "give a shorter period, or more values"
      )
    }
  }
  harmonics <- rep(as.integer(harmonics), length.out = length(days))
  short <- days / harmonics < 2 * step
  if (any(short)) {
    vetusta_stop(
      "model",
      paste0(
        "A harmonic of ", period_words((days / harmonics)[short][1]),
        " is shorter than two steps of the series."
      ),
      todo = "give fewer harmonics"
    )
  }
  data.frame(period = days, harmonics = harmonics)
}

is_year_long <- function(period) abs(period / 365.2425 - 1) < 0.005

# Columns of the regression at some days, and their units.
season_design <- function(spec, days) {
  years <- (days - spec$origin) / 365.2425
  columns <- list(level = rep(1, length(days)))
  if (spec$trend != "none") columns$trend <- years
  for (at in spec$breaks) {
    name <- paste("trend from", epoch_days(floor(at)))
    columns[[name]] <- pmax(0, (days - at) / 365.2425)
  }
  for (i in seq_len(nrow(spec$cycles))) {
    period <- spec$cycles$period[i]
    part <- if (is_year_long(period)) year_part(days) else (days / period) %% 1
    words <- sub(
      "^(a|half a|a third of a|a quarter of a) ", "\\1 ", period_words(period)
    )
    for (k in seq_len(spec$cycles$harmonics[i])) {
      columns[[paste0(words, ", cos ", k)]] <- cos(2 * pi * k * part)
      columns[[paste0(words, ", sin ", k)]] <- sin(2 * pi * k * part)
    }
  }
  columns <- c(columns, season_effects(spec, days))
  matrix(
    unlist(columns, use.names = FALSE),
    length(days),
    dimnames = list(NULL, names(columns))
  )
}

# Effects that sum to zero: the last follows from the others.
season_effects <- function(spec, days) {
  if (is.null(spec$effects)) {
    return(NULL)
  }
  date <- as.POSIXlt(epoch_days(floor(days)))
  of <- list(
    month = list(date$mon + 1, month.name),
    weekday = list(
      (date$wday + 6) %% 7 + 1,
      c(
        "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday",
        "Sunday"
      )
    )
  )[[spec$effects]]
  present <- spec$present %||% sort(unique(of[[1]]))
  last <- present[length(present)]
  stats::setNames(
    lapply(present[-length(present)], function(i) {
      (of[[1]] == i) - (of[[1]] == last)
    }),
    of[[2]][present[-length(present)]]
  )
}

# The number of harmonics by the Bayesian criterion, after removal of the
# noise's autocorrelation.
season_chosen <- function(data, spec, weight) {
  span <- diff(range(data$days))
  step <- stats::median(diff(data$days))
  most <- if (span < 2 * 365.2425) {
    0
  } else {
    min(6, floor(365.2425 / step / 2 - 1e-9))
  }
  weekly <- if (data$frequency == "D" && span > 60) 0:3 else 0
  cycles <- function(year, week) {
    rbind(
      no_cycles, if (year) data.frame(period = 365.2425, harmonics = year),
      if (week) data.frame(period = 7, harmonics = week)
    )
  }
  full <- spec
  full$cycles <- cycles(most, max(weekly))
  design <- season_design(full, data$days)
  rest <- season_solve(design, data$value, weight)$rest
  n <- length(rest)
  memory <- sum(rest[-1] * rest[-n]) / max(sum(rest^2), 1e-300)
  memory <- max(-0.99, min(0.99, memory))
  lagged <- function(x) x[-1, , drop = FALSE] - memory * x[-n, , drop = FALSE]
  value <- lagged(cbind(data$value))
  design <- lagged(design)
  root <- sqrt(weight[-1])
  # every regression is a part of the largest one
  products <- crossprod(cbind(design, value) * root)
  size <- sum(root^2)
  best <- list(score = Inf)
  for (week in weekly) {
    for (year in seq(0, most)) {
      filled <- spec
      filled$cycles <- cycles(year, week)
      at <- match(
        colnames(season_design(filled, data$days[1:2])), colnames(design)
      )
      last <- ncol(products)
      explained <- tryCatch(
        sum(products[at, last] * solve(products[at, at], products[at, last])),
        error = function(e) -Inf
      )
      left <- max(
        products[last, last] - explained, 1e-12 * products[last, last], 1e-300
      )
      score <- size * log(left / size) + length(at) * log(size)
      if (score < best$score - 1e-9) {
        best <- list(score = score, cycles = filled$cycles)
      }
    }
  }
  best$cycles
}

season_solve <- function(x, y, weight) {
  root <- sqrt(weight)
  fit <- stats::lm.fit(x * root, as.numeric(y) * root)
  coefficients <- fit$coefficients
  coefficients[is.na(coefficients)] <- 0
  list(
    coefficients = coefficients,
    rest = as.numeric(y) - as.numeric(x %*% coefficients)
  )
}

season_fitted <- function(data, spec, weight, level) {
  if (!is.null(spec$effects)) {
    date <- as.POSIXlt(epoch_days(floor(data$days)))
    spec$present <- sort(
      unique(
        if (spec$effects == "month") date$mon + 1 else (date$wday + 6) %% 7 + 1
      )
    )
  }
  design <- season_design(spec, data$days)
  if (nrow(design) <= ncol(design) + 2) {
    vetusta_stop(
      "model",
      paste0(
        counted(nrow(design), "value"), " are too few for ", ncol(design),
        " coefficients."
      ),
      todo = "use fewer harmonics, or give more values"
    )
  }
  fit <- season_solve(design, data$value, weight)
  spread <- season_spread(design, fit$rest, weight)
  model <- structure(
    list(
      name = data$name, unit = data$unit, spec = spec, data = data,
      estimate = fit$coefficients, spread = spread, level = level
    ),
    class = "vetusta_season"
  )
  model$coefficients <- season_coefficients(model, nrow(design))
  parts <- season_parts(model, design)
  clock <- if (inherits(data$time, "Date")) {
    list(period = data$time)
  } else {
    list(time = data$time)
  }
  model$series <- as_rows(
    c(
      clock,
      list(
        observed = data$value,
        fitted = parts$fitted,
        season = parts$season,
        trend = parts$trend,
        rest = data$value - parts$fitted
      )
    )
  )
  total <- stats::var(data$value)
  model$explained <- if (total > 0) {
    1 - stats::var(model$series$rest) / total
  } else {
    NA_real_
  }
  model$weight <- weight
  model
}

# list(trend, season, fitted) at some days, within the series and after it.
season_at <- function(model, days) {
  season_parts(model, season_design(model$spec, days))
}

season_parts <- function(model, design) {
  trend_columns <- grepl("^(level|trend)", colnames(design))
  trend <- as.numeric(
    design[, trend_columns, drop = FALSE] %*% model$estimate[trend_columns]
  )
  season <- as.numeric(
    design[, !trend_columns, drop = FALSE] %*% model$estimate[!trend_columns]
  )
  list(trend = trend, season = season, fitted = trend + season)
}

#' @export
as.data.frame.vetusta_season <- function(x, ...) as.data.frame(x$series)

#' @export
print.vetusta_season <- function(x, ...) {
  cat(season_words(x), sep = "\n")
  shown <- as.data.frame(x$coefficients)
  for (name in c("estimate", "error", "low", "high")) {
    shown[[name]] <- signif(shown[[name]], 4)
  }
  cat("", text_table(shown, getOption("width", 80)), sep = "\n")
  invisible(x)
}

season_words <- function(x) {
  unit <- if (is.na(x$unit)) "" else paste0(" ", x$unit)
  time <- x$data$time
  trend <- x$coefficients[x$coefficients$term == "trend", ]
  year <- seq(0, 365)
  shape <- season_at(x, as.numeric(as.Date("2024-01-01")) + year)$season
  day <- function(at) trimws(format(as.Date("2024-01-01") + year[at], "%e %B"))
  c(
    paste0(
      "trend and season of ", x$name, ", ", counted(length(time), x$data$step),
      " from ", as.Date(time[1]), " to ", as.Date(time[length(time)])
    ),
    if (nrow(trend)) {
      paste0(
        "  trend   ", signif(trend$estimate, 3), unit, " a year, ",
        if (trend$low > 0 || trend$high < 0) {
          "different from zero"
        } else {
          "not different from zero"
        },
        " (", signif(trend$low, 3), " to ", signif(trend$high, 3), ")"
      )
    },
    if (diff(range(shape)) > 0) {
      paste0(
        "  season  ", signif(diff(range(shape)), 3), unit,
        " from its lowest to its highest",
        if (any(is_year_long(x$spec$cycles$period)) ||
          identical(x$spec$effects, "month")) {
          paste0(
            ": lowest about ", day(which.min(shape)), ", highest about ",
            day(which.max(shape))
          )
        }
      )
    } else {
      "  season  none"
    },
    if (!is.na(x$explained)) {
      paste0(
        "  trend and season explain ", round(100 * x$explained),
        "% of the variance; standard deviation of the residuals ",
        signif(stats::sd(x$series$rest), 3), unit
      )
    }
  )
}
