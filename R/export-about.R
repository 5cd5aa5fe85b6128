# What a written table is, in open standards: CSV on the Web (W3C), as a file
# beside CSV and TSV, as the key `csvw` in Parquet and as a property of a
# workbook. Titles and sources are Dublin Core terms, units are unitText of
# schema.org; what no standard has a word for is in `notes`.

# The metadata of a table as a list.
about_table <- function(rows, file = NULL) {
  columns <- export_dictionary(rows)
  facts <- facts_of(rows)
  title <- facts$title
  described <- lapply(seq_len(nrow(columns)), function(i) {
    one <- columns[i, ]
    # for a column of a wide table, the title of its series
    own <- if (one$column %in% names(title)) title[[one$column]]
    c(
      list(
        name = about_name(one$column), titles = I(one$column),
        datatype = csvw_types[[one$type]]
      ),
      if (!is.na(one$unit)) list("schema:unitText" = one$unit),
      if (!is.na(one$meaning)) list("dc:description" = one$meaning),
      if (!is.null(own)) list("dc:title" = own)
    )
  })
  notes <- list(
    interval = facts$interval$iso, zone = facts$zone,
    calendar = facts$calendar$name, delay = facts$delay$iso,
    titles = if (length(title)) as.list(title),
    lineage = attr(rows, "lineage", exact = TRUE)
  )
  notes <- notes[!vapply(notes, is.null, TRUE)]
  c(
    list("@context" = "http://www.w3.org/ns/csvw"),
    if (!is.null(file)) list(url = basename(file)),
    if (length(title) == 1) list("dc:title" = title[[1]]),
    if (!is.null(facts$source)) list("dc:source" = facts$source),
    if (!is.null(facts$licence)) list("dc:license" = facts$licence),
    if (grepl("[.]tsv$", file %||% "")) {
      list(dialect = list(delimiter = "\t"))
    },
    list(tableSchema = list(columns = described)),
    if (length(notes)) list(notes = list(notes))
  )
}

# A name of CSV on the Web: no leading underscore, and other characters encoded.
about_name <- function(text) {
  sub("^_", "%5F", utils::URLencode(text, reserved = TRUE, repeated = TRUE))
}

about_json <- function(about, pretty = FALSE) {
  as.character(
    jsonlite::toJSON(
      about,
      auto_unbox = TRUE, digits = NA, null = "null", pretty = pretty
    )
  )
}

# Writes the metadata beside a text table.
about_write <- function(rows, file) {
  write_lines_whole(
    strsplit(about_json(about_table(rows, file), TRUE), "\n")[[1]],
    about_file(file), "export"
  )
}

#' What a written table is
#'
#' Reads the metadata that [export_table()] writes with a table: titles, units,
#' types, source, interval, zone, calendar and lineage. Figures and reports have
#' their lineage.
#'
#' @param file A `.csv` or `.tsv` file with its metadata beside it (`FILE` and
#'   `FILE-metadata.json`, CSV on the Web), a `.parquet` or `.xlsx` file, or a
#'   figure or report (`.png`, `.svg`, `.html`).
#' @return A list of class `vetusta_about`: `title`, `source`, `licence`,
#'   `columns` (a tibble of `column`, `type`, `unit`, `meaning`), `interval`,
#'   `zone`, `calendar`, `titles`, and `lineage` (see [series_lineage()]);
#'   `NULL` without metadata.
#' @section Errors: `vetusta_error_import` if there is no such file, or its
#'   metadata cannot be read.
#' @export
#' @examples
#' file <- tempfile(fileext = ".csv")
#' export_table(data.frame(symbol = "KELD", close = 41.2), file)
#' export_about(file)
export_about <- function(file) {
  check_import_file(given(file, "file"))
  about_read(file)
}

# The lineage of a page as a tag; "" without one.
lineage_tag <- function(object) {
  node <- lineage_written(object)
  if (is.null(node)) {
    return("")
  }
  paste0(
    "<script type=\"application/json\" id=\"", lineage_id, "\">",
    gsub("</", "<\\/", about_json(node), fixed = TRUE), "</script>"
  )
}

# A PNG text chunk (iTXt, keyword "lineage") before the end of a file.
png_with_text <- function(path, text) {
  bytes <- readBin(path, "raw", file.size(path))
  big <- function(n) rev(as.raw(bitwAnd(n %/% 256^(0:3) %% 256, 255)))
  data <- c(
    charToRaw(lineage_id), as.raw(c(0, 0, 0, 0, 0)), charToRaw(enc2utf8(text))
  )
  body <- c(charToRaw("iTXt"), data)
  crc <- digest::digest(body, "crc32", serialize = FALSE)
  crc <- paste0(strrep("0", 8 - nchar(crc)), crc)
  crc <- as.raw(strtoi(substring(crc, c(1, 3, 5, 7), c(2, 4, 6, 8)), 16L))
  end <- length(bytes) - 12
  writeBin(
    c(bytes[seq_len(end)], big(length(data)), body, crc, bytes[end + 1:12]),
    path
  )
}

#' @rdname export_about
#' @param x What a table is.
#' @param ... Unused.
#' @export
format.vetusta_about <- function(x, ...) {
  line <- function(word, text) {
    if (length(text)) paste0(formatC(word, width = -9), text)
  }
  c(
    line("title", x$title), line("source", x$source),
    line("licence", x$licence), line("interval", x$interval),
    line("zone", x$zone), line("calendar", x$calendar),
    if (NROW(x$columns)) c("", text_table(as.data.frame(x$columns))),
    if (!is.null(x$lineage)) c("", format(lineage_of_node(x$lineage)))
  )
}

#' @rdname export_about
#' @export
print.vetusta_about <- function(x, ...) {
  cat(format(x), sep = "\n")
  invisible(x)
}
