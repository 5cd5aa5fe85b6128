# A draft from samples is a valid card, and decodes its samples without rejected
# rows.
draft_of <- function(..., env = parent.frame()) {
  files <- vapply(
    list(...),
    function(text) {
      file <- withr::local_tempfile(.local_envir = env)
      if (is.raw(text)) {
        writeBin(text, file)
      } else {
        writeLines(text, file, sep = "")
      }
      file
    },
    ""
  )
  lines <- source_draft(files, "mill")
  path <- withr::local_tempfile(fileext = ".yml", .local_envir = env)
  writeLines(lines, path)
  card <- source_card(path)
  dataset <- card$datasets[[1]]
  read <- lapply(files, function(file) {
    vetusta:::decode_body(dataset, readBin(file, "raw", 1e6), card)
  })
  for (one in read) expect_identical(nrow(one$rejected), 0L)
  list(
    lines = lines,
    dataset = dataset,
    rows = lapply(read, function(one) as.data.frame(one$columns))
  )
}

test_that("rows are found in every form that a card knows", {
  same <- function(rows, close) expect_identical(rows$close, close)
  within <- draft_of(
    paste0(
      '{"result":[{"code":"KELD","unit":"ORV","bars":[{"t":1773300600,',
      '"c":41.2},',
      paste0(
        '{"t":1773300660,"c":41.3}]},{"code":"TAMX","unit":"TSK",',
        '"bars":[{"t":1773300600,', '"c":7}]}]}'
      )
    )
  )
  expect_identical(within$dataset$within, "/bars")
  expect_identical(within$rows[[1]]$symbol, c("KELD", "KELD", "TAMX"))
  same(within$rows[[1]], c(41.2, 41.3, 7))
  map <- draft_of(
    paste0(
      '{"KELD":[{"t":1773300600,"c":41.2},{"t":1773300660,"c":41.3}],',
      '"TAMX":[{"t":1773300600,"c":7.5}]}'
    )
  )
  expect_identical(map$dataset[["form"]], "map")
  same(map$rows[[1]], c(41.2, 41.3, 7.5))
  parallel <- draft_of(
    '{"ok":true,"t":[1773300600,1773300660],"o":[1,null],"c":[41.2,41.3]}'
  )
  expect_identical(parallel$dataset[["form"]], "columns")
  expect_identical(parallel$dataset$columns$open$need, "optional")
  single <- draft_of(
    paste0(
      '{"quote":{"symbol":"KELD","last":{"price":"41.25"},',
      '"when":"2026-03-12T07:30:00Z"}}'
    )
  )
  expect_identical(single$dataset[["form"]], "one")
  expect_identical(single$rows[[1]]$close, 41.25)
  lines <- draft_of(
    paste0(
      '{"at":"2026-03-12T07:30:00Z","c":41.2}\n',
      '{"at":"2026-03-12T07:31:00Z","c":41.3,"note":"x"}\n'
    )
  )
  expect_identical(lines$dataset$format, "json-lines")
  expect_identical(lines$dataset$columns$note$need, "optional")
  arrays <- draft_of("[[1773300600,41.2],[1773300660,41.3]]")
  expect_identical(names(arrays$rows[[1]]), c("time", "close"))
  table <- draft_of("day;last\n2026-03-12;41.2\n2026-03-13;41.3\n")
  expect_identical(table$dataset$shape, "bars")
  same(table$rows[[1]], c(41.2, 41.3))
})

test_that("several samples show what is absent from some of them", {
  drafted <- draft_of(
    '{"items":[{"t":1,"c":2,"note":"x"},{"t":2,"c":3}],"more":"/bars?after=2"}',
    '{"items":[{"t":3,"c":4}]}'
  )
  expect_match(
    drafted$lines,
    "next_page: [{]by: url, at: /more[}] +# absent on the last page",
    all = FALSE
  )
  expect_identical(drafted$dataset$columns$note$need, "optional")
  expect_identical(drafted$dataset$columns$close$need, "required")
  types <- draft_of(
    paste0(
      '[{"a":"2026-03-12","b":"+1.2%","c":true,"d":"2026-03-12 09:30:00",',
      '"e":1773300600000,"f":"12.5","g":"x"}]'
    )
  )$dataset$columns
  expect_identical(
    unname(vapply(types, `[[`, "", "as"))[1:7],
    c("day", "percent", "flag", "local", "epoch-ms", "number", "text")
  )
})

