#' Import bars from a file
#'
#' Stores bars of local files in the archive. [import_files()] imports many
#' files at once.
#'
#' @param archive An archive, see [archive_open()].
#' @param file Path of a file with a table: CSV or TSV with a header, Parquet
#'   (`.parquet`), a workbook (`.xlsx`, its first sheet), or JSON lines
#'   (`.jsonl`).
#' @param symbol The symbol of all rows, for a file without a column of that
#'   name.
#' @param interval The bars' interval, see [time_interval()]; by default that
#'   of the file's metadata, see [export_about()], which give units, zone and
#'   types of columns too.
#' @param source The name of the source.
#' @param columns The file's names of the columns of bars, as in `c(time =
#'   "When", close = "Last")`. By default a column is found by its name, in any
#'   case. A file without such a name may use another common one, if only one of
#'   them is there: `date`, `timestamp`, `datetime` or `day` for the time;
#'   `last`, `price` or `settle` for the close; `ticker` or `instrument` for the
#'   symbol; `vol` for the volume; and common words of other languages, as
#'   `Datum`, `Schluss`, `cours` or `cierre`. A day and a clock time in two
#'   columns are joined: `c(time = "Date+Time")`.
#' @param time_as The format of the times: `rfc3339` (also with a space between
#'   day and hour, days alone, `20260312`, and `12 Mar 2026`), or `epoch-s`,
#'   `epoch-ms`, `epoch-us`, `epoch-ns`.
#' @param zone The IANA zone of days and of local times without an offset; by
#'   default that of the file's metadata, or UTC.
#' @param calendar A calendar; days then mean the opening of their first regular
#'   session.
#' @param unit Units by column, as `c(close = "crowns")`, or a single text, the
#'   unit of the close.
#' @param types Types of further columns, as `c(cusip = "text", lots = "whole
#'   number")`: `text`, `number`, `whole number`, `flag`, `day` or `instant`.
#'   Rows with a value of another type are rejected. By default a column is text
#'   unless each of its values, read and written again, gives the same text.
#' @param form The form of the file, see [archive_import_form()]; by default a
#'   plain table with a header line.
#' @param read A function of the file that returns a data frame, for files that
#'   no words describe.
#' @return Invisibly a list of class `vetusta_import`: `file`, `source`,
#'   `interval`, `read` (rows), `new`, `changed`, `unchanged`, `rejected` (a
#'   data frame of the rejected rows: `line`, `reason`, `detail`). Importing the
#'   same file again changes nothing. Rejected rows are not stored;
#'   `archive_rejected()` lists them.
#' @section Errors: `vetusta_error_import` for a missing or empty file, or a
#'   missing column; nothing is stored then.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
#' archive_import(archive, csv, symbol = "KELD", interval = "1 day")
archive_import <- function(archive, file, symbol = NULL, interval = NULL,
                           source = "files", columns = NULL,
                           time_as = "rfc3339",
                           zone = NULL, calendar = NULL, unit = NULL,
                           types = NULL, form = NULL, read = NULL) {
  check_archive(archive)
  check_text(file, "file", "import")
  check_text(source, "source", "import")
  about <- if (is.character(file) && isTRUE(file.exists(file))) {
    about_import(file)
  }
  if (is.null(interval %||% about$interval)) {
    vetusta_stop(
      "import", "The interval of the bars is missing.",
      todo = "give `interval`, as \"1 day\""
    )
  }
  interval <- time_interval(interval %||% about$interval)
  zone <- check_zone(zone %||% about$zone %||% "UTC", "import")
  calendar <- calendar %||% about$calendar
  check_calendar(calendar)
  say_calendar_unknown(about, calendar, file)
  unit <- check_named(unit, "unit", "close") %||% about$unit
  types <- check_types(types)
  check_read(read, form)
  check_choice(
    time_as, "time_as",
    c("rfc3339", "epoch-s", "epoch-ms", "epoch-us", "epoch-ns"), "import"
  )
  if (!file.exists(file) || dir.exists(file)) {
    vetusta_stop(
      "import", "There is no such file.",
      where = file,
      todo = "check the path"
    )
  }
  kinds <- function(names) {
    table <- list_frame(
      stats::setNames(rep(list(character()), length(names)), names)
    )
    import_kinds(
      names(named_for_bars(table, columns, symbol, file))[seq_along(names)],
      time_as
    )
  }
  text <- character()
  cleaned <- import_cleaned(file, form)
  if (!is.null(form)) on.exit(unlink(cleaned$path))
  parts <- import_parts(
    cleaned$path,
    kinds = kinds,
    own = read,
    each = function(rows, line) {
      line <- cleaned_lines(cleaned, line)
      was <- names(rows)
      named <- named_for_bars(rows, columns, symbol, file)
      text <<- union(text, names(named)[match(attr(rows, "quoted"), was)])
      bars <- bars_from_text(named, time_as, zone, calendar)
      c(bars, list(line = line))
    }
  )
  read <- import_joined(parts, file)
  types <- about_types(about, types, read$bars, bars_columns)
  declared <- import_declared(read$bars, types, file)
  read$bars <- about_typed(
    about, declared$rows, c(names(types), bars_columns)
  )
  read$rejected <- rbind(
    read$rejected, setdiff_rows(declared$rejected, read$rejected)
  )
  extra <- setdiff(names(read$bars), c(bars_columns, text, names(types)))
  read$bars[extra] <- lapply(as.list(read$bars)[extra], function(column) {
    if (!is.character(column) || all(is.na(column))) {
      column
    } else {
      texts_as$number(column) %||% texts_as$day(column) %||% column
    }
  })
  if (time_as == "rfc3339" && zone != "UTC") {
    read$bars$time <- second_passes(
      read$bars$time, zone, paste(read$bars$symbol, read$bars[["side"]])
    )
  }
  if (is.null(read$bars$session)) {
    read$bars$session <- import_sessions(read$bars$time, calendar, interval)
  }
  rejected <- rbind(
    read$rejected, setdiff_rows(bars_check(read$bars), read$rejected)
  )
  rejected <- rbind(
    rejected, import_doubled(read$bars, rejected$row, read$line)
  )
  rejected <- rejected[order(rejected$row), ]
  good <- read$bars
  if (nrow(rejected)) good <- frame_rows(good, -rejected$row)
  lines <- read$line[rejected$row]
  dataset_facts_put(
    archive, source, "import",
    list(
      zone = if (zone != "UTC") zone, calendar = calendar, unit = unit,
      title = about$title,
      delay = if (!is.null(about$delay)) time_interval(about$delay)
    )
  )
  counts <- store_import(
    archive, good, rejected, lines, source, interval, file, types,
    import_origin(file, read$line, rejected$row)
  )
  invisible(
    structure(
      list(
        file = file,
        source = source,
        interval = interval$iso,
        read = nrow(read$bars),
        new = counts[["new"]],
        changed = counts[["changed"]],
        unchanged = counts[["unchanged"]],
        doubled = import_twice(good, counts),
        rejected = data.frame(
          line = lines, reason = rejected$reason, detail = rejected$detail
        )
      ),
      class = "vetusta_import"
    )
  )
}

