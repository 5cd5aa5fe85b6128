# Prices adjusted for corporate actions. Raw prices are never overwritten.

# A rule a kind of action: the column of its size, the allowed values, the
# change in the number of shares, and the map of earlier prices. `before` and
# `behind` are the closes on either side of the ex-day.
share_action <- function(shares) {
  list(
    size = "ratio",
    good = function(x) x > 0,
    shares = shares,
    todo = "give new shares for one old share: 2 for a split of 2 for 1",
    map = function(size, before, behind, method) c(1 / shares(size), 0)
  )
}
one_share <- function(ratio) 1

action_rules <- list(
  split = share_action(function(ratio) ratio),
  consolidation = share_action(function(ratio) ratio),
  "stock-dividend" = share_action(function(ratio) 1 + ratio),
  "cash-dividend" = list(
    size = "amount",
    good = function(x) x > 0,
    shares = one_share,
    todo = "give the cash for one share",
    map = function(size, before, behind, method) {
      cash_maps[[method]](size, before, behind)
    }
  ),
  "spin-off" = list(
    size = "ratio",
    good = function(x) x > 0 & x < 1,
    shares = one_share,
    todo = "give the part of the price that leaves, between 0 and 1",
    map = function(size, before, behind, method) c(1 - size, 0)
  )
)
# Kinds of actions that change a name, not a price.
names_actions <- c("rename", "merge")

changes_shares <- c(
  split = TRUE, consolidation = TRUE, "stock-dividend" = TRUE,
  "cash-dividend" = FALSE, "spin-off" = FALSE
)

cash_maps <- list(
  ratio = function(amount, before, behind) c(1 - amount / before, 0),
  difference = function(amount, before, behind) c(1, -amount),
  "total-return" = function(amount, before, behind) {
    if (is.na(behind)) {
      c(1 - amount / before, 0)
    } else {
      c(behind / (behind + amount), 0)
    }
  }
)