test_that("samples that are packed, marked or damaged", {
  file <- withr::local_tempfile()
  connection <- gzfile(file, "wb")
  writeLines(
    '{"items":[{"t":1773300600,"c":41.2},{"t":1773300660,"c":41.3}]}',
    connection
  )
  close(connection)
  expect_identical(
    draft_of(readBin(file, "raw", 1e5))$rows[[1]]$close, c(41.2, 41.3)
  )
  expect_identical(
    draft_of(
      c(as.raw(c(0xef, 0xbb, 0xbf)), charToRaw('[{"t":1773300600,"c":41.2}]'))
    )$rows[[1]]$close,
    41.2
  )
  expect_error_kind(draft_of('{"items":[{"t":1}'), "draft", "not valid JSON")
  expect_error_kind(draft_of("just words"), "draft", "neither JSON nor a table")
  expect_error_kind(draft_of('{"items":[]}'), "draft", "No rows")
  expect_error_kind(
    draft_of('[{"t":1}]', "a,b\n1,2\n"), "draft", "several formats"
  )
  expect_error_kind(
    source_draft(file.path(tempdir(), "none.json")), "draft", "no such sample"
  )
})

test_that("rows in arrays within objects and in maps, and maps of pairs", {
  nested <- draft_of(
    paste0(
      '{"all":[{"code":"KELD","bars":[[1773300600,41.2],[1773300660,41.3]]},',
      '{"code":"TAMX","bars":[[1773300600,7.5]]}]}'
    )
  )
  expect_identical(nested$dataset$within, list(at = "/bars", form = "arrays"))
  expect_identical(nested$rows[[1]]$symbol, c("KELD", "KELD", "TAMX"))
  map <- draft_of(
    '{"KELD":[[1773300600,41.2],[1773300660,41.3]],"TAMX":[[1773300600,7.5]]}'
  )
  expect_identical(map$dataset$within, list(at = "", form = "arrays"))
  expect_true(any(map$rows[[1]][[1]] == "TAMX"))
  pairs <- draft_of('{"base":"ORV","rates":{"TSK":3.42,"MIR":0.87,"LUD":12.5}}')
  expect_identical(pairs$dataset[["form"]], "pairs")
  expect_identical(
    unname(unlist(pairs$rows[[1]]["value"])), c(3.42, 0.87, 12.5)
  )
  folded <- draft_of(
    paste0(
      '{"rates":{"2026-03-12":{"TSK":3.42,"MIR":0.87},',
      '"2026-03-13":{"TSK":3.43,"MIR":0.88}}}'
    )
  )
  expect_identical(folded$dataset$within, list(at = "", form = "pairs"))
  expect_identical(nrow(folded$rows[[1]]), 4L)
  expect_true(
    any(
      vapply(
        folded$dataset$columns, function(rule) identical(rule$as, "day"), TRUE
      )
    )
  )
})

test_that("tables with semicolons, decimal commas and in another encoding", {
  table <- draft_of(
    iconv(
      "Tag;Schlu\u00df;Menge\n12.03.2026;1.041,20;5\n13.03.2026;41,30;6\n",
      "UTF-8", "latin1",
      toRaw = TRUE
    )[[1]]
  )
  expect_match(table$lines, "encoding: latin1.*# \\?", all = FALSE)
  expect_match(table$lines, "separator: \";\"", all = FALSE)
  expect_identical(table$rows[[1]][[2]], c(1041.2, 41.3))
})

test_that("members are instants where both their names and their values are", {
  at <- function(name, value) {
    drafted <- draft_of(
      sprintf('[{"%s":%s,"c":1},{"%s":%s,"c":2}]', name, value, name, value)
    )
    drafted$dataset$columns[[1]]$as
  }
  for (name in c("ts", "epoch", "when", "updated_at", "tradeTime")) {
    expect_identical(at(name, "1773300600000"), "epoch-ms", label = name)
  }
  expect_identical(at("volume", "1773300600"), "number")
  expect_identical(at("ts", "17"), "number")
  expect_identical(
    names(draft_of('[{"ts":17,"c":1},{"ts":18,"c":2}]')$dataset$columns)[1],
    "ts"
  )
})