# Bars with the same time and symbol in one file, by the rule of rows-doubled.R,
# with their lines.
import_doubled <- function(bars, without, lines) {
  key <- bar_keys(bars, without)
  doubles <- doubled_rows(
    key, bars[c("close", "open", "high", "low", "volume")], lines
  )
  doubles$detail <- gsub(" in row ", " in line ", doubles$detail, fixed = TRUE)
  doubles
}

# Rows that repeat another row of the file.
import_twice <- function(good, counts) {
  max(0, nrow(good) - sum(counts[c("new", "changed", "unchanged")]))
}

import_absent <- c("", "NA", "null", "N/A", "#N/A")

# Which columns are instants and numbers, see table_columns_cpp().
import_kinds <- function(names, time_as) {
  kinds <- c(
    time = if (time_as == "rfc3339") 2L else 1L,
    open = 1L,
    high = 1L,
    low = 1L,
    close = 1L,
    volume = 1L
  )[names]
  kinds[is.na(kinds)] <- 0L
  unname(kinds)
}

# Other common names of the columns of bars, without accents; in English, and
# then in German, French, Spanish and Italian.
bars_other_names <- list(
  time = c(
    "date", "timestamp", "datetime", "day", "date_time", "datum", "tag",
    "jour", "fecha", "giorno", "data"
  ),
  symbol = c("ticker", "instrument"),
  open = c("eroffnung", "ouverture", "apertura"),
  high = c("hoch", "haut", "plus_haut", "maximo", "massimo"),
  low = c("tief", "bas", "plus_bas", "minimo"),
  close = c(
    "last", "price", "settle", "schluss", "schlusskurs", "kurs", "cloture",
    "cours", "cierre", "chiusura"
  ),
  volume = c("vol", "umsatz", "volumen")
)

