dims <- c("FREQ", "STATE", "CARGO")
read <- function(text, dimensions = dims) {
  vetusta:::decode_sdmx(
    charToRaw(paste(text, collapse = "")), dimensions, "here"
  )
}
plain <- function(message, dimensions = dims) {
  rows <- vetusta:::tidy_message(message, dimensions)$rows
  key <- do.call(paste, c(unname(message$series[dimensions]), sep = "."))
  out <- data.frame(
    key = key[rows$series],
    period = as.Date(rows$period, origin = "1970-01-01"),
    value = rows$value,
    status = rows$status
  )
  out <- out[order(out$key, out$period), ]
  rownames(out) <- NULL
  out
}
# nolint
specific <- function(inner, dimension = "TIME_PERIOD") {
  paste0(
    paste0(
      '<?xml version="1.0"?><m:StructureSpecificData xmlns:m="m" ',
      'xmlns:ss="s" xmlns:c="c">',
      paste0(
        "<m:Header><m:ID>X</m:ID><m:Prepared>2026-03-01T10:00:00Z</",
        "m:Prepared><m:Structure ", 'structureID="S" dimensionAtObservation="'
      )
    ),
    dimension, '"/></m:Header>', inner, "</m:StructureSpecificData>"
  )
}

test_that("a structure-specific message with attributes of all levels", {
  message <- read(specific(paste0(
    paste0(
      '<m:DataSet ss:structureRef="S" ss:action="Replace" ',
      'ss:validFromDate="2026-02-01T09:00:00Z" TITLE="Traffic &amp; ',
      'tolls"><!-- a > comment -->'
    ),
    paste0(
      '<Group xsi:type="ns1:Sibling" STATE="ORV" CARGO="GRAIN" UNIT="T" ',
      'xmlns:xsi="x"/>'
    ),
    # nolint
    paste0(
      '<Series FREQ="M" STATE="ORV" CARGO="GRAIN" DECIMALS="1"><Obs ',
      'TIME_PERIOD="2026-01" ',
      paste0(
        'OBS_VALUE="1.5" OBS_STATUS="A"/><Obs TIME_PERIOD=\'2026-02\' ',
        'OBS_VALUE="NaN" ',
        'OBS_STATUS="M"/><Obs OBS_STATUS="P" TIME_PERIOD="2026-03" ',
        'OBS_VALUE="-1e3"/></Series>'
      )
    ),
    paste0(
      '<Series FREQ="M" STATE="TSK" CARGO="GRAIN"><Obs ',
      'TIME_PERIOD="2026-01"/></Series></m:DataSet>'
    ),
    paste0(
      '<m:DataSet ss:validFromDate="2026-03-01T09:00:00Z"><Series ',
      'FREQ="Q" STATE="ORV" ', 'CARGO="S&#228;lt"><Obs TIME_PERIOD="2026-Q1" ',
      'OBS_VALUE="7"/></Series></m:DataSet>'
    )
  )))
  expect_identical(
    message$series$TITLE, c("Traffic & tolls", "Traffic & tolls", NA)
  )
  expect_identical(message$series$UNIT, c("T", NA, NA))
  expect_identical(message$series$DECIMALS, c("1", NA, NA))
  expect_identical(message$series$CARGO[3], "S\u00e4lt")
  expect_identical(
    message$sets$valid_from, c("2026-02-01T09:00:00Z", "2026-03-01T09:00:00Z")
  )
  rows <- vetusta:::tidy_message(message, dims)
  expect_identical(rows$rows$value, c(1.5, NA, -1000, NA, 7))
  expect_identical(
    rows$rows$status,
    c("observed", "missing", "provisional", "missing", "observed")
  )
  expect_identical(rows$frequency, c("M", "M", "Q"))
  expect_identical(
    format(vetusta:::utc(rows$rows$known[c(1, 5)]), "%m"), c("02", "03")
  )
  expect_identical(message$prepared, "2026-03-01T10:00:00Z")
})

