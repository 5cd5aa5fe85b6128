# Messages written from the standards, each for its content and its possible
# misreadings.
decoded <- function(text, dimensions = c("FREQ", "STATE")) {
  vetusta:::decode_sdmx(
    if (is.raw(text)) text else charToRaw(enc2utf8(paste(text, collapse = ""))),
    dimensions, "here"
  )
}
tidied <- function(text, dimensions = c("FREQ", "STATE"), known = NULL) {
  tidy <- vetusta:::tidy_message(decoded(text, dimensions), dimensions, known)
  key <- do.call(paste, c(unname(tidy$series[dimensions]), sep = "."))
  cbind(
    tidy$rows,
    key = key[tidy$rows$series],
    frequency = tidy$frequency[tidy$rows$series]
  )
}
specific <- function(inner, set = "") {
  paste0(
    paste0(
      '<m:StructureSpecificData xmlns:m="m" ',
      'xmlns:ss="s"><m:Header><m:Structure ',
      'dimensionAtObservation="TIME_PERIOD"/></m:Header><m:DataSet'
    ),
    set, ">", inner, "</m:DataSet></m:StructureSpecificData>"
  )
}
put <- function(archive, text, dimensions = c("FREQ", "STATE"),
                now = as.numeric(Sys.time()), known = NULL) {
  tidy <- vetusta:::tidy_message(decoded(text, dimensions), dimensions, known)
  page <- vetusta:::page_make(
    tidy$rows, series = tidy$series, dimensions = dimensions,
    frequency = tidy$frequency
  )
  query <- vetusta:::new_query("observations")
  vetusta:::store_put(
    archive,
    list(
      source = "basin",
      dataset = "FLOW",
      shape = "observations",
      now = now,
      rows = vetusta:::query_parcel(query, list(), page, tidy$rows)
    )
  )
}
held <- function(archive, ...) {
  archive_observations(archive, "basin", "FLOW", ...)
}
csv <- function(...) paste0(paste(c(...), collapse = "\n"), "\n")

test_that("hours of a day are separate values; ranges by length", {
  archive <- new_archive()
  hours <- sprintf("FLOW,D,ORV,2024-01-01T%02d:00:00,%d", 0:23, 1:24)
  put(archive, csv("DATAFLOW,FREQ,STATE,TIME_PERIOD,OBS_VALUE", hours))
  got <- held(archive)
  expect_identical(got$value, as.double(1:24))
  expect_identical(got$time, as.POSIXct("2024-01-01", tz = "UTC") + 3600 * 0:23)
  expect_identical(series_aggregate(got, "D", "sum")$value, 300)
  ranges <- new_archive()
  put(
    ranges,
    csv(
      "DATAFLOW,FREQ,STATE,TIME_PERIOD,OBS_VALUE",
      paste0("FLOW,X,ORV,2024-01-01/", c("P1M", "P3M", "P1Y"), ",", 1:3)
    )
  )
  got <- held(ranges)
  expect_identical(got$value[order(got$value)], c(1, 2, 3))
  expect_setequal(got$frequency, c("M", "Q", "A"))
})

