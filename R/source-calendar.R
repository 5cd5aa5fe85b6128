# Calendars of sources, from files.

#' Read a calendar
#'
#' @param calendar Path of a calendar file (YAML, see [calendar_make()]); or the
#'   name of a shipped calendar (`"quay"`); or a source with a calendar.
#' @return A `vetusta_calendar`. A file with `builds_on: quay` starts from that
#'   calendar and adds its own words; `without: [Midwinter]` removes days of the
#'   base by their names.
#' @section Errors: `vetusta_error_calendar` for a missing or invalid file.
#' @export
#' @examples
#' source_calendar("quay")
source_calendar <- function(calendar) {
  calendar <- given(calendar, "calendar", "calendar")
  beside <- NULL
  zone <- "UTC"
  if (inherits(calendar, "vetusta_source")) {
    if (is.null(calendar$calendar)) {
      return(NULL)
    }
    beside <- file.path(
      dirname(calendar$file), paste0(calendar$calendar, ".calendar.yml")
    )
    zone <- calendar$zone
    calendar <- calendar$calendar
  }
  check_text(calendar, "calendar", "calendar")
  candidates <- c(
    beside, calendar,
    system.file("calendars", paste0(calendar, ".yml"), package = "vetusta")
  )
  existing <- candidates[file.exists(candidates) & !dir.exists(candidates)]
  if (!length(existing)) {
    shipped <- sub(
      "[.]yml$", "", list.files(system.file("calendars", package = "vetusta"))
    )
    vetusta_stop(
      "calendar",
      paste0("There is no calendar \"", calendar, "\"."),
      todo = paste0(
        "give the path of a calendar file, or the name of a shipped calendar: ",
        paste(shipped, collapse = ", ")
      )
    )
  }
  definition <- calendar_definition(existing[1], character())
  # the shipped week has no zone of its own
  if (identical(definition$calendar, "weekdays")) {
    definition$zone <- definition$zone %||% zone
  }
  parsed_once(
    "calendar",
    definition,
    make = function() calendar_make(definition)
  )
}

# A calendar's file combined with the calendar it builds on: its own words take
# precedence, closed and half days are added, and `without` removes days by
# name.
calendar_definition <- function(file, above) {
  text <- readLines(file, warn = FALSE, encoding = "UTF-8")
  content <- parsed_once(
    "calendar file",
    text,
    file,
    make = function() card_yaml(text, file, "calendar")
  )
  if (is.null(content$builds_on)) {
    return(content[setdiff(names(content), "without")])
  }
  if (content$builds_on %in% above || length(above) > 10) {
    vetusta_stop(
      "calendar", "The calendar builds on itself.",
      where = file,
      todo = "correct builds_on"
    )
  }
  candidates <- c(
    file.path(
      dirname(file), paste0(content$builds_on, c(".yml", ".calendar.yml"))
    ),
    system.file(
      "calendars", paste0(content$builds_on, ".yml"),
      package = "vetusta"
    )
  )
  existing <- candidates[file.exists(candidates)]
  if (!length(existing)) {
    vetusta_stop(
      "calendar",
      paste0("The base calendar \"", content$builds_on, "\" does not exist."),
      where = file, todo = "put its file beside this calendar"
    )
  }
  base <- calendar_definition(existing[1], c(above, content$builds_on))
  kept <- function(days) {
    Filter(function(day) !isTRUE(day$name %in% content$without), days)
  }
  rest <- content[
    setdiff(names(content), c("builds_on", "without", "closed", "half_days"))
  ]
  base[names(rest)] <- rest
  for (part in c("closed", "half_days")) {
    base[[part]] <- c(kept(base[[part]]), content[[part]])
  }
  base
}

# Cards, calendars and desks are parsed once a process: results are cached by
# the text's hash, and the cache may be emptied at any time.

parsed <- new.env(parent = emptyenv())
# The size of the cache; a run over more cards parses some again.
parsed_most <- 200

# The result of `make()` for these texts and values, computed once for each.
parsed_once <- function(what, ..., make) {
  key <- digest::digest(list(what, ...), algo = "sha1")
  if (is.null(parsed[[key]])) {
    made <- make()
    if (length(parsed) >= parsed_most) rm(list = ls(parsed), envir = parsed)
    assign(key, made, envir = parsed)
  }
  parsed[[key]]
}
