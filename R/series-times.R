# The three times of a row, and the facts of a table, which all functions keep.

# The facts that a table has beside its rows.
fact_names <- c(
  "interval", "zone", "calendar", "delay", "unit", "title", "source", "licence",
  "lineage"
)

facts_of <- function(x) {
  facts <- lapply(
    stats::setNames(nm = fact_names), function(name) attr(x, name, exact = TRUE)
  )
  facts[!vapply(facts, is.null, TRUE)]
}

with_facts <- function(x, facts) {
  for (name in intersect(fact_names, names(facts))) {
    attr(x, name) <- facts[[name]]
  }
  x
}

#' Facts of a table of series
#'
#' A table of series carries facts beside its rows: interval, zone, calendar,
#' units, titles and source. They stay with it through `[`, `rbind()`, `merge()`
#' and all functions of this package.
#'
#' @param x A table of series: bars, observations, or a table with `series`,
#'   `time` and `value`.
#' @param interval The length of its bars, see [time_interval()].
#' @param zone The IANA zone of its days.
#' @param calendar The calendar of its trading days.
#' @param delay How long after the end of its time a value without a stated
#'   instant is known, a length of time.
#' @param unit Units by column, as `c(close = "crowns", volume = "shares")`; or
#'   a single text, the unit of the values.
#' @param title Titles by series, as `c(KELD = "Keld Harbour Lines")`; or a
#'   single text for one series.
#' @param source A single text, the source of the table, as `"quay/bars"`.
#' @return With facts as arguments, the table with these facts; without, a list
#'   of the facts of `x`.
#' @section Errors: `vetusta_error_argument` for an invalid fact.
#' @export
#' @examples
#' days <- bars_frame(data.frame(
#'   symbol = "KELD", close = c(41, 42),
#'   time = as.POSIXct(c("2026-03-12", "2026-03-13"), tz = "UTC")
#' ))
#' days <- series_about(days, interval = "1 day", unit = c(close = "crowns"))
#' names(series_about(days))
series_about <- function(x, interval = NULL, zone = NULL, calendar = NULL,
                         delay = NULL, unit = NULL, title = NULL,
                         source = NULL) {
  x <- as_series(x)
  check_calendar(calendar)
  facts <- list(
    interval = if (!is.null(interval)) time_interval(interval),
    zone = if (!is.null(zone)) check_zone(zone),
    calendar = calendar,
    delay = if (!is.null(delay)) time_interval(delay, "delay"),
    unit = check_named(unit, "unit", value_column(x)),
    title = check_named(title, "title", unique(series_names_of(x))[1]),
    source = if (!is.null(source)) check_text(source, "source")
  )
  facts <- facts[!vapply(facts, is.null, TRUE)]
  if (length(facts)) {
    with_facts(x, facts)
  } else {
    facts_of(x)[setdiff(names(facts_of(x)), c("licence", "lineage"))]
  }
}

# Texts by name; a single text belongs to `only`.
check_named <- function(x, name, only) {
  if (is.null(x)) {
    return(NULL)
  }
  if (!is.character(x) || anyNA(x) || (is.null(names(x)) && length(x) != 1)) {
    vetusta_stop(
      "argument",
      paste0("`", name, "` must be texts with names, or one text."),
      todo = paste0("write it as c(", only, " = \"...\")")
    )
  }
  if (is.null(names(x))) stats::setNames(x, only) else x
}

# The common facts of several tables, with their units and titles combined.
facts_together <- function(all) {
  every <- lapply(stats::setNames(nm = fact_names), function(name) {
    known <- unique(lapply(all, `[[`, name))
    if (length(known) == 1) known[[1]]
  })
  for (name in c("unit", "title")) {
    texts <- do.call(c, lapply(unname(all), `[[`, name))
    # a column with two units has none
    if (name == "unit" && length(texts)) {
      several <- tapply(texts, names(texts), function(x) length(unique(x)) > 1)
      texts <- texts[!several[names(texts)]]
    }
    every[[name]] <- if (length(texts)) texts[!duplicated(names(texts))]
  }
  # what is made from several is under the terms of all
  terms <- unique(unlist(lapply(all, `[[`, "licence"), use.names = FALSE))
  if (length(terms) > 1) every$licence <- paste(terms, collapse = "; ")
  nodes <- lapply(all, `[[`, "lineage")
  if (is.null(every$lineage) && !any(vapply(nodes, is.null, TRUE))) {
    every$lineage <- list(step = "rbind", arguments = unname(nodes))
  }
  every[!vapply(every, is.null, TRUE)]
}

# Interval, zone, calendar and delay: the argument, else the table's, else UTC
# days.
frame_facts <- function(x, interval = NULL, zone = NULL, calendar = NULL) {
  calendar <- calendar %||% attr(x, "calendar", exact = TRUE)
  list(
    interval = if (!is.null(interval)) {
      time_interval(interval)
    } else {
      attr(x, "interval", exact = TRUE)
    },
    calendar = calendar,
    zone = zone %||% attr(x, "zone", exact = TRUE) %||% calendar$zone %||%
      "UTC",
    delay = attr(x, "delay", exact = TRUE)
  )
}