test_that("values of hours count from their end, and keep their length", {
  at <- function(hour) as.POSIXct("2024-01-01", tz = "UTC") + 3600 * hour
  head <- "DATAFLOW,FREQ,STATE,TIME_PERIOD,OBS_VALUE"
  texts <- list(
    key = sprintf("FLOW,H,ORV,2024-01-01T%02d:00:00,%d", 0:23, 0:23),
    range = sprintf("FLOW,X,ORV,2024-01-01T%02d:00:00/PT1H,%d", 0:23, 0:23),
    zone = sprintf(
      "FLOW,X,ORV,2024-01-01T%02d:00:00-01:00/PT1H,%d", c(23, 0:22), 0:23
    )
  )
  texts$zone[1] <- "FLOW,X,ORV,2023-12-31T23:00:00-01:00/PT1H,0"
  for (name in names(texts)) {
    archive <- new_archive()
    put(archive, csv(head, texts[[name]]))
    got <- held(archive)
    expect_identical(got$time, at(0:23), label = name)
    expect_identical(got$through, at(1:24), label = name)
    expect_identical(unique(got$frequency), "PT1H", label = name)
    expect_identical(
      series_align(got, grid = at(c(4.5, 5, 5.5)))[[2]], c(3, 4, 4),
      label = name
    )
    early <- held(archive, as_of = at(4.5))
    expect_identical(early$value, as.double(0:3), label = name)
    # the day is known with its last hour, and the message reads back alike
    expect_identical(series_change(got[1:2, ])$known[2], at(2), label = name)
    sdmx <- tempfile(fileext = ".csv")
    export_csv(
      vetusta:::sdmx_rows(got, "FLOW", c("FREQ", "STATE")), sdmx
    )
    copy <- new_archive()
    put(copy, paste0(readLines(sdmx), "\n"))
    expect_identical(held(copy), got, label = name)
  }
  # as a plain file, with filled rows that end later than their hour
  full <- series_fill(got[-(5:7), ])
  file <- tempfile(fileext = ".csv")
  export_csv(full, file)
  archive <- new_archive()
  archive_import_rows(archive, file, shape = "observations", dataset = "d")
  back <- archive_observations(archive, "files", "d")
  expect_identical(back$time, full$time)
  expect_identical(back$frequency, rep("PT1H", 24))
  expect_identical(back$through, at(c(1:4, 8, 8, 8, 8:24)))
  # unit and status of a plain series have their names in the standard
  plain <- vetusta:::sdmx_rows(
    series_fill(
      data.frame(
        series = "a", period = as.Date("2024-01-01") + c(0, 2), value = 1:2,
        unit = "m3"
      )
    ),
    "d", c(SERIES = "series")
  )
  expect_identical(plain$UNIT_MEASURE, rep("m3", 3))
  expect_identical(plain$OBS_STATUS, c("A", "I", "A"))
  expect_false(any(c("UNIT_MEASURE", "OBS_STATUS") %in% names(
    vetusta:::sdmx_rows(got, "FLOW", c("FREQ", "STATE"))
  )))
  # an hour is deleted, then the whole series
  archive <- new_archive()
  put(archive, csv(head, texts$key[1:3]))
  deletion <- "STRUCTURE,STRUCTURE_ID,ACTION,FREQ,STATE,TIME_PERIOD,OBS_VALUE"
  now <- as.numeric(Sys.time())
  one <- csv(deletion, "dataflow,FLOW,D,H,ORV,2024-01-01T01:00:00,")
  put(archive, one, now = now + 10)
  expect_identical(held(archive)$value, c(0, 2))
  put(archive, csv(deletion, "dataflow,FLOW,D,H,ORV,,"), now = now + 20)
  expect_identical(nrow(held(archive)), 0L)
  # two lengths that begin together are two series
  archive <- new_archive()
  put(archive, csv(head, paste0(
    "FLOW,X,ORV,2024-01-01T05:00:00", c("", "/PT1H", "/PT2H"), ",", 1:3
  )))
  got <- held(archive)
  expect_identical(got$frequency[order(got$value)], c("I", "PT1H", "PT2H"))
  expect_identical(got$through[order(got$value)], at(c(5, 6, 7)))
  # a day's hours are its parts, 23 of them where the clocks change
  archive <- new_archive()
  hours <- as.POSIXct("2024-03-30 22:00", tz = "UTC") + 3600 * 0:46
  put(
    archive,
    csv(head, paste0(
      "FLOW,H,ORV,", format(hours[-(3:7)], "%Y-%m-%dT%H:%M:%SZ"), ",1"
    ))
  )
  got <- held(archive)
  days <- series_aggregate(got, "D", "sum", zone = "Europe/Riga")
  expect_identical(days$period, as.Date("2024-03-31") + 0:1)
  expect_identical(days$value, c(18, 24))
  expect_equal(days$coverage, c(18 / 23, 1))
  expect_equal(
    series_aggregate(got, "D", need = 0.9, zone = "Europe/Riga")$value, c(NA, 1)
  )
  got$unit <- "m3"
  month <- series_aggregate(got, "M", "sum")
  expect_identical(month$unit, c("m3", "m3"))
  expect_equal(month$coverage, c(21, 21) / c(744, 720))
  expect_identical(month$value, c(21, 21))
  # a month beside hours ends with the month
  archive <- new_archive()
  put(
    archive,
    csv(head, "FLOW,M,ORV,2024-01,1", "FLOW,H,ORV,2024-01-01T00:00:00,2")
  )
  got <- held(archive)
  expect_identical(
    got$through[order(got$value)],
    as.POSIXct(c("2024-02-01 00:00", "2024-01-01 01:00"), tz = "UTC")
  )
})

