# The last step of the demo: the value of a payoff on high water.

demo_model <- function(desk, archive) {
  demo_step(
    paste0(
      "11  the high-water payoff: forty years of a river, and its ",
      "simulated next seasons"
    ),
    paste0(
      "Above 285 cm at Tamm Weir barges may not pass. Of each day ",
      "between 15 February and 31 May "
    ),
    paste0(
      "the excess in centimetres counts; the payoff is a fixed amount ",
      "per centimetre-day above a "
    ),
    "strike, up to a cap."
  )
  river <- desk_source(desk, "river")
  query <- query_rows(
    river, "levels",
    station = "tamm-weir", from = "1984-05-01",
    to = "2026-03-26"
  )
  print(collect_run(plan_requests(query, archive), archive, progress = FALSE))
  file <- file.path(desk$folder, "high-water.yml")
  if (!file.exists(file)) write_lines_whole(demo_payoff, file, "model")
  model <- model_from_file(archive, file, renew = TRUE)
  cat("\n")
  print(model)
  report_save(
    model_report(model, "A payoff on high water at Tamm Weir"),
    file.path(desk$folder, "high-water.html")
  )
  figure_save(figure_fan(model$paths), file.path(desk$folder, "fan.png"))
  cat(
    "\n",
    sub(
      desk$folder, basename(desk$folder), attr(model, "comparison"),
      fixed = TRUE
    ),
    ", with the report in high-water.html\n",
    sep = ""
  )
}

# All other kinds of figures, by their ordinary commands.
demo_figures <- function(desk) {
  demo_step("12  a figure of each kind")
  folder <- file.path(desk$folder, "figures")
  dir.create(folder, showWarnings = FALSE)
  kinds <- list(
    season = "kelder-lock",
    spread = c("kelder-lock", "--change", "difference"),
    filled = c("--input", file.path(desk$folder, "level.csv")),
    coverage = character(),
    correlation = c("KELD@1 minute", "TAMX@1 minute", "YSLT@1 minute"),
    revisions = "basin/FREIGHT_PRICES/*LOWER*",
    movers = "quay/market",
    statement = "KELD"
  )
  for (kind in names(kinds)) {
    cli_work(
      "figure",
      c(
        kind, kinds[[kind]], "--desk", desk$folder, "--file",
        file.path(folder, paste0(kind, ".png"))
      )
    )
  }
}

demo_payoff <- c(
  "# The high-water payoff. `vetusta model run high-water.yml` works it again.",
  "model: The high-water payoff at Tamm Weir",
  "series: river/levels/tamm-weir",
  "fill: [linear, seasonal]           # missing days, marked as filled",
  "season:", "  trend: linear", "noise:", "  order: [1, 0]", "paths:",
  "  n: 2500", "  horizon: 18 months", "  seed: 1", "  lower: 0", "index:",
  "  above: 285", "  season: [02-15, 05-31]", "payoff:",
  "  strikes: [60, 140, 260]",
  paste0(
    "  caps: 900                        # index value at which the ",
    "payoff stops rising"
  ),
  paste0(
    "  pays: 20                         # orv per centimetre-day ",
    "above the strike"
  ),
  "backtest:", "  origins: [2015-01-31, 2020-01-31, 2024-01-31]",
  "  horizon: 6 months", "  n: 300"
)
