# The data of the page: an archive, and the desk's knowledge of its sources.

# A list of functions and names: `reader()` returns the archive, reopened when
# its file was replaced; `changed()` a value that changes with every write;
# `calendar()` that of a source.
browse_place <- function(title, path, calendar, command,
                         open = function() {
                           archive_open(path, read_only = TRUE)
                         }, ...) {
  state <- new.env(parent = emptyenv())
  shut <- function() {
    if (!is.null(state$archive)) archive_close(state$archive)
    state$archive <- NULL
  }
  reader <- function() {
    file <- browse_file(path)
    if (!identical(file, state$file)) shut()
    if (is.null(state$archive)) state$archive <- open()
    state$file <- file
    state$archive
  }
  list(
    title = title,
    path = path,
    reader = reader,
    changed = function() browse_sign(reader),
    close = shut,
    calendar = calendar,
    command = command,
    memory = new.env(parent = emptyenv()),
    ...
  )
}

browse_archive_place <- function(path) {
  if (!is_server(path)) path <- normalizePath(path, mustWork = FALSE)
  browse_place(
    archive_label(path), path, function(source) NULL,
    paste("--archive", shQuote(path)),
    status = function() NULL, collect = FALSE
  )
}

browse_desk <- function(desk, collect = FALSE) {
  if (!archive_there(desk$archive)) {
    vetusta_stop(
      "archive", "The desk has no archive yet.",
      where = desk$folder,
      todo = "collect something first: vetusta refresh"
    )
  }
  browse_place(
    desk$title,
    desk$archive,
    function(source) {
      tryCatch(
        source_calendar(desk_source(desk, source)),
        vetusta_error = function(e) NULL
      )
    },
    paste("--desk", shQuote(desk$folder)),
    open = function() desk_reach(desk, read_only = TRUE),
    status = function() if (length(desk$track)) desk_status(desk),
    collect = collect, tracked = names(desk$track), folder = desk$folder
  )
}

# The identity of the file; NULL without one.
browse_file <- function(path) {
  if (is_server(path)) path else if (file.exists(path)) normalizePath(path)
}

# A value that changes with every write; a missing archive has a value of its
# own.
browse_sign <- function(reader) {
  tryCatch(store_sign(reader()), vetusta_error_archive = function(e) "away")
}

# Caches a result for a source, or for a window of a source.
browse_remember <- function(place, key, work) {
  if (is.null(place$memory[[key]])) place$memory[[key]] <- list(work())
  place$memory[[key]][[1]]
}

browse_calendar <- function(place, source) {
  browse_remember(
    place, paste("calendar", source), function() place$calendar(source)
  )
}

browse_zone <- function(place, source) {
  browse_calendar(place, source)$zone %||% "UTC"
}
