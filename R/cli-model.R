# vetusta model: spectrum, trend and season, noise, paths, an index and its
# payoff, of one series.

cli_model <- function(arguments) {
  options <- cli_arguments(
    arguments, "model", "KIND ID | run FILE.yml",
    c(
      cli_model_options(), cli_series_options(), cli_window_options(),
      cli_place_options(),
      list(
        cli_option(
          "file",
          paste0(
            ": .csv or .parquet the table, .png, .svg or .pdf the ",
            "figure, .html ", "a report"
          )
        ),
        cli_option(
          "save",
          "where to write the model, to be worked again by `vetusta model run`",
          metavar = "FILE.yml"
        ),
        cli_option(
          "renew", "run: fit it on what is known now, and write it anew",
          flag = TRUE
        ),
        cli_option(
          "came", "paths: the values after --to are drawn over them",
          flag = TRUE
        ),
        cli_option("dark")
      ),
      cli_json_option()
    ),
    c(
      "vetusta model spectrum kelder-lock --fill linear",
      "vetusta model season kelder-lock --fill linear --file season.png",
      paste0(
        "vetusta model paths kelder-lock --fill linear --horizon \"18 ",
        "months\" --file fan.png"
      ),
      paste0(
        "vetusta model payoff tamm-weir --fill linear,seasonal --above 285 ",
        "--season 02-15,05-31 --strikes 60,140,260 --cap 900 --pays 20"
      ),
      "vetusta model run high-water.yml"
    ),
    least = 1
  )
  kind <- options$words[1]
  if (identical(kind, "run")) {
    return(cli_model_run(options))
  }
  if (is.null(cli_model_kinds[[kind]])) {
    cli_usage_error(
      "\"", kind, "\" is no kind of model; ",
      suggest_word(kind, c(names(cli_model_kinds), "run"))
    )
  }
  options$words <- options$words[-1]
  if (!length(options$words) && is.null(options$input)) {
    cli_usage_error("name a series")
  }
  definition <- cli_model_definition(options, kind)
  read <- cli_series(options)
  if (length(read$tables) != 1) cli_usage_error("a model has a single series")
  say_jumps(read$tables, read$zone)
  if (!is.null(options$save)) {
    return(cli_model_save(options, definition, read, kind))
  }
  cli_model_put(
    model_run(read$tables[[1]], definition, read$calendar), kind, options,
    attr(read$tables[[1]], "title", exact = TRUE),
    cli_model_came(options, kind)
  )
}

# The values after the window, for a figure of paths.
cli_model_came <- function(options, kind) {
  if (!options$came) {
    return(NULL)
  }
  if (is.null(cli_model_kinds[[kind]]$came) || is.null(options$to)) {
    cli_usage_error("--came is for paths, with --to: the last day they know")
  }
  options["to"] <- list(NULL)
  cli_series(options)$tables[[1]]
}

cli_model_options <- function() {
  list(
    cli_option("fill"),
    cli_option(
      "trend", "linear, none, or days at which it breaks [linear]",
      metavar = "WORD"
    ),
    cli_option(
      "periods",
      "periods of the season, as \"1 year,1 week\"; by default chosen",
      metavar = "LENGTHS"
    ),
    cli_option(
      "harmonics", "how many sines and cosines each period has",
      metavar = "N"
    ),
    cli_option(
      "effects", "month or weekday, instead of periods",
      metavar = "WORD"
    ),
    cli_option(
      "order", "of the noise, as 1,0; by default chosen",
      metavar = "P,Q"
    ),
    cli_option(
      "variance", "constant, seasonal or garch [constant]",
      metavar = "WORD"
    ),
    cli_option(
      "residuals", "normal, t or bootstrap [normal]",
      metavar = "WORD"
    ),
    cli_option("paths", "how many [2500]", metavar = "N"),
    cli_option("horizon", "how far [18 months]", metavar = "LENGTH"),
    cli_option("seed", "a whole number [1]", metavar = "N"),
    cli_option(
      "draw", "model, or blocks of past residuals [model]",
      metavar = "WORD"
    ),
    cli_option("lower", "what the series is never below", metavar = "NUMBER"),
    cli_option("upper", "what it is never above", metavar = "NUMBER"),
    cli_option("below", "count values below this level", metavar = "LEVEL"),
    cli_option("above", "count values above this level", metavar = "LEVEL"),
    cli_option(
      "season", "first and last day of the season, as 02-15,05-31",
      metavar = "DAYS"
    ),
    cli_option(
      "strikes", "of the payoff, values of the index with commas",
      metavar = "NUMBERS"
    ),
    cli_option(
      "cap", "the index value at which the payoff stops rising",
      metavar = "NUMBER"
    ),
    cli_option(
      "pays", "for each unit above the strike [1]",
      metavar = "AMOUNT"
    ),
    cli_option(
      "loading", "standard deviations of the payments in the premium [0.25]",
      metavar = "NUMBER"
    ),
    cli_option(
      "origins", "backtest: days from which it looks ahead",
      metavar = "DAYS"
    )
  )
}

