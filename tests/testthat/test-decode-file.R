# Tables in files: every dropped line is reported, and a file read in pieces
# equals the file.

csv_file <- function(..., end = "\n") {
  file <- tempfile(fileext = ".csv")
  writeBin(charToRaw(paste0(paste(c(...), collapse = end), end)), file)
  file
}

read_pieces <- function(file, size) {
  parts <- vetusta:::read_table_file(
    file,
    size = size,
    each = function(rows, line) {
      c(as.list(rows), list(line = line))
    }
  )
  as.list(data.table::rbindlist(parts, use.names = TRUE))
}

bars_lines <- function(n,
                       times = format(
                         as.POSIXct("2026-03-12 07:30", tz = "UTC") +
                           60 * seq_len(n),
                         "%Y-%m-%dT%H:%M:%SZ"
                       )) {
  close <- round(40 + seq_len(n) / 1000, 3)
  paste(
    "KELD", times, close, close + 0.01, close - 0.01, close, seq_len(n),
    sep = ","
  )
}
header <- "symbol,time,open,high,low,close,volume"

test_that("a short line lacks its last values only", {
  archive <- archive_open(tempfile(fileext = ".sqlite"))
  lines <- bars_lines(6)
  lines[3] <- "KELD,2026-03-12T07:33:00Z"
  lines[4] <- ""
  read <- archive_import(
    archive, csv_file(header, lines), interval = "1 minute"
  )
  expect_equal(c(read$read, read$new), c(5, 4))
  expect_identical(as.numeric(read$rejected$line), 4)
  expect_identical(read$rejected$reason, "no close")
})

test_that("a long line is refused with its number", {
  lines <- bars_lines(4000)
  for (at in c(2, 150, 3999)) {
    more <- lines
    more[at] <- paste0(more[at], ",7")
    file <- csv_file(header, more)
    archive <- archive_open(tempfile(fileext = ".sqlite"))
    error <- expect_error_kind(
      archive_import(archive, file, interval = "1 minute"), "import",
      "more columns"
    )
    expect_match(conditionMessage(error), paste0("line ", at + 1, "\\b"))
    expect_equal(nrow(archive_series(archive)), 0)
    expect_error_kind(
      read_pieces(file, 5000), "import", paste0("line ", at + 1, "\\b")
    )
  }
  # a trailing comma adds no column
  expect_length(read_pieces(csv_file("a,b", "1,2,", "3,4,"), 1e6)$a, 2)
})

test_that("a file read in pieces is the file, whatever its lines are like", {
  set.seed(31)
  cells <- c(
    "plain", "\"with, comma\"", "\"two\nlines\"", "\"a \"\"word\"\"\"", "",
    "NA", "7.5", "'=1+1", " blanks ", "\u00e9t\u00e9"
  )
  for (round in 1:60) {
    n <- sample(3:40, 1)
    some <- sample(cells, sample(2:10, 1))
    lines <- replicate(
      n, paste(sample(some, 3, replace = TRUE), collapse = ",")
    )
    if (round %% 3 == 0) lines[sample(n, 1)] <- ""
    file <- csv_file(
      "one,two,three",
      enc2utf8(lines),
      end = if (round %% 2) "\n" else "\r\n"
    )
    whole <- read_pieces(file, 1e6)
    size <- sample(c(10, 40, 200), 1)
    # lines with line ends within cells are counted by line ends
    expect_identical(
      read_pieces(file, size)[1:3],
      whole[1:3],
      info = paste("round", round, "size", size)
    )
  }
})

test_that("what is read as numbers and instants is what the texts say", {
  lines <- bars_lines(200)
  odd <- list(
    plain = lines,
    words = replace(lines, 50, sub(",[0-9]+$", ",NA", lines[50])),
    fault = replace(lines, 150, sub(",[0-9]+$", ",many", lines[150])),
    blanks = sub(",", " ,  ", lines, fixed = TRUE),
    days = replace(lines, 180, sub("T[^,]*", "", lines[180])),
    local = sub("Z", "", lines, fixed = TRUE),
    quoted = sub("KELD", "\"KELD\"", lines)
  )
  import <- function(lines, size) {
    archive <- archive_open(tempfile(fileext = ".sqlite"))
    own <- vetusta:::piece_bytes
    utils::assignInNamespace("piece_bytes", size, "vetusta")
    on.exit(utils::assignInNamespace("piece_bytes", own, "vetusta"))
    read <- archive_import(
      archive, csv_file(header, lines), interval = "1 minute",
      zone = "Europe/Berlin"
    )
    list(
      read[c("read", "new", "rejected")],
      as.data.frame(
        archive_bars(archive, "KELD", interval = "1 minute", source = "files")
      )[1:8]
    )
  }
  for (name in names(odd)) {
    whole <- import(odd[[name]], 1e6)
    expect_gt(whole[[1]]$new, 198)
    expect_identical(import(odd[[name]], 2000), whole, info = name)
  }
})

test_that("a decimal is the double nearest to it", {
  set.seed(32)
  x <- c(exp(rnorm(5000, 0, 30)), rnorm(5000), 2^runif(2000, -1070, 1020))
  expect_identical(vetusta:::plain_number(sprintf("%.17g", x)), x)
  # the shortest text reads back the same
  text <- vetusta:::format_exact(
    round(exp(rnorm(20000, 3, 2)), sample(0:6, 20000, TRUE))
  )
  expect_identical(vetusta:::format_exact(vetusta:::plain_number(text)), text)
  expect_identical(
    vetusta:::plain_number(
      c(
        "-0", "+7", "007.50", "1e3", ".5", "5.", " 4 ", "1 2", "0x1F", "inf",
        "5L", "", "-", "1e", "123456789012345678"
      )
    ),
    c(
      0, 7, 7.5, 1000, 0.5, 5, 4, NA, NA, NA, NA, NA, NA, NA, 123456789012345677
    )
  )
})

test_that("a table for --input keeps what stands behind a short line", {
  file <- csv_file(
    "date,KELD,TAMX", "2026-03-12,40,30", "2026-03-13,41", "2026-03-14,42,31"
  )
  rows <- vetusta:::read_any_table(file)
  expect_identical(rows$KELD, c("40", "41", "42"))
  expect_identical(rows$TAMX, c("30", NA, "31"))
  expect_error_kind(
    vetusta:::read_any_table(
      csv_file("date,KELD", "2026-03-12,40", "2026-03-13,41,7")
    ),
    "import", "line 3"
  )
})

test_that("a long line is refused as a table and as SDMX-CSV", {
  lines <- paste0("2026-03-12,", 1:200)
  lines[150] <- paste0(lines[150], ",7")
  body <- charToRaw(paste(c("day,value", lines), collapse = "\n"))
  expect_error_kind(
    vetusta:::decode_table(body, "csv", "here"), "payload", "does not fit"
  )
  lines <- paste0(
    "B:FLOW(1.0),I,A,2026-", sprintf("%02d", rep(1:12, 20)), ",", 1:240
  )
  lines[150] <- paste0(lines[150], ",7")
  body <- charToRaw(
    paste(
      c("STRUCTURE_ID,ACTION,KEY,TIME_PERIOD,OBS_VALUE", lines), collapse = "\n"
    )
  )
  expect_error_kind(
    vetusta:::sdmx_from_csv(body, "KEY", "here"), "payload", "does not fit"
  )
})
