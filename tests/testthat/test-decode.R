# Bodies of various APIs, decoded through a card, without a server.
read_rows <- function(body, dataset, extra = list(), known = list()) {
  source <- utils::modifyList(list(zone = "UTC"), extra)
  dataset <- utils::modifyList(list(name = "rows", shape = "table"), dataset)
  dataset <- vetusta:::dataset_made(dataset[names(dataset) != "name"], "rows")
  decoded <- vetusta:::decode_body(
    dataset, if (is.raw(body)) body else charToRaw(body), source, known,
    where = "here"
  )
  decoded$frame <- as.data.frame(decoded$columns)
  decoded
}
number <- function(at, ...) list(at = at, as = "number", ...)

test_that("rows within rows bear what stands once in the outer one", {
  body <- paste0(
    '{"result":[{"code":"KELD","unit":"ORV","bars":[{"t":1,"c":41.2},',
    '{"t":2,"c":41.3}]},',
    paste0(
      '{"code":"NONE","unit":"ORV","bars":[]},{"code":"TAMX",',
      '"unit":"TSK","bars":[{"t":1,', '"c":7}]}]}'
    )
  )
  read <- read_rows(
    body,
    list(
      rows = "/result",
      within = "/bars",
      columns = list(
        symbol = list(
          at = "/code", of = "outer"
        ), unit = list(at = "/unit", of = "outer"),
        t = number("/t"), close = number("/c")
      )
    )
  )
  expect_identical(
    read$frame,
    data.frame(
      symbol = c("KELD", "KELD", "TAMX"),
      unit = c("ORV", "ORV", "TSK"),
      t = c(1, 2, 1),
      close = c(41.2, 41.3, 7)
    )
  )
  expect_identical(read$items, 3L)
})

test_that("maps of arrays, of parallel arrays, and of nested rows", {
  columns <- list(
    symbol = list(of = "key"), t = number("/0"), close = number("/1")
  )
  arrays <- read_rows(
    '{"KELD":[[1,41.2],[2,41.3]],"TAMX":[[1,7.5]],"NONE":[]}',
    list(
      rows = "",
      form = "map",
      within = list(at = "", form = "arrays"),
      columns = columns
    )
  )
  expect_identical(
    arrays$frame,
    data.frame(
      symbol = c("KELD", "KELD", "TAMX"),
      t = c(1, 2, 1),
      close = c(41.2, 41.3, 7.5)
    )
  )
  columns <- list(
    symbol = list(of = "key"), t = number("/t"), close = number("/c")
  )
  parallel <- read_rows(
    '{"KELD":{"t":[1,2],"c":[41.2,41.3]},"TAMX":{"t":[1],"c":[7.5]}}',
    list(
      rows = "",
      form = "map",
      within = list(at = "", form = "columns"),
      columns = columns
    )
  )
  expect_identical(parallel$frame, arrays$frame)
  inside <- read_rows(
    paste0(
      '{"data":{"KELD":{"meta":{"n":2},"bars":[{"t":1,"c":41.2},{"t":2,',
      '"c":41.3}]},', '"TAMX":{"meta":{"n":1},"bars":[{"t":1,"c":7.5}]}}}'
    ),
    list(
      rows = "/data",
      form = "map",
      within = "/bars",
      columns = c(
        columns, list(n = list(at = "/meta/n", of = "outer", as = "number"))
      )
    )
  )
  expect_identical(inside$frame[1:3], arrays$frame)
  expect_identical(inside$frame$n, c(2, 2, 1))
})

test_that("parallel arrays may stand in different depths of an object", {
  body <- paste0(
    '{"answer":[{"about":{"code":"KELD"},"when":[10,20,30],',
    '"data":{"price":[{"open":[1,2,',
    'null],"close":[1.5,2.5,3.5]}],"size":{"lots":[5,6,7]}}}]}'
  )
  read <- read_rows(
    body,
    list(
      rows = "/answer/0",
      form = "columns",
      columns = list(
        t = number("/when"),
        open = number("/data/price/0/open", need = "optional"),
        close = number("/data/price/0/close"),
        lots = number("/data/size/lots"),
        code = list(at = "/answer/0/about/code", of = "body")
      )
    )
  )
  expect_identical(
    read$frame,
    data.frame(
      t = c(10, 20, 30), open = c(1, 2, NA), close = c(1.5, 2.5, 3.5),
      lots = c(5, 6, 7), code = "KELD"
    )
  )
})

