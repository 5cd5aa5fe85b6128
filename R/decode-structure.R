# SDMX structure messages 2.1 and 3.0, read with xml2 by element names, ignoring
# prefixes.

read_plain_xml <- function(body, where) {
  if (!length(body)) {
    stop_spoilt("The answer is empty.", where, "try again later")
  }
  # the size limit applies to the decoded text, whatever the encoding
  body <- utf8_body(body, where)
  start <- utils::head(body, 600)
  start <- rawToChar(utils::head(start[start != as.raw(0)], 300))
  if (grepl("<html|<!DOCTYPE html", start, ignore.case = TRUE)) {
    stop_spoilt(
      "The answer is a web page, not a message.", where,
      paste0(
        "check whether the card's URL is right; it begins: ",
        body_excerpt(body, 80)
      )
    )
  }
  if (length(grepRaw("<!DOCTYPE", body, fixed = TRUE))) {
    stop_payload(
      paste0(
        "The message has a document type, which is refused: it could ",
        "name entities that ", "read files or never end."
      ),
      where, "report it to the provider of the service"
    )
  }
  tryCatch(
    xml2::read_xml(body, options = c("NOBLANKS", "NONET")),
    error = function(e) {
      stop_spoilt(
        "The answer is not valid XML: it is cut short or damaged.", where,
        paste0("try again; the answer begins: ", body_excerpt(body, 80))
      )
    }
  )
}

xml_named <- function(node, ...) {
  xml2::xml_find_all(
    node,
    paste0(
      ".//*[", paste0("local-name()='", c(...), "'", collapse = " or "), "]"
    )
  )
}
xml_children_named <- function(node, name) {
  xml2::xml_find_all(node, paste0("./*[local-name()='", name, "']"))
}
# Texts without surrounding space.
xml_trimmed <- function(node) {
  text <- xml2::xml_text(node)
  at <- which(grepl("^[[:space:]\u00a0]|[[:space:]\u00a0]$", text, perl = TRUE))
  text[at] <- trimws(text[at], whitespace = "[[:space:]\u00a0]")
  text
}

# Texts by language; a text without a language is English, as the standard says.
xml_texts <- function(node, name = "Name") {
  nodes <- xml_children_named(node, name)
  language <- xml2::xml_attr(nodes, "lang")
  stats::setNames(
    xml2::xml_text(nodes, trim = TRUE), ifelse(is.na(language), "en", language)
  )
}

# The target of a reference, by its Ref element (2.1) or its URN (3.0 and 2.1):
# agency, id, version, and the item within it, if named.
reference_of <- function(node) {
  ref <- xml_named(node, "Ref")
  if (length(ref)) {
    attribute <- function(name) xml2::xml_attr(ref[[1]], name)
    scheme <- attribute("maintainableParentID")
    return(
      if (is.na(scheme)) {
        list(
          agency = attribute("agencyID"), id = attribute("id"),
          version = attribute("version"), item = NA_character_
        )
      } else {
        list(
          agency = attribute("agencyID"),
          id = scheme,
          version = attribute("maintainableParentVersion"),
          item = attribute("id")
        )
      }
    )
  }
  urn <- xml2::xml_text(node, trim = TRUE)
  parts <- regmatches(
    urn, regexec("(?:=|^)([^:=]+):([^:(]+)\\(([^)]*)\\)(?:[.](.*))?$", urn)
  )[[1]]
  if (length(parts)) {
    list(
      agency = parts[2],
      id = parts[3],
      version = parts[4],
      item = if (nzchar(parts[5])) parts[5] else NA_character_
    )
  } else {
    list(
      agency = NA_character_, id = urn, version = NA_character_,
      item = NA_character_
    )
  }
}

# The artefact that a reference means among equal ids of several agencies or
# versions; a wildcard or no version means the newest.
find_artefact <- function(artefacts, reference) {
  if (is.null(reference) || is.na(reference$id)) {
    return(NULL)
  }
  fits <- function(name) {
    function(artefact) {
      is.na(reference[[name]]) ||
        is.na(artefact[[name]]) ||
        identical(artefact[[name]], reference[[name]])
    }
  }
  matches <- Filter(
    function(artefact) identical(artefact$self_id, reference$id), artefacts
  )
  of_agency <- Filter(fits("agency"), matches)
  if (!length(of_agency)) of_agency <- matches
  exact <- Filter(fits("version"), of_agency)
  if (!length(exact)) exact <- of_agency
  if (!length(exact)) {
    return(NULL)
  }
  exact[[
    newest_version(
      vapply(exact, function(artefact) artefact$version %||% NA_character_, "")
    )
  ]]
}

