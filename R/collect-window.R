# The place of a page in its window: the direction of pages, the range that came
# with this page, and whether the window is complete.
#
# A page is one range of a series without gaps, if its rows are in order of
# time. The first page does not show whether rows exist before or after that
# range, because a series may begin or end anywhere in the window. The next page
# shows it, or the page rule does.

page_way <- function(chain, page, run) {
  time <- page$times
  if (is.null(chain$from) ||
    !length(time) ||
    identical(chain$direction, "unknown")) {
    return(chain)
  }
  if (is.unsorted(time) && !runs_one_way(time) && !runs_one_way(unique(time))) {
    chain$direction <- "unknown"
    return(chain)
  }
  ends <- page$edges
  way <- if (!is.null(chain$ends)) way_between(chain$ends, ends)
  if (is.na(chain$direction)) {
    chain$direction <- run$way %||% way %||% lone_way(ends, chain, run)
  }
  # pages that go back, or overlap without an order, are no range
  if (!is.null(way) && !identical(chain$direction, way)) {
    chain$direction <- "unknown"
  }
  chain$ends <- ends
  chain
}

runs_one_way <- function(time) !is.unsorted(time) || !is.unsorted(-time)

# The direction of pages by time, from the card.
stated_direction <- function(dataset) {
  rule <- dataset$next_page
  if (identical(rule$by, "time")) {
    if (identical(dataset$parameters[[rule$send]]$gives %||% rule$send, "to")) {
      "backward"
    } else {
      "forward"
    }
  }
}

# A first page beyond one side of which the calendar expects nothing in the
# window.
lone_way <- function(ends, chain, run) {
  idle <- function(from, to) idle_between(from, to, run)
  # a page outside the window says nothing about it
  if (ends[2] < chain$from || ends[1] >= chain$to) {
    NA_character_
  } else if (idle(chain$from, ends[1])) {
    "forward"
  } else if (idle(after_bar(ends[2], run), chain$to)) {
    "backward"
  } else {
    NA_character_
  }
}

idle_between <- function(from, to, run) {
  query <- run$query
  from >= to ||
    (!is.null(run$calendar) &&
      !is.null(query$interval) &&
      tryCatch(
        !length(
          calendar_times(
            run$calendar, query$interval, utc(from), utc(to),
            if (isTRUE(query$session != "all")) main_session(run$calendar)
          )
        ),
        vetusta_error = function(e) FALSE
      ))
}

way_between <- function(before, after) {
  if (after[1] >= before[1] && after[2] >= before[2]) {
    "forward"
  } else if (after[1] <= before[1] && after[2] <= before[2]) {
    "backward"
  } else {
    "unknown"
  }
}

# A service without a parameter for one end of the window goes on beyond it:
# later pages are not requested. Where pages may contain one series after
# another, only their end is the end.
window_passed <- function(chain, page, run) {
  time <- page$times
  if (is.null(chain$from) ||
    length(chain$symbols) > 1 ||
    !length(time) ||
    (!length(run$query$dataset$sides) && any(!is.na(page$rows$side)))) {
    return(FALSE)
  }
  edges <- if (is.null(run$way)) rev(page$edges) else page$edges
  switch(chain$direction %|na|% "unknown",
    forward = edges[2] >= chain$to,
    backward = edges[1] < chain$from,
    FALSE
  )
}

# Whether the calendar expects nothing more in the window: then a short page is
# the last without another request.
window_full <- function(chain, page, run) {
  time <- page$times
  if (is.null(run$query$interval) ||
    is.null(chain$from) ||
    is.null(run$calendar) ||
    length(chain$symbols) != 1 ||
    !length(time) ||
    any(!is.na(page$rows$side))) {
    return(FALSE)
  }
  before <- chain$direction %in% "forward" ||
    idle_between(chain$from, min(time), run)
  after <- chain$direction %in% "backward" ||
    idle_between(after_bar(max(time), run), chain$to, run)
  if (chain$direction %in% "backward") {
    idle_between(chain$from, min(time), run)
  } else {
    before && after
  }
}

# Whether bars of one length fill the window.
window_dense <- function(chain, page, run) {
  time <- page$times
  seconds <- run$query$interval$seconds %||% NA_real_
  if (is.na(seconds) ||
    length(chain$symbols) != 1 ||
    !length(time) ||
    any(!is.na(page$rows$side))) {
    return(FALSE)
  }
  length(unique(time)) >= (chain$to - chain$from) / seconds &&
    min(time) < chain$from + seconds &&
    max(time) + seconds >= chain$to
}

