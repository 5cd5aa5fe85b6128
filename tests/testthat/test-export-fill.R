# Tables of items and periods that are not ours, filled with facts.
facts_of_years <- function(years = 2022:2025) {
  facts <- expand.grid(
    symbol = c("KELD", "TAMX"), item = c("revenue", "net_profit"),
    year = years, stringsAsFactors = FALSE
  )
  facts$period_start <- as.Date(paste0(facts$year, "-01-01"))
  facts$period_end <- as.Date(paste0(facts$year, "-12-31"))
  facts$value <- facts$year * 10 + seq_len(nrow(facts)) %% 4 + 0.5
  facts[setdiff(names(facts), "year")]
}
value_of <- function(symbol, item, year) {
  facts <- facts_of_years()
  facts$value[
    facts$symbol == symbol & facts$item == item &
      format(facts$period_end, "%Y") == year
  ]
}

test_that("the lists of a table say what is filled; all else stays", {
  file <- withr::local_tempfile(fileext = ".csv")
  writeLines(
    c(
      "Company;Item;FY2024;FY2023;Note", "KELD;revenue;;1,5;mine",
      "TAMX;net_profit;;;", "NONE;revenue;7,50;;", ";;;;"
    ),
    file
  )
  done <- export_fill(facts_of_years(), file)
  expect_identical(done$changed, 4L)
  expect_identical(done$unknown, "NONE revenue")
  expect_identical(done$added, character())
  comma <- function(x) sub(".", ",", format(x, nsmall = 1), fixed = TRUE)
  expect_identical(
    readLines(file)[1:4],
    c(
      "Company;Item;FY2024;FY2023;Note",
      paste0(
        "KELD;revenue;", comma(value_of("KELD", "revenue", 2024)), ";",
        comma(value_of("KELD", "revenue", 2023)), ";mine"
      ),
      paste0(
        "TAMX;net_profit;", comma(value_of("TAMX", "net_profit", 2024)), ";",
        comma(value_of("TAMX", "net_profit", 2023)), ";"
      ),
      "NONE;revenue;7,50;;"
    )
  )
  # the same again changes no byte
  before <- readBin(file, "raw", 1e4)
  expect_identical(export_fill(facts_of_years(), file)$changed, 0L)
  expect_identical(readBin(file, "raw", 1e4), before)
  # the newest year is put first, as the table has it
  expect_identical(
    export_fill(facts_of_years(), file, add = TRUE)$added, "FY2025"
  )
  expect_identical(readLines(file)[1], "Company;Item;FY2025;FY2024;FY2023;Note")
  # a table in the order of time grows at its end
  writeLines(c("item,2023,2024,Note", "revenue,,,x"), file)
  export_fill(facts_of_years(), file, symbol = "TAMX", add = TRUE)
  expect_identical(
    readLines(file),
    c(
      "item,2023,2024,2025,Note",
      paste0(
        "revenue,",
        paste(
          vapply(2023:2025, function(y) value_of("TAMX", "revenue", y), 0),
          collapse = ","
        ), ",x"
      )
    )
  )
})

test_that("quarters and days are heads too", {
  facts <- data.frame(
    symbol = "KELD", item = "revenue", value = c(10, 24, 39, 55),
    period_start = as.Date("2025-01-01"),
    period_end = as.Date(
      c("2025-03-31", "2025-06-30", "2025-09-30", "2025-12-31")
    )
  )
  file <- withr::local_tempfile(fileext = ".csv")
  filled <- function(heads, ...) {
    writeLines(c(paste0("item,", heads), "revenue,,"), file)
    export_fill(facts, file, symbol = "KELD", ...)
    readLines(file)
  }
  expect_identical(
    filled("2025-Q1,2025-Q2", add = TRUE),
    c("item,2025-Q1,2025-Q2,2025-Q3,2025-Q4", "revenue,10,14,15,16")
  )
  expect_identical(filled("Q4 2025,Q3 2025")[2], "revenue,16,15")
  expect_identical(filled("30.06.2025,30.09.2025")[2], "revenue,14,15")
  expect_identical(
    filled("2025-12-31,2024-12-31", period = "annual")[2], "revenue,55,"
  )
})