test_that("a single object is one row", {
  read <- read_rows(
    paste0(
      '{"quote":{"symbol":"KELD","last":{"price":"41.25"},',
      '"when":"2026-03-12T07:30:00Z"}}'
    ),
    list(
      rows = "/quote",
      form = "one",
      columns = list(
        symbol = "/symbol",
        last = number("/last/price"),
        time = list(at = "/when", as = "rfc3339")
      )
    )
  )
  expect_identical(read$frame$symbol, "KELD")
  expect_identical(read$frame$last, 41.25)
  expect_identical(
    as.numeric(read$frame$time),
    as.numeric(as.POSIXct("2026-03-12 07:30", tz = "UTC"))
  )
  expect_error_kind(
    read_rows(
      '{"quote":[1,2]}',
      list(rows = "/quote", form = "one", columns = list(a = "/a"))
    ),
    "payload", "no single object"
  )
})

test_that("NDJSON, byte order marks, words for no number, gzip", {
  lines <- list(
    format = "json-lines",
    columns = list(a = number("/a", need = "optional"))
  )
  expect_identical(
    read_rows('{"a":1}\n{"a":2}\r\n\n{"a":null}\n', lines)$frame$a, c(1, 2, NA)
  )
  expect_error_kind(read_rows('{"a":1}\n{"a":', lines), "payload", "cut short")
  objects <- list(
    rows = "",
    columns = list(
      a = number("/a", need = "optional"),
      text = list(at = "/b", need = "optional")
    )
  )
  expect_identical(
    read_rows(
      '[{"a":NaN,"b":"the price is: NaN, so"},{"a":-Infinity},{"a":3}]', objects
    )$frame$a,
    c(NA, NA, 3)
  )
  expect_identical(
    read_rows('[{"a":NaN,"b":"NaN"}]', objects)$frame$text, "NaN"
  )
  expect_identical(
    read_rows(
      c(as.raw(c(0xef, 0xbb, 0xbf)), charToRaw('[{"a":1}]')), objects
    )$frame$a,
    1
  )
  packed <- function(text) {
    file <- withr::local_tempfile()
    connection <- gzfile(file, "wb")
    writeLines(text, connection)
    close(connection)
    readBin(file, "raw", 1e6)
  }
  expect_identical(
    read_rows(packed('[{"a":1},{"a":2}]'), objects)$frame$a, c(1, 2)
  )
  expect_error_kind(
    read_rows(packed(strrep('[{"a":1},{"a":2}]', 50))[1:40], objects), "payload"
  )
})

test_that("tables without header, with remarks, separators, encodings", {
  columns <- list(day = list(at = "/0", as = "day"), v = number("/2"))
  expect_identical(
    read_rows(
      "2026-03-12,x,1.5\n2026-03-13,y,2.5\n",
      list(format = "csv", table = list(names = FALSE), columns = columns)
    )$frame$v,
    c(1.5, 2.5)
  )
  named <- list(day = list(at = "/Day", as = "day"), v = number("/M\u00fchle"))
  text <- paste0(
    "The office of mills\nas of today\nDay|M\u00fchle\n# provisional from ",
    "here\n2026-03-12|1.5\n2026-03-13|2.5\n"
  )
  latin <- iconv(text, "UTF-8", "latin1", toRaw = TRUE)[[1]]
  read <- read_rows(
    latin,
    list(
      format = "csv",
      table = list(
        skip = 2, remark = "#", separator = "|", encoding = "latin1"
      ),
      columns = named
    )
  )
  expect_identical(read$frame$v, c(1.5, 2.5))
  expect_identical(format(read$frame$day), c("2026-03-12", "2026-03-13"))
  expect_identical(
    read_rows(
      "# nothing today\n",
      list(format = "csv", table = list(remark = "#"), columns = named)
    )$rows,
    0L
  )
  quoted <- read_rows(
    'name,v\n"Kelder, ""the lock""",1\n"two\nlines",2\n',
    list(format = "csv", columns = list(name = "/name", v = number("/v")))
  )
  expect_identical(quoted$frame$name[1], "Kelder, \"the lock\"")
  expect_identical(quoted$frame$v, c(1, 2))
})

