# The Basin Statistics Office over HTTP: the REST interface of SDMX in its versions 2.1 and 3.0, and a cube as JSON-stat.

basin_route <- function(path, query, request, state, settings) {
  words <- path[-1]
  version <- if (length(words) && words[1] == "v3") 3 else 2
  if (version == 3) words <- words[-1]
  if (length(words) < 2) {
    return(basin_error(404L, 100, "There is nothing at this address."))
  }
  if (words[1] == "cube") {
    return(basin_cube(words[2], query, state, settings))
  }
  if (version == 3 && words[1] == "structure") words <- words[-1]
  if (words[1] %in% c("dataflow", "datastructure", "codelist", "conceptscheme", "categoryscheme", "categorisation")) {
    return(basin_structure(words, query, request, version))
  }
  if (words[1] %in% c("data", "availableconstraint", "availability")) {
    return(basin_query(words, query, request, version, state, settings))
  }
  basin_error(404L, 100, "There is nothing at this address.")
}

basin_error <- function(status, code, text) {
  list(status = status, headers = list("Content-Type" = "application/xml"),
    body = paste0('<?xml version="1.0"?><mes:Error xmlns:mes="http://www.sdmx.org/resources/sdmxml/schemas/v2_1/message" xmlns:com="http://www.sdmx.org/resources/sdmxml/schemas/v2_1/common"><mes:ErrorMessage code="', code, # nolint
    '"><com:Text>', xml_text_of(text), "</com:Text></mes:ErrorMessage></mes:Error>"))
}

xml_text_of <- function(x) gsub("\"", "&quot;", gsub(">", "&gt;", gsub("<", "&lt;", gsub("&", "&amp;", x, fixed = TRUE), fixed = TRUE), fixed = TRUE), fixed = TRUE)

# --- structures --------------------------------------------------------------------------------------------------------

basin_names <- function(en, qsa, tag = "Name") paste0("<com:", tag, " xml:lang=\"en\">", xml_text_of(en), "</com:", tag, ">", if (length(qsa)) paste0("<com:",
  tag, " xml:lang=\"qsa\">", xml_text_of(qsa), "</com:", tag, ">"))

basin_structure <- function(words, query, request, version) {
  kind <- words[1]
  id <- if (length(words) > 2) words[3] else "all"
  wanted <- words[2] %in% c(basin_agency, "all", "*")
  given <- if (length(words) > 3) words[4] else "latest"
  flows <- basin_flows()
  if (!id %in% c("all", "*")) flows <- flows[names(flows) %in% sub("^DSD_", "", id)]
  if (!wanted || (!length(flows) && kind %in% c("dataflow", "datastructure")) || !given %in% c("latest", "~", "1.0", "1.0.0", "*", "all")) {
    return(basin_error(404L, 100, "No results found."))
  }
  all <- (query$references %||% "none") %in% c("all", "descendants", "children")
  parts <- list(
    Dataflows = if (kind == "dataflow") basin_flows_xml(flows,
      version), Categorisations = if (kind == "categorisation" || all) basin_categorisations_xml(flows), CategorySchemes = if (kind == "categoryscheme") basin_categories_xml(),
    Codelists = if (kind == "codelist" || all) basin_codelists_xml(if (kind == "codelist") NULL else flows), Concepts = if (kind == "conceptscheme" || all) basin_concepts_xml(), DataStructures = if (kind == "datastructure" || all) basin_structures_xml(flows, version) # nolint
  )
  parts <- Filter(length, parts)
  body <- paste0('<?xml version="1.0" encoding="UTF-8"?><mes:Structure xmlns:mes="http://www.sdmx.org/resources/sdmxml/schemas/v',
    if (version == 3) "3_0" else "2_1", '/message" xmlns:str="s" xmlns:com="c"><mes:Header><mes:ID>BSO1</mes:ID><mes:Prepared>2026-03-20T09:00:00</mes:Prepared></mes:Header><mes:Structures>',
    paste0("<str:", names(parts), ">", vapply(parts, paste, "", collapse = ""), "</str:", names(parts), ">", collapse = ""), "</mes:Structures></mes:Structure>")
  tag <- paste0("\"", as.character(nchar(body)), "-1\"")
  if (identical(request$HTTP_IF_NONE_MATCH, tag)) {
    return(list(status = 304L, headers = list(ETag = tag), body = ""))
  }
  list(status = 200L, headers = list("Content-Type" = paste0("application/vnd.sdmx.structure+xml;version=", if (version == 3) "3.0.0" else "2.1"), ETag = tag,
    "Last-Modified" = "Fri, 20 Mar 2026 09:00:00 GMT"), body = body)
}

