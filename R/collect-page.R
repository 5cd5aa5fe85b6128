# One page: decoded, checked, and stored with its journal row and the place
# reached, in one transaction.

# The record of one answer. `rows` are tidy, `rejected` those that are rejected,
# `good` the others, `count` the number that the service counts, `following` the
# next page, `halt` an error where that cannot be requested. `full`: as many
# rows came as an answer can have. `probing`: the next page is requested only to
# see whether there is one. `announced`: the source stated that there is a next
# page. `beyond`: the source's count excludes one. `says` has the source's
# `total` and number of `pages`, whether the page is `repeated`, and what is
# `against` completeness. Collecting, exports and reparsing all make pages here.
# Times as seconds are used often and so stored once.
page_make <- function(rows, rejected = no_rejected_rows, count = NROW(rows),
                      items = count, notes = NULL, hash = NULL,
                      following = NULL, halt = NULL, full = FALSE,
                      probing = FALSE, announced = FALSE, beyond = FALSE,
                      says = list(), origin = NULL, ...) {
  times <- finite_seconds(rows$time)
  good <- rows
  if (nrow(rejected)) {
    good <- good_rows(rows, rejected)
    origin <- good_origin(origin, NROW(rows), rejected)
  }
  if (!is.null(origin)) origin$rows <- NROW(good)
  list(
    rows = rows,
    rejected = rejected,
    count = count,
    items = items,
    notes = notes,
    hash = hash,
    following = following,
    halt = halt,
    full = full,
    probing = probing,
    announced = announced,
    beyond = beyond,
    says = says,
    good = good,
    origin = origin,
    times = times,
    edges = if (length(times)) c(min(times), max(times)),
    ...
  )
}

no_rejected_rows <- data.frame(
  row = integer(), symbol = character(), time = numeric(), place = character(),
  reason = character(), detail = character()
)

# The place of the rows of a page that are stored.
good_origin <- function(origin, n, rejected) {
  if (!is.null(origin)) {
    origin$at <- (origin$at %||% seq_len(n))[-rejected$row]
  }
  origin
}

# The rows of a page that are stored.
good_rows <- function(rows, rejected) {
  if (nrow(rejected)) rows[-rejected$row, , drop = FALSE] else rows
}

collect_good <- function(run, queue, tally, chain, response) {
  where <- paste0(
    "source ", run$source$source, ", dataset ", run$query$dataset$name, ", ",
    chain$label, ", page ", chain$page
  )
  page <- tryCatch(
    query_page(run$query, chain, response, where, run$calendar, tally$largest),
    vetusta_error_payload = identity
  )
  if (inherits(page, "vetusta_error_payload")) {
    return(collect_spoilt(run, queue, tally, chain, response, page))
  }
  if (!is.null(page$actions)) page <- actions_applied(run, chain, page)
  # HTTP 202 without rows: the data is not ready yet
  if (identical(as.numeric(response$status), 202) && page$count == 0) {
    return(
      collect_again(
        run, queue, tally, chain, "HTTP 202: not ready yet", response
      )
    )
  }
  if (isTRUE(page$too_large)) {
    return(collect_smaller(run, queue, tally, chain, response))
  }
  if (page$count == 0 && is_unlikely_empty(chain, page)) {
    return(
      collect_again(
        run, queue, tally, chain,
        paste0(
          "page ", chain$page,
          " has no rows, and the source said that there are more"
        ),
        response[c("body", "status")]
      )
    )
  }
  chain$proof <- proof_add(chain$proof, page, chain$page)
  chain <- page_way(chain, page, run)
  # pages beyond the window are not requested, nor pages that can only be empty
  passed <- !is.null(page$following) &&
    (window_passed(chain, page, run) ||
      (page$probing && window_full(chain, page, run)))
  if (passed) page["following"] <- list(NULL)
  # rows beyond the window are not needed for completeness
  against <- if (passed) {
    chain$proof$against
  } else if (is.null(page$following)) {
    proof_against(chain$proof, chain$page)
  }
  page$against <- c(
    page$halt$what, against,
    if (is.null(page$following)) full_against(chain, page, run)
  )
  # where paging cannot go on and nothing contradicts, the rows so far count as
  # covered
  contradicts <- length(chain$proof$against) ||
    (is.null(page$halt) && length(against))
  page$cause <- if (contradicts) "open" else "failed"
  chain <- page_place(chain, page, run)
  last_wanted <- tally$pages + 1 >= run$most_pages
  if (!is.null(page$following)) {
    if (last_wanted) {
      queue$unfinished <- queue$unfinished + 1
    } else {
      ask_following(run, queue, tally, chain, page)
    }
  }
  tally <- tally_page(tally, collect_store(run, chain, response, page), page)
  tally <- collect_came(run, tally, chain, page)
  # rows are stored; the next page cannot be requested or does not fit
  if (length(page$against)) {
    tally <- collect_incomplete(run, tally, chain, page$against, page$halt$todo)
  }
  if (last_wanted) queue$stopped <- TRUE
  tally
}