test_that("all forms of one content give the same rows", {
  content <- data.frame(
    FREQ = "M",
    STATE = rep(c("ORV", "TSK"), each = 2),
    CARGO = "GRAIN",
    TIME_PERIOD = c("2026-01", "2026-02"),
    OBS_VALUE = c("1.25", "2", "3", ""),
    OBS_STATUS = c("A", "P", "A", "M")
  )
  obs <- function(i) {
    paste0(
      '<Obs TIME_PERIOD="', content$TIME_PERIOD[i], '"',
      ifelse(
        nzchar(content$OBS_VALUE[i]),
        paste0(' OBS_VALUE="', content$OBS_VALUE[i], '"'), ""
      ),
      ' OBS_STATUS="', content$OBS_STATUS[i], '"/>'
    )
  }
  keys <- paste0(' FREQ="M" STATE="', content$STATE, '" CARGO="GRAIN"')
  value <- function(id, x) paste0('<g:Value id="', id, '" value="', x, '"/>')
  key_values <- function(state) {
    paste0(value("FREQ", "M"), value("STATE", state), value("CARGO", "GRAIN"))
  }
  obs_value <- function(i) {
    ifelse(
      nzchar(content$OBS_VALUE[i]),
      paste0('<g:ObsValue value="', content$OBS_VALUE[i], '"/>'), ""
    )
  }
  attributes <- function(i) {
    paste0(
      "<g:Attributes>", value("OBS_STATUS", content$OBS_STATUS[i]),
      "</g:Attributes>"
    )
  }
  generic <- function(inner, dimension) {
    sub(
      "StructureSpecificData", "GenericData",
      sub(
        "StructureSpecificData", "GenericData",
        specific(paste0("<m:DataSet>", inner, "</m:DataSet>"), dimension)
      )
    )
  }
  cell <- function(i) {
    paste0(
      "[", ifelse(nzchar(content$OBS_VALUE[i]), content$OBS_VALUE[i], "null"),
      ",", match(content$OBS_STATUS[i], c("A", "P", "M")) - 1, "]"
    )
  }
  json_structure <- function(flat) {
    parts <- paste0(
      '{"id":"FREQ","values":[{"id":"M"}]},{"id":"STATE",',
      '"values":[{"id":"ORV"},',
      '{"id":"TSK"}]},{"id":"CARGO","values":[{"id":"GRAIN"}]}'
    )
    time <- '{"id":"TIME_PERIOD","values":[{"id":"2026-01"},{"id":"2026-02"}]}'
    status <- paste0(
      '"attributes":{"series":[],"observation":[{"id":"OBS_STATUS",',
      '"values":[{"id":"A"},', '{"id":"P"},{"id":"M"}]}]}'
    )
    if (flat) {
      paste0(
        '{"dimensions":{"observation":[', parts, ",", time, "]},", status, "}"
      )
    } else {
      paste0(
        '{"dimensions":{"series":[', parts, '],"observation":[', time, "]},",
        status, "}"
      )
    }
  }
  series_json <- paste0(
    '{"series":{"0:0:0":{"observations":{"0":', cell(1), ',"1":', cell(2),
    '}},"0:1:0":{"observations":{"0":', cell(3), ',"1":', cell(4), "}}}}"
  )
  flat_json <- paste0(
    '{"observations":{"0:0:0:0":', cell(1), ',"0:0:0:1":', cell(2),
    ',"0:1:0:0":', cell(3), ',"0:1:0:1":', cell(4), "}}"
  )
  csv <- function(head, front) {
    paste0(
      paste(c(head, names(content)), collapse = ","), "\n",
      paste0(
        front, do.call(paste, c(unname(content), sep = ",")), collapse = "\n"
      ),
      "\n"
    )
  }
  messages <- list(
    specific = specific(
      paste0(
        "<m:DataSet><Series", keys[1], ">", obs(1), obs(2), "</Series><Series",
        keys[3], ">", obs(3), obs(4), "</Series></m:DataSet>"
      )
    ),
    specific_flat = specific(
      paste0(
        "<m:DataSet>",
        paste0(
          sub("<Obs", paste0("<Obs", keys[1:4]), vapply(1:4, obs, "")),
          collapse = ""
        ) |>
          (\(x) {
              paste(
                vapply(
                  1:4,
                  function(i) {
                    sub("<Obs", paste0("<Obs", keys[i]), obs(i), fixed = TRUE)
                  },
                  ""
                ),
                collapse = ""
              )
            })(),
        "</m:DataSet>"
      ),
      "AllDimensions"
    ),
    generic = generic(
      paste0(
        vapply(
          c("ORV", "TSK"),
          function(state) {
            paste0(
              "<g:Series><g:SeriesKey>", key_values(state), "</g:SeriesKey>",
              paste0(
                "<g:Obs><g:ObsDimension value=\"", content$TIME_PERIOD, "\"/>",
                obs_value(1:4), attributes(1:4), "</g:Obs>"
              )[content$STATE == state] |>
                paste(collapse = ""),
              "</g:Series>"
            )
          },
          ""
        ),
        collapse = ""
      ),
      "TIME_PERIOD"
    ),
    generic_flat = generic(
      paste0(
        "<g:Obs><g:ObsKey>", key_values(content$STATE),
        value("TIME_PERIOD", content$TIME_PERIOD), "</g:ObsKey>",
        obs_value(1:4), attributes(1:4), "</g:Obs>", collapse = ""
      ),
      "AllDimensions"
    ),
    json1 = paste0(
      '{"meta":{},"data":{"structure":', json_structure(FALSE),
      ',"dataSets":[', series_json, "]}}"
    ),
    json1_flat = paste0(
      '{"header":{"id":"x"},"structure":', json_structure(TRUE),
      ',"dataSets":[', flat_json, "]}"
    ),
    json2 = paste0(
      '{"meta":{},"data":{"structures":[', json_structure(FALSE),
      '],"dataSets":[', sub("{", '{"structure":0,', series_json, fixed = TRUE),
      "]}}"
    ),
    csv1 = csv("DATAFLOW", "A:B(1.0),"),
    csv2 = csv(
      c("STRUCTURE", "STRUCTURE_ID", "ACTION"), "dataflow,A:B(1.0),I,"
    ),
    labelled = sub(
      "STATE", "STATE: State",
      gsub(",ORV,", ",ORV: Orvane,", csv("DATAFLOW", "A:B(1.0): Flow,"))
    )
  )
  whole <- plain(read(messages$specific))
  expect_identical(whole$value, c(1.25, 2, 3, NA))
  expect_identical(
    whole$status, c("observed", "provisional", "observed", "missing")
  )
  for (name in names(messages)) {
    expect_identical(plain(read(messages[[name]])), whole, label = name)
  }
})

