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
#' @return The table with the filled rows in their places (a value drawn from later ones has their `released`, so that [series_align()] does not use
#'   it before they were known), a column `rule` (`NA` for what was there), and the attribute `left`: a data frame of `series`, `first`, `last`, `missing` and
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
  if (!is.character(rule) || !length(rule)) check_choice(rule, "rule", c("last", "next", "linear", "spline", "monotone", "seasonal", "neighbour", "constant"))
  for (one in rule) check_choice(one, "rule", c("last", "next", "linear", "spline", "monotone", "seasonal", "neighbour", "constant"))
  if (!is.numeric(at_most) || length(at_most) != 1 || is.na(at_most) || at_most < 1) vetusta_stop("want", "`at_most` is a number of values, 1 or more.", todo = "correct at_most")
  if ("constant" %in% rule && (!is.numeric(constant) || length(constant) != 1)) vetusta_stop("want", "The rule constant needs one number.", todo = "give `constant`")
  if ("neighbour" %in% rule) neighbour <- check_neighbour(neighbour)
  kind <- series_kind(x)
  x <- switch(kind, bars = ordered_bars(x), observations = newest_rows(series_frame(x)), points = ordered_points(x))
  if (is.null(x[["status"]])) x$status <- rep("observed", nrow(x))
  plain <- gaps_input(x, kind)
  frame <- gaps_frame(plain, kind, calendar, interval, from, to, session)
  blocks <- fill_blocks(frame, calendar, across, session)
  series <- if (kind == "bars") fill_series_of_bars(x) else x$series
  how <- list(rule = rule, at_most = at_most, ends = ends, neighbour = neighbour, constant = constant, zone = frame$zone, intraday = frame$intraday)
  parts <- lapply(unname(series_split(series)), function(rows) fill_one(x[rows, ], kind, frame, blocks, how))
  filled <- as.data.frame(data.table::rbindlist(lapply(parts, `[[`, "rows"), use.names = TRUE, fill = TRUE))
  structure(as_rows(filled), left = do.call(rbind, c(list(no_left()), lapply(parts, `[[`, "left"))))
}

#' @rdname series_fill
#' @return `series_unfill()`: the table without its filled values, as it was before.
#' @export
series_unfill <- function(x) {
  series_kind(x)
  kept <- x[!(x$status %in% "filled"), setdiff(names(x), "rule")]
  # bars and plain values have a release only where filling gave them one
  if (series_kind(x) != "observations" && !is.null(kept[["released"]]) && all(is.na(kept$released))) kept$released <- NULL
  kept
}

ordered_points <- function(x) {
  order <- order_of(as.character(x$series), as.numeric(x$time))
  if (is.null(order)) {
    return(as_rows(x))
  }
  say_sorted_rows(x$series, x$time)
  as_rows(x[order, ])
}

no_left <- function() data.frame(series = character(), first = utc(numeric()), last = utc(numeric()), missing = integer(), reason = character())

fill_series_of_bars <- function(x) {
  sides <- text_groups(x$side)$levels
  if (length(sides) > 1) paste(x$symbol, x$side, sep = "\r") else x$symbol
}