test_that("a workbook's formulas, filters and other cells stay", {
  skip_if_not_installed("openxlsx2")
  file <- withr::local_tempfile(fileext = ".xlsx")
  made <- function(heads, table = "Figures") {
    book <- openxlsx2::wb_workbook()
    book$add_worksheet("Model")
    book$add_data("Model", "A model", col_names = FALSE)
    rows <- data.frame(
      item = c("revenue", "net_profit"), a = NA_real_, b = c(1, NA)
    )
    names(rows)[2:3] <- heads
    if (is.null(table)) {
      book$add_data("Model", rows, start_row = 3, na = NULL)
    } else {
      book$add_data_table(
        "Model", rows,
        start_row = 3, table_name = table, na = NULL
      )
    }
    book$add_formula("Model", "B4-B5", dims = "B8")
    book$save(file)
  }
  cells <- function(dims) {
    unname(unlist(as.list(
      openxlsx2::wb_to_df(file, dims = dims, col_names = FALSE)
    )))
  }
  formula <- function() {
    book <- openxlsx2::wb_load(file)
    cc <- book$worksheets[[1]]$sheet_data$cc
    cc$f[cc$r == "B8"]
  }
  table_of <- function() {
    openxlsx2::wb_load(file)$tables$tab_xml
  }
  years <- function(item) {
    vapply(2023:2025, function(y) value_of("KELD", item, y), 0)
  }
  fill <- function(...) {
    export_fill(facts_of_years(), file, ..., symbol = "KELD", add = TRUE)
  }
  # in the order of time: a column to the right
  made(c("2023", "2024"))
  expect_identical(fill("Figures")$added, "2025")
  expect_equal(as.numeric(cells("B4:D4")), years("revenue"))
  expect_equal(as.numeric(cells("B5:D5")), years("net_profit"))
  expect_identical(formula(), "B4-B5")
  expect_match(table_of(), "ref=\"A3:D5\".*autoFilter ref=\"A3:D5\"")
  expect_match(table_of(), "name=\"2025\"")
  expect_identical(cells("A1:A1"), "A model")
  expect_identical(fill("Figures")$changed, 0L)
  # newest first: values move with their heads
  made(c("2024", "2023"))
  expect_identical(fill("Figures")$added, "2025")
  expect_identical(as.character(cells("B3:D3")), c("2025", "2024", "2023"))
  expect_equal(as.numeric(cells("B4:D4")), rev(years("revenue")))
  expect_identical(formula(), "B4-B5")
  # a sheet with one table and no name
  made(c("2023", "2024"), NULL)
  expect_identical(fill("Model")$added, "2025")
  expect_equal(as.numeric(cells("B5:D5")), years("net_profit"))
  # a value beside the table is in the way, and a formula cannot be moved
  made(c("2023", "2024"))
  book <- openxlsx2::wb_load(file)
  book$add_data("Model", "mine", dims = "D5", col_names = FALSE)
  book$save(file)
  before <- tools::md5sum(file)
  expect_error_kind(fill("Figures"), "export", "cell D5")
  made(c("2024", "2023"))
  book <- openxlsx2::wb_load(file)
  book$add_formula("Model", "B4*2", dims = "C4")
  book$save(file)
  expect_error_kind(fill("Figures"), "export", "formulas in the columns")
  expect_error_kind(fill("Figurs"), "export", "did you mean")
})

test_that("what cannot be filled is refused, and the file stays", {
  file <- withr::local_tempfile(fileext = ".csv")
  refused_with <- function(lines, pattern, ...) {
    writeLines(lines, file)
    expect_error_kind(
      export_fill(facts_of_years(), file, ...), "export", pattern
    )
    expect_identical(readLines(file), lines)
  }
  refused_with(c("a,2024", "revenue,"), "no column of items", symbol = "KELD")
  refused_with(c("item,2024", "revenue,"), "no column of companies")
  refused_with(c("item,soon", "revenue,"), "is a period", symbol = "KELD")
  expect_error_kind(
    export_fill(
      facts_of_years(), paste0(file, ".csv")
    ), "export", "no such file"
  )
})