test_that("errors in a body with status 200, by member and by word", {
  dataset <- list(rows = "/rows", columns = list(a = number("/a")))
  said <- list(
    problem = list(
      at = "/state", fine = c("ok", "success"), again = "busy", text = "/words"
    )
  )
  expect_identical(
    read_rows(
      '{"state":"OK","words":"all well","rows":[{"a":1}]}', dataset, said
    )$frame$a,
    1
  )
  error <- expect_error_kind(
    read_rows(
      '{"state":"failed","words":"the mill is closed","rows":[]}', dataset, said
    ),
    "payload", "the mill is closed"
  )
  expect_false(error$again)
  expect_true(
    expect_error_kind(
      read_rows('{"state":"busy","rows":[]}', dataset, said), "payload", "busy"
    )$again
  )
  for (body in c(
    '{"code":0,"rows":[{"a":1}]}', '{"code":null,"rows":[{"a":1}]}',
    '{"code":"","rows":[{"a":1}]}', '{"code":false,"rows":[{"a":1}]}',
    '{"rows":[{"a":1}]}'
  )) {
    expect_identical(
      read_rows(body, dataset, list(problem = "/code"))$frame$a, 1, label = body
    )
  }
  expect_error_kind(
    read_rows('{"code":17,"rows":[]}', dataset, list(problem = "/code")),
    "payload", "17"
  )
  expect_error_kind(
    read_rows('{"code":["a","b"],"rows":[]}', dataset, list(problem = "/code")),
    "payload", "a, b"
  )
})

test_that("instants are read in every form that APIs write them in", {
  at <- function(as, text, ..., zone = "UTC") {
    body <- as.character(jsonlite::toJSON(data.frame(t = text), digits = NA))
    as.numeric(
      read_rows(
        body,
        list(
          rows = "",
          columns = list(t = list(at = "/t", as = as, need = "optional", ...))
        ),
        extra = list(zone = zone)
      )$columns$t
    )
  }
  noon <- as.numeric(as.POSIXct("2026-03-12 12:00:00", tz = "UTC"))
  expect_equal(at("epoch-s", noon), noon)
  expect_equal(at("epoch-ms", noon * 1e3), noon)
  expect_equal(at("epoch-us", noon * 1e6), noon)
  expect_equal(at("epoch-ns", sprintf("%.0f", noon * 1e9)), noon)
  forms <- c(
    "2026-03-12T12:00:00Z", "2026-03-12T14:00:00+02:00",
    "2026-03-12T06:30:00-05:30", "2026-03-12 12:00:00Z",
    "2026-03-12T12:00:00.000Z", "2026-03-12T12:00Z", "2026-03-12T14:00:00+0200"
  )
  expect_equal(at("rfc3339", forms), rep(noon, length(forms)))
  expect_equal(at("rfc3339", "2026-03-12T12:00:00.250Z"), noon + 0.25)
  expect_equal(
    at(
      "local", c("2026-03-12 14:00:00", "2026-03-12T14:00"),
      zone = "Europe/Riga"
    ),
    rep(noon, 2)
  )
  expect_equal(
    at(
      "local", "12.03.2026 14:00", written = "%d.%m.%Y %H:%M",
      zone = "Europe/Riga"
    ),
    noon
  )
  expect_equal(
    at(
      "local", "20260312 140000", written = "%Y%m%d %H%M%S",
      zone = "Europe/Riga"
    ),
    noon
  )
  expect_true(
    all(
      is.na(
        at(
          "rfc3339",
          c("yesterday", "2026-13-01T00:00:00Z", "2026-02-30T00:00:00Z")
        )
      )
    )
  )
  expect_identical(
    as.numeric(
      read_rows(
        '[{"d":"12/03/2026"},{"d":"31/02/2026"}]',
        list(
          rows = "",
          columns = list(
            d = list(
              at = "/d", as = "day", written = "%d/%m/%Y", need = "optional"
            )
          )
        )
      )$columns$d
    ),
    c(as.numeric(as.Date("2026-03-12")), NA)
  )
})

