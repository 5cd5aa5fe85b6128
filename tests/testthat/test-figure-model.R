# Figures of models, by their data.
payoff_model <- function() {
  days <- as.Date("2016-01-01") + 0:3652
  value <- withr::with_seed(
    1,
    190 + 40 * cos(2 * pi * year_part(as.numeric(days))) +
      as.numeric(stats::filter(rnorm(3653, sd = 5), 0.8, method = "recursive"))
  )
  model_run(
    data.frame(series = "lock", period = days, value = value, unit = "cm"),
    list(
      season = list(harmonics = 1),
      noise = list(order = c(1, 0)),
      paths = list(n = 300, horizon = "1 year", seed = 2),
      index = list(below = 180, season = c("05-01", "10-31")),
      payoff = list(strikes = c(1000, 2000, 9e4), pays = 2)
    )
  )
}

layer_data <- function(plot, i = 1) ggplot2::layer_data(plot, i)

test_that("each figure draws what its model says", {
  model <- payoff_model()
  fan <- figure_fan(model$paths, some = 2)
  band <- layer_data(fan, 1)
  expect_identical(nrow(band), length(model$paths$time))
  expect_equal(
    band$ymin, unname(apply(model$paths$paths, 1, stats::quantile, 0.05))
  )
  median <- layer_data(fan, 4)
  expect_equal(median$y, unname(apply(model$paths$paths, 1, stats::median)))
  expect_identical(nrow(layer_data(fan, 3)), 2L * nrow(band))
  # last year's values are drawn as observed
  expect_equal(
    range(layer_data(fan, 5)$y), range(utils::tail(model$data$value, 366)),
    tolerance = 0.02
  )
  came <- data.frame(
    series = "lock",
    period = model$paths$time[1:50],
    value = 7
  )
  expect_identical(nrow(layer_data(figure_fan(model$paths, came), 6)), 50L)
  index <- figure_index(
    model$index, data.frame(strike = c(1000, 2000)), model$history
  )
  expect_identical(sum(layer_data(index, 1)$count), 300)
  expect_identical(layer_data(index, 2)$xintercept, c(1000, 2000))
  expect_identical(nrow(layer_data(index, 4)), sum(model$history$missing == 0))
  payoff <- layer_data(figure_payoff(model$payoff), 3)
  expect_setequal(round(payoff$y, 6), round(model$payoff$mean, 6))
  paid <- figure_payments(model$payoff)
  expect_identical(
    sum(layer_data(paid, 1)$count),
    as.numeric(sum(unlist(attr(model$payoff, "payments")) > 0))
  )
  parts <- figure_parts(model$season)
  expect_identical(
    levels(parts$data$part), c("observed, and trend", "season", "rest")
  )
  peaks <- layer_data(figure_spectrum(model_spectrum(model$data)), 3)
  expect_identical(peaks$label, "a year")
  dependence <- figure_dependence(model_dependence(model$season))
  expect_identical(
    nrow(layer_data(dependence, 2)), 4L * nrow(model_dependence(model$season))
  )
})

test_that("all models are drawn, light and dark, by plot() too", {
  model <- payoff_model()
  folder <- withr::local_tempdir()
  all <- list(
    model$season, model$paths, model$index, model$payoff,
    model_spectrum(model$data), model_dependence(model$season)
  )
  for (i in seq_along(all)) {
    for (dark in c(FALSE, TRUE)) {
      file <- file.path(folder, paste0(i, dark, ".png"))
      figure_save(ggplot2::autoplot(all[[i]], dark = dark), file, 640, 400)
      expect_gt(file.size(file), 3000)
    }
  }
  withr::local_pdf(file.path(folder, "all.pdf"))
  for (one in all) expect_no_error(plot(one))
})

test_that("something else is refused, and so is what has no figure", {
  for (f in list(
    figure_spectrum, figure_dependence, figure_parts, figure_fan, figure_index,
    figure_payments, figure_payoff
  )) {
    expect_error(f(3), class = "vetusta_error_figure")
    expect_error(f(data.frame(a = 1)), class = "vetusta_error_figure")
  }
  model <- payoff_model()
  own <- payoff_value(model$index, payoff = function(index) index)
  expect_error(figure_payoff(own), "no strikes", class = "vetusta_error_figure")
})

test_that("a model is told on one page, with all of its figures and tables", {
  model <- payoff_model()
  report <- model_report(model)
  expect_true(
    all(
      c(
          "Trend and season", "Simulated paths", "The index",
          "Value of the payoff"
        ) %in%
        names(report$figures)
    )
  )
  expect_true(
    all(
      c("Coefficients of the noise", "Payoff terms", "The index by season") %in%
        names(report$tables)
    )
  )
  file <- withr::local_tempfile(fileext = ".html")
  report_save(report, file)
  html <- xml2::read_html(file)
  expect_identical(
    xml2::xml_text(xml2::xml_find_first(html, "//h1")), "A model of lock"
  )
  expect_length(xml2::xml_find_all(html, "//*[@src]"), 0)
  expect_error(model_report(3), class = "vetusta_error_report")
})