#' Adjust bars for splits and dividends
#'
#' A corporate action changes the price of a share, but not the wealth of its
#' holder. Prices before and after it are made comparable: by default the newest
#' prices stay as traded and history moves (`anchor = "last"`); with `"first"`
#' the oldest prices stay and later prices move.
#'
#' @param bars A table of bars, see [bars_frame()], of any interval. An
#'   adjustment for cash needs bars on both sides of the ex-day, so include the
#'   newest bars.
#' @param actions A data frame with a row per action: `symbol`, `ex_day`
#'   (`Date`, the first day on which the share trades without it), `kind`
#'   (`split`, `consolidation`, `stock-dividend`, `cash-dividend`, `spin-off`),
#'   `ratio` and `amount`. `ratio` is the number of new shares per old share for
#'   a split (2) or consolidation (0.1), the shares per share held for a stock
#'   dividend (0.05), and the part of the price that leaves with a spin-off
#'   (0.2). `amount` is cash per share, in the currency of the prices. An
#'   optional `announced` (`Date` or `POSIXct`) is the instant from which an
#'   action is known; without it, its ex-day.
#' @param of The actions to adjust for: `"splits"` (every change of the number
#'   of shares), or `"all"`, which includes cash dividends and spin-offs.
#' @param method The adjustment for cash: `"ratio"` multiplies earlier prices by
#'   `1 - D / P`, where `P` is the last close before the ex-day; `"difference"`
#'   subtracts `D`; `"total-return"` multiplies by `P / (P + D)` with `P` the
#'   first close from the ex-day on, so that the change over the ex-day is `(P +
#'   D) / P0 - 1`, the return with reinvested cash (Campbell, Lo and MacKinlay,
#'   The Econometrics of Financial Markets, 1997, section 1.4).
#' @param anchor `"last"` or `"first"`, see above.
#' @param as_of An instant or a day: actions announced or effective later are
#'   ignored. `NULL` uses all actions.
#' @param zone The IANA zone of ex-days; by default that of the bars.
#' @return The bars with adjusted `open`, `high`, `low`, `close` and `vwap`,
#'   volumes adjusted for changes of the number of shares, and the columns
#'   `factor` and `offset` (adjusted price = raw price x factor + offset). If an
#'   action changes a bar, its `through` and `known` (`POSIXct`, UTC) are no
#'   earlier than the action's announcement and ex-day and than the prices that
#'   determine its size, so the adjusted bar cannot be used earlier. The
#'   attribute `applied` has the actions used.
#' @section Errors: `vetusta_error_shape` for actions without a column, or with
#'   an invalid kind, ratio or amount; `vetusta_error_argument` for a cash
#'   dividend as large as the price before it.
#' @export
#' @examples
#' days <- bars_frame(
#'   data.frame(
#'     symbol = "KELD",
#'     close = c(82, 84, 42.5, 43),
#'     time = as.POSIXct(
#'       c("2025-09-11", "2025-09-12", "2025-09-15", "2025-09-16"), tz = "UTC"
#'     )
#'   )
#' )
#' split <- data.frame(
#'   symbol = "KELD", ex_day = as.Date("2025-09-15"), kind = "split", ratio = 2
#' )
#' bars_adjust(days, split)
bars_adjust <- function(bars, actions, of = "splits", method = "ratio",
                        anchor = "last", as_of = NULL, zone = NULL) {
  asked <- lineage_asked()
  bars <- bars_frame(given(bars, "bars"))
  facts <- frame_facts(bars, zone = zone)
  zone <- facts$zone
  check_choice(of, "of", c("splits", "all"))
  check_choice(method, "method", c("ratio", "difference", "total-return"))
  check_choice(anchor, "anchor", c("last", "first"))
  check_zone(zone)
  actions <- actions_frame(given(actions, "actions"), zone)
  at <- if (is.null(as_of)) {
    Inf
  } else {
    as.numeric(time_instant(as_of, zone, end = TRUE, name = "as_of"))
  }
  actions <- actions_of_former(actions, bars$symbol)
  known <- actions$known < at & actions$ex < at
  share <- changes_shares[actions$kind]
  actions <- actions[known & (share | of == "all"), , drop = FALSE]
  times <- if (nrow(actions)) row_times(bars, end_times(bars, facts), facts)
  # factors are constant between actions: they are computed once a stretch
  runs <- symbol_runs(bars$symbol)
  of_run <- unname(
    split(
      seq_len(nrow(actions)),
      factor(match(actions$symbol, names(runs)), seq_along(runs))
    )
  )
  parts <- Map(
    function(run, mine) {
      if (length(mine)) {
        return(
          adjust_one(
            bars$time, bars$close, times, run, actions[mine, ], method, anchor
          )
        )
      }
      list(
        rows = run[2] - run[1] + 1,
        factor = 1,
        offset = 0,
        shares = 1,
        through = -Inf,
        known = -Inf
      )
    },
    unname(runs), of_run
  )
  applied <- rep(FALSE, nrow(actions))
  for (i in which(lengths(of_run) > 0)) {
    applied[of_run[[i]]] <- parts[[i]]$applied
  }
  of_parts <- function(name) {
    as.double(unlist(lapply(parts, `[[`, name), use.names = FALSE))
  }
  rows <- of_parts("rows")
  factor <- of_parts("factor")
  offset <- of_parts("offset")
  lay <- function(values) stretches_cpp(NULL, rows, values, values)
  columns <- unclass(bars)
  if (any(applied)) {
    for (name in intersect(
      c("open", "high", "low", "close", "vwap"), names(columns)
    )) {
      columns[[name]] <- stretches_cpp(
        check_numbers(columns[[name]], name), rows, factor, offset
      )
    }
    columns$volume <- stretches_cpp(
      columns$volume, rows, of_parts("shares"), 0 * rows
    )
  }
  columns$factor <- lay(factor)
  columns$offset <- lay(offset)
  attr(
    columns, "applied"
  ) <- actions[applied, setdiff(names(actions), c("ex", "known"))]
  class(columns) <- class(bars)
  if (any(applied)) {
    through <- pmax(times$through, lay(of_parts("through")))
    columns <- with_times(
      columns, through, pmax(times$known, lay(of_parts("known")))
    )
  }
  lineage_step(columns, "bars_adjust", asked)
}