# list(through, known), in seconds: the columns, else the end of each row's
# period, and the delay after it. With a lag a row is known no earlier than the
# lag after `through`. `facts` come from frame_facts().
row_times <- function(x, end, facts = list()) {
  behind <- function(instants, length) {
    if (is.null(length)) {
      instants
    } else {
      as.numeric(shift_instant(utc(instants), length, 1, facts$zone %||% "UTC"))
    }
  }
  through <- stated_instants(x, "through", end)
  known <- stated_instants(x, "known", behind(through, facts$delay))
  if (!is.null(facts$lag)) known <- pmax(known, behind(through, facts$lag))
  list(through = through, known = known)
}

stated_instants <- function(x, name, otherwise) {
  stated <- x[[name]]
  if (is.null(stated)) {
    return(otherwise)
  }
  stated <- as.numeric(
    if (inherits(stated, "POSIXct")) {
      stated
    } else {
      read_instants(stated, name, na = TRUE)
    }
  )
  unstated <- which(is.na(stated))
  stated[unstated] <- otherwise[unstated]
  stated
}

# Adds the columns `through` and `known` where they differ from what interval,
# zone, calendar and delay imply. Both are in seconds; without `known` the
# table's own rule applies.
with_times <- function(x, through, known = NULL) {
  x$through <- x$known <- NULL
  # a bar a session has no fixed length
  end <- if (tells_ends(x)) end_times(x, frame_facts(x))
  if (!identical(through, end) && !(length(end) && all(through == end))) {
    x$through <- utc(through)
  }
  delayed <- !is.null(attr(x, "delay", exact = TRUE))
  if (!is.null(known) && (delayed || any(known != through))) {
    x$known <- utc(known)
  }
  x
}

# The length of bars that state none: the smallest step between two bars of a
# series, so that no bar counts too early. NULL where each series has a single
# bar.
step_interval <- function(time, groups) {
  step <- smallest_step(time, groups)
  if (is.na(step)) {
    return(NULL)
  }
  if (step < 72000) {
    return(interval_of(step, "second"))
  }
  days <- max(1, round(step / 86400))
  # months and years vary in length, or keep their day of the month; other
  # lengths do not
  months <- round(days / 30.4375)
  steps <- diff(as.numeric(time)) / step
  monthly <- days >= 28 &&
    abs(days - months * 30.4375) <= 3.5 &&
    (length(unique(as.POSIXlt(utc(as.numeric(time)))$mday)) == 1 ||
      any(abs(steps - round(steps)) > 1e-6))
  if (monthly) interval_of(months, "month") else interval_of(days, "day")
}

# Whether the end of each row follows from the table.
tells_ends <- function(x) UseMethod("tells_ends")
#' @export
tells_ends.default <- function(x) TRUE
#' @export
tells_ends.vetusta_bars <- function(x) {
  !is.null(attr(x, "interval", exact = TRUE))
}

# The unit of each value: that of its row, else that of the column.
units_of <- function(series, column) {
  stated <- attr(series, "unit", exact = TRUE)[column]
  stated <- if (length(stated)) unname(stated) else NA_character_
  units <- as.character(series[["unit"]] %||% rep(NA_character_, nrow(series)))
  ifelse(is.na(units), stated, units)
}

# The unit of each series that has one, by name.
series_units <- function(x, column) {
  named <- as.character(series_names_of(x))
  if (is.null(x[["unit"]])) {
    stated <- unname(attr(x, "unit", exact = TRUE)[column])
    named <- if (length(stated) && !is.na(stated)) unique(named)
    return(stats::setNames(rep(as.character(stated), length(named)), named))
  }
  units <- units_of(x, column)
  first <- which(!is.na(units))
  first <- first[!duplicated(named[first])]
  stats::setNames(units[first], named[first])
}

# Units of the values of series: of the table where all have the same, else a
# column.
with_series_units <- function(rows, units) {
  own <- unname(units[unique(as.character(rows$series))])
  if (!length(own) || all(is.na(own))) {
    rows
  } else if (!anyNA(own) && length(unique(own)) == 1) {
    attr(rows, "unit") <- unit_of_value(own[1])
    rows
  } else {
    rows$unit <- unname(units[as.character(rows$series)])
    rows
  }
}

titles_of <- function(series) {
  titles <- attr(series, "title", exact = TRUE)
  if (is.null(titles)) {
    rep(NA_character_, nrow(series))
  } else {
    unname(titles[as.character(series_names_of(series))])
  }
}

# Whether times are less than a day apart.
is_within_days <- function(time) {
  steps <- diff(sort(unique(time)))
  length(steps) > 0 && stats::median(steps) < 72000
}
