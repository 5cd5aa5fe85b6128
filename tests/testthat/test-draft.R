# A draft from samples is a right card, and reads the samples that it was made from without a fault.
draft_of <- function(..., env = parent.frame()) {
  files <- vapply(list(...), function(text) {
    file <- withr::local_tempfile(.local_envir = env)
    if (is.raw(text)) writeBin(text, file) else writeLines(text, file, sep = "")
    file
  }, "")
  lines <- source_draft(files, "mill")
  path <- withr::local_tempfile(fileext = ".yml", .local_envir = env)
  writeLines(lines, path)
  card <- source_card(path)
  dataset <- card$datasets[[1]]
  read <- lapply(files,
    function(file) vetusta:::decode_body(dataset, readBin(file, "raw", 1e6), card))
  for (one in read) expect_identical(nrow(one$faults), 0L)
  list(lines = lines, dataset = dataset,
    rows = lapply(read, function(one) as.data.frame(one$columns)))
}

test_that("rows are found in every form that a card knows", {
  same <- function(rows, close) expect_identical(rows$close, close)
  within <-
    draft_of(
      paste0('{"result":[{"code":"KELD","unit":"ORV","bars":[{"t":1773300600,"c":41.2},',
        paste0('{"t":1773300660,"c":41.3}]},{"code":"TAMX","unit":"TSK","bars":[{"t":1773300600,',
          '"c":7}]}]}')))
  expect_identical(within$dataset$within, "/bars")
  expect_identical(within$rows[[1]]$symbol, c("KELD", "KELD", "TAMX"))
  same(within$rows[[1]], c(41.2, 41.3, 7))
  map <-
    draft_of(
      paste0('{"KELD":[{"t":1773300600,"c":41.2},{"t":1773300660,"c":41.3}],',
        '"TAMX":[{"t":1773300600,"c":7.5}]}'))
  expect_identical(map$dataset[["form"]], "map")
  same(map$rows[[1]], c(41.2, 41.3, 7.5))
  parallel <- draft_of('{"ok":true,"t":[1773300600,1773300660],"o":[1,null],"c":[41.2,41.3]}')
  expect_identical(parallel$dataset[["form"]], "columns")
  expect_identical(parallel$dataset$columns$open$need, "optional")
  single <-
    draft_of('{"quote":{"symbol":"KELD","last":{"price":"41.25"},"when":"2026-03-12T07:30:00Z"}}')
  expect_identical(single$dataset[["form"]], "one")
  expect_identical(single$rows[[1]]$close, 41.25)
  lines <-
    draft_of(
      '{"at":"2026-03-12T07:30:00Z","c":41.2}\n{"at":"2026-03-12T07:31:00Z","c":41.3,"note":"x"}\n')
  expect_identical(lines$dataset$format, "json-lines")
  expect_identical(lines$dataset$columns$note$need, "optional")
  arrays <- draft_of("[[1773300600,41.2],[1773300660,41.3]]")
  expect_identical(names(arrays$rows[[1]]), c("column_0", "column_1"))
  table <- draft_of("day;last\n2026-03-12;41.2\n2026-03-13;41.3\n")
  expect_identical(table$dataset$shape, "bars")
  same(table$rows[[1]], c(41.2, 41.3))
})

test_that("several samples show what is absent from some of them", {
  drafted <- draft_of('{"items":[{"t":1,"c":2,"note":"x"},{"t":2,"c":3}],"more":"/bars?after=2"}',
    '{"items":[{"t":3,"c":4}]}')
  expect_match(drafted$lines, "next_page: [{]by: address, at: /more[}] +# absent on the last page",
    all = FALSE)
  expect_identical(drafted$dataset$columns$note$need, "optional")
  expect_null(drafted$dataset$columns$close$need)
  types <-
    draft_of(
      paste0('[{"a":"2026-03-12","b":"+1.2%","c":true,"d":"2026-03-12 09:30:00",',
        '"e":1773300600000,"f":"12.5","g":"x"}]'))$dataset$columns
  expect_identical(unname(vapply(types, `[[`, "", "as"))[1:7],
    c("day", "percent", "flag", "local", "epoch-ms", "number", "text"))
})

test_that("samples that are packed, marked or damaged", {
  file <- withr::local_tempfile()
  connection <- gzfile(file, "wb")
  writeLines('{"items":[{"t":1773300600,"c":41.2},{"t":1773300660,"c":41.3}]}', connection)
  close(connection)
  expect_identical(draft_of(readBin(file, "raw", 1e5))$rows[[1]]$close, c(41.2, 41.3))
  expect_identical(draft_of(c(as.raw(c(0xef, 0xbb, 0xbf)),
    charToRaw('[{"t":1773300600,"c":41.2}]')))$rows[[1]]$close, 41.2)
  expect_error_kind(draft_of('{"items":[{"t":1}'), "draft", "no whole JSON")
  expect_error_kind(draft_of("just words"), "draft", "neither JSON nor a table")
  expect_error_kind(draft_of('{"items":[]}'), "draft", "No rows")
  expect_error_kind(draft_of('[{"t":1}]', "a,b\n1,2\n"), "draft", "several formats")
  expect_error_kind(source_draft(file.path(tempdir(), "none.json")), "draft", "no such sample")
})