# Actions of a symbol that another company had before belong to the history of
# their day.
actions_of_former <- function(actions, symbols) {
  levels <- unique(symbols)
  parts <- former_parts(levels)
  for (i in order(parts$last)) {
    if (is.na(parts$last[i])) next
    here <- actions$symbol == parts$symbol[i] & actions$ex_day <= parts$last[i]
    actions$symbol[here] <- levels[i]
  }
  actions
}

# The first and last row of each symbol, whose rows are contiguous, by name.
symbol_runs <- function(symbol) {
  first <- runs_cpp(symbol)
  runs <- Map(c, first, c(first[-1] - 1L, if (length(first)) length(symbol)))
  stats::setNames(runs, symbol[first])
}

# Each action maps earlier prices, p -> a p + b. A price before several actions
# goes through all maps, the oldest first. With the first bars as the base,
# later prices go through the inverse maps.
adjust_one <- function(time, close, times, run, actions, method, anchor) {
  order <- order(actions$ex)
  actions <- actions[order, ]
  k <- nrow(actions)
  a <- shares <- rep(1, k)
  b <- numeric(k)
  n <- run[2] - run[1] + 1
  before <- rows_before_cpp(time, run[1], run[2], actions$ex)
  # an action before all bars changes nothing; a cash amount needs the price at
  # its ex-day; with the oldest base, actions after all bars do not count
  used <- before > 0 & (before < n | (anchor == "last" & is.na(actions$amount)))
  columns <- as.list(actions[c("symbol", "ex_day", "kind", "ratio", "amount")])
  # an action counts from its ex-day, from its announcement, and from the prices
  # that determine its size, whichever is latest
  through <- known <- pmax(actions$ex, actions$known)
  for (i in which(used)) {
    step <- action_map(
      lapply(columns, `[[`, i), close, run, run[1] + before[i] - 1, method
    )
    a[i] <- step$a
    b[i] <- step$b
    shares[i] <- step$shares
    through[i] <- max(through[i], times$through[step$rows])
    known[i] <- max(known[i], times$known[step$rows])
  }
  maps <- matrix(0, k + 1, 3)
  maps[k + 1, ] <- c(1, 0, 1)
  for (i in rev(seq_len(k))) {
    onward <- maps[i + 1, ]
    maps[i, ] <- if (used[i]) {
      c(onward[1] * a[i], onward[1] * b[i] + onward[2], onward[3] * shares[i])
    } else {
      onward
    }
  }
  behind <- function(x) rev(cummax(c(-Inf, rev(ifelse(used, x, -Inf)))))
  before_of <- function(x) c(-Inf, cummax(ifelse(used, x, -Inf)))
  latest <- if (anchor == "first") before_of else behind
  if (anchor == "first") {
    # p = (p' - b) / a inverts the maps between the first bars and these
    first <- maps[1, ]
    undo <- function(row) {
      from <- maps[row, ]
      c(from[1] / first[1], (from[2] - first[2]) / first[1], from[3] / first[3])
    }
    maps <- t(vapply(seq_len(k + 1), undo, numeric(3)))
  }
  # the ranges between actions, in order of time
  list(
    rows = diff(c(0, before, n)),
    factor = maps[, 1],
    offset = maps[, 2],
    shares = maps[, 3],
    through = latest(through),
    known = latest(known),
    applied = used[order(order)]
  )
}