test_that("an error is never drafted as rows", {
  for (text in c(
    '{"error":{"code":401,"message":"no key"}}',
    '{"errors":[{"code":1,"message":"no key"},{"code":2,"message":"no plan"}]}',
    '{"status":"error","message":"no key"}', '{"ok":false,"reason":"no key"}',
    '{"type":"about:blank","title":"no key","status":403}'
  )) {
    expect_error_kind(draft_of(text), "draft", "error of the service: .*no key")
  }
  expect_error_kind(
    draft_of("<html><body>no key</body></html>"), "draft", "web page"
  )
  good <- draft_of(
    '{"error":null,"items":[{"t":1773300600,"c":1},{"t":1773300660,"c":2}]}'
  )
  expect_identical(good$dataset$rows, "/items")
})

test_that("a draft from one request, with access and window", {
  url <- start_scripted(function(n, request) {
    if (!identical(asked(request, "key"), "a secret/of mine") &&
      !identical(request$HTTP_X_MILL, "Mill a secret/of mine")) {
      return(
        json_answer(
          list(error = "no key", got = "a secret/of mine"),
          status = 401L
        )
      )
    }
    json_answer(
      list(
        items = list(list(t = 1773300600, c = 1), list(t = 1773300660, c = 2))
      )
    )
  })
  withr::local_envvar(MILL_KEY = "a secret/of mine")
  whole <- paste0(url, "/v1/bars/KELD?since=2026-03-12&size=5&key={MILL_KEY}")
  lines <- collect_draft(whole, name = "mill")
  expect_false(any(grepl("of mine|of%20mine", lines)))
  path <- withr::local_tempfile(fileext = ".yml")
  writeLines(sub("/KELD", "/{symbol}", lines), path)
  card <- source_card(path)
  expect_identical(
    card$access[c("by", "name", "secret")],
    list(by = "query", name = "key", secret = "MILL_KEY")
  )
  got <- collect_bars(card, "KELD", "1 minute", "2026-03-12", "2026-03-13")
  expect_identical(got$bars$close, c(1, 2))
  expect_match(got$journal$url, "/v1/bars/KELD[?]size=5&since=2026-03-12$")
  header <- collect_draft(
    paste0(url, "/bars"), c("X-Mill" = "Mill {MILL_KEY}"), "mill"
  )
  expect_match(
    header, "by: header, name: X-Mill, prefix: \"Mill \", secret: MILL_KEY",
    fixed = TRUE, all = FALSE
  )
  refused <- expect_error_kind(
    collect_draft(paste0(url, "/bars")), "draft", "HTTP 401"
  )
  expect_error_kind(
    collect_draft("ftp://x.example.org/a"), "draft", "not an http"
  )
  expect_error_kind(
    collect_draft(paste0(url, "/bars?k={MILL_WORD}")), "secret", "MILL_WORD"
  )
  expect_error_kind(
    collect_draft("http://data.example.org/a?k={MILL_KEY}"), "draft", "https"
  )
  told <- run_vetusta(
    "sources",
    "draft",
    "--url",
    whole,
    env = c(MILL_KEY = "a secret/of mine")
  )
  expect_identical(told$status, 0L)
  expect_match(told$stdout, "secret: MILL_KEY", fixed = TRUE)
  wrong <- run_vetusta("sources", "draft", "--url", whole, "--sample", "x.json")
  expect_identical(wrong$status, 2L)
})

