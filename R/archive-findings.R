# Findings of the rules that watch the data, kept in the archive: each is told
# once as new, then as still there, and may be accepted with a reason.

#' Findings of an archive
#'
#' @param archive An archive.
#' @return `archive_findings()`: a tibble of the findings of the last check, see
#'   [desk_check()]: `id`, `state` (`new`, `still` or `accepted`), `rule`,
#'   `series`, `first`, `last`, `severity`, `detail`, `found` (when it was found
#'   first), `reason` and `until` (of accepted ones).
#' @section Errors: `vetusta_error_argument` if it is no archive.
#' @export
archive_findings <- function(archive) {
  check_archive(archive)
  findings_read(store_notes(archive, "finding"))
}

findings_read <- function(notes) {
  values <- lapply(notes$value, jsonlite::fromJSON)
  text <- function(name) {
    vapply(values, function(x) as.character(x[[name]] %||% NA), "")
  }
  instant <- function(name) {
    utc(vapply(values, function(x) as.numeric(x[[name]] %||% NA), 0))
  }
  until <- as.Date(text("until"))
  as_rows(list(
    id = notes$key, state = text("state"), rule = text("rule"),
    series = text("series"), first = instant("first"), last = instant("last"),
    severity = text("severity"), detail = text("detail"),
    found = utc(notes$at), reason = text("reason"), until = until
  ))
}

# The identity of a finding: the same fault has it in each check, also when its
# end or its size moves.
finding_ids <- function(rows) {
  key <- paste(rows$rule, rows$series, format_exact(as.numeric(rows$first)))
  unname(vapply(
    key, digest::digest, "",
    algo = "crc32", serialize = FALSE
  ))
}

# Compares what was found with what was known; returns the findings and writes
# them. Findings that are gone are forgotten, if their series were checked.
findings_settle <- function(archive, rows, checked, today) {
  rows$id <- finding_ids(rows)
  rows <- rows[!duplicated(rows$id), , drop = FALSE]
  store_transaction(archive, function() {
    before <- archive_findings(archive)
    known <- match(rows$id, before$id)
    lapsed <- !is.na(before$until) & before$until < today
    accepted <- before$state %in% "accepted" & !lapsed
    rows$state <- ifelse(
      is.na(known), "new",
      ifelse(accepted[known] %in% TRUE, "accepted", "still")
    )
    rows$reason <- ifelse(rows$state == "accepted", before$reason[known], NA)
    rows$until <- before$until[known]
    rows$until[rows$state != "accepted"] <- NA
    rows$found <- before$found[known]
    for (i in seq_len(nrow(rows))) findings_put(archive, rows[i, ])
    gone <- !before$id %in% rows$id & before$series %in% checked
    for (id in before$id[gone]) {
      store_forget(archive, "finding", "desk", "checks", id)
    }
  })
  archive_findings(archive)
}

findings_put <- function(archive, row) {
  value <- list(
    state = row$state, rule = row$rule, series = row$series,
    first = as.numeric(row$first), last = as.numeric(row$last),
    severity = row$severity, detail = row$detail, reason = row$reason,
    until = if (!is.na(row$until)) format(row$until)
  )
  value <- value[!vapply(value, function(x) is.null(x) || is.na(x), TRUE)]
  text <- as.character(
    jsonlite::toJSON(value, auto_unbox = TRUE, digits = NA)
  )
  at <- as.numeric(row$found)
  if (is.na(at)) at <- store_now(archive)
  store_note(archive, "finding", "desk", "checks", row$id, text, at)
}

#' @rdname archive_findings
#' @param id The ID of a finding, or its first letters.
#' @param reason Why it is no fault, a text.
#' @param until The last day on which it is accepted; without one always.
#' @return `archive_accept()`: the accepted findings, invisibly. They are not
#'   told again while they are accepted.
#' @export
archive_accept <- function(archive, id, reason, until = NULL) {
  check_archive(archive)
  check_text(id, "id")
  check_text(reason, "reason")
  day <- if (!is.null(until)) {
    tryCatch(
      as.Date(until),
      error = function(e) {
        vetusta_stop(
          "argument", paste0("`until` is no day: ", shown_value(until), "."),
          todo = "write it as 2026-03-31"
        )
      }
    )
  } else {
    as.Date(NA)
  }
  store_transaction(archive, function() {
    rows <- archive_findings(archive)
    at <- which(startsWith(rows$id, id))
    if (length(at) != 1) {
      vetusta_stop(
        "argument",
        paste0(
          if (length(at)) "Several findings begin with " else "No finding is ",
          id, "."
        ),
        todo = "`vetusta check` shows the findings with their IDs"
      )
    }
    row <- rows[at, ]
    row$state <- "accepted"
    row$reason <- reason
    row$until <- day
    findings_put(archive, row)
  })
  rows <- archive_findings(archive)
  invisible(rows[startsWith(rows$id, id), ])
}
