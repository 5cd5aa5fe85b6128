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
      "--no-init-file", "-e", "vetusta::cli_main()", "browse",
      if (!is.null(path)) c("--archive", path), "--seconds", "280", ...
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

shows <- function(browser, id, text) {
  page_until(
    browser,
    sprintf(
      "(document.getElementById('%s') || { textContent: '' })
      .textContent.includes('%s')", id, text
    )
  )
}
choose <- function(browser, word, button = "one") {
  page_value(
    browser,
    sprintf(
      "Array.from(document.querySelectorAll('button.%s')).find((one) =>
      one.dataset.series.includes('%s')).click()", button, word
    )
  )
}
open_tab <- function(browser, name) {
  page_value(
    browser,
    sprintf("document.querySelector('a[data-value=\"%s\"]').click()", name)
  )
}
set_field <- function(browser, id, value) {
  page_value(
    browser,
    sprintf(
      "(() => { const field = document.getElementById('%s');
      field.value = '%s';
      for (const kind of ['input', 'change'])
        field.dispatchEvent(new Event(kind, { bubbles: true })); })()",
      id, value
    )
  )
}
leaves <- function(browser, count) {
  page_until(
    browser,
    sprintf("document.querySelectorAll('button.one').length === %d", count)
  )
}
is_drawn <- function(browser, traces = 1) {
  page_until(
    browser,
    sprintf(
      "(document.querySelector('#figure .js-plotly-plot') || { data: [] })
      .data.length >= %d", traces
    )
  )
}

test_that("search, choice and view of series, at two widths", {
  skip_without_page()
  skip_without_browser()
  page <- served_page(browse_archive())
  for (width in c(1280, 400)) {
    browser <- open_browser(width, 800)
    visit(browser, page$url)
    expect_true(leaves(browser, 3))
    # the first view has numbers and the newest values
    expect_true(shows(browser, "overview", "Newest values"))
    set_field(browser, "search", "tamx")
    expect_true(leaves(browser, 1))
    choose(browser, "TAMX")
    expect_true(is_drawn(browser))
    expect_true(shows(browser, "chosen", "files/import/TAMX@1 day"))
    # a narrow page is as wide as its screen
    expect_true(
      page_value(
        browser, "document.documentElement.scrollWidth <= window.innerWidth"
      )
    )
    expect_identical(browser$said$lines, character())
  }
})

test_that("series are compared, and the URL brings the same view", {
  skip_without_page()
  skip_without_browser()
  page <- served_page(browse_archive())
  browser <- open_browser()
  visit(browser, page$url)
  expect_true(leaves(browser, 3))
  choose(browser, "KELD")
  expect_true(is_drawn(browser))
  choose(browser, "TAMX", "add")
  expect_true(is_drawn(browser, 2))
  set_field(browser, "base", "2026-03-03")
  set_field(browser, "to", "2026-03-08")
  expect_true(shows(browser, "figure", "3 March 2026 = 100"))
  values <- "JSON.stringify(document.querySelector('#figure .js-plotly-plot')
    .data.map((trace) => [trace.name, trace.y]))"
  expect_true(page_until(
    browser,
    "/base=2026-03-03/.test(location) && /to=2026-03-08/.test(location)"
  ))
  url <- page_value(browser, "location.href")
  expect_true(shows(browser, "figure", "3 March 2026 = 100"))
  shown <- jsonlite::fromJSON(
    page_value(browser, values),
    simplifyVector = FALSE
  )
  first <- vapply(shown, function(trace) trace[[2]][[1]], 0)
  expect_equal(first, c(100, 100))
  again <- open_browser()
  visit(again, url)
  expect_true(is_drawn(again, 2))
  expect_true(shows(again, "figure", "3 March 2026 = 100"))
  expect_identical(page_value(again, values), page_value(browser, values))
  # a series is left out again
  choose(browser, "KELD", "drop")
  expect_true(page_until(
    browser, "document.querySelectorAll('.chosen li').length === 1"
  ))
  expect_identical(c(browser$said$lines, again$said$lines), character())
})

