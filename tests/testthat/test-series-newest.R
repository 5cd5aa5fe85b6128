# The newest values in order, and a figure of them.
newest_rows <- function() {
  days <- as.Date("2024-03-01") + 0:730
  data.frame(
    series = rep(c("a", "b", "c"), each = 731),
    period = rep(days, 3),
    value = c(1:731, 731:1, rep(5, 731))
  )
}

test_that("ranks now and a year ago are those of the definition", {
  done <- series_newest(newest_rows())
  expect_identical(done$series, c("a", "c", "b"))
  expect_identical(done$rank, 1:3)
  expect_identical(done$value, c(731, 5, 1))
  # a year before 2026-03-01 is 2025-03-01, the 366th day
  expect_identical(done$before, c(366, 5, 366))
  expect_identical(done$rank_before, c(1L, 3L, 1L))
  expect_equal(done$change[1], 731 / 366 - 1)
})

test_that("an earlier value may be some days older, and no more", {
  rows <- newest_rows()
  gone <- rows$series == "a" & rows$period > as.Date("2025-02-24") &
    rows$period < as.Date("2025-03-10")
  expect_identical(series_newest(rows[!gone, ])$before[1], 361)
  expect_identical(
    series_newest(rows[!gone, ], or_before = "2 days")$before[1], NA_real_
  )
})

test_that("the newest release counts, and odd input is refused", {
  rows <- data.frame(
    series = "a", period = as.Date("2026-01-01"), value = c(1, 2),
    known = as.POSIXct(c("2026-02-01", "2026-03-01"), tz = "UTC")
  )
  expect_identical(series_newest(rows)$value, 2)
  expect_error(series_newest(rows, over = "soon"), class = "vetusta_error")
  expect_error(
    series_newest(transform(rows, value = NA_real_)),
    class = "vetusta_error_argument"
  )
})

test_that("bars say the earlier rank, and dots stand at their places", {
  figure <- figure_newest(newest_rows())
  expect_identical(figure$data$said, c("731", "5 (3.)", "1 (1.)"))
  places <- data.frame(
    place = c("a", "b", "x"), latitude = c(57.1, 57.2, 0),
    longitude = c(24.1, 24.4, 0)
  )
  map <- figure_newest(newest_rows(), places)
  expect_identical(map$data$longitude, c(24.1, 24.4))
  expect_error(
    figure_newest(newest_rows(), places[3, ]),
    class = "vetusta_error_figure"
  )
  mixed <- newest_rows()
  mixed$unit <- ifelse(mixed$series == "a", "cm", "t")
  expect_error(figure_newest(mixed), "cm, t", class = "vetusta_error_figure")
})
