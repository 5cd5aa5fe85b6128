# Simulated paths of a series: trend and season continue, and noise is drawn.

#' Simulate paths of a series' future
#'
#' Each path has its own stream of random numbers (xoshiro256++, Blackman and
#' Vigna, *ACM Transactions on Mathematical Software* 47, 2021) from the seed
#' and its number: the same seed gives the same paths on every machine, however
#' many are simulated.
#'
#' @param x A [model_noise()], whose trend and season continue; or a list of
#'   several, for series with the same last time, whose residuals keep their
#'   dependence.
#' @param n The number of paths.
#' @param horizon The length of the paths.
#' @param seed A whole number.
#' @param from `"now"`: start from the current state; `"long run"`: start from
#'   the stationary distribution.
#' @param draw `"model"`: residuals of the noise model; `"blocks"`: runs of past
#'   residuals.
#' @param block The length of the runs; by default three times the cube root of
#'   the number of residuals.
#' @param trend `"on"`: the trend continues; `"stays"`: it keeps its last value.
#' @param lower,upper Bounds of the series; values beyond a bound are set to it.
#' @param calendar For trading days, their calendar; by default all weekdays.
#' @param each A function of a matrix of paths (a column each) and of their
#'   times. Its results for a thousand paths at a time are kept in place of the
#'   paths, so any number of paths fits into memory.
#' @return A `vetusta_paths`: a list of `name`, `unit`, `time`, `paths` (a
#'   matrix, a row a time and a column a path), `seed`, `observed` (the series),
#'   `description`; or, with `each`, `kept` (its results, bound by columns, or
#'   as a vector) in place of the paths. Several series give a list of these, by
#'   name.
#'   `summary()` gives the mean and quantiles by time, [model_quantiles()] the
#'   same as series.
#' @section Errors: `vetusta_error_model` for series with different ends, or a
#'   horizon shorter than a step.
#' @export
#' @examples
#' noise <- as.numeric(stats::filter(rnorm(1000), 0.8, method = "recursive"))
#' level <- data.frame(
#'   series = "lock",
#'   period = as.Date("2020-01-01") + 0:999,
#'   value = noise
#' )
#' paths <- model_paths(
#'   model_noise(level, c(1, 0)), n = 100, horizon = "30 days", seed = 1
#' )
#' summary(paths)
model_paths <- function(x, n = 2500, horizon = "18 months", seed = 1,
                        from = "now", draw = "model", block = NULL,
                        trend = "on", lower = -Inf, upper = Inf,
                        calendar = NULL, each = NULL) {
  asked <- lineage_asked()
  models <- if (inherits(given(x, "x", "model"), "vetusta_noise")) {
    list(x)
  } else {
    x
  }
  if (!is.list(models) || !length(models)) {
    check_model(x, "vetusta_noise", "x", "model_noise()")
  }
  for (noise in models) {
    check_model(noise, "vetusta_noise", "x", "model_noise()")
  }
  check_whole(n, "n")
  check_number(seed, "seed", kind = "model")
  if (seed != round(seed)) {
    vetusta_stop(
      "model", "`seed` must be a whole number.",
      todo = "give a whole number such as 1"
    )
  }
  check_choice(from, "from", c("now", "long run"), "model")
  check_choice(draw, "draw", c("model", "blocks"), "model")
  check_choice(trend, "trend", c("on", "stays"), "model")
  check_number(lower, "lower", kind = "model")
  check_number(upper, "upper", kind = "model")
  if (lower >= upper) {
    vetusta_stop(
      "model", "The lower bound is not below the upper bound.",
      todo = "correct them"
    )
  }
  check_calendar(calendar)
  if (!is.null(each) && !is.function(each)) {
    vetusta_stop(
      "model", "`each` must be a function of paths and times.",
      todo = "leave it out"
    )
  }
  paths_together(models)
  time <- paths_times(models[[1]]$data, horizon, calendar)
  if (is.null(each) && length(time) * n > 4e8) {
    vetusta_stop(
      "model",
      paste0(
        thousands(n), " paths of ", thousands(length(time)),
        " steps do not fit into memory."
      ),
      todo = paste0(
        "use fewer paths or a shorter ",
        "horizon; in R, `each` handles the paths in parts"
      )
    )
  }
  handed <- lapply(models, paths_handed, time, trend, lower, upper, from)
  z <- paths_residuals(models)
  drawn <- draw == "blocks" || models[[1]]$residuals == "bootstrap"
  if (is.null(block)) {
    block <- if (draw == "blocks") ceiling(3 * nrow(z)^(1 / 3)) else 1
  }
  check_whole(block, "block")
  mix <- paths_mix(z)
  draw <- function(first, count) {
    model_paths_cpp(
      handed, as.integer(count), length(time), seed, first, mix,
      if (drawn) z else z[0, , drop = FALSE], as.integer(block),
      if (from == "now") 0L else 500L
    )
  }
  kept <- if (is.null(each)) {
    draw(0, n)
  } else {
    paths_each(draw, n, time, each, length(models))
  }
  description <- paste0(
    counted(n, "path"), " of ", horizon_words(time, models[[1]]$data),
    ", seed ", format(seed, scientific = FALSE)
  )
  made <- Map(
    function(model, simulated) {
      structure(
        c(
          list(name = model$name, unit = model$unit, time = time),
          if (is.null(each)) {
            list(paths = simulated)
          } else {
            list(kept = simulated)
          },
          list(
            n = n,
            seed = seed,
            from = from,
            draw = draw,
            observed = model_rows(model$data, model$season$data$value),
            description = description,
            model = model
          )
        ),
        class = "vetusta_paths"
      )
    },
    models, kept
  )
  if (inherits(x, "vetusta_noise")) {
    lineage_step(made[[1]], "model_paths", asked)
  } else {
    stats::setNames(made, names(x) %||% vapply(models, `[[`, "", "name"))
  }
}

