# Trying a card: one or two requests, nothing stored, everything shown.

#' Try a dataset
#'
#' Makes one request of a query, and a second one if there is a next page, and
#' stores nothing. The result shows the request as sent, the answer, its
#' decoding, rejected rows with reasons, the next page, and doubtful times.
#'
#' @param query A query, see [query_bars()] and [query_rows()].
#' @param requests The largest number of requests.
#' @param archive An archive that counts the requests against limits and quotas;
#'   nothing else is written to it.
#' @param rows A preview: one request, of which at most so many rows are shown;
#'   of statistics the newest value of the first series.
#' @return A `vetusta_try`: a list with `source`, `dataset`, `requests` (a list
#'   per request, with `method`, `url`, `headers`, `body` without secrets,
#'   `status`, `answer` (headers about format, limits and paging), `bytes`,
#'   `unread` (a value of each member of a row that no column takes, by its
#'   pointer),
#'   `seconds`, `error` (if decoding failed), `following` (the next page)),
#'   `rows` (the tidy rows of all answers), `rejected` (a data frame of `place`,
#'   a JSON Pointer, `reason`, `detail`) and `looks` (texts about doubtful
#'   values).
#' @section Errors: Those of [collect_run()] without an answer or a secret.
#' @export
#' @examples
#' \dontrun{
#' quay <- source_card("quay") # `vetusta services` serves it on this machine
#' collect_try(query_bars(quay, "KELD",
#'   interval = "1 minute", from = "2026-03-12",
#'   to = "2026-03-13"
#' ))
#' }
collect_try <- function(query, requests = 2, archive = NULL, rows = NULL) {
  check_count(requests, "requests")
  shown <- 6
  if (!is.null(rows)) {
    shown <- check_count(rows, "rows")
    query <- query_preview(query, rows)
    requests <- 1
  }
  if (!is.null(archive)) check_archive(archive)
  plan <- plan_requests(query)
  check_plan(plan)
  run <- run_make(query, memory_sink(query), most_wait = 60)
  run$counter <- source_counter(
    query$source, archive, request_weight(query$dataset)
  )
  on.exit(line_close(run$line))
  chain <- query_chain(query, plan$requests[1, ])
  made <- list()
  repeat {
    request <- try_request(run, chain)
    made[[length(made) + 1]] <- request
    if (is.null(request$page$following) || length(made) >= requests) break
    chain <- chain_following(chain, request$page)
  }
  pages <- Filter(length, lapply(made, `[[`, "page"))
  tables <- lapply(pages, function(page) query_table(query, page, page$good))
  rows <- if (length(tables)) {
    as_rows(
      as.list(
        data.table::rbindlist(
          lapply(tables, function(x) list_frame(unclass(x))),
          use.names = TRUE,
          fill = TRUE
        )
      )
    )
  }
  rejected <- do.call(rbind, lapply(made, `[[`, "rejected"))
  structure(
    list(
      source = query$source$source,
      dataset = query$dataset$name,
      read = try_reading(query$dataset, made[[1]]$answer["content-type"]),
      requests = lapply(
        made, function(sent_request) sent_request[names(sent_request) != "page"]
      ),
      rows = rows,
      rejected = rejected,
      shown = shown,
      looks = if (length(pages)) try_looks(query, pages, rows, run$calendar)
    ),
    class = "vetusta_try"
  )
}

