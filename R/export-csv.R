#' Write a table as CSV
#'
#' @param rows A data frame, such as bars.
#' @param file Path of the file; `""` writes to standard output.
#' @param zone The IANA zone of instants written as text, with their offset
#'   (`2026-03-12T09:30:00+02:00`); in UTC they end in `Z`.
#' @param instants Whether bars of a day or longer are written with the instant
#'   of their opening in place of their trading day (`2026-03-12`).
#' @return The path, invisibly. Instants are written in RFC 3339, numbers in the
#'   shortest form that reads back the same, and missing values as empty cells.
#'   A text with a space at an end, or a word that usually means a missing value
#'   (`NA`, `null`), is in quotation marks, with which [archive_import_rows()]
#'   takes it as it is.
#'   A text or header that a spreadsheet would run as a formula (it begins with
#'   `=`, `@`, a tab or a carriage return, or with a sign without being a
#'   number) gets a leading apostrophe, which [archive_import()] removes. The
#'   file is written under another name and then moved into place.
#' @section Errors: `vetusta_error_export` if the file cannot be written, is a
#'   device or a pipe, is another user's link, or has an unknown ending.
#' @export
#' @examples
#' export_csv(
#'   data.frame(symbol = "KELD", close = 41.2), tempfile(fileext = ".csv")
#' )
export_csv <- function(rows, file = "", zone = "UTC", instants = FALSE) {
  check_exported(if (missing(rows)) NULL else rows)
  check_zone(zone, "export")
  check_flag(instants, "instants")
  if (!instants) rows <- bars_dated(rows)
  rows <- csv_cells(rows, zone)
  if (identical(file, "")) {
    csv_write(rows, "")
    return(invisible(file))
  }
  check_text(file, "file", "export")
  write_whole(file, function(path) csv_write(rows, path))
}

check_exported <- function(rows) {
  if (!is.data.frame(rows) || !length(rows)) {
    vetusta_stop(
      "export", "This is not a data frame.",
      todo = "give a data frame"
    )
  }
  rows
}

# Cells as text: instants in RFC 3339, numbers in the shortest form that reads
# back the same, texts that no spreadsheet runs as formulas.
csv_cells <- function(rows, zone = "UTC") {
  guarded <- if (isTRUE(attr(rows, "message"))) identity else without_formula
  columns <- lapply(as.list(rows), function(column) {
    if (inherits(column, "POSIXt")) {
      csv_instants(as.POSIXct(column), zone)
    } else if (inherits(column, "Date")) {
      format(column)
    } else {
      # numbers of up to 15 digits are left to the writer, which uses no
      # exponent
      if (is.double(column) && !is.object(column)) {
        if (is_plain_cpp(column)) column else format_exact(column)
      } else if (is.factor(column) || is.character(column)) {
        guarded(as.character(column))
      } else if (is.list(column)) {
        vapply(column, function(value) paste(value, collapse = ", "), "")
      } else {
        column
      }
    }
  })
  names(columns) <- guarded(names(columns))
  list_frame(columns)
}

# Whole seconds in UTC are left to the writer.
csv_instants <- function(column, zone) {
  seconds <- as.numeric(column)
  plain <- zone == "UTC" &&
    all(is.na(seconds) | (seconds == floor(seconds) & abs(seconds) < 6e10))
  if (plain) utc(seconds) else format_in_zone(column, zone)
}

# All cells as texts.
csv_texts <- function(rows, zone) {
  list_frame(lapply(as.list(csv_cells(rows, zone)), function(column) {
    if (inherits(column, "POSIXct")) {
      format_instant(column)
    } else if (is.double(column)) {
      format_exact(column)
    } else {
      column
    }
  }))
}

# `words` are the columns in which a word as "NA" is a text.
csv_write <- function(cells, path, separator = ",", head = TRUE,
                      words = names(cells)) {
  texts <- Map(function(column, name) {
    if (is.character(column)) csv_must_quote(column, name %in% words)
  }, as.list(cells), names(cells))
  quote <- "auto"
  if (any(unlist(texts))) {
    quote <- FALSE
    # then every cell that needs it is quoted here
    plain <- paste0("[\"\n\r]|^$|", if (separator == "\t") "\t" else ",")
    cells <- list_frame(Map(function(column, must) {
      if (is.null(must)) {
        return(column)
      }
      which <- which(!is.na(column) & (must | grepl(plain, column)))
      column[which] <- csv_quoted(column[which])
      column
    }, as.list(cells), texts))
    named <- grepl(plain, names(cells)) | csv_must_quote(names(cells), TRUE)
    names(cells)[named] <- csv_quoted(names(cells)[named])
  }
  data.table::fwrite(
    cells, path,
    sep = separator, na = "", dateTimeAs = "ISO", scipen = 999,
    col.names = head, showProgress = FALSE, quote = quote
  )
}

# Texts that readers would change without quotation marks: with a space at an
# end, or a word that means a missing value.
csv_must_quote <- function(text, words) {
  known <- unique(text)
  must <- grepl("^[ \t]|[ \t]$", known) | (words & known %in% csv_words)
  if (any(must)) text %in% known[must] else rep(FALSE, length(text))
}

csv_words <- c("NA", "N/A", "n/a", "#N/A", "null", "NULL")

# The columns of a file in which words as "NA" are in quotation marks, or in
# which there are none.
columns_of_words <- function(texts) {
  plain <- vapply(as.list(texts), function(text) any(text %in% csv_words), TRUE)
  union(attr(texts, "quoted"), names(texts)[!plain])
}

csv_quoted <- function(text) {
  paste0("\"", gsub("\"", "\"\"", text, fixed = TRUE), "\"")
}

# A spreadsheet runs a text that begins with =, @, a tab or a carriage return,
# or with a sign before anything but a number.
without_formula <- function(text) {
  # most rows repeat the same few texts
  known <- unique(text)
  if (length(known) < length(text) / 2) {
    return(without_formula(known)[match(text, known)])
  }
  runs <- grepl("^[=@\t\r]", text) |
    (grepl("^[+-].", text) &
      !grepl(
        "^[+-]([0-9]+[.,]?[0-9]*|[.,][0-9]+)([eE][+-]?[0-9]+)?%?$", text
      ))
  # a text that has the mark already gets another, so that reading removes
  # exactly one
  ifelse(runs | grepl("^'+[=@\t\r+-]", text), paste0("'", text), text)
}
