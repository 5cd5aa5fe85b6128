# The tracked queries of a desk as queries that can be planned.

#' Tracked queries of a desk
#'
#' `track:` of a desk lists the queries that are kept current, see docs/desk.md:
#' each has a name, a source and a dataset, symbols or keys, a beginning, and
#' rules for refreshing. [desk_refresh()] refreshes them.
#'
#' @param desk A desk, see [desk_open()].
#' @param archive An archive; by default that of the desk, if it exists. Lists
#'   from stored rows are read from it.
#' @return `desk_tracked()`: a tibble with a row per query, in the order of the
#'   file: `query` (its name), `source`, `dataset`, `asked` (the number of
#'   symbols, or the keys in words), `interval`, `from`, `every`, `times` (texts
#'   as written), `title`, and `problem`: why it cannot be requested now, or
#'   `NA`.
#' @section Errors: `vetusta_error_desk` for an object that is not a desk.
#' @export
#' @examples
#' desk <- desk_make(file.path(tempdir(), "kept-desk"))
#' desk_track(desk, "shares", "quay",
#'   symbols = c("KELD", "TAMX"), interval = "1 minute",
#'   from = "2026-03-12"
#' )
#' desk_tracked(desk_open(desk$folder))
desk_tracked <- function(desk, archive = NULL) {
  check_desk(desk)
  archive <- archive %||% desk_archive(desk)
  names <- names(desk$track)
  made <- lapply(names, function(name) {
    other_errors(
      tryCatch(
        list(query = desk_query(desk, name, archive, only_stored = TRUE)),
        vetusta_error = function(e) {
          list(problem = sub("[.]$", "", e$what))
        }
      ),
      function(e) list(problem = conditionMessage(e))
    )
  })
  text <- function(part) {
    vapply(
      desk$track,
      function(entry) {
        if (is.null(entry[[part]])) {
          NA_character_
        } else {
          paste(entry[[part]], collapse = "; ")
        }
      },
      "",
      USE.NAMES = FALSE
    )
  }
  as_rows(list(
    query = as.character(names),
    source = text("source"),
    dataset = vapply(
      seq_along(names),
      function(i) {
        made[[i]]$query$dataset$name %||% desk$track[[i]]$dataset %||%
          NA_character_
      },
      ""
    ),
    asked = vapply(
      made,
      function(item) {
        if (is.null(item$query)) NA_character_ else desk_asked(item$query)
      },
      ""
    ),
    interval = text("interval"),
    from = text("from"),
    every = text("every"),
    times = text("times"),
    title = text("title"),
    problem = vapply(made, function(item) item$problem %||% NA_character_, "")
  ))
}

# "2 symbols", "3 stations", "STATE ORV"
desk_asked <- function(query) {
  if (is.null(query$keys) && length(query$symbols)) {
    return(counted(length(query$symbols), "symbol"))
  }
  keys <- Filter(length, query$keys %||% query$selection)
  if (!length(keys)) {
    return("everything")
  }
  paste(
    vapply(
      names(keys),
      function(name) {
        values <- keys[[name]]
        if (length(values) < 3) {
          paste(name, paste(values, collapse = ", "))
        } else {
          paste(length(values), "of", name)
        }
      },
      ""
    ),
    collapse = "; "
  )
}

check_desk <- function(desk) {
  if (!inherits(given(desk, "desk", "desk"), "vetusta_desk")) {
    vetusta_stop(
      "desk", "This is not a desk.",
      todo = "open a desk with desk_open()"
    )
  }
  desk
}

# The desk's archive; where it does not exist it is created, or that is an
# error.
desk_reach <- function(desk, create = TRUE, read_only = FALSE) {
  password <- if (is_server(desk$archive)) desk_password(desk)
  columns <- if (!is.null(desk$columns)) {
    structure(desk$columns, password = desk_password(desk, "COLUMNS_PASSWORD"))
  }
  archive_open(desk$archive, create, read_only, password, columns)
}

# The password of the archive's role, if it is among the desk's secrets.
desk_password <- function(desk, name = "ARCHIVE_PASSWORD") {
  find_secret(list(secrets = file.path(desk$folder, "desk.env")), name)
}

# The desk's archive, if it exists.
desk_archive <- function(desk, create = FALSE) {
  if (create) {
    return(desk_reach(desk))
  }
  if (archive_there(desk$archive)) {
    tryCatch(
      desk_reach(desk, create = FALSE),
      vetusta_error_archive = function(e) {
        if (!isTRUE(e$absent)) stop(e)
      }
    )
  }
}

# File and line of a query or of a part of it.
desk_place <- function(desk, part, name, keys = character()) {
  lines <- readLines(desk$file, warn = FALSE, encoding = "UTF-8")
  card_place(lines, desk$file, c(part, name, keys))
}

