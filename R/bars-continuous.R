# Expiring contracts joined into one continuous series.

#' Continuous series from contracts
#'
#' On each trading day one contract counts. It is chosen by what was known
#' before that day began, never by its own volume of the day.
#'
#' @param bars A table of bars of contracts, see [bars_frame()], each with its
#'   own symbol.
#' @param contracts A data frame with a row per contract: `symbol`, `last_day`
#'   (`Date`, its last trading day), and `underlying` if there are several;
#'   `first_day` is optional.
#' @param roll When the next contract takes over: `"expiry"`, `roll_days` before
#'   the end; `"volume"` or `"open-interest"`, on the day after the next
#'   contract had more of it (at the latest at the last day); `"day"`, on day
#'   `roll_days` of the month in which the contract ends.
#' @param roll_days For `"expiry"`, the number of trading days before its last
#'   day on which a contract counts last (0: until its end). For `"day"`, the
#'   day of the month.
#' @param nth The contract: 1 for the one that ends next, 2 for the following
#'   one.
#' @param adjust How the step between two contracts is removed: `"none"`,
#'   `"difference"` (added), or `"ratio"` (multiplied), measured at the last
#'   closes that both contracts have before the day of the roll.
#' @param anchor `"last"`: the newest prices are as traded; `"first"`: the
#'   oldest are.
#' @param calendar A calendar with the trading days, see [calendar_make()];
#'   `NULL` for weekdays.
#' @param zone The IANA zone of the contracts' last days; by default that of the
#'   bars, or of the calendar.
#' @return Bars of the symbol `underlying` (without that column,
#'   `"continuous"`), with `contract`, `rolled` (whether a bar is the first of
#'   its contract), `factor` and `offset` (price = traded price x factor +
#'   offset), and `through` and `known` (`POSIXct`, UTC): no earlier than those
#'   of the bars that decided on the contract, and, for adjusted prices, of the
#'   bars that measured the step. The attribute `rolls` has a row per roll:
#'   `day`, `from`, `to`, `measured` (the day of the measurement, `NA` without a
#'   common day), `difference`, `ratio`.
#' @section Errors: `vetusta_error_shape` for contracts without a column;
#'   `vetusta_error_argument` for bars of unknown contracts, a roll by volume
#'   without volume, or a ratio of prices at or below zero.
#' @export
#' @examples
#' at <- as.POSIXct("2026-01-05", tz = "UTC") + 86400 * 0:3
#' bars <- data.frame(
#'   symbol = rep(c("GRN-2601", "GRN-2602"), each = 4), time = rep(at, 2),
#'   close = c(200, 201, 202, 203, 205, 206, 207, 208)
#' )
#' ends <- data.frame(symbol = c("GRN-2601", "GRN-2602"), last_day = as.Date(c(
#'   "2026-01-06",
#'   "2026-02-10"
#' )))
#' bars_continuous(bars, ends, adjust = "difference")
bars_continuous <- function(bars, contracts, roll = "expiry", roll_days = 0,
                            nth = 1, adjust = "none", anchor = "last",
                            calendar = NULL, zone = NULL) {
  asked <- lineage_asked()
  bars <- bars_frame(given(bars, "bars"))
  check_choice(roll, "roll", c("expiry", "volume", "open-interest", "day"))
  check_choice(adjust, "adjust", c("none", "difference", "ratio"))
  check_choice(anchor, "anchor", c("last", "first"))
  roll_days <- check_count(
    roll_days,
    "roll_days",
    least = if (roll == "day") 1 else 0
  )
  nth <- check_count(nth, "nth")
  check_finite(roll_days, "roll_days")
  check_finite(nth, "nth")
  check_calendar(calendar)
  facts <- frame_facts(bars, zone = zone, calendar = calendar)
  zone <- facts$zone
  check_zone(zone)
  contracts <- contracts_frame(given(contracts, "contracts"), zone)
  known <- bars$symbol %in% contracts$symbol
  if (!any(known)) {
    vetusta_stop(
      "argument",
      "None of the bars belongs to a listed contract.",
      where = paste0(
        "bars of ", paste(utils::head(unique(bars$symbol), 3), collapse = ", ")
      ),
      todo = paste0(
        "give bars of ",
        paste(utils::head(contracts$symbol, 3), collapse = ", ")
      )
    )
  }
  bars <- bars[known, ]
  times <- row_times(bars, end_times(bars, facts), facts)
  bars$through <- utc(times$through)
  bars$known <- utc(times$known)
  day <- as.numeric(local_day(bars$time, zone))
  groups <- split(
    seq_len(nrow(bars)),
    contracts$underlying[match(bars$symbol, contracts$symbol)]
  )
  parts <- lapply(names(groups), function(name) {
    rows <- groups[[name]]
    listed <- contracts[
      contracts$underlying == name & contracts$symbol %in% bars$symbol[rows],
    ]
    continue_one(
      bars[rows, ], day[rows], listed, name,
      list(
        roll = roll, days = roll_days, nth = nth, adjust = adjust,
        anchor = anchor, calendar = facts$calendar, zone = zone
      )
    )
  })
  done <- bars_frame(
    data.table::rbindlist(lapply(parts, `[[`, "bars"), use.names = TRUE)
  )
  done <- with_facts(
    done,
    facts_of(bars)[
      c("interval", "zone", "calendar", "unit", "source", "licence")
    ]
  )
  done <- with_times(done, as.numeric(done$through), as.numeric(done$known))
  attr(
    done, "rolls"
  ) <- as_rows(as.list(do.call(rbind, lapply(parts, `[[`, "rolls"))))
  lineage_step(done, "bars_continuous", asked)
}

