# An instrument that is no longer listed stays, with its last day.
listing_page <- function(archive, call, symbols, at, page = 1, last = TRUE) {
  rows <- data.frame(symbol = symbols, name = tolower(symbols))
  vetusta:::store_put(
    archive,
    list(
      source = "quay",
      dataset = "directory",
      shape = "instruments",
      rows = if (nrow(rows)) vetusta:::archive_parcel("instruments", rows),
      listing = list(planned = call, page = page, last = last),
      now = as.numeric(as.POSIXct(at, tz = "UTC"))
    )
  )
}
listed <- function(archive, ...) {
  rows <- archive_rows(archive, "quay", "directory", ...)
  stats::setNames(
    as.character(rows[["last_day"]] %||% rep(NA, nrow(rows))), rows$symbol
  )
}

test_that("an entry missing from a list keeps its last day", {
  archive <- new_archive()
  listing_page(archive, "K", c("KELD", "KANT", "TAMX"), "2026-03-10")
  listing_page(archive, "T", c("TAMX", "TIMB"), "2026-03-10")
  expect_identical(
    unname(vetusta:::listing_counts(archive, "quay", "directory")), c(5L, 4L)
  )
  gone <- listing_page(archive, "K", "KELD", "2026-03-12")
  # TAMX is listed under T too
  expect_identical(gone[["gone"]], 1)
  expect_identical(
    listed(archive), c(KANT = "2026-03-10", KELD = NA, TAMX = NA, TIMB = NA)
  )
  expect_s3_class(archive_rows(archive, "quay", "directory")$last_day, "Date")
  listing_page(archive, "T", "TIMB", "2026-03-13")
  expect_identical(listed(archive)[["TAMX"]], "2026-03-10")
  # as it was known before
  expect_identical(
    unique(unname(listed(archive, as_of = "2026-03-11"))), NA_character_
  )
  # nothing is reported twice, and an instrument that returns is listed again
  expect_identical(
    listing_page(archive, "K", "KELD", "2026-03-14")[["unchanged"]], 1
  )
  listing_page(archive, "K", c("KELD", "KANT"), "2026-03-15")
  expect_identical(listed(archive)[["KANT"]], NA_character_)
})

test_that("pages make one list, and an empty list is not believed", {
  archive <- new_archive()
  listing_page(archive, "all", c("AAA", "BBB"), "2026-03-10", 1, FALSE)
  listing_page(archive, "all", "CCC", "2026-03-10", 2)
  listing_page(archive, "all", "AAA", "2026-03-11", 1, FALSE)
  # a run that was killed here has delisted nothing
  expect_true(all(is.na(listed(archive))))
  listing_page(archive, "all", "CCC", "2026-03-11", 2)
  expect_identical(listed(archive), c(AAA = NA, BBB = "2026-03-10", CCC = NA))
  expect_identical(
    nrow(vetusta:::store_notes(archive, "listing", "quay", "directory")), 0L
  )
  listing_page(archive, "all", character(), "2026-03-12")
  expect_identical(sum(is.na(listed(archive))), 2L)
})

test_that("a directory in parts: doubled and delisted entries", {
  state <- withr::local_tempfile()
  answer <- function(n, request) {
    all <- c("KELD", "KANT", "TAMX")
    if (file.exists(state)) all <- setdiff(all, "KANT")
    letter <- basename(request$PATH_INFO)
    found <- all[startsWith(all, letter) | (letter == "T" & all == "KELD")]
    json_answer(list(items = lapply(found, function(code) list(code = code))))
  }
  environment(answer) <- list2env(list(state = state), parent = globalenv())
  card <- withr::local_tempfile(fileext = ".yml")
  writeLines(
    c(
      "source: test", paste0("url: ", start_scripted(answer)), "datasets:",
      "  directory:", "    shape: instruments", "    request: /{letters}",
      "    parameters: {letters: {each: [K, T, Z]}}", "    rows: /items",
      "    columns: {symbol: /code}"
    ),
    card
  )
  archive <- new_archive()
  collect <- function() {
    collect_run(
      plan_requests(query_rows(source_card(card), "directory"), archive),
      archive, progress = FALSE
    )
  }
  first <- collect()
  expect_match(paste(format(first), collapse = "\n"), "", fixed = TRUE)
  expect_match(
    vetusta:::format_run(first),
    "4 entries are 3 rows: 1 is in several requests, and stored once",
    all = FALSE
  )
  writeLines("gone", state)
  second <- collect()
  expect_match(
    vetusta:::format_run(second), "1 is no longer listed", all = FALSE
  )
  rows <- archive_rows(archive, "test", "directory")
  expect_identical(rows$symbol[!is.na(rows$last_day)], "KANT")
})
