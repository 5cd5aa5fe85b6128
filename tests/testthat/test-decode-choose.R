# Rows of one kind among several, columns of a second list, text around JSON,
# wide tables made long, joined members, and numbers formatted for people.
decoded_of <- function(dataset, body, env = parent.frame()) {
  card <- source_card(
    write_card(
      "https://data.example.org", c("request: /rows", dataset), env = env
    )
  )
  vetusta:::decode_body(card$datasets$rows, charToRaw(body), card)
}

test_that("chosen rows keep their place in error messages", {
  found <- decoded_of(
    c(
      "rows: /r", "only: {/kind: [trade, fix], /open: [true]}",
      "columns: {n: {at: /n, as: number}}"
    ),
    paste0(
      '{"r":[{"kind":"note","open":true},{"kind":"trade","open":true,"n":1},',
      '{"kind":"trade","open":false,"n":2},{"kind":"FIX","open":true,',
      '"n":"x"}]}'
    )
  )
  expect_identical(found$columns$n, c(1, NA))
  expect_identical(found$rejected$pointer, "/r/3/n")
  # the service counts all rows
  expect_identical(found$items, 4L)
  none <- decoded_of(
    c(
      "rows: /r", "only: {/kind: [trade]}", "columns: {n: {at: /n, as: number}}"
    ),
    '{"r":[{"n":1},{"n":2}]}'
  )
  expect_identical(none$rows, 0L)
  lines <- decoded_of(
    c(
      "format: json-lines", "only: {/kind: [a]}",
      "columns: {n: {at: /n, as: number}}"
    ),
    '{"kind":"a","n":1}\n{"kind":"b","m":2}\n'
  )
  expect_identical(lines$columns$n, 1)
})

test_that("columns of a second list are joined by an id", {
  columns <-
    paste0(
      "columns: {n: {at: /n, as: number}, ",
      "name: {at: /name, of: lookup, need: optional}}"
    )
  second <-
    '"who":[{"id":7,"name":"Kelder Lock"},{"id":"9","name":"Tamm Weir"}]'
  body <- paste0(
    '{"r":[{"n":1,"g":9},{"n":2,"g":"7"},{"n":3,"g":8}],', second, "}"
  )
  found <- decoded_of(
    c("rows: /r", "lookup: {rows: /who, by: /id, from: /g}", columns), body
  )
  expect_identical(found$columns$name, c("Tamm Weir", "Kelder Lock", NA))
  map <- decoded_of(
    c("rows: /r", "lookup: {rows: /who, form: map, from: /g}", columns),
    paste0(
      '{"r":[{"n":1,"g":"b"}],"who":{"a":{"name":"x"},"b":{"name":"y"},',
      '"c":{"name":"z"}}}'
    )
  )
  expect_identical(map$columns$name, "y")
  absent <- decoded_of(
    c("rows: /r", "lookup: {rows: /nobody, by: /id, from: /g}", columns), body
  )
  expect_identical(absent$columns$name, rep(NA_character_, 3))
  expect_error_kind(
    decoded_of(
      c("rows: /r", "lookup: {rows: /who, by: /id, from: /x}", columns), body
    ),
    "payload", "No row has the member /x"
  )
  expect_error_kind(
    decoded_of(
      c("rows: /r", "lookup: {rows: /who, by: /x, from: /g}", columns), body
    ),
    "payload", "No row at /who has the member /x"
  )
})

test_that("text around the JSON is left out where the card says so", {
  dataset <- c(
    "rows: /r", "format: wrapped-json", "columns: {n: {at: /n, as: number}}"
  )
  for (body in c(
    'took({"r":[{"n":1}]});', ")]}',\n{\"r\":[{\"n\":1}]}", '{"r":[{"n":1}]}'
  )) {
    expect_identical(decoded_of(dataset, body)$columns$n, 1)
  }
  expect_error_kind(decoded_of(dataset, "busy"), "payload")
})

test_that("a table with a column a series is made long, in CSV and in JSON", {
  dataset <- c(
    "unpack: {keep: [day]}",
    paste0(
      "columns: {day: {at: /day, as: day}, name: /name, value: {at: ",
      "/value, as: number}}"
    )
  )
  csv <- decoded_of(
    c("format: csv", dataset), "day,KELD,TAMX\n2026-03-12,1,\n2026-03-13,2,3\n"
  )
  expect_identical(csv$columns$name, c("KELD", "KELD", "TAMX"))
  expect_identical(csv$columns$value, c(1, 2, 3))
  json <- decoded_of(
    c("rows: /r", dataset),
    paste0(
      '{"r":[{"day":"2026-03-12","KELD":1.5,"TAMX":null},',
      '{"day":"2026-03-13","KELD":2,"TAMX":3}]}'
    )
  )
  expect_identical(json$columns$value, c(1.5, 2, 3))
  expect_identical(
    as.character(json$columns$day), c("2026-03-12", "2026-03-13", "2026-03-13")
  )
  expect_error_kind(
    decoded_of(
      c("format: csv", "unpack: {keep: [date]}", "columns: {name: /name}"),
      "day,KELD\n2026-03-12,1\n"
    ),
    "payload", "no column date"
  )
})

test_that("members are joined, with the zeros that were left out", {
  found <- decoded_of(
    c(
      "rows: /r",
      paste(
        "columns: {at: {at: [/d, /c], digits: [8, 4], as: local,",
        "written: \"%Y%m%d %H%M\"},", "period: {at: [/y, /q], joined: \"\"}}"
      )
    ),
    paste0(
      '{"r":[{"d":20260312,"c":930,"y":2026,"q":"Q1"},{"d":20260312,',
      '"c":"5","y":2026,"q":"M03"}]}'
    )
  )
  expect_identical(
    format(found$columns$at, "%H:%M", tz = "UTC"), c("09:30", "00:05")
  )
  expect_identical(found$columns$period, c("2026Q1", "2026M03"))
  expect_identical(
    time_periods(
      c("2026Q1", "2026M03", "2026A01", "2026S02", "2026Q01")
    )$frequency,
    c("Q", "M", "A", "S", "Q")
  )
})

test_that("numbers are read as people write them", {
  text <- c(
    "$1,250.50", "-$3", "\u20ac 12", "12.5-", "(12.5)", "($1,000)",
    "1\u202f250", "1\u2019250.5", "1'250", "12 500 000", "5\u00a0\u20ac", "+7",
    "\u22123"
  )
  expect_identical(
    vetusta:::read_number(text),
    c(
      1250.5, -3, 12, -12.5, -12.5, -1000, 1250, 1250.5, 1250, 12500000, 5, 7,
      -3
    )
  )
  # a text that is not a number stays text
  expect_identical(
    vetusta:::read_number(
      c(
        "12-13", "(12", "1,2", "1 2", "--3", "(-3)", "$", "12)", "3-4-",
        "0x1F", "inf", "1'25"
      )
    ),
    rep(NA_real_, 12)
  )
  expect_identical(
    vetusta:::read_number(c("1.250,5-", "(1.250,5)", "1 250,5"), ","),
    c(-1250.5, -1250.5, 1250.5)
  )
})
