# Instants are POSIXct in UTC; days are Date. Local times are converted here.

#' Instant of a local time
#'
#' @param day Local days, `Date`.
#' @param seconds Seconds since local midnight on the clock; 86,400 and more are
#'   on later days.
#' @param zone An IANA time zone.
#' @param skipped For a time skipped by the clock: `"shift"` moves it by the
#'   length of the skip, `"next"` uses the first instant after it, `"missing"`
#'   gives `NA`, `"error"` is an error.
#' @param twice For a time that occurs twice: `"first"`, `"second"`, `"missing"`
#'   or `"error"`.
#' @return `POSIXct` in UTC, with the longer length of `day` and `seconds`.
#' @section Errors: `vetusta_error_argument` for an unknown zone, and with
#'   `"error"`.
#' @export
#' @examples
#' time_local(
#'   as.Date("2026-03-29"), 3.5 * 3600, "Europe/Riga"
#' )  # 03:30 is jumped over: 04:30
#' time_local(
#'   as.Date("2026-10-25"), 3.5 * 3600, "Europe/Riga", twice = "second"
#' )
time_local <- function(day, seconds, zone, skipped = "shift", twice = "first") {
  day <- given(day, "day")
  seconds <- given(seconds, "seconds")
  check_zone(given(zone, "zone"))
  check_choice(skipped, "skipped", c("shift", "next", "missing", "error"))
  check_choice(twice, "twice", c("first", "second", "missing", "error"))
  if (!is.numeric(seconds) || is.object(seconds)) {
    vetusta_stop(
      "argument",
      paste0(
        "`seconds` must be numbers, not ", shown_value(seconds), "."
      ),
      todo = "correct seconds"
    )
  }
  local_instant(check_days(day, "day"), seconds, zone, skipped, twice)
}

# The same for arguments that are known to be days, numbers and a zone.
local_instant <- function(day, seconds, zone, skipped = "shift",
                          twice = "first") {
  clock <- as.numeric(day) * 86400 + seconds
  # a zone's offset a day before and after: they differ only around a clock
  # change
  before <- zone_offset(clock - 129600, zone)
  after <- zone_offset(clock + 129600, zone)
  instant <- clock - before
  changing <- which(before != after)
  if (length(changing)) {
    instant[changing] <- local_around_change(
      clock[changing], before[changing], after[changing], zone, skipped, twice
    )
  }
  utc(instant)
}

# Days in common forms, as Date.
check_days <- function(x, name) {
  days <- if (inherits(x, "Date")) {
    x
  } else if (inherits(x, "POSIXt")) {
    as.Date(x)
  } else if (is.character(x)) {
    read_day(x)
  } else if (is.logical(x) && all(is.na(x))) {
    as.Date(x)
  }
  if (is.null(days) || (is.character(x) && anyNA(days[!is.na(x)]))) {
    vetusta_stop(
      "argument",
      paste0("`", name, "` must be days, not ", shown_value(x), "."),
      todo = "write days as 2026-03-12, or give a Date"
    )
  }
  days
}

local_around_change <- function(clock, before, after, zone, skipped, twice) {
  early <- clock - before
  late <- clock - after
  early_holds <- zone_offset(early, zone) == before
  late_holds <- zone_offset(late, zone) == after
  both <- early_holds & late_holds
  none <- !early_holds & !late_holds
  result <- ifelse(early_holds, early, late)
  if (any(both)) {
    if (twice == "error") {
      stop_local(clock[both][1], zone, "occurs twice", "twice")
    }
    result[both] <- switch(twice,
      first = early[both],
      second = late[both],
      missing = NA_real_
    )
  }
  if (any(none)) {
    if (skipped == "error") {
      stop_local(clock[none][1], zone, "is jumped over", "skipped")
    }
    result[none] <- switch(skipped,
      shift = early[none],
      `next` = mapply(
        change_between, late[none], early[none],
        MoreArgs = list(zone = zone)
      ),
      missing = NA_real_
    )
  }
  result
}

stop_local <- function(clock, zone, what, argument) {
  vetusta_stop(
    "argument",
    paste0(
      "The local time ", format(utc(clock), "%Y-%m-%d %H:%M:%S"), " ", what,
      " in ", zone, "."
    ),
    todo = paste0("choose with `", argument, "`")
  )
}

# The second at which the zone's offset changes between two instants, by
# bisection.
change_between <- function(low, high, zone) {
  at_low <- zone_offset(low, zone)
  while (high - low > 1) {
    middle <- floor((low + high) / 2)
    if (zone_offset(middle, zone) == at_low) low <- middle else high <- middle
  }
  high
}