named_for_bars <- function(raw, columns, symbol, file) {
  raw <- import_joined_columns(raw, columns)
  for (name in names(columns)) {
    check_choice(name, "columns", bars_columns, "import")
    if (!columns[[name]] %in% names(raw)) {
      vetusta_stop(
        "import",
        paste0("The file has no column \"", columns[[name]], "\"."),
        where = file,
        todo = suggest_word(columns[[name]], names(raw))
      )
    }
    names(raw)[match(columns[[name]], names(raw))] <- name
  }
  known <- c(bars_columns, "date")
  lower <- match(plain_names(names(raw)), known)
  free <- !is.na(lower) & !known[lower] %in% names(columns) & !duplicated(lower)
  names(raw)[free] <- known[lower[free]]
  for (name in setdiff(names(bars_other_names), names(raw))) {
    if (name == "symbol" && !is.null(symbol)) next
    other <- which(
      import_said(names(raw)) %in% bars_other_names[[name]] &
        !names(raw) %in% bars_columns
    )
    if (name == "time" && "date" %in% names(raw)) {
      other <- which(names(raw) == "date")
    }
    if (length(other) == 1) names(raw)[other] <- name
  }
  if (!is.null(symbol)) {
    raw$symbol <- rep(check_text(symbol, "symbol", "import"), nrow(raw))
  }
  for (name in c("symbol", "time", "close")) {
    if (!name %in% names(raw)) {
      vetusta_stop(
        "import",
        paste0("The file has no column for `", name, "`."),
        where = paste0(file, ", line 1"),
        todo = paste0(
          if (name == "symbol") "give the symbol, or " else "",
          "say which column it is, as ", name, "=",
          setdiff(names(raw), bars_columns)[1] %|na|% "NAME",
          "; the file has: ", paste(names(raw), collapse = ", ")
        )
      )
    }
  }
  raw
}

bars_from_text <- function(raw, time_as, zone, calendar) {
  time <- if (inherits(raw$time, "POSIXct")) {
    raw$time
  } else if (time_as == "rfc3339") {
    text_times(import_times(raw$time), zone, calendar)
  } else {
    read_column(raw$time, time_as, zone)$value
  }
  rejected <- list(
    data.frame(row = integer(), reason = character(), detail = character())
  )
  aside <- function(rows, reason, values) {
    if (!length(rows)) {
      return(invisible())
    }
    rejected[[length(rejected) + 1]] <<- data.frame(
      row = rows,
      reason = rep(reason, length(rows)),
      detail = sprintf("value %s", values[rows])
    )
  }
  aside(which(is.na(time)), "time cannot be read", raw$time)
  bars <- list(symbol = raw$symbol, time = time)
  for (name in c("open", "high", "low", "close", "volume")) {
    text <- raw[[name]] %||% rep(NA_character_, nrow(raw))
    value <- if (is.numeric(text)) text else plain_number(text)
    aside(
      which(is.na(value) & !is.na(text)), paste(name, "cannot be read"), text
    )
    bars[[name]] <- value
  }
  bars$side <- raw$side %||% rep(NA_character_, nrow(raw))
  # sessions that the file states are kept; otherwise the calendar assigns them
  if (any(!is.na(raw$session))) {
    bars$session <- tolower(as.character(raw$session))
  }
  bars$status <- rep("observed", nrow(raw))
  extra <- setdiff(names(raw), c(bars_columns, "date"))
  bars[extra] <- raw[extra]
  list(bars = list_frame(bars), rejected = do.call(rbind, rejected))
}