try_request <- function(run, chain) {
  source <- run$source
  sent <- NULL
  began <- now_seconds()
  answer <- fetch_patiently(
    function() sent <<- wire_signed(chain$request, source, run$tokens),
    source$patience, run$counter,
    most_wait = 60, tries = 2,
    secrets = run$secrets
  )
  hide <- function(text) redact(text, run$secrets())
  headers <- vapply(sent$headers, function(x) hide(as.character(x)), "")
  entry <- list(
    method = sent$method %||% "GET",
    url = hide(sent$url),
    headers = headers,
    body = if (length(sent$body)) hide(as.character(sent$body)),
    status = answer$status,
    answer = try_headers(answer$headers, hide),
    bytes = length(answer$body),
    seconds = now_seconds() - began,
    sample = raw_page(run, chain, answer$body, now_seconds())
  )
  if (judge_status(answer$status) != "good") {
    entry$error <- paste0(
      "HTTP ", answer$status, ": ", hide(body_excerpt(answer$body))
    )
    return(entry)
  }
  if (!is.null(run$query$dataset$job)) {
    entry$ticket <- hide(body_excerpt(answer$body))
    return(entry)
  }
  where <- paste0("dataset ", run$query$dataset$name)
  page <- tryCatch(
    query_page(run$query, chain, answer, where, run$calendar, 0),
    vetusta_error_payload = identity
  )
  if (inherits(page, "vetusta_error_payload")) {
    entry$error <- hide(
      paste0(
        page$what, if (length(page$where)) paste0(" (", page$where, ")"),
        if (length(page$todo)) paste0("; to do: ", page$todo)
      )
    )
    return(entry)
  }
  entry$page <- page
  # a standard format needs no sample
  if (!is.null(source$datasets[[run$query$dataset$name]])) {
    entry$texts <- sample_rows(
      source, run$query$dataset, jsonlite::fromJSON(entry$sample$about),
      entry$sample$body
    )
  }
  entry$unread <- unread_members(run$query$dataset, source, answer$body)
  entry$read <- nrow(page$good)
  entry$following <- if (!is.null(page$following)) hide(page$following)
  rejects <- page_rejects(page, chain, run)
  entry$rejected <- rejects[c("place", "reason", "detail")]
  entry
}

# Members of a row that no column takes, with a value of each.
unread_members <- function(dataset, source, body) {
  if (is.null(dataset$columns) || !is.null(dataset$unpack)) {
    return(NULL)
  }
  rows <- tryCatch(
    body_rows(dataset, unpacked_body(body, "the body"), source)$rows,
    error = function(e) NULL
  )
  if (!length(rows) || !is.data.frame(rows)) {
    return(NULL)
  }
  rules <- c(dataset$columns, lapply(dataset$columns, `[[`, "zone"))
  taken <- c(
    unlist(lapply(rules, function(rule) if (is.list(rule)) rule$at)),
    names(dataset$only), dataset$lookup$from, unlist(dataset$next_page$at)
  )
  taken <- c(
    taken,
    unlist(lapply(
      dataset$sides, function(side) sub("{side}", side, taken, fixed = TRUE)
    )),
    # what was added to the rows is no member of them
    paste0("/", c("key", "value", "outer-key", "row", "column"))
  )
  leaves <- row_members(rows)
  names(leaves) <- vapply(names(leaves), function(name) {
    sub("^/(outer|lookup) .*$", "", name)
  }, "")
  leaves[nzchar(names(leaves)) & !names(leaves) %in% taken]
}

# The first value of each member of rows, by its pointer.
row_members <- function(rows, above = "") {
  parts <- lapply(names(rows), function(name) {
    place <- paste0(
      above, "/", gsub(
        "/", "~1", gsub("~", "~0", name, fixed = TRUE),
        fixed = TRUE
      )
    )
    value <- rows[[name]]
    if (is.data.frame(value)) {
      return(row_members(value, place))
    }
    first <- Find(function(x) length(x) && !all(is.na(unlist(x))), value)
    if (is.list(first) && length(names(first))) {
      return(row_members(first, place))
    }
    text <- paste(
      format(unlist(first), digits = 12, trim = TRUE),
      collapse = " "
    )
    stats::setNames(substr(text, 1, 40), place)
  })
  unlist(parts)
}

# Headers of an answer about its type, limits and paging.
try_headers <- function(headers, hide) {
  kept <- grepl(
    paste0(
      "^content-type$|^link$|^retry-after$|rate-?limit|remaining|quota|^etag$|",
      "^last-modified$|next|total|page|^location$"
    ),
    names(headers)
  )
  vapply(headers[kept], function(x) hide(as.character(x)), "")
}

try_reading <- function(dataset, type) {
  form <- dataset$format %||%
    (if (is.null(dataset$rows)) sub(";.*", "", type)) %||% "json"
  paste0(
    "as ", form,
    if (!is.null(dataset$rows)) {
      paste0(
        ", rows at ", if (nzchar(dataset$rows)) dataset$rows else "the top"
      )
    },
    if (!is.null(dataset$form)) paste0(", in the form ", dataset$form)
  )
}

