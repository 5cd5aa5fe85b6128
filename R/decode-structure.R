# SDMX structure messages, of 2.1 and 3.0 alike: read with xml2 by the elements' names, whatever their prefixes.

read_plain_xml <- function(body, where) {
  if (!length(body)) stop_payload("The answer is empty.", where, "try again later")
  start <- rawToChar(utils::head(body[body != as.raw(0)], 300))
  if (grepl("<html|<!DOCTYPE html", start, ignore.case = TRUE)) stop_payload("The answer is a web page, not a message.", where,
    paste0("look whether the card's address is right; it begins: ", body_excerpt(body, 80)))
  if (length(grepRaw("<!DOCTYPE", body,
    fixed = TRUE))) stop_payload("The message has a document type, which is refused: it could name entities that read files or never end.", where, "tell the service's makers")
  tryCatch(xml2::read_xml(body, options = c("NOBLANKS", "NONET")), error = function(e) {
    stop_payload("The answer is no whole XML: it is cut short or damaged.", where, paste0("ask again; it begins: ", body_excerpt(body, 80)))
  })
}

xml_named <- function(node, ...) xml2::xml_find_all(node, paste0(".//*[", paste0("local-name()='", c(...), "'", collapse = " or "), "]"))
xml_children_named <- function(node, name) xml2::xml_find_all(node, paste0("./*[local-name()='", name, "']"))
xml_first_attr <- function(node, name) if (length(node)) xml2::xml_attr(node[[1]], name) else NA_character_

# Texts by language; one without a language is English, as the standard has it.
xml_texts <- function(node, name = "Name") {
  found <- xml_children_named(node, name)
  language <- xml2::xml_attr(found, "lang")
  stats::setNames(xml2::xml_text(found, trim = TRUE), ifelse(is.na(language), "en", language))
}

# The id that a reference names, by its Ref element (2.1) or its URN (3.0 and 2.1).
reference_id <- function(node) {
  ref <- xml_named(node, "Ref")
  if (length(ref)) {
    return(xml2::xml_attr(ref[[1]], "id"))
  }
  urn <- xml2::xml_text(node, trim = TRUE)
  sub(".*[:)]([^:(]+)\\([^)]*\\)(\\.(.*))?$", "\\1", urn)
}

decode_structure <- function(body, where) {
  document <- read_plain_xml(body, where)
  root <- xml2::xml_name(document)
  if (grepl("Error", root)) stop_sdmx_error(xml_named(document, "Text"), where)
  list(
    flows = lapply(xml_named(document, "Dataflow"), structure_flow), structures = lapply(xml_named(document, "DataStructure"), structure_dsd),
    codelists = structure_lists(document, "Codelist", "Code"), concepts = structure_lists(document, "ConceptScheme", "Concept"),
    categories = structure_categories(document), categorisations = structure_categorisations(document), constraints = lapply(xml_named(document,
      "ContentConstraint", "DataConstraint"), structure_constraint)
  )
}

stop_sdmx_error <- function(texts, where) {
  stop_payload(paste0("The service answers with an error: ", substr(paste(unique(xml2::xml_text(texts, trim = TRUE)), collapse = "; "), 1, 300)), where,
    "look at the want; if it is right, ask again later")
}

structure_flow <- function(node) {
  structure <- xml_children_named(node, "Structure")
  list(id = xml2::xml_attr(node, "id"), agency = xml2::xml_attr(node, "agencyID"), version = xml2::xml_attr(node, "version"), names = xml_texts(node),
    descriptions = xml_texts(node, "Description"),
    structure = if (length(structure)) reference_id(structure[[1]]) else NA_character_, annotations = structure_annotations(node))
}

structure_annotations <- function(node) {
  found <- xml_named(xml_children_named(node, "Annotations"), "Annotation")
  titles <- vapply(found, function(one) {
    text <- xml2::xml_text(xml_children_named(one, "AnnotationTitle"))
    if (length(text)) text[1] else NA_character_
  }, "")
  stats::setNames(titles, xml2::xml_attr(found, "id"))
}

structure_dsd <- function(node) {
  dimensions <- xml_named(xml_named(node, "DimensionList"), "Dimension", "MeasureDimension", "TimeDimension")
  dimensions <- Filter(function(one) !is.na(xml2::xml_attr(one, "id")), as.list(dimensions))
  about <- lapply(dimensions, structure_component)
  frame <- data.frame(id = vapply(about, `[[`, "", "id"), role = vapply(dimensions, function(one) c(Dimension = "dimension", MeasureDimension = "measure",
    TimeDimension = "time")[[xml2::xml_name(one)]], ""),
    concept = vapply(about, `[[`, "", "concept"), codelist = vapply(about, `[[`, "", "codelist"), position = vapply(dimensions, function(one) as.numeric(xml2::xml_attr(one, "position")), 1))
  if (!anyNA(frame$position)) frame <- frame[order(frame$role == "time", frame$position), ]
  attributes <- lapply(Filter(function(one) !is.na(xml2::xml_attr(one, "id")), as.list(xml_named(xml_named(node, "AttributeList"), "Attribute"))), structure_component)
  list(id = xml2::xml_attr(node, "id"), dimensions = frame,
    attributes = data.frame(id = vapply(attributes, `[[`, "", "id"), concept = vapply(attributes, `[[`, "", "concept"), codelist = vapply(attributes, `[[`, "", "codelist")))
}

