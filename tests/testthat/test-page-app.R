# The page to browse: the data it reads, and the page in a real browser.
browse_archive <- function(env = parent.frame()) {
  path <- withr::local_tempfile(fileext = ".sqlite", .local_envir = env)
  archive <- archive_open(path)
  write_bars <- function(symbol, closes) {
    csv <- withr::local_tempfile(fileext = ".csv")
    times <- as.POSIXct("2026-03-02", tz = "UTC") + 86400 * seq_along(closes)
    export_csv(
      data.frame(
        time = times, open = closes, high = closes + 1, low = closes - 1,
        close = closes, volume = 10
      ),
      csv
    )
    archive_import(archive, csv, symbol = symbol, interval = "1 day")
  }
  write_bars("KELD", 41:50)
  write_bars("TAMX", 21:30)
  level <- withr::local_tempfile(fileext = ".csv")
  export_csv(
    data.frame(
      series = "weir",
      period = as.Date("2026-03-01") + c(0:3, 6:9),
      value = c(200:203, 206:209)
    ),
    level
  )
  archive_import_rows(
    archive, level, "observations", source = "import", dataset = "levels"
  )
  archive_close(archive)
  path
}

served_page <- function(path, ..., env = parent.frame()) {
  process <- processx::process$new(
    "Rscript",
    c(
      "--no-init-file", "-e", "vetusta::cli_main()", "browse", "--archive",
      path, "--seconds", "280", ...
    ),
    stdout = "|",
    stderr = "|",
    env = c("current", R_LIBS = r_libs())
  )
  withr::defer(process$kill(), envir = env)
  end <- Sys.time() + 60
  while (Sys.time() < end && process$is_alive()) {
    process$poll_io(200)
    line <- grep("^http", process$read_output_lines(), value = TRUE)
    if (length(line)) return(list(url = line[1], process = process))
  }
  stop("the page was not served: ", process$read_all_error())
}

skip_without_page <- function() {
  testthat::skip_if_not_installed("shiny")
  testthat::skip_if_not_installed("bslib")
}

fetched <- function(url) {
  answer <- curl::curl_fetch_memory(url)
  list(status = answer$status_code, text = rawToChar(answer$content))
}

test_that("the page needs its token and never writes", {
  skip_without_page()
  path <- browse_archive()
  before <- tools::md5sum(path)
  page <- served_page(path)
  expect_match(
    page$url, "^http://127[.]0[.]0[.]1:[0-9]+/[?]token=[0-9a-f]{32}$"
  )
  whole <- fetched(page$url)
  expect_identical(whole$status, 200L)
  expect_match(whole$text, "<html lang=\"en\">", fixed = TRUE)
  for (wrong in c(
    sub("[?].*", "", page$id), sub(".$", "", page$id),
    paste0(sub("[?].*", "", page$url), "?token=")
  )) {
    refused <- fetched(wrong)
    expect_identical(refused$status, 403L)
    expect_no_match(refused$text, "html|KELD")
  }
  expect_identical(tools::md5sum(path), before)
})

test_that("search, choice and view of series, at two widths", {
  skip_without_page()
  skip_without_browser()
  page <- served_page(browse_archive())
  for (width in c(1280, 400)) {
    browser <- open_browser(width, 800)
    visit(browser, page$url)
    expect_true(
      page_until(
        browser, "document.querySelectorAll('button.one').length === 3"
      )
    )
    page_value(
      browser,
      "(() => { const box = document.getElementById('search');
      box.value = 'tamx'; box.dispatchEvent(new Event('input')); })()"
    )
    expect_true(
      page_until(
        browser, "document.querySelectorAll('button.one').length === 1"
      )
    )
    page_value(browser, "document.querySelector('button.one').click()")
    expect_true(
      page_until(
        browser,
        "document.querySelector('#figure img') !== null &&
      document.querySelector('#figure img').naturalWidth > 100"
      )
    )
    expect_identical(
      page_value(browser, "document.querySelector('#figure img').alt"),
      "The figure of files/import/TAMX@1 day"
    )
    # a narrow page is as wide as its screen
    expect_true(
      page_value(
        browser, "document.documentElement.scrollWidth <= window.innerWidth"
      )
    )
    expect_identical(browser$said$lines, character())
  }
})