test_that("deletions by value and series, and row actions", {
  for (form in c("xml", "csv")) {
    archive <- new_archive()
    full <- if (form == "xml") {
      specific(
        paste0(
          '<Series FREQ="A" STATE="ORV"><Obs TIME_PERIOD="2020" ',
          'OBS_VALUE="1"/><Obs ', 'TIME_PERIOD="2021" OBS_VALUE="2"/></Series>'
        )
      )
    } else {
      csv(
        "STRUCTURE,STRUCTURE_ID,ACTION,FREQ,STATE,TIME_PERIOD,OBS_VALUE",
        "dataflow,A:F(1.0),I,A,ORV,2020,1", "dataflow,A:F(1.0),I,A,ORV,2021,2"
      )
    }
    put(archive, full, now = 1.7e9)
    less <- if (form == "xml") {
      specific(
        '<Series FREQ="A" STATE="ORV"><Obs TIME_PERIOD="2020"/></Series>',
        ' ss:action="Delete"'
      )
    } else {
      csv(
        "STRUCTURE,STRUCTURE_ID,ACTION,FREQ,STATE,TIME_PERIOD,OBS_VALUE",
        "dataflow,A:F(1.0),I,A,ORV,2022,3", "dataflow,A:F(1.0),D,A,ORV,2020,"
      )
    }
    put(archive, less, now = 1.75e9)
    expect_identical(
      held(archive)$value, if (form == "xml") 2 else c(2, 3), label = form
    )
    # before the deletion arrived; a first value counts from the end of its year
    expect_identical(
      held(archive, as_of = "2023-12-01")$value,
      if (form == "xml") c(1, 2) else c(1, 2, 3), label = form
    )
    whole <- if (form == "xml") {
      specific('<Series FREQ="A" STATE="ORV"/>', ' ss:action="Delete"')
    } else {
      csv(
        "STRUCTURE,STRUCTURE_ID,ACTION,FREQ,STATE,TIME_PERIOD,OBS_VALUE",
        "dataflow,A:F(1.0),D,A,ORV,,"
      )
    }
    put(archive, whole, now = 1.76e9)
    expect_identical(nrow(held(archive)), 0L, label = form)
    expect_true(
      "deleted" %in% archive_revisions(archive, "basin/FLOW", all = TRUE)$status
    )
  }
})

test_that("units and powers of ten are those that held then", {
  archive <- new_archive()
  put(
    archive,
    specific(
      paste0(
        '<Series FREQ="A" STATE="ORV" UNIT_MULT="6"><Obs TIME_PERIOD="2020" ',
        'OBS_VALUE="1000"/></Series>'
      )
    ),
    now = 1.7e9
  )
  put(
    archive,
    specific(
      paste0(
        '<Series FREQ="A" STATE="ORV" UNIT_MULT="9"><Obs ',
        'TIME_PERIOD="2020" OBS_VALUE="1"/', "></Series>"
      )
    ),
    now = 1.75e9
  )
  expect_identical(
    held(archive, as_of = "2023-12-01", multiplier = "apply")$value, 1e9
  )
  expect_identical(held(archive, multiplier = "apply")$value, 1e9)
})

test_that("the same figures are the same, in whatever form they come", {
  known <- data.frame(
    id = c("DECIMALS", "OBS_STATUS", "NOTE"),
    level = c("series", "value", "value")
  )
  archive <- new_archive()
  put(
    archive,
    csv(
      "DATAFLOW,FREQ,STATE,TIME_PERIOD,OBS_VALUE,OBS_STATUS,DECIMALS,NOTE",
      "FLOW,A,ORV,2020,1.5,A,1,\"a \"\"quoted\"\" word\"",
      "FLOW,A,ORV,2021,2.5,P,1,"
    ),
    known = known
  )
  # nolint
  again <- put(
    archive,
    specific(
      paste0(
        '<Series FREQ="A" STATE="ORV" DECIMALS="1"><Obs ',
        'TIME_PERIOD="2020" OBS_VALUE="1.5" ',
        paste0(
          'NOTE="a &quot;quoted&quot; word" OBS_STATUS="A"/><Obs ',
          'OBS_STATUS="P" ', 'TIME_PERIOD="2021" OBS_VALUE="2.5"/></Series>'
        )
      )
    ),
    known = known
  )
  expect_identical(again, c(new = 0, changed = 0, unchanged = 2))
  expect_identical(held(archive)$NOTE[1], "a \"quoted\" word")
})

