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
    openxlsx2::wb_to_df(book, sheet = sheet %||% known[1], ...)
  })
}

# A sheet as a table with its header, instants in UTC.
read_sheet <- function(file, sheet = NULL) {
  read <- sheet_frame(file, sheet)
  list_frame(lapply(as.list(read), function(column) {
    if (inherits(column, "POSIXct")) utc(as.numeric(column)) else column
  }))
}
