# Cards with one error each, reported with line and the nearest valid word.
right_card <- c(
  "source: mill", "url: https://data.example.org/v1",
  "access: {by: query, name: key, secret: MILL_KEY}",
  "limits: [4 per second, 300 per day]", "datasets:", "  prices:",
  "    shape: bars", "    request: /prices/{symbol}{?from,to}",
  "    rows: /items", "    columns:", "      time: {at: /day, as: day}",
  "      close: /last"
)
read_card <- function(lines, env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".yml", .local_envir = env)
  writeLines(lines, file)
  source_card(file)
}
changed <- function(from, to) {
  stopifnot(from %in% right_card)
  lines <- as.list(right_card)
  lines[[match(from, right_card)]] <- to
  unlist(lines)
}

test_that("the card that all of these are made from is right", {
  card <- read_card(right_card)
  expect_s3_class(card, "vetusta_source")
  expect_output(print(card), "MILL_KEY \\(not set\\)")
})

test_that("a wrong line is reported with the line and a correction", {
  wrong <- list(
    list("source: mill", "source: The Mill", 1, "small letters"),
    list("source: mill", "sauce: mill", 1, "source"),
    list(
      "url: https://data.example.org/v1", "url: data.example.org", 2, "http"
    ),
    list(
      "url: https://data.example.org/v1", "url: http://data.example.org", 2,
      "open_http"
    ),
    list(
      "url: https://data.example.org/v1", "ulr: https://data.example.org/v1",
      2, "url"
    ),
    list(
      "access: {by: query, name: key, secret: MILL_KEY}",
      "access: {by: qeury, name: key, secret: MILL_KEY}", 3, "query"
    ),
    list(
      "access: {by: query, name: key, secret: MILL_KEY}",
      "access: {by: query, secret: MILL_KEY}", 3, "name"
    ),
    list(
      "access: {by: query, name: key, secret: MILL_KEY}",
      "access: {by: query, name: key, secret: \"7f3a91-bb\"}", 3,
      "name the secret"
    ),
    list(
      "access: {by: query, name: key, secret: MILL_KEY}",
      "access: {by: pair, names: [A], secrets: [B, C]}", 3, "two names"
    ),
    list(
      "access: {by: query, name: key, secret: MILL_KEY}",
      "access: {by: token, grant: password}", 3, "url"
    ),
    list(
      "access: {by: query, name: key, secret: MILL_KEY}", "access: query", 3,
      "words and values"
    ),
    list(
      "limits: [4 per second, 300 per day]", "limits: [4 a second]", NA,
      "per minute"
    ),
    list(
      "limits: [4 per second, 300 per day]", "limits: [0 per second]", NA,
      "per minute"
    ),
    list(
      "limits: [4 per second, 300 per day]", "limits: [4 per fortnight]", NA,
      "per minute"
    ),
    list(
      "limits: [4 per second, 300 per day]", "limits: {second: 4}", 4,
      "list of texts"
    ),
    list(
      "limits: [4 per second, 300 per day]", "at_once: 1.5", 4, "whole number"
    ),
    list(
      "limits: [4 per second, 300 per day]", "at_once: 0", 4, "whole number"
    ),
    list(
      "limits: [4 per second, 300 per day]", "patience: ten seconds ago", 4,
      "duration"
    ),
    list(
      "limits: [4 per second, 300 per day]", "zone: Mars/Olympus", 4, "zone"
    ),
    list(
      "limits: [4 per second, 300 per day]", "quota_zone: Middle/Nowhere", 4,
      "zone"
    ),
    list(
      "limits: [4 per second, 300 per day]", "elsewhere: perhaps", 4,
      "refuse|follow"
    ),
    list(
      "limits: [4 per second, 300 per day]", "open_http: sometimes", 4,
      "true or false"
    ),
    list(
      "limits: [4 per second, 300 per day]", "problem: error", 4, "JSON Pointer"
    ),
    list(
      "limits: [4 per second, 300 per day]", "problem: {fine: [ok]}", 4, "at"
    ),
    list("limits: [4 per second, 300 per day]", "delay: twenty", 4, "duration"),
    list(
      "limits: [4 per second, 300 per day]", "calender: quay", 4, "calendar"
    ),
    list("    shape: bars", "    shape: bar", 7, "bars"),
    list("    shape: bars", "    shapes: bars", 7, "shape"),
    list(
      "    request: /prices/{symbol}{?from,to}", "    requests: /prices", 8,
      "request"
    ),
    list(
      "    request: /prices/{symbol}{?from,to}",
      c("    request: /prices/{symbol}", "    method: PUT"), 9, "POST|GET"
    ),
    list(
      "    request: /prices/{symbol}{?from,to}",
      c("    request: /prices/{symbol}", "    format: yaml"), 9, "xml"
    ),
    list(
      "    request: /prices/{symbol}{?from,to}",
      c("    request: /prices/{symbol}", "    widest: {sometimes: P1D}"), 9,
      "not an interval of bars"
    ),
    list(
      "    request: /prices/{symbol}{?from,to}",
      c("    request: /prices/{symbol}", "    form: object"), 9, "objects"
    ),
    list(
      "    request: /prices/{symbol}{?from,to}",
      c("    request: /prices/{symbol}", "    bar_time: middle"), 9, "start|end"
    ),
    list(
      "    request: /prices/{symbol}{?from,to}",
      c("    request: /prices/{symbol}", "    table: {seperator: \";\"}"), 9,
      "separator"
    ),
    list(
      "    request: /prices/{symbol}{?from,to}",
      c("    request: /prices/{symbol}", "    next_page: {by: url}"), NA, "at"
    ),
    list(
      "    request: /prices/{symbol}{?from,to}",
      c(
        "    request: /prices/{symbol}",
        "    next_page: {by: cursor, at: /after}"
      ),
      NA, "send"
    ),
    list(
      "    request: /prices/{symbol}{?from,to}",
      c("    request: /prices/{symbol}", "    next_page: {by: pages}"), 9,
      "page"
    ),
    list(
      "    request: /prices/{symbol}{?from,to}",
      c("    request: /prices/{symbol}", "    parameters: {from: {as: epoch}}"),
      9, "epoch-s"
    ),
    list(
      "    request: /prices/{symbol}{?from,to}",
      c("    request: /prices/{symbol}", "    within: bars"), 9, "JSON Pointer"
    ),
    list("    rows: /items", "    rows: items", 9, "JSON Pointer"),
    list("    rows: /items", NULL, 9, "rows"),
    list("      time: {at: /day, as: day}", NULL, 10, "time"),
    list(
      "      time: {at: /day, as: day}", "      time: {at: /day, as: date}",
      11, "day"
    ),
    list(
      "      time: {at: /day, as: day}",
      "      time: {at: /day, as: day, needed: yes}", 11, "need"
    ),
    list("      close: /last", "      close: last", 12, "JSON Pointer"),
    list(
      "      close: /last", "      close: {at: /last, scale: many}", 12,
      "number"
    ),
    list(
      "      close: /last", "      close: {at: /last, decimal: \";\"}", 12,
      "\\.|,"
    ),
    list("      close: /last", "      open: /last", NA, "close")
  )
  for (case in wrong) {
    error <- expect_error_kind(read_card(changed(case[[1]], case[[2]])), "card")
    label <- paste(c(case[[2]], "in place of", case[[1]]), collapse = " ")
    if (!is.na(case[[3]])) {
      expect_match(
        error$where, paste0("line ", case[[3]], "\\b"), label = label
      )
    }
    expect_match(paste(error$what, error$todo), case[[4]], label = label)
  }
})

