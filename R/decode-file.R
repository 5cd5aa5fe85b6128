# Table files, read in parts, so that memory does not grow with the file. No
# line is dropped silently: a short line lacks its last columns, a long line is
# an error.

piece_bytes <- 4e6

# Calls `each` with the rows of each part and `line`, the line number of each
# row; returns a list of its results. `absent` are words for missing values.
# Columns are texts; where `kinds` names columns of numbers and instants (see
# table_columns_cpp()), a part with nothing else may have them as such.
read_table_file <- function(file, each, absent = table_absent, kinds = NULL,
                            where = file, size = piece_bytes) {
  plain <- utf8_file(file)
  connection <- file(plain, "rb")
  on.exit({
    close(connection)
    if (plain != file) unlink(plain)
  })
  out <- list()
  rest <- raw()
  names <- NULL
  line <- 1L
  repeat {
    part <- readBin(connection, "raw", size)
    last <- !length(part)
    rest <- c(rest, part)
    if (!length(out) && identical(rest[1:3], as.raw(c(0xef, 0xbb, 0xbf)))) {
      rest <- rest[-(1:3)]
    }
    seen <- piece_lines_cpp(rest)
    if (seen[["zero"]]) stop_zero(seen[["zero_line"]], line, where)
    end <- if (last) length(rest) else seen[["end"]]
    if (end > 0) {
      piece <- if (end == length(rest)) {
        rest
      } else {
        bytes_between_cpp(rest, 1, end)
      }
      if (last) piece <- c(piece, as.raw(10))
      rows <- usual_piece(piece, names, absent) %||%
        plain_texts(
          read_piece(piece, names, line, absent, where), where, line
        )
      at <- line + seq_len(nrow(rows)) - !is.null(names)
      head <- is.null(names)
      if (is.null(names)) {
        rows <- first_line_columns(rows, piece, at, where)
        names <- list(
          columns = names(rows),
          separator = piece_separator(piece, names(rows)),
          kinds = if (!is.null(kinds)) kinds(names(rows))
        )
        # where the header does not show the separator, the file is read in one
        # part
        if (is.na(names$separator) && !last && size < file.size(file)) {
          return(
            read_table_file(file, each, absent, kinds, where, file.size(file))
          )
        }
      }
      blank <- Reduce(`&`, lapply(rows, is.na))
      if (any(blank)) {
        rows <- rows[!blank, , drop = FALSE]
        at <- at[!blank]
      }
      attr(rows, "quoted") <- quoted_columns(piece, names, head)
      out[[length(out) + 1]] <- each(rows, at)
      line <- line +
        as.integer(if (last) seen[["all"]] + 1 else seen[["lines"]])
      rest <- if (end < length(rest)) {
        bytes_between_cpp(rest, end + 1, length(rest))
      } else {
        raw()
      }
    }
    if (last) {
      return(out)
    }
  }
}

# Columns with quoted values, which are text. Names in the header may be quoted
# too.
quoted_columns <- function(piece, names, head) {
  if (is.na(names$separator) || !nzchar(names$separator)) {
    return(character())
  }
  names$columns[
    quoted_columns_cpp(piece, names$separator, length(names$columns), head)
  ]
}

stop_too_long <- function(where, line) {
  vetusta_stop(
    "import",
    "A line has more columns than the table's first line.",
    where = paste0(where, ", line ", line),
    todo = "quote values that contain the separator, or remove the line"
  )
}

# The columns of the header; a value beyond them is an error.
first_line_columns <- function(rows, piece, line, where) {
  width <- length(first_names(piece))
  for (more in seq_along(rows)[-seq_len(width)]) {
    extra <- which(!is.na(rows[[more]]))
    if (length(extra)) stop_too_long(where, line[extra[1]])
  }
  rows[seq_len(min(width, ncol(rows)))]
}

first_names <- function(piece) {
  first <- piece[seq_len(grepRaw("[\r\n]", piece))]
  names(
    data.table::fread(
      text = rawToChar(first), header = TRUE, colClasses = "character",
      sep = header_separator(rawToChar(first)), showProgress = FALSE,
      encoding = "UTF-8"
    )
  )
}

# A later part whose lines all have the usual form; NULL otherwise.
usual_piece <- function(piece, names, absent) {
  columns <- if (length(names$kinds)) {
    table_columns_cpp(piece, names$separator, names$kinds, absent)
  }
  if (!is.null(columns)) list_frame(stats::setNames(columns, names$columns))
}