# The steps and the output of each kind.
cli_model_kinds <- list(
  spectrum = list(
    parts = "season",
    shows = function(model) model_spectrum(model$data),
    figure = "figure_spectrum"
  ),
  dependence = list(
    parts = "season",
    shows = function(model) model_dependence(model$season),
    figure = "figure_dependence"
  ),
  season = list(
    parts = "season",
    shows = function(model) model$season,
    figure = "figure_parts"
  ),
  noise = list(
    parts = c("season", "noise"),
    shows = function(model) model$noise
  ),
  paths = list(
    parts = c("season", "noise", "paths"),
    shows = function(model) model$paths,
    figure = "figure_fan",
    came = TRUE
  ),
  index = list(
    parts = c("season", "noise", "paths", "index"),
    shows = function(model) model$index,
    figure = "figure_index",
    beside = TRUE
  ),
  payoff = list(
    parts = c("season", "noise", "paths", "index", "payoff"),
    shows = function(model) model$payoff,
    figure = "figure_payoff"
  ),
  backtest = list(
    parts = c("season", "noise", "backtest"),
    shows = function(model) model$backtest,
    figure = "figure_backtest"
  )
)

cli_model_definition <- function(options, kind) {
  list_of <- function(name) cli_list_of(options[[name]])
  numbers <- function(name) {
    if (is.null(options[[name]])) {
      return(NULL)
    }
    value <- suppressWarnings(as.numeric(list_of(name)))
    if (anyNA(value)) {
      cli_usage_error("--", name, " are numbers with commas between")
    }
    value
  }
  number <- function(name, least = -Inf) cli_number(options, name, least)
  periods <- list_of("periods")
  plain <- suppressWarnings(as.numeric(periods))
  all <- list(
    fill = list_of("fill"),
    season = list(
      trend = list_of("trend"),
      periods = if (!is.null(periods)) {
        ifelse(is.na(plain), as.list(periods), as.list(plain))
      },
      harmonics = numbers("harmonics"),
      effects = options$effects
    ),
    noise = list(
      order = numbers("order"), variance = options$variance,
      residuals = options$residuals
    ),
    paths = list(
      n = number("paths", 1), horizon = options$horizon, seed = number("seed"),
      draw = options$draw, lower = number("lower"), upper = number("upper")
    ),
    index = list(
      below = number("below"), above = number("above"),
      season = list_of("season")
    ),
    payoff = list(
      strikes = numbers("strikes"), caps = numbers("cap"),
      pays = numbers("pays"), loading = number("loading", 0)
    ),
    backtest = list(
      origins = list_of("origins"), horizon = options$horizon,
      n = number("paths", 1), seed = number("seed")
    )
  )
  kept <- all[intersect(names(all), c("fill", cli_model_kinds[[kind]]$parts))]
  kept <- lapply(
    kept, function(part) if (is.list(part)) part[lengths(part) > 0] else part
  )
  kept[!vapply(kept, is.null, TRUE)]
}

