# The state of the tracked queries: coverage, and how far each is behind.

#' Status of the tracked queries
#'
#' Reads the archive and makes no request.
#'
#' @param desk A desk, see [desk_open()].
#' @param series Whether to return a row per series in place of a row per query.
#' @return A `vetusta_status`, a tibble with a row per query: `query`, `source`,
#'   `series` (stored ones), `rows` (of its series or its dataset), `asked`
#'   (requested ones, if known), `from`, `complete_until`, `last` (the time of
#'   the latest value) and `known`, all `POSIXct` in UTC, `coverage` (the share
#'   of expected values that are stored), `behind` (seconds from the end of the
#'   latest value to the end of the latest expected value), `stale`,
#'   `incomplete` (the number of incomplete windows, see
#'   [archive_incomplete()]), `refreshed`, `outcome` and `message` (of the last
#'   refresh). With `series = TRUE` a row per series: `query`, `id`, `rows`,
#'   `first`, `last`, `behind`, `stale`. The attribute `quotas` is a data frame
#'   of `source`, `quota`, `used`, `left`.
#'
#'   A query is stale if it was never collected, or if it is further behind than
#'   its `stale:` allows. The default is a day for bars within the day and three
#'   days for longer bars; three periods for daily and weekly values and two for
#'   longer ones; and twice its `every:` for rows without a time.
#' @section Errors: `vetusta_error_desk` for an object that is not a desk.
#' @export
#' @examples
#' desk <- desk_make(file.path(tempdir(), "status-desk"))
#' desk_status(desk)
desk_status <- function(desk, series = FALSE) {
  check_desk(desk)
  check_flag(series, "series")
  archive <- desk_archive(desk)
  on.exit(if (!is.null(archive)) archive_close(archive))
  catalogue <- status_catalogue(archive)
  parts <- lapply(
    names(desk$track),
    function(name) status_query(desk, name, archive, catalogue, series)
  )
  columns <- if (series) status_series_columns else status_columns
  all <- as.list(
    data.table::rbindlist(c(list(columns), parts), use.names = TRUE)
  )
  all[status_times[status_times %in% names(all)]] <-
    lapply(all[status_times[status_times %in% names(all)]], utc)
  result <- as_rows(all)
  class(
    result
  ) <- c(if (series) "vetusta_status_series", "vetusta_status", class(result))
  attr(result, "quotas") <- status_quotas(desk, archive)
  result
}

status_times <- c(
  "from", "complete_until", "last", "known", "refreshed", "first"
)

status_columns <- data.frame(
  query = character(), source = character(), series = numeric(),
  rows = numeric(), asked = numeric(), from = numeric(),
  complete_until = numeric(), last = numeric(), known = numeric(),
  coverage = numeric(), behind = numeric(), stale = logical(),
  incomplete = numeric(), refreshed = numeric(), outcome = character(),
  message = character()
)

status_series_columns <- data.frame(
  query = character(), id = character(), rows = numeric(), first = numeric(),
  last = numeric(), behind = numeric(), stale = logical()
)

# The stored series of a query's dataset and interval, and their keys, each read
# once.
status_catalogue <- function(archive) {
  kept <- list()
  once <- function(read, what) {
    function(query) {
      at <- paste(
        what, query$source$source, query$dataset$name, query$interval$iso,
        sep = "\r"
      )
      if (is.null(kept[[at]])) kept[[at]] <<- read(query, archive)
      kept[[at]]
    }
  }
  list(
    series = once(query_catalogue, "series"),
    keys = once(
      function(query, archive) {
        store_keys(
          archive, query$source$source, query$dataset$name, query$interval$iso
        )
      },
      "keys"
    )
  )
}

