# The instants from which stored rows are known: a first value from the end of
# its period, a change from its arrival, a deletion from its date; in each
# store.
test_that("text columns, corrections and releases in a column store", {
  archive <- columns_archive(eager = FALSE)
  rows <- as.data.frame(minute_bars("KELD"))[1:20, ]
  rows$lot <- 1:20 + 0
  put <- function(rows) {
    put_rows(archive, "quay", "bars", "bars", rows, frequency = "PT1M")
  }
  read <- function(...) archive_bars(archive, "KELD", "1 minute", ...)
  put(rows[1:10, ])
  vetusta:::columns_shift(archive)
  more <- rows[11:20, ]
  more$lot <- c("007", letters[1:9])
  put(more)
  lots <- c(as.character(1:10), "007", letters[1:9])
  expect_identical(read()$lot, lots)
  vetusta:::columns_shift(archive)
  expect_identical(read()$lot, lots)
  changed <- rows[3:4, ]
  changed$close <- changed$close + 1
  changed$high <- changed$high + 2
  put(changed)
  got <- read()
  expect_identical(got$lot, lots)
  expect_identical(which(!is.na(got$known)), 3:4)
  vetusta:::columns_shift(archive)
  expect_identical(as.data.frame(read()), as.data.frame(got))
  expect_identical(read(as_of = got$known[3] - 1)$close, rows$close)
  expect_identical(
    nrow(archive_read(archive, "KELD@1 minute", releases = TRUE)[[1]]), 22L
  )
})

for (kind in c("sqlite", "postgres")) {
  local({
    kind <- kind
    open <- function(env = parent.frame()) {
      if (kind == "sqlite") {
        new_archive(env)
      } else {
        archive_open(postgres_database())
      }
    }

    test_that(
      paste(
        kind, "replaces a bar that is not finished, and keeps a corrected one"
      ),
      {
        archive <- open()
        put <- function(rows) {
          put_rows(archive, "q", "bars", "bars", rows, frequency = "PT1M")
        }
        rows <- as.data.frame(minute_bars("KELD"))[1:5, ]
        rows$status[5] <- "provisional"
        put(rows)
        final <- rows[4:5, ]
        final$status <- "observed"
        final$close[2] <- final$close[2] + 0.01
        final$high[2] <- 99
        expect_identical(put(final), c(new = 0, changed = 1, unchanged = 1))
        got <- archive_bars(archive, "KELD", "1 minute")
        expect_null(got[["known"]])
        expect_identical(got$close[5], final$close[2])
        expect_identical(got$status[5], "observed")
        again <- final
        again$close[1] <- again$close[1] + 0.01
        put(again)
        got <- archive_bars(archive, "KELD", "1 minute")
        expect_identical(which(!is.na(got$known)), 4L)
        expect_identical(
          nrow(archive_revisions(archive, "KELD", all = TRUE)), 6L
        )
        expect_identical(nrow(archive_check(archive)), 0L)
      }
    )

    test_that(
      paste(kind, "keeps a deletion that came before the value it ends"),
      {
        archive <- open()
        import <- function(row) {
          file <- withr::local_tempfile(fileext = ".csv")
          writeLines(c("series,period,value,status,known", row), file)
          archive_import_rows(archive, file, "observations", dataset = "d")
        }
        import("d,2026-01,,deleted,2026-06-01T00:00:00Z")
        import("d,2026-01,7,observed,2026-02-10T00:00:00Z")
        expect_identical(nrow(archive_read(archive, "files/d/d")[[1]]), 0L)
        expect_identical(
          archive_read(archive, "files/d/d", as_of = "2026-03-01")[[1]]$value, 7
        )
      }
    )
  })
}
