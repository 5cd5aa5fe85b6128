# Adding to a table of a workbook, while all around it stays.

append_sheet <- function(rows, file, table, keys, update, zone) {
  needs_sheets()
  check_text(table, "table", "export")
  for (name in names(rows)) {
    early <- inherits(rows[[name]], c("Date", "POSIXct")) &&
      any(as.numeric(as.Date(rows[[name]])) < -25508, na.rm = TRUE)
    if (early) {
      vetusta_stop(
        "export",
        paste0("A sheet has no days before March 1900, and ", name, " has."),
        where = file, todo = "leave those rows out, or add them to a .csv file"
      )
    }
  }
  if (!file.exists(file)) {
    vetusta_stop(
      "export", "There is no such workbook.",
      where = file,
      todo = "make the file with a table in it, or write it with export_table()"
    )
  }
  check_not_open(file)
  before <- file.info(file)[c("size", "mtime")]
  book <- workbook_to_write(file)
  at <- sheet_table(book, table, file)
  existing <- existing_sheet(book, at, keys, rows, zone, file)
  places <- append_places(rows, existing$columns, keys, file, existing$formulas)
  values <- sheet_values(rows[places$from], zone, existing$epoch)
  there <- which(!is.na(places$at))
  value_columns <- !places$from %in% keys
  differ <- append_differ(
    list_frame(values[value_columns]),
    existing$columns[places$columns[value_columns]], there, places$at[there]
  )
  fresh <- which(is.na(places$at))
  time <- time_keys(rows, keys)
  if (length(time)) fresh <- fresh[order(as.numeric(rows[[time[1]]])[fresh])]
  changed <- if (update) there[differ] else integer()
  if (length(fresh) || length(changed)) {
    sheet_put(book, at, existing, places, values, fresh, changed)
    write_whole(file, function(path) {
      book$save(path)
      if (!identical(before, file.info(file)[c("size", "mtime")])) {
        stop("somebody else has written it meanwhile")
      }
    })
  }
  list(
    new = length(fresh),
    changed = length(changed),
    unchanged = length(there) - length(changed),
    left_out = places$left_out
  )
}

workbook_to_write <- function(file) {
  other_errors(openxlsx2::wb_load(file), function(e) {
    vetusta_stop(
      "export", "The file is not a workbook, or it is damaged.",
      where = file,
      todo = "save it again as .xlsx"
    )
  })
}

# Programs that have a workbook open put a lock file beside it.
check_not_open <- function(file) {
  beside <- file.path(
    dirname(file),
    c(paste0("~$", basename(file)), paste0(".~lock.", basename(file), "#"))
  )
  if (any(file.exists(beside))) {
    vetusta_stop(
      "export",
      "The workbook is open in another program.",
      where = file,
      todo = paste0(
        "close it there and run it again; where no program has it open, ",
        "take away ", beside[file.exists(beside)][1]
      )
    )
  }
}

# The place of a table: list(sheet, name, first row, last row, columns as
# letters).
sheet_table <- function(book, table, file, plain = FALSE) {
  tables <- book$tables
  known <- if (is.data.frame(tables)) tables[tables$tab_act == 1, ] else NULL
  row <- which(tolower(known$tab_name) == tolower(table))
  sheet <- which(tolower(book$get_sheet_names()) == tolower(table))
  if (!length(row) && length(sheet)) {
    return(sheet_block(book, sheet[1], file))
  }
  if (!length(row)) {
    vetusta_stop(
      "export",
      paste0("The workbook has no table \"", table, "\"."),
      where = file,
      todo = if (NROW(known)) {
        suggest_word(table, known$tab_name)
      } else {
        paste0(
          "make a table of the cells in the spreadsheet program, and give ",
          "it that name"
        )
      }
    )
  }
  parts <- regmatches(
    known$tab_ref[row],
    regexec("^([A-Z]+)([0-9]+):([A-Z]+)([0-9]+)$", known$tab_ref[row])
  )[[1]]
  if (!plain && grepl("totalsRowCount=\"[1-9]", known$tab_xml[row])) {
    vetusta_stop(
      "export",
      paste0(
        "The table ", known$tab_name[row],
        " ends with a row of totals, so no rows can be added below it."
      ),
      where = file,
      todo = paste0(
        "switch the row of totals off, and count above the table or ",
        "beside it"
      )
    )
  }
  letters <- openxlsx2::int2col(
    seq(openxlsx2::col2int(parts[2]), openxlsx2::col2int(parts[4]))
  )
  list(
    sheet = known$tab_sheet[row],
    name = known$tab_name[row],
    head = as.numeric(parts[3]),
    last = as.numeric(parts[5]),
    letters = letters
  )
}

