# A dataset has a schema: text stays text, and no column changes its meaning.
written <- function(lines, ending = ".csv", env = parent.frame()) {
  path <- withr::local_tempfile(fileext = ending, .local_envir = env)
  writeLines(lines, path)
  path
}

types_of <- function(archive, dataset) {
  schema <- archive_schema(archive, dataset = dataset)
  stats::setNames(schema$type, schema$column)
}

test_that("text that looks like a number stays text", {
  archive <- new_archive()
  archive_import_rows(
    archive,
    written(
      c(
        "cusip,filing,code,shares,sign,day,price",
        "00123,0001-23,0E12,5,+1,2026-03-12,1.50",
        "00456,0001-24,1E5,7,+2,2026-03-13,2.25"
      )
    ),
    "table", dataset = "t"
  )
  rows <- archive_rows(archive, "files", "t")
  expect_identical(rows$cusip, c("00123", "00456"))
  expect_identical(rows$code, c("0E12", "1E5"))
  expect_identical(rows$sign, c("+1", "+2"))
  expect_identical(rows$shares, c(5, 7))
  expect_identical(rows$price, c(1.5, 2.25))
  expect_s3_class(rows$day, "Date")
  # quotation marks, JSON strings and Parquet's text type mark text
  archive_import_rows(
    archive, written(c("id,part", "1,\"5\"", "2,\"6\"")), "table", dataset = "q"
  )
  expect_identical(types_of(archive, "q"), c(id = "number", part = "text"))
  archive_import_rows(
    archive,
    written(
      c(
        '{"id":12345678901234567890,"x":"5"}',
        '{"id":12345678901234567891,"x":"6"}'
      ),
      ".jsonl"
    ),
    "table", dataset = "j"
  )
  expect_identical(
    archive_rows(archive, "files", "j")$id,
    c("12345678901234567890", "12345678901234567891")
  )
  expect_identical(archive_rows(archive, "files", "j")$x, c("5", "6"))
  file <- withr::local_tempfile(fileext = ".parquet")
  nanoparquet::write_parquet(
    data.frame(id = c("007", "008"), n = c(1, 2)), file
  )
  archive_import_rows(archive, file, "table", dataset = "p")
  expect_identical(types_of(archive, "p"), c(id = "text", n = "number"))
})

test_that("exact_numbers() takes only what reads back", {
  good <- c(
    "0", "-1", "12.50", "0.001", "123456789012345", "1e-05", "1e+20", "0.0"
  )
  bad <- c(
    "00123", "0E12", "+1", "1E5", "-0", ".5", "5.", "1,000",
    "12345678901234567890", "0x1F", "Inf", "1e5", "1_000", " 1",
    "0.12345678901234567"
  )
  expect_false(anyNA(vetusta:::exact_numbers(good)))
  expect_identical(vetusta:::exact_numbers(bad), rep(NA_real_, length(bad)))
  withr::with_seed(4, {
    x <- c(rnorm(200), round(runif(200) * 1e6, 3), sample(1e9, 100) + 0)
    expect_identical(vetusta:::exact_numbers(vetusta:::format_exact(x)), x)
  })
})

test_that("a column becomes text with a note, old values are read on", {
  archive <- new_archive()
  put <- function(value) {
    archive_import_rows(
      archive, written(c("series,period,value,note", value)), "observations",
      dataset = "o"
    )
  }
  put(c("a,2026-01-01,1,5", "a,2026-01-02,2,"))
  put("a,2026-01-03,3,late")
  put("a,2026-01-04,4,7.5")
  expect_identical(
    archive_read(archive, "files/o/a")[[1]]$note, c("5", NA, "late", "7.5")
  )
  expect_identical(
    archive_schema(archive, "files", "o")$changed[2], NA_character_
  )
  schema <- archive_schema(archive, "files", "o")
  expect_identical(schema$changed[schema$column == "note"], "number to text")
  expect_identical(nrow(archive_check(archive)), 0L)
  # a day in one file and text in the next
  two <- function(when) {
    archive_import_rows(
      archive, written(c("series,period,value,when", when)), "observations",
      dataset = "d"
    )
  }
  two("a,2026-01-01,1,2026-02-01")
  two("a,2026-01-02,2,soon")
  expect_identical(
    archive_read(archive, "files/d/a")[[1]]$when, c("2026-02-01", "soon")
  )
  expect_identical(nrow(archive_check(archive)), 0L)
  # by key too, where old rows have numbers in JSON
  key <- function(rows) {
    archive_import_rows(
      archive, written(c("symbol,lot", rows)), "instruments", dataset = "k"
    )
  }
  key(c("A,100000", "B,5"))
  key("C,many")
  expect_identical(
    archive_rows(archive, "files", "k")$lot, c("100000", "5", "many")
  )
})

