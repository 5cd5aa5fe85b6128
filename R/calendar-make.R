# A calendar states the days and hours at which a value is expected.

weekday_names <- c(
  "monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"
)

#' Make a calendar
#'
#' @param definition A list as read from a calendar file: `calendar` (its name),
#'   `title`, `zone` (IANA), `weekdays` (English names), `sessions` (name to
#'   `"HH:MM-HH:MM"` in local time; an end at or before the start is on the next
#'   day), `closed` (days without values) and `half_days` (days with other
#'   `sessions`). Entries of `closed` and `half_days` have a `day` (`"MM-DD"`
#'   for every year, or `"YYYY-MM-DD"`), or `weekday` with `nth` (1 to 5 or
#'   `last`) and `month`, or `easter` or `eastern_easter` (days from Easter
#'   Sunday, `1` is the Monday); and optionally `name`, `moved` (to the `next`,
#'   `previous` or `nearest` weekday if the day is not one; by default it is not
#'   moved), `from` and `until` (years). `covers` (`from` and `until`) gives the
#'   years whose days are known; other years are then refused.
#' @return A `vetusta_calendar`.
#' @section Errors: `vetusta_error_calendar`, with the invalid part.
#' @export
#' @examples
#' calendar_make(
#'   list(
#'     calendar = "mill",
#'     zone = "Europe/Riga",
#'     weekdays = c("monday", "tuesday"),
#'     sessions = list(regular = "08:00-16:00"),
#'     closed = list(list(day = "01-01", name = "New Year"))
#'   )
#' )
calendar_make <- function(definition) {
  definition <- given(definition, "definition", "calendar")
  if (!is.list(definition) || is.object(definition)) {
    vetusta_stop(
      "calendar", "A calendar is made from a list.",
      todo = paste0(
        "give a list with calendar, zone and what else it has, as a ",
        "calendar file is read"
      )
    )
  }
  known <- c(
    "calendar", "title", "zone", "weekdays", "sessions", "closed", "half_days",
    "covers"
  )
  wrong <- setdiff(names(definition), known)
  if (length(wrong)) {
    stop_calendar(
      paste0("the word \"", wrong[1], "\" is not known"), "",
      suggest_word(wrong[1], known)
    )
  }
  for (part in c("calendar", "zone")) {
    if (!is.character(definition[[part]]) || length(definition[[part]]) != 1) {
      stop_calendar(
        paste0("`", part, "` is missing"), "",
        paste0(
          "add it, as in ", part, ": ",
          c(calendar = "quay", zone = "Europe/Riga")[[part]]
        )
      )
    }
  }
  check_zone(
    definition$zone,
    "calendar",
    where = paste("calendar", definition$calendar)
  )
  weekdays <- match(
    tolower(unlist(definition$weekdays %||% weekday_names)), weekday_names
  )
  if (anyNA(weekdays)) {
    bad <- unlist(definition$weekdays)[is.na(weekdays)][1]
    stop_calendar(
      paste0("\"", bad, "\" is no weekday"), "weekdays",
      suggest_word(bad, weekday_names)
    )
  }
  structure(
    list(
      name = definition$calendar,
      title = definition$title %||% definition$calendar,
      zone = definition$zone,
      weekdays = sort(unique(weekdays)),
      sessions = read_sessions(
        definition$sessions %||% list(regular = "00:00-24:00"), "sessions"
      ),
      covers = read_covers(definition$covers),
      closed = read_days(definition$closed, "closed"),
      half_days = read_days(
        definition$half_days, "half_days",
        with_sessions = TRUE
      )
    ),
    class = "vetusta_calendar"
  )
}

`%||%` <- function(x, y) if (is.null(x)) y else x

stop_calendar <- function(what, where, todo) {
  vetusta_stop(
    "calendar",
    paste0("The calendar is wrong: ", what, "."),
    where = if (nzchar(where)) where,
    todo = todo
  )
}

# "09:30-16:00" by name -> data frame of name, start, end in seconds of the
# local day
read_sessions <- function(sessions, where) {
  form <- "^([0-9]{1,2}):([0-9]{2})-([0-9]{1,2}):([0-9]{2})$"
  texts <- vapply(sessions, function(x) as.character(x)[1], "")
  matches <- regmatches(texts, regexec(form, texts))
  bad <- which(lengths(matches) == 0)
  if (length(bad) || !length(texts) || is.null(names(sessions))) {
    stop_calendar(
      "a session has no hours that can be read", where,
      "write it as regular: 09:30-16:00"
    )
  }
  hours <- matrix(
    as.numeric(unlist(lapply(matches, `[`, -1))),
    ncol = 4, byrow = TRUE
  )
  start <- hours[, 1] * 3600 + hours[, 2] * 60
  end <- hours[, 3] * 3600 + hours[, 4] * 60
  end <- ifelse(end <= start, end + 86400, end)
  if (any(hours[, c(2, 4)] > 59) || any(hours[, c(1, 3)] > 24)) {
    stop_calendar(
      "a session has an hour that the clock does not have", where,
      "write it as regular: 09:30-16:00"
    )
  }
  frame <- data.frame(session = names(sessions), start = start, end = end)
  frame <- frame[order(frame$start), ]
  if (nrow(frame) > 1 && any(frame$start[-1] < frame$end[-nrow(frame)])) {
    stop_calendar(
      "two sessions overlap", where,
      "let each session begin when the previous session ends, or later"
    )
  }
  rownames(frame) <- NULL
  frame
}