test_that("decimal numbers only; components with several values", {
  # nolint
  rows <- vetusta:::tidy_message(
    decoded(
      specific(
        paste0(
          '<Series FREQ="A" STATE="ORV"><Obs TIME_PERIOD="2020" ',
          'OBS_VALUE="0x1F"/><Obs ',
          paste0(
            'TIME_PERIOD="2021" OBS_VALUE="inf"/><Obs ',
            'TIME_PERIOD="2022" OBS_VALUE="1e3"/', "></Series>"
          )
        )
      )
    ),
    c("FREQ", "STATE")
  )
  expect_identical(rows$rows$value, c(NA, NA, 1000))
  expect_identical(nrow(rows$rejected), 2L)
  rows <- tidied(
    csv(
      "DATAFLOW,FREQ,STATE,TIME_PERIOD,OBS_VALUE", "FLOW,A,ORV,2020,0x1F",
      "FLOW,A,ORV,2021,5"
    )
  )
  expect_identical(rows$value, c(NA, 5))
  # nolint
  message <- decoded(
    specific(
      paste0(
        '<Series FREQ="A" STATE="ORV"><Comp id="TITLE"><Value ',
        'xml:lang="en">First</Value>',
        paste0(
          '<Value>Second</Value></Comp><Obs TIME_PERIOD="2020" ',
          'OBS_VALUE="1"><Comp ',
          'id="FLAGS"><Value>E</Value><Value>P</Value></Comp></Obs></Series>'
        )
      )
    )
  )
  expect_identical(message$series$TITLE, "First, Second")
  expect_identical(message$attributes$FLAGS, "E, P")
})

test_that("encodings of messages; document types are refused", {
  # nolint
  text <- paste0(
    "<?xml version=\"1.0\" encoding=\"%s\"?><m:StructureSpecificData ",
    paste0(
      "xmlns:m=\"m\"><m:DataSet><Series FREQ=\"A\" STATE=\"S\u00e4rn\"><Obs ",
      "TIME_PERIOD=\"2020\" ",
      "OBS_VALUE=\"1\"/></Series></m:DataSet></m:StructureSpecificData>"
    )
  )
  for (encoding in c(
    "ISO-8859-1", "windows-1252", "UTF-16LE", "UTF-16BE", "UTF-8"
  )) {
    bytes <- iconv(
      sprintf(text, sub("[LB]E$", "", encoding)), "UTF-8", encoding,
      toRaw = TRUE
    )[[1]]
    expect_identical(decoded(bytes)$series$STATE, "S\u00e4rn", label = encoding)
    if (startsWith(encoding, "UTF-16")) {
      expect_identical(
        decoded(
          c(
            as.raw(
              if (encoding == "UTF-16LE") c(0xff, 0xfe) else c(0xfe, 0xff)
            ),
            bytes
          )
        )$series$STATE,
        "S\u00e4rn"
      )
    }
  }
  evil <- paste0(
    "<?xml version=\"1.0\" encoding=\"UTF-16\"?><!DOCTYPE a [<!ENTITY ",
    "b SYSTEM ",
    "\"file:///etc/passwd\">]><m:Structure xmlns:m=\"m\">&b;</m:Structure>"
  )
  bytes <- c(
    as.raw(c(0xff, 0xfe)), iconv(evil, "UTF-8", "UTF-16LE", toRaw = TRUE)[[1]]
  )
  expect_error_kind(
    vetusta:::decode_structure(bytes, "here"), "payload", "document type"
  )
  expect_error_kind(decoded(bytes), "payload", "document type")
})