test_that("maps by time, sides, arrays at different depths and JSON-stat", {
  by_time <- draft_of(
    paste0(
      '{"meta":{"n":2},"series":{"2026-03-12":{"open":"41.0","close":"41.2"},',
      '"2026-03-13":{"open":"41.2","close":"41.3"}}}'
    )
  )
  expect_identical(by_time$dataset$shape, "bars")
  expect_identical(by_time$rows[[1]]$close, c(41.2, 41.3))
  expect_identical(
    as.Date(by_time$rows[[1]]$time), as.Date(c("2026-03-12", "2026-03-13"))
  )
  numbers <- draft_of('{"2026-03-12":41.2,"2026-03-13":41.3}')
  expect_identical(numbers$rows[[1]]$close, c(41.2, 41.3))
  both <- draft_of(
    paste0(
      '{"KELD":{"2026-03-12":{"c":41.2},"2026-03-13":{"c":41.3}},',
      '"TAMX":{"2026-03-12":{"c":7.5}}}'
    )
  )
  expect_identical(both$rows[[1]]$symbol, c("KELD", "KELD", "TAMX"))
  expect_identical(both$rows[[1]]$close, c(41.2, 41.3, 7.5))
  depths <- draft_of(
    paste0(
      '{"out":{"result":[{"about":{"code":"KELD"},"stamp":[1773300600,',
      '1773300660],"data":{"price":[{"close":[41.2,41.3]}],"lots":{"volume":',
      "[5,6]}}}]}}"
    )
  )
  expect_identical(depths$rows[[1]]$symbol, c("KELD", "KELD"))
  expect_identical(depths$rows[[1]]$volume, c(5, 6))
  sides <- draft_of(
    paste0(
      '{"candles":[{"time":"2026-03-12T07:30:00Z","bid":{"o":"1.0","c":"1.1"},',
      '"ask":{"o":"1.2","c":"1.3"},"volume":5}]}'
    )
  )
  expect_identical(sides$rows[[1]]$side, c("bid", "ask"))
  expect_identical(sides$rows[[1]]$close, c(1.1, 1.3))
  stat <- draft_of(
    paste0(
      '{"version":"2.0","class":"dataset","id":["STATE","UNIT","TIME"],',
      '"size":[2,1,2],"role":{"time":["TIME"]},"dimension":{"STATE":',
      '{"category":{"index":["ORV","TSK"]}},"UNIT":{"category":{"index":',
      '["T"]}},"TIME":{"category":{"index":["2024","2025"]}}},',
      '"value":[1,2,3,null]}'
    )
  )
  expect_identical(stat$dataset$format, "json-stat")
  expect_identical(
    stat$rows[[1]]$series, c("ORV.T", "ORV.T", "TSK.T", "TSK.T")
  )
  expect_identical(stat$rows[[1]]$value, c(1, 2, 3, NA))
})

test_that("text tables with lines above, remarks, commas and other dates", {
  table <- draft_of(
    paste0(
      "\ufeffThe mill\n# provisional\nDatum;Schluss;Menge\n",
      "12.03.2026;41,20;1.250\n# a remark\n13.03.2026;41,30;980\n"
    )
  )
  expect_identical(table$rows[[1]]$close, c(41.2, 41.3))
  expect_identical(table$rows[[1]]$menge, c(1250, 980))
  expect_identical(
    as.Date(table$rows[[1]]$time), as.Date(c("2026-03-12", "2026-03-13"))
  )
  expect_match(table$lines, "remark: \"#\"", all = FALSE, fixed = TRUE)
  unsure <- draft_of("day,price\n03/04/2026,41.2\n04/04/2026,41.3\n")
  expect_match(unsure$lines, "the day or the month first", all = FALSE)
  expect_identical(as.Date(unsure$rows[[1]]$time[1]), as.Date("2026-04-03"))
  packed <- draft_of("day|last\n20260312|41.2\n20260313|41.3\n")
  expect_identical(
    as.Date(packed$rows[[1]]$time), as.Date(c("2026-03-12", "2026-03-13"))
  )
  marks <- draft_of('[{"day":"2026-03-12","close":"64,243"}]')
  expect_match(marks$lines, "comma of thousands, or decimal", all = FALSE)
})

test_that("the symbol of the URL becomes {symbol}", {
  url <- start_scripted(function(n, request) {
    json_answer(
      list(
        code = "KELD",
        items = list(list(t = 1773300600, c = 1), list(t = 1773300660, c = 2))
      )
    )
  })
  draft <- function(...) collect_draft(paste0(url, ...), name = "mill")
  expect_match(draft("/bars/KELD/d1"), "request: /bars/{symbol}/d1$",
    all = FALSE, perl = TRUE
  )
  expect_match(
    draft("/bars/keld.json"), "request: /bars/{symbol}.json",
    all = FALSE, fixed = TRUE
  )
  lines <- draft("/bars?of=KELD&size=5")
  expect_match(lines, "/bars?size=5{&of}", all = FALSE, fixed = TRUE)
  expect_match(lines, "of: {gives: symbol}", all = FALSE, fixed = TRUE)
  given <- collect_draft(
    paste0(url, "/bars/ASH"),
    name = "mill", symbol = "ASH"
  )
  expect_match(given, "request: /bars/{symbol}", all = FALSE, fixed = TRUE)
  expect_match(draft("/bars/OTHER"), "put [{]symbol[}]", all = FALSE)
})

