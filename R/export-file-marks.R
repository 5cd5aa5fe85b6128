# How an existing text file is written: heads, line ends, days, decimal marks.

# Two columns of one head cannot be told apart.
check_heads <- function(file, separator) {
  if (!file.exists(file) || !file.size(file)) {
    return(invisible())
  }
  heads <- tryCatch(
    suppressWarnings(unlist(data.table::fread(
      utf8_file(file),
      nrows = 1, header = FALSE, sep = separator, colClasses = "character",
      showProgress = FALSE
    ))),
    error = function(e) NULL
  )
  heads <- trimws(heads)
  twice <- heads[duplicated(heads) & nzchar(heads)]
  if (length(twice)) {
    vetusta_stop(
      "export",
      paste0("Two columns of the table have the head \"", twice[1], "\"."),
      where = paste0(file, ", line 1"),
      todo = "give each column a head of its own"
    )
  }
}

# Writes a new file with the line ends and the byte order mark of another.
with_marks_of <- function(file, path, start = TRUE) {
  old <- readBin(file, "raw", 1e5)
  bytes <- readBin(path, "raw", file.size(path))
  feeds <- which(old == as.raw(10))
  if (length(feeds) && feeds[1] > 1 && old[feeds[1] - 1] == as.raw(13)) {
    text <- gsub("\r?\n", "\r\n", rawToChar(bytes), useBytes = TRUE)
    bytes <- charToRaw(text)
  }
  mark <- as.raw(c(0xef, 0xbb, 0xbf))
  if (start && identical(old[1:3], mark) && !identical(bytes[1:3], mark)) {
    bytes <- c(mark, bytes)
  }
  writeBin(bytes, path)
}

# The pattern of days that are written otherwise than as 2026-03-12, if all are
# and their order is certain; else NULL.
day_pattern <- function(text) {
  text <- trimws(text[!is.na(text)])
  if (!length(text) || !anyNA(read_day(text)) || !all(grepl(date_like, text)) ||
    length(dates_order(text)$doubt)) {
    return(NULL)
  }
  spelled <- draft_spelled_day(text)
  if (!is.null(spelled)) sub(".*written: \"(.*)\"$", "\\1", spelled)
}

# Columns of numbers with decimal commas.
has_commas <- function(text) {
  some <- text[!is.na(text)]
  any(grepl(",", some, fixed = TRUE)) &&
    all(grepl("^ *[-+]?[0-9.]*(,[0-9]+)?([eE][-+]?[0-9]+)? *$", some))
}

with_points <- function(text) {
  sub(",", ".", gsub("[.](?=[0-9]{3})", "", text, perl = TRUE), fixed = TRUE)
}

with_comma <- function(cells) {
  text <- if (is.numeric(cells)) format_exact(cells) else as.character(cells)
  sub(".", ",", text, fixed = TRUE)
}
