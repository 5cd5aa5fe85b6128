cli_status <- function(arguments) {
  options <- cli_arguments(
    arguments, "status", "[NAME...]",
    c(
      list(
        cli_option(
          "series", "a line per series in place of a line per query",
          flag = TRUE
        ),
        cli_option(
          "collectors", "who is collecting into the archive, and what",
          flag = TRUE
        ),
        cli_option("desk")
      ),
      cli_json_option()
    ),
    c(
      "vetusta status", "vetusta status shares --series",
      "vetusta status --collectors", "vetusta status --json"
    )
  )
  desk <- cli_desk(options)
  if (options$collectors) {
    return(cli_status_collectors(desk, options))
  }
  names <- desk_names(desk, if (length(options$words)) options$words)
  desk$track <- desk$track[names]
  status <- desk_status(desk, series = options$series)
  if (options$json) {
    cli_print_json(
      list(
        stale = any(status$stale),
        series = if (options$series) as.data.frame(status),
        queries = if (!options$series) as.data.frame(status),
        quotas = attr(status, "quotas")
      )
    )
  } else {
    cat(
      cli_words(
        format_status(
          status, if (isatty(stdout())) cli_width() else 80,
          bars = isatty(stdout())
        )
      ),
      sep = "\n"
    )
  }
  if (!options$json) cli_status_findings(desk)
  # for monitoring by exit status
  if (any(status$stale) || any(status$incomplete > 0)) 3L else 0L
}

# How many findings the last check left.
cli_status_findings <- function(desk) {
  archive <- desk_archive(desk)
  if (is.null(archive)) {
    return(invisible())
  }
  on.exit(archive_close(archive))
  open <- archive_findings(archive)
  open <- open[open$state != "accepted", , drop = FALSE]
  if (nrow(open)) {
    cli_say(
      counted(nrow(open), "finding"), " of the last check: see `vetusta check`"
    )
  }
}

cli_status_collectors <- function(desk, options) {
  if (length(options$words)) {
    cli_usage_error("--collectors takes no names of queries")
  }
  archive <- desk_archive(desk)
  on.exit(if (!is.null(archive)) archive_close(archive))
  collectors <- if (!is.null(archive)) archive_collectors(archive)
  if (options$json) {
    return(cli_print_json(as.data.frame(collectors)))
  }
  if (!NROW(collectors)) {
    cli_say("no collector is running")
    return(0L)
  }
  ago <- vapply(collectors$silent, format_seconds, "")
  cli_print_table(
    list_frame(
      list(
        host = collectors$host,
        process = collectors$process,
        since = collectors$since,
        at = collectors$doing,
        requests = collectors$requests,
        "last sign" = paste(ago, "ago"),
        state = ifelse(collectors$gone, "gone", "at work")
      )
    )
  )
  if (any(collectors$gone)) {
    cli_say(
      "\nthe requests of a collector that is gone are made by the next refresh"
    )
  }
  0L
}
