# The Basin Statistics Office over HTTP: the SDMX REST interface in versions 2.1
# and 3.0, and a cube as JSON-stat.

basin_route <- function(path, query, request, state, settings) {
  words <- path[-1]
  version <- if (length(words) && words[1] == "v3") 3 else 2
  if (version == 3) words <- words[-1]
  if (length(words) < 2) {
    return(basin_error(404L, 100, "There is nothing at this URL."))
  }
  if (words[1] == "cube") {
    return(basin_cube(words[2], query, state, settings))
  }
  if (version == 3 && words[1] == "structure") words <- words[-1]
  if (words[1] %in%
    c(
      "dataflow", "datastructure", "codelist", "conceptscheme",
      "categoryscheme", "categorisation"
    )) {
    return(basin_structure(words, query, request, version))
  }
  if (words[1] %in% c("data", "availableconstraint", "availability")) {
    return(basin_query(words, query, request, version, state, settings))
  }
  basin_error(404L, 100, "There is nothing at this URL.")
}

basin_error <- function(status, code, text) {
  list(
    status = status,
    headers = list("Content-Type" = "application/xml"),
    # nolint
    body = paste0(
      paste0(
        '<?xml version="1.0"?><mes:Error ',
        'xmlns:mes="http://www.sdmx.org/resources/sdmxml/',
        paste0(
          'schemas/v2_1/message" ',
          'xmlns:com="http://www.sdmx.org/resources/sdmxml/schemas/',
          'v2_1/common"><mes:ErrorMessage code="'
        )
      ),
      code, '"><com:Text>', xml_text_of(text),
      "</com:Text></mes:ErrorMessage></mes:Error>"
    )
  )
}

xml_text_of <- function(x) {
  gsub(
    "\"", "&quot;",
    gsub(
      ">", "&gt;",
      gsub("<", "&lt;", gsub("&", "&amp;", x, fixed = TRUE), fixed = TRUE),
      fixed = TRUE
    ),
    fixed = TRUE
  )
}

# The parts of a query: dataflow, codes by dimension, first and last day.
basin_asked <- function(words, query, version) {
  if (version == 3) {
    id <- words[4]
    flow <- basin_flows()[[id]]
    filters <- query[grepl("^c\\[", names(query))]
    names(filters) <- sub("^c\\[(.*)\\]$", "\\1", names(filters))
    time <- strsplit(filters$TIME_PERIOD %||% "", "[+ ,]")[[1]]
    bound <- function(sign) sub("^..:", "", time[startsWith(time, sign)])[1]
    list(
      id = id,
      flow = flow,
      selection = lapply(
        filters[setdiff(names(filters), "TIME_PERIOD")],
        function(x) strsplit(x, ",", fixed = TRUE)[[1]]
      ),
      from = bound("ge:"),
      to = bound("le:"),
      version = words[5]
    )
  } else {
    reference <- strsplit(words[2], ",", fixed = TRUE)[[1]]
    id <- if (length(reference) > 1) reference[2] else reference[1]
    flow <- basin_flows()[[id]]
    key <- if (length(words) > 2) words[3] else "all"
    parts <- if (key == "all" || is.null(flow)) {
      list()
    } else {
      strsplit(strsplit(paste0(key, "."), ".", fixed = TRUE)[[1]], "[+ ]")
    }
    selection <- if (length(parts)) {
      stats::setNames(parts, basin_dimensions(flow)[seq_along(parts)])
    } else {
      list()
    }
    list(
      id = id,
      flow = flow,
      selection = lapply(selection, function(x) x[nzchar(x)]),
      from = query$startPeriod,
      to = query$endPeriod,
      version = reference[3],
      parts = length(parts)
    )
  }
}

basin_query <- function(words, query, request, version, state, settings) {
  asked <- basin_asked(words, query, version)
  if (is.null(asked$flow) ||
    !(is.na(asked$version %||% NA) ||
      asked$version %in% c("1.0", "latest", "~", "1.0.0"))) {
    return(basin_error(404L, 100, "No such dataflow."))
  }
  if (isTRUE(asked$parts > length(basin_dimensions(asked$flow)))) {
    return(
      basin_error(
        400L, 140, "The key has more parts than there are dimensions."
      )
    )
  }
  from <- to <- NULL
  if (!is.null(asked$from) && !is.na(asked$from)) {
    from <- time_periods(asked$from)$first
  }
  if (!is.null(asked$to) && !is.na(asked$to)) to <- time_periods(asked$to)$last
  if (anyNA(c(from, to))) {
    return(basin_error(400L, 140, "A period cannot be read."))
  }
  series <- basin_series(asked$id, asked$selection)
  release <- settings$release %||% 2
  if (words[1] != "data") {
    return(
      if (isFALSE(settings$availability)) {
        basin_error(501L, 501, "Not implemented.")
      } else {
        basin_availability(asked, series, from, to, release)
      }
    )
  }
  if (basin_cells(asked$id, series, from, to, release) > 5000) {
    return(basin_error(413L, 510, "The selection has more than 5,000 cells."))
  }
  format <- basin_format(request$HTTP_ACCEPT %||% "*/*", version)
  if (is.na(format)) {
    return(basin_error(406L, 406, "None of these formats is served."))
  }
  if (identical(query$includeHistory, "true")) {
    releases <- c(1, 2)
    if (!format %in% c("xml", "generic")) format <- "xml"
  } else {
    releases <- release
  }
  sets <- lapply(releases, function(r) {
    basin_cut(
      basin_observations(asked$id, series, from, to, r, state$cache), query, r,
      state$started
    )
  })
  if (!nrow(series) || all(vapply(sets, nrow, 1L) == 0)) {
    return(basin_error(404L, 100, "No results found."))
  }
  basin_write(
    format, asked, series, sets,
    if (length(releases) > 1) basin_releases[releases], query, version
  )
}

