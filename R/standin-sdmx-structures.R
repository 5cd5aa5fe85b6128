# The structures of the invented statistics office, as SDMX messages.

basin_names <- function(en, qsa, tag = "Name") {
  paste0(
    "<com:", tag, " xml:lang=\"en\">", xml_text_of(en), "</com:", tag, ">",
    if (length(qsa)) {
      paste0(
        "<com:", tag, " xml:lang=\"qsa\">", xml_text_of(qsa), "</com:", tag, ">"
      )
    }
  )
}

basin_structure <- function(words, query, request, version) {
  kind <- words[1]
  id <- if (length(words) > 2) words[3] else "all"
  wanted <- words[2] %in% c(basin_agency, "all", "*")
  given <- if (length(words) > 3) words[4] else "latest"
  flows <- basin_flows()
  if (!id %in% c("all", "*")) {
    flows <- flows[names(flows) %in% sub("^DSD_", "", id)]
  }
  if (!wanted ||
    (!length(flows) && kind %in% c("dataflow", "datastructure")) ||
    !given %in% c("latest", "~", "1.0", "1.0.0", "*", "all")) {
    return(basin_error(404L, 100, "No results found."))
  }
  all <- (query$references %||% "none") %in% c("all", "descendants", "children")
  parts <- list(
    Dataflows = if (kind == "dataflow") basin_flows_xml(flows, version),
    Categorisations = if (kind == "categorisation" || all) {
      basin_categorisations_xml(flows)
    },
    CategorySchemes = if (kind == "categoryscheme") basin_categories_xml(),
    # nolint
    Codelists = if (kind == "codelist" || all) {
      basin_codelists_xml(if (kind == "codelist") NULL else flows)
    },
    Concepts = if (kind == "conceptscheme" || all) basin_concepts_xml(),
    DataStructures = if (kind == "datastructure" || all) {
      basin_structures_xml(flows, version)
    }
  )
  parts <- Filter(length, parts)
  body <- paste0(
    paste0(
      '<?xml version="1.0" encoding="UTF-8"?><mes:Structure xmlns:mes="http:/',
      "/www.sdmx.org/resources/sdmxml/schemas/v"
    ),
    if (version == 3) "3_0" else "2_1",
    paste0(
      '/message" xmlns:str="s" xmlns:com="c"><mes:Header><mes:ID>BSO1</mes:ID>',
      "<mes:Prepared>2026-03-20T09:00:00</mes:Prepared></mes:Header>",
      "<mes:Structures>"
    ),
    paste0(
      "<str:", names(parts), ">", vapply(parts, paste, "", collapse = ""),
      "</str:", names(parts), ">",
      collapse = ""
    ),
    "</mes:Structures></mes:Structure>"
  )
  tag <- paste0("\"", as.character(nchar(body)), "-1\"")
  if (identical(request$HTTP_IF_NONE_MATCH, tag)) {
    return(list(status = 304L, headers = list(ETag = tag), body = ""))
  }
  list(
    status = 200L,
    headers = list(
      "Content-Type" = paste0(
        "application/vnd.sdmx.structure+xml;version=",
        if (version == 3) "3.0.0" else "2.1"
      ),
      ETag = tag,
      "Last-Modified" = "Fri, 20 Mar 2026 09:00:00 GMT"
    ),
    body = body
  )
}

basin_reference <- function(class, id, version, item = NULL) {
  if (version == 3) {
    paste0(
      "urn:sdmx:org.sdmx.infomodel.", class, "=", basin_agency, ":", id,
      "(1.0)", if (!is.null(item)) paste0(".", item)
    )
  } else if (is.null(item)) {
    paste0(
      "<Ref id=\"", id, "\" version=\"1.0\" agencyID=\"", basin_agency, "\"/>"
    )
  } else {
    paste0(
      "<Ref id=\"", item, "\" maintainableParentID=\"", id, "\" agencyID=\"",
      basin_agency, "\"/>"
    )
  }
}

basin_flows_xml <- function(flows, version) {
  vapply(
    names(flows),
    function(id) {
      paste0(
        "<str:Dataflow id=\"", id,
        paste0(
          "\" agencyID=\"BSO\" ",
          "version=\"1.0\"><com:Annotations><com:Annotation ",
          paste0(
            "id=\"updated\"><com:AnnotationTitle>2026-03-20</",
            "com:AnnotationTitle></", "com:Annotation></com:Annotations>"
          )
        ),
        basin_names(flows[[id]]$title, flows[[id]]$sarnish),
        basin_names(flows[[id]]$text, NULL, "Description"), "<str:Structure>",
        basin_reference(
          "datastructure.DataStructure", paste0("DSD_", id), version
        ),
        "</str:Structure></str:Dataflow>"
      )
    },
    ""
  )
}

basin_categorisations_xml <- function(flows) {
  vapply(
    names(flows),
    function(id) {
      paste0(
        "<str:Categorisation id=\"CAT_", id,
        "\" agencyID=\"BSO\" version=\"1.0\">", basin_names(id, NULL),
        "<str:Source><Ref id=\"", id,
        "\" class=\"Dataflow\"/></str:Source><str:Target><Ref id=\"",
        flows[[id]]$theme,
        "\" maintainableParentID=\"THEMES\"/></str:Target></str:Categorisation>"
      )
    },
    ""
  )
}