test_that("an empty column decides nothing", {
  archive <- new_archive()
  key <- function(rows) {
    archive_import_rows(
      archive, written(c("symbol,lot", rows)), "instruments", dataset = "k"
    )
  }
  key(c("A,", "B,"))
  expect_identical(names(types_of(archive, "k")), "symbol")
  key("C,5")
  key(c("D,"))
  expect_identical(archive_rows(archive, "files", "k")$lot, c(NA, NA, 5, NA))
  expect_identical(types_of(archive, "k"), c(lot = "number", symbol = "text"))
})

test_that("a type is the same, whatever the order of pages and whoever reads", {
  withr::with_seed(
    8,
    for (turn in 1:20) {
      pools <- list(
        number = c("1", "2.5", "-3"),
        text = c("x", "007", "+1"),
        empty = "",
        day = c("2026-01-02", "2026-03-04")
      )
      cells <- lapply(
        sample(names(pools), 4, TRUE),
        function(kind) sample(pools[[kind]], 3, TRUE)
      )
      read <- lapply(
        list(seq_along(cells), rev(seq_along(cells))),
        function(order) {
          archive <- new_archive()
          for (i in order) {
            archive_import_rows(
              archive,
              written(
                c(
                  "series,period,value,x",
                  paste0(
                    "a,", as.Date("2026-01-01") + 3 * i + 0:2, ",1,", cells[[i]]
                  )
                )
              ),
              "observations", dataset = "o"
            )
          }
          x <- archive_read(archive, "files/o/a")[[1]]$x
          if (is.null(x)) rep(NA_character_, 12) else vetusta:::as_text(x)
        }
      )
      query <- unlist(cells)
      query[query == ""] <- NA
      expect_identical(read[[1]], query, label = paste("turn", turn))
      expect_identical(read[[2]], query, label = paste("turn", turn, "back"))
    }
  )
})

test_that("units and titles come with what is read", {
  archive <- new_archive()
  archive_import(
    archive, system.file("extdata", "keld-days.csv", package = "vetusta"),
    symbol = "KELD", interval = "1 day", unit = "crowns"
  )
  archive_import_rows(
    archive, written(c("symbol,name", "KELD,Keld Harbour Lines")),
    "instruments", dataset = "directory"
  )
  bars <- archive_read(archive, "KELD")[[1]]
  expect_identical(series_about(bars)$title, c(KELD = "Keld Harbour Lines"))
  expect_identical(series_about(bars)$unit, c(close = "crowns"))
  expect_identical(archive_series(archive)$title, "Keld Harbour Lines")
  expect_identical(
    export_dictionary(bars)$unit[names(bars) == "close"], "crowns"
  )
  expect_identical(archive_schema(archive, "files", "import")$unit[1], "crowns")
  file <- withr::local_tempfile(fileext = ".parquet")
  export_table(export_rows(list(bars)), file)
  told <- nanoparquet::read_parquet_metadata(
    file
  )$file_meta_data$key_value_metadata[[1]]
  expect_identical(
    told$value[match(c("unit.close", "title.KELD"), told$key)],
    c("crowns", "Keld Harbour Lines")
  )
  database <- withr::local_tempfile(fileext = ".sqlite")
  export_database(archive, database)
  connection <- DBI::dbConnect(RSQLite::SQLite(), database)
  withr::defer(DBI::dbDisconnect(connection))
  expect_identical(
    DBI::dbGetQuery(
      connection,
      "SELECT type, unit FROM dictionary
    WHERE dataset = 'import' AND \"column\" = 'close'"
    ),
    data.frame(type = "number", unit = "crowns")
  )
  expect_identical(
    DBI::dbGetQuery(
      connection, "SELECT title FROM titles WHERE key = 'KELD'"
    )$title,
    "Keld Harbour Lines"
  )
  expect_identical(
    vetusta:::archive_names(archive, "files")[["KELD"]],
    "Keld Harbour Lines (KELD)"
  )
  expect_error_kind(archive_schema(archive, "owm"), "argument", "owm")
  expect_error_kind(
    archive_import_rows(
      archive, written(c("series,period,value", "a,2026,1")), unit = 3
    ),
    "argument", "unit"
  )
})

