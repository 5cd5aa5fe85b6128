# Where a stored value came from: its versions, the request that brought each,
# and the place of the row in the answer.

#' Trace a value to its request
#'
#' Shows for the values of one series at a time: every version, when it was
#' known, the request that brought it, and the place of the row in the answer.
#'
#' @param archive An archive, see [archive_open()].
#' @param id The ID of one series, see [archive_find()].
#' @param at The day, period or instant of the values. A day means all bars of
#'   that day.
#' @return A tibble of class `vetusta_trace` with a row per version, oldest
#'   first: `series` (its ID), `time` (`POSIXct`, UTC, the start of what it
#'   speaks of), `known` (`POSIXct`, from when it counts), `value` (for bars the
#'   close), `unit`, `status`, `row` (all stored columns, as JSON); of the
#'   request: `run`, `asked` (`POSIXct`), `url` (without secrets; of an import
#'   the name of the file), `http` (its status), `bytes`, `hash` (xxHash, 64
#'   bits, of the body or file; 16 characters), `place` (of the row in the
#'   answer: a JSON Pointer, `/rates, member 3` where rows are the members of an
#'   object, `line N`, `observation N`, of a message of statistics with its
#'   action, as `merge, observation N`, where that is not to insert, else
#'   `row N`), `symbol` (what the request was for); `sent` (the row as it was
#'   sent, where raw pages of JSON, CSV or XML are kept; an observation of
#'   SDMX-JSON under its keys); `card` (the MD5
#'   hash of the source card in force). `NA` where something is not known.
#' @details A version that was corrected before it counted, as an unfinished bar
#'   that was replaced, is not kept. Rows that were stored before an archive
#'   recorded origins have no request.
#' @section Errors: Those of [archive_find()]; `vetusta_error_argument` if the
#'   ID names several series, or there is no value at that time.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
#' archive_import(archive, csv, symbol = "KELD", interval = "1 day")
#' archive_trace(archive, "KELD", "2026-03-12")
archive_trace <- function(archive, id, at) {
  check_archive(archive)
  check_text(id, "id")
  given(at, "at")
  rows <- store_snapshot(archive, function() {
    listed <- archive_find(archive, id)
    if (!nrow(listed)) {
      vetusta_stop(
        "argument", paste0("The series \"", id, "\" has no values."),
        todo = "collect it, or name another"
      )
    }
    if (nrow(listed) != 1) {
      vetusta_stop(
        "argument",
        paste0(
          "\"", id, "\" is ", counted(nrow(listed), "series", "series"), "."
        ),
        todo = paste0(
          "name one of them: ",
          paste(utils::head(listed$id, 3), collapse = ", ")
        )
      )
    }
    series <- store_series(archive, ids = attr(listed, "numbers"))
    trace_rows(archive, series, listed$id, at)
  })
  structure(rows, class = c("vetusta_trace", class(rows)))
}

# The first and last instant of what `at` names, by the shape of a series. Bars
# of a day or longer are named by their trading day, which may begin the evening
# before.
trace_windows <- list(
  bars = function(at, facts, interval) {
    zone <- trace_zone(facts)
    at <- period_bound(at, "from")
    window <- c(
      as.numeric(time_instant(at, zone, name = "at")),
      as.numeric(time_instant(at, zone, end = TRUE, name = "at"))
    )
    if (!is_intraday(time_interval(interval)) && diff(window) > 0) {
      list(
        window = window + c(-86400, 86400),
        days = local_day(utc(window - c(0, 1e-6)), zone)
      )
    } else {
      list(window = window)
    }
  }
)

trace_window <- function(series, at, facts) {
  window <- trace_windows[[series$shape]] %||%
    function(at, ...) list(window = period_window(at, at))
  window(at, facts, series$frequency)
}

# The days by which bars of a day or longer are shown; NULL for other rows.
trace_days <- function(series, time, facts) {
  if (startsWith(series$frequency, "P") &&
    !is_intraday(time_interval(series$frequency))) {
    bar_trading_days(time, facts$calendar, trace_zone(facts))
  }
}

