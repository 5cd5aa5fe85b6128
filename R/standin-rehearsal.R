# The services at another day: what was published by then, with a few faults of
# daily life, the same on every run. They begin only where a day was given.
#
#   a late value       Tamm Weir's level of a Tuesday comes on Thursday morning
#   a correction       Kelder Lock's level of a Monday is 8 cm too high until
#                      Wednesday morning
#   a wrong price      TAMX at 11:00 on a Tuesday, times 100, until Thursday
#   an outage          the fixing does not answer on Wednesdays
#   a renamed field    on Thursdays the survey's `level` is called `mean`

# The services' own time in seconds: from an instant on, so many times as fast.
standin_clock <- function(today = NULL, speed = 1) {
  if (is.null(today)) {
    return(function() as.numeric(Sys.time()))
  }
  began <- as.numeric(Sys.time())
  from <- as.numeric(standin_today(today))
  function() from + (as.numeric(Sys.time()) - began) * speed
}

# A day means its morning, 7:00 local time.
standin_today <- function(today) {
  day <- if (is.character(today)) read_day(today) else NA
  at <- if (!is.na(day)) {
    time_local(day, 7 * 3600, "Europe/Riga")
  } else {
    tryCatch(
      time_instant(today, name = "today"),
      vetusta_error = function(e) NA
    )
  }
  last <- as.numeric(as.Date("2027-12-31")) * 86400
  if (is.na(at) || as.numeric(at) > last ||
    as.numeric(at) < as.numeric(as.Date("2024-02-01")) * 86400) {
    vetusta_stop(
      "service", paste0("The services cannot live on ", format(today), "."),
      todo = "give a day from 2024-02-01 to 2027-12-31, as 2026-03-27"
    )
  }
  at
}

# The services' day; NULL where they live in the present.
rehearsal_day <- function(settings) {
  if (isTRUE(settings$rehearsal)) local_day(utc(settings$now()), "Europe/Riga")
}

rehearsal_weekday <- function(day) as.POSIXlt(day)$wday

# Levels up to yesterday, as they were published this morning.
rehearsal_levels <- function(rows, station, day) {
  if (is.null(day)) {
    return(rows)
  }
  at <- as.Date(rows$day)
  late <- station == "tamm-weir" & rehearsal_weekday(at) == 2 & day - at < 2
  high <- station == "kelder-lock" & rehearsal_weekday(at) == 1 & day - at < 2
  rows$level[high] <- rows$level[high] + 8
  rows <- rows[at < day & !late, , drop = FALSE]
  if (rehearsal_weekday(day) == 4) names(rows)[names(rows) == "level"] <- "mean"
  rows
}

rehearsal_bars <- function(rows, code, day) {
  if (is.null(day) || code != "TAMX" || !NROW(rows)) {
    return(rows)
  }
  own <- local_day(utc(rows$at), "Europe/Riga")
  eleven <- as.numeric(time_local(own, 11 * 3600, "Europe/Riga"))
  wrong <- rows$at == eleven & rehearsal_weekday(own) == 2 & day - own < 2
  for (name in c("fst", "top", "low", "lst")) {
    rows[[name]][wrong] <- rows[[name]][wrong] * 100
  }
  rows
}

# Whether a service does not answer on this day.
rehearsal_away <- function(service, settings) {
  day <- rehearsal_day(settings)
  service == "fixing" && !is.null(day) && rehearsal_weekday(day) == 3
}
