# A real browser without a screen, driven by its own protocol.
skip_without_browser <- function() {
  testthat::skip_if_not_installed("chromote")
  testthat::skip_if_not(nzchar(browser_path()), "no browser is here")
}

browser_path <- function() {
  found <- Sys.which(c("chromium", "chromium-browser", "google-chrome"))
  unname(c(found[nzchar(found)], "")[1])
}

# A page of a given size; `said` collects the messages and errors of its
# console.
open_browser <- function(width = 1280, height = 800, env = parent.frame()) {
  home <- withr::local_tempdir(.local_envir = env)
  chrome <- chromote::Chrome$new(
    browser_path(),
    c(
      "--headless=new", "--no-sandbox", "--disable-dev-shm-usage",
      "--disable-gpu", paste0("--user-data-dir=", home)
    )
  )
  browser <- chromote::Chromote$new(chrome)
  withr::defer(try(chrome$close(), silent = TRUE), envir = env)
  page <- browser$new_session(width = width, height = height)
  page$Emulation$setDeviceMetricsOverride(
    width = width, height = height, deviceScaleFactor = 1, mobile = FALSE
  )
  said <- new.env()
  said$lines <- character()
  page$Runtime$enable()
  page$Log$enable()
  page$Network$enable()
  hear <- function(text) said$lines <- c(said$lines, text)
  page$Runtime$exceptionThrown(callback_ = function(what) {
    hear(
      what$exceptionDetails$exception$description %||%
        what$exceptionDetails$text
    )
  })
  page$Log$entryAdded(callback_ = function(what) hear(what$entry$text))
  page$Runtime$consoleAPICalled(callback_ = function(what) {
    if (what$type %in% c("error", "warning")) hear(what$args[[1]]$value)
  })
  list(page = page, said = said)
}

# Wait for the state of the page: on a busy machine its load event can be
# missed.
visit <- function(browser, url) {
  browser$page$Page$navigate(url, timeout_ = 120)
  page_until(
    browser,
    "location.href !== 'about:blank' && document.readyState === 'complete'", 120
  )
  invisible(browser)
}

# The value of a JavaScript expression.
page_value <- function(browser, code) {
  told <- browser$page$Runtime$evaluate(
    code, returnByValue = TRUE, awaitPromise = TRUE
  )
  if (!is.null(told$exceptionDetails)) {
    stop(told$exceptionDetails$exception$description)
  }
  told$result$value
}

# Waits until an expression is true, and returns its last value.
page_until <- function(browser, code, seconds = 60) {
  end <- Sys.time() + seconds
  while (Sys.time() < end) {
    value <- page_value(browser, code)
    if (isTRUE(value)) return(TRUE)
    later::run_now(0.1)
    Sys.sleep(0.1)
  }
  FALSE
}

# Moves the pointer to a position in the page, in CSS pixels.
point_at <- function(browser, x, y, type = "mouseMoved", ...) {
  browser$page$Input$dispatchMouseEvent(type = type, x = x, y = y, ...)
}

drag <- function(browser, x1, x2, y) {
  point_at(browser, x1, y)
  point_at(
    browser, x1, y, "mousePressed", button = "left", buttons = 1, clickCount = 1
  )
  for (x in seq(x1, x2, length.out = 5)) {
    point_at(browser, x, y, buttons = 1, button = "left")
  }
  point_at(browser, x2, y, "mouseReleased", button = "left", clickCount = 1)
}

page_picture <- function(browser, file) {
  told <- browser$page$Page$captureScreenshot(format = "png")
  writeBin(jsonlite::base64_dec(told$data), file)
}