newest_version <- function(versions) {
  number <- lapply(
    strsplit(ifelse(is.na(versions), "0", versions), ".", fixed = TRUE),
    function(parts) suppressWarnings(as.numeric(sub("[^0-9].*", "", parts)))
  )
  rank <- vapply(
    number,
    function(parts) {
      sum(ifelse(is.na(parts), 0, parts) * 1e4^(3 - seq_along(parts)))
    },
    1
  )
  which.max(rank)
}

decode_structure <- function(body, where) {
  document <- read_plain_xml(body, where)
  root <- xml2::xml_name(document)
  if (grepl("Error", root)) stop_sdmx_error(xml_named(document, "Text"), where)
  list(
    flows = lapply(xml_named(document, "Dataflow"), structure_flow),
    structures = lapply(xml_named(document, "DataStructure"), structure_dsd),
    codelists = structure_lists(document, "Codelist", "Code"),
    concepts = structure_lists(
      document, "ConceptScheme", "Concept", structure_enumerations
    ),
    categories = structure_categories(document),
    categorisations = structure_categorisations(document),
    constraints = lapply(
      xml_named(document, "ContentConstraint", "DataConstraint"),
      structure_constraint
    )
  )
}

stop_sdmx_error <- function(texts, where) {
  stop_payload(
    paste0(
      "The service answers with an error: ",
      substr(
        paste(unique(xml2::xml_text(texts, trim = TRUE)), collapse = "; "), 1,
        300
      )
    ),
    where, "check the query; if it is right, try again later"
  )
}

structure_flow <- function(node) {
  structure <- xml_children_named(node, "Structure")
  list(
    id = xml2::xml_attr(node, "id"),
    agency = xml2::xml_attr(node, "agencyID"),
    version = xml2::xml_attr(node, "version"),
    names = xml_texts(node),
    descriptions = xml_texts(node, "Description"),
    structure = if (length(structure)) reference_of(structure[[1]]),
    annotations = structure_annotations(node)
  )
}

structure_annotations <- function(node) {
  annotations <- xml_named(
    xml_children_named(node, "Annotations"), "Annotation"
  )
  titles <- vapply(
    annotations,
    function(annotation) {
      text <- xml2::xml_text(xml_children_named(annotation, "AnnotationTitle"))
      if (length(text)) text[1] else NA_character_
    },
    ""
  )
  stats::setNames(titles, xml2::xml_attr(annotations, "id"))
}

structure_dsd <- function(node) {
  dimensions <- as.list(
    xml_named(
      xml_named(node, "DimensionList"), "Dimension", "MeasureDimension",
      "TimeDimension"
    )
  )
  about <- lapply(dimensions, structure_component)
  good <- !is.na(vapply(about, `[[`, "", "id"))
  dimensions <- dimensions[good]
  about <- about[good]
  frame <- data.frame(
    id = vapply(about, `[[`, "", "id"),
    role = vapply(
      dimensions,
      function(dimension) {
        c(
          Dimension = "dimension", MeasureDimension = "measure",
          TimeDimension = "time"
        )[[xml2::xml_name(dimension)]]
      },
      ""
    ),
    concept = vapply(
      about, function(component) component$concept$item %||% NA_character_, ""
    ),
    position = vapply(
      dimensions,
      function(element) as.numeric(xml2::xml_attr(element, "position")), 1
    )
  )
  # each dimension has a concept, and its own code list or that of the concept
  frame$concept_of <- lapply(about, `[[`, "concept")
  frame$codelist <- lapply(about, `[[`, "codelist")
  if (!anyNA(frame$position)) {
    frame <- frame[order(frame$role == "time", frame$position), ]
  }
  attributes <- as.list(
    xml_named(xml_named(node, "AttributeList"), "Attribute")
  )
  components <- lapply(attributes, structure_component)
  attributes <- attributes[!is.na(vapply(components, `[[`, "", "id"))]
  components <- Filter(function(component) !is.na(component$id), components)
  list(
    self_id = xml2::xml_attr(node, "id"),
    agency = xml2::xml_attr(node, "agencyID"),
    version = xml2::xml_attr(node, "version"),
    dimensions = frame,
    attributes = data.frame(
      id = vapply(components, `[[`, "", "id"),
      concept = vapply(
        components,
        function(component) component$concept$item %||% NA_character_, ""
      ),
      level = vapply(attributes, attribute_level, "")
    ),
    measures = structure_measures(node)
  )
}

