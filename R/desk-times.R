# When a query is due: "at 18:30 Europe/Riga on trading days", "4 times a day",
# "every 5 minutes in the regular session".

time_forms <- paste0(
  "write it as: at 18:30 Europe/Riga on trading days; 4 times a day; every 5 ",
  "minutes in the regular session; at 7:00, 12:00 on monday, friday"
)

# list(text, seconds, zone, days, session): seconds since local midnight; days
# are "every day", "trading days", or numbers of weekdays; `zone` and `session`
# may be NULL.
desk_times <- function(text) {
  rest <- gsub("[[:space:]]+", " ", trimws(text))
  stop_times <- function(what, todo = time_forms) {
    vetusta_stop(
      "desk", paste0("The time \"", text, "\" ", what, "."),
      todo = todo
    )
  }
  taken <- function(pattern) {
    matches <- regmatches(rest, regexec(pattern, rest, ignore.case = TRUE))[[1]]
    if (length(matches)) {
      rest <<- trimws(sub(pattern, " ", rest, ignore.case = TRUE))
    }
    if (length(matches)) matches[-1]
  }
  of <- taken(" on trading days of ([a-z0-9-]+)$")[1]
  days <- if (!is.null(of)) {
    "trading days"
  } else {
    times_days(taken(" (on [a-z, ]+|every day)$")[1], stop_times)
  }
  session <- taken(" in the ([a-z]+) session( |$)")[1]
  zone <- taken(" ([A-Za-z]+(?:/[A-Za-z_+-]+)+|UTC)( |$)")[1]
  if (!is.null(zone) && !is_zone(zone)) {
    stop_times(
      paste0("names the zone ", zone, ", which is none"),
      paste0(
        "write an IANA zone, as ", "in Europe/Riga; ",
        suggest_word(zone, OlsonNames())
      )
    )
  }
  between <- taken(
    " between ([0-9]{1,2}:[0-9]{2}) and ([0-9]{1,2}:[0-9]{2})( |$)"
  )[1:2]
  seconds <- times_seconds(trimws(rest), between, stop_times)
  if (!is.null(session) && length(seconds) == 1) {
    stop_times(
      "names a session and a time",
      "leave out the session, or write every 5 minutes"
    )
  }
  # a session belongs to trading days
  if (!is.null(session) && identical(days, "every day")) days <- "trading days"
  list(
    text = text, seconds = seconds, zone = zone, days = days,
    session = session, calendar = of
  )
}

times_weekdays <- c(
  "monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"
)

times_days <- function(text, stop_times) {
  if (is.null(text) || is.na(text)) {
    return("every day")
  }
  text <- tolower(sub("^on ", "", text))
  if (text %in% c("every day", "trading days")) {
    return(text)
  }
  if (text == "weekdays") {
    return(1:5)
  }
  words <- strsplit(text, ", ?| and ")[[1]]
  at <- match(sub("s$", "", words), times_weekdays)
  if (anyNA(at)) {
    stop_times(
      paste0("is on \"", words[is.na(at)][1], "\", which never occurs"),
      suggest_word(
        words[is.na(at)][1], c("trading days", "weekdays", times_weekdays)
      )
    )
  }
  at
}

times_seconds <- function(text, between, stop_times) {
  clock <- function(text) {
    parts <- as.numeric(strsplit(text, ":", fixed = TRUE)[[1]])
    if (length(parts) != 2 || anyNA(parts) || parts[1] > 23 || parts[2] > 59) {
      stop_times(
        paste0("is at ", text, ", which never occurs"),
        "write hours from 0:00 to 23:59"
      )
    }
    parts[1] * 3600 + parts[2] * 60
  }
  bounds <- if (anyNA(between) || is.null(between)) {
    c(0, 86400)
  } else {
    c(clock(between[1]), clock(between[2]))
  }
  if (bounds[1] >= bounds[2]) {
    stop_times("is between an end and its beginning", "swap the two")
  }
  if (grepl("^at [0-9]", text)) {
    at <- strsplit(sub("^at ", "", text), ", ?| and ")[[1]]
    return(sort(unique(vapply(at, clock, 0, USE.NAMES = FALSE))))
  }
  count <- if (text == "once a day") {
    1
  } else if (text == "twice a day") {
    2
  } else {
    suppressWarnings(as.numeric(sub("^([0-9]+) times a day$", "\\1", text)))
  }
  if (!is.na(count)) {
    if (count < 1 || count > 1440) {
      stop_times("is not between 1 and 1440 times a day")
    }
    # whole minutes, evenly over the day
    return(
      bounds[1] + 60 * floor(seq(0, count - 1) * diff(bounds) / 60 / count)
    )
  }
  every <- if (grepl("^every ", text)) {
    tryCatch(
      time_interval(sub("^every ", "", text))$seconds,
      vetusta_error = function(e) NA_real_
    )
  } else {
    NA_real_
  }
  if (is.na(every)) stop_times("cannot be read")
  if (every < 60 || every %% 60 != 0 || every > 86400) {
    stop_times("is not between every minute and every day")
  }
  at <- seq(0, 86400 - 60, by = every)
  at[at >= bounds[1] & at < bounds[2]]
}

# The due instants after `from`, up to `to`: POSIXct in UTC.
desk_instants <- function(times, from, to, calendar = NULL) {
  if (!is.null(times$calendar)) calendar <- source_calendar(times$calendar)
  zone <- times$zone %||% calendar$zone %||% "UTC"
  days <- seq(
    local_day(utc(from), zone) - 1, local_day(utc(to), zone) + 1,
    by = 1
  )
  if (identical(times$days, "trading days")) {
    if (is.null(calendar)) {
      vetusta_stop(
        "desk",
        paste0(
          "The time \"", times$text, "\" is on trading days, and the ",
          "source has no calendar with these days."
        ),
        todo = "name a calendar in the source's card, or write: on weekdays"
      )
    }
    sessions <- calendar_sessions(calendar, days[1], days[length(days)])
    days <- days[days %in% sessions$day]
  } else if (is.numeric(times$days)) {
    days <- days[weekday_of(days) %in% times$days]
  }
  seconds <- times$seconds
  at <- as.numeric(
    time_local(
      rep(days, each = length(seconds)), rep(seconds, length(days)), zone
    )
  )
  at <- sort(unique(at[at > as.numeric(from) & at <= as.numeric(to)]))
  if (!is.null(times$session)) at <- at[within_session(at, times, sessions)]
  utc(at)
}

# A session includes its opening and its close.
within_session <- function(at, times, sessions) {
  if (!times$session %in% sessions$session && nrow(sessions)) {
    vetusta_stop(
      "desk",
      paste0(
        "The time \"", times$text, "\" is in the ", times$session,
        " session, which never occurs."
      ),
      todo = suggest_word(times$session, unique(sessions$session))
    )
  }
  sessions <- sessions[sessions$session == times$session, ]
  last <- findInterval(at, as.numeric(sessions$open))
  last > 0 & at <= c(-Inf, as.numeric(sessions$close))[last + 1]
}
