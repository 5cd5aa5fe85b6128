# The Ysel Quay Exchange: invented bars from a seed.

quay_instruments <- function() {
  data.frame(
    code = c(
      "KELD", "TAMX", "BROM", "YSLT", "ORVB", "SALT", "GRAV", "TIMB", "LOCK",
      "MIRQ", "LUDX", "TESK", "BARGE", "WATR", "MIRT"
    ),
    name = c(
      "Kelder Lines", "Tamm Navigation", "Bromebridge Mills", "Ysel Terminals",
      "Orvane Barge Union", "Sarn Salt Works", "Mirholt Gravel",
      "Mirholt Timber Floats", "Lock Keepers' Trust", "Mirquay Ports",
      "Ludmark Exchange Fund", "Teskland Grain", "Basin Barge Index",
      "High-Water Fund", "Mirholt Tugs"
    ),
    start = c(
      41.2, 18.6, 112.4, 63.9, 27.1, 9.85, 14.3, 33.7, 77.5, 21.4, 240.5, 54.2,
      1000, 12.6, 24.8
    ),
    swing = c(
      0.016, 0.019, 0.013, 0.014, 0.017, 0.022, 0.021, 0.018, 0.010, 0.020,
      0.030, 0.015, 0.009, 0.024, 0.02
    ),
    busy = c(
      0.985, 0.97, 0.96, 0.99, 0.93, 0.88, 0.85, 0.90, 0.94, 0.86, 0.97, 0.95,
      1, 0.70, 0.82
    )
  )
}

quay_first_day <- as.Date("2024-01-02")

# A random number generator that gives the same bytes at any time and place:
# 32-bit hashing of a key and a counter (the finishing steps of MurmurHash3),
# then uniform numbers in (0, 1).
seeded_uniform <- function(key, n) seeded_uniform_cpp(key, n)

seeded_normal <- function(key, n) stats::qnorm(seeded_uniform(key, n))

# The close of every trading day since the first: a random walk of logarithms,
# in the exchange's calendar.
quay_closes <- function(instrument, calendar, last) {
  days <- calendar_days(calendar, quay_first_day, last)
  walk <- cumsum(
    0.0002 +
      instrument$swing *
        seeded_normal(paste0("close", instrument$code), length(days))
  )
  raw <- instrument$start * quay_raw_factor(instrument$code, days)
  data.frame(
    day = days,
    close = raw * exp(walk),
    before = raw * exp(c(0, walk[-length(walk)]))
  )
}

# Companies that were taken over or delisted, and the one that has the symbol
# of another since: name and price.
quay_gone <- list(
  PELL = list("Pellin Barges", 22.4),
  OLDM = list("Oldmere Towage", 61.5),
  "OLDM mills" = list("Oldmere Mills", 14.2),
  "OLDM towage" = list("Oldmere Towage", 61.5)
)

# A known instrument, or a share, fund or index of the directory with parameters
# derived from its code.
quay_instrument <- function(code, directory) {
  known <- quay_instruments()
  code <- quay_former(code)$of %||% code
  if (code %in% known$code) {
    return(known[match(code, known$code), ])
  }
  gone <- quay_gone[[code]]
  if (!is.null(gone)) {
    return(data.frame(
      code = code, name = gone[[1]], start = gone[[2]], swing = 0.018,
      busy = 0.9
    ))
  }
  row <- match(code, directory$code)
  if (is.na(row) || !directory$kind[row] %in% c("share", "fund", "index")) {
    return(NULL)
  }
  u <- seeded_uniform(paste0("instrument", code), 3)
  data.frame(
    code = code,
    name = directory$title[row],
    start = round(5 + 200 * u[1], 2),
    swing = 0.01 + 0.015 * u[2],
    busy = 0.5 + 0.5 * u[3]
  )
}

