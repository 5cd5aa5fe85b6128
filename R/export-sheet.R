# Workbooks, by the package openxlsx2: writing a table.

# The rows of a sheet, including the header.
sheet_rows <- 1048576

write_sheet <- function(rows, path) {
  needs_sheets()
  if (nrow(rows) >= sheet_rows) {
    vetusta_stop(
      "export",
      paste0(
        "A sheet has room for ", thousands(sheet_rows - 1),
        " rows at most, and ", "these are ", thousands(nrow(rows)), "."
      ),
      todo = "write fewer rows, or a .csv or .parquet file"
    )
  }
  about <- about_table(rows)
  rows <- sheet_columns(rows)
  book <- openxlsx2::wb_workbook(creator = "vetusta")
  sheet_about(book, about)
  book$add_worksheet("rows")
  if (nrow(rows)) {
    book$add_data_table(x = rows, table_name = "rows", na = NULL)
  } else {
    book$add_data(x = rows)
  }
  for (i in seq_along(rows)) {
    sheet_exact(
      book, 1, openxlsx2::int2col(i), seq_len(nrow(rows)) + 1, rows[[i]]
    )
  }
  book$freeze_pane(first_row = TRUE)
  book$save(path)
}

# The document's properties: title, source and metadata. A property has room
# for 32,000 characters here; beyond, the lineage is left out.
sheet_about <- function(book, about) {
  text <- about_json(about)
  if (nchar(text) > 32000) {
    about$notes[[1]]$lineage <- NULL
    text <- about_json(about)
  }
  custom <- "custom" %in% names(formals(openxlsx2::wb_set_properties))
  if (custom) {
    book$set_properties(
      title = about[["dc:title"]], subject = about[["dc:source"]],
      custom = list(csvw = text)
    )
  } else {
    book$set_properties(
      title = about[["dc:title"]], subject = about[["dc:source"]],
      comments = text
    )
  }
}

# The package writes 15 digits; numbers that need more are written in full.
sheet_exact <- function(book, sheet, letter, row, values) {
  if (inherits(values, "POSIXct")) {
    values <- as.numeric(values) / 86400 + 25569
  }
  if (!is.double(values) || is.object(values)) {
    return(invisible())
  }
  if (is_plain_cpp(values)) {
    return(invisible())
  }
  more <- which(
    is.finite(values) & values != as.numeric(sprintf("%.15g", values))
  )
  if (!length(more)) {
    return(invisible())
  }
  cells <- book$worksheets[[sheet]]$sheet_data$cc
  at <- match(paste0(letter, row[more]), cells$r)
  book$worksheets[[sheet]]$sheet_data$cc$v[at] <- format_exact(values[more])
}

# Columns for a sheet: instants without a zone, in UTC. Days and instants that
# its calendar does not have are texts.
sheet_columns <- function(rows) {
  rows <- list_frame(lapply(as.list(export_columns(rows)), function(column) {
    if (!inherits(column, c("Date", "POSIXct")) || sheet_holds(column)) {
      column
    } else if (inherits(column, "Date")) {
      format(column)
    } else {
      format_instant(column)
    }
  }))
  long <- vapply(
    as.list(rows),
    function(column) {
      is.character(column) && any(nchar(column) > 32767, na.rm = TRUE)
    },
    TRUE
  )
  if (any(long)) {
    vetusta_stop(
      "export",
      paste0(
        "A text of the column ", names(rows)[long][1],
        " is longer than a cell allows."
      ),
      todo = "leave the column out, or write a .csv file"
    )
  }
  rows
}

# Whether a sheet holds these times: its days are right from 1 March 1900 on,
# and its instants to the millisecond.
sheet_holds <- function(times) {
  value <- as.numeric(times)
  first <- if (inherits(times, "Date")) -25508 else -25508 * 86400
  known <- value[is.finite(value)]
  all(known >= first) &&
    (inherits(times, "Date") || all(abs(known - round(known, 3)) < 4e-7))
}
