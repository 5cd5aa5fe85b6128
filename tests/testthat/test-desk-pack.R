# A desk with bars, statistics with revisions, deletions, and outputs.
packed_desk <- function(env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  desk <- desk_make(
    file.path(folder, "desk"), "A desk", cards = c("quay", "river")
  )
  archive <- archive_open(desk$archive)
  csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
  archive_import(
    archive, csv,
    symbol = "KELD", interval = "1 day", source = "quay",
    calendar = source_calendar("quay"), unit = c(close = "crowns")
  )
  put <- function(days, value, now, status = "observed") {
    vetusta:::store_put(archive, list(
      source = "river", dataset = "levels", shape = "observations", now = now,
      rows = vetusta:::archive_parcel("observations", data.frame(
        series = "lock", period = as.Date("2026-01-01") + days, value = value,
        status = status
      )),
      journal = list(
        run = "r", source = "river", dataset = "levels", asked = now,
        rows = length(days), outcome = "stored", url = "https://river/levels"
      ),
      origin = list(base = "/rows/", rows = length(days), hash = "abcd")
    ))
  }
  march <- as.numeric(as.POSIXct("2026-03-01", tz = "UTC"))
  put(0:20, 200 + 0:20, march)
  put(c(3, 7), c(1.1, 0.1 + 0.2), march + 86400)
  put(9, NA, march + 2 * 86400, "deleted")
  vetusta:::dataset_facts_put(
    archive, "river", "levels", list(unit = c(value = "cm"), zone = "UTC")
  )
  archive_close(archive)
  lines <- readLines(desk$file)
  writeLines(c(
    lines, "outputs:", "  level:", "    series: river/levels/lock",
    "    file: level.csv", "  drawn:", "    series: river/levels/lock",
    "    figure: lines", "    file: level.png", "  other:",
    "    series: [river/levels/lock, quay/import/KELD@1 day]",
    "    file: both.csv"
  ), desk$file)
  desk_open(desk$folder)
}

test_that("a colleague gets the same numbers, figures, versions and origins", {
  desk <- packed_desk()
  folder <- withr::local_tempdir()
  file <- file.path(folder, "k.zip")
  desk_pack(desk, "river/levels/lock", file)
  made <- pack_open(file, file.path(folder, "there"))
  expect_true(all(made$same), label = paste(format(made), collapse = "\n"))
  expect_setequal(
    made$name[made$what == "output"], c("level.csv", "level.png")
  )
  here <- archive_open(desk$archive, read_only = TRUE)
  there <- archive_open(file.path(folder, "there", "archive.sqlite"))
  for (at in list(NULL, "2026-02-28", "2026-03-01", "2026-03-02")) {
    expect_identical(
      archive_read(there, "lock", as_of = at),
      archive_read(here, "lock", as_of = at)
    )
  }
  expect_identical(
    archive_revisions(there, "lock", all = TRUE),
    archive_revisions(here, "lock", all = TRUE)
  )
  for (day in c("2026-01-01", "2026-01-04", "2026-01-08")) {
    expect_identical(
      as.data.frame(archive_trace(there, "lock", day)),
      as.data.frame(archive_trace(here, "lock", day))
    )
  }
  # the same pack has the same bytes but for the times of a zip
  again <- file.path(folder, "again.zip")
  desk_pack(desk, "river/levels/lock", again)
  parts <- function(file) {
    to <- withr::local_tempdir()
    zip::unzip(file, exdir = to)
    tools::md5sum(sort(list.files(to, full.names = TRUE, recursive = TRUE)))
  }
  expect_identical(unname(parts(again)), unname(parts(file)))
})

test_that("the script of a pack runs and makes its tables", {
  desk <- packed_desk()
  folder <- withr::local_tempdir()
  file <- file.path(folder, "all.zip")
  desk_pack(desk, c("lock", "KELD"), file)
  there <- file.path(folder, "there")
  made <- pack_open(file, there)
  expect_true(all(made$same), label = paste(format(made), collapse = "\n"))
  expect_true("both.csv" %in% made$name)
  unlink(file.path(there, "both.csv"))
  done <- processx::run(
    "Rscript", c("--no-init-file", "make.R"),
    wd = there, error_on_status = FALSE, env = c("current", R_LIBS = r_libs())
  )
  expect_identical(done$status, 0L, label = done$stderr)
  expect_true(file.exists(file.path(there, "both.csv")))
  # bars keep their calendar, so they keep their trading days
  days <- archive_read(
    archive_open(file.path(there, "archive.sqlite")), "KELD"
  )[[1]]
  expect_identical(attr(days, "calendar")$name, "quay")
  expect_identical(attr(days, "unit"), c(close = "crowns"))
})

# Changes one file of a pack.
tampered <- function(file, change, env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  zip::unzip(file, exdir = folder)
  change(folder)
  to <- withr::local_tempfile(fileext = ".zip", .local_envir = env)
  zip::zip(to, list.files(folder), root = folder)
  to
}

