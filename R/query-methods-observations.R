# Collecting observations: one message a request; a request that is too large is
# split.

#' @export
query_requests.vetusta_query_observations <- function(query, archive) {
  plan_observations(query, archive)
}

#' @export
query_chain.vetusta_query_observations <- function(query, planned,
                                                   noted = function(kind, key) {
                                                     NULL
                                                   }) {
  keys <- planned$keys[[1]]
  chain <- list(
    planned = planned,
    known = keys,
    symbols = character(),
    label = piece_label(keys),
    asked = now_seconds(),
    attempt = 1,
    page = 1,
    before = 0,
    not_before = 0,
    seen = character(),
    resumed = FALSE,
    direction = NA_character_,
    renewed = FALSE,
    windowed = TRUE,
    noted = noted,
    proof = proof_make(),
    formats = query$source$sdmx$formats %||%
      names(sdmx_formats[[query$source$sdmx$version]])
  )
  chain <- observation_request(query, chain)
  if (!chain$updates) {
    chain$proof$total <- if (isTRUE(keys$count > 0)) keys$count
  }
  chain
}

observation_request <- function(query, chain) {
  parameters <- c(
    list(startPeriod = chain$known$start, endPeriod = chain$known$end),
    query$parameters
  )
  url <- function(parameters) {
    sdmx_data_url(
      query$source, query$about$flow, chain$known$selection, parameters
    )
  }
  chain$start <- url(parameters)
  plain <- is.null(parameters$updatedAfter) &&
    is.null(parameters$includeHistory)
  before <- if (isTRUE(query$source$sdmx$updates) && plain) {
    chain$noted("refreshed", chain$start)
  }
  if (!is.null(before)) {
    parameters$updatedAfter <- format_instant(floor(before$at))
  }
  chain$updates <- !is.null(before)
  # every format but the first version of CSV can state deletions
  if (chain$updates && !sdmx_is_3(query$source)) {
    chain$formats <- c(
      setdiff(chain$formats, "csv"), intersect(chain$formats, "csv")
    )
  }
  headers <- list(Accept = accept_of(query$source, chain$formats))
  chain$request <- list(
    url = url(parameters), method = "GET", body = NULL, headers = headers
  )
  chain
}

accept_of <- function(source, formats) {
  source$sdmx$formats <- formats
  sdmx_accept(source)
}

#' @export
query_claim.vetusta_query_observations <- function(query, chain) {
  list(
    name = claim_name(query$source$source, query$dataset$name, chain$start),
    shows = FALSE
  )
}

#' @export
query_refused.vetusta_query_observations <- function(query, chain, response) {
  status <- response$status
  if (status %in% c(413, 414, 510) ||
    (status %in% c(400, 403, 500) &&
      grepl(large_words, body_excerpt(response$body), ignore.case = TRUE))) {
    return(observation_parts(query, chain, status))
  }
  if (status %in% c(406, 415) && length(chain$formats) > 1) {
    message <- paste("the service does not send", chain$formats[1])
    chain$formats <- chain$formats[-1]
    chain$request$headers$Accept <- accept_of(query$source, chain$formats)
    return(list(outcome = "retried", message = message, chains = list(chain)))
  }
  if (status == 404) {
    list(
      outcome = "empty",
      message = "no data for this selection",
      empty = TRUE,
      reported = if (!chain$updates) chain$label
    )
  }
}

# Words by which services report that a selection is too large.
large_words <- paste0(
  "too (large|long|many|big)|size limit|exceed|limit of [0-9]|",
  "(maximum|larger|more) (number|than)|narrow|reduce"
)

observation_parts <- function(query, chain, status = 413) {
  # a long URL becomes shorter with fewer codes, not with less time
  long <- status == 414 || nchar(chain$request$url) > url_long
  parts <- halve_planned(query, chain$known, long) %||%
    if (long) halve_planned(query, chain$known)
  message <- "too large for the service, requested again in two parts"
  if (is.null(parts)) {
    return(
      list(
        outcome = "cut", message = message,
        failed = "the service refuses even the smallest selection as too large",
        todo = "use fewer codes or a shorter window"
      )
    )
  }
  chains <- lapply(parts, function(part) {
    chain$known <- part
    chain$label <- piece_label(part)
    chain$attempt <- 1
    chain$proof <- proof_make()
    observation_request(query, chain)
  })
  list(
    outcome = "cut",
    message = message,
    chains = chains,
    notes = list(
      list(
        kind = "large",
        key = chain$start,
        value = if (long) "url" else "answer"
      )
    )
  )
}

# Many servers refuse longer URLs.
url_long <- 8000

#' @export
query_page.vetusta_query_observations <- function(query, chain, response,
                                                  where, calendar, largest) {
  dims <- query$about$dimensions
  dimensions <- dims$id[dims$role != "time"]
  message <- if (response$status != 204) {
    decode_sdmx(
      response$body, dimensions, where, query$about$measures %||% "OBS_VALUE"
    )
  }
  if (isTRUE(message$several)) {
    dimensions <- c(dimensions, measure_name(dimensions))
  }
  # a message with remarks only means that there is no data, or not yet
  if (!is.null(message) &&
    !length(message$obs$series) &&
    length(message$notes)) {
    stop_on_notes(message$notes, where)
  }
  tidy <- tidy_message(message, dimensions, query$about$attributes)
  page_make(
    tidy$rows,
    tidy$rejected,
    # a truncated message says so after its data
    too_large = any(grepl("\\((413|510)\\)$", message$notes)),
    notes = c(
      message$notes, tidy$notes, unknown_codes(tidy$series, query$about)
    ),
    series = if (NROW(tidy$series)) {
      tidy$series
    } else {
      list_frame(
        lapply(stats::setNames(nm = dimensions), function(name) character())
      )
    },
    dimensions = dimensions,
    frequency = tidy$frequency,
    actions = tidy$actions,
    empties = isTRUE(message$empties),
    origin = list(
      base = paste0(message_action(tidy$actions), "observation "),
      at = message$numbers
    )
  )
}