continue_one <- function(bars, day, contracts, name, rule) {
  contracts <- contracts[order(contracts$last_day, contracts$symbol), ]
  days <- sort(unique(day))
  which <- continue_which(bars, day, days, contracts, rule)
  place <- match(bars$symbol, contracts$symbol)
  counts <- which[match(day, days)]
  kept <- which(place == counts)
  chosen <- counts[kept]
  selected <- bars[kept, ]
  rolls <- continue_rolls(bars, day, place, days, which, contracts, rule)
  maps <- continue_maps(rolls, rule)
  at <- findInterval(day[kept], as.numeric(rolls$day)) + 1
  order <- order(as.numeric(selected$time), method = "radix")
  selected <- selected[order, ]
  at <- at[order]
  selected$contract <- contracts$symbol[chosen[order]]
  selected$rolled <- c(
    FALSE, selected$contract[-1] != selected$contract[-nrow(selected)]
  )
  selected$symbol <- rep(name, nrow(selected))
  selected$factor <- maps$factor[at]
  selected$offset <- maps$offset[at]
  for (column in intersect(
    c("open", "high", "low", "close", "vwap"), names(selected)
  )) {
    selected[[column]] <- selected[[column]] * selected$factor + selected$offset
  }
  chosen_by <- continue_chosen(bars, day, days, rule)[
    match(day[kept][order], days), ,
    drop = FALSE
  ]
  for (name in c("through", "known")) {
    selected[[name]] <- utc(
      pmax(as.numeric(selected[[name]]), chosen_by[, name], maps[[name]][at])
    )
  }
  rolls <- rolls[setdiff(names(rolls), c("through", "known"))]
  rolls$underlying <- rep(name, nrow(rolls))
  list(bars = selected, rolls = rolls)
}