test_that("every form of time, and rejected ones with their place", {
  times <- c(
    "2026", "2026-A1", "2026-S1", "2026-T2", "2026-Q3", "2026-M04", "2026-04",
    "2026-W05", "2026-D100", "2026-04-05", "2026-04-05T10:00:00",
    "2026-04-01/P1M", "soon"
  )
  text <- specific(
    paste0(
      '<m:DataSet><Series FREQ="I" STATE="ORV" CARGO="X">',
      paste0('<Obs TIME_PERIOD="', times, '" OBS_VALUE="1"/>', collapse = ""),
      '<Obs TIME_PERIOD="2026" OBS_VALUE="much"/></Series></m:DataSet>'
    )
  )
  tidy <- vetusta:::tidy_message(read(text), dims)
  expect_identical(which(is.na(tidy$rows$period)), 13L)
  expect_identical(tidy$rejected$row, c(13L, 14L))
  expect_identical(
    tidy$rejected$reason, c("period cannot be read", "value cannot be read")
  )
  shifted <- specific(
    paste0(
      '<m:DataSet><Series FREQ="Q" STATE="ORV" CARGO="X" ',
      paste0(
        'REPORTING_YEAR_START_DAY="--07-01"><Obs TIME_PERIOD="2026-Q1" ',
        'OBS_VALUE="1"/></', "Series></m:DataSet>"
      )
    )
  )
  expect_identical(
    as.Date(
      vetusta:::tidy_message(read(shifted), dims)$rows$period,
      origin = "1970-01-01"
    ),
    as.Date("2026-07-01")
  )
})