horizon_words <- function(time, data) counted(length(time), data$step)

paths_together <- function(models) {
  ends <- vapply(models, function(model) max(model$data$days), 0)
  steps <- vapply(models, function(model) model$data$frequency, "")
  if (length(unique(ends)) > 1 || length(unique(steps)) > 1) {
    vetusta_stop(
      "model",
      paste0(
        "Series that are simulated together must have the same last day ",
        "and the same step."
      ),
      todo = paste0(
        "cut them to the same last day, or bring them to the same ", "frequency"
      )
    )
  }
}

# The times after the last one, up to the horizon.
paths_times <- function(data, horizon, calendar) {
  last <- data$time[length(data$time)]
  far <- model_days(horizon, "horizon")
  if (far > 365.2425 * 1000) {
    vetusta_stop(
      "model", "The horizon is longer than a thousand years.",
      todo = "give a shorter horizon"
    )
  }
  end <- data$days[length(data$days)] + far
  day <- epoch_days(floor(data$days[length(data$days)]))
  until <- epoch_days(floor(end))
  months <- c(M = 1, Q = 3, S = 6, A = 12)
  days <- if (data$frequency == "T" && !is.null(calendar)) {
    later <- calendar_days(calendar, day, until)
    later[later > day]
  } else if (data$frequency == "T") {
    all <- if (until > day) seq(day + 1, until, by = 1) else day[0]
    all[!as.POSIXlt(all)$wday %in% c(0, 6)]
  } else if (data$frequency %in% names(months)) {
    # calendar months differ from the mean month
    until <- until + 3
    seq(day, until, by = paste(months[[data$frequency]], "months"))[-1]
  } else {
    step <- if (data$frequency == "W") {
      7
    } else if (data$frequency == "D") {
      1
    } else {
      stats::median(diff(data$days))
    }
    count <- floor((end - data$days[length(data$days)]) / step + 1e-9)
    later <- data$days[length(data$days)] + step * seq_len(count)
    if (inherits(data$time, "Date")) {
      epoch_days(later)
    } else {
      return(paths_some(utc(later * 86400)))
    }
  }
  days <- days[days <= until]
  # instants keep their hour
  paths_some(
    if (inherits(last, "Date")) {
      days
    } else {
      utc(as.numeric(last) %% 86400 + as.numeric(days) * 86400)
    }
  )
}

paths_some <- function(time) {
  if (!length(time)) {
    vetusta_stop(
      "model", "The horizon is shorter than one step of the series.",
      todo = "give a longer horizon"
    )
  }
  time
}

days_of <- function(time) {
  if (inherits(time, "Date")) as.numeric(time) else as.numeric(time) / 86400
}

# The parameters of one series for the simulation.
paths_handed <- function(model, time, trend, lower, upper, from) {
  days <- days_of(time)
  parts <- season_at(model$season, days)
  if (trend == "stays") {
    now <- season_at(model$season, max(model$data$days))$trend
    parts$fitted <- parts$season + now
  }
  n <- length(model$data$value)
  newest <- function(x, count) x[n + 1 - seq_len(count)]
  variance <- paths_variance[[model$variance$kind]](model, days, from)
  c(
    list(
      ar = as.numeric(model$ar),
      ma = as.numeric(model$ma),
      level = parts$fitted,
      values = as.numeric(newest(model$data$value, model$order[1])),
      shocks = as.numeric(newest(model$innovations, model$order[2])),
      df = model$df %||% 0,
      lower = lower,
      upper = upper
    ),
    variance
  )
}