# For each day the position of the contract that counts, among contracts sorted
# by expiry; NA where none is left.
continue_which <- function(bars, day, days, contracts, rule) {
  n <- nrow(contracts)
  if (rule$roll %in% c("expiry", "day")) {
    # the contract counts no longer from this day on
    over <- if (rule$roll == "expiry") {
      continue_over(contracts$last_day, rule)
    } else {
      month_day(contracts$last_day, rule$days)
    }
    first <- findInterval(days, sort(over)) + rule$nth
    return(ifelse(first <= n, first, NA_integer_))
  }
  weight <- continue_weights(bars, rule$roll)
  positions <- matrix(0, length(days), n)
  sums <- rowsum(
    ifelse(is.na(weight), 0, weight),
    paste(match(day, days), match(bars$symbol, contracts$symbol))
  )
  parts <- do.call(rbind, strsplit(rownames(sums), " ", fixed = TRUE))
  positions[cbind(as.integer(parts[, 1]), as.integer(parts[, 2]))] <- sums[, 1]
  last <- as.numeric(contracts$last_day)
  now <- 1L
  out <- integer(length(days))
  for (i in seq_along(days)) {
    while (now < n && last[now] < days[i]) now <- now + 1L
    # the contract of the day before; a roll never goes back
    if (i > 1 && now < n) {
      ahead <- now + which.max(positions[i - 1, (now + 1):n])
      if (positions[i - 1, ahead] > positions[i - 1, now] &&
        last[ahead] >= days[i]) {
        now <- ahead
      }
    }
    out[i] <- now + as.integer(rule$nth) - 1L
  }
  out[out > n | last[pmin(out, n)] < days] <- NA
  out
}

# The instants of the data that choose each day's contract: for volume, the
# latest of all bars of earlier days.
continue_chosen <- function(bars, day, days, rule) {
  by_day <- function(x) {
    if (rule$roll %in% c("expiry", "day")) {
      return(rep(-Inf, length(days)))
    }
    latest <- as.numeric(tapply(as.numeric(x), factor(day, days), max))
    c(-Inf, cummax(latest)[-length(days)])
  }
  cbind(through = by_day(bars$through), known = by_day(bars$known))
}

continue_weights <- function(bars, roll) {
  column <- c(volume = "volume", "open-interest" = "open_interest")[[roll]]
  weight <- bars[[column]]
  if (is.null(weight) || all(is.na(weight))) {
    vetusta_stop(
      "argument",
      paste0(
        "These bars have no ",
        if (roll == "volume") "volume" else "column open_interest",
        ", by which contracts could roll."
      ),
      todo = "roll by expiry, or collect it"
    )
  }
  weight
}

# The first day on which a contract no longer counts, a number of trading days
# before its last day.
continue_over <- function(last, rule) {
  over <- as.numeric(last) + 1
  if (!rule$days) {
    return(over)
  }
  span <- c(min(last) - 3 * rule$days - 30, max(last))
  trading <- if (is.null(rule$calendar)) {
    seq(span[1], span[2], by = 1)
  } else {
    calendar_days(rule$calendar, span[1], span[2])
  }
  if (is.null(rule$calendar)) {
    trading <- trading[!as.POSIXlt(trading)$wday %in% c(0, 6)]
  }
  trading <- as.numeric(trading)
  # the position of the last day, or of the trading day before it
  place <- findInterval(as.numeric(last), trading) - rule$days + 1
  trading[pmax(1, place)]
}

month_day <- function(last, day) {
  first <- as.Date(format(last, "%Y-%m-01"))
  as.numeric(pmin(first + day - 1, last + 1))
}

