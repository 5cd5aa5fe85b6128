# Checks of an archive, repair of a damaged one, and copies.

#' Check, repair and copy an archive
#'
#' @param archive An archive, see [archive_open()].
#' @return `archive_check()`: a tibble with a row per finding: `what` (the
#'   database's own check, `segment`, `coverage`, `series`, `frame`, `record`,
#'   `note`), `where` (a series ID or a place), `finding` (in words), `lost`
#'   (whether rows cannot be read). No rows mean that the archive is undamaged.
#' @section Errors: `vetusta_error_archive` for a file that is not an archive,
#'   is damaged as a whole, has a newer format, or cannot be written.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' archive_check(archive)
#' copy <- tempfile(fileext = ".sqlite")
#' archive_backup(archive, copy)
archive_check <- function(archive) {
  check_archive(archive)
  findings <- store_check(archive)
  as_rows(findings[order(match(findings$what, unique(findings$what))), ])
}

#' @rdname archive_check
#' @return `archive_compact()` merges small segments, deletes expired claims and
#'   requests that no limit counts any more, and returns unused space to the
#'   disk. It returns the bytes of the archive before and after, invisibly.
#' @export
archive_compact <- function(archive) {
  check_archive(archive)
  before <- store_bytes(archive)
  store_compact(archive)
  invisible(c(before = before, after = store_bytes(archive)))
}

#' @rdname archive_check
#' @param file Path of the copy; the file must not exist.
#' @return `archive_backup()` writes a copy as of one moment, also while a
#'   collector writes, checks it, and returns its path, invisibly.
#' @export
archive_backup <- function(archive, file) {
  check_archive(archive)
  check_text(file, "file", "archive")
  check_new_file(file, archive$path)
  beside <- beside_file(file)
  on.exit(unlink(paste0(beside, c("", "-wal", "-shm", "-journal"))))
  store_copy(archive, beside)
  place_archive(beside, file)
}

#' @rdname archive_check
#' @param from Path of a copy, or of a damaged archive.
#' @return `archive_restore()` checks a copy and puts it in the place of an
#'   archive; the replaced archive is kept beside it under a name that ends in
#'   `.before`. It returns the path, invisibly.
#' @export
archive_restore <- function(from, file) {
  check_text(from, "from", "archive")
  check_text(file, "file", "archive")
  if (!file.exists(from)) {
    vetusta_stop(
      "archive", "There is no such copy.",
      where = from,
      todo = "check the path"
    )
  }
  if (same_file(from, file)) {
    vetusta_stop(
      "archive", "The copy is the archive itself.",
      where = from,
      todo = paste0(
        "give the path of the copy, and of the archive whose ", "place it takes"
      )
    )
  }
  beside <- beside_file(file)
  on.exit(unlink(paste0(beside, c("", "-wal", "-shm", "-journal"))))
  check_file_archive(file)
  copy <- archive_open(from, create = FALSE, read_only = TRUE)
  tryCatch(store_copy(copy, beside), finally = archive_close(copy))
  check_not_in_use(file)
  if (file.exists(file)) {
    # writes the log (WAL) into the file
    try(store_close(sqlite_store(file, FALSE)), silent = TRUE)
    for (end in c("", "-wal")) {
      if (file.exists(paste0(file, end))) {
        file.rename(paste0(file, end), paste0(file, ".before", end))
      }
    }
    unlink(paste0(file, "-shm"))
  }
  place_archive(beside, file)
}

#' @rdname archive_check
#' @return `archive_rescue()` writes every readable segment, frame and record of
#'   a damaged archive to a new one, and returns a tibble of what was saved and
#'   lost: `what`, `saved`, `lost`.
#' @export
archive_rescue <- function(from, file) {
  check_text(from, "from", "archive")
  check_text(file, "file", "archive")
  check_file_archive(from)
  if (!file.exists(from) || dir.exists(from)) {
    vetusta_stop(
      "archive", "There is no such file.",
      where = from,
      todo = "check the path"
    )
  }
  check_new_file(file, from)
  beside <- beside_file(file)
  on.exit(unlink(paste0(beside, c("", "-wal", "-shm", "-journal"))))
  done <- sqlite_rescue(from, beside)
  place_archive(beside, file)
  as_rows(done)
}

