# A whole model: from a series to its payoff, as a definition says.

#' Run a model
#'
#' Fills a series, fits trend, season and noise, simulates paths, and computes
#' an index and a payoff: the parts that the definition names.
#'
#' @param x A table of one series.
#' @param definition A list, as read from a model's file: `fill` (rules of
#'   [series_fill()]), `at_most`; `season`, `noise`, `paths`, `index` (also
#'   `detrended`, whether past seasons are moved by the trend), `payoff`
#'   (`strikes`, `caps`, `pays`, `loading`) and `backtest`: lists of arguments
#'   of [model_season()], [model_noise()], [model_paths()], [index_sum()],
#'   [payoff_value()], [model_backtest()].
#' @param calendar For daily bars, their calendar.
#' @return A `vetusta_model`: a list of `name`, `definition`, `data` (the filled
#'   series), `filled` (the number of filled values), and the parts: `season`,
#'   `noise`, `paths`, `index`, `history`, `payoff`, `backtest`. `summary()`
#'   gives its numbers: a tibble of `part`, `term`, `value`.
#' @section Errors: `vetusta_error_model` for an unknown word, and from the
#'   functions called.
#' @export
#' @examples
#' days <- as.Date("2016-01-01") + 0:3652
#' level <- data.frame(
#'   series = "lock",
#'   period = days,
#'   value = 190 + rnorm(3653) +
#'     40 * cos(2 * pi * (as.POSIXlt(days)$yday - 100) / 365.25)
#' )
#' model_run(
#'   level,
#'   list(
#'     paths = list(n = 200, horizon = "1 year"),
#'     index = list(below = 180, season = c("05-01", "10-31")),
#'     payoff = list(strikes = c(500, 1500))
#'   )
#' )
model_run <- function(x, definition = list(), calendar = NULL) {
  x <- as_series(given(x, "x", "model"))
  if (!is.list(definition) ||
    (length(definition) && is.null(names(definition)))) {
    vetusta_stop(
      "model", "A definition must be a list of its parts.",
      todo = "write it as list(season = list(), index = list(below = 180))"
    )
  }
  for (name in names(definition)) {
    check_choice(name, "definition", model_parts, "model")
  }
  check_calendar(calendar)
  if (!is.null(definition$fill)) {
    x <- without_notes(
      series_fill(
        x,
        calendar,
        rule = unlist(definition$fill),
        at_most = as.numeric(definition$at_most %||% Inf)
      )
    )
  }
  made <- list(
    name = unique(series_names_of(x))[1],
    definition = definition,
    data = x,
    filled = sum(x[["status"]] %in% "filled")
  )
  model_step <- function(f, first, name, more = list()) {
    check_handed(definition[[name]] %||% list(), f, name)
    do.call(
      f,
      c(
        first,
        definition[[name]][setdiff(names(definition[[name]]), names(more))],
        more
      )
    )
  }
  wanted <- names(definition)
  made$season <- model_step(
    model_season, list(x, calendar = calendar), "season"
  )
  later <- intersect(wanted, c("noise", "paths", "index", "payoff", "backtest"))
  if (length(later)) {
    made$noise <- model_step(model_noise, list(made$season), "noise")
  }
  if (length(intersect(wanted, c("paths", "index", "payoff")))) {
    made$paths <- model_step(
      model_paths, list(made$noise, calendar = calendar), "paths"
    )
  }
  if (length(intersect(wanted, c("index", "payoff")))) {
    made[c("index", "history")] <- model_indices(made, x, definition)
  }
  if ("payoff" %in% wanted) {
    made$payoff <- model_payoffs(made, definition$payoff)
  }
  if ("backtest" %in% wanted) {
    made$backtest <- model_step(
      model_backtest,
      list(
        x,
        season = definition$season %||% list(),
        noise = definition$noise %||% list(),
        calendar = calendar
      ),
      "backtest"
    )
  }
  structure(made, class = "vetusta_model")
}

model_parts <- c(
  "fill", "at_most", "season", "noise", "paths", "index", "payoff", "backtest"
)

# Indices of the simulated and the past seasons, with the trend removed where
# requested.
model_indices <- function(made, x, definition) {
  given <- definition$index
  if (is.null(given)) {
    vetusta_stop(
      "model", "A payoff needs an index.",
      todo = "write index: {above: 285, season: [02-15, 05-31]}"
    )
  }
  detrended <- given$detrended %||% TRUE
  given$detrended <- NULL
  list(
    do.call(index_sum, c(list(made$paths), given)),
    do.call(
      index_sum, c(list(x, trend = if (isTRUE(detrended)) made$season), given)
    )
  )
}

model_payoffs <- function(made, given) {
  known <- c("strikes", "caps", "pays", "loading", "season")
  for (name in setdiff(names(given), known)) {
    check_choice(name, "payoff", known, "model")
  }
  strikes <- as.numeric(unlist(given$strikes))
  caps <- as.numeric(unlist(given$caps %||% Inf))
  if (!length(strikes) || !length(caps) %in% c(1, length(strikes))) {
    vetusta_stop(
      "model", "A payoff needs strikes, and one cap or a cap per strike.",
      todo = "write them as strikes: [500, 800]"
    )
  }
  terms <- data.frame(
    strike = strikes,
    cap = caps,
    pays = as.numeric(unlist(given$pays %||% 1))
  )
  payoff_value(
    made$index,
    terms,
    made$history,
    season = given$season,
    loading = given$loading %||% 0.25
  )
}

#' @export
summary.vetusta_model <- function(object, ...) {
  part <- function(name, term, value) {
    list_frame(
      list(
        part = rep(name, length(term)),
        term = as.character(term),
        value = as.numeric(value)
      )
    )
  }
  index <- object$index
  payoff <- object$payoff
  rows <- rbind(
    part(
      "season", object$season$coefficients$term,
      object$season$coefficients$estimate
    ),
    if (!is.null(object$noise)) {
      part(
        "noise", object$noise$coefficients$term,
        object$noise$coefficients$estimate
      )
    },
    if (!is.null(object$paths)) {
      last <- object$paths$paths[nrow(object$paths$paths), ]
      part(
        "paths", c("mean at the end", "median at the end"),
        c(mean(last), stats::median(last))
      )
    },
    if (!is.null(index)) {
      part("index", paste("mean of", index$season), index$index)
    },
    if (!is.null(payoff)) {
      part("payoff", paste0(payoff$name, ", ", payoff$method), payoff$mean)
    }
  )
  as_rows(as.list(rows))
}

#' @export
print.vetusta_model <- function(x, ...) {
  if (x$filled) cat(counted(x$filled, "value"), "filled\n\n")
  shown <- x[
    intersect(c("season", "noise", "index", "payoff", "backtest"), names(x))
  ]
  for (i in seq_along(shown)) {
    if (i > 1) cat("\n")
    print(shown[[i]])
  }
  invisible(x)
}