# The only table of a sheet that has no name: its cells below the lines of a
# title.
sheet_block <- function(book, sheet, file) {
  cells <- book$worksheets[[sheet]]$sheet_data$cc
  filled <- cells[nzchar(cells$v) | nzchar(cells$f) | nzchar(cells$is), ]
  if (NROW(filled)) {
    row <- as.numeric(filled$row_r)
    column <- openxlsx2::col2int(filled$c_r)
    # the head is the first row as wide as the widest
    wide <- tapply(column, row, function(x) length(unique(x)))
    head <- as.numeric(names(wide))[wide >= max(wide) - 1][1]
    # the table ends with the first empty row
    rows <- sort(unique(row[row >= head]))
    gap <- which(diff(rows) > 1)
    last <- if (length(gap)) rows[gap[1]] else max(rows)
    inside <- row >= head & row <= last
    return(list(
      sheet = sheet, name = NULL, head = head, last = last,
      letters = openxlsx2::int2col(
        seq(min(column[inside]), max(column[inside]))
      )
    ))
  }
  vetusta_stop(
    "export", "The sheet is empty.",
    where = file, todo = "write the heads of a table into it"
  )
}

# The content of a table: its columns, with times like those of the new rows;
# which columns are formulas; and the workbook's epoch.
existing_sheet <- function(book, at, keys, rows, zone, file) {
  # by position, because another sheet may have this name
  dims <- paste0(
    at$letters[1], at$head, ":", at$letters[length(at$letters)], at$last
  )
  read <- openxlsx2::wb_to_df(
    book,
    sheet = at$sheet, dims = dims, detect_dates = FALSE,
    skip_empty_rows = FALSE, skip_empty_cols = FALSE
  )
  columns <- lapply(as.list(read), function(column) {
    if (is.factor(column)) as.character(column) else column
  })
  cells <- book$worksheets[[at$sheet]]$sheet_data$cc
  last <- cells[
    cells$row_r == as.character(at$last) & cells$c_r %in% at$letters,
  ]
  formulas <- last[nzchar(last$f), ]
  epoch <- book_epoch(book)
  for (key in time_keys(rows, keys)) {
    time <- match(tolower(key), tolower(trimws(names(columns))))
    if (is.na(time)) next
    columns[[time]] <- sheet_times(
      columns[[time]], inherits(rows[[key]], "Date"), epoch, zone, file, key
    )
  }
  # a table created without rows has one empty row
  empty <- nrow(read) == 1 &&
    all(vapply(columns, function(column) all(is.na(column)), TRUE))
  list(
    columns = columns,
    epoch = epoch,
    empty = empty,
    formulas = names(columns)[match(formulas$c_r, at$letters)],
    formula = stats::setNames(formulas$f, formulas$c_r)
  )
}

# Times of a sheet: days since its epoch, local where they have hours; or texts.
sheet_times <- function(column, days, epoch, zone, file, name) {
  if (is.numeric(column)) {
    if (days) {
      return(epoch_days(floor(column - epoch)))
    }
    seconds <- round((column - epoch) * 86400, 3)
    known <- is.finite(seconds)
    time <- rep(NA_real_, length(seconds))
    time[known] <- as.numeric(
      time_local(
        epoch_days(floor(seconds[known] / 86400)), seconds[known] %% 86400, zone
      )
    )
    return(utc(time))
  }
  text <- as.character(column)
  read <- if (days) read_day(text) else text_times(text, zone, NULL)
  bad <- which(is.na(read) & !is.na(text))
  if (length(bad)) {
    vetusta_stop(
      "export",
      paste0("The table's ", name, " \"", text[bad[1]], "\" cannot be read."),
      where = file, todo = "give the cells of that column a date"
    )
  }
  read
}

