# The input of models: one series, in order of time, as it was known.

# A list of name, unit, time, days, value, filled, frequency, step and known:
# `days` are days since 1970, `time` is a Date, or POSIXct for instants. Gaps
# are an error, or counted.
model_input <- function(x, value = NULL, as_of = NULL, calendar = NULL,
                        holes = "refuse") {
  table <- as_series(x)
  names <- unique(series_names_of(table))
  if (length(names) != 1) {
    vetusta_stop(
      "model",
      if (length(names)) {
        paste0(
          "A model has a single series, and these are ", length(names), "."
        )
      } else {
        "There is nothing to model."
      },
      todo = if (length(names)) {
        paste0("choose one of: ", paste(utils::head(names, 8), collapse = ", "))
      } else {
        "look at the series and the window"
      }
    )
  }
  points <- without_notes(
    series_points(
      table, value_asked(table, value),
      calendar = calendar,
      times_only = is.null(as_of)
    )
  )
  if (!is.null(as_of)) {
    points <- points[points$known <= known_by(as_of), , drop = FALSE]
  }
  points <- points[order(points$time, points$known), , drop = FALSE]
  points <- points[!duplicated(points$time, fromLast = TRUE), , drop = FALSE]
  about <- model_frequency(table, points$time)
  missing <- is.na(points$value)
  count <- sum(missing) + model_holes(table, points$time[!missing], about)
  if (count && holes == "refuse") model_holed(names, count)
  points <- points[!missing, , drop = FALSE]
  if (nrow(points) < 10) {
    vetusta_stop(
      "model",
      paste0(
        "The series ", names, " has ", counted(nrow(points), "value"),
        if (!is.null(as_of)) " that were known then", ", too few for a model."
      ),
      todo = "give at least ten, or another window"
    )
  }
  whole <- all(points$time %% 86400 == 0)
  unit <- unique(
    stats::na.omit(units_of(table, value %||% value_column(table)))
  )
  list(
    name = names,
    unit = if (length(unit) == 1) unit else NA_character_,
    time = if (whole) epoch_days(points$time / 86400) else utc(points$time),
    days = points$time / 86400,
    value = points$value,
    filled = points$status %in% "filled",
    frequency = about$code,
    step = about$step,
    holes = count,
    known = if (is.null(as_of)) NULL else max(points$known)
  )
}

# A day means its end.
known_by <- function(as_of) {
  at <- as.numeric(time_instant(as_of, end = TRUE, name = "as_of"))
  if (is.na(at)) {
    vetusta_stop(
      "model", "`as_of` is missing.",
      todo = "give an instant or a day, or NULL for now"
    )
  }
  if (at > as.numeric(time_instant(as_of, name = "as_of"))) at - 1e-6 else at
}

model_holed <- function(name, count) {
  vetusta_stop(
    "model",
    paste0("The series ", name, " has ", counted(count, "hole"), "."),
    todo = paste0(
      "fill them first, so that it shows: series_fill(), or on the ",
      "command line ", "--fill linear"
    )
  )
}

# list(code, step, days): the frequency of a series; `step` in words, `days` its
# length.
model_frequency <- function(table, time) {
  code <- unique(stats::na.omit(as.character(table[["frequency"]])))
  gap <- if (length(time) > 1) stats::median(diff(time)) / 86400 else 1
  known <- list(
    D = c("day", 1),
    W = c("week", 7),
    M = c("month", 30.436875),
    Q = c("quarter", 91.310625),
    S = c("half-year", 182.62125),
    A = c("year", 365.2425)
  )
  if (length(code) == 1 && code %in% names(known)) {
    return(
      list(
        code = code,
        step = known[[code]][1],
        days = as.numeric(known[[code]][2])
      )
    )
  }
  # without a code the steps decide; days without weekends are trading days
  if (gap > 0.9 && gap < 1.1) {
    weekends <- mean(as.POSIXlt(utc(time))$wday %in% c(0, 6))
    if (weekends < 0.1 && length(time) > 10) {
      return(list(code = "T", step = "trading day", days = 365.2425 / 252))
    }
    return(list(code = "D", step = "day", days = 1))
  }
  near <- vapply(known, function(entry) abs(log(as.numeric(entry[2]) / gap)), 0)
  if (min(near) < 0.05) {
    code <- names(known)[which.min(near)]
    return(
      list(
        code = code,
        step = known[[code]][1],
        days = as.numeric(known[[code]][2])
      )
    )
  }
  list(code = "I", step = "value", days = gap)
}

