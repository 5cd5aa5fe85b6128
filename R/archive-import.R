#' Import bars from a CSV file
#'
#' For bars that the analyst already has: the archive is of use with no API at all.
#'
#' @param archive An archive, see [archive_open()].
#' @param file Path of a CSV or TSV file with a header.
#' @param symbol The symbol of all rows, for a file without a column of that name.
#' @param interval The bars' interval, see [time_interval()].
#' @param source The name under which the rows are kept.
#' @param columns Names of the file's columns for those of bars, as in `c(time = "When", close = "Last")`. By default a
#'   column is found by its name, whatever its case; a column `date` is the time too.
#' @param time_as How the times are written: `rfc3339` (also with a blank between day and hour, and days alone), or `epoch-s`,
#'   `epoch-ms`, `epoch-us`, `epoch-ns`.
#' @param zone The IANA zone of days and of local times without an offset.
#' @param calendar A calendar; days then stand for the opening of their first regular session.
#' @return Invisibly a list of class `vetusta_import`: `file`, `source`, `interval`, `read` (rows), `new`, `changed`, `equal`,
#'   `aside` (a data frame of the rows set aside: `line`, `fault`, `detail`). Importing the same file again changes nothing;
#'   rows with a fault are set aside among the archive's findings and not stored.
#' @section Errors: `vetusta_error_import` for a file that is not there, is empty, or lacks a column; nothing is stored then.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
#' archive_import(archive, csv, symbol = "KELD", interval = "1 day")
archive_import <- function(archive, file, symbol = NULL, interval, source = "own", columns = NULL, time_as = "rfc3339", zone = "UTC", calendar = NULL) {
  check_archive(archive)
  check_text(file, "file", "import")
  check_text(source, "source", "import")
  interval <- time_interval(given(interval, "interval", "import"))
  check_zone(zone, "import")
  check_calendar(calendar)
  check_choice(time_as, "time_as", c("rfc3339", "epoch-s", "epoch-ms", "epoch-us", "epoch-ns"), "import")
  raw <- read_table_text(file)
  raw <- named_for_bars(raw, columns, symbol, file)
  read <- bars_from_text(raw, time_as, zone, calendar)
  read$bars$session <- import_sessions(read$bars$time, calendar, interval)
  faults <- rbind(read$faults, setdiff_rows(bars_faults(read$bars), read$faults))
  faults <- faults[order(faults$row), ]
  good <- read$bars[setdiff(seq_len(nrow(read$bars)), faults$row), , drop = FALSE]
  counts <- store_import(archive, good, faults, source, interval, file)
  invisible(structure(
    list(file = file, source = source, interval = interval$iso, read = nrow(raw), new = counts[["new"]], changed = counts[["changed"]],
      equal = counts[["equal"]], aside = data.frame(line = faults$row + 1L, fault = faults$fault, detail = faults$detail)),
    class = "vetusta_import"
  ))
}

read_table_text <- function(file) {
  if (!file.exists(file) || dir.exists(file)) {
    vetusta_stop("import", "There is no such file.", where = file, todo = "look at the path")
  }
  check_plain_text(file)
  rows <- tryCatch(
    suppressWarnings(data.table::fread(file, colClasses = "character", na.strings = c("", "NA", "null", "N/A"), header = TRUE, data.table = FALSE, showProgress = FALSE, encoding = "UTF-8")),
    error = function(e) vetusta_stop("import", "The file cannot be read as a table.", where = file, todo = "give a CSV with a header line")
  )
  rows <- plain_texts(rows, file)
  if (!nrow(rows)) vetusta_stop("import", "The file has no rows.", where = file, todo = "give a CSV with a header line and one line a bar")
  rows
}

# The table reader drops bytes of zero, and joins what stood around them.
check_plain_text <- function(file) {
  connection <- file(file, "rb")
  on.exit(close(connection))
  lines <- 1
  repeat {
    part <- readBin(connection, "raw", 1e7)
    if (!length(part)) break
    zero <- grepRaw(as.raw(0), part, fixed = TRUE)
    if (length(zero)) {
      vetusta_stop("import", "The file holds a byte of zero, and is no plain text.", where = paste0(file, ", line ", lines + sum(part[seq_len(zero)] == as.raw(10))),
        todo = "write it as text in UTF-8; a spreadsheet program does so with \"save as CSV UTF-8\"")
    }
    lines <- lines + length(grepRaw(as.raw(10), part, fixed = TRUE, all = TRUE))
  }
}

