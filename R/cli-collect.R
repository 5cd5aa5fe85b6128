cli_collect <- function(arguments) {
  options <- cli_arguments(
    arguments, "collect", "SOURCE DATASET [SYMBOL...|KEY=VALUE...]",
    c(
      cli_query_options(), cli_place_options(),
      list(
        cli_option("requests", "; the next run continues there"),
        cli_option(
          "wait", "; a longer one ends the run [15 minutes]",
          default = "15 minutes"
        ),
        cli_gather_option(), cli_option("history"),
        cli_option(
          "again", "request the whole window, also what is stored",
          flag = TRUE
        ),
        cli_option(
          "raw", "keep the raw pages too, for vetusta reparse",
          flag = TRUE
        ),
        cli_option("quiet")
      ),
      cli_json_option()
    ),
    c(
      paste0(
        "vetusta collect quay KELD TAMX --interval \"1 minute\" --from ",
        "2026-03-12 --to 2026-03-26"
      ),
      # nolint
      "vetusta collect quay KELD --interval \"1 day\" --span \"6 months\"",
      "vetusta collect river levels station=kelder-lock --from 1981-01-01",
      paste0(
        "vetusta collect basin LOCK_TRAFFIC STATE=ORV CARGO=\"grain*\" ",
        "--from 2020"
      )
    ),
    least = 1
  )
  pages <- cli_number(options, "requests", 1) %||% Inf
  if (is.finite(pages) && pages != round(pages)) {
    cli_usage_error("--requests must be a whole number, 1 or more")
  }
  wait <- time_interval(options$wait, "--wait")$seconds
  if (is.na(wait)) {
    cli_usage_error("--wait must be a length of time, as in --wait \"2 hours\"")
  }
  query <- cli_query(options)
  archive <- cli_query_archive(options, create = TRUE)
  plan <- plan_requests(query, archive, again = options$again)
  text <- format_plan(plan)
  if (!options$quiet) {
    cli_say(
      paste(
        text[seq_len(match("", text, nomatch = length(text) + 1) - 1)],
        collapse = "\n"
      )
    )
  }
  run <- collect_run(
    plan, archive,
    progress = !options$quiet, requests = pages,
    raw = options$raw, wait = wait, gather = cli_gather(options)
  )
  if (options$json) {
    cli_print_json(cli_run_values(run))
  } else {
    cat(cli_words(format_run(run)), sep = "\n")
  }
  if (nrow(run$failed)) {
    # a symbol that the source does not have is not requested again
    again <- run$failed$outcome != "absent"
    cli_say(
      if (any(again)) {
        paste(
          "to repeat only the failed",
          if (length(again) == 1) "request:" else "requests:"
        )
      } else {
        "to repeat only the failed requests, once the source has the data:"
      },
      "\n  ", collect_again_command(options, run)
    )
    return(1L)
  }
  if (run$left > 0) {
    cli_say(
      "to go on",
      if (!is.null(run$resume)) {
        paste0(" after ", format_instant(floor(as.numeric(run$resume))))
      },
      ": the same command again"
    )
    return(1L)
  }
  0L
}

cli_gather_option <- function() {
  cli_option("gather", "[50]", default = "50")
}

cli_gather <- function(options) {
  number <- cli_number(options, "gather", 1)
  if (number != round(number)) {
    cli_usage_error("--gather must be a whole number, 1 or more")
  }
  number
}

cli_reparse <- function(arguments) {
  options <- cli_arguments(
    arguments, "reparse", "SOURCE DATASET",
    c(cli_place_options(), cli_json_option()), "vetusta reparse quay bars",
    least = 2, most = 2
  )
  run <- collect_reparse(
    cli_source(options), options$words[2], cli_archive(options)
  )
  if (options$json) {
    cli_print_json(cli_run_values(run))
  } else {
    cat(cli_words(format_run(run)), sep = "\n")
  }
  if (nrow(run$failed)) 1L else 0L
}

cli_run_values <- function(run) {
  values <- unclass(
    run
  )[setdiff(names(run), c("notes", "noun", "failed_keys", "words_again"))]
  values$empty <- cli_array(values$empty)
  values
}

# The command that requests the failed part again, with the given options.
collect_again_command <- function(options, run) {
  given <- options[
    c("interval", "span", "from", "to", "session", "account", "desk", "archive")
  ]
  given <- given[lengths(given) > 0]
  if (identical(given$session, "regular")) given$session <- NULL
  flags <- if (length(given)) {
    paste0("--", names(given), " ", shQuote(unlist(given)), collapse = " ")
  }
  words <- run$words_again %||% options$words[-1]
  paste(
    c(
      "vetusta collect", options$words[1], if (length(words)) shQuote(words),
      flags, if (isTRUE(options$raw)) "--raw"
    ),
    collapse = " "
  )
}