trace_rows <- function(archive, series, id, at) {
  facts <- dataset_facts(archive, series$source, series$dataset)
  asked <- trace_window(series, at, facts)
  window <- asked$window
  if (window[2] <= window[1]) window[2] <- window[1] + 1e-6
  read <- read_rows(archive, series, window[1], window[2], Inf, newest = FALSE)
  days <- trace_days(series, read$columns$time, facts)
  if (!is.null(asked$days)) {
    read <- without_rows(
      read, which(days < asked$days[1] | days > asked$days[2])
    )
    days <- trace_days(series, read$columns$time, facts)
  }
  columns <- read$columns
  if (!length(columns$time)) {
    ends <- as.numeric(
      archive_find(archive, id)[c("first", "last")]
    )
    vetusta_stop(
      "argument",
      paste0("The series has no value at ", format(at), "."),
      where = id,
      todo = paste0(
        "give a time between ", to_minute(utc(ends[1])), " and ",
        to_minute(utc(ends[2])), " UTC"
      )
    )
  }
  name <- intersect(c("value", "close"), names(columns))[1]
  value <- if (!is.na(name) && is.numeric(columns[[name]])) {
    columns[[name]]
  } else {
    NA_real_
  }
  unit <- trace_unit(archive, series, facts, columns, name)
  status <- columns[["status"]] %||% rep("observed", length(columns$time))
  status[is.na(status)] <- "observed"
  came <- origins_of_rows(
    archive, series, as.numeric(columns$time), known_order(columns$known)
  )
  values <- columns[setdiff(names(columns), time_columns)]
  rows <- c(
    list(
      series = rep(id, length(columns$time)),
      time = columns$time,
      known = rows_known(archive, series, read),
      value = rep_len(value, length(columns$time)),
      unit = rep_len(unit, length(columns$time)),
      status = status,
      row = record_texts(values)
    ),
    trace_requests(archive, series, came)
  )
  rows <- as_rows(rows)
  attr(rows, "days") <- days
  rows
}

# The unit of a value: its own, that of its series, or of its dataset.
trace_unit <- function(archive, series, facts, columns, name) {
  dims <- series_dimensions(series)
  columns[["unit"]] %||% dims[["unit"]] %||%
    unit_codes(words_frame(store_attributes(archive, series$id)), dims) %||%
    unname(facts$unit[name]) %||% NA_character_
}

trace_zone <- function(facts) {
  facts$calendar$zone %||% facts$zone %||% "UTC"
}

# The entry of origins that gave each row: entry, journal, hash, place; NA
# where there is none.
origins_of_rows <- function(archive, series, time, known) {
  n <- length(time)
  out <- list_frame(
    list(
      entry = rep(NA_real_, n), journal = rep(NA_real_, n),
      hash = rep(NA_character_, n), place = rep(NA_character_, n)
    )
  )
  found <- store_origins(archive, series, min(time), max(time))
  if (is.null(found)) {
    return(out)
  }
  of <- origin_entries(found, time, known)
  hit <- which(!is.na(of))
  out[hit, c("entry", "journal", "hash")] <-
    found[of[hit], c("entry", "journal", "hash")]
  for (i in unique(of[hit])) {
    at <- which(of == i)
    out$place[at] <- origin_places(
      archive, series, found[i, ], time[at], known[at]
    )
  }
  out
}

# Which range gave each row: the newest that holds it.
origin_entries <- function(found, time, known) {
  of <- rep(NA_integer_, length(time))
  for (i in seq_len(nrow(found))) {
    # from the first row of the range to its last, in order of time and instant
    after <- time > found$first[i] |
      (time == found$first[i] & known >= found$since[i])
    before <- time < found$last[i] |
      (time == found$last[i] & known <= found$until[i])
    of[after & before] <- i
  }
  of
}

# The place in the answer of rows of a range: its numbers are in order of time
# and instant, so those of the stored rows that it gave. Where a row has been
# replaced since, its time still has a number; NA where times are missing too.
origin_places <- function(archive, series, range, time, known) {
  absent <- rep(NA_character_, length(time))
  if (is.na(range$place)) {
    return(absent)
  }
  base <- sub("[|][^|]*$", "", range$place)
  numbers <- ranges_numbers(sub("^.*[|]", "", range$place))
  stored <- store_read(
    archive, series$id, range$first, range$last + 1e-6,
    newest = FALSE
  )$columns
  all <- list(
    time = as.numeric(stored$time), known = known_order(stored$known)
  )
  found <- store_origins(archive, series, range$first, range$last)
  of <- origin_entries(found, all$time, all$known)
  mine <- which(
    found$entry[of] == range$entry & found$first[of] == range$first &
      found$since[of] == range$since
  )
  times <- unique(all$time)
  at <- if (length(mine) == length(numbers)) {
    match_pairs(time, known, all$time[mine], all$known[mine])
  } else if (length(times) == length(numbers) &&
    !anyDuplicated(all$time[mine])) {
    match(time, times)
  }
  if (is.null(at)) {
    return(absent)
  }
  ifelse(
    is.na(numbers[at]), NA_character_,
    paste0(base, format(numbers[at], trim = TRUE))
  )
}