# Names and cells as they were meant: in UTF-8, with quotation marks once, and without the mark that keeps a spreadsheet from running a text.
plain_texts <- function(rows, file) {
  if (!all(validUTF8(names(rows))) || any(grepl("[\001-\010]", names(rows), useBytes = TRUE))) {
    vetusta_stop("import", "The file is no table of text.", where = file, todo = "give a CSV with a header line, in UTF-8")
  }
  rows <- as.list(rows)
  for (i in seq_along(rows)) {
    bad <- which(!validUTF8(rows[[i]]))
    if (length(bad)) {
      vetusta_stop("import", paste0("The column ", names(rows)[i], " is not written in UTF-8."), where = paste0(file, ", line ", bad[1] + 1),
        todo = "save the file in UTF-8, for example with: iconv -f latin1 -t utf-8")
    }
    rows[[i]] <- with_formula_undone(single_quotes(rows[[i]]))
  }
  names(rows) <- with_formula_undone(names(rows))
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

named_for_bars <- function(raw, columns, symbol, file) {
  for (name in names(columns)) {
    check_choice(name, "columns", bars_columns, "import")
    if (!columns[[name]] %in% names(raw)) {
      vetusta_stop("import", paste0("The file has no column \"", columns[[name]], "\"."), where = file, todo = suggest_word(columns[[name]], names(raw)))
    }
    names(raw)[match(columns[[name]], names(raw))] <- name
  }
  known <- c(bars_columns, "date")
  lower <- match(tolower(names(raw)), known)
  free <- !is.na(lower) & !known[lower] %in% names(columns) & !duplicated(lower)
  names(raw)[free] <- known[lower[free]]
  if (!"time" %in% names(raw)) names(raw)[names(raw) == "date"] <- "time"
  if (!is.null(symbol)) raw$symbol <- check_text(symbol, "symbol", "import")
  for (name in c("symbol", "time", "close")) {
    if (!name %in% names(raw)) {
      vetusta_stop("import", paste0("The file has no column for `", name, "`."), where = paste0(file, ", line 1"),
        todo = paste0(if (name == "symbol") "give the symbol, or " else "", "say which column it is; the file has: ", paste(names(raw), collapse = ", ")))
    }
  }
  raw
}

bars_from_text <- function(raw, time_as, zone, calendar) {
  time <- if (time_as == "rfc3339") text_times(raw$time, zone, calendar) else read_column(raw$time, time_as, zone)$value
  if (time_as == "rfc3339") time <- second_passes(time, zone, paste(raw$symbol, raw[["side"]]))
  faults <- list(data.frame(row = integer(), fault = character(), detail = character()))
  aside <- function(rows, fault, values) faults[[length(faults) + 1]] <<- data.frame(row = rows, fault = rep(fault, length(rows)), detail = sprintf("value %s", values[rows]))
  aside(which(is.na(time)), "time cannot be read", raw$time)
  bars <- data.frame(symbol = raw$symbol, time = time)
  for (name in c("open", "high", "low", "close", "volume")) {
    text <- raw[[name]] %||% rep(NA_character_, nrow(raw))
    value <- plain_number(text)
    aside(which(is.na(value) & !is.na(text)), paste(name, "cannot be read"), text)
    bars[[name]] <- value
  }
  bars$side <- raw$side %||% rep(NA_character_, nrow(raw))
  bars$status <- rep("observed", nrow(raw))
  extra <- setdiff(names(raw), c(bars_columns, "date"))
  bars[extra] <- raw[extra]
  list(bars = bars, faults = do.call(rbind, faults))
}

text_times <- function(text, zone, calendar) {
  time <- read_rfc3339(sub(" ", "T", text, fixed = TRUE), zone)
  day <- read_day(text)
  whole <- which(!is.na(day))
  time[whole] <- day_times(day[whole], zone, calendar)
  time
}

import_sessions <- function(time, calendar, interval) {
  if (is.null(calendar) || !is_intraday(interval) || all(is.na(time))) {
    return(rep(NA_character_, length(time)))
  }
  session_of(time, calendar)
}

setdiff_rows <- function(faults, known) faults[!faults$row %in% known$row, c("row", "fault", "detail")]

store_import <- function(archive, good, faults, source, interval, file) {
  total <- c(new = 0, changed = 0, equal = 0)
  in_transaction(archive, function() {
    journal <- archive_journal_add(archive, list(run = "import", source = source, offer = "import", asked = as.numeric(Sys.time()),
      rows = nrow(good), outcome = "stored", address = basename(file)))
    groups <- split(seq_len(nrow(good)), list(good$symbol, ifelse(is.na(good$side), "", good$side)), drop = TRUE, sep = "\r")
    for (rows in groups) {
      part <- good[rows, , drop = FALSE]
      side <- if (is.na(part$side[1])) "" else part$side[1]
      series <- archive_series_id(archive, source, part$symbol[1], interval$iso, side)
      part <- part[order(as.numeric(part$time), method = "radix"), setdiff(names(part), c("symbol", "side")), drop = FALSE]
      part$side <- NA_character_
      total <- total + archive_put_bars(archive, series, part, journal)
    }
    archive_put_findings(archive, data.frame(symbol = rep(NA_character_, nrow(faults)), time = rep(NA_real_, nrow(faults)),
      place = paste0(basename(file), ", line ", faults$row + 1L)[seq_len(nrow(faults))], fault = faults$fault, detail = faults$detail), journal)
    total
  })
}

#' @export
print.vetusta_import <- function(x, ...) {
  count <- function(n) format(n, big.mark = ",", scientific = FALSE)
  cat("read ", count(x$read), " rows of ", basename(x$file), ": ", count(x$new), " new, ", count(x$changed), " changed, ", count(x$equal),
    " held already, ", count(nrow(x$aside)), " set aside\n", sep = "")
  for (i in seq_len(min(5, nrow(x$aside)))) cat("  line ", x$aside$line[i], ": ", x$aside$fault[i], " (", x$aside$detail[i], ")\n", sep = "")
  if (nrow(x$aside) > 5) cat("  and ", count(nrow(x$aside) - 5), " more; archive_findings() has them all\n", sep = "")
  invisible(x)
}
