# Outputs that a desk writes after a refresh: tables, figures, and growing
# tables.

#' Write a desk's outputs
#'
#' Writes the `outputs:` of a desk from the archive, see docs/desk.md: series
#' are filled, resampled, changed and aligned, in this order, and become a table
#' or a figure.
#'
#' @param desk A desk, see [desk_open()].
#' @param outputs Names of outputs; by default all of them.
#' @return Invisibly a tibble with a row per output: `output`, `file`, `rows`,
#'   `outcome` (`written` or `failed`), `message` (the reason).
#' @section Errors: `vetusta_error_desk` for an unknown name of an output.
#'   Failures within an output are in its row.
#' @export
#' @examples
#' \dontrun{
#' desk_write(desk_open("my-desk"))
#' }
desk_write <- function(desk, outputs = NULL) {
  check_desk(desk)
  names <- names(desk$outputs)
  if (!is.null(outputs)) {
    check_text(outputs, "outputs", "desk", several = TRUE)
    for (name in setdiff(outputs, names)) {
      vetusta_stop(
        "desk",
        paste0("The desk has no output \"", name, "\"."),
        where = desk$file,
        todo = suggest_word(name, names),
        usage = TRUE
      )
    }
    names <- intersect(names, outputs)
  }
  rows <- lapply(names, function(name) {
    entry <- desk$outputs[[name]]
    file <- entry$file %||% entry$append %||% ""
    done <- tryCatch(
      list(
        rows = output_write(desk, name, entry),
        outcome = "written",
        message = ""
      ),
      error = function(e) {
        ours <- inherits(e, "vetusta_error")
        list(
          rows = 0,
          outcome = "failed",
          message = if (ours) {
            paste(c(sub("[.]$", "", e$what), e$todo), collapse = "; ")
          } else {
            paste("an internal error:", conditionMessage(e))
          }
        )
      }
    )
    c(list(output = name, file = file), done)
  })
  pick <- function(part, empty) {
    if (length(rows)) sapply(rows, `[[`, part) else empty
  }
  invisible(
    as_rows(
      list(
        output = pick("output", character()),
        file = pick("file", character()),
        rows = as.numeric(pick("rows", numeric())),
        outcome = pick("outcome", character()),
        message = pick("message", character())
      )
    )
  )
}

# Writes one output; returns its number of rows.
output_write <- function(desk, name, entry) {
  within <- function(path) {
    if (grepl("^/", path)) path else file.path(desk$folder, path)
  }
  if (is.null(entry$file) && is.null(entry$append)) {
    vetusta_stop(
      "desk",
      paste0("The output ", name, " has no file to write."),
      where = desk_place(desk, "outputs", name),
      todo = "add file: or append:"
    )
  }
  # what is written has the output as its lineage, not the command around it
  around <- readings_begin(paste0("vetusta refresh  # output ", name))
  on.exit(readings_again(around))
  options <- output_options(desk, entry)
  if (isTRUE(entry$report)) {
    report <- desk_report(
      desk, entry$series, output_from(entry), entry$to, entry$title
    )
    if (!is.null(entry$parts)) {
      report <- report_choose(report, unlist(entry$parts))
    }
    report_save(
      report, within(entry$file),
      if (!is.null(entry$template)) within(entry$template)
    )
    return(sum(vapply(report$tables, nrow, 1L)))
  }
  if (!is.null(entry$model)) {
    model <- desk_model(desk, entry$model, renew = TRUE)
    report_save(model_report(model, entry$title), within(entry$file))
    return(nrow(model$data))
  }
  if (!is.null(entry$statement) && identical(entry$form, "wide") &&
    !is.null(entry$append)) {
    return(output_filled(cli_archive(options), entry, within(entry$append)))
  }
  if (!is.null(entry$statement)) {
    rows <- output_statement(cli_archive(options), entry)
  } else if (!is.null(entry$rank)) {
    rows <- output_rank(cli_archive(options), entry, options)
  } else if (!is.null(entry$rows)) {
    rows <- output_rows(cli_archive(options), entry)
  } else {
    if (is.null(entry$series)) {
      vetusta_stop(
        "desk",
        paste0("The output ", name, " names no series and no rows."),
        where = desk_place(desk, "outputs", name),
        todo = "add series: or rows:"
      )
    }
    read <- output_read(options, entry)
    if (!is.null(entry$figure)) {
      return(output_figure(read, entry, within(entry$file)))
    }
    rows <- output_table(read, options, entry)
    rows <- rows_filter(rows, entry$where)
  }
  rows <- rows_columns(rows, unlist(entry$columns))
  if (is.null(entry$append)) {
    export_table(rows, within(entry$file))
  } else {
    export_append(rows, within(entry$append), entry$table)
  }
  nrow(rows)
}