# The map of prices before an action, up to the row `last`, and the factor of
# the number of shares.
action_map <- function(action, close, run, last, method) {
  rule <- action_rules[[action$kind]]
  next_one <- last + 1
  while (last >= run[1] && is.na(close[last])) last <- last - 1
  while (next_one <= run[2] && is.na(close[next_one])) next_one <- next_one + 1
  if (last < run[1]) {
    return(list(a = 1, b = 0, shares = 1, rows = integer()))
  }
  price <- close[last]
  if (is.na(action$ratio) && action$amount >= price) {
    vetusta_stop(
      "argument",
      paste0(
        "The dividend of ", action$symbol, " on ", action$ex_day, ", ",
        format_exact(action$amount), ", is as large as the price before it, ",
        format_exact(price), "."
      ),
      todo = "check its amount and its currency"
    )
  }
  size <- action[[rule$size]]
  behind <- if (next_one <= run[2]) close[next_one] else NA_real_
  map <- rule$map(size, price, behind, method)
  # the rows whose prices enter: those around the ex-day where a cash amount is
  # taken out
  rows <- if (is.na(action$ratio)) {
    c(last, if (method == "total-return" && !is.na(behind)) next_one)
  }
  list(a = map[1], b = map[2], shares = rule$shares(size), rows = rows)
}

# Checked actions, with `ex`, the start of the ex-day, and `known`, the instant
# of the announcement, both in seconds.
actions_frame <- function(actions, zone) {
  wrong <- function(what, todo, row = NULL) {
    vetusta_stop(
      "shape",
      what,
      where = if (!is.null(row)) paste("action", row),
      todo = todo
    )
  }
  if (!is.data.frame(actions)) {
    wrong(
      "Actions are a data frame.",
      "give a data frame with symbol, ex_day, kind, ratio, amount"
    )
  }
  for (name in c("symbol", "ex_day", "kind")) {
    if (is.null(actions[[name]])) {
      wrong(
        paste0("Actions need the column `", name, "`."),
        paste("add or rename a column to", name)
      )
    }
  }
  # a rename or a merger changes no price
  actions <- actions[
    !as.character(actions$kind) %in% names_actions, ,
    drop = FALSE
  ]
  n <- nrow(actions)
  day <- as_action_day(actions$ex_day, zone)
  kind <- as.character(actions$kind)
  rules <- action_rules[kind]
  bad <- which(vapply(rules, is.null, TRUE))
  if (length(bad)) {
    wrong(
      paste0("An action cannot be of the kind \"", kind[bad[1]], "\"."),
      suggest_word(kind[bad[1]], names(action_rules)), bad[1]
    )
  }
  if (anyNA(day)) {
    wrong("An action has no ex-day.", "give it as a day", which(is.na(day))[1])
  }
  sizes <- lapply(c(ratio = "ratio", amount = "amount"), function(name) {
    if (is.null(actions[[name]])) {
      rep(NA_real_, n)
    } else {
      check_numbers(actions[[name]], name)
    }
  })
  for (i in seq_len(n)) {
    size <- sizes[[rules[[i]]$size]][i]
    if (!rules[[i]]$good(size) %in% TRUE) {
      wrong(
        paste0(
          "The ", kind[i], " of ", actions$symbol[i], " on ", day[i],
          " cannot have the ", rules[[i]]$size, " ", format_exact(size), "."
        ),
        rules[[i]]$todo, i
      )
    }
    # columns that are not the size of this kind are ignored
    sizes[[setdiff(names(sizes), rules[[i]]$size)]][i] <- NA_real_
  }
  ex <- as.numeric(time_local(day, 0, zone))
  announced <- actions[["announced"]]
  known <- if (inherits(announced, "POSIXct")) {
    as.numeric(announced)
  } else if (!is.null(announced)) {
    as.numeric(time_local(as_action_day(announced, zone), 0, zone))
  } else {
    rep(NA_real_, n)
  }
  out <- list_frame(
    list(
      symbol = as.character(actions$symbol),
      ex_day = day,
      kind = kind,
      ratio = sizes$ratio,
      amount = sizes$amount,
      ex = ex,
      known = ifelse(is.na(known), ex, known)
    )
  )
  # an action that is listed twice counts once
  out[
    !duplicated(out[c("symbol", "ex_day", "kind", "ratio", "amount")]), ,
    drop = FALSE
  ]
}

as_action_day <- function(x, zone) {
  if (inherits(x, "Date")) {
    x
  } else if (inherits(x, "POSIXct")) {
    local_day(x, zone)
  } else {
    read_day(as.character(x))
  }
}
