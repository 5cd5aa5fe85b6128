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
#'   answer: a JSON Pointer, or `row N`, `line N`, `observation N`, of a message
#'   of statistics with its action, as `merge, observation N`, where that is not
#'   to insert), `symbol` (what the request was for); `sent` (the row as it
#'   was sent, where raw pages of JSON, CSV or XML are kept); `card` (the MD5
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

# The first and last instant of what `at` names, by the shape of a series.
trace_windows <- list(
  bars = function(at, zone) {
    at <- period_bound(at, "from")
    c(
      as.numeric(time_instant(at, zone, name = "at")),
      as.numeric(time_instant(at, zone, end = TRUE, name = "at"))
    )
  }
)

trace_window <- function(series, at, facts) {
  window <- trace_windows[[series$shape]] %||%
    function(at, zone) period_window(at, at)
  window(at, trace_zone(facts))
}

trace_rows <- function(archive, series, id, at) {
  facts <- dataset_facts(archive, series$source, series$dataset)
  window <- trace_window(series, at, facts)
  if (window[2] <= window[1]) window[2] <- window[1] + 1e-6
  read <- read_rows(archive, series, window[1], window[2], Inf, newest = FALSE)
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
  unit <- facts$unit[[name]] %||% NA_character_
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
      unit = rep(unit, length(columns$time)),
      status = status,
      row = record_texts(values)
    ),
    trace_requests(archive, series, came)
  )
  rows <- as_rows(rows)
  # bars of a day or longer are shown by their day
  if (startsWith(series$frequency, "P") &&
    !is_intraday(time_interval(series$frequency))) {
    attr(rows, "days_in") <- trace_zone(facts)
  }
  rows
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
  of <- rep(NA_integer_, n)
  for (i in seq_len(nrow(found))) {
    # from the first row of the range to its last, in order of time and instant
    after <- time > found$first[i] |
      (time == found$first[i] & known >= found$since[i])
    before <- time < found$last[i] |
      (time == found$last[i] & known <= found$until[i])
    of[after & before] <- i
  }
  hit <- which(!is.na(of))
  out[hit, c("entry", "journal", "hash")] <-
    found[of[hit], c("entry", "journal", "hash")]
  for (i in unique(of[hit])) {
    at <- which(of == i)
    out$place[at] <- origin_places(archive, series, found[i, ], time[at])
  }
  out
}

# The place in the answer of rows of a range: its numbers are in order of time,
# so the row's number among the times of the range decides. NA where the stored
# times are not those that came.
origin_places <- function(archive, series, range, time) {
  if (is.na(range$place)) {
    return(rep(NA_character_, length(time)))
  }
  base <- sub("[|][^|]*$", "", range$place)
  numbers <- ranges_numbers(sub("^.*[|]", "", range$place))
  stored <- store_read(
    archive, series$id, range$first, range$last + 1e-6,
    newest = TRUE
  )
  times <- unique(as.numeric(stored$columns$time))
  if (length(times) != length(numbers)) {
    return(rep(NA_character_, length(time)))
  }
  paste0(base, format(numbers[match(time, times)], trim = TRUE))
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

# Rows of a body by JSON Pointer (RFC 6901), as compact JSON; NA for other
# places.
rows_as_sent <- function(body, places) {
  pointer <- startsWith(places, "/")
  out <- rep(NA_character_, length(places))
  out[!pointer] <- lines_as_sent(body, places[!pointer])
  if (!any(pointer)) {
    return(out)
  }
  content <- tryCatch(
    jsonlite::fromJSON(
      rawToChar(body),
      simplifyVector = FALSE, bigint_as_char = TRUE
    ),
    error = function(e) NULL
  )
  out[pointer] <- vapply(places[pointer], function(place) {
    keys <- strsplit(sub("^/", "", place), "/", fixed = TRUE)[[1]]
    found <- content
    for (key in gsub("~0", "~", gsub("~1", "/", keys, fixed = TRUE),
      fixed = TRUE
    )) {
      if (nzchar(key) && is.null(names(found))) key <- as.numeric(key) + 1
      found <- tryCatch(found[[key]], error = function(e) NULL)
    }
    if (is.null(found)) {
      return(NA_character_)
    }
    as.character(
      jsonlite::toJSON(found, auto_unbox = TRUE, digits = NA, null = "null")
    )
  }, "")
  unname(out)
}

# The same for lines and observations: of CSV the line, of XML the element. NA
# for other formats, and for CSV with breaks within a line.
lines_as_sent <- function(body, places) {
  number <- suppressWarnings(as.numeric(sub("^.* ", "", places)))
  what <- sub("^.*(line|observation) [0-9]+$", "\\1", places)
  out <- rep(NA_character_, length(places))
  known <- which(!is.na(number) & what %in% c("line", "observation"))
  text <- tryCatch(enc2utf8(rawToChar(body)), error = function(e) "")
  if (!length(known) || !nzchar(text) || grepl("^\\s*[{[]", text)) {
    return(out)
  }
  if (grepl("^\\s*<", text)) {
    elements <- tryCatch(
      xml2::xml_find_all(
        xml2::read_xml(body, options = "HUGE"), "//*[local-name() = 'Obs']"
      ),
      error = function(e) list()
    )
    here <- known[what[known] == "observation" &
      number[known] <= length(elements)]
    out[here] <- vapply(here, function(i) {
      as.character(elements[[number[i]]])
    }, "")
    return(out)
  }
  lines <- strsplit(text, "\r?\n")[[1]]
  if (any(lengths(regmatches(lines, gregexpr("\"", lines))) %% 2 == 1)) {
    return(out)
  }
  # the first observation stands below the header
  out[known] <- lines[number[known] + (what[known] == "observation")]
  out
}

#' @rdname archive_trace
#' @param x A trace.
#' @param width The width in characters.
#' @param ... Unused.
#' @export
format.vetusta_trace <- function(x, width = 100, ...) {
  zone <- attr(x, "days_in") %||%
    if (all(as.numeric(x$time) %% 86400 == 0)) "UTC"
  shown <- function(time) {
    if (is.null(zone)) {
      paste(to_minute(time), "UTC")
    } else {
      format(local_day(time, zone))
    }
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
        row$series, ", ", shown(row$time), ": ",
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
