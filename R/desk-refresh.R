# A refresh: brings every query of a desk up to date with the fewest requests.

#' Refresh a desk
#'
#' Requests what every query lacks since it was last complete, and no more:
#' stored data only within the lookback, for late corrections, and missing
#' values that may still be published, at growing intervals. Sources are
#' requested in parallel, each within its limits and quotas. A failed query does
#' not stop the others. Two refreshes at once share the work.
#'
#' @param desk A desk, see [desk_open()].
#' @param queries Names of queries; by default all of them.
#' @param plan Whether to only plan, without requests for values.
#' @param progress Whether to show progress on standard error.
#' @param wait The longest pause, in seconds, to wait for. A query that needs a
#'   longer one is left for the next refresh.
#' @param gather The number of small pages written in one transaction, see
#'   [collect_run()].
#' @param outputs Whether to write the desk's outputs afterwards, see
#'   [desk_write()].
#' @return Invisibly a `vetusta_refresh`, a tibble with a row per query, in the
#'   order of the requests: `query`, `source`, `outcome` (`done`, `complete`:
#'   nothing to request, `left`: not all of it, `failed`), `requests` (for a
#'   plan, the number needed), `new`, `changed`, `failed` (requests),
#'   `complete_until` (`POSIXct`, UTC), `message` (the reason). The attribute
#'   `outputs` lists written outputs.
#' @section Errors: `vetusta_error_desk` for an unknown name of a query.
#'   Failures within a query are in its row.
#' @export
#' @examples
#' \dontrun{
#' desk <- desk_open("my-desk")
#' desk_refresh(desk, plan = TRUE)
#' desk_refresh(desk)
#' }
desk_refresh <- function(desk, queries = NULL, plan = FALSE,
                         progress = interactive(), wait = 900, outputs = TRUE,
                         gather = 50) {
  check_desk(desk)
  check_flag(plan, "plan")
  check_flag(outputs, "outputs")
  check_number(wait, "wait", 0)
  check_whole(gather, "gather", kind = "argument")
  names <- desk_names(desk, queries)
  archive <- desk_reach(desk)
  on.exit(archive_close(archive))
  state <- refresh_make(desk, archive, names, asks = !plan)
  if (plan) {
    for (name in state$order) refresh_plan(state, name)
    return(refresh_result(state, NULL))
  }
  claim <- refresh_claim(desk)
  verdict <- store_claim(archive, claim, Inf)
  on.exit(
    if (verdict == "ours") {
      try(store_claims_release(archive, claim), silent = TRUE)
    },
    add = TRUE, after = FALSE
  )
  sources <- unique(refresh_sources(state))
  lanes <- lapply(sources, function(source) {
    refresh_lane(state, source, progress, wait, gather)
  })
  collect_beside(lanes, function(going, result = NULL, error = NULL) {
    if (is.null(error)) {
      refresh_ended(state, going, result)
    } else {
      refresh_failed(state, going$name, error)
    }
  })
  written <- if (outputs && length(desk$outputs)) desk_write(desk)
  refresh_result(state, written)
}

# The requested names, in the order of the file.
desk_names <- function(desk, queries) {
  known <- names(desk$track)
  if (is.null(queries)) {
    return(known)
  }
  check_text(queries, "queries", "desk", several = TRUE)
  for (name in setdiff(queries, known)) {
    vetusta_stop(
      "desk",
      paste0("The desk has no query \"", name, "\"."),
      where = desk$file,
      todo = suggest_word(name, known),
      usage = TRUE
    )
  }
  intersect(known, queries)
}

refresh_make <- function(desk, archive, names, asks) {
  state <- new.env(parent = emptyenv())
  state$desk <- desk
  state$archive <- archive
  # whether to make requests, or only a plan
  state$asks <- asks
  state$rows <- list()
  state$away <- list()
  state$order <- names[
    order(-vapply(names, function(name) query_urgency(desk, archive, name), 0))
  ]
  state
}

refresh_sources <- function(state) {
  vapply(state$order, function(name) state$desk$track[[name]]$source, "")
}

# The urgency of a query: first those refreshed before, the most overdue first;
# then new histories. Others keep the order of the file.
query_urgency <- function(desk, archive, name) {
  last <- query_record(archive, desk$track[[name]], name)
  until <- last$complete_until %||% NA_real_
  if (is.na(until)) 0 else max(1, now_seconds() - until)
}

