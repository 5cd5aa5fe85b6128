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
  action <- function(code, day, sort, shares, cash, announced) {
    data.frame(
      code = code, day = day, sort = sort, shares = shares, cash = cash,
      announced = announced
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
    action("BROM", brom, "cash", NA, c(2.1, 2.3, 2.25), brom - 60)
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
  all <- all[all$code == code & !is.na(all$shares), ]
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
