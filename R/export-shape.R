# Series of any kind as one table: long, wide, or SDMX-CSV.

#' Series as one table
#'
#' @param tables Tables of series of any kinds, as returned by [archive_read()].
#' @param form `"long"`: a row per value, with the columns of its kind; mixed
#'   kinds have `series`, `time`, `value`, `status` and `known`. `"wide"`: a row
#'   per time and a column per series, under its name; bars by side have both in
#'   the name (`ORV-TSK bid`). `"sides"`: for bars by side, a row per time and
#'   symbol and a column per side.
#' @param value The column of bars, if only one is used (`"close"`).
#' @param zone The IANA zone of days, if a table has days and instants.
#' @param instants Whether bars of a day or longer keep the instant of their
#'   opening in place of their trading day.
#' @return A tibble. It has a `period` if all tables have days or periods, else
#'   a `time`, with a day at its first instant.
#' @section Errors: `vetusta_error_argument` for an object that is not a series,
#'   an unknown form, or two series of one name in a wide table.
#' @export
#' @examples
#' days <- data.frame(
#'   series = "level",
#'   period = as.Date("2026-03-12") + 0:1,
#'   value = c(250.1, 251)
#' )
#' export_rows(list(days), form = "wide")
export_rows <- function(tables, form = "long", value = "close", zone = "UTC",
                        instants = FALSE) {
  tables <- given(tables, "tables")
  if (is.data.frame(tables)) tables <- list(tables)
  if (!is.list(tables) ||
    !length(tables) ||
    !all(vapply(tables, function(x) is.data.frame(x) && length(x) > 0, TRUE))) {
    vetusta_stop(
      "argument", "These are not tables of series.",
      todo = "give a list of them, as archive_read() does"
    )
  }
  check_choice(form, "form", c("long", "wide", "sides"))
  check_zone(zone)
  check_flag(instants, "instants")
  days <- !instants && all(vapply(tables, has_day_bars, TRUE))
  if (form == "long" && length(tables) == 1) {
    table <- if (days) bars_dated(tables[[1]]) else tables[[1]]
    return(
      with_facts(as_rows(as.list(table)), facts_of(table)[c("unit", "title")])
    )
  }
  tables <- lapply(tables, function(x) as_series(facts_as_values(x)))
  if (form == "sides") {
    return(rows_by_side(tables, value, days))
  }
  alike <- length(unique(vapply(tables, function(x) class(x)[1], ""))) == 1
  if (form == "long" && alike) {
    facts <- lapply(tables, facts_of)
    plain <- lapply(
      tables, function(x) as.list(without_shape(if (days) bars_dated(x) else x))
    )
    rows <- as_rows(
      as.list(
        data.table::rbindlist(unname(plain), use.names = TRUE, fill = TRUE)
      )
    )
    return(with_facts(rows, facts_together(facts)[c("unit", "title")]))
  }
  dated <- all(vapply(
    tables,
    function(x) {
      !is.null(x[["period"]]) || (!instants && has_day_bars(x))
    },
    TRUE
  ))
  points <- lapply(
    tables, long_points,
    value = value, dated = dated, zone = zone
  )
  all <- data.table::rbindlist(unname(points), use.names = TRUE, fill = TRUE)
  if (form == "long") {
    return(as_rows(as.list(all)))
  }
  wide_rows(all, if (dated) "period" else "time")
}

# Facts as values of series: a company's item is a series, and its time is the
# end of its period.
facts_as_values <- function(x) {
  if (!all(c("symbol", "item", "period_end", "value") %in% names(x))) {
    return(x)
  }
  apart <- setdiff(
    names(x),
    c(
      "period_start", "period_end", "value", "filed", "decimals", "status",
      "known"
    )
  )
  parts <- lapply(as.list(x)[apart], function(part) {
    ifelse(is.na(part), "", key_part(as.character(part)))
  })
  series_frame(
    list_frame(
      list(
        series = sub("[.]+$", "", do.call(paste, c(unname(parts), sep = "."))),
        period = as_days(x$period_end),
        value = x$value
      )
    )
  )
}

