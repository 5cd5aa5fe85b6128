#' Query rows of any dataset
#'
#' For everything other than bars: directories, snapshots, reports, stations,
#' statistics.
#'
#' @param source A source, see [source_card()].
#' @param dataset The name of the dataset.
#' @param ... Keys of the dataset by the names in its card, each a vector:
#'   `station = c("kelder-lock", "tamm")`. Several values make a request each,
#'   unless the card joins them. Keys listed in the card with `each:` are
#'   optional.
#' @param span,from,to The window, as in [query_bars()], if the dataset takes
#'   one.
#' @param now The present time.
#' @return A `vetusta_query`, like that of [query_bars()], with `keys` in place
#'   of interval and session.
#' @section Errors: `vetusta_error_argument` for an unknown dataset, an unknown
#'   or missing key, or an invalid window.
#' @export
#' @examples
#' query_rows(source_card("quay"), "directory", sector = c("barges", "salt"))
query_rows <- function(source, dataset, ..., span = NULL, from = NULL,
                       to = NULL, now = NULL) {
  now <- now %||% now_time()
  check_source(source)
  check_text(dataset, "dataset")
  if (is.null(source$datasets[[dataset]])) {
    vetusta_stop(
      "argument",
      paste0(
        "The source ", source$source, " has no dataset \"", dataset, "\"."
      ),
      where = source$file,
      todo = suggest_word(dataset, names(source$datasets))
    )
  }
  dataset <- source$datasets[[dataset]]
  if (gives_bars(dataset)) {
    vetusta_stop(
      "argument", paste0("The dataset ", dataset$name, " gives bars."),
      todo = "query them with query_bars()"
    )
  }
  keys <- query_keys(dataset, list(...))
  window <- list(from = NULL, to = NULL, notes = character())
  if (has_window(dataset) || !is.null(span) || !is.null(from)) {
    window <- query_window(source, span, from, to, now)
  }
  new_query(
    "rows",
    source = source,
    dataset = dataset,
    symbols = as.character(keys$symbol),
    keys = keys,
    from = window$from,
    to = window$to,
    notes = window$notes
  )
}

query_keys <- function(dataset, given) {
  # a key that is given several times has all of its values
  if (length(given) && !is.null(names(given))) {
    given <- lapply(
      split(given, factor(names(given), unique(names(given)))),
      function(parts) if (length(parts) == 1) parts[[1]] else unlist(parts)
    )
  }
  known <- setdiff(
    dataset_gives(dataset),
    c("from", "to", "largest_page", "session", "interval")
  )
  fixed <- Filter(
    function(name) !is.null(dataset$parameters[[name]]$value),
    names(dataset$parameters)
  )
  known <- setdiff(known, fixed)
  paging <- page_parameter(dataset)
  for (name in if (length(given)) names(given) %||% "") {
    if (!name %in% known) {
      vetusta_stop(
        "argument",
        paste0("The dataset ", dataset$name, " has no key \"", name, "\"."),
        todo = if (length(known)) suggest_word(name, known) else "leave it out"
      )
    }
  }
  for (name in setdiff(known, c(names(given), paging))) {
    each <- dataset$parameters[[name]]$each
    if (!is.null(each)) {
      given[[name]] <- each
    } else if (grepl(paste0("\\{[^?&}]*\\b", name, "\\b"), dataset$request)) {
      vetusta_stop(
        "argument",
        paste0("The dataset ", dataset$name, " needs ", name, "."),
        todo = paste0("give ", name, " = ..., a value or several")
      )
    }
  }
  lapply(given, function(value) {
    if (!is.atomic(value)) {
      vetusta_stop(
        "argument",
        paste0(
          "A key must have one or more values, not ", shown_value(value),
          "."
        ),
        todo = "give text or numbers"
      )
    }
    check_symbols(as.character(value))
  })
}

#' @export
query_requests.vetusta_query_rows <- function(query, archive) {
  plan_rows(query, archive)
}

#' @export
query_chain.vetusta_query_rows <- function(query, planned,
                                           noted = function(kind, key) NULL) {
  symbols <- planned$symbols[[1]]
  times <- if (is.na(planned$from)) {
    list()
  } else {
    aligned_window(planned$from, planned$to, query$dataset, query$source$zone)
  }
  known <- c(
    planned$keys[[1]], times,
    list(
      symbol = if (length(symbols)) symbols[1],
      symbols = symbols,
      largest_page = query$dataset$largest_page
    )
  )
  ordinary_chain(query, planned, known, windowed = FALSE, noted)
}

#' @export
query_claim.vetusta_query_rows <- function(query, chain) {
  ranged <- !is.null(chain$from)
  list(
    name = claim_name(
      query$source$source, query$dataset$name,
      if (ranged) chain$key else chain$start
    ),
    shows = ranged
  )
}

