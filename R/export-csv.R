#' Write a table as CSV
#'
#' @param rows A data frame, such as bars.
#' @param file Path of the file; `""` writes to standard output.
#' @return The path, invisibly. Instants are written in RFC 3339 (UTC), numbers in full, missing values as nothing. A text that
#'   a spreadsheet would run as a formula (one that begins with `=`, `+`, `-`, `@`, a tab or a carriage return) gets an
#'   apostrophe in front. The file is written beside and moved into place whole.
#' @section Errors: `vetusta_error_export` when the file cannot be written.
#' @export
#' @examples
#' export_csv(data.frame(symbol = "KELD", close = 41.2), tempfile(fileext = ".csv"))
export_csv <- function(rows, file = "") {
  if (!is.data.frame(rows) || !length(rows)) vetusta_stop("export", "What is written is a table with columns.", todo = "give a data frame")
  rows <- as.list(rows)
  for (name in names(rows)) {
    column <- rows[[name]]
    if (inherits(column, "POSIXct")) rows[[name]] <- format_instant(column)
    else if (is.factor(column) || is.character(column)) rows[[name]] <- without_formula(as.character(column))
  }
  rows <- list_frame(rows)
  if (identical(file, "")) {
    data.table::fwrite(rows, "", dateTimeAs = "ISO", na = "", showProgress = FALSE)
    return(invisible(file))
  }
  check_text(file, "file", "export")
  if (!dir.exists(dirname(file))) vetusta_stop("export", "The folder for the file is not there.", where = dirname(file), todo = "make it, or give another path")
  beside <- paste0(file, ".part")
  written <- tryCatch({
    data.table::fwrite(rows, beside, dateTimeAs = "ISO", na = "", showProgress = FALSE)
    file.rename(beside, file)
  }, error = function(e) FALSE)
  if (!written) vetusta_stop("export", "The file cannot be written.", where = file, todo = "look at the rights of its folder and the room on the disk")
  invisible(file)
}

without_formula <- function(text) ifelse(grepl("^[=+@\t\r-]", text), paste0("'", text), text)

#' @rdname export_csv
#' @return `export_table()` writes CSV or, to a file that ends in `.parquet`, Parquet: instants and days keep their types there, and nothing is changed in texts.
#' @export
export_table <- function(rows, file) {
  check_text(file, "file", "export")
  if (!grepl("[.]parquet$", file)) {
    return(export_csv(rows, file))
  }
  if (!dir.exists(dirname(file))) vetusta_stop("export", "The folder for the file is not there.", where = dirname(file), todo = "make it, or give another path")
  beside <- paste0(file, ".part")
  written <- tryCatch({
    nanoparquet::write_parquet(list_frame(as.list(rows)), beside)
    file.rename(beside, file)
  }, error = function(e) FALSE)
  if (!isTRUE(written)) vetusta_stop("export", "The file cannot be written.", where = file, todo = "look at the rights of its folder and the room on the disk")
  invisible(file)
}
