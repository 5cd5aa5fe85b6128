# Samples of many services: a draft as it stands decodes each of them exactly.
read_as_drafted <- function(..., symbol = "KELD", env = parent.frame()) {
  files <- vapply(list(...), function(text) {
    file <- withr::local_tempfile(.local_envir = env)
    writeBin(if (is.raw(text)) text else charToRaw(text), file)
    file
  }, "")
  lines <- source_draft(files, "mill")
  card <- withr::local_tempfile(fileext = ".yml", .local_envir = env)
  writeLines(lines, card, useBytes = TRUE)
  source <- source_card(card)
  read <- vetusta:::decode_body(
    source$datasets[[1]], readBin(files[1], "raw", 1e6), source,
    list(symbol = symbol)
  )
  expect_identical(nrow(read$rejected), 0L)
  list(
    rows = read$columns, shape = source$datasets[[1]]$shape, lines = lines
  )
}

utc <- function(text) as.POSIXct(text, tz = "UTC")

test_that("bars whose members have other names, or none", {
  numbered <- read_as_drafted(paste0(
    '{"days":{"2026-03-12":{"1. open":"41.20","2. high":"41.90",',
    '"3. low":"41.00","4. close":"41.50","5. volume":"1200"},',
    '"2026-03-11":{"1. open":"40.80","2. high":"41.30",',
    '"3. low":"40.70","4. close":"41.20","5. volume":"980"}}}'
  ))
  expect_identical(numbered$rows$close, c(41.5, 41.2))
  expect_identical(numbered$rows$volume, c(1200, 980))
  # positions: open, high, low and close by their sizes, and a second instant
  placed <- read_as_drafted(paste0(
    '[[1773300600000,"41.20","41.90","41.00","41.50","120.5",1773300659999],',
    '[1773300660000,"41.50","41.60","41.40","41.55","60.5",1773300719999]]'
  ))
  expect_identical(placed$rows$high, c(41.9, 41.6))
  expect_identical(placed$rows$close, c(41.5, 41.55))
  expect_identical(placed$rows$volume, c(120.5, 60.5))
  expect_s3_class(placed$rows$column_6, "POSIXct")
  shuffled <- read_as_drafted(
    "[[1773300600,41.20,41.50,41.90,41.00],[1773300660,41.50,41.55,41.60,41.4]]"
  )
  expect_identical(shuffled$rows$high, c(41.9, 41.6))
  expect_identical(shuffled$rows$close, c(41.5, 41.55))
  # one row, or sizes that no order explains, stay without names
  expect_false("close" %in% names(read_as_drafted(
    "[[1773300600,41.2,41.9,41.0,41.5]]"
  )$rows))
  german <- read_as_drafted(
    "Datum;Er\u00f6ffnung;Schluss;Umsatz\n12.03.2026;41,00;41,20;1.250\n"
  )
  expect_identical(german$rows$open, 41)
  expect_identical(german$rows$close, 41.2)
  expect_identical(german$rows$volume, 1250)
  months <- read_as_drafted(paste0(
    '{"rows":[{"Date":"Mar 12, 2026","Price":"41.20","Vol.":"1.20M"},',
    '{"Date":"Mar 13, 2026","Price":"41.35","Vol.":"980.5K"}]}'
  ))
  expect_identical(months$rows$time, as.Date(c("2026-03-12", "2026-03-13")))
  expect_identical(months$rows$volume, c(1200000, 980500))
})

test_that("bars by symbol as columns, prices beside volumes, open bars", {
  columns <- read_as_drafted(paste0(
    '{"KELD":{"t":[1773300600,1773300660],"c":[41.2,41.3]},',
    '"TAMX":{"t":[1773300600,1773300660],"c":[7.2,7.3]}}'
  ))
  expect_identical(columns$rows$symbol, rep(c("KELD", "TAMX"), each = 2))
  expect_identical(columns$rows$close, c(41.2, 41.3, 7.2, 7.3))
  beside <- read_as_drafted(paste0(
    '{"prices":[[1773300600000,41.2],[1773304200000,41.3]],',
    '"volumes":[[1773300600000,1200],[1773304200000,900]]}'
  ))
  expect_identical(beside$rows$close, c(41.2, 41.3))
  final <- read_as_drafted(paste0(
    '[{"complete":true,"time":"2026-03-12T07:30:00Z","close":41.2},',
    '{"complete":false,"time":"2026-03-12T07:31:00Z","close":41.3}]'
  ))
  expect_identical(final$rows$status, c("observed", "provisional"))
  call <- read_as_drafted(
    'took({"series":[{"day":"2026-03-12","last":41.2}]});'
  )
  expect_identical(call$rows$close, 41.2)
})