paths_variance <- list(
  constant = function(model, days, from) {
    list(
      sigma = rep(model$variance$sigma, length(days)),
      garch = FALSE,
      omega = 0,
      alpha = 0,
      beta = 0,
      variance = 0
    )
  },
  seasonal = function(model, days, from) {
    design <- season_design(
      list(
        trend = "none",
        breaks = NULL,
        cycles = model$variance$cycles,
        origin = 0
      ),
      days
    )
    list(
      sigma = exp(0.5 * as.numeric(design %*% model$variance$log)),
      garch = FALSE,
      omega = 0,
      alpha = 0,
      beta = 0,
      variance = 0
    )
  },
  garch = function(model, days, from) {
    power <- model$variance
    n <- length(model$spread)
    next_one <- power$omega + power$alpha * model$innovations[n]^2 +
      power$beta * model$spread[n]^2
    list(
      sigma = rep(0, length(days)),
      garch = TRUE,
      omega = power$omega,
      alpha = power$alpha,
      beta = power$beta,
      variance = if (from == "now") {
        next_one
      } else {
        power$omega / max(1e-6, 1 - power$alpha - power$beta)
      }
    )
  }
)

# Standardised residuals of several series at their common times, with variance
# 1.
paths_residuals <- function(models) {
  times <- Reduce(intersect, lapply(models, function(model) model$data$days))
  if (length(times) < 10) {
    vetusta_stop(
      "model", "The series have fewer than ten times in common.",
      todo = "simulate them separately"
    )
  }
  columns <- lapply(models, function(model) {
    z <- model$standardised[match(times, model$data$days)]
    (z - mean(z)) / stats::sd(z)
  })
  matrix(unlist(columns), length(times))
}

# The Cholesky factor that gives independent numbers the correlation of the
# residuals.
paths_mix <- function(z) {
  together <- stats::cor(z)
  if (ncol(z) == 1) matrix(1) else t(chol(together + diag(1e-10, ncol(z))))
}

# A thousand paths at a time, with the same numbers as all at once.
paths_each <- function(draw, n, time, each, series) {
  parts <- lapply(seq(0, n - 1, by = 1000), function(first) {
    paths <- draw(first, min(1000, n - first))
    lapply(
      paths,
      function(simulation) handed_function(each(simulation, time), "each")
    )
  })
  lapply(seq_len(series), function(k) {
    pieces <- lapply(parts, `[[`, k)
    if (is.null(dim(pieces[[1]]))) unlist(pieces) else do.call(cbind, pieces)
  })
}

#' @export
summary.vetusta_paths <- function(object,
                                  probs = c(0.05, 0.25, 0.5, 0.75, 0.95), ...) {
  check_probabilities(probs)
  paths_kept(object)
  quantiles <- t(apply(object$paths, 1, stats::quantile, probs, names = FALSE))
  if (length(probs) == 1) quantiles <- t(quantiles)
  columns <- stats::setNames(
    lapply(seq_along(probs), function(i) quantiles[, i]), percent(probs)
  )
  clock <- if (inherits(object$time, "Date")) {
    list(period = object$time)
  } else {
    list(time = object$time)
  }
  as_rows(c(clock, list(mean = rowMeans(object$paths)), columns))
}

percent <- function(probs) {
  paste0(format(100 * probs, trim = TRUE, drop0trailing = TRUE), "%")
}

check_probabilities <- function(probs) {
  if (!is.numeric(probs) ||
    !length(probs) ||
    anyNA(probs) ||
    any(probs < 0 | probs > 1)) {
    vetusta_stop(
      "model", "`probs` must be probabilities.",
      todo = "give numbers from 0 to 1"
    )
  }
}

paths_kept <- function(paths) {
  if (is.null(paths$paths)) {
    vetusta_stop(
      "model", "The paths were not kept.",
      todo = "leave `each` out, or use its results: $kept"
    )
  }
}

#' @rdname model_paths
#' @param paths A result of [model_paths()].
#' @param probs Probabilities of the quantiles.
#' @return `model_quantiles()`: the quantiles and the mean as series: `series`
#'   (the name and the percentage, or `mean`), `period` or `time`, `value`,
#'   `status`.
#' @export
model_quantiles <- function(paths, probs = c(0.05, 0.5, 0.95)) {
  check_model(
    given(paths, "paths", "model"), "vetusta_paths", "paths", "model_paths()"
  )
  rows <- as.data.frame(summary(paths, probs))
  parts <- lapply(names(rows)[-1], function(name) {
    data.frame(
      series = paste(paths$name, name),
      rows[1],
      value = rows[[name]],
      status = "observed"
    )
  })
  as_rows(as.list(do.call(rbind, parts)))
}

#' @export
print.vetusta_paths <- function(x, ...) {
  cat(x$description, " of ", x$name, "\n", sep = "")
  if (is.null(x$paths)) {
    return(invisible(x))
  }
  rows <- as.data.frame(summary(x))
  shown <- rows[
    unique(round(seq(1, nrow(rows), length.out = min(8, nrow(rows))))),
  ]
  shown[-1] <- lapply(shown[-1], signif, 5)
  cat(text_table(shown, getOption("width", 80)), sep = "\n")
  invisible(x)
}
