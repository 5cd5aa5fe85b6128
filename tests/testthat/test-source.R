card_with <- function(lines, env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".yml", .local_envir = env)
  writeLines(lines, file)
  file
}
good <- readLines(system.file("cards", "quay.yml", package = "vetusta"))
change <- function(from, to) sub(from, to, good, fixed = TRUE)

test_that("the card that ships is read whole", {
  quay <- source_card("quay")
  expect_identical(quay$source, "quay")
  expect_identical(
    quay$limits[[1]][c("count", "seconds")], list(count = 90, seconds = 60)
  )
  expect_identical(quay$delay$seconds, 1200)
})

test_that("a wrong card says file, line, and the nearest right word", {
  error <- expect_error_kind(
    source_card(card_with(change("delay:", "dellay:"))), "card",
    "did you mean \"delay\""
  )
  # earlier words of cards are refused, with the new ones
  expect_error_kind(
    source_card(card_with(change("delay:", "withheld:"))), "card",
    "write delay in its place"
  )
  expect_error_kind(
    source_card(card_with(change("datasets:", "offers:"))), "card",
    "write datasets in its place"
  )
  expect_error_kind(
    source_card(card_with(change("largest_page: 240", "most: 240"))), "card",
    "write largest_page in its place"
  )
  expect_error_kind(
    source_card(card_with(change("gives: largest_page", "gives: most"))),
    "card", "write largest_page in its place"
  )
  expect_match(error$where, "line 7")
  error <- expect_error_kind(
    source_card(
      card_with(
        change("time: {at: /at, as: epoch-ms}", "time: {at: /at, as: epoch_ms}")
      )
    ),
    "card", "epoch-ms"
  )
  expect_match(
    error$where,
    paste0(
      "line ", grep("time: {at", good, fixed = TRUE),
      ", datasets/bars/columns/time/as"
    ),
    fixed = TRUE
  )
  expect_error_kind(
    source_card(card_with(change("largest_page: 240", "largest_page: lots"))),
    "card", "whole number"
  )
  expect_error_kind(
    source_card(card_with(change("rows: /items", "rows: items"))), "card",
    "JSON Pointer"
  )
  expect_error_kind(
    source_card(card_with(change("source: quay", ""))), "card", "\"source\""
  )
  expect_error_kind(
    source_card(card_with(change("90 per minute", "ninety a minute"))), "card",
    "90 per minute"
  )
  expect_error_kind(
    source_card(card_with(change("      close: /lst", ""))), "card", "`close`"
  )
  expect_error_kind(
    source_card(card_with(c(good, "a: [1"))), "card", "not valid YAML"
  )
  expect_error_kind(source_card("nowhere.yml"), "card", "quay")
})

test_that("http away from this machine is refused unless the card says so", {
  expect_error_kind(
    source_card(
      card_with(change("http://127.0.0.1:8471/quay", "http://data.example.org"))
    ),
    "card", "https"
  )
  expect_no_error(
    source_card(
      card_with(
        change("http://127.0.0.1:8471/quay", "https://data.example.org")
      )
    )
  )
  expect_no_error(
    source_card(
      card_with(
        c(
          change("http://127.0.0.1:8471/quay", "http://data.example.org"),
          "open_http: true"
        )
      )
    )
  )
})

test_that("no tag in a card is ever run", {
  file <- withr::local_tempfile()
  try(
    source_card(
      card_with(c(good, paste0("notes: !expr file.create('", file, "')")))
    ),
    silent = TRUE
  )
  expect_false(file.exists(file))
})

test_that("a secret from environment or file is never shown", {
  folder <- withr::local_tempdir()
  desk_make(folder, secrets = list(QUAY_KEY = "from-the-file"))
  quay <- source_card(file.path(folder, "sources", "quay.yml"))
  withr::local_envvar(QUAY_KEY = NA)
  secret <- source_secret(quay, "QUAY_KEY")
  expect_identical(
    vetusta:::secret_value(unclass(secret), "QUAY_KEY"), "from-the-file"
  )
  withr::local_envvar(QUAY_KEY = "from-the-environment")
  expect_identical(
    vetusta:::secret_value(quay, "QUAY_KEY"), "from-the-environment"
  )
  expect_output(print(secret), "<secret>", fixed = TRUE)
  expect_false(
    any(
      grepl(
        "from-the",
        c(format(secret), capture.output(print(quay), print(secret)))
      )
    )
  )
  expect_identical(file.mode(file.path(folder, "desk.env")), as.octmode("600"))
})