# The note of a query's last refresh: a list, empty before the first.
query_record <- function(archive, entry, name) {
  notes <- store_notes(
    archive, "query", entry$source, entry$dataset %||% "", name
  )
  if (!nrow(notes) || is.na(notes$value)) {
    return(list())
  }
  c(
    list(at = notes$at),
    tryCatch(jsonlite::fromJSON(notes$value), error = function(e) list())
  )
}

query_record_put <- function(archive, entry, name, record) {
  record <- record[lengths(record) > 0 & !vapply(record, anyNA, TRUE)]
  value <- as.character(
    jsonlite::toJSON(record, auto_unbox = TRUE, digits = NA)
  )
  store_note(archive, "query", entry$source, entry$dataset %||% "", name, value)
}

# One source's queries in turn: starts the next run, or returns NULL at the end.
refresh_lane <- function(state, source, progress, wait, gather) {
  left <- state$order[refresh_sources(state) == source]
  function(pool, rest) {
    while (length(left)) {
      name <- left[1]
      left <<- left[-1]
      plan <- refresh_plan(state, name)
      if (is.null(state$away[[source]])) refresh_begun(state, name)
      if (is.null(plan)) next
      going <- tryCatch(
        collect_begin(
          plan, state$archive, progress,
          wait = wait, gather = gather,
          pool = pool, rest = rest
        ),
        error = function(e) refresh_failed(state, name, e)
      )
      if (is.null(going)) next
      going$name <- name
      return(going)
    }
    NULL
  }
}

# A run by timer is due again only after this instant.
refresh_begun <- function(state, name) {
  entry <- state$desk$track[[name]]
  store_note(
    state$archive, "begun", entry$source, entry$dataset %||% "", name, ""
  )
}

refresh_claim <- function(desk) paste("refresh", desk$folder)

# Whether this process may refresh while another refresh of the desk may run:
# "wait" waits for its end, "skip" gives up, "share" runs beside it.
refresh_turn <- function(desk, busy, most = 6 * 3600) {
  archive <- if (busy != "share") desk_archive(desk)
  if (is.null(archive)) {
    return(TRUE)
  }
  on.exit(archive_close(archive))
  until <- now_seconds() + most
  repeat {
    # the refresh itself keeps the claim
    verdict <- store_claim(archive, refresh_claim(desk), Inf)
    if (verdict != "taken") {
      return(TRUE)
    }
    if (busy == "skip" || now_seconds() > until) {
      return(FALSE)
    }
    Sys.sleep(1)
  }
}

# The plan of a query, or NULL where nothing is to be requested or it cannot be
# planned; its row says which.
refresh_plan <- function(state, name) {
  entry <- state$desk$track[[name]]
  away <- state$away[[entry$source]]
  if (!is.null(away)) {
    return(refresh_failed(state, name, away, noted = FALSE))
  }
  tryCatch(
    {
      query <- query_looked(
        desk_query(state$desk, name, state$archive), state$archive
      )
      last <- query_record(state$archive, entry, name)
      pause <- refresh_pause(query, last, entry)
      plan <- if (is.null(pause)) plan_requests(query, state$archive)
      if (NROW(plan$requests) == 0 && is.null(pause) && state$asks) {
        holes_seen(query, state$archive)
      }
      state$rows[[name]] <- refresh_row(
        name,
        entry$source,
        if (is.null(plan) || !nrow(plan$requests)) "complete" else "planned",
        requests = plan$pages %||% 0,
        until = query_complete(query, state$archive),
        message = pause %||%
          refresh_takes(plan, query_complete(query, state$archive))
      )
      if (is.null(plan) || !nrow(plan$requests)) {
        NULL
      } else {
        # collectors change what is covered
        plan$query$covered <- NULL
        plan
      }
    },
    error = function(e) refresh_failed(state, name, e)
  )
}

# Why a query is not due yet: `every`, if the query is unchanged since.
refresh_pause <- function(query, last, entry) {
  since <- now_seconds() - (last$done %||% -Inf)
  if (is.null(entry$every) ||
    since >= query$every ||
    !identical(last$words, entry_words(query, entry))) {
    return(NULL)
  }
  paste0(
    "refreshed ", format_seconds(max(1, since)), " ago, at most every ",
    entry$every
  )
}

