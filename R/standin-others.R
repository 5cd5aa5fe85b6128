# The Ysel Fixing and the Sarn River Survey.

# --- Ysel Fixing: candles with a row a side, numbers as text, no pages; daily
# rates as a map

fixing_levels <- c(ORV = 1, TSK = 3.42, MIR = 0.871, LUD = 128.5)

# Freight by river leg, in orv per tonne.
fixing_legs <- c(LOWER = 14.2, MIDDLE = 21.7, UPPER = 33.4)

# The largest number of rows of an answer.
fixing_rows <- 1500

fixing_route <- function(path, query, request, state, settings) {
  if (!identical(
    request$HTTP_AUTHORIZATION, paste("Bearer", standin_keys[["FIXING_TOKEN"]])
  )) {
    return(standin_problem(401L, "token", "A bearer token is needed."))
  }
  if (length(path) == 3 && path[2] == "candles") {
    return(fixing_candles(path[3], query, settings))
  }
  if (length(path) == 3 && path[2] == "rates") {
    return(fixing_rates(path[3]))
  }
  standin_problem(404L, "path", "There is nothing at this URL.")
}

fixing_value <- function(currency, seconds) {
  days <- seconds / 86400
  phase <- sum(utf8ToInt(currency))
  slow <- 0.05 * sin(days / 47 + phase) + 0.02 * sin(days / 9.3 + 2 * phase)
  rise <- if (currency == "LUD") (days - 20500) * 0.002 else 0
  fixing_levels[[currency]] *
    exp(slow + rise + 0.004 * sin(seconds / 5000 + phase))
}

fixing_candles <- function(pair, query, settings) {
  currencies <- strsplit(pair, "-", fixed = TRUE)[[1]]
  known <- pair %in% names(fixing_legs) ||
    (length(currencies) == 2 && all(currencies %in% names(fixing_levels)))
  step <- c(hour = 3600, day = 86400)[query$each %||% "hour"]
  from <- as.numeric(read_rfc3339(query$from %||% ""))
  until <- as.numeric(read_rfc3339(query$until %||% ""))
  if (!known) {
    return(standin_problem(404L, "pair", "This pair or leg is not fixed here."))
  }
  if (is.na(step) || is.na(from) || is.na(until) || from >= until) {
    return(
      standin_problem(
        400L, "range", "from and until are instants, each is hour or day."
      )
    )
  }
  # a day begins at 17:00 local time
  starts <- if (step == 3600) {
    seq(ceiling(from / 3600) * 3600, until - 1, by = 3600)
  } else {
    as.numeric(
      time_local(
        seq(
          local_day(utc(from), "Europe/Riga") - 1,
          local_day(utc(until), "Europe/Riga"),
          by = 1
        ),
        17 * 3600, "Europe/Riga"
      )
    )
  }
  starts <- starts[starts >= from & starts < until & starts <= settings$now()]
  if (2 * length(starts) > fixing_rows) {
    return(
      standin_problem(
        400L, "size",
        paste0(
          "At most ", fixing_rows, " rows a request; this ", "would be ",
          2 * length(starts), "."
        )
      )
    )
  }
  candles <- unlist(
    lapply(starts, function(at) fixing_candle(at, step, pair)),
    recursive = FALSE
  )
  standin_json(200L, list(pair = pair, candles = candles))
}

# The fixing at some instants: an exchange rate, or the freight of a leg.
fixing_path <- function(pair, seconds) {
  if (pair %in% names(fixing_legs)) {
    days <- seconds / 86400
    phase <- sum(utf8ToInt(pair))
    return(
      fixing_legs[[pair]] *
        exp(0.08 * sin(days / 61 + phase) + 0.005 * sin(seconds / 7000 + phase))
    )
  }
  currencies <- strsplit(pair, "-", fixed = TRUE)[[1]]
  fixing_value(currencies[2], seconds) / fixing_value(currencies[1], seconds)
}

# Two rows a time, bid and ask; an unfinished one closes in the future.
fixing_candle <- function(at, step, pair) {
  path <- fixing_path(pair, at + step * (0:4) / 4)
  row <- function(side, factor) {
    c(
      list(
        opens = format_instant(at),
        closes = format_instant(at + step),
        side = side
      ),
      as.list(
        stats::setNames(
          sprintf("%.5f", factor * c(path[1], max(path), min(path), path[5])),
          c("first", "top", "low", "lst")
        )
      )
    )
  }
  list(row("bid", 0.9998), row("ask", 1.0002))
}

fixing_rates <- function(text) {
  day <- read_day(text)
  if (is.na(day)) {
    return(standin_problem(400L, "day", "The day is written as 2026-03-12."))
  }
  at <- as.numeric(time_local(day, 17 * 3600, "Europe/Riga"))
  others <- setdiff(names(fixing_levels), "ORV")
  standin_json(
    200L,
    list(
      day = text,
      against = "ORV",
      rates = as.list(
        stats::setNames(
          round(vapply(others, function(name) fixing_value(name, at), 1), 5),
          others
        )
      )
    )
  )
}

# --- Sarn River Survey: a token in a header, offset and count with a total
# -----------------------------------------------

river_stations <- function() {
  known <- data.frame(
    station = c(
      "kelder-lock", "tamm-weir", "ysel-mouth", "bromebridge", "lud-gorge",
      "mirholt-ferry"
    ),
    title = c(
      "Kelder Lock", "Tamm Weir", "Ysel Mouth", "Bromebridge", "Lud Gorge",
      "Mirholt Ferry"
    ),
    north = c(57.12, 57.31, 57.52, 56.98, 56.71, 56.84),
    east = c(24.31, 24.55, 24.02, 24.87, 25.4, 25.12),
    since = c(
      "1981-01-01", "1984-05-01", "1981-01-01", "1990-01-01", "2001-09-15",
      "1995-03-01"
    ),
    until = NA_character_,
    base = c(238, 237, 190, 262, 340, 221)
  )
  rbind(known, river_others(34))
}

