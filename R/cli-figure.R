# vetusta figure: series and tables of the archive as figures.
cli_figure <- function(arguments) {
  options <- cli_arguments(
    arguments, "figure", "[KIND] ID...",
    c(
      cli_read_options(), cli_file_options(),
      list(
        cli_option("span"),
        cli_option(
          "panels", "lines: a panel each, free or fixed",
          metavar = "WORD"
        ),
        cli_option(
          "index", "lines: scale every first value to 100",
          flag = TRUE
        ),
        cli_option("base", "; lines are scaled to it"),
        cli_option("over", ", in percent; for lines"),
        cli_option("dots", "newest: a map of dots", flag = TRUE),
        cli_option("log-scale", "lines: a logarithmic axis", flag = TRUE),
        cli_option(
          "overlay",
          paste(
            "lines, candles: drawn over them, with commas: mean 20 days, band",
            "20 days, level 250 flood, mark 2026-03-12 strike"
          ),
          metavar = "LIST"
        ),
        cli_option(
          "second", "lines: a series on an axis of its own at the right",
          metavar = "ID"
        ),
        cli_option("fill"),
        cli_option("grid", ", to which lines are aligned first"),
        cli_option(
          "change", ": spread and correlation, simple, log or difference"
        ),
        cli_option("cycle", "season: year or month [year]", metavar = "WORD"),
        cli_option("by", "[up]"), cli_option("limit", "movers [12]"),
        cli_option("title", "; by default from the series"),
        cli_option("subtitle", "text below the title", metavar = "TEXT"),
        cli_option("caption", "text below the figure", metavar = "TEXT"),
        cli_option("dark"),
        cli_option("width", "pixels [1280]", default = "1280", metavar = "N"),
        cli_option("height", "pixels [800]", default = "800", metavar = "N"),
        cli_option("file", ": .png, .svg, .pdf, .html [KIND.png]")
      )
    ),
    c(
      paste0(
        "vetusta figure \"KELD@1 minute\" --from 2026-03-12 --to ",
        "2026-03-12 --file keld.png"
      ),
      "vetusta figure lines \"KELD@1 day\" kelder-lock --panels free",
      paste(
        "vetusta figure lines \"KELD@1 day\" \"TAMX@1 day\" --base",
        "2026-01-05"
      ),
      "vetusta figure \"KELD@1 day\" --overlay \"mean 5 days,level 100\"",
      "vetusta figure lines \"KELD@1 day\" --second kelder-lock",
      "vetusta figure season kelder-lock --dark", "vetusta figure coverage"
    )
  )
  named <- cli_figure_kind(options)
  options$words <- named$words
  if (!is.null(options$panels) &&
    !options$panels %in% c("none", "free", "fixed")) {
    cli_usage_error("--panels must be free or fixed")
  }
  if (!is.null(options$file)) check_figure_file(options$file)
  size <- c(
    cli_number(options, "width", 100), cli_number(options, "height", 100)
  )
  kind <- named$kind
  tabled <- if (!is.null(kind)) cli_tabled[[kind]]
  if (is.null(tabled)) {
    read <- cli_figure_read(options, kind)
    kind <- kind %||%
      if (all(vapply(read$tables, is_bars, TRUE))) "candles" else "lines"
    cli_figure_options(kind, options)
    made <- list(figure = cli_drawn[[kind]](read, options), said = read$said)
  } else {
    cli_figure_options(kind, options)
    made <- tabled(options)
  }
  made$figure <- cli_figure_texts(made$figure, options)
  file <- options$file %||% paste0(kind, ".png")
  figure_save(made$figure, file, size[1], size[2])
  cli_say(
    "wrote ", file, ": ", kind, if (length(made$said)) paste0(", ", made$said)
  )
}

