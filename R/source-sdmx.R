# SDMX sources: URLs of the standard's REST interface in versions 2.1 and 3.0,
# and Accept headers.

sdmx_grammar <- function() {
  list(
    version = c("!word", "2.1", "3.0"),
    agency = "!text",
    formats = "texts",
    most_cells = "count",
    languages = "texts",
    availability = "flag",
    updates = "flag",
    keep = "duration",
    keep_values = "duration"
  )
}

# The fastest to read first.
sdmx_formats <- list(
  "2.1" = c(
    csv = "application/vnd.sdmx.data+csv;version=1.0.0",
    json = "application/vnd.sdmx.data+json;version=1.0.0",
    xml = "application/vnd.sdmx.structurespecificdata+xml;version=2.1",
    generic = "application/vnd.sdmx.genericdata+xml;version=2.1"
  ),
  "3.0" = c(
    csv = "application/vnd.sdmx.data+csv;version=2.0.0",
    json = "application/vnd.sdmx.data+json;version=2.0.0",
    xml = "application/vnd.sdmx.data+xml;version=3.0.0"
  )
)

speaks_sdmx <- function(source) length(source$sdmx) > 0

check_sdmx <- function(source) {
  check_source_kind(source)
  if (!speaks_sdmx(source)) {
    vetusta_stop(
      "argument",
      paste0("The source ", source$source, " has no SDMX API."),
      where = source$file,
      todo = paste0(
        "write sdmx: {version: \"2.1\", agency: ...} in its card; or ",
        "query its datasets"
      )
    )
  }
}

check_source_kind <- function(source) {
  source <- given(source, "source")
  if (!inherits(source, "vetusta_source")) {
    vetusta_stop(
      "argument", "`source` must be a source.",
      todo = "read a source with source_card()"
    )
  }
}

# The Accept header, with the fastest format first.
sdmx_accept <- function(source) {
  known <- sdmx_formats[[source$sdmx$version]]
  chosen <- source$sdmx$formats %||% names(known)
  for (format in chosen) check_choice(format, "formats", names(known), "card")
  quality <- c("", paste0(";q=", format(seq(0.9, 0.5, by = -0.1), nsmall = 1)))
  paste0(known[chosen], quality[seq_along(chosen)], collapse = ", ")
}

sdmx_is_3 <- function(source) source$sdmx$version == "3.0"

sdmx_structure_accept <- function(source) {
  if (sdmx_is_3(source)) {
    "application/vnd.sdmx.structure+xml;version=3.0.0, application/xml;q=0.8"
  } else {
    "application/vnd.sdmx.structure+xml;version=2.1, application/xml;q=0.8"
  }
}

# The URL of a structure query; `id` may be "all".
sdmx_structure_url <- function(source, kind, id = "all", version = "latest",
                               references = "none",
                               agency = source$sdmx$agency) {
  if (sdmx_is_3(source)) {
    path <- c(
      "structure", kind, agency, if (id == "all") "*" else id,
      if (version == "latest") "~" else version
    )
  } else {
    path <- c(kind, agency, id, version)
  }
  paste0(
    source$url, "/", paste(vapply(path, sdmx_encode, ""), collapse = "/"),
    "?references=", references
  )
}

sdmx_encode <- function(text) {
  gsub(
    "%2A", "*",
    gsub(
      "%2C", ",",
      gsub(
        "%7E", "~", gsub("%2B", "+", encode_plain(text), fixed = TRUE),
        fixed = TRUE
      ),
      fixed = TRUE
    ),
    fixed = TRUE
  )
}

# A selection is a list of codes by dimension, in the structure's order; NULL or
# empty means all codes of a dimension.
sdmx_key <- function(selection) {
  paste(
    vapply(selection, function(codes) paste(codes, collapse = "+"), ""),
    collapse = "."
  )
}

# The URL of a data query, or of an availability query.
sdmx_data_url <- function(source, flow, selection, query = list(),
                          available = FALSE) {
  if (sdmx_is_3(source)) {
    filters <- selection[lengths(selection) > 0]
    parts <- vapply(
      names(filters),
      function(name) {
        paste0(
          "c%5B", name, "%5D=",
          paste(vapply(filters[[name]], encode_plain, ""), collapse = ",")
        )
      },
      ""
    )
    time <- c(
      if (!is.null(query$startPeriod)) paste0("ge:", query$startPeriod),
      if (!is.null(query$endPeriod)) paste0("le:", query$endPeriod)
    )
    if (length(time)) {
      parts <- c(
        parts, paste0("c%5BTIME_PERIOD%5D=", paste(time, collapse = "+"))
      )
    }
    query[c("startPeriod", "endPeriod")] <- NULL
    path <- paste(
      c(
        if (available) "availability" else "data", "dataflow", flow$agency,
        flow$id, flow$version, "*"
      ),
      collapse = "/"
    )
  } else {
    parts <- character()
    key <- sdmx_key(selection)
    key <- if (grepl("^[.]*$", key)) "all" else key
    reference <- paste(c(flow$agency, flow$id, flow$version), collapse = ",")
    path <- paste(
      c(
        if (available) "availableconstraint" else "data", reference,
        sdmx_encode(key), if (available) c("all", "all")
      ),
      collapse = "/"
    )
  }
  query <- query[lengths(query) > 0]
  parts <- c(
    parts,
    if (length(query)) {
      paste0(
        names(query), "=",
        vapply(query, function(value) encode_plain(as.character(value)), "")
      )
    }
  )
  paste0(
    source$url, "/", path, if (length(parts)) "?", paste(parts, collapse = "&")
  )
}
