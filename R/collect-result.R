# The result of a run and its printed form.

collect_result <- function(run, queue, tally) {
  values <- tally[
    c(
      "pages", "new", "changed", "unchanged", "gone", "doubled", "rejected",
      "retried", "failed", "cut", "failed_keys"
    )
  ]
  structure(
    c(
      values,
      list(
        # the words that request the failed part again
        words_again = if (nrow(tally$failed)) query_again(run$query, tally),
        empty = query_empty(run$query, tally, run$sink),
        left = queue_left(queue) + queue$unfinished,
        resume = queue$resume,
        listed = run$sink$listed(),
        seconds = run$sink$now() - run$started,
        notes = run$query$notes,
        noun = query_noun(run$query)
      )
    ),
    class = "vetusta_run"
  )
}

#' @export
print.vetusta_run <- function(x, ...) {
  cat(format_run(x), sep = "\n")
  invisible(x)
}

format_run <- function(x) {
  stored <- if (x$unchanged > 0) {
    paste0(", ", thousands(x$unchanged), " already stored")
  }
  changed <- if (x$changed > 0) paste0(", ", thousands(x$changed), " changed")
  later <- if (!is.null(x$resume)) {
    paste0(
      ": the quota is used up; go on after ",
      format_instant(floor(as.numeric(x$resume)))
    )
  }
  c(
    paste0(
      "collected ", thousands(x$new), " new ", x$noun, changed, stored, " in ",
      counted(x$pages, "page"), " and ", format_seconds(max(1, x$seconds))
    ),
    if (x$cut > 0) {
      paste0(
        "  ", counted(x$cut, "selection"),
        " too large for the service, requested in parts"
      )
    },
    if (length(x$empty)) {
      paste0(
        "  no data for ", paste(utils::head(x$empty, 5), collapse = ", "),
        if (length(x$empty) > 5) " and more"
      )
    },
    format_listed(x),
    if (x$retried > 0) {
      paste0("  ", counted(x$retried, "request"), " had to be repeated")
    },
    if (x$doubled > 0) {
      paste0(
        "  ", counted(x$doubled, "row"),
        if (x$doubled == 1) {
          " was received twice, and is stored once"
        } else {
          " were received twice, and are stored once"
        }
      )
    },
    if (x$rejected > 0) {
      paste0(
        "  ", counted(x$rejected, "row"),
        if (x$rejected == 1) " was" else " were",
        " rejected: see archive_rejected()"
      )
    },
    if (x$left > 0) paste0("  ", counted(x$left, "request"), " left", later),
    format_all_failed(x$failed)
  )
}

# Entries that lists repeat, and those that disappeared.
format_listed <- function(x) {
  twice <- if (x$pages > 0 && length(x$listed)) {
    x$listed[["entries"]] - x$listed[["rows"]]
  } else {
    0
  }
  c(
    if (twice > 0) {
      paste0(
        "  ", thousands(x$listed[["entries"]]), " entries are ",
        thousands(x$listed[["rows"]]), " ", x$noun, ": ", thousands(twice),
        if (twice == 1) " is" else " are",
        " in several requests, and stored once"
      )
    },
    if (x$gone > 0) {
      paste0(
        "  ", thousands(x$gone),
        if (x$gone == 1) " is" else " are", " no longer listed: kept, with ",
        if (x$gone == 1) "its last day" else "their last days"
      )
    }
  )
}

format_all_failed <- function(failed) {
  count <- nrow(failed)
  if (!count) {
    return(NULL)
  }
  c(
    paste0("  ", thousands(count), " failed:"),
    format_failed(utils::head(failed, 10)),
    if (count > 10) paste0("    and ", thousands(count - 10), " more")
  )
}

format_failed <- function(failed) {
  paste0(
    "    ", failed$symbol, ": ", failed$what, "\n      to do: ", failed$todo
  )
}
