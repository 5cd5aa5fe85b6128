# Periods of all frequencies, in the spellings of ISO 8601 and of SDMX.

frequency_months <- c(A = 12, S = 6, T = 4, Q = 3, M = 1)
frequency_words <- c(
  A = "annual", S = "half-yearly", T = "four-monthly", Q = "quarterly",
  M = "monthly", W = "weekly", D = "daily", I = "instants"
)

frequency_lengths <- c(
  A = "P1Y", S = "P6M", T = "P4M", Q = "P3M", M = "P1M", W = "P1W"
)

period_forms <- c(
  A = "^([0-9]{4})(?:-?A0?1?)?$", S = "^([0-9]{4})-?[SHB]0?([12])$",
  T = "^([0-9]{4})-?T0?([1-3])$", Q = "^([0-9]{4})-?Q0?([1-4])$",
  M = "^([0-9]{4})(?:(?=[0-9]{2}$)|-?M|-)([0-9]{1,2})$",
  W = "^([0-9]{4})-?W([0-9]{1,2})$", N = "^([0-9]{4})-?D([0-9]{3})$",
  D = "^([0-9]{4}-[0-9]{2}-[0-9]{2})$"
)

#' Read periods
#'
#' @param x Texts: years (`2026`, `2026-A1`), half-years (`2026-S1`, `2026-H1`,
#'   `2026-B1`), thirds (`2026-T1`), quarters (`2026-Q1`, `2026Q1`), months
#'   (`2026-03`, `2026-M03`, `2026M03`), ISO weeks (`2026-W05`), days
#'   (`2026-03-12`, `2026-D071`), instants (`2026-03-12T09:30:00`), and SDMX
#'   time ranges (`2026-03-01/P1M`).
#' @param year_start The first day of the reporting year, as `--07-01`, for a
#'   source whose year does not begin in January, one for all or one per text;
#'   it applies to spellings with a letter (SDMX 2.1, reporting periods).
#' @return A data frame with a row per text: `text`, `frequency` (`A`, `S`, `T`,
#'   `Q`, `M`, `W`, `D`, `I` for instants, or an ISO 8601 duration for other
#'   ranges, as `PT1H` for an hour), `first`, `last` (`Date`), `days` (their
#'   number). Texts that are not periods have `NA` in all columns except `text`.
#' @section Errors: `vetusta_error_argument` for an object that is not text.
#' @export
#' @examples
#' time_periods(c("2026", "2026-Q1", "2026-03", "2026-W53", "2026-02-30"))
time_periods <- function(x, year_start = "--01-01") {
  if (missing(x) || !is.character(x)) {
    vetusta_stop(
      "argument", "Periods are read from text.",
      todo = "give texts such as \"2026-Q1\""
    )
  }
  if (length(unique(year_start)) > 1) {
    return(periods_by_start(x, rep_len(year_start, length(x))))
  }
  year_start <- if (length(year_start)) year_start[1] else "--01-01"
  known <- unique(x)
  n <- length(known)
  frequency <- rep(NA_character_, n)
  first <- last <- rep(as.Date(NA), n)
  # XML Schema allows a zone after a day, month or year; it is ignored
  text <- sub(
    "^([0-9]{4}(-[0-9]{2}(-[0-9]{2})?)?)(Z|[+-][0-9]{2}:[0-9]{2})$", "\\1",
    toupper(trimws(known))
  )
  for (name in names(period_forms)) {
    at <- which(
      is.na(frequency) & grepl(period_forms[[name]], text, perl = TRUE)
    )
    if (!length(at)) next
    parts <- regmatches(
      text[at], regexec(period_forms[[name]], text[at], perl = TRUE)
    )
    year <- as.numeric(vapply(parts, `[`, "", 2) |> substr(1, 4))
    number <- suppressWarnings(as.numeric(vapply(
      parts,
      function(part) {
        if (length(part) > 2) part[3] else "1"
      },
      ""
    )))
    lettered <- grepl("[A-Z]", text[at])
    bounds <- period_bounds(
      name, year, number, text[at], ifelse(lettered, year_start, "--01-01")
    )
    good <- !is.na(bounds$first)
    frequency[at[good]] <- if (name == "N") "D" else name
    first[at[good]] <- bounds$first[good]
    last[at[good]] <- bounds$last[good]
  }
  rest <- which(is.na(frequency))
  if (length(rest)) {
    other <- period_ranges(text[rest])
    frequency[rest] <- other$frequency
    first[rest] <- other$first
    last[rest] <- other$last
  }
  all <- data.frame(
    text = known,
    frequency = frequency,
    first = first,
    last = last,
    days = as.integer(last - first) + 1L
  )[match(x, known), ]
  rownames(all) <- NULL
  all
}