test_that("days, gaps, values and lines belong to the chosen series", {
  skip_without_page()
  skip_without_browser()
  path <- browse_archive()
  page <- served_page(path)
  browser <- open_browser()
  visit(browser, page$url)
  expect_true(
    page_until(browser, "document.querySelectorAll('button.one').length === 3")
  )
  choose <- function(word) {
    page_value(
      browser,
      sprintf(
        "Array.from(document.querySelectorAll(
    'button.one')).find((one) => one.dataset.series.includes('%s')).click()",
        word
      )
    )
  }
  tab <- function(name) {
    page_value(
      browser,
      sprintf(
        "Array.from(document.querySelectorAll(
    '#tab a')).find((one) => one.textContent === '%s').click()",
        name
      )
    )
  }
  shows <- function(id, text) {
    page_until(
      browser,
      sprintf(
        "document.getElementById('%s').textContent.includes('%s')", id, text
      )
    )
  }
  choose("weir")
  tab("Gaps")
  expect_true(shows("gaps", "2026-03-05"))
  expect_true(shows("gaps", "unknown"))
  choose("KELD")
  tab("Values")
  expect_true(shows("values", "2026-03-12"))
  set_day <- function(id, day) {
    page_value(
      browser,
      sprintf(
        "(() => { const day =
    document.getElementById('%s'); day.value = '%s';
    day.dispatchEvent(new Event('change', { bubbles: true })); })()",
        id, day
      )
    )
  }
  set_day("to", "2026-03-05")
  expect_true(
    page_until(
      browser,
      "!document.getElementById('values').textContent.includes('2026-03-12')"
    )
  )
  tab("Export")
  expect_true(shows("lines", "--to 2026-03-05"))
  lines <- unlist(
    page_value(
      browser,
      paste0(
        "Array.from(document.querySelectorAll('#lines code')).map((one) ",
        "=> one.textContent)"
      )
    )
  )
  # the shown command gives the shown figure
  from_r <- eval(parse(text = lines[2]))
  expect_identical(from_r[[1]]$close, c(41, 42, 43))
  arguments <- strsplit(
    sub("^vetusta ", "", gsub("'", "", lines[3])), " (?=--)|(?<=export) ",
    perl = TRUE
  )[[1]]
  told <- processx::run(
    "Rscript",
    c(
      "--no-init-file", "-e", "vetusta::cli_main()",
      unlist(strsplit(sub("--(\\S+) (.*)", "--\\1\001\\2", arguments), "\001"))
    ),
    env = c("current", R_LIBS = r_libs())
  )
  expect_length(strsplit(told$stdout, "\n")[[1]], 4)
  set_day("from", "2027-01-01")
  tab("Figure")
  expect_true(shows("figure_said", "No values in this window"))
  expect_identical(browser$said$lines, character())
})

test_that("a changed archive is read again, a missing one reported", {
  skip_without_page()
  skip_without_browser()
  path <- browse_archive()
  page <- served_page(path)
  browser <- open_browser()
  visit(browser, page$url)
  expect_true(
    page_until(browser, "document.querySelectorAll('button.one').length === 3")
  )
  archive <- archive_open(path)
  csv <- withr::local_tempfile(fileext = ".csv")
  export_csv(
    data.frame(time = as.POSIXct("2026-03-02", tz = "UTC"), close = 7), csv
  )
  archive_import(archive, csv, symbol = "SALT", interval = "1 day")
  archive_close(archive)
  expect_true(
    page_until(browser, "document.querySelectorAll('button.one').length === 4")
  )
  unlink(paste0(path, c("", "-wal", "-shm")))
  expect_true(
    page_until(
      browser,
      paste0(
        "document.getElementById('about').textContent.includes('There is ",
        "no archive yet')"
      )
    )
  )
  expect_true(page$process$is_alive())
})

test_that("what is wrong with a page is told by its class", {
  skip_without_page()
  path <- browse_archive()
  expect_error(desk_browse(path, port = 80), class = "vetusta_error_page")
  expect_error(desk_browse(path, port = 1e6), class = "vetusta_error_page")
  expect_error(desk_browse(path, ready = 1), class = "vetusta_error_page")
  expect_error(desk_browse(paste0(path, "x")), class = "vetusta_error_archive")
  expect_error(desk_browse(3), class = "vetusta_error_desk")
  server <- httpuv::startServer(
    "127.0.0.1", port <- httpuv::randomPort(), list()
  )
  withr::defer(server$stop())
  expect_error(
    desk_browse(path, port = port), "taken", class = "vetusta_error_page"
  )
})

test_that("a thousand series are listed in part, with how complete each is", {
  skip_without_page()
  path <- withr::local_tempfile(fileext = ".sqlite")
  archive <- archive_open(path)
  csv <- withr::local_tempfile(fileext = ".csv")
  export_csv(
    data.frame(
      series = rep(sprintf("station-%04d", 1:1000), each = 2),
      period = as.Date("2026-03-01") + c(0, 3),
      value = 1:2000
    ),
    csv
  )
  archive_import_rows(
    archive, csv, "observations", source = "import", dataset = "levels"
  )
  archive_close(archive)
  place <- browse_archive_place(path)
  withr::defer(place$close())
  held <- browse_series(place)
  expect_identical(nrow(held), 1000L)
  expect_identical(
    browse_chosen(held, "station 0420", "", "", "id")$key, "station-0420"
  )
  expect_identical(browse_coverage(place, held[1:2, ]), c(0.5, 0.5))
  listed <- as.character(browse_list(place, held, NULL))
  expect_identical(
    lengths(regmatches(listed, gregexpr("<button", listed))), 200L
  )
  expect_match(listed, "and 800 more", fixed = TRUE)
  expect_match(listed, "50.0% present", fixed = TRUE)
})

test_that("the command refuses what it cannot take, before it serves", {
  skip_without_page()
  path <- browse_archive()
  for (words in list(
    "nonsense", c("--port", "x"), c("--port", "70000"), c("--desk", "nowhere"),
    c("--seconds", "-1"), c("--archive", paste0(path, "x")), "--nonsense"
  )) {
    done <- processx::run(
      "Rscript",
      c("--no-init-file", "-e", "vetusta::cli_main()", "browse", words),
      env = c("current", R_LIBS = r_libs()),
      error_on_status = FALSE,
      timeout = 120,
      wd = withr::local_tempdir()
    )
    expect_true(done$status %in% 1:2, info = paste(words, collapse = " "))
    expect_match(done$stderr, "to do")
  }
})