# The ids of the measures: the primary measure of SDMX 2.1, or the list of SDMX
# 3.0.
structure_measures <- function(node) {
  list <- xml_named(node, "MeasureList")
  measures <- as.list(xml_named(list, "PrimaryMeasure", "Measure"))
  ids <- vapply(measures, function(measure) structure_component(measure)$id, "")
  ids <- ids[!is.na(ids)]
  if (length(ids)) ids else "OBS_VALUE"
}

# Whether an attribute belongs to each value, or to a series, a group or the
# data set.
attribute_level <- function(node) {
  relation <- xml_children_named(node, "AttributeRelationship")
  if (length(xml_named(relation, "PrimaryMeasure", "Observation")) ||
    length(xml_named(node, "MeasureRelationship"))) {
    "value"
  } else if (length(relation)) {
    "series"
  } else {
    NA_character_
  }
}

# A component without an id has its concept's (SDMX 2.1, part 3).
structure_component <- function(node) {
  concept <- xml_children_named(node, "ConceptIdentity")
  concept <- if (length(concept)) reference_of(concept[[1]])
  id <- xml2::xml_attr(node, "id")
  if (is.na(id)) id <- concept$item %||% NA_character_
  if (is.null(concept)) {
    concept <- list(
      agency = NA_character_, id = NA_character_, version = NA_character_,
      item = id
    )
  }
  list(
    id = id,
    concept = concept,
    codelist = structure_enumeration(
      xml_children_named(node, "LocalRepresentation")
    )
  )
}

structure_enumeration <- function(representation) {
  nodes <- xml_named(representation, "Enumeration")
  if (length(nodes)) reference_of(nodes[[1]])
}

structure_enumerations <- function(items) {
  lapply(
    as.list(items),
    function(item) {
      structure_enumeration(xml_children_named(item, "CoreRepresentation"))
    }
  )
}

# The schemes of a kind: agency, id and version, and for their items `id`,
# `parent`, `labels` by language, and what `more` reads. Items are read in a few
# passes over all of them, because a scheme may have many thousand.
structure_lists <- function(document, scheme, item, more = NULL) {
  lapply(as.list(xml_named(document, scheme)), function(node) {
    items <- xml_children_named(node, item)
    owner <- item_owners(items, c("Name", "Parent"))
    list(
      self_id = xml2::xml_attr(node, "id"),
      agency = xml2::xml_attr(node, "agencyID"),
      version = xml2::xml_attr(node, "version"),
      id = xml2::xml_attr(items, "id"),
      parent = item_parents(node, item, length(items), owner$Parent),
      labels = item_labels(node, item, length(items), owner$Name),
      more = if (!is.null(more)) more(items)
    )
  })
}

# The item of each child element with these names: its position, from the number
# of children of each item.
item_owners <- function(items, names) {
  counts <- paste0(
    "count(./*[local-name()='", names, "'])",
    collapse = ", ' ', "
  )
  counted <- xml2::xml_find_chr(items, paste0("concat(", counts, ")"))
  counted <- as.integer(unlist(strsplit(counted, " ", fixed = TRUE)))
  counts <- matrix(counted, nrow = length(names))
  lapply(
    stats::setNames(seq_along(names), names),
    function(k) rep(seq_along(items), counts[k, ])
  )
}

item_parents <- function(node, item, n, owner) {
  parent <- rep(NA_character_, n)
  nodes <- xml2::xml_find_all(
    node, paste0("./*[local-name()='", item, "']/*[local-name()='Parent']")
  )
  if (length(nodes)) {
    ref <- xml2::xml_find_first(nodes, ".//*[local-name()='Ref']")
    id <- xml2::xml_attr(ref, "id")
    bare <- which(is.na(id))
    id[bare] <- sub(".*[.]", "", xml_trimmed(nodes[bare]))
    parent[owner] <- id
  }
  parent
}

# The names of items by language, NA where missing; a name without a language is
# English, as the standard says.
item_labels <- function(node, item, n, owner) {
  nodes <- xml2::xml_find_all(
    node, paste0("./*[local-name()='", item, "']/*[local-name()='Name']")
  )
  language <- xml2::xml_attr(nodes, "lang")
  language[is.na(language)] <- "en"
  text <- xml_trimmed(nodes)
  lapply(stats::setNames(nm = unique(language)), function(code) {
    at <- which(language == code)
    text[at][match(seq_len(n), owner[at])]
  })
}
