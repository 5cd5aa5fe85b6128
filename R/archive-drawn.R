# What figures need beside the rows: names, headings and units in words.

# Names of the drawn series. Titles that come with the tables tell apart just
# these series, so they go before the names of all series of a source.
archive_drawn_names <- function(archive, tables, sources) {
  titles <- unlist(unname(lapply(tables, function(table) {
    attr(table, "title", exact = TRUE)
  })))
  names <- archive_names(archive, sources)
  c(titles, names[!names(names) %in% names(titles)])
}

# The title of the dataset of all tables, and the labels of the dimensions in
# which their series do not differ; NULL where they have several datasets, or
# bars.
archive_heading <- function(archive, tables, language = "en") {
  source <- unique(unlist(lapply(tables, attr, "source", exact = TRUE)))
  if (length(source) != 1 || any(vapply(tables, is_bars, TRUE))) {
    return(NULL)
  }
  parts <- strsplit(source, "/", fixed = TRUE)[[1]]
  if (length(parts) != 2) {
    return(NULL)
  }
  lists <- archive_labels(archive, parts[1], parts[2])
  lists <- lists[setdiff(names(lists), c("FREQ", "UNIT", "UNIT_MEASURE"))]
  shared <- vapply(names(lists), function(name) {
    codes <- unique(unlist(lapply(tables, function(x) unique(x[[name]]))))
    if (length(codes) != 1) {
      return(NA_character_)
    }
    labelled(codes, lists[[name]], "labels", language)
  }, "")
  several <- length(unique(unlist(lapply(tables, series_names_of)))) > 1
  c(
    dataset_facts(archive, parts[1], parts[2])$title,
    if (several && any(!is.na(shared))) {
      paste(shared[!is.na(shared)], collapse = ", ")
    }
  )
}

# A table whose unit codes are replaced by their labels.
archive_unit_labels <- function(table, archive, language = "en") {
  source <- attr(table, "source", exact = TRUE)
  if (is.null(table[["unit"]]) || length(source) != 1) {
    return(table)
  }
  parts <- strsplit(source, "/", fixed = TRUE)[[1]]
  lists <- archive_labels(archive, parts[1], parts[2])
  units <- lists[names(lists) %in% c("UNIT", "UNIT_MEASURE")]
  if (length(units)) {
    label <- code_labels(units[[1]], language)[
      match(table$unit, units[[1]]$id)
    ]
    label <- ifelse(is.na(label), table$unit, lower_first(label))
    table$unit <- label
  }
  table
}
