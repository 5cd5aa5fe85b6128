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

# The figure of a section, as an expression of JavaScript.
figure_of <- function(heading) {
  sprintf(
    "Array.from(document.querySelectorAll('section')).find((part) =>
    part.querySelector('h2').textContent === '%s')
    .querySelector('.js-plotly-plot')",
    heading
  )
}

# Puts the pointer on the n-th value of a panel until `text` is told; a figure
# takes no second pointer within a moment.
tells <- function(browser, figure, curve, n, text) {
  page_until(
    browser,
    sprintf(
      "(() => { const figure = %s; figure.scrollIntoView();
      const curve = %d, trace = figure._fullData[curve];
      Plotly.Fx.hover(figure, [{ curveNumber: curve, pointNumber: %d }],
        [trace.xaxis + trace.yaxis]);
      const told = Array.from(figure.querySelectorAll('.hoverlayer text'))
        .map((text) => text.textContent).join(' ');
      return %s; })()",
      figure, curve, n,
      paste0("told.includes(", encodeString(text, quote = "'"), ")",
        collapse = " && ")
    )
  )
}

drawn_figures <- function(browser) {
  page_until(
    browser,
    "Array.from(document.querySelectorAll('.js-plotly-plot')).length > 0 &&
    Array.from(document.querySelectorAll('.js-plotly-plot')).every((figure) =>
    figure.querySelector('svg') !== null)"
  )
}

test_that("figures tell the values of their own panels, at two widths", {
  skip_without_browser()
  for (width in c(1280, 400)) {
    browser <- offline_report(width)
    expect_true(drawn_figures(browser))
    figure <- figure_of("files levels, 1 day")
    names <- unlist(page_value(
      browser, paste0(figure, ".data.map((trace) => trace.name)")
    ))
    expect_setequal(names, c("weir", "lock", "mouth", "gorge"))
    sizes <- c(weir = 1000, lock = 2000, mouth = 3000, gorge = 4000)
    for (i in seq_along(names)) {
      value <- format(sizes[[names[i]]] + 10, big.mark = ",")
      expect_true(tells(browser, figure, i - 1, 9, c(names[i], value)))
    }
    # panels stand below each other where the screen is narrow
    lefts <- page_value(
      browser,
      paste0(
        "new Set(Object.values(", figure, "._fullLayout).filter((axis) =>",
        " axis && /^x/.test(axis._id || '')).map((axis) =>",
        " axis.domain[0])).size"
      )
    )
    expect_identical(lefts, if (width == 400) 1L else 2L)
    expect_true(
      page_value(
        browser, "document.documentElement.scrollWidth <= window.innerWidth"
      )
    )
    expect_identical(browser$said$lines, character())
  }
})

test_that("zoom by dragging, by buttons, and back, in all panels", {
  skip_without_browser()
  browser <- offline_report(1280)
  expect_true(drawn_figures(browser))
  figure <- figure_of("files levels, 1 day")
  days <- function(axis) {
    range <- unlist(page_value(
      browser, sprintf("%s._fullLayout.%s.range", figure, axis)
    ))
    as.numeric(diff(as.Date(substr(range, 1, 10))))
  }
  whole <- days("xaxis")
  expect_gt(whole, 58)
  box <- page_value(
    browser,
    paste0(
      "(() => { const figure = ", figure, "; figure.scrollIntoView({ block:",
      " 'center' }); const box = figure.querySelector('.nsewdrag')",
      ".getBoundingClientRect(); return { left: box.left, top: box.top,",
      " width: box.width, height: box.height }; })()"
    )
  )
  drag(
    browser, box$left + 0.2 * box$width, box$left + 0.5 * box$width,
    box$top + 0.5 * box$height
  )
  expect_true(page_until(
    browser,
    paste0(
      "new Date(", figure, "._fullLayout.xaxis.range[1]) - new Date(", figure,
      "._fullLayout.xaxis.range[0]) < 30 * 864e5"
    )
  ))
  # the panels share their time
  expect_equal(days("xaxis"), days("xaxis3"))
  buttons <- page_value(
    browser,
    paste0(
      "Array.from(", figure, ".querySelectorAll('.rangeselector .button'))",
      ".map((button) => button.textContent)"
    )
  )
  expect_identical(unlist(buttons), c("1 day", "1 week", "1 month", "all"))
  click <- function(n) {
    page_value(
      browser,
      sprintf(
        "%s.querySelectorAll('.rangeselector .button rect')[%d].dispatchEvent(
        new MouseEvent('click', { bubbles: true }))", figure, n
      )
    )
  }
  click(1)
  expect_true(page_until(
    browser,
    paste0(
      "Math.round((new Date(", figure, "._fullLayout.xaxis.range[1]) - ",
      "new Date(", figure, "._fullLayout.xaxis.range[0])) / 864e5) === 7"
    )
  ))
  expect_identical(browser$said$lines, character())
})