test_that("JSON: texts between numbers, partial keys, null", {
  # nolint
  head <- function(inner) {
    paste0(
      paste0(
        '{"data":{"structures":[{"dimensions":{"series":[{"id":"FREQ",',
        paste0(
          '"values":[{"id":"A"}]},{"id":"STATE","values":[{"id":"LUD"},',
          '{"id":"ORV"},',
          paste0(
            '{"id":"TSK"}]}],"observation":[{"id":"TIME_PERIOD",',
            '"values":[{"id":"2020"},', '{"id":"2021"}]}]},'
          )
        )
      ),
      # nolint
      paste0(
        '"attributes":{"observation":[{"id":"OBS_STATUS",',
        '"values":[{"id":"A"},{"id":"P"}]},',
        paste0(
          '{"id":"NOTE","values":[]}],"dimensionGroup":[{"id":"UNIT_MULT",',
          '"values":[{"id":"6"},{"id":"3"}]}]}}],"dataSets":[{'
        )
      ),
      inner,
      "}]}}"
    )
  }
  message <- decoded(
    head(
      paste0(
        '"series":{"0:1":{"observations":{"0":[1,0,"as told"],"1":[2,1]}},',
        paste0(
          '"0:2":{"observations":{"0":[3,1,null]}}},',
          '"dimensionGroupAttributes":{":2:":[0],', '":1:":[1]}'
        )
      )
    )
  )
  expect_identical(message$attributes$OBS_STATUS, c("A", "P", "P"))
  expect_identical(message$attributes$NOTE, c("as told", NA, NA))
  expect_identical(
    message$series$UNIT_MULT[match(c("ORV", "TSK"), message$series$STATE)],
    c("3", "6")
  )
  short <- decoded(
    head(
      paste0(
        '"series":{"0:1":{"observations":{"0":[1]}},',
        '"0:2":{"observations":{"0":[3]}}},',
        '"dimensionGroupAttributes":{":1":[0]}'
      )
    )
  )
  expect_identical(
    short$series$UNIT_MULT[match(c("ORV", "TSK"), short$series$STATE)],
    c("6", NA)
  )
  expect_identical(
    decoded(
      head('"series":{"0:1":{"observations":{"0":[NaN],"1":[2]}}}')
    )$obs$value,
    c(NA, 2)
  )
})

test_that("JSON-stat: places, roles and parents", {
  stat <- function(
    value,
    # nolint
    status = "null"
  ) {
    charToRaw(
      paste0(
        paste0(
          '{"version":"2.0","class":"dataset","id":["CARGO","TIME"],',
          '"size":[2,4],',
          paste0(
            '"role":{"time":["TIME"]},',
            '"dimension":{"CARGO":{"category":{"index":["GRAIN",',
            paste0(
              '"WHEAT"],"child":{"GRAIN":["WHEAT"]}}},',
              '"TIME":{"category":{"index":["2020",',
              '"2021","2022","2023"]}}},"value":'
            )
          )
        ),
        value, if (status != "null") paste0(',"status":', status), "}"
      )
    )
  }
  rows <- vetusta:::jsonstat_rows(
    stat('{"4":5.5,"5":null,"6":7}', '{"0":"x","5":null,"6":"p"}'), "here"
  )
  expect_identical(rows$value, c(NA, NA, NA, NA, 5.5, NA, 7, NA))
  expect_identical(rows$status, c("x", NA, NA, NA, NA, NA, "p", NA))
  expect_identical(rows[["role/time"]], rows$TIME)
  expect_identical(rows[["parent/CARGO"]], rep(c(NA, "GRAIN"), each = 4))
  expect_true(all(is.na(vetusta:::jsonstat_rows(stat("{}"), "here")$value)))
  expect_identical(
    vetusta:::jsonstat_rows(stat("[1,NaN,3,4,5,6,7,8]"), "here")$value[2:3],
    c(NA, 3)
  )
  expect_error_kind(
    vetusta:::jsonstat_rows(stat('{"99":1}'), "here"), "payload",
    "beside its dimensions"
  )
})

test_that("xBRL: typed values and languages; packed tables: flags", {
  fact <- function(id, dims, value) {
    paste0(
      '"', id, '":{"value":"', value,
      paste0(
        '","dimensions":{"concept":"x:Name","entity":"s:KELD",',
        '"period":"2025-01-01T00:00:00/', '2026-01-01T00:00:00"'
      ),
      dims, "}}"
    )
  }
  body <- charToRaw(
    paste0(
      '{"documentInfo":{"namespaces":{"x":"http://x","s":"http://s"}},',
      '"facts":{',
      paste(
        fact("a", ',"x:shift":"10:30","x:leg":"x:LOWER"', "1"),
        fact("b", ',"language":"en"', "Kelder"),
        fact("c", ',"language":"qsa"', "Keldera"), sep = ","
      ),
      "}}"
    )
  )
  rows <- vetusta:::xbrl_rows(body, "here")
  expect_identical(rows$shift[1], "10:30")
  expect_identical(rows$leg[1], "LOWER")
  expect_identical(rows$concept, rep("Name", 3))
  expect_identical(rows$language, c(NA, "en", "qsa"))
  packed <- data.frame(
    a = "M,ORV", b = "5e", c = "1e3 p", d = ":c", check.names = FALSE
  )
  names(packed) <- c("FREQ,STATE\\TIME", "2020", "2021", "2022")
  rows <- vetusta:::turned_rows(packed, list(), "here")
  expect_identical(rows$value, c("5", "1e3", NA))
  expect_identical(rows$flag, c("e", "p", "c"))
})