periods_by_start <- function(x, year_start) {
  all <- NULL
  for (start in unique(year_start)) {
    at <- which(year_start == start)
    part <- time_periods(x[at], start)
    if (is.null(all)) all <- part[rep(NA_integer_, length(x)), ]
    all[at, ] <- part
  }
  rownames(all) <- NULL
  all
}

period_bounds <- function(name, year, number, text, year_start) {
  if (name == "D") {
    day <- read_day(text)
    return(list(first = day, last = day))
  }
  starts <- read_day(
    paste0(sprintf("%04d", as.integer(year)), sub("^-", "", year_start))
  )
  if (name == "N") {
    day <- starts + number - 1
    day[number < 1 | day > shift_day(starts, interval_of(1, "year")) - 1] <- NA
    return(list(first = day, last = day))
  }
  if (name == "W") {
    # the first week contains the year's first Thursday (ISO 8601)
    monday <- first_monday(starts) + 7 * (number - 1)
    monday[
      number < 1 |
        monday >= first_monday(shift_day(starts, interval_of(1, "year")))
    ] <-
      NA
    return(list(first = monday, last = monday + 6))
  }
  months <- frequency_months[[name]]
  number[number < 1 | number > 12 / months] <- NA
  list(
    first = shift_months(starts, (number - 1) * months),
    last = shift_months(starts, number * months) - 1
  )
}

# The Monday of the week with the first Thursday on or after a year's first day.
first_monday <- function(starts) {
  starts + (3 - (as.numeric(starts) + 3) %% 7) %% 7 - 3
}

shift_months <- function(day, months) {
  out <- rep(as.Date(NA), length(day))
  good <- !is.na(day) & !is.na(months)
  if (!any(good)) {
    return(out)
  }
  at <- as.POSIXlt(day[good], tz = "UTC")
  month <- (at$year + 1900) * 12 + at$mon + months[good]
  first <- month_first_day(month)
  out[good] <-
    epoch_days(pmin(first + at$mday - 1, month_first_day(month + 1) - 1))
  out
}

# SDMX codes of frequencies within a day; their periods are written as instants.
sdmx_lengths <- c(H = "PT1H", N = "PT1M")

# Whether values of a frequency have a time of the day: instants, and periods
# shorter than a day.
within_day <- function(frequency) {
  frequency %in% "I" | startsWith(as.character(frequency), "PT") %in% TRUE
}

# The end of each value with a time of the day: an instant ends as it begins.
within_day_ends <- function(time, frequency) {
  length <- rep(0, length(time))
  for (code in grep("^PT", unique(frequency), value = TRUE)) {
    length[frequency %in% code] <- time_interval(code)$seconds
  }
  as.numeric(time) + length
}

