# Import of many files by a card: a YAML file that states how files of one kind
# are written.

import_grammar <- function() {
  list(
    title = "text",
    files = "texts",
    shape = c("word", setdiff(names(shape_columns), "datasets")),
    source = "text",
    dataset = "text",
    interval = "duration",
    symbol = "text",
    symbol_from = c("word", "file", "sheet"),
    columns = list(.each = "text"),
    types = list(.each = c("word", schema_types)),
    unit = list(.short = "text", .each = "text"),
    form = c("word", "long", "wide"),
    time_as = c(
      "word", "rfc3339", "epoch-s", "epoch-ms", "epoch-us", "epoch-ns"
    ),
    zone = "text",
    calendar = "text",
    skip = "number",
    separator = c("word", ",", ";", "|", "tab"),
    decimal = c("word", ".", ","),
    thousands = c("word", "none", ",", ".", "'", " "),
    dates = c("word", "ymd", "dmy", "mdy"),
    encoding = c("word", import_form_choices()$encoding),
    missing = "texts",
    sheet = "text"
  )
}

#' Import many files by an import card
#'
#' An import card states once how the files of a kind are written: lines above
#' the header, separator, decimal and thousands marks, order of dates, encoding,
#' names of columns, symbol. Next month's file is then imported by the same
#' card. A card is a YAML file; its words are the arguments of
#' [archive_import()], [archive_import_rows()] and [archive_import_form()], and
#' `files`, patterns of file names in a folder, `symbol_from`, `file` or
#' `sheet`, where the symbol (or the series) is the name of the file or of the
#' sheet.
#'
#' @param archive An archive, see [archive_open()].
#' @param files Paths of files and of folders. Of a folder, the files of
#'   `files:` in the card are imported, by default all tables in it.
#' @param card A card of [import_card()], its path, or a list of its words.
#' @return `import_files()`: invisibly a `vetusta_import_files`, a tibble with a
#'   row per file (or sheet): `file`, `sheet`, `read`, `new`, `changed`,
#'   `unchanged`, `rejected` (numbers of rows), `outcome` (`stored`, or `failed`
#'   with the reason in `message`). Importing the same files again changes
#'   nothing. A file that fails does not stop the others.
#'
#'   `import_card()`: a `vetusta_import_card`, a list of the card's words.
#' @section Errors: `vetusta_error_import` for a card with an unknown word (with
#'   its line), for a path that does not exist, and for files without shape or
#'   interval.
#' @export
#' @examples
#' folder <- tempfile()
#' dir.create(folder)
#' for (name in c("KELD", "TAMX")) {
#'   writeLines(
#'     c("Broker's list", "Day;Last", "13.03.2026;41,20", "16.03.2026;41,35"),
#'     file.path(folder, paste0(name, ".csv"))
#'   )
#' }
#' card <- list(
#'   interval = "1 day", symbol_from = "file", dates = "dmy",
#'   columns = list(time = "Day", close = "Last")
#' )
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' print(import_files(archive, folder, card))
import_files <- function(archive, files, card = list()) {
  check_archive(archive)
  check_text(files, "files", "import", several = TRUE)
  card <- import_card(card)
  paths <- import_paths(files, card)
  parts <- lapply(paths, function(file) import_file_parts(archive, file, card))
  rows <- as_rows(as.list(data.table::rbindlist(unlist(parts, FALSE))))
  class(rows) <- c("vetusta_import_files", class(rows))
  invisible(rows)
}

#' @rdname import_files
#' @export
import_card <- function(card) {
  if (inherits(given(card, "card", "import"), "vetusta_import_card")) {
    return(card)
  }
  where <- "the card"
  lines <- character()
  if (is.character(card)) {
    check_text(card, "card", "import")
    where <- card
    if (!file.exists(card) || dir.exists(card)) {
      vetusta_stop(
        "import", "There is no such import card.",
        where = card,
        todo = paste(
          "give the path of a card; `vetusta import FILE ... --save-card",
          "FILE` writes one"
        )
      )
    }
    lines <- readLines(card, warn = FALSE, encoding = "UTF-8")
    card <- desk_plain(card_yaml(lines, where, "import"))
  }
  if (!is.list(card) || is.data.frame(card)) {
    vetusta_stop(
      "import", "`card` must be a path or a list.",
      todo = "write it as list(interval = \"1 day\", dates = \"dmy\")"
    )
  }
  for (name in c("columns", "types")) {
    if (is.character(card[[name]])) card[[name]] <- as.list(card[[name]])
  }
  place <- function(keys) {
    if (length(lines)) card_place(lines, where, keys) else where
  }
  tryCatch(
    card_check(card, import_grammar(), character(), place),
    vetusta_error_card = function(e) {
      vetusta_stop("import", e$what, where = e$where, todo = e$todo)
    }
  )
  if (is.null(card$shape) && !is.null(card$interval)) card$shape <- "bars"
  structure(card, class = "vetusta_import_card", file = where)
}

table_endings <- "[.](csv|tsv|txt|xlsx|parquet|jsonl)$"

