# Words of cards for answers and requests of unusual forms.

# The decoded rows of a body by a dataset of these words.
decoded <- function(body, ..., zone = NULL) {
  card <- source_card(c(
    list(
      source = "test", url = "http://127.0.0.1:1",
      datasets = list(
        rows = c(list(shape = "table", request = "/x"), list(...))
      )
    ),
    if (!is.null(zone)) list(zone = zone)
  ))
  vetusta:::decode_body(
    card$datasets$rows, if (is.raw(body)) body else charToRaw(body), card,
    list(symbol = "KELD")
  )
}
columns_of <- function(...) as.data.frame(decoded(...)$columns)
number <- function(at, ...) list(at = at, as = "number", ...)
day <- function(at, ...) list(at = at, as = "day", ...)
file_bytes <- function(file) readBin(file, "raw", file.size(file))

test_that("XML is read by the pointers of JSON", {
  body <- paste0(
    "<?xml version=\"1.0\"?><m:list xmlns:m=\"urn:x\" made=\"2026-03-12\">",
    "<m:day date=\"2026-03-12\"><rate code=\"TSK\" v=\"3.42\"/>",
    "<rate code=\"MIR\" v=\"0.87\"/></m:day>",
    "<m:day date=\"2026-03-13\"><rate code=\"TSK\" v=\"3.43\"/></m:day>",
    "</m:list>"
  )
  got <- columns_of(
    body,
    format = "xml", rows = "/list/day", within = "/rate",
    columns = list(
      day = list(at = "/date", of = "outer", as = "day"), code = "/code",
      rate = number("/v"), made = list(
        at = "/list/made", of = "body", as = "day"
      )
    )
  )
  expect_identical(got$code, c("TSK", "MIR", "TSK"))
  expect_identical(got$rate, c(3.42, 0.87, 3.43))
  expect_identical(
    got$day, as.Date(c("2026-03-12", "2026-03-12", "2026-03-13"))
  )
  expect_identical(unique(got$made), as.Date("2026-03-12"))
  # a single row, a text beside an attribute, escapes, an empty element
  got <- columns_of(
    paste0(
      "<l><i><n>Kelder &amp; \"Sons\"\\</n><v unit=\"cm\">251.5</v><w/></i></l>"
    ),
    format = "xml", rows = "/l/i",
    columns = list(
      n = "/n", v = number("/v/text"), unit = "/v/unit",
      w = number("/w", need = "optional")
    )
  )
  expect_identical(got$n, "Kelder & \"Sons\"\\")
  expect_identical(got$v, 251.5)
  expect_identical(got$unit, "cm")
  expect_true(is.na(got$w))
  # cut short, and with a document type
  expect_error_kind(
    decoded(
      "<l><i><v>1</v>",
      format = "xml", rows = "/l/i", columns = list(v = "/v")
    ),
    "payload", "not valid XML"
  )
  expect_error_kind(
    decoded(
      "<!DOCTYPE l [<!ENTITY a \"b\">]><l><i><v>&a;</v></i></l>",
      format = "xml", rows = "/l/i", columns = list(v = "/v")
    ),
    "payload", "document type"
  )
  expect_error_kind(
    decoded("<l/>", format = "xml", rows = "/l/i", columns = list(v = "/v")),
    "payload", "no rows at /l/i"
  )
})

test_that("random rows in XML and in JSON are read alike", {
  withr::local_seed(5)
  for (i in 1:20) {
    n <- sample(1:30, 1)
    rows <- data.frame(
      day = format(as.Date("2026-01-01") + seq_len(n)),
      text = replicate(n, paste(
        sample(c("a", "<", "&", "\"", "'", "\u00e4", "]]>", "0"), 4, TRUE),
        collapse = ""
      )),
      value = round(rnorm(n), 3)
    )
    document <- xml2::xml_new_root("out")
    place <- xml2::xml_add_child(document, "rows")
    for (k in seq_len(n)) {
      row <- xml2::xml_add_child(place, "row", day = rows$day[k])
      xml2::xml_set_text(xml2::xml_add_child(row, "text"), rows$text[k])
      xml2::xml_set_text(
        xml2::xml_add_child(row, "value"), format(rows$value[k], digits = 15)
      )
    }
    rules <- list(day = day("/day"), text = "/text", value = number("/value"))
    expect_identical(
      columns_of(
        as.character(document),
        format = "xml", rows = "/out/rows/row",
        columns = rules
      ),
      columns_of(
        as.character(jsonlite::toJSON(rows, digits = NA)),
        rows = "",
        columns = rules
      )
    )
  }
})

