# The words of a command: series IDs from files, SOURCE/DATASET and SOURCE
# DATASET, a value for the only key.

# Replaces @FILE and --ids FILE by the lines of the file; - is standard input.
words_from_files <- function(words, ids = NULL) {
  if (!is.null(ids)) words <- c(words, paste0("@", ids))
  unlist(lapply(words, function(word) {
    if (!startsWith(word, "@") || nchar(word) < 2) {
      return(word)
    }
    path <- substring(word, 2)
    if (path != "-" && (!file.exists(path) || dir.exists(path))) {
      cli_usage_error("there is no file \"", path, "\" with words")
    }
    lines_of_words(path)
  }))
}

# A word a line; of a table written by another command the column id, or the
# first column.
lines_of_words <- function(path) {
  lines <- if (path == "-") {
    readLines(file("stdin"), warn = FALSE)
  } else {
    readLines(path, warn = FALSE, encoding = "UTF-8")
  }
  lines <- sub("^#.*", "", trimws(lines))
  lines <- lines[nzchar(lines)]
  table <- length(lines) > 1 &&
    grepl("^\"?(id|symbol|series|place)\"?(,|$)", lines[1])
  if (!table) {
    return(lines)
  }
  columns <- data.table::fread(
    text = lines, colClasses = "character", header = TRUE
  )
  unique(as.character(columns[["id"]] %||% columns[[1]]))
}

# quay/bars KELD becomes quay bars KELD.
split_dataset <- function(words) {
  if (!length(words) || !grepl("^[A-Za-z0-9_-]+/[^/=@]+$", words[1])) {
    return(words)
  }
  c(strsplit(words[1], "/", fixed = TRUE)[[1]], words[-1])
}

# quay directory becomes quay/directory, unless a word contains a dataset
# already.
join_dataset <- function(words) {
  plain <- function(word) grepl("^[A-Za-z0-9_.-]+$", word)
  if (length(words) < 2 || !plain(words[1]) || !plain(words[2])) {
    return(words)
  }
  c(paste0(words[1], "/", words[2]), words[-(1:2)])
}

# The same where the first word may also be a series: only for a stored dataset.
join_stored_dataset <- function(archive, words) {
  joined <- join_dataset(words)
  if (length(joined) == length(words)) {
    return(words)
  }
  stored <- archive_datasets(archive)
  if (joined[1] %in% paste0(stored$source, "/", stored$dataset)) {
    joined
  } else {
    words
  }
}

# kelder-lock becomes station=kelder-lock, where the dataset has a single key.
with_key <- function(dataset, words) {
  bare <- !grepl("=", words, fixed = TRUE)
  keys <- dataset_keys(dataset)
  if (!any(bare) || nrow(keys) != 1) {
    return(words)
  }
  c(words[!bare], paste0(keys$key, "=", paste(words[bare], collapse = ",")))
}

# IDs of bars at an interval that is not stored while a shorter one is: a data
# frame of `id`, the `stored` ID of the shorter bars, and the requested
# `interval`.
longer_ids <- function(archive, ids) {
  rows <- lapply(ids, function(id) {
    asked <- id_parts(id)
    interval <- if (!is.null(asked$frequency)) {
      tryCatch(time_interval(asked$frequency), vetusta_error = function(e) NULL)
    }
    if (is.null(interval)) {
      return(NULL)
    }
    candidates <- id_candidates(archive, asked$path)
    if (length(id_hits(asked, candidates))) {
      return(NULL)
    }
    intervals <- unique(
      candidates$frequency[id_hits(list(path = asked$path), candidates)]
    )
    intervals <- intervals[startsWith(intervals, "P")]
    seconds <- vapply(
      intervals, function(text) interval_seconds(time_interval(text)), 1
    )
    shorter <- seconds < interval_seconds(interval)
    if (any(shorter)) {
      data.frame(
        id = id,
        stored = paste0(
          asked$path, "@",
          frequency_text(intervals[shorter][which.max(seconds[shorter])])
        ),
        interval = interval$iso
      )
    }
  })
  do.call(rbind, rows)
}
