# A report as one file.
report_archive <- function(env = parent.frame()) {
  archive <- new_archive(env)
  days <- as.Date("2025-11-01") + 0:120
  put_rows(
    archive, "river", "levels", "observations",
    data.frame(
      series = "kelder-lock",
      period = days[-(40:42)],
      value = 200 + sin(seq_len(118) / 9)
    )
  )
  put_rows(
    archive, "quay", "bars", "bars",
    as.data.frame(
      rbind(minute_bars("KELD", without = 50:60), minute_bars("TAMX"))
    ),
    "PT1M"
  )
  put_rows(
    archive, "register", "filings", "documents",
    data.frame(
      symbol = "KELD",
      kind = c("annual <b>", "notice"),
      filed = as.Date("2026-03-01"),
      title = "=x",
      link = c("https://data.example.org/a?b=1&c=2", "javascript:alert(1)")
    )
  )
  archive
}

test_that("the report is complete and runs no data", {
  archive <- report_archive()
  report <- report_make(
    archive,
    title = "Monday & <more>",
    calendars = list(quay = source_calendar("quay")),
    sources = data.frame(
      source = "quay", title = "Quay", licence = "as you like"
    ),
    names = c(KELD = "Kelder <Lines>")
  )
  file <- withr::local_tempfile(fileext = ".html")
  report_save(report, file)
  html <- xml2::read_html(file)
  text <- function(path) xml2::xml_text(xml2::xml_find_all(html, path))
  expect_identical(text("//h1"), "Monday & <more>")
  expect_true(
    all(
      c("Series", "Gaps and their reasons", "Documents", "Sources") %in%
        text("//h2")
    )
  )
  # the only outside URLs are those of documents and licences
  expect_length(xml2::xml_find_all(html, "//*[@src]"), 0)
  links <- xml2::xml_attr(
    xml2::xml_find_all(html, "//a[not(starts-with(@href, '#'))]"), "href"
  )
  expect_identical(links, "https://data.example.org/a?b=1&c=2")
  expect_length(
    xml2::xml_find_all(html, "//script[@src]|//link[@rel='stylesheet']"), 0
  )
  expect_length(xml2::xml_find_all(html, "//td/b"), 0)
  # each link of the contents has a target, and ids are unique
  ids <- xml2::xml_attr(xml2::xml_find_all(html, "//*[@id]"), "id")
  expect_identical(anyDuplicated(ids), 0L)
  to <- sub(
    "#", "", xml2::xml_attr(xml2::xml_find_all(html, "//nav//a"), "href")
  )
  expect_true(all(to %in% ids))
  # figures have names
  drawn <- xml2::xml_find_all(html, "//figure")
  said <- xml2::xml_attr(drawn, "aria-label")
  expect_true(all(nzchar(said)) && length(said) >= 4)
  # missing values equal those of series_gaps()
  missing <- report$tables[["Gaps and their reasons"]]
  expect_identical(sum(missing$missing[missing$dataset == "river/levels"]), 3)
  expect_identical(sum(missing$missing[missing$dataset == "quay/bars"]), 11)
  expect_match(report$summary[2], "^14 expected values")
})

test_that("an archive without series, one point, and many series", {
  empty <- new_archive()
  report <- report_make(empty)
  expect_match(report$summary, "has no series")
  file <- withr::local_tempfile(fileext = ".html")
  report_save(report, file)
  expect_gt(file.size(file), 3000)
  put_rows(
    empty, "files", "levels", "observations",
    data.frame(series = "a", period = as.Date("2026-01-01"), value = 1)
  )
  report_save(report_make(empty), file)
  many <- new_archive()
  put_rows(
    many, "files", "levels", "observations",
    data.frame(
      series = rep(sprintf("s%03d", 1:50), each = 2000),
      period = rep(as.Date("2015-01-01") + 0:1999, 50),
      value = rnorm(1e5)
    )
  )
  report_save(report_make(many), file)
  expect_lt(file.size(file), 5e6)
})

test_that("the short text is of 80 columns, and wrong files are refused", {
  archive <- report_archive()
  report <- report_make(archive)
  expect_lte(max(nchar(format(report))), 80)
  expect_match(format(report), "Gaps and their reasons", all = FALSE)
  kept <- withr::local_tempfile(fileext = ".html", lines = "mine")
  expect_error_kind(report_save(report, "x.pdf"), "report", "html")
  expect_error_kind(
    report_save(report, "no-such-folder/x.html"), "report", "does not exist"
  )
  expect_error_kind(report_make(archive, "nobody"), "argument")
  # none of it is in the window
  later <- report_make(archive, from = "2030-01-01")
  expect_true(all(is.na(later$tables[["Series"]]$coverage)))
  expect_identical(readLines(kept), "mine")
})