stop_on_notes <- function(notes, where) {
  if (!any(
    grepl(
      "\\((100|404)\\)$|no (results|data|records)", notes,
      ignore.case = TRUE
    )
  )) {
    vetusta_stop(
      "payload",
      paste0(
        "The service sends no data, and reports: ",
        paste(notes, collapse = "; ")
      ),
      where = where, todo = "run the command again later; it continues",
      again = FALSE
    )
  }
}

# The series of a message with dimensions and attributes, and their rows.
#' @export
query_parcel.vetusta_query_observations <- function(query, chain, page, good) {
  if (!nrow(good)) {
    return(NULL)
  }
  series <- page$series
  n <- nrow(series)
  words <- function(columns) {
    if (!length(columns)) {
      return(rep("{}", n))
    }
    record_texts(
      lapply(
        stats::setNames(nm = columns),
        function(name) as.character(series[[name]])
      )
    )
  }
  key <- do.call(
    paste,
    c(
      unname(
        lapply(series[page$dimensions], function(x) ifelse(is.na(x), "", x))
      ),
      sep = "."
    )
  )
  said <- tapply(
    good$known, factor(good$series, seq_len(n)),
    function(x) max(c(-Inf, x), na.rm = anyNA(x) && !all(is.na(x)))
  )
  said <- as.numeric(said)
  here <- seq_len(n) %in% good$series
  about <- data.frame(
    key = key,
    frequency = page$frequency,
    dimensions = words(page$dimensions),
    attributes = ifelse(
      here, words(setdiff(names(series), page$dimensions)), NA_character_
    ),
    attributes_known = ifelse(is.finite(said), said, NA_real_)
  )
  parcel_series(
    about,
    list(
      series = good$series,
      time = utc(good$period * 86400),
      known = good$known,
      value = good$value,
      status = good$status,
      words = good$words
    )
  )
}

#' @export
query_notes.vetusta_query_observations <- function(query, chain) {
  list(
    list(kind = "asked", key = chain$start, value = ""),
    list(kind = "refreshed", key = chain$start, value = "", at = chain$asked)
  )
}

#' @export
query_table.vetusta_query_observations <- function(query, page, rows) {
  rows <- rows[rows$status != "deleted", , drop = FALSE]
  key <- do.call(paste, c(unname(page$series[page$dimensions]), sep = "."))
  frame <- list(
    series = key[rows$series],
    period = epoch_days(floor(rows$period)),
    frequency = page$frequency[rows$series],
    value = rows$value,
    status = rows$status,
    known = utc(rows$known)
  )
  series <- lapply(page$series, `[`, rows$series)
  if (!any(within_day(frame$frequency))) {
    columns <- c(frame, free_names(series, c(names(frame), "unit")))
    return(without_notes(series_frame(list_frame(columns))))
  }
  frame$period <- utc(whole_micros(rows$period * 86400))
  names(frame)[2] <- "time"
  if (!all(frame$frequency %in% "I")) {
    ends <- observation_ends(
      frame$time, frame$frequency, query$source$zone %||% "UTC", rows$series
    )
    frame$through <- utc(ends)
  }
  as_rows(c(frame, free_names(series, names(frame))))
}

#' @export
query_round.vetusta_query_observations <- function(query) {
  asked <- c(
    query$selection, query$parameters,
    list(from = query$window$from$text, to = query$window$to$text)
  )
  key_text(asked[lengths(asked) > 0])
}

#' @export
query_again.vetusta_query_observations <- function(query, tally) NULL

#' @export
query_noun.vetusta_query_observations <- function(query) "values"

#' @export
query_plan_text.vetusta_query_observations <- function(query, plan) {
  requests <- plan$requests
  url <- vapply(
    seq_len(nrow(requests)),
    function(i) query_chain(query, requests[i, ])$request$url, ""
  )
  most <- query$source$sdmx$most_cells
  cut <- if (plan$pages > 1 && !is.null(most)) {
    paste0("; cut so that none has more than ", thousands(most))
  }
  window <- if (length(unlist(query$window))) {
    paste0(
      "  window    ", query$window$from$text %||% "the beginning", " to ",
      query$window$to$text %||% "the end"
    )
  }
  c(
    paste0(
      "plan: ", query$dataset$name, " from ", query$source$title, ": ",
      query$about$title
    ),
    window,
    paste0(
      "  key       ", sdmx_key(query$selection), "   (",
      paste(names(query$selection), collapse = "."), ")"
    ),
    if (nrow(requests)) {
      c(
        paste0(
          "  requests  ", thousands(plan$pages), ", about ",
          thousands(plan$rows), " values", cut
        ),
        plan_costs(plan)
      )
    } else {
      "  requests  none: the archive is complete for this window"
    },
    plan_open(plan),
    if (length(query$notes)) paste0("  note      ", query$notes), "",
    paste0("  ", utils::head(url, 8)),
    if (length(url) > 8) paste0("  and ", thousands(length(url) - 8), " more")
  )
}