# Instants, and ranges of a start and a duration.
period_ranges <- function(text) {
  n <- length(text)
  frequency <- rep(NA_character_, n)
  first <- last <- rep(as.Date(NA), n)
  instant <- read_rfc3339(text)
  at <- which(!is.na(instant))
  frequency[at] <- "I"
  # the written day, whatever its zone
  first[at] <- last[at] <- read_day(substr(text[at], 1, 10))
  ranges <- "^[0-9]{4}-[0-9]{2}-[0-9]{2}(T[0-9:.]+(Z|[+-][0-9:]+)?)?/P"
  for (i in grep(ranges, text)) {
    length <- tryCatch(
      time_interval(sub(".*/", "", text[i])),
      vetusta_error = function(e) NULL
    )
    day <- read_day(substr(text[i], 1, 10))
    if (is.null(length) || is.na(day)) next
    first[i] <- day
    last[i] <- if (is_intraday(length)) day else shift_day(day, length) - 1
    iso <- c(
      P1Y = "A", P6M = "S", P4M = "T", P3M = "Q", P1M = "M", P1W = "W",
      P1D = "D"
    )[length$iso]
    # a length without a code is its own frequency
    frequency[i] <- if (!is.na(iso)) unname(iso) else length$iso
  }
  list(frequency = frequency, first = first, last = last)
}

# Release instants: an instant, a day, or a month or year, which count from
# their first day.
released_instants <- function(text) {
  if (!length(text) || all(is.na(text))) {
    return(rep(NA_real_, length(text)))
  }
  instant <- as.numeric(read_rfc3339(as.character(text)))
  ifelse(
    is.na(instant), as.numeric(time_periods(as.character(text))$first) * 86400,
    instant
  )
}

#' @rdname time_periods
#' @param first First days of periods, `Date`.
#' @param frequency Their frequencies, one or one per period.
#' @param form `"sdmx"` (`2026-Q1`, `2026-M03`) or `"iso"` (`2026-03`; quarters
#'   and half-years as in SDMX, because ISO has none).
#' @return `time_spelling()`: texts.
#' @export
time_spelling <- function(first, frequency, form = "sdmx") {
  check_choice(form, "form", c("sdmx", "iso"))
  first <- check_days(given(first, "first"), "first")
  frequency <- given(frequency, "frequency")
  if (!is.character(frequency) ||
    (length(first) && !length(frequency)) ||
    length(unknown_frequency(frequency))) {
    vetusta_stop(
      "argument",
      paste0("`frequency` cannot be ", shown_value(frequency), "."),
      todo = paste0("use ", paste(names(frequency_words), collapse = ", "))
    )
  }
  frequency <- rep_len(frequency, length(first))
  at <- as.POSIXlt(first, tz = "UTC")
  year <- sprintf("%04d", as.integer(at$year + 1900))
  months <- unname(frequency_months[frequency])
  number <- at$mon %/% months + 1
  thursday <- as.POSIXlt(first + 3, tz = "UTC")
  week <- paste0(
    sprintf("%04d", as.integer(thursday$year + 1900)), "-W",
    sprintf("%02d", as.integer(thursday$yday %/% 7 + 1))
  )
  text <- ifelse(
    frequency == "A", year,
    ifelse(
      frequency == "M",
      paste0(
        year, if (form == "sdmx") "-M" else "-",
        sprintf("%02d", as.integer(at$mon + 1))
      ),
      ifelse(
        frequency == "W", week,
        ifelse(
          frequency %in% c("D", "I"), format(first, "%Y-%m-%d"),
          paste0(year, "-", frequency, number)
        )
      )
    )
  )
  # a period that does not begin with a calendar period is a range
  odd <- which(!is.na(first) & off_calendar(first, frequency))
  code <- frequency[odd]
  text[odd] <- paste0(
    format(first[odd], "%Y-%m-%d"), "/",
    ifelse(code %in% names(frequency_lengths), frequency_lengths[code], code)
  )
  as.character(ifelse(is.na(first), NA_character_, text))
}

# Whether a period begins elsewhere than the calendar periods of its frequency:
# fiscal years, weeks from Thursday, and lengths without a code.
off_calendar <- function(first, frequency) {
  odd <- rep(FALSE, length(first))
  for (name in unique(frequency[!is.na(frequency)])) {
    at <- which(frequency == name)
    odd[at] <- if (startsWith(name, "P")) {
      TRUE
    } else if (name %in% c("D", "I")) {
      FALSE
    } else {
      period_first(first[at], name) != first[at]
    }
  }
  odd %in% TRUE
}