test_that("types that a card or an import declares are the schema's", {
  archive <- new_archive()
  lines <- c(
    "day,symbol,close,cusip,lots,seen",
    "2026-03-12,KELD,10,00123,5,2026-03-12T10:00:00Z",
    "2026-03-13,KELD,11,00456,5.5,", "2026-03-14,KELD,12,,7,"
  )
  types <- c(cusip = "number", lots = "whole number", seen = "instant")
  said <- archive_import(
    archive, written(lines), interval = "1 day", columns = c(time = "day"),
    types = types
  )
  expect_identical(said$rejected$reason, "lots is no whole number")
  schema <- archive_schema(archive)
  expect_identical(
    schema$type[match(names(types), schema$column)], unname(types)
  )
  expect_identical(archive_bars(archive, "KELD", "1 day")$cusip, c(123, NA))
  # a fraction turns whole numbers into numbers, with a note
  archive_import(
    archive, written(c("day,symbol,close,lots", "2026-03-15,KELD,12,7.25")),
    interval = "1 day", columns = c(time = "day")
  )
  schema <- archive_schema(archive)
  expect_identical(
    as.list(schema[schema$column == "lots", c("type", "changed")]),
    list(type = "number", changed = "whole number to number")
  )
  expect_identical(archive_bars(archive, "KELD", "1 day")$lots, c(5, 7, 7.25))
  rows <- written(c("day,value,code", "2026-03-12,1,007", "2026-03-13,2,8x"))
  expect_identical(
    nrow(
      archive_import_rows(
        archive, rows, types = c(code = "text"), dataset = "a"
      )$rejected
    ),
    0L
  )
  expect_identical(
    archive_import_rows(
      archive, rows, types = c(code = "number"), dataset = "b"
    )$rejected$detail,
    "value 8x"
  )
  expect_error_kind(
    archive_import_rows(archive, rows, types = c(kode = "text")), "import",
    "kode"
  )
  expect_error_kind(
    archive_import_rows(archive, rows, types = c(code = "texts")), "import",
    "texts"
  )
  expect_error_kind(
    archive_import_rows(archive, rows, types = "text"), "import", "types"
  )
})

test_that("a card's types decide empty columns and reject others", {
  url <- start_scripted(function(n, request) {
    json_answer(
      '[{"t":"2026-03-12","c":1,"lots":null},
      {"t":"2026-03-13","c":2,"lots":2.5},
      {"t":"2026-03-14","c":3,"lots":3}]'
    )
  })
  archive <- new_archive()
  card <- withr::local_tempfile(fileext = ".yml")
  writeLines(
    paste0(
      "source: mill
url: ", url,
      "
datasets:
  bars:
    shape: bars
    request: /bars{?symbol,from,to}
    rows: ''
    columns: {time: {at: /t, as: day}, close: /c, lots: {at: /lots,
    as: whole number,
      need: optional}, venue: {at: /venue, as: text, need: optional}}"
    ),
    card
  )
  source <- source_card(card)
  collect_run(
    plan_requests(
      query_bars(
        source, "AAA", "1 day", from = "2026-03-12", to = "2026-03-14"
      ),
      archive
    ),
    archive
  )
  expect_identical(archive_rejected(archive)$reason[1], "lots cannot be read")
  schema <- archive_schema(archive)
  expect_identical(
    schema$type[match(c("lots", "venue"), schema$column)],
    c("whole number", "text")
  )
  expect_identical(archive_bars(archive, "AAA", "1 day")$lots, c(NA, 3))
})
