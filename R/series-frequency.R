#' Change the frequency of single values
#'
#' `series_condense()` goes down to fewer values: each longer period has a mean, sum or other summary of its parts.
#' `series_refine()` goes up to more: each part of a period gets a share of, or a place on the way between, the period's values.
#'
#' @param x Observations, see [series_frame()]; a table with `series`, `time` and `value`, or bars, are taken by their days (UTC).
#' @param to The frequency wanted: `"A"`, `"S"`, `"T"`, `"Q"`, `"M"`, `"W"` or `"D"`; or in words (`"monthly"`).
#' @param rule For `series_condense()`: `"mean"`, `"sum"`, `"first"`, `"last"`, `"min"`, `"max"`, `"median"` of the values there are, or `"end"`, the value
#'   of the period's last part alone, which is missing where that part is. For `series_refine()`: `"last"` (the last known value is carried: a
#'   period's value stands from the period's first day, or with `known = "end"` from the day after its end), `"linear"` and `"spline"` (a
#'   natural cubic spline) through the values at the periods' middles, `"even"` (a total split evenly by days; the parts add up to the
#'   total), `"indicator"` (a total split in proportion to an indicator series; the parts add up).
#' @param need The share of a period's days that must be covered by values; a period with less has `NA`.
#' @param known For the rule `"last"`: `"start"` or `"end"`.
#' @param indicator For the rule `"indicator"`: observations of one series of the frequency `to`.
#' @return Observations of the frequency `to`. `series_condense()` adds `share`, the share of the period's days that have a value.
#'   Refined values have the status `filled` and the column `rule`; infinite values are kept by what uses them.
#' @details A week belongs to the longer period that holds its Thursday, as ISO 8601 counts weeks to years. Pro rata to an indicator is the distribution of
#'   Bloem, Dippelsman and Maehle, *Quarterly National Accounts Manual* (IMF, 2001), section 6.2: a total times the indicator's share in its period.
#' @section Errors: `vetusta_error_want` for an unknown frequency or rule, for one that is not lower (or not higher) than that of `x`, and for
#'   an indicator that is missing.
#' @export
#' @examples
#' days <- data.frame(series = "level", period = as.Date("2026-01-01") + 0:89, value = 1:90)
#' months <- series_condense(days, "M", "mean")
#' series_refine(months, "W", "linear")
series_condense <- function(x, to, rule = "mean", need = 0) {
  to <- check_frequency(to)
  check_choice(rule, "rule", c("mean", "sum", "first", "last", "min", "max", "median", "end"))
  if (!is.numeric(need) || length(need) != 1 || is.na(need) || need < 0 || need > 1) vetusta_stop("want", "`need` is a share of a period's days.", todo = "give a number from 0 to 1")
  x <- newest_rows(observations_of(x))
  check_direction(x, to, down = TRUE)
  place <- if (to == "W") x$period else ifelse(x$frequency == "W", as.numeric(x$period) + 3, as.numeric(x$period))
  bucket <- period_first(as.Date(place, origin = "1970-01-01"), to)
  days <- as.numeric(period_last(x$period, x$frequency) - x$period) + 1
  table <- data.table::data.table(series = x$series, period = bucket, at = x$period, value = x$value, days = days, end = period_last(x$period, x$frequency),
    unit = x$unit, provisional = x$status == "provisional")
  out <- table[, condensed(.SD, rule, to), by = c("series", "period")]
  out$value[out$share < need - 1e-9] <- NA
  frame <- data.frame(series = out$series, period = out$period, frequency = rep(to, nrow(out)), value = out$value, unit = out$unit,
    status = ifelse(is.na(out$value), "missing", ifelse(out$provisional, "provisional", "observed")), share = out$share)
  series_frame(frame)
}

condensed <- function(part, rule, to) {
  there <- !is.na(part$value)
  v <- part$value[there]
  bounds <- period_first(part$at[1] + if (part$days[1] == 7 && to != "W") 3 else 0, to)
  last <- period_last(bounds, to)
  whole <- as.numeric(last - bounds) + 1
  value <- if (rule == "end") {
    ends <- part$end >= last | (part$days == 7 & part$end + 4 > last)
    if (any(ends)) part$value[ends][1] else NA_real_
  } else if (!length(v)) NA_real_ else switch(rule,
    mean = stats::weighted.mean(v, part$days[there]), sum = sum(v), first = v[1], last = v[length(v)], min = min(v), max = max(v), median = stats::median(v))
  list(value = as.double(value), unit = part$unit[1], share = min(1, sum(part$days[there]) / whole), provisional = any(part$provisional, na.rm = TRUE))
}