basin_reference <- function(class, id, version, item = NULL) {
  if (version == 3) paste0("urn:sdmx:org.sdmx.infomodel.", class, "=", basin_agency, ":", id, "(1.0)", if (!is.null(item)) paste0(".", item))
  else if (is.null(item)) paste0("<Ref id=\"", id, "\" version=\"1.0\" agencyID=\"", basin_agency, "\"/>") else paste0("<Ref id=\"", item,
    "\" maintainableParentID=\"", id, "\" agencyID=\"", basin_agency, "\"/>")
}

basin_flows_xml <- function(flows, version) {
  vapply(names(flows), function(id) paste0("<str:Dataflow id=\"", id,
    "\" agencyID=\"BSO\" version=\"1.0\"><com:Annotations><com:Annotation id=\"updated\"><com:AnnotationTitle>2026-03-20</com:AnnotationTitle></com:Annotation></com:Annotations>",
    basin_names(flows[[id]]$title, flows[[id]]$sarnish), basin_names(flows[[id]]$text, NULL,
      "Description"), "<str:Structure>", basin_reference("datastructure.DataStructure", paste0("DSD_", id), version), "</str:Structure></str:Dataflow>"), "")
}

basin_categorisations_xml <- function(flows) {
  vapply(names(flows), function(id) paste0("<str:Categorisation id=\"CAT_", id, "\" agencyID=\"BSO\" version=\"1.0\">", basin_names(id, NULL),
    "<str:Source><Ref id=\"", id, "\" class=\"Dataflow\"/></str:Source><str:Target><Ref id=\"", flows[[id]]$theme, "\" maintainableParentID=\"THEMES\"/></str:Target></str:Categorisation>"), "")
}

basin_categories_xml <- function() {
  themes <- basin_themes()
  below <- function(path) {
    depth <- if (nzchar(path)) lengths(strsplit(path, ".", fixed = TRUE)) + 1 else 1
    here <- which(lengths(strsplit(themes$path, ".", fixed = TRUE)) == depth & startsWith(themes$path, if (nzchar(path)) paste0(path, ".") else ""))
    paste(vapply(here, function(i) paste0("<str:Category id=\"", sub(".*[.]", "", themes$path[i]), "\">", basin_names(themes$en[i], themes$qsa[i]),
      below(themes$path[i]), "</str:Category>"), ""), collapse = "")
  }
  paste0("<str:CategoryScheme id=\"THEMES\" agencyID=\"BSO\" version=\"1.0\">", basin_names("Themes", "Temy"), below(""), "</str:CategoryScheme>")
}

basin_codelists_xml <- function(flows) {
  lists <- basin_codes()
  used <- if (is.null(flows)) names(lists) else unique(unlist(lapply(flows, function(flow) c("CL_FREQ", flow$lists, "CL_UNIT"))))
  vapply(used, function(id) {
    codes <- lists[[id]]
    paste0("<str:Codelist id=\"", id, "\" agencyID=\"BSO\" version=\"1.0\">", basin_names(id, NULL), paste0("<str:Code id=\"", codes$id, "\">",
      basin_names(codes$en, codes$qsa), ifelse(is.na(codes$parent), "", paste0("<str:Parent><Ref id=\"", codes$parent,
      "\"/></str:Parent>")), "</str:Code>", collapse = ""), "</str:Codelist>")
  }, "")
}

basin_concepts <- c(FREQ = "Frequency", STATE = "State", LOCK = "Lock", CARGO = "Cargo", DIRECTION = "Direction", UNIT = "Unit", LEG = "Leg of the river",
  BASIS = "Price basis", TAX = "Tax", CROP = "Crop", TYPE = "Type of barge", AGE_CLASS = "Age class", TIME_PERIOD = "Time",
  OBS_STATUS = "Observation status", CONF_STATUS = "Confidentiality", UNIT_MULT = "Unit multiplier", OBS_VALUE = "Value")