test_that("statistics with marks, codes, periods and labels", {
  marked <- read_as_drafted(paste0(
    '{"rows":[{"date":"2026-01-01","value":"4.1"},',
    '{"date":"2026-02-01","value":"."}]}'
  ))
  expect_identical(marked$rows$value, c(4.1, NA))
  # a head and rows in one array; two codes; a member "value" of another kind
  pair <- read_as_drafted(paste0(
    '[{"page":1,"pages":2},[{"indicator":{"id":"GRN","value":"Grain"},',
    '"country":{"id":"ORV","value":"Orvale"},"date":"2025","value":12.5},',
    '{"indicator":{"id":"GRN","value":"Grain"},',
    '"country":{"id":"ORV","value":"Orvale"},"date":"2024","value":null}]]'
  ))
  expect_identical(pair$rows$series, rep("GRN.ORV", 2))
  expect_identical(pair$rows$period, c("2025", "2024"))
  expect_identical(pair$rows$value, c(12.5, NA))
  expect_match(pair$lines, "pages: /0/pages", all = FALSE)
  deep <- read_as_drafted(paste0(
    '{"out":{"lists":[{"listId":"GRN1","rows":[{"year":"2025","period":"M02",',
    '"value":"101.9"},{"year":"2025","period":"M01","value":"101.2"}]}]}}'
  ))
  expect_identical(deep$rows$period, c("2025-M02", "2025-M01"))
  numbers <- read_as_drafted(
    '[{"year":2025,"month":2,"value":1},{"year":2025,"month":11,"value":2}]'
  )
  expect_identical(numbers$rows$period, c("2025-02", "2025-11"))
  hours <- read_as_drafted(paste0(
    '{"out":[{"about":{"site":"77"},"parts":[{"rows":[',
    '{"at":"2026-03-12T07:00:00Z","level":"250.1"},',
    '{"at":"2026-03-12T07:15:00Z","level":"251.0"}]}]}]}'
  ))
  expect_identical(hours$rows$value, c(250.1, 251))
  years <- read_as_drafted(
    '{"unit":"t","values":{"2023":11,"2024":12,"2025":9}}'
  )
  expect_identical(years$rows$period, c("2023", "2024", "2025"))
  regions <- read_as_drafted(paste0(
    '[{"area":"Orvale","areaCode":"ORV","day":"2026-03-12","load":812.5},',
    '{"area":"Tasken","areaCode":"TSK","day":"2026-03-12","load":400.1}]'
  ))
  expect_identical(regions$shape, "observations")
  expect_identical(regions$rows$series, c("ORV", "TSK"))
  xml <- read_as_drafted(paste0(
    '<list station="77"><row><when>2026-03-12T07:00:00+02:00</when>',
    '<level unit="cm">250.1</level></row><row>',
    '<when>2026-03-12T08:00:00+02:00</when><level unit="cm">251</level>',
    "</row></list>"
  ))
  expect_identical(xml$shape, "observations")
  expect_identical(xml$rows$value, c(250.1, 251))
})

test_that("labels in lists of their own", {
  chart <- read_as_drafted(paste0(
    '{"quarters":["2025-Q1","2025-Q2"],"series":[',
    '{"code":"ORV","values":[12.5,12.9]},{"code":"TSK","values":[9.8,null]}]}'
  ))
  expect_identical(chart$rows$period, rep(c("2025-Q1", "2025-Q2"), 2))
  expect_identical(chart$rows$series, rep(c("ORV", "TSK"), each = 2))
  expect_identical(chart$rows$value, c(12.5, 12.9, 9.8, NA))
  matrix <- read_as_drafted(paste0(
    '{"days":["2026-03-12","2026-03-13","2026-03-16"],',
    '"codes":["KELD","TAMX"],"cells":[[41.2,7.2],[41.3,7.3],[41.1,7.1]]}'
  ))
  expect_identical(
    sort(unlist(matrix$rows[["value"]] %||% matrix$rows$close)),
    c(7.1, 7.2, 7.3, 41.1, 41.2, 41.3)
  )
})