# The last day of the period that begins on each day.
period_last <- function(first, frequency) {
  frequency <- rep_len(frequency, length(first))
  last <- first
  for (name in unique(frequency[!is.na(frequency)])) {
    at <- which(frequency == name)
    last[at] <- if (name %in% names(frequency_months)) {
      shift_months(first[at], rep(frequency_months[[name]], length(at))) - 1
    } else if (name == "W") {
      first[at] + 6
    } else if (startsWith(name, "P") && !within_day(name)) {
      shift_day(first[at], time_interval(name)) - 1
    } else {
      first[at]
    }
  }
  last
}

# The first day of the period that contains each day.
period_first <- function(day, frequency) {
  if (frequency %in% names(frequency_months)) {
    at <- as.POSIXlt(day, tz = "UTC")
    return(
      epoch_days(
        month_first_day(
          (at$year + 1900) * 12 + at$mon -
            at$mon %% frequency_months[[frequency]]
        )
      )
    )
  }
  if (frequency == "W") day - (as.numeric(day) + 3) %% 7 else day
}

# The first days of all periods from the one that contains `from` to the one
# that contains `to`.
period_sequence <- function(from, to, frequency) {
  first <- period_first(from, frequency)
  if (is.na(first) || is.na(to) || first > to) {
    return(as.Date(character()))
  }
  if (frequency %in% names(frequency_months)) {
    seq(first, to, by = paste(frequency_months[[frequency]], "months"))
  } else {
    seq(first, to, by = if (frequency == "W") 7 else 1)
  }
}

# The same for periods that begin as those of a series, at equal steps from
# `known`: a fiscal year, weeks from Thursday, ten days. NULL where steps
# differ.
period_steps <- function(from, to, frequency, known) {
  length <- time_interval(
    if (startsWith(frequency, "P")) {
      frequency
    } else {
      frequency_lengths[[frequency]]
    }
  )
  known <- sort(unique(known))
  ahead <- if (length$unit %in% c("day", "week")) {
    (as.numeric(known[length(known)]) - as.numeric(known[1])) /
      (length$seconds / 86400)
  } else {
    months_between(known[1], known[length(known)]) /
      (length$count * c(month = 1, year = 12)[[length$unit]])
  }
  all <- step_days(known[1], length, seq(0, ceiling(ahead)))
  if (!all(known %in% all)) {
    return(NULL)
  }
  before <- max(0, as.numeric(known[1] - from))
  behind <- max(0, as.numeric(to - known[length(known)]))
  days <- c(day = 1, week = 7, month = 28, year = 365)[[length$unit]] *
    length$count
  all <- step_days(
    known[1], length,
    seq(-ceiling(before / days), ceiling(ahead + behind / days))
  )
  all[all >= from & all <= to]
}

months_between <- function(a, b) {
  at <- as.POSIXlt(c(a, b))
  (at$year[2] - at$year[1]) * 12 + at$mon[2] - at$mon[1]
}

# A day moved by a length, for each of several counts.
step_days <- function(day, length, times) {
  if (length$unit %in% c("day", "week")) {
    return(day + times * length$seconds / 86400)
  }
  shift_months(
    rep(day, length(times)),
    times * length$count * c(month = 1, year = 12)[[length$unit]]
  )
}

# The frequency of days, from the smallest step between them.
guess_frequency <- function(day) {
  step <- diff(sort(unique(as.numeric(day))))
  if (!length(step)) {
    return("D")
  }
  names(
    which.max(
      c(D = 1, W = 6.9, M = 27, Q = 85, T = 115, S = 170, A = 350)[
        c(1, 6.9, 27, 85, 115, 170, 350) <= max(1, min(step))
      ]
    )
  )
}