#' @rdname series_condense
#' @export
series_refine <- function(x, to, rule = "last", known = "start", indicator = NULL) {
  to <- check_frequency(to)
  check_choice(rule, "rule", c("last", "linear", "spline", "even", "indicator"))
  check_choice(known, "known", c("start", "end"))
  x <- newest_rows(observations_of(x))
  check_direction(x, to, down = FALSE)
  if (rule == "indicator") indicator <- check_indicator(indicator, to)
  parts <- lapply(unname(series_split(x$series)), function(rows) refine_one(x[rows, ], to, rule, known, indicator))
  out <- series_frame(as.data.frame(data.table::rbindlist(parts)))
  out[!is.na(out$value), ]
}

refine_one <- function(x, to, rule, known, indicator) {
  last <- period_last(x$period, x$frequency)
  fine <- period_sequence(min(x$period), max(last), to)
  # a week is where its Thursday is
  middle <- if (to == "W") fine + 3 else fine
  keep <- middle >= min(x$period) & middle <= max(last)
  fine <- fine[keep]
  owner <- findInterval(as.numeric(middle[keep]), as.numeric(x$period))
  owner[owner > 0 & middle[keep] > last[pmax(1, owner)]] <- NA
  fine_last <- period_last(fine, to)
  days <- as.numeric(fine_last - fine) + 1
  value <- switch(rule,
    last = if (known == "start") carry_cpp(x$value[owner], integer(), Inf, TRUE) else {
      at <- findInterval(as.numeric(fine), as.numeric(last) + 1)
      c(NA, carry_cpp(x$value, integer(), Inf, TRUE))[at + 1]
    },
    linear = , spline = refine_between(x, last, fine, fine_last, rule),
    even = shares_of(x$value, owner, days),
    indicator = shares_of(x$value, owner, indicator$value[match(fine, indicator$period)])
  )
  # what is carried past the newest value is said to be so by its rule, as all of these are
  list(series = rep(x$series[1], length(fine)), period = fine, frequency = rep(to, length(fine)), value = as.double(value), unit = rep(x$unit[1], length(fine)),
    status = rep("filled", length(fine)), rule = rep(rule, length(fine)))
}

refine_between <- function(x, last, fine, fine_last, rule) {
  good <- !is.na(x$value) & is.finite(x$value)
  at <- (as.numeric(x$period) + as.numeric(last))[good] / 2
  to <- (as.numeric(fine) + as.numeric(fine_last)) / 2
  if (sum(good) < if (rule == "spline") 3 else 2) {
    return(rep(NA_real_, length(to)))
  }
  value <- if (rule == "linear") stats::approx(at, x$value[good], to)$y else stats::spline(at, x$value[good], xout = to, method = "natural")$y
  # nothing beyond the first and the last value
  ifelse(to < min(at) | to > max(at), NA_real_, value)
}

# A total split by weights; the last part takes what rounding leaves, so that the parts add up.
shares_of <- function(total, owner, weight) {
  whole <- tapply(weight, factor(owner, seq_along(total)), sum)
  value <- total[owner] * weight / as.numeric(whole)[owner]
  ifelse(is.finite(value), value, NA_real_)
}

check_indicator <- function(indicator, to) {
  if (is.null(indicator)) vetusta_stop("want", "The rule indicator needs an indicator series.", todo = "give `indicator`")
  indicator <- newest_rows(observations_of(indicator))
  if (length(unique(indicator$series)) != 1 || !all(indicator$frequency == to)) {
    vetusta_stop("want", paste0("The indicator must be one series of the frequency ", to, "."), todo = "choose one, or change its frequency first")
  }
  indicator
}

check_frequency <- function(to) {
  if (is.character(to) && length(to) == 1 && tolower(to) %in% frequency_words) to <- names(frequency_words)[frequency_words == tolower(to)]
  check_choice(to, "to", setdiff(names(frequency_words), "I"))
}

check_direction <- function(x, to, down) {
  rank <- c(D = 1, W = 2, M = 3, Q = 4, T = 5, S = 6, A = 7)
  wrong <- unique(x$frequency[if (down) rank[x$frequency] > rank[to] else rank[x$frequency] < rank[to]])
  if (length(wrong)) {
    vetusta_stop("want", paste0(frequency_words[wrong[1]], " values cannot be made ", frequency_words[to], " this way."),
      todo = if (down) "use series_refine() to go up" else "use series_condense() to go down")
  }
}

# Observations of anything: points and bars by their day.
observations_of <- function(x) {
  if (series_kind(x) == "observations") {
    return(series_frame(x))
  }
  points <- series_points(x)
  series_frame(data.frame(series = points$series, period = as.Date(utc(points$time), tz = "UTC"), frequency = rep("D", nrow(points)), value = points$value,
    status = points[["status"]] %||% ifelse(is.na(points$value), "missing", "observed")))
}

# Of several releases of one period the newest.
newest_rows <- function(x) x[!duplicated(paste(x$series, as.numeric(x$period), sep = "\r"), fromLast = TRUE), ]