test_that("report and output write a desk's report", {
  folder <- withr::local_tempdir()
  desk_make(folder, cards = "quay", title = "The freight desk")
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  put_rows(
    archive, "quay", "bars", "bars", as.data.frame(minute_bars("KELD")), "PT1M"
  )
  archive_close(archive)
  made <- run_vetusta("report", folder = folder)
  expect_identical(made$status, 0L, label = made$stderr)
  html <- xml2::read_html(file.path(folder, "report.html"))
  expect_identical(
    xml2::xml_text(xml2::xml_find_first(html, "//h1")), "The freight desk"
  )
  # expect_match() takes minutes with the scripts of a page
  expect_true(
    grepl("invented data of the demo", xml2::xml_text(html), fixed = TRUE)
  )
  plain <- run_vetusta("report", "--plain", "KELD@1 minute", folder = folder)
  expect_match(plain$stdout, "^The freight desk\n=+\n")
  expect_identical(
    run_vetusta("report", "a.html", "b.html", folder = folder)$status, 2L
  )
  expect_identical(
    run_vetusta("report", "a.html", "nobody", folder = folder)$status, 2L
  )
  pdf <- run_vetusta("report", "a.pdf", folder = folder)
  expect_match(pdf$stderr, "must end in .html")
  pie <- run_vetusta("figure", "pie", "KELD", folder = folder)
  expect_match(pie$stderr, "\"pie\" is no figure")
  write <- function(lines) {
    cat(
      c("outputs:", "  monday:", paste0("    ", lines)),
      sep = "\n",
      file = file.path(folder, "desk.yml"),
      append = TRUE
    )
  }
  write(c("report: true", "file: monday.html", "title: Monday"))
  done <- desk_write(desk_open(folder))
  expect_identical(done$outcome, "written", label = done$said)
  monday <- xml2::read_html(file.path(folder, "monday.html"))
  expect_identical(
    xml2::xml_text(xml2::xml_find_first(monday, "//h1")), "Monday"
  )
})

test_that("a report template, with errors by line", {
  skip_if_not_installed("rmarkdown")
  skip_if_not(rmarkdown::pandoc_available(), "pandoc is not here")
  report <- structure(
    list(
      title = "Requests & more",
      made = utc(0),
      zone = "UTC",
      summary = "Two.",
      tables = list(
        Calls = data.frame(source = c("quay", "river"), rows = 1:2)
      ),
      figures = list(
        Lines = figure_lines(
          data.frame(
            series = "a",
            period = as.Date("2026-01-01") + 0:9,
            value = 1:10
          )
        )
      )
    ),
    class = "vetusta_report"
  )
  folder <- withr::local_tempdir()
  file <- file.path(folder, "own.html")
  report_save(
    report, file, system.file("report", "template.Rmd", package = "vetusta")
  )
  text <- paste(readLines(file, warn = FALSE), collapse = "\n")
  # expect_match() takes half a minute to quote a text of this length
  expect_true(grepl("Requests &amp; more", text, fixed = TRUE))
  expect_true(grepl("<td[^>]*>river</td>", text))
  expect_true(grepl("data:image/png;base64", text, fixed = TRUE))
  expect_false(grepl("(src|href)=\"https?://", text))
  wrong <- file.path(folder, "wrong.Rmd")
  writeLines(
    c(
      "---", "output: html_document", "---", "", "```{r}",
      "stop('no such thing')", "```"
    ),
    wrong
  )
  unlink(file)
  # in a process of its own: here the report would be recorded with every
  # request, which takes two minutes
  kept <- withr::local_tempfile(fileext = ".rds")
  saveRDS(report, kept)
  code <- paste0(
    "library(vetusta); tryCatch(report_save(readRDS('", kept, "'), '", file,
    "', '", wrong,
    "'), vetusta_error_report = function(e) cat(e$what, e$where, sep = '\n'))"
  )
  said <- strsplit(
    processx::run(
      "Rscript",
      c("--no-init-file", "-e", code),
      env = c("current", R_LIBS = r_libs())
    )$stdout,
    "\n"
  )[[1]]
  expect_match(said[1], "no such thing")
  expect_match(said[2], "lines? [56]")
  expect_identical(list.files(folder), "wrong.Rmd")
  expect_error(
    report_save(report, file, file.path(folder, "none.Rmd")),
    class = "vetusta_error_report"
  )
  expect_error(
    report_save(report, file.path(folder, "own.txt"), wrong),
    class = "vetusta_error_report"
  )
})

