#' Collect page by page
#'
#' @param plan A plan, see [plan_requests()].
#' @return A function that fetches the next page at each call, within the
#'   source's limits, and returns its tidy rows (a data frame; rejected rows are
#'   in its attribute `rejected`), or `NULL` at the end. Nothing is stored.
#'   Failed requests are passed over; the function's attribute `failed` is a
#'   function that lists them.
#' @section Errors: Those of [collect_run()].
#' @export
#' @examples
#' \dontrun{
#' following <- collect_pages(plan_requests(query))
#' while (!is.null(page <- following())) print(nrow(page))
#' }
collect_pages <- function(plan) {
  check_plan(plan)
  query <- plan$query
  sink <- memory_sink(query)
  # one request at a time: the next is sent when this page was taken
  run <- run_make(query, sink, most_wait = Inf, at_once = 1L, ahead = FALSE)
  queue <- queue_make(plan$requests)
  tally <- tally_make()
  following <- function() {
    while (!sink$waiting() && (queue_left(queue) || run$line$active > 0L)) {
      pause <- if (run$line$active == 0L) {
        collect_start(run, queue, tally)
      } else {
        1
      }
      line_run(run$line, pause)
      while (!is.null(event <- queue_event_next(queue))) {
        tally <<- collect_safely(run, queue, tally, event)
      }
    }
    if (!sink$waiting()) {
      line_close(run$line)
      return(NULL)
    }
    page <- sink$take()
    rows <- query_table(query, page, page$good)
    attr(rows, "rejected") <- page$rejected
    rows
  }
  attr(following, "failed") <- function() tally$failed
  following
}

#' Parse raw pages again
#'
#' Decodes the raw pages of `collect_run(raw = TRUE)` again, with a corrected
#' card and without any request.
#'
#' @param source The source with the corrected card.
#' @param dataset The dataset's name.
#' @param archive The archive with the raw pages.
#' @return Invisibly a `vetusta_run`, as in [collect_run()]; `pages` are those
#'   parsed again.
#' @section Errors: `vetusta_error_argument` if no raw page of the dataset is
#'   stored.
#' @export
#' @examples
#' \dontrun{
#' collect_reparse(source_card("sources/quay.yml"), "bars", archive)
#' }
collect_reparse <- function(source, dataset, archive) {
  check_source(source)
  check_text(dataset, "dataset")
  check_archive(archive)
  kept <- store_raw(archive, source$source, dataset)
  if (!nrow(kept) || is.null(source$datasets[[dataset]])) {
    vetusta_stop(
      "argument",
      paste0(
        "The archive keeps no raw page of the dataset ", dataset, " of ",
        source$source, "."
      ),
      where = archive$path, todo = "collect with --raw first"
    )
  }
  invisible(reparse_kept(source, dataset, archive, kept))
}

# Reads kept pages again; `kept` are their rows in the archive.
reparse_kept <- function(source, dataset, archive, kept) {
  tally <- tally_make()
  for (i in seq_len(nrow(kept))) {
    about <- jsonlite::fromJSON(kept$about[i])
    query <- reparse_query(source, source$datasets[[dataset]], about)
    run <- run_make(query, archive_sink(archive, query))
    body <- store_raw_body(archive, kept$journal[i])
    if (content_hash(body) != kept$hash[i]) {
      tally <- tally_failed(
        tally, dataset, paste0("raw page ", kept$journal[i], " is damaged"),
        "collect it again", "damaged"
      )
    } else {
      about$journal <- kept$journal[i]
      tally <- reparse_page(
        run, tally, about, body, paste0("raw page ", kept$journal[i])
      )
    }
  }
  run$sink$settle()
  collect_result(run, queue_make(NULL), tally)
}

reparse_query <- function(source, dataset, about) {
  kind <- if (gives_bars(dataset)) "bars" else "rows"
  new_query(
    kind,
    source = source,
    dataset = dataset,
    symbols = about$symbols,
    session = about$session,
    notes = character(),
    interval = if (length(about$interval)) time_interval(about$interval)
  )
}

reparse_page <- function(run, tally, about, body, label) {
  chain <- list(
    known = about$known,
    symbols = about$symbols,
    label = label,
    page = about$page %||% 1,
    start = label,
    came = as.numeric(about$came)
  )
  decode <- function() {
    decode_body(run$query$dataset, body, run$source, chain$known, where = label)
  }
  decoded <- tryCatch(decode(), vetusta_error_payload = identity)
  if (inherits(decoded, "vetusta_error_payload")) {
    return(tally_failed(tally, label, decoded$what, decoded$todo, "payload"))
  }
  decoded$came <- as.numeric(about$came)
  tidy <- query_tidy(run$query, run$calendar, chain$symbols, decoded)
  page <- page_make(
    tidy$rows, tidy$rejected,
    origin = list(
      base = decoded$base %||% run$query$dataset$reading$base,
      at = decoded$at, hash = origin_hash(body)
    )
  )
  # rows are known from the arrival of their page
  counts <- run$sink$ended(
    list(
      rows = query_parcel(run$query, chain, page, page$good),
      rejected = page_rejects(page, chain, run),
      now = as.numeric(about$came),
      as_came = TRUE,
      origin = page$origin,
      reread = about$journal
    )
  )
  tally <- tally_page(tally, counts, page)
  against <- page_against(page, chain$page)
  if (length(against)) {
    tally <- tally_failed(
      tally, label, paste(against, collapse = "; "),
      "correct the card, and read the pages again", "incomplete"
    )
  }
  tally
}
