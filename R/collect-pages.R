#' Take pages one by one
#'
#' @param plan A plan, see [plan_calls()].
#' @return A function that, each time it is called, fetches the next page within the source's limits and returns its tidy rows (a
#'   data frame; rows with a fault are left out and stand in its attribute `aside`), or `NULL` when there are no more. Nothing is
#'   stored. A call that fails for good is passed over; the function's attribute `failed` is a function that lists those.
#' @section Errors: as of [collect_run()].
#' @export
#' @examples
#' \dontrun{
#' following <- collect_pages(plan_calls(want))
#' while (!is.null(page <- following())) print(nrow(page))
#' }
collect_pages <- function(plan) {
  if (missing(plan) || !inherits(plan, "vetusta_plan")) vetusta_stop("want", "What is collected is a plan.", todo = "make one with plan_calls()")
  source <- plan$want$source
  for (name in access_secrets(source$access)) source_secret(source, name)
  state <- collect_state(plan, archive = NULL)
  state$one_by_one <- TRUE
  state$most_wait <- Inf
  state$out <- list()
  state$store <- function(state, chain, response, page) state$out[[length(state$out) + 1]] <- page
  following <- function() {
    while (!length(state$out) && (calls_left(state) || state$line$active > 0L)) {
      # one call at a time: the next is sent when this one's page was taken
      if (state$line$active == 0L) pause <- collect_start(state, most = 1L) else pause <- 1
      line_run(state$line, pause)
      while (length(state$finished)) {
        event <- state$finished[[1]]
        state$finished <- state$finished[-1]
        collect_event(state, event)
      }
    }
    if (!length(state$out)) {
      line_close(state$line)
      return(NULL)
    }
    page <- state$out[[1]]
    state$out <- state$out[-1]
    rows <- if (nrow(page$faults)) page$rows[-page$faults$row, , drop = FALSE] else page$rows
    rows <- if (!is.null(page$series)) page_observations(page, rows) else if (plan$want$shape == "bars") without_notes(bars_frame(rows)) else as_rows(rows)
    attr(rows, "aside") <- page$faults
    rows
  }
  attr(following, "failed") <- function() state$failed
  following
}

#' Read raw pages again
#'
#' Decodes the raw pages that `collect_run(raw = TRUE)` kept with a card that was corrected since. No call is made.
#'
#' @param source The source with the corrected card.
#' @param offer The offer's name.
#' @param archive The archive that holds the raw pages.
#' @return Invisibly a `vetusta_run`, as of [collect_run()]; `pages` are those read again.
#' @section Errors: `vetusta_error_want` when no raw page of that offer is kept.
#' @export
#' @examples
#' \dontrun{
#' collect_reread(source_card("sources/quay.yml"), "bars", archive)
#' }
collect_reread <- function(source, offer, archive) {
  check_source(source)
  check_text(offer, "offer")
  check_archive(archive)
  kept <- archive_get(archive, "SELECT journal, about, hash FROM raw WHERE source = ? AND offer = ? ORDER BY journal", list(source$source, offer))
  if (!nrow(kept) || is.null(source$offers[[offer]])) {
    vetusta_stop("want", paste0("The archive keeps no raw page of the offer ", offer, " of ", source$source, "."), where = archive$path, todo = "collect with raw pages kept first")
  }
  state <- NULL
  for (i in seq_len(nrow(kept))) {
    about <- jsonlite::fromJSON(kept$about[i])
    want <- reread_want(source, source$offers[[offer]], about)
    if (is.null(state)) state <- collect_state(list(want = want, calls = data.frame()), archive)
    state$want <- want
    body <- memDecompress(archive_get(archive, "SELECT body FROM raw WHERE journal = ?", list(kept$journal[i]))$body[[1]], "gzip")
    if (content_hash(body) != kept$hash[i]) {
      state$failed <- rbind(state$failed, data.frame(symbol = offer, what = paste0("raw page ", kept$journal[i], " is damaged"), todo = "collect it again", outcome = "damaged"))
      next
    }
    reread_page(state, about, body, kept$journal[i])
  }
  for (series in state$touched) archive_settle(archive, series)
  invisible(collect_result(state))
}

reread_want <- function(source, offer, about) {
  list(source = source, offer = offer, shape = offer$shape, symbols = about$symbols, interval = if (length(about$interval)) time_interval(about$interval),
    session = about$session, notes = character())
}

reread_page <- function(state, about, body, journal) {
  label <- paste0("raw page ", journal)
  chain <- list(known = about$known, symbols = about$symbols, label = label, page = 1, before = 0)
  decoded <- tryCatch(decode_body(state$want$offer, body, state$want$source, chain$known, where = label), vetusta_error_payload = identity)
  if (inherits(decoded, "vetusta_error_payload")) {
    state$failed <- rbind(state$failed, data.frame(symbol = label, what = decoded$what, todo = decoded$todo, outcome = "payload"))
    return(invisible())
  }
  tidy <- tidy_page(state$want, state$calendar, chain$symbols, decoded)
  rows <- tidy$rows
  faults <- tidy$faults
  good <- if (nrow(faults)) rows[-faults$row, , drop = FALSE] else rows
  in_transaction(state$archive, function() {
    if (state$want$shape == "bars") store_bars(state, chain, good, journal) else store_records(state, good, journal)
    archive_put_findings(state$archive, faults, journal)
  })
  state$pages <- state$pages + 1
  state$aside <- state$aside + length(unique(faults$row))
}

page_observations <- function(page, rows) {
  rows <- rows[rows$status != "deleted", , drop = FALSE]
  key <- do.call(paste, c(unname(page$series[page$dimensions]), sep = "."))
  frame <- list(series = key[rows$series], period = as.Date(floor(rows$period), origin = "1970-01-01"), frequency = page$frequency[rows$series],
    value = rows$value, status = rows$status, released = utc(rows$released))
  series <- lapply(page$series, `[`, rows$series)
  if (!any(frame$frequency %in% "I")) {
    return(without_notes(series_frame(list_frame(c(frame, free_names(series, c(names(frame), "unit")))))))
  }
  frame$period <- utc(whole_micros(rows$period * 86400))
  names(frame)[2] <- "time"
  as_rows(c(frame, free_names(series, names(frame))))
}
