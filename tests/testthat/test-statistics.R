basin_at <- function(root, extra = list()) {
  source <- source_card("basin", url = paste0(root, "/basin"))
  source$sdmx <- utils::modifyList(source$sdmx, extra)
  source
}

test_that("a dataset is found by word, language and theme", {
  root <- start_services()$root
  basin <- basin_at(root)
  archive <- new_archive()
  expect_identical(
    datasets_find(basin, "lock traffic", archive = archive)$dataset,
    "LOCK_TRAFFIC"
  )
  expect_identical(
    datasets_find(basin, "cene", archive = archive)$dataset[1], "FREIGHT_PRICES"
  )
  expect_identical(
    nrow(datasets_find(basin, "unicorns", archive = archive)), 0L
  )
  expect_setequal(
    datasets_find(basin, theme = "PRICES", archive = archive)$dataset,
    c("FREIGHT_PRICES", "GASOIL_RETAIL")
  )
  expect_identical(datasets_themes(basin, archive = archive)$datasets[1], 2L)
  about <- datasets_describe(basin, "LOCK_TRAFFIC", archive = archive)
  expect_identical(
    about$dimensions$id,
    c("FREQ", "STATE", "LOCK", "CARGO", "DIRECTION", "UNIT", "TIME_PERIOD")
  )
  expect_identical(about$cells, 79130)
  expect_output(print(about), "Grain: wheat")
  expect_output(print(about), "GRAIN_WHEAT")
  expect_output(
    print(
      datasets_describe(basin, "HARVEST", language = "qsa", archive = archive)
    ),
    "Psenik"
  )
  expect_error_kind(
    datasets_describe(basin, "LOCK_TRAFIC", archive = archive), "argument",
    "LOCK_TRAFFIC"
  )
  expect_error_kind(
    datasets_describe(
      basin, "LOCK_TRAFFIC", version = "7.0", archive = archive
    ),
    "argument", "version 7.0"
  )
  expect_error_kind(datasets_themes(source_card("quay")), "argument", "SDMX")
  # recent data is not requested again, older data is requested with its
  # validators
  held <- DBI::dbGetQuery(
    archive$connection,
    "SELECT count(*) AS n, min(fetched) AS oldest FROM structures WHERE
        etag IS NOT NULL"
  )
  expect_gt(held$n, 2)
  stale <- basin_at(root, list(keep = "PT1S"))
  Sys.sleep(1.2)
  datasets_find(stale, "harvest", archive = archive)
  fresh <- DBI::dbGetQuery(
    archive$connection,
    "SELECT count(*) AS n, max(fetched) AS newest FROM structures WHERE
        etag IS NOT NULL"
  )
  expect_identical(fresh$n, held$n)
  expect_gt(fresh$newest, held$oldest + 1)
})

test_that("codes by code, label, pattern and children", {
  root <- start_services()$root
  basin <- basin_at(root)
  archive <- new_archive()
  query <- function(...) {
    query_observations(basin, "LOCK_TRAFFIC", ..., archive = archive)$selection
  }
  expect_identical(
    query(STATE = c("ORV", "Teskland"), CARGO = "grain*")[c("STATE", "CARGO")],
    list(
      STATE = c("ORV", "TSK"),
      CARGO = c("GRAIN", "GRAIN_WHEAT", "GRAIN_RYE", "GRAIN_BARLEY")
    )
  )
  expect_identical(
    query(CARGO = "GRAIN/*", STATE = "Mirhol")[c("STATE", "CARGO")],
    list(STATE = "MIR", CARGO = c("GRAIN_WHEAT", "GRAIN_RYE", "GRAIN_BARLEY"))
  )
  expect_length(query(CARGO = "TOTAL/**")$CARGO, 8)
  expect_null(query(CARGO = "*")$CARGO)
  expect_identical(query(cargo = "salt")$CARGO, "SALT")
  expect_error_kind(query(CARGOS = "SALT"), "argument", "CARGO")
  expect_error_kind(query(CARGO = "GRAIM"), "argument", "GRAIN")
  expect_error_kind(query("SALT"), "argument", "name of their dimension")
  expect_error_kind(
    query_observations(basin, "LOCK_TRAFFIC", from = "soon", archive = archive),
    "argument", "neither a period"
  )
  expect_error_kind(
    query_observations(
      basin, "LOCK_TRAFFIC", from = "2020", to = "2019", archive = archive
    ),
    "argument", "after its end"
  )
  expect_match(
    query_observations(
      basin, "LOCK_TRAFFIC", STATE = "SARN", archive = archive
    )$notes,
    "no data are available"
  )
})