# Options that only some kinds of figures have.
cli_figure_only <- list(
  panels = "lines", index = "lines", base = "lines",
  over = c("lines", "newest"), dots = "newest", log_scale = "lines",
  overlay = c("lines", "candles"), second = "lines",
  grid = "lines", fill = c("lines", "filled", "gaps", "season", "spread"),
  change = c("spread", "correlation"), cycle = "season",
  by = "movers", limit = "movers"
)

cli_figure_options <- function(kind, options) {
  for (name in names(cli_figure_only)) {
    if (isTRUE(options[[name]]) || is.character(options[[name]])) {
      kinds <- cli_figure_only[[name]]
      if (!length(intersect(kinds, kind))) {
        cli_usage_error(
          "--", gsub("_", "-", name), " is for ",
          paste(kinds, collapse = " and "), ", and this figure is ", kind
        )
      }
    }
  }
}

# The texts that the user gives in place of those of the figure.
cli_figure_texts <- function(figure, options) {
  texts <- options[c("title", "subtitle", "caption")]
  texts <- texts[!vapply(texts, is.null, TRUE)]
  if (length(texts)) figure + do.call(ggplot2::labs, texts) else figure
}

# The kind of figure may be left out: candles for bars, lines for everything
# else.
cli_figure_kind <- function(options) {
  words <- options$words
  kinds <- c(names(cli_drawn), names(cli_tabled))
  if (length(words) && words[1] %in% kinds) {
    return(list(kind = words[1], words = words[-1]))
  }
  if (!length(words) && is.null(options$input)) {
    cli_usage_error(
      "name a kind of figure (", paste(kinds, collapse = ", "), ") or series"
    )
  }
  # a first word that is no series ID and resembles a kind is a misspelt kind
  near <- length(words) > 1 &&
    !grepl("[/@*]", words[1]) &&
    min(utils::adist(words[1], kinds)) <= 2
  # so is a plain word before series, where no series has that name
  if (!near &&
    length(words) > 1 &&
    grepl("^[a-z]+$", words[1]) &&
    is.null(options$input)) {
    matches <- tryCatch(
      archive_find(cli_archive(options), words[1]),
      vetusta_error_argument = function(e) NULL
    )
    near <- is.null(matches)
  }
  if (near) {
    cli_usage_error(
      "\"", words[1], "\" is no figure; ", suggest_word(words[1], kinds)
    )
  }
  list(kind = NULL, words = words)
}

# The series of a figure under their stored names, with the caption.
cli_figure_read <- function(options, kind = NULL) {
  read <- cli_series(options)
  tables <- read$tables
  if (!is.null(options$span)) {
    tables <- lapply(tables, cli_last_span, options$span, read$zone)
  }
  if (!is.null(options$fill)) {
    tables <- lapply(tables, cli_figure_filled, read, options)
  }
  if (!is.null(options$grid)) {
    tables <- cli_figure_aligned(tables, read, options)
  }
  second <- cli_figure_second(options, kind, read)
  if (is.null(options$input)) {
    archive <- cli_archive(options)
    tables <- lapply(tables, archive_unit_labels, archive = archive)
    names <- archive_drawn_names(
      archive, c(tables, second), unique(read$sources)
    )
    heading <- archive_heading(archive, tables)
  } else {
    names <- heading <- NULL
  }
  gaps <- if (identical(kind, "gaps")) {
    # gaps are those of the stored bars, before resampling
    table <- if (is.null(options$resample)) read else cli_series(options, NULL)
    tryCatch(
      without_notes(cli_find_gaps(table, options)),
      vetusta_error = function(e) NULL
    )
  }
  list(
    tables = tables,
    second = second[[1]],
    zone = read$zone,
    names = names,
    heading = heading,
    calendar = read$calendar,
    gaps = gaps,
    caption = cli_figure_caption(options, read, tables),
    said = paste(
      length(unique(unlist(lapply(tables, series_names_of)))), "series with",
      counted(sum(vapply(tables, nrow, 1L)), "value")
    )
  )
}

