# Reading what a written file is (export-about.R): metadata in open standards,
# and the lineage.

csvw_types <- list(
  text = "string", number = "number", day = "date", instant = "dateTime",
  flag = "boolean"
)

about_file <- function(file) paste0(file, "-metadata.json")

# The id of the lineage in a page.
lineage_id <- "lineage"

# What a file says about itself; NULL where it says nothing.
about_read <- function(file) {
  read <- about_readers[[tolower(tools::file_ext(file))]]
  text <- if (!is.null(read)) {
    tryCatch(read(file), error = function(e) NULL)
  }
  if (is.null(text) || !nzchar(text)) {
    return(NULL)
  }
  about <- tryCatch(
    jsonlite::fromJSON(text, simplifyVector = FALSE),
    error = function(e) {
      vetusta_stop(
        "import", "The metadata of the file is not JSON.",
        where = about_place(file), todo = "remove it, or write the file again"
      )
    }
  )
  other_errors(about_of(about), function(e) {
    vetusta_stop(
      "import",
      "The metadata of the file has another form than CSV on the Web.",
      where = about_place(file), todo = "remove it, or write the file again"
    )
  })
}

about_place <- function(file) {
  if (file.exists(about_file(file))) about_file(file) else file
}

about_of <- function(about) {
  # a figure or report has its lineage only
  if (!is.null(about$step)) {
    return(structure(list(lineage = about), class = "vetusta_about"))
  }
  columns <- about$tableSchema$columns
  text <- function(name) {
    vapply(columns, function(x) as.character(x[[name]] %||% NA)[1], "")
  }
  types <- unlist(lapply(columns, function(x) {
    type <- if (is.list(x$datatype)) x$datatype$base else x$datatype
    names(csvw_types)[match(type, unlist(csvw_types))] %||% NA
  }))
  notes <- about$notes[[1]] %||% list()
  structure(
    list(
      title = about[["dc:title"]], source = about[["dc:source"]],
      licence = about[["dc:license"]],
      columns = as_rows(list(
        column = vapply(columns, function(x) {
          as.character(unlist(x$titles)[1] %||% x$name)
        }, ""),
        type = types, unit = text("schema:unitText"),
        meaning = text("dc:description")
      )),
      interval = notes$interval, zone = notes$zone, calendar = notes$calendar,
      delay = notes$delay,
      titles = unlist(notes$titles), lineage = notes$lineage
    ),
    class = "vetusta_about"
  )
}

about_beside <- function(file) {
  beside <- about_file(file)
  if (file.exists(beside)) {
    paste(readLines(beside, warn = FALSE, encoding = "UTF-8"), collapse = "\n")
  }
}

about_readers <- list(
  csv = about_beside,
  tsv = about_beside,
  parquet = function(file) {
    pairs <- nanoparquet::read_parquet_metadata(file)
    pairs <- pairs$file_meta_data$key_value_metadata[[1]]
    pairs$value[match("csvw", pairs$key)] %|na|% NULL
  },
  xlsx = function(file) {
    sheet_property(file, "docProps/custom.xml", "//*[@name = 'csvw']") %||%
      sheet_property(
        file, "docProps/core.xml", "//*[local-name() = 'description']"
      )
  },
  png = function(file) png_text(file),
  svg = function(file) {
    node <- xml2::xml_find_first(
      xml2::read_xml(file), "//*[local-name() = 'metadata']"
    )
    if (!is.na(node)) xml2::xml_text(node)
  },
  html = function(file) {
    node <- xml2::xml_find_first(
      xml2::read_html(file, options = c("HUGE", "RECOVER", "NOERROR")),
      paste0("//script[@id = '", lineage_id, "']")
    )
    if (!is.na(node)) xml2::xml_text(node)
  }
)

# The text of a document's property; NULL without it.
sheet_property <- function(file, part, path) {
  if (!part %in% utils::unzip(file, list = TRUE)$Name) {
    return(NULL)
  }
  connection <- unz(file, part, "rb")
  on.exit(close(connection))
  node <- xml2::xml_find_first(
    xml2::read_xml(readBin(connection, "raw", 1e6)), path
  )
  text <- if (!is.na(node)) xml2::xml_text(node)
  if (length(text) && startsWith(text, "{")) text
}

png_text <- function(file) {
  bytes <- readBin(file, "raw", file.size(file))
  at <- 9
  while (at + 8 <= length(bytes)) {
    size <- sum(as.integer(bytes[at + 0:3]) * 256^(3:0))
    if (identical(rawToChar(bytes[at + 4:7]), "iTXt")) {
      data <- bytes[at + 8 + seq_len(size) - 1]
      zero <- which(data == as.raw(0))
      if (identical(rawToChar(data[seq_len(zero[1] - 1)]), lineage_id)) {
        text <- rawToChar(data[-seq_len(zero[1] + 4)])
        Encoding(text) <- "UTF-8"
        return(text)
      }
    }
    at <- at + 12 + size
  }
  NULL
}

# Arguments of an import that were not given, from the metadata of the file:
# interval, zone, units and types.
about_import <- function(file) {
  about <- about_read(file)
  columns <- about$columns
  if (is.null(columns)) {
    return(NULL)
  }
  stated <- !is.na(columns$unit)
  typed <- !is.na(columns$type)
  list(
    interval = about$interval, zone = about$zone,
    unit = if (any(stated)) {
      stats::setNames(columns$unit[stated], columns$column[stated])
    },
    types = if (any(typed)) {
      stats::setNames(columns$type[typed], columns$column[typed])
    },
    # a calendar by its name, where there is one
    calendar = if (length(about$calendar)) {
      tryCatch(
        source_calendar(about$calendar),
        vetusta_error = function(e) NULL
      )
    },
    calendar_name = about$calendar,
    title = about$title, titles = about$titles, source = about$source,
    licence = about$licence,
    delay = about$delay, columns = columns$column
  )
}

# The types that an import declares: those that it was given, and the text
# columns of the metadata, which stay text.
about_types <- function(about, types, rows, except) {
  stated <- about$types[
    names(about$types) %in% setdiff(names(rows), except)
  ]
  c(types, stated[stated == "text" & !names(stated) %in% names(types)])
}

# Columns of days, instants and flags by the metadata, where every value is one.
about_typed <- function(about, rows, except) {
  for (name in setdiff(intersect(names(about$types), names(rows)), except)) {
    type <- about$types[[name]]
    if (!type %in% c("day", "instant", "flag") || !is.character(rows[[name]])) {
      next
    }
    read <- declared_values(rows[[name]], type)
    if (!length(read$bad)) rows[[name]] <- read$value
  }
  rows
}

# Columns whose types the shape of the rows decides.
shape_typed <- function(shape) {
  c(
    shape_columns[[shape]],
    if (shape_is_series(shape)) c("status", "known", "frequency")
  )
}

# The days of a file begin with a calendar that is not known here.
say_calendar_unknown <- function(about, calendar, file) {
  if (length(about$calendar_name) && is.null(calendar)) {
    text <- paste0(
      "note: the calendar ", about$calendar_name, " of ", basename(file),
      " is not known here, so its days begin at midnight; give its calendar\n"
    )
    message(
      structure(
        class = c("vetusta_note", "message", "condition"),
        list(message = text, call = NULL, calendar = about$calendar_name)
      )
    )
  }
}