test_that("a workbook's sheet is a table", {
  skip_if_not_installed("openxlsx2")
  file <- withr::local_tempfile(fileext = ".xlsx")
  openxlsx2::write_xlsx(
    list(
      Notes = data.frame(text = "as of today"),
      Days = data.frame(
        Day = as.Date("2026-03-12") + 0:2, Last = c(41.2, NA, 41.35),
        Code = c("NA", "B", "C")
      )
    ),
    file
  )
  rules <- list(
    day = day("/Day"), last = number("/Last", need = "optional"),
    code = list(at = "/Code", missing = list())
  )
  got <- columns_of(
    file_bytes(file),
    format = "xlsx", table = list(sheet = "Days"),
    columns = rules
  )
  expect_identical(got$day, as.Date("2026-03-12") + 0:2)
  expect_identical(got$last, c(41.2, NA, 41.35))
  expect_identical(got$code, c("NA", "B", "C"))
  expect_error_kind(
    decoded(
      file_bytes(file),
      format = "xlsx", table = list(sheet = "Dais"),
      columns = rules
    ),
    "payload", "no sheet \"Dais\""
  )
  expect_error_kind(
    decoded("no workbook", format = "xlsx", columns = rules), "payload",
    "not a workbook"
  )
})

test_that("files of a zip archive are chosen by name", {
  folder <- withr::local_tempdir()
  withr::local_dir(folder)
  writeLines(c("day,close", "2026-03-12,41.2", "2026-03-13,x"), "KELD.csv")
  writeLines(c("day,close", "2026-03-12,7.5"), "TAMX.csv")
  writeLines("read me", "readme.txt")
  utils::zip("all.zip", c("TAMX.csv", "readme.txt", "KELD.csv"), flags = "-q")
  rules <- list(
    symbol = list(of = "file"), day = day("/day"), close = number("/close")
  )
  got <- decoded(
    file_bytes("all.zip"),
    format = "csv", table = list(files = "*.csv"), columns = rules
  )
  expect_identical(got$columns$symbol, c("KELD", "KELD", "TAMX"))
  expect_identical(got$columns$close, c(41.2, NA, 7.5))
  expect_identical(got$rejected$row, 2L)
  expect_error_kind(
    decoded(file_bytes("all.zip"), format = "csv", columns = rules),
    "payload", "has 3 files"
  )
  expect_error_kind(
    decoded(
      file_bytes("all.zip"),
      format = "csv", table = list(files = "*.tsv"), columns = rules
    ),
    "payload", "KELD.csv"
  )
  # cut short
  expect_error_kind(
    decoded(
      utils::head(file_bytes("all.zip"), 150),
      format = "csv", table = list(files = "*.csv"),
      columns = rules
    ),
    "payload"
  )
})

test_that("matrices and nested objects become rows", {
  body <- paste0(
    "{\"days\": [\"2026-03-12\", \"2026-03-13\"], \"names\": [\"a\", \"b\"], ",
    "\"cells\": [[1, 2], [3, null]]}"
  )
  got <- columns_of(
    body,
    rows = "/cells", form = "matrix",
    columns = list(
      day = list(at = "/days", of = "row", as = "day"),
      series = list(at = "/names", of = "column"),
      value = list(of = "value", as = "number", need = "optional")
    )
  )
  # square, so that only the card tells rows from columns
  expect_identical(got$series, c("a", "a", "b", "b"))
  expect_identical(got$value, c(1, 3, 2, NA))
  expect_identical(got$day, as.Date("2026-03-12") + c(0, 1, 0, 1))
  # fewer labels than rows: the rows without one are rejected
  short <- decoded(
    "{\"days\": [\"2026-03-12\"], \"cells\": [[1], [3]]}",
    rows = "/cells", form = "matrix",
    columns = list(
      day = list(at = "/days", of = "row", as = "day"),
      value = list(of = "value", as = "number")
    )
  )
  expect_identical(short$rejected$row, 2L)
  got <- columns_of(
    paste0(
      "{\"KELDER\": {\"level\": {\"2026-01\": 1.5, \"2026-02\": 2}, ",
      "\"flow\": {\"2026-01\": 7}}, \"TAMM\": {\"level\": {\"2026-01\": 9}}}"
    ),
    rows = "", form = "tree",
    columns = list(
      series = list(at = c("/0", "/1"), joined = "."), period = "/2",
      value = list(of = "value", as = "number")
    )
  )
  expect_identical(
    got$series,
    c("KELDER.level", "KELDER.level", "KELDER.flow", "TAMM.level")
  )
  expect_identical(got$value, c(1.5, 2, 7, 9))
  # an array within is not left out silently
  for (body in c(
    "{\"a\": {\"b\": [1, 2]}, \"c\": 3}", "{\"a\": [{\"b\": 1}]}"
  )) {
    expect_error_kind(
      decoded(
        body, rows = "", form = "tree",
        columns = list(k = "/0", v = list(of = "value", need = "optional"))
      ),
      "payload", "down to single values"
    )
  }
})

