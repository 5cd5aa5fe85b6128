# The formats in which the Basin Statistics Office sends data.

basin_write <- function(format, asked, series, sets, valid, query, version) {
  flat <- identical(query$dimensionAtObservation, "AllDimensions")
  type <- switch(format,
    csv = paste0(
      "application/vnd.sdmx.data+csv;version=",
      if (version == 3) "2.0.0" else "1.0.0"
    ),
    json = paste0(
      "application/vnd.sdmx.data+json;version=",
      if (version == 3) "2.0.0" else "1.0.0"
    ),
    xml = "application/vnd.sdmx.structurespecificdata+xml;version=2.1",
    generic = "application/vnd.sdmx.genericdata+xml;version=2.1"
  )
  body <- switch(format,
    csv = write_csv_message(asked, series, sets[[1]], version),
    json = write_json_message(asked, series, sets[[1]], flat, version),
    xml = write_specific(asked, series, sets, valid, flat),
    generic = write_generic(asked, series, sets, valid, flat)
  )
  list(status = 200L, headers = list("Content-Type" = type), body = body)
}

number_of <- function(x) ifelse(is.na(x), "", sprintf("%.15g", x))

message_head <- function(root, dimension) {
  paste0(
    '<?xml version="1.0" encoding="UTF-8"?><mes:',
    root,
    # nolint
    paste0(
      ' xmlns:mes="http://www.sdmx.org/resources/sdmxml/schemas/v2_1/',
      'message" xmlns:ss="ss" ',
      paste0(
        'xmlns:gen="http://www.sdmx.org/resources/sdmxml/schemas/v2_1/',
        'data/generic" ',
        paste0(
          'xmlns:com="c"><mes:Header><mes:ID>BSO</mes:ID><mes:Test>',
          "false</mes:Test>",
          paste0(
            "<mes:Prepared>2026-03-20T09:00:00</mes:Prepared><mes:Sender ",
            'id="BSO"/',
            '><mes:Structure structureID="S1" dimensionAtObservation="'
          )
        )
      )
    ),
    dimension,
    '"/></mes:Header>'
  )
}

write_specific <- function(asked, series, sets, valid, flat) {
  head <- message_head(
    "StructureSpecificData", if (flat) "AllDimensions" else "TIME_PERIOD"
  )
  set <- function(obs, i) {
    attributes <- paste0(
      ' TIME_PERIOD="', obs$time, '"',
      ifelse(
        is.na(obs$value), "", paste0(' OBS_VALUE="', number_of(obs$value), '"')
      ),
      ' OBS_STATUS="', obs$status, '" CONF_STATUS="', obs$conf, '"'
    )
    keys <- do.call(
      paste0,
      lapply(
        names(series),
        function(name) paste0(" ", name, '="', series[[name]], '"')
      )
    )
    inner <- if (flat) {
      paste0(
        "<Obs", keys[obs$series], attributes, ' UNIT_MULT="', asked$flow$mult,
        '"/>',
        collapse = ""
      )
    } else {
      paste0(
        "<Series", keys[unique(obs$series)], ' UNIT_MULT="', asked$flow$mult,
        '">',
        tapply(
          paste0("<Obs", attributes, "/>"),
          factor(obs$series, unique(obs$series)), paste,
          collapse = ""
        ),
        "</Series>",
        collapse = ""
      )
    }
    paste0(
      '<mes:DataSet ss:structureRef="S1" ss:action="',
      if (is.null(valid)) "Information" else "Replace", '"',
      if (!is.null(valid)) {
        paste0(' ss:validFromDate="', valid[i], 'T09:00:00Z"')
      },
      ">", inner, "</mes:DataSet>"
    )
  }
  paste0(
    head, paste(unlist(Map(set, sets, seq_along(sets))), collapse = ""),
    "</mes:StructureSpecificData>"
  )
}