# What the journal, kept pages and cards have of the requests of rows.
trace_requests <- function(archive, series, came) {
  ids <- unique(came$journal[!is.na(came$journal)])
  journal <- sql_get(
    archive,
    "SELECT id, run, asked, url, status, bytes, symbol, message FROM journal
      WHERE id IN @numbers",
    list(json_numbers(ids))
  )
  at <- match(came$journal, journal$id)
  cards <- store_notes(archive, "card since", series$source, "")
  cards <- cards[order(cards$at), ]
  in_force <- findInterval(journal$asked[at] + 1, cards$at)
  in_force[which(in_force == 0)] <- NA
  kept <- sql_get(
    archive, "SELECT journal FROM raw WHERE journal IN @numbers",
    list(json_numbers(ids))
  )$journal
  sent <- rep(NA_character_, nrow(came))
  for (id in intersect(ids, kept)) {
    rows <- which(came$journal == id & !is.na(came$place))
    if (length(rows)) {
      body <- store_raw_body(archive, id)
      sent[rows] <- rows_as_sent(body, came$place[rows])
    }
  }
  list(
    run = journal[["run"]][at],
    asked = utc(journal$asked[at]),
    url = journal$url[at],
    http = as.integer(journal$status[at]),
    bytes = as.numeric(journal$bytes[at]),
    hash = came$hash,
    place = came$place,
    symbol = journal$symbol[at],
    sent = sent,
    card = cards$value[in_force]
  )
}

#' @rdname archive_trace
#' @param x A trace.
#' @param width The width in characters.
#' @param ... Unused.
#' @export
format.vetusta_trace <- function(x, width = 100, ...) {
  days <- attr(x, "days") %||%
    if (all(as.numeric(x$time) %% 86400 == 0)) local_day(x$time, "UTC")
  shown <- if (length(days) == nrow(x)) {
    format(days)
  } else {
    paste(to_minute(x$time), "UTC")
  }
  blocks <- lapply(seq_len(min(nrow(x), 6)), function(i) {
    row <- x[i, ]
    line <- function(word, ...) {
      text <- paste0(...)
      strwrap(
        text,
        width = max(40, min(width, 100)), initial = formatC(word, width = -9),
        prefix = strrep(" ", 9)
      )
    }
    c(
      paste0(
        row$series, ", ", shown[i], ": ",
        if (is.na(row$value)) "no value" else format_exact(row$value),
        if (!is.na(row$unit)) paste0(" ", row$unit),
        if (!row$status %in% "observed") paste0(" (", row$status, ")")
      ),
      line("known", "from ", to_minute(row$known), " UTC"),
      if (is.na(row$asked)) {
        line("request", "not recorded")
      } else {
        c(
          line(
            if (row[["run"]] == "import") "import" else "request",
            to_minute(row$asked), " UTC, ",
            if (is.na(row$http)) "file " else paste0("HTTP ", row$http, ", "),
            row$url,
            if (!is.na(row$bytes)) paste0(", ", thousands(row$bytes), " bytes")
          ),
          line(
            "row", if (is.na(row$place)) "place unknown" else row$place,
            if (!is.na(row$hash)) {
              paste0(
                ", ", if (row[["run"]] == "import") "file" else "body",
                " xxh64 ", row$hash
              )
            }
          )
        )
      },
      if (!is.na(row$sent)) line("sent", row$sent),
      line("stored", row$row),
      if (!is.na(row[["card"]])) {
        line("card", sub("/.*", "", row$series), ", MD5 ", row[["card"]])
      }
    )
  })
  more <- nrow(x) - length(blocks)
  c(
    unlist(lapply(seq_along(blocks), function(i) {
      c(if (i > 1) "", blocks[[i]])
    })),
    if (more > 0) c("", paste("and", counted(more, "more row")))
  )
}

#' @rdname archive_trace
#' @export
print.vetusta_trace <- function(x, ...) {
  cat(format(x), sep = "\n")
  invisible(x)
}