# Smaller stations of the basin; some have closed.
river_others <- function(n) {
  u <- function(key) seeded_uniform(paste0("station", key), n)
  syllables <- expand.grid(
    end = c("weir", "ford", "lock", "bend", "quay"),
    start = c("alder", "brine", "cray", "dorn", "elm", "fallow", "gorse"),
    stringsAsFactors = FALSE
  )
  name <- paste(syllables$start, syllables$end)[seq_len(n)]
  since <- as.Date("1981-01-01") + floor(u("since") * 12000)
  closed <- u("closed") < 0.15
  data.frame(
    station = gsub(" ", "-", name),
    title = gsub("\\b([a-z])", "\\U\\1", name, perl = TRUE),
    north = round(55.8 + 1.9 * u("north"), 2),
    east = round(23.6 + 2.8 * u("east"), 2),
    since = format(since),
    until = ifelse(closed, format(since + 3000 + floor(u("until") * 1000)), NA),
    base = round(160 + 200 * u("base"))
  )
}

# The hourly level of the three largest stations, for the last two years.
river_hours <- function(station, query) {
  from <- as.numeric(read_rfc3339(query$from %||% "2024-04-01T00:00:00Z"))
  until <- as.numeric(read_rfc3339(query$until %||% "2026-04-01T00:00:00Z"))
  first <- as.numeric(as.Date("2024-04-01")) * 86400
  last <- as.numeric(as.Date("2026-04-01")) * 86400
  if (is.na(from) || is.na(until)) {
    return(data.frame(at = character(), level = numeric()))
  }
  all <- seq(first, last - 3600, by = 3600)
  days <- river_levels(station, list(from = "2024-03-30", until = "2026-03-31"))
  level <- stats::approx(
    as.numeric(as.Date(days$day)) * 86400 + 43200, days$level, all,
    rule = 2
  )$y
  level <- level + 1.5 * sin(2 * pi * (all / 3600 - 4) / 12.42) +
    0.6 * seeded_normal(paste0("hour", station$station), length(all))
  kept <- all >= from &
    all < until &
    seeded_uniform(paste0("hourgone", station$station), length(all)) > 0.002
  data.frame(at = format_instant(all[kept]), level = round(level[kept], 1))
}

river_route <- function(path, query, request, state, settings) {
  if (!identical(request$HTTP_X_SURVEY_TOKEN, standin_keys[["SURVEY_TOKEN"]])) {
    return(
      standin_problem(403L, "token", "The header X-Survey-Token is needed.")
    )
  }
  for (limit in list(c(4, 1), c(800, 86400))) {
    wait <- standin_turn(state, paste("river", limit[2]), limit[1], limit[2])
    if (wait > 0) {
      return(
        standin_problem(
          429L, "calls", "At most 4 requests a second and 800 a day.",
          list("Retry-After" = as.character(ceiling(wait)))
        )
      )
    }
  }
  stations <- river_stations()
  if (length(path) == 2 && path[2] == "stations") {
    return(river_page(stations[setdiff(names(stations), "base")], query))
  }
  if (length(path) == 3 &&
    path[2] == "levels" &&
    path[3] %in% stations$station) {
    day <- rehearsal_day(settings)
    levels <- river_levels(
      stations[match(path[3], stations$station), ], query, day
    )
    return(river_page(rehearsal_levels(levels, path[3], day), query))
  }
  if (length(path) == 3 &&
    path[2] == "hours" &&
    path[3] %in% c("kelder-lock", "tamm-weir", "ysel-mouth")) {
    return(
      river_page(
        river_hours(stations[match(path[3], stations$station), ], query), query
      )
    )
  }
  standin_problem(404L, "path", "There is no such station.")
}

# The daily mean level: season, slow decline, autocorrelated noise, and some
# missing days.
river_levels <- function(station, query, day = NULL) {
  first <- as.Date(station$since)
  last <- if (is.na(station$until)) {
    as.Date("2026-03-31")
  } else {
    as.Date(station$until)
  }
  usual <- as.numeric(last - first) + 1
  # in a rehearsal the river flows on
  if (!is.null(day) && is.na(station$until)) last <- max(last, day - 1)
  days <- seq(first, last, by = 1)
  n <- length(days)
  noise <- as.numeric(
    stats::filter(
      6 * seeded_normal(paste0("river", station$station), n), 0.93,
      method = "recursive"
    )
  )
  level <- station$base +
    42 * cos((as.POSIXlt(days)$yday - 105) / 365.25 * 2 * pi) -
    0.0007 * as.numeric(days - first) + noise
  gone <- order(
    seeded_uniform(paste0("gone", station$station), usual)
  )[seq_len(if (station$station == "kelder-lock") 63 else 20)]
  rows <- data.frame(day = format(days), level = round(level, 1))[-gone, ]
  from <- query$from %||% "0000"
  until <- query$until %||% "9999"
  rows[rows$day >= from & rows$day <= until, ]
}

river_page <- function(rows, query) {
  offset <- suppressWarnings(as.numeric(query$offset %||% 0))
  count <- min(2000, suppressWarnings(as.numeric(query$count %||% 500)))
  if (is.na(offset) || is.na(count) || offset < 0 || count < 1) {
    return(
      standin_problem(400L, "page", "offset is 0 or more, count is 1 or more.")
    )
  }
  standin_json(
    200L,
    list(
      total = nrow(rows),
      rows = rows[
        seq_len(nrow(rows)) > offset & seq_len(nrow(rows)) <= offset + count,
      ]
    )
  )
}