write_generic <- function(asked, series, sets, valid, flat) {
  head <- message_head(
    "GenericData", if (flat) "AllDimensions" else "TIME_PERIOD"
  )
  pair <- function(id, value) {
    paste0('<gen:Value id="', id, '" value="', value, '"/>')
  }
  set <- function(obs, i) {
    keys <- do.call(
      paste0, lapply(names(series), function(name) pair(name, series[[name]]))
    )
    value <- ifelse(
      is.na(obs$value), "",
      paste0('<gen:ObsValue value="', number_of(obs$value), '"/>')
    )
    attributes <- paste0(
      pair("OBS_STATUS", obs$status), pair("CONF_STATUS", obs$conf)
    )
    inner <- if (flat) {
      paste0(
        "<gen:Obs><gen:ObsKey>", keys[obs$series],
        pair("TIME_PERIOD", obs$time), "</gen:ObsKey>", value,
        "<gen:Attributes>", attributes, pair("UNIT_MULT", asked$flow$mult),
        "</gen:Attributes></gen:Obs>",
        collapse = ""
      )
    } else {
      paste0(
        "<gen:Series><gen:SeriesKey>", keys[unique(obs$series)],
        "</gen:SeriesKey><gen:Attributes>", pair("UNIT_MULT", asked$flow$mult),
        "</gen:Attributes>",
        tapply(
          paste0(
            '<gen:Obs><gen:ObsDimension value="', obs$time, '"/>', value,
            "<gen:Attributes>", attributes, "</gen:Attributes></gen:Obs>"
          ),
          factor(obs$series, unique(obs$series)), paste,
          collapse = ""
        ),
        "</gen:Series>",
        collapse = ""
      )
    }
    paste0(
      '<mes:DataSet structureRef="S1" action="Information"',
      if (!is.null(valid)) paste0(' validFromDate="', valid[i], 'T09:00:00Z"'),
      ">", inner, "</mes:DataSet>"
    )
  }
  paste0(
    head, paste(unlist(Map(set, sets, seq_along(sets))), collapse = ""),
    "</mes:GenericData>"
  )
}

write_csv_message <- function(asked, series, obs, version) {
  head <- if (version == 3) {
    c("STRUCTURE", "STRUCTURE_ID", "ACTION")
  } else {
    "DATAFLOW"
  }
  front <- if (version == 3) {
    paste0("dataflow,BSO:", asked$id, "(1.0),I")
  } else {
    paste0("BSO:", asked$id, "(1.0)")
  }
  keys <- do.call(paste, c(unname(series), sep = ","))
  paste0(
    paste(
      c(
        head, names(series), "TIME_PERIOD", "OBS_VALUE", "UNIT_MULT",
        "OBS_STATUS", "CONF_STATUS"
      ),
      collapse = ","
    ),
    "\n",
    paste0(
      front, ",", keys[obs$series], ",", obs$time, ",", number_of(obs$value),
      ",", asked$flow$mult, ",", obs$status, ",", obs$conf, "\n",
      collapse = ""
    )
  )
}