test_that("labels of statistics go along, as texts", {
  archive <- new_archive()
  vetusta:::store_put(archive, list(
    source = "basin", dataset = "TRAFFIC", shape = "observations", now = 1e9,
    rows = vetusta:::parcel_series(
      data.frame(
        key = "M.A", frequency = "M",
        dimensions = "{\"FREQ\":\"M\",\"CARGO\":\"A\"}"
      ),
      list(time = vetusta:::utc(86400 * 365), known = NA_real_, value = 3)
    )
  ))
  codes <- list(CARGO = list(
    id = c("A", "B"), parent = c(NA, "A"),
    labels = list(en = c("Grain", "Rye"), qsa = c("Zarn", NA))
  ))
  vetusta:::archive_codes_put(archive, "basin", "TRAFFIC", codes)
  folder <- withr::local_tempdir()
  file <- file.path(folder, "t.zip")
  desk_pack(archive, "basin/TRAFFIC/*", file)
  made <- pack_open(file, file.path(folder, "there"))
  expect_true(all(made$same), label = paste(format(made), collapse = "\n"))
  there <- archive_open(file.path(folder, "there", "archive.sqlite"))
  expect_identical(vetusta:::archive_labels(there, "basin", "TRAFFIC"), codes)
  # nothing that R serialised comes from a pack
  zip::unzip(file, exdir = file.path(folder, "raw"))
  labels <- nanoparquet::read_parquet(file.path(folder, "raw/labels.parquet"))
  expect_identical(nrow(labels), 0L)
})

test_that("a pack that was changed says which part and why", {
  desk <- packed_desk()
  folder <- withr::local_tempdir()
  file <- file.path(folder, "k.zip")
  desk_pack(desk, "lock", file)
  other <- tampered(file, function(folder) {
    path <- file.path(folder, "rows-01.parquet")
    rows <- as.data.frame(nanoparquet::read_parquet(path))
    rows$value[2] <- rows$value[2] + 1e-9
    nanoparquet::write_parquet(rows, path)
  })
  made <- pack_open(other, file.path(folder, "one"))
  off <- made[!made$same, ]
  expect_setequal(
    off$name, c("rows-01.parquet", "river/levels", "level.csv", "level.png")
  )
  expect_match(off$why[off$what == "table"], "values differ")
  fewer <- tampered(file, function(folder) {
    path <- file.path(folder, "rows-01.parquet")
    rows <- as.data.frame(nanoparquet::read_parquet(path))
    nanoparquet::write_parquet(rows[-1, ], path)
  })
  made <- pack_open(fewer, file.path(folder, "two"))
  expect_match(made$why[made$what == "table"], "19 rows, and 20 were packed")
  expect_match(format(made)[1], "0 of 1 table", fixed = TRUE)
})

test_that("no pack leads out of its folder, and bad ones are refused", {
  desk <- packed_desk()
  folder <- withr::local_tempdir()
  file <- file.path(folder, "k.zip")
  desk_pack(desk, "lock", file)
  to <- file.path(folder, "there")
  for (name in c("../out.R", "a/../../out.R", "/tmp/out.R", ".Rprofile")) {
    # a zip file with such a name, made by another program
    bad <- file.path(folder, "bad.zip")
    unlink(bad)
    script <- paste0(
      "import zipfile,sys; z=zipfile.ZipFile(sys.argv[1],'w'); ",
      "z.writestr('pack.json','{}'); z.writestr(sys.argv[2],'x')"
    )
    skip_if(!nzchar(Sys.which("python3")))
    processx::run("python3", c("-c", script, bad, name))
    expect_error_kind(pack_open(bad, to), "import", "not a pack")
    expect_false(file.exists(to))
  }
  cut <- file.path(folder, "cut.zip")
  bytes <- readBin(file, "raw", 1e7)
  writeBin(bytes[seq_len(length(bytes) %/% 2)], cut)
  expect_error_kind(pack_open(cut, to), "import")
  withr::with_seed(4, for (i in 1:20) {
    spoilt <- bytes
    at <- sample(length(bytes), 3)
    spoilt[at] <- as.raw(sample(0:255, 3, TRUE))
    writeBin(spoilt, cut)
    done <- tryCatch(
      pack_open(cut, to),
      vetusta_error = function(e) NULL
    )
    if (!is.null(done)) unlink(to, recursive = TRUE)
    expect_false(file.exists(to))
  })
  expect_length(list.files(folder, "^[.]there", all.files = TRUE), 0)
  dir.create(to)
  expect_error_kind(pack_open(file, to), "import", "exists")
  expect_error_kind(desk_pack(desk, "lock", "x.tar"), "export", ".zip")
  expect_error_kind(desk_pack(desk, "nosuch", file), "argument")
})

test_that("a killed pack leaves the file as it was", {
  desk <- packed_desk()
  file <- file.path(desk$folder, "k.zip")
  writeLines("before", file)
  for (wait in c(0.4, 0.8, 1.2)) {
    process <- processx::process$new(
      "Rscript",
      c(
        "--no-init-file", "-e", "vetusta::cli_main()", "pack", "lock", file,
        "--desk", desk$folder
      ),
      env = c("current", R_LIBS = r_libs())
    )
    Sys.sleep(wait)
    process$kill()
    whole <- identical(readLines(file, warn = FALSE)[1], "before") ||
      "pack.json" %in% zip::zip_list(file)$filename
    expect_true(whole)
  }
})

test_that("the command line packs and unpacks", {
  desk <- packed_desk()
  folder <- withr::local_tempdir()
  at <- c("--desk", desk$folder)
  file <- file.path(folder, "k.zip")
  done <- run_vetusta("pack", "lock", file, at)
  expect_identical(done$status, 0L)
  done <- run_vetusta("unpack", file, file.path(folder, "there"))
  expect_identical(done$status, 0L)
  expect_match(done$stdout, "2 of 2 outputs as packed", fixed = TRUE)
  expect_identical(run_vetusta("pack", "lock", at)$status, 2L)
  expect_identical(run_vetusta("unpack", file)$status, 2L)
  expect_identical(
    run_vetusta("unpack", file, file.path(folder, "there"))$status, 1L
  )
})