test_that("footers are told, errors of the service are errors", {
  # nolint
  text <- specific(
    paste0(
      '<m:DataSet><Series FREQ="M" STATE="ORV" CARGO="X"><Obs ',
      'TIME_PERIOD="2026-01" ',
      paste0(
        'OBS_VALUE="1"/></Series></m:DataSet><f:Footer ',
        'xmlns:f="f"><f:Message code="510" ',
        'severity="Warning"><c:Text>Cut at 5,000 ',
        "cells</c:Text></f:Message></f:Footer>"
      )
    )
  )
  expect_identical(read(text)$notes, "Warning: Cut at 5,000 cells (510)")
  error <- paste0(
    '<m:Error xmlns:m="m"><m:ErrorMessage code="140"><c:Text ',
    'xmlns:c="c">Bad key</c:Text>', "</m:ErrorMessage></m:Error>"
  )
  expect_error_kind(read(error), "payload", "Bad key \\(140\\)")
  expect_error_kind(
    read('{"errors":[{"code":404,"title":"No results"}]}'), "payload",
    "No results 404"
  )
})

test_that("wrong, cut or hostile messages are refused quickly", {
  good <- specific(
    paste0(
      '<m:DataSet><Series FREQ="M" STATE="ORV" CARGO="X"><Obs ',
      'TIME_PERIOD="2026-01" ', 'OBS_VALUE="1"/></Series></m:DataSet>'
    )
  )
  for (n in c(60, nchar(good) %/% 2, nchar(good) - 30, nchar(good) - 1)) {
    expect_error_kind(
      read(substr(good, 1, n)), "payload", "cut short|cannot be read"
    )
  }
  laughs <- sub(
    "<m:Struct",
    paste0(
      '<!DOCTYPE x [<!ENTITY a "ha"><!ENTITY b ',
      '"&a;&a;&a;&a;&a;&a;&a;&a;&a;&a;">]><m:Struct'
    ),
    good, fixed = TRUE
  )
  expect_error_kind(read(laughs), "payload", "document type")
  expect_error_kind(
    read(sub("2026-01", "&b;", good)), "payload", "entity of its own"
  )
  expect_error_kind(
    read(sub("</Series>", "</Serie>", good)), "payload", "not open"
  )
  expect_error_kind(
    read("<!DOCTYPE html><html><body>Down</body></html>"), "payload", "web page"
  )
  expect_error_kind(read("<a><b/></a>"), "payload", "no data message")
  expect_error_kind(
    read(sub(' STATE="ORV"', "", good)), "payload", "lack the dimension STATE"
  )
  expect_error_kind(
    read("FREQ,STATE,TIME_PERIOD,OBS_VALUE\nM,ORV,2026-01,1\n"), "payload",
    "lacks the column CARGO"
  )
  expect_error_kind(read('{"a":1}'), "payload", "no data message")
  expect_error_kind(
    read('{"data":{"dataSets":[{"series":{"0:0"'), "payload", "cut short"
  )
  expect_error_kind(
    vetusta:::decode_structure(
      charToRaw(
        paste0(
          "<!DOCTYPE x [<!ENTITY e SYSTEM ",
          '"file:///etc/passwd">]><Structure>&e;</Structure>'
        )
      ),
      "here"
    ),
    "payload", "document type"
  )
  expect_error_kind(
    vetusta:::decode_structure(charToRaw("<Structure><Dataflows>"), "here"),
    "payload", "cut short"
  )
})