# The range that came with this page; the whole window with the last page.
page_place <- function(chain, page, run) {
  chain$newest <- max(
    chain$newest %||% -Inf, page$edges[2] + 1,
    if (!is.null(page$rows[["period"]])) {
      period_newest(page, run$query$source$zone)
    }
  )
  chain$cover <- NULL
  chain$last <- is.null(page$following) && !length(page$against)
  # after a contradicting page no range is known to be complete
  if (is.null(chain$from) || length(chain$proof$against)) {
    return(chain)
  }
  # a full page is the whole window where no further bar fits in
  if (chain$last &&
    (!isTRUE(page$full) ||
      window_full(chain, page, run) ||
      window_dense(chain, page, run))) {
    chain$cover <- c(chain$from, chain$to)
    return(chain)
  }
  time <- page$times
  if (!length(time) || identical(chain$direction, "unknown")) {
    return(chain)
  }
  # where the sides of an instant are separate rows, other sides may be on the
  # next page
  split <- !length(run$query$dataset$sides) && any(!is.na(page$rows$side))
  edges <- page$edges
  first <- if (run$short) edges[1] else before_bar(edges[1], run)
  first <- max(first, chain$from)
  last <- if (split) {
    edges[2]
  } else if (run$short) {
    # times within the day may be irregular
    edges[2] + 1
  } else {
    after_bar(edges[2], run)
  }
  last <- min(last, chain$to)
  chain$cover <- switch(chain$direction %|na|% "one",
    forward = c(chain$from, last),
    backward = c(
      if (split) max(edges[1], chain$from) + 0.001 else first, chain$to
    ),
    one = c(first, last)
  )
  if (chain$cover[2] <= chain$cover[1]) chain$cover <- NULL
  chain
}

# The end of a page's newest period, where periods are days.
period_newest <- function(page, zone) {
  period <- page$rows[["period"]]
  if (inherits(period, "Date") && any(!is.na(period))) {
    as.numeric(time_local(max(period, na.rm = TRUE) + 1, 0, zone))
  }
}

# The instants around a bar within which no other bar begins: at most a second
# for bars within the day, because their times may be irregular, and the whole
# day for longer bars.
before_bar <- function(time, run) {
  if (run$short) {
    time
  } else {
    as.numeric(
      local_instant(
        local_day(utc(time), run$query$source$zone), 0, run$query$source$zone
      )
    )
  }
}

after_bar <- function(time, run) {
  if (run$short) {
    time + 1
  } else {
    as.numeric(
      local_instant(
        local_day(utc(time), run$query$source$zone) + 1, 0,
        run$query$source$zone
      )
    )
  }
}

# The URL of the next page, and reasons not to request it.

# The next page: `url`, or nothing on the last page; `halt`, an error, where it
# cannot be requested although this page is good.
following_page <- function(source, chain, value, where, by = NULL) {
  if (is.null(value)) {
    return(NULL)
  }
  halt <- function(what, todo) {
    list(halt = vetusta_error("payload", what, where, todo))
  }
  url <- absolute_url(value, chain$request$url)
  if (is.na(url) || !grepl("^https?://", url, ignore.case = TRUE)) {
    return(
      halt(
        paste0("The next page's URL cannot be read: \"", value, "\"."),
        "look at next_page: in the card"
      )
    )
  }
  elsewhere <- function(...) {
    paste0("The next page's URL leads to another place, ", origin_of(url), ...)
  }
  same_source <- same_origin(url, source$url)
  if (!same_source && !may_follow(url, source$url, source$elsewhere)) {
    return(
      halt(
        elsewhere("."),
        paste(
          "it is not followed, because the key must not go there; where",
          "it is right,",
          "write elsewhere: follow in the card; the URL is then followed",
          "without the key"
        )
      )
    )
  }
  url <- without_parameter(url, source$access)
  if (!same_source && has_secret(url, source_secrets(source))) {
    return(
      halt(
        elsewhere(", with a secret in it."),
        paste0(
          "report it to the provider of the service: a key must not go to ",
          "another origin"
        )
      )
    )
  }
  # a last page may link to itself
  if (url == chain$request$url) {
    return(NULL)
  }
  if (url %in% chain$seen) {
    return(
      if (!identical(by, "time")) {
        halt(
          paste0(
            "The next page's URL was requested already: the pages go in ",
            "a circle."
          ),
          paste0(
            "report it to the provider of the service; the pages so far ",
            "are stored"
          )
        )
      }
    )
  }
  if (chain$page >= page_bound) {
    return(
      halt(
        paste0(
          "There are more than ", format(page_bound, big.mark = ","), " pages."
        ),
        "use a shorter window"
      )
    )
  }
  list(url = url)
}

page_bound <- 100000

# Removes a credential that the service repeats in its next URL; it is added
# again when the request is sent.
without_parameter <- function(url, access) {
  if (!identical(access$by, "query")) {
    return(url)
  }
  # its name may be percent-encoded too
  coded <- grepl("%", url, fixed = TRUE)
  if (coded || grepl(access$name, url, fixed = TRUE)) {
    pattern <- paste0("([?&])", percent_pattern(access$name), "=[^&#]*&?")
    url <- sub(pattern, "\\1", url, perl = TRUE)
  }
  sub("&$", "", sub("[?]$", "", url))
}