# What looks wrong in the times and the order of the rows.
try_looks <- function(query, pages, rows, calendar) {
  time <- rows[["time"]]
  if (!inherits(time, "POSIXct") || !length(time)) {
    return(if (!length(rows[[1]])) "no rows; try another window or key")
  }
  at <- as.numeric(time)
  late <- sum(at > now_seconds() + 60, na.rm = TRUE)
  short <- !is.null(query$interval) && is_intraday(query$interval)
  outside <- if (short && !is.null(calendar)) sum(is.na(rows$session))
  c(
    if (late) {
      paste0(counted(late, "time"), " in the future: is the zone right?")
    },
    if (isTRUE(outside > 0)) {
      paste0(
        counted(outside, "bar"), " outside all sessions of the ",
        "calendar: is the zone right, and the calendar?"
      )
    },
    if (short) try_grid(at, query$interval$seconds),
    if (!all(vapply(pages, function(page) runs_one_way(page$times), TRUE))) {
      paste0(
        "rows of a page are not in order of time: the window is complete ",
        "only with the last page"
      )
    },
    if (!is.null(query$from) && !is.null(query$interval)) try_window(at, query)
  )
}

try_grid <- function(at, seconds) {
  off <- sum(at %% seconds != 0, na.rm = TRUE)
  if (off) {
    paste0(
      counted(off, "bar"),
      " not on the grid of its length: is the time a bar's start?"
    )
  }
}

try_window <- function(at, query) {
  slack <- 86400
  beside <- sum(
    at < as.numeric(query$from) - slack | at > as.numeric(query$to) + slack,
    na.rm = TRUE
  )
  if (beside) {
    paste0(
      counted(beside, "bar"),
      " far from the requested window: are the words of ", "the request right?"
    )
  }
}

# Numbers without marks between thousands: a comma could be taken for the
# decimal one.
plain_cells <- function(rows) {
  number <- vapply(rows, function(x) is.numeric(x) && !is.object(x), TRUE)
  rows[number] <- lapply(rows[number], function(x) {
    text <- ifelse(is.na(x), "", format_exact(as.double(x)))
    formatC(text, width = max(nchar(text)))
  })
  rows
}

#' @export
print.vetusta_try <- function(x, ...) {
  cat(format_try(x), sep = "\n")
  invisible(x)
}

format_try <- function(x, width = 100) {
  most <- x$shown
  lines <- unlist(lapply(seq_along(x$requests), function(i) {
    request <- x$requests[[i]]
    pairs <- function(values) {
      if (length(values)) paste0("            ", names(values), ": ", values)
    }
    c(
      paste0("request ", i, "      ", request$method, " ", request$url),
      pairs(request$headers),
      if (!is.null(request$body)) paste0("            body ", request$body),
      paste0(
        "  answer    HTTP ", request$status, ", ", format_bytes(request$bytes)
      ),
      pairs(request$answer),
      if (!is.null(request$ticket)) {
        c(
          paste0("  ticket    ", request$ticket),
          paste0(
            "  next      the export is looked at until it is ready; ",
            "`vetusta collect` does"
          )
        )
      } else if (!is.null(request$error)) {
        paste0("  not read  ", request$error)
      } else {
        paste0("  read      ", x$read, ": ", counted(request$read, "row"))
      },
      if (!is.null(request$read)) {
        paste0("  next      ", request$following %||% "no page follows")
      }
    )
  }))
  if (NROW(x$rows)) {
    types <- vapply(
      as.list(x$rows),
      function(column) {
        if (is.list(column)) "list" else value_type(column) %||% "text"
      },
      ""
    )
    lines <- c(
      lines, "",
      paste0(
        "columns     ", paste0(names(types), " (", types, ")", collapse = ", ")
      ),
      "", text_table(
        plain_cells(utils::head(as.data.frame(x$rows), most)), width
      )
    )
    if (nrow(x$rows) > most) {
      lines <- c(lines, paste0("and ", thousands(nrow(x$rows) - most), " more"))
    }
  }
  unread <- x$requests[[1]]$unread
  if (length(unread)) {
    lines <- c(
      lines, "",
      strwrap(
        paste0(
          "no column for ",
          paste0(names(unread), " (", unread, ")", collapse = ", ")
        ),
        min(width, 100),
        exdent = 12
      )
    )
  }
  if (NROW(x$rejected)) {
    lines <- c(
      lines, "", paste0("rejected    ", counted(nrow(x$rejected), "row"), ":"),
      text_table(utils::head(as.data.frame(x$rejected), most), width)
    )
  }
  c(lines, if (length(x$looks)) c("", paste0("look at     ", x$looks)))
}
