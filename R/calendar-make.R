# A calendar says on which days and hours a value is expected.

weekday_names <- c("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")

#' Make a calendar
#'
#' @param definition A list as read from a calendar file: `calendar` (its name), `title`, `zone` (IANA), `weekdays` (English
#'   names), `sessions` (name to `"HH:MM-HH:MM"` on the local clock, an end at or before the start lies on the next day),
#'   `closed` (days on which nothing is expected) and `half_days` (days with other sessions). A day is `"MM-DD"` (every
#'   year) or `"YYYY-MM-DD"`; `closed` and `half_days` are lists of `day` and `name`, half days with `sessions` too.
#' @return A `vetusta_calendar`.
#' @section Errors: `vetusta_error_calendar`, with the part that is wrong.
#' @export
#' @examples
#' calendar_make(list(
#'   calendar = "mill", zone = "Europe/Riga", weekdays = c("monday", "tuesday"),
#'   sessions = list(regular = "08:00-16:00"), closed = list(list(day = "01-01", name = "New Year"))
#' ))
calendar_make <- function(definition) {
  known <- c("calendar", "title", "zone", "weekdays", "sessions", "closed", "half_days")
  wrong <- setdiff(names(definition), known)
  if (length(wrong)) stop_calendar(paste0("the word \"", wrong[1], "\" is not known"), "", suggest_word(wrong[1], known))
  for (part in c("calendar", "zone")) {
    if (!is.character(definition[[part]]) || length(definition[[part]]) != 1) {
      stop_calendar(paste0("`", part, "` is missing"), "", paste0("add it, as in ", part, ": ", c(calendar = "quay", zone = "Europe/Riga")[[part]]))
    }
  }
  check_zone(definition$zone, "calendar", where = paste("calendar", definition$calendar))
  weekdays <- match(tolower(unlist(definition$weekdays %||% weekday_names)), weekday_names)
  if (anyNA(weekdays)) {
    bad <- unlist(definition$weekdays)[is.na(weekdays)][1]
    stop_calendar(paste0("\"", bad, "\" is no weekday"), "weekdays", suggest_word(bad, weekday_names))
  }
  structure(
    list(
      name = definition$calendar, title = definition$title %||% definition$calendar, zone = definition$zone,
      weekdays = sort(unique(weekdays)), sessions = read_sessions(definition$sessions %||% list(regular = "00:00-24:00"), "sessions"),
      closed = read_days(definition$closed, "closed"), half_days = read_days(definition$half_days, "half_days", with_sessions = TRUE)
    ),
    class = "vetusta_calendar"
  )
}

`%||%` <- function(x, y) if (is.null(x)) y else x

stop_calendar <- function(what, where, todo) {
  vetusta_stop("calendar", paste0("The calendar is wrong: ", what, "."), where = if (nzchar(where)) where, todo = todo)
}

# "09:30-16:00" by name -> data frame of name, start, end in seconds of the local day
read_sessions <- function(sessions, where) {
  form <- "^([0-9]{1,2}):([0-9]{2})-([0-9]{1,2}):([0-9]{2})$"
  texts <- vapply(sessions, function(x) as.character(x)[1], "")
  found <- regmatches(texts, regexec(form, texts))
  bad <- which(lengths(found) == 0)
  if (length(bad) || !length(texts) || is.null(names(sessions))) {
    stop_calendar("a session has no hours that can be read", where, "write it as regular: 09:30-16:00")
  }
  hours <- matrix(as.numeric(unlist(lapply(found, `[`, -1))), ncol = 4, byrow = TRUE)
  start <- hours[, 1] * 3600 + hours[, 2] * 60
  end <- hours[, 3] * 3600 + hours[, 4] * 60
  end <- ifelse(end <= start, end + 86400, end)
  if (any(hours[, c(2, 4)] > 59) || any(hours[, c(1, 3)] > 24)) {
    stop_calendar("a session has an hour that the clock does not have", where, "write it as regular: 09:30-16:00")
  }
  frame <- data.frame(session = names(sessions), start = start, end = end)
  frame <- frame[order(frame$start), ]
  if (nrow(frame) > 1 && any(frame$start[-1] < frame$end[-nrow(frame)])) {
    stop_calendar("two sessions overlap", where, "let each begin where the one before it ends, or later")
  }
  rownames(frame) <- NULL
  frame
}

read_days <- function(days, where, with_sessions = FALSE) {
  lapply(seq_along(days), function(i) {
    entry <- days[[i]]
    place <- paste0(where, "/", i)
    wrong <- setdiff(names(entry), c("day", "name", if (with_sessions) "sessions"))
    if (length(wrong)) stop_calendar(paste0("the word \"", wrong[1], "\" is not known"), place, "use day and name")
    day <- as.character(entry$day %||% "")
    if (!grepl("^([0-9]{4}-)?[0-9]{2}-[0-9]{2}$", day) || (nchar(day) == 10 && is.na(read_day(day))) ||
          (nchar(day) == 5 && is.na(read_day(paste0("2024-", day))))) {
      stop_calendar(paste0("\"", day, "\" is no day"), place, "write it as 03-20 for every year, or as 2026-03-20")
    }
    list(day = day, name = as.character(entry$name %||% day),
         sessions = if (with_sessions) read_sessions(entry$sessions %||% list(), paste0(place, "/sessions")))
  })
}

#' @export
print.vetusta_calendar <- function(x, ...) {
  cat("calendar ", x$name, ": ", x$title, ", ", x$zone, "\n", sep = "")
  cat("  days     ", paste(weekday_names[x$weekdays], collapse = ", "), "\n", sep = "")
  clock <- function(seconds) sprintf("%02d:%02d", as.integer(seconds %/% 3600), as.integer(seconds %% 3600 %/% 60))
  cat(sprintf("  %-8s %s-%s\n", x$sessions$session, clock(x$sessions$start), clock(x$sessions$end)), sep = "")
  for (day in x$closed) cat("  closed   ", day$day, " ", day$name, "\n", sep = "")
  for (day in x$half_days) cat("  half day ", day$day, " ", day$name, "\n", sep = "")
  invisible(x)
}
