#' Fill what is missing, so that it shows
#'
#' Every filled value has the status `filled` and the name of its rule; observed values never change. [series_unfill()] takes the filled ones out again.
#'
#' @param x A table of bars of one interval, observations of one frequency, or a table with `series`, `time` and `value`.
#' @param calendar The calendar that says which times are expected, as for [series_gaps()].
#' @param rule One rule, or several that are tried in order: `"last"` (carry forward), `"next"` (carry back), `"linear"`, `"spline"` (natural cubic),
#'   `"monotone"` (the monotone cubic of Fritsch and Carlson, *SIAM Journal on Numerical Analysis* 17, 1980), `"seasonal"` (the mean of the other years' values of
#'   the same day of the year, or within the day of the other weeks' values of the same slot of the week), `"neighbour"` (least-squares regression on
#'   another series), `"constant"`.
#' @param at_most The longest run that is filled; a longer one is left whole.
#' @param across Whether values are carried or drawn from one session into another; by default not within the day.
#' @param ends Whether times before the first and after the last value are filled too, by the rules that can.
#' @param neighbour For the rule `"neighbour"`: a table of one series.
#' @param constant For the rule `"constant"`: the value.
#' @param interval,from,to,session As for [series_gaps()].
#' @return The table with the filled rows in their places and a column `rule`, `NA` for what was there (`fill_rule` where the table has a column of that name already).
#'   A filled value counts no earlier than those it is made from: it has the latest of their `released`, or of the ends of their times; of what has no release of its own
#'   `drawn_from` is that end, to which [series_align()] adds a lag. Where the table holds several releases of a time, all stay, and filled rows have releases too. A row that was there
#'   without a value and is filled in place has its earlier status in the column `was`. The table has the attribute `left`: a data frame of `series`, `first`, `last`, `missing` and
#'   `reason` of the runs that stay open (`too long`, `at an end`, `not enough values`). A filled bar is flat, with `volume` 0.
#' @details Infinite values count as values, but no rule computes with them. With one value, or none, the rules that need more leave the gaps open and say so.
#' @section Errors: `vetusta_error_want` for an unknown rule, and for a neighbour or constant that is needed and not given.
#' @export
#' @examples
#' days <- data.frame(series = "level", period = as.Date("2026-03-01") + c(0:4, 8:12), value = c(1:5, 9:13))
#' full <- series_fill(days, rule = c("linear", "last"), at_most = 5)
#' full[full$status == "filled", ]
#' series_unfill(full)
series_fill <- function(x, calendar = NULL, rule = "last", at_most = Inf, across = NULL, ends = FALSE, neighbour = NULL, constant = NULL,
                        interval = NULL, from = NULL, to = NULL, session = "regular") {
  check_calendar(calendar)
  if (!is.null(across)) check_flag(across, "across")
  check_flag(ends, "ends")
  if (!is.character(rule) || !length(rule)) check_choice(rule, "rule", fill_rules)
  for (one in rule) check_choice(one, "rule", fill_rules)
  if (!is.numeric(at_most) || length(at_most) != 1 || is.na(at_most) || at_most < 1) vetusta_stop("want", "`at_most` is a number of values, 1 or more.", todo = "correct at_most")
  if ("constant" %in% rule && (!is.numeric(constant) || length(constant) != 1)) vetusta_stop("want", "The rule constant needs one number.", todo = "give `constant`")
  if ("neighbour" %in% rule) neighbour <- check_neighbour(neighbour)
  kind <- series_kind(x)
  x <- plain_table(x)
  x <- switch(kind, bars = ordered_bars(x), observations = series_frame(x), points = ordered_points(x))
  if (is.null(x[["status"]])) x$status <- rep("observed", nrow(x))
  x <- as.list(x)
  plain <- gaps_input(list_frame(x), kind)
  frame <- gaps_frame(plain, kind, calendar, interval, from, to, session)
  if (!is.null(calendar) && kind != "observations") say_outside(sum(is.na(session_of(utc(frame$time), calendar))), length(frame$time))
  how <- list(rule = rule, at_most = at_most, ends = ends, neighbour = neighbour, constant = constant, zone = frame$zone, intraday = frame$intraday, kind = kind,
    slot_ends = if (kind == "points") frame$expected else frame_ends(frame), blocks = fill_blocks(frame, calendar, across, session), column = if (is_own_rule(x)) "rule" else "fill_rule")
  parts <- fill_input(x, kind, frame, calendar, plain)
  found <- lapply(parts, fill_one, frame = frame, how = how)
  structure(fill_rows(x, kind, frame, how, parts, found), left = fill_left(frame, how, parts, found))
}