basin_categories_xml <- function() {
  themes <- basin_themes()
  below <- function(path) {
    depth <- if (nzchar(path)) {
      lengths(strsplit(path, ".", fixed = TRUE)) + 1
    } else {
      1
    }
    here <- which(
      lengths(strsplit(themes$path, ".", fixed = TRUE)) == depth &
        startsWith(themes$path, if (nzchar(path)) paste0(path, ".") else "")
    )
    paste(
      vapply(
        here,
        function(i) {
          paste0(
            "<str:Category id=\"", sub(".*[.]", "", themes$path[i]), "\">",
            basin_names(themes$en[i], themes$qsa[i]), below(themes$path[i]),
            "</str:Category>"
          )
        },
        ""
      ),
      collapse = ""
    )
  }
  paste0(
    "<str:CategoryScheme id=\"THEMES\" agencyID=\"BSO\" version=\"1.0\">",
    basin_names("Themes", "Temy"), below(""), "</str:CategoryScheme>"
  )
}

basin_codelists_xml <- function(flows) {
  lists <- basin_codes()
  used <- if (is.null(flows)) {
    names(lists)
  } else {
    unique(
      unlist(lapply(flows, function(flow) c("CL_FREQ", flow$lists, "CL_UNIT")))
    )
  }
  vapply(
    used,
    function(id) {
      codes <- lists[[id]]
      paste0(
        "<str:Codelist id=\"", id, "\" agencyID=\"BSO\" version=\"1.0\">",
        basin_names(id, NULL),
        paste0(
          "<str:Code id=\"", codes$id, "\">", basin_names(codes$en, codes$qsa),
          ifelse(
            is.na(codes$parent), "",
            paste0("<str:Parent><Ref id=\"", codes$parent, "\"/></str:Parent>")
          ),
          "</str:Code>",
          collapse = ""
        ),
        "</str:Codelist>"
      )
    },
    ""
  )
}

basin_concepts <- c(
  FREQ = "Frequency", STATE = "State", LOCK = "Lock", CARGO = "Cargo",
  DIRECTION = "Direction", UNIT = "Unit", LEG = "Leg of the river",
  BASIS = "Price basis", TAX = "Tax", CROP = "Crop", TYPE = "Type of barge",
  AGE_CLASS = "Age class", TIME_PERIOD = "Time",
  OBS_STATUS = "Observation status", CONF_STATUS = "Confidentiality",
  UNIT_MULT = "Unit multiplier", OBS_VALUE = "Value"
)

basin_concepts_xml <- function() {
  paste0(
    "<str:ConceptScheme id=\"CONCEPTS\" agencyID=\"BSO\" version=\"1.0\">",
    basin_names("Concepts", NULL),
    paste0(
      "<str:Concept id=\"", names(basin_concepts), "\">",
      basin_names(basin_concepts, NULL), "</str:Concept>",
      collapse = ""
    ),
    "</str:ConceptScheme>"
  )
}

basin_structures_xml <- function(flows, version) {
  concept <- function(id) {
    paste0(
      "<str:ConceptIdentity>",
      basin_reference("conceptscheme.Concept", "CONCEPTS", version, id),
      "</str:ConceptIdentity>"
    )
  }
  vapply(
    names(flows),
    function(id) {
      dims <- basin_dimensions(flows[[id]])
      paste0(
        "<str:DataStructure id=\"DSD_",
        id,
        "\" agencyID=\"BSO\" version=\"1.0\">",
        basin_names(paste("Structure of", id), NULL),
        paste0(
          "<str:DataStructureComponents><str:DimensionList ",
          "id=\"DimensionDescriptor\">"
        ),
        paste0(
          "<str:Dimension id=\"", dims, "\" position=\"", seq_along(dims),
          "\">", vapply(dims, concept, ""),
          "<str:LocalRepresentation><str:Enumeration>",
          vapply(
            dims,
            function(dim) {
              basin_reference(
                "codelist.Codelist", basin_list_of(flows[[id]], dim), version
              )
            },
            ""
          ),
          "</str:Enumeration></str:LocalRepresentation></str:Dimension>",
          collapse = ""
        ),
        "<str:TimeDimension id=\"TIME_PERIOD\" position=\"",
        length(dims) + 1,
        "\">",
        concept("TIME_PERIOD"),
        paste0(
          "</str:TimeDimension></str:DimensionList><str:AttributeList ",
          "id=\"AttributeDescriptor\">"
        ),
        paste0(
          "<str:Attribute id=\"", c("UNIT_MULT", "OBS_STATUS", "CONF_STATUS"),
          "\" assignmentStatus=\"Conditional\">",
          vapply(c("UNIT_MULT", "OBS_STATUS", "CONF_STATUS"), concept, ""),
          "</str:Attribute>",
          collapse = ""
        ),
        # nolint
        paste0(
          "</str:AttributeList><str:MeasureList ",
          "id=\"MeasureDescriptor\"><str:PrimaryMeasure ", "id=\"OBS_VALUE\">"
        ),
        concept("OBS_VALUE"),
        paste0(
          "</str:PrimaryMeasure></str:MeasureList></",
          "str:DataStructureComponents></str:DataStructure>"
        )
      )
    },
    ""
  )
}

# --- data
# ------------------------------------------------------------
