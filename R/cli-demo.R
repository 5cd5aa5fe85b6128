cli_demo <- function(arguments) {
  options <- cli_arguments(
    arguments, "demo", "[FOLDER]",
    list(
      cli_option(
        "week",
        paste(
          "five mornings of refresh and check in a minute, with late values,",
          "a correction, an outage"
        ),
        flag = TRUE
      )
    ),
    c("vetusta demo", "vetusta demo my-desk", "vetusta demo --week"),
    most = 1
  )
  if (options$week) {
    return(cli_demo_week(
      if (length(options$words)) options$words else "demo-week"
    ))
  }
  folder <- if (length(options$words)) options$words else "demo-desk"
  if (file.exists(folder) &&
    !file.exists(file.path(folder, "desk.yml")) &&
    length(list.files(folder))) {
    vetusta_stop(
      "desk", "The folder exists and is not a desk.",
      where = folder,
      todo = "give another folder: vetusta demo FOLDER"
    )
  }
  services <- demo_services()
  on.exit(services$stop())
  desk <- desk_make(
    folder,
    title = "The freight desk",
    cards = unname(standin_titles),
    urls = services$urls,
    secrets = as.list(standin_keys)
  )
  demo_step(
    "1  a desk and its services", "The desk is the folder ", folder,
    ": desk.yml, sources/*.yml (the source cards), desk.env (the keys).",
    "\nThe Ysel Quay Exchange, invented, now answers at ", services$urls$quay,
    "; five other invented services run beside it."
  )
  archive <- desk_reach(desk)
  demo_collect(desk, archive)
  demo_look(desk, archive)
  demo_others(desk, archive)
  demo_statistics(desk, archive)
  demo_align(desk, archive)
  demo_which(desk, archive)
  demo_keep(desk)
  demo_model(desk, archive)
  demo_figures(desk)
  demo_end(folder, services)
}

demo_symbols <- c("KELD", "TAMX", "BROM", "YSLT")

demo_step <- function(title, ...) {
  cat(
    "\n", title, "\n", strrep("-", nchar(title)), "\n",
    if (...length()) paste0(..., "\n"),
    sep = ""
  )
}

# The usual port, if it is free.
demo_services <- function() {
  tryCatch(
    services_start(port = 8471),
    vetusta_error_service = function(e) services_start()
  )
}

demo_collect <- function(desk, archive) {
  quay <- desk_source(desk, "quay")
  query <- query_bars(
    quay, demo_symbols,
    interval = "1 minute", from = "2026-03-12",
    to = "2026-03-26"
  )
  plan <- plan_requests(query, archive)
  demo_step("2  the plan, before the first request")
  print(plan)
  demo_step("3  collecting")
  print(collect_run(plan, archive, progress = isatty(stderr())))
}

demo_look <- function(desk, archive) {
  calendar <- source_calendar(desk_source(desk, "quay"))
  minutes <- archive_bars(
    archive, demo_symbols,
    interval = "1 minute", from = "2026-03-12",
    to = "2026-03-26", zone = calendar$zone
  )
  demo_step("4  gaps")
  gaps <- series_gaps(minutes, calendar, from = "2026-03-12", to = "2026-03-26")
  cli_print_gaps(gaps, 6, calendar$zone)
  cat(
    paste0(
      "\nThaw Day, 20 March, is no gap: the exchange's calendar has it ",
      "as a closed day. ", "Tamm Navigation (TAMX) was halted for two days.\n"
    )
  )
  demo_step("5  days, figures and a table")
  days <- bars_resample(minutes, "1 day", calendar, base = "1 minute", need = 0)
  file <- function(name) file.path(desk$folder, name)
  figure_save(
    figure_candles(
      days,
      zone = calendar$zone,
      title = "Four shares on the Ysel Quay Exchange"
    ),
    file("candles.png")
  )
  figure_save(
    figure_lines(
      minutes,
      index = 100, zone = calendar$zone,
      title = "Four shares, first minute = 100"
    ),
    file("lines.png")
  )
  figure_save(
    figure_gaps(minutes, calendar, zone = calendar$zone, gaps = gaps),
    file("gaps.png")
  )
  export_csv(days, file("days.csv"))
  dated <- bars_dated(days)
  cat(
    text_table(
      dated[
        dated$symbol == "KELD",
        c(
          "symbol", "time", "open", "high", "low", "close", "volume", "count",
          "expected"
        )
      ]
    ),
    sep = "\n"
  )
}

