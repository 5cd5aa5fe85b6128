# A report of a model: its figures and tables on one page.

#' @rdname report_make
#' @param model A result of [model_run()].
#' @return `model_report()`: the report of a model.
#' @export
model_report <- function(model, title = NULL, zone = "UTC") {
  if (!inherits(given(model, "model", "report"), "vetusta_model")) {
    vetusta_stop(
      "report", "This report needs a model.",
      todo = "make a model with model_run()"
    )
  }
  check_zone(zone)
  description <- model_description(model)
  words <- season_words(model$season)
  structure(
    list(
      title = title %||% paste("A model of", model$name),
      made = utc(floor(now_seconds())),
      zone = zone,
      summary = c(
        paste0(sub("^ +", "", words), "."),
        if (model$filled) {
          paste0(
            counted(model$filled, "value"), " of the series ",
            if (model$filled == 1) "is" else "are", " filled."
          )
        },
        if (!is.null(model$paths)) paste0(model$paths$description, ".")
      ),
      tables = Filter(NROW, description$tables),
      figures = Filter(length, description$figures)
    ),
    class = "vetusta_report"
  )
}

model_description <- function(model) {
  terms <- if (!is.null(model$payoff)) {
    unique(as.data.frame(model$payoff)[c("name", "strike", "cap", "pays")])
  }
  spectrum <- tryCatch(
    model_spectrum(model$data),
    vetusta_error = function(e) NULL
  )
  draw <- function(x, f, ...) {
    if (!is.null(x)) {
      tryCatch(without_notes(f(x, ...)), vetusta_error = function(e) NULL)
    }
  }
  plain <- function(x) if (!is.null(x)) as.data.frame(x)
  list(
    figures = list(
      "The series, and what is filled" = if (model$filled) {
        draw(model$data, figure_filled)
      },
      "Cycles" = draw(spectrum, figure_spectrum),
      "Trend and season" = draw(model$season, figure_parts),
      "Simulated paths" = draw(model$paths, figure_fan),
      "The index" = draw(model$index, figure_index, terms, model$history),
      "Payoff" = draw(model$payoff, figure_payments),
      "Value of the payoff" = draw(model$payoff, figure_payoff)
    ),
    tables = list(
      "Coefficients of trend and season" = plain(model$season$coefficients),
      "Coefficients of the noise" = plain(model$noise$coefficients),
      "Is anything left?" = plain(model$noise$diagnostics),
      "The index by season" = plain(model$history),
      "The index that is simulated" = plain(model$index),
      "Payoff terms" = plain(model$payoff),
      "Was it any good?" = plain(model$backtest$summary)
    )
  )
}
