# Shared parts of commands: options, the desk, printed tables.

cli_desk <- function(options, needed = TRUE) {
  if (is.null(options$desk) && !needed) {
    # a missing desk is no error here; a desk with a wrong file is one
    return(tryCatch(desk_open("."), vetusta_error_desk = function(e) {
      if (isTRUE(e$absent)) NULL else stop(e)
    }))
  }
  desk_open(options$desk %||% ".")
}

cli_archive <- function(options, create = FALSE, read_only = FALSE) {
  if (is.null(options$archive)) {
    desk_reach(cli_desk(options), create, read_only)
  } else {
    archive_open(options$archive, create, read_only)
  }
}

cli_needs <- function(options, name) {
  if (is.null(options[[name]])) cli_usage_error("it needs --", name)
  options[[name]]
}

cli_source <- function(options, name = options$words[1]) {
  desk <- cli_desk(options, needed = FALSE)
  if (is.null(desk)) {
    source_card(name, account = options$account)
  } else {
    desk_source(desk, name, options$account)
  }
}

# SOURCE DATASET and its symbols, keys or dimensions. The dataset may be left
# out where the source has one dataset of bars and symbols follow.
cli_query <- function(options) {
  options <- cli_pasted(options)
  source <- cli_source(options)
  named <- cli_named_dataset(source, options$words[-1])
  cli_ask(named$dataset, source, named$words, options)
}

# A pasted selection of statistics becomes the words and the window of a query,
# which are shown. A URL alone means the desk's source at that place.
cli_pasted <- function(options) {
  words <- options$words
  if (length(words) && grepl("^https?://", words[1])) {
    words <- c(cli_source_at(options, words[1]), words)
  }
  if (length(words) < 2 || !any(vapply(words[-1], is_selection, TRUE))) {
    return(options)
  }
  source <- cli_source(options, words[1])
  if (!speaks_sdmx(source) || words[2] %in% names(source$datasets)) {
    return(options)
  }
  archive <- cli_query_archive(options, create = TRUE)
  at <- which(vapply(words[-1], is_selection, TRUE))[1] + 1
  parts <- selection_parts(
    source, words[at], if (at > 2) words[2], archive
  )
  keys <- vapply(parts$keys, paste, "", collapse = ",")
  options$words <- c(
    words[1], parts$dataset, paste0(names(keys), "=", keys, recycle0 = TRUE),
    words[-seq_len(at)]
  )
  if (is.null(options$from)) options$from <- parts$from
  if (is.null(options$to)) options$to <- parts$to
  query <- query_observations(
    source, parts$dataset,
    from = options$from, to = options$to, archive = archive, keys = parts$keys
  )
  cli_say(
    "reads as: ",
    selection_words(query$about, query$selection, options[c("from", "to")])
  )
  options
}

# The name of the desk's source to which a URL belongs.
cli_source_at <- function(options, url) {
  desk <- cli_desk(options)
  for (name in desk_cards(desk)) {
    source <- tryCatch(
      desk_source(desk, name),
      vetusta_error_card = function(e) NULL
    )
    if (!is.null(source) && same_origin(url, source$url) &&
      startsWith(url, source$url)) {
      return(name)
    }
  }
  cli_usage_error(
    "no source of the desk is at ", origin_of(url),
    "; name the source before the URL"
  )
}

# list(dataset, words): a dataset of the card, or the name of a dataflow.
cli_named_dataset <- function(source, words) {
  known <- source$datasets
  if (length(words) && words[1] %in% names(known)) {
    return(list(dataset = known[[words[1]]], words = words[-1]))
  }
  if (speaks_sdmx(source)) {
    if (!length(words)) {
      cli_usage_error(
        "name a dataset; `vetusta find ", source$source, "` lists them"
      )
    }
    return(list(dataset = dataflow_named(words[1]), words = words[-1]))
  }
  bars <- names(known)[vapply(known, gives_bars, TRUE)]
  if (length(bars) != 1 ||
    !length(words) ||
    grepl("=", words[1], fixed = TRUE)) {
    cli_usage_error(
      "name a dataset of ", source$source, ": ",
      paste(names(known), collapse = ", ")
    )
  }
  # a misspelt dataset is not taken for a symbol
  near <- nearest_word(
    words[1],
    names(known),
    most = max(1, nchar(words[1]) / 3)
  )
  if (!is.null(near) && words[1] == tolower(words[1])) {
    cli_usage_error(
      source$source, " has no dataset \"", words[1], "\"; did you mean \"",
      near, "\"? For a symbol of this name, use: ", source$source, " ", bars,
      " ", words[1]
    )
  }
  list(dataset = known[[bars]], words = words)
}

