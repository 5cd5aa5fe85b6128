# Models in files: the series, the method, and the fit.

model_grammar <- function() {
  list(
    model = "text",
    series = "!text",
    from = "text",
    to = "text",
    as_of = "text",
    fill = "texts",
    at_most = "count",
    season = list(
      trend = "texts",
      periods = "texts",
      harmonics = "texts",
      effects = c("word", "month", "weekday"),
      filled = "number"
    ),
    noise = list(
      order = "texts",
      variance = c("word", "constant", "seasonal", "garch"),
      residuals = c("word", "normal", "t", "bootstrap"),
      harmonics = "count"
    ),
    paths = list(
      n = "count",
      horizon = "duration",
      seed = "number",
      from = c("word", "now", "long run"),
      by = c("word", "model", "blocks"),
      block = "count",
      trend = c("word", "on", "stays"),
      lower = "number",
      upper = "number"
    ),
    index = list(
      below = "number", above = "number", season = "texts", most = "number",
      cap = "number", detrended = "flag"
    ),
    payoff = list(
      strikes = "texts", caps = "texts", pays = "texts", loading = "number",
      season = "count"
    ),
    backtest = list(
      origins = "texts", horizon = "duration", n = "count", seed = "number"
    ),
    fitted = list(
      at = "text", known = "text", values = "count", first = "text",
      last = "text", hash = "text", vetusta = "text", r = "text",
      numbers = list(.each = "text")
    )
  )
}

#' Models in files
#'
#' A model's file states in YAML the series, the parts of the model, and, once
#' fitted, the values it was fitted on (`fitted:`, with the instant up to which
#' they were known, their hash and the versions) and the result. Run again, it
#' reads the values known then and so gives the same numbers, and reports
#' whether the archive has other values now.
#'
#' @param archive An archive.
#' @param file Path of a model's file, `.yml`.
#' @param renew Whether to fit on everything known now, and to rewrite the file.
#' @param calendar For daily bars, their calendar.
#' @return A `vetusta_model`, see [model_run()]; its attribute `comparison` says
#'   whether the data changed and the numbers are the same.
#' @section Errors: `vetusta_error_model` for a missing file or an unknown word
#'   (with its line); those of [archive_find()] and [model_run()].
#' @export
#' @examples
#' \dontrun{
#' model_from_file(archive_open("archive.sqlite"), "low-water.yml")
#' }
model_from_file <- function(archive, file, renew = FALSE, calendar = NULL) {
  check_archive(archive)
  check_flag(renew, "renew")
  saved <- model_read(file)
  known <- if (!renew) saved$fitted$known
  read <- function(as_of, to = saved$to) {
    tables <- archive_read(archive, saved$series, saved$from, to, as_of = as_of)
    if (!length(tables) || !nrow(tables[[1]])) {
      vetusta_stop(
        "model",
        paste0(
          "The archive has no rows of ", saved$series, " in the model's window."
        ),
        where = file, todo = "check series:, from: and to:"
      )
    }
    tables[[1]]
  }
  # later values are not part of a fit
  last <- if (!is.null(known)) {
    utc(as.numeric(time_instant(saved$fitted$last, name = "last")) + 1e-6)
  }
  table <- read(known %||% saved$as_of, last %||% saved$to)
  model <- model_run(
    table, saved[intersect(model_parts, names(saved))], calendar
  )
  if (is.null(known)) {
    model_write(file, saved, model, table)
    attr(
      model, "comparison"
    ) <- paste0(
      "fitted on ", counted(nrow(table), "value"), ", written to ", file
    )
    return(model)
  }
  attr(model, "comparison") <-
    model_compared(saved, model, table, read(saved$as_of))
  model
}

# A model of a desk, with the calendar of its source.
desk_model <- function(desk, file, renew = FALSE, fitted = FALSE) {
  path <- if (grepl("^/", file)) file else file.path(desk$folder, file)
  if (fitted && is.null(model_read(path)$fitted)) {
    return(NULL)
  }
  archive <- desk_archive(desk)
  on.exit(archive_close(archive))
  source <- archive_find(archive, model_read(path)$series)$source[1]
  calendar <- tryCatch(
    source_calendar(desk_source(desk, source)),
    vetusta_error = function(e) NULL
  )
  model_from_file(archive, path, renew, calendar)
}

model_read <- function(file) {
  check_text(file, "file", "model")
  if (!file.exists(file)) {
    vetusta_stop(
      "model", "There is no such model.",
      where = file,
      todo = paste0(
        "give the path of a model's .yml file; `vetusta model ... --save ",
        "FILE` writes it"
      )
    )
  }
  lines <- readLines(file, warn = FALSE, encoding = "UTF-8")
  content <- model_texts(
    desk_plain(card_yaml(lines, file, "model")), model_grammar()
  )
  place <- function(keys) card_place(lines, file, keys)
  tryCatch(
    card_check(content, model_grammar(), character(), place),
    vetusta_error_card = function(e) {
      vetusta_stop(
        "model", sub("[Tt]he card", "The model", e$what),
        where = e$where,
        todo = e$todo
      )
    }
  )
  model_numbers_of(content)
}

