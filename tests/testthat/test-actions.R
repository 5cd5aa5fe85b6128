# Attributes, actions and measures of statistics, by messages written from the
# standard.

dims <- c("FREQ", "GEO")
read <- function(text, known = NULL, measures = "OBS_VALUE") {
  message <- vetusta:::decode_sdmx(charToRaw(text), dims, "here", measures)
  tidy <- vetusta:::tidy_message(message, dims, known)
  list(message = message, tidy = tidy)
}

test_that("an attribute is said of a series only where all its values agree", {
  known <- data.frame(id = c("OBS_STATUS", "NOTE"), level = "series")
  text <- paste0(
    "DATAFLOW,FREQ,GEO,TIME_PERIOD,OBS_VALUE,OBS_STATUS,NOTE,TITLE\n",
    "D,A,X,2019,1,A,n,t\nD,A,X,2020,2,P,m,t\nD,A,Y,2019,3,A,n,t\nD,A,",
    "Y,2020,4,A,n,t\n"
  )
  known <- rbind(known, data.frame(id = "TITLE", level = "series"))
  got <- read(text, known)$tidy
  expect_identical(
    got$rows$status, c("observed", "provisional", "observed", "observed")
  )
  expect_identical(got$series$NOTE, c(NA, "n"))
  expect_identical(got$series$TITLE, c("t", "t"))
  expect_match(got$rows$words[1], "\"NOTE\":\"n\"")
  expect_match(got$rows$words[2], "\"NOTE\":\"m\".*\"OBS_STATUS\":\"P\"")
  expect_no_match(got$rows$words[3], "NOTE")
})

json2 <- function(sets, attributes = "", measures = "{\"id\":\"OBS_VALUE\"}") {
  paste0(
    "{\"data\":{\"dataSets\":[", sets,
    "],\"structures\":[{\"dimensions\":{\"series\":[",
    "{\"id\":\"FREQ\",\"values\":[{\"id\":\"A\"}]},{\"id\":\"GEO\",",
    "\"values\":[{\"id\":\"X\"},",
    "{\"id\":\"Y\"}]}],\"observation\":[{\"id\":\"TIME_PERIOD\",",
    "\"values\":[{\"value\":\"2019\"},",
    "{\"value\":\"2020\"}]}]},\"measures\":{\"observation\":[", measures,
    "]},\"attributes\":{", attributes, "}}]}}"
  )
}

test_that("groups with a time belong to observations, null removes nothing", {
  got <- read(
    json2(
      paste0(
        "{\"series\":{\"0:0\":{\"observations\":{\"0\":[1],\"1\":[2]}},",
        "\"0:1\":{\"observations\":{\"0\":[3],\"1\":[4]}}},",
        "\"dimensionGroupAttributes\":{",
        "\":0:1\":[\"late\"],\":1:\":[null,\"first\"],\"0:1:\":[null,null]}}"
      ),
      paste0(
        "\"dimensionGroup\":[{\"id\":\"NOTE\"},{\"id\":\"TEXT\"}],",
        "\"observation\":[]"
      )
    )
  )$tidy
  expect_identical(got$rows$value, c(1, 2, 3, 4))
  expect_identical(got$rows$words, c(NA, "{\"NOTE\":\"late\"}", NA, NA))
  expect_identical(got$series$TEXT, c(NA, "first"))
})

test_that("an attribute of several values keeps them all", {
  got <- read(
    json2(
      "{\"series\":{\"0:0\":{\"observations\":{\"0\":[1,[\"a\",\"b\"]]}}}}",
      "\"observation\":[{\"id\":\"NOTE\"}]"
    )
  )$tidy
  expect_identical(got$rows$words, "{\"NOTE\":\"a, b\"}")
})

test_that("several measures are separate series, in every format", {
  several <- c("PRICE", "QTY")
  got <- read(
    json2(
      paste0(
        "{\"series\":{\"0:0\":{\"observations\":{\"0\":[1,10,0],\"1\":[2,",
        "null,1]}}}}"
      ),
      paste0(
        "\"observation\":[{\"id\":\"OBS_STATUS\",",
        "\"values\":[{\"id\":\"A\"},{\"id\":\"P\"}]}]"
      ),
      "{\"id\":\"PRICE\"},{\"id\":\"QTY\"}"
    ),
    measures = several
  )
  series <- got$tidy$series
  expect_identical(series$MEASURE, several)
  expect_identical(got$tidy$rows$value, c(1, 2, 10))
  expect_identical(
    got$tidy$rows$status, c("observed", "provisional", "observed")
  )
  csv <- paste0(
    "STRUCTURE,FREQ,GEO,TIME_PERIOD,PRICE,QTY\nD,A,X,2019,1,10\nD,A,X,",
    "2020,2,\n"
  )
  expect_identical(read(csv, measures = several)$tidy$rows$value, c(1, 2, 10))
  xml <- function(values) {
    paste0(
      "<m:StructureSpecificData xmlns:m=\"urn:m\"><m:DataSet>",
      "<Series FREQ=\"A\" GEO=\"X\">", values,
      "</Series></m:DataSet></m:StructureSpecificData>"
    )
  }
  got <- read(
    xml("<Obs TIME_PERIOD=\"2019\" PRICE=\"1\" QTY=\"10\"/>"),
    measures = several
  )
  expect_identical(got$tidy$rows$value, c(1, 10))
  expect_identical(
    read(
      xml("<Obs TIME_PERIOD=\"2019\" PRICE=\"7\" N=\"x\"/>"), measures = "PRICE"
    )$tidy$rows$value,
    7
  )
  csv <- "STRUCTURE,FREQ,GEO,TIME_PERIOD,PRICE\nD,A,X,2019,7\n"
  expect_identical(read(csv, measures = "PRICE")$tidy$rows$value, 7)
})

