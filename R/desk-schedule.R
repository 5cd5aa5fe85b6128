# A desk's times as lines of a crontab or units of systemd, beside those of
# others.

#' Schedule of a desk
#'
#' @param desk A desk, see [desk_open()].
#' @param now The present time.
#' @return `desk_schedule()`: a `vetusta_schedule`, a tibble with a row per time
#'   of a query: `query`, `times` (as written), `last` and `next_due`
#'   (`POSIXct`, UTC; `NA` without one within a year), `due` (whether it was due
#'   and not refreshed since).
#' @section Errors: `vetusta_error_desk` for times on trading days of a source
#'   without a calendar, or in a session that it does not have.
#' @export
#' @examples
#' desk <- desk_make(file.path(tempdir(), "timed-desk"))
#' desk <- desk_track(desk, "shares", "quay",
#'   symbols = "KELD", interval = "1 day", span = "1 year",
#'   times = "at 18:30 Europe/Riga on trading days"
#' )
#' desk_schedule(desk)
desk_schedule <- function(desk, now = NULL) {
  now <- now %||% now_time()
  check_desk(desk)
  archive <- desk_archive(desk)
  on.exit(if (!is.null(archive)) archive_close(archive))
  rows <- unlist(
    lapply(names(desk$track), function(name) {
      begun <- if (!is.null(archive)) {
        query_begun(archive, desk$track[[name]], name)
      } else {
        NA_real_
      }
      lapply(desk$track[[name]]$times, function(text) {
        due <- due_around(desk, name, text, as.numeric(now))
        c(
          list(query = name, times = text), due,
          list(due = !is.na(due$last) && (is.na(begun) || begun < due$last))
        )
      })
    }),
    recursive = FALSE
  )
  pick <- function(part, empty) {
    if (length(rows)) sapply(rows, `[[`, part) else empty
  }
  result <- as_rows(
    list(
      query = pick("query", character()),
      times = pick("times", character()),
      last = utc(pick("last", numeric())),
      next_due = utc(pick("next_due", numeric())),
      due = pick("due", logical())
    )
  )
  class(result) <- c("vetusta_schedule", class(result))
  result
}

# The latest instant up to now and the next one; an instant more than a month
# ago is past.
due_around <- function(desk, name, text, now) {
  calendar <- times_calendar(desk, name, text)
  times <- desk_times(text)
  at <- function(from, to) {
    as.numeric(
      at_place(
        desk_instants(times, from, to, calendar),
        desk_place(desk, "track", name, "times")
      )
    )
  }
  before <- at(now - 31 * 86400, now)
  after <- at(now, now + 8 * 86400)
  if (!length(after)) after <- at(now, now + 366 * 86400)
  list(
    last = if (length(before)) max(before) else NA_real_,
    next_due = if (length(after)) min(after) else NA_real_
  )
}

times_calendar <- function(desk, name, text) {
  source <- desk_source(desk, desk$track[[name]]$source)
  if (is.null(source$calendar)) NULL else source_calendar(source)
}

# The start of a query's last refresh.
query_begun <- function(archive, entry, name) {
  notes <- store_notes(
    archive, "begun", entry$source, entry$dataset %||% "", name
  )
  if (nrow(notes)) notes$at else NA_real_
}

# Due queries: their latest time has passed since their last start.
desk_due <- function(desk, now = NULL) {
  now <- now %||% now_time()
  schedule <- desk_schedule(desk, now)
  unique(schedule$query[schedule$due])
}