test_that("a missing secret names its variable; open files are noted", {
  folder <- withr::local_tempdir()
  desk_make(folder)
  withr::local_envvar(QUAY_KEY = NA)
  error <- expect_error_kind(
    source_secret(
      source_card(file.path(folder, "sources", "quay.yml")), "QUAY_KEY"
    ),
    "secret", "QUAY_KEY"
  )
  expect_match(error$todo, "desk.env", fixed = TRUE)
  Sys.chmod(file.path(folder, "desk.env"), "644", use_umask = FALSE)
  expect_warning(
    capture.output(
      print(source_card(file.path(folder, "sources", "quay.yml")))
    ),
    "chmod 600"
  )
})

test_that("every example in the explanation of source cards is a right card", {
  file <- testthat::test_path("..", "..", "docs", "source-cards.md")
  skip_if_not(file.exists(file), "the docs are not beside the tests")
  lines <- sub(" +#.*", "", readLines(file))
  card <- function(extra, dataset = character(), columns = "columns: {a: /a}") {
    path <- withr::local_tempfile(
      fileext = ".yml", .local_envir = parent.frame()
    )
    writeLines(
      c(
        "source: x", "url: https://data.example.org", extra, "datasets:",
        "  o:", "    shape: table", "    request: /r", "    rows: /r",
        paste0("    ", c(dataset, columns))
      ),
      path
    )
    expect_s3_class(source_card(path), "vetusta_source")
  }
  access <- lines[grepl("^access: ", lines)]
  pages <- lines[grepl("^next_page: ", lines)]
  columns <- lines[
    grepl("^  [a-z_]+: ([{]|/)", lines) &
      seq_along(lines) > match("## Columns", lines) &
      seq_along(lines) < match("## Jobs", lines)
  ]
  expect_gt(min(length(access), length(pages), length(columns)), 7)
  for (line in access) card(line)
  for (line in pages) card(character(), line)
  for (line in columns) card(character(), character(), c("columns:", line))
  for (line in lines[grepl("^problem: ", lines)]) card(line)
})

# The code blocks of a Markdown text: language and lines.
text_blocks <- function(file) {
  lines <- readLines(file)
  fences <- grep("^```", lines)
  starts <- fences[c(TRUE, FALSE)]
  Map(
    function(from, to) {
      list(
        language = sub("^```", "", lines[from]),
        lines = lines[seq_len(to - from - 1) + from]
      )
    },
    starts, fences[c(FALSE, TRUE)]
  )
}

test_that("the examples in the explanation read their bodies", {
  file <- testthat::test_path("..", "..", "docs", "source-cards.md")
  skip_if_not(file.exists(file), "the docs are not beside the tests")
  blocks <- text_blocks(file)
  datasets <- which(vapply(
    blocks,
    function(block) {
      block$language == "yaml" &&
        grepl("^[a-z_]+:$", block$lines[1]) &&
        any(grepl("^  shape:", block$lines))
    },
    TRUE
  ))
  expect_gt(length(datasets), 8)
  read <- 0
  for (i in datasets) {
    path <- withr::local_tempfile(fileext = ".yml")
    writeLines(
      c(
        "source: x", "url: https://data.example.org", "datasets:",
        paste0("  ", blocks[[i]]$lines)
      ),
      path
    )
    card <- source_card(path)
    if (blocks[[i - 1]]$language %in% c("json", "json-lines", "csv", "tsv")) {
      decoded <- vetusta:::decode_body(
        card$datasets[[1]],
        charToRaw(paste0(blocks[[i - 1]]$lines, collapse = "\n")), card
      )
      expect_gt(decoded$rows, 0)
      expect_identical(nrow(decoded$rejected), 0L)
      expect_false(
        any(vapply(decoded$columns, function(column) all(is.na(column)), TRUE))
      )
      read <- read + 1
    }
  }
  expect_gt(read, 6)
  whole <- Filter(
    function(block) {
      block$language == "yaml" && grepl("^source: ", block$lines[1])
    },
    blocks
  )
  for (block in whole) {
    path <- withr::local_tempfile(fileext = ".yml")
    writeLines(block$lines, path)
    expect_s3_class(source_card(path), "vetusta_source")
  }
})
