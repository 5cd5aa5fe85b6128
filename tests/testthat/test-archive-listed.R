# A list of the archive is answered from the cache only as long as the archive's
# file is unchanged.

listed_archive <- function(env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".sqlite", .local_envir = env)
  archive <- archive_open(file)
  archive_import(
    archive, system.file("extdata", "keld-days.csv", package = "vetusta"),
    symbol = "KELD", interval = "1 day"
  )
  archive_close(archive)
  file
}
# lists, and reports whether the archive was opened for it
listed <- function(file, read = archive_series, name = "series") {
  opened <- FALSE
  rows <- vetusta:::archive_listed(
    file, name,
    function() {
      opened <<- TRUE
      archive_open(file, create = FALSE)
    },
    read
  )
  list(rows = rows, opened = opened)
}
settle <- function() Sys.sleep(vetusta:::listed_settled + 0.2)

test_that("a list is cached until the archive changes", {
  file <- listed_archive()
  expect_identical(nrow(listed(file)$rows), 1L)
  # just written: it may be written again at once
  expect_true(listed(file)$opened)
  settle()
  first <- listed(file)
  expect_true(first$opened)
  again <- listed(file)
  expect_false(again$opened)
  expect_identical(again$rows, first$rows)
  # another list of the same archive has its own entry
  expect_true(listed(file, archive_datasets, "datasets")$opened)
  expect_identical(
    listed(file, archive_datasets, "datasets")$rows$dataset, "import"
  )
  # a running collector keeps the file open: its rows are visible at once
  archive <- archive_open(file)
  withr::defer(archive_close(archive))
  archive_import(
    archive, system.file("extdata", "keld-days.csv", package = "vetusta"),
    symbol = "TAMX", interval = "1 day"
  )
  expect_identical(listed(file)$rows$key, c("KELD", "TAMX"))
  settle()
  listed(file)
  archive_import(
    archive, system.file("extdata", "keld-days.csv", package = "vetusta"),
    symbol = "ALDR", interval = "1 day"
  )
  expect_identical(sort(listed(file)$rows$key), c("ALDR", "KELD", "TAMX"))
})

test_that("a replaced archive is not taken for the cached one", {
  file <- listed_archive()
  other <- withr::local_tempfile(fileext = ".sqlite")
  archive <- archive_open(other)
  archive_import(
    archive, system.file("extdata", "keld-days.csv", package = "vetusta"),
    symbol = "TAMX", interval = "1 day"
  )
  archive_close(archive)
  Sys.setFileTime(other, file.mtime(file))
  settle()
  listed(file)
  expect_false(listed(file)$opened)
  expect_identical(file.size(file), file.size(other))
  file.rename(other, file)
  Sys.setFileTime(file, file.mtime(file))
  expect_identical(listed(file)$rows$key, "TAMX")
  # a deleted archive is absent
  unlink(file)
  expect_error_kind(listed(file), "archive", "no archive yet")
})

test_that("what is written to an archive is seen by a link to it", {
  file <- listed_archive()
  link <- withr::local_tempfile(fileext = ".sqlite")
  file.symlink(file, link)
  settle()
  listed(link)
  expect_false(listed(link)$opened)
  archive <- archive_open(file)
  withr::defer(archive_close(archive))
  for (symbol in c("TAMX", "ALDR")) {
    archive_import(
      archive, system.file("extdata", "keld-days.csv", package = "vetusta"),
      symbol = symbol, interval = "1 day"
    )
    expect_true(symbol %in% listed(link)$rows$key)
    settle()
    listed(link)
  }
})

test_that("lists are current while another process writes", {
  file <- listed_archive()
  code <- sprintf(
    paste0(
      "a <- vetusta::archive_open('%s'); for (i in 1:40) { ",
      "vetusta:::store_put(a, list(source = 'own', dataset = 'd', ",
      "shape = 'observations', ",
      "rows = vetusta:::parcel_series(data.frame(key = ",
      "sprintf('s%%02d', i), frequency = 'D', ",
      "dimensions = '{}'), list(time = vetusta:::utc(86400), known = ",
      "vetusta:::utc(1), ",
      "value = 1)))); cat(i, '\\n'); flush(stdout()); Sys.sleep(0.02) }"
    ),
    file
  )
  process <- processx::process$new(
    "Rscript", c("--no-init-file", "-e", code), stdout = "|"
  )
  withr::defer(process$kill())
  written <- 0
  while (process$is_alive() || written < 40) {
    process$poll_io(100)
    told <- as.numeric(process$read_output_lines())
    written <- max(written, told)
    expect_gte(nrow(listed(file)$rows), 1 + written)
    if (!process$is_alive() && !length(told)) break
  }
  expect_identical(nrow(listed(file)$rows), 41L)
})

test_that("without a usable cache the archive is read each time", {
  file <- listed_archive()
  settle()
  blocked <- withr::local_tempfile()
  writeLines("a file where a folder should be", blocked)
  withr::with_envvar(c(R_USER_CACHE_DIR = blocked), {
    expect_silent(listed(file))
    expect_identical(listed(file)$rows$key, "KELD")
    expect_true(listed(file)$opened)
  })
  listed(file)
  place <- vetusta:::listed_place(normalizePath(file), "series")
  expect_true(file.exists(place))
  expect_identical(as.character(file.mode(dirname(place))), "700")
  writeLines("nothing of the kind", place)
  expect_identical(listed(file)$rows$key, "KELD")
  saveRDS(list(state = "another", rows = 1), place)
  expect_identical(listed(file)$rows$key, "KELD")
  # entries that were not used for a month are deleted
  old <- file.path(dirname(place), "old.rds")
  file.create(old)
  Sys.setFileTime(old, Sys.time() - 40 * 86400)
  unlink(place)
  listed(file)
  expect_false(file.exists(old))
})

test_that("the command and the completion say the same, however often", {
  file <- listed_archive()
  settle()
  folder <- withr::local_tempdir()
  run <- function(...) {
    run_vetusta(..., folder = folder)
  }
  first <- run("list", "series", "--archive", file)
  expect_match(first$stdout, "files/import/KELD@1 day", fixed = TRUE)
  expect_identical(
    run("list", "series", "--archive", file)$stdout, first$stdout
  )
  json <- run("list", "series", "--json", "--archive", file)$stdout
  expect_identical(
    run("list", "series", "--json", "--archive", file)$stdout, json
  )
  expect_identical(jsonlite::fromJSON(json)$rows, 4L)
  writeLines(
    c("desk: d", paste0("archive: ", file), "track: {}"),
    file.path(folder, "desk.yml")
  )
  words <- function() run("completion", "words", "--", "gaps", "K")$stdout
  expect_match(words(), "KELD@1 day", fixed = TRUE)
  expect_identical(words(), words())
})
