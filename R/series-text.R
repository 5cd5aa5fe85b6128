# Tables as plain text, for prints and for the command line: aligned columns, thousands separated.

text_table <- function(frame) {
  columns <- lapply(frame, text_column)
  right <- vapply(frame, is.numeric, TRUE)
  cells <- Map(function(name, column, right) {
    all <- c(name, column)
    width <- max(nchar(all, "width"))
    pad <- strrep(" ", width - nchar(all, "width"))
    if (right) paste0(pad, all) else paste0(all, pad)
  }, names(frame), columns, right)
  sub(" +$", "", do.call(paste, c(unname(cells), sep = "  ")))
}

text_column <- function(column) {
  if (inherits(column, "POSIXct")) {
    return(ifelse(is.na(column), "", format(column, "%Y-%m-%d %H:%M", tz = "UTC")))
  }
  if (is.numeric(column)) {
    whole <- all(is.na(column) | column == round(column))
    text <- if (whole) format(column, big.mark = ",", scientific = FALSE, trim = TRUE) else formatC(column, format = "f", digits = 4, big.mark = ",")
    return(ifelse(is.na(column), "", text))
  }
  column <- as.character(column)
  ifelse(is.na(column), "", column)
}

# "1 symbol", "1,200 symbols"
counted <- function(n, what) paste0(format(n, big.mark = ",", scientific = FALSE), " ", what, if (n != 1) "s")

format_seconds <- function(seconds) {
  if (seconds < 120) paste(round(seconds), "s")
  else if (seconds < 7200) paste(round(seconds / 60), "minutes")
  else if (seconds < 172800) paste(round(seconds / 3600, 1), "hours")
  else paste(round(seconds / 86400, 1), "days")
}