# The seconds of instants without a copy, which as.numeric() would make. Only
# for code that does not modify them, see src/doubles.h.
seconds_of <- function(x) {
  if (!is.double(x)) {
    return(as.numeric(x))
  }
  x <- unclass(x)
  attributes(x) <- NULL
  x
}

utc <- function(seconds) .POSIXct(as.numeric(seconds), "UTC")

# Parquet has whole microseconds. Its writer cuts, so instants are given in the
# middle of theirs; its reader is off by a rounding.
parquet_instants <- function(columns, writes) {
  lapply(as.list(columns), function(column) {
    if (!inherits(column, "POSIXct")) {
      return(column)
    }
    seconds <- as.numeric(column)
    if (all(seconds == floor(seconds), na.rm = TRUE)) {
      return(column)
    }
    whole <- round(seconds * 1e6)
    utc((whole + if (writes) sign(whole) / 2 else 0) / 1e6)
  })
}

# Days by number since 1970, without parsing an origin as as.Date() does.
epoch_days <- function(days) .Date(as.numeric(days))

# The least and greatest number, without the copies that range() makes.
ends_of <- function(x) c(min(x, na.rm = TRUE), max(x, na.rm = TRUE))

# Instants are kept in whole microseconds, because finer ones do not read back
# the same.
whole_micros <- function(seconds) {
  if (instants_need_cpp(seconds) < 2) {
    return(seconds)
  }
  odd <- which(seconds != floor(seconds))
  seconds[odd] <- round(seconds[odd] * 1e6) / 1e6
  seconds
}

# Instants in common forms: POSIXct, days (their midnight in UTC) and text.
# Numbers are refused, because their unit is unknown.
read_instants <- function(x, name, zone = "UTC", kind = "shape", na = FALSE) {
  if (is_utc(x) && instants_need_cpp(x) %in% c(0, if (na) 1)) {
    return(x)
  }
  if (is.factor(x)) x <- as.character(x)
  read <- if (inherits(x, "POSIXt")) {
    utc(as.POSIXct(x))
  } else if (inherits(x, "Date")) {
    utc(as.numeric(x) * 86400)
  } else if (is.logical(x) && all(is.na(x))) {
    utc(rep(NA_real_, length(x)))
  } else if (is.character(x)) {
    text_instants(x, zone)
  }
  if (is.null(read)) {
    vetusta_stop(
      kind,
      paste0(
        "The column `", name, "` must be instants or days, and is ",
        class(x)[1], "."
      ),
      where = paste("column", name),
      todo = paste0(
        "convert it to POSIXct or Date, or write its values as ",
        "2026-03-12T09:30:00Z"
      )
    )
  }
  bad <- which(is.na(read) & (!na | !is.na(x)))
  if (length(bad)) {
    vetusta_stop(
      kind,
      paste0(
        "The column `", name, "` has ",
        if (is.na(x[bad[1]])) {
          "nothing"
        } else {
          paste0("\"", x[bad[1]], "\", which is no instant,")
        },
        " in row ", bad[1], "."
      ),
      where = paste0("column ", name, ", row ", bad[1]),
      todo = paste0(
        "write it as 2026-03-12 or 2026-03-12T09:30:00Z, or leave ",
        "the row out"
      )
    )
  }
  utc(whole_micros(as.numeric(read)))
}

# Instants in the stored form, which need no copy.
is_utc <- function(x) {
  is.double(x) &&
    identical(
      attributes(x), list(class = c("POSIXct", "POSIXt"), tzone = "UTC")
    )
}

text_instants <- function(x, zone) {
  known <- unique(x)
  time <- read_rfc3339(known, zone)
  day <- read_day(known)
  whole <- which(!is.na(day))
  time[whole] <- time_local(day[whole], 0, zone)
  time[match(x, known)]
}

zone_offset <- function(seconds, zone) {
  if (zone == "UTC") {
    return(rep(0, length(seconds)))
  }
  offset <- as.POSIXlt(utc(seconds), tz = zone)$gmtoff
  if (is.null(offset)) {
    rep(0, length(seconds))
  } else {
    ifelse(is.na(offset), 0, offset)
  }
}

# A cache of valid zones, because R searches its files each time.
zones_seen <- new.env(parent = emptyenv())

is_zone <- function(zone) {
  if (!is.null(zones_seen[[zone]])) {
    return(TRUE)
  }
  known <- zone %in% c("UTC", OlsonNames())
  if (known) zones_seen[[zone]] <- TRUE
  known
}