test_that("days of a file are appended as it writes them", {
  file <- withr::local_tempfile(fileext = ".csv")
  rows <- data.frame(period = as.Date("2026-03-12") + 0:1, Last = c(41.2, 42))
  writeLines(c("period;Last", "12.03.2026;41,2"), file)
  export_append(rows, file)
  expect_identical(
    readLines(file), c("period;Last", "12.03.2026;41,2", "13.03.2026;42")
  )
  expect_identical(export_append(rows, file)$unchanged, 2L)
  # an order that is not certain is not guessed
  writeLines(c("period,Last", "03/04/2026,41"), file)
  expect_error_kind(
    export_append(rows, file), "export", "day or the month first"
  )
})

test_that("a desk and the command fill tables", {
  services <- start_services()
  folder <- withr::local_tempdir()
  desk_make(
    folder,
    cards = "register",
    urls = list(register = paste0(services$root, "/register")),
    secrets = vetusta:::standin_keys
  )
  run <- function(...) run_vetusta(..., folder = folder)
  run("collect", "register", "facts", "KELD")
  writeLines(
    c("symbol,item,2023,2024", "KELD,revenue,,", "KELD,net_profit,,"),
    file.path(folder, "model.csv")
  )
  first <- run("statement", "--append", "model.csv")
  expect_match(first$stderr, "6 cells filled.*new columns: 2025")
  desk <- readLines(file.path(folder, "desk.yml"))
  writeLines(
    c(
      desk, "outputs:", "  model:", "    statement: {period: quarterly}",
      "    append: quarters.csv", "    form: wide"
    ),
    file.path(folder, "desk.yml")
  )
  writeLines(
    c("symbol,item,2025-Q2", "KELD,revenue,"),
    file.path(folder, "quarters.csv")
  )
  expect_match(run("refresh")$stdout, "model +quarters.csv +3 +written")
  lines <- readLines(file.path(folder, "quarters.csv"))
  expect_identical(lines[1], "symbol,item,2025-Q2,2025-Q3,2025-Q4")
  annual <- read.csv(file.path(folder, "model.csv"), check.names = FALSE)
  wide <- run("statement", "KELD", "--items", "revenue", "--json")
  revenue <- jsonlite::fromJSON(wide$stdout)
  expect_equal(annual[["2025"]][1], revenue[["2025-12-31"]][1])
  wrong <- run("statement", "--append", "model.csv", "--items", "revenue")
  expect_identical(wrong$status, 2L)
  expect_identical(run("statement")$status, 2L)
})

test_that("a file keeps its mark, line ends, quotes and formulas", {
  file <- withr::local_tempfile(fileext = ".csv")
  mark <- as.raw(c(0xef, 0xbb, 0xbf))
  writeBin(
    c(
      mark,
      charToRaw(paste0(
        "symbol,item,2025,\"a \"\"b\"\"\"\r\nKELD,revenue,,\"x, y\"\r\n",
        "TAMX,revenue,=C2,\r\n"
      ))
    ),
    file
  )
  export_fill(facts_of_years(), file)
  bytes <- readBin(file, "raw", 1e4)
  expect_identical(bytes[1:3], mark)
  expect_identical(
    rawToChar(bytes[-(1:3)]),
    paste0(
      "symbol,item,2025,\"a \"\"b\"\"\"\r\nKELD,revenue,",
      value_of("KELD", "revenue", 2025), ",\"x, y\"\r\nTAMX,revenue,=C2,\r\n"
    )
  )
  # rows that are appended have the line ends of the file too
  writeBin(charToRaw("period,Last\r\n2026-03-12,41\r\n"), file)
  rows <- data.frame(period = as.Date("2026-03-12") + 0:1, Last = c(42, 43))
  export_append(rows, file)
  expect_identical(
    readBin(file, "raw", 100),
    charToRaw("period,Last\r\n2026-03-12,42\r\n2026-03-13,43\r\n")
  )
  # two columns of one head are not told apart
  writeLines(c("symbol,item,2025,2025", "KELD,revenue,,"), file)
  expect_error_kind(
    export_fill(facts_of_years(), file), "export", "have the head \"2025\""
  )
  writeLines(c("period,Last,Last", "2026-03-12,1,2"), file)
  expect_error_kind(export_append(rows, file), "export", "head \"Last\"")
})