check_neighbour <- function(neighbour) {
  if (is.null(neighbour)) vetusta_stop("want", "The rule neighbour needs another series.", todo = "give `neighbour`")
  points <- series_points(neighbour)
  points <- points[is.finite(points$value), ]
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

fill_one <- function(x, kind, frame, blocks, how) {
  time <- if (kind == "observations") as.numeric(x$period) * 86400 else as.numeric(x$time)
  value <- if (kind == "bars") x$close else x$value
  grid <- frame$expected
  at <- times_match_cpp(grid, time)
  on_grid <- c(NA, value)[at + 1L]
  runs <- hole_runs_cpp(on_grid, blocks)
  open <- is.na(on_grid)
  allowed <- open & runs$length <= how$at_most & (runs$inner | how$ends)
  new <- rep(NA_real_, length(grid))
  by <- rep(NA_character_, length(grid))
  for (rule in how$rule) {
    still <- allowed & is.na(new)
    if (!any(still)) break
    got <- fill_by(rule, on_grid, grid, blocks, how)
    take <- still & !is.na(got)
    new[take] <- got[take]
    by[take] <- rule
  }
  list(rows = fill_rows(x, kind, frame, at, new, by, fill_known(x, frame, at, on_grid, by)), left = fill_left(x, kind, frame, open & is.na(new), runs, how))
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

# The slopes of Fritsch and Carlson's monotone cubic: level at a turning point, and held back where the curve would overshoot.
monotone_slopes <- function(x, y) {
  secant <- diff(y) / diff(x)
  n <- length(secant)
  inner <- if (n > 1) ifelse(secant[-n] * secant[-1] <= 0, 0, (secant[-n] + secant[-1]) / 2)
  slope <- c(secant[1], inner, secant[n])
  for (k in seq_len(n)) {
    if (secant[k] == 0) {
      slope[k + 0:1] <- 0
      next
    }
    a <- slope[k] / secant[k]
    b <- slope[k + 1] / secant[k]
    # outside the region of their figure 1 in which the piece is monotone
    if (2 * a + b > 3 && a + 2 * b > 3 && a * (3 * a + 3 * b - 6) < (2 * a + b - 3)^2) slope[k + 0:1] <- slope[k + 0:1] * 3 / sqrt(a^2 + b^2)
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

# From when each filled value counts: what is drawn from later values is not known before these are. NA where its own time says it.
fill_known <- function(x, frame, at, on_grid, by) {
  if (!any(by %in% c("next", "linear", "spline", "monotone", "seasonal", "neighbour"))) {
    return(rep(NA_real_, length(by)))
  }
  known <- frame_ends(frame)
  told <- if (inherits(x[["released"]], "POSIXct")) as.numeric(x$released)[ifelse(at > 0, at, NA)] else rep(NA_real_, length(known))
  known[!is.na(told)] <- told[!is.na(told)]
  known[is.na(on_grid)] <- NA
  latest <- if (all(is.na(known))) NA_real_ else max(known, na.rm = TRUE)
  following <- carry_cpp(known, integer(), Inf, FALSE)
  ifelse(by %in% c("next", "linear"), ifelse(is.na(following), latest, following), ifelse(by %in% c("spline", "monotone", "seasonal", "neighbour"), latest, NA_real_))
}

# The rows as they were, those with a hole in them filled in place, and new ones for times that had none.
fill_rows <- function(x, kind, frame, at, new, by, known) {
  x$rule <- x[["rule"]] %||% rep(NA_character_, nrow(x))
  filled <- which(!is.na(new))
  if (is.null(x[["released"]]) && any(!is.na(known[filled]))) x$released <- utc(rep(NA_real_, nrow(x)))
  in_place <- filled[at[filled] > 0]
  if (length(in_place)) {
    rows <- at[in_place]
    if (kind == "bars") for (name in c("open", "high", "low", "close")) x[[name]][rows] <- new[in_place] else x$value[rows] <- new[in_place]
    x$status[rows] <- "filled"
    x$rule[rows] <- by[in_place]
    if (inherits(x[["released"]], "POSIXct")) x$released[rows[!is.na(known[in_place])]] <- utc(known[in_place][!is.na(known[in_place])])
  }
  added <- filled[at[filled] == 0]
  if (!length(added)) {
    return(x)
  }
  n <- length(added)
  fresh <- if (kind == "bars") {
    list(symbol = rep(x$symbol[1], n), time = utc(frame$expected[added]), open = new[added], high = new[added], low = new[added], close = new[added], volume = rep(0, n),
      session = rep(x$session[1], n), side = rep(x$side[1], n), status = rep("filled", n), rule = by[added])
  } else if (kind == "observations") {
    list(series = rep(x$series[1], n), period = frame_days(frame)[added], frequency = rep(x$frequency[1], n), value = new[added], unit = rep(x$unit[1], n),
      status = rep("filled", n), rule = by[added])
  } else {
    list(series = rep(x$series[1], n), time = utc(frame$expected[added]), value = new[added], status = rep("filled", n), rule = by[added])
  }
  if (inherits(x[["released"]], "POSIXct")) fresh$released <- utc(known[added])
  all <- as.data.frame(data.table::rbindlist(list(x, fresh), use.names = TRUE, fill = TRUE))
  all[order(as.numeric(if (kind == "observations") all$period else all$time), method = "radix"), ]
}

fill_left <- function(x, kind, frame, left, runs, how) {
  if (!any(left)) {
    return(no_left())
  }
  reason <- ifelse(!runs$inner & !how$ends, 2L, ifelse(runs$length > how$at_most, 1L, 3L))
  found <- missing_runs_cpp(!left, reason)
  data.frame(series = rep(as.character(if (kind == "bars") x$symbol[1] else x$series[1]), length(found$first)), first = utc(frame$expected[found$first]),
    last = utc(frame$expected[found$last]),
    missing = found$last - found$first + 1L, reason = c("too long", "at an end", "not enough values")[found$reason])
}