# The table reader drops zero bytes and joins the text around them, so they are
# refused.
stop_zero <- function(line, first, where) {
  vetusta_stop(
    "import",
    "The file contains a zero byte: it is not plain text.",
    where = paste0(where, ", line ", first + line),
    todo = paste0(
      "write it as text in UTF-8; a spreadsheet program does so with ",
      "\"save as ", "CSV UTF-8\""
    )
  )
}

# The separator of the header; NA where several characters may be it.
piece_separator <- function(piece, columns) {
  ends <- grepRaw("[\r\n]", piece)
  first <- rawToChar(piece[seq_len(ends[1] - 1)])
  if (length(columns) == 1) {
    return("")
  }
  signs <- c(",", "\t", ";", "|", " ")
  fits <- vapply(
    signs,
    function(sign) {
      !grepl("\"", first, fixed = TRUE) &&
        identical(strsplit(first, sign, fixed = TRUE)[[1]], columns)
    },
    TRUE
  )
  if (any(fits)) signs[fits][1] else NA_character_
}

read_piece <- function(piece, names, line, absent, where) {
  too_long <- function(w) {
    message <- conditionMessage(w)
    if (grepl("Stopped early|Discarded", message)) {
      at <- as.numeric(
        regmatches(message, regexpr("(?<=line )[0-9]+", message, perl = TRUE))
      )
      stop_too_long(
        where, if (length(at)) line + at[1] - 1 else paste(line, "or behind it")
      )
    }
    invokeRestart("muffleWarning")
  }
  text <- rawToChar(piece)
  rows <- other_errors(
    withCallingHandlers(
      data.table::fread(
        text = text,
        colClasses = "character",
        na.strings = absent,
        header = is.null(names),
        sep = if (is.null(names)) {
          header_separator(text)
        } else {
          names$separator
        },
        fill = TRUE,
        data.table = FALSE,
        showProgress = FALSE,
        strip.white = TRUE,
        encoding = "UTF-8"
      ),
      warning = too_long
    ),
    function(e) {
      vetusta_stop(
        "import", "The file cannot be read as a table.",
        where = where,
        todo = "give a CSV with a header line"
      )
    }
  )
  if (!is.null(names)) {
    if (ncol(rows) > length(names$columns)) {
      extra <- Reduce(
        `|`, lapply(rows[-seq_along(names$columns)], Negate(is.na))
      )
      if (any(extra)) stop_too_long(where, line + which(extra)[1] - 1)
      rows <- rows[seq_along(names$columns)]
    }
    lacking <- length(names$columns) - ncol(rows)
    for (i in seq_len(lacking)) {
      rows[[ncol(rows) + 1]] <- rep(NA_character_, nrow(rows))
    }
    names(rows) <- names$columns
  }
  rows
}

# Names and cells in UTF-8, with quotation marks once, and without the mark that
# protects a spreadsheet from formulas.
plain_texts <- function(rows, file, line = 1) {
  if (!all(validUTF8(names(rows))) ||
    any(grepl("[\001-\010]", names(rows), useBytes = TRUE))) {
    vetusta_stop(
      "import", "The file is not a text table.",
      where = file,
      todo = "give a CSV with a header line, in UTF-8"
    )
  }
  rows <- as.list(rows)
  for (i in seq_along(rows)) {
    bad <- which(!validUTF8(rows[[i]]))
    if (length(bad)) {
      vetusta_stop(
        "import",
        paste0("The column ", names(rows)[i], " is not written in UTF-8."),
        where = paste0(file, ", line ", line + bad[1] - (line > 1)),
        todo = paste0(
          "save the file in UTF-8, for example with: iconv -f ",
          "latin1 -t utf-8"
        )
      )
    }
    rows[[i]] <- with_formula_undone(single_quotes(rows[[i]]))
  }
  names(rows) <- with_formula_undone(single_quotes(names(rows)))
  list_frame(rows)
}

with_formula_undone <- function(text) {
  if (!any(startsWith(text, "'"), na.rm = TRUE)) {
    return(text)
  }
  marked <- which(grepl("^'+[=@\t\r+-]", text))
  text[marked] <- substring(text[marked], 2)
  text
}

# A file as one table of texts.
table_of_texts <- function(path) {
  quoted <- character()
  parts <- read_table_file(
    path,
    absent = "",
    kinds = function(names) rep(0L, length(names)),
    each = function(rows, line) {
      quoted <<- union(quoted, attr(rows, "quoted"))
      rows
    }
  )
  rows <- as.data.frame(data.table::rbindlist(parts, use.names = TRUE))
  attr(rows, "quoted") <- quoted
  rows
}
