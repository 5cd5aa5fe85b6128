# Facts of tables of series in the verbs of dplyr.
skip_if_not_installed("dplyr")

days <- function(symbol, interval = "1 day", unit = "crowns", zone = NULL) {
  time <- as.POSIXct("2026-03-12", tz = "UTC") + 86400 * (0:2)
  bars <- bars_frame(
    data.frame(symbol = symbol, close = c(41, 42, 40), time = time)
  )
  series_about(
    bars, interval = interval, unit = unit, zone = zone, source = "quay/bars"
  )
}

expect_facts <- function(table, shape = "vetusta_bars") {
  expect_s3_class(table, shape)
  about <- series_about(table)
  expect_identical(format(about$interval), "1 day")
  expect_identical(about$unit[["close"]], "crowns")
  expect_identical(about$source, "quay/bars")
}

test_that("verbs keep class and facts", {
  bars <- rbind(days("KELD"), days("TAMX"))
  expect_facts(dplyr::filter(bars, close > 40))
  expect_facts(dplyr::mutate(bars, twice = 2 * close))
  expect_facts(dplyr::select(bars, symbol, time, close))
  expect_facts(dplyr::arrange(bars, close))
  expect_facts(dplyr::slice(bars, 1:2))
  expect_facts(
    dplyr::left_join(
      bars, data.frame(symbol = "KELD", place = "quay"), by = "symbol"
    )
  )
  expect_facts(dplyr::bind_rows(days("KELD"), days("TAMX"), days("ORRI")))
  expect_identical(nrow(dplyr::bind_rows(days("KELD"), days("TAMX"))), 6L)
})

test_that("groups come and go without loss", {
  bars <- rbind(days("KELD"), days("TAMX"))
  grouped <- dplyr::group_by(bars, symbol)
  changed <- dplyr::mutate(grouped, r = close / dplyr::lag(close))
  expect_true(is.na(changed$r[4]))
  expect_facts(dplyr::ungroup(changed))
  expect_facts(dplyr::ungroup(dplyr::filter(grouped, close == max(close))))
  expect_facts(dplyr::ungroup(dplyr::arrange(grouped, dplyr::desc(time))))
  expect_facts(dplyr::ungroup(grouped[1:3, ]))
  expect_facts(dplyr::ungroup(dplyr::group_by(grouped, side, .add = TRUE)))
  expect_identical(series_change(grouped)$value, series_change(bars)$value)
  expect_identical(
    as.data.frame(dplyr::summarise(grouped, middle = mean(close))),
    data.frame(symbol = c("KELD", "TAMX"), middle = c(41, 41))
  )
})

test_that("what is no table of series any more has no such class", {
  bars <- days("KELD")
  expect_false(inherits(dplyr::count(bars, symbol), "vetusta_series"))
  expect_false(
    inherits(
      dplyr::left_join(bars, days("KELD"), by = "time"), "vetusta_series"
    )
  )
})

test_that("tables whose facts differ are not bound as if they did not", {
  expect_error_kind(
    dplyr::bind_rows(days("KELD"), days("KELD", "1 week")), "shape",
    "1 day and 1 week"
  )
  expect_error_kind(
    dplyr::bind_rows(days("KELD"), days("KELD", unit = "marks")), "shape",
    "units"
  )
  expect_error_kind(
    dplyr::bind_rows(days("KELD"), days("KELD", zone = "Asia/Tokyo")), "shape",
    "zone: none and Asia/Tokyo"
  )
})
