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

# A sheet of a workbook as a table, by default the first.
read_sheet <- function(file, sheet = NULL) {
  needs_sheets()
  read <- other_errors(
    {
      book <- openxlsx2::wb_load(file)
      known <- unname(book$get_sheet_names())
      if (!is.null(sheet) && !sheet %in% known) {
        vetusta_stop(
          "import",
          paste0("The workbook has no sheet \"", sheet, "\"."),
          where = file,
          todo = suggest_word(sheet, known)
        )
      }
      openxlsx2::wb_to_df(book, sheet = sheet %||% known[1])
    },
    function(e) {
      vetusta_stop(
        "import", "The file is not a workbook, or it is damaged.",
        where = file,
        todo = "save it again as .xlsx"
      )
    }
  )
  list_frame(lapply(as.list(read), function(column) {
    if (inherits(column, "POSIXct")) utc(as.numeric(column)) else column
  }))
}