test_that("reporting years begin where each series says", {
  rows <- tidied(
    csv(
      "DATAFLOW,FREQ,STATE,REPORTING_YEAR_START_DAY,TIME_PERIOD,OBS_VALUE",
      "FLOW,Q,ORV,--07-01,2023-Q1,1", "FLOW,Q,TSK,--04-01,2023-Q1,2",
      "FLOW,Q,LUD,,2023-Q1,3"
    )
  )
  expect_identical(
    as.Date(rows$period, origin = "1970-01-01"),
    as.Date(c("2023-07-01", "2023-04-01", "2023-01-01"))
  )
  # nolint
  rows <- tidied(
    specific(
      paste0(
        '<Series FREQ="Q" STATE="ORV" REPORTING_YEAR_START_DAY="--07-01"><Obs ',
        paste0(
          'TIME_PERIOD="2023-Q1" OBS_VALUE="1"/></Series><Series ',
          'FREQ="Q" STATE="TSK"><Obs ',
          'TIME_PERIOD="2023-Q1" OBS_VALUE="1"/></Series>'
        )
      )
    )
  )
  expect_identical(
    as.Date(rows$period, origin = "1970-01-01"),
    as.Date(c("2023-07-01", "2023-01-01"))
  )
})

# A small statistics office: the test has its structure and its data.
start_office <- function(structure, data, env = parent.frame()) {
  file <- withr::local_tempfile(.local_envir = env)
  saveRDS(list(structure = structure, data = data), file)
  url <- start_scripted(
    eval(bquote(function(n, request) {
      told <- readRDS(.(file))
      path <- request$PATH_INFO
      if (grepl("^/dataflow", path)) {
        return(
          list(
            status = 200L,
            headers = list("Content-Type" = "application/xml"),
            body = told$structure
          )
        )
      }
      if (!grepl("^/data/", path)) {
        return(list(status = 404L, headers = list(), body = ""))
      }
      list(
        status = 200L,
        headers = list("Content-Type" = "application/vnd.sdmx.data+csv"),
        body = told$data
      )
    })),
    env = env
  )
  card <- withr::local_tempfile(fileext = ".yml", .local_envir = env)
  writeLines(
    c(
      "source: office", paste0("url: ", url),
      "sdmx: {version: \"2.1\", agency: OWN}"
    ),
    card
  )
  source_card(card)
}
codelist <- function(id, agency, codes, names = codes, version = "1.0") {
  paste0(
    '<s:Codelist id="', id, '" agencyID="', agency, '" version="', version,
    '">',
    paste0(
      '<s:Code id="', codes, '"><c:Name xml:lang="en-GB">', names,
      "</c:Name></s:Code>", collapse = ""
    ),
    "</s:Codelist>"
  )
}
dimension <- function(id, list, agency = "OWN", position = 1, concept = id) {
  paste0(
    "<s:Dimension", if (nzchar(id)) paste0(' id="', id, '"'), ' position="',
    position, '"><s:ConceptIdentity><Ref id="', concept,
    paste0(
      '" maintainableParentID="CS" maintainableParentVersion="1.0" ',
      'agencyID="OWN"/></', "s:ConceptIdentity>"
    ),
    if (nzchar(list)) {
      paste0(
        '<s:LocalRepresentation><s:Enumeration><Ref id="', list,
        '" agencyID="', agency,
        '" version="1.0"/></s:Enumeration></s:LocalRepresentation>'
      )
    },
    "</s:Dimension>"
  )
}
office_structure <- function(
  lists,
  dimensions,
  # nolint
  concepts = ""
) {
  paste0(
    paste0(
      '<m:Structure xmlns:m="m" xmlns:s="s" ',
      'xmlns:c="c"><m:Structures><s:Dataflows>',
      paste0(
        '<s:Dataflow id="FLOW" agencyID="OTHER" version="1.0"><c:Name>Of ',
        "another</c:Name></",
        paste0(
          's:Dataflow><s:Dataflow id="FLOW" agencyID="OWN" ',
          'version="1.0"><c:Name>Own</',
          paste0(
            'c:Name><s:Structure><Ref id="DSD" agencyID="OWN" ',
            'version="1.0"/></s:Structure>', "</s:Dataflow></s:Dataflows>"
          )
        )
      )
    ),
    "<s:Codelists>",
    lists,
    paste0(
      "</s:Codelists><s:Concepts><s:ConceptScheme id=\"CS\" ",
      "agencyID=\"OWN\" version=\"1.0\">"
    ),
    concepts,
    "</s:ConceptScheme></s:Concepts>",
    # nolint
    paste0(
      '<s:DataStructures><s:DataStructure id="DSD" agencyID="OTHER" ',
      'version="1.0">',
      paste0(
        "<s:DataStructureComponents><s:DimensionList/></",
        "s:DataStructureComponents></",
        paste0(
          's:DataStructure><s:DataStructure id="DSD" agencyID="OWN" ',
          'version="1.0">', "<s:DataStructureComponents><s:DimensionList>"
        )
      )
    ),
    dimensions,
    paste0(
      "<s:TimeDimension ",
      'id="TIME_PERIOD"/></s:DimensionList></s:DataStructureComponents>', "</",
      "s:DataStructure></s:DataStructures></m:Structures></m:Structure>"
    )
  )
}