# The first day of an instrument.
quay_listed <- function(code) {
  u <- seeded_uniform(paste0("listed", code), 2)
  known <- code %in% c(quay_instruments()$code, names(quay_gone))
  if (!known && u[1] < 1 / 3) {
    as.Date("2010-01-04") + floor(u[2] * 5000)
  } else {
    as.Date("2010-01-04")
  }
}

# Days before the first minute bars: the walk continues backwards, and a third
# of the instruments are listed later.
quay_early_days <- function(instrument, calendar, from) {
  code <- instrument$code
  listed <- quay_listed(code)
  days <- calendar_days(calendar, listed, quay_first_day - 1)
  n <- length(days)
  step <- 0.0002 + instrument$swing * seeded_normal(paste0("early", code), n)
  after <- rev(cumsum(rev(step))) - step
  close <- instrument$start * quay_raw_factor(code, days) * exp(-after)
  open <- close *
    exp(-step * (0.3 + 0.7 * seeded_uniform(paste0("earlyopen", code), n)))
  reach <- close * instrument$swing * 0.4 *
    abs(seeded_normal(paste0("earlyreach", code), 2 * n))
  digits <- if (instrument$start < 100) 3 else 2
  quantity <- 10 *
    ceiling(
      40000 * instrument$busy *
        -log(seeded_uniform(paste0("earlyqty", code), n))
    )
  sessions <- calendar_sessions(calendar, days[1], days[n])
  sessions <- sessions[sessions$session == "regular", ]
  rows <- data.frame(
    at = as.numeric(sessions$open)[match(days, sessions$day)],
    fst = round(open, digits),
    top = round(pmax(open, close) + reach[seq_len(n)], digits),
    low = round(pmin(open, close) - reach[n + seq_len(n)], digits),
    lst = round(close, digits),
    qty = quantity,
    deals = ceiling(quantity / 120)
  )
  rows[rows$at >= from & rows$low > 0, ]
}

# Tamm Navigation is halted on two days of each month: the first Tuesday after
# the 14th and the day after it.
quay_halted <- function(code, days) {
  tuesday <- (as.numeric(days) + 3) %% 7 == 1
  wednesday <- (as.numeric(days) + 3) %% 7 == 2
  date <- as.POSIXlt(days, tz = "UTC")$mday
  code == "TAMX" & ((tuesday & date %in% 15:21) | (wednesday & date %in% 16:22))
}

# All minute bars of an instrument on a day. The walk is a bridge from the
# previous close to the day's; volume is high at the opening and the close and
# low at noon.
quay_minutes <- function(instrument, day, sessions) {
  if (quay_halted(instrument$code, day$day)) {
    return(NULL)
  }
  here <- sessions[sessions$day == day$day, ]
  time <- frames_times_cpp(as.numeric(here$open), as.numeric(here$close), 60)
  frame <- frames_find_cpp(time, as.numeric(here$open), as.numeric(here$close))
  regular <- here$session[frame] == "regular"
  n <- length(time)
  key <- paste0(instrument$code, format(day$day, "%Y%m%d"))
  steps <- seeded_normal(paste0(key, "step"), n) * ifelse(regular, 1, 0.4)
  walk <- cumsum(steps)
  share <- cumsum(ifelse(regular, 1, 0.16)) / sum(ifelse(regular, 1, 0.16))
  path <- log(day$before) + share * log(day$close / day$before) +
    instrument$swing * 0.6 / sqrt(n) * (walk - share * walk[n])
  close <- exp(path)
  open <- exp(
    c(log(day$before), path[-n]) +
      instrument$swing / sqrt(n) * 0.2 * seeded_normal(paste0(key, "open"), n)
  )
  reach <- instrument$swing / sqrt(n) *
    abs(seeded_normal(paste0(key, "reach"), 2 * n)) * 0.5
  noon <- (cumsum(regular) / max(1, sum(regular)) - 0.5) * 2
  level <- ifelse(regular, 0.4 + 1.6 * noon^2, 0.12)
  volume <- 10 *
    ceiling(
      120 * instrument$busy * level *
        -log(seeded_uniform(paste0(key, "volume"), n))
    )
  traded <- seeded_uniform(paste0(key, "traded"), n) <
    instrument$busy * ifelse(regular, 1, 0.35)
  digits <- if (instrument$start < 100) 3 else 2
  frame <- data.frame(
    at = time,
    fst = round(open, digits),
    top = round(pmax(open, close) * exp(reach[seq_len(n)]), digits),
    low = round(pmin(open, close) * exp(-reach[n + seq_len(n)]), digits),
    lst = round(close, digits),
    qty = volume,
    deals = ceiling(
      volume / (30 + 200 * seeded_uniform(paste0(key, "deals"), n))
    ),
    session = here$session[frame]
  )
  frame[traded, ]
}