# The other services, each with its own protocol; the cards describe the
# differences.
demo_others <- function(desk, archive) {
  demo_step("6  the other services")
  source <- function(name) desk_source(desk, name)
  queries <- list(
    "directory by sector; some are in two sectors" = query_rows(
      source("quay"), "directory",
      sector = c("barges", "ports")
    ),
    "a snapshot of the whole market" = query_rows(source("quay"), "market"),
    "candles, a row a side" = query_bars(
      source("fixing"), "ORV-TSK", "1 day",
      from = "2026-03-02",
      to = "2026-03-26"
    ),
    "daily rates, a map from currency to number" = query_rows(
      source("fixing"),
      "rates",
      day = c("2026-03-12", "2026-03-13")
    ),
    "gauge stations" = query_rows(source("river"), "stations"),
    "daily levels at Kelder Lock, 4 requests a second" = query_rows(
      source("river"), "levels",
      station = "kelder-lock", from = "2018-01-01",
      to = "2026-03-26"
    ),
    "facts from reports, with a token; one company has no report" = query_rows(
      source("register"), "facts",
      symbol = c("KELD", "WATR")
    ),
    "a contract's history, as an export to wait for" = query_bars(
      source("hall"), "SALT", "1 day",
      from = "2010-01-01", to = "2025-12-31"
    )
  )
  runs <- lapply(
    queries,
    function(query) {
      collect_run(plan_requests(query, archive), archive, progress = FALSE)
    }
  )
  number <- function(name) vapply(runs, function(run) run[[name]], 0)
  table <- data.frame(
    source = vapply(queries, function(query) query$source$source, ""),
    query = names(queries),
    pages = number("pages"),
    new = number("new"),
    stored = number("unchanged"),
    failed = vapply(runs, function(run) nrow(run$failed), 0L)
  )
  cat(text_table(table), sep = "\n")
  for (run in runs) {
    if (nrow(run$failed)) {
      cat("\n", run$failed$symbol, ": ", run$failed$what, "\n", sep = "")
    }
  }
}

demo_statistics <- function(desk, archive) {
  basin <- desk_source(desk, "basin")
  demo_step("7  statistics: find, describe, query by name, collect")
  datasets <- datasets_find(basin, "lock traffic", archive = archive)
  cat(
    "vetusta find basin lock traffic\n\n",
    paste0("  ", text_table(datasets[c("dataset", "title", "theme")]), "\n"),
    "\n",
    sep = ""
  )
  about <- datasets_describe(basin, "LOCK_TRAFFIC", archive = archive)
  cat(utils::head(format_dataset(about, 3), 14), sep = "\n")
  cat("\n")
  plan <- plan_requests(
    query_observations(
      basin, "LOCK_TRAFFIC",
      STATE = c("ORV", "Teskland"), CARGO = "grain*",
      from = "2015", archive = archive
    ),
    archive
  )
  print(plan)
  cat("\n")
  print(collect_run(plan, archive, progress = FALSE))
  print(
    collect_run(
      plan_requests(
        query_observations(
          basin, "FREIGHT_PRICES",
          STATE = "ORV", UNIT = "ORV_T",
          from = "2015", history = TRUE, archive = archive
        ),
        archive
      ),
      archive,
      progress = FALSE
    )
  )
  grain <- archive_observations(
    archive, "basin", "LOCK_TRAFFIC",
    LOCK = "KELDER", CARGO = "GRAIN",
    DIRECTION = "B", UNIT = "T", from = "2025-10-01"
  )
  cat(
    "\n",
    paste0(
      text_table(
        as.data.frame(
          grain[c("series", "period", "value", "status", "OBS_STATUS")]
        )
      ),
      "\n"
    ),
    sep = ""
  )
  revised <- archive_revisions(archive, "basin/FREIGHT_PRICES")
  revised <- revised[revised$releases > 1, ]
  cat(
    "\nfreight prices as they were first published, and now:\n",
    paste0(
      text_table(
        as.data.frame(
          utils::head(
            revised[c("series", "period", "first", "latest", "revision")], 4
          )
        )
      ),
      "\n"
    ),
    sep = ""
  )
}

