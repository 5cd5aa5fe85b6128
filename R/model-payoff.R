# The payoff of an index, and its value.

#' Value of a payoff
#'
#' A payoff pays a fixed amount per unit of the index above a strike, up to a
#' cap. It is valued by its payments in past seasons (burn analysis) and in
#' simulated ones.
#'
#' @param index An [index_sum()] of paths or of past seasons; or
#'   [model_paths()], with `payoff`.
#' @param terms A data frame of `strike` and, optionally, `cap` (the index above
#'   which payments stop growing), `pays` (per unit, 1 by default) and `name`.
#' @param history An [index_sum()] of past seasons, valued too.
#' @param payoff A function in place of terms: of the index (a vector over
#'   seasons or paths), or, if `index` are paths, of the values of one path and
#'   its times; it returns the payment.
#' @param season The season of the index; by default the first complete one of
#'   paths.
#' @param loading The number of standard deviations of the payments by which the
#'   premium exceeds their mean.
#' @return A `vetusta_payoff`, a tibble with a row per terms and method: `name`,
#'   `strike`, `cap`, `pays`, `method` (`simulation` or `past seasons`), `count`
#'   (paths or seasons), `mean`, `standard_error` (of the mean), `deviation`,
#'   `median`, `q90`, `q99`, `greatest`, `probability` (of any payment) and
#'   `premium`. Past seasons with missing days do not count. The attribute
#'   `payments` is a list of the payments on each path or season, one per row.
#' @section Errors: `vetusta_error_model` for terms without a strike or with a
#'   strike at or above its cap, and without a complete season.
#' @export
#' @examples
#' days <- as.Date("2016-01-01") + 0:3652
#' level <- data.frame(
#'   series = "lock", period = days,
#'   value = 190 + 40 * cos(2 * pi * (as.POSIXlt(days)$yday - 100) / 365.25)
#' )
#' index <- index_sum(level, below = 180, season = c("05-01", "10-31"))
#' payoff_value(index, data.frame(strike = c(500, 1000), cap = 4000, pays = 20))
payoff_value <- function(index, terms = NULL, history = NULL, payoff = NULL,
                         season = NULL, loading = 0.25) {
  check_number(loading, "loading", 0, "model")
  if (is.null(terms) == is.null(payoff)) {
    vetusta_stop(
      "model", "Give either `terms` or `payoff`.",
      todo = "give `terms` or `payoff`"
    )
  }
  if (!is.null(payoff) && !is.function(payoff)) {
    vetusta_stop(
      "model", "`payoff` must be a function of the index.",
      todo = "give `terms` instead"
    )
  }
  terms <- if (!is.null(terms)) {
    payoff_terms(terms)
  } else {
    data.frame(
      name = "by function", strike = NA_real_, cap = NA_real_, pays = NA_real_
    )
  }
  if (inherits(given(index, "index", "model"), "vetusta_paths")) {
    if (is.null(payoff)) {
      vetusta_stop(
        "model", "`terms` apply to an index, not to paths.",
        todo = "make the index with index_sum()"
      )
    }
    paths_kept(index)
    paid <- handed_function(apply(index$paths, 2, payoff, index$time), "payoff")
    if (!is.numeric(paid) || length(paid) != ncol(index$paths)) {
      vetusta_stop(
        "model", "`payoff` must return a number per path.",
        todo = "correct it"
      )
    }
    return(
      payoff_made(
        terms, list(simulation = list(numeric(), list(paid))), index$name,
        loading
      )
    )
  }
  check_model(index, "vetusta_index", "index", "index_sum()")
  if (!is.null(history)) {
    check_model(history, "vetusta_index", "history", "index_sum()")
  }
  sums <- c(
    payoff_sums(index, season),
    if (!is.null(history)) payoff_sums(history, NULL)
  )
  valued <- lapply(sums, function(sum) {
    list(
      sum,
      lapply(seq_len(nrow(terms)), function(i) {
        if (!is.null(payoff)) {
          as.numeric(handed_function(payoff(sum), "payoff"))
        } else {
          payoff_paid(sum, terms[i, ])
        }
      })
    )
  })
  payoff_made(terms, valued, attr(index, "name"), loading)
}