# Bars of one instrument in [from, until); longer intervals are resampled from
# minutes.
quay_bars <- function(code, interval, from, until, hours, calendar,
                      cache = new.env(), directory = NULL) {
  if (is_contract(code)) {
    return(quay_contract_days(code, from, until, calendar))
  }
  if (code == "OLDM") {
    parts <- lapply(c("OLDM mills", "OLDM towage"), function(company) {
      quay_bars(company, interval, from, until, hours, calendar, cache)
    })
    return(do.call(rbind, parts))
  }
  instrument <- quay_instrument(code, directory)
  early <- if (interval$iso == "P1D" &&
    from < as.numeric(quay_first_day) * 86400) {
    quay_known(
      cache, paste("early", code),
      function() quay_early_days(instrument, calendar, -Inf)
    )
  }
  # a name has bars while it is the name
  former <- quay_former(code)
  if (!is.null(former$from)) {
    from <- max(from, as.numeric(former$from) * 86400)
  }
  if (!is.null(former$until)) {
    until <- min(until, as.numeric(former$until) * 86400)
  }
  early <- early[early$at >= from & early$at < until, ]
  if (until <= from) {
    return(early[0, ])
  }
  last <- local_day(utc(until), calendar$zone)
  known <- paste("closes", code, last)
  if (is.null(cache[[known]])) {
    cache[[known]] <- quay_closes(instrument, calendar, last)
  }
  days <- cache[[known]]
  days <- days[days$day >= local_day(utc(from), calendar$zone) - 1, ]
  if (!nrow(days)) {
    return(early)
  }
  minutes <- lapply(seq_len(nrow(days)), function(i) {
    key <- paste(code, days$day[i])
    if (is.null(cache[[key]])) {
      cache[[key]] <- list(
        quay_minutes(
          instrument, days[i, ],
          calendar_sessions(calendar, days$day[i], days$day[i])
        )
      )
    }
    cache[[key]][[1]]
  })
  rows <- as.data.frame(data.table::rbindlist(minutes))
  if (!nrow(rows)) {
    return(early)
  }
  if (hours == "main") rows <- rows[rows$session == "regular", ]
  if (interval$iso != "PT1M") rows <- quay_resample(rows, interval, calendar)
  rows <- rows[rows$at >= from & rows$at < until, ]
  if (NROW(early)) rbind(early, rows[names(early)]) else rows
}

# A cached value, computed when it is first needed.
quay_known <- function(cache, key, make) {
  if (is.null(cache[[key]])) cache[[key]] <- make()
  cache[[key]]
}

quay_resample <- function(rows, interval, calendar) {
  bars <- bars_frame(
    data.frame(
      symbol = "x", time = utc(rows$at), open = rows$fst, high = rows$top,
      low = rows$low, close = rows$lst, volume = rows$qty
    )
  )
  longer <- bars_resample(
    bars, interval, calendar,
    session = NULL, base = "1 minute"
  )
  deals <- rowsum(rows$deals, findInterval(rows$at, as.numeric(longer$time)))
  data.frame(
    at = as.numeric(longer$time),
    fst = longer$open,
    top = longer$high,
    low = longer$low,
    lst = longer$close,
    qty = longer$volume,
    deals = as.numeric(deals)
  )
}
