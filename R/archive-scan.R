# Work through series that do not fit into memory together.

#' Process many series in parts
#'
#' Reads a few series at a time, so that memory is bounded, and passes them to a
#' function.
#'
#' @param archive An archive, see [archive_open()].
#' @param ids Series IDs, see [archive_find()]; `NULL` for every series.
#' @param f A function of a table as returned by [archive_read()]: complete
#'   series of one dataset (for bars, of one interval).
#' @param by The approximate number of rows read at a time; a longer series is
#'   passed alone.
#' @param from,to,as_of,zone The window and the instant, as in [archive_read()].
#' @param workers The number of processes; several need an archive that other
#'   processes can open, and a system with fork.
#' @param progress Whether to show progress on standard error.
#' @return The results of `f`, in the order of the series: one tibble if all are
#'   data frames, else a list.
#' @section Errors: Those of [archive_find()]; an error of `f` ends the scan and
#'   is reported with the ID of the first series passed to it.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
#' archive_import(archive, csv, symbol = "KELD", interval = "1 day")
#' archive_scan(
#'   archive, "*@1 day",
#'   function(bars) {
#'     data.frame(
#'       symbol = bars$symbol[1], days = nrow(bars), highest = max(bars$high)
#'     )
#'   },
#'   by = 1
#' )
archive_scan <- function(archive, ids = NULL, f, by = 1e6, from = NULL,
                         to = NULL, as_of = NULL, zone = "UTC", workers = 1,
                         progress = interactive()) {
  check_archive(archive)
  check_zone(zone)
  check_number(by, "by", 1)
  check_number(workers, "workers", 1)
  check_flag(progress, "progress")
  if (!is.function(given(f, "f", "argument"))) {
    vetusta_stop(
      "argument", "`f` must be a function of a table.",
      todo = "give a function, as function(bars) ..."
    )
  }
  at <- known_at(as_of)
  listed <- archive_find(archive, ids)
  series <- store_series(archive, sizes = TRUE)
  series <- series[match(listed$id, series_id(series)), ]
  series <- series[!is.na(series$id), ]
  series <- series_without_former(archive, series, at)
  groups <- scan_groups(series, by)
  work <- function(archive, rows) {
    table <- read_table(archive, series[rows, ], from, to, at, zone)
    if (!nrow(table)) {
      return(NULL)
    }
    tryCatch(f(table), error = function(e) {
      if (inherits(e, "vetusta_error")) stop(e)
      vetusta_stop(
        "argument",
        paste0("The function failed: ", conditionMessage(e)),
        where = series_id(series[rows[1], ]),
        todo = "correct the function"
      )
    })
  }
  parts <- scan_run(archive, groups, work, workers, progress)
  parts <- parts[lengths(parts) > 0]
  if (length(parts) && all(vapply(parts, is.data.frame, TRUE))) {
    return(
      as_rows(
        as.list(data.table::rbindlist(parts, use.names = TRUE, fill = TRUE))
      )
    )
  }
  parts
}

# Groups of series of one table, with about as many rows as are read at a time.
scan_groups <- function(series, by) {
  if (!nrow(series)) {
    return(list())
  }
  table <- paste(
    series$source, series$dataset,
    ifelse(startsWith(series$frequency, "P"), series$frequency, ""),
    sep = "\r"
  )
  unlist(
    unname(
      lapply(
        split(seq_len(nrow(series)), factor(table, unique(table))),
        function(rows) {
          count <- as.numeric(series$rows[rows])
          unname(split(rows, floor((cumsum(count) - count) / by)))
        }
      )
    ),
    recursive = FALSE
  )
}

scan_run <- function(archive, groups, work, workers, progress) {
  show <- if (progress) progress_line(environment())
  report <- function(i) {
    if (!is.null(show)) {
      show(function(width) {
        paste0(
          "read ", thousands(i), " of ", thousands(length(groups)), " parts"
        )
      })
    }
  }
  if (workers < 2 || length(groups) < 2) {
    return(lapply(seq_along(groups), function(i) {
      report(i)
      work(archive, groups[[i]])
    }))
  }
  # a round has as many groups as workers, each with its own connection
  rounds <- split(seq_along(groups), (seq_along(groups) - 1) %/% workers)
  parts <- lapply(rounds, function(some) {
    report(some[1])
    parallel::mclapply(
      groups[some],
      function(rows) {
        tryCatch(
          {
            reader <- store_again(archive)
            on.exit(store_close(reader))
            list(work(reader, rows))
          },
          error = identity
        )
      },
      mc.cores = workers
    )
  })
  lapply(unlist(unname(parts), recursive = FALSE), function(part) {
    if (inherits(part, "condition")) stop(part)
    if (!is.list(part)) {
      vetusta_stop(
        "argument", "A process that read was ended.",
        todo = "run it with fewer workers, or a smaller `by`"
      )
    }
    part[[1]]
  })
}