test_that("a report is made of the parts that are chosen", {
  report <- structure(
    list(
      title = "T",
      made = utc(0),
      zone = "UTC",
      summary = "S",
      tables = list(
        "Series" = data.frame(a = 1), "What failed" = data.frame(a = 2)
      ),
      figures = list("quay bars" = 1, "quay bars: candles" = 2)
    ),
    class = "vetusta_report"
  )
  chosen <- report_choose(report, c("What f*", "*candles"))
  expect_identical(names(chosen$tables), "What failed")
  expect_identical(names(chosen$figures), "quay bars: candles")
  expect_error(
    report_choose(report, "What is hold"), "Series",
    class = "vetusta_error_report"
  )
  expect_error(report_choose(1, "a"), class = "vetusta_error_report")
})

test_that("the first screen has numbers, what needs attention, newest values", {
  archive <- report_archive()
  report <- report_make(archive)
  expect_identical(
    unname(report$numbers[["series"]]),
    as.character(nrow(archive_series(archive)))
  )
  newest <- report$tables[["Newest values"]]
  newest_of <- function(table, back) table$value[nrow(table) - back]
  level <- archive_read(archive, "kelder-lock")[[1]]
  mine <- newest[newest$series %in% c("kelder-lock", "Kelder Lock"), ]
  expect_identical(mine$value, level$value[nrow(level)])
  expect_equal(
    mine$change_percent,
    round(100 * (newest_of(level, 0) / newest_of(level, 1) - 1), 2)
  )
  lines <- attr(newest, "lines")
  expect_length(lines, nrow(newest))
  expect_identical(
    lines[[match(mine$series, newest$series)]],
    as.double(utils::tail(level$value, 60))
  )
  file <- withr::local_tempfile(fileext = ".html")
  report_save(report, file)
  html <- xml2::read_html(file)
  heads <- xml2::xml_text(xml2::xml_find_all(html, "//h2"))
  expect_identical(heads[1:2], c("Newest values", "Coverage by dataset"))
  expect_length(
    xml2::xml_find_all(html, "//svg[@class='spark']|//*[@class='spark']"),
    sum(lengths(lines) > 1)
  )
  # a jump, a stale query and a rejected row are there, with links
  days <- as.POSIXct("2025-09-08", tz = "UTC") + 86400 * 0:9
  close <- c(118, 119, 120, 119, 121, 60.6, 61, 60.5, 61, 60)
  put_rows(
    archive, "quay", "bars", "bars",
    data.frame(symbol = "PAPR", time = days, close = close), "P1D"
  )
  status <- data.frame(
    query = "levels", stale = TRUE, outcome = "done", message = NA,
    complete_until = as.POSIXct("2026-03-01", tz = "UTC")
  )
  later <- report_make(archive, status = status)
  needs <- later$tables[["Needs attention"]]
  expect_true(all(c("stale: levels", "jump: PAPR") %in% needs$what))
  expect_match(needs$detail, "2 for 1", all = FALSE)
  expect_identical(later$numbers[["stale"]], "1")
  report_save(later, file)
  html <- xml2::read_html(file)
  heads <- xml2::xml_text(xml2::xml_find_all(html, "//h2"))
  expect_identical(heads[1:2], c("Needs attention", "Newest values"))
  ids <- xml2::xml_attr(xml2::xml_find_all(html, "//*[@id]"), "id")
  to <- xml2::xml_attr(xml2::xml_find_all(html, "//td/a"), "href")
  to <- sub("#", "", to[startsWith(to, "#")])
  expect_true(length(to) > 1 && all(to %in% ids))
})

test_that("gaps of the last week and large revisions need attention", {
  archive <- new_archive()
  days <- as.Date("2026-01-01") + 0:59
  level <- data.frame(series = "lock", period = days, value = 100 + 0:59)
  put_rows(archive, "files", "levels", "observations", level[-c(20, 57), ])
  report <- report_make(archive)
  needs <- report$tables[["Needs attention"]]
  expect_identical(needs$what, "gap: lock")
  expect_match(needs$detail, "^1 value missing")
  # an old gap alone needs none
  older <- new_archive()
  put_rows(older, "files", "levels", "observations", level[-20, ])
  expect_null(report_make(older)$tables[["Needs attention"]])
  revised <- level[30, ]
  revised$value <- 300
  put_rows(older, "files", "levels", "observations", revised)
  needs <- report_make(older)$tables[["Needs attention"]]
  expect_identical(needs$what, "revision: lock")
  expect_match(needs$detail, "by 132.56% at most", fixed = TRUE)
})

test_that("small lines draw one value, equal values and odd ranges", {
  spark <- vetusta:::report_spark
  expect_identical(spark(1), "")
  expect_match(spark(c(2, 2, 2)), "13 60,13|,13 ")
  expect_no_match(spark(c(1e-9, 2e-9, -1e300)), "NaN|NA|Inf")
})
