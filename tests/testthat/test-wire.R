test_that("templates expand as RFC 6570's own examples do", {
  values <- list(
    var = "value",
    hello = "Hello World!",
    path = "/foo/bar",
    x = "1024",
    y = "768",
    empty = "",
    list = c("red", "green", "blue"),
    half = "50%"
  )
  examples <- c(
    "{var}" = "value", "{hello}" = "Hello%20World%21", "{half}" = "50%25",
    "{+path}/here" = "/foo/bar/here", "{+hello}" = "Hello%20World!",
    "{#path,x}here" = "#/foo/bar,1024here", "map?{x,y}" = "map?1024,768",
    "X{.var}" = "X.value", "{/var,x}/here" = "/value/1024/here",
    "{;x,y,empty}" = ";x=1024;y=768;empty",
    "{?x,y,empty}" = "?x=1024&y=768&empty=",
    "?fixed=yes{&x}" = "?fixed=yes&x=1024", "{var:3}" = "val",
    "{list}" = "red,green,blue", "{?list}" = "?list=red,green,blue",
    "{?list*}" = "?list=red&list=green&list=blue",
    "{/list*}" = "/red/green/blue", "{?undefined}" = ""
  )
  for (template in names(examples)) {
    expect_identical(
      vetusta:::template_expand(template, values), examples[[template]],
      label = template
    )
  }
})

test_that("a limit lets no window overrun and gives its tokens back", {
  limits <- list(
    vetusta:::read_limit("3 per second"), vetusta:::read_limit("5 per minute")
  )
  sent <- numeric()
  now <- 0
  while (length(sent) < 12) {
    requests <- data.frame(time = sent, weight = rep(1, length(sent)))
    wait <- vetusta:::limit_wait(requests, limits, now)
    if (wait == 0) sent <- c(sent, now) else now <- now + wait
  }
  inside <- function(window) {
    max(
      vapply(
        sent, function(start) sum(sent >= start & sent < start + window), 0L
      )
    )
  }
  expect_identical(inside(1), 3L)
  expect_identical(inside(60), 5L)
  expect_lt(sent[12], 125)
  expect_equal(vetusta:::limit_least_seconds(12, limits), 120)
})

test_that("Retry-After is read in both its forms", {
  now <- as.numeric(as.POSIXct("2026-03-12 07:00:00", tz = "UTC"))
  expect_identical(vetusta:::retry_after(list("retry-after" = "17"), now), 17)
  expect_equal(
    vetusta:::retry_after(
      list("retry-after" = "Thu, 12 Mar 2026 07:00:30 GMT"), now
    ),
    30
  )
  expect_true(is.na(vetusta:::retry_after(list(), now)))
  expect_true(is.na(vetusta:::retry_after(list("retry-after" = "soon"), now)))
})

test_that("a credential goes to the source's origin only", {
  quay_key()
  quay <- source_card("quay")
  sign <- function(url) {
    vetusta:::wire_signed(list(url = url, headers = list()), quay)$url
  }
  expect_identical(
    sign("http://127.0.0.1:8471/quay/bars?x=1"),
    "http://127.0.0.1:8471/quay/bars?x=1&key=quay-demo-7f3a91"
  )
  expect_identical(
    sign("http://127.0.0.1:8471/quay/bars?key=other&x=1"),
    "http://127.0.0.1:8471/quay/bars?x=1&key=quay-demo-7f3a91"
  )
  for (elsewhere in c(
    "http://127.0.0.1:8472/quay/bars", "https://127.0.0.1:8471/quay/bars",
    "http://127.0.0.2:8471/quay"
  )) {
    expect_identical(sign(elsewhere), elsewhere)
  }
  out <- function(url) vetusta:::without_parameter(url, quay$access)
  expect_identical(out("http://a/b?key=s&x=1"), "http://a/b?x=1")
  expect_identical(out("http://a/b?x=1&key=s"), "http://a/b?x=1")
  expect_identical(out("http://a/b?key=s"), "http://a/b")
  # the same page in another spelling, where the key is not repeated
  expect_identical(out("http://a/b?x=1&"), "http://a/b?x=1")
  expect_identical(out("http://a/b?"), "http://a/b")
})

test_that("redaction finds a secret as it is and as it looks in a URL", {
  expect_identical(
    vetusta:::redact("a=b c&k=p%2Fq+", c("p/q")), "a=b c&k=<secret>+"
  )
})