test_that("too large a selection is split without seams", {
  services <- start_services()
  basin <- basin_at(services$root)
  collect <- function(source, archive) {
    collect_run(
      plan_requests(
        query_observations(
          source, "LOCK_TRAFFIC", STATE = c("ORV", "TSK"), from = "2020",
          archive = archive
        ),
        archive
      ),
      archive, progress = FALSE
    )
  }
  known <- new_archive()
  run <- collect(basin, known)
  expect_identical(c(run$cut, nrow(run$failed)), c(0, 0))
  blind <- new_archive()
  unaware <- basin_at(services$root, list(availability = FALSE))
  unaware$sdmx$most_cells <- NULL
  refused <- collect(unaware, blind)
  expect_gt(refused$cut, 1)
  expect_identical(nrow(refused$failed), 0L)
  same <- c("series", "period", "value", "status")
  one <- as.data.frame(
    archive_observations(known, "basin", "LOCK_TRAFFIC")
  )[same]
  other <- as.data.frame(
    archive_observations(blind, "basin", "LOCK_TRAFFIC")
  )[same]
  other <- other[order(other$series, other$period), ]
  rownames(other) <- NULL
  expect_identical(one, other)
  expect_output(print(refused), "too large for the service")
  plan <- plan_requests(
    query_observations(basin, "LOCK_TRAFFIC", archive = known), known
  )
  expect_identical(nrow(plan$requests), 17L)
  expect_output(print(plan), "all\\?endPeriod=2010-M11")
})

test_that("all formats and versions give equal rows", {
  root <- start_services()$root
  rows <- lapply(
    list(
      c("2.1", "csv"), c("2.1", "json"), c("2.1", "xml"), c("2.1", "generic"),
      c("3.0", "csv"), c("3.0", "json")
    ),
    function(form) {
      source <- basin_at(root)
      source$sdmx[c("version", "formats")] <- list(form[1], form[2])
      if (form[1] == "3.0") source$url <- paste0(root, "/basin/v3")
      archive <- new_archive(environment())
      collect_run(
        plan_requests(
          query_observations(
            source, "FREIGHT_PRICES", STATE = "ORV", from = "2020",
            to = "2024", archive = archive
          ),
          archive
        ),
        archive, progress = FALSE
      )
      as.data.frame(
        archive_observations(archive, "basin", "FREIGHT_PRICES")[
          c(
            "series", "period", "frequency", "value", "unit", "status", "FREQ",
            "STATE", "LEG", "BASIS", "UNIT_MULT", "OBS_STATUS", "CONF_STATUS"
          )
        ]
      )
    }
  )
  expect_gt(nrow(rows[[1]]), 200)
  for (i in 2:6) expect_identical(rows[[i]], rows[[1]])
})