test_that("files that are no card at all are refused in words", {
  expect_error_kind(
    source_card(file.path(tempdir(), "nowhere.yml")), "card", "no source card"
  )
  expect_error_kind(read_card(character()), "card", "empty")
  expect_error_kind(read_card("just words"), "card", "empty or not a")
  expect_error_kind(read_card("- a\n- b"), "card")
  expect_error_kind(
    read_card(c("source: mill", "url: [https://data.example.org")), "card",
    "not valid YAML"
  )
  expect_error_kind(
    read_card(c("source: mill", "\taddress: https://data.example.org")),
    "card", "not valid YAML"
  )
  expect_error_kind(
    read_card(
      c("source: mill", "source: mill", "url: https://data.example.org")
    ),
    "card"
  )
  expect_error_kind(source_card(c("quay", "river")), "card")
  expect_error_kind(source_card(7), "card")
})

test_that("YAML truth words are texts, and no tag is run", {
  card <- read_card(
    c(
      "source: mill", "url: https://data.example.org",
      "headers: {X-Lang: no, X-Flag: y}", "datasets:", "  rows:",
      "    shape: table", "    request: /rows{?on}",
      "    parameters: {on: {value: on}}", "    rows: \"\"",
      "    columns: {n: /n, y: /y}"
    )
  )
  expect_identical(card$headers, list("X-Lang" = "no", "X-Flag" = "y"))
  expect_identical(card$datasets$rows$parameters[["on"]]$value, "on")
  expect_identical(names(card$datasets$rows$columns), c("n", "y"))
  file <- withr::local_tempfile()
  try(
    read_card(c(paste0("title: !expr file.create('", file, "')"), right_card)),
    silent = TRUE
  )
  expect_false(file.exists(file))
})