# Rows of a dataset, with the columns that identify them.
output_rows <- function(archive, entry) {
  parts <- strsplit(entry$rows, "/", fixed = TRUE)[[1]]
  known <- store_datasets(archive)
  shape <- known$shape[known$source == parts[1] & known$dataset == parts[2]]
  rows <- rows_filter(archive_rows(archive, parts[1], parts[2]), entry$where)
  keys <- if (length(shape)) record_keys[[shape[1]]]
  attr(rows, "keys") <- intersect(keys %||% names(rows), names(rows))
  rows
}

# A statement of companies: wide in a file, long in a table that grows.
output_statement <- function(archive, entry) {
  words <- entry$statement
  id <- cli_dataset_of_shape(archive, "facts", words$facts)
  facts <- cli_facts(
    archive, id, list(words = unlist(words$symbols), as_of = NULL)
  )
  grows <- !is.null(entry$append)
  rows <- facts_statement(
    facts,
    symbol = unlist(words$symbols),
    period = words$period %||% "annual",
    items = unlist(words$items),
    filed = words$filed %||% "last",
    form = entry$form %||% if (grows) "long" else "wide",
    limit = words$limit %||% 5
  )
  if (!is.null(entry$where)) rows <- rows_filter(rows, entry$where)
  if (grows) attr(rows, "keys") <- c("period_end", "symbol", "item")
  rows
}

# A statement in a table that names its items, periods and perhaps companies.
output_filled <- function(archive, entry, file) {
  words <- entry$statement
  symbols <- unlist(words$symbols)
  facts <- cli_facts(
    archive, cli_dataset_of_shape(archive, "facts", words$facts),
    list(words = symbols, as_of = NULL)
  )
  done <- export_fill(
    facts, file, entry$table,
    symbol = if (length(symbols) == 1) symbols,
    period = if (isTRUE(words$period %in% c("annual", "quarterly"))) {
      words$period
    },
    add = !isFALSE(words$add_periods), filed = words$filed %||% "last"
  )
  done$changed + done$unchanged
}

# A ranking of a snapshot or of daily bars.
output_rank <- function(archive, entry, options) {
  words <- entry$rank
  text <- function(name, default) as.character(words[[name]] %||% default)
  ranked <- cli_ranked(
    archive, join_stored_dataset(archive, unlist(words$of)),
    unlist(entry$where),
    list(
      desk = options$desk, on = NULL, as_of = NULL, window = "1 year",
      by = words$by %||% "up", limit = text("limit", 12),
      min_volume = text("min_volume", 1000), min_price = text("min_price", 1),
      type = words$type %||% "share"
    )
  )
  rank_digits(ranked$rows)
}

# The options of the commands on series, from an output's words.
output_options <- function(desk, entry) {
  list(
    words = entry$series,
    desk = desk$home %||% desk$folder,
    from = output_from(entry),
    to = entry$to,
    session = entry$session %||% "regular",
    labels = entry$labels %||% "codes",
    language = "en",
    multiplier = "keep",
    form = "long",
    value = "close",
    resample = NULL,
    need = "0",
    json = FALSE
  )
}

output_from <- function(entry) {
  if (is.null(entry$span)) {
    return(entry$from)
  }
  format_instant(floor(as.numeric(span_start(entry$span, now_time(), "UTC"))))
}