check_zone <- function(zone, kind = "argument", where = NULL) {
  if (!is.character(zone) ||
    length(zone) != 1 ||
    is.na(zone) ||
    !nzchar(zone) ||
    !is_zone(zone)) {
    shown <- shown_value(zone)
    near <- nearest_word(shown, OlsonNames())
    vetusta_stop(
      kind,
      paste0("\"", shown, "\" is not a time zone."),
      where = where,
      todo = paste0(
        if (!is.null(near)) paste0("did you mean \"", near, "\"? "),
        "use an IANA name, such as Europe/Riga or UTC"
      )
    )
  }
  invisible(zone)
}

# The local day of each instant.
local_day <- function(instant, zone) {
  seconds <- as.numeric(instant)
  epoch_days(floor((seconds + zone_offset(seconds, zone)) / 86400))
}

#' Read an instant or a day
#'
#' @param x A `POSIXct`, a `Date`, a day (`"2026-03-12"`) or an RFC 3339 instant
#'   (`"2026-03-12T09:30:00+02:00"`, `Z` for UTC; without an offset it is local
#'   time in `zone`; seconds are optional).
#' @param zone The IANA zone of days and of local times.
#' @param end Whether the instant ends a window: a day then means its end, the
#'   next local midnight.
#' @param name The name of the argument in an error.
#' @return One `POSIXct` in UTC.
#' @section Errors: `vetusta_error_argument` for any other value.
#' @export
#' @examples
#' time_instant("2026-03-12", "Europe/Riga")
#' time_instant("2026-03-12T09:30:00+02:00")
time_instant <- function(x, zone = "UTC", end = FALSE, name = "time") {
  x <- given(x, name)
  check_zone(zone)
  check_flag(end, "end")
  if (inherits(x, "POSIXt") && length(x) == 1 && !is.na(x)) {
    return(utc(as.POSIXct(x)))
  }
  if (inherits(x, "Date") && length(x) == 1 && !is.na(x)) {
    return(time_local(x + end, 0, zone))
  }
  if (is.character(x) && length(x) == 1 && !is.na(x)) {
    day <- read_day(x)
    if (!is.na(day)) {
      return(time_local(day + end, 0, zone))
    }
    instant <- read_rfc3339(x, zone)
    if (!is.na(instant)) {
      return(instant)
    }
  }
  shown <- if (length(x) == 1) {
    paste0(" cannot be \"", shown_value(x), "\": that")
  } else {
    paste0(" is given ", length(x), " times; one")
  }
  vetusta_stop(
    "argument",
    paste0("`", name, "`", shown, " is neither a day nor an instant."),
    todo = "write it as 2026-03-12 or as 2026-03-12T09:30:00Z"
  )
}

read_day <- function(x) epoch_days(days_cpp(as.character(x)))

# RFC 3339 instants, vectorised; a text without an offset is local time in
# `zone`.
read_rfc3339 <- function(x, zone = "UTC") {
  read <- rfc3339_cpp(as.character(x))
  value <- read$value
  if (read$any_local && zone != "UTC") {
    local <- which(read$local)
    clock <- value[local]
    day <- floor(clock / 86400)
    value[local] <-
      as.numeric(time_local(epoch_days(day), clock - day * 86400, zone))
  }
  utc(value)
}

# Local times that occur twice, in the order in which they were written: where
# the clock runs back, the second pass of the repeated hour is meant. `group`
# separates series that were written side by side.
second_passes <- function(time, zone, group = NULL) {
  seconds <- as.numeric(time)
  if (zone == "UTC") {
    return(time)
  }
  before <- zone_offset(seconds, zone)
  after <- zone_offset(seconds + 10800, zone)
  again <- seconds + before - after
  twice <- which(
    is.finite(seconds) & before > after & zone_offset(again, zone) == after
  )
  if (!length(twice)) {
    return(time)
  }
  group <- if (is.null(group)) {
    rep(1L, length(seconds))
  } else {
    match(group, unique(group))
  }
  for (rows in split(seq_along(seconds), group)) {
    if (!any(rows %in% twice)) next
    steps <- diff(seconds[rows])
    backward <- sum(steps < 0, na.rm = TRUE) > sum(steps > 0, na.rm = TRUE)
    if (backward) rows <- rev(rows)
    newest <- -Inf
    for (i in rows) {
      if (is.na(seconds[i])) next
      if (i %in% twice && seconds[i] <= newest && again[i] > newest) {
        seconds[i] <- again[i]
      }
      newest <- seconds[i]
    }
  }
  utc(seconds)
}