# The row of a query, or with `each` the rows of its series.
status_query <- function(desk, name, archive, catalogue, each) {
  entry <- desk$track[[name]]
  last <- if (!is.null(archive)) query_record(archive, entry, name) else list()
  made <- tryCatch(
    list(query = desk_query(desk, name, archive, only_stored = TRUE)),
    error = function(e) {
      list(
        message = if (inherits(e, "vetusta_error")) {
          e$what
        } else {
          conditionMessage(e)
        }
      )
    }
  )
  query <- made$query
  matching <- if (!is.null(archive) && !is.null(query)) {
    query_stored(query, archive, catalogue, each)
  }
  if (each && NROW(matching)) {
    matching <- matching[
      order(matching$key, matching$frequency, method = "radix"), ,
      drop = FALSE
    ]
  }
  # a total is a row for all series
  count <- NROW(matching)
  if (count) count <- matching[["series"]] %||% count
  due <- if (!is.null(query)) query_due(query, matching)
  allowed <- if (!is.null(entry$stale)) {
    interval_seconds(time_interval(entry$stale))
  } else {
    due$allowed %||% 0
  }
  until <- if (!is.null(query) && !is.null(archive)) {
    query_complete(query, archive)
  } else {
    NA_real_
  }
  ends <- if (NROW(matching)) due$end_of(matching$last) else numeric()
  behind <- if (length(ends)) {
    max(0, due$expected - max(ends))
  } else if (is.null(due$expected) && !is.na(until)) {
    max(0, now_seconds() - until - query$every)
  } else {
    NA_real_
  }
  if (each) {
    return(
      list(
        query = rep(name, NROW(matching)),
        id = if (NROW(matching)) series_id(matching) else character(),
        rows = as.numeric(matching$rows),
        first = as.numeric(matching$first),
        last = as.numeric(matching$last),
        behind = if (length(ends)) pmax(0, due$expected - ends) else numeric(),
        stale = if (length(ends)) due$expected - ends > allowed else logical()
      )
    )
  }
  list(
    query = name,
    source = entry$source,
    series = as.numeric(count),
    rows = status_rows(archive, query, matching),
    asked = as.numeric(max(length(query$symbols), 0L)),
    from = as.numeric(query$from %||% NA_real_),
    complete_until = until,
    last = if (NROW(matching)) max(matching$last) else NA_real_,
    known = if (NROW(matching)) {
      status_known(archive, matching, due)
    } else {
      NA_real_
    },
    coverage = if (NROW(matching)) due$coverage(matching, until) else NA_real_,
    behind = behind,
    stale = is.na(behind) || behind > allowed,
    incomplete = status_incomplete(archive, query),
    refreshed = as.numeric(last$at %||% NA_real_),
    outcome = last$outcome %||% NA_character_,
    message = made$message %||% last$message %||% ""
  )
}

# The stored rows of a query's series, or of a dataset without series.
status_rows <- function(archive, query, matching) {
  if (NROW(matching)) {
    return(sum(as.numeric(matching$rows)))
  }
  if (is.null(archive) || is.null(query)) {
    return(NA_real_)
  }
  stored <- store_datasets(archive)
  here <- stored$source == query$source$source &
    stored$dataset == query$dataset$name
  if (any(here)) sum(as.numeric(stored$rows[here])) else NA_real_
}

# The number of open windows of a query.
status_incomplete <- function(archive, query) {
  if (is.null(archive) || is.null(query) || !nrow(open_of(archive, query))) {
    return(0)
  }
  as.numeric(
    nrow(open_of_requests(archive, query, query_requests(query, NULL)))
  )
}

# The instant from which the newest value is known: the stated one, else the end
# of its period.
status_known <- function(archive, matching, due) {
  newest <- matching[which.max(matching$last), ]
  if (is.na(newest$id)) {
    newest$id <- store_series_until(
      archive, newest$source, newest$dataset, newest$frequency, newest$last
    )
  }
  values <- store_read(archive, newest$id, from = newest$last, to = Inf)
  known <- as.numeric(values$columns$known)
  if (!length(known)) {
    NA_real_
  } else if (all(is.na(known))) {
    due$end_of(newest$last) %||% NA_real_
  } else {
    max(known, na.rm = TRUE)
  }
}