test_that("heads with labels of any kind are read", {
  got <- read(
    paste0(
      "DATAFLOW,FREQ:Frequency,\"GEO: Area, or ",
      "place\",TIME_PERIOD:Time,OBS_VALUE\n",
      "D,A:Annual,\"X: Ys, el\",2019,5\n"
    )
  )
  expect_identical(
    c(got$message$series$FREQ, got$message$series$GEO), c("A", "X")
  )
  expect_identical(got$tidy$rows$value, 5)
})

# A page of a message merged with the stored series; `count` is the service's
# number of values.
apply_message <- function(archive, text, count = NULL) {
  about <- list(
    id = "F",
    flow = list(agency = "X", id = "F", version = "1"),
    dimensions = data.frame(
      id = c(dims, "TIME_PERIOD"),
      role = c("dimension", "dimension", "time")
    ),
    codes = list(),
    attributes = data.frame(id = character(), level = character()),
    measures = "OBS_VALUE"
  )
  source <- source_card("basin")
  source$sdmx$updates <- FALSE
  query <- vetusta:::new_query(
    "observations",
    source = source,
    dataset = vetusta:::dataflow_named("F"),
    about = about,
    selection = list(),
    window = list(),
    query = list(),
    symbols = character(),
    notes = NULL
  )
  run <- vetusta:::run_make(query, vetusta:::archive_sink(archive, query))
  chain <- vetusta:::query_chain(
    query,
    data.frame(
      symbol = "F",
      label = "F",
      keys = I(list(list(selection = list(), count = count)))
    ),
    run$sink$noted
  )
  vetusta:::collect_good(
    run, vetusta:::queue_make(NULL), vetusta:::tally_make(), chain,
    list(
      status = 200L, headers = list(), body = charToRaw(text), url = "x",
      seconds = 0
    )
  )
}
stored <- function(archive) {
  rows <- vetusta:::store_read(archive, vetusta:::store_series(archive)$id)
  rows$columns[c("value", "status", "words")]
}
csv2 <- function(...) {
  paste0(
    "STRUCTURE,STRUCTURE_ID,ACTION,FREQ,GEO,TIME_PERIOD,OBS_VALUE,NOTE\n",
    paste0("dataflow,X:F(1),", c(...), "\n", collapse = "")
  )
}

test_that("a merge changes only what the message holds", {
  archive <- new_archive()
  apply_message(archive, csv2("I,A,X,2019,1,a", "I,A,X,2020,2,b"))
  apply_message(archive, csv2("M,A,X,2019,,c", "M,A,X,2020,5,"))
  got <- stored(archive)
  expect_identical(got$value, c(1, 5))
  expect_identical(got$words, c("{\"NOTE\":\"c\"}", "{\"NOTE\":\"b\"}"))
})

test_that("a deletion removes an attribute, a value, a partial key, all", {
  archive <- new_archive()
  all <- csv2("I,A,X,2021,1,a", "I,A,X,2022,2,b", "I,A,Y,2022,3,c")
  apply_message(archive, all)
  apply_message(archive, csv2("D,A,X,2021,,a"))
  got <- stored(archive)
  expect_identical(got$value, c(1, 2, 3))
  expect_identical(got$words[1], NA_character_)
  apply_message(archive, csv2("D,A,,2022,,"))
  expect_identical(stored(archive)$status, c("observed", "deleted", "deleted"))
  archive <- new_archive()
  apply_message(archive, all)
  apply_message(archive, csv2("D,,,,,"))
  expect_identical(stored(archive)$status, rep("deleted", 3))
  archive <- new_archive()
  apply_message(archive, all)
  apply_message(
    archive,
    paste0(
      "<m:StructureSpecificData xmlns:m=\"urn:v3_0\">",
      "<m:DataSet action=\"Delete\"></m:DataSet></m:StructureSpecificData>"
    )
  )
  expect_identical(stored(archive)$status, rep("deleted", 3))
})

test_that("a value missing from a full answer is reported once and kept", {
  archive <- new_archive()
  apply_message(archive, csv2("I,A,X,2021,1,a", "I,A,X,2022,2,b"))
  apply_message(archive, csv2("I,A,X,2021,1,a"))
  expect_match(
    archive_rejected(archive)$reason,
    "1 value is no longer published, and is kept: A.X 2022"
  )
  apply_message(archive, csv2("I,A,X,2021,1,a"))
  expect_identical(nrow(archive_rejected(archive)), 1L)
  expect_identical(stored(archive)$value, c(1, 2))
})