# Joins the parts of a file; row numbers of rejected rows are continued.
import_joined <- function(parts, file) {
  count <- vapply(parts, function(part) nrow(part$bars), 1L)
  if (!sum(count)) {
    vetusta_stop(
      "import", "The file has no rows.",
      where = file,
      todo = "give a CSV with a header line and one bar per line"
    )
  }
  before <- cumsum(count) - count
  rejected <- Map(
    function(part, before) {
      part$rejected$row <- part$rejected$row + before
      part$rejected
    },
    parts, before
  )
  bars <- data.table::rbindlist(
    lapply(parts, `[[`, "bars"),
    use.names = TRUE, fill = TRUE
  )
  list(
    bars = list_frame(as.list(bars)),
    rejected = do.call(rbind, rejected),
    line = unlist(lapply(parts, `[[`, "line"))
  )
}

text_times <- function(text, zone, calendar) {
  time <- read_rfc3339(text, zone)
  other <- which(is.na(time))
  if (length(other)) {
    day <- read_day(text[other])
    whole <- which(!is.na(day))
    time[other[whole]] <- day_times(day[whole], zone, calendar)
  }
  time
}

import_sessions <- function(time, calendar, interval) {
  if (is.null(calendar) || !is_intraday(interval) || all(is.na(time))) {
    return(rep(NA_character_, length(time)))
  }
  session_of(time, calendar)
}

setdiff_rows <- function(rejected, known) {
  rejected[!rejected$row %in% known$row, c("row", "reason", "detail")]
}

store_import <- function(archive, good, rejected, lines, source, interval,
                         file, types, origin) {
  n <- nrow(rejected)
  rejects <- data.frame(
    symbol = rep(NA_character_, n),
    time = rep(NA_real_, n),
    place = rep("", n),
    reason = rejected$reason,
    detail = rejected$detail
  )
  if (n) rejects$place <- paste0(basename(file), ", line ", lines)
  # series are stored in order of time
  if (is.unsorted(as.numeric(good$time))) {
    order <- order(as.numeric(good$time), method = "radix")
    good <- frame_rows(good, order)
    origin$at <- origin$at[order]
  }
  counts <- store_put(
    archive,
    list(
      source = source,
      dataset = "import",
      shape = "bars",
      rejected = rejects,
      types = types,
      rows = if (nrow(good)) {
        archive_parcel("bars", good, frequency = interval$iso)
      },
      journal = list(
        run = "import", source = source, dataset = "import",
        asked = now_seconds(), rows = nrow(good), outcome = "stored",
        url = basename(file)
      ),
      origin = origin
    )
  )
  store_settle(archive)
  counts
}

# The lines of a file's rows, and the hash of the file.
import_origin <- function(file, lines, rejected) {
  at <- if (length(rejected)) lines[-rejected] else lines
  list(
    base = "line ", at = at, rows = length(at),
    hash = digest::digest(file, algo = "xxhash64", file = TRUE)
  )
}

#' @export
print.vetusta_import <- function(x, ...) {
  count <- function(n) format(n, big.mark = ",", scientific = FALSE)
  cat(
    "read ", count(x$read), " rows of ", basename(x$file), ": ", count(x$new),
    " new, ", count(x$changed), " changed, ", count(x$unchanged),
    " already stored, ",
    if (x$doubled > 0) paste0(count(x$doubled), " twice, "),
    count(nrow(x$rejected)), " rejected\n",
    sep = ""
  )
  for (i in seq_len(min(5, nrow(x$rejected)))) {
    cat(
      "  line ", x$rejected$line[i], ": ", x$rejected$reason[i], " (",
      x$rejected$detail[i], ")\n",
      sep = ""
    )
  }
  if (nrow(x$rejected) > 5) {
    cat(
      "  and ", count(nrow(x$rejected) - 5),
      " more; archive_rejected() has them all\n",
      sep = ""
    )
  }
  invisible(x)
}
