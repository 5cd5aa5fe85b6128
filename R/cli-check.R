# vetusta check: findings of the rules that watch the data.
cli_check <- function(arguments) {
  options <- cli_arguments(
    arguments, "check", "[ID...]",
    c(list(
      cli_option(
        "since",
        paste(
          "only findings that reach to this day or later; by default 90 days",
          "before the newest value"
        ),
        metavar = "DAY"
      ),
      cli_option(
        "accept", "a finding that is no fault, by its ID, with --reason",
        metavar = "FINDING"
      ),
      cli_option("reason", "why it is no fault", metavar = "TEXT"),
      cli_option(
        "until", "the last day on which it is accepted; by default always",
        metavar = "DAY"
      ),
      cli_option("desk")
    ), cli_json_option()),
    c(
      "vetusta check", "vetusta check \"quay/bars/*\" --since 2025-01-01",
      paste(
        "vetusta check --accept 3fa2c1 --reason \"a strike at the lock\"",
        "--until 2026-06-30"
      )
    )
  )
  desk <- cli_desk(options)
  if (!is.null(options$accept)) {
    return(cli_check_accept(desk, options))
  }
  if (!is.null(options$reason) || !is.null(options$until)) {
    cli_usage_error("--reason and --until are for --accept")
  }
  ids <- if (length(options$words)) cli_ids(options$words)
  found <- desk_check(desk, ids, options$since)
  if (options$json) {
    cli_print_json(list(findings = as.data.frame(found)))
  } else {
    cat(cli_words(format(found, cli_width())), sep = "\n")
  }
  new <- found[found$state == "new", , drop = FALSE]
  if (nrow(new) && !is.null(desk$on_finding)) {
    refresh_command(
      desk, "on_finding",
      paste0(new$rule, " ", new$series, ": ", new$detail),
      desk$log %||% file.path(desk$folder, "check.log")
    )
  }
  # for monitoring by exit status
  if (any(found$state != "accepted")) 3L else 0L
}

cli_check_accept <- function(desk, options) {
  if (is.null(options$reason)) {
    cli_usage_error("--accept needs a --reason")
  }
  archive <- desk_archive(desk)
  if (is.null(archive)) cli_usage_error("the desk has no archive yet")
  on.exit(archive_close(archive))
  row <- archive_accept(
    archive, options$accept, options$reason, options$until
  )
  cli_say(
    "accepted: ", row$rule, " of ", row$series, ", ", row$detail,
    if (!is.na(row$until)) paste0(", until ", row$until)
  )
}