#' @rdname desk_schedule
#' @param zone The zone of the machine's clock, which a crontab uses.
#' @return `desk_crontab()`: lines of a crontab, with the times of all queries
#'   in the machine's zone, in summer and winter. Each run refreshes only due
#'   queries, so a time missed while the machine was off is caught up at the
#'   next one. `desk_units()`: a named list of the texts of systemd units, by
#'   file name.
#' @export
desk_crontab <- function(desk, zone = machine_zone()) {
  check_desk(desk)
  check_zone(zone, "desk")
  instants <- desk_all_instants(desk)
  if (!length(instants)) {
    return(character())
  }
  command <- desk_command(desk)
  local <- as.POSIXlt(utc(instants), tz = zone)
  minute <- tapply(
    local$min, local$hour, function(x) paste(sort(unique(x)), collapse = ",")
  )
  # hours with the same minutes share a line, on the days of any of them
  lines <- vapply(
    unique(minute),
    function(minutes) {
      hours <- as.integer(names(minute)[minute == minutes])
      days <- sort(unique(local$wday[local$hour %in% hours]))
      paste(
        minutes, cron_list(hours), "* *",
        if (length(days) == 7) "*" else cron_list(days), command
      )
    },
    ""
  )
  unname(lines)
}

# The time zone of the machine's clock.
machine_zone <- function() {
  link <- Sys.readlink("/etc/localtime")
  zones <- c(
    Sys.getenv("TZ"), sub("^.*zoneinfo/", "", link),
    if (file.exists("/etc/timezone")) {
      readLines("/etc/timezone", n = 1, warn = FALSE)
    }
  )
  known <- Filter(is_zone, zones[nzchar(zones)])
  if (length(known)) known[1] else "UTC"
}

# Consecutive numbers as 9-17, others separated by commas.
cron_list <- function(x) {
  x <- sort(unique(x))
  group <- cumsum(c(1, diff(x) != 1))
  paste(
    tapply(x, group, function(run) {
      if (length(run) > 2) {
        paste0(run[1], "-", run[length(run)])
      } else {
        paste(run, collapse = ",")
      }
    }),
    collapse = ","
  )
}

# All instants of the coming year at which a query is due.
desk_all_instants <- function(desk) {
  now <- now_seconds()
  sort(unique(unlist(lapply(names(desk$track), function(name) {
    lapply(desk$track[[name]]$times, function(text) {
      as.numeric(
        at_place(
          desk_instants(
            desk_times(text), now, now + 366 * 86400,
            times_calendar(desk, name, text)
          ),
          desk_place(desk, "track", name, "times")
        )
      )
    })
  }))))
}

# The command of a timer, in one line. A per cent sign would end a crontab's
# line.
desk_command <- function(desk) {
  if (grepl("[[:cntrl:]]", desk$folder)) {
    vetusta_stop(
      "desk",
      "A timer cannot be set for a folder whose name has a line break in it.",
      where = encodeString(desk$folder),
      todo = "give the folder another name"
    )
  }
  libraries <- paste(.libPaths(), collapse = .Platform$path.sep)
  command <- paste0(
    "R_LIBS=", shQuote(libraries), " ",
    shQuote(file.path(R.home("bin"), "Rscript")),
    " --no-init-file -e 'vetusta::cli_main()' refresh --due --quiet ",
    "--log --desk ", shQuote(desk$folder)
  )
  gsub("%", "\\%", command, fixed = TRUE)
}

#' @rdname desk_schedule
#' @export
desk_units <- function(desk) {
  check_desk(desk)
  name <- desk_timer_name(desk)
  texts <- unlist(lapply(desk$track, function(entry) entry$times))
  if (!length(texts)) {
    return(list())
  }
  wanted <- unlist(lapply(names(desk$track), function(query) {
    lapply(desk$track[[query]]$times, function(text) {
      times <- desk_times(text)
      zone <- times$zone %||% times_calendar(desk, query, text)$zone %||% "UTC"
      unit_times(times, zone)
    })
  }))
  folder <- gsub("%", "%%", desk$folder, fixed = TRUE)
  service <- c(
    "[Unit]", paste0("Description=Refresh the desk ", folder), "", "[Service]",
    "Type=oneshot", paste0("WorkingDirectory=", folder),
    paste0(
      "ExecStart=/bin/sh -c ",
      unit_quote(gsub("\\%", "%", desk_command(desk), fixed = TRUE))
    )
  )
  timer <- c(
    "[Unit]", paste0("Description=When the desk ", folder, " is due"), "",
    "[Timer]", paste0("OnCalendar=", unique(wanted)), "Persistent=true", "",
    "[Install]", "WantedBy=timers.target"
  )
  stats::setNames(list(service, timer), paste0(name, c(".service", ".timer")))
}