cli_model_put <- function(model, kind, options, title = NULL, came = NULL) {
  settings <- utils::modifyList(list(beside = FALSE), cli_model_kinds[[kind]])
  shown <- settings$shows(model)
  file <- options$file
  ending <- tolower(tools::file_ext(file %||% ""))
  if (ending %in% c("html", "htm", "txt", "md")) {
    report_save(model_report(model), file)
    return(cli_say("wrote ", file, ": a report of the model"))
  }
  if (ending %in% c("png", "svg", "pdf")) {
    if (is.null(settings$figure)) {
      cli_usage_error(
        "a ", kind, " has no figure; a report has all: --file x.html"
      )
    }
    beside <- if (settings$beside) list(history = model$history)
    figure <- do.call(
      settings$figure, c(
        list(shown), beside, list(dark = options$dark),
        if (!is.null(came)) list(came = came)
      )
    )
    # a title in words
    if (length(title) == 1) {
      figure$labels$title <- sub(
        model$name, title, figure$labels$title,
        fixed = TRUE
      )
    }
    figure_save(figure, file)
    return(cli_say("wrote ", file, ": ", kind, " of ", model$name))
  }
  if (!is.null(file)) {
    return(cli_put(cli_model_table(shown), options))
  }
  if (options$json) {
    return(cli_print_json(cli_model_table(shown)))
  }
  if (model$filled) cli_say(counted(model$filled, "value"), " filled")
  print(shown)
  if (settings$beside) print(model$history)
}

# The tables of a part of a model.
cli_model_table <- function(shown) {
  table <- if (inherits(shown, "vetusta_season")) {
    shown$series
  } else if (inherits(shown, "vetusta_noise")) {
    shown$coefficients
  } else if (inherits(shown, "vetusta_paths")) {
    summary(shown)
  } else if (inherits(shown, "vetusta_backtest")) {
    shown$scores
  } else {
    shown
  }
  as.data.frame(table)
}

# Saves and fits a model of an archived series.
cli_model_save <- function(options, definition, read, kind) {
  if (!is.null(options$input)) {
    cli_usage_error("--save is for series of the archive")
  }
  if (file.exists(options$save)) {
    cli_usage_error(
      "the file ", options$save, " is there; work it with `vetusta model run ",
      options$save, " --renew`, or give another name"
    )
  }
  archive <- cli_archive(options)
  matches <- archive_find(archive, cli_ids(options$words))
  if (!is.null(definition$paths)) {
    definition$paths <- utils::modifyList(
      list(n = 2500, horizon = "18 months", seed = 1), definition$paths
    )
  } else if (length(intersect(c("index", "payoff"), names(definition)))) {
    definition$paths <- list(n = 2500, horizon = "18 months", seed = 1)
  }
  definition <- c(
    list(
      model = paste(kind, "of", read$tables[[1]]$series[1] %||% matches$key[1]),
      series = matches$id[1],
      from = options$from,
      to = options$to,
      as_of = options$as_of
    ),
    definition
  )
  write_lines_whole(
    model_text(definition[lengths(definition) > 0]), options$save, "model"
  )
  model <- tryCatch(
    model_from_file(archive, options$save, renew = TRUE, read$calendar),
    error = function(e) {
      unlink(options$save)
      stop(e)
    }
  )
  cli_model_put(model, kind, options)
  cli_say(attr(model, "comparison"))
}

cli_model_run <- function(options) {
  if (length(options$words) != 2) {
    cli_usage_error("name the model's file: model run FILE.yml")
  }
  archive <- cli_archive(options)
  file <- options$words[2]
  saved <- model_read(file)
  matches <- archive_find(archive, saved$series)
  calendar <- cli_calendars(options, matches)$calendar
  model <- model_from_file(archive, file, options$renew, calendar)
  matches <- intersect(
    c("payoff", "index", "paths", "backtest", "noise"), names(saved)
  )
  cli_model_put(model, c(matches, "season")[1], options)
  cli_say(paste(attr(model, "comparison"), collapse = "\n"))
}
