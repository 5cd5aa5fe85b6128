# Two rows of one time in one answer or file.

bars_answered <- function(items,
                          columns = "{time: {at: /t, as: epoch-s}, close: /c}",
                          env = parent.frame()) {
  answer <- function(n, request) json_answer(list(items = items))
  environment(answer) <- list2env(list(items = items), parent = globalenv())
  source <- bars_card(
    start_scripted(answer, env = env),
    c(
      "datasets:", "  bars:", "    shape: bars",
      "    request: /b/{symbol}{?from,to}", "    rows: /items",
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
      paste("    columns:", columns)
    ),
    env = env
  )
  collect_bars(source, "AA", "1 minute", "2026-03-12", "2026-03-12", env = env)
}
at <- 1773300660

test_that("a row without a value yields, in either order", {
  for (values in list(list(1, NULL), list(NULL, 1))) {
    got <- bars_answered(lapply(values, function(c) list(t = at, c = c)))
    expect_identical(got$bars$close, 1)
    expect_identical(
      c(got$run$new, got$run$rejected, got$run$doubled), c(1, 1, 0)
    )
  }
})

test_that("rows that say the same are one, and all rows are counted", {
  got <- bars_answered(
    list(list(t = at, c = 1), list(t = at, c = 1), list(t = at + 60, c = 2))
  )
  expect_identical(got$bars$close, c(1, 2))
  expect_identical(
    c(got$run$new, got$run$doubled, got$run$rejected), c(2, 1, 0)
  )
  expect_match(
    paste(
      format(got$run$doubled), capture.output(print(got$run)), collapse = "\n"
    ),
    "1 row was received twice, and is stored once"
  )
})

test_that("two values are a conflict with both places, and the last is taken", {
  got <- bars_answered(
    list(list(t = at, c = 1), list(t = at, c = NULL), list(t = at, c = 2))
  )
  expect_identical(got$bars$close, 2)
  told <- archive_rejected(got$archive)
  expect_match(
    told$reason, "conflict: another row of this time differs", all = FALSE
  )
  expect_match(
    told$detail, "close 1 in row 1; taken: close 2 in row 3", all = FALSE
  )
})

test_that("the same holds for files, with lines, of bars and of other values", {
  archive <- new_archive()
  file <- withr::local_tempfile(fileext = ".csv")
  writeLines(
    c(
      "symbol,time,close", "AAA,2025-02-03,10", "AAA,2025-02-03,20",
      "BBB,2025-02-03,5", "BBB,2025-02-03,5"
    ),
    file
  )
  done <- archive_import(archive, file, interval = "1 day")
  expect_identical(c(done$read, done$new, done$doubled), c(4, 2, 1))
  expect_identical(done$rejected$line, 2L)
  expect_match(
    done$rejected$detail, "close 10 in line 2; taken: close 20 in line 3"
  )
  expect_identical(archive_bars(archive, "AAA")$close, 20)
  expect_match(
    paste(capture.output(print(done)), collapse = "\n"),
    "2 new, .* 1 twice, 1 rejected"
  )
  writeLines(
    c("series,period,value", "A,2025-01,1", "A,2025-01,2", "A,2025-02,3"), file
  )
  done <- archive_import_rows(archive, file, "observations", dataset = "o")
  expect_identical(c(done$read, done$new, nrow(done$rejected)), c(3, 2, 1))
  expect_match(
    done$rejected$detail, "value 1 in line 2; taken: value 2 in line 3"
  )
})

test_that("a file's own sessions are kept, and bars without any are said", {
  archive <- new_archive()
  file <- withr::local_tempfile(fileext = ".csv")
  writeLines(
    c(
      "symbol,time,close,session", "AAA,2025-02-03T09:00:00Z,10,Regular",
      "AAA,2025-02-03T16:30:00Z,11,late"
    ),
    file
  )
  archive_import(archive, file, interval = "1 minute")
  expect_identical(
    archive_bars(archive, "AAA", "1 minute", session = "regular")$close, 10
  )
  writeLines(c("symbol,time,close", "BBB,2025-02-03T09:00:00Z,10"), file)
  archive_import(archive, file, interval = "1 minute")
  expect_message(
    none <- archive_bars(archive, "BBB", "1 minute", session = "regular"),
    "1 bar has no session", class = "vetusta_note"
  )
  expect_identical(nrow(none), 0L)
})

