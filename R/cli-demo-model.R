# The last step of the demo: a payoff on low water is valued.

demo_model <- function(desk, archive) {
  demo_step("11  the low-water payoff: forty years of a river, and what it may do next",
    "On each day between May and October on which the level at Kelder Lock is below 180 cm, the ",
    "shortfall counts; the payoff is paid for each centimetre-day above a strike.")
  river <- desk_source(desk, "river")
  query <- query_rows(river, "levels", station = "kelder-lock", from = "1981-01-01",
    to = "2026-03-26")
  print(collect_run(plan_requests(query, archive), archive, progress = FALSE))
  file <- file.path(desk$folder, "low-water.yml")
  if (!file.exists(file)) write_lines_whole(demo_payoff, file, "model")
  model <- model_from_file(archive, file, renew = TRUE)
  cat("\n")
  print(model)
  report_save(model_report(model, "A payoff on low water at Kelder Lock"),
    file.path(desk$folder, "low-water.html"))
  figure_save(figure_fan(model$paths), file.path(desk$folder, "fan.png"))
  cat("\n", sub(desk$folder, basename(desk$folder), attr(model, "said"), fixed = TRUE),
    ", with all of it in low-water.html\n", sep = "")
}

# Every other kind of figure, by the command that anybody would give.
demo_figures <- function(desk) {
  demo_step("12  a figure of each kind")
  folder <- file.path(desk$folder, "figures")
  dir.create(folder, showWarnings = FALSE)
  kinds <- list(season = "kelder-lock", spread = c("kelder-lock", "--change", "difference"),
    filled = c("--input", file.path(desk$folder, "level.csv")), coverage = character(),
    correlation = c("KELD@1 minute", "TAMX@1 minute", "YSLT@1 minute"),
    revisions = "basin/LOCK_TRAFFIC/M.ORV.KELDER.GRAIN.B.T", movers = "quay/market",
    statement = "KELD")
  for (kind in names(kinds)) {
    cli_work("figure", c(kind, kinds[[kind]], "--desk", desk$folder, "--file",
      file.path(folder, paste0(kind, ".png"))))
  }
}

demo_payoff <- c("# The low-water payoff. `vetusta model run low-water.yml` works it again.",
  "model: The low-water payoff at Kelder Lock", "series: river/levels/kelder-lock",
  "fill: [linear, seasonal]           # the missing days, so that it shows",
  "season:", "  trend: linear", "noise:", "  order: [1, 0]", "paths:", "  n: 2000",
  "  horizon: 1 year", "  seed: 1", "  lower: 0", "index:", "  below: 180",
  "  season: [05-01, 10-31]", "payoff:", "  strikes: [400, 700, 1000, 1500]",
  "  caps: 5000                       # of the index; nothing more is paid above it",
  "  pays: 20                         # orvs for a centimetre-day above the strike",
  "backtest:", "  days: [2015-04-30, 2020-04-30, 2024-04-30]", "  horizon: 6 months", "  n: 300")
