# Rooms and the calls between them: only downwards in this list. The code is
# parsed, not run.
rooms <- c(
  shell = "cli|desk|page", output = "figure|report|export",
  collection = "collect|plan|query", archive = "archive|store",
  wire = "wire|decode", source = "source",
  core = "time|calendar|bars|series|rows|gaps|rank|model|error"
)
standin <- "standin"

room_of <- function(file) {
  prefix <- sub("[-.].*", "", basename(file))
  if (grepl(paste0("^(", standin, ")$"), prefix)) return("stand-ins")
  found <- names(rooms)[
    vapply(
      rooms, function(pattern) grepl(paste0("^(", pattern, ")$"), prefix), TRUE
    )
  ]
  if (length(found)) found else NA_character_
}

project_root <- function() {
  here <- normalizePath(testthat::test_path("..", ".."), mustWork = FALSE)
  testthat::skip_if_not(
    dir.exists(file.path(here, "R")) &&
      file.exists(file.path(here, "R", "cli-main.R")),
    "the sources are not beside the tests"
  )
  here
}

read_code <- function(root) {
  files <- list.files(file.path(root, "R"), "[.]R$", full.names = TRUE)
  files <- files[!basename(files) %in% c("RcppExports.R", "vetusta-package.R")]
  lapply(stats::setNames(files, basename(files)), function(file) {
    data <- getParseData(parse(file, keep.source = TRUE))
    top <- lapply(as.list(parse(file)), function(call) {
      if (is.call(call) && identical(call[[1]], as.name("<-"))) {
        as.character(call[[2]])
      }
    })
    list(
      room = room_of(file),
      defines = unlist(top),
      calls = unique(
        data$text[data$token %in% c("SYMBOL_FUNCTION_CALL", "SYMBOL")]
      ),
      packages = unique(data$text[data$token == "SYMBOL_PACKAGE"])
    )
  })
}

test_that("every file belongs to a room", {
  code <- read_code(project_root())
  expect_identical(
    names(code)[is.na(vapply(code, `[[`, "", "room"))], character()
  )
})

test_that("a name means one thing: the file that is read last would win", {
  code <- read_code(project_root())
  defined <- unlist(lapply(code, `[[`, "defines"))
  expect_identical(unname(defined[duplicated(defined)]), character())
})

test_that("an arrow goes down the list of rooms only", {
  code <- read_code(project_root())
  owner <- unlist(lapply(code, function(file) {
    stats::setNames(rep(file$room, length(file$defines)), file$defines)
  }))
  names(owner) <- sub("^[^.]*[.]R[.]", "", names(owner))
  order <- names(rooms)
  may_know_standins <- c("cli-demo.R", "cli-demo-week.R", "cli-services.R")
  wrong <- unlist(lapply(names(code), function(name) {
    file <- code[[name]]
    rooms_used <- owner[intersect(file$calls, names(owner))]
    up <- if (file$room == "stand-ins") {
      rooms_used[!rooms_used %in% c("stand-ins", "core")]
    } else {
      rooms_used[
        (rooms_used == "stand-ins" & !name %in% may_know_standins) |
          match(rooms_used, order, nomatch = 99) < match(file$room, order)
      ]
    }
    if (length(up)) paste(name, "knows", names(up), "of", up)
  }))
  # two rooms may use the same local name; a plain variable is no call
  expect_identical(wrong, NULL)
})

test_that("the core touches no network, disk, database, terminal or plot", {
  code <- Filter(function(file) file$room == "core", read_code(project_root()))
  forbidden_packages <- c(
    "curl", "httpuv", "DBI", "RSQLite", "nanoparquet", "yaml", "jsonlite",
    "cli", "optparse", "ggplot2", "grDevices", "processx"
  )
  forbidden_calls <- c(
    "readLines", "writeLines", "file", "url", "readRDS", "saveRDS", "Sys.time",
    "Sys.Date", "Sys.getenv", "message", "warning", "system2", "download.file",
    "file.exists", "dir.create"
  )
  expect_identical(
    intersect(unlist(lapply(code, `[[`, "packages")), forbidden_packages),
    character()
  )
  calls <- lapply(code, `[[`, "calls")
  # the core's only message is that rows were sorted
  calls[["series-notes.R"]] <- setdiff(calls[["series-notes.R"]], "message")
  expect_identical(intersect(unlist(calls), forbidden_calls), character())
})

test_that("variety is a method or a table, not a branch on the way", {
  files <- list.files(
    file.path(project_root(), "R"), "[.]R$", full.names = TRUE
  )
  files <- files[!grepl("^standin|^RcppExports", basename(files))]
  branch <- paste0(
    "shape (==|!=|%in%)|is[.]null\\([a-z_$]*\\$sdmx\\)|kind ",
    "(==|!=|%in%)|switch\\((kind|shape)"
  )
  found <- unlist(lapply(files, function(file) {
    lines <- readLines(file)
    at <- grep(branch, sub("#.*", "", lines))
    if (length(at)) paste0(basename(file), ":", at, " ", trimws(lines[at]))
  }))
  expect_identical(found, NULL)
})

test_that("the archive knows no source, query, request or card", {
  code <- Filter(
    function(file) file$room == "archive", read_code(project_root())
  )
  words <- c(
    "query", "chain", "planned_key", "plan", "run", "queue", "tally", "card",
    "dataset_gives"
  )
  used <- unlist(lapply(code, function(file) intersect(file$calls, words)))
  # `call` is the name of a claim, and contains nothing of a query
  expect_identical(as.character(used), character())
})

test_that("lines of R have 80 columns at most, lines of C++ 100", {
  root <- project_root()
  files <- c(
    list.files(
      file.path(root, c("R", "tests/testthat")), "[.]R$", full.names = TRUE
    ),
    list.files(file.path(root, "src"), "[.](cpp|h)$", full.names = TRUE)
  )
  files <- files[!grepl("RcppExports", files)]
  wide <- unlist(lapply(files, function(file) {
    most <- if (grepl("[.]R$", file)) 80 else 100
    at <- which(nchar(readLines(file, encoding = "UTF-8")) > most)
    if (length(at)) paste0(basename(file), ":", at)
  }))
  expect_identical(wide, NULL)
})

test_that("the calls that a page passes can be counted, and stay few", {
  root <- project_root()
  ran <- processx::run(
    "Rscript", file.path("tools", "trace.R"),
    wd = root, error_on_status = FALSE,
    env = c("current", R_LIBS = paste(.libPaths(), collapse = ":"))
  )
  expect_identical(ran$status, 0L, info = ran$stderr)
  calls <- function(what) {
    line <- grep(what, strsplit(ran$stdout, "\n")[[1]], value = TRUE)
    as.numeric(strsplit(trimws(sub(what, "", line)), " +")[[1]][1])
  }
  # on a slow machine a page waits more often, which takes a few calls
  expect_lt(calls("a page of bars"), 170)
  expect_lt(calls("a page of a statistic"), 300)
  expect_gt(calls("a refresh with nothing to do"), 10)
})