cli_figure_filled <- function(table, read, options) {
  series_fill(
    table, if (is_bars(table)) read$calendar, cli_list_of(options$fill),
    interval = attr(table, "interval", exact = TRUE)
  )
}

# The series at the times of a grid, as one table.
cli_figure_aligned <- function(tables, read, options) {
  long <- do.call(
    series_align,
    c(unname(tables), list(
      grid = options$grid, form = "long", zone = read$zone,
      calendar = read$calendar
    ))
  )
  list(as.data.frame(long)[c("series", "time", "value")])
}

# A list of the table for the axis at the right.
cli_figure_second <- function(options, kind, read) {
  if (is.null(options$second)) {
    return(NULL)
  }
  # ggplot2 looks for a function of stats where the command line has none
  if (!"package:stats" %in% search()) attachNamespace("stats")
  options$words <- options$second
  options["second"] <- list(NULL)
  cli_series(options)$tables
}

# The last part of a table, of the given span.
cli_last_span <- function(table, span, zone) {
  time <- start_times(as_series(table))
  if (!length(time)) {
    return(table)
  }
  start <- span_start(span, utc(max(time)), zone, "--span")
  first <- if (is.null(span_unit(span))) {
    time > as.numeric(start)
  } else {
    time >= as.numeric(start)
  }
  with_interval(table[first, ], attr(table, "interval"))
}

cli_figure_caption <- function(options, read, tables) {
  last <- max(
    unlist(lapply(tables, function(table) {
      if (nrow(table)) max(start_times(as_series(table)))
    })),
    -Inf
  )
  titles <- vapply(
    unique(read$sources),
    function(name) {
      tryCatch(
        cli_source(options, name)$title,
        vetusta_error = function(e) name
      )
    },
    ""
  )
  c(
    if (length(titles)) {
      paste0(
        "source: ", paste(titles, collapse = ", "),
        if (is.finite(last)) {
          paste0("; last value ", format(utc(last), "%Y-%m-%d", tz = read$zone))
        }
      )
    }
  )
}

# Figures of series; `options` may lack options that a desk's output does not
# have.
cli_drawn <- list(
  candles = function(read, options) {
    if (!all(vapply(read$tables, is_bars, TRUE))) {
      cli_usage_error("candles are drawn of bars; draw other series as lines")
    }
    figure_candles(
      cli_joined_bars(read$tables),
      zone = read$zone,
      calendar = read$calendar,
      names = read$names,
      caption = read$caption,
      dark = isTRUE(options$dark),
      with = cli_list_of(options$overlay)
    )
  },
  lines = function(read, options) {
    figure_lines(
      read$tables,
      value = options$value,
      panels = options$panels %||% "none",
      index = if (isTRUE(options$index)) 100,
      log_scale = isTRUE(options$log_scale),
      zone = read$zone,
      names = read$names,
      caption = read$caption,
      dark = isTRUE(options$dark),
      heading = read$heading,
      base = options$base,
      over = options$over,
      with = cli_list_of(options$overlay),
      second = read$second
    )
  },
  gaps = function(read, options) {
    figure_gaps(
      read$tables,
      read$calendar,
      zone = read$zone,
      names = read$names,
      caption = read$caption,
      dark = isTRUE(options$dark),
      gaps = read$gaps
    )
  },
  filled = function(read, options) {
    figure_filled(
      read$tables,
      zone = read$zone,
      names = read$names,
      caption = read$caption,
      dark = isTRUE(options$dark)
    )
  },
  season = function(read, options) {
    figure_season(
      read$tables,
      options$cycle %||% "year",
      zone = read$zone,
      names = read$names,
      caption = read$caption,
      dark = isTRUE(options$dark),
      heading = read$heading
    )
  },
  spread = function(read, options) {
    figure_spread(
      read$tables,
      options$change %||% "simple",
      zone = read$zone,
      names = read$names,
      caption = read$caption,
      dark = isTRUE(options$dark)
    )
  }
)