# A query of a dataset, by the kind of dataset.
cli_ask <- function(dataset, source, words, options) UseMethod("cli_ask")

#' @export
cli_ask.vetusta_dataset_bars <- function(dataset, source, words, options) {
  query_bars(
    source,
    cli_symbols(words),
    interval = cli_needs(options, "interval"),
    span = options$span,
    from = options$from,
    to = options$to,
    session = options$session,
    dataset = dataset$name
  )
}

#' @export
cli_ask.vetusta_dataset_rows <- function(dataset, source, words, options) {
  words <- with_key(dataset, words)
  window <- list(span = options$span, from = options$from, to = options$to)
  do.call(query_rows, c(list(source, dataset$name), cli_pairs(words), window))
}

#' @export
cli_ask.vetusta_dataflow <- function(dataset, source, words, options) {
  query_observations(
    source,
    dataset$name,
    from = options$from,
    to = options$to,
    history = isTRUE(options$history),
    archive = cli_query_archive(options, create = TRUE),
    keys = cli_pairs(words, split = FALSE)
  )
}

# KELD,TAMX are two symbols, as KELD TAMX are.
cli_symbols <- function(words) {
  parts <- trimws(unlist(strsplit(words, ",", fixed = TRUE)))
  parts[nzchar(parts)]
}

cli_query_archive <- function(options, create) {
  desk <- cli_desk(options, needed = FALSE)
  if (is.null(options$archive)) {
    return(desk_archive(desk %||% cli_desk(options), create))
  }
  if (!create && !archive_there(options$archive)) {
    NULL
  } else {
    archive_open(options$archive)
  }
}

# The calendar of the series' source where the desk has its card, else none.
cli_calendar <- function(options, sources) {
  source <- cli_desk_source(options, sources)
  if (is.null(source)) NULL else source_calendar(source)
}

# The only source of the series, where the desk has its card.
cli_desk_source <- function(options, sources) {
  desk <- cli_desk(options, needed = FALSE)
  if (!is.null(desk) &&
    length(sources) == 1 &&
    file.exists(file.path(desk$sources, paste0(sources, ".yml")))) {
    desk_source(desk, sources)
  }
}

# --resample as a function of calendar and zone, for bars only.
cli_longer <- function(options) {
  if (is.null(options$resample)) {
    return(NULL)
  }
  function(calendar, zone) {
    list(
      interval = options$resample,
      calendar = calendar,
      session = cli_sessions(list(calendar = calendar), options),
      need = 0
    )
  }
}

# The session of a calendar that counts: none without a calendar or with
# --session all.
cli_sessions <- function(read, options) {
  if (is.null(read$calendar) || identical(options$session, "all")) {
    NULL
  } else {
    options$session
  }
}

cli_read_options <- function() {
  c(
    list(
      cli_option(
        "resample", "bars: a longer length to resample them to, as \"1 day\"",
        metavar = "LENGTH"
      )
    ),
    cli_window_options(),
    list(
      cli_option("as-of"), cli_session_option(),
      cli_option("calendar", "; by default that of the series' source")
    ),
    cli_place_options()
  )
}

cli_print_table <- function(frame, empty = "nothing") {
  if (!nrow(frame)) {
    cli_say(empty)
    return(invisible())
  }
  cat(text_table(frame, cli_width()), sep = "\n")
}

# Lines are cut to the width of a terminal; files and other programs get whole
# lines.
cli_width <- function() if (isatty(stdout())) cli::console_width() else Inf

# A list stays an array in JSON, whatever its length.
cli_array <- function(x) I(as.character(x))

cli_print_json <- function(x) {
  plain <- function(value) {
    if (inherits(value, "AsIs")) {
      value
    } else if (inherits(value, "POSIXct")) {
      format_instant(value)
    } else if (inherits(value, "vetusta_interval")) {
      value$iso
    } else if (is.double(value) && !is.object(value)) {
      ifelse(
        is.finite(value), paste0("\u0002", format_exact(value)), NA_character_
      )
    } else if (is.data.frame(value)) {
      list_frame(lapply(as.list(value), plain))
    } else if (is.list(value)) {
      lapply(value, plain)
    } else {
      value
    }
  }
  # numbers are written in the shortest text that reads back the same: they pass
  # through the encoder as marked texts, whose quotes are removed
  text <- jsonlite::toJSON(
    plain(x),
    dataframe = "rows", auto_unbox = TRUE, digits = NA,
    null = "null", na = "null", pretty = TRUE
  )
  cat(gsub("\"\\\\u0002([^\"]*)\"", "\\1", text), "\n", sep = "")
}

# A partial name never matches another option.
#' @export
`$.vetusta_options` <- function(x, name) unclass(x)[[name]]
