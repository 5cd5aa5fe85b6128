# Selections of statistics as people paste them.

basin_at <- function(root) {
  source_card("basin", url = paste0(root, "/basin"))
}

test_that("a pasted selection gives the query that it stands for", {
  root <- start_services()$root
  basin <- basin_at(root)
  archive <- new_archive()
  written <- query_observations(
    basin, "LOCK_TRAFFIC",
    FREQ = "M", STATE = c("ORV", "TSK"), LOCK = "KELDER", CARGO = "GRAIN",
    from = "2020", to = "2021", archive = archive
  )
  key <- "M.ORV+TSK.KELDER.GRAIN"
  for (text in c(
    paste0(
      root, "/basin/data/BSO,LOCK_TRAFFIC,1.0/", key,
      "..?startPeriod=2020&endPeriod=2021&detail=full"
    ),
    paste0("LOCK_TRAFFIC/", key, "..?startPeriod=2020&endPeriod=2021"),
    paste0("BSO,LOCK_TRAFFIC/", key, "?startPeriod=2020&endPeriod=2021"),
    paste0(
      "https://any.example.org/data/dataflow/BSO/LOCK_TRAFFIC/1.0/", key,
      "..?c[TIME_PERIOD]=ge:2020+le:2021"
    ),
    paste0(
      "https://any.example.org/data/dataflow/BSO/LOCK_TRAFFIC/1.0/*?",
      "c%5BFREQ%5D=M&c%5BSTATE%5D=ORV,TSK&c%5BLOCK%5D=KELDER&",
      "c%5BCARGO%5D=GRAIN&c%5BTIME_PERIOD%5D=ge:2020+le:2021"
    ),
    paste0(
      "https://view.example.org/build?df=BSO:LOCK_TRAFFIC(1.0)&freq=M&",
      "state=ORV%2CTSK&lock=KELDER&cargo=GRAIN&time=2020,2021&lang=en"
    ),
    paste0(
      "https://view.example.org/#/build?flow=LOCK_TRAFFIC&dq=M.ORV%2BTSK.",
      "KELDER.GRAIN..&from=2020&to=2021"
    )
  )) {
    query <- query_selection(basin, text, archive = archive)
    expect_identical(query$selection, written$selection, info = text)
    expect_identical(query$window, written$window, info = text)
  }
  alone <- query_selection(
    basin, paste0(key, ".."), "LOCK_TRAFFIC", archive,
    from = "2020",
    to = "2021"
  )
  expect_identical(alone$selection, written$selection)
  expect_identical(
    alone$reads,
    paste0(
      "LOCK_TRAFFIC, Lock traffic by cargo and direction; Frequency: Monthly; ",
      "State: Orvane, Teskland; Lock: Kelder Lock; Cargo: Grain; from 2020; ",
      "to 2021"
    )
  )
  refused_as <- function(text, pattern, ...) {
    expect_error_kind(
      query_selection(basin, text, archive = archive, ...), "argument", pattern
    )
  }
  refused_as("M.ORV.KELDER", "does not name its dataset")
  refused_as("NONE/M.ORV.KELDER", "names no dataset")
  refused_as("LOCK_TRAFFIC/M.A.B.C.D.E.F", "has 7 parts")
  refused_as("LOCK_TRAFFIC/M.NONE....", "no code \"NONE\"")
  expect_error_kind(
    query_selection(source_card("quay"), "A/B"), "argument", "no SDMX API"
  )
})

test_that("commands take a pasted selection, and show it in words", {
  services <- start_services()
  folder <- withr::local_tempdir()
  desk_make(
    folder,
    cards = "basin", urls = list(basin = paste0(services$root, "/basin")),
    secrets = vetusta:::standin_keys
  )
  run <- function(...) run_vetusta(..., folder = folder)
  text <- "LOCK_TRAFFIC/M.ORV.KELDER.GRAIN.B.T?startPeriod=2024"
  plan <- run("plan", "basin", text)
  expect_match(plan$stderr, "reads as: LOCK_TRAFFIC.*State: Orvane.*from 2024")
  expect_match(plan$stdout, "M.ORV.KELDER.GRAIN.B.T", fixed = TRUE)
  whole <- paste0(
    services$root, "/basin/data/BSO,LOCK_TRAFFIC,1.0/M.ORV.KELDER.GRAIN.B.T",
    "?startPeriod=2024"
  )
  expect_match(run("collect", whole)$stdout, "collected [0-9]+ new values")
  expect_match(
    run("track", "basin", text, "--name", "grain")$stderr, "tracks grain"
  )
  expect_match(run("refresh")$stdout, "grain +0 ")
  away <- run("plan", "https://other.example.org/data/A/B")
  expect_identical(away$status, 2L)
  expect_match(away$stderr, "no source of the desk is at")
  # a preview of the newest values
  preview <- run("try", "basin", "LOCK_TRAFFIC", "STATE=ORV", "--rows", "7")
  lines <- strsplit(preview$stdout, "\n")[[1]]
  expect_match(lines[1], "lastNObservations=1")
  expect_identical(sum(grepl("^M.ORV", lines)), 7L)
  expect_identical(
    run("try", "basin", "LOCK_TRAFFIC", "--rows", "x")$status, 2L
  )
})

test_that("a selection is chosen on a terminal", {
  services <- start_services()
  folder <- withr::local_tempdir()
  desk_make(
    folder,
    cards = "basin", urls = list(basin = paste0(services$root, "/basin")),
    secrets = vetusta:::standin_keys
  )
  text <- typed(
    c("none of these", "2", "kelder lock", "grain*", "all", "1", "2020"),
    "describe", "basin", "LOCK_TRAFFIC", "--choose",
    folder = folder
  )
  expect_match(text, "no code \"none of these\"")
  expect_match(
    text,
    paste0(
      "vetusta collect basin LOCK_TRAFFIC STATE=TSK LOCK=KELDER ",
      "CARGO=GRAIN,GRAIN_WHEAT,GRAIN_RYE,GRAIN_BARLEY UNIT=T --from 2020"
    ),
    fixed = TRUE
  )
  run <- function(...) run_vetusta("describe", ..., "--choose", folder = folder)
  expect_match(run("basin", "LOCK_TRAFFIC")$stderr, "needs a terminal")
  expect_identical(run("basin")$status, 2L)
})

test_that("what datasets cost is found and shown", {
  file <- write_card(
    "https://a.example.org",
    c(
      "request: /rows", "rows: ''", "columns: {n: /n}",
      "cost: {plan: pro}"
    ),
    c("cost: free")
  )
  writeLines(
    c(
      readLines(file), "  open:", "    shape: table", "    request: /open",
      "    rows: ''", "    columns: {n: /n}"
    ),
    file
  )
  card <- source_card(file)
  all <- datasets_find(card)
  expect_identical(
    all$cost[match(c("open", "rows"), all$dataset)], c("free", "paid")
  )
  expect_identical(all$plan[all$dataset == "rows"], "pro")
  expect_identical(datasets_find(card, free = TRUE)$dataset, "open")
  expect_match(
    format(datasets_describe(card, "rows")), "cost +paid, plan pro",
    all = FALSE
  )
  archive <- withr::local_tempfile(fileext = ".sqlite")
  shown <- run_vetusta("find", file, "--free", "--archive", archive)
  expect_match(shown$stdout, "open")
  expect_false(grepl("paid", shown$stdout))
})
