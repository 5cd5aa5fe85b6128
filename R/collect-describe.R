# A text description of a dataset of a card: its parameters and columns.

card_dataset <- function(source, dataset, archive = NULL) {
  datasets <- if (!is.null(archive)) archive_datasets(archive)
  datasets <- datasets[
    datasets$source == source$source & datasets$dataset == dataset$name,
  ]
  about <- list(
    source = source$source,
    id = dataset$name,
    title = dataset$title %||% NA_character_,
    shape = dataset$shape,
    keys = dataset_keys(dataset),
    intervals = dataset_intervals(dataset),
    window = has_window(dataset),
    columns = names(dataset$columns),
    limits = vapply(source$limits, format_limit, ""),
    cost = dataset_cost(source, dataset)$cost,
    plan = dataset_cost(source, dataset)$plan,
    stored = if (NROW(datasets)) {
      as.data.frame(datasets[c("series", "rows", "first", "last")])
    }
  )
  about$example <- card_example(
    source, dataset, about, example_words(source, dataset, archive)
  )
  structure(about, class = c("vetusta_card_dataset", "vetusta_dataset"))
}

# The keys of a dataset: which are required, and the values that the card lists.
dataset_keys <- function(dataset) {
  given <- setdiff(
    dataset_gives(dataset), c(query_words[-1], page_parameter(dataset))
  )
  fixed <- vapply(
    given, function(name) !is.null(dataset$parameters[[name]]$value), TRUE
  )
  given <- given[!fixed]
  needed <- vapply(
    given,
    function(name) grepl(paste0("\\{[^?&}]*\\b", name, "\\b"), dataset$request),
    TRUE
  )
  values <- vapply(
    given,
    function(name) {
      rule <- dataset$parameters[[name]]
      known <- rule$each %||% names(rule$words)
      if (length(known)) paste(known, collapse = ", ") else NA_character_
    },
    ""
  )
  each <- vapply(
    given, function(name) !is.null(dataset$parameters[[name]]$each), TRUE
  )
  data.frame(
    key = as.character(given),
    needed = unname(needed & !each),
    values = unname(values)
  )
}

# The intervals of bars that a dataset lists, ISO 8601; empty where it takes
# any.
dataset_intervals <- function(dataset) {
  rules <- Filter(
    function(name) (dataset$parameters[[name]]$gives %||% name) == "interval",
    names(dataset$parameters)
  )
  words <- unlist(
    lapply(rules, function(name) names(dataset$parameters[[name]]$words))
  )
  vapply(
    as.character(words),
    function(word) {
      tryCatch(time_interval(word)$iso, vetusta_error = function(e) word)
    },
    "",
    USE.NAMES = FALSE
  )
}

# The example's words: from the card, else from the archive, else placeholders.
example_words <- function(source, dataset, archive) {
  words <- dataset$example
  if (is.null(words) && !is.null(archive)) {
    series <- store_series(archive, source$source, dataset$name)
    symbol <- if (nrow(series)) series_dimensions(series[1, ])[["symbol"]]
    if (length(symbol)) words <- list(symbol = symbol)
  }
  words
}

card_example <- function(source, dataset, about, words) {
  UseMethod("card_example", dataset)
}

#' @export
card_example.vetusta_dataset_bars <- function(source, dataset, about, words) {
  interval <- utils::tail(about$intervals, 1)
  length <- if (length(interval)) format(time_interval(interval)) else "1 day"
  span <- if (is.null(words$from)) {
    "--span \"10 days\""
  } else {
    paste0("--from ", words$from, " --to ", words$to)
  }
  paste0(
    "vetusta collect ", source$source, " ", dataset$name, " ",
    words$symbol %||% "SYMBOL", " --interval \"", length, "\" ", span
  )
}

#' @export
card_example.vetusta_dataset_rows <- function(source, dataset, about, words) {
  asked <- union(
    about$keys$key[about$keys$needed], setdiff(names(words), c("from", "to"))
  )
  values <- vapply(asked, function(key) words[[key]] %||% "...", "")
  span <- if (about$window && is.null(words$from)) {
    "--span \"30 days\""
  } else if (!is.null(words$from)) {
    paste0("--from ", words$from, " --to ", words$to)
  }
  paste(
    c(
      "vetusta collect", source$source, dataset$name,
      if (length(asked)) paste0(asked, "=", values), span
    ),
    collapse = " "
  )
}

#' @export
format.vetusta_card_dataset <- function(x, ...) {
  line <- function(name, text) {
    if (length(text) && !is.na(text[1])) {
      paste0("  ", formatC(name, width = -12), text)
    }
  }
  keys <- x$keys
  known <- ifelse(is.na(keys$values), "", paste0(": ", keys$values))
  several <- function(what) if (length(what)) paste(what, collapse = ", ")
  intervals <- vapply(
    x$intervals,
    function(iso) {
      tryCatch(format(time_interval(iso)), vetusta_error = function(e) iso)
    },
    ""
  )
  c(
    paste0(
      x$id, ": ", x$shape, " from ", x$source,
      if (!is.na(x$title)) paste0(", ", x$title)
    ),
    strwrap_line(
      line(
        "keys",
        several(
          paste0(
            keys$key, ifelse(keys$needed, "", " (may be left out)"), known
          )[seq_len(nrow(keys))]
        )
      )
    ),
    line("intervals", several(intervals)),
    line("window", if (x$window) "--from and --to, or --span" else "none"),
    strwrap_line(line("columns", several(x$columns))),
    line("limits", several(x$limits)),
    line("cost", paste0(
      x$cost, if (!is.na(x$plan)) paste0(", plan ", x$plan)
    )[!is.na(x$cost) || !is.na(x$plan)]),
    if (NROW(x$stored)) stored_lines(x$stored), "",
    paste0("example: ", x$example)
  )
}

# Wraps a long line below its text.
strwrap_line <- function(text) {
  if (!length(text)) {
    return(NULL)
  }
  parts <- strwrap(substring(text, 15), 86)
  paste0(c(substr(text, 1, 14), rep(strrep(" ", 14), length(parts) - 1)), parts)
}

stored_lines <- function(datasets) {
  series <- if (!is.na(datasets$series[1])) {
    paste0(" in ", format(datasets$series[1], big.mark = ","), " series")
  }
  dates <- if (!is.na(datasets$first[1])) {
    paste0(
      ", ", format(datasets$first[1], "%Y-%m-%d"), " to ",
      format(datasets$last[1], "%Y-%m-%d")
    )
  }
  paste0(
    "  ", formatC("stored", width = -12), counted(datasets$rows[1], "row"),
    series, dates
  )
}
