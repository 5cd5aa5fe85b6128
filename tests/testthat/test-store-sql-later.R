# Pages written together.
later_page <- function(symbol, times, close = 1, claim = NULL, note = NULL) {
  rows <- data.frame(
    symbol = symbol, time = utc(times), open = close, high = close,
    low = close, close = close, volume = 1, session = NA_character_,
    side = NA_character_, status = "observed"
  )
  list(
    source = "quay",
    dataset = "bars",
    shape = "bars",
    rows = vetusta:::archive_parcel("bars", rows, frequency = "PT1M"),
    covered = data.frame(key = symbol, start = times[1], end = max(times) + 60),
    claims = claim,
    notes = note,
    journal = list(
      run = "r", source = "quay", dataset = "bars", symbol = symbol,
      asked = times[1], rows = length(times), outcome = "stored"
    )
  )
}
later_put <- function(archive, page, gather = 50) {
  vetusta:::store_put(archive, page, gather)
}
later_journal <- function(file) {
  other <- archive_open(file)
  withr::defer(archive_close(other))
  nrow(archive_journal(other))
}

test_that("gathered pages end as if written one by one", {
  skip_if(Sys.getenv("VETUSTA_TEST_STORE") == "postgres")
  together <- new_archive()
  alone <- new_archive()
  at <- 1.77e9 + 60 * 0:9
  for (i in 1:7) {
    page <- later_page(paste0("S", i %% 3), at + 600 * i, i)
    expect_identical(later_put(together, page, 3)[["new"]], 10L + 0)
    later_put(alone, page, 1)
  }
  expect_identical(later_journal(together$path), 6L)
  expect_true(is.finite(vetusta:::later_due(together)))
  vetusta:::store_gathered(together)
  expect_identical(vetusta:::later_due(together), Inf)
  plain <- function(archive) lapply(archive_read(archive), as.data.frame)
  expect_equal(plain(together), plain(alone))
  expect_identical(nrow(archive_check(together)), 0L)
  expect_equal(
    vetusta:::store_covered(together, "quay", "bars"),
    vetusta:::store_covered(alone, "quay", "bars")
  )
  # small segments are counted for series made with their first page too
  vetusta:::store_settle(together)
  expect_equal(plain(together), plain(alone))
})

test_that("stored rows are compared and counts corrected", {
  skip_if(Sys.getenv("VETUSTA_TEST_STORE") == "postgres")
  archive <- new_archive()
  at <- 1.77e9 + 60 * 0:9
  later_put(archive, later_page("A", at), 1)
  total <- c(new = 0, changed = 0, unchanged = 0)
  for (page in list(
    later_page("B", at), later_page("A", at), later_page("A", at + 60, 2)
  )) {
    total <- total + later_put(archive, page)
  }
  expect_identical(total, c(new = 30, changed = 0, unchanged = 0))
  vetusta:::store_gathered(archive)
  total <- total + vetusta:::later_wrong(archive, "quay", "bars")
  expect_identical(total, c(new = 11, changed = 9, unchanged = 10))
  expect_identical(vetusta:::later_wrong(archive, "quay", "bars"), total * 0)
  expect_equal(archive_bars(archive, "A", "1 minute")$close, c(1, rep(2, 10)))
  # from then on each is written separately
  later_put(archive, later_page("C", at))
  expect_identical(vetusta:::later_due(archive), Inf)
})

test_that("what is no small page is written after those that wait", {
  skip_if(Sys.getenv("VETUSTA_TEST_STORE") == "postgres")
  archive <- new_archive()
  at <- 1.77e9 + 60 * 0:9
  reached <- function(value) {
    list(list(kind = "reached", key = "k", value = value))
  }
  later_put(archive, later_page("A", at, note = reached("page 2")))
  later_put(
    archive, later_page("A", 1.78e9 + 60 * 0:1500, note = reached("page 3"))
  )
  expect_identical(
    vetusta:::store_notes(archive, "reached", "quay", "bars", "k")$value,
    "page 3"
  )
  expect_identical(later_journal(archive$path), 2L)
  # closing writes the waiting pages
  later_put(archive, later_page("B", at, claim = "c"))
  path <- archive$path
  archive_close(archive)
  expect_identical(later_journal(path), 3L)
})

test_that("gathering changes no result; wrong numbers are refused", {
  services <- start_services()
  quay_key()
  runs <- lapply(c(1, 50), function(gather) {
    archive <- new_archive()
    query <- query_bars(
      source_card("quay", url = services$url), c("KELD", "TAMX", "SALT"),
      "1 hour", from = "2026-03-02", to = "2026-03-20"
    )
    run <- collect_run(
      plan_requests(query, archive), archive, progress = FALSE, gather = gather
    )
    list(
      new = run$new,
      pages = run$pages,
      rows = lapply(archive_read(archive), as.data.frame),
      journal = nrow(archive_journal(archive))
    )
  })
  expect_equal(runs[[1]], runs[[2]])
  expect_gt(runs[[1]]$new, 100)
  archive <- new_archive()
  plan <- plan_requests(
    query_bars(
      source_card("quay", url = services$url), "KELD", "1 hour",
      from = "2026-03-02", to = "2026-03-03"
    ),
    archive
  )
  for (wrong in list(0, 1.5, "many", NA)) {
    expect_error(
      collect_run(plan, archive, progress = FALSE, gather = wrong),
      class = "vetusta_error_argument"
    )
  }
})
