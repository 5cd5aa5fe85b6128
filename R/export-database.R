# Plain tables of rows in a database: an SQLite file, or PostgreSQL by its
# connection URI.

#' Update plain tables in a database
#'
#' Writes what an archive holds as plain tables with keys and types: `bars`,
#' `observations`, `facts` of series, and a table named after its shape for all
#' other rows (`instruments`, `places`, `snapshot`, ...). The table `dictionary`
#' has the type and the unit of each column of a dataset, and `titles` what
#' series are called. A table that is there is refreshed in place by the rows
#' that changed.
#'
#' @param archive An archive.
#' @param database Path of an SQLite file (made where it is not there), or a
#'   connection URI as `postgresql://user@host/name`. A password does not belong
#'   into it: PostgreSQL's own `PGPASSWORD` or `~/.pgpass` hold it.
#' @param ids What is written: series IDs, see [archive_find()], or
#'   `source/dataset` of rows without series; `NULL` is all of it.
#' @param from,to,as_of The window, and the instant as of which the rows are
#'   known, as in [archive_read()].
#' @return Invisibly a tibble with one row a table: `table`, `new`, `changed`,
#'   `unchanged`, `deleted` (rows that stood in the window and are held no
#'   more).
#' @section Errors: `vetusta_error_export` for a database that cannot be reached
#'   or written, or a table of one of these names that is not ours; nothing in
#'   it is changed then.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
#' archive_import(archive, csv, symbol = "KELD", interval = "1 day")
#' export_database(archive, tempfile(fileext = ".sqlite"))
export_database <- function(archive, database, ids = NULL, from = NULL,
                            to = NULL, as_of = NULL) {
  check_archive(archive)
  check_text(database, "database", "export")
  if (!is.null(ids)) check_text(ids, "ids", "export", several = TRUE)
  parts <- database_parts(archive, ids, from, to, as_of)
  connection <- database_open(database, archive)
  on.exit(DBI::dbDisconnect(connection))
  done <- database_work(connection, database, function() {
    lapply(
      split(
        parts,
        factor(
          vapply(parts, `[[`, "", "table"),
          unique(vapply(parts, `[[`, "", "table"))
        )
      ),
      database_table,
      connection = connection, database = database
    )
  })
  count <- function(name) {
    vapply(
      done, function(result) as.numeric(result[[name]]), 0,
      USE.NAMES = FALSE
    )
  }
  invisible(
    as_rows(
      list(
        table = as.character(names(done)),
        new = count("new"),
        changed = count("changed"),
        unchanged = count("unchanged"),
        deleted = count("deleted")
      )
    )
  )
}

# The tables to write: list(table, rows, key, within), where `within` are the
# columns that select the rows to replace.
database_parts <- function(archive, ids, from, to, as_of) {
  datasets <- store_datasets(archive)
  known <- sprintf("%s/%s", datasets$source, datasets$dataset)
  plain <- if (is.null(ids)) known else intersect(ids, known)
  wanted <- if (is.null(ids)) NULL else setdiff(ids, known)
  tables <- if (is.null(wanted) || length(wanted)) {
    archive_read(archive, wanted, from, to, as_of)
  }
  window <- list(from = from, to = to)
  series <- store_series(archive)
  if (length(wanted)) {
    named <- archive_find(archive, wanted)$id
    series <- series[series_id(series) %in% named, , drop = FALSE]
  }
  of_series <- Map(
    database_series, tables, names(tables),
    MoreArgs = list(window = window)
  )
  of_series <- lapply(of_series, with_groups_of, series = series)
  of_rows <- lapply(plain, function(id) {
    at <- match(id, known)
    rows <- archive_rows(
      archive, datasets$source[at], datasets$dataset[at],
      as_of = as_of
    )
    key <- intersect(record_keys[[datasets$shape[at]]], names(rows))
    # rows without a key are identified by their order
    if (!length(key)) {
      rows <- list_frame(c(list(row = seq_len(nrow(rows))), as.list(rows)))
      key <- "row"
    }
    list(
      table = datasets$shape[at],
      key = c("source", "dataset", key),
      of = c("source", "dataset"),
      rows = database_rows(rows, datasets$source[at], datasets$dataset[at]),
      whole = TRUE
    )
  })
  parts <- Filter(
    function(part) length(part$rows[[1]]) > 0 || NROW(part$groups) > 0,
    c(unname(of_series), of_rows)
  )
  c(parts, database_dictionary(archive, parts))
}

# The description of columns and series of the tables: types and units by
# column, titles by series.
database_dictionary <- function(archive, parts) {
  places <- unique(unlist(lapply(parts, function(part) {
    unique(paste0(part$rows$source, "/", part$rows$dataset))
  })))
  of_these <- function(rows) {
    rows[paste0(rows$source, "/", rows$dataset) %in% places, ]
  }
  table <- function(name, key, rows) {
    list(
      table = name,
      rows = as.list(rows),
      key = c("source", "dataset", key),
      of = c("source", "dataset"),
      whole = TRUE
    )
  }
  columns <- of_these(archive_schema(archive))
  titles <- of_these(archive_series(archive))
  titles <- titles[
    !is.na(titles$title) & !duplicated(titles[c("source", "dataset", "key")]),
  ]
  c(
    if (nrow(columns)) {
      list(
        table(
          "dictionary", "column",
          columns[c("source", "dataset", "column", "type", "unit")]
        )
      )
    },
    if (nrow(titles)) {
      list(
        table("titles", "key", titles[c("source", "dataset", "key", "title")])
      )
    }
  )
}

