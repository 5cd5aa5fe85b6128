# Workbooks, read by the package openxlsx2.

needs_sheets <- function() {
  if (!requireNamespace("openxlsx2", quietly = TRUE)) {
    vetusta_stop(
      "export",
      "Workbooks need the package openxlsx2, which is not installed.",
      todo = "install it: install.packages(\"openxlsx2\"); or write .csv"
    )
  }
}

# What `work` reads of a workbook.
with_workbook <- function(file, work) {
  needs_sheets()
  other_errors(work(openxlsx2::wb_load(file)), function(e) {
    vetusta_stop(
      "import", "The file is not a workbook, or it is damaged.",
      where = file,
      todo = "save it again as .xlsx"
    )
  })
}

sheet_names <- function(file) {
  with_workbook(file, function(book) unname(book$get_sheet_names()))
}

# The cells of a sheet, by default of the first; `...` as for wb_to_df().
sheet_frame <- function(file, sheet = NULL, ...) {
  with_workbook(file, function(book) {
    known <- unname(book$get_sheet_names())
    if (!is.null(sheet) && !sheet %in% known) {
      vetusta_stop(
        "import",
        paste0("The workbook has no sheet \"", sheet, "\"."),
        where = file,
        todo = suggest_word(sheet, known)
      )
    }
    sheet <- sheet %||% known[1]
    # a cell with an error has no value, and the text #N/A is a text
    cells <- book$worksheets[[match(sheet, known)]]$sheet_data$cc
    if (any(cells$c_t %in% "e")) {
      cells$v[cells$c_t %in% "e"] <- ""
      book$worksheets[[match(sheet, known)]]$sheet_data$cc <- cells
    }
    absent <- intersect(
      c("na", "na.strings"), names(formals(openxlsx2::wb_to_df))
    )
    read <- function(...) {
      do.call(
        openxlsx2::wb_to_df,
        c(
          list(book, sheet = sheet, ...), stats::setNames(list(NULL), absent)
        )
      )
    }
    rows <- read(...)
    timed <- which(vapply(as.list(rows), inherits, TRUE, "POSIXct"))
    if (length(timed)) {
      # the package rounds to seconds, spreadsheet programs to milliseconds
      numbers <- read(..., detect_dates = FALSE)
      for (i in timed) {
        if (is.numeric(numbers[[i]])) {
          rows[[i]] <- utc(round((numbers[[i]] - book_epoch(book)) * 86400, 3))
        }
      }
    }
    rows
  })
}

# The number of 1970-01-01 in a workbook.
book_epoch <- function(book) {
  from_1904 <- grepl("date1904=\"(1|true)", book$workbook$workbookPr %||% "")
  if (from_1904) 24107 else 25569
}

# All cells of a sheet as texts.
sheet_cells <- function(file, sheet) {
  rows <- sheet_frame(
    file, sheet,
    col_names = FALSE, skip_empty_rows = FALSE
  )
  cells <- lapply(as.list(rows), function(column) {
    parts <- inherits(column, "POSIXct") &&
      any(as.numeric(column) %% 1 > 0, na.rm = TRUE)
    text <- if (parts) {
      chartr("T", " ", sub("Z$", "", format_instant(column)))
    } else if (inherits(column, c("Date", "POSIXct"))) {
      format(column)
    } else if (is.double(column)) {
      format_exact(column)
    } else {
      as.character(column)
    }
    trimws(ifelse(is.na(text), "", text))
  })
  # an empty sheet has no cells
  if (!length(cells)) {
    return(matrix("", 0, 0))
  }
  matrix(unlist(cells), nrow(rows))
}

# A sheet as a table with its header, instants in UTC.
read_sheet <- function(file, sheet = NULL) {
  read <- sheet_frame(file, sheet)
  list_frame(as.list(read))
}

# The answer's workbook as a table of texts.
decode_sheet <- function(body, table, where) {
  file <- tempfile(fileext = ".xlsx")
  on.exit(unlink(file))
  writeBin(body, file)
  cells <- tryCatch(
    sheet_cells(file, table$sheet),
    vetusta_error_import = function(e) {
      stop_payload(e$what, where, "correct sheet: in the card")
    }
  )
  if (!is.null(table$skip)) {
    cells <- cells[-seq_len(min(table$skip, nrow(cells))), , drop = FALSE]
  }
  cells <- cells[rowSums(cells != "") > 0, , drop = FALSE]
  cells[cells == ""] <- NA
  named <- table$names %||% TRUE
  if (!nrow(cells) || (named && nrow(cells) < 2)) {
    return(NULL)
  }
  head <- if (named) cells[1, ] else as.character(seq_len(ncol(cells)) - 1L)
  if (named) cells <- cells[-1, , drop = FALSE]
  # a column without a name is named by its place
  unnamed <- which(is.na(head))
  head[unnamed] <- as.character(unnamed - 1L)
  list_frame(
    stats::setNames(
      lapply(seq_len(ncol(cells)), function(i) cells[, i]), make.unique(head)
    )
  )
}