# The card of a sample's text, and the rows that it reads from it.
draft_of <- function(text, ext = ".json", env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ext, .local_envir = env)
  if (is.raw(text)) writeBin(text, file) else writeLines(text, file)
  lines <- source_draft(file, "mill")
  card <- source_card(lines)
  list(
    lines = lines,
    rows = as.data.frame(vetusta:::decode_body(
      card$datasets[[1]], readBin(file, "raw", 1e6), card
    )$columns)
  )
}
weekdays_of_march <- function() {
  days <- as.Date("2026-03-02") + 0:18
  days[!as.POSIXlt(days)$wday %in% c(0, 6)]
}

test_that("XML, workbooks and names elsewhere are drafted", {
  days <- weekdays_of_march()
  n <- length(days)
  xml <- draft_of(paste0(
    "<list>",
    paste0(
      "<q day=\"", days, "\"><last>", 40 + seq_len(n) / 10, "</last></q>",
      collapse = ""
    ),
    "</list>"
  ), ".xml")
  expect_identical(xml$rows$close, 40 + seq_len(n) / 10)
  expect_identical(as.Date(xml$rows$time), days)
  expect_match(xml$lines, "^calendar: weekdays", all = FALSE)
  expect_match(xml$lines, "cookbook answers-xml", all = FALSE)
  named <- draft_of(as.character(jsonlite::toJSON(list(
    fields = data.frame(name = c("day", "close", "vol")),
    data = Map(
      list, as.character(days), 41, paste0(seq_len(n), ".5M"),
      USE.NAMES = FALSE
    )
  ), auto_unbox = TRUE)))
  expect_identical(named$rows$volume, (seq_len(n) + 0.5) * 1e6)
  expect_match(named$lines, "names: {at: /fields, member: /name}",
    fixed = TRUE, all = FALSE
  )
  skip_if_not_installed("openxlsx2")
  file <- withr::local_tempfile(fileext = ".xlsx")
  book <- openxlsx2::wb_workbook()
  book$add_worksheet("Notes")
  book$add_worksheet("Days")
  book$add_data("Days", "The mill", col_names = FALSE)
  book$add_data("Days", data.frame(Day = days, Last = 41.5), start_row = 2)
  book$save(file)
  sheet <- draft_of(readBin(file, "raw", 1e6), ".xlsx")
  expect_identical(sheet$rows$close, rep(41.5, n))
  expect_match(sheet$lines, "sheet: \"Days\", skip: 1", all = FALSE)
})

test_that("a draft says what a second sample would settle", {
  open <- draft_of(c("Date;Last", paste0("0", 1:5, "/04/2026;41,50")), ".csv")
  expect_match(open$lines, "second sample.*order of day and month", all = FALSE)
  settled <- draft_of(c("Date;Last", paste0(13:17, "/04/2026;41,50")), ".csv")
  expect_false(any(grepl("second sample", settled$lines)))
  # a Saturday among the times, and too few days, are no week of a market
  saturday <- draft_of(
    c("Day,Last", paste0(as.Date("2026-03-01") + 0:14, ",1")), ".csv"
  )
  few <- draft_of(
    c("Day,Last", paste0(as.Date("2026-03-02") + 0:4, ",1")), ".csv"
  )
  expect_false(any(grepl("weekdays", c(saturday$lines, few$lines))))
})

test_that("the shipped week takes the zone of its source", {
  card <- source_card(list(
    source = "mill", url = "https://a.example.org", zone = "Asia/Tokyo",
    calendar = "weekdays"
  ))
  expect_identical(source_calendar(card)$zone, "Asia/Tokyo")
  expect_identical(source_calendar("weekdays")$zone, "UTC")
})

test_that("days with one number that is no price are a statistic", {
  level <- draft_of(paste0(
    "{\"rows\": [{\"day\": \"2026-03-12\", \"level\": 250.1}, ",
    "{\"day\": \"2026-03-13\", \"level\": 251}]}"
  ))
  expect_match(level$lines, "shape: observations", all = FALSE)
  expect_identical(level$rows$series, c("level", "level"))
  expect_identical(level$rows$value, c(250.1, 251))
  # a symbol names the series, and a price stays a bar
  named <- draft_of(paste0(
    "[{\"code\": \"K\", \"day\": \"2026-03-12\", \"value\": 1}, ",
    "{\"code\": \"T\", \"day\": \"2026-03-12\", \"value\": 2}]"
  ))
  expect_identical(named$rows$series, c("K", "T"))
  price <- draft_of("[{\"day\": \"2026-03-12\", \"last\": 1}]")
  expect_match(price$lines, "shape: bars", all = FALSE)
})
