# Joining series of several sources into one history.

#' Join series of several sources
#'
#' Takes the value of the preferred source if it has one, and otherwise that of
#' the next source.
#'
#' @param ... Two or more tables, the preferred one first, each with one series:
#'   bars, observations or points. Names of the tables become values of
#'   `origin`.
#' @param adjust How the level of later sources is adjusted to that of earlier
#'   ones: `"none"`, by the median `"ratio"` or `"difference"` of their common
#'   values.
#' @param overlap The part of the common values used for this: a duration before
#'   its end, as `"1 year"`; `NULL` for all.
#' @param tolerance The largest relative difference of two values of one time,
#'   after the adjustment, that is not a finding.
#' @param value The column of bars to use.
#' @param name The name of the joined series; by default that of the preferred
#'   one.
#' @param zone The IANA zone of days; by default that of each table.
#' @return A `vetusta_points` tibble: `series`, `time` (`POSIXct`; for periods
#'   `period`), `value`, `status`, `through`, `known`, `origin` (the source of
#'   each value). The attribute `factors` has a row per table: `origin`,
#'   `factor`, `offset` (value = source's value x factor + offset), `overlap`
#'   (the number of common values used); the attribute `findings` has a row per
#'   time at which two sources disagree: `time` or `period`, `origin`, `value`,
#'   `other`, `other_value`, `part`. `through` and `known` are those of each
#'   value, and for adjusted values no earlier than those of the values that
#'   measured the level. Values of different units are joined by a ratio only;
#'   the unit is then that of the first table.
#' @section Errors: `vetusta_error_shape` for an object that is not a single
#'   series; `vetusta_error_argument` for an adjustment without common values,
#'   or a ratio of values at or below zero.
#' @export
#' @examples
#' a <- data.frame(
#'   series = "level",
#'   period = as.Date("2026-03-12") + 0:2,
#'   value = c(250, 251, 249)
#' )
#' b <- data.frame(
#'   series = "level",
#'   period = as.Date("2026-03-10") + 0:3,
#'   value = c(260, 262, 260, 261)
#' )
#' series_join(survey = a, old = b, adjust = "difference")
series_join <- function(..., adjust = "none", overlap = NULL, tolerance = 0.02,
                        value = "close", name = NULL, zone = NULL) {
  asked <- lineage_asked()
  tables <- list(...)
  check_choice(adjust, "adjust", c("none", "ratio", "difference"))
  check_number(tolerance, "tolerance", 0)
  check_text(value, "value")
  if (!is.null(name)) check_text(name, "name")
  if (!is.null(zone)) check_zone(zone)
  if (length(tables) < 2) {
    vetusta_stop(
      "argument", "A join needs two or more tables.",
      todo = "give a table for each source"
    )
  }
  length_of <- if (!is.null(overlap)) {
    interval_seconds(time_interval(overlap, "overlap"))
  } else {
    Inf
  }
  tables <- lapply(tables, as_series)
  names <- names(tables) %||% rep("", length(tables))
  dated <- all(vapply(tables, function(x) !is.null(x[["period"]]), TRUE))
  parts <- lapply(
    seq_along(tables), function(i) join_part(tables[[i]], value, dated, zone)
  )
  titles <- vapply(parts, `[[`, "", "name")
  origins <- ifelse(nzchar(names), names, make.unique(titles, sep = " "))
  all <- parts[[1]]$rows
  all$origin <- rep(origins[1], length(all$at))
  factors <- list(
    list(origin = origins[1], factor = 1, offset = 0, overlap = NA_real_)
  )
  findings <- list()
  for (i in seq_along(parts)[-1]) {
    done <- join_behind(all, parts[[i]]$rows, adjust, length_of, origins[i])
    findings[[i]] <- join_findings(all, done$rows, tolerance, origins[i])
    factors[[i]] <- done$factor
    fresh <- !done$rows$at %in% all$at[!is.na(all$value)]
    # a row without a value in an earlier source was looked at too
    empty <- match(done$rows$at, all$at[is.na(all$value)])
    for (part in c("through", "known")) {
      done$rows[[part]] <- pmax(
        done$rows[[part]], all[[part]][is.na(all$value)][empty],
        na.rm = TRUE
      )
    }
    kept <- !(all$at %in% done$rows$at[fresh])
    all <- Map(
      c, lapply(all, `[`, kept), lapply(done$rows, `[`, fresh)[names(all)]
    )
  }
  order <- order(all$at, method = "radix")
  all <- lapply(all, `[`, order)
  time <- if (dated) list(period = all$period) else list(time = utc(all$at))
  n <- length(all$at)
  result <- as_rows(
    c(
      list(series = rep(name %||% titles[1], n)), time,
      if (dated) list(frequency = all$frequency),
      list(
        value = all$value, status = all$status, through = utc(all$through),
        known = utc(all$known), origin = all$origin
      )
    )
  )
  facts <- facts_together(lapply(tables, facts_of))
  result <- with_facts(
    result,
    facts[names(facts) %in% c("zone", "calendar", "source", "licence")]
  )
  title <- attr(tables[[1]], "title", exact = TRUE)[titles[1]]
  if (length(title) && !is.na(title)) {
    attr(result, "title") <- stats::setNames(title, name %||% titles[1])
  }
  attr(result, "unit") <- unit_of_value(join_unit(tables, value, adjust))
  attr(result, "factors") <- as_rows(as.list(data.table::rbindlist(factors)))
  joined_findings <- data.table::rbindlist(findings)
  if (!dated && nrow(joined_findings)) names(joined_findings)[1] <- "time"
  attr(result, "findings") <- as_rows(as.list(joined_findings))
  shape <- if (dated) "vetusta_observations" else "vetusta_points"
  lineage_step(with_shape(result, shape), "series_join", asked)
}

