# Files that are read, changed and written again, and files that are made beside others.

# Only one process at a time works on the files of a folder: what is read, changed and written again
# there is locked for that time. The system lets go of the lock when a process ends, however it
# ends.
# What this process locked already it may lock again.
with_locked_file <- function(file, work, patience = 60) {
  folder <- normalizePath(dirname(file), mustWork = FALSE)
  if (!dir.exists(folder) || !is.null(locked_folders[[folder]])) {
    return(work())
  }
  until <- now_seconds() + patience
  while ((lock <- file_lock_cpp(folder)) == -1L) {
    if (now_seconds() > until) {
      vetusta_stop("export", "Another process is at work on the file.", where = file,
        todo = "let it end, and give the command again")
    }
    Sys.sleep(0.02)
  }
  # where a file system knows no locks there is none
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

# A name beside a file for what takes its place when it is whole. What a process that was killed has
# left there under such a name goes first.
beside_file <- function(file) {
  folder <- dirname(file)
  host <- substr(content_hash(charToRaw(this_process()$host)), 1, 6)
  stem <- paste0(".", basename(file), ".", host, "-")
  clear_left(folder, stem)
  tempfile(paste0(stem, Sys.getpid(), "-"), folder)
}

# Files of this machine's processes that are no more, and of other machines' after a day.
clear_left <- function(folder, stem) {
  all <- list.files(folder, all.files = TRUE)
  base <- sub("[0-9a-f]{6}-$", "", stem)
  left <- all[startsWith(all, base) & grepl("^[0-9a-f]{6}-[0-9]+-[0-9a-f]+", substring(all,
    nchar(base) + 1))]
  if (!length(left)) {
    return(invisible())
  }
  here <- startsWith(left, stem)
  process <- suppressWarnings(as.integer(sub("-.*", "", substring(left, nchar(stem) + 1))))
  gone <- vapply(process, function(id) is.na(id) || !id %in% ps::ps_pids(), TRUE)
  old <- as.numeric(Sys.time()) - as.numeric(file.mtime(file.path(folder, left))) > 86400
  unlink(file.path(folder, left[ifelse(here, gone, old)]))
}