# A short text that changes with the query, but not with the moving window of a
# span.
entry_words <- function(query, entry) {
  asked <- list(
    query$symbols, query$keys, query$selection, query$interval$iso,
    query$session, as.character(unlist(entry[c("from", "to", "span")]))
  )
  content_hash(
    charToRaw(
      as.character(
        jsonlite::toJSON(asked, auto_unbox = TRUE, digits = NA, force = TRUE)
      )
    )
  )
}

refresh_takes <- function(plan, until) {
  query <- plan$query
  if (!nrow(plan$requests)) {
    return(
      if (is.null(query$from) && query$every > 0) {
        paste0(
          "complete; refreshed ",
          format_seconds(max(1, now_seconds() - until)),
          " ago, next refresh in ", format_seconds(query$every)
        )
      } else {
        "nothing to request: the archive is complete for this window"
      }
    )
  }
  quotas <- plan$quotas
  paste(
    c(
      if (plan$seconds >= 1) paste("at least", format_seconds(plan$seconds)),
      if (!is.null(quotas)) paste0(quotas$left, " of ", quotas$quota, " left")
    ),
    collapse = "; "
  )
}

refresh_row <- function(name, source, outcome, requests = 0, new = 0,
                        changed = 0, failed = 0, until = NA_real_,
                        message = "") {
  list(
    query = name, source = source, outcome = outcome, requests = requests,
    new = new, changed = changed, failed = failed,
    complete_until = as.numeric(until), message = message
  )
}

refresh_ended <- function(state, going, result) {
  name <- going$name
  entry <- state$desk$track[[name]]
  query <- going$run$query
  failed <- nrow(result$failed)
  until <- query_complete(query, state$archive)
  whole <- !failed && result$left == 0
  if (whole) holes_seen(query, state$archive)
  message <- if (failed) {
    paste0(result$failed$symbol[1], ": ", result$failed$what[1])
  } else if (result$left > 0) {
    paste0(
      counted(result$left, "request"), " left",
      if (!is.null(result$resume)) {
        paste0(
          "; go on after ", format_instant(floor(as.numeric(result$resume)))
        )
      }
    )
  } else if (length(result$empty)) {
    paste("no data for", paste(utils::head(result$empty, 3), collapse = ", "))
  } else {
    ""
  }
  requests <- result$pages + result$retried + failed + result$cut
  state$rows[[name]] <- refresh_row(
    name, entry$source,
    if (failed) "failed" else if (whole) "done" else "left", requests,
    result$new, result$changed, failed, until, message
  )
  query_record_put(
    state$archive, entry, name,
    list(
      outcome = if (failed) "failed" else if (whole) "done" else "left",
      message = message,
      complete_until = until,
      words = entry_words(query, entry),
      done = if (whole) {
        now_seconds()
      } else {
        query_record(state$archive, entry, name)$done
      }
    )
  )
}

# Errors of a source as a whole.
source_errors <- paste0("vetusta_error_", c("network", "access", "secret"))

# A failed query; where its source does not answer, its other queries are not
# tried.
refresh_failed <- function(state, name, error, noted = TRUE) {
  entry <- state$desk$track[[name]]
  ours <- inherits(error, "vetusta_error")
  what <- if (ours) {
    error$what
  } else {
    paste("an internal error:", conditionMessage(error))
  }
  if (inherits(error, source_errors)) {
    state$away[[entry$source]] <- error
    # a run by timer that reached nobody is due again
    try(
      store_forget(
        state$archive, "begun", entry$source, entry$dataset %||% "", name
      ),
      silent = TRUE
    )
  }
  last <- query_record(state$archive, entry, name)
  state$rows[[name]] <- refresh_row(
    name,
    entry$source,
    "failed",
    failed = 1,
    until = last$complete_until %||% NA_real_,
    message = what
  )
  if (noted) {
    last[c("outcome", "message")] <- list("failed", what)
    try(
      query_record_put(state$archive, entry, name, last[names(last) != "at"]),
      silent = TRUE
    )
  }
  NULL
}

refresh_result <- function(state, written) {
  rows <- unname(state$rows[state$order])
  columns <- lapply(names(refresh_row("", "", "")), function(name) {
    sapply(rows, `[[`, name)
  })
  columns <- stats::setNames(columns, names(refresh_row("", "", "")))
  if (!length(rows)) columns <- lapply(refresh_row("", "", ""), `[`, 0)
  columns$complete_until <- utc(as.numeric(columns$complete_until))
  result <- as_rows(columns)
  class(result) <- c("vetusta_refresh", class(result))
  attr(result, "outputs") <- written
  invisible(result)
}