test_that("a fill is tried with its effect, and stores nothing", {
  skip_without_page()
  skip_without_browser()
  path <- browse_archive()
  before <- tools::md5sum(path)
  page <- served_page(path)
  browser <- open_browser()
  visit(browser, page$url)
  expect_true(leaves(browser, 3))
  choose(browser, "weir")
  expect_true(is_drawn(browser))
  set_field(browser, "fill", "linear")
  expect_true(shows(browser, "effect", "2 values filled by the rule linear"))
  open_tab(browser, "values")
  expect_true(shows(browser, "values", "filled"))
  open_tab(browser, "copy")
  expect_true(shows(browser, "lines", "--rule linear"))
  expect_identical(tools::md5sum(path), before)
  expect_identical(browser$said$lines, character())
})

test_that("days, gaps, values and lines belong to the chosen series", {
  skip_without_page()
  skip_without_browser()
  path <- browse_archive()
  page <- served_page(path)
  browser <- open_browser()
  visit(browser, page$url)
  expect_true(leaves(browser, 3))
  choose(browser, "weir")
  open_tab(browser, "gaps")
  expect_true(shows(browser, "gaps", "2026-03-05"))
  expect_true(shows(browser, "gaps", "unknown"))
  choose(browser, "KELD")
  open_tab(browser, "values")
  expect_true(shows(browser, "values", "2026-03-12"))
  set_field(browser, "to", "2026-03-05")
  expect_true(
    page_until(
      browser,
      "!document.getElementById('values').textContent.includes('2026-03-12')"
    )
  )
  open_tab(browser, "copy")
  expect_true(shows(browser, "lines", "--to 2026-03-05"))
  lines <- unlist(
    page_value(
      browser,
      paste0(
        "Array.from(document.querySelectorAll('#lines code')).map((one) ",
        "=> one.textContent)"
      )
    )
  )
  # the shown code and command give the shown values
  from_r <- eval(parse(text = lines[2]))
  expect_identical(from_r[[1]]$close, c(41, 42, 43))
  words <- scan(text = sub("^vetusta ", "", lines[3]), what = "", quiet = TRUE)
  told <- processx::run(
    "Rscript", c("--no-init-file", "-e", "vetusta::cli_main()", words),
    env = c("current", R_LIBS = r_libs())
  )
  expect_length(strsplit(told$stdout, "\n")[[1]], 4)
  set_field(browser, "from", "2027-01-01")
  open_tab(browser, "figure")
  expect_true(shows(browser, "figure", "No values in this window"))
  expect_identical(browser$said$lines, character())
})

test_that("tracked queries are refreshed only where the page may collect", {
  skip_without_page()
  skip_without_browser()
  folder <- withr::local_tempdir()
  desk_make(folder, cards = "quay")
  file.copy(browse_archive(), file.path(folder, "archive.sqlite"))
  cat(
    "track:\n  share:\n    source: quay\n    dataset: bars\n",
    "    symbols: KELD\n    interval: 1 day\n    from: '2026-03-02'\n",
    "    to: '2026-03-03'\n",
    file = file.path(folder, "desk.yml"), append = TRUE, sep = ""
  )
  here <- environment()
  served <- function(...) served_page(NULL, "--desk", folder, ..., env = here)
  browser <- open_browser()
  reading <- served()
  visit(browser, reading$url)
  expect_true(shows(browser, "about", "read only"))
  expect_identical(
    page_value(browser, "document.getElementById('refresh') === null"), TRUE
  )
  collecting <- served("--collect")
  visit(browser, paste0(collecting$url, "&view=collect"))
  expect_true(page_until(
    browser, "document.getElementById('refresh') !== null"
  ))
  page_value(browser, "document.getElementById('refresh').click()")
  # no service answers at the card's URL: the refresh says so
  expect_true(shows(browser, "progress", "ended with status"))
  expect_identical(browser$said$lines, character())
  expect_error(
    desk_browse(browse_archive(), collect = TRUE),
    class = "vetusta_error_page"
  )
})