fill_rules <- c("last", "next", "linear", "spline", "monotone", "seasonal", "neighbour", "constant")

# Whether the column `rule` is free, or of filling that was done before.
is_own_rule <- function(x) is.null(x[["rule"]]) || all(is.na(x$rule) | (x$rule %in% fill_rules & x$status %in% "filled"))

#' @rdname series_fill
#' @return `series_unfill()`: the table without its filled values, as it was before.
#' @export
series_unfill <- function(x) {
  kind <- series_kind(x)
  x <- plain_table(x)
  if (is.null(x[["status"]])) {
    return(x)
  }
  # what was filled in place is a row without a value again
  was <- x[["was"]] %||% rep(NA_character_, nrow(x))
  back <- which(x$status %in% "filled" & !is.na(was))
  if (length(back)) {
    x[[if (kind == "bars") "close" else "value"]][back] <- NA
    if (kind == "bars") for (name in c("open", "high", "low")) x[[name]][back[was[back] == "empty"]] <- NA
    x$status[back] <- ifelse(was[back] == "empty", "observed", was[back])
    if (!is.null(x[["released_before"]])) x$released[back] <- x$released_before[back]
  }
  drop <- c(if (!is.null(x[["fill_rule"]])) "fill_rule" else if (is_own_rule(x)) "rule", "was", "released_before", "drawn_from")
  kept <- x[!(x$status %in% "filled"), setdiff(names(x), drop), drop = FALSE]
  attr(kept, "left") <- NULL
  # bars and plain values have a release only where filling gave them one
  if (kind != "observations" && !is.null(kept[["released"]]) && all(is.na(kept$released))) kept$released <- NULL
  kept
}

ordered_points <- function(x) {
  x$time <- read_instants(x$time, "time")
  x$value <- check_numbers(x$value, "value")
  x$series <- as.character(x$series)
  if (!is.null(x[["released"]])) x$released <- read_released(x$released, nrow(x))
  order <- order_of(x$series, as.numeric(x$time))
  if (!is.null(order)) {
    say_sorted_rows(x$series, x$time)
    x <- x[order, ]
  }
  as_rows(x)
}

fill_series_of_bars <- function(x) {
  sides <- text_groups(x$side)$levels
  if (length(sides) > 1) paste(x$symbol, x$side, sep = "\r") else x$symbol
}

# A list a series: its rows, and their times, values and releases.
fill_input <- function(x, kind, frame, calendar, plain) {
  series <- if (kind == "bars") fill_series_of_bars(x) else x$series
  value <- if (kind == "bars") x$close else x$value
  raw <- if (kind == "observations") as.numeric(x$period) * 86400 else as.numeric(x$time)
  time <- frame$place(raw, if (kind == "bars") x$symbol else x$series)
  told <- if (is.null(x[["released"]])) rep(NA_real_, length(raw)) else as.numeric(x$released)
  end <- if (kind == "observations") (as.numeric(period_last(x$period, x$frequency)) + 1) * 86400
  else if (kind == "bars") without_notes(points_of_bars(list_frame(x)[setdiff(names(x), "released")], "close", frame$interval, NULL, frame$zone, calendar))$known
  else raw
  if (!is.null(x[["drawn_from"]])) end <- pmax(end, as.numeric(x$drawn_from), na.rm = TRUE)
  lapply(series_split(series), function(rows) {
    list(rows = rows, series = if (kind == "bars") x$symbol[rows[1]] else x$series[rows[1]], raw = raw[rows], time = time[rows], value = value[rows], told = told[rows], end = end[rows])
  })
}

check_neighbour <- function(neighbour) {
  if (is.null(neighbour)) vetusta_stop("want", "The rule neighbour needs another series.", todo = "give `neighbour`")
  points <- series_points(neighbour)
  points <- points[is.finite(points$value), ]
  points <- points[!duplicated(points[c("series", "time")], fromLast = TRUE), ]
  if (length(unique(points$series)) > 1) vetusta_stop("want", "The neighbour must be one series.", todo = paste0("choose one of: ",
    paste(utils::head(unique(points$series), 8), collapse = ", ")))
  points
}

