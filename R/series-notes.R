# Notes of the core beside results and errors: rows were sorted, or lie outside
# all sessions. They are messages of the class `vetusta_note`.

# `late` of `total` rows came after a later one of their series.
say_sorted <- function(late, total) {
  if (late > 0) {
    text <- paste0(
      "note: ", counted(late, "row"), " of ",
      format(total, big.mark = ",", scientific = FALSE),
      " stood out of order and ", if (late == 1) "was" else "were", " sorted\n"
    )
    message(
      structure(
        class = c("vetusta_note", "message", "condition"),
        list(message = text, call = NULL, late = late, total = total)
      )
    )
  }
}

say_sorted_rows <- function(series, time) {
  say_sorted(
    late_rows_cpp(text_groups(as.character(series))$id, as.numeric(time)),
    length(time)
  )
}

# Values outside the calendar's sessions are left out of results by session.
say_outside <- function(outside, total) {
  if (outside > 0) {
    text <- paste0(
      "note: ", counted(outside, "row"), " of ",
      format(total, big.mark = ",", scientific = FALSE),
      if (outside == 1) " lies" else " lie",
      " outside all sessions of the calendar and ",
      if (outside == 1) "is" else "are", " left out\n"
    )
    message(
      structure(
        class = c("vetusta_note", "message", "condition"),
        list(message = text, call = NULL, outside = outside, total = total)
      )
    )
  }
}

# Observations without a release count from the end of their period.
say_no_release <- function(tables) {
  silent <- vapply(
    tables,
    function(x) {
      !is.null(x[["period"]]) &&
        nrow(x) > 0 &&
        all(is.na(x[["known"]])) &&
        all(is.na(x[["through"]]))
    },
    TRUE
  )
  if (any(silent)) {
    names <- unique(unlist(lapply(tables[silent], series_names_of)))
    text <- paste0(
      "note: no release dates: ",
      if (length(names) == 1) {
        names
      } else {
        counted(length(names), "series", "series")
      },
      if (length(names) == 1) " counts" else " count",
      " from the end of each period; a lag moves ", "this\n"
    )
    message(
      structure(
        class = c("vetusta_note", "message", "condition"),
        list(message = text, call = NULL, series = names)
      )
    )
  }
}

# Bars without a stated session belong to none.
say_no_session <- function(count) {
  if (count > 0) {
    text <- paste0(
      "note: ", counted(count, "bar"), if (count == 1) " has" else " have",
      " no session and ", if (count == 1) "is" else "are",
      " left out; import them with a calendar, or read all sessions\n"
    )
    message(
      structure(
        class = c("vetusta_note", "message", "condition"),
        list(message = text, call = NULL, count = count)
      )
    )
  }
}

# Internal tables are sorted without a note.
without_notes <- function(work) {
  withCallingHandlers(
    work,
    vetusta_note = function(note) tryInvokeRestart("muffleMessage")
  )
}

# Combines the notes on several tables into one.
with_one_note <- function(work) {
  late <- 0
  total <- 0
  result <- withCallingHandlers(work, vetusta_note = function(note) {
    if (is.null(note$late)) {
      return()
    }
    late <<- late + note$late
    total <<- total + note$total
    tryInvokeRestart("muffleMessage")
  })
  say_sorted(late, total)
  result
}

# No value equals the condition's, which may be misspelt: shows the values that
# exist.
say_no_value <- function(asked, column) {
  if (!nzchar(asked$value) || inherits(column, c("Date", "POSIXct"))) {
    return(invisible())
  }
  texts <- unique(condition_texts(column[!is.na(column)]))
  values <- if (is.numeric(column)) {
    paste("from", min(column, na.rm = TRUE), "to", max(column, na.rm = TRUE))
  } else {
    paste(utils::head(sort(texts), 8), collapse = ", ")
  }
  text <- paste0(
    "note: no row has ", asked$column, " \"", asked$value,
    "\"; its values are: ", if (length(texts)) values else "none",
    if (!is.numeric(column) && length(texts) > 8) {
      paste0(" and ", length(texts) - 8, " more")
    },
    if (startsWith(asked$value, "=")) {
      paste0(" (write ", asked$column, asked$value, ")")
    },
    "\n"
  )
  message(
    structure(
      class = c("vetusta_note", "message", "condition"),
      list(message = text, call = NULL)
    )
  )
}

# Series without a known value at any time of a grid, with the first time at
# which one was known.
say_none_known <- function(series, aligned, times) {
  none <- vapply(
    aligned,
    function(column) length(column$value) > 0 && all(is.na(column$value)), TRUE
  )
  first <- vapply(series, function(points) min(c(points$counts, Inf)), 0)
  late <- none & first > max(c(times, -Inf)) & is.finite(first)
  if (any(late)) {
    text <- paste0(
      "note: no value of ", paste(names(aligned)[late], collapse = ", "),
      " was known by the end of the grid; the first is known from ",
      format_instant(min(first[late])), ": extend the grid, or look ahead ",
      "(point_in_time = FALSE)\n"
    )
    message(
      structure(
        class = c("vetusta_note", "message", "condition"),
        list(message = text, call = NULL)
      )
    )
  }
}

# A note where daily or longer bars jump as at a split.
say_jumps <- function(tables, zone) {
  jumps <- lapply(tables, function(table) {
    interval <- attr(table, "interval", exact = TRUE)
    if (!is_bars(table) || (!is.null(interval) && is_intraday(interval))) {
      return(NULL)
    }
    tryCatch(
      without_notes(bars_jumps(table, zone = zone)),
      vetusta_error = function(e) NULL
    )
  })
  jumps <- do.call(rbind, lapply(jumps, as.data.frame))
  if (NROW(jumps)) {
    jumps$day <- local_day(jumps$time, zone)
    message(
      structure(
        class = c("vetusta_note", "message", "condition"),
        list(
          message = paste0(
            "note: ", jump_words(jumps),
            "; bars_adjust() and `vetusta adjust` make prices comparable\n"
          ),
          call = NULL
        )
      )
    )
  }
}