write_json_message <- function(asked, series, obs, flat, version) {
  codes <- basin_codes()
  component <- function(id, values) {
    list(
      id = id,
      values = lapply(values, function(value) {
        list_id <- basin_list_of(asked$flow, id)
        list(
          id = value,
          name = codes[[list_id]]$en[match(value, codes[[list_id]]$id)]
        )
      })
    )
  }
  levels <- lapply(series, unique)
  index <- do.call(
    paste,
    c(
      unname(
        Map(function(column, level) match(column, level) - 1L, series, levels)
      ),
      sep = ":"
    )
  )
  times <- unique(obs$time)
  statuses <- unique(obs$status)
  confs <- unique(obs$conf)
  cell <- paste0(
    "[", ifelse(is.na(obs$value), "null", number_of(obs$value)), ",",
    match(obs$status, statuses) - 1L, ",", match(obs$conf, confs) - 1L,
    if (flat) ",0", "]"
  )
  plain <- function(values) lapply(values, function(value) list(id = value))
  dims <- Map(component, names(series), levels)
  clock <- list(
    id = "TIME_PERIOD", keyPosition = length(dims), values = plain(times)
  )
  mult <- list(id = "UNIT_MULT", values = plain(as.character(asked$flow$mult)))
  structure <- list(
    dimensions = if (flat) {
      list(observation = unname(c(dims, list(clock))))
    } else {
      list(series = unname(dims), observation = list(clock))
    },
    attributes = list(
      series = if (flat) list() else list(mult),
      observation = c(
        list(
          list(id = "OBS_STATUS", values = plain(statuses)),
          list(id = "CONF_STATUS", values = plain(confs))
        ),
        if (flat) list(mult)
      )
    )
  )
  inner <- if (flat) {
    paste0(
      '"observations":{',
      paste0(
        '"', index[obs$series], ":", match(obs$time, times) - 1L, '":', cell,
        collapse = ","
      ),
      "}"
    )
  } else {
    paste0(
      '"series":{',
      paste0(
        '"', index[unique(obs$series)], '":{"attributes":[0],"observations":{',
        tapply(
          paste0('"', match(obs$time, times) - 1L, '":', cell),
          factor(obs$series, unique(obs$series)), paste,
          collapse = ","
        ),
        "}}",
        collapse = ","
      ),
      "}"
    )
  }
  text <- as.character(jsonlite::toJSON(structure, auto_unbox = TRUE))
  # nolint
  if (version == 3) {
    paste0(
      paste0(
        '{"meta":{"schema":"https://json.sdmx.org/2.0.0/',
        'sdmx-json-data-schema.json",',
        '"prepared":"2026-03-20T09:00:00Z"},"data":{"structures":['
      ),
      text, '],"dataSets":[{"structure":0,"action":"Information",', inner,
      "}]}}"
    )
  } else {
    paste0(
      '{"meta":{"prepared":"2026-03-20T09:00:00Z"},"data":{"structure":', text,
      ',"dataSets":[{"action":"Information",', inner, "}]}}"
    )
  }
}

write_jsonstat <- function(id, flow, series, obs) {
  codes <- basin_codes()
  levels <- c(lapply(series, unique), list(TIME_PERIOD = unique(obs$time)))
  sizes <- lengths(levels)
  position <- rep(0, nrow(obs))
  for (name in names(levels)) {
    position <- position * sizes[[name]] +
      match(
        if (name == "TIME_PERIOD") obs$time else series[[name]][obs$series],
        levels[[name]]
      ) -
      1
  }
  there <- !is.na(obs$value)
  category <- function(name) {
    list <- if (name == "TIME_PERIOD") {
      NULL
    } else {
      codes[[basin_list_of(flow, name)]]
    }
    list(
      label = name,
      category = list(
        index = I(levels[[name]]),
        label = as.list(
          stats::setNames(
            if (is.null(list)) {
              levels[[name]]
            } else {
              list$en[match(levels[[name]], list$id)]
            },
            levels[[name]]
          )
        )
      )
    )
  }
  body <- list(
    version = "2.0",
    class = "dataset",
    label = flow$title,
    id = I(names(levels)),
    size = I(unname(sizes)),
    role = list(time = I("TIME_PERIOD")),
    dimension = lapply(stats::setNames(nm = names(levels)), category)
  )
  text <- as.character(jsonlite::toJSON(body, auto_unbox = TRUE))
  text_of <- function(value) {
    paste0(
      "{",
      paste0(
        '"', format(position[value$at], scientific = FALSE, trim = TRUE), '":',
        value$text,
        collapse = ","
      ),
      "}"
    )
  }
  paste0(
    sub("}$", "", text), ',"value":',
    text_of(list(at = there, text = number_of(obs$value[there]))),
    ',"status":',
    text_of(list(at = TRUE, text = paste0('"', obs$status, '"'))), "}"
  )
}