# The files of folders, by the card's patterns.
import_paths <- function(files, card) {
  unlist(lapply(files, function(path) {
    if (!file.exists(path)) {
      vetusta_stop(
        "import", "There is no such file.",
        where = path, todo = "check the path"
      )
    }
    if (!dir.exists(path)) {
      return(path)
    }
    patterns <- if (is.null(card$files)) {
      table_endings
    } else {
      utils::glob2rx(card$files)
    }
    known <- list.files(path)
    known <- known[!dir.exists(file.path(path, known))]
    matches <- Reduce(`|`, lapply(patterns, grepl, known, ignore.case = TRUE))
    if (!any(matches)) {
      vetusta_stop(
        "import", "The folder has no files to import.",
        where = path,
        todo = paste(
          "give another folder, or correct files: in the card; it has:",
          paste(utils::head(known, 5), collapse = ", ")
        )
      )
    }
    file.path(path, known[matches])
  }))
}

# The results of one file: a list with a row per sheet.
import_file_parts <- function(archive, file, card) {
  # a damaged workbook has no names of sheets, and fails when it is read
  named <- identical(card$symbol_from, "sheet") && is_workbook(file)
  sheets <- tryCatch(
    if (named) as.list(sheet_names(file)) else list(card$sheet),
    vetusta_error = function(e) list(card$sheet)
  )
  lapply(sheets, function(sheet) {
    result <- tryCatch(
      import_by_card(archive, file, sheet, card),
      vetusta_error = function(e) e
    )
    failed <- inherits(result, "vetusta_error")
    count <- function(name) if (failed) 0 else as.numeric(result[[name]])
    list(
      file = file,
      sheet = sheet %||% NA_character_,
      read = count("read"),
      new = count("new"),
      changed = count("changed"),
      unchanged = count("unchanged"),
      rejected = if (failed) 0 else as.numeric(nrow(result$rejected)),
      outcome = if (failed) "failed" else "stored",
      message = if (failed) paste0(result$what, " ", result$todo) else ""
    )
  })
}

import_by_card <- function(archive, file, sheet, card) {
  if (is.null(card$shape)) {
    vetusta_stop(
      "import", "The card states neither an interval nor a shape.",
      where = attr(card, "file"),
      todo = paste(
        "add interval: for bars, or shape: for other rows; for example",
        "shape: observations"
      )
    )
  }
  form <- import_card_form(file, sheet, card)
  name <- switch(card$symbol_from %||% "",
    file = import_name(file),
    sheet = sheet
  )
  texts <- function(name) {
    if (length(card[[name]])) unlist(card[[name]])
  }
  if (gives_bars_shape(card$shape)) {
    return(
      archive_import(
        archive, file,
        symbol = name %||% card$symbol,
        interval = card$interval %||% import_no_interval(card),
        source = card$source %||% "files",
        columns = texts("columns"),
        time_as = card$time_as %||% "rfc3339",
        zone = card$zone %||% "UTC",
        calendar = if (!is.null(card$calendar)) source_calendar(card$calendar),
        unit = texts("unit"),
        types = texts("types"),
        form = form
      )
    )
  }
  archive_import_rows(
    archive, file,
    shape = card$shape,
    dataset = card$dataset,
    source = card$source %||% "files",
    columns = texts("columns"),
    wide = identical(card$form, "wide"),
    unit = texts("unit"),
    types = texts("types"),
    form = form,
    series = name
  )
}

import_no_interval <- function(card) {
  vetusta_stop(
    "import", "The card states no interval of the bars.",
    where = attr(card, "file"), todo = "add interval: 1 day"
  )
}

# The form of a text table or a workbook, as the card states it; what the card
# leaves open is read from the file. A doubt is an error.
import_card_form <- function(file, sheet, card) {
  if (!grepl("[.](csv|tsv|txt|xlsx)$", file, ignore.case = TRUE)) {
    return(NULL)
  }
  named <- c(
    "skip", "separator", "decimal", "thousands", "dates", "encoding", "missing"
  )
  words <- unclass(card)[intersect(named, names(card))]
  if (identical(words$separator, "tab")) words$separator <- "\t"
  if (identical(words$thousands, "none")) words$thousands <- ""
  form <- do.call(
    archive_import_form, c(list(file), words, list(sheet = sheet))
  )
  if (length(form$doubts)) {
    vetusta_stop(
      "import", paste0(form$doubts[[1]], "."),
      where = file,
      todo = paste0(
        "add ", names(form$doubts)[1], ": to the card, or give --",
        names(form$doubts)[1]
      )
    )
  }
  form
}

#' @export
print.vetusta_import_card <- function(x, ...) {
  words <- unclass(x)
  attr(words, "file") <- NULL
  cat(yaml::as.yaml(words, indent.mapping.sequence = TRUE))
  invisible(x)
}

#' @export
print.vetusta_import_files <- function(x, ...) {
  count <- function(n) format(n, big.mark = ",", scientific = FALSE)
  shown <- data.frame(
    file = basename(x$file),
    read = count(x$read), new = count(x$new), changed = count(x$changed),
    stored = count(x$unchanged), rejected = count(x$rejected),
    outcome = x$outcome
  )
  names(shown)[5] <- "already stored"
  if (any(!is.na(x$sheet))) shown <- cbind(shown[1], sheet = x$sheet, shown[-1])
  cat(text_table(shown), sep = "\n")
  for (i in which(nzchar(x$message))) {
    cat("\n", basename(x$file[i]), ": ", x$message[i], "\n", sep = "")
  }
  if (sum(x$rejected)) {
    cat(
      "\n", counted(sum(x$rejected), "row"),
      " rejected: `vetusta list rejected` shows line and reason\n",
      sep = ""
    )
  }
  invisible(x)
}