test_that("releases as of an instant, and updates only", {
  archive <- new_archive()
  collect <- function(root, ...) {
    basin <- basin_at(root)
    collect_run(
      plan_requests(
        query_observations(
          basin, "FREIGHT_PRICES", STATE = "ORV", UNIT = "IX", ...,
          archive = archive
        ),
        archive
      ),
      archive, progress = FALSE
    )
  }
  first <- start_services("--release", "1")
  one <- collect(first$root)
  before <- archive_observations(archive, "basin", "FREIGHT_PRICES")
  between <- Sys.time()
  Sys.sleep(1.1)
  again <- collect(first$root)
  expect_identical(again$new + again$changed, 0)
  # the second release at the same URL
  port <- sub(".*:", "", first$root)
  first$process$kill()
  second <- processx::process$new(
    "Rscript",
    c(
      "--no-init-file", "-e", "vetusta::cli_main()", "services", "--port",
      port, "--seconds", "120"
    ),
    stdout = "|",
    stderr = NULL,
    env = c("current", R_LIBS = r_libs())
  )
  withr::defer(second$kill())
  second$poll_io(20000)
  Sys.sleep(1)
  two <- collect(first$root)
  expect_gt(two$changed, 3)
  # stored values are unchanged; a later value counts from the end of its period
  then <- archive_observations(
    archive, "basin", "FREIGHT_PRICES", as_of = between
  )
  old <- paste(then$series, then$period) %in%
      paste(before$series, before$period)
  expect_identical(as.data.frame(then[old, 1:6]), as.data.frame(before[1:6]))
  revisions <- archive_revisions(archive, "basin/FREIGHT_PRICES")
  expect_identical(sum(revisions$releases == 2), as.integer(two$changed))
  changed <- revisions[revisions$releases == 2, ]
  expect_equal(changed$revision, changed$latest - changed$first)
  expect_identical(
    attr(revisions, "summary")$revised |> sum(), as.integer(two$changed)
  )
  expect_identical(
    nrow(archive_revisions(archive, "basin/FREIGHT_PRICES", all = TRUE)),
    sum(revisions$releases) +
      sum(is.na(archive_observations(archive, "basin", "FREIGHT_PRICES")$value))
  )
  # all releases at once, from a service that has them, with their dates
  history <- new_archive()
  basin <- basin_at(first$root)
  collect_run(
    plan_requests(
      query_observations(
        basin, "HARVEST", CROP = "RYE", STATE = "ORV", history = TRUE,
        archive = history
      ),
      history
    ),
    history, progress = FALSE
  )
  then <- archive_observations(
    history, "basin", "HARVEST", as_of = "2026-02-25"
  )
  expect_identical(unique(format(then$known, "%Y-%m-%d")), "2026-02-20")
  expect_identical(
    nrow(
      archive_observations(history, "basin", "HARVEST", as_of = "2026-01-01")
    ),
    0L
  )
  # aligned point in time, no value is used before its release
  grid <- series_align(
    then[then$UNIT == "T", ],
    grid = as.POSIXct(c("2026-02-19", "2026-02-21"), tz = "UTC"),
    form = "long"
  )
  expect_identical(is.na(grid$value), c(TRUE, FALSE))
})

test_that("labels, names and multipliers are as the user says", {
  root <- start_services()$root
  archive <- new_archive()
  basin <- basin_at(root)
  collect_run(
    plan_requests(
      query_observations(
        basin, "LOCK_TRAFFIC", STATE = "MIR", CARGO = c("SALT", "GRAIN"),
        DIRECTION = "B", UNIT = "T", from = "2025", archive = archive
      ),
      archive
    ),
    archive, progress = FALSE
  )
  codes <- archive_observations(
    archive, "basin", "LOCK_TRAFFIC", CARGO = "SALT"
  )
  expect_identical(unique(codes$name), c("Mirholt Ferry", "Wendel Lock"))
  both <- archive_observations(
    archive, "basin", "LOCK_TRAFFIC", CARGO = "SALT", labels = "both",
    language = "qsa", multiplier = "apply"
  )
  expect_identical(both$CARGO[1], "SALT Solin")
  expect_equal(both$value, codes$value * 1000)
  expect_null(both[["UNIT_MULT"]])
  expect_null(
    archive_observations(archive, "basin", "LOCK_TRAFFIC", columns = FALSE)[[
      "CARGO"
    ]]
  )
  expect_error_kind(
    archive_observations(archive, "basin", "LOCK_TRAFFIC", CARGO = "SLAT"),
    "argument", "SALT"
  )
  expect_error_kind(
    archive_observations(archive, "basin", "LOCK"), "argument", "LOCK_TRAFFIC"
  )
  following <- collect_pages(
    plan_requests(
      query_observations(
        basin, "HARVEST", STATE = "ORV", CROP = "RYE", UNIT = "T",
        from = "2020", to = "2022"
      )
    )
  )
  expect_identical(
    following()$period, as.Date(c("2020-01-01", "2021-01-01", "2022-01-01"))
  )
  expect_null(following())
})

test_that("a flat message is asked for and gives the same rows", {
  basin <- basin_at(start_services()$root)
  rows <- lapply(c(FALSE, TRUE), function(flat) {
    query <- query_observations(
      basin,
      "HARVEST",
      STATE = "ORV",
      CROP = "RYE",
      from = "2020",
      flat = flat,
      detail = if (flat) "dataonly" else "full"
    )
    query$source$sdmx$formats <- "json"
    following <- collect_pages(plan_requests(query))()
    following[
      order(following$series, following$period), c("series", "period", "value")
    ]
  })
  expect_gt(nrow(rows[[1]]), 5)
  expect_identical(rows[[2]], rows[[1]])
  expect_error_kind(
    query_observations(basin, "HARVEST", detail = "ful"), "argument", "full"
  )
})