# Which expected times lie in one session: nothing is carried over their edges.
fill_blocks <- function(frame, calendar, across, session) {
  across <- across %||% !frame$intraday
  if (across || !frame$intraday || !length(frame$expected)) {
    return(integer())
  }
  calendar <- calendar %||% calendar_make(list(calendar = "every day", zone = frame$zone))
  sessions <- sessions_around(calendar, utc(min(frame$expected)), utc(max(frame$expected)), session)
  frames_find_cpp(frame$expected, as.numeric(sessions$open), as.numeric(sessions$close))
}

# What is filled of one series: `at` (the row that stands at each expected time, 0 for none), `new`, `by` (the rule), and from when each counts (`told` by
# releases, `drawn` by the ends of periods). Of several releases each is filled from what was known by then; `results` are then the values filled, with their releases.
fill_one <- function(part, frame, how) {
  n <- length(part$time)
  doubled <- n > 1 && any(part$time[-1] == part$time[-n])
  vintages <- doubled && any(part$time[-1] == part$time[-n] & (part$told[-1] != part$told[-n] | is.na(part$told[-1]) != is.na(part$told[-n])) %in% TRUE)
  if (!vintages) {
    return(fill_known_rows(part, seq_len(n), frame, how))
  }
  known <- ifelse(is.na(part$told), part$end, part$told)
  last <- NULL
  results <- by_release(list_frame(list(time = part$time, known = known)), function(rows) {
    one <- fill_known_rows(part, rows, frame, how)
    last <<- one
    filled <- which(!is.na(one$new))
    list(time = frame$expected[filled], value = one$new[filled], known = pmax(one$told[filled], one$drawn[filled], rep(-Inf, length(filled)), na.rm = TRUE), rule = one$by[filled])
  })
  c(last, list(results = results))
}

fill_known_rows <- function(part, rows, frame, how) {
  grid <- frame$expected
  at <- times_match_cpp(grid, part$time[rows])
  at[at > 0] <- rows[at[at > 0]]
  on_grid <- c(NA, part$value)[at + 1L]
  runs <- hole_runs_cpp(on_grid, how$blocks)
  open <- is.na(on_grid)
  allowed <- open & runs$length <= how$at_most & (runs$inner | how$ends)
  new <- told <- drawn <- rep(NA_real_, length(grid))
  by <- rep(NA_character_, length(grid))
  if (any(allowed)) {
    sources <- list(told = c(NA, part$told)[at + 1L], end = c(NA, part$end)[at + 1L])
    for (rule in how$rule) {
      still <- allowed & is.na(new)
      if (!any(still)) break
      got <- fill_by(rule, on_grid, grid, how$blocks, how)
      take <- which(still & !is.na(got))
      if (!length(take)) next
      new[take] <- got[take]
      by[take] <- rule
      since <- fill_since(rule, on_grid, sources, how)
      # what was known before the time itself is over says nothing more
      late <- take[which(pmax(since$told, since$drawn, na.rm = TRUE)[take] > how$slot_ends[take])]
      told[late] <- pmax(since$told, since$drawn, na.rm = TRUE)[late]
      drawn[late] <- since$drawn[late]
    }
  }
  list(at = at, new = new, by = by, told = told, drawn = drawn, open = open & is.na(new), runs = runs)
}

# From when values that a rule draws count: the latest release of those it uses, and the latest end of those that have none.
fill_since <- function(rule, on_grid, sources, how) {
  n <- length(on_grid)
  good <- is.finite(on_grid)
  told <- ifelse(good, sources$told, NA)
  end <- ifelse(good & is.na(sources$told), sources$end, NA)
  most <- function(x) if (all(is.na(x))) NA_real_ else max(x, na.rm = TRUE)
  if (rule == "constant") {
    return(list(told = rep(NA_real_, n), drawn = rep(NA_real_, n)))
  }
  if (rule %in% c("last", "next", "linear")) {
    place <- ifelse(good, as.double(seq_len(n)), NA)
    before <- if (rule != "next") carry_cpp(place, how$blocks, Inf, TRUE) else rep(NA_real_, n)
    after <- if (rule != "last") carry_cpp(place, how$blocks, Inf, FALSE) else rep(NA_real_, n)
    return(list(told = pmax(told[before], told[after], na.rm = TRUE), drawn = pmax(end[before], end[after], na.rm = TRUE)))
  }
  neighbour <- if (rule == "neighbour") max(how$neighbour$known) else NA_real_
  list(told = rep(most(c(told, neighbour)), n), drawn = rep(most(end), n))
}

