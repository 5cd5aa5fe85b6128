# Categories, categorisations and constraints of a structure message.

structure_categories <- function(document) {
  rows <- lapply(
    xml_named(document, "CategoryScheme"),
    function(scheme) {
      structure_category(xml_children_named(scheme, "Category"), character())
    }
  )
  do.call(c, rows)
}

# Categories are a tree; each is identified by its path of ids.
structure_category <- function(nodes, above) {
  do.call(
    c,
    lapply(nodes, function(node) {
      path <- c(above, xml2::xml_attr(node, "id"))
      c(
        list(list(path = paste(path, collapse = "."), names = xml_texts(node))),
        structure_category(xml_children_named(node, "Category"), path)
      )
    })
  )
}

structure_categorisations <- function(document) {
  rows <- lapply(xml_named(document, "Categorisation"), function(node) {
    target <- xml_children_named(node, "Target")
    ref <- xml_named(target, "Ref")
    path <- if (length(ref)) {
      xml2::xml_attr(ref[[1]], "id")
    } else {
      sub(".*\\)\\.", "", xml2::xml_text(target, trim = TRUE))
    }
    data.frame(
      flow = reference_of(xml_children_named(node, "Source")[[1]])$id,
      category = path
    )
  })
  do.call(
    rbind, c(list(data.frame(flow = character(), category = character())), rows)
  )
}

# Availability: codes by dimension, first and last period, and the number of
# series and observations, where stated.
structure_constraint <- function(node) {
  is_out <- function(item) {
    identical(tolower(xml2::xml_attr(item, "include")), "false")
  }
  codes <- without <- list()
  for (region in as.list(xml_named(node, "CubeRegion"))) {
    values <- as.list(xml_named(region, "KeyValue", "Component"))
    for (entry in values) {
      id <- xml2::xml_attr(entry, "id")
      texts <- xml2::xml_text(xml_children_named(entry, "Value"), trim = TRUE)
      # codes that a region excludes by one dimension alone have no data; by
      # several, only their combination has none
      if (!is_out(region) && !is_out(entry)) {
        codes[[id]] <- union(codes[[id]], texts)
      } else if (is_out(entry) && !is_out(region)) {
        without[[id]] <- union(without[[id]], texts)
      } else if (is_out(region) && length(values) == 1 && !is_out(entry)) {
        without[[id]] <- union(without[[id]], texts)
      }
    }
  }
  bound <- function(name) {
    nodes <- xml_named(node, name)
    if (length(nodes)) {
      sub("T.*", "", xml2::xml_text(nodes[[1]], trim = TRUE))
    } else {
      NA_character_
    }
  }
  annotations <- structure_annotations(node)
  list(
    codes = codes[lengths(codes) > 0],
    without = without[lengths(without) > 0],
    start = bound("StartPeriod"),
    end = bound("EndPeriod"),
    cells = as.numeric(annotations["obs_count"]),
    series = as.numeric(annotations["series_count"])
  )
}