test_that("rows, columns and their faults are decoded", {
  dataset <- vetusta:::dataset_made(
    list(
      shape = "bars",
      rows = "/data/items",
      columns = list(
        time = list(at = "/t", as = "rfc3339"),
        close = "/p/c",
        volume = list(at = "/v", need = "optional"),
        note = list(at = "/n", default = "none")
      )
    ),
    "bars"
  )
  body <- charToRaw(
    paste0(
      '{"data":{"items":[{"t":"2026-03-12T07:30:00Z","p":{"c":"41.5"}},',
      '{"t":"when?",',
      '"p":{"c":41}},{"t":"2026-03-12T07:32:00Z","p":{"c":null}}]}}'
    )
  )
  decoded <- vetusta:::decode_body(
    dataset, body, list(zone = "UTC"), where = "here"
  )
  expect_identical(decoded$columns$close, c(41.5, 41, NA))
  expect_identical(decoded$columns$note, rep("none", 3))
  expect_true(all(is.na(decoded$columns$volume)))
  expect_identical(
    decoded$rejected$pointer, c("/data/items/1/t", "/data/items/2/p/c")
  )
  expect_identical(
    decoded$rejected$reason, c("time cannot be read", "no close")
  )
})

test_that("an answer that is no data says so", {
  read <- function(text) {
    dataset <- vetusta:::dataset_made(
      list(shape = "bars", rows = "/items", columns = list(close = "/c")), "b"
    )
    vetusta:::decode_body(
      dataset, charToRaw(text), list(zone = "UTC"), where = "page 1"
    )
  }
  expect_error_kind(
    read("<html><body>Down for repairs</body></html>"), "payload", "web page"
  )
  expect_error_kind(read('{"items":[{"c":1},{"c"'), "payload", "cut short")
  expect_error_kind(read(""), "payload", "empty")
  expect_error_kind(read('{"rows":[]}'), "payload", "/items")
  expect_error_kind(read('{"items":{"c":1}}'), "payload", "array of objects")
  expect_error_kind(read('{"items":[{"d":1}]}'), "payload", "/items/0/c")
  expect_identical(read('{"items":[]}')$rows, 0L)
})

test_that("closed, cut and stalled connections are retried", {
  whole <- function(rows, more = NULL) {
    body <- as.character(
      jsonlite::toJSON(
        c(list(items = rows), if (!is.null(more)) list(more = more)),
        auto_unbox = TRUE
      )
    )
    paste0(
      paste0(
        "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nConnection: ",
        "close\r\nContent-Length: "
      ),
      nchar(body), "\r\n\r\n", body
    )
  }
  first <- whole(list(list(n = 1), list(n = 2)), more = "/rows?page=2")
  script <- list(
    NULL, substr(first, 1, nchar(first) - 20), first, substr(first, 1, 30),
    NULL, whole(list(list(n = 3)))
  )
  url <- start_socket(script, hold = 0)
  card <- write_card(
    url,
    c(
      "request: /rows", "rows: /items", "next_page: {by: url, at: /more}",
      "columns: {n: {at: /n, as: number}}"
    )
  )
  got <- collect_rows(card)
  expect_identical(got$rows$n, c(1, 2, 3))
  expect_identical(
    c(got$run$pages, got$run$new, got$run$unchanged, got$run$retried),
    c(2, 3, 0, 4)
  )
  expect_identical(
    got$journal$outcome,
    c("retried", "retried", "stored", "retried", "retried", "stored")
  )
})

test_that("a body that stalls is given up after the card's patience", {
  body <- '{"items":[{"n":1}]}'
  head <- paste0(
    paste0(
      "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nConnection: ",
      "close\r\nContent-Length: "
    ),
    nchar(body), "\r\n\r\n"
  )
  url <- start_socket(
    list(paste0(head, substr(body, 1, 5)), paste0(head, body)), hold = 4
  )
  got <- collect_rows(
    write_card(
      url,
      c("request: /rows", "rows: /items", "columns: {n: {at: /n, as: number}}"),
      "patience: PT2S"
    )
  )
  expect_identical(got$rows$n, 1)
  expect_identical(got$run$retried, 1)
})