# The rolls: the day on which one contract replaces another, and the difference
# of their prices on the day before.
continue_rolls <- function(bars, day, place, days, which, contracts, rule) {
  there <- which(!is.na(which))
  seen <- which[there]
  at <- there[which(c(FALSE, seen[-1] != seen[-length(seen)]))]
  before <- seen[match(at, there) - 1]
  closes <- function(contract) {
    rows <- place == contract & !is.na(bars$close)
    last <- !duplicated(day[rows], fromLast = TRUE)
    list(
      day = day[rows][last],
      close = bars$close[rows][last],
      row = which(rows)[last]
    )
  }
  steps <- lapply(seq_along(at), function(i) {
    old <- closes(before[i])
    new <- closes(which[at[i]])
    both <- intersect(old$day, new$day)
    both <- both[both < days[at[i]]]
    if (!length(both)) {
      return(c(NA_real_, NA_real_, NA_real_, -Inf, -Inf))
    }
    from <- match(max(both), old$day)
    to <- match(max(both), new$day)
    pair <- c(old$row[from], new$row[to])
    c(
      max(both), old$close[from], new$close[to],
      max(as.numeric(bars$through[pair])), max(as.numeric(bars$known[pair]))
    )
  })
  part <- function(i) vapply(steps, `[`, 0, i)
  rolls <- list_frame(
    list(
      day = epoch_days(days[at]),
      from = contracts$symbol[before],
      to = contracts$symbol[which[at]],
      measured = epoch_days(part(1)),
      difference = part(3) - part(2),
      ratio = part(3) / part(2),
      through = part(4),
      known = part(5)
    )
  )
  bad <- which(
    rule$adjust == "ratio" & !(part(2) > 0 & part(3) > 0) %in% c(TRUE, NA)
  )
  if (length(bad)) {
    vetusta_stop(
      "argument",
      paste0(
        "Prices at or below zero have no ratio: ", rolls$from[bad[1]], " and ",
        rolls$to[bad[1]], " on ", rolls$measured[bad[1]], "."
      ),
      todo = "adjust by difference"
    )
  }
  rolls
}

# list(factor, offset, through, known), one more than there are rolls: the map
# of prices of each stretch, and the instants of the prices that determine it.
continue_maps <- function(rolls, rule) {
  k <- nrow(rolls)
  factor <- rep(1, k + 1)
  offset <- numeric(k + 1)
  never <- rep(-Inf, k + 1)
  if (rule$adjust == "none" || !k) {
    return(
      list(factor = factor, offset = offset, through = never, known = never)
    )
  }
  ratio <- ifelse(is.na(rolls$ratio), 1, rolls$ratio)
  step <- ifelse(is.na(rolls$difference), 0, rolls$difference)
  last <- rule$anchor == "last"
  if (rule$adjust == "ratio") {
    factor <- if (last) {
      rev(cumprod(c(1, rev(ratio))))
    } else {
      1 / cumprod(c(1, ratio))
    }
  } else {
    offset <- if (last) rev(cumsum(c(0, rev(step)))) else -cumsum(c(0, step))
  }
  # a roll counts from its day, and from the instant at which its difference was
  # known
  time <- as.numeric(time_local(rolls$day, 0, rule$zone))
  latest <- function(x) {
    if (last) rev(cummax(c(-Inf, rev(x)))) else c(-Inf, cummax(x))
  }
  list(
    factor = factor,
    offset = offset,
    through = latest(pmax(time, rolls$through)),
    known = latest(pmax(time, rolls$known))
  )
}

contracts_frame <- function(contracts, zone) {
  if (!is.data.frame(contracts)) {
    vetusta_stop(
      "shape", "Contracts must be a data frame.",
      todo = "give a data frame with symbol and last_day"
    )
  }
  for (name in c("symbol", "last_day")) {
    if (is.null(contracts[[name]])) {
      vetusta_stop(
        "shape",
        paste0("Contracts need the column `", name, "`."),
        todo = paste("add or rename a column to", name)
      )
    }
  }
  last <- as_action_day(contracts$last_day, zone)
  if (anyNA(last)) {
    vetusta_stop(
      "shape",
      "A contract has no last day.",
      where = as.character(contracts$symbol)[is.na(last)][1],
      todo = "give it as a day"
    )
  }
  out <- list_frame(
    list(
      symbol = as.character(contracts$symbol),
      last_day = last,
      underlying = as.character(
        contracts[["underlying"]] %||% rep("continuous", length(last))
      )
    )
  )
  out[!duplicated(out$symbol, fromLast = TRUE), , drop = FALSE]
}

check_finite <- function(x, name) {
  if (!is.finite(x)) {
    vetusta_stop(
      "argument",
      paste0("`", name, "` must be a finite whole number."),
      todo = paste("correct", name)
    )
  }
}