basin_cut <- function(obs, query, release, started) {
  if (!is.null(query$updatedAfter)) {
    # the newest release came when the service started
    updated <- ifelse(
      obs$released == basin_releases[release], started,
      as.numeric(as.POSIXct(obs$released, tz = "UTC"))
    )
    obs <- obs[updated > as.numeric(read_rfc3339(query$updatedAfter)), ]
  }
  rank <- stats::ave(seq_len(nrow(obs)), obs$series, FUN = seq_along)
  size <- stats::ave(seq_len(nrow(obs)), obs$series, FUN = length)
  first <- suppressWarnings(as.numeric(query$firstNObservations %||% NA))
  last <- suppressWarnings(as.numeric(query$lastNObservations %||% NA))
  keep <- rep(TRUE, nrow(obs))
  if (!is.na(first)) keep <- keep & rank <= first
  if (!is.na(last)) keep <- keep & rank > size - last
  obs[keep, ]
}

basin_format <- function(accept, version) {
  parts <- strsplit(accept, ",", fixed = TRUE)[[1]]
  quality <- suppressWarnings(
    as.numeric(
      ifelse(grepl("q=", parts), sub(".*q=([0-9.]+).*", "\\1", parts), "1")
    )
  )
  for (part in parts[order(-quality)]) {
    name <- if (grepl("genericdata\\+xml", part)) {
      "generic"
    } else if (grepl("(structurespecificdata|sdmx.data)\\+xml", part)) {
      "xml"
    } else if (grepl("sdmx.data\\+json", part)) {
      "json"
    } else if (grepl("sdmx.data\\+csv", part)) {
      "csv"
    } else if (grepl("[*]/[*]|application/xml", part)) {
      "generic"
    } else {
      NA
    }
    if (!is.na(name)) {
      return(name)
    }
  }
  NA_character_
}

basin_availability <- function(asked, series, from, to, release) {
  if (!nrow(series)) {
    return(basin_error(404L, 100, "No results found."))
  }
  flow <- asked$flow
  start <- max(as.Date(flow$start), from %||% as.Date(flow$start))
  end <- min(basin_last_period(flow, release), to %||% as.Date("2100-01-01"))
  # nolint
  body <- paste0(
    paste0(
      '<?xml version="1.0"?><mes:Structure xmlns:mes="m" xmlns:str="s" ',
      'xmlns:com="c">',
      paste0(
        '<mes:Structures><str:Constraints><str:ContentConstraint id="CC" ',
        'agencyID="BSO" ',
        paste0(
          'version="1.0" type="Actual"><com:Annotations><com:Annotation ',
          'id="obs_count">', "<com:AnnotationTitle>"
        )
      )
    ),
    basin_cells(
      asked$id,
      series,
      from,
      to,
      # nolint
      release
    ),
    paste0(
      "</com:AnnotationTitle></com:Annotation><com:Annotation ",
      'id="series_count">', "<com:AnnotationTitle>"
    ),
    nrow(series),
    "</com:AnnotationTitle></com:Annotation></com:Annotations>",
    basin_names("Available", NULL),
    '<str:CubeRegion include="true">',
    paste0(
      "<com:KeyValue id=\"", names(series), "\">",
      vapply(
        series,
        function(codes) {
          paste0("<com:Value>", unique(codes), "</com:Value>", collapse = "")
        },
        ""
      ),
      "</com:KeyValue>",
      collapse = ""
    ),
    # nolint
    "<com:KeyValue id=\"TIME_PERIOD\"><com:TimeRange><com:StartPeriod>",
    start,
    "T00:00:00</com:StartPeriod><com:EndPeriod>",
    end,
    paste0(
      "T00:00:00</com:EndPeriod></com:TimeRange></com:KeyValue></",
      "str:CubeRegion></",
      "str:ContentConstraint></str:Constraints></mes:Structures></",
      "mes:Structure>"
    )
  )
  list(
    status = 200L,
    headers = list(
      "Content-Type" = "application/vnd.sdmx.structure+xml;version=2.1"
    ),
    body = body
  )
}

basin_cube <- function(id, query, state, settings) {
  flow <- basin_flows()[[id]]
  if (is.null(flow)) {
    return(standin_json(404L, list(class = "error", label = "No such cube.")))
  }
  selection <- lapply(
    query[intersect(names(query), basin_dimensions(flow))],
    function(x) strsplit(x, "[+, ]")[[1]]
  )
  series <- basin_series(id, selection)
  from <- if (!is.null(query$from)) time_periods(query$from)$first
  if (basin_cells(id, series, from, NULL, 2) > 5000) {
    return(
      standin_json(
        413L, list(class = "error", label = "More than 5,000 cells.")
      )
    )
  }
  obs <- basin_observations(
    id, series, from, NULL, settings$release %||% 2, state$cache
  )
  list(
    status = 200L,
    headers = list("Content-Type" = "application/json"),
    body = write_jsonstat(id, flow, series, obs)
  )
}