test_that("the command says the same of a wrong card, and ends with 1", {
  folder <- withr::local_tempdir()
  writeLines(
    changed("    shape: bars", "    shape: bar"), file.path(folder, "wrong.yml")
  )
  writeLines(right_card, file.path(folder, "right.yml"))
  wrong <- run_vetusta("sources", "check", "wrong.yml", folder = folder)
  expect_identical(wrong$status, 1L)
  expect_match(wrong$stderr, "line 7")
  expect_match(wrong$stderr, "bars")
  expect_identical(wrong$stdout, "")
  right <- run_vetusta("sources", "check", "right.yml", folder = folder)
  expect_identical(right$status, 0L)
  for (words in list(
    c("sources", "check"), c("sources", "chekc", "right.yml"),
    c("sources", "check", "right.yml", "--shout")
  )) {
    expect_identical(
      do.call(run_vetusta, as.list(c(words, folder = folder)))$status,
      2L,
      label = paste(words, collapse = " ")
    )
  }
})

test_that("an impossible request is found in the card, with its line", {
  check <- function(lines) {
    file <- withr::local_tempfile(fileext = ".yml")
    writeLines(c("source: test", "url: http://127.0.0.1:1", lines), file)
    source_card(file)
  }
  bars <- function(request, parameters = "{from: {as: epoch-s}}") {
    c(
      "datasets:", "  bars:", "    shape: bars",
      paste("    request:", request), "    rows: /items",
      paste("    parameters:", parameters),
      "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
    )
  }
  expect_error_kind(
    check(bars("\"/b/{symbol}{?from\"")), "card", "not a complete URI template"
  )
  found <- function(lines) {
    vapply(check(lines)$findings, conditionMessage, "")
  }
  expect_match(
    found(bars("\"/b/{symbol}{?from,to}\"", "{form: {as: epoch-s}}")),
    "does not use the parameter form.*line 8"
  )
  expect_match(
    found(bars("\"/b/{symbol}{?from,to}\"", "{from: {gives: fro}}")),
    "cannot give \"fro\""
  )
  expect_match(found(bars("\"/b{?from,to}\"")), "no [{]symbol[}]")
  expect_length(check(bars("\"/b/{symbol}{?from}\""))$findings, 0)
  error <- tryCatch(
    check(c("limits: [4/s]", bars("\"/b/{symbol}{?from}\""))),
    vetusta_error_card = identity
  )
  expect_match(error$where, "line 3, limits")
})

test_that("a window whose end counts is asked for to the second before", {
  card <- withr::local_tempfile(fileext = ".yml")
  writeLines(
    c(
      "source: test", "url: http://127.0.0.1:1", "datasets:", "  bars:",
      "    shape: bars", "    request: \"/b/{symbol}{?from,to}\"",
      "    rows: /items", "    largest_page: 100",
      paste0(
        "    parameters: {from: {as: epoch-s}, to: {as: epoch-s, ",
        "inclusive: true}}"
      ),
      "    columns: {time: {at: /t, as: epoch-s}, close: /c}"
    ),
    card
  )
  query <- query_bars(
    source_card(card), "AA", "1 minute", from = "2026-03-12T08:00:00Z",
    to = "2026-03-12T12:00:00Z"
  )
  plan <- plan_requests(query)
  expect_identical(nrow(plan$requests), 3L)
  chain <- vetusta:::query_chain(query, plan$requests[1, ])
  expect_match(
    chain$request$url, paste0("to=", as.numeric(plan$requests$to[1]) - 1)
  )
})

test_that("a dataset and a column have few words", {
  expect_lte(length(vetusta:::dataset_grammar()), 28)
  expect_lte(length(vetusta:::dataset_grammar()$columns$.each) - 1, 15)
})
