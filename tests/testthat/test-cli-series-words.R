# The words of commands: from files, in either spelling of a dataset, for a
# dataset with a single key.
test_that("words from files and tables, and a missing file", {
  file <- withr::local_tempfile(
    lines = c("# mine", "KELD@1 day", "", " TAMX@1 day ")
  )
  words <- vetusta:::words_from_files
  expect_identical(
    words(c("a", paste0("@", file))), c("a", "KELD@1 day", "TAMX@1 day")
  )
  expect_identical(words("a", file), c("a", "KELD@1 day", "TAMX@1 day"))
  table <- withr::local_tempfile(
    lines = c("source,id", "quay,\"quay/bars/KELD@1 day\"")
  )
  expect_identical(
    words(paste0("@", table)), c("source,id", "quay,\"quay/bars/KELD@1 day\"")
  )
  table <- withr::local_tempfile(
    lines = c("id,rows", "\"quay/bars/KELD@1 day\",5", "x/y/Z,1")
  )
  expect_identical(
    words(paste0("@", table)), c("quay/bars/KELD@1 day", "x/y/Z")
  )
  expect_error(words("@none.txt"), class = "vetusta_usage")
  expect_identical(words("@"), "@")
})

test_that("a dataset is written as one word or two", {
  expect_identical(
    vetusta:::split_dataset(c("quay/bars", "KELD")), c("quay", "bars", "KELD")
  )
  expect_identical(
    vetusta:::split_dataset(c("quay", "KELD")), c("quay", "KELD")
  )
  expect_identical(
    vetusta:::join_dataset(c("quay", "market", "last>1")),
    c("quay/market", "last>1")
  )
  expect_identical(
    vetusta:::join_dataset(c("quay/market", "last>1")),
    c("quay/market", "last>1")
  )
  expect_identical(
    vetusta:::join_dataset(c("market", "last>1")), c("market", "last>1")
  )
})

test_that("the commands take them", {
  services <- start_services()
  folder <- withr::local_tempdir()
  desk_make(
    folder,
    cards = c("quay", "river"),
    urls = list(quay = services$url, river = paste0(services$root, "/river")),
    secrets = vetusta:::standin_keys
  )
  said <- function(...) run_vetusta(..., folder = folder)
  expect_identical(
    said(
      "collect", "river", "levels", "kelder-lock", "--from", "2026-03-01",
      "--to", "2026-03-10", "--quiet"
    )$status,
    0L
  )
  expect_identical(
    said(
      "collect", "quay/bars", "KELD", "--interval", "1 day", "--from",
      "2026-03-02", "--to", "2026-03-13", "--quiet"
    )$status,
    0L
  )
  expect_identical(said("collect", "quay", "market", "--quiet")$status, 0L)
  writeLines(c("KELD@1 day", "kelder-lock"), file.path(folder, "ids.txt"))
  both <- said("export", "@ids.txt", "--form", "wide")
  expect_match(both$stdout, "KELD,kelder-lock")
  expect_identical(
    said("export", "--ids", "ids.txt", "--form", "wide")$stdout, both$stdout
  )
  rows <- said(
    "rows", "quay", "market", "volume>=100000", "--columns",
    "name=symbol,volume"
  )
  expect_match(rows$stdout, "^name,volume")
  expect_match(rows$stderr, "snapshot of 20")
  # weeks, where only days are stored
  week <- said("export", "KELD@1 week", "--columns", "time,close")
  expect_match(week$stderr, "KELD@1 week: resampled from KELD@1 day")
  expect_length(strsplit(week$stdout, "\n")[[1]], 3)
  expect_match(
    said("list", "river", "levels")$stdout, "river/levels/kelder-lock .*cm"
  )
  expect_match(
    said("list")$stdout, "quay +market +snapshot of the whole market"
  )
  expect_match(said("list", "jurnal")$stderr, "did you mean \"journal\"")
  expect_match(
    said("collect", "quay", "KELD", "--intervall", "1 day")$stderr,
    "did you mean --interval?", fixed = TRUE
  )
  expect_match(
    said("export", "KELD", "--output", "x.csv")$stderr, "did you mean --file?",
    fixed = TRUE
  )
  expect_match(
    said(
      "collect", "quay", "KELD", "--interval", "1 day", "--from", "2936-01-01"
    )$stderr,
    "begins in the future"
  )
  expect_match(
    said(
      "plan", "quay", "KELD", "--interval", "1 day", "--span", "year to date"
    )$stdout,
    "window    20"
  )
})