test_that("a changed archive is read again, a missing one reported", {
  skip_without_page()
  skip_without_browser()
  path <- browse_archive()
  page <- served_page(path)
  browser <- open_browser()
  visit(browser, page$url)
  expect_true(leaves(browser, 3))
  archive <- archive_open(path)
  csv <- withr::local_tempfile(fileext = ".csv")
  export_csv(
    data.frame(time = as.POSIXct("2026-03-02", tz = "UTC"), close = 7), csv
  )
  archive_import(archive, csv, symbol = "SALT", interval = "1 day")
  archive_close(archive)
  expect_true(leaves(browser, 4))
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
  # a free port that another program takes meanwhile
  ports <- c(port, httpuv::randomPort())
  local_instead("browse_port", function(port) {
    on.exit(ports <<- ports[-1])
    ports[1]
  })
  urls <- character()
  desk_browse(path, ready = function(url) urls <<- c(urls, url), seconds = 1)
  expect_length(urls, 1)
  expect_length(ports, 0)
})

test_that("a thousand series are listed in part", {
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
    archive, csv, "observations", source = "import", dataset = "levels",
    unit = "cm"
  )
  archive_close(archive)
  place <- browse_archive_place(path)
  withr::defer(place$close())
  # the first view needs no list of all series
  expect_match(as.character(browse_about(place)), "1,000 series")
  expect_match(as.character(browse_overview(place)), "station-0001")
  expect_match(
    as.character(browse_tree(place, "", "", character())), "1,000 series"
  )
  expect_null(place$memory$series)
  series <- browse_series(place)
  expect_identical(nrow(series), 1000L)
  # chosen by ID, in the order of the choice; what is not there is left out
  ids <- c(series$id[7], "import/levels/nowhere@D", series$id[3])
  expect_identical(browse_chosen(place, ids)$key, series$key[c(7, 3)])
  expect_null(browse_chosen(place, character()))
  expect_identical(browse_matching(series, "station 0420")$key, "station-0420")
  expect_identical(nrow(browse_matching(series, "CM station-00")), 99L)
  buttons <- function(...) {
    listed <- as.character(browse_tree(place, ...))
    lengths(regmatches(listed, gregexpr("<button", listed)))
  }
  # a dataset that is closed is one button, an open one has its first series
  expect_identical(buttons("", "", character()), 1L)
  expect_identical(buttons("", "import/levels", character()), 201L)
  expect_match(
    as.character(browse_tree(place, "", "import/levels", character())),
    "and\\s+900\\s+more"
  )
  expect_identical(buttons("nothing", "", character()), 0L)
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

test_that("a repair is tried, and a value is traced to its file and line", {
  skip_without_page()
  skip_without_browser()
  path <- browse_archive()
  before <- tools::md5sum(path)
  page <- served_page(path)
  browser <- open_browser()
  visit(browser, page$url)
  expect_true(leaves(browser, 3))
  choose(browser, "KELD")
  expect_true(is_drawn(browser))
  set_field(browser, "repair", "spikes")
  expect_true(shows(browser, "effect", "0 values left out"))
  set_field(browser, "repair", "splits")
  expect_true(shows(browser, "effect", "has no actions"))
  open_tab(browser, "trace")
  expect_true(shows(browser, "trace", "line 11"))
  expect_true(shows(browser, "trace", "import"))
  set_field(browser, "day", "2026-03-05")
  expect_true(shows(browser, "trace", "line 4"))
  open_tab(browser, "copy")
  expect_true(shows(browser, "lines", "--at 2026-03-05"))
  expect_identical(tools::md5sum(path), before)
  expect_identical(browser$said$lines, character())
})
