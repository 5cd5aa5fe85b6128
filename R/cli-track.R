# The desk's queries: adding and removing.

cli_new <- function(arguments) {
  options <- cli_arguments(
    arguments, "new", "FOLDER",
    list(cli_option("title", "[the folder's name]")),
    c(
      "vetusta new my-desk",
      "vetusta new rivers --title \"Rivers of the basin\""
    ),
    least = 1, most = 1
  )
  desk_new(options$words, options$title)
  cat(
    "a desk in ", options$words,
    ": desk.yml, sources/*.yml, desk.env, and a list in ", "stations.txt\n",
    sep = ""
  )
  cli_say(
    "\nnext:\n  cd ", options$words,
    "\n  vetusta services &     # the invented services that ",
    "its cards describe\n  vetusta refresh --plan\n  vetusta refresh"
  )
}

cli_track <- function(arguments) {
  options <- cli_arguments(
    arguments, "track", "[SOURCE DATASET [SYMBOL...|KEY=VALUE...]]",
    c(
      cli_query_options(),
      list(
        cli_option("history"), cli_option("name", "[made from the query]"),
        cli_option("title"),
        cli_option(
          "lookback",
          paste0(
            "how much of the stored end is requested again, as ", "\"3 days\""
          ),
          metavar = "LENGTH"
        ),
        cli_option(
          "every", "least time between two refreshes, as \"6 hours\"",
          metavar = "LENGTH"
        ),
        cli_option(
          "stale", "how old its newest value may be, as \"2 days\"",
          metavar = "LENGTH"
        ),
        cli_option(
          "times",
          "when it is due, as \"at 18:30 Europe/Riga on trading days\"",
          metavar = "TIMES"
        ),
        cli_option(
          "drop", "take a query out of the desk; what was collected stays",
          metavar = "NAME"
        ),
        cli_option("desk")
      ),
      cli_json_option()
    ),
    c(
      "vetusta track quay KELD TAMX --interval \"1 day\" --span \"10 years\"",
      paste0(
        "vetusta track river levels station=kelder-lock --from 1981-01-01 ",
        "--name lock"
      ),
      "vetusta track", "vetusta track --drop lock"
    )
  )
  desk <- cli_desk(options)
  if (!is.null(options$drop)) {
    if (length(options$words)) {
      cli_usage_error("--drop NAME takes no other words")
    }
    desk_drop(desk, options$drop)
    return(
      cli_say(
        "dropped ", options$drop, "; what was collected stays in the archive"
      )
    )
  }
  if (!length(options$words)) {
    return(cli_track_list(desk, options))
  }
  cli_track_add(desk, options)
}

cli_track_list <- function(desk, options) {
  rows <- desk_tracked(desk)
  if (options$json) {
    return(cli_print_json(rows))
  }
  shown <- rows[
    c("query", "source", "dataset", "asked", "interval", "from", "times")
  ]
  empty <- vapply(shown, function(column) all(is.na(column)), TRUE)
  cli_print_table(
    shown[!empty],
    "the desk tracks no query yet; `vetusta track SOURCE DATASET ...` adds one"
  )
  failed <- !is.na(rows$problem)
  if (any(failed)) {
    cli_say(
      "\n",
      paste0(rows$query[failed], ": ", rows$problem[failed], collapse = "\n")
    )
  }
}

# The same words as for collect. The query is checked before it is written.
cli_track_add <- function(desk, options) {
  options <- cli_pasted(options)
  source <- desk_source(desk, options$words[1], options$account)
  named <- cli_named_dataset(source, options$words[-1])
  if (inherits(named$dataset, "vetusta_dataset_rows")) {
    named$words <- with_key(named$dataset, named$words)
  }
  away <- tryCatch(
    {
      cli_ask(named$dataset, source, named$words, options)
      NULL
    },
    vetusta_error_network = function(e) e$what
  )
  asked <- cli_kept(named$dataset, named$words)
  given <- options[
    c(
      "interval", "span", "from", "to", "session", "account", "lookback",
      "every", "stale", "times", "title"
    )
  ]
  if (identical(given$session, "regular")) given$session <- NULL
  if (options$history) given$history <- TRUE
  name <- options$name %||% cli_kept_name(desk, source, named, asked)
  entry <- c(
    list(source = options$words[1], dataset = named$dataset$name), asked,
    given[lengths(given) > 0]
  )
  do.call(desk_track, c(list(desk, name), entry))
  cli_say(
    "tracks ", name, " in ", desk$file,
    if (!is.null(away)) paste0("\n", away, " So the query was not checked."),
    "\nnext: vetusta refresh ", name
  )
}

