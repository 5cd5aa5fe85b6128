# Checks of a desk's data: rules of series, stale queries, rejected rows, and
# what the desk's file adds.

#' Check a desk's data
#'
#' Watches the series of a desk's archive by rules, see [series_watch()], and
#' keeps the findings in the archive: each is told once as new and then as
#' still there, until it is gone or accepted.
#'
#' @param desk A desk, see [desk_open()].
#' @param ids Series IDs or patterns; by default all series.
#' @param since Only findings that reach to this day or later; by default 90
#'   days before the newest value of each dataset.
#' @return `desk_check()`: the findings, as returned by [archive_findings()],
#'   of the class `vetusta_findings`. Beside the rules of [series_watch()]:
#'   `stale` (a tracked query is stale, see [desk_status()]), `rejected` (rows
#'   that were rejected), `differ` (two sources of one thing differ) and
#'   `adds_up` (values of a statement do not add up). `checks:` of `desk.yml`
#'   sets the rules.
#' @section Errors: `vetusta_error_desk` without an archive;
#'   `vetusta_error_argument` for unknown IDs.
#' @export
#' @examples
#' \dontrun{
#' desk_check(desk_open("my-desk"))
#' }
desk_check <- function(desk, ids = NULL, since = NULL) {
  check_desk(desk)
  archive <- desk_archive_filled(desk)
  on.exit(archive_close(archive))
  series <- archive_find(archive, ids)
  own <- c("differ", "adds_up")
  rules <- desk$checks[setdiff(names(desk$checks), own)]
  found <- c(
    checks_series(desk, archive, series, rules, since),
    if (is.null(ids)) {
      list(
        checks_stale(desk), checks_rejected(archive, since),
        checks_differ(archive, desk$checks$differ, since),
        checks_adds_up(archive, desk$checks$adds_up)
      )
    }
  )
  rows <- do.call(rbind, c(list(watch_none()), unname(found)))
  stored <- archive_series(archive)$id
  checked <- if (is.null(ids)) {
    c(stored, setdiff(archive_findings(archive)$series, stored))
  } else {
    series$id
  }
  today <- local_day(utc(store_now(archive)), "UTC")
  settled <- findings_settle(archive, rows, checked, today)
  findings_shown(settled[settled$series %in% checked |
    settled$id %in% finding_ids(rows), , drop = FALSE])
}

findings_shown <- function(rows) {
  class(rows) <- c("vetusta_findings", class(rows))
  rows
}

# Findings of the rules of series, dataset by dataset, under their series IDs.
checks_series <- function(desk, archive, series, rules, since) {
  drawable <- series$id %in% c(
    datasets_of_shape(series, "bars")$id,
    datasets_of_shape(series, "observations")$id
  )
  series <- series[drawable, , drop = FALSE]
  groups <- split(
    series, paste(series$source, series$dataset, series$frequency)
  )
  lapply(groups, function(group) {
    calendar <- tryCatch(
      source_calendar(desk_source(desk, group$source[1])),
      vetusta_error = function(e) NULL
    )
    zone <- calendar$zone %||% "UTC"
    tables <- tryCatch(
      without_notes(archive_read(archive, group$id, zone = zone)),
      vetusta_error = function(e) NULL
    )
    if (!length(tables) || !nrow(tables[[1]])) {
      return(NULL)
    }
    from <- since %||% format(local_day(max(group$last), zone) - 90)
    table <- tables[[1]]
    found <- as.data.frame(series_watch(
      table, if (is_bars(table)) calendar, rules, from, zone
    ))
    if (group$shape[1] != "bars") {
      found <- rbind(found, checks_releases(archive, group, rules, from))
    }
    id <- group$id[match(found$series, group$key)]
    found$series <- ifelse(is.na(id), found$series, id)
    found
  })
}

# Revisions come from all releases.
checks_releases <- function(archive, group, rules, from) {
  settings <- watch_settings(rules)$revision
  if (is.null(settings)) {
    return(NULL)
  }
  rows <- as.data.frame(archive_revisions(archive, group$id, all = TRUE))
  if (!nrow(rows)) {
    return(NULL)
  }
  table <- data.frame(
    series = rows$series, period = rows[[2]], known = rows$known,
    value = rows$value
  )
  watch_since(watch_revisions(
    as_series(table), settings$percent, NULL
  ), from)
}

watch_since <- function(found, since) {
  if (is.null(since) || !NROW(found)) {
    return(found)
  }
  found[as.numeric(found$last) >= as.numeric(time_instant(since)), ]
}

checks_stale <- function(desk) {
  if (!length(desk$track)) {
    return(NULL)
  }
  status <- as.data.frame(desk_status(desk))
  status <- status[status$stale %in% TRUE, , drop = FALSE]
  at <- status$complete_until
  at[is.na(at)] <- utc(0)
  watch_row(
    "stale", paste0("query ", status$query), at, at, rep(
      "serious", nrow(status)
    ), rep("nothing new was collected in the time that is usual", nrow(status))
  )
}

