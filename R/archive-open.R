#' Open an archive
#'
#' An archive is one SQLite file. It is made when it is not there, and one that an earlier version
#' made is carried over into
#' the form of this one. One process may write while others read; two may write.
#'
#' @param path Path of the file.
#' @param create Whether to make the file when it is not there.
#' @param read_only Whether it is opened for reading alone: nothing in it can change then, and a
#'   file that is not yours to write can be read.
#' @return A `vetusta_archive`. It closes itself when it is no longer used, or with
#'   `archive_close()`.
#' @section Errors: `vetusta_error_archive` for a file that is not there (with `create = FALSE`),
#'   that is no archive, that
#'   is of a later form, or that cannot be opened.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' archive_series(archive)
#' archive_close(archive)
archive_open <- function(path, create = TRUE, read_only = FALSE) {
  check_text(path, "path", "archive")
  check_flag(create, "create")
  check_flag(read_only, "read_only")
  if (read_only) create <- FALSE
  if (!create && !file.exists(path)) {
    vetusta_stop("archive", "There is no archive yet.", where = path,
      todo = "collect or import something first, or give the path of an archive")
  }
  if (!dir.exists(dirname(path))) {
    vetusta_stop("archive", "The archive's folder is not there.", where = dirname(path),
      todo = "make the folder, or give another path")
  }
  if (dir.exists(path)) {
    vetusta_stop("archive", "The archive's path is that of a folder.", where = path,
      todo = "give the path of a file, as archive.sqlite in it")
  }
  if (file.exists(path) && file.access(path, 4) != 0) {
    vetusta_stop("archive", "The archive cannot be read.", where = path,
      todo = "look at the rights of the file")
  }
  sqlite_store(path, read_only)
}

#' @rdname archive_open
#' @param archive An archive.
#' @export
archive_close <- function(archive) {
  if (missing(archive) || !inherits(archive, "vetusta_archive")) {
    vetusta_stop("archive", "This is no archive.", todo = "give what archive_open() gave")
  }
  store_close(archive)
}

check_archive <- function(archive) {
  archive <- given(archive, "archive", "archive")
  if (!inherits(archive, "vetusta_archive") || is.null(archive$connection)) {
    vetusta_stop("archive", "This is no open archive.", todo = "open one with archive_open()")
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
  series <- store_series(x, sizes = TRUE)
  cat("archive ", x$path, ": ", format(nrow(series), big.mark = ","), " series", ", ",
    counted(sum(series$rows), "row"), "\n", sep = "")
  invisible(x)
}