basin_concepts_xml <- function() paste0("<str:ConceptScheme id=\"CONCEPTS\" agencyID=\"BSO\" version=\"1.0\">", basin_names("Concepts", NULL),
  paste0("<str:Concept id=\"", names(basin_concepts), "\">", basin_names(basin_concepts, NULL), "</str:Concept>", collapse = ""), "</str:ConceptScheme>")

basin_structures_xml <- function(flows, version) {
  concept <- function(id) paste0("<str:ConceptIdentity>", basin_reference("conceptscheme.Concept", "CONCEPTS", version, id), "</str:ConceptIdentity>")
  vapply(names(flows), function(id) {
    dims <- basin_dimensions(flows[[id]])
    paste0("<str:DataStructure id=\"DSD_", id, "\" agencyID=\"BSO\" version=\"1.0\">", basin_names(paste("Structure of", id), NULL),
      "<str:DataStructureComponents><str:DimensionList id=\"DimensionDescriptor\">",
      paste0("<str:Dimension id=\"", dims, "\" position=\"", seq_along(dims), "\">", vapply(dims, concept, ""), "<str:LocalRepresentation><str:Enumeration>",
        vapply(dims, function(dim) basin_reference("codelist.Codelist", basin_list_of(flows[[id]], dim), version),
        ""), "</str:Enumeration></str:LocalRepresentation></str:Dimension>", collapse = ""),
      "<str:TimeDimension id=\"TIME_PERIOD\" position=\"", length(dims) + 1, "\">", concept("TIME_PERIOD"), "</str:TimeDimension></str:DimensionList><str:AttributeList id=\"AttributeDescriptor\">",
      paste0("<str:Attribute id=\"", c("UNIT_MULT", "OBS_STATUS", "CONF_STATUS"), "\" assignmentStatus=\"Conditional\">", vapply(c("UNIT_MULT", "OBS_STATUS",
        "CONF_STATUS"), concept, ""), "</str:Attribute>", collapse = ""),
      "</str:AttributeList><str:MeasureList id=\"MeasureDescriptor\"><str:PrimaryMeasure id=\"OBS_VALUE\">", concept("OBS_VALUE"), "</str:PrimaryMeasure></str:MeasureList></str:DataStructureComponents></str:DataStructure>") # nolint
  }, "")
}

# --- data --------------------------------------------------------------------------------------------------------------

# What a query asks for: the flow, the codes by dimension, the first and last day.
basin_asked <- function(words, query, version) {
  if (version == 3) {
    id <- words[4]
    flow <- basin_flows()[[id]]
    filters <- query[grepl("^c\\[", names(query))]
    names(filters) <- sub("^c\\[(.*)\\]$", "\\1", names(filters))
    time <- strsplit(filters$TIME_PERIOD %||% "", "[+ ,]")[[1]]
    bound <- function(sign) sub("^..:", "", time[startsWith(time, sign)])[1]
    list(id = id, flow = flow, selection = lapply(filters[setdiff(names(filters), "TIME_PERIOD")], function(x) strsplit(x, ",", fixed = TRUE)[[1]]),
      from = bound("ge:"), to = bound("le:"), version = words[5])
  } else {
    reference <- strsplit(words[2], ",", fixed = TRUE)[[1]]
    id <- if (length(reference) > 1) reference[2] else reference[1]
    flow <- basin_flows()[[id]]
    key <- if (length(words) > 2) words[3] else "all"
    parts <- if (key == "all" || is.null(flow)) list() else strsplit(strsplit(paste0(key, "."), ".", fixed = TRUE)[[1]], "[+ ]")
    selection <- if (length(parts)) stats::setNames(parts, basin_dimensions(flow)[seq_along(parts)]) else list()
    list(id = id, flow = flow, selection = lapply(selection, function(x) x[nzchar(x)]), from = query$startPeriod, to = query$endPeriod, version = reference[3], parts = length(parts))
  }
}

