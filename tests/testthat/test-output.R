test_that("a CSV is exact, safe in a spreadsheet, and comes into place whole", {
  file <- withr::local_tempfile(fileext = ".csv")
  rows <- data.frame(
    symbol = c("=1+1", "KELD"),
    time = as.POSIXct(c(0, 0.25), origin = "1970-01-01", tz = "UTC"),
    close = c(0.1 + 0.2, NA)
  )
  export_csv(rows, file)
  expect_identical(
    readLines(file),
    c(
      "symbol,time,close", "'=1+1,1970-01-01T00:00:00Z,0.30000000000000004",
      "KELD,1970-01-01T00:00:00.250Z,"
    )
  )
  expect_error_kind(export_csv(rows, "/none/here.csv"), "export", "folder")
})

test_that("a line is broken where a symbol has nothing while others do", {
  bars <- rbind(minute_bars("KELD"), minute_bars("TAMX", without = 100:200))
  figure <- figure_lines(bars)
  expect_identical(
    length(unique(figure$data$piece[figure$data$name == "TAMX"])), 2L
  )
  expect_identical(
    length(unique(figure$data$piece[figure$data$name == "KELD"])), 1L
  )
  scaled <- figure_lines(bars, index = 100)
  expect_equal(scaled$data$shown[1], 100)
})

test_that("nights take no room, and labels do not overlap", {
  bars <- rbind(
    minute_bars("KELD", "2026-03-12"), minute_bars("KELD", "2026-03-13")
  )
  expect_identical(range(figure_lines(bars)$data$at), c(1L, 780L))
  expect_true(
    all(
      diff(sort(vetusta:::spread_labels(c(1, 1.01, 1.02, 5), 0.5))) >=
        0.5 - 1e-9
    )
  )
})

test_that("every figure in each format, and bad arguments", {
  days <- bars_resample(
    rbind(minute_bars("KELD"), minute_bars("TAMX")), "1 hour",
    source_calendar("quay")
  )
  for (ending in c("png", "pdf", "svg")) {
    file <- withr::local_tempfile(fileext = paste0(".", ending))
    figure_save(figure_candles(days), file)
    expect_gt(file.size(file), 3000)
  }
  expect_error_kind(figure_candles(days[0, ]), "figure", "no bars")
  expect_error_kind(figure_lines(days, value = "clsoe"), "figure", "close")
  expect_error_kind(figure_save(figure_lines(days), "x.gif"), "figure", "png")
})

test_that("numbers read back exactly; protected texts too", {
  withr::with_seed(
    6,
    value <- c(
      0.1 + 0.2, 1 / 3, 1e-300, 123456789012345, 2^53, -0.5, 62.773,
      stats::rnorm(2000) * 10^sample(-20:20, 2000, TRUE)
    )
  )
  file <- withr::local_tempfile(fileext = ".csv")
  export_csv(data.frame(value = value), file)
  expect_identical(as.double(readLines(file)[-1]), value)
  expect_identical(readLines(file)[8], "62.773")
  texts <- data.frame(
    "=cmd" = c("-X", "-5", "+1.5%", "-", "@sum", "'=kept", "plain", "+"),
    check.names = FALSE
  )
  export_csv(texts, file)
  expect_identical(
    readLines(file),
    c("'=cmd", "'-X", "-5", "+1.5%", "-", "'@sum", "''=kept", "plain", "+")
  )
  back <- vetusta:::plain_texts(
    data.table::fread(
      file, header = TRUE, colClasses = "character", data.table = FALSE,
      sep = ","
    ),
    file
  )
  expect_identical(back, texts)
})

test_that("a file is replaced completely or not at all", {
  rows <- data.frame(a = 1:3)
  folder <- withr::local_tempdir()
  expect_error_kind(export_csv(rows, "/dev/null"), "export", "device")
  system2("mkfifo", file.path(folder, "pipe"))
  expect_error_kind(
    export_csv(rows, file.path(folder, "pipe")), "export", "pipe"
  )
  file.symlink(file.path(folder, "target.csv"), file.path(folder, "link.csv"))
  export_csv(rows, file.path(folder, "link.csv"))
  expect_identical(
    readLines(file.path(folder, "target.csv")), c("a", "1", "2", "3")
  )
  expect_true(nzchar(Sys.readlink(file.path(folder, "link.csv"))))
  expect_error_kind(
    export_table(rows, file.path(folder, "x.xls")), "export", "xls"
  )
  expect_error_kind(
    export_table(rows, file.path(folder, "nothing")), "export", "that end in"
  )
  expect_identical(
    list.files(folder, all.files = TRUE, pattern = "^[.].*csv"), character()
  )
  skip_if_not(
    nzchar(Sys.which("unshare")) && Sys.info()[["user"]] == "root",
    "no small disk can be made here"
  )
  # a disk of few kilobytes, in a mount namespace of its own
  script <- sprintf(
    paste0(
      "mount -t tmpfs -o size=16k none '%s' && cd '%s' && ",
      "R_LIBS='%s' Rscript ",
      paste0(
        "--no-init-file -e \"library(vetusta); desk <- ",
        "desk_make('desk', cards = ",
        paste0(
          "character(), secrets = list(A_KEY = 'before')); ",
          "writeBin(raw(5000), 'filler'); ",
          paste0(
            "tryCatch(writeBin(raw(9000), 'more'), error = function(e) ",
            "0); r <- ",
            paste0(
              "tryCatch({desk_secret(desk, 'A_KEY', strrep('x', ",
              "9000)); 'set'}, ",
              paste0(
                "vetusta_error = conditionMessage); cat(r, '\\n', ",
                "readLines('desk/desk.env')[2], '\\n')\""
              )
            )
          )
        )
      )
    ),
    folder, folder, r_libs()
  )
  out <- processx::run(
    "unshare", c("-m", "sh", "-c", script), error_on_status = FALSE
  )
  skip_if(
    grepl("unshare|mount", out$stderr) && !nzchar(out$stdout),
    "no small disk can be made here"
  )
  expect_match(out$stdout, "cannot be written")
  expect_match(out$stdout, "A_KEY=before")
})

test_that("tables show digits and zone and fit the width", {
  table <- vetusta:::text_table(
    data.frame(
      price = c(62.773, 62.9),
      change = c(62.773 - 62.954, 1),
      count = c(1200, 3)
    )
  )
  expect_identical(
    table,
    c(" price  change  count", "62.773  -0.181  1,200", "62.900   1.000      3")
  )
  shown <- vetusta:::text_table(
    data.frame(
      time = as.POSIXct("2026-03-12 07:30", tz = "UTC"),
      text = strrep("long ", 30),
      n = 5
    ),
    width = 60
  )
  expect_true(all(nchar(shown) <= 60))
  expect_match(shown[1], "time (UTC)", fixed = TRUE)
})

test_that("JSON has numbers as they went in, and lists where lists are", {
  text <- paste(
    capture.output(
      vetusta:::cli_print_json(
        list(
          value = c(0.1 + 0.2, 62.773, NA),
          one = 1e15,
          names = I("a"),
          rows = data.frame(x = 1 / 3)
        )
      )
    ),
    collapse = ""
  )
  expect_identical(jsonlite::fromJSON(text)$value, c(0.1 + 0.2, 62.773, NA))
  expect_match(text, "62.773", fixed = TRUE)
  expect_match(text, '"names": ["a"]', fixed = TRUE)
  expect_identical(jsonlite::fromJSON(text)$rows$x, 1 / 3)
})