test_that("JSON-stat, packed tables and xBRL-JSON by a card", {
  # nolint
  cube <- paste0(
    '{"version":"2.0","class":"dataset","id":["STATE","TIME"],"size":[2,2],',
    paste0(
      '"dimension":{"STATE":{"category":{"index":{"TSK":1,"ORV":0}}},',
      '"TIME":{"category":{"index":["2025","2026"]}}},"value":[1,null,',
      '3,4],"status":{"1":"m"}}'
    )
  )
  packed <- paste0(
    "freq,unit,geo\\TIME_PERIOD\t2025 \t2026 \nA,T,ORV\t1.5 p\t: ",
    "c\nA,T,TSK\t\t2 \n"
  )
  # nolint
  facts <- paste0(
    '{"documentInfo":{},"facts":{"f1":{"value":"1200","decimals":-3,',
    paste0(
      '"dimensions":{"concept":"inv:Revenue","entity":"reg:KELD",',
      paste0(
        '"period":"2025-01-01T00:00:00/2026-01-01T00:00:00",',
        '"unit":"iso4217:ORV",',
        paste0(
          '"inv:Segment":"inv:Barges"}},"f2":{"value":"70",',
          paste0(
            '"dimensions":{"concept":"inv:Assets","entity":"reg:KELD",',
            '"period":"2026-01-01T00:00:00","unit":"iso4217:ORV"}}}}'
          )
        )
      )
    )
  )
  url <- start_scripted(
    function(n, request) {
      list(
        status = 200L,
        headers = list(),
        body = switch(request$PATH_INFO,
          "/cube" = cube,
          "/packed" = packed,
          facts
        )
      )
    },
    env = environment()
  )
  got <- collect_rows(
    write_card(
      url,
      c(
        "request: /cube", "format: json-stat",
        paste0(
          "columns: {state: /STATE, year: /TIME, v: {at: /value, as: ",
          "number, need: optional}, ", "flag: {at: /status, need: optional}}"
        )
      )
    )
  )$rows
  expect_identical(got$state, c("ORV", "ORV", "TSK", "TSK"))
  expect_identical(got$v, c(1, NA, 3, 4))
  expect_identical(got$flag[2], "m")
  got <- collect_rows(
    write_card(
      url,
      c(
        "request: /packed", "format: tsv",
        "unpack: {into: [freq, unit, state]}",
        paste0(
          "columns: {state: /state, year: /period, v: {at: /value, as: ",
          "number, need: optional}, ", "flag: {at: /flag, need: optional}}"
        )
      )
    )
  )$rows
  expect_identical(got$state, c("ORV", "ORV", "TSK"))
  expect_identical(got$v, c(1.5, NA, 2))
  expect_identical(got$flag, c("p", "c", NA))
  got <- collect_rows(write_card(
    url,
    c(
      "request: /facts",
      "format: xbrl-json",
      # nolint
      paste0(
        "columns: {entity: /entity, item: /concept, period_start: {at: ",
        "/period_start, as: ",
        paste0(
          "day, need: optional}, period_end: {at: /period_end, as: ",
          "day}, basis: /basis, ",
          paste0(
            "value: {at: /value, as: number}, unit: /unit, segment: ",
            "{at: /Segment, need: ", "optional}}"
          )
        )
      )
    )
  ))$rows
  # rows are in the order of their keys
  expect_identical(got$item, c("Assets", "Revenue"))
  expect_identical(got$value, c(70, 1200))
  expect_identical(got$basis, c("instant", "annual"))
  expect_identical(format(got$period_end), c("2025-12-31", "2025-12-31"))
  expect_identical(got$segment, c(NA, "Barges"))
})
