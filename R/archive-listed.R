# What an archive holds, told again without opening it for as long as its file stays as it is: the
# packages of the database take longer to load than all else that a short command does.

# What `read` makes of the archive that `open` opens. It is kept by `name` in the user's cache, with
# the state of the archive's files; where these are not just as they were it is read anew.
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
  # the clock of files goes in steps: two changes within one could not be told apart
  settled <- !is.null(state) && max(state$changed, na.rm = TRUE) < asked - listed_settled
  if (alone && settled && identical(listed_state(path), state)) {
    try(suppressWarnings(listed_keep(place, list(state = state, rows = rows))), silent = TRUE)
  }
  rows
}

# So many seconds the files must have been as they are.
listed_settled <- 2
# So many days what was listed is kept.
listed_days <- 30

# The archive's file and what has not gone into it yet, as the system tells them: no write leaves
# all of this as it was. NULL where there is no file.
listed_state <- function(path) {
  if (is_server(path) || !file.exists(path) || dir.exists(path) || file.access(path, 4) != 0) {
    return(NULL)
  }
  # the log lies beside the file itself, and not beside a link to it
  path <- normalizePath(path)
  state <- file.info(c(path, paste0(path, "-wal")), extra_cols = FALSE)
  list(path = path, version = getNamespaceVersion("vetusta")[[1]],
    size = state$size, changed = c(as.numeric(state$mtime), as.numeric(state$ctime)))
}

# Two archives may share a place: whose list it is stands in it.
listed_place <- function(path, name) {
  letters <- gsub("[^A-Za-z0-9]+", "-", path)
  suffix <- substring(letters, max(1, nchar(letters) - 99))
  file.path(tools::R_user_dir("vetusta", "cache"), "listed",
    paste0(name, suffix, "-", nchar(path), ".rds"))
}

listed_keep <- function(place, what) {
  folder <- dirname(place)
  # what an archive holds is nobody else's business
  if (!dir.exists(folder)) dir.create(folder, recursive = TRUE, mode = "0700")
  others <- list.files(folder, full.names = TRUE)
  unlink(others[file.mtime(others) < Sys.time() - listed_days * 86400])
  half <- tempfile("half", folder)
  on.exit(unlink(half))
  saveRDS(what, half)
  file.rename(half, place)
}
