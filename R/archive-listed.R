# A cache of what an archive contains, valid while its files are unchanged:
# loading the database packages takes longer than all other work of a short
# command.

# The result of `read` on the archive that `open` opens. It is cached under
# `name` in the user's cache folder together with the state of the archive's
# files, and read again when that state differs.
archive_listed <- function(path, name, open, read) {
  asked <- as.numeric(Sys.time())
  state <- listed_state(path)
  place <- if (!is.null(state)) listed_place(state$path, name)
  kept <- if (!is.null(place) && file.exists(place)) {
    tryCatch(suppressWarnings(readRDS(place)), error = function(e) NULL)
  }
  if (is.list(kept) && identical(kept$state, state)) {
    return(kept$rows)
  }
  archive <- open()
  on.exit(archive_close(archive))
  rows <- read(archive)
  alone <- inherits(archive, "vetusta_store_sqlite") &&
    !inherits(archive, "vetusta_store_columns")
  archive_close(archive)
  on.exit()
  # file times have a coarse clock: two changes within one tick look the same
  settled <- !is.null(state) &&
    max(state$changed, na.rm = TRUE) < asked - listed_settled
  if (alone && settled && identical(listed_state(path), state)) {
    try(
      suppressWarnings(listed_keep(place, list(state = state, rows = rows))),
      silent = TRUE
    )
  }
  rows
}

# Seconds for which the files must be unchanged before a result is cached.
listed_settled <- 2
# Days for which a cached result is kept.
listed_days <- 30

# Path, size and times of the archive's file and its log: every write changes at
# least one of them. NULL where there is no file.
listed_state <- function(path) {
  if (is_server(path) ||
    !file.exists(path) ||
    dir.exists(path) ||
    file.access(path, 4) != 0) {
    return(NULL)
  }
  # the log lies beside the file itself, not beside a link to it
  path <- normalizePath(path)
  state <- file.info(c(path, paste0(path, "-wal")), extra_cols = FALSE)
  list(
    path = path,
    version = getNamespaceVersion("vetusta")[[1]],
    size = state$size,
    changed = c(as.numeric(state$mtime), as.numeric(state$ctime))
  )
}

# The cache file of an archive, named by the end of its path. Two paths may
# share a name, so the cached state includes the full path.
listed_place <- function(path, name) {
  letters <- gsub("[^A-Za-z0-9]+", "-", path)
  suffix <- substring(letters, max(1, nchar(letters) - 99))
  file.path(
    tools::R_user_dir("vetusta", "cache"), "listed",
    paste0(name, suffix, "-", nchar(path), ".rds")
  )
}

listed_keep <- function(place, what) {
  folder <- dirname(place)
  # the cache is readable by its owner only
  if (!dir.exists(folder)) dir.create(folder, recursive = TRUE, mode = "0700")
  others <- list.files(folder, full.names = TRUE)
  unlink(others[file.mtime(others) < Sys.time() - listed_days * 86400])
  half <- tempfile("half", folder)
  on.exit(unlink(half))
  saveRDS(what, half)
  file.rename(half, place)
}
