#' Open an archive
#'
#' An archive is one SQLite file, or a schema in a PostgreSQL database for a
#' team. It is created if it does not exist. One process can write while others
#' read; with PostgreSQL, several can write, on several machines.
#'
#' @param path Path of the file, or the connection URI of the database as
#'   `postgresql://user@host:5432/name`, with libpq options after a question
#'   mark (`?sslmode=verify-full`). The archive is in the schema `vetusta`.
#' @param create Whether to create a missing archive.
#' @param read_only Whether to open it read-only: nothing can change then, and a
#'   file without write permission can be read.
#' @param password The password of the database's role; by default libpq's
#'   `PGPASSWORD` or `~/.pgpass`. It is never shown, and must not be in the URI.
#' @param columns A column store for the rows of series, as
#'   `http://host:8123/db`, with commas between several servers and
#'   `?cluster=name` for a cluster; see docs/scale.md. The archive remembers it.
#'   The password is in `COLUMNS_PASSWORD`.
#' @return A `vetusta_archive`. It closes when it is no longer used, or by
#'   `archive_close()`.
#' @section Errors: `vetusta_error_archive` for a file that does not exist (with
#'   `create = FALSE`), is not an archive, has another format, or cannot be
#'   opened; for a server that cannot be reached, is too old (before PostgreSQL
#'   13) or refuses the role; and for a database with other contents.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' archive_series(archive)
#' archive_close(archive)
archive_open <- function(path, create = TRUE, read_only = FALSE,
                         password = NULL, columns = NULL) {
  check_text(path, "path", "archive")
  check_flag(create, "create")
  check_flag(read_only, "read_only")
  if (!is.null(password)) check_text(password, "password", "archive")
  if (!is.null(columns)) check_text(columns, "columns", "archive")
  if (read_only) create <- FALSE
  store <- if (is_server(path)) {
    postgres_store(path, create, read_only, password)
  } else {
    file_store(path, create, read_only)
  }
  tryCatch(
    {
      check_whole_copy(store)
      columns_join(store, columns)
    },
    error = function(e) {
      store_close(store)
      stop(e)
    }
  )
}

file_store <- function(path, create, read_only) {
  if (!create && !file.exists(path)) {
    vetusta_stop(
      "archive", "There is no archive yet.",
      where = path,
      todo = "collect or import something first, or give the path of an archive"
    )
  }
  if (!dir.exists(dirname(path))) {
    vetusta_stop(
      "archive", "The archive's folder does not exist.",
      where = dirname(path),
      todo = "create the folder, or give another path"
    )
  }
  if (dir.exists(path)) {
    vetusta_stop(
      "archive", "The path of the archive is a folder.",
      where = path,
      todo = "give the path of a file, as archive.sqlite in it"
    )
  }
  if (file.exists(path) && file.access(path, 4) != 0) {
    vetusta_stop(
      "archive", "The archive cannot be read.",
      where = path,
      todo = "check the permissions of the file"
    )
  }
  sqlite_store(path, read_only)
}

# Whether an archive is on a server rather than in a file.
is_server <- function(path) {
  scheme <- regmatches(
    path, regexpr("^[A-Za-z][A-Za-z0-9+.-]*(?=://)", path, perl = TRUE)
  )
  if (length(scheme) && !scheme %in% c("postgresql", "postgres")) {
    vetusta_stop(
      "archive", paste0("Archives have no URLs with ", scheme, "://."),
      where = database_named(path),
      todo = "give the path of a file, or postgresql://user@host:5432/name"
    )
  }
  length(scheme) > 0
}

# Whether there may be an archive. For a server only a connection can tell.
archive_there <- function(path) is_server(path) || file.exists(path)

# A short name of an archive: its file or database.
archive_label <- function(path) {
  if (!is_server(path)) {
    return(basename(path))
  }
  sub("[?].*$", "", sub("^.*/", "", sub("[?].*$", "", path)))
}

#' @rdname archive_open
#' @param archive An archive.
#' @export
archive_close <- function(archive) {
  if (missing(archive) || !inherits(archive, "vetusta_archive")) {
    vetusta_stop(
      "archive", "This is not an archive.",
      todo = "give a result of archive_open()"
    )
  }
  store_close(archive)
}

check_archive <- function(archive) {
  archive <- given(archive, "archive", "archive")
  if (!inherits(archive, "vetusta_archive") || is.null(archive$connection)) {
    vetusta_stop(
      "archive", "This is not an open archive.",
      todo = "open an archive with archive_open()"
    )
  }
  invisible(archive)
}

#' @export
summary.vetusta_archive <- function(object, ...) archive_datasets(object)

#' @export
print.vetusta_archive <- function(x, ...) {
  if (is.null(x$connection)) {
    cat("archive ", x$path, " (closed)\n", sep = "")
    return(invisible(x))
  }
  datasets <- store_series_datasets(x)
  cat(
    "archive ", x$path, ": ", format(sum(datasets$series), big.mark = ","),
    " series, ", counted(sum(datasets$rows), "row"), "\n",
    sep = ""
  )
  invisible(x)
}