#' @export
query_rest.vetusta_query_rows <- function(query, chain, covered) {
  left <- missing_of(
    list(from = chain$from, to = chain$to), chain$key,
    covered(query_cover_keys(query, chain))
  )
  planned_rest(chain$planned, kept_rest(left, query, chain))
}

#' @export
query_cover_keys.vetusta_query_rows <- function(query, chain) chain$key

#' @export
query_empty_page.vetusta_query_rows <- function(query, chain, calendar) {
  page_make(
    decoded_rows(
      query, chain$symbols,
      list(columns = empty_columns(query$dataset), rows = 0L)
    )
  )
}

#' @export
query_tidy.vetusta_query_rows <- function(query, calendar, symbols, decoded) {
  rows <- decoded_rows(query, symbols, decoded)
  judge <- shape_judges[[query$dataset$shape]] %||% function(rows) no_wrong_bars
  judged <- judge(rows)
  judged <- faults_joined(
    judged,
    doubled_values(
      rows, query$dataset$shape, c(judged$row, decoded$rejected$row), decoded$at
    )
  )
  list(
    rows = rows,
    rejected = page_rejected(rows, decoded, query$dataset, judged),
    notes = apart_note(attr(rows, "apart"))
  )
}

# Required columns of rows that form series, by shape.
shape_judges <- list(
  observations = function(rows) {
    unreadable(rows, "period", is.na(observation_times(rows$period)$time))
  },
  facts = function(rows) {
    unreadable(rows, "period_end", is.na(as_days(rows$period_end)))
  }
)

unreadable <- function(rows, column, bad) {
  row <- which(bad)
  if (!length(row)) {
    return(no_wrong_bars)
  }
  data.frame(
    row = row,
    symbol = as.character(rows[["series"]] %||% rows[["symbol"]])[row],
    time = utc(rep(NA_real_, length(row))),
    reason = paste(column, "cannot be read"),
    detail = paste("value", as.character(rows[[column]])[row])
  )
}

#' @export
query_parcel.vetusta_query_rows <- function(query, chain, page, good) {
  if (!nrow(good)) {
    return(NULL)
  }
  archive_parcel(
    query$dataset$shape,
    good,
    at = chain$came %||% now_seconds(),
    place = paste(chain$start, chain$page)
  )
}

# After a complete answer its window is covered, up to where values may still
# come.
#' @export
query_covered.vetusta_query_rows <- function(query, chain, good, whole) {
  if (is.null(chain$from) || !whole) {
    return(NULL)
  }
  until <- min(
    chain$to, max(chain$newest %||% -Inf, chain$asked - settled_days * 86400)
  )
  if (until > chain$from) {
    data.frame(key = chain$key, start = chain$from, end = until)
  }
}

# Days after which a missing value is no longer expected.
settled_days <- 14

# Without a window it is done for this round; with one, up to the last row.
#' @export
query_notes.vetusta_query_rows <- function(query, chain) {
  if (is.null(chain$from)) {
    return(list(list(kind = "asked", key = chain$start, value = "")))
  }
  newest <- max(chain$from, chain$newest %||% -Inf)
  list(
    list(
      kind = "looked",
      key = chain$key,
      # the newest row, and the end of the window that was requested
      value = paste(format_exact(min(newest, chain$to)), format_exact(chain$to))
    )
  )
}

#' @export
query_round.vetusta_query_rows <- function(query) {
  if (is.null(query$from)) key_text(query$keys[lengths(query$keys) > 0])
}

#' @export
query_again.vetusta_query_rows <- function(query, tally) {
  if (length(tally$failed_keys)) {
    c(query$dataset$name, keys_again(tally$failed_keys))
  }
}

# The keys of failed requests as words: each key once, with all its values.
keys_again <- function(keys) {
  names <- unique(unlist(lapply(keys, names)))
  vapply(
    names,
    function(name) {
      paste0(
        name, "=",
        paste(unique(unlist(lapply(keys, `[[`, name))), collapse = ",")
      )
    },
    "",
    USE.NAMES = FALSE
  )
}

#' @export
query_plan_text.vetusta_query_rows <- function(query, plan) {
  windowed <- !is.null(query$from)
  head <- c(
    paste0("plan: ", query$dataset$shape, " from ", query$source$title),
    if (windowed) {
      paste0(
        "  window    ", format_instant(query$from), " to ",
        format_instant(query$to)
      )
    }
  )
  requests <- plan$requests
  table <- data.frame(
    key = requests$label,
    from = format_instant(requests$from),
    to = format_instant(requests$to),
    requests = requests$pages
  )
  if (!windowed) table <- table[c("key", "requests")]
  plan_text(
    plan, head, paste0("  requests  at least ", thousands(plan$pages)), table
  )
}
