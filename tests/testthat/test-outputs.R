# What each command prints on the demo's data, at a width of 80 columns. Every
# change is read before it is accepted.

test_that("what each command prints on the demo's data", {
  services <- start_services()
  folder <- withr::local_tempdir()
  cards <- c("quay", "river", "basin", "register", "fixing", "hall")
  desk_make(
    folder,
    cards = cards,
    urls = as.list(stats::setNames(
      paste0(services$root, "/", cards), cards
    )),
    secrets = vetusta:::standin_keys
  )
  run <- function(..., status = 0L) {
    out <- run_vetusta(..., "--quiet", folder = folder)
    expect_identical(out$status, status, info = out$stderr)
  }
  shown <- function(...) {
    expect_snapshot(said(..., folder = folder), transform = plain_words)
  }
  run("collect", "quay", "directory")
  run("collect", "quay", "market")
  run("collect", "quay", "actions")
  run("collect", "quay", "contracts")
  run("collect", "river", "stations")
  for (interval in c("1 minute", "1 day")) {
    run(
      "collect", "quay", "KELD", "TAMX", "--interval", interval,
      "--from", if (interval == "1 day") "2025-09-01" else "2026-03-16",
      "--to", "2026-03-20"
    )
  }
  run(
    "collect", "quay", "GRN-2603", "GRN-2604", "--interval", "1 day", "--from",
    "2026-01-05", "--to", "2026-03-20"
  )
  run(
    "collect", "river", "levels", "station=kelder-lock,tamm-weir", "--from",
    "2025-01-01", "--to", "2026-03-20"
  )
  run(
    "collect", "basin", "FREIGHT_PRICES", "STATE=ORV", "--from", "2022",
    "--to", "2025", "--history"
  )
  run("collect", "register", "facts", "symbol=KELD", "--from", "2024-01-01")
  run("collect", "register", "filings", "symbol=KELD")
  run("collect", "fixing", "rates", "day=2026-03-12,2026-03-13")

  shown(
    "try", "quay", "KELD", "--interval", "1 day", "--from", "2026-03-12",
    "--to", "2026-03-13"
  )
  shown("list")
  shown("list", "quay/bars/KELD*")
  shown("list", "basin/*")
  shown("list", "journal")
  shown("list", "rejected")
  shown(
    "rows", "quay/directory", "type=share", "sector=salt", "--sort", "symbol",
    "--limit", "5"
  )
  shown("rows", "quay/directory", "--count", "type")
  shown(
    "rows", "quay/market", "volume>=10000", "--join", "quay/directory",
    "--sort", "volume-", "--limit", "5"
  )
  shown("statement", "KELD", "--quarterly", "--limit", "3")
  shown("near", "57.1,24.3", "--within", "40")
  shown("rank", "quay/market", "--limit", "5")
  shown("adjust", "KELD@1 day", "--from", "2025-09-11", "--to", "2025-09-17")
  shown("adjust", "KELD@1 day", "--jumps")
  shown("continuous", "quay/bars/GRN-*@1 day", "--rolls")
  shown(
    "join", "kelder-lock", "tamm-weir", "--adjust", "difference",
    "--differences", "--tolerance", "0.14"
  )
  shown("revisions", "Q.ORV.LOWER.N.ORV_T")
  shown("change", "KELD@1 day", "TAMX@1 day", "--correlation")
  shown("model", "season", "kelder-lock", "--fill", "linear")
  shown("model", "spectrum", "kelder-lock", "--fill", "linear")
  shown("figure", "lines", "kelder-lock", "--file", "level.png")
  shown("export", "KELD@1 day", "--file", "days.csv")
  shown("report", "monday.html", "kelder-lock", "--from", "2026-03-01")
  shown("calendar", "list")
  shown(
    "calendar", "times", "quay", "--interval", "1 hour", "--from",
    "2026-03-19", "--to", "2026-03-23"
  )
  shown("secrets", "list")
  shown(
    "track", "river", "levels", "station=kelder-lock", "--from",
    "2025-01-01", "--to", "2026-03-20", "--name", "lock"
  )
  shown("track")
  shown("refresh", "--plan")
  shown("refresh")
  shown("status")
  shown("check", "river/levels/*", "--since", "2025-01-01")
  shown("check", "--accept", "zz")
  shown("rank", "basin/FREIGHT_PRICES/*")
  shown(
    "figure", "newest", "basin/FREIGHT_PRICES/*.ORV_T", "--file", "newest.png"
  )
  shown("schedule")
  shown("track", "--drop", "lock")
  shown(
    "fetch", "register/filings", "symbol=KELD", "--folder", "filings",
    "--limit", "2"
  )
  shown("sources", "check", "sources/quay.yml")
  shown("sources", "cookbook", "cursor")
  shown("archive", "check")
  shown("archive", "compact")
  shown("archive", "backup", "copy.sqlite")
  shown("archive", "drop", "quay/bars/TAMX@1 day")
  writeLines(
    c("Date;Price", "13/03/2026;61,70", "16/03/2026;62,37"),
    file.path(folder, "prices.csv")
  )
  shown("import", "prices.csv", "--interval", "1 day", "--symbol", "PAPR")
  shown("new", "another")
})

test_that("what services, browse and completion print", {
  folder <- withr::local_tempdir()
  desk_make(folder)
  archive_close(archive_open(file.path(folder, "archive.sqlite")))
  shown <- function(...) {
    expect_snapshot(said(..., folder = folder), transform = plain_words)
  }
  shown("services", "--desk", ".", "--port", "0", "--seconds", "0.1")
  shown("browse", "--seconds", "0.1")
  shown("completion", "bash")
  shown("completion", "zsh")
})
