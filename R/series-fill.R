#' Fill gaps
#'
#' Every filled value has the status `filled` and the name of its rule; observed
#' values never change. [series_unfill()] removes the filled values again.
#'
#' @param x A table of bars of one interval, observations of one frequency, or a
#'   table with `series`, `time` and `value`.
#' @param calendar The calendar of expected times, as in [series_gaps()].
#' @param rule One rule, or several that are tried in order: `"last"` (carry
#'   forward), `"next"` (carry back), `"linear"`, `"spline"` (natural cubic),
#'   `"monotone"` (the monotone cubic of Fritsch and Carlson, *SIAM Journal on
#'   Numerical Analysis* 17, 1980), `"seasonal"` (the mean of the values on the
#'   same day of other years, or, within the day, in the same slot of other
#'   weeks), `"neighbour"` (least-squares regression on another series),
#'   `"constant"`.
#' @param at_most The longest run to fill; longer runs stay open completely.
#' @param across Whether to fill across the edges of sessions; by default not
#'   within the day.
#' @param ends Whether to fill before the first and after the last value too, by
#'   the rules that can.
#' @param neighbour For the rule `"neighbour"`: a table of one series.
#' @param constant For the rule `"constant"`: the value.
#' @param interval,from,to,session As in [series_gaps()].
#' @return The table with the filled rows in place and a column `rule`, `NA` for
#'   observed rows (`fill_rule` if the table already has such a column). A
#'   filled value counts no earlier than its inputs and than the end of its
#'   period: `through` and `known` are the latest of theirs. If the table has
#'   several releases of a time, all stay, and filled rows have releases too. A
#'   row without a value that is filled has its earlier status in the column
#'   `was`. The attribute `left` is a data frame of `series`, `first`, `last`,
#'   `missing` and `reason` of the runs that stay open (`too long`, `at an end`,
#'   `not enough values`). A filled bar is flat, with `volume` 0.
#' @details Infinite values count as values, but no rule computes with them.
#'   With one value or none, the rules that need more leave the gaps open and
#'   say so.
#' @section Errors: `vetusta_error_argument` for an unknown rule, and for a
#'   missing neighbour or constant.
#' @export
#' @examples
#' days <- data.frame(
#'   series = "level", period = as.Date("2026-03-01") + c(0:4, 8:12), value =
#'     c(1:5, 9:13)
#' )
#' full <- series_fill(days, rule = c("linear", "last"), at_most = 5)
#' full[full$status == "filled", ]
#' series_unfill(full)
series_fill <- function(x, calendar = NULL, rule = "last", at_most = Inf,
                        across = NULL, ends = FALSE, neighbour = NULL,
                        constant = NULL, interval = NULL, from = NULL,
                        to = NULL, session = "regular") {
  asked <- lineage_asked()
  check_calendar(calendar)
  if (!is.null(across)) check_flag(across, "across")
  check_flag(ends, "ends")
  if (!is.character(rule) || !length(rule)) {
    check_choice(rule, "rule", fill_rules)
  }
  for (word in rule) check_choice(word, "rule", fill_rules)
  if (!is.numeric(at_most) ||
    length(at_most) != 1 ||
    is.na(at_most) ||
    at_most < 1) {
    vetusta_stop(
      "argument", "`at_most` must be a number of values, 1 or more.",
      todo = "correct at_most"
    )
  }
  if ("constant" %in% rule &&
    (!is.numeric(constant) || length(constant) != 1)) {
    vetusta_stop(
      "argument", "The rule constant needs a number.",
      todo = "give `constant`"
    )
  }
  if ("neighbour" %in% rule) neighbour <- check_neighbour(neighbour)
  x <- as_series(x)
  facts <- frame_facts(x, interval, calendar = calendar)
  calendar <- facts$calendar
  x <- as_series(series_ordered(x))
  if (is.null(x[["status"]])) x$status <- rep("observed", nrow(x))
  frame <- gaps_frame(x, fill_times(x), facts, from, to, session)
  say_outside_of(x, frame, calendar)
  how <- list(
    rule = rule,
    at_most = at_most,
    ends = ends,
    neighbour = neighbour,
    constant = constant,
    zone = frame$zone,
    intraday = frame$intraday,
    slot_ends = slot_ends(x, frame, facts),
    blocks = fill_blocks(frame, calendar, across, session),
    column = if (is_fill_rule(x)) "rule" else "fill_rule"
  )
  parts <- fill_input(x, frame, facts)
  fills <- lapply(parts, fill_one, frame = frame, how = how)
  filled <- structure(
    fill_rows(x, frame, how, parts, fills),
    left = fill_left(frame, how, parts, fills)
  )
  lineage_step(filled, "series_fill", asked)
}

