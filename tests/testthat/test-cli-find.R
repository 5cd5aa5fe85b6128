# Every dataset is described with an example that runs; companies, options and
# documents from the invented services, as processes.
test_that("the examples of describe run, for every shipped dataset", {
  services <- start_services()
  folder <- withr::local_tempdir()
  names <- c("quay", "fixing", "river", "register", "hall")
  desk <- desk_make(
    folder,
    cards = names,
    urls = stats::setNames(as.list(paste0(services$root, "/", names)), names),
    secrets = as.list(vetusta:::standin_keys)
  )
  told <- 0
  for (name in names) {
    source <- desk_source(desk, name)
    for (dataset in names(source$datasets)) {
      example <- datasets_describe(source, dataset)$example
      expect_no_match(example, "SYMBOL|[.]{3}")
      words <- scan(
        text = sub("^vetusta ", "", example),
        what = "",
        quiet = TRUE
      )
      if (dataset == "directory") words <- c(words, "sector=barges")
      run <- run_vetusta(words, "--quiet", folder = folder)
      expect_identical(run$status, 0L, label = paste(example, run$stderr))
      expect_match(run$stdout, "^collected [1-9]", label = example)
      told <- told + 1
    }
  }
  expect_gt(told, 12)
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  withr::defer(archive_close(archive))
  # without an example in the card, a stored symbol
  card <- source$datasets$history
  card$example <- NULL
  source$datasets$history <- card
  expect_match(
    datasets_describe(source, "history", archive = archive)$example,
    "history GRAIN"
  )
  expect_match(datasets_describe(source, "history")$example, "history SYMBOL")
  said <- function(...) {
    out <- run_vetusta(..., folder = folder)
    expect_identical(out$status, 0L, label = paste(c(...), out$stderr))
    out
  }
  got <- function(...) {
    utils::read.csv(text = said(...)$stdout, check.names = FALSE)
  }
  # options have typed columns, and the same conditions filter them
  options <- archive_rows(archive, "hall", "options")
  expect_s3_class(options$expiry, "Date")
  left <- as.numeric(options$expiry - options$day)
  expect_true(all(options$kind == "put" & left <= 75 & left >= 20))
  near <- got(
    "rows", "hall/options", "strike>=105", "expiry<=2025-12-31",
    "day=2025-11-05"
  )
  own <- options$strike >= 105 &
      options$expiry <= as.Date("2025-12-31") &
      options$day == as.Date("2025-11-05")
  expect_identical(nrow(near), sum(own))
  expect_gt(nrow(near), 0)
  # companies, filtered by whether they have reports
  companies <- got(
    "rows", "register/companies", "reports=true", "--columns", "symbol"
  )
  expect_identical(nrow(companies), 54L)
  # documents
  fetched <- said(
    "fetch", "register/filings", "filed>=2025-06-01", "--folder", "papers",
    "--quiet"
  )
  expect_match(fetched$stderr, "3 fetched, into papers")
  expect_length(list.files(file.path(folder, "papers")), 3)
  expect_match(
    said("fetch", "register/filings", "--verify", "--folder", "papers")$stderr,
    "3 documents, 0 changed or gone"
  )
  away <- run_vetusta(
    "fetch", "register/filings", "filed<2016-09-01", "--quiet", folder = folder
  )
  expect_identical(away$status, 1L)
  expect_match(away$stdout, "leads elsewhere")
  said("rows", "register/filings", "title~annual", "--open-list", "list.html")
  links <- xml2::xml_attr(
    xml2::xml_find_all(xml2::read_html(file.path(folder, "list.html")), "//a"),
    "href"
  )
  expect_length(links, 10)
  expect_true(
    all(startsWith(links, paste0(services$root, "/register/documents/keld/")))
  )
  # only complete days
  whole <- said(
    "rows", "quay/actions", "--complete", "--columns", "symbol,amount"
  )
  expect_match(whole$stderr, "with something missing left out")
  expect_false(anyNA(utils::read.csv(text = whole$stdout)$amount))
  # restated figures: the first and the last version
  first <- got(
    "statement", "KELD", "--items", "revenue", "--filed", "first", "--limit",
    "10", "--facts", "register/facts"
  )
  last <- got(
    "statement", "KELD", "--items", "revenue", "--limit", "10", "--facts",
    "register/facts"
  )
  both <- setdiff(intersect(names(first), names(last)), c("item", "unit"))
  expect_gt(sum(unlist(first[both]) != unlist(last[both])), 0)
  statement <- got(
    "statement", "KELD", "--limit", "1", "--facts", "register/facts"
  )
  expect_identical(
    statement$item, unlist(vetusta:::register_items, use.names = FALSE)
  )
  value <- stats::setNames(statement[[3]], statement$item)
  expect_identical(
    value[["total_assets"]], value[["total_liabilities"]] + value[["equity"]]
  )
})

test_that("complete statements of one company and of several", {
  facts <- expand.grid(
    symbol = c("A", "B", "C"),
    item = c("x", "y"),
    period_end = as.Date(c("2024-12-31", "2025-12-31")),
    stringsAsFactors = FALSE
  )
  facts$value <- seq_len(nrow(facts))
  gap <- facts[
    !(facts$symbol == "B" &
        facts$item == "x" &
        facts$period_end == as.Date("2024-12-31")),

  ]
  beside <- facts_statement(gap, items = "x", complete = TRUE)
  expect_identical(names(beside), c("period_end", "unit", "A", "C"))
  by_period <- facts_statement(gap, complete = TRUE)
  expect_identical(names(by_period), c("symbol", "item", "unit", "2025-12-31"))
  expect_identical(
    nrow(
      facts_statement(
        gap[gap$item == "x" & gap$symbol == "B", ], complete = TRUE
      )
    ),
    1L
  )
})
