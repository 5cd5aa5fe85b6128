# Lists whose members change: the instruments of a directory, the members of an
# index.

#' Members of a list
#'
#' @param archive An archive.
#' @param list A dataset of instruments (`quay/directory`), or one list of a
#'   dataset of members (`quay/members/Q20`).
#' @param on A day: the members of that day, as known then. Without it every
#'   membership.
#' @return A tibble with a row per membership: `symbol`, `first_day`, `last_day`
#'   (`Date`; `NA` while it lasts or where it is not stated), `announced` (the
#'   day from which it was known, if stated). What was announced or collected
#'   later than `on` is not in it: a later last day is `NA`.
#' @section Errors: `vetusta_error_argument` for an unknown list.
#' @export
#' @examples
#' \dontrun{
#' archive_members(archive, "quay/members/Q20", on = "2019-06-30")
#' }
archive_members <- function(archive, list, on = NULL) {
  check_archive(archive)
  check_text(given(list, "list"), "list")
  parts <- strsplit(list, "/", fixed = TRUE)[[1]]
  if (!length(parts) %in% 2:3) {
    vetusta_stop(
      "argument", paste0("\"", list, "\" is no list."),
      todo = "write it as quay/directory or quay/members/Q20"
    )
  }
  rows <- archive_rows(archive, parts[1], parts[2])
  if (is.null(rows[["symbol"]])) {
    vetusta_stop(
      "argument", paste0(list, " has no symbols."),
      todo = "name a dataset of instruments or of members"
    )
  }
  if (!is.null(rows[["list"]])) {
    if (length(parts) < 3) {
      vetusta_stop(
        "argument", paste0(list, " has several lists."),
        todo = paste0(
          "name one: ", paste(
            utils::head(paste0(list, "/", unique(rows$list)), 5),
            collapse = ", "
          )
        )
      )
    }
    check_known(parts[3], unique(rows$list), "list")
    rows <- rows[rows$list %in% parts[3], , drop = FALSE]
  }
  day <- function(names) {
    for (name in names) {
      if (inherits(rows[[name]], "Date")) return(rows[[name]])
    }
    as.Date(rep(NA, nrow(rows)))
  }
  out <- as_rows(list(
    symbol = as.character(rows$symbol),
    first_day = day(c("first_day", "listed")),
    last_day = day(c("last_day", "delisted")), announced = day("announced")
  ))
  out <- out[order(out$symbol, out$first_day), , drop = FALSE]
  if (is.null(on)) out else members_on(out, time_instant(on, name = "on"))
}

# The members of a day, without what was announced later.
members_on <- function(members, on) {
  day <- as.Date(on, tz = "UTC")
  known <- is.na(members$announced) | members$announced <= day
  begun <- is.na(members$first_day) | members$first_day <= day
  here <- is.na(members$last_day) | members$last_day >= day
  out <- members[known & begun & here, , drop = FALSE]
  out$last_day[out$last_day > day] <- NA
  out
}
