# Filling a table of a workbook: cells by their letters, with formulas, styles
# and the table around them.

filled_sheet <- function(file, table, values) {
  needs_sheets()
  check_not_open(file)
  before <- file.info(file)[c("size", "mtime")]
  book <- workbook_to_write(file)
  at <- sheet_table(book, table, file, plain = TRUE)
  dims <- paste0(
    at$letters[1], at$head, ":", at$letters[length(at$letters)], at$last
  )
  read <- openxlsx2::wb_to_df(
    book,
    sheet = at$sheet, dims = dims, detect_dates = FALSE, col_names = FALSE,
    skip_empty_rows = FALSE, skip_empty_cols = FALSE, show_formula = FALSE
  )
  heads <- vapply(as.list(read), function(column) as.character(column[1]), "")
  heads[is.na(heads)] <- ""
  cells <- lapply(as.list(read), function(column) as.character(column[-1]))
  filled <- values(list(heads = unname(heads), cells = unname(cells)))
  added <- filled$heads[-seq_along(filled$columns)]
  letters <- at$letters
  if (length(added)) {
    letters <- c(letters, sheet_room_beside(book, at, length(added)))
  }
  # heads in the table's order, each with its letter
  own <- filled$columns
  order <- seq_along(filled$heads)
  if (length(added) && filled$backwards) {
    order <- c(rev(setdiff(order, seq_along(own))), seq_along(own))
  }
  places <- letters[c(own, seq_along(added) + length(at$letters))]
  formula <- sheet_formulas(book, at$sheet)
  moves <- length(added) && filled$backwards
  if (
    moves && any(own[-1] != own[-length(own)] + 1, max(own) < length(heads))
  ) {
    stop_no_shift(file, at, "has other columns between or after its periods")
  }
  cell <- function(letter, row) paste0(letter, at$head + row, recycle0 = TRUE)
  all <- seq_along(cells[[1]])
  if (moves &&
    any(as.vector(outer(letters[own], all, cell)) %in% formula)) {
    stop_no_shift(file, at, "has formulas in the columns of its periods")
  }
  changed <- 0L
  # the package refuses to write heads of tables, which are put back below
  tables <- book$tables
  if (moves) book$tables <- tables[0, ]
  for (i in seq_along(order)) {
    k <- order[i]
    letter <- places[i]
    old <- if (k <= length(own)) {
      cells[[own[k]]]
    } else {
      rep(
        NA_character_, length(all)
      )
    }
    if (k > length(own) || moves) {
      sheet_cell(book, at$sheet, cell(letter, 0), fill_head(filled$heads[k]))
    }
    number <- suppressWarnings(as.numeric(old))
    new <- number
    new[filled$rows] <- ifelse(
      is.na(filled$values[, k]), number[filled$rows], filled$values[, k]
    )
    differs <- which(!(new == number | is.na(new) & is.na(number)) %in% TRUE)
    differs <- differs[!cell(letter, differs) %in% formula]
    changed <- changed + length(differs)
    write <- if (moves) which(!is.na(new)) else differs
    for (row in write) {
      sheet_cell(book, at$sheet, cell(letter, row), new[row])
    }
    if (letter %in% letters[-seq_along(at$letters)]) {
      sheet_like(book, at, at$letters[length(at$letters)], letter)
    }
  }
  book$tables <- tables
  if (changed || length(added)) {
    if (length(added) && !is.null(at$name)) {
      sheet_table_wider(book, at, letters, filled, order, own, heads)
    }
    write_whole(file, function(path) {
      book$save(path)
      if (!identical(before, file.info(file)[c("size", "mtime")])) {
        stop("somebody else has written it meanwhile")
      }
    })
  }
  fill_counts(filled, changed, added)
}

# Heads of a table in a workbook are texts.
fill_head <- function(head) as.character(head)