status_quotas <- function(desk, archive) {
  sources <- unique(vapply(desk$track, `[[`, "", "source"))
  rows <- lapply(sources, function(name) {
    source <- tryCatch(
      desk_source(desk, name),
      vetusta_error = function(e) NULL
    )
    taken <- if (is.null(archive)) {
      no_requests_made
    } else {
      store_tokens(archive, name)
    }
    quotas <- if (!is.null(source)) {
      limit_quotas(
        0, source$limits, taken,
        if (is.null(archive)) now_seconds() else store_now(archive)
      )
    }
    if (!is.null(quotas)) {
      data.frame(source = name, quotas[c("quota", "used", "left")])
    }
  })
  do.call(
    rbind,
    c(
      list(
        data.frame(
          source = character(), quota = character(), used = numeric(),
          left = numeric()
        )
      ),
      rows
    )
  )
}

#' @export
print.vetusta_status <- function(x, ...) {
  cat(format_status(x), sep = "\n")
  invisible(x)
}

# "2 of 2 series", "12 series"
status_series_text <- function(series, asked) {
  of <- ifelse(asked > 0 & series <= asked, paste(" of", asked), "")
  paste0(series, of, " series")
}

# A table within 80 columns.
format_status <- function(x, width = 80, bars = FALSE) {
  if (!nrow(x)) {
    return(
      paste0(
        "the desk tracks no query yet; `vetusta track SOURCE DATASET ",
        "...` adds one"
      )
    )
  }
  each <- inherits(x, "vetusta_status_series")
  behind <- ifelse(
    is.na(x$behind), "-",
    ifelse(
      x$behind == 0, "",
      vapply(ifelse(is.na(x$behind), 0, x$behind), format_seconds, "")
    )
  )
  open <- if (each) FALSE else x$incomplete > 0
  state <- ifelse(open, "incomplete", ifelse(x$stale, "stale", "ok"))
  if (each) {
    shown <- data.frame(
      id = x$id,
      rows = x$rows,
      first = substr(to_minute(x$first), 1, 10),
      "last (UTC)" = to_minute(x$last),
      behind = behind,
      state = state,
      check.names = FALSE
    )
    return(text_table(shown, width))
  }
  shown <- data.frame(
    query = x$query,
    stored = ifelse(
      is.na(x$rows) | x$series > 0, status_series_text(x$series, x$asked),
      vapply(x$rows, counted, "", "row")
    ),
    "until (UTC)" = to_minute(x$complete_until),
    coverage = ifelse(
      is.na(x$coverage), "", sprintf("%.1f%%", 100 * x$coverage)
    ),
    "last (UTC)" = to_minute(x$last),
    behind = behind,
    state = state,
    check.names = FALSE
  )
  if (bars) {
    shown$coverage <- paste0(coverage_bar(x$coverage), shown$coverage)
  }
  if (!any(nzchar(behind))) shown$behind <- NULL
  noted <- nzchar(x$message) & !x$outcome %in% "done"
  quotas <- attr(x, "quotas")
  c(
    text_table(shown, width),
    if (NROW(quotas)) {
      c(
        "",
        paste0(
          "quota: ", quotas$source, ", ", thousands(quotas$left), " of ",
          quotas$quota, " left"
        )
      )
    },
    if (any(noted)) {
      c(
        "",
        wrapped_lines(paste0(x$query[noted], ": ", x$message[noted]), width)
      )
    }
  )
}

# A bar of so many characters; no text for a coverage that is not known.
coverage_bar <- function(share, length = 8) {
  full <- ifelse(is.na(share), 0, floor(length * share + 1e-9))
  signs <- if (isTRUE(l10n_info()[["UTF-8"]])) {
    c("\u2588", "\u2591")
  } else {
    c("#", ".")
  }
  ifelse(
    is.na(share), "",
    paste0(strrep(signs[1], full), strrep(signs[2], length - full), " ")
  )
}