checks_rejected <- function(archive, since) {
  rows <- as.data.frame(archive_rejected(archive))
  if (!nrow(rows)) {
    return(NULL)
  }
  parts <- split(rows, paste(rows$symbol, rows$reason))
  watch_since(do.call(rbind, unname(lapply(parts, function(part) {
    name <- part$symbol[1]
    watch_row(
      "rejected", if (is.na(name)) "rejected rows" else paste("rows of", name),
      min(part$found), max(part$found), "serious",
      paste0(counted(nrow(part), "row"), ": ", part$reason[1])
    )
  }))), since)
}

# Two series of one thing that differ by more than so many percent.
checks_differ <- function(archive, pairs, since) {
  do.call(rbind, lapply(pairs, function(pair) {
    ids <- unlist(pair$series)
    tables <- without_notes(archive_read(archive, ids, from = since))
    rows <- do.call(rbind, lapply(tables, function(table) {
      series <- as_series(table)
      data.frame(
        series = series_of_rows(series),
        day = local_day(start_times(series), attr(table, "zone") %||% "UTC"),
        source = attr(table, "source", exact = TRUE)[1] %||% "",
        time = start_times(series), value = series[[value_column(series)]]
      )
    }))
    rows$series <- paste(rows$source, rows$series)
    names <- unique(rows$series)
    if (length(names) != 2) {
      return(NULL)
    }
    # several values a day are compared by their times
    daily <- !anyDuplicated(rows[c("series", "day")])
    both <- merge(
      rows[rows$series == names[1], ], rows[rows$series == names[2], ],
      by = if (daily) "day" else "time"
    )
    both$time.x <- both[["time.x"]] %||% both$time
    by <- 100 * abs(both$value.x - both$value.y) /
      pmax(abs(both$value.x), abs(both$value.y))
    at <- which(by > (pair$percent %||% 1))
    watch_row(
      "differ", paste(ids, collapse = " and "), both$time.x[at],
      both$time.x[at], "serious", paste0(
        signif(both$value.x[at], 6), " and ", signif(both$value.y[at], 6),
        ", ", round(by[at], 1), "% apart"
      )
    )
  }))
}

# Items of statements whose parts do not add up to their total.
checks_adds_up <- function(archive, sums) {
  if (!length(sums)) {
    return(NULL)
  }
  series <- datasets_of_shape(archive_series(archive), "facts")
  if (!nrow(series)) {
    return(NULL)
  }
  tables <- without_notes(archive_read(archive, series$id))
  do.call(rbind, lapply(tables, function(table) {
    facts <- as.data.frame(table)
    facts$basis <- facts[["basis"]] %||% rep("", nrow(facts))
    # of values that were filed again the newest counts
    facts <- facts[order(facts[["filed"]] %||% seq_len(nrow(facts))), ]
    own <- facts[c("symbol", "item", "period_end", "basis")]
    facts <- facts[!duplicated(own, fromLast = TRUE), , drop = FALSE]
    place <- paste(facts$symbol, facts$period_end, facts$basis)
    do.call(rbind, lapply(names(sums), function(total) {
      parts <- unlist(sums[[total]])
      value <- function(item) {
        rows <- facts[facts$item == item, ]
        stats::setNames(
          rows$value, place[facts$item == item]
        )
      }
      whole <- value(total)
      all <- lapply(parts, function(part) value(part)[names(whole)])
      added <- Reduce(`+`, all)
      off <- which(abs(added - whole) > 0.005 * abs(whole))
      rows <- facts[match(names(whole)[off], place), , drop = FALSE]
      watch_row(
        "adds_up", paste(rows$symbol, total), as.POSIXct(rows$period_end),
        as.POSIXct(rows$period_end), "serious", paste0(
          paste(parts, collapse = " + "), " is ",
          format(signif(added[off], 8), big.mark = ",", trim = TRUE), ", and ",
          total, " ", format(signif(whole[off], 8), big.mark = ",", trim = TRUE)
        )
      )
    }))
  }))
}

#' @export
format.vetusta_findings <- function(x, width = 80, ...) {
  open <- x[x$state != "accepted", , drop = FALSE]
  accepted <- nrow(x) - nrow(open)
  if (!nrow(open)) {
    return(c(
      "no findings",
      if (accepted) paste0(counted(accepted, "finding"), " accepted")
    ))
  }
  open <- open[order(open$state != "new", open$severity != "serious"), ]
  day <- function(time) format(time, "%Y-%m-%d", tz = "UTC")
  shown <- data.frame(
    id = substr(open$id, 1, 6), state = open$state, rule = open$rule,
    series = short_names(open$series, 34), first = day(open$first),
    last = ifelse(day(open$last) == day(open$first), "", day(open$last)),
    finding = open$detail
  )
  if (!any(nzchar(shown$last))) shown$last <- NULL
  new <- sum(open$state == "new")
  c(
    text_table(shown, width), "",
    paste0(
      counted(nrow(open), "finding"), ", ", thousands(new), " new",
      if (accepted) paste0("; ", thousands(accepted), " accepted")
    )
  )
}

#' @export
print.vetusta_findings <- function(x, ...) {
  cat(format(x), sep = "\n")
  invisible(x)
}
