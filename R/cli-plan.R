cli_plan <- function(arguments) {
  options <- cli_arguments(arguments, "plan", "SOURCE DATASET [SYMBOL...|KEY=VALUE...]",
    c(cli_want_options(), cli_place_options(), cli_json_option()),
    "vetusta plan quay KELD TAMX --interval \"1 minute\" --from 2026-03-12 --to 2026-03-26",
    least = 1)
  plan <- plan_calls(cli_want(options), cli_want_archive(options, create = FALSE))
  if (options$json) {
    want <- plan$want
    cli_print_json(list(source = want$source$source, dataset = want$dataset$name,
      shape = want$dataset$shape, interval = want$interval$iso, from = want$from, to = want$to,
      session = want$session, requests = plan$pages, rows = plan$rows, seconds = plan$seconds,
      bytes = plan$bytes, quotas = plan$quotas, held = cli_array(plan$held),
      notes = cli_array(want$notes),
      calls = plan$calls[c("symbol", "from", "to", "rows", "pages")]))
  } else {
    cat(cli_words(format_plan(plan)), sep = "\n")
  }
}
