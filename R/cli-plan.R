cli_plan <- function(arguments) {
  options <- cli_arguments(
    arguments, "plan", "SOURCE DATASET [SYMBOL...|KEY=VALUE...]",
    c(cli_query_options(), cli_place_options(), cli_json_option()),
    paste0(
      "vetusta plan quay KELD TAMX --interval \"1 minute\" --from ",
      "2026-03-12 --to 2026-03-26"
    ),
    least = 1
  )
  plan <- plan_requests(
    cli_query(options), cli_query_archive(options, create = FALSE)
  )
  if (options$json) {
    query <- plan$query
    cli_print_json(
      list(
        source = query$source$source,
        dataset = query$dataset$name,
        shape = query$dataset$shape,
        interval = query$interval$iso,
        from = query$from,
        to = query$to,
        session = query$session,
        requests = plan$pages,
        rows = plan$rows,
        seconds = plan$seconds,
        bytes = plan$bytes,
        quotas = plan$quotas,
        stored = cli_array(plan$stored),
        notes = cli_array(query$notes),
        requests = plan$requests[c("symbol", "from", "to", "rows", "pages")]
      )
    )
  } else {
    cat(cli_words(format_plan(plan)), sep = "\n")
  }
}
