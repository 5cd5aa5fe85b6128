# Files that are read, changed and rewritten, and files that are written beside
# their target.

# Runs `work` while this process alone may change a file: what reads, changes
# and writes a file runs in here. The operating system releases the lock when
# the process ends, however it ends. A process may take a lock again that it
# already has.
with_locked_file <- function(file, work, patience = 60) {
  folder <- normalizePath(dirname(file), mustWork = FALSE)
  if (!dir.exists(folder) || !is.null(locked_folders[[folder]])) {
    return(work())
  }
  until <- now_seconds() + patience
  while ((lock <- file_lock_cpp(folder)) == -1L) {
    if (now_seconds() > until) {
      vetusta_stop(
        "export", "Another process is writing the file.",
        where = file,
        todo = "wait until it ends, and repeat the command"
      )
    }
    Sys.sleep(0.02)
  }
  # some file systems have no locks; then work goes on without one
  if (lock < 0) {
    return(work())
  }
  assign(folder, lock, envir = locked_folders)
  on.exit({
    rm(list = folder, envir = locked_folders)
    file_unlock_cpp(lock)
  })
  work()
}

locked_folders <- new.env(parent = emptyenv())

# A temporary name beside a file. The finished file is renamed into place.
# Temporary files that a killed process left behind are removed first.
beside_file <- function(file) {
  folder <- dirname(file)
  host <- substr(content_hash(charToRaw(this_process()$host)), 1, 6)
  stem <- paste0(".", basename(file), ".", host, "-")
  clear_left(folder, stem)
  tempfile(paste0(stem, Sys.getpid(), "-"), folder)
}

# Removes temporary files of processes that no longer run, and those of other
# machines after a day.
clear_left <- function(folder, stem) {
  all <- list.files(folder, all.files = TRUE)
  base <- sub("[0-9a-f]{6}-$", "", stem)
  left <- all[
    startsWith(all, base) &
      grepl("^[0-9a-f]{6}-[0-9]+-[0-9a-f]+", substring(all, nchar(base) + 1))
  ]
  if (!length(left)) {
    return(invisible())
  }
  here <- startsWith(left, stem)
  process <- suppressWarnings(
    as.integer(sub("-.*", "", substring(left, nchar(stem) + 1)))
  )
  gone <- vapply(
    process, function(id) is.na(id) || !id %in% ps::ps_pids(), TRUE
  )
  old <- as.numeric(Sys.time()) -
    as.numeric(file.mtime(file.path(folder, left))) >
    86400
  unlink(file.path(folder, left[ifelse(here, gone, old)]))
}