# Lists as texts, whatever they contain.
model_texts <- function(content, grammar) {
  for (name in intersect(names(content), names(grammar))) {
    if (is.list(grammar[[name]])) {
      if (is.list(content[[name]])) {
        content[[name]] <- model_texts(content[[name]], grammar[[name]])
      }
    } else if (identical(grammar[[name]], "texts") &&
      is.numeric(content[[name]])) {
      content[[name]] <- format_exact(content[[name]])
    }
  }
  content
}

# A text becomes a number where the function takes one.
model_numbers_of <- function(content) {
  number <- function(x) {
    if (is.null(x)) {
      return(NULL)
    }
    as.numeric(unlist(x))
  }
  for (name in c("harmonics", "filled")) {
    content$season[[name]] <- number(content$season[[name]])
  }
  content$noise$order <- number(content$noise$order)
  periods <- content$season$periods
  if (!is.null(periods)) {
    plain <- suppressWarnings(as.numeric(periods))
    content$season$periods <- ifelse(
      is.na(plain), as.list(periods), as.list(plain)
    )
  }
  content
}

model_hash <- function(table) {
  points <- without_notes(series_points(as_series(table), times_only = TRUE))
  digest::digest(
    paste(
      format_exact(points$time), format_exact(points$value),
      collapse = "\n"
    ),
    "sha256",
    serialize = FALSE
  )
}

# Writes the fit into the file; the part above it is unchanged.
model_write <- function(file, saved, model, table) {
  with_locked_file(
    file, function() model_write_locked(file, saved, model, table)
  )
}

model_write_locked <- function(file, saved, model, table) {
  lines <- if (file.exists(file)) {
    readLines(file, warn = FALSE, encoding = "UTF-8")
  } else {
    character()
  }
  at <- grep("^fitted:", lines)
  if (length(at)) lines <- lines[seq_len(at[1] - 1)]
  points <- without_notes(series_points(as_series(table), times_only = TRUE))
  numbers <- summary(model)
  fitted <- list(
    at = format_instant(floor(now_seconds())),
    known = format_instant(now_seconds()),
    values = nrow(points),
    first = format_instant(min(points$time)),
    last = format_instant(max(points$time)),
    hash = model_hash(table),
    vetusta = as.character(getNamespaceVersion("vetusta")),
    r = paste0(R.version$major, ".", R.version$minor),
    numbers = as.list(
      stats::setNames(
        format_exact(numbers$value), paste(numbers$part, numbers$term)
      )
    )
  )
  if (!is.null(saved$as_of)) fitted$known <- saved$as_of
  text <- sub("\n$", "", yaml::as.yaml(list(fitted = fitted)))
  write_lines_whole(
    c(lines, strsplit(text, "\n", fixed = TRUE)[[1]]), file, "model"
  )
}

# In words: whether the numbers are the same, and whether the archive has
# changed.
model_compared <- function(saved, model, table, now) {
  numbers <- summary(model)
  before <- as.numeric(unlist(saved$fitted$numbers))
  same <- length(before) == nrow(numbers) &&
    all(abs(before - numbers$value) <= 1e-8 * pmax(1, abs(before)))
  here <- as.character(getNamespaceVersion("vetusta"))
  unchanged <- identical(model_hash(table), saved$fitted$hash)
  changed <- !identical(model_hash(now), saved$fitted$hash)
  c(
    if (!unchanged) {
      paste0(
        "the values that were known at ", saved$fitted$known,
        " are not those it was fitted on"
      )
    },
    if (same) {
      "the same numbers as before"
    } else {
      "the numbers are not those of before"
    },
    if (changed) {
      paste0(
        "the data has changed since: ", counted(nrow(now), "value"),
        " now, it was fitted on ", thousands(as.numeric(saved$fitted$values)),
        "; --renew fits it on them"
      )
    },
    if (here != saved$fitted$vetusta) {
      paste0("fitted with version ", saved$fitted$vetusta)
    }
  )
}

# The text of a new model's file.
model_text <- function(definition) {
  tidy <- function(x) {
    if (is.list(x)) lapply(x[lengths(x) > 0], tidy) else x
  }
  c(
    paste0(
      "# A model: `vetusta model run` works it again, and --renew fits ",
      "it on what is known now."
    ),
    strsplit(
      sub(
        "\n$", "",
        yaml::as.yaml(tidy(definition), indent.mapping.sequence = TRUE)
      ),
      "\n",
      fixed = TRUE
    )[[1]]
  )
}