test_that("candles have four prices, and a legend switches lines", {
  skip_without_browser()
  browser <- offline_report(1280)
  expect_true(drawn_figures(browser))
  figure <- figure_of("files import, 1 day: candles")
  expect_true(tells(
    browser, figure, 0, 9, c("open: 40", "high: 43", "low: 38", "close: 41")
  ))
  # a figure of lines in a page of its own
  series <- data.frame(
    series = rep(c("weir", "lock"), each = 30),
    period = rep(as.Date("2026-01-01") + 0:29, 2), value = c(1:30, 31:60)
  )
  file <- withr::local_tempfile(fileext = ".html")
  figure_save(
    figure_lines(series, title = "Two </script> & lines", caption = "a <b>"),
    file
  )
  visit(browser, paste0("file://", file))
  expect_true(drawn_figures(browser))
  expect_identical(
    page_value(browser, "document.querySelector('h1').textContent"),
    "Two </script> & lines"
  )
  page_value(
    browser,
    "document.querySelectorAll('.legendtoggle')[0].dispatchEvent(
    new MouseEvent('mousedown', { bubbles: true }));
    document.querySelectorAll('.legendtoggle')[0].dispatchEvent(
    new MouseEvent('mouseup', { bubbles: true }))"
  )
  expect_true(page_until(
    browser,
    "document.querySelector('.js-plotly-plot').data
    .filter((trace) => trace.visible === 'legendonly').length === 1"
  ))
  expect_identical(browser$said$lines, character())
})

test_that("a page in the dark has light lines and texts", {
  skip_without_browser()
  browser <- open_browser(1280, 800)
  browser$page$Emulation$setEmulatedMedia(
    features = list(list(name = "prefers-color-scheme", value = "dark"))
  )
  visit(browser, report_page())
  expect_true(drawn_figures(browser))
  figure <- figure_of("files levels, 1 day")
  first <- paste0(figure, ".data[0].line.color")
  expect_true(page_until(browser, paste0(first, " === '#56B4E9'")))
  expect_identical(
    page_value(browser, paste0(figure, "._fullLayout.font.color")), "#e8ecf2"
  )
  browser$page$Emulation$setEmulatedMedia(
    features = list(list(name = "prefers-color-scheme", value = "light"))
  )
  expect_true(page_until(browser, paste0(first, " === '#0072B2'")))
  expect_identical(browser$said$lines, character())
})

test_that("a table of many rows is searched, sorted and saved", {
  skip_without_browser()
  rows <- data.frame(
    asked = utc(1767225600 + 86400 * 0:39),
    source = rep(c("quay", "river"), 20),
    rows = 40:1 * 1000.5,
    note = c("=1+1", "<b>two</b>", sprintf("note %02d", 3:40)),
    link = rep(c("https://data.example.org/a?b=1", NA), 20)
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
  body <- "document.querySelector('.dataTables_scrollBody tbody')"
  shown <- function() page_value(browser, paste0(body, ".rows.length"))
  expect_true(page_until(browser, paste0(body, " !== null")))
  expect_identical(shown(), 15L)
  page_value(
    browser,
    "(() => { const box = document.querySelector('input[type=search]');
    box.value = 'river note'; box.dispatchEvent(new Event('input')); })()"
  )
  expect_true(page_until(
    browser,
    "document.querySelector('.dataTables_info').textContent
    .includes('of 19 entries')"
  ))
  page_value(
    browser,
    "document.querySelectorAll('.dataTables_scrollHead th')[2].click()"
  )
  expect_true(page_until(
    browser, paste0(body, ".rows[0].cells[2].textContent === '1,000.5'")
  ))
  expect_identical(page_value(
    browser, paste0(body, ".querySelectorAll('b').length")
  ), 0L)
  page_value(
    browser,
    "(() => { const box = document.querySelector('input[type=search]');
    box.value = ''; box.dispatchEvent(new Event('input'));
    URL.createObjectURL = (blob) => { window.kept = blob; return '#'; };
    })()"
  )
  expect_true(page_until(
    browser,
    "document.querySelector('.dataTables_info').textContent
    .includes('of 40 entries')"
  ))
  page_value(browser, "document.querySelector('.buttons-csv').click()")
  expect_true(page_until(browser, "window.kept !== undefined"))
  text <- page_value(browser, "window.kept.text()")
  saved <- utils::read.csv(text = sub("^\ufeff", "", text))
  expect_identical(nrow(saved), 40L)
  expect_true(all(c("'=1+1", "<b>two</b>") %in% saved$note))
  expect_setequal(saved$rows, rows$rows)
  expect_true("https://data.example.org/a?b=1" %in% saved$link)
  expect_identical(browser$said$lines, character())
})
