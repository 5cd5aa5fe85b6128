# Every option of every command with an invalid value, in one process: the exit
# status is 1 or 2 with advice, or there is a result; never an error of R, which
# the command line reports as "an error that should not be".
said_by <- function(words) {
  file <- file(text <- tempfile(), "w")
  sink(file, type = "message")
  sink(file)
  status <- tryCatch(suppressWarnings(vetusta:::cli_run(words)), finally = {
    sink()
    sink(type = "message")
    close(file)
  })
  list(
    status = status,
    text = paste(readLines(text, warn = FALSE), collapse = "\n")
  )
}

# The options in a command's help, and whether each takes a value.
options_of <- function(command) {
  lines <- grep(
    "^  (-., )?--", strsplit(said_by(c("help", command))$text, "\n")[[1]],
    value = TRUE
  )
  names <- sub("^ *(-., )?--([a-z-]+).*", "\\2", lines)
  stats::setNames(grepl("^ *(-., )?--[a-z-]+=", lines), names)
}

test_that("an option with a value that is none is told in words", {
  folder <- withr::local_tempdir()
  withr::local_dir(folder)
  withr::local_envvar(QUAY_KEY = NA, R_CLI_NUM_COLORS = "1")
  said_by(c("demo", "--help"))
  desk_make(folder)
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  bars <- minute_bars()
  csv <- function(rows, file) export_csv(rows, file)
  days <- data.frame(
    time = as.POSIXct("2026-03-02", tz = "UTC") + 86400 * 0:9,
    open = 1,
    high = 2,
    low = 1,
    close = 2,
    volume = 5
  )
  csv(days, "days.csv")
  csv(
    as.data.frame(bars)[c("time", "open", "high", "low", "close", "volume")],
    "minutes.csv"
  )
  csv(data.frame(time = days$time, value = c(1, 2, NA, 4:10)), "level.csv")
  archive_import(archive, "days.csv", symbol = "KELD", interval = "1 day")
  archive_import(archive, "minutes.csv", symbol = "KELD", interval = "1 minute")
  archive_close(archive)
  bases <- list(
    plan = c(
      "quay", "KELD", "--interval", "1 minute", "--from", "2026-03-12", "--to",
      "2026-03-13"
    ),
    list = character(),
    calendar = c(
      "times", "quay", "--interval", "1 hour", "--from", "2026-03-12", "--to",
      "2026-03-13"
    ),
    resample = c("KELD@1 minute", "--into", "1 hour"),
    align = "KELD@1 day",
    gaps = "KELD@1 day",
    fill = c("KELD@1 day", "--rule", "last"),
    change = "KELD@1 day",
    figure = c("candles", "KELD@1 day", "--file", "x.png"),
    export = "KELD@1 day",
    import = c("days.csv", "--symbol", "TAMX", "--interval", "1 day"),
    sources = character(),
    secrets = "list"
  )
  values <- c(
    "nonsense", "", "-1", "1e9", "2026-13-45", "2099-12-31", ",", "=",
    "no/where.x", "\u00e4\u00f6", "NA", "1 day", "a=b,c=d", "KELD"
  )
  known <- character()
  turn <- 0
  wrong <- character()
  for (command in names(bases)) {
    expect_lt(said_by(c(command, bases[[command]]))$status, 2, label = command)
    takes <- options_of(command)
    for (option in setdiff(names(takes)[takes], "file")) {
      # three of the values for each option, in turn
      turn <- turn + 3
      for (value in values[(turn + 0:2) %% length(values) + 1]) {
        words <- c(command, bases[[command]], paste0("--", option, "=", value))
        found <- said_by(words)
        if (grepl("should not be", found$text) ||
          !found$status %in% 0:2 ||
          (found$status > 0 &&
              !grepl("to do|did you mean|use one of", found$text))) {
          wrong <- c(
            wrong,
            paste0(
              paste(words, collapse = " "), " -> ", found$status, ": ",
              found$text
            )
          )
        }
      }
    }
    known <- c(known, names(takes))
  }
  expect_gt(length(known), 100)
  expect_identical(wrong, character())
})

test_that("files that are no tables are told of, whatever reads them", {
  folder <- withr::local_tempdir()
  withr::local_dir(folder)
  desk_make(folder)
  archive_close(archive_open("archive.sqlite"))
  writeBin(
    as.raw(
      c(
        0x89, 0x50, 0x4e, 0x47, 0x0d, 0x0a, 0x1a, 0x0a, 0, 0, 0, 0x0d, 0xff,
        0xfe, 0x80
      )
    ),
    "picture.png"
  )
  writeBin(c(charToRaw("PAR1"), as.raw(1:40)), "broken.parquet")
  writeLines("{\"a\": [1, 2, 3]}", "data.json")
  file.create("empty.csv")
  for (file in c(
    "archive.sqlite", "picture.png", "broken.parquet", "data.json",
    "empty.csv", "none.csv", "."
  )) {
    for (words in list(
      c("fill", "--input", file, "--rule", "last"), c("gaps", "--input", file),
      c("align", "--input", file),
      c("import", file, "--symbol", "KELD", "--interval", "1 day"),
      c("sources", "draft", "--sample", file)
    )) {
      found <- said_by(words)
      expect_false(
        grepl("should not be", found$text),
        label = paste(c(words, found$text), collapse = " ")
      )
      expect_true(
        found$status > 0 || words[1] == "sources",
        label = paste(words, collapse = " ")
      )
    }
  }
})

test_that("an option that is not known or lacks its value is named", {
  expect_match(
    said_by(c("collect", "quay", "KELD", "--wait"))$text,
    "the option --wait needs a value"
  )
  expect_match(
    said_by(c("list", "--jsno"))$text, "vetusta list: .*option.*--jsno"
  )
  expect_match(
    said_by(c("fill", "KELD", "-x"))$text, "vetusta fill: .*option.*-x"
  )
})

test_that("wrong words are refused in words, in every place", {
  folder <- withr::local_tempdir()
  withr::local_dir(folder)
  desk_make(folder)
  wrong <- character()
  for (command in setdiff(
    names(vetusta:::cli_commands), c("demo", "services", "browse", "help")
  )) {
    for (words in list(
      "nonsense", c("quay", "nonsense"), c("a", "b", "c", "d"), "",
      "--nonsense", "KELD=", c("quay", "KELD", "--interval"), "-",
      c("--input", "none.csv"), c("--desk", "nowhere")
    )) {
      found <- said_by(c(command, words))
      if (grepl("should not be", found$text) ||
        !found$status %in% 0:2 ||
        (found$status > 0 &&
            !grepl("to do|did you mean|use one of", found$text))) {
        wrong <- c(
          wrong,
          paste0(
            paste(c(command, words), collapse = " "), " -> ", found$status,
            ": ", found$text
          )
        )
      }
    }
  }
  expect_identical(wrong, character())
})
