# CSV and TSV bodies and files, with common quirks: byte order marks, quotes,
# blank lines, words for missing values.

table_absent <- c(
  "", "NA", "N/A", "n/a", "#N/A", "null", "NULL", "NaN", ".", "-"
)

decode_table <- function(body, format, where, table = NULL) {
  if (!length(body)) {
    stop_spoilt("The answer is empty.", where, "try again later")
  }
  body <- text_in_utf8(body)
  if (identical(body[1:3], as.raw(c(0xef, 0xbb, 0xbf)))) body <- body[-(1:3)]
  text <- recoded(rawToChar(body[body != as.raw(0)]), table$encoding, where)
  if (any(body == as.raw(13))) {
    text <- gsub("\r\n?", "\n", text, useBytes = TRUE)
  }
  stop_on_other_kind(text, where)
  at <- NULL
  if (length(table)) {
    lines <- strsplit(text, "\n", fixed = TRUE)[[1]]
    at <- plain_lines(lines, table)
    text <- paste(lines[at], collapse = "\n")
  }
  if (!nzchar(trimws(text))) {
    return(NULL)
  }
  read_text_table(
    text = paste0(text, "\n"), format = format, where = where, table = table,
    at = at
  )
}

utf16_of <- function(body) {
  start <- as.integer(utils::head(body, 400))
  if (length(start) < 4 || (start[1] < 0xfe && all(start > 0))) {
    return(NULL)
  }
  if (start[1] == 0xff && start[2] == 0xfe) {
    return(list(name = "UTF-16LE", mark = TRUE))
  }
  if (start[1] == 0xfe && start[2] == 0xff) {
    return(list(name = "UTF-16BE", mark = TRUE))
  }
  odd <- seq(1, length(start) - 1, 2)
  high <- mean(start[odd] == 0)
  low <- mean(start[odd + 1] == 0)
  if (low > 0.6 && high < 0.1) {
    list(name = "UTF-16LE", mark = FALSE)
  } else if (high > 0.6 && low < 0.1) {
    list(name = "UTF-16BE", mark = FALSE)
  }
}

# A UTF-16 file converted to UTF-8; other files unchanged.
utf8_file <- function(file,
                      into = tempfile(
                        fileext = paste0(".", tools::file_ext(file))
                      )) {
  if (is.null(utf16_of(readBin(file, "raw", 400)))) {
    return(file)
  }
  writeBin(text_in_utf8(readBin(file, "raw", file.size(file))), into)
  into
}

# A body that begins like HTML or JSON is no table.
stop_on_other_kind <- function(text, where) {
  head <- substr(text, 1, 200)
  if (grepl("^\\s*<", head)) {
    stop_spoilt(
      "The answer is a web page or XML, not a table.", where,
      "check whether the card's URL is right"
    )
  }
  if (grepl("^\\s*[{[]", head)) {
    stop_payload(
      "The answer is JSON, not a table.", where,
      paste0("it begins: ", substr(head, 1, 80))
    )
  }
}

recoded <- function(text, encoding, where) {
  if (is.null(encoding)) {
    return(text)
  }
  out <- iconv(text, encoding, "UTF-8")
  if (anyNA(out)) {
    stop_payload(
      paste0("The table is not written in ", encoding, "."), where,
      "correct encoding: in the card"
    )
  }
  out
}

# The numbers of the lines of a table: not those above it, and no remarks.
plain_lines <- function(lines, table) {
  at <- seq_along(lines)
  at <- at[at > (table$skip %||% 0)]
  if (!is.null(table$remark)) {
    at <- at[!startsWith(trimws(lines[at], "left"), table$remark)]
  }
  at
}

# The lines on which a table's rows begin, of a text that ends with a line
# break: `at` are those of its lines, NULL for all in turn. NULL if unknown.
row_lines <- function(text, at, named, rows) {
  breaks <- sum(charToRaw(text) == as.raw(10))
  if (breaks == rows + named) {
    starts <- seq_len(breaks)
  } else {
    lines <- strsplit(text, "\n", fixed = TRUE)[[1]]
    starts <- row_starts(lines)
    # the reader takes a line of spaces for a row of several columns
    if (length(starts) != rows + named) starts <- row_starts(lines, "")
  }
  if (length(starts) == rows + named) {
    starts <- starts[named + seq_len(rows)]
    if (is.null(at)) starts else at[starts]
  }
}

# The lines that begin a row: not empty, and not within quotation marks.
row_starts <- function(lines, spaces = "[[:space:]]") {
  marks <- nchar(lines, "bytes") -
    nchar(gsub("\"", "", lines, fixed = TRUE, useBytes = TRUE), "bytes")
  within <- (cumsum(marks) - marks) %% 2 == 1
  empty <- if (nzchar(spaces)) {
    grepl(paste0("^", spaces, "*$"), lines, useBytes = TRUE)
  } else {
    !nzchar(lines)
  }
  which(!empty & !within)
}

# A line that the table reader would leave out is an error: nothing is dropped
# silently.
none_dropped <- function(read, where) {
  withCallingHandlers(read, warning = function(w) {
    if (grepl("Stopped early|Discarded", conditionMessage(w))) {
      stop_payload(
        "The table has a line that does not fit its columns.", where,
        paste0(
          "look at the line: ",
          substr(gsub("[[:space:]]+", " ", conditionMessage(w)), 1, 160)
        )
      )
    }
    invokeRestart("muffleWarning")
  })
}

# All columns as text; the card declares their types. With the lines of the
# rows, see row_lines().
read_text_table <- function(text, format, where, table = NULL, at = NULL) {
  # columns of a table without a header are named by position, as /0
  named <- table$names %||% TRUE
  rows <- other_errors(
    none_dropped(
      data.table::fread(
        text = text,
        sep = table$separator %||% if (format == "tsv") {
          "\t"
        } else if (named) {
          header_separator(text)
        } else {
          "auto"
        },
        colClasses = "character",
        na.strings = "",
        header = named,
        data.table = FALSE,
        showProgress = FALSE,
        blank.lines.skip = TRUE,
        fill = TRUE,
        strip.white = TRUE,
        encoding = "UTF-8"
      ),
      where
    ),
    function(e) {
      stop_payload(
        "The answer cannot be read as a table.", where,
        "look at format: in the card"
      )
    }
  )
  if (!named) names(rows) <- seq_along(rows) - 1L
  lines <- row_lines(text, at, named, nrow(rows))
  rows[] <- lapply(rows, single_quotes)
  # an empty line is no row
  blank <- rowSums(!is.na(rows)) == 0
  if (any(blank)) rows <- rows[!blank, , drop = FALSE]
  attr(rows, "lines") <- lines[!blank]
  if (nrow(rows)) rows else NULL
}