# Bars by side: a row a time and symbol, a column a side.
rows_by_side <- function(tables, value, days) {
  sided <- vapply(
    tables,
    function(x) {
      is_bars(x) && !is.null(x[["side"]]) && !all(is.na(x$side))
    },
    TRUE
  )
  if (!all(sided)) {
    vetusta_stop(
      "argument", "The form \"sides\" needs bars with sides.",
      todo = "choose the form long or wide"
    )
  }
  parts <- lapply(tables, function(x) {
    if (days) x <- bars_dated(x)
    check_column(x, value)
    list(
      time = x$time,
      symbol = as.character(x$symbol),
      side = as.character(x$side),
      value = x[[value]]
    )
  })
  all <- data.table::rbindlist(unname(parts))
  all <- all[
    order(as.numeric(all$time), match(all$symbol, unique(all$symbol))),
  ]
  key <- paste(format_exact(all$time), all$symbol)
  first <- !duplicated(key)
  sides <- unique(all$side[!is.na(all$side)])
  columns <- lapply(stats::setNames(nm = sides), function(side) {
    matching <- which(all$side %in% side)
    all$value[matching][match(key[first], key[matching])]
  })
  as_rows(c(list(time = all$time[first], symbol = all$symbol[first]), columns))
}

wide_rows <- function(points, time) {
  names <- unique(points$series)
  key <- paste(points$series, format_exact(points[[time]]))
  if (anyDuplicated(key)) {
    twice <- points$series[duplicated(key)][1]
    vetusta_stop(
      "argument", paste0("The series ", twice, " has two values at one time."),
      todo = "choose a single release, or write the table long"
    )
  }
  at <- sort(unique(points[[time]]))
  row <- match(as.numeric(points[[time]]), as.numeric(at))
  columns <- lapply(stats::setNames(nm = names), function(name) {
    column <- rep(NA_real_, length(at))
    matching <- points$series == name
    column[row[matching]] <- points$value[matching]
    column
  })
  as_rows(c(stats::setNames(list(at), time), columns))
}

# Observations as SDMX-CSV 1.0: DATAFLOW, the dimensions, TIME_PERIOD,
# OBS_VALUE, the attributes.
sdmx_rows <- function(rows, dataflow, dimensions) {
  standard <- c(
    "name", "series", "period", "time", "frequency", "value", "unit", "status",
    "through", "known"
  )
  dimensions <- intersect(dimensions, names(rows))
  if (!length(dimensions)) dimensions <- c(SERIES = "series")
  attributes <- setdiff(names(rows), c(standard, dimensions))
  attributes <- attributes[vapply(rows[attributes], is.atomic, TRUE)]
  period <- if (is.null(rows[["period"]])) {
    sdmx_times(rows)
  } else {
    time_spelling(rows$period, rows$frequency)
  }
  columns <- c(
    list(DATAFLOW = rep(dataflow, nrow(rows))),
    stats::setNames(
      as.list(rows)[dimensions], names(dimensions) %||% dimensions
    ),
    list(TIME_PERIOD = period, OBS_VALUE = rows$value),
    as.list(rows)[attributes],
    sdmx_attributes(rows, c(names(dimensions), attributes, dimensions))
  )
  # SDMX-CSV is read by programs, not spreadsheets, so texts are not protected
  structure(as_rows(columns), message = TRUE)
}

# Unit and status under their names in the standard, where no column says them.
sdmx_attributes <- function(rows, names) {
  unit <- rows[["unit"]]
  said <- any(c("UNIT_MEASURE", "UNIT") %in% names)
  if (is.null(unit) || all(is.na(unit)) || said) unit <- NULL
  code <- unname(
    c(observed = "A", provisional = "P", missing = "M", filled = "I")[
      as.character(rows[["status"]])
    ]
  )
  if (!any(code %in% c("P", "M", "I")) || "OBS_STATUS" %in% names) code <- NULL
  c(
    if (!is.null(unit)) list(UNIT_MEASURE = as.character(unit)),
    if (!is.null(code)) list(OBS_STATUS = code)
  )
}

# The periods of a table with times: instants, also for hours and minutes that
# the key states, ranges of other lengths, and periods of days and longer.
sdmx_times <- function(rows) {
  text <- format_instant(rows$time)
  code <- as.character(rows[["frequency"]] %||% rep("I", length(text)))
  key <- as.character(rows[["FREQ"]] %||% rep(NA, length(text)))
  range <- which(
    startsWith(code, "PT") & !(sdmx_lengths[key] == code) %in% TRUE
  )
  text[range] <- paste0(text[range], "/", code[range])
  longer <- which(!is.na(code) & !within_day(code))
  text[longer] <- time_spelling(
    as.Date(rows$time[longer], tz = "UTC"), code[longer]
  )
  text
}
