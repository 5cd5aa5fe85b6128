# CSV and TSV bodies and files, with their usual quirks: a byte order mark, quotes, blank lines, words for nothing.

table_absent <- c("", "NA", "N/A", "n/a", "null", "NULL", "NaN", ".", "-")

decode_table <- function(body, format, where) {
  if (!length(body)) stop_payload("The answer is empty.", where, "try again later")
  if (identical(body[1:3], as.raw(c(0xef, 0xbb, 0xbf)))) body <- body[-(1:3)]
  text <- rawToChar(body[body != as.raw(0)])
  if (any(body == as.raw(13))) text <- gsub("\r\n?", "\n", text, useBytes = TRUE)
  if (grepl("^\\s*<", substr(text, 1, 200))) stop_payload("The answer is a web page or XML, not a table.", where, "look whether the card's address is right")
  if (grepl("^\\s*[{[]", substr(text, 1, 50))) stop_payload("The answer is JSON, not a table.", where, paste0("it begins: ", body_excerpt(body, 80)))
  read_text_table(text = paste0(text, "\n"), format = format, where = where)
}

# All columns as text; what they mean is the card's to say. A line that the reader would leave out is an error: nothing is dropped
# silently.
read_text_table <- function(text, format, where) {
  dropped <- function(w) {
    if (grepl("Stopped early|Discarded", conditionMessage(w))) {
      stop_payload("The table has a line that does not fit its columns.", where, paste0("look at the line: ", substr(gsub("[[:space:]]+", " ", conditionMessage(w)), 1, 160)))
    }
    invokeRestart("muffleWarning")
  }
  rows <- tryCatch(
    withCallingHandlers(
      data.table::fread(text = text, sep = if (format == "tsv") "\t" else "auto", colClasses = "character", na.strings = table_absent, header = TRUE,
        data.table = FALSE, showProgress = FALSE, blank.lines.skip = TRUE, fill = TRUE, strip.white = TRUE, encoding = "UTF-8"),
      warning = dropped
    ),
    vetusta_error = stop,
    error = function(e) stop_payload("The answer cannot be read as a table.", where, "look at format: in the card")
  )
  # a line with nothing in it is no row
  blank <- rowSums(!is.na(rows)) == 0
  if (any(blank)) rows <- rows[!blank, , drop = FALSE]
  if (nrow(rows)) rows else NULL
}