# The series and times that have or had a value: gaps around deleted values were
# filled before.
fill_times <- function(x) {
  now <- gaps_input(x)
  if (!has_releases(x)) {
    return(now)
  }
  series <- series_names_of(x)
  time <- start_times(x)
  had <- which(!is.na(x[[value_column(x)]]))
  had <- had[!duplicated(data.table::data.table(series[had], time[had]))]
  now$series <- series[had]
  now$time <- time[had]
  now
}

fill_rules <- c(
  "last", "next", "linear", "spline", "monotone", "seasonal", "neighbour",
  "constant"
)

# Whether the column `rule` is free, or made by filling.
is_fill_rule <- function(x) {
  is.null(x[["rule"]]) ||
    all(
      is.na(x$rule) |
        (x$rule %in% fill_rules & x$status %in% c("filled", "deleted"))
    )
}

#' @rdname series_fill
#' @return `series_unfill()`: the table without its filled values, as before.
#' @export
series_unfill <- function(x) {
  asked <- lineage_asked()
  x <- as_series(x)
  if (is.null(x[["status"]])) {
    return(x)
  }
  rule <- if (!is.null(x[["fill_rule"]])) {
    "fill_rule"
  } else if (!is.null(x[["rule"]]) && is_fill_rule(x)) {
    "rule"
  }
  # a value filled in place is a row without a value again
  was <- x[["was"]] %||% rep(NA_character_, nrow(x))
  back <- which(x$status %in% "filled" & !is.na(was))
  if (length(back)) {
    x[[value_column(x)]][back] <- NA
    for (name in price_columns(x)) x[[name]][back[was[back] == "empty"]] <- NA
    x$status[back] <- ifelse(was[back] == "empty", "observed", was[back])
    for (name in c("through", "known")) {
      if (is.null(x[[name]])) next
      before <- x[[paste0(name, "_before")]]
      x[[name]][back] <- if (is.null(before)) NA else before[back]
    }
  }
  drop <- c(rule, "was", "through_before", "known_before")
  # the row that ends a filled value is removed with it
  ended <- if (is.null(rule)) {
    FALSE
  } else {
    x$status %in% "deleted" & !is.na(x[[rule]])
  }
  kept <- x[
    !(x$status %in% "filled" | ended), setdiff(names(x), drop),
    drop = FALSE
  ]
  attr(kept, "left") <- NULL
  # observed rows have instants of their own, or none
  for (name in c("through", if (is.null(kept[["period"]])) "known")) {
    if (all(is.na(kept[[name]]))) kept[[name]] <- NULL
  }
  lineage_step(kept, "series_unfill", asked)
}

ordered_points <- function(x) {
  x$time <- read_instants(x$time, "time")
  x$value <- check_numbers(x$value, "value")
  x$series <- as.character(x$series)
  for (name in intersect(c("through", "known"), names(x))) {
    x[[name]] <- read_instants(x[[name]], name, na = TRUE)
  }
  order <- order_of(x$series, as.numeric(x$time))
  if (!is.null(order)) {
    say_sorted_rows(x$series, x$time)
    x <- x[order, ]
  }
  with_facts(with_shape(as_rows(x), "vetusta_points"), facts_of(x))
}

# The end of the period of a value at an expected time.
slot_ends <- function(x, frame, facts) UseMethod("slot_ends")
#' @export
slot_ends.vetusta_observations <- function(x, frame, facts) {
  period_ends(frame_days(frame), frame$frequency, facts$zone)
}
#' @export
slot_ends.vetusta_bars <- function(x, frame, facts) {
  facts$interval <- frame$interval
  end_times(
    with_shape(list_frame(list(time = utc(frame$expected))), "vetusta_bars"),
    facts
  )
}
#' @export
slot_ends.vetusta_points <- function(x, frame, facts) {
  length <- facts_of(x)$interval
  # values without a stated end are instants
  if (is.null(x[["through"]]) || is.null(length)) {
    return(frame$expected)
  }
  as.numeric(shift_instant(utc(frame$expected), length, 1, facts$zone))
}