# A candidate for every hole, by one rule.
fill_by <- function(rule, value, grid, blocks, how) {
  finite <- ifelse(is.finite(value), value, NA_real_)
  switch(rule,
    last = carry_cpp(finite, blocks, Inf, TRUE),
    `next` = carry_cpp(finite, blocks, Inf, FALSE),
    linear = linear_cpp(finite, grid, blocks),
    spline = , monotone = fill_curve(rule, finite, grid, blocks),
    seasonal = fill_seasonal(finite, grid, how),
    neighbour = fill_neighbour(finite, grid, how$neighbour),
    constant = rep(how$constant, length(value))
  )
}

fill_curve <- function(rule, value, grid, blocks) {
  if (!length(blocks)) blocks <- rep(1L, length(value))
  out <- rep(NA_real_, length(value))
  for (rows in split(seq_along(value), blocks)) {
    good <- rows[!is.na(value[rows])]
    if (length(good) < if (rule == "spline") 3 else 2) next
    inside <- rows[rows >= good[1] & rows <= good[length(good)]]
    curve <- if (rule == "spline") stats::splinefun(grid[good], value[good], method = "natural") else stats::splinefunH(grid[good], value[good], monotone_slopes(grid[good], value[good]))
    out[inside] <- curve(grid[inside])
  }
  out
}

# The slopes of Fritsch and Carlson's monotone cubic: level at a turning point, and held within the circle of radius 3 about the origin of their figure 1,
# in which a piece is monotone.
monotone_slopes <- function(x, y) {
  secant <- diff(y) / diff(x)
  n <- length(secant)
  inner <- if (n > 1) ifelse(sign(secant[-n]) * sign(secant[-1]) <= 0, 0, secant[-n] / 2 + secant[-1] / 2)
  slope <- c(secant[1], inner, secant[n])
  for (k in seq_len(n)) {
    if (secant[k] == 0) {
      slope[k + 0:1] <- 0
      next
    }
    a <- slope[k] / secant[k]
    b <- slope[k + 1] / secant[k]
    if (a^2 + b^2 > 9) slope[k + 0:1] <- c(a, b) * secant[k] * 3 / sqrt(a^2 + b^2)
  }
  slope
}

# Of days: the other years' values of the same day of the year. Within the day: the other weeks' values of the same slot.
fill_seasonal <- function(value, grid, how) {
  local <- as.POSIXlt(utc(grid), tz = if (how$intraday) how$zone else "UTC")
  slot <- if (how$intraday) local$wday * 86400 + local$hour * 3600 + local$min * 60 + local$sec else local$mon * 100 + local$mday
  # the last day of February borrows from the 28th where no other leap year has it
  good <- !is.na(value)
  means <- tapply(value[good], slot[good], mean)
  out <- as.numeric(means[as.character(slot)])
  if (!how$intraday) {
    leap <- is.na(out) & slot == 129
    out[leap] <- as.numeric(means["128"])
  }
  out
}

fill_neighbour <- function(value, grid, points) {
  other <- c(NA, points$value)[times_match_cpp(grid, points$time) + 1L]
  both <- !is.na(value) & !is.na(other)
  if (sum(both) < 3 || stats::sd(other[both]) == 0) {
    return(rep(NA_real_, length(grid)))
  }
  slope <- stats::cov(value[both], other[both]) / stats::var(other[both])
  mean(value[both]) + slope * (other - mean(other[both]))
}