# The query as an entry of a desk.
cli_kept <- function(dataset, words) UseMethod("cli_kept")

#' @export
cli_kept.vetusta_dataset_bars <- function(dataset, words) {
  list(symbols = cli_symbols(words))
}

#' @export
cli_kept.vetusta_dataset_rows <- function(dataset, words) {
  list(keys = cli_pairs(words))
}

#' @export
cli_kept.vetusta_dataflow <- function(dataset, words) {
  list(keys = cli_pairs(words, split = FALSE))
}

# A free name: the only symbol or station, else the dataset.
cli_kept_name <- function(desk, source, named, asked) {
  values <- unlist(asked)
  word <- if (length(values) == 1) values else named$dataset$name
  name <- gsub("^[^a-z]+|-+$", "", gsub("[^a-z0-9]+", "-", tolower(word)))
  if (!nzchar(name)) name <- source$source
  taken <- names(desk$track)
  if (name %in% taken) name <- paste0(source$source, "-", name)
  for (i in 2:1000) {
    if (!name %in% taken) break
    name <- sub("(-[0-9]+)?$", paste0("-", i), name)
  }
  name
}

cli_refresh <- function(arguments) {
  options <- cli_arguments(
    arguments, "refresh", "[NAME...]",
    c(
      list(
        cli_option(
          "plan", "show what each query would request; request no values",
          flag = TRUE
        ),
        cli_option(
          "due", "only queries that are due, as timers do",
          flag = TRUE
        ),
        cli_option(
          "busy",
          paste0(
            "while another refresh of this desk runs: share the work, ",
            "wait for ", "its end, or skip [share; with --due skip]"
          ),
          metavar = "WORD"
        ),
        cli_option(
          "log",
          paste0(
            "write what happens into the desk's log instead of ",
            "showing it, and ", "run its on_failure: when something fails"
          ),
          flag = TRUE
        ),
        cli_option("no-outputs", "write no outputs afterwards", flag = TRUE),
        cli_option(
          "wait",
          paste0(
            "; a query that needs a longer one is left for the next ",
            "refresh [15 minutes]"
          ),
          default = "15 minutes"
        ),
        cli_gather_option(), cli_option("quiet"), cli_option("desk")
      ),
      cli_json_option()
    ),
    c(
      "vetusta refresh --plan", "vetusta refresh",
      "vetusta refresh shares levels"
    )
  )
  wait <- time_interval(options$wait, "--wait")$seconds
  if (is.na(wait)) {
    cli_usage_error("--wait must be a length of time, as in --wait \"2 hours\"")
  }
  busy <- options$busy %||% if (options$due) "skip" else "share"
  check_choice(busy, "--busy", c("share", "wait", "skip"))
  desk <- cli_desk(options)
  if (options$log) {
    return(
      refresh_logged(
        desk, function() cli_refresh_run(desk, options, wait, busy)
      )
    )
  }
  cli_refresh_run(desk, options, wait, busy)
}

cli_refresh_run <- function(desk, options, wait, busy) {
  names <- if (length(options$words)) desk_names(desk, options$words)
  if (options$due) {
    names <- intersect(desk_due(desk), names %||% names(desk$track))
  }
  if (options$due && !length(names)) {
    cli_say("nothing is due")
    return(0L)
  }
  if (!options$plan && !refresh_turn(desk, busy)) {
    cli_say("another refresh of this desk runs: skipped")
    return(0L)
  }
  result <- desk_refresh(
    desk,
    names,
    plan = options$plan,
    progress = !options$quiet && !options$log,
    wait = wait,
    outputs = !options$no_outputs,
    gather = cli_gather(options)
  )
  if (options$json) {
    cli_print_json(
      list(
        queries = as.data.frame(result),
        outputs = as.data.frame(attr(result, "outputs"))
      )
    )
  } else {
    cli_say_refresh(result, options)
  }
  written <- attr(result, "outputs")
  if (any(result$outcome %in% c("failed", "left")) ||
    any(written$outcome == "failed")) {
    1L
  } else {
    0L
  }
}

cli_say_refresh <- function(result, options) {
  cat(
    cli_words(
      format_refresh(result, if (isatty(stdout())) cli_width() else 80)
    ),
    sep = "\n"
  )
  written <- attr(result, "outputs")
  if (NROW(written)) {
    cat("\n")
    cli_print_table(written[c("output", "file", "rows", "outcome")])
    noted <- nzchar(written$message)
    if (any(noted)) {
      cli_say(
        paste(
          wrapped_lines(
            paste0(written$output[noted], ": ", written$message[noted]), 80
          ),
          collapse = "\n"
        )
      )
    }
  }
}
