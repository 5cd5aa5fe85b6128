# The language of conditions against the same conditions in R.
rows_asked <- data.frame(
  symbol = c("KELD", "TAMX", "BROM", NA, "K*"),
  volume = c(12000, 800, NA, 10000, 0),
  first = as.Date(
    c("1999-01-01", "2006-01-01", NA, "2010-05-05", "2020-02-02")
  ),
  seen = as.POSIXct(
    c("2026-03-12 10:00", "2026-03-13", NA, "2026-03-14", "2026-03-15"),
    tz = "UTC"
  ),
  name = c("Kelder Barges", "Tamm Navigation", "", "barge co", NA),
  flag = c(TRUE, FALSE, NA, TRUE, FALSE),
  texts = c("9", "10", "11", NA, "100")
)

test_that("each sign chooses the rows that it should", {
  which_rows <- function(...) {
    found <- rows_filter(cbind(rows_asked, n = 1:5), c(...))
    found$n
  }
  expect_identical(which_rows("symbol=KELD"), 1L)
  expect_identical(which_rows("symbol=KELD,TAMX"), 1:2)
  expect_identical(which_rows("symbol=K*"), c(1L, 5L))
  expect_identical(which_rows("symbol!=KELD"), c(2L, 3L, 5L))
  expect_identical(which_rows("symbol="), 4L)
  expect_identical(which_rows("symbol!="), c(1L, 2L, 3L, 5L))
  expect_identical(which_rows("volume>=10000"), c(1L, 4L))
  expect_identical(which_rows("volume < 10000"), c(2L, 5L))
  expect_identical(which_rows("volume=1e4"), 4L)
  expect_identical(which_rows("first<2006-01-01"), 1L)
  expect_identical(which_rows("first<=2006-01-01"), 1:2)
  expect_identical(which_rows("seen>2026-03-13T00:00:00Z"), 4:5)
  expect_identical(which_rows("seen>=2026-03-13"), c(2L, 4L, 5L))
  expect_identical(which_rows("name~BARGE"), c(1L, 4L))
  expect_identical(which_rows("name="), c(3L, 5L))
  expect_identical(which_rows("flag=true"), c(1L, 4L))
  # texts that are all numbers compare as numbers
  expect_identical(which_rows("texts>9"), c(2L, 3L, 5L))
  expect_identical(
    which_rows("volume>0", "volume<10000", "first>=2000-01-01"), 2L
  )
  expect_identical(rows_filter(rows_asked, character()), rows_asked)
  expect_identical(nrow(rows_filter(rows_asked[0, ], "volume>1")), 0L)
})

test_that("what cannot be is refused with what to do", {
  expect_error_kind(rows_filter(rows_asked, "volum>1"), "argument", "volum")
  expect_error_kind(
    rows_filter(rows_asked, "volume"), "argument", "no comparison sign"
  )
  expect_error_kind(rows_filter(rows_asked, "volume>many"), "argument", "many")
  expect_error_kind(rows_filter(rows_asked, "first>soon"), "argument", "soon")
  expect_error_kind(rows_filter(rows_asked, "seen>soon"), "argument", "soon")
  expect_error_kind(rows_filter(1:3, "a=1"), "argument", "data frame")
})

test_that("a value that no row has is told, with those there are", {
  rows <- data.frame(type = c("share", "fund", NA), volume = c(10, 20, 30))
  said <- function(condition) {
    text <- character()
    withCallingHandlers(
      kept <- rows_filter(rows, condition),
      vetusta_note = function(m) {
        text <<- conditionMessage(m)
        invokeRestart("muffleMessage")
      }
    )
    c(nrow(kept), text)
  }
  expect_identical(
    said("type=shares"),
    c("0", "note: no row has type \"shares\"; its values are: fund, share\n")
  )
  expect_match(said("type==share")[2], "(write type=share)", fixed = TRUE)
  expect_match(
    said("volume=11")[2], "its values are: from 10 to 30", fixed = TRUE
  )
  expect_identical(said("type=share"), "1")
  expect_identical(said("type="), "1")
  expect_identical(said("type!=shares"), "2")
})