stop_no_shift <- function(file, at, why) {
  vetusta_stop(
    "export",
    paste0(
      "The newest period of ", at$name %||% "the table",
      " stands first, and the table ", why, ", so no period can be put before ",
      "it."
    ),
    where = file,
    todo = "add the column in the spreadsheet program, or order periods by time"
  )
}

# Cells of a sheet that have formulas.
sheet_formulas <- function(book, sheet) {
  cells <- book$worksheets[[sheet]]$sheet_data$cc
  cells$r[nzchar(cells$f)]
}

sheet_cell <- function(book, sheet, place, value) {
  book$add_data(
    sheet = sheet, x = value, dims = place, col_names = FALSE, na = NULL,
    apply_cell_style = FALSE
  )
  if (is.numeric(value)) {
    sheet_exact(
      book, sheet, sub("[0-9]+$", "", place),
      as.numeric(sub("^[A-Z]+", "", place)), value
    )
  }
}

# A new column looks like its neighbour.
sheet_like <- function(book, at, from, to) {
  for (row in seq(at$head, at$last)) {
    style <- book$get_cell_style(sheet = at$sheet, dims = paste0(from, row))
    if (length(style) && !is.na(style) && nzchar(style)) {
      book$set_cell_style(
        sheet = at$sheet, dims = paste0(to, row), style = unname(style)
      )
    }
  }
}

# The letters of free columns to the right of a table.
sheet_room_beside <- function(book, at, count) {
  last <- openxlsx2::col2int(at$letters[length(at$letters)])
  letters <- openxlsx2::int2col(last + seq_len(count))
  cells <- book$worksheets[[at$sheet]]$sheet_data$cc
  row <- as.numeric(cells$row_r)
  filled <- nzchar(cells$v) | nzchar(cells$f) | nzchar(cells$is)
  taken <- which(
    filled & cells$c_r %in% letters & row >= at$head & row <= at$last
  )
  if (length(taken)) {
    vetusta_stop(
      "export",
      paste0(
        "Beside the table a value is in the cell ", cells$r[taken[1]],
        ", which a new period would need."
      ),
      todo = "move it below the table, or to another sheet"
    )
  }
  letters
}

# A named table with more columns.
sheet_table_wider <- function(book, at, letters, filled, order, own, heads) {
  names <- c(heads, rep("", length(letters) - length(heads)))
  names[c(own, seq_len(length(letters) - length(heads)) + length(heads))] <-
    filled$heads[order]
  row <- which(
    book$tables$tab_name == at$name & book$tables$tab_sheet == at$sheet
  )
  xml <- book$tables$tab_xml[row]
  old <- book$tables$tab_ref[row]
  new <- paste0(
    letters[1], at$head, ":", letters[length(letters)], at$last
  )
  xml <- gsub(paste0("ref=\"", old, "\""), paste0("ref=\"", new, "\""), xml,
    fixed = TRUE
  )
  columns <- regmatches(
    xml, gregexpr(
      "<tableColumn [^>]*?(/>|>.*?</tableColumn>)", xml,
      perl = TRUE
    )
  )[[1]]
  ids <- as.integer(sub(".* id=\"([0-9]+)\".*", "\\1", columns))
  more <- sprintf(
    "<tableColumn id=\"%d\" name=\"\"/>",
    max(ids) + seq_len(length(letters) - length(columns))
  )
  columns <- c(columns, more)
  columns <- mapply(function(column, name) {
    sub(
      " name=\"[^\"]*\"",
      paste0(" name=\"", xml_escaped(name), "\""), column
    )
  }, columns, names)
  xml <- sub(
    "<tableColumns.*</tableColumns>",
    paste0(
      "<tableColumns count=\"", length(columns), "\">",
      paste(columns, collapse = ""), "</tableColumns>"
    ),
    xml
  )
  book$tables$tab_xml[row] <- xml
  book$tables$tab_ref[row] <- new
}

xml_escaped <- function(text) {
  gsub("\"", "&quot;", gsub("<", "&lt;", gsub("&", "&amp;", text)))
}