test_that("names of members, zone and decimals are read from the answer", {
  got <- columns_of(
    paste0(
      "{\"fields\": [{\"name\": \"at\"}, {\"name\": \"close\"}], ",
      "\"data\": [[\"2026-03-12 09:30\", 412]], ",
      "\"meta\": {\"zone\": \"Asia/Tokyo\", \"decimals\": 1}}"
    ),
    rows = "/data", form = "arrays", names = list(
      at = "/fields", member = "/name"
    ),
    columns = list(
      at = list(
        at = "/at", as = "local", zone = list(at = "/meta/zone", of = "body")
      ),
      close = number(
        "/close",
        scale = list(at = "/meta/decimals", of = "body", as = "decimals")
      ),
      series = list(value = "fixed")
    )
  )
  expect_identical(got$at, as.POSIXct("2026-03-12 00:30", tz = "UTC"))
  expect_identical(got$close, 41.2)
  expect_identical(got$series, "fixed")
  # a zone and decimals of each row
  got <- columns_of(
    paste0(
      "[{\"t\": \"2026-03-12 09:30\", \"z\": \"Europe/Riga\", ",
      "\"d\": 2, \"v\": 412}, ",
      "{\"t\": \"2026-03-12 09:30\", \"z\": \"Asia/Tokyo\", ",
      "\"d\": 0, \"v\": 41}]"
    ),
    rows = "", columns = list(
      t = list(at = "/t", as = "local", zone = list(at = "/z")),
      v = number("/v", scale = list(at = "/d", as = "decimals"))
    )
  )
  expect_identical(
    got$t, as.POSIXct(c("2026-03-12 07:30", "2026-03-12 00:30"), tz = "UTC")
  )
  expect_identical(got$v, c(4.12, 41))
  expect_error_kind(
    decoded(
      "{\"r\": [{\"t\": \"2026-03-12 09:30\"}], \"z\": \"Riga\"}",
      rows = "/r",
      columns = list(
        t = list(at = "/t", as = "local", zone = list(at = "/z", of = "body"))
      )
    ),
    "payload", "time zone \"Riga\""
  )
  expect_error_kind(
    decoded(
      "{\"r\": [{\"v\": 1}]}",
      rows = "/r",
      columns = list(
        v = number("/v", scale = list(at = "/d", of = "body", as = "decimals"))
      )
    ),
    "payload", "no decimals at /d"
  )
  expect_error_kind(
    decoded(
      "{\"f\": [\"a\"], \"r\": [[1, 2]]}",
      rows = "/r", form = "arrays",
      names = "/f", columns = list(a = "/a")
    ),
    "payload", "names 1 member"
  )
})

