cli_collect <- function(arguments) {
  options <- cli_arguments(arguments, "collect", "SOURCE SYMBOL...",
    c(cli_want_options(), cli_place_options(), list(cli_option("quiet", "show no progress", flag = TRUE)), cli_json_option()),
    c("vetusta collect quay KELD TAMX --interval \"1 minute\" --from 2026-03-12 --to 2026-03-26",
      "vetusta collect quay KELD --interval \"1 day\" --span \"6 months\""), least = 1)
  want <- cli_want(options)
  archive <- cli_want_archive(options, create = TRUE)
  plan <- plan_calls(want, archive)
  if (!options$quiet) cli_say(paste(format_plan(plan)[1:4], collapse = "\n"))
  for (note in want$notes) cli_say("note: ", note)
  run <- collect_run(plan, archive, progress = !options$quiet)
  if (options$json) cli_print_json(unclass(run)[setdiff(names(run), "notes")]) else print(run)
  if (nrow(run$failed)) {
    cli_say("to try just those again: vetusta collect ", paste(c(options$words[1], unique(run$failed$symbol)), collapse = " "), " with the same options")
    return(1L)
  }
  0L
}
