# The report in a real browser, opened from disk without a network.
report_page <- function(env = parent.frame()) {
  archive <- archive_open(
    withr::local_tempfile(fileext = ".sqlite", .local_envir = env)
  )
  withr::defer(archive_close(archive), envir = env)
  days <- as.Date("2026-01-01") + 0:59
  csv <- withr::local_tempfile(fileext = ".csv")
  # far apart, so that a value identifies its series
  export_csv(
    data.frame(
      series = rep(c("weir", "lock", "mouth", "gorge"), each = 60),
      period = rep(days, 4),
      value = c(1001:1060, 2001:2060, 3001:3060, 4001:4060)
    ),
    csv
  )
  archive_import_rows(
    archive, csv, "observations", source = "files", dataset = "levels"
  )
  for (symbol in c("KELD", "TAMX")) {
    close <- 40 + seq_along(days) / 10
    export_csv(
      data.frame(
        time = as.POSIXct(days), open = close - 1, high = close + 2,
        low = close - 3, close = close, volume = 500
      ),
      csv
    )
    archive_import(archive, csv, symbol = symbol, interval = "1 day")
  }
  file <- withr::local_tempfile(fileext = ".html", .local_envir = env)
  sources <- data.frame(
    source = "files", title = "A <river>", licence = "free & open"
  )
  report_save(report_make(archive, title = "A report", sources = sources), file)
  paste0("file://", file)
}

offline_report <- function(width, env = parent.frame()) {
  browser <- open_browser(width, 800, env)
  browser$page$Network$emulateNetworkConditions(
    offline = TRUE, latency = 0, downloadThroughput = 0, uploadThroughput = 0
  )
  visit(browser, report_page(env))
}

# Moves the pointer over a figure, by fractions of its width and height; returns
# the readout.
told_at <- function(browser, figure, x, y) {
  page_value(
    browser,
    sprintf(
      "document.querySelectorAll('figure.drawn')[%d].scrollIntoView(
    { block: 'center' })",
      figure
    )
  )
  box <- page_value(
    browser,
    sprintf(
      "(() => { const box = Array.from(
    document.querySelectorAll('figure.drawn')[%d].querySelectorAll('svg')).find(
    (svg) => svg.style.display !== 'none').getBoundingClientRect();
    return { left: box.left, top: box.top, width: box.width,
    height: box.height }; })()",
      figure
    )
  )
  point_at(browser, box$left + x * box$width, box$top + y * box$height)
  page_value(
    browser,
    sprintf(
      paste0(
        "document.querySelectorAll('figure.drawn')",
        "[%d].querySelector('.readout').textContent"
      ),
      figure
    )
  )
}

figure_number <- function(browser, heading) {
  page_value(
    browser,
    sprintf(
      "Array.from(document.querySelectorAll('figure.drawn')).findIndex(
    (figure) => figure.closest('section').querySelector('h2').textContent ===
    '%s')",
      heading
    )
  )
}

test_that("a panel tells the values of its own series, at two widths", {
  skip_without_browser()
  for (width in c(1280, 400)) {
    browser <- offline_report(width)
    lines <- figure_number(browser, "files levels, 1 day")
    places <- list(c(0.3, 0.3), c(0.8, 0.3), c(0.3, 0.75), c(0.8, 0.75))
    told <- vapply(
      places, function(at) told_at(browser, lines, at[1], at[2]), ""
    )
    names <- page_value(
      browser,
      sprintf(
        "JSON.parse(document.querySelectorAll('figure.drawn')[%d]
      .querySelector('script').textContent).series.map((one) => one.name)",
        lines
      )
    )
    for (i in 1:4) {
      expect_match(told[i], names[[i]], fixed = TRUE)
      size <- c(weir = "1", lock = "2", mouth = "3", gorge = "4")[[names[[i]]]]
      expect_match(told[i], paste0(" ", size, ",0[0-9]{2}$"))
    }
    expect_true(
      page_value(
        browser, "document.documentElement.scrollWidth <= window.innerWidth"
      )
    )
    expect_identical(browser$said$lines, character())
  }
})