test_that("dates as day numbers, in calls, and with names of months", {
  read <- function(text, as, ...) {
    body <- as.character(jsonlite::toJSON(data.frame(t = text), digits = NA))
    decoded(
      body,
      rows = "", zone = "Europe/Riga",
      columns = list(t = list(at = "/t", as = as, ...))
    )
  }
  expect_identical(
    read(46093, "day since 1899-12-30")$columns$t, as.Date("2026-03-12")
  )
  expect_identical(
    read("46093.5", "local since 1899-12-30")$columns$t,
    as.POSIXct("2026-03-12 10:00", tz = "UTC")
  )
  expect_identical(
    read(c("-1000000000", "1e9", "46093"), "day since 1899-12-30")$
      rejected$row,
    1:2
  )
  # a part of a day is no day
  expect_identical(
    read(46093.5, "day since 1899-12-30")$rejected$row, 1L
  )
  expect_identical(
    read(
      c("/Date(1773300600000+0200)/", "/Date(1773300600000)/"), "epoch-ms"
    )$columns$t,
    as.POSIXct(rep("2026-03-12 07:30", 2), tz = "UTC")
  )
  expect_identical(
    read(c("Jan 2024", "Sept. 2023", "mars 2024"), "text", written = "%b %Y")
    $columns$t,
    c("2024-01", "2023-09", NA)
  )
  months <- c(
    "janvier", "f\u00e9vrier", "mars", "avril", "mai", "juin", "juillet",
    "ao\u00fbt", "septembre", "octobre", "novembre", "d\u00e9cembre"
  )
  expect_identical(
    read(
      c("ao\u00fbt 2024", "D\u00c9C. 2023", "ju 2024"), "text",
      written = list(as = "%B %Y", months = months)
    )$columns$t,
    c("2024-08", "2023-12", NA)
  )
  expect_identical(
    read(
      "3 avr 2026", "day",
      written = list(as = "%d %b %Y", months = months)
    )$columns$t,
    as.Date("2026-04-03")
  )
  expect_identical(
    read(c("Q3 2024", "Q5 2024"), "text", written = "Q%q %Y")$columns$t,
    c("2024-Q3", NA)
  )
  wrong <- function(message, ...) {
    expect_error_kind(
      source_card(list(
        source = "test", url = "https://a.example.org",
        datasets = list(rows = list(
          shape = "table", request = "/x", rows = "",
          columns = list(t = list(at = "/t", ...))
        ))
      )),
      "card", message
    )
  }
  wrong("twelve", written = list(as = "%b", months = c("a", "b")))
  wrong("does not exist", as = "day since 2026-02-30")
  wrong("cannot be \"week since 2026-02-01\"", as = "week since 2026-02-01")
})

test_that("K, M and B are thousands, millions and billions", {
  expect_identical(
    vetusta:::read_number(
      c("1.2M", "1,234.5K", "$3.4B", "(2k)", "1.1B", "12 bn", "5T", "M")
    ),
    c(1.2e6, 1234500, 3.4e9, -2000, 1.1e9, 1.2e10, NA, NA)
  )
  expect_identical(vetusta:::read_number("1,2M", ","), 1.2e6)
})

test_that("a body lists several ids, and a first cursor is null", {
  url <- start_scripted(function(n, request) {
    sent <- jsonlite::fromJSON(rawToChar(request$rook.input$read()))
    raw <- if (is.null(sent$after)) "null" else sent$after
    rows <- lapply(seq_along(sent$codes), function(i) {
      list(code = sent$codes[i], id = sent$ids[1], after = raw)
    })
    json_answer(c(
      list(items = rows),
      if (is.null(sent$after)) list(after = "c1")
    ))
  }, env = environment())
  card <- write_card(url, c(
    "method: POST", "request: /rows",
    paste0(
      "body: '{\"codes\": [\"{codes}\"], \"ids\": [{ids}], ",
      "\"after\": \"{after}\"}'"
    ),
    "parameters: {codes: {a_request: 2}}",
    "rows: /items", "next_page: {by: cursor, at: /after, send: after}",
    "columns: {code: /code, id: {at: /id, as: number}, after: /after}"
  ))
  got <- collect_rows(
    card,
    codes = c("A\"", "B\\", "C"), ids = c("7", "8")
  )
  expect_setequal(got$rows$code, c("A\"", "B\\", "C"))
  expect_identical(unique(got$rows$id), 7)
  expect_setequal(got$rows$after, c("null", "c1"))
  # two requests for three codes, each with a second page
  expect_identical(sum(got$journal$outcome == "stored"), 4L)
})

test_that("pages are requested by a range of rows in a header", {
  url <- start_scripted(function(n, request) {
    range <- regmatches(
      request$HTTP_RANGE, regexec(
        "^items=([0-9]+)-([0-9]+)$", request$HTTP_RANGE
      )
    )[[1]]
    from <- as.numeric(range[2])
    to <- min(6, as.numeric(range[3]))
    if (from > 6) {
      return(json_answer("", status = 416L))
    }
    json_answer(
      list(items = lapply(from:to, function(i) list(n = i))),
      list("Content-Range" = sprintf("items %d-%d/7", from, to)),
      status = 206L
    )
  }, env = environment())
  for (total in c(", total: {header: Content-Range}", "")) {
    got <- collect_rows(write_card(url, c(
      "request: /rows", "rows: /items", "largest_page: 3",
      paste0("next_page: {by: offset, send: {header: Range}", total, "}"),
      "columns: {n: {at: /n, as: number}}"
    )))
    expect_identical(got$rows$n, as.numeric(0:6))
  }
})