# The years that the calendar covers, both included; NULL for all.
read_covers <- function(covers) {
  if (is.null(covers)) {
    return(NULL)
  }
  years <- lapply(
    c(from = "from", until = "until"), function(bound) covers[[bound]]
  )
  if (!is.list(covers) ||
    length(setdiff(names(covers), names(years))) ||
    !length(unlist(years)) ||
    !all(vapply(unlist(years), is.numeric, TRUE))) {
    stop_calendar(
      "`covers` must be years", "covers",
      "write it as covers: {from: 2015, until: 2030}"
    )
  }
  if (isTRUE(years$from > years$until)) {
    stop_calendar(
      "`covers` ends before it begins", "covers", "exchange from and until"
    )
  }
  years
}

check_calendar <- function(calendar, name = "calendar", needed = FALSE) {
  calendar <- given(calendar, name)
  if ((is.null(calendar) && !needed) ||
    inherits(calendar, "vetusta_calendar")) {
    return(calendar)
  }
  vetusta_stop(
    "argument", paste0("`", name, "` must be a calendar."),
    todo = paste0(
      "make a calendar with calendar_make(), or read it with ",
      "source_calendar()"
    )
  )
}

# Outside the years of the calendar, holidays would be taken for gaps.
check_covers <- function(calendar, from, to) {
  covers <- calendar$covers
  if (is.null(covers)) {
    return(invisible())
  }
  years <- as.POSIXlt(
    c(
      local_day(from, calendar$zone),
      local_day(utc(as.numeric(to) - 1e-3), calendar$zone)
    )
  )$year +
    1900
  if (years[1] < (covers$from %||% -Inf) ||
    years[2] > (covers$until %||% Inf)) {
    vetusta_stop(
      "calendar",
      paste0(
        "The calendar ", calendar$name, " covers the years ",
        covers$from %||% "", " to ", covers$until %||% "",
        ", and the window goes from ", years[1], " to ", years[2], "."
      ),
      where = paste("calendar", calendar$name),
      todo = paste0(
        "use a shorter window; or add the days of the other years to the ",
        "calendar, and the years to its covers:"
      )
    )
  }
}

# A date entry has `day` (a date, of every year or of one), `weekday` with `nth`
# and `month`, or days from Easter.
day_words <- c(
  "day", "weekday", "nth", "month", "easter", "eastern_easter", "name",
  "moved", "from", "until"
)

read_days <- function(days, where, with_sessions = FALSE) {
  lapply(seq_along(days), function(i) {
    entry <- days[[i]]
    place <- paste0(where, "/", i)
    known <- c(day_words, if (with_sessions) "sessions")
    wrong <- setdiff(names(entry), known)
    if (length(wrong)) {
      stop_calendar(
        paste0("the word \"", wrong[1], "\" is not known"), place,
        suggest_word(wrong[1], known)
      )
    }
    ways <- intersect(
      c("day", "weekday", "easter", "eastern_easter"), names(entry)
    )
    if (length(ways) != 1) {
      stop_calendar(
        "an entry has one rule for its date", place,
        "use day, weekday (with nth and month), easter or eastern_easter"
      )
    }
    read <- switch(ways,
      day = read_fixed_day(entry, place),
      weekday = read_nth_day(entry, place),
      list(kind = ways, days = read_whole(entry[[ways]], ways, place))
    )
    for (bound in c("from", "until")) {
      if (!is.null(entry[[bound]])) {
        read[[bound]] <- read_whole(entry[[bound]], bound, place)
      }
    }
    read$moved <- entry$moved %||% "not"
    if (!read$moved %in% c("not", "next", "previous", "nearest")) {
      stop_calendar(
        paste0("a day cannot be moved \"", read$moved, "\""), place,
        "use next, previous, nearest or not"
      )
    }
    read$name <- as.character(entry$name %||% read$text %||% ways)
    if (with_sessions) {
      read$sessions <- read_sessions(
        entry$sessions %||% list(), paste0(place, "/sessions")
      )
    }
    read
  })
}

#' @export
print.vetusta_calendar <- function(x, ...) {
  cat("calendar ", x$name, ": ", x$title, ", ", x$zone, "\n", sep = "")
  cat(
    "  days     ", paste(weekday_names[x$weekdays], collapse = ", "), "\n",
    sep = ""
  )
  clock <- function(seconds) {
    sprintf(
      "%02d:%02d", as.integer(seconds %/% 3600),
      as.integer(seconds %% 3600 %/% 60)
    )
  }
  cat(
    sprintf(
      "  %-8s %s-%s\n", x$sessions$session, clock(x$sessions$start),
      clock(x$sessions$end)
    ),
    sep = ""
  )
  say <- function(what, day) {
    when <- day$text %||%
      paste0(
        "easter", if (identical(day$kind, "eastern_easter")) " (eastern)",
        sprintf(" %+d", as.integer(day$days))
      )
    cat(
      "  ", what, " ", when, if (day$name != when) paste0(" ", day$name),
      if (day$moved != "not") paste0(", moved to the ", day$moved, " weekday"),
      if (!is.null(day$from)) paste0(", from ", day$from),
      if (!is.null(day$until)) paste0(", until ", day$until), "\n",
      sep = ""
    )
  }
  if (!is.null(x$covers)) {
    cat(
      "  covers   ", x$covers$from %||% "...", " to ",
      x$covers$until %||% "...", "\n",
      sep = ""
    )
  }
  for (day in x$closed) say("closed  ", day)
  for (day in x$half_days) say("half day", day)
  invisible(x)
}