# systemd expands % and $, so they are doubled.
unit_quote <- function(text) {
  text <- gsub("$", "$$", text, fixed = TRUE)
  paste0(
    "\"",
    gsub(
      "%", "%%",
      gsub("\"", "\\\"", gsub("\\", "\\\\", text, fixed = TRUE), fixed = TRUE),
      fixed = TRUE
    ),
    "\""
  )
}

# systemd knows zones and weekdays; the refresh itself knows trading days.
unit_times <- function(times, zone) {
  days <- if (is.numeric(times$days)) {
    paste0(
      paste(
        c("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")[times$days],
        collapse = ","
      ),
      " "
    )
  }
  hours <- times$seconds %/% 3600
  minutes <- tapply(times$seconds %% 3600 / 60, hours, function(x) {
    paste(sprintf("%02d", as.integer(x)), collapse = ",")
  })
  vapply(
    unique(minutes),
    function(minute) {
      paste0(
        days, "*-*-* ",
        paste(
          sprintf("%02d", as.integer(names(minutes)[minutes == minute])),
          collapse = ","
        ),
        ":", minute, ":00 ", zone
      )
    },
    "",
    USE.NAMES = FALSE
  )
}

# A name unique to the desk.
desk_timer_name <- function(desk) {
  paste0("vetusta-", substr(content_hash(charToRaw(desk$folder)), 1, 12))
}

# Replaces the lines of a crontab between marks that name the desk; other lines
# stay.
crontab_with <- function(lines, desk, entries) {
  marks <- paste0(
    "# ", c("begin ", "end "), desk_timer_name(desk), " ", desk$folder
  )
  begin <- which(lines == marks[1])
  end <- which(lines == marks[2])
  if (length(begin) != length(end) || any(begin > end)) {
    vetusta_stop(
      "desk",
      "The lines of this desk in the crontab were edited.",
      where = paste(marks, collapse = " ... "),
      todo = "remove them with crontab -e"
    )
  }
  for (i in rev(seq_along(begin))) lines <- lines[-(begin[i]:end[i])]
  c(lines, if (length(entries)) c(marks[1], entries, marks[2]))
}

crontab_read <- function() {
  crontab_needed()
  result <- processx::run("crontab", "-l", error_on_status = FALSE)
  if (result$status != 0 && !grepl("no crontab", result$stderr)) {
    crontab_failed(result)
  }
  if (result$status == 0) {
    strsplit(result$stdout, "\n", fixed = TRUE)[[1]]
  } else {
    character()
  }
}

crontab_write <- function(lines) {
  file <- tempfile("crontab")
  on.exit(unlink(file))
  writeLines(lines, file)
  result <- processx::run("crontab", file, error_on_status = FALSE)
  if (result$status != 0) crontab_failed(result)
}

crontab_needed <- function() {
  if (!nzchar(Sys.which("crontab"))) {
    vetusta_stop(
      "desk", "There is no cron on this machine.",
      todo = "install it (Debian: cron), or use --systemd"
    )
  }
}

crontab_failed <- function(result) {
  vetusta_stop(
    "desk",
    paste0(
      "The crontab cannot be read or written: ",
      sub("\n.*", "", trimws(result$stderr))
    ),
    todo = "check whether this user may use cron"
  )
}

#' @export
print.vetusta_schedule <- function(x, ...) {
  cat(format_schedule(x), sep = "\n")
  invisible(x)
}

format_schedule <- function(x, width = 80) {
  if (!nrow(x)) {
    return(
      paste0(
        "no query of the desk has times; set them with `times:` in desk.yml ",
        "or `vetusta track --times`"
      )
    )
  }
  text_table(
    data.frame(
      query = x$query,
      "next (UTC)" = to_minute(x$next_due, "never"),
      now = ifelse(x$due, "due", ""),
      times = x$times,
      check.names = FALSE
    ),
    width
  )
}