#' @rdname archive_check
#' @param to An empty archive, or an interrupted copy.
#' @param progress Whether to show progress on standard error.
#' @param password The password of the server's role, as in [archive_open()].
#' @return `archive_copy()` copies everything of one archive to another, from a
#'   file to a server or back, as of one moment, also while others write to the
#'   first one. It checks the copy and returns a tibble of `table` and `rows`.
#'   An interrupted copy continues when it is run again, or starts anew if the
#'   archive has changed. Until it is complete, the copy cannot be opened.
#' @export
archive_copy <- function(from, to, progress = interactive(), password = NULL) {
  check_text(from, "from", "archive")
  check_text(to, "to", "archive")
  check_flag(progress, "progress")
  same <- if (is_server(from) || is_server(to)) {
    identical(from, to)
  } else {
    same_file(from, to)
  }
  if (same) {
    vetusta_stop(
      "archive", "The copy is the archive itself.",
      where = database_named(to),
      todo = "give the place of another archive"
    )
  }
  source <- archive_open(
    from,
    create = FALSE, read_only = TRUE, password = password
  )
  on.exit(archive_close(source))
  target <- if (is_server(to)) {
    postgres_store(to, password = password)
  } else {
    file_store(to, TRUE, FALSE)
  }
  on.exit(archive_close(target), add = TRUE)
  moved <- store_move(
    source, target, if (progress) copy_shown() else function(...) NULL
  )
  findings <- store_check(target)
  if (any(findings$lost)) {
    vetusta_stop(
      "archive",
      paste0(
        "The copy is damaged: ", findings$where[findings$lost][1], " ",
        findings$finding[findings$lost][1], "."
      ),
      where = target$path,
      todo = "check the archive itself: vetusta archive check"
    )
  }
  sql_do(target, "DELETE FROM meta WHERE name = 'copy'")
  as_rows(moved)
}

# Shows the progress of a copy until the caller ends.
copy_shown <- function(envir = parent.frame()) {
  show <- progress_line(envir)
  function(table, rows, done) {
    show(
      function(width) {
        paste0(
          "copying ", table, ": ", thousands(done), " of ", thousands(rows)
        )
      }
    )
  }
}

check_new_file <- function(file, archive) {
  if (same_file(file, archive)) {
    vetusta_stop(
      "archive", "This is the archive itself.",
      where = file,
      todo = "give the path of a file that does not exist yet"
    )
  }
  if (file.exists(file)) {
    vetusta_stop(
      "archive", "The file exists already and is not overwritten.",
      where = file, todo = "give the path of a file that does not exist yet"
    )
  }
  if (!dir.exists(dirname(file))) {
    vetusta_stop(
      "archive", "The folder of the file does not exist.",
      where = dirname(file), todo = "create it, or give another path"
    )
  }
}

# These commands need an archive that is a file.
check_file_archive <- function(path) {
  if (is_server(path)) {
    vetusta_stop(
      "archive",
      "This works only for an archive in a file, not on a server.",
      where = path, todo = "copy it: vetusta archive copy FROM TO"
    )
  }
}

same_file <- function(a, b) {
  normalizePath(a, mustWork = FALSE) == normalizePath(b, mustWork = FALSE)
}

# Renames a finished copy to its name once it is on the disk.
place_archive <- function(beside, file) {
  reason <- file_sync_cpp(beside)
  if (nzchar(reason) || !file.rename(beside, file)) {
    vetusta_stop(
      "archive",
      paste0(
        "The copy cannot be written", if (nzchar(reason)) paste0(": ", reason),
        "."
      ),
      where = file,
      todo = "check the permissions of its folder and the room on the disk"
    )
  }
  invisible(file)
}

# An archive that another process has open is not replaced.
check_not_in_use <- function(file) {
  if (!file.exists(file)) {
    return(invisible())
  }
  # a file that is no readable archive may be replaced
  archive <- tryCatch(
    archive_open(file, create = FALSE, read_only = TRUE),
    vetusta_error = function(e) NULL
  )
  if (is.null(archive)) {
    return(invisible())
  }
  busy <- tryCatch(store_in_use(archive), finally = archive_close(archive))
  if (busy) {
    vetusta_stop(
      "archive", "A collector is using the archive.",
      where = file,
      todo = "wait until it ends, or stop it, and restore again"
    )
  }
}
