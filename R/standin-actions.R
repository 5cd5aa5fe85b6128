# Corporate actions and contracts of the exchange: splits, consolidations and
# dividends; contracts with first and last days, and their bars.

# `shares` and `cash` are what the holder of one share receives.
quay_actions <- function() {
  nth <- function(year, month, weekday, n) {
    first <- as.Date(sprintf("%d-%02d-01", year, month))
    first + (weekday - as.POSIXlt(first)$wday) %% 7 + 7 * (n - 1)
  }
  years <- 2024:2026
  quarters <- expand.grid(month = c(2, 5, 8, 11), year = years)
  ysel <- epoch_days(
    mapply(
      function(year, month) as.numeric(nth(year, month, 3, 3)), quarters$year,
      quarters$month
    )
  )
  brom <- epoch_days(
    vapply(years, function(year) as.numeric(nth(year, 5, 2, 2)), 0)
  )
  action <- function(code, day, sort, shares, cash, announced, to = NA) {
    data.frame(
      code = code, day = day, sort = sort, shares = shares, cash = cash,
      to = to, announced = announced
    )
  }
  all <- rbind(
    action(
      "KELD", as.Date("2025-09-15"), "split", 2, NA, as.Date("2025-08-18")
    ),
    action(
      "MIRT", as.Date("2024-03-18"), "consol", 0.1, NA, as.Date("2024-02-12")
    ),
    action(
      "YSLT", ysel, "cash", NA, 0.42 + 0.02 * (quarters$year - 2024), ysel - 21
    ),
    action("BROM", brom, "cash", NA, c(2.1, 2.3, 2.25), brom - 60),
    # Gravel Works got another symbol; Pellin Barges was taken over, with three
    # shares of KELD for five
    action(
      "GRVN", as.Date("2019-06-03"), "renamed", NA, NA, as.Date("2019-05-06"),
      "GRAV"
    ),
    action(
      "PELL", as.Date("2022-02-14"), "taken", 0.6, NA, as.Date("2022-01-10"),
      "KELD"
    )
  )
  all[order(all$day, all$code), ]
}

# The actions announced so far.
quay_actions_page <- function(query, settings) {
  all <- quay_actions()
  all <- all[as.numeric(all$announced) * 86400 <= settings$now(), ]
  if (!is.null(query$code)) all <- all[all$code %in% query$code, ]
  for (name in c("day", "announced")) all[[name]] <- format(all[[name]])
  rows <- lapply(seq_len(nrow(all)), function(i) {
    row <- as.list(all[i, ])
    row[!vapply(row, is.na, TRUE)]
  })
  standin_json(200L, list(announced = rows))
}

# Raw prices before a split are unadjusted.
quay_raw_factor <- function(code, days) {
  all <- quay_actions()
  all <- all[all$code == code & all$sort %in% c("split", "consol"), ]
  factor <- rep(1, length(days))
  for (i in seq_len(nrow(all))) {
    factor[days < all$day[i]] <- factor[days < all$day[i]] * all$shares[i]
  }
  factor
}

contract_roots <- c(
  GRN = "GRAIN", GSO = "GASOIL", GRV = "GRAVEL", SLT = "SALT",
  FRU = "UPPER LEG", FRL = "LOWER LEG"
)
contract_prices <- c(
  GRN = 212, GSO = 640, GRV = 18.4, SLT = 41, FRU = 11.2, FRL = 7.9
)

# Monthly contracts, listed for 200 days, whose last day is the last trading day
# up to the 15th.
quay_contracts <- function(calendar) {
  months <- seq(as.Date("2024-01-01"), as.Date("2027-03-01"), by = "1 month")
  days <- calendar_days(calendar, "2023-12-01", "2027-04-01")
  ends <- days[findInterval(as.numeric(months + 14), as.numeric(days))]
  all <- expand.grid(
    at = seq_along(months), root = names(contract_roots),
    stringsAsFactors = FALSE
  )
  data.frame(
    code = paste0(all$root, "-", format(months[all$at], "%y%m")),
    of = unname(contract_roots[all$root]),
    opens = ends[all$at] - 200,
    ends = ends[all$at],
    lot = ifelse(startsWith(all$root, "FR"), 1000, 50)
  )
}

quay_contracts_page <- function(query, settings) {
  all <- quay_contracts(settings$calendar)
  if (!is.null(query$of)) all <- all[all$of %in% query$of, ]
  for (name in c("opens", "ends")) all[[name]] <- format(all[[name]])
  standin_json(200L, list(lines = all))
}

is_contract <- function(code) {
  grepl(
    paste0("^(", paste(names(contract_roots), collapse = "|"), ")-[0-9]{4}$"),
    code
  )
}

