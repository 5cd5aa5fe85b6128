# Plain tables of rows in a database: an SQLite file, or PostgreSQL by its
# connection URI.

#' Update plain tables in a database
#'
#' Writes the archive as plain tables with keys and types: `bars`,
#' `observations`, `facts` for series, and a table named by its shape for all
#' other rows (`instruments`, `places`, `snapshot`, ...). The table `dictionary`
#' has the type and unit of each column, and `titles` the titles of series. In
#' an existing table only changed rows are written.
#'
#' @param archive An archive.
#' @param database Path of an SQLite file (created if necessary), or a
#'   connection URI as `postgresql://user@host/name`. The password is in
#'   `PGPASSWORD` or `~/.pgpass`, not in the URI.
#' @param ids Series IDs, see [archive_find()], or `source/dataset` for rows
#'   without series; `NULL` for everything.
#' @param from,to,as_of The window and the instant, as in [archive_read()].
#' @return Invisibly a tibble with a row per table: `table`, `new`, `changed`,
#'   `unchanged`, `deleted` (rows of the window that the archive no longer has).
#' @section Errors: `vetusta_error_export` for a database that cannot be reached
#'   or written, or that has a foreign table of one of these names; nothing is
#'   changed then.
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