# The unit of joined values: by a ratio all come to that of the first table;
# without one they must agree.
join_unit <- function(tables, value, adjust) {
  units <- lapply(tables, function(x) {
    unname(series_units(x, value_asked(x, value) %||% value_column(x)))[1]
  })
  known <- unique(Filter(Negate(is.na), unlist(units)))
  if (length(known) > 1 && adjust != "ratio") {
    vetusta_stop(
      "argument",
      paste0(
        "The tables have different units: ", paste(known, collapse = ", "), "."
      ),
      todo = paste0(
        "bring them to one unit first, or join them with adjust = \"ratio\""
      )
    )
  }
  if (adjust == "ratio") units[[1]] else known
}

# list(name, rows): one series as plain columns, `at` in seconds.
join_part <- function(x, value, dated, zone) {
  if (nrow(x) && !is.null(x[["period"]])) x <- series_frame(x)
  points <- as.list(series_points(x, if (is_bars(x)) value, zone = zone))
  series <- unique(points$series)
  if (length(series) != 1) {
    vetusta_stop(
      "shape",
      paste0(
        "A table to join must have a single series, and this table has ",
        length(series), "."
      ),
      where = paste(utils::head(series, 3), collapse = ", "),
      todo = "choose one of them"
    )
  }
  # days joined with instants begin at local midnight
  at <- if (is.null(x[["period"]]) || dated) {
    points$time
  } else {
    as.numeric(
      time_local(
        epoch_days(points$time / 86400), 0, frame_facts(x, zone = zone)$zone
      )
    )
  }
  if (anyDuplicated(at)) {
    vetusta_stop(
      "shape", paste0("The series ", series, " has two values at one time."),
      todo = "choose a single release"
    )
  }
  status <- points$status %||% rep("observed", length(at))
  rows <- c(
    list(
      at = at, value = points$value, status = as.character(status),
      through = points$through, known = points$known
    ),
    if (dated) list(period = epoch_days(at / 86400), frequency = x$frequency)
  )
  list(name = series, rows = lapply(rows, `[`, !status %in% "deleted"))
}

# The rows of a later source, on the level of the earlier ones.
join_behind <- function(all, rows, adjust, length_of, origin) {
  factor <- list(origin = origin, factor = 1, offset = 0, overlap = NA_real_)
  if (adjust == "none") {
    rows$origin <- rep(origin, length(rows$at))
    return(list(rows = rows, factor = factor))
  }
  common <- join_common(all, rows)
  common <- lapply(common, `[`, common$at > max(common$at, -Inf) - length_of)
  if (!length(common$at)) {
    vetusta_stop(
      "argument",
      paste0(
        "The source ", origin, " has no value in common with those ",
        "before it, by which its level could be known."
      ),
      todo = "join them as they are: adjust = \"none\""
    )
  }
  if (adjust == "ratio") {
    if (any(common$a <= 0 | common$b <= 0)) {
      vetusta_stop(
        "argument", "Values at or below zero have no ratio.",
        todo = "use adjust = \"difference\""
      )
    }
    factor$factor <- stats::median(common$a / common$b)
  } else {
    factor$offset <- stats::median(common$a - common$b)
  }
  factor$overlap <- length(common$at)
  rows$value <- rows$value * factor$factor + factor$offset
  # the level is known once all values that determine it are
  both <- intersect(all$at, rows$at)
  both <- both[both > max(common$at) - length_of]
  for (name in c("through", "known")) {
    measured <- max(
      all[[name]][all$at %in% both], rows[[name]][rows$at %in% both]
    )
    rows[[name]] <- pmax(rows[[name]], measured)
  }
  rows$origin <- rep(origin, length(rows$at))
  list(rows = rows, factor = factor)
}

join_common <- function(all, rows) {
  at <- intersect(all$at[!is.na(all$value)], rows$at[!is.na(rows$value)])
  list(
    at = at,
    a = all$value[match(at, all$at)],
    b = rows$value[match(at, rows$at)]
  )
}

join_findings <- function(all, rows, tolerance, origin) {
  common <- join_common(all, rows)
  part <- abs(common$a - common$b) / pmax(abs(common$a), abs(common$b))
  bad <- which(part > tolerance)
  place <- match(common$at[bad], all$at)
  list(
    period = if (is.null(all[["period"]])) {
      utc(common$at[bad])
    } else {
      all$period[place]
    },
    origin = all$origin[place],
    value = common$a[bad],
    other = rep(origin, length(bad)),
    other_value = common$b[bad],
    part = part[bad]
  )
}
