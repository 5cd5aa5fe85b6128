# The readings of a command: what it writes has them as its lineage, beside the
# command itself.
reading_log <- new.env(parent = emptyenv())

# So many readings are written down one by one.
readings_most <- 100

# Returns what was noted before, for readings_again().
readings_begin <- function(command) {
  before <- as.list(reading_log)
  reading_log$command <- command
  reading_log$nodes <- list()
  reading_log$count <- 0
  invisible(before)
}

readings_again <- function(before) {
  for (name in c("command", "nodes", "count")) {
    assign(name, before[[name]], envir = reading_log)
  }
}

readings_end <- function() readings_begin(NULL)

readings_add <- function(node) {
  if (is.null(reading_log$command)) {
    return(invisible())
  }
  reading_log$count <- reading_log$count + 1
  # the command has the whole list of IDs
  if (nchar(node$arguments$ids) > 600) {
    node$arguments$ids <- paste0(substr(node$arguments$ids, 1, 600), "...")
  }
  # the same reading is written down once
  if (reading_log$count <= readings_most &&
    !any(vapply(reading_log$nodes, identical, TRUE, node))) {
    reading_log$nodes[[length(reading_log$nodes) + 1L]] <- node
  }
}

# The lineage of a table or figure that is written: within a command that
# command with its readings, else its own; NULL without either.
lineage_written <- function(object) {
  if (is.null(reading_log$command)) {
    return(
      if (has_lineage(object)) {
        lineage_input(object)
      } else {
        attr(object, "lineage", exact = TRUE)
      }
    )
  }
  table <- is.data.frame(object)
  list(
    step = "command", arguments = reading_log$nodes,
    command = reading_log$command,
    readings = reading_log$count,
    version = unname(getNamespaceVersion("vetusta")),
    rows = if (table) nrow(object),
    hash = if (table) table_hash(object)
  )
}
