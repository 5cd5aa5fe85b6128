# Windows, keys and selections that were requested and are not proven complete,
# each with its reason, as notes of three kinds. "failed": a page did not come;
# pages before it count as covered. "open": answers contradict each other; the
# whole window counts as not covered until a later run proves it complete.
# "rejected": rows were rejected under one card; the window is open again under
# a card that reads rows differently.

#' Incomplete windows
#'
#' Lists the collected windows, keys and selections that are not proved
#' complete: an answer contradicted another one, an announced page was missing,
#' or all rows of a page were rejected. The next `collect` or `refresh` requests
#' them again.
#'
#' @param archive An archive, see [archive_open()].
#' @return A tibble with a row per window: `source`, `dataset`, `label` (the
#'   symbol, keys or selection), `from`, `to` (`POSIXct` in UTC; `NA` without a
#'   window), `reason`, `found` (`POSIXct` in UTC).
#' @section Errors: `vetusta_error_archive` for an object that is not an open
#'   archive.
#' @export
#' @examples
#' archive_incomplete(archive_open(tempfile(fileext = ".sqlite")))
archive_incomplete <- function(archive) {
  check_archive(archive)
  open <- incomplete_read(archive)
  as_rows(
    list(
      source = open$source, dataset = open$dataset, label = open$label,
      from = utc(open$from), to = utc(open$to), reason = open$reason,
      found = utc(open$at)
    )
  )
}

# Notes of one or all datasets as a data frame, a row a window: `key` is that of
# its coverage, and `start` that of its request. With `reading`, the hash of how
# the card reads rows now, "rejected" notes of an earlier reading are included.
incomplete_read <- function(archive, source = NULL, dataset = NULL,
                            reading = NULL) {
  kinds <- c("failed", "open", if (!is.null(reading)) "rejected")
  open <- incomplete_parse(
    store_notes(archive, kinds, source, dataset), source, dataset
  )
  if (is.null(reading)) open else incomplete_now(open, reading)
}

# The notes that are open under a card.
incomplete_now <- function(open, reading) {
  open[open$cause != "rejected" | open$reading != reading, , drop = FALSE]
}

incomplete_parse <- function(notes, source, dataset) {
  n <- nrow(notes)
  values <- lapply(notes$value, jsonlite::fromJSON)
  part <- function(name, missing) {
    vapply(
      values, function(value) value[[name]] %||% missing, missing,
      USE.NAMES = FALSE
    )
  }
  list_frame(
    list(
      cause = notes$kind %||% rep("open", n),
      note = notes$key,
      source = notes$source %||% rep(source, n),
      dataset = notes$dataset %||% rep(dataset, n),
      key = part("key", NA_character_),
      start = part("start", NA_character_),
      from = part("from", NA_real_),
      to = part("to", NA_real_),
      label = part("label", ""),
      reason = part("reason", ""),
      reading = part("reading", ""),
      at = notes$at
    )
  )
}

# Covered ranges minus open windows.
covered_less <- function(covered, open) {
  if (!nrow(open) || !nrow(covered)) {
    return(covered)
  }
  open <- open[
    !is.na(open$from) & open$key %in% covered$key & open$cause != "failed", ,
    drop = FALSE
  ]
  if (!nrow(open)) {
    return(covered)
  }
  for (i in seq_len(nrow(open))) {
    hit <- covered$key == open$key[i] &
      covered$start < open$to[i] &
      covered$end > open$from[i]
    if (!any(hit)) next
    before <- after <- covered[hit, , drop = FALSE]
    before$end <- pmin(before$end, open$from[i])
    after$start <- pmax(after$start, open$to[i])
    covered <- rbind(covered[!hit, , drop = FALSE], before, after)
    covered <- covered[covered$start < covered$end, , drop = FALSE]
  }
  covered[order(covered$key, covered$start), , drop = FALSE]
}

# The notes of a run. Open windows are read once and updated as the run opens
# and settles windows. A place is a list of `keys` of coverage, `settles` (keys
# that are settled with them), `start`, `from` and `to`. `open()` and `settle()`
# return notes to write.
incomplete_book <- function(archive, source, dataset, reading) {
  open <- NULL
  known <- function() {
    if (is.null(open)) {
      open <<- incomplete_read(archive, source, dataset, reading = "")
    }
  }
  note <- function(cause, key, start, from, to, label, reason) {
    row <- list_frame(
      list(
        cause = cause,
        note = incomplete_name(key, start, from),
        source = source,
        dataset = dataset,
        key = key,
        start = start,
        from = from,
        to = to,
        label = label,
        reason = reason,
        reading = reading,
        at = now_seconds()
      )
    )
    same <- open$cause == cause & open$note == row$note
    open <<- rbind(open[!same, , drop = FALSE], row)
    list(kind = cause, key = row$note, value = incomplete_value(row))
  }
  place_notes <- function(cause, place, label, reason) {
    if (is.null(place$from)) {
      return(
        list(
          note(
            cause, NA_character_, place$start, NA_real_, NA_real_, label, reason
          )
        )
      )
    }
    lapply(
      place$keys, note,
      cause = cause, start = place$start, from = place$from,
      to = place$to, label = label, reason = reason
    )
  }
  settle <- function(place) {
    if (!nrow(open)) {
      return(NULL)
    }
    hit <- incomplete_touches(open, place)
    rows <- open[hit, , drop = FALSE]
    open <<- open[!hit, , drop = FALSE]
    gone <- Map(
      function(cause, key) list(kind = cause, key = key, value = NULL),
      rows$cause, rows$note
    )
    # parts outside the proven window stay open; after a failure only the
    # missing rest was requested
    left <- lapply(which(rows$cause != "failed"), function(i) {
      row <- rows[i, ]
      lapply(incomplete_rest(row, place), function(rest) {
        note(
          row$cause, row$key, row$start, rest[1], rest[2], row$label, row$reason
        )
      })
    })
    c(unname(gone), unlist(left, recursive = FALSE))
  }
  list(
    open = function(place, label, reason, cause) {
      known()
      place_notes(cause, place, label, reason)
    },
    settle = function(place, label, rejected) {
      known()
      c(
        settle(place),
        if (rejected > 0) {
          place_notes(
            "rejected", place, label,
            paste(counted(rejected, "row"), "rejected")
          )
        }
      )
    },
    now = function() {
      known()
      if (nrow(open)) incomplete_now(open, reading) else open
    }
  )
}

incomplete_name <- function(key, start, from) {
  name <- if (is.na(from)) start else paste(key, format_exact(from))
  if (nchar(name) > 500) content_hash(charToRaw(name)) else name
}

incomplete_value <- function(row) {
  parts <- as.list(
    row[c("key", "start", "from", "to", "label", "reason", "reading")]
  )
  as.character(
    jsonlite::toJSON(parts[!is.na(parts)], auto_unbox = TRUE, digits = NA)
  )
}

# Whether a place equals or overlaps an open window.
incomplete_touches <- function(open, place) {
  if (is.null(place$from)) {
    return(is.na(open$from) & open$start == place$start)
  }
  !is.na(open$from) &
    open$key %in% place$settles &
    open$from < place$to &
    open$to > place$from
}

incomplete_rest <- function(row, place) {
  if (is.null(place$from)) {
    return(NULL)
  }
  c(
    if (row$from < place$from) list(c(row$from, place$from)),
    if (row$to > place$to) list(c(place$to, row$to))
  )
}
