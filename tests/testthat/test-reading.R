# Everything people read: help, tables, plans, results of runs, errors, printed
# objects. Every change is read before it is accepted.

# Replaces what differs between runs.
plain_words <- function(lines) {
  lines <- gsub("127[.]0[.]0[.]1:[0-9]+", "127.0.0.1:PORT", lines)
  lines <- gsub(tempdir(), "TEMP", lines, fixed = TRUE)
  lines <- gsub("(TEMP|/tmp)[^ ,;]*/", "FOLDER/", lines)
  lines <- gsub("file[0-9a-f]{8,}", "FILE", lines)
  lines <- gsub("\\b(and|in) [0-9.,]+ (s|seconds)\\b", "\\1 SOME \\2", lines)
  # a test may begin before midnight and end after it
  days <- format(Sys.time() - c(0, 3600), "%Y-%m-%d", tz = "UTC")
  lines <- gsub(
    sprintf("(%s)[ T][0-9:.]+Z?", paste(days, collapse = "|")), "NOW", lines
  )
  gsub("\\b2[0-9]{3}-[0-9]{2}-[0-9]{2}T[0-9:]+[.][0-9]+Z", "WHEN", lines)
}

said <- function(..., folder) {
  out <- run_vetusta(..., folder = folder, env = c(COLUMNS = "80"))
  cat(
    "$ vetusta",
    paste(
      ifelse(grepl("[ *|]", c(...)), paste0("\"", c(...), "\""), c(...)),
      collapse = " "
    ),
    "\n"
  )
  cat(out$stdout)
  cat(sub("^", "! ", strsplit(out$stderr, "\n")[[1]]), sep = "\n")
}

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
  # printed, not captured as conditions, which versions of testthat write
  # differently
  refused <- function(code) {
    error <- tryCatch(code, error = identity)
    cat(class(error)[1], conditionMessage(error), sep = "\n")
  }
  expect_snapshot(
    refused(archive_read(archive, "KELT")), transform = plain_words
  )
  expect_snapshot(
    refused(query_bars(quay, "KELD", interval = "1 minit", span = "1 day"))
  )
  expect_snapshot(refused(source_card("nowhere.yml")), transform = plain_words)
})