demo_align <- function(desk, archive) {
  demo_step(
    "8  gaps, filling and one grid",
    paste0(
      "The river's missing days are found and filled, and shown as ",
      "filled; traffic and ",
      "level on one grid, each value from the day it was known."
    )
  )
  level <- archive_rows(archive, "river", "levels")
  level <- level[level$series == "kelder-lock", ]
  gaps <- series_gaps(level)
  full <- series_fill(level, rule = c("linear", "seasonal"), at_most = 10)
  cat(
    "Kelder Lock: ", counted(nrow(level), "day"), ", ",
    counted(sum(gaps$missing), "missing day"), ", of which ",
    sum(full$status == "filled"),
    " are filled on the line between their neighbours\n\n",
    sep = ""
  )
  export_csv(full, file.path(desk$folder, "level.csv"))
  traffic <- archive_observations(
    archive, "basin", "LOCK_TRAFFIC",
    LOCK = "KELDER", CARGO = "GRAIN",
    DIRECTION = "B", UNIT = "T"
  )
  traffic$series <- "grain"
  # the office states releases only on request; without them a month counts 45
  # days after its end
  traffic$known <- NULL
  mean_level <- series_change(full, "mean", window = "30 days")
  mean_level$series <- "level"
  grid <- series_align(
    traffic,
    mean_level,
    grid = as.Date(
      c("2025-12-01", "2026-01-01", "2026-02-01", "2026-03-01", "2026-04-01")
    ),
    lag = c(grain = "45 days"),
    ages = TRUE
  )
  cat(text_table(as.data.frame(grid)), sep = "\n")
}

demo_keep <- function(desk) {
  demo_step(
    "10  tracked queries",
    paste0(
      paste0(
        "desk.yml lists the tracked queries; a refresh requests what is ",
        "missing, and ", "the next refresh "
      ),
      "requests nothing."
    )
  )
  desk <- desk_open(desk$folder)
  if (!"candles" %in% names(desk$track)) {
    desk <- desk_track(
      desk, "candles", "quay", "bars",
      symbols = c("KELD", "SALT"),
      interval = "5 minutes", from = "2026-03-24", to = "2026-03-26",
      times = "at 18:30 Europe/Riga on trading days"
    )
    desk <- desk_track(desk, "stations", "river", "stations", every = "7 days")
  }
  for (turn in 1:2) {
    print(desk_refresh(desk, progress = FALSE))
    cat("\n")
  }
  print(desk_status(desk))
  report_save(
    desk_report(desk_open(desk$folder), title = "The freight desk"),
    file.path(desk$folder, "report.html")
  )
  cat("\nthe report: report.html\n")
}

demo_end <- function(folder, services) {
  demo_step("done")
  cat(
    "in ", folder,
    paste0(
      ": report.html, high-water.html, candles.png, lines.png, ",
      "gaps.png, fan.png, "
    ),
    "figures/, days.csv, level.csv and archive.sqlite\n\nnext:\n",
    sep = ""
  )
  cat("  cd ", folder, "\n", sep = "")
  cat(
    paste0(
      "  vetusta list; vetusta list series; vetusta sources\n  vetusta ",
      "figure candles ",
      "\"KELD@1 minute\" --resample \"1 hour\" --file hours.png\n"
    )
  )
  cat("  vetusta model run high-water.yml; vetusta browse\n")
  cat(
    paste0(
      "  vetusta gaps kelder-lock; vetusta revisions ",
      "\"basin/FREIGHT_PRICES/*\"\n ",
      " vetusta align \"KELD@1 minute\" kelder-lock --grid \"1 day\" --ages\n"
    )
  )
  cat(
    paste0(
      "  vetusta rank quay/market; vetusta statement KELD --quarterly; ",
      "vetusta near 57.1,24.3\n"
    )
  )
  cat("  vetusta track; vetusta status; vetusta check; vetusta schedule\n")
  cat("  vetusta trace kelder-lock --at 2026-03-12\n")
  cat(
    paste0(
      "  vetusta services --desk .      # in another window: serves the ",
      "exchange again\n"
    )
  )
  cat(
    paste0(
      "  vetusta collect quay SALT GRAV --interval \"5 minutes\" --span ",
      "\"3 days\"\n"
    )
  )
}
