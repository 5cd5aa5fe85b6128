# From a lower frequency to a higher one.

#' @rdname series_condense
#' @export
series_refine <- function(x, to, rule = "last", known = "start", indicator = NULL) {
  to <- check_frequency(if (missing(to)) NULL else to)
  check_choice(rule, "rule", c("last", "linear", "spline", "even", "indicator"))
  check_choice(known, "known", c("start", "end"))
  table <- as_series(x)
  zone <- frame_facts(table)$zone
  x <- parts_of(table, zone)
  x$time <- as.numeric(x$period) * 86400
  check_direction(x, to, down = FALSE)
  if (rule == "indicator") indicator <- check_indicator(indicator, to)
  if (!nrow(x)) {
    return(series_frame(data.frame(series = character(), period = as.Date(character()),
      frequency = character(), value = numeric(), status = character(), rule = character())))
  }
  out <- do.call(rbind,
    lapply(unname(series_split(x$series)),
      function(rows) {
        derived_rows(x[rows, ],
        function(at) refine_one(x[rows[at], ], to, rule, known, indicator, zone))
      }))
  # a value that was deleted is told, so that it ends the one before it
  out <- out[!is.na(out$value) | out$status %in% "deleted", ]
  frame <- data.frame(series = out$series,
    period = epoch_days(out$time / 86400), frequency = rep(to, nrow(out)),
    value = out$value, unit = out$unit, status = out$status, rule = rep(rule, nrow(out)),
    known = utc(out$known), through = utc(out$through))
  derived_observations(table, frame, zone)
}

refine_one <- function(x, to, rule, known, indicator, zone) {
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
  rows <- seq_len(nrow(x))
  there <- carry_cpp(as.double(ifelse(is.na(x$value), NA, rows)), integer(), Inf, TRUE)
  # the row that each part is made from, and from which rows it is known: one, the one after it, or
  # all
  from <- looked <- owner
  if (rule == "last" && known == "start") {
    from <- carry_cpp(as.double(there[owner]), integer(), Inf, TRUE)
  } else if (rule == "last") {
    looked <- c(NA, rows)[findInterval(as.numeric(fine), as.numeric(last) + 1) + 1]
    from <- there[looked]
  }
  value <- switch(rule,
    last = x$value[from],
    linear = , spline = refine_between(x, last, fine, fine_last, rule),
    even = shares_of(x$value, owner, days),
    indicator = shares_of(x$value, owner, indicator$value[match(fine, indicator$period)])
  )
  times <- refine_times(x, from, looked, fine, fine_last, last, owner, rule, indicator)
  # nothing counts before the time that it speaks of is over
  end <- period_ends(fine, rep(to, length(fine)), zone)
  list(series = rep(x$series[1], length(fine)), time = as.numeric(fine) * 86400,
    value = as.double(value), unit = rep(x$unit[1], length(fine)),
    status = rep("filled", length(fine)), through = pmax(times$through, end),
    known = pmax(times$known, end))
}

# The latest `through` and `known` of what each part is made from.
refine_times <- function(x, from, looked, fine, fine_last, last, owner, rule, indicator) {
  latest <- switch(rule,
    spline = function(values, shares) rep(max(values), length(fine)),
    linear = {
      at <- (as.numeric(x$period) + as.numeric(last)) / 2
      good <- which(is.finite(x$value))
      place <- (as.numeric(fine) + as.numeric(fine_last)) / 2
      before <- good[pmax(1, findInterval(place, at[good]))]
      after <- good[pmin(length(good), findInterval(place, at[good], left.open = TRUE) + 1)]
      # a value that is missing between them was looked at too
      function(values, shares) range_latest(values, before, after)
    },
    last = function(values, shares) range_latest(values, from, pmax(from, looked, na.rm = TRUE)),
    indicator = function(values, shares) {
      of_period <- tapply(shares[match(fine, indicator$period)],
        factor(owner, seq_len(nrow(x))), max)
      pmax(values[from], as.numeric(of_period)[owner])
    },
    function(values, shares) values[from])
  list(through = latest(x$through, indicator$through), known = latest(x$known, indicator$known))
}

# The latest of the values from one place to another, for each pair of places.
range_latest <- function(values, first, last) {
  out <- values[last]
  out[is.na(out)] <- values[first][is.na(out)]
  wide <- which(last > first)
  out[wide] <- vapply(wide, function(i) max(values[first[i]:last[i]]), 0)
  out
}

refine_between <- function(x, last, fine, fine_last, rule) {
  good <- !is.na(x$value) & is.finite(x$value)
  at <- (as.numeric(x$period) + as.numeric(last))[good] / 2
  to <- (as.numeric(fine) + as.numeric(fine_last)) / 2
  if (sum(good) < if (rule == "spline") 3 else 2) {
    return(rep(NA_real_, length(to)))
  }
  value <- if (rule == "linear") stats::approx(at, x$value[good], to)$y
  else stats::spline(at, x$value[good], xout = to, method = "natural")$y
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
  if (is.null(indicator)) {
    vetusta_stop("want", "The rule indicator needs an indicator series.", todo = "give `indicator`")
  }
  indicator <- newest_rows(parts_of(indicator, frame_facts(as_series(indicator))$zone))
  if (length(unique(indicator$series)) != 1 || !all(indicator$frequency == to)) {
    vetusta_stop("want", paste0("The indicator must be one series of the frequency ", to, "."),
      todo = "choose one, or change its frequency first")
  }
  indicator
}
