# Everything people read: help, tables, plans, results of runs, errors, printed
# objects. Every change is read before it is accepted.

test_that("the help of every command", {
  for (command in names(vetusta:::cli_commands)) {
    expect_snapshot(cat(run_vetusta(command, "--help")$stdout))
  }
})

test_that("what commands say on the demo's data", {
  services <- start_services()
  folder <- withr::local_tempdir()
  desk_make(
    folder,
    cards = c("quay", "river", "basin"),
    urls = list(
      quay = services$url,
      river = paste0(services$root, "/river"),
      basin = paste0(services$root, "/basin")
    ),
    secrets = vetusta:::standin_keys
  )
  quiet <- function(...) {
    expect_identical(run_vetusta(..., "--quiet", folder = folder)$status, 0L)
  }
  days <- c("--from", "2026-03-12", "--to", "2026-03-14")
  expect_snapshot(said("sources", folder = folder), transform = plain_words)
  expect_snapshot(
    said("find", "lock", folder = folder), transform = plain_words
  )
  expect_snapshot(
    said("describe", "quay", folder = folder), transform = plain_words
  )
  expect_snapshot(
    said("describe", "quay", "bars", folder = folder), transform = plain_words
  )
  expect_snapshot(
    said("describe", "basin", "LOCK_TRAFFIC", folder = folder),
    transform = plain_words
  )
  expect_snapshot(
    said(
      "plan", "quay", "KELD", "SALT", "--interval", "1 minute", days,
      folder = folder
    ),
    transform = plain_words
  )
  expect_snapshot(
    said(
      "plan", "basin", "FREIGHT_PRICES", "STATE=ORV", "--from", "2020",
      folder = folder
    ),
    transform = plain_words
  )
  expect_snapshot(
    said(
      "collect", "quay", "KELD", "SALT", "NONE", "--interval", "1 minute",
      days, folder = folder
    ),
    transform = plain_words
  )
  expect_snapshot(
    said(
      "plan", "quay", "KELD", "--interval", "1 minute", days, folder = folder
    ),
    transform = plain_words
  )
  quiet(
    "collect", "river", "levels", "station=kelder-lock", "--from",
    "2026-02-01", "--to", "2026-03-20"
  )
  quiet(
    "collect", "basin", "FREIGHT_PRICES", "STATE=ORV", "--from", "2022",
    "--to", "2025"
  )
  quiet("collect", "quay", "directory")
  # series of several sources use their own calendars
  gaps <- function(...) {
    out <- run_vetusta("gaps", ..., "--json", folder = folder)$stdout
    summary <- jsonlite::fromJSON(out)$summary
    # only bars call their series symbol
    names(summary)[names(summary) == "symbol"] <- "series"
    summary
  }
  expect_identical(
    gaps("KELD@1 minute", "kelder-lock"),
    rbind(gaps("KELD@1 minute"), gaps("kelder-lock"))
  )
  for (words in list(
    "list", c("list", "datasets"), c("gaps", "KELD@1 minute", "kelder-lock"),
    c("gaps", "KELD@1 minute", "--check"),
    c("resample", "KELD@1 minute", "--into", "1 hour"),
    c(
      "align", "KELD@1 minute", "kelder-lock", "--grid", "1 day", "--from",
      "2026-03-08"
    ),
    c("fill", "kelder-lock", "--rule", "linear", "--from", "2026-03-10"),
    c("change", "kelder-lock", "--from", "2026-03-10"),
    c("revisions", "Q.ORV.LOWER.N.IX"),
    c("calendar", "show", "quay", "--year", "2026"),
    c("list", "KELD@1 minuet"), c("gaps", "KELDD"), c("export", "kelder"),
    c("collect", "quay", "barz", "KELD"), c("collect", "kway", "KELD"),
    c("lsit")
  )) {
    expect_snapshot(said(words, folder = folder), transform = plain_words)
  }
})

test_that("what is printed in R", {
  quay <- source_card("quay")
  expect_snapshot(print(time_interval("5 minutes")))
  expect_snapshot(
    print(
      query_bars(
        quay, c("KELD", "TAMX"), interval = "1 minute", from = "2026-03-12",
        to = "2026-03-26"
      )
    ),
    transform = plain_words
  )
  expect_snapshot(
    print(
      query_rows(
        source_card("river"), "levels", station = "kelder-lock",
        from = "2020-01-01", to = "2021-01-01"
      )
    ),
    transform = plain_words
  )
  expect_snapshot(print(quay), transform = plain_words)
  expect_snapshot(print(source_calendar(quay)))
  archive <- new_archive()
  expect_snapshot(print(archive), transform = plain_words)
  lines <- c(
    "symbol,time,close", "KELD,2026-03-12,40", "KELD,2026-03-13,forty",
    "KELD,2026-03-16"
  )
  file <- withr::local_tempfile(fileext = ".csv")
  writeLines(lines, file)
  expect_snapshot(
    print(archive_import(archive, file, interval = "1 day")),
    transform = plain_words
  )
  expect_snapshot(print(archive_read(archive, "KELD")))
  expect_snapshot(
    refused(archive_read(archive, "KELT")), transform = plain_words
  )
  expect_snapshot(
    refused(query_bars(quay, "KELD", interval = "1 minit", span = "1 day"))
  )
  expect_snapshot(refused(source_card("nowhere.yml")), transform = plain_words)
})