test_that("zooming by dragging and keys, and back", {
  skip_without_browser()
  browser <- offline_report(1280)
  lines <- figure_number(browser, "files levels, 1 day")
  figure <- sprintf("document.querySelectorAll('figure.drawn')[%d]", lines)
  is_part <- paste0(
    figure, ".querySelector('svg.part').style.display !== 'none'"
  )
  expect_false(page_value(browser, is_part))
  page_value(
    browser,
    sprintf(
      "(() => { const days = %s.previousElementSibling
    .querySelectorAll('input'); days[0].value = '2026-01-11'; days[1].value =
    '2026-01-20';
    days[0].dispatchEvent(new Event('change')); })()",
      figure
    )
  )
  expect_true(page_value(browser, is_part))
  # ten days of four series
  circles <- paste0(figure, ".querySelectorAll('svg.part circle').length")
  expect_identical(page_value(browser, circles), 40L)
  expect_match(told_at(browser, lines, 0.07, 0.3), "^2026-01-11")
  page_value(
    browser,
    paste0(figure, ".previousElementSibling.querySelector('button').click()")
  )
  expect_false(page_value(browser, is_part))
  box <- page_value(
    browser,
    paste0(
      "(() => { const box = ", figure,
      ".querySelector('svg').getBoundingClientRect();
    return { left: box.left, top: box.top, width: box.width,
    height: box.height }; })()"
    )
  )
  drag(
    browser, box$left + 0.15 * box$width, box$left + 0.3 * box$width,
    box$top + 0.3 * box$height
  )
  expect_true(page_value(browser, is_part))
  seen <- page_value(browser, circles)
  expect_gt(seen, 20)
  expect_lt(seen, 160)
  page_value(
    browser,
    paste0(
      figure, ".dispatchEvent(new KeyboardEvent('keydown', { key: 'Escape' }))"
    )
  )
  expect_false(page_value(browser, is_part))
  for (key in c("ArrowLeft", "+")) {
    page_value(
      browser,
      sprintf(
        "%s.dispatchEvent(new KeyboardEvent('keydown', { key: '%s' }))",
        figure, key
      )
    )
  }
  expect_true(page_value(browser, is_part))
  expect_identical(browser$said$lines, character())
})

test_that("candles have four prices, and appear when zoomed", {
  skip_without_browser()
  browser <- offline_report(1280)
  candles <- figure_number(browser, "files import, 1 day: candles")
  told <- told_at(browser, candles, 0.25, 0.4)
  expect_match(
    told,
    paste0(
      "KELD open [0-9.]+, high [0-9.]+, low [0-9.]+, close [0-9.]+, ",
      "volume 500$"
    )
  )
  prices <- as.numeric(
    regmatches(told, gregexpr("(?<= )[0-9.]+(?=,)", told, perl = TRUE))[[1]]
  )
  expect_equal(prices - prices[4], c(-1, 2, -3, 0))
  figure <- sprintf("document.querySelectorAll('figure.drawn')[%d]", candles)
  page_value(
    browser,
    sprintf(
      "(() => { const days = %s.previousElementSibling
    .querySelectorAll('input'); days[0].value = '2026-02-01'; days[1].value =
    '2026-02-05';
    days[0].dispatchEvent(new Event('change')); })()",
      figure
    )
  )
  # five candles of each share, in its panel
  expect_identical(
    page_value(
      browser,
      paste0(figure, ".querySelectorAll('svg.part rect[stroke]').length")
    ),
    10L
  )
  expect_identical(browser$said$lines, character())
})

test_that("a table of many rows is narrowed by its kinds and days", {
  skip_without_browser()
  rows <- data.frame(
    asked = utc(1767225600 + 86400 * 0:39),
    source = rep(c("quay", "river"), 20),
    rows = 40:1,
    note = sprintf("note %02d", 1:40)
  )
  report <- structure(
    list(
      title = "Requests", made = utc(0), zone = "UTC", summary = "Forty.",
      tables = list(Calls = rows), figures = list()
    ),
    class = "vetusta_report"
  )
  file <- withr::local_tempfile(fileext = ".html")
  report_save(report, file)
  browser <- open_browser(400, 800)
  visit(browser, paste0("file://", file))
  shown <- function() {
    page_value(
      browser, "document.querySelectorAll(
    'tbody tr:not([hidden])').length"
    )
  }
  set <- function(filter, value) {
    page_value(
      browser,
      sprintf(
        "(() => { const control =
    document.querySelector('[data-filter=\"%s\"]'); control.value = '%s';
    control.dispatchEvent(new Event('input')); })()",
        filter, value
      )
    )
  }
  expect_identical(shown(), 40L)
  set("source", "river")
  expect_identical(shown(), 20L)
  set("asked from", "2026-01-11")
  set("asked to", "2026-01-20")
  expect_identical(shown(), 5L)
  expect_identical(
    page_value(browser, "document.querySelector('.count').textContent"),
    "5 of 40 rows"
  )
  page_value(browser, "document.querySelectorAll('th button')[2].click()")
  expect_identical(
    page_value(
      browser,
      "document.querySelector('tbody tr:not([hidden])')
    .cells[2].textContent"
    ),
    "21"
  )
  expect_identical(browser$said$lines, character())
})