# Days of one contract: the spot plus a premium by months to expiry, with volume
# that rises in the last two months and falls in the last week.
quay_contract_days <- function(code, from, until, calendar) {
  all <- quay_contracts(calendar)
  listing <- all[match(code, all$code), ]
  if (is.na(listing$code)) {
    return(NULL)
  }
  root <- sub("-.*", "", code)
  first <- as.Date("2023-06-01")
  days <- calendar_days(calendar, first, listing$ends)
  spot <- contract_prices[[root]] *
    exp(cumsum(0.011 * seeded_normal(paste0("spot", root), length(days))))
  left <- as.numeric(listing$ends - days)
  close <- spot * (1 + 0.00035 * left) *
    exp(0.002 * seeded_normal(paste0("basis", code), length(days)))
  open <- close * exp(0.004 * seeded_normal(paste0("gap", code), length(days)))
  reach <- close * 0.003 *
    abs(seeded_normal(paste0("reach", code), 2 * length(days)))
  n <- length(days)
  volume <- ceiling(
    4000 * exp(-((left - 28) / 17)^2) *
      (0.6 + 0.8 * seeded_uniform(paste0("lots", code), n))
  )
  here <- days >= listing$opens
  sessions <- calendar_sessions(calendar, days[1], listing$ends)
  sessions <- sessions[sessions$session == "regular", ]
  at <- as.numeric(sessions$open)[match(days, sessions$day)]
  rows <- data.frame(
    at = at,
    fst = round(open, 3),
    top = round(pmax(open, close) + reach[seq_len(n)], 3),
    low = round(pmin(open, close) - reach[n + seq_len(n)], 3),
    lst = round(close, 3),
    qty = volume,
    deals = ceiling(volume / 12)
  )
  rows <- rows[here, ]
  rows[rows$at >= from & rows$at < until, ]
}

# Days of a symbol that is another one's earlier name, or that was taken over:
# the symbol with whose walk it is made, and its first and last day.
quay_former <- function(code) {
  list(
    GRVN = list(of = "GRAV", until = as.Date("2019-06-03")),
    GRAV = list(of = "GRAV", from = as.Date("2019-06-03")),
    PELL = list(of = "PELL", until = as.Date("2022-02-14")),
    # delisted; the symbol was given to another company later
    "OLDM mills" = list(of = "OLDM mills", until = as.Date("2018-10-01")),
    "OLDM towage" = list(of = "OLDM towage", from = as.Date("2021-01-04"))
  )[[code]]
}

# The Quay 20: twenty shares; of a half-year's list one or two have left at the
# beginning of the next, announced ten days before.
quay_members <- function() {
  shares <- c(
    "KELD", "TAMX", "BROM", "YSLT", "ORVB", "SALT", "GRAV", "TIMB", "LOCK",
    "MIRQ", "TESK", "MIRT", "LUDX", "WATR"
  )
  directory <- market_directory()
  others <- directory$code[directory$kind == "share"]
  others <- utils::head(setdiff(others, c(shares, "BARGE")), 60)
  # Pellin Barges was a member until it was taken over
  now <- c(setdiff(shares, "MIRT"), utils::head(others, 6), "PELL")
  waiting <- c("MIRT", others[-(1:6)])
  halves <- seq(as.Date("2016-01-04"), as.Date("2027-12-31"), by = "6 months")
  rows <- data.frame(
    list = "Q20", code = now, since = halves[1], until = as.Date(NA),
    told = halves[1] - 10
  )
  for (i in seq_along(halves)[-1]) {
    # the largest lines always stay
    large <- c("KELD", "TAMX", "BROM", "YSLT", "SALT", "GRAV", "PELL")
    here <- which(is.na(rows$until) & !rows$code %in% large)
    draw <- seeded_uniform(paste0("members", i), 3)
    leave <- unique(here[1 + floor(draw[1:2] * length(here))])
    leave <- leave[seq_len(if (draw[3] < 0.5) 1 else length(leave))]
    gone <- which(
      is.na(rows$until) & rows$code == "PELL" &
        halves[i] > as.Date("2022-02-14")
    )
    rows$until[gone] <- as.Date("2022-02-11")
    leave <- setdiff(leave, gone)
    rows$until[leave] <- halves[i] - 1
    n <- length(leave) + length(gone)
    rows <- rbind(rows, data.frame(
      list = "Q20", code = waiting[seq_len(n)], since = halves[i],
      until = as.Date(NA), told = halves[i] - 10
    ))
    waiting <- waiting[-seq_len(n)]
  }
  rows
}

# The memberships announced so far; a last day is told with the next list.
quay_members_page <- function(settings) {
  rows <- quay_members()
  now <- settings$now()
  rows <- rows[as.numeric(rows$told) * 86400 <= now, ]
  rows$until[as.numeric(rows$until - 9) * 86400 > now] <- NA
  for (name in c("since", "until", "told")) rows[[name]] <- format(rows[[name]])
  lines <- lapply(seq_len(nrow(rows)), function(i) {
    row <- as.list(rows[i, ])
    row[!vapply(row, is.na, TRUE)]
  })
  standin_json(200L, list(lists = lines))
}
