# Messages read in one pass, against the same messages read value by value: a
# text in one cell makes the reader take the second way.

message_of <- function(series, extra = "") {
  paste0(
    '{"data":{"structure":{"dimensions":{"series":[{"id":"A",',
    '"values":[{"id":"a"},',
    '{"id":"b"}]},{"id":"B","values":[{"id":"x"},{"id":"y"},{"id":"z"}]}],',
    '"observation":[{"id":"TIME_PERIOD",',
    '"values":[{"id":"2020"},{"id":"2021"},{"id":"2022"}]}]},',
    '"attributes":{"series":[{"id":"UNIT",',
    '"values":[{"id":"t"},{"id":"kg"}]}],"observation":[{"id":"S",',
    '"values":[{"id":"P"},',
    '{"id":"F"}]},{"id":"NOTE","values":[]}]}},"dataSets":[{"series":{',
    paste(c(series, extra[nzchar(extra)]), collapse = ","), "}}]}}"
  )
}
decoded <- function(text) decode_sdmx(charToRaw(text), c("A", "B"), "here")
# series by keys, as a list of counts
laid_out <- function(message) {
  rows <- lapply(seq_len(nrow(message$series)), function(i) {
    own <- message$obs$series == i
    list(
      series = as.list(message$series[i, ]),
      time = message$obs$time[own],
      value = message$obs$value[own],
      status = message$attributes$S[own]
    )
  })
  stats::setNames(rows, paste(message$series$A, message$series$B))
}

test_that("observations of all series together are those of each alone", {
  set.seed(5)
  for (round in 1:60) {
    keys <- sample(c("0:0", "0:1", "0:2", "1:0", "1:1"), sample(1:5, 1))
    series <- vapply(
      keys,
      function(key) {
        n <- sample(0:3, 1)
        cells <- vapply(
          seq_len(n),
          function(k) {
            parts <- c(
              sample(c("1", "2.5", "-3e2", "null"), 1),
              sample(c("0", "1", "null"), 1)
            )
            paste0(
              '"', k - 1, '":[',
              paste(parts[seq_len(sample(2, 1))], collapse = ","), "]"
            )
          },
          ""
        )
        said <- c(
          if (runif(1) < 0.5) '"attributes":[1]',
          if (n || runif(1) < 0.5) {
            paste0('"observations":{', paste(cells, collapse = ","), "}")
          }
        )
        paste0('"', key, '":{', paste(sample(said), collapse = ","), "}")
      },
      ""
    )
    one <- laid_out(decoded(message_of(series)))
    other <- laid_out(
      decoded(message_of(series, '"1:2":{"observations":{"0":["7",0]}}'))
    )[names(one)]
    for (name in names(one)) {
      for (part in c("time", "value")) {
        expect_equal(one[[name]][[part]], other[[name]][[part]])
      }
      told <- function(x) if (is.null(x)) NA_character_ else x
      expect_equal(
        told(one[[name]]$series$UNIT), told(other[[name]]$series$UNIT)
      )
      if (!is.null(one[[name]]$status)) {
        expect_equal(one[[name]]$status, other[[name]]$status)
      }
    }
  }
})

test_that("an observation that says nothing is there, and without a value", {
  none <- decoded(message_of('"0:0":{"observations":{"1":[]}}'))
  expect_identical(none$obs$time, "2021")
  expect_identical(none$obs$value, NA_real_)
  expect_identical(
    nrow(decoded(message_of('"0:0":{"observations":{}}'))$series), 1L
  )
  expect_identical(
    decoded(message_of('"0:0":{"attributes":[1]}'))$series$UNIT, "kg"
  )
})

test_that("a message that nests without end is refused, and its reader lives", {
  deep <- paste0(
    '{"data":{"dataSets":', strrep("[", 1e5), strrep("]", 1e5), "}}"
  )
  expect_error(decoded(deep), class = "vetusta_error_payload")
  expect_error(
    json_read_cpp(charToRaw(strrep("[", 501)), "", 0L, FALSE),
    "nests too deeply"
  )
  fine <- paste0(strrep("[", 500), strrep("]", 500))
  expect_type(json_read_cpp(charToRaw(fine), "", 0L, FALSE), "list")
})

test_that("texts are placed by index, or missing", {
  at <- vetusta:::texts_at_cpp
  words <- c("a", "b", "c")
  expect_identical(
    at(words, c(2, 0, NA, 3, -1, 1e12, NaN, 1.9)),
    c("c", "a", NA, NA, NA, NA, NA, "b")
  )
  expect_identical(at(words, c(1L, NA, 2L, -1L)), c("b", NA, "c", NA))
  cells <- rbind(c(10.5, 11, 12), c(0, 2, NA))
  expect_identical(at(words, cells, 2L), c("a", "c", NA))
  expect_identical(at(words, matrix(0L, 0, 0)), character())
  expect_identical(at(character(), 0), NA_character_)
  expect_error(at(words, cells, 3L), "no row")
})