test_that("dimensions may have any name, and keep all codes", {
  names <- c(
    "unit", "value", "status", "period", "series", "frequency", "known",
    "from", "to", "source", "version", "language", "labels"
  )
  structure <- office_structure(
    codelist("CL", "OWN", c("A", "B")),
    paste(
      vapply(
        seq_along(names), function(i) dimension(names[i], "CL", position = i),
        ""
      ),
      collapse = ""
    )
  )
  rows <- rbind(rep("A", length(names)), rep("B", length(names)))
  data <- csv(
    paste(c("DATAFLOW", names, "TIME_PERIOD", "OBS_VALUE"), collapse = ","),
    apply(rows, 1, function(row) {
      paste(c("FLOW", row, "2020", match(row[1], c("A", "B"))), collapse = ",")
    })
  )
  source <- start_office(structure, data)
  archive <- new_archive()
  query <- query_observations(
    source,
    "FLOW",
    keys = as.list(stats::setNames(rep("A", length(names)), names)),
    archive = archive
  )
  expect_identical(
    unlist(query$selection), stats::setNames(rep("A", length(names)), names)
  )
  collect_run(
    plan_requests(
      query_observations(source, "FLOW", archive = archive), archive
    ),
    archive, progress = FALSE
  )
  got <- archive_observations(archive, "office", "FLOW")
  expect_identical(got$value, c(1, 2))
  for (name in names) {
    column <- if (name %in% names(got) &&
      !paste0("dim_", name) %in% names(got)) {
      name
    } else {
      paste0("dim_", name)
    }
    expect_identical(got[[column]], c("A", "B"), label = name)
    expect_identical(
      archive_observations(
        archive,
        "office",
        "FLOW",
        keys = stats::setNames(list("B"), name)
      )$value,
      2, label = name
    )
  }
  pages <- collect_pages(
    plan_requests(query_observations(source, "FLOW", archive = archive))
  )
  expect_identical(pages()$value, c(1, 2))
})

test_that("complete values are not requested again for a while", {
  data <- csv(
    "DATAFLOW,STATE,TIME_PERIOD,OBS_VALUE", c("FLOW,A,2020,1", "FLOW,B,2020,2")
  )
  source <- start_office(
    office_structure(
      codelist("CL", "OWN", c("A", "B")), dimension("STATE", "CL")
    ),
    data
  )
  archive <- new_archive()
  plan <- function(keep, ...) {
    source$sdmx$keep_values <- keep
    plan_requests(
      query_observations(source, "FLOW", ..., archive = archive), archive
    )
  }
  collect_run(plan("PT1H"), archive, progress = FALSE)
  again <- plan("PT1H")
  expect_equal(again$pages, 0)
  expect_true(
    "  requests  none: the archive is complete for this window" %in%
      capture.output(print(again))
  )
  expect_equal(collect_run(again, archive, progress = FALSE)$pages, 0)
  # another selection, and a card without `keep`
  expect_equal(plan("PT1H", STATE = "B")$pages, 1)
  expect_equal(plan(NULL)$pages, 1)
  Sys.sleep(1.2)
  expect_equal(plan("PT1S")$pages, 1)
})