test_that("too large a selection is split by what helps, and remembered", {
  codes <- sprintf("C%05d", 1:400)
  about <- list(
    flow = list(agency = "X", id = "F", version = "1"),
    codes = list(FREQ = list(id = "A"), GEO = list(id = codes)),
    dimensions = data.frame(
      id = c(dims, "TIME_PERIOD"),
      role = c("dimension", "dimension", "time")
    )
  )
  source <- source_card("basin")
  query <- vetusta:::new_query(
    "observations",
    source = source,
    dataset = vetusta:::dataflow_named("F"),
    about = about,
    selection = list(FREQ = "A", GEO = codes),
    query = list(),
    symbols = character(),
    window = vetusta:::observation_window("1500", "2020")
  )
  keys <- list(selection = query$selection, start = "1500", end = "2020")
  by_time <- vetusta:::halve_planned(query, keys)
  expect_identical(
    lengths(lapply(by_time, function(part) part$selection$GEO)), c(400L, 400L)
  )
  by_code <- vetusta:::halve_planned(query, keys, long = TRUE)
  expect_identical(
    lengths(lapply(by_code, function(part) part$selection$GEO)), c(200L, 200L)
  )
  chain <- list(known = keys, request = list(url = "short"), start = "s")
  for (answer in list(
    list(status = 414, body = raw()), list(status = 510, body = raw()),
    list(status = 400, body = charToRaw("Query exceeds the limit of 10000"))
  )) {
    cut <- vetusta:::query_refused(
      query, c(chain, list(noted = function(...) NULL, formats = "csv")), answer
    )
    expect_identical(cut$outcome, "cut")
    expect_identical(cut$notes[[1]]$kind, "large")
  }
})

test_that("NA is a code in a key, and a flag follows its value", {
  collect <- function(body, lines) {
    answer <- function(n, request) {
      list(status = 200L, headers = list(), body = body)
    }
    environment(answer) <- list2env(list(body = body), parent = globalenv())
    file <- write_card(start_scripted(answer), c("request: /rows", lines))
    text <- readLines(file)
    writeLines(sub("shape: table", "shape: observations", text), file)
    archive <- new_archive(parent.frame())
    collect_run(
      plan_requests(query_rows(source_card(file), "rows"), archive), archive,
      progress = FALSE
    )
    archive
  }
  archive <- collect(
    "k,p,v\nNA,2020,1\nNULL,2020,2\n.,2020,NA\n",
    c(
      "format: csv",
      "columns: {series: /k, period: /p, value: {at: /v, need: optional}}"
    )
  )
  expect_setequal(
    archive_series(archive)$key %||% vetusta:::store_series(archive)$key,
    c("NA", "NULL", ".")
  )
  archive <- collect(
    "geo,2019,2020\nX,12.3 p,:\nY,5,NA\n",
    c(
      "format: csv", "unpack: {keep: [/geo]}",
      paste(
        "columns: {series: /geo, period: /name, value: {at: /value,",
        "need: optional},", "flag: {at: /flag, need: optional}}"
      )
    )
  )
  rows <- vetusta:::store_read(
    archive, vetusta:::store_series(archive)$id
  )$columns
  expect_identical(rows$value[1], 12.3)
  expect_identical(rows$flag[1], "p")
  expect_error(
    source_card(
      write_card(
        "http://127.0.0.1:1",
        c("request: /r", "rows: /d", "columns: {n: {at: /n, missing: []}}")
      )
    ),
    NA
  )
})

test_that("a selection is complete with as many values as are available", {
  archive <- new_archive()
  text <- csv2("I,A,X,2019,1,a", "I,A,X,2020,2,b")
  expect_match(
    apply_message(archive, text, 3)$failed$what, "total is 3 rows, and 2 came"
  )
  expect_identical(nrow(archive_incomplete(archive)), 1L)
  expect_identical(nrow(apply_message(archive, text, 2)$failed), 0L)
  expect_identical(nrow(archive_incomplete(archive)), 0L)
})

test_that("updates are requested in a format with deletions", {
  source <- source_card("basin")
  source$sdmx$updates <- TRUE
  source$sdmx$version <- "2.1"
  query <- list(
    source = source,
    about = list(flow = list(agency = "X", id = "F", version = "1")),
    query = list()
  )
  chain <- list(
    known = list(selection = list(FREQ = "A")),
    formats = c("csv", "xml"),
    noted = function(kind, key) list(at = 1e9)
  )
  expect_identical(
    vetusta:::observation_request(query, chain)$formats, c("xml", "csv")
  )
  about <- list(
    codes = list(
      GEO = list(
        id = c("100000", "A", "B"),
        labels = list(en = c("x", "Grain", "Grain"))
      )
    )
  )
  expect_identical(vetusta:::match_codes(100000, "GEO", about), "100000")
  expect_identical(vetusta:::match_codes("grain", "GEO", about), c("A", "B"))
  expect_match(
    vetusta:::shared_labels("grain", "GEO", about),
    "2 codes, and all are taken: A, B"
  )
})
