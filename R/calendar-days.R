# Rules of dates in calendars: fixed dates, the nth weekday of a month, days
# from Easter, and where a holiday moves that falls on a closed day.

read_whole <- function(value, name, place) {
  if (!is.numeric(value) || length(value) != 1 || value != round(value)) {
    stop_calendar(
      paste0("`", name, "` is no whole number"), place,
      paste0("write it as ", name, ": 1")
    )
  }
  as.numeric(value)
}

read_fixed_day <- function(entry, place) {
  day <- as.character(entry$day)
  if (!grepl("^([0-9]{4}-)?[0-9]{2}-[0-9]{2}$", day) ||
    (nchar(day) == 10 && is.na(read_day(day))) ||
    (nchar(day) == 5 && is.na(read_day(paste0("2024-", day))))) {
    stop_calendar(
      paste0("\"", day, "\" is no day"), place,
      "write it as 03-20 for every year, or as 2026-03-20"
    )
  }
  list(kind = if (nchar(day) == 10) "date" else "yearly", day = day, text = day)
}

read_nth_day <- function(entry, place) {
  weekday <- match(tolower(as.character(entry$weekday)), weekday_names)
  if (is.na(weekday)) {
    stop_calendar(
      paste0("\"", entry$weekday, "\" is no weekday"), place,
      suggest_word(as.character(entry$weekday), weekday_names)
    )
  }
  nth <- if (identical(entry$nth, "last")) {
    -1
  } else {
    read_whole(entry$nth %||% 0, "nth", place)
  }
  month <- read_whole(entry$month %||% 0, "month", place)
  if (!(nth %in% c(-1, 1:5)) || !(month %in% 1:12)) {
    stop_calendar(
      "a weekday's entry needs nth (1 to 5, or last) and month (1 to 12)",
      place, "write it as {weekday: monday, nth: last, month: 5}"
    )
  }
  list(
    kind = "nth",
    weekday = weekday,
    nth = nth,
    month = month,
    text = paste(
      if (nth == -1) "last" else paste0(nth, "."), weekday_names[weekday],
      "of", month.name[month]
    )
  )
}

# The dates of an entry in a range of years, before any is moved.
entry_days <- function(entry, years) {
  years <- years[
    years >= (entry$from %||% -Inf) & years <= (entry$until %||% Inf)
  ]
  if (!length(years)) {
    return(as.Date(character()))
  }
  days <- switch(entry$kind,
    date = as.Date(entry$day),
    yearly = read_day(
      paste0(sprintf("%04d", as.integer(years)), "-", entry$day)
    ),
    nth = nth_days(years, entry),
    easter = easter_western(years) + entry$days,
    eastern_easter = easter_eastern(years) + entry$days
  )
  days[!is.na(days)]
}

nth_days <- function(years, entry) {
  first <- as.Date(
    sprintf("%04d-%02d-01", as.integer(years), as.integer(entry$month))
  )
  last <- shift_day(first, interval_of(1, "month")) - 1
  if (entry$nth == -1) {
    return(last - ((as.numeric(last) + 3) %% 7 + 1 - entry$weekday) %% 7)
  }
  day <- first + (entry$weekday - ((as.numeric(first) + 3) %% 7 + 1)) %% 7 +
    7 * (entry$nth - 1)
  day[day > last] <- NA
  day
}

# Easter Sunday by the method of Meeus, Jones and Butcher (Astronomical
# Algorithms, chapter 8).
easter_western <- function(year) {
  a <- year %% 19
  b <- year %/% 100
  c <- year %% 100
  h <- (19 * a + b - b %/% 4 - (b - (b + 8) %/% 25 + 1) %/% 3 + 15) %% 30
  l <- (32 + 2 * (b %% 4) + 2 * (c %/% 4) - h - c %% 4) %% 7
  m <- (a + 11 * h + 22 * l) %/% 451
  n <- h + l - 7 * m + 114
  as.Date(
    sprintf(
      "%04d-%02d-%02d", as.integer(year), as.integer(n %/% 31),
      as.integer(n %% 31 + 1)
    )
  )
}

# Orthodox Easter: Meeus' Julian method, converted to the Gregorian calendar.
easter_eastern <- function(year) {
  d <- (19 * (year %% 19) + 15) %% 30
  e <- (2 * (year %% 4) + 4 * (year %% 7) - d + 34) %% 7
  n <- d + e + 114
  julian <- as.Date(
    sprintf(
      "%04d-%02d-%02d", as.integer(year), as.integer(n %/% 31),
      as.integer(n %% 31 + 1)
    )
  )
  julian + year %/% 100 - year %/% 400 - 2
}

# The dates of entries, with those moved that fall outside the calendar's
# weekdays. A moved date takes a free day: fixed dates come first, then moved
# ones in order of time, whatever their order in the calendar.
moved_days <- function(entries, years, weekdays) {
  days <- lapply(entries, entry_days, years = years)
  entry <- rep(seq_along(days), lengths(days))
  day <- as.numeric(unlist(days))
  moved <- vapply(entries, `[[`, "", "moved")[entry]
  moves <- which(moved != "not" & !weekday_of(day) %in% weekdays)
  taken <- day[setdiff(seq_along(day), moves)]
  for (i in moves[order(day[moves], entry[moves])]) {
    day[i] <- move_day(day[i], moved[i], weekdays, taken)
    taken <- c(taken, day[i])
  }
  unname(split(epoch_days(day), factor(entry, seq_along(days))))
}

# Monday is 1.
weekday_of <- function(day) (as.numeric(day) + 3) %% 7 + 1

# The next or previous free weekday of the calendar, or the nearest one; at
# equal distance the later.
move_day <- function(day, moved, weekdays, taken) {
  ways <- switch(moved,
    previous = -1,
    nearest = c(1, -1),
    1
  )
  for (distance in 1:400) {
    for (way in ways) {
      at <- day + way * distance
      if (weekday_of(at) %in% weekdays && !at %in% taken) {
        return(at)
      }
    }
  }
  day
}