# Records for which symbols rows came and for which none exist.
collect_came <- function(run, tally, chain, page) {
  came <- chain$symbols[chain$symbols %in% page$good[["symbol"]]]
  if (length(came)) tally_came(tally, came)
  if (isTRUE(chain$last)) {
    tally$empty <- c(
      tally$empty, unique(tally_without(tally, query_without(run$query, chain)))
    )
  }
  tally
}

# Requests the next page before this one is stored, so that both happen at once.
ask_following <- function(run, queue, tally, chain, page) {
  queue_back(queue, chain_following(chain, page))
  tally$pages <- tally$pages + 1
  if (run$ahead) collect_start(run, queue, tally, fresh = FALSE)
  if (run$line$active > 0L) line_run(run$line, 0)
}

chain_following <- function(chain, page) {
  chain$seen <- c(chain$seen, chain$request$url)
  chain$request$url <- page$following
  chain$hashes <- c(chain$hashes, page$hash)
  chain$longest <- max(chain$longest, page$count)
  chain$announced <- page$announced
  chain$beyond <- page$beyond
  chain$before <- chain$before + page$count
  chain$page <- chain$page + 1
  chain$attempt <- 1
  chain$rejected <- (chain$rejected %||% 0) + NROW(page$rows) - NROW(page$good)
  chain
}

# An unreadable body may be complete at the next attempt; after three attempts
# the request fails. After good pages, a body that is no answer at all is a
# transmission fault and is retried like other faults.
collect_spoilt <- function(run, queue, tally, chain, response, error) {
  # an error in the body that asks to retry is treated like HTTP 503
  if (isTRUE(error$again)) {
    return(
      collect_again(
        run, queue, tally, chain, redact(error$what, run$secrets()), response
      )
    )
  }
  # an error about the request itself would come again
  tries <- if (isTRUE(error$spoilt) && tally$pages > 0) 5 else 3
  if (chain$attempt < tries && !identical(error$again, FALSE)) {
    return(
      collect_again(
        run, queue, tally, chain, redact(error$what, run$secrets()),
        response[c("body", "status")]
      )
    )
  }
  tally <- tally_row(tally, "stumbled")
  if (tally$in_a_row$stumbled > 4) {
    stop_stumbling(
      run, tally, redact(error$what, run$secrets()), "payload", error$todo
    )
  }
  collect_failed(
    run, tally, chain, response, "payload",
    paste0(error$what, " (", error$where, ")"), error$todo
  )
}

# Stores everything of a page in one transaction.
collect_store <- function(run, chain, response, page) {
  good <- page$good
  entry <- journal_entry(
    run,
    chain,
    response,
    if (response$status >= 400) "end" else "stored",
    rows = NROW(good),
    message = if (length(c(page$notes, page$against))) {
      paste(c(page$notes, page$against), collapse = "; ")
    } else {
      NA
    }
  )
  ended <- is.null(page$following)
  last <- ended && !length(page$against)
  chain$rejected <- (chain$rejected %||% 0) + NROW(page$rows) - NROW(good)
  came <- run$sink$now()
  counts <- run$sink$put(
    list(
      rows = query_parcel(run$query, chain, page, good),
      journal = entry,
      now = came,
      again = chain$page == 1 &&
        is_kept(run$query) &&
        isTRUE(chain$from > as.numeric(run$query$from)),
      rejected = if (nrow(page$rejected) || length(page$notes)) {
        page_rejects(page, chain, run)
      },
      covered = query_covered(
        run$query,
        chain,
        good,
        whole = last && !isTRUE(page$full)
      ),
      listing = if (is.null(chain$from)) {
        list(
          planned = planned_key(chain$planned),
          page = chain$page,
          last = last && !isTRUE(page$full)
        )
      },
      notes = c(
        page_notes(chain, page),
        if (last && !isTRUE(page$full)) query_notes(run$query, chain),
        if (ended) {
          incomplete_notes(run, chain, page$against, chain$rejected, page$cause)
        }
      ),
      raw = if (run$sink$keep_raw && length(response$body)) {
        raw_page(run, chain, response$body, came)
      },
      claims = if (ended) run$sink$ending(chain$claim),
      origin = if (length(response$body)) {
        c(page$origin, list(hash = origin_hash(response$body)))
      } else if (!is.null(page$origin$hash)) {
        page$origin
      }
    ),
    page
  )
  c(
    counts,
    doubled = max(0, NROW(good) - sum(counts[c("new", "changed", "unchanged")]))
  )
}

