# The form of a local file: lines above the header, decimal and thousands marks,
# dates, encoding.

#' Form of a file to import
#'
#' Determines how a file writes its table. Arguments that are not given are read
#' from the file. What the file leaves open is a doubt: whether 03/04/2026 is in
#' March or April, or 1,234 is more than a thousand.
#'
#' @param file The path of a CSV, TSV or XLSX file.
#' @param skip The number of lines above the header line.
#' @param separator The separator of the columns: `","`, `";"`, `"|"` or a tab.
#' @param decimal The decimal mark: `"."` or `","`.
#' @param thousands The mark between thousands: `","`, `"."`, `"'"`, a blank, or
#'   `""` for none.
#' @param dates The order of dates: `"ymd"`, `"dmy"` or `"mdy"`.
#' @param encoding `"UTF-8"`, `"latin1"`, `"UTF-16LE"` or `"UTF-16BE"`.
#' @param missing Texts that stand for a missing value.
#' @param sheet The name of the sheet of a workbook.
#' @return A `vetusta_import_form`: a list of the arguments, given or read from
#'   the file, and `doubts`, texts named by the arguments that settle them.
#' @section Errors: `vetusta_error_import` for a missing or empty file, or an
#'   invalid argument.
#' @export
#' @examples
#' file <- tempfile(fileext = ".csv")
#' writeLines(
#'   c(
#'     "My broker", "", "Day;Close", "13.03.2026;1.234,50",
#'     "16.03.2026;1.250,25"
#'   ),
#'   file
#' )
#' archive_import_form(file)
archive_import_form <- function(file, skip = NULL, separator = NULL,
                                decimal = NULL, thousands = NULL, dates = NULL,
                                encoding = NULL, missing = NULL, sheet = NULL) {
  check_import_file(file)
  form <- list(
    skip = skip, separator = separator, decimal = decimal,
    thousands = thousands, dates = dates, encoding = encoding,
    missing = missing, sheet = sheet
  )
  form <- form[!vapply(form, is.null, TRUE)]
  check_import_form(form)
  book <- is_workbook(file)
  lines <- if (!book) form_lines(file, form$encoding %||% file_encoding(file))
  form$encoding <- form$encoding %||% if (book) "UTF-8" else file_encoding(file)
  if (!book) form$separator <- form$separator %||% lines_separator(lines)
  cells <- if (book) {
    sheet_cells(file, form$sheet)
  } else {
    lines_cells(lines, form$separator)
  }
  form$skip <- form$skip %||% cells_skip(cells)
  body <- as.vector(cells[-seq_len(min(form$skip + 1, nrow(cells))), ])
  body <- body[nzchar(body)]
  marks <- numbers_marks(body, form$separator %||% ";")
  days <- dates_order(body)
  doubts <- c(
    if (is.null(form$decimal)) marks$doubt, if (is.null(form$dates)) days$doubt
  )
  form$decimal <- form$decimal %||% marks$decimal
  form$thousands <- form$thousands %||%
    if (form$decimal == marks$decimal) marks$thousands else ""
  form$dates <- form$dates %||% days$order
  structure(
    c(form[order(names(form))], list(doubts = doubts)),
    class = "vetusta_import_form"
  )
}

import_form_choices <- function() {
  list(
    separator = table_separators,
    decimal = c(".", ","),
    thousands = c("", ",", ".", "'", " "),
    dates = c("ymd", "dmy", "mdy"),
    encoding = c("UTF-8", "latin1", "UTF-16LE", "UTF-16BE")
  )
}

check_import_form <- function(form) {
  choices <- import_form_choices()
  for (name in intersect(names(choices), names(form))) {
    check_choice(form[[name]], name, choices[[name]], "import")
  }
  if (!is.null(form$skip)) check_count(form$skip, "skip", "import", least = 0)
  if (!is.null(form$missing)) {
    check_text(form$missing, "missing", "import", several = TRUE)
  }
  if (!is.null(form$sheet)) check_text(form$sheet, "sheet", "import")
}

is_workbook <- function(file) {
  identical(readBin(file, "raw", 4), as.raw(c(0x50, 0x4b, 3, 4)))
}

file_encoding <- function(file) {
  bytes <- readBin(file, "raw", 1e6)
  if (identical(bytes[1:2], as.raw(c(0xff, 0xfe)))) {
    return("UTF-16LE")
  }
  if (identical(bytes[1:2], as.raw(c(0xfe, 0xff)))) {
    return("UTF-16BE")
  }
  wide <- utf16_of(bytes)
  if (!is.null(wide)) {
    return(wide$name)
  }
  bytes <- bytes[bytes != 0]
  # the sample may end within a character
  valid <- vapply(
    0:3,
    function(cut) validUTF8(rawToChar(utils::head(bytes, length(bytes) - cut))),
    TRUE
  )
  if (any(valid)) "UTF-8" else "latin1"
}

form_lines <- function(file, encoding) {
  bytes <- readBin(file, "raw", file.size(file))
  text <- iconv(
    list(bytes), if (encoding == "latin1") "CP1252" else encoding, "UTF-8",
    sub = "byte"
  )[[1]]
  text <- sub("^\ufeff", "", gsub("\r\n?", "\n", text))
  joined_lines(strsplit(text, "\n", fixed = TRUE)[[1]])
}

# A line break within quotation marks is a blank: the lines are joined in the
# first one, and the others are empty, so that numbers of lines stay. A mark
# that no line of the next ten closes is a letter.
joined_lines <- function(lines) {
  marks <- lengths(regmatches(lines, gregexpr("\"", lines, fixed = TRUE)))
  odd <- which(marks %% 2 == 1)
  while (length(odd) > 1) {
    if (odd[2] - odd[1] > 10) {
      odd <- odd[-1]
      next
    }
    part <- odd[1]:odd[2]
    lines[odd[1]] <- paste(lines[part], collapse = " ")
    lines[part[-1]] <- ""
    odd <- odd[-(1:2)]
  }
  lines
}

#' @export
print.vetusta_import_form <- function(x, ...) {
  cat(format_import_form(x), sep = "\n")
  invisible(x)
}

format_import_form <- function(form) {
  shown <- function(name) {
    value <- form[[name]]
    if (name == "separator" && identical(value, "\t")) {
      "tab"
    } else if (identical(value, "")) {
      "none"
    } else {
      paste(value, collapse = " ")
    }
  }
  names <- setdiff(names(form), "doubts")
  c(
    paste0("form: ", paste(names, vapply(names, shown, ""), collapse = "; ")),
    if (length(form$doubts)) paste0("doubt: ", form$doubts)
  )
}