test_that("signs, thousands, per cent and decimal commas of numbers", {
  value <- function(text, ...) {
    body <- as.character(jsonlite::toJSON(data.frame(v = text), digits = NA))
    read_rows(
      body,
      list(
        rows = "/x",
        columns = list(v = list(at = "/v", need = "optional", ...))
      ) |>
        utils::modifyList(list(rows = ""))
    )
  }
  expect_identical(
    value(
      c("1,234.5", "-7", "+3", " 4 ", "1e3", "\u22125"), as = "number"
    )$frame$v,
    c(1234.5, -7, 3, 4, 1000, -5)
  )
  expect_identical(
    value(c("1.234,5", "7,25"), as = "number", decimal = ",")$frame$v,
    c(1234.5, 7.25)
  )
  expect_identical(
    value(c("+1.25%", "-0.5 %", "2"), as = "percent")$frame$v, c(1.25, -0.5, 2)
  )
  expect_identical(
    value(c("true", "FALSE", "1", "no"), as = "flag")$frame$v,
    c(TRUE, FALSE, TRUE, FALSE)
  )
  expect_identical(
    value(c(12345, 7), as = "number", scale = 0.01)$frame$v, c(123.45, 0.07)
  )
  wrong <- value(c("1", "twelve", "1,23,4"), as = "number")
  expect_identical(wrong$rejected$pointer, c("/1/v", "/2/v"))
  expect_match(wrong$rejected$detail[1], "twelve")
})

test_that("a row lacks what it must have, has a default, or may lack it", {
  body <- '[{"a":1,"b":null},{"b":2},{"a":3,"b":"x"}]'
  read <- read_rows(
    body,
    list(
      rows = "",
      columns = list(
        a = number("/a"),
        b = number("/b", need = "optional"),
        c = list(at = "/c", default = "none"),
        d = list(at = "/d", as = "number", default = 7)
      )
    )
  )
  expect_identical(read$rejected$row, c(2L, 3L))
  expect_identical(read$rejected$reason, c("no a", "b cannot be read"))
  expect_identical(read$frame$c, rep("none", 3))
  expect_identical(read$frame$d, rep(7, 3))
  expect_error_kind(
    read_rows(body, list(rows = "", columns = list(z = number("/z/deep")))),
    "payload", "/z/deep"
  )
})

test_that("pointers reach members with odd names and members of arrays", {
  body <- paste0(
    '[{"a/b":1,"m~n":2,"deep":{"x":[10,20]},"":9},{"a/b":3,"m~n":4,',
    '"deep":{"x":[30,40]},"":8}]'
  )
  read <- read_rows(
    body,
    list(
      rows = "",
      columns = list(slash = number("/a~1b"), tilde = number("/m~0n"))
    )
  )
  expect_identical(read$frame, data.frame(slash = c(1, 3), tilde = c(2, 4)))
})

test_that("empty, wrong and misplaced answers are refused in words", {
  dataset <- list(rows = "/rows", columns = list(a = number("/a")))
  expect_error_kind(read_rows(raw(), dataset), "payload", "empty")
  expect_error_kind(read_rows("   ", dataset), "payload")
  expect_error_kind(read_rows('{"rows":7}', dataset), "payload", "/rows")
  expect_error_kind(read_rows('{"rows":"text"}', dataset), "payload", "/rows")
  expect_error_kind(read_rows("[1,2,3]", dataset), "payload", "/rows")
  expect_error_kind(read_rows('{"rows":null}', dataset), "payload", "/rows")
  expect_error_kind(
    read_rows("<?xml version=\"1.0\"?><a/>", dataset), "payload", "XML"
  )
  expect_identical(read_rows('{"rows":[]}', dataset)$rows, 0L)
  expect_identical(
    read_rows('{"rows":[{"a":1,"extra":{"b":[1,2]}}]}', dataset)$frame$a, 1
  )
  csv <- list(format = "csv", columns = list(a = number("/a")))
  expect_error_kind(
    read_rows('{"rows":[]}', csv), "payload", "JSON, not a table"
  )
  expect_error_kind(read_rows("<html>no</html>", csv), "payload", "web page")
  expect_identical(read_rows("a,b\n", csv)$rows, 0L)
})