payoff_terms <- function(terms) {
  if (!is.data.frame(terms) ||
    !nrow(terms) ||
    !is.numeric(terms[["strike"]]) ||
    anyNA(terms$strike)) {
    vetusta_stop(
      "model", "`terms` must be a table with a strike in each row.",
      todo = "give a data frame of strike, cap and pays"
    )
  }
  n <- nrow(terms)
  number <- function(name, default) {
    column <- terms[[name]] %||% rep(default, n)
    if (!is.numeric(column)) {
      vetusta_stop(
        "model", paste0("The column ", name, " of the terms is not numeric."),
        todo = "correct it"
      )
    }
    ifelse(is.na(column), default, as.numeric(column))
  }
  cap <- number("cap", Inf)
  wrong <- which(terms$strike >= cap)
  if (length(wrong)) {
    vetusta_stop(
      "model",
      paste0(
        "The strike ", format_exact(terms$strike[wrong[1]]),
        " is not below its cap ", format_exact(cap[wrong[1]]), "."
      ),
      where = paste("terms, row", wrong[1]),
      todo = paste(
        "both are values of the index: give a cap", "above the strike"
      )
    )
  }
  name <- as.character(
    terms[["name"]] %||% paste("strike", format_exact(terms$strike))
  )
  data.frame(
    name = name,
    strike = as.numeric(terms$strike),
    cap = cap,
    pays = number("pays", 1)
  )
}

payoff_paid <- function(index, terms) {
  terms$pays * pmax(0, pmin(index, terms$cap) - terms$strike)
}

# Named by method: the index of each path of one season, or of each complete
# past season.
payoff_sums <- function(index, season) {
  simulated <- attr(index, "simulated")
  whole <- index$missing == 0
  if (is.null(simulated)) {
    if (!any(whole)) {
      vetusta_stop(
        "model", "No past season is complete.",
        todo = "fill their missing days first with series_fill()"
      )
    }
    return(list("past seasons" = index$index[whole]))
  }
  if (!is.null(season)) {
    at <- match(season, index$season)
    if (length(season) != 1 || is.na(at)) {
      check_choice(
        as.character(season)[1], "season", as.character(index$season), "model"
      )
    }
  } else {
    at <- which(whole)[1]
    if (is.na(at)) {
      vetusta_stop(
        "model", "No simulated season is complete.",
        todo = "simulate a longer horizon, or name the season"
      )
    }
  }
  list(simulation = simulated[at, ])
}

payoff_made <- function(terms, valued, name, loading) {
  rows <- lapply(names(valued), function(method) {
    results <- lapply(valued[[method]][[2]], payoff_numbers, loading)
    cbind(terms, method = method, do.call(rbind, results))
  })
  table <- as_rows(as.list(do.call(rbind, rows)))
  attr(
    table, "payments"
  ) <- unlist(lapply(valued, `[[`, 2), recursive = FALSE, use.names = FALSE)
  attr(table, "index") <- lapply(valued, `[[`, 1)
  attr(table, "name") <- name
  class(table) <- c("vetusta_payoff", class(table))
  table
}

payoff_numbers <- function(paid, loading) {
  n <- length(paid)
  deviation <- if (n > 1) stats::sd(paid) else NA_real_
  data.frame(
    count = n,
    mean = mean(paid),
    standard_error = deviation / sqrt(n),
    deviation = deviation,
    median = stats::median(paid),
    q90 = stats::quantile(paid, 0.9, names = FALSE),
    q99 = stats::quantile(paid, 0.99, names = FALSE),
    greatest = max(paid),
    probability = mean(paid > 0),
    premium = mean(paid) + loading * deviation
  )
}

#' @export
print.vetusta_payoff <- function(x, ...) {
  cat("payoff of ", attr(x, "name"), "\n", sep = "")
  shown <- as.data.frame(x)
  for (column in names(shown)[vapply(shown, is.numeric, TRUE)]) {
    shown[[column]] <- signif(shown[[column]], 4)
  }
  shown$probability <- paste0(round(100 * shown$probability, 1), "%")
  shown <- shown[
    c(
      "strike", "cap", "method", "count", "mean", "standard_error", "q99",
      "probability", "premium"
    )
  ]
  names(shown)[names(shown) == "standard_error"] <- "error"
  shown <- shown[!vapply(shown, function(column) all(is.na(column)), TRUE)]
  cat(text_table(shown, getOption("width", 80)), sep = "\n")
  invisible(x)
}