# The rows as they were, those with a hole in them filled in place, and new ones for times that had none.
fill_rows <- function(x, kind, frame, how, parts, found) {
  n <- length(x$status)
  column <- how$column
  if (is.null(x[[column]])) x[[column]] <- rep(NA_character_, n)
  value <- if (kind == "bars") "close" else "value"
  fresh <- Map(function(part, one, i) {
    new <- fill_fresh(part, one, frame)
    new$part <- rep(i, length(new$row))
    new
  }, parts, found, seq_along(parts))
  all <- data.table::rbindlist(unname(fresh))
  if (any(!is.na(all$told)) && is.null(x[["released"]])) x$released <- utc(rep(NA_real_, n))
  if (any(!is.na(all$drawn)) && is.null(x[["drawn_from"]])) x$drawn_from <- utc(rep(NA_real_, n))
  inside <- all[all$row > 0, ]
  if (nrow(inside)) {
    rows <- inside$row
    x$was <- x[["was"]] %||% rep(NA_character_, n)
    x$was[rows] <- x$status[rows]
    x[[value]][rows] <- inside$value
    if (kind == "bars") {
      # a bar that has nothing becomes flat; where it has something, that stays
      empty <- is.na(x$open[rows]) & is.na(x$high[rows]) & is.na(x$low[rows])
      x$was[rows[empty]] <- "empty"
      for (name in c("open", "high", "low")) x[[name]][rows[empty]] <- inside$value[empty]
    }
    x$status[rows] <- "filled"
    x[[column]][rows] <- inside$rule
    if (!is.null(x[["released"]])) {
      if (any(!is.na(x$released[rows]))) {
        x$released_before <- x[["released_before"]] %||% utc(rep(NA_real_, n))
        x$released_before[rows] <- x$released[rows]
      }
      x$released[rows] <- utc(pmax(inside$told, if (kind == "observations") as.numeric(x$released[rows]), na.rm = TRUE))
    }
    if (!is.null(x[["drawn_from"]])) x$drawn_from[rows] <- utc(inside$drawn)
  }
  added <- all[all$row == 0, ]
  if (!nrow(added)) {
    return(as_rows(x))
  }
  owner <- added$owner
  m <- nrow(added)
  fresh <- if (kind == "bars") {
    list(symbol = x$symbol[owner], time = utc(added$time), open = added$value, high = added$value, low = added$value, close = added$value, volume = rep(0, m), session = x$session[owner],
      side = x$side[owner])
  } else if (kind == "observations") {
    list(series = x$series[owner], period = as.Date(added$time / 86400, origin = "1970-01-01"), frequency = x$frequency[owner], value = added$value, unit = x$unit[owner])
  } else {
    list(series = x$series[owner], time = utc(added$time), value = added$value)
  }
  fresh$status <- rep("filled", m)
  fresh[[column]] <- added$rule
  if (!is.null(x[["released"]])) fresh$released <- utc(added$told)
  if (!is.null(x[["drawn_from"]])) fresh$drawn_from <- utc(added$drawn)
  whole <- as.data.frame(data.table::rbindlist(list(x, fresh), use.names = TRUE, fill = TRUE))
  series <- c(rep(seq_along(parts), lengths(lapply(parts, `[[`, "rows"))), added$part)
  own <- as.numeric(if (kind == "observations") whole$period else whole$time)
  release <- if (is.null(whole[["released"]])) rep(0, length(own)) else ifelse(is.na(whole$released), -Inf, as.numeric(whole$released))
  as_rows(whole[order(series, own, release, method = "radix"), ])
}

# The values filled of one series: their own times (as far from the expected ones as those of the values before them), the row they stand in or 0, and the row that they follow.
fill_fresh <- function(part, one, frame) {
  if (!is.null(one$results)) {
    k <- nrow(one$results)
    return(list(row = integer(k), time = one$results$time, value = one$results$value, rule = one$results$rule, told = one$results$known, drawn = rep(NA_real_, k),
      owner = rep(part$rows[1], k)))
  }
  filled <- which(!is.na(one$new))
  at <- one$at[filled]
  off <- part$raw - part$time
  away <- if (any(off != 0) && length(filled)) {
    there <- carry_cpp(ifelse(one$at > 0, as.double(one$at), NA), integer(), Inf, TRUE)
    ahead <- carry_cpp(ifelse(one$at > 0, as.double(one$at), NA), integer(), Inf, FALSE)
    off[ifelse(is.na(there), ahead, there)[filled]]
  } else 0
  list(row = ifelse(at > 0, part$rows[pmax(1, at)], 0L), time = frame$expected[filled] + away, value = one$new[filled], rule = one$by[filled], told = one$told[filled],
    drawn = one$drawn[filled], owner = rep(part$rows[1], length(filled)))
}

fill_left <- function(frame, how, parts, found) {
  rows <- Map(function(part, one) {
    if (!any(one$open)) {
      return(NULL)
    }
    reason <- ifelse(!one$runs$inner & !how$ends, 2L, ifelse(one$runs$length > how$at_most, 1L, 3L))
    run <- missing_runs_cpp(!one$open, reason)
    list(series = rep(part$series, length(run$first)), first = frame$expected[run$first], last = frame$expected[run$last], missing = run$last - run$first + 1L,
      reason = c("too long", "at an end", "not enough values")[run$reason])
  }, parts, found)
  rows <- Filter(Negate(is.null), unname(rows))
  all <- as.data.frame(data.table::rbindlist(c(list(data.frame(series = character(), first = numeric(), last = numeric(), missing = integer(), reason = character())), rows)))
  for (bound in c("first", "last")) all[[bound]] <- utc(all[[bound]])
  all
}