# The place reached, where it is a URL: the next run continues there.
page_notes <- function(chain, page) {
  if (chain$windowed ||
    (is.null(page$following) && chain$page == 1 && !chain$resumed)) {
    return(NULL)
  }
  place <- if (!is.null(page$following)) {
    list(
      key = chain$key,
      from = chain$from,
      to = chain$to,
      following = page$following,
      page = chain$page + 1,
      before = chain$before + page$count,
      announced = page$announced,
      rejected = chain$rejected,
      came = chain$proof$came,
      total = chain$proof$total,
      pages = chain$proof$pages,
      against = paste(chain$proof$against, collapse = "; ")
    )
  }
  value <- if (!is.null(place)) record_texts(place[lengths(place) > 0])
  list(list(kind = "reached", key = chain$start, value = value))
}

# Rejected rows and other notes of the page.
page_rejects <- function(page, chain, run) {
  rejected <- page$rejected
  if (nrow(rejected)) rejected$detail <- redact(rejected$detail, run$secrets())
  if (!length(page$notes)) {
    return(rejected[-1])
  }
  n <- length(page$notes)
  rbind(
    rejected[-1],
    data.frame(
      symbol = rep(chain$label, n),
      time = rep(NA_real_, n),
      place = rep(paste("page", chain$page), n),
      reason = page$notes,
      detail = rep(NA_character_, n)
    )
  )
}

# The page as it came, without secrets, with the details of its request.
raw_page <- function(run, chain, body, came) {
  body <- redact_bytes(body, run$secrets())
  known <- chain$known
  known[c("from", "to")] <- lapply(known[c("from", "to")], function(x) {
    if (is.null(x)) NULL else as.numeric(x)
  })
  query <- run$query
  about <- list(
    shape = query$dataset$shape,
    symbols = I(as.character(chain$symbols)),
    interval = query$interval$iso,
    session = query$session,
    page = chain$page,
    came = format_exact(came),
    label = chain$label,
    known = known[lengths(known) > 0]
  )
  list(
    hash = content_hash(body),
    about = as.character(
      jsonlite::toJSON(about, auto_unbox = TRUE, digits = NA)
    ),
    body = body
  )
}

# A decoded body of a source without its own protocol as a page.
#' @export
query_page.default <- function(query, chain, response, where, calendar,
                               largest) {
  dataset <- query$dataset
  # HTTP 204, or 202 without a body: no rows and no statement about totals
  bare <- response$status == 204 ||
    (response$status == 202 && !length(response$body))
  decoded <- if (bare) {
    list(
      columns = empty_columns(dataset),
      rejected = no_wrong_values,
      rows = 0L
    )
  } else {
    decode_body(
      dataset, response$body, query$source, chain$known,
      dataset$reading$members, where
    )
  }
  tidy <- query_tidy(query, calendar, chain$symbols, decoded)
  edges <- if (identical(dataset$next_page$by, "time")) {
    time_edges(tidy$rows$time %||% tidy$rows$period)
  }
  reported <- c(
    page_said(dataset, decoded$members, response$headers),
    list(
      headers = response$headers,
      rows = decoded$items %||% decoded$rows,
      number = chain$page,
      before = chain$before,
      last = decoded$last,
      newest = edges[2],
      oldest = edges[1],
      largest = largest,
      longest = chain$longest
    )
  )
  hash <- page_hash(decoded)
  repeated <- length(hash) > 0 && hash %in% chain$hashes
  bounded <- !is.null(reported$total) || !is.null(reported$pages)
  beyond <- bounded && is_beyond(dataset, reported)
  # a service that repeats its pages has no more, unless it states otherwise;
  # three repetitions decide
  stuck <- repeated && identical(rep(hash, 2), rev(chain$hashes)[1:2])
  following <- if (!repeated || (bounded && !beyond && !stuck)) {
    next_value <- following_value(
      dataset, chain$request$url, reported, query$source$zone
    )
    following_page(
      query$source, chain, next_value, where,
      by = dataset$next_page$by
    )
  }
  full <- answer_is_full(dataset, reported)
  page_make(
    tidy$rows,
    tidy$rejected,
    count = reported$rows,
    hash = hash,
    notes = c(tidy$notes, if (repeated) "an earlier page was repeated"),
    following = following$url,
    halt = following$halt,
    full = full,
    # a page that is requested only to see whether there is one
    probing = !bounded &&
      is.null(reported$more) &&
      reported$rows < (dataset$largest_page %||% Inf),
    announced = is_announced(dataset, reported),
    beyond = beyond,
    origin = list(
      base = decoded$base %||% dataset$reading$base, at = decoded$at
    ),
    says = list(
      total = if (is.null(response$headers[["content-range"]])) {
        reported$total
      } else {
        page_total(reported, response)
      },
      pages = reported$pages,
      repeated = repeated,
      against = c(
        if (response$status == 206) {
          partial_against(response, following$url)
        },
        if (repeated && !bounded) {
          repeated_against(chain, hash, reported, dataset)
        },
        if (reported$rows == 0) empty_against(chain, reported, bare),
        if (length(tidy$others)) others_against(chain$symbols, tidy$others)
      )
    )
  )
}