# A list a series: its rows, times, values and instants.
fill_input <- function(x, frame, facts) {
  name <- series_names_of(x)
  value <- x[[value_column(x)]]
  raw <- start_times(x)
  time <- frame$place(raw, name)
  facts$interval <- facts$interval %||% frame$interval
  times <- row_times(x, end_times(x, facts), facts)
  columns <- list(
    raw = raw,
    time = time,
    value = value,
    through = times$through,
    known = times$known,
    status = x$status,
    deleted = x$status %in% "deleted"
  )
  parts <- series_split(series_of_rows(x))
  lapply(parts, function(rows) {
    part <- if (length(parts) == 1) columns else lapply(columns, `[`, rows)
    c(list(rows = rows, series = name[rows[1]]), part)
  })
}

check_neighbour <- function(neighbour) {
  if (is.null(neighbour)) {
    vetusta_stop(
      "argument", "The rule neighbour needs another series.",
      todo = "give `neighbour`"
    )
  }
  points <- series_points(neighbour)
  points <- points[is.finite(points$value), ]
  points <- points[!duplicated(points[c("series", "time")], fromLast = TRUE), ]
  if (length(unique(points$series)) > 1) {
    vetusta_stop(
      "argument",
      "The neighbour must be a single series.",
      todo = paste0(
        "choose one of: ",
        paste(utils::head(unique(points$series), 8), collapse = ", ")
      )
    )
  }
  points
}

# The session of each expected time: no value is carried across sessions.
fill_blocks <- function(frame, calendar, across, session) {
  across <- across %||% !frame$intraday
  if (across || !frame$intraday || !length(frame$expected)) {
    return(integer())
  }
  calendar <- calendar %||%
    calendar_make(list(calendar = "every day", zone = frame$zone))
  sessions <- sessions_around(
    calendar, utc(min(frame$expected)), utc(max(frame$expected)), session
  )
  frames_find_cpp(
    frame$expected, as.numeric(sessions$open), as.numeric(sessions$close)
  )
}

# The filled values of one series: `at` (the row at each expected time, 0 for
# none), `new`, `by` (the rule), `through` and `known`. With several releases
# each is filled from what was known by then; `results` are the values with
# their releases.
fill_one <- function(part, frame, how) {
  # a value filled earlier is no release of the row beside it
  observed <- !part$status %in% "filled"
  time <- part$time[observed]
  n <- length(time)
  doubled <- n > 1 && any(time[-1] == time[-n])
  vintages <- doubled &&
    any(time[-1] == time[-n] & diff(part$known[observed]) != 0)
  if (!vintages) {
    return(fill_known_rows(part, which(!part$deleted), frame, how))
  }
  points <- list_frame(part[c("time", "known", "status", "value")])
  # a row without a value comes before filled ones, even without news
  points$empty <- ifelse(is.na(points$value), points$known, 0)
  local <- all(how$rule %in% c("last", "next", "linear", "constant")) &&
    !how$ends
  results <- if (local) {
    fill_releases(points, part, frame, how)
  } else {
    by_instant(
      points, function(rows, at) filled_of(part, rows, at, frame, how),
      c("value", "rule", "row"), c("value", "empty")
    )
  }
  last <- which(!duplicated(part$time, fromLast = TRUE) & !part$deleted)
  c(
    fill_known_rows(part, last, frame, how),
    list(results = fill_ended(results, part, how))
  )
}

# The values filled from given rows, as results of an instant.
filled_of <- function(part, rows, at, frame, how) {
  fill <- fill_known_rows(part, rows, frame, how)
  filled <- which(!is.na(fill$new))
  time <- frame$expected[filled]
  # the row at that time, with or without a value: a new one is filled anew
  came <- which(part$known <= at)
  newest <- came[!duplicated(part$time[came], fromLast = TRUE)]
  list(
    time = time,
    value = fill$new[filled],
    through = fill$through[filled],
    known = fill$known[filled],
    rule = fill$by[filled],
    row = newest[match(time, part$time[newest])]
  )
}

# A filled value that no longer holds ends with the row that replaces it;
# without one it becomes a row without a value.
fill_ended <- function(results, part, how) {
  results$rule[is.na(results$value)] <- how$rule[1]
  kept <- !part$deleted
  place <- match_pairs(
    results$time, results$known, part$time[kept], part$known[kept]
  )
  replaced <- results$gone %in% TRUE & !is.na(place)
  results[!replaced, , drop = FALSE]
}