test_that("code lists of the right agency, also by concept", {
  # nolint
  concepts <- paste0(
    '<s:Concept id="STATE"><c:Name ',
    'xml:lang="qsa">Zeme</c:Name><s:CoreRepresentation>',
    paste0(
      '<s:Enumeration><Ref id="CL" agencyID="OWN" ',
      'version="1.0"/></s:Enumeration></', "s:CoreRepresentation></s:Concept>"
    )
  )
  structure <- office_structure(
    paste0(
      codelist("CL", "OTHER", c("X", "Y")),
      codelist("CL", "OWN", c("ORV", "TSK"), c("Orvane", "Teskland")),
      codelist("CL", "OWN", "OLD", version = "0.9")
    ),
    paste0(
      dimension("FREQ", "", concept = "FREQ"),
      dimension("", "", position = 2, concept = "STATE")
    ),
    concepts
  )
  about <- datasets_describe(start_office(structure, ""), "FLOW")
  expect_identical(about$title, "Own")
  expect_identical(about$dimensions$id, c("FREQ", "STATE", "TIME_PERIOD"))
  expect_identical(about$codes$STATE$id, c("ORV", "TSK"))
  expect_output(print(about), "Orvane")
})

test_that("excluded regions, circular parents, labels by language", {
  region <- function(include, codes) {
    paste0(
      '<s:CubeRegion include="', include, '"><c:KeyValue id="STATE">',
      paste0("<c:Value>", codes, "</c:Value>", collapse = ""),
      "</c:KeyValue></s:CubeRegion>"
    )
  }
  message <- paste0(
    '<m:Structure xmlns:m="m" xmlns:s="s" ',
    'xmlns:c="c"><s:ContentConstraint id="C">',
    region("true", c("ORV", "TSK")), region("false", c("LUD", "MIR")),
    "</s:ContentConstraint></m:Structure>"
  )
  found <- vetusta:::decode_structure(charToRaw(message), "here")$constraints[[
    1
  ]]
  expect_identical(found$codes$STATE, c("ORV", "TSK"))
  expect_identical(found$without$STATE, c("LUD", "MIR"))
  list <- list(
    id = c("A", "B", "C", "XZ"),
    parent = c("C", "A", "B", NA),
    labels = list(
      qsa = c(NA, NA, NA, "Cits"),
      "en-GB" = c("one", "two", "three", NA)
    )
  )
  lines <- vetusta:::dataset_codes(list, NULL, "en", 20)
  expect_length(lines, 4)
  expect_match(lines, "XZ  *Cits", all = FALSE)
  expect_match(lines, "A  *one", all = FALSE)
})

test_that("splits of several frequencies; open ends stay open", {
  query <- list(
    dataset = list(
      codes = list(
        FREQ = list(id = c("A", "S", "M")),
        STATE = list(id = c("ORV", "TSK"))
      )
    ),
    selection = list(FREQ = NULL, STATE = NULL),
    window = list(from = NULL, to = NULL)
  )
  query$selection <- stats::setNames(vector("list", 2), c("FREQ", "STATE"))
  available <- list(
    codes = list(FREQ = c("A", "S", "M"), STATE = c("ORV", "TSK")),
    start = "2000",
    end = "2020",
    cells = 1200
  )
  whole <- vetusta:::whole_selection(query, available)
  pieces <- vetusta:::cut_selection(whole, 100)
  for (code in c("A", "S", "M")) {
    own <- Filter(function(piece) identical(piece$selection$FREQ, code), pieces)
    expect_true(length(own) > 0, label = code)
    of_state <- Filter(
      function(piece) {
        is.null(piece$selection$STATE) || "ORV" %in% piece$selection$STATE
      },
      own
    )
    starts <- lapply(of_state, `[[`, "start")
    ends <- lapply(of_state, `[[`, "end")
    expect_identical(sum(vapply(starts, is.null, TRUE)), 1L, label = code)
    expect_identical(sum(vapply(ends, is.null, TRUE)), 1L, label = code)
  }
  expect_true(
    all(vapply(pieces, function(piece) length(piece$selection$FREQ) == 1, TRUE))
  )
})