# The series of an output after its steps.
output_read <- function(options, entry) {
  if (!is.null(entry$align)) {
    options["from"] <- list(NULL)
    options$releases <- TRUE
  }
  # dividends are sized by prices around them, which may lie after the window
  wanted <- options[c("from", "to")]
  if (!is.null(entry$adjust)) options[c("from", "to")] <- list(NULL)
  steps <- output_steps[intersect(names(output_steps), names(entry))]
  # resampling as the first step is done while reading
  longer <- if (identical(names(steps)[1], "resample")) {
    function(calendar, zone) {
      cli_resample_words(
        entry$resample, c(options, output_resample), calendar, zone
      )
    }
  }
  read <- cli_series(options, longer)
  read$tables <- lapply(seq_along(read$tables), function(i) {
    settings <- cli_single(read, options, i)
    x <- read$tables[[i]]
    own_steps <- if (!is.null(longer) && is_bars(x)) steps[-1] else steps
    for (step in own_steps) {
      x <- step(x, entry, settings, attr(x, "interval"), options)
    }
    if (is.null(entry$adjust)) {
      return(x)
    }
    with_interval(cli_window(x, wanted, settings$zone), attr(x, "interval"))
  })
  read
}

output_resample <- list(
  anchor = "opening", week_start = "monday", stamp = "start"
)

# The steps run in this order, whatever the order in the file.
output_steps <- list(
  fill = function(x, entry, settings, interval, options) {
    full <- series_fill(
      x,
      settings$calendar,
      rule = entry$fill,
      at_most = entry$at_most %||% Inf,
      interval = interval,
      session = cli_sessions(settings, options)
    )
    with_interval(full, interval)
  },
  adjust = function(x, entry, settings, interval, options) {
    if (!is_bars(x)) {
      vetusta_stop(
        "desk",
        "Prices of bars are adjusted, and this output has other values.",
        todo = "remove adjust:, or put the series into a separate output"
      )
    }
    actions <- cli_actions(cli_archive(options), list(), settings$sources)
    with_interval(
      bars_adjust(
        x,
        actions,
        entry$adjust,
        as_of = format_instant(now_time()),
        zone = settings$zone
      ),
      interval
    )
  },
  resample = function(x, entry, settings, interval, options) {
    to <- if (is_bars(x)) entry$resample else time_interval(entry$resample)$iso
    options$using <- entry$using
    done <- cli_resample_one(
      as_series(x), if (is_bars(x)) to else output_frequency(entry$resample),
      c(options, output_resample), settings, interval
    )
    if (is_bars(x)) with_interval(done, time_interval(entry$resample)) else done
  },
  change = function(x, entry, settings, interval, options) {
    series_change(
      x,
      entry$change,
      over = entry$over,
      window = entry$window,
      value = if (is_bars(x)) "close",
      interval = interval,
      zone = settings$zone,
      calendar = settings$calendar
    )
  }
)

# The frequency of a length: M for 1 month.
output_frequency <- function(length) {
  iso <- time_interval(length)$iso
  code <- c(
    P1D = "D", P7D = "W", P1W = "W", P1M = "M", P3M = "Q", P6M = "S", P1Y = "A"
  )[iso]
  if (is.na(code)) {
    vetusta_stop(
      "desk",
      paste0("Only bars can be resampled to ", length, "."),
      todo = "choose 1 day, 1 week, 1 month, 3 months, 6 months or 1 year"
    )
  }
  code[[1]]
}

output_table <- function(read, options, entry) {
  if (is.null(entry$align)) {
    return(export_rows(read$tables, entry$form %||% "long", zone = read$zone))
  }
  options$grid <- entry$align
  options["from"] <- list(output_from(entry))
  names <- unique(unlist(lapply(read$tables, series_names_of)))
  grid <- cli_grid(options, read, names, read$tables, read$calendars)
  rows <- do.call(
    series_align,
    c(
      unname(read$tables),
      list(grid = grid, zone = read$zone, calendar = read$calendars)
    )
  )
  cli_window(rows, options, read$zone)
}

output_figure <- function(read, entry, file) {
  options <- list(
    panels = entry$panels, index = entry$index, log_scale = entry$log_scale,
    dark = entry$dark
  )
  figure_save(cli_drawn[[entry$figure]](read, options), file)
  sum(vapply(read$tables, nrow, 1L))
}