test_that("times that differ by nanoseconds are kept apart and said", {
  items <- lapply(
    c(
      "2026-03-12T07:31:00.000001100Z", "2026-03-12T07:31:00.000001300Z",
      "2026-03-12T07:31:00.000001300Z"
    ),
    function(t) list(t = t, c = 1)
  )
  got <- bars_answered(items, "{time: {at: /t, as: rfc3339}, close: /c}")
  expect_equal(as.numeric(diff(got$bars$time)), 1e-6, tolerance = 1e-2)
  expect_match(
    archive_rejected(got$archive)$reason, "differs by less than a microsecond"
  )
  answer <- function(n, request) {
    list(
      status = 200L,
      headers = list("Content-Type" = "application/json"),
      body = paste0(
        "{\"items\":[{\"t\":1773300660000000101,\"c\":1},",
        "{\"t\":1773300660000000102,\"c\":2}]}"
      )
    )
  }
  source <- bars_card(
    start_scripted(answer),
    c(
      "datasets:", "  bars:", "    shape: bars",
      "    request: /b/{symbol}{?from,to}", "    rows: /items",
      "    columns: {time: {at: /t, as: epoch-ns}, close: /c}"
    )
  )
  got <- collect_bars(source, "AA", "1 minute", "2026-03-12", "2026-03-12")
  expect_identical(got$bars$close, c(1, 2))
})

test_that("an epoch in the wrong unit is rejected with its reason", {
  got <- bars_answered(list(list(t = at * 1000, c = 1)))
  expect_match(
    archive_rejected(got$archive)$reason, "check the unit of the epoch"
  )
  expect_match(archive_incomplete(got$archive)$reason, "unit of the epoch")
})

test_that("UTF-16, NUL characters and long numbers", {
  table <- "columns: {id: {at: /id, as: text}}"
  collect <- function(body, lines) {
    answer <- function(n, request) {
      list(status = 200L, headers = list(), body = body)
    }
    environment(answer) <- list2env(list(body = body), parent = globalenv())
    collect_rows(write_card(start_scripted(answer), c("request: /rows", lines)))
  }
  for (encoding in c("UTF-16LE", "UTF-16BE")) {
    for (mark in c(TRUE, FALSE)) {
      as <- function(text) {
        bytes <- iconv(
          paste0(if (mark) "\ufeff", text), "UTF-8", encoding, toRaw = TRUE
        )[[1]]
        bytes
      }
      got <- collect(
        as("{\"d\":[{\"id\":\"Kelderschleu\u00dfe\"}]}"), c("rows: /d", table)
      )
      expect_identical(got$rows$id, "Kelderschleu\u00dfe", label = encoding)
      got <- collect(
        as("id,x\nKelderschleu\u00dfe,1\n"), c("format: csv", table)
      )
      expect_identical(got$rows$id, "Kelderschleu\u00dfe", label = encoding)
      file <- withr::local_tempfile(fileext = ".csv")
      writeBin(as("symbol,time,close\nA\u00df,2025-02-03,10\n"), file)
      archive <- new_archive()
      archive_import(archive, file, interval = "1 day")
      expect_identical(as.character(archive_bars(archive)$symbol), "A\u00df")
    }
  }
  got <- collect(
    "{\"d\":[{\"id\":\"a\\u0000b\"},{\"id\":\"a\\\\u0000b\"}]}",
    c("rows: /d", table)
  )
  expect_setequal(got$rows$id, c("a\ufffdb", "a\\u0000b"))
  got <- collect(
    "{\"d\":[{\"id\":1234567890123456789012},{\"id\":9223372036854775808}]}",
    c("rows: /d", table)
  )
  expect_identical(
    got$rows$id, c("1234567890123456789012", "9223372036854775808")
  )
})

test_that("columns that are all empty, at any depth", {
  collect <- function(body, lines) {
    answer <- function(n, request) json_answer(body)
    environment(
      answer
    ) <- list2env(
      list(body = body, json_answer = json_answer), parent = globalenv()
    )
    collect_rows(write_card(start_scripted(answer), c("request: /rows", lines)))
  }
  got <- collect(
    "{\"r\":{\"t\":[],\"q\":{\"c\":[]}}}",
    c(
      "rows: /r", "form: columns",
      "columns: {t: {at: /t, as: number}, c: {at: /q/c, as: number}}"
    )
  )
  expect_identical(nrow(got$run$failed), 0L)
  got <- collect(
    "{\"r\":{\"u\":{\"t\":[]},\"q\":{\"c\":[]}}}",
    c(
      "rows: /r", "form: columns",
      "columns: {t: {at: /u/t, as: number}, c: {at: /q/c, as: number}}"
    )
  )
  expect_identical(nrow(got$run$failed), 0L)
})
