# Members of a list in time: an index, a sector, a market.

#' Keep series while they are members of a list
#'
#' @param x A table of series, or a wide table of [series_align()] with a column
#'   per series.
#' @param members A data frame with `symbol` (or `series`), `first_day` and
#'   `last_day` (`Date`; `NA` while the membership lasts, or where the first day
#'   is not stated). A symbol may be a member several times. See
#'   [archive_members()].
#' @param zone The IANA zone of days; by default that of the table.
#' @return The table without the values of days on which a series was no member:
#'   rows are left out, and in a wide table the values are `NA`. A series that
#'   was never a member has no rows. So a universe has its members of each day,
#'   also those that left later, without survivorship.
#' @section Errors: `vetusta_error_shape` for other tables.
#' @export
#' @examples
#' days <- data.frame(
#'   symbol = rep(c("KELD", "TAMX"), each = 3), close = 1:6,
#'   time = as.POSIXct("2026-03-09", tz = "UTC") + 86400 * rep(0:2, 2)
#' )
#' series_members(
#'   bars_frame(days),
#'   data.frame(
#'     symbol = c("KELD", "TAMX"), first_day = as.Date(NA),
#'     last_day = as.Date(c(NA, "2026-03-10"))
#'   )
#' )
series_members <- function(x, members, zone = NULL) {
  if (!is.null(zone)) check_zone(zone)
  asked <- lineage_asked()
  members <- members_frame(given(members, "members"))
  check_rows(given(x, "x"), "x")
  long <- any(vapply(series_shapes, function(columns) {
    all(columns %in% names(x))
  }, TRUE))
  kept <- if (long) {
    members_rows(as_series(x), members, zone)
  } else {
    members_wide(x, members, zone %||% attr(x, "zone", exact = TRUE) %||% "UTC")
  }
  lineage_step(kept, "series_members", asked)
}

members_frame <- function(members) {
  check_rows(members, "members")
  symbol <- members[["symbol"]] %||% members[["series"]]
  if (is.null(symbol)) {
    vetusta_stop(
      "shape", "Members need the column `symbol`.",
      todo = "give a table of archive_members()"
    )
  }
  day <- function(name) {
    values <- members[[name]] %||% rep(NA, length(symbol))
    if (!inherits(values, "Date")) values <- read_day(as.character(values))
    as.numeric(values)
  }
  first <- day("first_day")
  last <- day("last_day")
  data.frame(
    symbol = as.character(symbol),
    first = ifelse(is.na(first), -Inf, first),
    last = ifelse(is.na(last), Inf, last)
  )
}

# Whether names are members on days.
is_member <- function(name, day, members) {
  out <- logical(length(name))
  # a name of a history that has ended means its symbol
  levels <- unique(name)
  name <- former_parts(levels)$symbol[match(name, levels)]
  for (i in which(members$symbol %in% name)) {
    hit <- name == members$symbol[i] & day >= members$first[i] &
      day <= members$last[i]
    out[which(hit)] <- TRUE
  }
  out
}

members_rows <- function(x, members, zone) {
  zone <- zone %||% frame_facts(x)$zone
  day <- if (!is.null(x[["period"]])) {
    as.numeric(x$period)
  } else {
    as.numeric(local_day(x$time, zone))
  }
  x[is_member(series_names_of(x), day, members), , drop = FALSE]
}

members_wide <- function(x, members, zone) {
  if (is.null(x[["time"]])) {
    vetusta_stop(
      "shape", "The table has neither series nor times.",
      todo = "give series, or a table of series_align()"
    )
  }
  day <- as.numeric(
    if (inherits(x$time, "Date")) x$time else local_day(x$time, zone)
  )
  for (name in setdiff(names(x), "time")) {
    # the age of a value has the name of its series before the point
    known <- former_parts(name)$symbol %in% members$symbol
    series <- if (known) name else sub("[.][^.]*$", "", name)
    x[[name]][!is_member(rep(series, length(day)), day, members)] <- NA
  }
  x
}