structure_component <- function(node) {
  concept <- xml_children_named(node, "ConceptIdentity")
  representation <- xml_named(xml_children_named(node, "LocalRepresentation"), "Enumeration")
  id <- xml2::xml_attr(node, "id")
  concept_id <- if (length(concept)) {
    ref <- xml_named(concept[[1]], "Ref")
    if (length(ref)) xml2::xml_attr(ref[[1]], "id") else sub(".*[.]", "", xml2::xml_text(concept[[1]], trim = TRUE))
  } else id
  list(id = id, concept = concept_id, codelist = if (length(representation)) reference_id(representation[[1]]) else NA_character_)
}

# Items of all schemes of a kind: a data frame a scheme, with a column a language behind `id` and `parent`.
structure_lists <- function(document, scheme, item) {
  schemes <- xml_named(document, scheme)
  lists <- lapply(schemes, function(node) {
    items <- xml_children_named(node, item)
    parent <- vapply(items, function(one) {
      up <- xml_children_named(one, "Parent")
      if (!length(up)) return(NA_character_)
      ref <- xml_named(up[[1]], "Ref")
      if (length(ref)) xml2::xml_attr(ref[[1]], "id") else xml2::xml_text(up[[1]], trim = TRUE)
    }, "")
    list(id = xml2::xml_attr(items, "id"), parent = as.character(parent), labels = item_labels(items))
  })
  stats::setNames(lists, xml2::xml_attr(schemes, "id"))
}

item_labels <- function(items) {
  names <- xml2::xml_find_all(items, "./*[local-name()='Name']", flatten = FALSE)
  languages <- unique(unlist(lapply(names, function(one) ifelse(is.na(xml2::xml_attr(one, "lang")), "en", xml2::xml_attr(one, "lang")))))
  stats::setNames(lapply(languages, function(language) vapply(names, function(one) {
    at <- match(language, ifelse(is.na(xml2::xml_attr(one, "lang")), "en", xml2::xml_attr(one, "lang")))
    if (is.na(at)) NA_character_ else xml2::xml_text(one[[at]], trim = TRUE)
  }, "")), languages)
}

structure_categories <- function(document) {
  rows <- lapply(xml_named(document, "CategoryScheme"), function(scheme) structure_category(xml_children_named(scheme, "Category"), character()))
  do.call(c, rows)
}

# Categories are a tree; each is told by its path of ids.
structure_category <- function(nodes, above) {
  do.call(c, lapply(nodes, function(node) {
    path <- c(above, xml2::xml_attr(node, "id"))
    c(list(list(path = paste(path, collapse = "."), names = xml_texts(node))), structure_category(xml_children_named(node, "Category"), path))
  }))
}

structure_categorisations <- function(document) {
  rows <- lapply(xml_named(document, "Categorisation"), function(node) {
    target <- xml_children_named(node, "Target")
    ref <- xml_named(target, "Ref")
    path <- if (length(ref)) xml2::xml_attr(ref[[1]], "id") else sub(".*\\)\\.", "", xml2::xml_text(target, trim = TRUE))
    data.frame(flow = reference_id(xml_children_named(node, "Source")[[1]]), category = path)
  })
  do.call(rbind, c(list(data.frame(flow = character(), category = character())), rows))
}

# What is available: codes by dimension, the first and last period, how many series and observations, where the service says.
structure_constraint <- function(node) {
  values <- xml_named(xml_named(node, "CubeRegion"), "KeyValue", "Component")
  ids <- xml2::xml_attr(values, "id")
  codes <- stats::setNames(lapply(values, function(one) xml2::xml_text(xml_children_named(one, "Value"), trim = TRUE)), ids)
  bound <- function(name) {
    found <- xml_named(node, name)
    if (length(found)) sub("T.*", "", xml2::xml_text(found[[1]], trim = TRUE)) else NA_character_
  }
  annotations <- structure_annotations(node)
  list(codes = codes[lengths(codes) > 0], start = bound("StartPeriod"), end = bound("EndPeriod"), cells = as.numeric(annotations["obs_count"]),
    series = as.numeric(annotations["series_count"]))
}
