# Tables and grids of an alignment.

# Unnamed arguments are tables. A named one that is no table is a misspelt
# argument.
check_tables <- function(tables) {
  known <- c(
    "grid", "rule", "point_in_time", "lag", "max_age", "ages", "form", "value",
    "interval", "zone", "calendar", "change"
  )
  for (i in seq_along(tables)) {
    name <- names(tables)[i] %||% ""
    if (nzchar(name) && !is.data.frame(tables[[i]])) {
      vetusta_stop(
        "argument",
        paste0(
          "There is no argument \"", name, "\"."
        ),
        todo = suggest_word(name, known)
      )
    }
  }
}

# One setting for all series, or one each by name.
by_series <- function(x, names, what, strict = TRUE) {
  if (is.null(x)) {
    return(stats::setNames(vector("list", length(names)), names))
  }
  if (!is.vector(x) || !length(x)) {
    vetusta_stop(
      "argument",
      paste0("`", what, "` cannot be ", shown_value(x), "."),
      todo = paste0("give one ", what, " for all series, or a named vector")
    )
  }
  if (is.null(names(x))) {
    if (length(x) > 1) {
      vetusta_stop(
        "argument",
        paste0(
          "`", what, "` is given ", length(x),
          " times without the names of the series."
        ),
        todo = paste0(
          "give one ", what,
          " for all series, or name each by its series, as c(", names[1],
          " = ...)"
        )
      )
    }
    return(stats::setNames(rep(list(x[[1]]), length(names)), names))
  }
  wrong <- setdiff(names(x), names)
  if (strict && length(wrong)) {
    vetusta_stop(
      "argument",
      paste0(
        "`", what, "` names the series \"", wrong[1],
        "\", which is not among the tables."
      ),
      todo = suggest_word(wrong[1], names)
    )
  }
  default <- if (what == "rule") "last"
  stats::setNames(
    lapply(
      names, function(name) if (name %in% names(x)) x[[name]] else default
    ),
    names
  )
}

# The times that a calendar (by default every day of the zone) expects from the
# first value to the instant from which the last one counts.
length_grid <- function(length, series, calendar, zone) {
  from <- min(unlist(lapply(series, `[[`, "time")))
  to <- max(unlist(lapply(series, `[[`, "counts")))
  as.numeric(
    calendar_times(
      calendar %||% day_calendar(zone), length, utc(from), utc(to + 1),
      if (!is.null(calendar)) main_session(calendar)
    )
  )
}

align_grid <- function(grid, series, zone, calendar = NULL) {
  if (inherits(grid, "POSIXct")) {
    grid <- as.numeric(grid)
    return(
      if (anyNA(grid) || is.unsorted(grid, strictly = TRUE)) {
        sort(unique(grid[!is.na(grid)]))
      } else {
        grid
      }
    )
  }
  if (inherits(grid, "Date")) {
    return(as.numeric(time_local(sort(unique(grid[!is.na(grid)])), 0, zone)))
  }
  if (is.list(grid)) {
    parts <- c("calendar", "interval", "from", "to")
    if (is.data.frame(grid) ||
      !all(parts %in% names(grid)) ||
      length(setdiff(names(grid), c(parts, "session")))) {
      vetusta_stop(
        "argument",
        "A grid given as a list needs calendar, interval, from and to.",
        todo = "give list(calendar = , interval = , from = , to = )"
      )
    }
    return(as.numeric(do.call(calendar_times, grid)))
  }
  known <- c("union", "intersection", names(series))
  length <- if (is.character(grid) && length(grid) == 1 && !grid %in% known) {
    tryCatch(time_interval(grid), vetusta_error_argument = function(e) NULL)
  }
  if (!is.null(length)) {
    return(length_grid(length, series, calendar, zone))
  }
  check_choice(grid, "grid", known)
  instants <- lapply(series, function(points) unique(points$counts))
  sort(
    switch(grid,
      union = unique(unlist(instants)),
      intersection = Reduce(intersect, instants),
      instants[[grid]]
    )
  )
}