basin_query <- function(words, query, request, version, state, settings) {
  asked <- basin_asked(words, query, version)
  if (is.null(asked$flow) || !(is.na(asked$version %||% NA) || asked$version %in% c("1.0", "latest", "~", "1.0.0"))) {
    return(basin_error(404L, 100, "No such dataflow."))
  }
  if (isTRUE(asked$parts > length(basin_dimensions(asked$flow)))) {
    return(basin_error(400L, 140, "The key has more parts than there are dimensions."))
  }
  from <- to <- NULL
  if (!is.null(asked$from) && !is.na(asked$from)) from <- time_periods(asked$from)$first
  if (!is.null(asked$to) && !is.na(asked$to)) to <- time_periods(asked$to)$last
  if (anyNA(c(from, to))) {
    return(basin_error(400L, 140, "A period cannot be read."))
  }
  series <- basin_series(asked$id, asked$selection)
  release <- settings$release %||% 2
  if (words[1] != "data") {
    return(if (isFALSE(settings$availability)) basin_error(501L, 501, "Not implemented.") else basin_availability(asked, series, from, to, release))
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
  sets <- lapply(releases, function(r) basin_cut(basin_observations(asked$id, series, from, to, r, state$cache), query, r, state$started))
  if (!nrow(series) || all(vapply(sets, nrow, 1L) == 0)) {
    return(basin_error(404L, 100, "No results found."))
  }
  basin_write(format, asked, series, sets, if (length(releases) > 1) basin_releases[releases], query, version)
}

basin_cut <- function(obs, query, release, started) {
  if (!is.null(query$updatedAfter)) {
    # the newest release came when the service began to serve it
    updated <- ifelse(obs$released == basin_releases[release], started, as.numeric(as.POSIXct(obs$released, tz = "UTC")))
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
  quality <- suppressWarnings(as.numeric(ifelse(grepl("q=", parts), sub(".*q=([0-9.]+).*", "\\1", parts), "1")))
  for (part in parts[order(-quality)]) {
    name <- if (grepl("genericdata\\+xml", part)) "generic" else if (grepl("(structurespecificdata|sdmx.data)\\+xml",
      part)) "xml" else if (grepl("sdmx.data\\+json", part)) "json" else if (grepl("sdmx.data\\+csv", part)) "csv" else if (grepl("[*]/[*]|application/xml", part)) "generic" else NA
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
  body <- paste0('<?xml version="1.0"?><mes:Structure xmlns:mes="m" xmlns:str="s" xmlns:com="c"><mes:Structures><str:Constraints><str:ContentConstraint id="CC" agencyID="BSO" version="1.0" type="Actual"><com:Annotations><com:Annotation id="obs_count"><com:AnnotationTitle>', # nolint
    basin_cells(asked$id, series, from, to,
      release), '</com:AnnotationTitle></com:Annotation><com:Annotation id="series_count"><com:AnnotationTitle>', nrow(series), "</com:AnnotationTitle></com:Annotation></com:Annotations>", basin_names("Available", NULL), '<str:CubeRegion include="true">', # nolint
    paste0("<com:KeyValue id=\"", names(series), "\">", vapply(series, function(codes) paste0("<com:Value>", unique(codes), "</com:Value>", collapse = ""), ""),
      "</com:KeyValue>", collapse = ""),
    "<com:KeyValue id=\"TIME_PERIOD\"><com:TimeRange><com:StartPeriod>", start, "T00:00:00</com:StartPeriod><com:EndPeriod>", end, "T00:00:00</com:EndPeriod></com:TimeRange></com:KeyValue></str:CubeRegion></str:ContentConstraint></str:Constraints></mes:Structures></mes:Structure>") # nolint
  list(status = 200L, headers = list("Content-Type" = "application/vnd.sdmx.structure+xml;version=2.1"), body = body)
}

basin_cube <- function(id, query, state, settings) {
  flow <- basin_flows()[[id]]
  if (is.null(flow)) {
    return(standin_json(404L, list(class = "error", label = "No such cube.")))
  }
  selection <- lapply(query[intersect(names(query), basin_dimensions(flow))], function(x) strsplit(x, "[+, ]")[[1]])
  series <- basin_series(id, selection)
  from <- if (!is.null(query$from)) time_periods(query$from)$first
  if (basin_cells(id, series, from, NULL, 2) > 5000) {
    return(standin_json(413L, list(class = "error", label = "More than 5,000 cells.")))
  }
  obs <- basin_observations(id, series, from, NULL, settings$release %||% 2, state$cache)
  list(status = 200L, headers = list("Content-Type" = "application/json"), body = write_jsonstat(id, flow, series, obs))
}