# A query of the desk for planning. Errors have file and line. With
# `only_stored` no request is made: a stored structure counts however old it is.
desk_query <- function(desk, name, archive = NULL, now = now_time(),
                       only_stored = FALSE) {
  entry <- desk$track[[name]]
  place <- function(keys = character()) desk_place(desk, "track", name, keys)
  source <- at_place(
    desk_source(desk, entry$source, entry$account), place("source")
  )
  source$only_stored <- only_stored
  dataset <- at_place(
    desk_dataset(source, entry$dataset, names(entry)), place("dataset")
  )
  asked <- list(
    archive = archive,
    now = now,
    window = entry[intersect(c("span", "from", "to"), names(entry))],
    list = function(part, key = NULL) {
      list <- if (is.null(key)) entry[[part]] else entry[[part]][[key]]
      if (length(list)) {
        desk_list(desk, list, key %||% part, archive, place(c(part, key)))
      }
    }
  )
  asked$window <- lapply(asked$window, as.character)
  query <- tryCatch(
    desk_ask(dataset, source, entry, asked),
    vetusta_error = function(e) {
      if (inherits(e, c("vetusta_error_desk", source_errors))) stop(e)
      vetusta_stop(
        "desk",
        e$what,
        where = paste(c(e$where, place()), collapse = "; "),
        todo = e$todo
      )
    }
  )
  desk_manner(query, entry)
}

# How a query is kept current: its lookback and its least pause.
desk_manner <- function(query, entry) {
  lookback <- entry$lookback
  query$lookback <- if (is.null(lookback)) {
    query_lookback(query)
  } else {
    time_interval(lookback)$seconds
  }
  every <- entry$every %||% query$dataset$keep
  query$every <- if (!is.null(every)) {
    interval_seconds(time_interval(every))
  } else {
    query_every(query)
  }
  query
}

# The named dataset, or the only one of bars where symbols are given.
desk_dataset <- function(source, name, words) {
  if (is.null(name)) {
    bars <- Filter(gives_bars, source$datasets)
    if (length(bars) == 1 && "symbols" %in% words) {
      return(bars[[1]])
    }
    vetusta_stop(
      "argument",
      paste0("A query of ", source$source, " has no dataset."),
      todo = if (length(source$datasets)) {
        paste0(
          "add dataset: with ", paste(names(source$datasets), collapse = ", ")
        )
      } else {
        "add dataset:"
      }
    )
  }
  if (!is.null(source$datasets[[name]])) {
    return(source$datasets[[name]])
  }
  if (!speaks_sdmx(source)) {
    vetusta_stop(
      "argument",
      paste0("The source ", source$source, " has no dataset \"", name, "\"."),
      todo = suggest_word(name, names(source$datasets))
    )
  }
  dataflow_named(name)
}

# A query of a dataset, by the kind of dataset.
desk_ask <- function(dataset, source, entry, asked) UseMethod("desk_ask")

#' @export
desk_ask.vetusta_dataset_bars <- function(dataset, source, entry, asked) {
  desk_needs(entry, "symbols", "symbols: with the symbols, as in [KELD, TAMX]")
  desk_needs(entry, "interval", "interval: as in 1 minute")
  desk_without(entry, c("keys", "history"), "bars")
  do.call(
    query_bars,
    c(
      list(
        source,
        asked$list("symbols"),
        interval = entry$interval,
        session = entry$session %||% "regular",
        dataset = dataset$name,
        now = asked$now
      ),
      asked$window
    )
  )
}

#' @export
desk_ask.vetusta_dataset_rows <- function(dataset, source, entry, asked) {
  desk_without(
    entry, c("symbols", "interval", "session", "history"), dataset$shape
  )
  keys <- lapply(
    stats::setNames(nm = names(entry$keys)),
    function(key) asked$list("keys", key)
  )
  do.call(
    query_rows,
    c(list(source, dataset$name), keys, list(now = asked$now), asked$window)
  )
}

#' @export
desk_ask.vetusta_dataflow <- function(dataset, source, entry, asked) {
  desk_without(entry, c("symbols", "interval", "session", "span"), "statistics")
  keys <- lapply(
    stats::setNames(nm = names(entry$keys)),
    function(key) asked$list("keys", key)
  )
  do.call(
    query_observations,
    c(
      list(
        source,
        dataset$name,
        history = isTRUE(entry$history),
        archive = asked$archive,
        keys = keys
      ),
      asked$window
    )
  )
}

desk_needs <- function(entry, part, todo) {
  if (is.null(entry[[part]])) {
    vetusta_stop(
      "argument", paste0("A query of bars lacks `", part, "`."),
      todo = paste("add", todo)
    )
  }
}

desk_without <- function(entry, parts, shape) {
  wrong <- intersect(parts, names(entry))
  if (length(wrong)) {
    vetusta_stop(
      "argument",
      paste0("`", wrong[1], "` cannot be used with ", shape, "."),
      todo = paste0(
        "leave it out", if (wrong[1] == "symbols") "; rows have keys:"
      )
    )
  }
}
