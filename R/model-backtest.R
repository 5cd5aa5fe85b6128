# Backtests: a fit of what was known on a day, compared with later values.

#' Backtest a model
#'
#' On each of several days the model is fitted on what was known then, and
#' simulated paths are compared with the later values and with two benchmarks:
#' the values of the same day of other years, and the last value.
#'
#' @param x A table of one series; of several releases, those known on the day
#'   are used.
#' @param origins The forecast origins, days; by default one per year, from the
#'   middle of the series on, as far as the horizon allows.
#' @param horizon The length of each forecast.
#' @param season,noise Lists of arguments of [model_season()] and
#'   [model_noise()].
#' @param n,seed,lower,upper As in [model_paths()].
#' @param value,calendar As in [model_season()].
#' @return A `vetusta_backtest`: a list of `scores` (a tibble of `day`,
#'   `method`, `values`, `bias`, `crps`, `pinball`, `within_50`, `within_90`)
#'   and `summary` (the same by method, over all days). `crps` is the continuous
#'   ranked probability score of Gneiting and Raftery (*Journal of the American
#'   Statistical Association* 102, 2007) of the sample of paths, in the units of
#'   the series; `pinball` is the mean of the quantile losses at 5, 25, 50, 75
#'   and 95% (Koenker and Bassett, *Econometrica* 46, 1978). Lower values are
#'   better for both. `within_50` and `within_90` are the shares of later values
#'   within the middle 50% and 90% of the paths.
#' @section Errors: `vetusta_error_model`, also from the functions called, and
#'   if no day leaves enough values on both sides.
#' @export
#' @examples
#' noise <- as.numeric(stats::filter(rnorm(1500), 0.8, method = "recursive"))
#' level <- data.frame(
#'   series = "lock",
#'   period = as.Date("2020-01-01") + 0:1499,
#'   value = noise
#' )
#' model_backtest(
#'   level,
#'   origins = "2023-01-01",
#'   horizon = "90 days",
#'   n = 100,
#'   season = list(periods = numeric()),
#'   noise = list(order = c(1, 0))
#' )
model_backtest <- function(x, origins = NULL, horizon = "1 year",
                           season = list(), noise = list(), n = 500, seed = 1,
                           lower = -Inf, upper = Inf, value = NULL,
                           calendar = NULL) {
  asked <- lineage_asked()
  data <- model_input(given(x, "x", "model"), value, calendar = calendar)
  check_handed(season, model_season, "season")
  check_handed(noise, model_noise, "noise")
  check_whole(n, "n")
  far <- model_days(horizon, "horizon")
  at <- backtest_days(data, origins, far)
  rows <- lapply(at, function(day) {
    as_of <- epoch_days(day)
    fitted <- do.call(
      model_season,
      c(list(x, value = value, as_of = as_of, calendar = calendar), season)
    )
    noise_of <- do.call(model_noise, c(list(fitted), noise))
    paths <- model_paths(
      noise_of, n, horizon, seed,
      lower = lower, upper = upper,
      calendar = calendar
    )
    backtest_scores(as_of, data, fitted$data, paths)
  })
  scores <- as.data.frame(data.table::rbindlist(rows))
  lineage_step(
    backtest_made(data, scores, horizon, n), "model_backtest", asked
  )
}

backtest_days <- function(data, origins, far) {
  range <- range(data$days)
  if (!is.null(origins) &&
    !is.character(origins) &&
    !inherits(origins, c("Date", "POSIXct"))) {
    vetusta_stop(
      "model", paste0("`origins` cannot be ", shown_value(origins), "."),
      todo = "give days such as \"2024-04-30\""
    )
  }
  at <- if (!is.null(origins)) {
    model_dates(origins, "origins")
  } else {
    last <- range[2] - far
    first <- mean(range)
    if (last < first) numeric() else rev(seq(last, first, by = -365.2425))
  }
  at <- floor(at)
  good <- at > range[1] + 20 * stats::median(diff(data$days)) & at < range[2]
  if (!length(at) || !all(good)) {
    vetusta_stop(
      "model",
      paste0(
        "An origin leaves too few values before or after it."
      ),
      where = paste(data$time[1], "to", data$time[length(data$time)]),
      todo = "give days further within, or a shorter horizon"
    )
  }
  at
}

backtest_scores <- function(day, all, known, paths) {
  at <- match(days_of(paths$time), all$days)
  came <- all$value[at[!is.na(at)]]
  sample <- paths$paths[!is.na(at), , drop = FALSE]
  days <- days_of(paths$time)[!is.na(at)]
  # the same day of the known years
  place <- round(year_part(known$days) * 366)
  by_day <- split(known$value, place)
  others <- lapply(as.character(round(year_part(days) * 366)), function(p) {
    by_day[[p]] %||% known$value[length(known$value)]
  })
  rbind(
    backtest_row(
      day, "model", came, lapply(seq_along(came), function(i) sample[i, ])
    ),
    backtest_row(day, "same day of other years", came, others),
    backtest_row(
      day, "last value", came,
      rep(list(known$value[length(known$value)]), length(came))
    )
  )
}

backtest_row <- function(day, method, came, samples) {
  probs <- c(0.05, 0.25, 0.5, 0.75, 0.95)
  scores <- sample_scores_cpp(samples, came, probs)
  quantiles <- scores$quantiles
  loss <- vapply(
    seq_along(probs),
    function(i) {
      mean((came - quantiles[i, ]) * (probs[i] - (came < quantiles[i, ])))
    },
    0
  )
  within <- function(low, high) {
    mean(came >= quantiles[low, ] & came <= quantiles[high, ])
  }
  data.frame(
    day = day,
    method = method,
    values = length(came),
    bias = mean(scores$mean - came),
    crps = mean(scores$crps),
    pinball = mean(loss),
    within_50 = within(2, 4),
    within_90 = within(1, 5)
  )
}

backtest_made <- function(data, scores, horizon, n) {
  methods <- unique(scores$method)
  columns <- c("bias", "crps", "pinball", "within_50", "within_90")
  means <- lapply(methods, function(method) {
    rows <- scores[scores$method == method, ]
    c(
      list(method = method, days = nrow(rows), values = sum(rows$values)),
      lapply(rows[columns], stats::weighted.mean, rows$values)
    )
  })
  structure(
    list(
      name = data$name,
      unit = data$unit,
      horizon = horizon,
      n = n,
      scores = as_rows(as.list(scores)),
      summary = as_rows(as.list(data.table::rbindlist(means)))
    ),
    class = "vetusta_backtest"
  )
}

#' @export
print.vetusta_backtest <- function(x, ...) {
  all <- as.data.frame(x$summary)
  best <- all$crps[1] < min(all$crps[-1])
  cat(
    "backtest of ", x$name, ", ", x$horizon, " ahead from ",
    counted(all$days[1], "day"), ": ", "the model is ",
    if (best) "better" else "no better",
    " than the plain benchmarks (by CRPS ", signif(all$crps[1], 3),
    " against ", signif(min(all$crps[-1]), 3), ")\n",
    sep = ""
  )
  for (name in c("bias", "crps", "pinball")) {
    all[[name]] <- signif(all[[name]], 3)
  }
  for (name in c("within_50", "within_90")) {
    all[[name]] <- format_coverage(all[[name]])
  }
  cat(text_table(all, getOption("width", 80)), sep = "\n")
  invisible(x)
}