# Values for a sheet's cells: days as numbers, so that the format of the cells
# stays.
sheet_values <- function(rows, zone, epoch) {
  lapply(as.list(export_columns(rows)), function(column) {
    if (inherits(column, "Date")) {
      return(as.numeric(column) + epoch)
    }
    if (!inherits(column, "POSIXct")) {
      return(column)
    }
    seconds <- as.numeric(column)
    known <- is.finite(seconds)
    seconds[known] <- seconds[known] + zone_offset(seconds[known], zone)
    seconds / 86400 + epoch
  })
}

sheet_put <- function(book, at, existing, places, values, fresh, changed) {
  letter <- stats::setNames(at$letters, names(existing$columns))
  put <- function(name, row, value) {
    book$add_data(
      sheet = at$sheet,
      x = value,
      dims = paste0(letter[[name]], row),
      col_names = FALSE,
      na = NULL,
      apply_cell_style = FALSE
    )
    sheet_exact(
      book, at$sheet, letter[[name]], row + seq_along(value) - 1, value
    )
  }
  for (i in seq_along(places$columns)) {
    name <- places$columns[i]
    for (row in changed) put(name, at$head + places$at[row], values[[i]][row])
  }
  if (!length(fresh)) {
    return(invisible())
  }
  first <- if (existing$empty) at$last else at$last + 1
  last <- first + length(fresh) - 1
  check_room_below(book, at, first, last)
  for (i in seq_along(places$columns)) {
    put(places$columns[i], first, values[[i]][fresh])
  }
  for (column in names(existing$formula)) {
    text <- vapply(
      seq(first, last) - at$last,
      shifted_formula,
      "",
      text = existing$formula[[column]]
    )
    book$add_formula(
      sheet = at$sheet,
      x = text,
      dims = paste0(column, first, ":", column, last)
    )
  }
  # new rows are formatted like the last one
  for (column in at$letters) {
    style <- book$get_cell_style(
      sheet = at$sheet,
      dims = paste0(column, at$last)
    )
    if (length(style) && !is.na(style) && nzchar(style)) {
      book$set_cell_style(
        sheet = at$sheet,
        dims = paste0(column, first, ":", column, last),
        style = unname(style)
      )
    }
  }
  if (is.null(at$name)) {
    return(invisible())
  }
  book$update_table(
    sheet = at$sheet,
    tabname = at$name,
    dims = paste0(
      at$letters[1], at$head, ":", at$letters[length(at$letters)], last
    )
  )
}

# Cells below a table would be overwritten.
check_room_below <- function(book, at, first, last) {
  if (last > sheet_rows) {
    vetusta_stop(
      "export", "The sheet has no room for the new rows.",
      todo = "begin another table"
    )
  }
  cells <- book$worksheets[[at$sheet]]$sheet_data$cc
  row <- as.numeric(cells$row_r)
  filled <- nzchar(cells$v) | nzchar(cells$f) | nzchar(cells$is)
  taken <- which(
    row >= max(first, at$last + 1) &
      row <= last &
      cells$c_r %in% at$letters &
      filled
  )
  if (length(taken)) {
    vetusta_stop(
      "export",
      paste0(
        "Below the table ", at$name %||% "", " a value is in the cell ",
        cells$r[taken[1]], ", which new rows would need."
      ),
      todo = "move it beside the table, or to another sheet"
    )
  }
}

# Moves a formula down by some rows: its relative row references move too.
shifted_formula <- function(text, by) {
  text <- gsub("&lt;", "<", gsub("&gt;", ">", gsub("&quot;", "\"", text)))
  text <- gsub("&amp;", "&", text)
  # quoted texts, and names of tables and columns in brackets, stay
  parts <- regmatches(
    text, gregexpr("\"[^\"]*\"|'[^']*'|\\[[^]]*\\]|[^\"'\\[]+", text)
  )[[1]]
  plain <- !grepl("^[\"'\\[]", parts)
  pattern <- "(?<![A-Za-z0-9_.$])(\\$?[A-Z]{1,3})([0-9]+)(?![A-Za-z0-9_.(])"
  parts[plain] <- vapply(
    parts[plain],
    function(part) {
      hits <- gregexpr(pattern, part, perl = TRUE)
      regmatches(
        part, hits
      ) <- lapply(regmatches(part, hits), function(matches) {
        letters <- sub("[0-9]+$", "", matches)
        paste0(letters, as.numeric(substring(matches, nchar(letters) + 1)) + by)
      })
      part
    },
    ""
  )
  paste(parts, collapse = "")
}