# The number of expected times without a value, where the frequency is known.
model_holes <- function(table, time, about) {
  if (length(time) < 2) {
    return(0)
  }
  if (about$code %in% c("D", "W")) {
    return(
      max(0, round(diff(range(time)) / 86400 / about$days) + 1 - length(time))
    )
  }
  if (about$code %in% c("M", "Q", "S", "A")) {
    date <- as.POSIXlt(utc(range(time)))
    months <- diff(date$year * 12 + date$mon)
    return(
      max(
        0,
        round(months / c(M = 1, Q = 3, S = 6, A = 12)[[about$code]]) + 1 -
          length(time)
      )
    )
  }
  0
}

# The elapsed part of the year, from 0 to 1; 29 February has its own place, and
# every other day the same in all years.
year_part <- function(days) {
  date <- as.POSIXlt(epoch_days(floor(days)))
  leap <- year_is_leap(date$year + 1900)
  day <- date$yday + (days - floor(days))
  # in a common year days from March on have their place of a leap year
  (day + ifelse(!leap & date$yday >= 59, 1, 0)) / 366
}

year_is_leap <- function(year) {
  (year %% 4 == 0 & year %% 100 != 0) | year %% 400 == 0
}

# Days or instants as days since 1970.
model_dates <- function(x, name) {
  vapply(
    as.list(x),
    function(day) as.numeric(time_instant(day, name = name)) / 86400, 0
  )
}

# A length of time in days, from a number of days or words.
model_days <- function(x, name) {
  if (is.numeric(x)) {
    check_number(x, name, 1e-6, "model")
    if (!is.finite(x)) {
      vetusta_stop(
        "model", paste0("`", name, "` must be finite."),
        todo = "give a number of days"
      )
    }
    return(as.numeric(x))
  }
  interval <- time_interval(x, name)
  mean <- c(month = 30.436875, quarter = 91.310625, year = 365.2425)
  if (interval$unit %in% names(mean)) {
    interval$count * mean[[interval$unit]]
  } else {
    interval_seconds(interval) / 86400
  }
}

# Days in words: a year, half a year, 11 days.
period_words <- function(days) {
  near <- function(what) abs(days / what - 1) < 0.02
  if (near(365.2425)) {
    "a year"
  } else if (near(182.62)) {
    "half a year"
  } else if (near(121.75)) {
    "a third of a year"
  } else if (near(91.31)) {
    "a quarter of a year"
  } else if (near(30.44)) {
    "a month"
  } else if (near(7)) {
    "a week"
  } else if (days > 730) {
    paste(signif(days / 365.2425, 3), "years")
  } else if (days >= 2) {
    paste(signif(days, 3), "days")
  } else {
    paste(signif(days * 24, 3), "hours")
  }
}

# A series with the facts of a model's series.
model_rows <- function(data, value, status = "observed") {
  clock <- if (inherits(data$time, "Date")) {
    list(period = data$time)
  } else {
    list(time = data$time)
  }
  as_rows(
    c(
      list(series = rep(data$name, length(value))), clock,
      list(
        value = as.numeric(value),
        status = rep(status, length.out = length(value))
      )
    )
  )
}

# A whole number up to a bound.
check_whole <- function(x, name, least = 1, most = 1e8, kind = "model") {
  if (!is.numeric(x) ||
    length(x) != 1 ||
    is.na(x) ||
    x < least ||
    x > most ||
    x != round(x)) {
    vetusta_stop(
      kind,
      paste0(
        "`", name, "` must be a whole number from ", least, " to ",
        format(most, scientific = FALSE, big.mark = ","), "."
      ),
      todo = paste("correct", name)
    )
  }
}

# Further arguments must be arguments of the function they are passed to.
check_handed <- function(given, f, name) {
  if (!is.list(given) ||
    is.data.frame(given) ||
    (length(given) && is.null(names(given)))) {
    vetusta_stop(
      "model", paste0("`", name, "` is a list of arguments."),
      todo = "write it as list(order = c(1, 0))"
    )
  }
  for (argument in names(given)) {
    check_choice(argument, name, setdiff(names(formals(f)), "x"), "model")
  }
}

# The result of the user's function, with its errors reported as such.
handed_function <- function(work, name) {
  tryCatch(work, error = function(e) {
    vetusta_stop(
      "model",
      paste0("The function `", name, "` fails: ", conditionMessage(e)),
      todo = "correct the function; the help page shows its arguments"
    )
  })
}

check_model <- function(x, class, name, made) {
  if (!inherits(x, class)) {
    vetusta_stop(
      "model",
      paste0("`", name, "` must be a result of ", made, "."),
      todo = paste0("make it with ", made)
    )
  }
}
