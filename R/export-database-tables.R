# Plain tables in a database: their columns, names and rows.

# One table: created if needed, extended by new columns, and merged with the
# rows.
database_table <- function(parts, connection, database) {
  name <- parts[[1]]$table
  key <- parts[[1]]$key
  all <- data.table::rbindlist(
    lapply(parts, `[[`, "rows"),
    use.names = TRUE, fill = TRUE
  )
  rows <- list_frame(as.list(all))
  names(rows) <- database_names(names(rows))
  for (column in key) {
    if (anyNA(rows[[column]])) {
      rows <- rows[!is.na(rows[[column]]), , drop = FALSE]
    }
  }
  rows <- rows[!duplicated(rows[key], fromLast = TRUE), , drop = FALSE]
  types <- vapply(as.list(rows), database_type, "", connection = connection)
  database_prepare(connection, name, key, types, database)
  beside <- paste0("vetusta_new_", name)
  quote <- function(x) as.character(DBI::dbQuoteIdentifier(connection, x))
  DBI::dbExecute(
    connection,
    paste0(
      "CREATE TEMPORARY TABLE ", quote(beside), " (",
      paste(quote(names(types)), types, collapse = ", "), ", PRIMARY KEY (",
      paste(quote(key), collapse = ", "), "))"
    )
  )
  DBI::dbAppendTable(connection, beside, database_values(rows, connection))
  run <- function(...) DBI::dbExecute(connection, paste0(...))
  join <- paste0("t.", quote(key), " = n.", quote(key), collapse = " AND ")
  others <- setdiff(names(types), key)
  differ <- paste0(
    "t.", quote(others), database_distinct(connection), "n.", quote(others),
    collapse = " OR "
  )
  changed <- if (length(others)) {
    run(
      "UPDATE ", quote(name), " AS t SET ",
      paste0(quote(others), " = n.", quote(others), collapse = ", "), " FROM ",
      quote(beside), " AS n WHERE ", join, " AND (", differ, ")"
    )
  } else {
    0
  }
  new <- run(
    "INSERT INTO ", quote(name), " (",
    paste(quote(names(types)), collapse = ", "), ") SELECT ",
    paste0("n.", quote(names(types)), collapse = ", "), " FROM ",
    quote(beside), " AS n WHERE NOT EXISTS (SELECT 1 FROM ", quote(name),
    " AS t WHERE ", join, ")"
  )
  # rows that the archive no longer has are removed
  deleted <- sum(
    vapply(
      parts, database_gone, 0,
      connection = connection, name = name,
      beside = beside, join = join
    )
  )
  DBI::dbExecute(connection, paste0("DROP TABLE ", quote(beside)))
  list(
    new = new,
    changed = changed,
    unchanged = nrow(rows) - new - changed,
    deleted = deleted
  )
}

# Deletes rows of a part's series, within its window, that the archive no longer
# has.
database_gone <- function(part, connection, name, beside, join) {
  groups <- part$groups %||% unique(list_frame(part$rows)[part$of])
  bounds <- part$bounds
  if (!nrow(groups) || identical(bounds, NA)) {
    return(0)
  }
  quote <- function(x) as.character(DBI::dbQuoteIdentifier(connection, x))
  of <- paste0("vetusta_of_", name)
  names(groups) <- database_names(names(groups))
  DBI::dbWriteTable(
    connection, of, as.data.frame(database_values(groups, connection)),
    temporary = TRUE, overwrite = TRUE
  )
  same <- paste0(
    "t.", quote(names(groups)), " = o.", quote(names(groups)),
    collapse = " AND "
  )
  bounds <- bounds[lengths(bounds) > 0]
  edges <- if (length(bounds)) database_values(list_frame(bounds), connection)
  within <- vapply(
    as.character(names(bounds)),
    function(end) {
      paste0(
        " AND t.", quote(part$time), if (end == "from") " >= " else " < ",
        as.character(DBI::dbQuoteLiteral(connection, edges[[end]]))
      )
    },
    ""
  )
  gone <- DBI::dbExecute(
    connection,
    paste0(
      "DELETE FROM ", quote(name), " AS t WHERE EXISTS ", "(SELECT 1 FROM ",
      quote(of), " AS o WHERE ", same, ") AND NOT EXISTS (SELECT 1 FROM ",
      quote(beside), " AS n WHERE ", join, ")", paste(within, collapse = "")
    )
  )
  DBI::dbExecute(connection, paste0("DROP TABLE ", quote(of)))
  gone
}

# Databases ignore case in names: a dimension UNIT beside the column unit
# becomes unit_code.
database_names <- function(names) {
  again <- duplicated(tolower(names))
  names[again] <- paste0(names[again], "_code")
  make.unique(names, sep = "_")
}

database_distinct <- function(connection) {
  if (inherits(connection, "PqConnection")) " IS DISTINCT FROM " else " IS NOT "
}

database_type <- function(column, connection) {
  postgres <- inherits(connection, "PqConnection")
  if (inherits(column, "POSIXct")) {
    if (postgres) "timestamptz" else "TEXT"
  } else if (inherits(column, "Date")) {
    if (postgres) "date" else "TEXT"
  } else if (is.logical(column)) {
    if (postgres) "boolean" else "INTEGER"
  } else if (is.integer(column)) {
    if (postgres) "bigint" else "INTEGER"
  } else if (is.numeric(column)) {
    if (postgres) "double precision" else "REAL"
  } else if (postgres) {
    "text"
  } else {
    "TEXT"
  }
}

# SQLite has no types for instants and days: they are texts that sort in order
# of time.
database_values <- function(rows, connection) {
  if (inherits(connection, "PqConnection")) {
    return(rows)
  }
  list_frame(lapply(as.list(rows), function(column) {
    if (inherits(column, "POSIXct")) {
      format_instant(column)
    } else if (inherits(column, "Date")) {
      format(column)
    } else if (is.logical(column)) {
      as.integer(column)
    } else {
      column
    }
  }))
}

# An existing table must have the same key; new columns are added to it.
database_prepare <- function(connection, name, key, types, database) {
  quote <- function(x) as.character(DBI::dbQuoteIdentifier(connection, x))
  if (!DBI::dbExistsTable(connection, name)) {
    DBI::dbExecute(
      connection,
      paste0(
        "CREATE TABLE ", quote(name), " (",
        paste(quote(names(types)), types, collapse = ", "), ", PRIMARY KEY (",
        paste(quote(key), collapse = ", "), "))"
      )
    )
    return(invisible())
  }
  fields <- DBI::dbListFields(connection, name)
  if (!all(key %in% fields)) {
    vetusta_stop(
      "export",
      paste0(
        "The database has a table ", name, " that is not ours: it lacks ",
        paste(setdiff(key, fields), collapse = ", "), "."
      ),
      where = database_named(database),
      todo = "give another database, or rename that table"
    )
  }
  for (column in setdiff(names(types), fields)) {
    DBI::dbExecute(
      connection,
      paste0(
        "ALTER TABLE ", quote(name), " ADD COLUMN ", quote(column), " ",
        types[[column]]
      )
    )
  }
}