test_that("wide tables, blanks after commas, and local times", {
  wide <- read_as_drafted(
    "Date,KELD,TAMX\n2026-03-12,41.20,7.50\n2026-03-13,41.30,\n"
  )
  expect_identical(wide$rows$symbol, c("KELD", "KELD", "TAMX"))
  expect_identical(wide$rows$close, c(41.2, 41.3, 7.5))
  years <- read_as_drafted(paste0(
    "Country Name,Country Code,Item,2024,2025\n",
    "Orvale,ORV,Grain,12.5,\nTasken,TSK,Grain,9.8,10.1\n"
  ))
  expect_identical(years$rows$series, paste0(c("ORV", "TSK", "TSK"), ".Grain"))
  expect_identical(years$rows$period, c("2024", "2024", "2025"))
  blanks <- read_as_drafted(paste0(
    "time, level, status\n2026-03-12 07:00:00, 250.1, ok\n",
    "2026-03-12 07:15:00, 251.0, ok\n"
  ))
  expect_identical(blanks$rows$value, c(250.1, 251))
  # names that contain a separator are quoted
  quoted <- vetusta:::decode_table(
    charToRaw("\"a, b\", c\n1, \"x, y\"\n"), "csv", "here"
  )
  expect_identical(names(quoted), c("a, b", "c"))
  local <- read_as_drafted(iconv(
    "Tag\tPegel (cm)\tG\u00fcte\n12.03.2026 07:00\t250,1\tA\n",
    "UTF-8", "latin1"
  ))
  expect_identical(local$rows$value, 250.1)
  expect_identical(local$rows$period, utc("2026-03-12 07:00"))
})

test_that("dividends and splits are actions", {
  paid <- read_as_drafted(paste0(
    '{"symbol":"KELD","rows":[{"date":"2026-03-02","dividend":0.25,',
    '"paymentDate":"2026-03-20"},{"date":"2025-12-01","dividend":0.2,',
    '"paymentDate":"2025-12-20"}]}'
  ))
  expect_identical(paid$shape, "actions")
  expect_identical(paid$rows$amount, c(0.25, 0.2))
  expect_identical(paid$rows$symbol, c("KELD", "KELD"))
  expect_identical(paid$rows$kind, rep("cash-dividend", 2))
  expect_identical(paid$rows$ex_day, as.Date(c("2026-03-02", "2025-12-01")))
  split <- read_as_drafted(
    '[{"code":"KELD","day":"2026-03-02","splitRatio":2}]'
  )
  expect_identical(split$rows$ratio, 2)
  expect_identical(split$rows$symbol, "KELD")
})

test_that("a draft needs a name that a card may have", {
  file <- withr::local_tempfile(lines = '[{"day":"2026-03-12","last":1}]')
  expect_error_kind(source_draft(file, "Bad Name"), "draft", "Bad Name")
})

test_that("a head of numbers is no row, and a parameter names a series", {
  paged <- read_as_drafted(paste0(
    '{"meta":{"offset":0,"limit":2,"total":5},"items":[',
    '{"day":"2026-03-12","settle":41.2},{"day":"2026-03-13","settle":41.3}]}'
  ))
  expect_identical(paged$rows$close, c(41.2, 41.3))
  measured <- read_as_drafted(paste0(
    '{"series":[{"parameter":"level","points":[',
    '{"ts":"2026-03-12T07:00:00Z","v":250.1},',
    '{"ts":"2026-03-12T08:00:00Z","v":251}]},{"parameter":"flow","points":[',
    '{"ts":"2026-03-12T07:00:00Z","v":812},',
    '{"ts":"2026-03-12T08:00:00Z","v":815}]}]}'
  ))
  expect_identical(measured$rows$series, rep(c("level", "flow"), each = 2))
  expect_identical(measured$rows$value, c(250.1, 251, 812, 815))
})