test_that("an unanswered request fails alone", {
  url <- start_scripted(function(n, request) {
    if (grepl("k=2", request$QUERY_STRING)) Sys.sleep(1.3)
    json_answer(list(items = list(list(n = as.numeric(asked(request, "k"))))))
  })
  got <- collect_rows(
    write_card(
      url,
      c(
        "request: /rows{?k}", "rows: /items",
        "columns: {n: {at: /n, as: number}}"
      ),
      "patience: PT1S"
    ),
    k = c("1", "2", "3")
  )
  expect_identical(got$rows$n, c(1, 3))
  expect_match(got$run$failed$what, "no answer, 5 times")
})

test_that("an answer of HTTP 204 is an answer without rows", {
  url <- start_scripted(function(n, request) {
    if (n == 1) {
      list(status = 204L, headers = list(), body = "")
    } else {
      json_answer(list(items = list(list(n = 2))))
    }
  })
  got <- collect_rows(
    write_card(
      url,
      c(
        "request: /rows{?k}", "rows: /items",
        "columns: {n: {at: /n, as: number}}"
      )
    ),
    k = c("1", "2")
  )
  expect_identical(got$rows$n, 2)
  expect_identical(nrow(got$run$failed), 0L)
})

test_that("an answer that is too large fails its request only", {
  zeros <- withr::local_tempfile()
  packed <- gzfile(zeros, "wb")
  for (i in 1:26) writeBin(raw(1e7), packed)
  close(packed)
  answer <- function(n, request) {
    if (asked(request, "k") != "huge") {
      return(json_answer(list(items = list(list(n = 1)))))
    }
    list(
      status = 200L,
      headers = list(
        "Content-Type" = "application/json", "Content-Encoding" = "gzip"
      ),
      body = bytes
    )
  }
  environment(
    answer
  ) <- list2env(list(bytes = readBin(zeros, "raw", 1e7)), parent = globalenv())
  lines <- c(
    "request: /rows{?k}", "rows: /items", "columns: {n: {at: /n, as: number}}"
  )
  said <- start_socket(
    list(
      paste0(
        "HTTP/1.1 200 OK\r\nContent-Type: ",
        "application/json\r\nContent-Length: ", "300000000\r\n\r\n{"
      ),
      "HTTP/1.1 200 OK\r\nContent-Length: 20\r\n\r\n{\"items\": [{\"n\":1}]}"
    )
  )
  for (url in c(start_scripted(answer), said)) {
    printed <- capture.output(
      got <- collect_rows(
        write_card(url, lines, env = environment()), k = c("huge", "plain"),
        env = environment()
      ),
      type = "message"
    )
    expect_identical(got$run$failed$symbol, "huge")
    expect_match(got$run$failed$what, "larger than 256 MB")
    expect_match(got$run$failed$todo, "request less")
    expect_identical(got$journal$outcome, c("failed", "stored"))
    expect_identical(got$rows$n, 1)
    expect_identical(printed, character())
    expect_true(isTRUE(getOption("show.error.messages")))
  }
})

test_that("a request begun during a wait is awaited once", {
  url <- start_scripted(function(n, request) json_answer(list(items = list())))
  line <- vetusta:::wire_line(1)
  withr::defer(vetusta:::line_close(line))
  came <- NULL
  begin <- function() {
    vetusta:::line_start(
      line,
      list(
        url = paste0(url, "/x"),
        method = "GET",
        headers = list(Accept = "application/json")
      ),
      done = function(response) came <<- response,
      failed = function(reason) came <<- reason
    )
    60
  }
  spent <- system.time(vetusta:::line_run(line, begin()))[[3]]
  expect_identical(came$status, 200L)
  expect_lt(spent, 50)
})

test_that("a request has left when its connection is open", {
  # it accepts connections, and never says a word
  silent <- NULL
  # another process may take a port that was free
  while (is.null(silent)) {
    port <- httpuv::randomPort(host = "127.0.0.1")
    silent <- tryCatch(
      suppressWarnings(serverSocket(port)),
      error = function(e) NULL
    )
  }
  withr::defer(close(silent))
  left <- function(scheme) {
    line <- vetusta:::wire_line(1)
    on.exit(vetusta:::line_close(line))
    vetusta:::line_start(
      line,
      list(
        url = paste0(scheme, "://127.0.0.1:", port, "/x"), method = "GET",
        headers = list()
      ),
      done = function(response) NULL,
      failed = function(reason) NULL
    )
    vetusta:::line_sent(line, 0.5)
  }
  expect_true(left("http"))
  # the encryption is not agreed on
  expect_false(left("https"))
})