# All series of a part, including those whose rows are all deleted.
with_groups_of <- function(part, series) {
  groups <- unique(list_frame(part$rows)[part$of])
  here <- paste0(series$source, "/", series$dataset) %in% part$place
  # bars of another length are another part
  if (!is.null(part$frequency)) {
    here <- here & series$frequency %in% part$frequency
  }
  here <- series[here, , drop = FALSE]
  if (nrow(here)) {
    known <- series_dimensions(here)
    word <- function(name) as.character(known[[name]] %||% rep(NA, nrow(here)))
    all <- list(
      source = here$source,
      dataset = here$dataset,
      interval = here$frequency,
      symbol = word("symbol"),
      side = ifelse(is.na(word("side")), "", word("side")),
      series = here$key,
      item = word("item")
    )
    all <- list_frame(all)[part$of]
    groups <- unique(
      rbind(groups, all[!Reduce(`|`, lapply(all, is.na)), , drop = FALSE])
    )
  }
  part$groups <- groups
  part
}

database_rows <- function(rows, source, dataset, first = list()) {
  n <- nrow(rows)
  rows <- as.list(export_columns(rows))
  c(
    list(source = rep(source, n), dataset = rep(dataset, n)), first,
    rows[!names(rows) %in% c("source", "dataset", names(first))]
  )
}

database_series <- function(table, place, window) {
  parts <- strsplit(place, "/", fixed = TRUE)[[1]]
  bars <- is_bars(table)
  interval <- attr(table, "interval")
  first <- if (bars) {
    list(interval = rep(interval$iso %||% interval %||% "", nrow(table)))
  } else {
    list()
  }
  time <- intersect(c("time", "period", "period_end"), names(table))[1]
  names <- intersect(c("symbol", "series", "item", "side"), names(table))
  rows <- database_rows(table, parts[1], parts[2], first)
  if (bars && is.null(rows$side)) rows$side <- rep(NA_character_, nrow(table))
  shape <- if (bars) "bars" else database_tables[[time]]
  # a key has no missing parts
  if (bars) rows$side[is.na(rows$side)] <- ""
  of <- c("source", "dataset", names(first), names, if (bars) "side")
  list(
    table = shape,
    rows = rows,
    key = unique(c(of, time)),
    of = unique(of),
    place = place,
    frequency = if (bars) interval$iso %||% interval,
    time = time,
    bounds = database_bounds(table[[time]], window)
  )
}

# The times between which outdated rows are removed, as stored in the table,
# `NULL` for an open end; NA where times are texts that do not sort in order of
# time.
database_bounds <- function(time, window) {
  edge <- function(x, end) {
    if (is.null(x)) {
      return(NULL)
    }
    at <- time_instant(x, "UTC", end = end, name = if (end) "to" else "from")
    if (inherits(time, "Date")) as.Date(at, tz = "UTC") else at
  }
  plain <- inherits(time, c("Date", "POSIXct"))
  if (!plain && !(is.null(window$from) && is.null(window$to))) {
    return(NA)
  }
  list(from = edge(window$from, FALSE), to = edge(window$to, TRUE))
}

# The table of series other than bars, by the kind of their times.
database_tables <- c(
  period = "observations", time = "points", period_end = "facts"
)

database_open <- function(database, archive) {
  if (grepl("^postgres(ql)?://", database)) {
    if (!requireNamespace("RPostgres", quietly = TRUE)) {
      vetusta_stop(
        "export",
        "PostgreSQL needs the package RPostgres, which is not installed.",
        todo = paste0(
          "install it: install.packages(\"RPostgres\"); or give an ",
          "SQLite file"
        )
      )
    }
    return(
      database_errors(postgres_driver(server_uri(database, "export")), database)
    )
  }
  if (grepl("^[a-z0-9+]+://", database)) {
    vetusta_stop(
      "export",
      "This kind of database is not known.",
      where = sub("//.*", "//", database),
      todo = "give a path of an SQLite file, or postgresql://user@host/name"
    )
  }
  if (!dir.exists(dirname(database))) {
    vetusta_stop(
      "export", "The folder of the database does not exist.",
      where = dirname(database), todo = "create it, or give another path"
    )
  }
  if (file.exists(database) &&
    normalizePath(database) == normalizePath(archive$path, mustWork = FALSE)) {
    vetusta_stop(
      "export", "This is the archive itself.",
      where = database,
      todo = "give the path of another file"
    )
  }
  connection <- database_errors(
    DBI::dbConnect(
      RSQLite::SQLite(), sqlite_name(database),
      loadable.extensions = FALSE,
      extended_types = FALSE
    ),
    database
  )
  database_errors(
    DBI::dbExecute(connection, "PRAGMA busy_timeout = 30000"), database
  )
  connection
}

database_errors <- function(work, database) {
  other_errors(work, function(e) {
    text <- gsub(
      database, database_named(database), conditionMessage(e),
      fixed = TRUE
    )
    vetusta_stop(
      "export",
      paste0("The database failed: ", sub("\n.*", "", trimws(text))),
      where = database_named(database),
      todo = paste0(
        "check that it runs and that you may write to it; its contents are ",
        "unchanged"
      )
    )
  })
}

# One transaction: all of it or nothing.
database_work <- function(connection, database, work) {
  database_errors(
    {
      DBI::dbBegin(connection)
      done <- FALSE
      on.exit(if (!done) try(DBI::dbRollback(connection), silent = TRUE))
      result <- work()
      DBI::dbCommit(connection)
      done <- TRUE
      result
    },
    database
  )
}

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
