# vetusta demo --week: five mornings with the invented services, in a minute.

week_days <- as.Date("2026-03-23") + 0:4

week_queries <- c(
  "", "track:",
  "  shares:", "    source: quay", "    dataset: bars",
  "    symbols: [KELD, TAMX]", "    interval: 5 minutes",
  "    from: 2026-03-10", "    lookback: 3 days",
  "  levels:", "    source: river", "    dataset: levels",
  "    keys: {station: [kelder-lock, tamm-weir]}", "    from: 2025-01-01",
  "    every: 1 hour",
  "  rates:", "    source: fixing", "    dataset: candles",
  "    symbols: [ORV-TSK]", "    interval: 1 day", "    from: 2026-01-05",
  "outputs:", "  levels: {series: \"river/levels/*\", file: levels.csv}"
)

cli_demo_week <- function(folder) {
  if (file.exists(folder) && length(list.files(folder))) {
    vetusta_stop(
      "desk", "The folder exists already.",
      where = folder, todo = "give another folder: vetusta demo --week FOLDER"
    )
  }
  before <- Sys.getenv("VETUSTA_TODAY", NA)
  on.exit({
    if (is.na(before)) {
      Sys.unsetenv("VETUSTA_TODAY")
    } else {
      Sys.setenv(VETUSTA_TODAY = before)
    }
  })
  for (i in seq_along(week_days)) {
    day <- format(week_days[i])
    services <- services_start(today = day)
    tryCatch(
      {
        Sys.setenv(VETUSTA_TODAY = format_instant(standin_today(day)))
        desk <- desk_make(
          folder,
          title = "A week of mornings",
          cards = c("quay", "river", "fixing"),
          urls = services$urls[c("quay", "river", "fixing")],
          secrets = as.list(standin_keys)
        )
        if (i == 1) {
          write_lines_whole(
            c(readLines(desk$file), week_queries), desk$file, "desk"
          )
        }
        demo_step(format(week_days[i], "%A %e %B %Y, 7:00"))
        cli_week_command("refresh", "--quiet", "--desk", folder)
        cli_week_command("check", "--since", "2026-03-20", "--desk", folder)
      },
      finally = services$stop()
    )
  }
  demo_step("the report of the week")
  cli_week_command(
    "report", file.path(folder, "week.html"), "--desk", folder
  )
  cat(
    "\nin ", folder, ": week.html, levels.csv and archive.sqlite; ",
    "as it was on each morning:\n  vetusta revisions kelder-lock ",
    "--desk ", folder, "\n  vetusta export TAMX --as-of 2026-03-25 --desk ",
    folder, "\n",
    sep = ""
  )
}

# A command as a reader would type it.
cli_week_command <- function(...) {
  words <- c(...)
  cat("$ vetusta ", paste(words, collapse = " "), "\n", sep = "")
  flush(stdout())
  cli_work(words[1], words[-1])
}
